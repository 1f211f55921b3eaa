//! The keys of Proof.

use ratatui::crossterm::event::KeyCode;

use crate::tui::keys::action::{Action, View};
use crate::tui::keys::binding::{Binding, key};

/// What can be done in Proof only.
pub(crate) static BINDINGS: &[Binding] = &[
    Binding {
        action: Action::Prove,
        keys: &[KeyCode::Enter],
        label: "soak it",
        help: "soak the selected settings: choose loads, length and what comes after a fault",
        applies: |m| m.view == View::Proof && m.waits() && m.has_candidate && !m.soaking && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::ProofUp,
        keys: &[KeyCode::Up],
        label: "select",
        help: "select the settings above",
        applies: |m| m.view == View::Proof,
        in_footer: true,
    },
    Binding {
        action: Action::ProofDown,
        keys: &[KeyCode::Down],
        label: "select",
        help: "select the settings below",
        applies: |m| m.view == View::Proof,
        in_footer: false,
    },
    Binding {
        action: Action::CheckHere,
        keys: &[key('v')],
        label: "check it",
        help: "check in 20 minutes whether the selected profile is still what it was",
        applies: |m| m.view == View::Proof && m.waits() && m.has_checkable && !m.soaking && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::EndSoak,
        keys: &[key('d')],
        label: "end the soak",
        help: "end the soak with what is known; its runs stay as evidence",
        applies: |m| m.view == View::Proof && m.soaking && !m.gone,
        in_footer: true,
    },
    Binding {
        action: Action::ExportPage,
        keys: &[key('x')],
        label: "page",
        help: "write one page about the selected settings: SVG, PDF, Markdown, HTML or text",
        applies: |m| m.view == View::Proof && m.has_candidate,
        in_footer: true,
    },
];
