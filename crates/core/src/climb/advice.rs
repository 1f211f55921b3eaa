//! What pays next: which setting would help now, and why, read off what limited the clock and where
//! the score stopped to grow.

use crate::card::description::SettingKind;
use crate::climb::search::axis::Axis;
use crate::climb::search::bands::TimingBand;
use crate::climb::{Climb, Stage, TrialRecord};
use crate::load::artifact::Domain;
use crate::measure::limiter::Limiter;
use crate::units::{Mhz, MhzOffset};

/// A setting that would help.
#[derive(Debug, Clone, PartialEq)]
pub struct Advice {
    /// What to do, in a few words.
    pub what: String,
    /// Why, in a sentence.
    pub why: String,
}

impl Climb {
    /// What pays next after a trial, the most promising first. Empty for a run without samples.
    #[must_use]
    pub fn advice(&self, trial: &TrialRecord) -> Vec<Advice> {
        let seen = &trial.seen;
        let busy: f64 =
            1.0 - seen.limiter_share(Limiter::Load) - seen.limiter_share(Limiter::FrameCap);
        let share = |limiter| seen.limiter_share(limiter) / busy.max(0.05);
        let mut all: Vec<(f64, Advice)> = Vec::new();
        let mut say =
            |weight: f64, what: String, why: String| all.push((weight, Advice { what, why }));
        let held = trial.held();
        let room_above = |kind| {
            let offer = self.card.offer(kind)?;
            let now = held.get(kind).or(offer.stock)?;
            (now < offer.maximum).then_some(offer.maximum)
        };
        let power = share(Limiter::Power);
        let percent = |share: f64| format!("{:.0} %", share * 100.0);
        let dips = seen.clock_line.as_ref().map_or(0, |line| line.dips.len());
        let dipped = if dips > 0 { format!(", with {dips} dips") } else { String::new() };
        if power > 0.2 {
            match room_above(SettingKind::PowerLimit) {
                Some(most) => say(
                    power,
                    format!("power limit up, to {}", SettingKind::PowerLimit.show(most)),
                    format!(
                        "Power held the clock back {} of the loaded time{dipped}.",
                        percent(power)
                    ),
                ),
                None if self.card.offer(SettingKind::VoltageOffset).is_some() => say(
                    power,
                    "less voltage at the same clock".into(),
                    format!(
                        "Power holds the clock back {} of the loaded time{dipped} and its limit is \
                         at its highest: every watt saved becomes clock.",
                        percent(power)
                    ),
                ),
                None => say(
                    power * 0.5,
                    "memory clock down, where memory brings little".into(),
                    format!("Power holds the clock back {} of the loaded time.", percent(power)),
                ),
            }
        }
        let heat = share(Limiter::Heat);
        if heat > 0.05 {
            let target = room_above(SettingKind::TemperatureTarget);
            say(
                heat * 1.2,
                match target {
                    Some(most) => format!(
                        "more air, or a temperature target of {}",
                        SettingKind::TemperatureTarget.show(most)
                    ),
                    None => "more air".into(),
                },
                format!("Heat held the clock back {} of the loaded time{dipped}.", percent(heat)),
            );
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
                Some(bend) => say(
                    0.1,
                    "no more core clock".into(),
                    format!(
                        "From {} on, more core clock brought no more score.",
                        self.axis(Domain::Core).map_or(bend.at.to_string(), |a| a.show(bend.at))
                    ),
                ),
                None => say(
                    voltage * worth.clamp(0.1, 1.0),
                    "core clock up".into(),
                    format!(
                        "Neither power nor heat held the clock {} of the loaded time: it stands at \
                         the top of its curve.",
                        percent(voltage)
                    ),
                ),
            }
        }
        if let (Some(axis), true) = (self.axis(Domain::Memory), pair.memory == MhzOffset::STOCK) {
            let tried = self.trials.iter().any(|t| t.value_on(&axis) != MhzOffset::STOCK);
            if !tried && trial.stage != Stage::Baseline {
                say(
                    0.15,
                    "memory clock up".into(),
                    "No memory clock above stock has been tried yet.".into(),
                );
            }
        }
        all.sort_by(|a, b| b.0.total_cmp(&a.0));
        all.into_iter().map(|(_, advice)| advice).collect()
    }

    /// What was found where a clock is stable, yet brings nothing: what it is called, and why.
    #[must_use]
    pub fn stable_yet_slower(&self, domain: Domain) -> Option<String> {
        let axis = self.axis(domain)?;
        let bands = match domain {
            Domain::Memory => self.timing_bands(),
            Domain::Core => Vec::new(),
        };
        let told = bands.into_iter().map(|band| band_told(band, &axis));
        let told: Vec<String> = self.beyond_the_bend(&axis).into_iter().chain(told).collect();
        (!told.is_empty()).then(|| told.join(" "))
    }

    /// What there is to say of a clock that is stable beyond the bend of its score line.
    fn beyond_the_bend(&self, axis: &Axis) -> Option<String> {
        let domain = axis.domain;
        let bend = self.bend(domain)?;
        let beyond: Vec<&TrialRecord> = self
            .tried_alone(domain)
            .iter()
            .filter(|trial| trial.value > bend.at && trial.record.score.is_some())
            .map(|trial| trial.record)
            .collect();
        let per_hundred = -bend.slope * 1e4;
        let at = axis.show(bend.at);
        let what = match domain {
            Domain::Memory if per_hundred < 0.2 => {
                "a timing band: timings relax with the clock and take its gain back"
            }
            Domain::Memory => {
                "error correction: failed transfers are repeated, without a visible fault"
            }
            Domain::Core if lags(&beyond) => {
                "a stretched clock: the effective clock falls behind the reported one"
            }
            Domain::Core => "power or heat: the clock asked for is not reached",
        };
        Some(format!(
            "Beyond {at} it is stable but not faster ({per_hundred:.1} % less for each 100 MHz): {what}."
        ))
    }
}

/// A band in a sentence.
fn band_told(band: TimingBand, axis: &Axis) -> String {
    let why = "a timing band, where timings relax with the clock and take its gain back";
    let (from, to) = (axis.show(band.from), axis.show(band.to));
    if band.is_whole() {
        return format!("From {from} to {to} it gains nothing: {why}. Nothing is kept in it.");
    }
    format!(
        "Between {from} and {to} lies {why}: {} of it bring nothing.",
        Mhz(f64::from(band.lost.0))
    )
}

/// Whether the effective clock of runs lies clearly below the reported one.
fn lags(runs: &[&TrialRecord]) -> bool {
    let behind = runs.iter().filter_map(|run| {
        let reported = run.seen.average_clock()?.value();
        Some(1.0 - run.seen.effective_clock?.value() / reported)
    });
    behind.fold(0.0, f64::max) > 0.006
}
