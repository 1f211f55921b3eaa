//! What keeps the engine from going on.

use thiserror::Error;
use yard_step_core::{ClimbError, MachineError};
use yard_step_ledger::LedgerError;
use yard_step_scenes::UnknownScene;

/// Why the engine stopped. The card was put back before this is told.
#[derive(Debug, Error)]
pub enum EngineError {
    /// The ledger failed: nothing may be tried that cannot be written down first.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The climb cannot be laid out.
    #[error(transparent)]
    Climb(#[from] ClimbError),
    /// The plan names a scene there is not.
    #[error("the plan's scene cannot be run: {0}")]
    Scene(#[from] UnknownScene),
    /// The trial must not run without an explicit yes.
    #[error("this trial needs an explicit yes: {0}")]
    NeedsYes(String),
    /// The card does not hold the settings it was put to.
    #[error(
        "the card does not hold the settings it was put to, though it was asked five times: restart the machine to have it at stock"
    )]
    DoesNotGoBack,
    /// Two cards that cannot be held in step.
    #[error("{one} and {other} cannot be held in step: that takes two different cards of one kind")]
    NotAlike {
        /// The card climbed on.
        one: String,
        /// The other.
        other: String,
    },
    /// A fact about the machine that cannot be.
    #[error(transparent)]
    Machine(#[from] MachineError),
    /// Another card of the machine cannot be opened.
    #[error("{0}")]
    Rack(String),
    /// There is no trial to carry out.
    #[error("{0}")]
    NothingToDo(String),
}
