//! The keys of Climb.

use ratatui::crossterm::event::KeyCode;

use crate::tui::keys::action::{Action, View};
use crate::tui::keys::binding::{Binding, key};

/// What can be done in Climb only.
pub(crate) static BINDINGS: &[Binding] = &[
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
        help: "return the next value to the plan",
        applies: |m| !m.gone && m.view == View::Climb && m.has_baseline,
        in_footer: false,
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
        action: Action::Chart,
        keys: &[key('z')],
        label: "core/memory/map",
        help: "the staircase of core or memory, or the map of both",
        applies: |m| m.view == View::Climb,
        in_footer: true,
    },
];
