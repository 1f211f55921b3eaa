//! The climb: a state machine that is given what happened and returns the next proposal and
//! its reason. It does no I/O, knows no clock and keeps nothing but the trials it was told of, so
//! that handing it the same trials again (from a ledger) brings it to the same place.
//!
//! ```text
//!            TrialEnded, Marked, Nudged, StageEnded
//!   engine ────────────────────────────────────────► Climb
//!          ◄────────────────────────────────────────
//!            next(): a trial and why | ended | stuck
//! ```

mod advice;
mod at_stock;
mod by_load;
mod charts;
mod claim;
mod culprits;
mod downed;
mod fault_places;
mod forecast;
mod isolation;
mod joined;
mod lesson;
mod nudge;
mod outcome;
mod outlook;
mod pair;
mod parts;
mod reason;
mod record;
mod search;
mod soaked;
mod stages;
mod start;
mod steps;
mod stock;
mod suggestion;

pub use advice::{Advice, StableYetSlower, WhySlower};
pub use at_stock::AtStock;
pub use by_load::{LoadGain, Ratio};
pub use charts::{ChartTrial, Map, RISKED, Stairs, in_short};
pub use claim::{Claim, Conditions};
pub use culprits::Culprits;
pub use downed::Downed;
pub use fault_places::FaultPlaces;
pub use forecast::{Estimate, Forecast, forecast};
pub use nudge::Nudge;
pub use outcome::Outcome;
pub use outlook::{Left, Outlook};
pub use pair::Pair;
pub use parts::Part;
pub use reason::{Above, OtherLimit, Reason, Risk, Shown, StepSize, Stuck};
pub use record::{InStepRecord, Purpose, Stage, TrialRecord};
pub use search::axis::{Axis, asks_more_clock};
pub use search::bands::TimingBand;
pub use search::bayesian::Surprise;
pub use search::belief::{EdgeBelief, Prospect};
pub use search::depth::Depth;
pub use search::experience::{Expectation, Experience, Lesson};
pub use search::score::{Bend, Gain, ScoreLine};
pub use search::{Bracket, Failure};
pub use soaked::{SoakEnd, SoakFault, SoakRun, Soaked};
pub use stages::baseline::{Baseline, BaselineProgress};
pub use stages::order::{Directive, StageOrder};
pub use stages::power::PowerReport;
pub use stages::round::{RoundEntry, RoundReport};
pub use stages::settle::{SettleReport, SettleStep};
pub use stages::together::Joint;
pub use stages::undervolt::{Descent, DescentTrial, Measured, StrategyReport};
pub use start::starting_from;
pub use stock::{Cure, StockReport};
pub use suggestion::{SuggestedMove, Suggestion};

use std::sync::OnceLock;

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::judge::verdict::{Reference, Verdict};
use crate::load::artifact::Domain;
use crate::machine::supply::SupplyHeadroom;
use crate::measure::monitor::Seen;
use crate::plan::Plan;
use crate::proof::soak::Soak;
use crate::statistics::mean;
use crate::units::{Celsius, MhzOffset, Percent, Seconds};

/// A trial to be carried out.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialRequest {
    /// Stage it belongs to.
    pub stage: Stage,
    /// What it is for.
    pub purpose: Purpose,
    /// Settings to ask for.
    pub asked: Settings,
    /// The load that runs.
    pub load: String,
    /// Length in all, warm-up included.
    pub seconds: Seconds,
    /// Part at the beginning that does not count towards the score, as it is expected.
    pub warm_up: Seconds,
    /// Shortest and longest warm-up. Between them it ends as soon as the card is warm, and the
    /// trial with it so much sooner or later.
    pub warm_up_bounds: (Seconds, Seconds),
    /// How long the card idles at the settings before the load begins.
    pub rest: Seconds,
}

impl TrialRequest {
    /// The trial with this verdict and nothing else known of it yet.
    #[must_use]
    pub fn judged(&self, number: u32, judged: Verdict, reason: String) -> TrialRecord {
        TrialRecord {
            number,
            stage: self.stage,
            purpose: self.purpose,
            asked: self.asked,
            taken: None,
            seen: Seen::default(),
            scene: self.load.clone(),
            seconds: Seconds(0.0),
            judged,
            reason,
            marked: None,
            score: None,
            faults: Vec::new(),
            room: None,
            in_step: Vec::new(),
            since_reset: None,
        }
    }
}

/// The next trial, why it is the next, and whether it needs an explicit yes.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// What to do.
    pub request: TrialRequest,
    /// Why.
    pub reason: Reason,
    /// Set where the trial must not run without an explicit yes: what might happen.
    pub risk: Option<Risk>,
}

impl Proposal {
    /// The same under another load.
    fn under(self, load: &str) -> Self {
        Self { request: TrialRequest { load: load.to_owned(), ..self.request }, ..self }
    }
}

/// What a climb answers when asked what comes next.
#[derive(Debug, Clone, PartialEq)]
pub enum Next {
    /// This trial.
    Trial(Box<Proposal>),
    /// Nothing: the climb has its outcome.
    Ended(Box<Outcome>),
    /// Nothing: the climb cannot go on; why, and the way out.
    Stuck(Stuck),
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
    /// The user wants this tried next; `None` leaves it to the plan again.
    Nudged(Option<Box<Nudge>>),
    /// The user wants these settings tried next, whatever the plan; `None` leaves it to the plan.
    Wished(Option<Box<Settings>>),
    /// The user ends, skips or repeats a stage.
    Directed(Directive),
    /// The user wants the stages in this order.
    Reordered(Vec<Stage>),
    /// The user wants other steps, another margin, or searches that start elsewhere.
    Planned(Box<Plan>),
    /// The user asks which one it was in this trial; `None` takes the question back.
    Asked(Option<u32>),
    /// The user wants each setting's part of the gain measured by leaving it out; `false` takes that back.
    LeaveOut(bool),
    /// The user wants settings proven before anything else goes on; `None` ends that.
    Soak(Option<Box<Soak>>),
    /// What took the machine down in other climbs on the same card.
    Remembered(Vec<Downed>),
    /// What earlier climbs have shown of this kind of card.
    Learnt(Box<Experience>),
    /// The climb is taken up again: what kept runs from proving anything may have been mended, so
    /// they are tried as often as at first.
    TakenUp,
    /// What a supply has left over that is too small for the highest limits; `None` where it is not
    /// known to be.
    Supply(Option<SupplyHeadroom>),
}

/// What follows from all that a climb knows, worked out when it is first asked for after an event, since it is asked for many
/// times until the next one.
#[derive(Debug, Clone, Default)]
struct WorkedOut {
    /// What is believed of both edges together.
    joint: OnceLock<Option<Joint>>,
    /// What the stages before each stage keep, and which of them found it.
    kept: [OnceLock<(Option<Stage>, Settings)>; <Stage as strum::EnumCount>::COUNT],
    /// What took the machine down and was not seen to hold since, with the number of its climb where that is another one.
    downed: OnceLock<Vec<(Option<i64>, Downed)>>,
    /// Stock with what is held, and with the power the card has been given.
    powered: OnceLock<Settings>,
    /// What core and memory come to by themselves.
    alone: [OnceLock<MhzOffset>; <Domain as strum::EnumCount>::COUNT],
}

/// One search on one card.
#[derive(Debug, Clone)]
pub struct Climb {
    card: CardDescription,
    plan: Plan,
    stages: Vec<Stage>,
    trials: Vec<TrialRecord>,
    directives: Vec<Directive>,
    nudged: Option<Box<Nudge>>,
    wished: Option<Box<Settings>>,
    remembered: Vec<Downed>,
    /// Trials there were when it was told of those.
    remembered_after: usize,
    /// Trials there were when the climb was taken up last.
    taken_up_after: usize,
    /// What a supply has left over that is too small for the highest limits.
    supply: Option<SupplyHeadroom>,
    /// The trial the user asks about.
    isolating: Option<u32>,
    /// Whether the user wants each setting's part of the gain measured.
    leaving_out: bool,
    /// What the user wants proven before anything else goes on.
    soak: Option<Box<Soak>>,
    /// What earlier climbs have shown.
    experience: Experience,
    /// What follows from all of that.
    known: WorkedOut,
}

/// Why a climb cannot be laid out.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ClimbError {
    /// No stage was named.
    #[error("a climb needs at least one stage; there are: {}", Stage::PLANNED.map(Stage::label).join(", "))]
    NoStage,
    /// A stage that compares needs something to compare with.
    #[error("stage {0} compares with the baseline: name baseline before it, as in baseline,{0}")]
    NoBaseline(Stage),
    /// A stage combines what others found.
    #[error(
        "stage together combines what core and memory found: name both before it, as in baseline,core,memory,together"
    )]
    NothingToCombine,
    /// A stage begins with a share of what another found.
    #[error(
        "stage balanced begins with a share of what core found: name core before it, as in baseline,core,balanced"
    )]
    NothingToShare,
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
    /// The card has no such setting to begin with.
    #[error("the climb cannot start from a {setting}, which {card} does not offer")]
    NoStart {
        /// What the value would be of.
        setting: &'static str,
        /// The card.
        card: String,
    },
    /// The card does not take the value to begin with.
    #[error("the climb cannot start from {asked}: {card} takes at most {most}")]
    StartBeyond {
        /// The value.
        asked: Shown,
        /// The boldest the card takes.
        most: Shown,
        /// The card.
        card: String,
    },
}

impl Climb {
    /// A climb over `stages`, in their order, with nothing done yet.
    ///
    /// # Errors
    /// No stage, a stage before what it builds on, or one whose setting the card does not offer; a value to start
    /// from that the card does not take.
    pub fn new(card: CardDescription, plan: Plan, stages: &[Stage]) -> Result<Self, ClimbError> {
        let mut stages = stages.to_vec();
        if !plan.cross_check.loads.is_empty() && stages.iter().any(|s| *s != Stage::Baseline) {
            stages.push(Stage::CrossCheck);
        }
        let stages = stages::order::checked(&card, &stages)?;
        start::check(&card, &plan)?;
        Ok(Self {
            card,
            plan,
            stages,
            trials: Vec::new(),
            directives: Vec::new(),
            nudged: None,
            wished: None,
            remembered: Vec::new(),
            remembered_after: 0,
            taken_up_after: 0,
            supply: None,
            isolating: None,
            leaving_out: false,
            soak: None,
            experience: Experience::default(),
            known: WorkedOut::default(),
        })
    }

    /// Takes in what happened.
    pub fn handle(&mut self, event: ClimbEvent) {
        self.known = WorkedOut::default();
        match event {
            ClimbEvent::TrialEnded(record) => {
                (self.nudged, self.wished) = (None, None);
                self.trials.push(*record);
                steps::learn(&mut self.card, &self.trials);
            }
            ClimbEvent::Marked { trial, verdict } => {
                if let Some(record) = self.trials.iter_mut().find(|t| t.number == trial) {
                    record.marked = verdict;
                }
            }
            ClimbEvent::Nudged(nudge) => (self.nudged, self.wished) = (nudge, None),
            ClimbEvent::Wished(settings) => (self.nudged, self.wished) = (None, settings),
            ClimbEvent::Directed(directive) => {
                (self.nudged, self.wished) = (None, None);
                self.directives.push(directive);
            }
            ClimbEvent::Reordered(stages) => {
                if let Ok(stages) = stages::order::checked(&self.card, &stages) {
                    self.stages = stages;
                }
            }
            ClimbEvent::Planned(plan) => {
                self.plan = *plan;
                let checks = !self.plan.cross_check.loads.is_empty();
                if checks && !self.stages.contains(&Stage::CrossCheck) {
                    self.stages.push(Stage::CrossCheck);
                }
            }
            ClimbEvent::Asked(trial) => self.isolating = trial,
            ClimbEvent::LeaveOut(wanted) => self.leaving_out = wanted,
            ClimbEvent::Soak(soak) => {
                (self.nudged, self.wished) = (None, None);
                self.soak = soak;
            }
            ClimbEvent::TakenUp => self.taken_up_after = self.trials.len(),
            ClimbEvent::Learnt(experience) => self.experience = *experience,
            ClimbEvent::Supply(headroom) => self.supply = headroom,
            ClimbEvent::Remembered(downed) => {
                (self.remembered, self.remembered_after) = (downed, self.trials.len());
            }
        }
    }

    /// What comes next, and why: what the user wants, else what the first stage wants that is not
    /// over.
    #[must_use]
    pub fn next(&self) -> Next {
        let mut next = self.next_without_risk();
        if let Next::Trial(proposal) = &mut next {
            let asked = &proposal.request.asked;
            proposal.risk = self.risk_of(asked).or_else(|| self.supply_risk_of(asked));
        }
        next
    }

    fn next_without_risk(&self) -> Next {
        if let Some(settings) = &self.wished {
            return Next::Trial(Box::new(self.wished_proposal(settings)));
        }
        if let Some(nudge) = &self.nudged {
            return Next::Trial(Box::new(self.nudged_proposal(nudge)));
        }
        self.next_soaked()
            .or_else(|| self.next_asked())
            .or_else(|| self.stages.iter().find_map(|stage| self.next_of(*stage)))
            .or_else(|| self.next_left_out())
            .unwrap_or_else(|| Next::Ended(Box::new(self.outcome())))
    }

    /// What a stage wants next; `None` when it is over.
    fn next_of(&self, stage: Stage) -> Option<Next> {
        stage.rules().next(self)
    }

    /// The first stage that is not over; the last one where all are.
    #[must_use]
    pub fn stage(&self) -> Stage {
        let working = self.stages.iter().find(|stage| self.next_of(**stage).is_some());
        working.or(self.stages.last()).copied().unwrap_or(Stage::Baseline)
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

    /// What earlier climbs have shown, as it was told.
    #[must_use]
    pub fn experience(&self) -> &Experience {
        &self.experience
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

    /// What scores under a load are compared with; none before its baseline is complete.
    #[must_use]
    pub fn reference(&self, load: &str) -> Option<Reference> {
        let baseline = self.baseline_under(load)?;
        let tolerance = self.plan.rules.slower_tolerance_percent.max(3.0 * baseline.noise.value());
        Some(Reference {
            score: (!baseline.by_clock).then_some(baseline.score),
            average_clock: baseline.average_clock,
            tolerance: Percent(tolerance),
        })
    }

    /// Stock, with what the plan holds the same in every trial.
    #[must_use]
    pub fn held_settings(&self) -> Settings {
        let mut settings = Settings::stock(&self.card);
        if self.card.offer(SettingKind::Fan).is_some() {
            settings.fan = Some(self.plan.hold.fan());
        }
        if let Some(cap) = self.plan.hold.frame_cap_fps
            && self.card.offer(SettingKind::FrameCap).is_some()
        {
            settings.frame_cap = Some(cap);
        }
        settings
    }

    /// The axis of a domain, where the card offers one.
    #[must_use]
    pub fn axis(&self, domain: Domain) -> Option<Axis> {
        Axis::of(&self.card, domain)
    }

    fn warm_up_bounds(&self) -> (Seconds, Seconds) {
        let least = self.plan.core.warm_up_seconds;
        (Seconds(least), Seconds(least.max(self.plan.baseline.warm_up_seconds)))
    }

    /// Temperature to which a warm card comes under a load, as far as the baseline runs that count have told.
    #[must_use]
    pub fn known_plateau(&self, load: &str) -> Option<Celsius> {
        let plateaus = self.counted_baseline_runs(load).filter_map(|run| run.seen.plateau);
        mean(&plateaus.map(Celsius::value).collect::<Vec<_>>()).map(Celsius)
    }

    fn trials_of(&self, stage: Stage) -> impl DoubleEndedIterator<Item = &TrialRecord> {
        self.trials.iter().filter(move |trial| trial.stage == stage)
    }

    /// A trial of `measured` length after the shortest warm-up of the plan.
    fn proposal(
        &self,
        stage: Stage,
        purpose: Purpose,
        asked: Settings,
        measured: Seconds,
        reason: Reason,
    ) -> Proposal {
        let warm_up = Seconds(self.plan.core.warm_up_seconds);
        self.proposal_after(warm_up, stage, purpose, asked, measured, reason)
    }

    /// A trial of `measured` length after a warm-up, without a word on its risk.
    fn proposal_after(
        &self,
        warm_up: Seconds,
        stage: Stage,
        purpose: Purpose,
        asked: Settings,
        measured: Seconds,
        reason: Reason,
    ) -> Proposal {
        Proposal {
            request: TrialRequest {
                stage,
                purpose,
                asked,
                load: self.plan.scene.clone(),
                seconds: warm_up + measured,
                warm_up,
                warm_up_bounds: self.warm_up_bounds(),
                rest: Seconds(0.0),
            },
            reason,
            risk: None,
        }
    }

    /// Why a stage cannot go on, where too many of its newest runs prove nothing.
    fn stuck_in_vain(&self, stage: Stage) -> Option<Next> {
        let in_vain = self.in_vain(stage);
        let last = in_vain.first().map(|run| run.reason.clone()).unwrap_or_default();
        let runs = in_vain.len();
        let is_stuck = runs > self.plan.rules.retries as usize;
        is_stuck.then_some(Next::Stuck(Stuck::InVain { runs, at: None, last }))
    }

    /// Why a stage that compares scores cannot go on, where too many of its newest runs under a load have none.
    fn stuck_without_score(&self, stage: Stage, load: &str, measured: f64) -> Option<Next> {
        let newest = self.counted_of(stage).rev().filter(|run| run.scene == load);
        let newest = newest.take_while(|run| run.number as usize > self.taken_up_after);
        let without = |run: &&TrialRecord| {
            run.verdict() == Verdict::Clean && self.figure(run).is_none() && !run.was_stopped()
        };
        let runs = newest.take_while(without).count();
        (runs > self.plan.rules.retries as usize).then(|| {
            let (load, length) = (load.to_owned(), Seconds(measured));
            Next::Stuck(Stuck::NoScore { stage, load, runs, length })
        })
    }

    fn wished_proposal(&self, settings: &Settings) -> Proposal {
        let reason = Reason::YourSettings { moved: settings.moved_from_stock(&self.card) };
        let measured = Seconds(self.plan.core.seconds);
        self.proposal(Stage::Own, Purpose::Own, *settings, measured, reason)
    }
}

#[cfg(test)]
mod invariants;
#[cfg(test)]
mod many_loads;
#[cfg(test)]
mod tests;
#[cfg(test)]
mod whole_climbs;
