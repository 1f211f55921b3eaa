//! The keys of Survey.

use crate::tui::keys::action::{Action, View};
use crate::tui::keys::binding::{Binding, key};

/// What can be done in Survey only.
pub(crate) static BINDINGS: &[Binding] = &[Binding {
    action: Action::Machine,
    keys: &[key('r')],
    label: "room, supply, alarms",
    help: "say what room, power supply and alarms are",
    applies: |m| m.view == View::Survey && !m.gone,
    in_footer: true,
}];
