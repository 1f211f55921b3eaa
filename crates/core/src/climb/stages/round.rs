//! What the stages share that try a few settings one after another and keep the best, if it is better.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::climb::search::score::{Gain, decide};
use crate::climb::stages::rules::{Candidate, NudgeBy, Round, StageRules, ToGo};
use crate::climb::{Climb, Next, Purpose, Reason, Shown, Stage, TrialRecord};
use crate::judge::verdict::{Meaning, Verdict};
use crate::statistics::mean;
use crate::units::Seconds;

/// Settings that such a stage usually tries.
const USUAL_CANDIDATES: f64 = 4.0;

/// A stage that tries a few settings.
pub(in crate::climb) struct Rounds {
    pub stage: Stage,
    pub of: &'static dyn Round,
}

impl StageRules for Rounds {
    fn missing(&self, card: &CardDescription) -> Option<&'static str> {
        let has_all = self.of.moves().iter().all(|kind| card.offer(*kind).is_some());
        (!has_all).then(|| self.of.moved_in_words())
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        climb.next_of_round(self.stage)
    }

    fn found(&self, climb: &Climb) -> Option<Settings> {
        climb.kept_of_round(self.stage)
    }

    fn to_go(&self, climb: &Climb, done: f64) -> ToGo {
        let rounds = &climb.plan.rounds;
        let trials = USUAL_CANDIDATES + f64::from(rounds.most_repeats) / 2.0 - done;
        ToGo { trials: trials.max(1.0), seconds: rounds.seconds }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        self.of.moves().last().copied().map(NudgeBy::Setting)
    }

    fn round(&self) -> Option<&'static dyn Round> {
        Some(self.of)
    }
}

/// How a candidate has fared.
#[derive(Debug, Clone, PartialEq)]
pub(in crate::climb) enum Fared {
    /// Not run yet, or only in vain.
    Open,
    /// It failed, or would not be taken.
    Failed,
    /// Clean, with so many scores of this mean.
    Scored { score: f64, runs: usize },
}

/// What a round comes to.
#[derive(Debug, Clone, PartialEq)]
pub struct RoundReport {
    /// Which stage.
    pub stage: Stage,
    /// What it keeps; none where nothing is better than before.
    pub settings: Option<Settings>,
    /// Gain in frame rate by section of the load, percent: for which scenes it pays.
    pub sections: Vec<(usize, f64)>,
    /// What it began with.
    pub base: Shown,
    /// The best of the others so far, with its gain in percent.
    pub best: Option<(Shown, f64)>,
    /// How each of the others fared that was run.
    pub tried: Vec<RoundEntry>,
}

impl RoundReport {
    /// Gain of the best over what it began with, percent.
    #[must_use]
    pub fn gain_percent(&self) -> Option<f64> {
        self.best.as_ref().map(|(_, gain)| *gain)
    }
}

/// How one of the settings that a round compares fared.
#[derive(Debug, Clone, PartialEq)]
pub struct RoundEntry {
    /// What it is.
    pub what: Shown,
    /// Gain over what the round began with, percent; none where it does not hold.
    pub gain_percent: Option<f64>,
    /// Whether its lowest clock made it throttle.
    pub throttles: bool,
}

impl Climb {
    /// Runs that tell how settings fare, wherever in the climb they were made.
    pub(super) fn runs_at(&self, settings: &Settings) -> Vec<&TrialRecord> {
        self.trials.iter().filter(|trial| trial.held() == *settings).collect()
    }

    pub(super) fn fared(&self, settings: &Settings) -> Fared {
        let runs = self.runs_at(settings);
        let scores: Vec<f64> = runs
            .iter()
            .filter(|run| !matches!(run.verdict().meaning(), Meaning::ProvesNothing))
            .filter_map(|run| self.figure(run))
            .collect();
        let refused = self.in_vain_at(settings) > self.plan.rules.retries as usize;
        if refused || self.is_barred(settings) || runs.iter().any(|run| run.verdict().is_fault()) {
            return Fared::Failed;
        }
        match mean(&scores) {
            Some(score) => Fared::Scored { score, runs: scores.len() },
            None => Fared::Open,
        }
    }

    pub(super) fn in_vain_at(&self, settings: &Settings) -> usize {
        let proves_nothing = |run: &&TrialRecord| run.verdict().meaning() == Meaning::ProvesNothing;
        let asked = self.trials.iter().filter(|trial| trial.asked == *settings);
        asked.filter(|run| !run.was_stopped()).filter(proves_nothing).count()
    }

    /// What a stage tries, as far as the runs so far tell, beginning with what it is compared with.
    fn candidates(&self, stage: Stage) -> Vec<Candidate> {
        let base = self.settings_before(stage);
        stage.rules().round().map_or_else(Vec::new, |round| round.candidates(self, base))
    }

    /// Gain of one over another, in shares, and its standard error.
    pub(super) fn difference(&self, one: &Fared, other: &Fared) -> Option<(f64, f64)> {
        let (Fared::Scored { score, runs }, Fared::Scored { score: base, runs: of_base }) =
            (one, other)
        else {
            return None;
        };
        let error = self.scatter() * (1.0 / *runs as f64 + 1.0 / *of_base as f64).sqrt();
        Some((score / base - 1.0, error))
    }

    /// The best candidate beside the first, with its gain over it and whether that is one.
    fn best_of(&self, all: &[Candidate]) -> Option<(usize, f64, Gain)> {
        let first = self.fared(&all.first()?.settings);
        let gains = all.iter().enumerate().skip(1).filter_map(|(at, candidate)| {
            let (gain, error) = self.difference(&self.fared(&candidate.settings), &first)?;
            Some((at, gain, error))
        });
        let (at, gain, error) = gains.max_by(|a, b| a.1.total_cmp(&b.1))?;
        let rules = &self.plan.score;
        let (least, alarm) = (rules.least_gain_percent / 100.0, rules.false_alarm_percent / 100.0);
        Some((at, gain, decide(gain, error, least, alarm)))
    }

    /// What a round wants next; `None` when it is over.
    fn next_of_round(&self, stage: Stage) -> Option<Next> {
        if self.is_over(stage) {
            return None;
        }
        if let Some(stuck) = self.stuck_in_vain(stage) {
            return Some(stuck);
        }
        let all = self.candidates(stage);
        let open = all.iter().enumerate().find(|(_, one)| self.fared(&one.settings) == Fared::Open);
        let (candidate, purpose, reason) = match open {
            Some((0, first)) => {
                (first, Purpose::Step, Reason::CompareFirst { what: first.what.clone() })
            }
            Some((at, one)) => {
                let (what, left) = (one.what.clone(), all.len() - at);
                (one, Purpose::Step, Reason::CompareNext { what, left })
            }
            None => self.round_repeat(stage, &all)?,
        };
        let measured = Seconds(self.plan.rounds.seconds);
        let proposal = self.proposal(stage, purpose, candidate.settings, measured, reason);
        Some(Next::Trial(Box::new(proposal)))
    }

    /// The best or the first once more, where it is not clear which is better.
    fn round_repeat<'a>(
        &self,
        stage: Stage,
        all: &'a [Candidate],
    ) -> Option<(&'a Candidate, Purpose, Reason)> {
        let (at, gain, known) = self.best_of(all)?;
        let made = self
            .counted_of(stage)
            .filter(|run| run.purpose == Purpose::Repeat)
            .filter(|run| run.verdict().meaning() != Meaning::ProvesNothing)
            .count();
        if known != Gain::Open || made >= self.plan.rounds.most_repeats as usize {
            return None;
        }
        let runs = |candidate: &Candidate| match self.fared(&candidate.settings) {
            Fared::Scored { runs, .. } => runs,
            _ => 0,
        };
        let (first, best) = (&all[0], &all[at]);
        let again = if runs(first) < runs(best) { first } else { best };
        let reason = Reason::CompareAgain {
            better: best.what.clone(),
            gain_percent: gain * 100.0,
            than: first.what.clone(),
            again: again.what.clone(),
        };
        Some((again, Purpose::Repeat, reason))
    }

    /// What a round keeps; none where nothing is clearly better than what it began with.
    fn kept_of_round(&self, stage: Stage) -> Option<Settings> {
        if !self.counts(stage) {
            return None;
        }
        let all = self.candidates(stage);
        let (at, _, known) = self.best_of(&all)?;
        (known == Gain::Clear).then(|| all[at].settings)
    }

    /// What a round comes to; `None` before its first trial.
    #[must_use]
    pub fn round_report(&self, stage: Stage) -> Option<RoundReport> {
        if stage.rules().round().is_none() || !self.has_begun(stage) {
            return None;
        }
        let all = self.candidates(stage);
        let best = self.best_of(&all);
        let settings = self.kept_of_round(stage);
        let sections = best.map_or_else(Vec::new, |(at, ..)| {
            self.gain_by_section(&all[0].settings, &all[at].settings)
        });
        let tried = all.iter().skip(1).filter_map(|one| self.entry(one, &all[0])).collect();
        let best = best.map(|(at, gain, _)| (all[at].what.clone(), gain * 100.0));
        let base = all[0].what.clone();
        Some(RoundReport { stage, settings, sections, base, best, tried })
    }

    /// How a candidate fared; `None` where it was not run.
    fn entry(&self, candidate: &Candidate, first: &Candidate) -> Option<RoundEntry> {
        let fared = self.fared(&candidate.settings);
        let what = candidate.what.clone();
        if fared == Fared::Failed {
            return Some(RoundEntry { what, gain_percent: None, throttles: false });
        }
        let (gain, _) = self.difference(&fared, &self.fared(&first.settings))?;
        let is_raised = candidate.settings.clock_minimum != first.settings.clock_minimum;
        let mut runs = self.runs_at(&candidate.settings).into_iter();
        let throttles = is_raised && runs.any(|run| run.verdict() == Verdict::Throttled);
        Some(RoundEntry { what, gain_percent: Some(gain * 100.0), throttles })
    }

    /// Gain in frame rate of each section of the load, percent.
    fn gain_by_section(&self, base: &Settings, other: &Settings) -> Vec<(usize, f64)> {
        let rates = |settings: &Settings| {
            let mut all: std::collections::BTreeMap<usize, Vec<f64>> = Default::default();
            for run in self.runs_at(settings) {
                for section in &run.seen.sections {
                    all.entry(section.section).or_default().push(section.frame_rate);
                }
            }
            all
        };
        let (before, after) = (rates(base), rates(other));
        after
            .iter()
            .filter_map(|(section, rates)| {
                let base = mean(before.get(section)?)?;
                Some((*section, (mean(rates)? / base - 1.0) * 100.0))
            })
            .collect()
    }
}
