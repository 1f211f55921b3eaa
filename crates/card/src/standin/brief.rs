//! Whole runs worked out at once, without drawing their frames: for studies of many climbs on many
//! cards, in which a day under load must not take seconds.
//!
//! A card that has warmed up repeats itself from one pass of its scene to the next. So one pass at
//! each settings is stepped through, with the same physics as ever, and what chance brings to a run
//! (its scatter, its mishaps, when and how it fails) is drawn from that.
//!
//! ```text
//!   settings ─► warm physics ─► one pass: score, sensors, fault rate at every step   (remembered)
//!   a run    ─► dice ─► mishap? ─► time to the first fault ~ Exp(rate) ─► which step ─► which fault
//! ```

use std::collections::HashMap;
use std::sync::Arc;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use yard_step_core::{
    CardDescription, Celsius, ClockLine, Demand, Domain, Fan, Limiter, LimiterShares, Mhz, Percent,
    Room, Sample, Seconds, Seen, SettingKind, Settings, VfCurve, Watt, attribute,
};

use super::faults::{self, ChipFault, Onset};
use super::limits::Past;
use super::model::normal;
use super::physics::{Controls, Physics, STEP};
use super::{FULL_LOAD, StandIn};
use crate::LoadLost;

/// From cold to warm.
pub(super) const WARM_UP_SECONDS: f64 = 1_500.0;
/// From warm at one settings to warm at the next.
const ADJUST_SECONDS: f64 = 300.0;
/// Heat moves slowly: coarser steps do until it counts.
const WARM_UP_STEP: f64 = 0.5;
/// Frames of a pass.
const PASS_FRAMES: f64 = 480.0;
/// Shortest run whose course tells where its temperature is going, s, and how far that is off, K.
const LEAST_PLATEAU: Seconds = Seconds(90.0);
const PLATEAU_ERROR: f64 = 0.8;
/// A card this close to where it is going is warm, K.
const WARM_WITHIN: f64 = 1.5;

/// What a card does at certain settings once it is warm, when nothing fails.
#[derive(Debug, Clone)]
pub struct Steady {
    /// Work units per second, as a run without scatter would score.
    pub score: f64,
    /// Faults to expect per hour.
    pub faults_per_hour: f64,
    /// Length of a pass of 480 frames, s.
    pub pass_seconds: f64,
    /// What the sensors say, on average, with highest temperatures.
    pub seen: Seen,
    /// For every step of a pass: how far past its limit each domain is.
    pasts: Vec<Past>,
    /// The sum of all fault rates up to each step and domain, where edges do not move from run to run.
    risks: Vec<(f64, Domain, f64)>,
}

/// How a run worked out at once came to its end.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum BriefEnding {
    /// It ran its whole time.
    Finished,
    /// Wrong pixels that suggest this domain.
    Spoilt(Domain),
    /// The card dropped its load.
    Lost(LoadLost),
    /// A changed setting was not taken, so that it was not begun.
    NotTaken,
}

/// What a run worked out at once came to.
#[derive(Debug, Clone)]
pub struct Brief {
    /// How it ended.
    pub ending: BriefEnding,
    /// Settings the card held.
    pub taken: Settings,
    /// How long it ran, warm-up included.
    pub seconds: Seconds,
    /// Work units per second; none for a run that ended within its warm-up.
    pub score: Option<f64>,
    /// What was seen.
    pub seen: Seen,
}

/// What runs at the same settings have in common.
type Key = ([u64; SettingKind::ALL.len()], Option<VfCurve>, Vec<u64>);

/// A stand-in whose runs are worked out at once.
pub struct BriefCard<D> {
    card: StandIn,
    demand: D,
    period: u64,
    warm: Physics,
    warm_seconds: Seconds,
    known: HashMap<Key, Arc<Steady>>,
    held: Settings,
    dice: ChaCha8Rng,
    /// Chance of what is read off a run and changes nothing of it.
    reading: ChaCha8Rng,
}

impl<D: Fn(u64) -> Demand> BriefCard<D> {
    /// A card under a scene whose frames ask for `demand` and repeat after `period` of them.
    /// `course` is as in [`CardChoice::open`](crate::CardChoice::open).
    #[must_use]
    pub fn new(card: StandIn, demand: D, period: u64, course: u64) -> Self {
        let mut dice = ChaCha8Rng::seed_from_u64(card.seed());
        dice.set_stream(course.wrapping_add(1));
        let mut reading = dice.clone();
        reading.set_stream(!course);
        let stock = Settings::stock(&card.description);
        let mut warm = Physics::new(card.model.clone(), card.unit, card.physics.room());
        let controls = Controls::of(&stock, &card.model, 1.0);
        let course =
            heat_up(&mut warm, &controls, &demand, WARM_UP_SECONDS, &mut Progress::default());
        let end = course.last().copied().unwrap_or_default();
        let steps = course.iter().take_while(|die| (end - **die).abs() > WARM_WITHIN).count();
        Self {
            warm_seconds: Seconds(steps as f64 * WARM_UP_STEP),
            known: HashMap::new(),
            held: stock,
            card,
            demand,
            period,
            warm,
            reading,
            dice,
        }
    }

    /// What the card is and offers.
    #[must_use]
    pub fn description(&self) -> &CardDescription {
        &self.card.description
    }

    /// The room it stands in.
    #[must_use]
    pub fn room(&self) -> Room {
        self.card.room()
    }

    /// How long a cold card takes to be warm.
    #[must_use]
    pub fn warm_seconds(&self) -> Seconds {
        self.warm_seconds
    }

    /// Begins another course of chance.
    pub fn set_course(&mut self, course: u64) {
        self.dice.set_stream(course.wrapping_add(1));
        self.dice.set_word_pos(0);
        self.reading.set_stream(!course);
        self.reading.set_word_pos(0);
        self.held = Settings::stock(&self.card.description);
    }

    /// What the card does at `settings` once it is warm.
    pub fn steady(&mut self, settings: &Settings) -> Arc<Steady> {
        let numbers = SettingKind::ALL.map(|kind| settings.get(kind).map_or(0, f64::to_bits));
        let fan = settings.fan.unwrap_or(Fan::Automatic).numbers();
        let key = (numbers, settings.curve, fan.into_iter().map(f64::to_bits).collect());
        if let Some(known) = self.known.get(&key) {
            return Arc::clone(known);
        }
        let steady = Arc::new(self.work_out(settings));
        self.known.insert(key, Arc::clone(&steady));
        steady
    }

    /// Steps through one pass on a card warmed at `settings`.
    fn work_out(&self, settings: &Settings) -> Steady {
        let controls = Controls::of(settings, &self.card.model, 1.0);
        let mut physics = self.warm.clone();
        // The card is warm from a fan at full speed or faster than this one: cooler and case warm slowly.
        let is_full = settings.fan == Some(Fan::Fixed(Percent(100.0)));
        let seconds = if is_full { ADJUST_SECONDS } else { WARM_UP_SECONDS };
        heat_up(&mut physics, &controls, &self.demand, seconds, &mut Progress::default());
        let (mut work, mut frame, mut done, mut steps) = (0.0, 0, 0.0, 0_u32);
        let mut pass = Pass::default();
        let mut asked = (self.demand)(frame);
        while frame < self.period {
            physics.step(STEP, Some(&asked), 0.0, &controls);
            steps += 1;
            pass.take(&physics, &controls, &asked, settings, &self.card.description);
            let before = done;
            // A frame ends within a step, and the next may ask for something else.
            let mut left = STEP;
            while left > 0.0 {
                let rate = units(&physics, &controls, &asked, 1.0);
                let missing = asked.work_per_frame - work;
                if rate * left < missing {
                    work += rate * left;
                    done += rate * left;
                    break;
                }
                left -= missing / rate;
                done += missing;
                work = 0.0;
                frame += 1;
                asked = (self.demand)(frame);
            }
            if done <= before {
                break;
            }
        }
        let per_step = f64::from(steps.max(1));
        let faults = self.card.model.faults;
        let risks = risks(&pass.pasts, faults.onset, (0.0, 0.0));
        let total = risks.last().map_or(0.0, |risk| risk.0);
        Steady {
            score: done / (per_step * STEP),
            faults_per_hour: total / per_step + faults.floor,
            pass_seconds: per_step * STEP * PASS_FRAMES / (frame.max(1) as f64),
            seen: pass.seen(per_step),
            pasts: pass.pasts,
            risks,
        }
    }

    /// One run of `seconds`, the first `warm_up` of which do not count towards its score.
    pub fn run(&mut self, asked: &Settings, seconds: Seconds, warm_up: Seconds) -> Brief {
        let mishaps = self.card.mishaps;
        let mut taken = *asked;
        let mut is_taken = true;
        for difference in asked.differences(&self.held, &self.card.description) {
            // Whoever runs trials asks once more for what was not taken.
            let mut ignored = || self.dice.random::<f64>() < mishaps.not_taken;
            if ignored() && ignored() {
                taken.copy(difference.kind, &self.held);
                is_taken = false;
            }
        }
        self.held = taken;
        if !is_taken {
            return Brief {
                ending: BriefEnding::NotTaken,
                taken,
                seconds: Seconds(0.0),
                score: None,
                seen: Seen::default(),
            };
        }
        let steady = self.steady(asked);
        let scatter = 1.0 + normal(&mut self.dice, 0.0, self.card.model.silicon.score_spread);
        let (chance, amount) = (self.dice.random::<f64>(), self.dice.random::<f64>());
        let mut seen = steady.seen.clone();
        let mut score = steady.score * scatter;
        if chance < mishaps.background {
            seen.background = Some(Percent(1.6 + amount));
            score *= 1.0 - (1.6 + amount) / 100.0;
        } else if chance < mishaps.background + mishaps.starved {
            let share = 0.65 + 0.2 * amount;
            seen.load = seen.load.map(|load| Percent(load.value() * share));
            score *= share;
        }
        let (ending, lasted) = self.first_fault(&steady, seconds);
        seen.seconds = lasted;
        seen.plateau = seen.plateau.filter(|_| lasted >= LEAST_PLATEAU).map(|plateau| {
            Celsius(plateau.value() + normal(&mut self.reading, 0.0, PLATEAU_ERROR))
        });
        if let BriefEnding::Spoilt(_) = ending {
            (seen.wrong_frames, seen.wrong_pixels, seen.first_wrong) = (1, 100, Some(lasted));
        }
        seen.frames = (lasted.value() * 20.0) as u64;
        // As in a run with frames: a score needs a whole pass.
        let measured = (lasted - warm_up).value() > steady.pass_seconds;
        Brief { ending, taken, seconds: lasted, score: measured.then_some(score), seen }
    }

    /// When and how a run first fails, if it does before its time is over.
    fn first_fault(&mut self, steady: &Steady, seconds: Seconds) -> (BriefEnding, Seconds) {
        let faults = self.card.model.faults;
        let moved = self.edges_of_a_run().map(|by| risks(&steady.pasts, faults.onset, by));
        let risks = moved.as_ref().unwrap_or(&steady.risks);
        let total = risks.last().map_or(0.0, |risk| risk.0);
        let steps = steady.pasts.len().max(1) as f64;
        let by_clock = total / steps;
        let rate = by_clock + faults.floor;
        let wait = -(1.0 - self.dice.random::<f64>()).ln() / rate * 3_600.0;
        let place = self.dice.random::<f64>() * rate;
        if wait >= seconds.value() {
            return (BriefEnding::Finished, seconds);
        }
        let ending = if place >= by_clock {
            BriefEnding::Lost(LoadLost::Died)
        } else {
            let found = risks.partition_point(|risk| risk.0 < place * steps);
            let (domain, past) = risks.get(found).map_or((Domain::Core, 0.0), |r| (r.1, r.2));
            match faults::draw_kind(&mut self.dice, past, faults.machine_down_share) {
                ChipFault::Artifacts => BriefEnding::Spoilt(domain),
                ChipFault::Lost(lost) => BriefEnding::Lost(lost),
            }
        };
        if let BriefEnding::Lost(LoadLost::DriverReset | LoadLost::MachineDown) = ending {
            self.held = Settings::stock(&self.card.description);
        }
        (ending, Seconds((wait * 10.0).ceil() / 10.0))
    }

    /// By how many e-folds the edges of core and memory are lower in one run; none where they do not move.
    fn edges_of_a_run(&mut self) -> Option<(f64, f64)> {
        let (core, memory) = self.scatter()?;
        Some((normal(&mut self.dice, 0.0, core), normal(&mut self.dice, 0.0, memory)))
    }

    /// How far edges move from run to run, in e-folds of core and memory.
    fn scatter(&self) -> Option<(f64, f64)> {
        let model = &self.card.model;
        let (core, memory) = model.faults.scatter_mhz;
        let moves = core > 0.0 || memory > 0.0;
        moves.then(|| (core / model.silicon.hazard_mhz, memory / model.memory.hazard_mhz))
    }

    /// Chance of a day under load without a fault at `settings`, 0 to 1, once the card is warm.
    pub fn chance_of_a_day(&mut self, settings: &Settings) -> f64 {
        const HOURS: f64 = 24.0;
        // Gauss-Hermite quadrature with five points (Abramowitz and Stegun, 25.4.46), for a normal variable.
        const PLACES: [(f64, f64); 5] = [
            (-2.856_970, 0.011_257),
            (-1.355_626, 0.222_076),
            (0.0, 0.533_333),
            (1.355_626, 0.222_076),
            (2.856_970, 0.011_257),
        ];
        let steady = self.steady(settings);
        let Some((core, memory)) = self.scatter() else {
            return (-HOURS * steady.faults_per_hour).exp();
        };
        let faults = self.card.model.faults;
        let steps = steady.pasts.len().max(1) as f64;
        let chance = |by: (f64, f64)| {
            let total = risks(&steady.pasts, faults.onset, by).last().map_or(0.0, |risk| risk.0);
            (-HOURS * (total / steps + faults.floor)).exp()
        };
        let pairs = PLACES.iter().flat_map(|a| PLACES.iter().map(move |b| (a, b)));
        pairs.map(|((x, p), (y, q))| p * q * chance((x * core, y * memory))).sum()
    }

    /// Puts the card back to stock.
    pub fn put_back(&mut self) {
        self.held = Settings::stock(&self.card.description);
    }
}

/// The sum of all fault rates up to each step and domain of a pass, with how far past its limit the domain is, where
/// both edges are lower by so many e-folds.
fn risks(pasts: &[Past], onset: Onset, lower: (f64, f64)) -> Vec<(f64, Domain, f64)> {
    let mut sum = 0.0;
    let of_step = |past: &Past| {
        [(Domain::Core, past.core + lower.0), (Domain::Memory, past.memory + lower.1)]
    };
    let mut add = |(domain, past): (Domain, f64)| {
        sum += onset.rate(past);
        (sum, domain, past)
    };
    pasts.iter().flat_map(of_step).map(&mut add).collect()
}

/// Frames and work of a scene, as a card gets through them.
#[derive(Debug, Default)]
pub(super) struct Progress {
    pub frame: u64,
    work: f64,
}

impl Progress {
    /// Takes in the work units of a step that was made under the demand `asked`.
    pub(super) fn add(&mut self, units: f64, asked: &Demand) {
        self.work += units;
        while self.work >= asked.work_per_frame {
            self.work -= asked.work_per_frame;
            self.frame += 1;
        }
    }
}

/// Work units done in `dt` seconds under the demand `asked`.
pub(super) fn units(physics: &Physics, controls: &Controls, asked: &Demand, dt: f64) -> f64 {
    let share = physics.duty * asked.load.value() / FULL_LOAD;
    physics.throughput(asked, controls) * share * dt
}

/// Lets a scene warm the card; returns the course of its temperature.
pub(super) fn heat_up(
    physics: &mut Physics,
    controls: &Controls,
    demand: &impl Fn(u64) -> Demand,
    seconds: f64,
    progress: &mut Progress,
) -> Vec<f64> {
    let steps = (seconds / WARM_UP_STEP) as usize;
    let mut course = Vec::with_capacity(steps);
    for _ in 0..steps {
        let asked = demand(progress.frame);
        physics.step(WARM_UP_STEP, Some(&asked), 0.0, controls);
        progress.add(units(physics, controls, &asked, WARM_UP_STEP), &asked);
        course.push(physics.sink);
    }
    course
}

/// Sums over the steps of a pass.
#[derive(Default)]
struct Pass {
    pasts: Vec<Past>,
    clock: f64,
    lowest: f64,
    highest: f64,
    effective: f64,
    power: f64,
    load: f64,
    fan: f64,
    die: f64,
    mean_die: f64,
    hot_spot: f64,
    shares: LimiterShares,
}

impl Pass {
    fn take(
        &mut self,
        physics: &Physics,
        controls: &Controls,
        asked: &Demand,
        held: &Settings,
        card: &CardDescription,
    ) {
        self.pasts.push(physics.past(controls));
        let clock = physics.core_clock(controls);
        self.lowest = if self.clock == 0.0 { clock } else { self.lowest.min(clock) };
        self.highest = self.highest.max(clock);
        self.clock += clock;
        self.effective += physics.effective_clock(controls);
        self.power += physics.board_power;
        let load = asked.load.value() * physics.duty;
        self.load += load;
        self.fan += physics.fan;
        self.die = self.die.max(physics.die);
        self.mean_die += physics.die;
        self.hot_spot = self.hot_spot.max(physics.hot_spot);
        let sample = Sample {
            core_clock: Some(Mhz(clock)),
            voltage: Some(yard_step_core::Millivolt(physics.point(controls).volt * 1_000.0)),
            board_power: Some(Watt(physics.board_power)),
            chip_power: Some(Watt(physics.chip_power)),
            core_temperature: Some(Celsius(physics.die)),
            load: Some(Percent(load)),
            ..Sample::default()
        };
        self.shares.push(attribute(&sample, held, &card.limits));
    }

    fn seen(&self, steps: f64) -> Seen {
        Seen {
            clock_line: Some(ClockLine {
                average: Mhz(self.clock / steps),
                lowest: Mhz(self.lowest),
                highest: Mhz(self.highest),
                flatness: Percent(0.0),
                dips: Vec::new(),
            }),
            effective_clock: Some(Mhz(self.effective / steps)),
            average_power: Some(Watt(self.power / steps)),
            core_temperature_max: Some(Celsius(self.die)),
            hot_spot_max: Some(Celsius(self.hot_spot)),
            fan: Some(Percent(self.fan / steps)),
            load: Some(Percent(self.load / steps)),
            background: Some(Percent(0.0)),
            limiters: Limiter::ALL
                .into_iter()
                .map(|limiter| (limiter, self.shares.share(limiter)))
                .filter(|(_, share)| *share > 0.0)
                .collect(),
            warming: Some(Celsius(0.0)),
            plateau: Some(Celsius(self.mean_die / steps)),
            ..Seen::default()
        }
    }
}
