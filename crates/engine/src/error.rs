//! What keeps the engine from going on.

use thiserror::Error;
use yard_step_card::NotBack;
use yard_step_core::{ClimbError, MachineError, Risk};
use yard_step_ledger::LedgerError;

use crate::load::UnknownLoad;
use crate::restart::Restart;

/// Why the engine stopped. The card was put back before this is told.
#[derive(Debug, Error)]
pub enum EngineError {
    /// The ledger failed: nothing may be tried that cannot be written down first.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The climb cannot be laid out.
    #[error(transparent)]
    Climb(#[from] ClimbError),
    /// The plan names a load there is not.
    #[error("the plan's scene cannot be run: {0}")]
    Load(#[from] UnknownLoad),
    /// A load that has to run without anybody watching cannot.
    #[error("trial {trial}: {cause}")]
    LoadNotBegun {
        /// The trial.
        trial: u32,
        /// Why.
        cause: String,
    },
    /// The machine went down in a trial: nothing more can be written down of it.
    #[error("the machine went down in trial {trial}. Restart it to go on.")]
    MachineDown {
        /// The trial.
        trial: u32,
    },
    /// The machine is down.
    #[error("the machine is down. Restart it to go on.")]
    IsDown,
    /// The machine could not be restarted.
    #[error("the machine did not come up again: {0}")]
    NoRestart(String),
    /// The machine has to be restarted, and that is for the user to do.
    #[error("{0} Restart the machine, and open Yard Step again: it goes on from there.")]
    RestartYourself(Restart),
    /// There is nobody to put the card back if this process ends.
    #[error("no guard can be started, and nothing runs without one: {0}")]
    NoGuard(std::io::Error),
    /// The trial must not run without an explicit yes.
    #[error("this trial needs an explicit yes: {}", yard_step_words::risk(.0))]
    NeedsYes(Risk),
    /// A card does not hold the settings it was put back to.
    #[error("{0}. Restart the machine: that brings it to stock.")]
    NotBack(#[from] NotBack),
    /// Something failed, and after that the card could not be put back.
    #[error("{}. After that, {not_back}. Restart the machine: that brings it to stock.", error.to_string().trim_end_matches('.'))]
    FailedAndNotBack {
        /// What failed.
        error: Box<EngineError>,
        /// The card.
        not_back: NotBack,
    },
    /// Two cards that cannot be held in step.
    #[error("{one} and {other} cannot be held in step: that takes two different cards of one kind")]
    NotAlike {
        /// The card climbed on.
        one: String,
        /// The other.
        other: String,
    },
    /// A free run drives one card.
    #[error("a free run drives one card: take the others out of step first (c lists the cards)")]
    FreeInStep,
    /// The card does not take a profile.
    #[error("the card does not take the profile: {0}")]
    ProfileNotTaken(String),
    /// A profile lies beyond the limits in force.
    #[error("profile \"{name}\" is not applied. Its settings: {}. {why}", .settings)]
    NeedsLimits {
        /// Which.
        name: String,
        /// Its settings, in short.
        settings: String,
        /// Why not.
        why: String,
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
