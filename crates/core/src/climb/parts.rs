//! What each setting contributed: the gain split by setting.
//!
//! What a setting brings is the score with it less the score without it, everything else as kept.
//! Where a run without it was made, that is measured; else it is estimated from what it brought
//! alone. What is left over is what the settings take from each other, or give.

use crate::card::description::SettingKind;
use crate::card::settings::Settings;
use crate::climb::{Climb, Next, Purpose, Reason, Stage};
use crate::load::artifact::Domain;
use crate::statistics::mean;
use crate::units::{MhzOffset, Seconds};

/// What one setting brings to the kept score.
#[derive(Debug, Clone, PartialEq)]
pub struct Part {
    /// The setting, in a word or two.
    pub name: &'static str,
    /// What it brings, in percent of the baseline's score.
    pub percent: f64,
    /// Standard error of that, in percent.
    pub error: f64,
    /// Whether it was measured by leaving it out, rather than estimated from what it brought alone.
    pub is_measured: bool,
}

/// Settings that can be left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Left {
    Power,
    Core,
    Memory,
    Voltage,
    MemoryVoltage,
    Timing,
    Window,
    Curve,
    Fan,
}

impl Left {
    const ALL: [Self; 9] = [
        Self::Power,
        Self::Core,
        Self::Memory,
        Self::Voltage,
        Self::MemoryVoltage,
        Self::Timing,
        Self::Window,
        Self::Curve,
        Self::Fan,
    ];

    const fn name(self) -> &'static str {
        match self {
            Self::Power => "power limit",
            Self::Core => "core clock",
            Self::Memory => "memory clock",
            Self::Voltage => "voltage",
            Self::MemoryVoltage => "memory voltage",
            Self::Timing => "memory timing",
            Self::Window => "clock window",
            Self::Curve => "V/F curve",
            Self::Fan => "fan",
        }
    }
}

impl Climb {
    /// What the climb keeps now.
    fn whole(&self) -> Settings {
        let checked = Stage::CrossCheck.rules().found(self);
        checked.unwrap_or_else(|| self.kept_until(Stage::CrossCheck).1)
    }

    /// The kept settings without one of them; none where it is at stock anyway.
    fn without_part(&self, whole: Settings, left: Left) -> Option<Settings> {
        let held = self.held_settings();
        let mut less = whole;
        let stock_of = |domain, mut settings: Settings| {
            if let Some(axis) = self.axis(domain) {
                axis.write(&mut settings, MhzOffset::STOCK);
            }
            settings
        };
        match left {
            Left::Core => less = stock_of(Domain::Core, less),
            Left::Memory => less = stock_of(Domain::Memory, less),
            Left::Power => {
                less.power_limit = held.power_limit;
                less.temperature_target = held.temperature_target;
            }
            Left::Voltage => less = self.put_back(less, &[SettingKind::VoltageOffset]),
            Left::MemoryVoltage => less = self.put_back(less, &[SettingKind::MemoryVoltage]),
            Left::Timing => less = self.put_back(less, &[SettingKind::MemoryTiming]),
            Left::Window => less = self.put_back(less, &[SettingKind::ClockMinimum]),
            Left::Curve => less.curve = held.curve,
            Left::Fan => less.fan = held.fan,
        }
        (less != whole).then_some(less)
    }

    /// Mean score of clean runs at settings under the load of the searches, and of how many.
    fn score_at(&self, settings: &Settings) -> Option<(f64, usize)> {
        let scores: Vec<f64> = self
            .clean_under(&self.plan.scene, settings)
            .filter_map(|trial| self.figure(trial))
            .collect();
        Some((mean(&scores)?, scores.len()))
    }

    /// What each of the kept settings brings. Empty before a run at the kept settings has a score.
    #[must_use]
    pub fn parts(&self) -> Vec<Part> {
        let kept = self.kept_pair();
        let Some(baseline) = self.baseline().map(|baseline| baseline.score) else {
            return Vec::new();
        };
        let settings = self.whole();
        let Some((whole, runs)) = self.score_at(&settings) else { return Vec::new() };

        let scatter = self.scatter() * 100.0;
        let (mut parts, mut all_known) = (Vec::new(), true);
        for left in Left::ALL {
            let Some(less) = self.without_part(settings, left) else { continue };
            let measured = self.score_at(&less).map(|(score, count)| Part {
                name: left.name(),
                percent: (whole - score) / baseline * 100.0,
                error: scatter * (1.0 / runs as f64 + 1.0 / count as f64).sqrt(),
                is_measured: true,
            });
            let estimate = || {
                let (gain, error) = match left {
                    // Under the load of the searches, as the others.
                    Left::Power => self.power_gain(&self.plan.scene)?,
                    Left::Core => self.gain_alone(Domain::Core, kept.core).map(|g| (g.0, g.1))?,
                    Left::Memory => {
                        self.gain_alone(Domain::Memory, kept.memory).map(|g| (g.0, g.1))?
                    }
                    _ => return None,
                };
                let (percent, error) = (gain * 100.0, error * 100.0);
                Some(Part { name: left.name(), percent, error, is_measured: false })
            };
            let part = measured.or_else(estimate);
            all_known &= part.is_some();
            parts.extend(part);
        }
        let sum: f64 = parts.iter().map(|part| part.percent).sum();
        let rest = (whole / baseline - 1.0) * 100.0 - sum;
        if parts.len() > 1 {
            parts.push(Part {
                // Without a run or an estimate of some, the rest is theirs, too.
                name: if all_known { "with each other" } else { "the rest" },
                percent: rest,
                error: parts.iter().map(|part| part.error.powi(2)).sum::<f64>().sqrt(),
                is_measured: all_known && parts.iter().all(|part| part.is_measured),
            });
        }
        parts
    }

    /// Whether the user wants each setting's part of the gain measured.
    #[must_use]
    pub fn is_leaving_out(&self) -> bool {
        self.leaving_out
    }

    /// The next run that leaves one setting out, if the user wants its part measured.
    pub(in crate::climb) fn next_left_out(&self) -> Option<Next> {
        if !self.leaving_out {
            return None;
        }
        let whole = self.whole();
        let (left, asked) = Left::ALL.into_iter().find_map(|left| {
            let less = self.without_part(whole, left)?;
            let in_vain = self
                .trials
                .iter()
                .filter(|trial| trial.purpose == Purpose::LeaveOut && trial.asked == less)
                .count();
            let wanted =
                self.score_at(&less).is_none() && in_vain <= self.plan.rules.retries as usize;
            wanted.then_some((left, less))
        })?;
        let measured = Seconds(self.plan.power.seconds);
        let reason = Reason::LeftOut { what: left.name() };
        let proposal = self.proposal(Stage::Own, Purpose::LeaveOut, asked, measured, reason);
        Some(Next::Trial(Box::new(proposal)))
    }
}
