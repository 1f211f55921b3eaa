//! The stand-in card: a physical model with settings, sensors, mishaps and faults, on a virtual
//! clock, seeded: same seed, same card, same course.

mod edges;
mod faults;
mod model;
mod physics;
#[cfg(test)]
mod tests;

pub use edges::Edges;
pub use model::Mishaps;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use yard_step_core::{
    CardDescription, Celsius, Demand, Frame, Mhz, Millivolt, Percent, Sample, Seconds, SettingKind,
    Settings, Watt, Workload,
};

use crate::{Card, CardError, LoadLost};
use faults::ChipFault;
use model::{Individual, Model, normal};
use physics::{Controls, Physics, STEP};

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

/// A simulated card.
pub struct StandIn {
    description: CardDescription,
    model: Model,
    individual: Individual,
    physics: Physics,
    held: Settings,
    dice: ChaCha8Rng,
    mishaps: Mishaps,
    disturbance: Disturbance,
    down: bool,
    odd: f64,
    /// A load that starts anew after an idle time or an apply scatters anew.
    fresh_start: bool,
    run_factor: f64,
    jitter: f64,
    work: f64,
    spoilt_frames_left: u32,
    frames: u32,
    span: f64,
    last_demand: Option<Demand>,
    canvas: Frame,
}

impl StandIn {
    /// The individual with the given seed, of the kind that `model` (TOML) describes, switched on
    /// and cold. See [`CardChoice::open`](crate::CardChoice::open) for the kinds that ship.
    ///
    /// # Errors
    /// The model is unusable.
    pub fn new(id: &str, model: &str, seed: u64, course: u64) -> Result<Self, CardError> {
        let model = Model::read(model)?;
        let individual = Individual::draw(&model.silicon, seed);
        let description = model.describe(id, seed);
        let mut dice = ChaCha8Rng::seed_from_u64(seed);
        dice.set_stream(course.wrapping_add(1));
        Ok(Self {
            held: Settings::stock(&description),
            physics: Physics::new(model.clone(), individual),
            mishaps: model.mishaps,
            description,
            individual,
            model,
            dice,
            disturbance: Disturbance::None,
            down: false,
            odd: 1.0,
            fresh_start: true,
            run_factor: 1.0,
            jitter: 0.0,
            work: 0.0,
            spoilt_frames_left: 0,
            frames: 0,
            span: 0.0,
            last_demand: None,
            canvas: Frame::black(0, 0),
        })
    }

    /// Sets how often small things go wrong.
    pub fn set_mishaps(&mut self, mishaps: Mishaps) {
        self.mishaps = mishaps;
    }

    /// Disturbs the present run, until the next apply or idle time.
    pub fn disturb(&mut self, disturbance: Disturbance) {
        self.fresh_start = false;
        self.disturbance = disturbance;
    }

    /// Sets the temperature of the room.
    pub fn set_ambient(&mut self, ambient: Celsius) {
        self.physics.ambient = ambient.value();
    }

    fn controls(&self) -> Controls {
        let held = |kind| self.held.get(kind);
        let limits = &self.description.limits;
        Controls {
            power_limit: held(SettingKind::PowerLimit).unwrap_or(limits.power_limit.value()),
            temperature_target: held(SettingKind::TemperatureTarget)
                .unwrap_or(limits.temperature_target.value()),
            core_offset: held(SettingKind::CoreOffset).unwrap_or(0.0),
            fan: held(SettingKind::Fan),
            odd: self.odd,
        }
    }

    /// Draws what chance brings to a load that starts: the scatter of runs, and the mishaps.
    fn begin_load(&mut self) {
        let spread = self.model.silicon.score_spread;
        self.run_factor = 1.0 + normal(&mut self.dice, 0.0, spread);
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
        self.work = 0.0;
    }

    fn step_under(&mut self, dt: f64, load: &mut dyn Workload) -> Result<(), LoadLost> {
        let mut demand = load.demand();
        let (mut share, mut own) = (1.0, demand.load.value());
        match self.disturbance {
            Disturbance::None => {}
            Disturbance::Background(busy) => share = 1.0 - busy.value() / 100.0,
            Disturbance::Starved(loaded) => {
                own = loaded.value();
                share = own / 100.0;
            }
        }
        demand.load = Percent(own);
        self.advance(dt, Some(&demand));
        self.last_demand = Some(demand);

        let controls = self.controls();
        let past = self.physics.past_the_limit(&controls);
        if self.physics.is_too_hot() {
            return Err(self.lose(LoadLost::MachineDown));
        }
        let chance = -(-self.physics.faults_per_hour(&controls) * dt / 3_600.0).exp_m1();
        if self.dice.random::<f64>() < chance {
            match faults::draw_kind(&mut self.dice, past) {
                ChipFault::Artifacts => self.spoilt_frames_left = self.dice.random_range(1..=4),
                ChipFault::Lost(lost) => return Err(self.lose(lost)),
            }
        }
        self.work += self.physics.throughput(&demand, &controls) * self.run_factor * share * dt;
        while self.work >= demand.work_per_frame {
            self.work -= demand.work_per_frame;
            self.draw_frame(load, past);
        }
        Ok(())
    }

    fn draw_frame(&mut self, load: &mut dyn Workload, past: f64) {
        load.draw(&mut self.canvas);
        if self.spoilt_frames_left > 0 {
            self.spoilt_frames_left -= 1;
            faults::spoil(&mut self.canvas, &mut self.dice, past);
        }
        load.present(&self.canvas);
        self.frames += 1;
    }

    fn lose(&mut self, lost: LoadLost) -> LoadLost {
        self.spoilt_frames_left = 0;
        match lost {
            LoadLost::Died => {}
            LoadLost::DriverReset => {
                self.held = Settings::stock(&self.description);
                self.odd = if self.dice.random::<bool>() { 0.9 } else { 1.04 };
            }
            LoadLost::MachineDown => self.down = true,
        }
        lost
    }

    /// Moves the physics on. The scene's activity wanders about its mean with a time constant of a
    /// second (an Ornstein-Uhlenbeck process), as real frames differ.
    fn advance(&mut self, dt: f64, demand: Option<&Demand>) {
        const SPREAD: f64 = 0.012;
        let shock = normal(&mut self.dice, 0.0, SPREAD * (2.0 * dt).sqrt());
        self.jitter += shock - self.jitter * dt;
        let controls = self.controls();
        self.physics.step(dt, demand, self.jitter, &controls);
    }

    fn up(&self) -> Result<(), CardError> {
        if self.down { Err(CardError::MachineDown) } else { Ok(()) }
    }
}

impl Card for StandIn {
    fn description(&self) -> &CardDescription {
        &self.description
    }

    fn apply(&mut self, settings: &Settings) -> Result<(), CardError> {
        self.up()?;
        self.fresh_start = true;
        for offer in self.description.offers.clone() {
            let asked = settings.get(offer.kind).or(offer.stock);
            let binned = asked.map(|value| offer.bin(value));
            let changes = binned != self.held.get(offer.kind);
            if changes && self.dice.random::<f64>() >= self.mishaps.not_taken {
                self.held.set(offer.kind, binned);
            }
        }
        Ok(())
    }

    fn taken(&mut self) -> Result<Settings, CardError> {
        self.up()?;
        Ok(self.held)
    }

    fn sample(&mut self) -> Result<Sample, CardError> {
        self.up()?;
        let controls = self.controls();
        let physics = &self.physics;
        let busy = match self.disturbance {
            Disturbance::Background(busy) if self.last_demand.is_some() => busy,
            _ => Percent(0.0),
        };
        Ok(Sample {
            at: Seconds(0.0),
            core_clock: Some(Mhz(physics.core_clock(&controls))),
            effective_clock: Some(Mhz(physics.effective_clock(&controls))),
            memory_clock: Some(Mhz(self.model.clocks.memory_mhz)),
            voltage: Some(Millivolt(physics.millivolt().round())),
            board_power: Some(Watt(physics.board_power)),
            core_temperature: Some(Celsius(physics.die)),
            hot_spot: Some(Celsius(physics.hot_spot)),
            fan: Some(Percent(physics.fan)),
            load: Some(self.last_demand.map_or(Percent(0.0), |demand| demand.load)),
            background: Some(busy),
            frame_rate: (self.span > 0.0 && self.last_demand.is_some())
                .then(|| f64::from(self.frames) / self.span),
        })
    }

    fn run(&mut self, span: Seconds, load: &mut dyn Workload) -> Result<(), LoadLost> {
        if self.down {
            return Err(LoadLost::MachineDown);
        }
        if self.fresh_start {
            self.begin_load();
        }
        (self.frames, self.span) = (0, span.value());
        let mut left = span.value();
        while left > 1e-9 {
            let dt = left.min(STEP);
            self.step_under(dt, load)?;
            left -= dt;
        }
        Ok(())
    }

    fn idle(&mut self, span: Seconds) {
        self.fresh_start = true;
        self.last_demand = None;
        let mut left = span.value();
        while left > 1e-9 {
            let dt = left.min(STEP);
            self.advance(dt, None);
            left -= dt;
        }
    }

    fn restart_machine(&mut self) -> bool {
        const BOOT: Seconds = Seconds(90.0);
        self.held = Settings::stock(&self.description);
        (self.down, self.odd) = (false, 1.0);
        self.idle(BOOT);
        true
    }
}
