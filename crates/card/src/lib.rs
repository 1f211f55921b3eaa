//! Cards: what the engine can do with one, and the stand-in cards that ship with Yard Step.
//!
//! ```text
//!   engine ──► dyn Card ──┬── StandIn   a physical model on a virtual clock, seeded
//!                         └── (cards behind the operating system's files are to follow)
//! ```

mod catalogue;
mod standin;

pub use catalogue::{CardChoice, CardName, ChoiceError, KINDS};
pub use standin::{Disturbance, Edges, LimitOverride, Mishaps, StandIn, Warm};

use thiserror::Error;
use yard_step_core::{CardDescription, Room, Sample, Seconds, Settings, Workload};

/// Why a card did not do what it was asked.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CardError {
    /// The machine the card sits in is down.
    #[error("the machine is down; restart it to reach the card again")]
    MachineDown,
    /// A card's model cannot be read.
    #[error("the model of {name} is unusable: {cause}")]
    BadModel {
        /// Which card.
        name: String,
        /// What is wrong with it.
        cause: String,
    },
}

/// How a card drops the load it runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LoadLost {
    /// The load lost its device; the card and its settings are as before.
    Died,
    /// The driver took the card down and up: it is back at stock, and odd until a restart.
    DriverReset,
    /// The machine went down.
    MachineDown,
}

/// A graphics card, as far as tuning it goes. Time passes for a card only in [`run`](Card::run)
/// and [`idle`](Card::idle): a stand-in moves its virtual clock there, a real card waits.
pub trait Card: Send {
    /// What the card is and offers.
    fn description(&self) -> &CardDescription;

    /// Asks the card to hold `settings`; what they leave open goes to stock. The caller keeps
    /// inside the advertised ranges and reads back with [`taken`](Card::taken): a card may round,
    /// clamp or ignore what it is asked without saying so.
    ///
    /// # Errors
    /// The machine is down.
    fn apply(&mut self, settings: &Settings) -> Result<(), CardError>;

    /// The settings the card holds.
    ///
    /// # Errors
    /// The machine is down.
    fn taken(&mut self) -> Result<Settings, CardError>;

    /// All sensors, read now. The sample's time is zero: the caller knows since when it counts.
    ///
    /// # Errors
    /// The machine is down.
    fn sample(&mut self) -> Result<Sample, CardError>;

    /// Runs `load` for a span of time.
    ///
    /// # Errors
    /// The card dropped the load.
    fn run(&mut self, span: Seconds, load: &mut dyn Workload) -> Result<(), LoadLost>;

    /// Lets a span of time pass without a load.
    fn idle(&mut self, span: Seconds);

    /// Tells what the user says of the room. A real card stands in it already; a stand-in moves.
    fn set_room(&mut self, room: Room) {
        let _ = room;
    }

    /// Restarts the machine, where that is ours to do; whether it was.
    fn restart_machine(&mut self) -> bool;
}
