//! Which setting was it? What a failed trial had moved goes back to stock half by half, and the same scene runs again: a half
//! that fails by itself is halved again, until it is one setting, or some that fail only together.
//!
//! This is the minimising of delta debugging (Zeller and Hildebrandt, *Simplifying and Isolating Failure-Inducing Input*,
//! 2002), but for one thing: where both halves fail, both are looked into.

use crate::card::description::SettingKind;
use crate::card::settings::Settings;
use crate::climb::stages::power::RAISED;
use crate::climb::{Climb, Next, Proposal, Purpose, Reason, Stage, TrialRecord};
use crate::judge::verdict::Meaning;
use crate::load::artifact::Domain;

/// What goes back to stock as one, named by its first setting: the limits and what serves both clocks, then the core's, then
/// the memory's.
const PARTS: [&[SettingKind]; 8] = [
    &RAISED,
    &[SettingKind::CoreOffset],
    &[SettingKind::ClockMaximum, SettingKind::ClockMinimum],
    &[SettingKind::VoltageOffset],
    &[SettingKind::Curve],
    &[SettingKind::MemoryOffset],
    &[SettingKind::MemoryVoltage],
    &[SettingKind::MemoryTiming],
];

/// The domain whose edge a setting moves; none for what serves both.
const fn domain_of(kind: SettingKind) -> Option<Domain> {
    match kind {
        SettingKind::CoreOffset
        | SettingKind::ClockMinimum
        | SettingKind::ClockMaximum
        | SettingKind::VoltageOffset
        | SettingKind::Curve => Some(Domain::Core),
        SettingKind::MemoryOffset | SettingKind::MemoryVoltage | SettingKind::MemoryTiming => {
            Some(Domain::Memory)
        }
        SettingKind::PowerLimit
        | SettingKind::TemperatureTarget
        | SettingKind::Fan
        | SettingKind::FrameCap => None,
    }
}

/// How far the question has come.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Culprits {
    /// The settings that fail with all others at stock, once they are known; several in one fail only together.
    pub found: Vec<Vec<SettingKind>>,
    /// Those that stay as they were in the next run, and those that go back to stock; none once all is known.
    pub next: Option<(Vec<SettingKind>, Vec<SettingKind>)>,
}

impl Culprits {
    /// The domain that all of them move; none where they move both, or what serves both.
    pub(in crate::climb) fn domain(&self) -> Option<Domain> {
        let mut domains = self.found.iter().flatten().map(|kind| domain_of(*kind));
        let first = domains.next()??;
        domains.all(|domain| domain == Some(first)).then_some(first)
    }
}

/// The two halves of some settings: what is the memory's apart from the rest, where both are there.
fn halves(kinds: &[SettingKind]) -> (&[SettingKind], &[SettingKind]) {
    let is_memorys = |kind: &SettingKind| domain_of(*kind) == Some(Domain::Memory);
    let border = kinds.iter().position(is_memorys).filter(|at| *at > 0);
    kinds.split_at(border.unwrap_or(kinds.len() / 2))
}

impl Climb {
    /// What settings have moved that can be put back without making them bolder, each part by its first setting.
    fn suspects(&self, settings: &Settings) -> Vec<SettingKind> {
        let stock = Settings::stock(&self.card);
        let moves = |kind: &SettingKind| match kind {
            SettingKind::Curve => settings.curve.is_some(),
            kind => settings.get(*kind).is_some_and(|value| stock.get(*kind) != Some(value)),
        };
        let parts = PARTS.iter().filter(|part| {
            let less = self.without_parts(settings, &[part[0]]);
            part.iter().any(moves) && settings.is_at_least_as_bold_as(&less, &self.card)
        });
        parts.map(|part| part[0]).collect()
    }

    fn without_parts(&self, settings: &Settings, kinds: &[SettingKind]) -> Settings {
        let parts = PARTS.iter().filter(|part| kinds.contains(&part[0]));
        self.put_back(*settings, parts.copied().flatten())
    }

    /// Which settings a failed trial hangs on, as far as the runs tell that were made since to find out.
    pub(in crate::climb) fn culprits_of(&self, failed: &TrialRecord) -> Culprits {
        let all = self.suspects(&failed.asked);
        let mut culprits = Culprits::default();
        self.halve(failed, &all, &all, &mut culprits);
        culprits
    }

    /// Halves what is known to fail, with all else of `all` at stock.
    fn halve(
        &self,
        failed: &TrialRecord,
        all: &[SettingKind],
        kinds: &[SettingKind],
        culprits: &mut Culprits,
    ) {
        if kinds.len() < 2 {
            culprits.found.extend((!kinds.is_empty()).then(|| kinds.to_vec()));
            return;
        }
        let (one, other) = halves(kinds);
        let mut fails = [false; 2];
        for (half, fails) in [one, other].into_iter().zip(&mut fails) {
            let back: Vec<SettingKind> =
                all.iter().filter(|kind| !half.contains(kind)).copied().collect();
            match self.fails_again(failed, &self.without_parts(&failed.asked, &back)) {
                Some(again) => *fails = again,
                None => {
                    culprits.next.get_or_insert((half.to_vec(), back));
                    return;
                }
            }
        }
        match fails {
            [false, false] => culprits.found.push(kinds.to_vec()),
            [one_fails, other_fails] => {
                for (half, _) in [(one, one_fails), (other, other_fails)].iter().filter(|h| h.1) {
                    self.halve(failed, all, half, culprits);
                }
            }
        }
    }

    /// Whether settings have failed in a run that was made to find out about a failed trial; what is as bold as what took
    /// the machine down is not asked again.
    fn fails_again(&self, failed: &TrialRecord, settings: &Settings) -> Option<bool> {
        let again = self.trials.iter().rev().find(|trial| {
            trial.number > failed.number
                && trial.purpose == Purpose::Isolate
                && trial.asked == *settings
                && trial.scene == failed.scene
                && trial.verdict().meaning() != Meaning::ProvesNothing
        });
        let fails = again.map(|trial| trial.verdict().meaning() == Meaning::TooMuch);
        fails.or(self.is_barred(settings).then_some(true))
    }

    /// The run that the question about a failed trial needs next; none once it is answered.
    pub(in crate::climb) fn next_of_culprits(
        &self,
        failed: &TrialRecord,
        stage: Stage,
    ) -> Option<Proposal> {
        let (kept, back) = self.culprits_of(failed).next?;
        let length = failed.long_enough_again(self.plan.together.isolate_seconds);
        let asked = self.without_parts(&failed.asked, &back);
        let (trial, verdict) = (failed.number, failed.verdict());
        let reason = Reason::Isolating { trial, verdict, kept, back };
        Some(self.proposal(stage, Purpose::Isolate, asked, length, reason).under(&failed.scene))
    }

    /// The question the user asked: of which trial, and how far it has come.
    #[must_use]
    pub fn culprits(&self) -> Option<(u32, Culprits)> {
        let failed = self.asked_about()?;
        Some((failed.number, self.culprits_of(failed)))
    }

    pub(in crate::climb) fn asked_about(&self) -> Option<&TrialRecord> {
        self.trials.iter().find(|trial| Some(trial.number) == self.isolating)
    }

    /// The run that the user's question needs next.
    pub(in crate::climb) fn next_asked(&self) -> Option<Next> {
        let proposal = self.next_of_culprits(self.asked_about()?, Stage::Own)?;
        Some(Next::Trial(Box::new(proposal)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_setting_that_can_make_a_card_fail_is_in_one_part() {
        for kind in SettingKind::ALL {
            let parts = PARTS.iter().filter(|part| part.contains(&kind)).count();
            let is_harmless = matches!(kind, SettingKind::Fan | SettingKind::FrameCap);
            assert_eq!(parts, usize::from(!is_harmless), "{kind:?}");
        }
    }
}
