//! Ladder: core and memory raised together in a fixed ratio, for who wants one search instead of three.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::climb::outcome::Claim;
use crate::climb::search::axis::Axis;
use crate::climb::search::belief::EdgeBelief;
use crate::climb::search::scale::{Scale, Steps};
use crate::climb::search::{Search, SearchStep, Tried, below_slow};
use crate::climb::stages::rules::{NudgeBy, StageRules, ToGo};
use crate::climb::{Climb, Next, Nudge, Stage};
use crate::judge::verdict::Verdict;
use crate::load::artifact::Domain;
use crate::plan::{Plan, Policy};
use crate::units::{MhzOffset, MillivoltOffset, Seconds};

/// Trials that such a search usually takes by steps.
const USUAL_TRIALS: f64 = 14.0;
/// Shares of a clock by which its edge lies above stock on many cards: which of the two gives way first.
const CORE_SHARE: f64 = 0.06;
const MEMORY_SHARE: f64 = 0.08;
/// Gain of the score for a share of the clock: core, memory.
const WORTH: (f64, f64) = (0.75, 0.12);

/// Both clocks as one scale: its values are the core's MHz above stock, and the memory follows.
#[derive(Debug, Clone, Copy)]
pub(in crate::climb) struct Rungs {
    core: Axis,
    memory: Axis,
    /// MHz of memory for each MHz of core.
    ratio: f64,
}

impl Rungs {
    fn memory_at(&self, core: MhzOffset) -> MhzOffset {
        self.memory.bin(f64::from(core) * self.ratio)
    }

    fn write(&self, base: &Settings, value: MhzOffset) -> Settings {
        let mut settings = *base;
        self.core.write(&mut settings, value);
        self.memory.write(&mut settings, self.memory_at(value));
        settings
    }

    /// The value that settings have on this scale; none where the ratio is another one.
    fn read(&self, settings: &Settings) -> Option<MhzOffset> {
        let core = self.core.read(settings);
        (self.memory.read(settings) == self.memory_at(core)).then_some(core)
    }
}

impl Scale for Rungs {
    type Value = MhzOffset;

    fn steps(&self, plan: &Plan) -> Steps<MhzOffset> {
        self.core.steps(plan)
    }

    /// No higher than either goes: above that, the ratio would be another one.
    fn highest(&self) -> MhzOffset {
        let of_memory = f64::from(self.memory.highest()) / self.ratio;
        self.core.highest().min(self.core.bin(of_memory))
    }

    fn bin(&self, value: f64) -> MhzOffset {
        self.core.bin(value).min(Scale::highest(self))
    }

    fn show(&self, value: MhzOffset) -> String {
        let memory = self.memory.show(self.memory_at(value));
        format!("core {}, memory {memory}", self.core.show(value))
    }

    fn start(&self) -> &'static str {
        "stock"
    }

    fn size(&self) -> f64 {
        self.core.clock
    }

    fn known(&self, plan: &Plan) -> Option<MhzOffset> {
        self.core.known(plan).map(|known| known.min(Scale::highest(self)))
    }

    /// Of whichever is likely to give way first, a little lower since the other one is raised too.
    fn belief(&self, plan: &Plan) -> EdgeBelief {
        let known = self.known(plan).map(f64::from);
        let memory = self.memory.clock / self.ratio;
        let first = match memory * MEMORY_SHARE < self.core.clock * CORE_SHARE {
            true => EdgeBelief::assumed(Domain::Memory, memory, known),
            false => EdgeBelief::assumed(Domain::Core, self.core.clock, known),
        };
        first.lowered_by_the_other()
    }
}

/// The stage.
pub(in crate::climb) struct Ladder;

impl StageRules for Ladder {
    fn missing(&self, card: &CardDescription) -> Option<&'static str> {
        let mut missing = [Stage::Core, Stage::Memory].into_iter().map(Stage::rules);
        missing.find_map(|rules| rules.missing(card))
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        climb.next_of_ladder()
    }

    fn found(&self, climb: &Climb) -> Option<Settings> {
        if climb.is_skipped(Stage::Ladder) || !climb.has_begun(Stage::Ladder) {
            return None;
        }
        let search = climb.ladder()?;
        let kept = search.kept();
        let settings = search.scale.write(&climb.powered_settings(), kept);
        (kept > MhzOffset::STOCK).then_some(settings)
    }

    fn to_go(&self, climb: &Climb, done: f64) -> ToGo {
        ToGo { trials: (USUAL_TRIALS - done).max(1.0), seconds: climb.plan.core.seconds }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        Some(NudgeBy::Rungs)
    }
}

impl Climb {
    /// The search up the ladder.
    fn ladder(&self) -> Option<Search<'_, Rungs>> {
        let (core, memory) = (self.axis(Domain::Core)?, self.axis(Domain::Memory)?);
        let scale = Rungs { core, memory, ratio: self.plan.ladder.memory_mhz_per_core_mhz };
        let read = |record| -> Option<Tried<'_>> {
            let record: &crate::climb::TrialRecord = record;
            Some(Tried { value: scale.read(&record.held())?, record })
        };
        let tried: Vec<Tried<'_>> = self.counted_of(Stage::Ladder).filter_map(read).collect();
        let base = self.powered_settings();
        let fine = scale.steps(&self.plan).fine;
        let values = (1..=Scale::highest(&scale).0 / fine.0).map(|step| MhzOffset(step * fine.0));
        Some(Search {
            cap: below_slow(&tried, fine),
            tried,
            slow_is_too_much: true,
            first: None,
            slope: WORTH.0 / core.clock + WORTH.1 * scale.ratio / memory.clock,
            barred: self.barred_among(values, |value| scale.write(&base, value)),
            taken_up_after: self.taken_up_after,
            is_followed: false,
            plan: &self.plan,
            scale,
        })
    }

    fn next_of_ladder(&self) -> Option<Next> {
        if self.is_over(Stage::Ladder) {
            return None;
        }
        let search = self.ladder()?;
        match search.next(false) {
            SearchStep::Kept(_) => None,
            SearchStep::Stuck(why) => Some(Next::Stuck(why)),
            SearchStep::Try { value, purpose, seconds, reason } => {
                let asked = search.scale.write(&self.powered_settings(), value);
                let warm_up = Seconds(search.steps().warm_up_seconds);
                let proposal =
                    self.proposal_after(warm_up, Stage::Ladder, purpose, asked, seconds, reason);
                Some(Next::Trial(Box::new(proposal)))
            }
        }
    }

    /// The next rung but `steps` fine steps of the core away.
    pub(in crate::climb) fn nudged_rung(&self, proposed: &Settings, steps: i32) -> Option<Nudge> {
        let search = self.ladder()?;
        let (scale, fine) = (search.scale, search.steps().fine);
        let from = scale.read(proposed)?;
        let wanted = Scale::bin(&scale, f64::from(from) + f64::from(fine) * f64::from(steps));
        let wanted = wanted.max(MhzOffset::STOCK);
        let settings = scale.write(proposed, wanted);
        Some(Nudge { stage: Stage::Ladder, settings, shown: scale.show(wanted) })
    }

    /// Whether a clean run of the length that the plan asks for was made at what the ladder keeps, or above it and
    /// below all that failed.
    pub(in crate::climb) fn is_ladder_confirmed(&self) -> bool {
        let long = match self.plan.policy {
            Policy::Bayesian => self.plan.core.settle_seconds,
            Policy::FixedStep | Policy::Bisection => self.plan.core.confirm_seconds,
        };
        let Some(search) = self.ladder() else { return false };
        let (kept, ceiling) = (search.kept(), search.bracket().ceiling);
        search.tried.iter().any(|trial| {
            trial.verdict() == Verdict::Clean
                && trial.record.seconds.value() >= long
                && trial.value >= kept
                && ceiling.is_none_or(|failed| trial.value < failed.value)
        })
    }

    /// What is claimed of what the ladder keeps.
    pub(in crate::climb) fn claim_of_ladder(&self) -> Option<Claim> {
        let search = self.ladder()?;
        let (belief, kept, margin) = (search.belief(), search.kept(), self.plan.margin);
        let below = (belief.band(0.0).0 - f64::from(kept)).round() as i32;
        let below_core = MhzOffset(below).max(MhzOffset::STOCK);
        Some(Claim {
            margin,
            span: margin.span(),
            chance: belief.chance_to_hold(kept, margin.hours()),
            below_core,
            below_memory: search.scale.memory_at(below_core),
            below_depth: MillivoltOffset::STOCK,
        })
    }
}
