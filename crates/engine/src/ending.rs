//! How a run ends: what the card's errors mean for it, and whether somebody should look first.

use yard_step_card::CardError;
use yard_step_core::{AlarmAct, Ending};

/// Whether a run ended so that nothing should go on before the user has had a look.
pub(crate) fn wants_a_look(ending: &Ending) -> bool {
    matches!(ending, Ending::Alarm(raised) if raised.alarm.act == AlarmAct::PutBack)
}

/// How a run ends whose card does not do what it is asked.
pub(crate) fn ending_of_error(error: &CardError) -> Ending {
    match error {
        CardError::MachineDown => Ending::MachineDown,
        CardError::NoKeeper { .. } => Ending::NotHeld(error.to_string()),
        other => Ending::CardGone(other.to_string()),
    }
}
