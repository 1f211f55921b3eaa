//! How what the stages find comes together: each begins with what those before it keep, and moves its own settings from
//! there, so that the last that keeps something keeps all of it.
//!
//! ```text
//!   power ─► limits ─► core, memory, together ─► clocks ─► max-clock ... balanced ─► voltage ─► window, timing ─► all
//! ```
//!
//! A stage that looks for more score and ends with less than what it began with is passed over. One that gives score up on
//! purpose, for less noise and heat, is not.

use crate::card::description::SettingKind;
use crate::card::settings::Settings;
use crate::climb::stages::power::RAISED;
use crate::climb::{Climb, Stage};
use crate::load::artifact::Domain;
use crate::statistics::mean;
use crate::units::MhzOffset;

/// What the stages that search down in a voltage move themselves.
const fn own_of(domain: Domain) -> &'static [SettingKind] {
    match domain {
        Domain::Core => &[
            SettingKind::CoreOffset,
            SettingKind::ClockMinimum,
            SettingKind::ClockMaximum,
            SettingKind::VoltageOffset,
            SettingKind::Curve,
        ],
        Domain::Memory => &[SettingKind::MemoryOffset, SettingKind::MemoryVoltage],
    }
}
impl Climb {
    /// What the stages before this one keep.
    pub(in crate::climb) fn settings_before(&self, stage: Stage) -> Settings {
        self.kept_until(stage).1
    }

    /// The same with a domain's clock and voltage at stock: what a stage begins with that moves them.
    pub(in crate::climb) fn with_stock(&self, domain: Domain, stage: Stage) -> Settings {
        self.put_back(self.settings_before(stage), own_of(domain))
    }

    /// Settings with the limits at stock.
    pub(in crate::climb) fn with_limits_at_stock(&self, settings: Settings) -> Settings {
        self.put_back(settings, &RAISED)
    }

    /// Settings with some kinds of them at stock.
    pub(in crate::climb) fn put_back<'a>(
        &self,
        mut settings: Settings,
        kinds: impl IntoIterator<Item = &'a SettingKind>,
    ) -> Settings {
        let stock = Settings::stock(&self.card);
        kinds.into_iter().for_each(|kind| settings.copy(*kind, &stock));
        settings
    }

    /// What the stages before `until` keep, and which of those after the two clocks it was that found it; none where
    /// core, memory and power did.
    pub(in crate::climb) fn kept_until(&self, until: Stage) -> (Option<Stage>, Settings) {
        *self.known.kept[until as usize].get_or_init(|| {
            let at = self.stages.iter().position(|stage| *stage == until);
            let before = &self.stages[..at.unwrap_or(self.stages.len())];
            let mut pair = self.kept_pair();
            for (stage, domain) in [(Stage::Core, Domain::Core), (Stage::Memory, Domain::Memory)] {
                // What is searched for only later is no ground to build on.
                if !before.contains(&stage) {
                    pair.set(domain, MhzOffset::STOCK);
                }
            }
            let first = (None, self.settings_to_keep(pair));
            before.iter().fold(first, |kept, stage| match stage.rules().found(self) {
                Some(found) if !self.is_passed_over(*stage, &found, &kept.1) => {
                    (Some(*stage), found)
                }
                _ => kept,
            })
        })
    }

    /// Whether a stage that looks for more score has found less than what was kept before it.
    fn is_passed_over(&self, stage: Stage, found: &Settings, before: &Settings) -> bool {
        !stage.rules().gives_score_up()
            && self.gain_over(found, before).is_some_and(|gain| gain < 0.0)
    }

    /// By how much settings score more than others under the load of the searches, in shares; none where one of the two
    /// has no score.
    pub(in crate::climb) fn gain_over(&self, one: &Settings, other: &Settings) -> Option<f64> {
        let score = |settings: &Settings| {
            let runs = self.clean_under(&self.plan.scene, settings);
            mean(&runs.filter_map(|run| self.figure(run)).collect::<Vec<_>>())
        };
        Some(score(one)? / score(other)?.max(1e-9) - 1.0)
    }

    /// By how much what a stage found scores less than what was kept before it, percent; none where it is not passed over.
    #[must_use]
    pub fn passed_over(&self, stage: Stage) -> Option<f64> {
        let (found, before) = (stage.rules().found(self)?, self.settings_before(stage));
        let is_passed_over = self.is_passed_over(stage, &found, &before);
        is_passed_over.then(|| self.gain_over(&found, &before).unwrap_or_default() * -100.0)
    }
}
