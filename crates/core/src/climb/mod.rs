//! The climb: a state machine that is given what happened and answers with the next proposal and
//! its reason. It does no I/O, knows no clock and keeps nothing but the trials it was told of, so
//! that handing it the same trials again (from a ledger) brings it to the same place.
//!
//! ```text
//!            TrialEnded, Marked, Nudged, StageEnded
//!   engine ────────────────────────────────────────► Climb
//!          ◄────────────────────────────────────────
//!            next(): a trial and why | ended | stuck
//! ```

mod baseline;
mod ladder;
mod outcome;
mod record;

pub use baseline::Baseline;
pub use ladder::{Bracket, Failure, Ladder, LadderStep};
pub use outcome::{Outcome, Outlook};
pub use record::{InStepRecord, Purpose, Stage, TrialRecord};

use crate::card::{CardDescription, SettingKind};
use crate::fan::Fan;
use crate::plan::Plan;
use crate::settings::Settings;
use crate::statistics::mean;
use crate::units::{Celsius, MhzOffset, Percent, Seconds};
use crate::verdict::{Reference, Verdict};

/// A trial to be carried out.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialRequest {
    /// Stage it belongs to.
    pub stage: Stage,
    /// What it is for.
    pub purpose: Purpose,
    /// Settings to ask for.
    pub asked: Settings,
    /// Length in all, warm-up included.
    pub seconds: Seconds,
    /// Part at the beginning that does not count towards the score, as it is expected.
    pub warm_up: Seconds,
    /// Shortest and longest warm-up. Between them it ends as soon as the card is warm, and the
    /// trial with it so much sooner or later.
    pub warm_up_bounds: (Seconds, Seconds),
}

/// The next trial, why it is the next, and whether it needs an explicit yes.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// What to do.
    pub request: TrialRequest,
    /// Why, in a sentence.
    pub reason: String,
    /// Set where the trial must not run without an explicit yes: what might happen.
    pub risk: Option<String>,
}

/// What a climb answers when asked what comes next.
#[derive(Debug, Clone, PartialEq)]
pub enum Next {
    /// This trial.
    Trial(Box<Proposal>),
    /// Nothing: the climb has its outcome.
    Ended(Box<Outcome>),
    /// Nothing: the climb cannot go on; why, and the way out.
    Stuck(String),
}

/// What a climb is told.
#[derive(Debug, Clone, PartialEq)]
pub enum ClimbEvent {
    /// A trial has its verdict.
    TrialEnded(Box<TrialRecord>),
    /// The user says otherwise about a trial; `None` takes that back.
    Marked {
        /// Number of the trial in this climb.
        trial: u32,
        /// The user's verdict.
        verdict: Option<Verdict>,
    },
    /// The user wants this value tried next; `None` leaves it to the plan again.
    Nudged(Option<MhzOffset>),
    /// The user wants these settings tried next, whatever the plan; `None` leaves it to the plan.
    Wished(Option<Box<Settings>>),
    /// The user ends a stage with what is known.
    StageEnded(Stage),
}

/// One search on one card.
#[derive(Debug, Clone)]
pub struct Climb {
    card: CardDescription,
    plan: Plan,
    stages: Vec<Stage>,
    trials: Vec<TrialRecord>,
    ended: Vec<Stage>,
    nudged: Option<MhzOffset>,
    wished: Option<Box<Settings>>,
}

/// Why a climb cannot be laid out.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ClimbError {
    /// No stage was named.
    #[error("a climb needs at least one stage; there are: baseline, core")]
    NoStage,
    /// A stage that compares needs something to compare with.
    #[error("stage {0} compares with the baseline: name baseline before it, as in baseline,{0}")]
    NoBaseline(Stage),
    /// The card has no such setting.
    #[error("stage {stage} moves the {setting}, which {card} does not offer")]
    NotOffered {
        /// The stage.
        stage: Stage,
        /// What it would move.
        setting: &'static str,
        /// The card.
        card: String,
    },
}

impl Climb {
    /// A climb over `stages`, in their order, with nothing done yet.
    ///
    /// # Errors
    /// No stage, a stage before its baseline, or one whose setting the card does not offer.
    pub fn new(card: CardDescription, plan: Plan, stages: &[Stage]) -> Result<Self, ClimbError> {
        if stages.is_empty() {
            return Err(ClimbError::NoStage);
        }
        if let Some(first) = stages.first().filter(|stage| **stage != Stage::Baseline) {
            return Err(ClimbError::NoBaseline(*first));
        }
        if stages.contains(&Stage::Core) && card.offer(SettingKind::CoreOffset).is_none() {
            return Err(ClimbError::NotOffered {
                stage: Stage::Core,
                setting: SettingKind::CoreOffset.label(),
                card: card.name,
            });
        }
        let mut distinct: Vec<Stage> = Vec::new();
        for stage in stages {
            if !distinct.contains(stage) {
                distinct.push(*stage);
            }
        }
        let (trials, ended) = (Vec::new(), Vec::new());
        Ok(Self { card, plan, stages: distinct, trials, ended, nudged: None, wished: None })
    }

    /// Takes in what happened.
    pub fn handle(&mut self, event: ClimbEvent) {
        match event {
            ClimbEvent::TrialEnded(record) => {
                (self.nudged, self.wished) = (None, None);
                self.trials.push(*record);
            }
            ClimbEvent::Marked { trial, verdict } => {
                if let Some(record) = self.trials.iter_mut().find(|t| t.number == trial) {
                    record.marked = verdict;
                }
            }
            ClimbEvent::Nudged(value) => (self.nudged, self.wished) = (value, None),
            ClimbEvent::Wished(settings) => (self.nudged, self.wished) = (None, settings),
            ClimbEvent::StageEnded(stage) => {
                (self.nudged, self.wished) = (None, None);
                if !self.ended.contains(&stage) {
                    self.ended.push(stage);
                }
            }
        }
    }

    /// What comes next, and why.
    #[must_use]
    pub fn next(&self) -> Next {
        if let Some(settings) = &self.wished {
            return Next::Trial(Box::new(self.wished_proposal(settings)));
        }
        if let Some(value) = self.nudged {
            return Next::Trial(Box::new(self.own_proposal(value)));
        }
        if let Some(next) = self.next_of_baseline() {
            return next;
        }
        if let Some(next) = self.next_of_core() {
            return next;
        }
        Next::Ended(Box::new(self.outcome()))
    }

    /// The value that `steps` fine steps from the one now proposed (or last tried) would make, in
    /// the card's bins and inside its range. `None` before there is a baseline, or where the climb
    /// has no core stage.
    #[must_use]
    pub fn nudged_by(&self, steps: i32) -> Option<MhzOffset> {
        if !self.stages.contains(&Stage::Core) || self.baseline().is_none() {
            return None;
        }
        let proposed = match self.next() {
            Next::Trial(proposal) => proposal.request.asked.core_offset,
            Next::Ended(outcome) => outcome.settings.core_offset,
            Next::Stuck(_) => self.trials.last().and_then(|trial| trial.asked.core_offset),
        };
        let step = self.ladder().fine();
        let wanted = proposed.unwrap_or_default() + MhzOffset(step.0.saturating_mul(steps));
        let offer = self.card.offer(SettingKind::CoreOffset)?;
        Some(MhzOffset(offer.bin(f64::from(wanted.0)) as i32))
    }

    /// Stage in which the next trial lies; where there is none, the one that is stuck, or the last.
    #[must_use]
    pub fn stage(&self) -> Stage {
        match self.next() {
            Next::Trial(proposal) => proposal.request.stage,
            Next::Stuck(_) if self.baseline().is_none() => Stage::Baseline,
            _ => self.stages.last().copied().unwrap_or(Stage::Baseline),
        }
    }

    /// The card climbed on.
    #[must_use]
    pub fn card(&self) -> &CardDescription {
        &self.card
    }

    /// The plan followed.
    #[must_use]
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// The stages, in order.
    #[must_use]
    pub fn stages(&self) -> &[Stage] {
        &self.stages
    }

    /// All trials with a verdict, in order.
    #[must_use]
    pub fn trials(&self) -> &[TrialRecord] {
        &self.trials
    }

    /// Where the edge of the core clock is believed to lie; `None` for a climb without that stage.
    #[must_use]
    pub fn bracket(&self) -> Option<Bracket> {
        self.stages.contains(&Stage::Core).then(|| self.ladder().bracket(&self.trials))
    }

    /// What scores are compared with; none before the baseline is complete.
    #[must_use]
    pub fn reference(&self) -> Option<Reference> {
        let baseline = self.baseline()?;
        let tolerance = self.plan.rules.slower_tolerance_percent.max(3.0 * baseline.noise.value());
        Some(Reference {
            score: baseline.score,
            average_clock: baseline.average_clock,
            tolerance: Percent(tolerance),
        })
    }

    /// Stock, with what the plan holds and the given offset.
    #[must_use]
    pub fn settings_at(&self, offset: MhzOffset) -> Settings {
        let mut settings = Settings::stock(&self.card);
        if self.card.offer(SettingKind::CoreOffset).is_some() {
            settings.core_offset = Some(offset);
        }
        if self.card.offer(SettingKind::Fan).is_some() {
            settings.fan = Some(Fan::Fixed(Percent(self.plan.hold.fan_percent)));
        }
        settings
    }

    fn warm_up_bounds(&self) -> (Seconds, Seconds) {
        let least = self.plan.core.warm_up_seconds;
        (Seconds(least), Seconds(least.max(self.plan.baseline.warm_up_seconds)))
    }

    /// Temperature to which a warm card comes under this climb's load, as far as the baseline runs
    /// that count have told.
    #[must_use]
    pub fn known_plateau(&self) -> Option<Celsius> {
        let plateaus = self.counted_baseline_runs().filter_map(|run| run.seen.plateau);
        mean(&plateaus.map(Celsius::value).collect::<Vec<_>>()).map(Celsius)
    }

    fn stage_is_ended(&self, stage: Stage) -> bool {
        self.ended.contains(&stage)
    }

    fn trials_of(&self, stage: Stage) -> impl DoubleEndedIterator<Item = &TrialRecord> {
        self.trials.iter().filter(move |trial| trial.stage == stage)
    }

    fn own_proposal(&self, value: MhzOffset) -> Proposal {
        let core = &self.plan.core;
        Proposal {
            request: TrialRequest {
                stage: Stage::Core,
                purpose: Purpose::Own,
                asked: self.settings_at(value),
                seconds: Seconds(core.warm_up_seconds + core.seconds),
                warm_up: Seconds(core.warm_up_seconds),
                warm_up_bounds: self.warm_up_bounds(),
            },
            reason: format!("{value} is your own wish, not the plan's."),
            risk: self.risk(value),
        }
    }

    fn wished_proposal(&self, settings: &Settings) -> Proposal {
        let core = &self.plan.core;
        let moved = settings.moved_from_stock(&self.card);
        let what = if moved.is_empty() { "Stock settings".into() } else { moved.join(", ") };
        Proposal {
            request: TrialRequest {
                stage: Stage::Own,
                purpose: Purpose::Own,
                asked: *settings,
                seconds: Seconds(core.warm_up_seconds + core.seconds),
                warm_up: Seconds(core.warm_up_seconds),
                warm_up_bounds: self.warm_up_bounds(),
            },
            reason: format!("{what}: your own wish. The ladder learns nothing from it."),
            risk: self.risk_of(settings),
        }
    }

    /// What might happen under settings of the user's own: the same were tried before and took the
    /// machine down, or their core clock offset was.
    fn risk_of(&self, settings: &Settings) -> Option<String> {
        let same = self
            .trials
            .iter()
            .find(|trial| trial.verdict() == Verdict::MachineDown && trial.asked == *settings);
        let told = same.map(|trial| {
            format!(
                "Trial {} with the very same settings took the machine down. It may do so again, \
                 and what is open on this machine may be lost.",
                trial.number
            )
        });
        told.or_else(|| self.risk(settings.core_offset.unwrap_or_default()))
    }

    /// What might happen at a value, where one at or below it took the machine down.
    fn risk(&self, value: MhzOffset) -> Option<String> {
        let worst = self
            .trials
            .iter()
            .filter(|trial| trial.verdict() == Verdict::MachineDown)
            .filter(|trial| trial.offset() > MhzOffset::STOCK && trial.offset() <= value)
            .min_by_key(|trial| trial.offset())?;
        Some(format!(
            "Trial {} at {} took the machine down. {value} may do so again, and what is open on \
             this machine may be lost.",
            worst.number,
            worst.offset()
        ))
    }
}

#[cfg(test)]
mod tests;
