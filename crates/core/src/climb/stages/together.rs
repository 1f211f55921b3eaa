//! Core and memory together: two edges found one by one are often not edges together, since both
//! draw on the same power and voltage.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::climb::isolation::{Culprit, Isolation};
use crate::climb::search::bayesian::{Weighed, believe, believe_beside, learn_severity};
use crate::climb::search::belief::EdgeBelief;
use crate::climb::search::experience::Experience;
use crate::climb::search::scale::Scale;
use crate::climb::search::{Search, Tried};
use crate::climb::stages::rules::{NudgeBy, StageRules, ToGo};
use crate::climb::{Axis, Climb, ClimbError, Next, Pair, Purpose, Reason, Stage, TrialRecord};
use crate::judge::verdict::{Meaning, Verdict};
use crate::load::artifact::{Domain, suggested_domain};
use crate::plan::Policy;
use crate::units::{MhzOffset, Seconds};

/// Trials that both together usually take by steps.
const USUAL_TRIALS: f64 = 4.0;

/// What is believed of both edges while both are raised.
#[derive(Debug, Clone, PartialEq)]
pub struct Joint {
    /// The core's, with the memory raised.
    pub core: EdgeBelief,
    /// The memory's, with the core raised.
    pub memory: EdgeBelief,
}

impl Joint {
    pub(in crate::climb) fn get(&self, domain: Domain) -> &EdgeBelief {
        match domain {
            Domain::Core => &self.core,
            Domain::Memory => &self.memory,
        }
    }

    /// Takes in a run with both raised. A fault is laid to each as far as it is likely to be its,
    /// and where the wrong pixels suggest one of them, to that. `others` is the rate of faults that
    /// have nothing to do with either, per hour.
    fn take(&mut self, at: Pair, hours: f64, fault: bool, hint: Option<Domain>, others: f64) {
        let (core, memory) = (self.core.rate(at.core), self.memory.rate(at.memory));
        let is_to = |domain| fault && hint.is_none_or(|hint| hint == domain);
        let sure = if hint.is_some() { 0.05 } else { 1.0 };
        self.core.take(at.core, hours, is_to(Domain::Core), memory * sure + others);
        self.memory.take(at.memory, hours, is_to(Domain::Memory), core * sure + others);
    }
}

/// What the wrong pixels of a failed trial suggest, where most of them agree.
pub(in crate::climb) fn hint(trial: &TrialRecord) -> Option<Domain> {
    let (domain, share) = suggested_domain(&trial.seen.artifacts)?;
    (trial.verdict() == Verdict::Artifacts && share > 0.8).then_some(domain)
}

/// The stage.
pub(in crate::climb) struct Together;

impl StageRules for Together {
    fn missing(&self, card: &CardDescription) -> Option<&'static str> {
        let mut missing = [Stage::Core, Stage::Memory].into_iter().map(Stage::rules);
        missing.find_map(|rules| rules.missing(card))
    }

    fn builds_on(&self, before: &[Stage]) -> Result<(), ClimbError> {
        let has_both = before.contains(&Stage::Core) && before.contains(&Stage::Memory);
        if has_both { Ok(()) } else { Err(ClimbError::NothingToCombine) }
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        climb.next_of_together()
    }

    fn to_go(&self, climb: &Climb, done: f64) -> ToGo {
        let seconds = climb.plan.together.confirm_seconds;
        ToGo { trials: (USUAL_TRIALS - done).max(1.0), seconds }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        Some(NudgeBy::Clock(Domain::Core))
    }
}

/// How far the trials together have backed off.
enum Backed<'a> {
    /// To where a long run held.
    Kept(Pair),
    /// So far, and the failure of which is asked who it was.
    At(Pair, Option<(&'a TrialRecord, Isolation)>),
}

/// What the stage wants next.
enum Want {
    Try { at: Pair, purpose: Purpose, seconds: Seconds, reason: Reason },
    Kept(Pair),
}

impl Climb {
    /// Whether the climb tries core and memory together after each was found alone.
    pub(in crate::climb) fn goes_together(&self) -> bool {
        self.stages.contains(&Stage::Together) && !self.is_skipped(Stage::Together)
    }

    /// Where a trial lies on the map of core against memory.
    #[must_use]
    pub fn place(&self, trial: &TrialRecord) -> Pair {
        let read =
            |domain| self.axis(domain).map_or(MhzOffset::STOCK, |axis| trial.value_on(&axis));
        Pair { core: read(Domain::Core), memory: read(Domain::Memory) }
    }

    /// What each found by itself comes to.
    #[must_use]
    pub fn found_alone(&self) -> Pair {
        let kept = |stage: Stage, domain| {
            let has_stage = self.stages.contains(&stage) && !self.is_skipped(stage);
            if has_stage { self.kept_alone(domain) } else { MhzOffset::STOCK }
        };
        Pair { core: kept(Stage::Core, Domain::Core), memory: kept(Stage::Memory, Domain::Memory) }
    }

    /// What is believed of the edges with both raised.
    #[must_use]
    pub fn joint(&self) -> Option<&Joint> {
        self.known.joint.get_or_init(|| self.believed_together(&self.experience)).as_ref()
    }

    pub(in crate::climb) fn believed_together(&self, experience: &Experience) -> Option<Joint> {
        let (core, memory) = (self.axis(Domain::Core)?, self.axis(Domain::Memory)?);
        let alone = |axis: &Axis, domain| {
            let belief = believe(axis.belief(&self.plan, experience), &self.tried_alone(domain));
            believe_beside(belief, &self.beside(domain))
        };
        let mut joint = Joint {
            core: alone(&core, Domain::Core).lowered_by_the_other(),
            memory: alone(&memory, Domain::Memory).lowered_by_the_other(),
        };
        let newest = self.counted_of(Stage::Together).map(|trial| trial.number).max();
        for belief in [&mut joint.core, &mut joint.memory] {
            learn_severity(belief, &self.trials, newest, experience);
        }
        for trial in self.counted_of(Stage::Together).chain(self.segments()) {
            let at = self.place(trial);
            let proves = trial.verdict().meaning() != Meaning::ProvesNothing;
            if proves && at.core > MhzOffset::STOCK && at.memory > MhzOffset::STOCK {
                let seen = Tried { value: at.core, record: trial };
                let others = crate::climb::search::bayesian::unrelated_faults(trial.verdict());
                joint.take(at, seen.hours(), seen.is_fault(), hint(trial), others);
            }
        }
        Some(joint)
    }

    /// What both come to together as far as is known, no trial more.
    pub(in crate::climb) fn kept_together(&self) -> Pair {
        match self.want_together(true) {
            Some(Want::Kept(pair)) => pair,
            _ => self.found_alone(),
        }
    }

    /// What the stage wants next; `None` when it is over.
    fn next_of_together(&self) -> Option<Next> {
        if self.is_over(Stage::Together) {
            return None;
        }
        let Want::Try { at, purpose, seconds, reason } = self.want_together(false)? else {
            return None;
        };
        if let Some(stuck) = self.stuck_in_vain(Stage::Together) {
            return Some(stuck);
        }
        let asked = self.settings_of(at);
        let proposal = self.proposal(Stage::Together, purpose, asked, seconds, reason);
        Some(Next::Trial(Box::new(proposal)))
    }

    fn want_together(&self, ended: bool) -> Option<Want> {
        let alone = self.found_alone();
        if alone.core == MhzOffset::STOCK && alone.memory == MhzOffset::STOCK {
            return Some(Want::Kept(alone));
        }
        match self.plan.policy {
            Policy::Bayesian => self.want_bayesian(alone, ended),
            Policy::FixedStep | Policy::Bisection => Some(self.want_stepwise(alone, ended)),
        }
    }

    /// Settings with both at these values.
    #[must_use]
    pub fn settings_of(&self, pair: Pair) -> Settings {
        self.with_clocks(self.powered_settings(), pair)
    }

    /// Settings with both clocks at these values.
    pub(in crate::climb) fn with_clocks(&self, mut settings: Settings, pair: Pair) -> Settings {
        for axis in [Domain::Core, Domain::Memory].into_iter().filter_map(|of| self.axis(of)) {
            axis.write(&mut settings, pair.get(axis.domain));
        }
        settings
    }

    fn show(&self, at: Pair) -> String {
        let part = |domain| {
            let axis = self.axis(domain)?;
            let value = at.get(domain);
            (value != MhzOffset::STOCK).then(|| format!("{domain} {}", axis.show(value)))
        };
        let parts: Vec<String> =
            [Domain::Core, Domain::Memory].into_iter().filter_map(part).collect();
        if parts.is_empty() { "stock".into() } else { parts.join(", ") }
    }

    /// Both as high as the belief is sure of, and between them the trial that tells most.
    fn want_bayesian(&self, alone: Pair, ended: bool) -> Option<Want> {
        let raised = [Domain::Core, Domain::Memory].map(|d| alone.get(d) > MhzOffset::STOCK);
        let joint = match raised {
            [true, true] => self.joint()?.clone(),
            // With one of them at stock, nothing lowers the other.
            _ => {
                let (core, memory) = (self.belief(Domain::Core), self.belief(Domain::Memory));
                let any = core.clone().or(memory.clone())?;
                Joint { core: core.unwrap_or(any.clone()), memory: memory.unwrap_or(any) }
            }
        };
        // Of the faults that may come, the core has most: a MHz of it is worth more.
        let share = |domain| match (raised, domain) {
            ([true, true], Domain::Core) => 0.85,
            ([true, true], Domain::Memory) => 0.15,
            _ => 1.0,
        };
        let margin = self.plan.margin;
        let mut kept = Pair::default();
        for (domain, _) in [Domain::Core, Domain::Memory].into_iter().zip(raised).filter(|d| d.1) {
            let axis = self.axis(domain)?;
            let sure = joint.get(domain).holds_to(
                margin.hours(),
                margin.faults() * share(domain),
                margin.confidence(),
            );
            let bounded = axis.bin(sure).max(MhzOffset::STOCK).min(axis.highest());
            let value = self.search_cap(domain).map_or(bounded, |cap| bounded.min(cap));
            kept.set(
                domain,
                if domain == Domain::Memory { self.out_of_band(value) } else { value },
            );
        }
        let kept = self.stepped_back(kept, |settings| self.is_barred(settings));
        if ended {
            return Some(Want::Kept(kept));
        }
        if let Some((at, best)) = self.weigh_together(&joint, kept, raised) {
            let reason = Reason::Informative {
                fault: best.prospect.fault,
                machine_down: best.prospect.machine_down,
                edge: None,
                holds: Some(self.show(kept)),
            };
            let seconds = Seconds(best.seconds);
            return Some(Want::Try { at, purpose: Purpose::Step, seconds, reason });
        }
        let wanted = self.plan.together.settle_seconds;
        let measured = self.counted_of(Stage::Together).any(|trial| {
            trial.verdict() == Verdict::Clean
                && self.place(trial) == kept
                && trial.seconds.value() >= wanted
        });
        if measured || kept == Pair::default() {
            return Some(Want::Kept(kept));
        }
        Some(Want::Try {
            at: kept,
            purpose: Purpose::Settle,
            seconds: Seconds(wanted),
            reason: Reason::Measure { at: self.show(kept), purpose: None, length: Seconds(wanted) },
        })
    }

    /// The trial that tells most: one of the two raised, the other where it is sure to hold.
    fn weigh_together(
        &self,
        joint: &Joint,
        kept: Pair,
        raised: [bool; 2],
    ) -> Option<(Pair, Weighed<MhzOffset>)> {
        let price = self.plan.bayesian.worth_percent_per_minute / 100.0;
        let mut found: Option<(Pair, Weighed<MhzOffset>)> = None;
        for (domain, _) in [Domain::Core, Domain::Memory].into_iter().zip(raised).filter(|d| d.1) {
            let axis = self.axis(domain)?;
            let barred = self.barred_from(&axis, &self.settings_of(kept));
            let search = Search { barred, ..self.search(axis) };
            let Some(best) = search.weigh(joint.get(domain)) else { continue };
            if best.per_minute > found.map_or(price, |(_, other)| other.per_minute) {
                let mut at = kept;
                at.set(domain, best.value);
                // With the other at stock it would tell nothing of both together.
                let other = domain.other();
                if raised == [true, true] && at.get(other) == MhzOffset::STOCK {
                    let axis = self.axis(other)?;
                    at.set(other, axis.fine_step(&self.plan));
                }
                found = Some((at, best));
            }
        }
        found
    }

    /// Both where they were found, backed off after each failure until a long run holds; and from what
    /// took the machine down elsewhere, under whatever limit.
    fn want_stepwise(&self, alone: Pair, ended: bool) -> Want {
        let plan = &self.plan.together;
        // What took the machine down in this climb is backed off from below, by who it was.
        let mut start = self.stepped_back(alone, |settings| self.is_barred_by_others(settings));
        let (at, asked) = loop {
            let (at, asked) = match self.backed_off_from(start) {
                Backed::Kept(at) => return Want::Kept(at),
                Backed::At(at, asked) => (at, asked),
            };
            let is_barred = self.is_barred(&self.settings_of(at));
            if asked.is_some() || at == Pair::default() || !is_barred {
                break (at, asked);
            }
            start = self.stepped_back(at, |settings| self.is_barred(settings));
        };
        if ended || at == Pair::default() {
            return Want::Kept(at);
        }
        match asked.and_then(|(trial, isolation)| Some((trial, isolation.next()?))) {
            Some((trial, domain)) => Want::Try {
                at: alone_of(at, domain),
                purpose: Purpose::Isolate,
                seconds: trial.long_enough_again(plan.isolate_seconds),
                reason: Reason::WhichOne {
                    trial: trial.number,
                    verdict: trial.verdict(),
                    raised: domain,
                },
            },
            None => Want::Try {
                at,
                purpose: Purpose::Confirm,
                seconds: Seconds(plan.confirm_seconds),
                reason: Reason::BothTogether {
                    at: self.show(at),
                    length: Seconds(plan.confirm_seconds),
                },
            },
        }
    }

    /// How far the trials together have backed off from a pair.
    fn backed_off_from(&self, start: Pair) -> Backed<'_> {
        let mut at = start;
        let mut asked: Option<(&TrialRecord, Isolation)> = None;
        let mut only_together = 0;
        for trial in self.counted_of(Stage::Together) {
            let place = self.place(trial);
            let failed = match trial.verdict().meaning() {
                Meaning::ProvesNothing => continue,
                Meaning::TooMuch => true,
                Meaning::Holds => false,
            };
            match &mut asked {
                None if place == at && failed => {
                    let mut isolation = Isolation::default();
                    for domain in [Domain::Core, Domain::Memory] {
                        if at.get(domain) == MhzOffset::STOCK {
                            isolation.note(domain, false);
                            isolation.note(domain.other(), true);
                        }
                    }
                    asked = Some((trial, isolation));
                }
                None if place == at
                    && trial.seconds.value() >= self.plan.together.confirm_seconds =>
                {
                    return Backed::Kept(at);
                }
                Some((_, isolation)) if place == alone_of(at, Domain::Core) => {
                    isolation.note(Domain::Core, failed);
                }
                Some((_, isolation)) if place == alone_of(at, Domain::Memory) => {
                    isolation.note(Domain::Memory, failed);
                }
                _ => {}
            }
            // What alone took the machine down elsewhere is not asked again.
            if let Some((_, isolation)) = &mut asked {
                while let Some(domain) = isolation.next()
                    && self.is_barred(&self.settings_of(alone_of(at, domain)))
                {
                    isolation.note(domain, true);
                }
            }
            if let Some(culprit) = asked.and_then(|(_, isolation)| isolation.culprit()) {
                at = self.backed_off(at, culprit, &mut only_together);
                asked = None;
            }
        }
        Backed::At(at, asked)
    }

    /// The pair, stepped back in turns until it is not barred any more.
    fn stepped_back(&self, mut at: Pair, is_barred: impl Fn(&Settings) -> bool) -> Pair {
        let mut turns = 0;
        while at != Pair::default() && is_barred(&self.settings_of(at)) {
            at = self.backed_off(at, Culprit::OnlyTogether, &mut turns);
        }
        at
    }

    /// One fine step back with whoever it was; in turns where neither was it alone.
    fn backed_off(&self, mut at: Pair, culprit: Culprit, only_together: &mut usize) -> Pair {
        let domains: &[Domain] = match culprit {
            Culprit::One(Domain::Core) => &[Domain::Core],
            Culprit::One(Domain::Memory) => &[Domain::Memory],
            Culprit::Both => &[Domain::Core, Domain::Memory],
            Culprit::OnlyTogether => {
                *only_together += 1;
                if *only_together % 2 == 1 { &[Domain::Core] } else { &[Domain::Memory] }
            }
        };
        for domain in domains {
            if let Some(axis) = self.axis(*domain) {
                let fine = axis.fine_step(&self.plan);
                at.set(*domain, (at.get(*domain) - fine).max(MhzOffset::STOCK));
            }
        }
        at
    }
}

/// The pair with only `domain` raised.
fn alone_of(at: Pair, domain: Domain) -> Pair {
    let mut alone = Pair::default();
    alone.set(domain, at.get(domain));
    alone
}
