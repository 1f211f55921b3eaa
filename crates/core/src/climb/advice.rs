//! Advice: which setting would help now and why, judged by what limited the clock and where the score
//! stopped rising.

use crate::card::description::SettingKind;
use crate::climb::search::axis::Axis;
use crate::climb::{Climb, Shown, Stage, TrialRecord};
use crate::load::artifact::Domain;
use crate::measure::limiter::Limiter;
use crate::units::{Mhz, MhzOffset};

/// A setting that would help, and what speaks for it. `held_back` is a share of the loaded time, 0 to 1.
#[derive(Debug, Clone, PartialEq)]
pub enum Advice {
    /// Power holds the clock back, and the limit can go up to `to`.
    MorePower {
        /// Its highest.
        to: Shown,
        /// Share of the time held back by power.
        held_back: f64,
        /// Dips of the clock line.
        dips: usize,
    },
    /// Power holds the clock back and its limit is at its highest: less voltage frees watts.
    LessVoltage {
        /// Share of the time held back by power.
        held_back: f64,
        /// Dips of the clock line.
        dips: usize,
    },
    /// The same on a card whose voltage cannot be moved: less memory clock frees watts.
    LessMemory {
        /// Share of the time held back by power.
        held_back: f64,
    },
    /// Heat holds the clock back.
    MoreAir {
        /// Highest temperature target, where it can go up.
        target: Option<Shown>,
        /// Share of the time held back by heat.
        held_back: f64,
        /// Dips of the clock line.
        dips: usize,
    },
    /// More core clock brings no more score.
    NoMoreCore {
        /// From which value on.
        from: Shown,
    },
    /// Neither power nor heat holds the clock back.
    MoreCore {
        /// Share of the time in which neither did.
        free: f64,
    },
    /// No memory clock above stock has been tried.
    MoreMemory,
}

/// Where a clock is stable, yet brings nothing.
#[derive(Debug, Clone, PartialEq)]
pub enum StableYetSlower {
    /// Beyond a bend of the score line.
    BeyondBend {
        /// Where it bends.
        at: Shown,
        /// Score lost for each 100 MHz beyond, percent.
        percent_per_100_mhz: f64,
        /// What it looks like.
        why: WhySlower,
    },
    /// In a timing band.
    Band {
        /// Its lower end.
        from: Shown,
        /// Its upper end.
        to: Shown,
        /// Clock in it that brings nothing.
        lost: Mhz,
        /// Whether nothing of it gains, so that nothing is kept in it.
        is_whole: bool,
    },
}

/// What makes a stable clock slower.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WhySlower {
    /// Memory timings relax with the clock.
    TimingBand,
    /// The memory repeats failed transfers.
    ErrorCorrection,
    /// The effective clock falls behind the reported one.
    StretchedClock,
    /// The clock asked for is not reached.
    PowerOrHeat,
}

impl Climb {
    /// Advice after a trial, the most promising first. Empty for a run without samples.
    #[must_use]
    pub fn advice(&self, trial: &TrialRecord) -> Vec<Advice> {
        let seen = &trial.seen;
        let busy: f64 =
            1.0 - seen.limiter_share(Limiter::Load) - seen.limiter_share(Limiter::FrameCap);
        let share = |limiter| seen.limiter_share(limiter) / busy.max(0.05);
        let mut all: Vec<(f64, Advice)> = Vec::new();
        let mut say = |weight: f64, advice: Advice| all.push((weight, advice));
        let held = trial.held();
        let room_above = |kind| {
            let offer = self.card.offer(kind)?;
            let now = held.get(kind).or(offer.stock)?;
            (now < offer.maximum).then_some(offer.maximum)
        };
        let power = share(Limiter::Power);
        let dips = seen.clock_line.as_ref().map_or(0, |line| line.dips.len());
        if power > 0.2 {
            let held_back = power;
            let can_undervolt = self.card.offer(SettingKind::VoltageOffset).is_some();
            match room_above(SettingKind::PowerLimit) {
                Some(most) => {
                    let to = SettingKind::PowerLimit.show(most);
                    say(power, Advice::MorePower { to, held_back, dips });
                }
                None if can_undervolt => say(power, Advice::LessVoltage { held_back, dips }),
                None => say(power * 0.5, Advice::LessMemory { held_back }),
            }
        }
        let heat = share(Limiter::Heat);
        if heat > 0.05 {
            let target = room_above(SettingKind::TemperatureTarget);
            let target = target.map(|most| SettingKind::TemperatureTarget.show(most));
            say(heat * 1.2, Advice::MoreAir { target, held_back: heat, dips });
        }
        let window = share(Limiter::Window);
        let voltage = share(Limiter::Voltage) + share(Limiter::Unknown) + window;
        let pair = self.place(trial);
        if voltage > 0.3 {
            let (known, line) = (self.bend(Domain::Core), self.score_line(Domain::Core));
            let worth = line.map_or(0.75, |line| {
                line.slope() * self.axis(Domain::Core).map_or(0.0, |a| a.clock)
            });
            match known.filter(|bend| pair.core >= bend.at) {
                Some(bend) => {
                    let axis = self.axis(Domain::Core);
                    let from = axis.map_or(bend.at.to_string(), |axis| axis.show(bend.at));
                    say(0.1, Advice::NoMoreCore { from });
                }
                None => {
                    say(voltage * worth.clamp(0.1, 1.0), Advice::MoreCore { free: voltage });
                }
            }
        }
        if let (Some(axis), true) = (self.axis(Domain::Memory), pair.memory == MhzOffset::STOCK) {
            let tried = self.trials.iter().any(|t| t.value_on(&axis) != MhzOffset::STOCK);
            if !tried && trial.stage != Stage::Baseline {
                say(0.15, Advice::MoreMemory);
            }
        }
        all.sort_by(|a, b| b.0.total_cmp(&a.0));
        all.into_iter().map(|(_, advice)| advice).collect()
    }

    /// Where a clock of a domain is stable, yet brings nothing.
    #[must_use]
    pub fn stable_yet_slower(&self, domain: Domain) -> Vec<StableYetSlower> {
        let Some(axis) = self.axis(domain) else { return Vec::new() };
        let bands = match domain {
            Domain::Memory => self.timing_bands(),
            Domain::Core => Vec::new(),
        };
        let bands = bands.into_iter().map(|band| StableYetSlower::Band {
            from: axis.show(band.from),
            to: axis.show(band.to),
            lost: Mhz(f64::from(band.lost.0)),
            is_whole: band.is_whole(),
        });
        self.beyond_the_bend(&axis).into_iter().chain(bands).collect()
    }

    /// What there is to say of a clock that is stable beyond the bend of its score line.
    fn beyond_the_bend(&self, axis: &Axis) -> Option<StableYetSlower> {
        let domain = axis.domain;
        let bend = self.bend(domain)?;
        let beyond: Vec<&TrialRecord> = self
            .tried_alone(domain)
            .iter()
            .filter(|trial| trial.value > bend.at && self.figure(trial.record).is_some())
            .map(|trial| trial.record)
            .collect();
        let per_hundred = -bend.slope * 1e4;
        let why = match domain {
            Domain::Memory if per_hundred < 0.2 => WhySlower::TimingBand,
            Domain::Memory => WhySlower::ErrorCorrection,
            Domain::Core if lags(&beyond) => WhySlower::StretchedClock,
            Domain::Core => WhySlower::PowerOrHeat,
        };
        let at = axis.show(bend.at);
        Some(StableYetSlower::BeyondBend { at, percent_per_100_mhz: per_hundred, why })
    }
}

/// Whether the effective clock of runs lies clearly below the reported one.
fn lags(runs: &[&TrialRecord]) -> bool {
    let behind = runs.iter().filter_map(|run| {
        let reported = run.seen.average_clock()?.value();
        Some(1.0 - run.seen.effective_clock?.value() / reported)
    });
    behind.fold(0.0, f64::max) > 0.006
}
