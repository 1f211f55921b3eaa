//! Calling the user back: a bell and, where the terminal has one, a notification, when something came of a run
//! while the terminal was out of sight.

use std::io::{self, Write};

use yard_step_core::printable;
use yard_step_engine::{Activity, Snapshot};

/// Longest notification, characters.
const LONGEST: usize = 120;

/// What was called for already.
#[derive(Debug, Default)]
pub(crate) struct Attention {
    /// Whether the terminal is in front, as far as it says so.
    in_front: Option<bool>,
    before: Option<Seen>,
}

/// What of a snapshot may call for the user.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Seen {
    /// Trials with a verdict, with their climb.
    trials: (i64, usize),
    alarms: usize,
    /// The present run and its dips.
    dips: Option<(u32, usize)>,
}

impl Seen {
    fn of(snapshot: &Snapshot) -> Self {
        let is_running = snapshot.runs.activity == Activity::Running;
        let run = snapshot.runs.newest.as_ref().filter(|_| is_running);
        let dips = run.map(|run| {
            let line = run.seen.clock_line.as_ref();
            (run.number, line.map_or(0, |line| line.dips.len()))
        });
        Self {
            trials: (snapshot.climb.number, snapshot.climb.trials.len()),
            alarms: snapshot.machine.alarms.len(),
            dips,
        }
    }
}

impl Attention {
    /// Takes in whether the terminal came to the front, or left it.
    pub(crate) fn is_in_front(&mut self, in_front: bool) {
        self.in_front = Some(in_front);
    }

    /// What to tell the user now, if anything: a verdict, an alarm, or the first dip of a run, while the terminal is
    /// out of sight. One that does not say whether it is counts as out of sight while the user's own program runs.
    pub(crate) fn call(&mut self, snapshot: &Snapshot) -> Option<String> {
        let now = Seen::of(snapshot);
        let before = self.before.replace(now.clone())?;
        let is_looked_at = self.in_front.unwrap_or(!snapshot.runs.is_manual);
        if is_looked_at || before.trials.0 != now.trials.0 {
            return None;
        }
        if now.alarms > before.alarms {
            let alarm = snapshot.machine.alarms.last()?;
            return Some(format!("Alarm: {alarm}"));
        }
        if now.trials.1 > before.trials.1 {
            let trial = snapshot.climb.trials.last()?;
            return Some(format!("Trial {}: {}", trial.number, trial.verdict()));
        }
        let first_dip = match (before.dips, now.dips) {
            (Some((run, 0)), Some((same, dips))) => run == same && dips > 0,
            _ => false,
        };
        first_dip.then(|| "The clock dipped".to_owned())
    }
}

/// Whether a terminal of this name takes a notification without showing the sequence as text.
pub(crate) fn takes_notifications(term: Option<&str>) -> bool {
    !matches!(term, None | Some("" | "dumb" | "linux"))
}

/// Rings, and notifies where that is taken: BEL, and the operating system command 9 that several terminals show.
pub(crate) fn ring(out: &mut impl Write, text: &str, notify: bool) -> io::Result<()> {
    out.write_all(b"\x07")?;
    if notify {
        let text: String = printable(text).chars().take(LONGEST).collect();
        write!(out, "\x1b]9;Yard Step: {text}\x1b\\")?;
    }
    out.flush()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures;
    use rstest::rstest;

    fn running(manual: bool) -> Snapshot {
        let mut snapshot = fixtures::snapshot();
        snapshot.runs.activity = Activity::Running;
        snapshot.runs.is_manual = manual;
        snapshot.machine.alarms.clear();
        snapshot
    }

    fn after_verdict(snapshot: &Snapshot) -> Snapshot {
        let mut after = snapshot.clone();
        let mut trials = (*after.climb.trials).clone();
        let newest = trials.last().unwrap().clone();
        trials.push(newest);
        after.climb.trials = trials.into();
        after
    }

    #[rstest]
    #[case::out_of_sight(Some(false), false, true)]
    #[case::in_front(Some(true), true, false)]
    #[case::says_nothing_and_plays(None, true, true)]
    #[case::says_nothing(None, false, false)]
    fn a_verdict_calls_who_does_not_look(
        #[case] in_front: Option<bool>,
        #[case] manual: bool,
        #[case] calls: bool,
    ) {
        let mut attention = Attention { in_front, before: None };
        let snapshot = running(manual);
        assert_eq!(attention.call(&snapshot), None, "what was there at the start is not news");
        let after = after_verdict(&snapshot);
        assert_eq!(attention.call(&after).is_some(), calls);
        assert_eq!(attention.call(&after), None, "once");
    }

    #[test]
    fn another_climb_is_no_verdict() {
        let mut attention = Attention { in_front: Some(false), before: None };
        let snapshot = running(false);
        attention.call(&snapshot);
        let mut other = after_verdict(&snapshot);
        other.climb.number += 1;
        assert_eq!(attention.call(&other), None);
    }

    #[rstest]
    #[case(true, "\u{7}\u{1b}]9;Yard Step: a]0;b\u{1b}\\")]
    #[case(false, "\u{7}")]
    fn nothing_in_a_text_ends_the_sequence(#[case] notify: bool, #[case] written: &str) {
        let mut out = Vec::new();
        ring(&mut out, "a\u{1b}]0;b\u{7}", notify).unwrap();
        assert_eq!(String::from_utf8(out).unwrap(), written);
    }

    #[rstest]
    #[case(Some("linux"), false)]
    #[case(Some("dumb"), false)]
    #[case(None, false)]
    #[case(Some("xterm-256color"), true)]
    fn a_console_is_only_rung(#[case] term: Option<&str>, #[case] takes: bool) {
        assert_eq!(takes_notifications(term), takes);
    }
}
