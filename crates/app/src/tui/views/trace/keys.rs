//! The keys of Trace.

use ratatui::crossterm::event::KeyCode;

use crate::tui::keys::action::{Action, View};
use crate::tui::keys::binding::{Binding, key};

/// What can be done in Trace only.
pub(crate) static BINDINGS: &[Binding] = &[
    Binding {
        action: Action::CursorBack,
        keys: &[KeyCode::Left],
        label: "cursor",
        help: "move the cursor back in time (Shift: ten times as far)",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::CursorOn,
        keys: &[KeyCode::Right],
        label: "cursor",
        help: "move the cursor on in time",
        applies: |m| m.has_run,
        in_footer: false,
    },
    Binding {
        action: Action::ZoomIn,
        keys: &[key('+'), key('='), KeyCode::Up],
        label: "zoom in",
        help: "show half the time, around the cursor",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::ZoomOut,
        keys: &[key('-'), KeyCode::Down],
        label: "out",
        help: "show twice the time",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::ScrollBack,
        keys: &[key('['), KeyCode::PageUp],
        label: "back",
        help: "show the time before",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::ScrollOn,
        keys: &[key(']'), KeyCode::PageDown],
        label: "on",
        help: "show the time after",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::Freeze,
        keys: &[key('f')],
        label: "hold still",
        help: "freeze the picture while data arrives, or let it run",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::ResetFigures,
        keys: &[key('r')],
        label: "reset",
        help: "take lowest, mean and highest from now on",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::LayOver,
        keys: &[key('o')],
        label: "lay over",
        help: "overlay an earlier trial; again for the one before, then none",
        applies: |m| m.has_run && m.waits() && m.has_trials,
        in_footer: true,
    },
    Binding {
        action: Action::Export,
        keys: &[key('x')],
        label: "export",
        help: "write the stretch that is shown as CSV",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::Import,
        keys: &[key('i')],
        label: "import",
        help: "read a trace made elsewhere",
        applies: |m| m.view == View::Trace,
        in_footer: true,
    },
];
