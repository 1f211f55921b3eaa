//! The one table of what can be done: name, keys, words and when it applies. Keys, footer and help
//! all read it.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use yard_step_engine::{Activity, NextView, Snapshot};

/// A view of the interface.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum View {
    /// The card, its settings, sensors and baseline.
    Survey,
    /// The staircase, the live run and the next step.
    Climb,
}

impl View {
    /// All views, in the order of the work.
    pub const ALL: [Self; 2] = [Self::Survey, Self::Climb];

    /// Name of the view.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Survey => "Survey",
            Self::Climb => "Climb",
        }
    }
}

/// Something the user can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// Carry out the next step.
    Try,
    /// Take every next step without being asked.
    Auto,
    /// Hold the run still or let it go on.
    Pause,
    /// Stop the run.
    Stop,
    /// Next value one fine step up.
    NudgeUp,
    /// Next value one fine step down.
    NudgeDown,
    /// Leave the next value to the plan.
    DropNudge,
    /// Change a trial's verdict.
    Mark,
    /// End the stage.
    EndStage,
    /// Keep the outcome.
    Keep,
    /// Card to stock.
    BackToStock,
    /// Begin another climb.
    NewClimb,
    /// Look at the trial before.
    Earlier,
    /// Look at the trial after.
    Later,
    /// Back to the present.
    Present,
    /// Next pace.
    Pace,
    /// Show a view.
    Show(View),
    /// All actions.
    Help,
    /// Leave.
    Quit,
}

/// What the moment is like: all that decides whether an action applies.
#[derive(Debug, Clone, Copy)]
pub struct Moment {
    view: View,
    running: bool,
    gone: bool,
    has_next: bool,
    has_outcome: bool,
    has_trials: bool,
    has_baseline: bool,
    looking: bool,
}

impl Moment {
    /// The moment a snapshot shows.
    #[must_use]
    pub fn of(snapshot: &Snapshot, view: View) -> Self {
        Self {
            view,
            running: matches!(snapshot.activity, Activity::Running | Activity::Paused),
            gone: snapshot.activity == Activity::Gone,
            has_next: matches!(snapshot.next, NextView::Trial { .. }),
            has_outcome: matches!(snapshot.next, NextView::Ended(_)),
            has_trials: !snapshot.trials.is_empty(),
            has_baseline: snapshot.baseline.is_some(),
            looking: snapshot.looked_at.is_some(),
        }
    }

    fn waits(self) -> bool {
        !self.running && !self.gone
    }
}

/// An entry of the table.
pub struct Binding {
    /// What it does.
    pub action: Action,
    /// Keys, the first of which is shown in the footer.
    pub keys: &'static [KeyCode],
    /// A word or two for the footer.
    pub label: &'static str,
    /// A line for the help.
    pub help: &'static str,
    /// When it applies.
    pub applies: fn(Moment) -> bool,
    /// Whether the footer shows it when it applies.
    pub in_footer: bool,
}

const fn key(character: char) -> KeyCode {
    KeyCode::Char(character)
}

/// The table.
pub const BINDINGS: &[Binding] = &[
    Binding {
        action: Action::Try,
        keys: &[KeyCode::Enter],
        label: "try it",
        help: "carry out the next step",
        applies: |m| m.waits() && m.has_next,
        in_footer: true,
    },
    Binding {
        action: Action::Auto,
        keys: &[key('a')],
        label: "auto-climb",
        help: "take every next step without being asked, or stop doing so",
        applies: |m| !m.gone && (m.running || m.has_next),
        in_footer: true,
    },
    Binding {
        action: Action::NudgeUp,
        keys: &[KeyCode::Up, key('+')],
        label: "higher",
        help: "make the next value one fine step higher",
        applies: |m| !m.gone && m.view == View::Climb && m.has_baseline,
        in_footer: true,
    },
    Binding {
        action: Action::NudgeDown,
        keys: &[KeyCode::Down, key('-')],
        label: "lower",
        help: "make the next value one fine step lower",
        applies: |m| !m.gone && m.view == View::Climb && m.has_baseline,
        in_footer: true,
    },
    Binding {
        action: Action::DropNudge,
        keys: &[key('d')],
        label: "as planned",
        help: "leave the next value to the plan again",
        applies: |m| !m.gone && m.view == View::Climb && m.has_baseline,
        in_footer: false,
    },
    Binding {
        action: Action::Pause,
        keys: &[key(' ')],
        label: "pause",
        help: "hold the run still, or let it go on",
        applies: |m| m.running,
        in_footer: true,
    },
    Binding {
        action: Action::Stop,
        keys: &[key('s')],
        label: "stop",
        help: "stop the run; it proves nothing then",
        applies: |m| m.running,
        in_footer: true,
    },
    Binding {
        action: Action::Keep,
        keys: &[key('k')],
        label: "keep",
        help: "keep the outcome as a profile and put the card to it",
        applies: |m| m.waits() && m.has_outcome,
        in_footer: true,
    },
    Binding {
        action: Action::Earlier,
        keys: &[KeyCode::Left],
        label: "earlier",
        help: "look at the trial before",
        applies: |m| m.waits() && m.view == View::Climb && m.has_trials,
        in_footer: true,
    },
    Binding {
        action: Action::Later,
        keys: &[KeyCode::Right],
        label: "later",
        help: "look at the trial after",
        applies: |m| m.waits() && m.view == View::Climb && m.looking,
        in_footer: true,
    },
    Binding {
        action: Action::Present,
        keys: &[KeyCode::Esc],
        label: "present",
        help: "stop looking at an earlier trial, or close what is open",
        applies: |m| m.waits() && m.looking,
        in_footer: false,
    },
    Binding {
        action: Action::Mark,
        keys: &[key('m')],
        label: "mark",
        help: "give the trial looked at, or the last one, a verdict of your own",
        applies: |m| !m.gone && m.has_trials,
        in_footer: true,
    },
    Binding {
        action: Action::EndStage,
        keys: &[key('e')],
        label: "end stage",
        help: "end the stage with what is known",
        applies: |m| !m.gone && !m.has_outcome,
        in_footer: true,
    },
    Binding {
        action: Action::BackToStock,
        keys: &[key('b')],
        label: "to stock",
        help: "put the card to its factory settings; stops a run",
        applies: |m| !m.gone,
        in_footer: true,
    },
    Binding {
        action: Action::NewClimb,
        keys: &[key('n')],
        label: "new climb",
        help: "begin another climb on this card",
        applies: |m| m.waits() && (m.has_trials || !m.has_next),
        in_footer: false,
    },
    Binding {
        action: Action::Pace,
        keys: &[key('p')],
        label: "pace",
        help: "run the virtual clock at 1×, 10×, 60× or as fast as possible",
        applies: |m| !m.gone,
        in_footer: true,
    },
    Binding {
        action: Action::Show(View::Survey),
        keys: &[key('1')],
        label: "Survey",
        help: "show the card, its settings, sensors and baseline",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Show(View::Climb),
        keys: &[key('2')],
        label: "Climb",
        help: "show the staircase, the run and the next step",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Help,
        keys: &[key('?')],
        label: "all keys",
        help: "show this table",
        applies: |_| true,
        in_footer: true,
    },
    Binding {
        action: Action::Quit,
        keys: &[key('q')],
        label: "quit",
        help: "put the card back to what was kept, or to stock, and leave",
        applies: |_| true,
        in_footer: true,
    },
];

/// The action a key stands for at this moment.
#[must_use]
pub fn action_for(event: KeyEvent, moment: Moment) -> Option<Action> {
    if event.modifiers.contains(KeyModifiers::CONTROL) {
        return (event.code == key('c')).then_some(Action::Quit);
    }
    BINDINGS
        .iter()
        .find(|binding| binding.keys.contains(&event.code) && (binding.applies)(moment))
        .map(|binding| binding.action)
}

/// A key as it is shown.
#[must_use]
pub fn key_name(code: KeyCode) -> String {
    match code {
        KeyCode::Enter => "Enter".into(),
        KeyCode::Esc => "Esc".into(),
        KeyCode::Up => "↑".into(),
        KeyCode::Down => "↓".into(),
        KeyCode::Left => "←".into(),
        KeyCode::Right => "→".into(),
        KeyCode::Char(' ') => "Space".into(),
        KeyCode::Char(character) => character.to_string(),
        other => format!("{other:?}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::collections::BTreeMap;

    #[rstest]
    fn no_two_actions_share_a_key() {
        let mut owners: BTreeMap<String, Vec<&str>> = BTreeMap::new();
        for binding in BINDINGS {
            for code in binding.keys {
                owners.entry(key_name(*code)).or_default().push(binding.label);
            }
        }
        let shared: Vec<_> = owners.iter().filter(|(_, owners)| owners.len() > 1).collect();
        assert!(shared.is_empty(), "{shared:?}");
    }

    #[rstest]
    fn every_action_is_in_the_table_once_with_words() {
        for binding in BINDINGS {
            let same = BINDINGS.iter().filter(|other| other.action == binding.action).count();
            assert_eq!(same, 1, "{:?}", binding.action);
            assert!(!binding.keys.is_empty() && !binding.label.is_empty());
            assert!(binding.help.len() > 8, "{:?} needs a line of help", binding.action);
        }
        for view in View::ALL {
            assert!(BINDINGS.iter().any(|binding| binding.action == Action::Show(view)));
        }
    }

    #[rstest]
    fn control_c_always_quits_and_other_control_keys_do_nothing() {
        let moment = Moment {
            view: View::Climb,
            running: true,
            gone: false,
            has_next: true,
            has_outcome: false,
            has_trials: true,
            has_baseline: true,
            looking: false,
        };
        let press = |character| KeyEvent::new(key(character), KeyModifiers::CONTROL);
        assert_eq!(action_for(press('c'), moment), Some(Action::Quit));
        assert_eq!(action_for(press('s'), moment), None);
        let plain = |character| KeyEvent::new(key(character), KeyModifiers::NONE);
        assert_eq!(action_for(plain('s'), moment), Some(Action::Stop));
        assert_eq!(action_for(plain('k'), moment), None, "nothing to keep while a trial runs");
    }
}
