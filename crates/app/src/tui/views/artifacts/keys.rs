//! The keys of Artifacts.

use ratatui::crossterm::event::KeyCode;

use crate::tui::keys::action::{Action, View};
use crate::tui::keys::binding::{Binding, key};

/// What can be done in Artifacts only.
pub(crate) static BINDINGS: &[Binding] = &[
    Binding {
        action: Action::FrameBefore,
        keys: &[KeyCode::Left],
        label: "frame before",
        help: "show the spoilt frame before",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::FrameAfter,
        keys: &[KeyCode::Right],
        label: "after",
        help: "show the spoilt frame after",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::ArtifactUp,
        keys: &[KeyCode::Up],
        label: "artifact",
        help: "select the artifact above",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::ArtifactDown,
        keys: &[KeyCode::Down],
        label: "artifact",
        help: "select the artifact below",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: false,
    },
    Binding {
        action: Action::Nearer,
        keys: &[key('+'), key('=')],
        label: "zoom in",
        help: "zoom in on the selected artifact",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::Farther,
        keys: &[key('-')],
        label: "zoom out",
        help: "zoom out of the frame",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::ExportPicture,
        keys: &[key('x')],
        label: "export",
        help: "write frame, reference and difference as PNG",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
];
