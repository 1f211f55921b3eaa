//! Core and memory: the highest clock of one that holds with the other at stock.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::climb::search::axis::Axis;
use crate::climb::search::bayesian::Surprise;
use crate::climb::search::belief::EdgeBelief;
use crate::climb::search::scale::Scale;
use crate::climb::search::score::{Bend, Gain, ScoreLine, decide, scatter};
use crate::climb::search::{Beside, Bracket, Search, SearchStep, Tried, below_slow};
use crate::climb::stages::rules::{NudgeBy, SCORE_BY_CLOCK, SCORE_BY_MEMORY, StageRules, ToGo};
use crate::climb::stages::together::hint;
use crate::climb::{Climb, Next, Purpose, Reason, Stage, TrialRecord};
use crate::judge::verdict::{Meaning, Verdict};
use crate::load::artifact::Domain;
use crate::plan::Policy;
use crate::units::{MhzOffset, Seconds};

/// Trials that such a search usually takes by steps.
pub(super) const USUAL_TRIALS: f64 = 14.0;

/// Gain of the score for each MHz of an axis, in shares of it, as long as nothing better is known.
pub(super) fn usual_worth(axis: &Axis) -> f64 {
    let by_clock = match axis.domain {
        Domain::Core => SCORE_BY_CLOCK,
        Domain::Memory => SCORE_BY_MEMORY,
    };
    by_clock / axis.clock
}

/// The search for the edge of one clock.
pub(in crate::climb) struct Edge {
    pub stage: Stage,
    pub domain: Domain,
}

impl StageRules for Edge {
    fn missing(&self, card: &CardDescription) -> Option<&'static str> {
        Axis::of(card, self.domain).is_none().then_some(match self.domain {
            Domain::Core => "core clock",
            Domain::Memory => "memory clock offset",
        })
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        climb.next_of_axis(self.stage, self.domain)
    }

    fn surprise(&self, climb: &Climb) -> Option<Surprise> {
        climb.search(climb.axis(self.domain)?).surprise()
    }

    fn to_go(&self, climb: &Climb, done: f64) -> ToGo {
        let seconds = climb.plan.axis(self.domain).seconds;
        ToGo { trials: (USUAL_TRIALS - done).max(1.0), seconds }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        Some(NudgeBy::Clock(self.domain))
    }
}

impl Climb {
    /// Trials that are evidence for one domain with the other at stock.
    pub(in crate::climb) fn tried_alone(&self, domain: Domain) -> Vec<Tried<'_>> {
        let Some(axis) = self.axis(domain) else { return Vec::new() };
        let stage = match domain {
            Domain::Core => Stage::Core,
            Domain::Memory => Stage::Memory,
        };
        let other = self.axis(domain.other());
        let is_alone = |trial: &&TrialRecord| {
            other.is_none_or(|other| trial.value_on(&other) == MhzOffset::STOCK)
        };
        // A belief takes what it can get; the steps by hand are those of their own stage.
        let beside = (self.plan.policy == Policy::Bayesian).then_some(Stage::Together);
        let segments = beside.into_iter().flat_map(|_| self.segments());
        self.counted_of(stage)
            .chain(beside.into_iter().flat_map(|stage| self.counted_of(stage)))
            .chain(segments)
            .filter(is_alone)
            .map(|record| Tried { value: record.value_on(&axis), record })
            .collect()
    }

    /// Runs of other stages with the clock of a domain at stock: what they tell of its edge there. A fault is laid to the
    /// core, unless its memory was raised or the picture points to it.
    pub(in crate::climb) fn beside(&self, domain: Domain) -> Vec<Beside> {
        let powered = self.powered_settings();
        let is_own = |trial: &&TrialRecord| trial.stage.domain() == Some(domain);
        let others = [Stage::Baseline, Stage::Power, Stage::Core, Stage::Memory];
        let runs = self.trials.iter().filter(|trial| {
            others.contains(&trial.stage) && trial.verdict().meaning() != Meaning::ProvesNothing
        });
        let tells = |trial: &TrialRecord| {
            let at = self.place(trial);
            if at.get(domain) != MhzOffset::STOCK {
                return None;
            }
            let is_other_raised = at.get(domain.other()) != MhzOffset::STOCK;
            let is_its = match domain {
                Domain::Core => !is_other_raised && hint(trial) != Some(Domain::Memory),
                Domain::Memory => !is_other_raised && hint(trial) == Some(Domain::Memory),
            };
            let fault = Some(trial.verdict()).filter(|verdict| verdict.is_fault() && is_its);
            // At lower limits the clock is lower, too: that it holds there tells nothing, that it fails does.
            let is_as_fast = self.with_clocks(powered, at) == trial.held();
            let hours = Tried { value: MhzOffset::STOCK, record: trial }.hours();
            (is_as_fast || fault.is_some()).then_some(Beside { hours, fault })
        };
        runs.filter(|trial| !is_own(trial)).filter_map(tells).collect()
    }

    /// The search of a domain by itself.
    pub(in crate::climb) fn search(&self, axis: Axis) -> Search<'_, Axis> {
        let tried = self.tried_alone(axis.domain);
        let usual = usual_worth(&axis);
        let (line, bend) = self.score_lines(axis.domain);
        let slope =
            line.as_ref().map_or(usual, |line| line.slope().clamp(usual * 0.2, usual * 2.0));
        Search {
            scale: axis,
            plan: &self.plan,
            cap: self.cap(&axis, &tried, bend),
            tried,
            slow_is_too_much: true,
            first: None,
            slope,
            below_safe: match axis.domain {
                Domain::Core => {
                    -self.power_gain(&self.plan.scene).map_or(0.0, |gain| gain.0.max(0.0)) / slope
                }
                Domain::Memory => 0.0,
            },
            barred: self.barred_from(&axis, &self.powered_settings()),
            taken_up_after: self.taken_up_after,
            is_followed: self.goes_together(),
            beside: self.beside(axis.domain),
            all: &self.trials,
            experience: &self.experience,
        }
    }

    /// Runs along a domain's axis that say how fast the card is there, the other at stock, with those
    /// of stock.
    pub(in crate::climb) fn runs_along(&self, domain: Domain) -> Vec<(MhzOffset, &TrialRecord)> {
        let at_stock = if self.powered_settings() == self.held_settings() {
            self.stock_runs().collect()
        } else {
            self.power_runs(&self.plan.scene)
        };
        let stock = at_stock.into_iter().map(|run| (MhzOffset::STOCK, run));
        let tried = self.tried_alone(domain);
        let raised = tried
            .iter()
            .filter(|trial| matches!(trial.verdict(), Verdict::Clean | Verdict::Slower))
            // A segment is short, and begins as warm as the one before it left the card.
            .filter(|trial| trial.record.purpose != Purpose::Segment)
            .map(|trial| (trial.value, trial.record));
        stock.chain(raised).collect()
    }

    /// Scores along a domain's axis with the other at stock, with those of stock.
    fn score_points(&self, domain: Domain) -> Vec<(f64, f64)> {
        let runs = self.runs_along(domain).into_iter();
        runs.filter_map(|(value, run)| Some((f64::from(value.0), self.figure(run)?))).collect()
    }

    /// Scatter of single runs on this machine, in shares of their score.
    #[must_use]
    pub fn scatter(&self) -> f64 {
        scatter(&self.stock_runs().filter_map(|run| self.figure(run)).collect::<Vec<_>>())
    }

    /// Score against the clock of one domain, the other at stock, as far up as it rises; and where
    /// more clock brings no more, if it does not.
    fn score_lines(&self, domain: Domain) -> (Option<ScoreLine>, Option<Bend>) {
        let (mut points, scatter) = (self.score_points(domain), self.scatter());
        let mut bend = None;
        loop {
            let line = ScoreLine::fit(&points, scatter);
            // What lies beyond a bend falls ever faster, and must not bend the rest.
            let Some(found) = line.as_ref().and_then(ScoreLine::bend) else { return (line, bend) };
            bend = Some(found);
            points.retain(|(value, _)| *value <= f64::from(found.at.0));
        }
    }

    /// Score against the clock of one domain, the other at stock, as far up as it rises.
    #[must_use]
    pub fn score_line(&self, domain: Domain) -> Option<ScoreLine> {
        self.score_lines(domain).0
    }

    /// Where more clock of a domain brings no more score.
    #[must_use]
    pub fn bend(&self, domain: Domain) -> Option<Bend> {
        self.score_lines(domain).1
    }

    /// The highest value worth keeping, where the score told.
    pub(in crate::climb) fn search_cap(&self, domain: Domain) -> Option<MhzOffset> {
        self.cap(&self.axis(domain)?, &self.tried_alone(domain), self.bend(domain))
    }

    /// The same, for a search that knows its trials and its bend already.
    fn cap(&self, axis: &Axis, tried: &[Tried<'_>], bend: Option<Bend>) -> Option<MhzOffset> {
        let fine = axis.fine_step(&self.plan);
        [below_slow(tried, fine), bend.map(|bend| bend.at)].into_iter().flatten().min()
    }

    /// Gain of a value of one domain over stock, the other at stock: share of the score, standard
    /// error, and whether it is one.
    #[must_use]
    pub fn gain_alone(&self, domain: Domain, value: MhzOffset) -> Option<(f64, f64, Gain)> {
        let (gain, error) = self.score_line(domain)?.gain(f64::from(value.0));
        let rules = &self.plan.score;
        let (least, alarm) = (rules.least_gain_percent, rules.false_alarm_percent);
        Some((gain, error, decide(gain, error, least / 100.0, alarm / 100.0)))
    }

    /// What a domain comes to by itself, as far as is known: no higher than it holds, and stock
    /// where its gain was proven not to be one.
    pub(in crate::climb) fn kept_alone(&self, domain: Domain) -> MhzOffset {
        let Some(axis) = self.axis(domain) else { return MhzOffset::STOCK };
        *self.known.alone[domain as usize].get_or_init(|| {
            let kept = self.search(axis).kept();
            let kept = if domain == Domain::Memory { self.out_of_band(kept) } else { kept };
            match self.gain_alone(domain, kept) {
                Some((_, _, Gain::NotThere)) => MhzOffset::STOCK,
                _ => kept,
            }
        })
    }

    /// What the core or the memory stage wants next; `None` when it is over.
    fn next_of_axis(&self, stage: Stage, domain: Domain) -> Option<Next> {
        let axis = self.axis(domain)?;
        if self.is_over(stage) {
            return None;
        }
        let search = self.search(axis);
        let step = match search.next(false) {
            SearchStep::Kept(value) => self.repeat(&search, value)?,
            step => step,
        };
        self.next_of_search(stage, &search, step, |value| {
            let mut asked = self.powered_settings();
            axis.write(&mut asked, value);
            asked
        })
    }

    /// What the step of a search comes to, whose values `write` makes settings of; `None` when it is over.
    pub(super) fn next_of_search<S: Scale>(
        &self,
        stage: Stage,
        search: &Search<'_, S>,
        step: SearchStep<S::Value>,
        write: impl FnOnce(S::Value) -> Settings,
    ) -> Option<Next> {
        match step {
            SearchStep::Kept(_) => None,
            SearchStep::Stuck(why) => Some(Next::Stuck(why)),
            SearchStep::Try { value, purpose, seconds, reason } => {
                let (asked, warm_up) = (write(value), Seconds(search.steps().warm_up_seconds));
                let proposal = self.proposal_after(warm_up, stage, purpose, asked, seconds, reason);
                Some(Next::Trial(Box::new(proposal)))
            }
        }
    }

    /// The same value again, where it is not clear yet whether its gain is one.
    fn repeat(&self, search: &Search<'_, Axis>, value: MhzOffset) -> Option<SearchStep> {
        let (gain, error, known) = self.gain_alone(search.scale.domain, value)?;
        let made = search
            .tried
            .iter()
            .filter(|trial| trial.record.purpose == Purpose::Repeat)
            .filter(|trial| trial.meaning() != Meaning::ProvesNothing)
            .count();
        let rules = &self.plan.score;
        if value == MhzOffset::STOCK || known != Gain::Open || made >= rules.most_repeats as usize {
            return None;
        }
        Some(search.unless_stuck(SearchStep::Try {
            value,
            purpose: Purpose::Repeat,
            seconds: Seconds(search.steps().seconds),
            reason: Reason::GainUnclear {
                at: search.scale.show(value),
                gain_percent: gain * 100.0,
                error_percent: error * 100.0,
                least_percent: rules.least_gain_percent,
            },
        }))
    }

    /// Where the edge of a stage's clock is seen to lie; `None` for a stage that looks for none.
    #[must_use]
    pub fn bracket(&self, stage: Stage) -> Option<Bracket> {
        let domain = stage.domain().filter(|_| self.stages.contains(&stage))?;
        let axis = self.axis(domain)?;
        Some(self.search(axis).bracket())
    }

    /// What is believed of the edge of a domain by itself.
    #[must_use]
    pub fn belief(&self, domain: Domain) -> Option<EdgeBelief> {
        let axis = self.axis(domain)?;
        Some(self.search(axis).belief())
    }
}
