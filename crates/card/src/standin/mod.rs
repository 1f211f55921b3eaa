//! The stand-in card: a physical model with settings, sensors, mishaps and faults, on a virtual
//! clock, seeded: same seed, same card, same course.

mod brief;
mod edges;
mod family;
mod faults;
mod incident;
mod limits;
mod model;
mod physics;
#[cfg(test)]
mod tests;

pub use brief::{Brief, BriefCard, BriefEnding, Steady};
pub use edges::{Edges, Warm};
pub use family::Family;
pub use incident::{Blemish, Incident};
pub use model::Mishaps;

use std::collections::VecDeque;

use faults::ChipFault;
use limits::Past;
use model::{Model, Unit, normal};
use physics::{Controls, Physics, STEP};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};
use yard_step_core::{
    Ampere, CardDescription, Celsius, Channel, Demand, Domain, Fan, FanControl, FanTarget, Frame,
    LimitField, LimitTable, LimitTables, LimitValue, Mhz, Millivolt, Offer, Percent, Room, Sample,
    Seconds, SettingKind, Settings, Watt, Workload, settings_of,
};

use crate::{Card, CardError, LoadLost, Ran, Simulation, Work};

/// Load of a card that is busy all the time, percent: a little is always spent between frames.
const FULL_LOAD: f64 = 99.0;

/// Share of lost loads that are not told that their device is lost, and wait for it in vain.
const HANGS: f64 = 0.25;

/// Something outside the card that spoils a run.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum Disturbance {
    /// Nothing does.
    #[default]
    None,
    /// Other programs keep the card busy for this share of the time.
    Background(Percent),
    /// The host keeps the card loaded for only this share of the time.
    Starved(Percent),
}

/// A fault of a stand-in that no setting causes, to rehearse what happens then.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FaultInjection {
    /// All is well.
    #[default]
    None,
    /// The sensors go on saying what they said last.
    SensorsFreeze,
    /// The sensors say what cannot be.
    SensorsRave,
    /// It does not answer when it is asked to hold settings.
    ApplyHangs,
    /// It takes what it is asked for with a friendly answer, and goes on holding what it held.
    ApplyIgnored,
    /// Its fan stands still, whatever it is asked.
    FanStops,
    /// It falls off the bus.
    Vanishes,
    /// The machine goes down.
    MachineDown,
}

/// The work of a program that reaches the card by itself and tells nothing of it.
pub(crate) struct Unknown;

impl Workload for Unknown {
    fn demand(&self) -> Demand {
        Demand::default()
    }

    fn size(&self) -> (usize, usize) {
        (0, 0)
    }

    fn draw(&mut self, _: &mut Frame) {}

    fn present(&mut self, _: Option<&Frame>, _: Seconds) {}
}

/// A simulated card.
pub struct StandIn {
    description: CardDescription,
    model: Model,
    unit: Unit,
    physics: Physics,
    held: Settings,
    /// Which way chance takes after a start of the program.
    course: u64,
    /// What happens under a load; thrown anew for each, so that no idle time changes it.
    dice: ChaCha8Rng,
    /// Whether settings are taken.
    whims: ChaCha8Rng,
    /// Loads begun so far.
    loads: u64,
    mishaps: Mishaps,
    disturbance: Disturbance,
    down: bool,
    injected: FaultInjection,
    frozen: Option<Sample>,
    /// How often its machine was started.
    starts: u32,
    odd: f64,
    /// What held settings and oddness mean to the physics; worked out anew when they change.
    controls: Controls,
    /// Release of the driver its machine runs.
    driver: u32,
    /// Written into the limit table, and loaded at the next start of the machine.
    limit_override: Option<LimitTable>,
    /// A load that starts after an idle time scatters anew.
    fresh_start: bool,
    run_factor: f64,
    jitter: f64,
    work: f64,
    /// What spoils the frames just now.
    incident: Option<Incident>,
    /// Time since the load was begun.
    under_load: f64,
    /// Frames finished in each of the newest stretches of time, about a second of them, with their
    /// lengths.
    finished: VecDeque<(u32, f64)>,
    last_demand: Option<Demand>,
    canvas: Frame,
}

impl StandIn {
    /// The unit with the given seed, of the kind that `model` (TOML) describes, switched on
    /// and cold. See [`CardChoice::open`](crate::CardChoice::open) for the kinds that ship.
    ///
    /// # Errors
    /// The model is unusable.
    pub fn new(id: &str, model: &str, seed: u64, course: u64) -> Result<Self, CardError> {
        Self::of_family(id, model, seed, course, None)
    }

    /// Has it go by the name of its family: it is another card than the same unit without.
    pub(crate) fn set_family_name(&mut self, name: &str) {
        let shown = std::path::Path::new(name).file_stem().map(|stem| stem.to_string_lossy());
        self.description.serial = format!("{}@{name}", self.description.serial);
        self.description.name =
            format!("{}, {}", self.description.name, shown.as_deref().unwrap_or(name));
    }

    /// The same as a unit of a family of cards.
    ///
    /// # Errors
    /// The model is unusable.
    pub fn of_family(
        id: &str,
        model: &str,
        seed: u64,
        course: u64,
        family: Option<&Family>,
    ) -> Result<Self, CardError> {
        let mut model = Model::read(model)?;
        if let Some(family) = family {
            family.lay_over(&mut model, seed);
        }
        let room = family.and_then(Family::room).unwrap_or_default();
        let unit = Unit::draw(&model, seed);
        let description = model.describe(id, seed);
        let mut dice = ChaCha8Rng::seed_from_u64(seed);
        dice.set_stream(course.wrapping_add(1));
        let mut whims = dice.clone();
        whims.set_stream(!course);
        let held = Settings::stock(&description);
        let mut card = Self {
            controls: Controls::of(&held, &model, 1.0),
            held,
            physics: Physics::new(model.clone(), unit, room),
            mishaps: model.mishaps,
            description,
            unit,
            model,
            course,
            dice,
            whims,
            loads: 0,
            disturbance: Disturbance::None,
            down: false,
            injected: FaultInjection::None,
            frozen: None,
            starts: 1,
            odd: 1.0,
            driver: 1,
            limit_override: None,
            fresh_start: true,
            run_factor: 1.0,
            jitter: 0.0,
            work: 0.0,
            incident: None,
            under_load: 0.0,
            finished: VecDeque::new(),
            last_demand: None,
            canvas: Frame::black(0, 0),
        };
        card.load_limits();
        Ok(card)
    }

    /// The number that makes it the unit it is.
    #[must_use]
    pub fn seed(&self) -> u64 {
        self.description.serial.parse().unwrap_or_default()
    }

    /// The room it stands in.
    #[must_use]
    pub fn room(&self) -> Room {
        self.physics.room()
    }

    /// Sets how often small things go wrong.
    pub fn set_mishaps(&mut self, mishaps: Mishaps) {
        self.mishaps = mishaps;
    }

    /// Disturbs the present run, until the next idle time.
    pub fn disturb(&mut self, disturbance: Disturbance) {
        self.fresh_start = false;
        self.disturbance = disturbance;
    }

    /// Makes something go wrong, or all well again.
    pub fn inject_fault(&mut self, fault: FaultInjection) {
        self.frozen = None;
        self.injected = fault;
        self.physics.fan_is_stuck = fault == FaultInjection::FanStops;
        if fault == FaultInjection::MachineDown {
            self.lose(LoadLost::MachineDown);
        }
    }

    /// What is going wrong with it.
    #[must_use]
    pub fn injected_fault(&self) -> FaultInjection {
        self.injected
    }

    /// Runs the machine under another release of the driver (1 is the first). A new driver starts
    /// with the card at stock and takes no notice of what was written into the old one's limit
    /// table.
    pub fn set_driver(&mut self, release: u32) {
        if release == self.driver {
            return;
        }
        self.driver = release;
        self.limit_override = None;
        self.load_limits();
        self.held = Settings::stock(&self.description);
        self.controls_change();
    }

    /// Writes a limit table that the driver loads at the next start of the machine in place of the maker's; `None` takes it
    /// away again.
    pub fn override_limits(&mut self, table: Option<LimitTable>) {
        self.limit_override = table;
    }

    /// The maker's limit table.
    #[must_use]
    pub fn makers_limits(&self) -> LimitTable {
        self.model.makers_limits(&self.description)
    }

    /// Release of the driver that its machine runs.
    #[must_use]
    pub fn driver_release(&self) -> String {
        driver_name(self.driver)
    }

    /// Has the driver load the limit table, as it does when the machine starts. The machine is down where it does not come up
    /// with it.
    pub fn load_limits(&mut self) {
        let makers = self.makers_limits();
        let in_force = self.limit_override.clone().unwrap_or_else(|| makers.clone());
        for (offer, factory) in self.description.offers.iter_mut().zip(&self.model.offers) {
            (offer.maximum, offer.makers_maximum) = (factory.maximum, None);
        }
        for LimitValue { field, value } in &in_force.fields {
            if makers.value(*field) == Some(*value) {
                continue;
            }
            let base = self.model.base(*field);
            let offers = self.description.offers.iter_mut();
            for offer in offers.filter(|offer| settings_of(*field).first() == Some(&offer.kind)) {
                // A range ends at a whole step.
                let steps = ((value - base - offer.minimum) / offer.step + 1e-9).floor();
                let makers = offer.maximum;
                offer.maximum = offer.minimum + steps.max(1.0) * offer.step;
                offer.makers_maximum = (offer.maximum > makers).then_some(makers);
            }
        }
        if let Some(current) = in_force.value(LimitField::CurrentLimit) {
            self.physics.model.power.current_limit_a = Some(current);
            self.description.limits.current = Some(Ampere(current));
        }
        self.down = !self.model.comes_up_with(&in_force);
        let tables = LimitTables { makers, in_force };
        self.description.driver = tables.driver(&driver_name(self.driver));
        self.description.limit_tables = Some(Box::new(tables));
    }

    /// What it makes of a fan that is to be driven along a curve or to a target: a card that cannot drives it as it likes.
    fn held_fan(&self, asked: Fan, offer: &Offer) -> Fan {
        match (asked, self.model.fan) {
            (Fan::Curve(curve), FanControl::Curve) => {
                Fan::Curve(curve.within(offer.minimum, offer.maximum))
            }
            (Fan::Target(target), FanControl::Target { lowest, highest }) => {
                Fan::Target(FanTarget {
                    core: Celsius(target.core.value().clamp(lowest, highest).round()),
                    least: Percent(offer.bin(target.least.value())),
                })
            }
            _ => Fan::Automatic,
        }
    }

    fn controls_change(&mut self) {
        self.controls = Controls::of(&self.held, &self.model, self.odd);
    }

    /// Draws what chance brings to a load that starts: the scatter of runs, and the mishaps.
    fn begin_load(&mut self) {
        /// Courses are trials begun before: far fewer than this.
        const LOADS_FROM: u64 = 1 << 32;
        self.loads += 1;
        self.dice.set_stream(self.course.wrapping_add(1).wrapping_add(self.loads * LOADS_FROM));
        self.dice.set_word_pos(0);
        let spread = self.model.silicon.score_spread;
        self.run_factor = 1.0 + normal(&mut self.dice, 0.0, spread);
        let (core, memory) = self.model.faults.scatter_mhz;
        if core > 0.0 || memory > 0.0 {
            self.physics.edges_lower_by =
                (normal(&mut self.dice, 0.0, core), normal(&mut self.dice, 0.0, memory));
        }
        let chance = self.dice.random::<f64>();
        let amount = self.dice.random::<f64>();
        self.disturbance = if chance < self.mishaps.background {
            Disturbance::Background(Percent(1.6 + amount))
        } else if chance < self.mishaps.background + self.mishaps.starved {
            Disturbance::Starved(Percent(65.0 + 20.0 * amount))
        } else {
            Disturbance::None
        };
        self.fresh_start = false;
        (self.work, self.under_load, self.incident) = (0.0, 0.0, None);
        self.jitter = 0.0;
    }

    fn step_under(&mut self, dt: f64, load: &mut dyn Workload) -> Result<(), LoadLost> {
        let mut demand = load.demand();
        // A load that asks for less than the whole card gets less done.
        let mut asked = demand.load.value() / FULL_LOAD;
        let (mut share, mut own) = (1.0, demand.load.value());
        match self.disturbance {
            Disturbance::None => {}
            Disturbance::Background(busy) => share = 1.0 - busy.value() / 100.0,
            Disturbance::Starved(loaded) => {
                own = own.min(loaded.value());
                share = loaded.value() / 100.0;
            }
        }
        demand.load = Percent(own);
        self.advance(dt, Some(&demand));
        self.last_demand = Some(demand);

        let past = self.physics.past(&self.controls);
        if self.physics.is_too_hot() {
            return Err(self.lose(LoadLost::MachineDown));
        }
        self.fault(dt, past, load.size()).map_err(|lost| self.lose(lost))?;
        self.under_load += dt;
        // A frame ends within a step, and the next may ask for something else.
        let mut left = dt;
        loop {
            let rate = self.work_rate(&demand, asked * share);
            let missing = demand.work_per_frame - self.work;
            if rate * left < missing {
                self.work += rate * left;
                return Ok(());
            }
            left -= missing / rate;
            self.work = 0.0;
            self.draw_frame(load, Seconds(self.under_load - left));
            demand = load.demand();
            asked = demand.load.value() / FULL_LOAD;
        }
    }

    /// Work units per second under a demand, where the card has `share` of the time for it.
    fn work_rate(&self, demand: &Demand, share: f64) -> f64 {
        let most = demand.work_per_frame * self.controls.frame_cap;
        let rate = self.physics.throughput(demand, &self.controls) * self.run_factor * share;
        rate.min(most)
    }

    /// Whether core or memory fails in this step, and how.
    fn fault(&mut self, dt: f64, past: Past, size: (usize, usize)) -> Result<(), LoadLost> {
        let of_family = self.model.faults;
        if of_family.floor > 0.0
            && self.dice.random::<f64>() < -(-of_family.floor * dt / 3_600.0).exp_m1()
        {
            return Err(LoadLost::Died);
        }
        for (domain, past) in [(Domain::Core, past.core), (Domain::Memory, past.memory)] {
            let chance = -(-of_family.onset.rate(past) * dt / 3_600.0).exp_m1();
            if self.dice.random::<f64>() >= chance {
                continue;
            }
            match faults::draw_kind(&mut self.dice, past, of_family.machine_down_share) {
                ChipFault::Artifacts => self.begin_incident(domain, past, size),
                // The same fault, only that the card does not even say so.
                ChipFault::Lost(LoadLost::Died) if self.dice.random_bool(HANGS) => {
                    return Err(LoadLost::Hung);
                }
                ChipFault::Lost(lost) => return Err(lost),
            }
        }
        Ok(())
    }

    fn begin_incident(&mut self, domain: Domain, past: f64, size: (usize, usize)) {
        // Without a picture nothing in it can be wrong.
        if size.0 > 0 && size.1 > 0 {
            self.incident = Some(Incident::draw(&mut self.dice, domain, past, size));
        }
    }

    fn draw_frame(&mut self, load: &mut dyn Workload, at: Seconds) {
        match self.incident.as_mut().filter(|incident| !incident.is_over()) {
            Some(incident) => {
                load.draw(&mut self.canvas);
                incident.spoil(&mut self.canvas);
                load.present(Some(&self.canvas), at);
            }
            None => load.present(None, at),
        }
        if let Some((frames, _)) = self.finished.back_mut() {
            *frames += 1;
        }
    }

    fn lose(&mut self, lost: LoadLost) -> LoadLost {
        self.incident = None;
        match lost {
            LoadLost::Died
            | LoadLost::Hung
            | LoadLost::Gone
            | LoadLost::KeeperGone
            | LoadLost::SettingsChanged => {}
            LoadLost::DriverReset => {
                self.held = Settings::stock(&self.description);
                self.odd = if self.dice.random::<bool>() { 0.9 } else { 1.04 };
                self.controls_change();
            }
            LoadLost::MachineDown => self.down = true,
        }
        lost
    }

    /// Moves the physics on. The scene's activity wanders about its mean with a time constant of a
    /// second (an Ornstein-Uhlenbeck process), as real frames differ.
    fn advance(&mut self, dt: f64, demand: Option<&Demand>) {
        const SPREAD: f64 = 0.012;
        if demand.is_some() {
            let shock = normal(&mut self.dice, 0.0, SPREAD * (2.0 * dt).sqrt());
            self.jitter += shock - self.jitter * dt;
        }
        self.physics.step(dt, demand, self.jitter, &self.controls);
    }

    /// Frames per second over the newest second; none before there is any.
    fn frame_rate(&self) -> Option<f64> {
        let span: f64 = self.finished.iter().map(|(_, span)| span).sum();
        let frames: u32 = self.finished.iter().map(|(frames, _)| frames).sum();
        (span > 0.0).then(|| f64::from(frames) / span)
    }

    fn up(&self) -> Result<(), CardError> {
        if self.down { Err(CardError::MachineDown) } else { Ok(()) }
    }
}

impl Simulation for StandIn {
    fn start_with_limits(&mut self, table: LimitTable) {
        self.override_limits(Some(table));
        self.load_limits();
    }

    fn without_mishaps(&mut self) {
        self.set_mishaps(Mishaps::NONE);
    }

    fn edges(&self, demand: &dyn Fn(u64) -> Demand) -> Edges {
        StandIn::edges(self, demand)
    }
}

impl Card for StandIn {
    fn description(&self) -> &CardDescription {
        &self.description
    }

    fn simulation(&mut self) -> Option<&mut dyn Simulation> {
        Some(self)
    }

    fn apply(&mut self, settings: &Settings) -> Result<(), CardError> {
        self.up()?;
        if self.injected == FaultInjection::ApplyIgnored {
            return Ok(());
        }
        // Under a load that goes on, other settings make no other run.
        self.fresh_start |= self.last_demand.is_none();
        let mut wanted = Settings::stock(&self.description);
        for offer in &self.description.offers {
            match (offer.kind, settings.fan) {
                (SettingKind::Fan, Some(fan @ (Fan::Curve(_) | Fan::Target(_)))) => {
                    wanted.fan = Some(self.held_fan(fan, offer));
                }
                (kind, _) => {
                    let asked = settings.get(kind).or(offer.stock);
                    wanted.set(kind, asked.map(|value| offer.bin(value)));
                }
            }
        }
        wanted.curve = self
            .description
            .curve
            .zip(settings.curve)
            .map(|(offer, asked)| offer.hold(&asked))
            .filter(|held| self.description.curve.is_none_or(|offer| *held != offer.factory));
        for difference in wanted.differences(&self.held, &self.description) {
            if self.whims.random::<f64>() >= self.mishaps.not_taken {
                self.held.copy(difference.kind, &wanted);
            }
        }
        self.controls_change();
        Ok(())
    }

    fn taken(&mut self) -> Result<Settings, CardError> {
        self.up()?;
        Ok(self.held)
    }

    fn turn_fan(&mut self, speed: Percent) -> Result<(), CardError> {
        self.up()?;
        let offer = self.description.offer(SettingKind::Fan).copied();
        // What ignores settings ignores this one, too.
        if let Some(offer) = offer.filter(|_| self.injected != FaultInjection::ApplyIgnored) {
            self.held.fan = Some(Fan::Fixed(Percent(offer.bin(speed.value()))));
            self.controls_change();
        }
        Ok(())
    }

    fn sample(&mut self) -> Result<Sample, CardError> {
        self.up()?;
        let controls = &self.controls;
        let physics = &self.physics;
        let busy = match self.disturbance {
            Disturbance::Background(busy) => busy,
            _ => Percent(0.0),
        };
        let loaded = self.last_demand.map_or(0.0, |demand| demand.load.value() * physics.duty);
        let offset = controls.memory_offset;
        let mut sample = Sample {
            at: Seconds(0.0),
            core_clock: Some(Mhz(physics.core_clock(controls))),
            effective_clock: Some(Mhz(physics.effective_clock(controls))),
            memory_clock: Some(Mhz(self.model.memory.clock_mhz + offset)),
            voltage: Some(Millivolt((physics.point(controls).volt * 1_000.0).round())),
            board_power: Some(Watt(physics.board_power)),
            core_temperature: Some(Celsius(physics.die)),
            hot_spot: Some(Celsius(physics.hot_spot)),
            fan: Some(Percent(physics.fan)),
            load: Some(Percent(loaded)),
            background: Some(busy),
            frame_rate: self.last_demand.and_then(|_| self.frame_rate()),
            chip_power: Some(Watt(physics.chip_power)),
            memory_temperature: Some(Celsius(physics.memory)),
            regulator_temperature: Some(Celsius(physics.regulator)),
        };
        for channel in Channel::ALL {
            if !self.description.senses(channel) {
                sample.set(channel, None);
            } else if self.injected == FaultInjection::SensorsRave {
                sample.set(channel, Some(-273_150.0));
            }
        }
        match self.injected {
            FaultInjection::SensorsFreeze => Ok(*self.frozen.get_or_insert(sample)),
            _ => Ok(sample),
        }
    }

    fn run(&mut self, span: Seconds, work: Work<'_>) -> Result<Ran, LoadLost> {
        let mut unknown = Unknown;
        let (load, frames): (&mut dyn Workload, _) = match work {
            Work::Here(load) => (load, None),
            Work::Elsewhere => (&mut unknown, Some(0)),
        };
        if self.down {
            return Err(LoadLost::MachineDown);
        }
        if self.fresh_start {
            self.begin_load();
        }
        self.finished.push_back((0, span.value()));
        while self.finished.len() > 1
            && self.finished.iter().skip(1).map(|(_, span)| span).sum::<f64>() > 0.99
        {
            self.finished.pop_front();
        }
        let mut left = span.value();
        while left > 1e-9 {
            let dt = left.min(STEP);
            self.step_under(dt, load)?;
            left -= dt;
        }
        Ok(Ran { frames })
    }

    fn set_room(&mut self, room: Room) {
        self.physics.set_room(room);
    }

    fn idle(&mut self, span: Seconds) {
        self.fresh_start = true;
        self.last_demand = None;
        self.finished.clear();
        let mut left = span.value();
        while left > 1e-9 {
            let dt = left.min(STEP);
            self.advance(dt, None);
            left -= dt;
        }
    }

    fn restart_machine(&mut self) -> bool {
        const BOOT: Seconds = Seconds(90.0);
        self.load_limits();
        self.held = Settings::stock(&self.description);
        self.odd = 1.0;
        self.inject_fault(FaultInjection::None);
        self.starts += 1;
        self.controls_change();
        self.idle(BOOT);
        true
    }

    fn boot(&mut self) -> String {
        format!("{}-{}", self.course.wrapping_add(1), self.starts)
    }
}

fn driver_name(release: u32) -> String {
    format!("{release}.0")
}
