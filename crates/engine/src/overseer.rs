//! Whoever watches a run, sets its pace and may stop it.

use yard_step_core::{Alarm, AlarmRaised, Seconds, Told, Verdict, alarm};

use crate::in_step::InStep;
use crate::trial::Run;
use crate::view::RunView;

/// How a run is to go on.
#[derive(Debug, Clone, PartialEq)]
pub enum Steer {
    /// As planned.
    GoOn,
    /// Held still: nothing is run, but card, sensors and load are watched.
    Hold,
    /// Not any further.
    Stop,
    /// Not any further: somebody who watched says what was seen, and the figures that the program gave.
    Told {
        /// What was seen.
        verdict: Verdict,
        /// The figures.
        told: Told,
    },
}

/// Somebody who watches a run, sets its pace and may stop it. Called after every sample.
pub trait Overseer {
    /// Looks at the run, waits as long as the pace wants, and says how to go on.
    fn tick(&mut self, live: &LiveRun<'_>) -> Steer;
}

/// Nobody watching: as fast as possible, to the end.
impl Overseer for () {
    fn tick(&mut self, _: &LiveRun<'_>) -> Steer {
        Steer::GoOn
    }
}

/// A run that is going on.
pub struct LiveRun<'a> {
    pub(crate) run: &'a Run,
    pub(crate) in_step: &'a [InStep],
    /// Whether the card works just now.
    pub(crate) is_at_work: bool,
}

impl LiveRun<'_> {
    /// Time since the run began.
    #[must_use]
    pub fn at(&self) -> Seconds {
        self.run.sample().at
    }

    /// Whether the card works just now; time in which it does not is no part of the run.
    #[must_use]
    pub fn is_at_work(&self) -> bool {
        self.is_at_work
    }

    /// Length of the run in all.
    #[must_use]
    pub fn planned(&self) -> Seconds {
        self.run.intent.planned
    }

    /// The alarms that what is read now sets off, on whichever card, the gravest first.
    #[must_use]
    pub fn alarms(&self, alarms: &[Alarm]) -> Vec<AlarmRaised> {
        let of = |run: &Run| alarm::raised(alarms, &run.watch.moment(&run.sample()));
        let others = self.in_step.iter().filter_map(InStep::run);
        let mut raised: Vec<AlarmRaised> =
            std::iter::once(self.run).chain(others).flat_map(of).collect();
        raised.sort_by_key(|one| std::cmp::Reverse(one.alarm.act as u8));
        raised
    }

    /// All there is to see of it. This copies its series: once a drawn frame is often enough.
    #[must_use]
    pub fn view(&self) -> RunView {
        let in_step = self.in_step.iter().map(InStep::view).collect();
        RunView { picture: self.run.picture(), in_step, ..self.run.view() }
    }
}
