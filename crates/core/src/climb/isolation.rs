//! Which of the two was it? After a failure with core and memory both raised, one of them goes back to
//! stock and the same scene runs again; then the other. [`culprits`](crate::climb::culprits) asks of all settings.

use crate::climb::TrialRecord;
use crate::load::artifact::Domain;
use crate::units::Seconds;

/// What an isolation comes to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::climb) enum Culprit {
    /// This domain fails with the other at stock, and the other does not.
    One(Domain),
    /// Each fails by itself.
    Both,
    /// Neither fails by itself: they share power and voltage.
    OnlyTogether,
}

/// How far the question has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(in crate::climb) struct Isolation {
    /// Whether the core failed with the memory at stock.
    pub core: Option<bool>,
    /// Whether the memory failed with the core at stock.
    pub memory: Option<bool>,
}

impl Isolation {
    /// Notes how a domain did by itself. A later run of the same counts.
    pub fn note(&mut self, domain: Domain, failed: bool) {
        match domain {
            Domain::Core => self.core = Some(failed),
            Domain::Memory => self.memory = Some(failed),
        }
    }

    /// The domain to be tried by itself next.
    #[must_use]
    pub fn next(&self) -> Option<Domain> {
        match (self.core, self.memory) {
            (None, _) => Some(Domain::Core),
            (_, None) => Some(Domain::Memory),
            _ => None,
        }
    }

    /// The answer, once both were tried.
    #[must_use]
    pub fn culprit(&self) -> Option<Culprit> {
        Some(match (self.core?, self.memory?) {
            (true, false) => Culprit::One(Domain::Core),
            (false, true) => Culprit::One(Domain::Memory),
            (true, true) => Culprit::Both,
            (false, false) => Culprit::OnlyTogether,
        })
    }
}

impl TrialRecord {
    /// Length of a run in which the same failure would come again with 95 %: three times its time
    /// to the fault (rule of three for an exponential wait), between `least` and an hour.
    #[must_use]
    pub(in crate::climb) fn long_enough_again(&self, least: f64) -> Seconds {
        let fault = self.faults.first().map_or(self.seconds, |fault| fault.at);
        Seconds((fault.value() * 3.0).clamp(least, least.max(3_600.0)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::record;
    use crate::judge::verdict::Fault;
    use rstest::rstest;

    #[rstest]
    #[case(true, false, Culprit::One(Domain::Core))]
    #[case(false, true, Culprit::One(Domain::Memory))]
    #[case(true, true, Culprit::Both)]
    #[case(false, false, Culprit::OnlyTogether)]
    fn both_must_have_been_tried_by_themselves(
        #[case] core: bool,
        #[case] memory: bool,
        #[case] culprit: Culprit,
    ) {
        let mut isolation = Isolation::default();
        assert_eq!((isolation.next(), isolation.culprit()), (Some(Domain::Core), None));
        isolation.note(Domain::Core, core);
        assert_eq!((isolation.next(), isolation.culprit()), (Some(Domain::Memory), None));
        isolation.note(Domain::Memory, memory);
        assert_eq!((isolation.next(), isolation.culprit()), (None, Some(culprit)));
    }

    #[rstest]
    #[case(10.0, 180.0)]
    #[case(100.0, 300.0)]
    #[case(3_000.0, 3_600.0)]
    fn the_run_that_asks_again_is_three_times_as_long_as_the_fault_took(
        #[case] fault: f64,
        #[case] wanted: f64,
    ) {
        let mut failed = record(1);
        failed.faults = vec![Fault::at(Seconds(fault), "artifacts")];
        assert_eq!(failed.long_enough_again(180.0), Seconds(wanted));
    }
}
