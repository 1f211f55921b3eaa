//! Why a clock stays at stock although higher ones were tried.

use crate::climb::search::SearchStep;
use crate::climb::{Climb, Gain, Shown};
use crate::judge::verdict::Meaning;
use crate::load::artifact::Domain;
use crate::plan::{Margin, Policy};
use crate::units::{MhzOffset, Seconds};

/// Why a clock stays at stock.
#[derive(Debug, Clone, PartialEq)]
pub enum AtStock {
    /// Higher ones bring no more score.
    NoGain,
    /// No higher one is sure enough for what the settings are to be good for.
    NotSure {
        /// The highest that held, and for how long it did, all runs at it together.
        held: Option<(Shown, Seconds)>,
        /// The lowest that failed.
        failed: Option<Shown>,
        /// What the settings are to be good for.
        margin: Margin,
        /// Whether the search ended because more trials cost more time than they are worth by the plan.
        by_price: bool,
    },
}

impl Climb {
    /// Why a clock that was looked for by itself stays at stock; none where it was raised, and where no run above stock
    /// proves anything.
    #[must_use]
    pub fn why_at_stock(&self, domain: Domain) -> Option<AtStock> {
        let axis = self.axis(domain)?;
        if self.kept_alone(domain) > MhzOffset::STOCK {
            return None;
        }
        let mut tried = self.tried_alone(domain);
        tried.retain(|trial| trial.value > MhzOffset::STOCK && trial.proves());
        if tried.is_empty() {
            return None;
        }
        let search = self.search(axis);
        let (kept, is_over) = match search.next(false) {
            SearchStep::Kept(kept) => (kept, true),
            SearchStep::Try { .. } | SearchStep::Stuck(_) => (search.kept(), false),
        };
        let held = || tried.iter().filter(|trial| trial.meaning() == Meaning::Holds);
        let seconds_at = |at| -> f64 {
            held().filter(|run| run.value == at).map(|run| run.hours() * 3_600.0).sum()
        };
        let highest = held().map(|trial| trial.value).max();
        let gain = highest.and_then(|at| self.gain_alone(domain, at));
        let brings_nothing = gain.is_some_and(|(_, _, gain)| gain == Gain::NotThere);
        let is_slow = search.cap.is_some_and(|cap| cap <= MhzOffset::STOCK);
        if kept > MhzOffset::STOCK || brings_nothing || is_slow {
            return Some(AtStock::NoGain);
        }
        let held = highest.map(|at| (axis.show(at), Seconds(seconds_at(at))));
        let faults = tried.iter().filter(|trial| trial.is_fault());
        let failed = faults.map(|trial| trial.value).min();
        Some(AtStock::NotSure {
            held,
            failed: failed.map(|at| axis.show(at)),
            margin: self.plan.margin,
            by_price: is_over && self.plan.policy == Policy::Bayesian,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::climb::whole_climbs::{CARD, Imagined, card};
    use crate::climb::{ClimbEvent, Next, Stage};
    use crate::plan::Plan;
    use rstest::rstest;

    /// A climb of both clocks on a card, to its end. Runs with the memory raised score `gain` times as much.
    fn climbed(card_of: Imagined, policy: Policy, gain: f64) -> Climb {
        let plan = Plan { policy, ..Plan::default() };
        let mut climb = Climb::new(card(), plan, &Stage::USUAL).unwrap();
        while let Next::Trial(proposal) = climb.next() {
            let mut record = card_of.run(&climb, &proposal.request);
            if climb.place(&record).memory > MhzOffset::STOCK {
                record.score = record.score.map(|score| score * gain);
            }
            climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        }
        climb
    }

    #[rstest]
    #[case::by_steps(5, Policy::FixedStep, false)]
    #[case::by_belief(5, Policy::Bayesian, true)]
    fn a_clock_that_fails_at_its_first_step_stays_at_stock_and_it_is_said_why(
        #[case] memory: i32,
        #[case] policy: Policy,
        #[case] is_weighed: bool,
    ) {
        let climb = climbed(Imagined { memory, ..CARD }, policy, 1.0);
        let why = climb.why_at_stock(Domain::Memory);
        let Some(AtStock::NotSure { failed: Some(_), by_price, .. }) = why else {
            panic!("{why:?}")
        };
        assert_eq!(by_price, is_weighed);
        assert_eq!(climb.why_at_stock(Domain::Core), None, "it was raised");
    }

    #[rstest]
    #[case::by_steps(Policy::FixedStep)]
    #[case::by_belief(Policy::Bayesian)]
    fn a_clock_that_brings_nothing_stays_at_stock_and_it_is_said_why(#[case] policy: Policy) {
        let climb = climbed(CARD, policy, 0.95);
        assert_eq!(climb.why_at_stock(Domain::Memory), Some(AtStock::NoGain));
    }

    #[test]
    fn nothing_is_said_of_a_clock_that_was_never_tried() {
        let climb = Climb::new(card(), Plan::default(), &Stage::USUAL).unwrap();
        assert_eq!(climb.why_at_stock(Domain::Memory), None);
    }
}
