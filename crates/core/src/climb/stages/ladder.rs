//! Ladder: core and memory raised together in a fixed ratio, for who wants one search instead of three.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::climb::search::axis::Axis;
use crate::climb::search::bayesian::Surprise;
use crate::climb::search::belief::EdgeBelief;
use crate::climb::search::experience::Experience;
use crate::climb::search::scale::{Scale, Steps};
use crate::climb::search::{Search, Tried, below_slow};
use crate::climb::stages::edge::{USUAL_TRIALS, usual_worth};
use crate::climb::stages::rules::{NudgeBy, StageRules, ToGo};
use crate::climb::{Claim, Climb, Next, Nudge, Pair, Stage, TrialRecord};
use crate::judge::verdict::Verdict;
use crate::load::artifact::Domain;
use crate::plan::{Plan, Policy};
use crate::units::MhzOffset;

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
    fn belief(&self, plan: &Plan, experience: &Experience) -> EdgeBelief {
        let known = self.known(plan).map(f64::from);
        let memory = self.memory.clock / self.ratio;
        let believed =
            |domain, clock| EdgeBelief::assumed(domain, clock, known, experience.assumed(domain));
        let edge = |domain, clock| experience.assumed(domain).edge.0 * clock;
        let first = match edge(Domain::Memory, memory) < edge(Domain::Core, self.core.clock) {
            true => believed(Domain::Memory, memory),
            false => believed(Domain::Core, self.core.clock),
        };
        first.lowered_by_the_other()
    }
}

/// The stage.
pub(in crate::climb) struct Ladder;

impl StageRules for Ladder {
    fn missing(&self, card: &CardDescription) -> Option<&'static str> {
        Stage::Together.rules().missing(card)
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        climb.next_of_ladder()
    }

    fn found(&self, climb: &Climb) -> Option<Settings> {
        if !climb.counts(Stage::Ladder) {
            return None;
        }
        let search = climb.ladder()?;
        let kept = search.kept();
        let settings = search.scale.write(&climb.powered_settings(), kept);
        (kept > MhzOffset::STOCK).then_some(settings)
    }

    /// Made at what it keeps, or above it and below all that failed.
    fn is_confirmed(&self, climb: &Climb, _at_kept: &[&TrialRecord]) -> bool {
        let long = match climb.plan.policy {
            Policy::Bayesian => climb.plan.core.settle_seconds,
            Policy::FixedStep | Policy::Bisection => climb.plan.core.confirm_seconds,
        };
        let Some(search) = climb.ladder() else { return false };
        let (kept, ceiling) = (search.kept(), search.bracket().ceiling);
        search.tried.iter().any(|trial| {
            trial.verdict() == Verdict::Clean
                && trial.record.seconds.value() >= long
                && trial.value >= kept
                && ceiling.is_none_or(|failed| trial.value < failed.value)
        })
    }

    fn claim(&self, climb: &Climb, _pair: Pair) -> Option<Claim> {
        let search = climb.ladder()?;
        let (belief, kept, margin) = (search.belief(), search.kept(), climb.plan.margin);
        let below = (belief.band(0.0).0 - f64::from(kept)).round() as i32;
        let below_core = MhzOffset(below).max(MhzOffset::STOCK);
        Some(Claim {
            below_core,
            below_memory: search.scale.memory_at(below_core),
            ..climb.claimed(
                belief.chance_to_hold(kept, margin.hours()),
                &climb.settings_of(Pair { core: kept, memory: search.scale.memory_at(kept) }),
            )
        })
    }

    fn surprise(&self, climb: &Climb) -> Option<Surprise> {
        climb.ladder()?.surprise()
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
        let tried: Vec<Tried<'_>> = self
            .counted_of(Stage::Ladder)
            .filter_map(|record| Some(Tried { value: scale.read(&record.held())?, record }))
            .collect();
        let base = self.powered_settings();
        let fine = scale.steps(&self.plan).fine;
        let values = (1..=Scale::highest(&scale).0 / fine.0).map(|step| MhzOffset(step * fine.0));
        Some(Search {
            cap: below_slow(&tried, fine),
            tried,
            slow_is_too_much: true,
            first: None,
            slope: usual_worth(&core) + scale.ratio * usual_worth(&memory),
            below_safe: 0.0,
            barred: self.barred_among(values, |value| scale.write(&base, value)),
            taken_up_after: self.taken_up_after,
            is_followed: false,
            beside: Vec::new(),
            all: &self.trials,
            experience: &self.experience,
            plan: &self.plan,
            scale,
        })
    }

    fn next_of_ladder(&self) -> Option<Next> {
        if self.is_over(Stage::Ladder) {
            return None;
        }
        let search = self.ladder()?;
        self.next_of_search(Stage::Ladder, &search, search.next(false), |value| {
            search.scale.write(&self.powered_settings(), value)
        })
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
}
