//! The keys of Survey.

use crate::tui::keys::action::{Action, View};
use crate::tui::keys::binding::{Binding, key};

/// What can be done in Survey only.
pub(crate) static BINDINGS: &[Binding] = &[
    Binding {
        action: Action::Machine,
        keys: &[key('r')],
        label: "room, supply, alarms",
        help: "say what room, power supply and alarms are",
        applies: |m| m.view == View::Survey && !m.gone,
        in_footer: true,
    },
    Binding {
        action: Action::Limits,
        keys: &[key('T')],
        label: "limit table",
        help: "look at the limits that the card's maker has set, and change them for the next start",
        applies: |m| m.view == View::Survey && m.has_limits && !m.gone,
        in_footer: true,
    },
];
