//! Cards: what the engine can do with one, and the stand-in cards that ship with Yard Step.
//!
//! ```text
//!   connect(address) ──► dyn Card ──┬── StandIn    a physical model on a virtual clock, seeded
//!                                   ├── SlotCard   a stand-in in a process of its own, behind a socket
//!                                   └── KeptCard    a real card: its files are read here, and written by the keeper
//! ```

mod address;
mod ceiling;
mod fan_driver;
pub mod keeper;
pub mod kernel;
mod lines;
mod reach;
mod restore;
mod runtime_dir;
pub mod slot;
mod standin;
mod users;
mod whole;

pub use address::{
    CardAddress, CardChoice, ChoiceError, KINDS, connect, connect_hosted, connect_to_held,
    only_real_card,
};
pub use ceiling::{CeilingError, CeilingRecord, CeilingStore, read_table};
pub use fan_driver::FanDriver;
pub use reach::{DrawsAt, Reach};
pub use restore::{NotBack, is_held, restore};
pub use runtime_dir::{RuntimeDir, RuntimeDirError, file_name};
pub use standin::{
    Blemish, Brief, BriefCard, BriefEnding, Disturbance, Edges, Family, FaultInjection, Incident,
    Mishaps, StandIn, Steady, Warm,
};
pub use users::this_user;

use std::sync::Arc;

use serde::{Deserialize, Serialize};
use thiserror::Error;
use yard_step_core::{
    CardDescription, Demand, LimitTable, Limiter, Percent, Room, Sample, Seconds, Settings,
    WantedLimits, Workload,
};

/// Why a card did not do what it was asked.
#[derive(Debug, Clone, PartialEq, Error)]
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
    /// The card was there and is not any more.
    #[error("the card is gone ({cause}); restart the machine to have it back")]
    Gone {
        /// What was found in its place.
        cause: String,
    },
    /// The card's host would not do what it was asked.
    #[error("the card refused: {why}")]
    Refused {
        /// Why.
        why: String,
    },
    /// Nobody may write to the card just now.
    #[error("the card cannot be changed: {why}")]
    NoKeeper {
        /// Why, in half a sentence.
        why: String,
    },
    /// The card was asked and did not answer.
    #[error("the card did not answer within {} when it was asked to {doing}; restart the machine", .waited.in_words())]
    NoAnswer {
        /// The operation, as a verb.
        doing: &'static str,
        /// How long it was waited for.
        waited: Seconds,
    },
}

/// How a card drops the load it runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LoadLost {
    /// The load lost its device; the card and its settings are as before.
    Died,
    /// The load does not move any more: it gives the card no work, or waits for the card in vain.
    Hung,
    /// The driver took the card down and up: it is back at stock, and odd until a restart.
    DriverReset,
    /// The machine went down.
    MachineDown,
    /// The card is gone, or does not answer.
    Gone,
    /// Whoever holds the settings on the card is gone, and has put it back.
    KeeperGone,
    /// Another program has changed the settings.
    SettingsChanged,
}

/// By which clock a card works.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Clock {
    /// One of its own, which moves only when it is told to, as fast as wanted.
    Virtual,
    /// The clock on the wall: a second of work takes a second.
    Wall,
}

/// Where the work of a run comes from.
pub enum Work<'a> {
    /// From a load in this process: the card calls it for every frame.
    Here(&'a mut dyn Workload),
    /// From a program that reaches the card by itself.
    Elsewhere,
}

/// What a card did in a span of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Ran {
    /// Frames finished for a load that reaches the card by itself; none where the card cannot tell.
    pub frames: Option<u64>,
}

/// Tells whoever holds a card that its controller is alive, while the controller waits for something else.
pub type SignOfLife = Arc<dyn Fn() + Send + Sync>;

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

    /// What was refused as the card was asked last, in sentences. A card that refuses in silence says nothing here either.
    fn refused(&mut self) -> Vec<String> {
        Vec::new()
    }

    /// The settings the card holds.
    ///
    /// # Errors
    /// The machine is down.
    fn taken(&mut self) -> Result<Settings, CardError>;

    /// What the card held before anything was changed, for a card that nobody has noted yet: what it holds now, or what its
    /// keeper has noted. None where it cannot be told.
    fn factory(&mut self) -> Option<Settings> {
        self.taken().ok()
    }

    /// Turns the fan at a fixed speed and leaves all else as it is held. A fan that cannot be set stays as it is.
    ///
    /// # Errors
    /// The machine is down.
    fn turn_fan(&mut self, speed: Percent) -> Result<(), CardError>;

    /// All sensors, read now. The sample's time is zero: the caller knows since when it counts.
    ///
    /// # Errors
    /// The machine is down.
    fn sample(&mut self) -> Result<Sample, CardError>;

    /// What held the clock back as it was [sampled](Card::sample) last, as far as the card tells that itself.
    fn limiter(&self) -> Option<Limiter> {
        None
    }

    /// Works for a span of time.
    ///
    /// # Errors
    /// The card dropped the load.
    fn run(&mut self, span: Seconds, work: Work<'_>) -> Result<Ran, LoadLost>;

    /// Lets a span of time pass without a load.
    fn idle(&mut self, span: Seconds);

    /// Tells the card about the room, as the user described it. A real card stands in it already; a stand-in moves.
    fn set_room(&mut self, room: Room) {
        let _ = room;
    }

    /// Restarts the machine, where that is ours to do; whether it was.
    fn restart_machine(&mut self) -> bool;

    /// Names the present run of the machine: two answers differ if it was restarted in between.
    fn boot(&mut self) -> String;

    /// Leaves the card in order: a stand-in's machine is switched off when all have left it.
    fn leave(&mut self) {}

    /// Tells whoever holds the card by itself where it is to go back to.
    ///
    /// # Errors
    /// It cannot be told.
    fn hold_way_back(&mut self, settings: &Settings) -> Result<(), CardError> {
        let _ = settings;
        Ok(())
    }

    /// Tells whoever holds the card by itself what it is to be put to at the start of the machine; none is stock. `renew`
    /// forgets how the last start went.
    ///
    /// # Errors
    /// It cannot be told.
    fn set_start(&mut self, settings: Option<&Settings>, renew: bool) -> Result<(), CardError> {
        let _ = (settings, renew);
        Ok(())
    }

    /// What is known of its limit table.
    ///
    /// # Errors
    /// The table cannot be read, or the card is only looked at.
    fn ceiling(&mut self) -> Result<CeilingRecord, CardError> {
        Err(CardError::Refused { why: "its limit table cannot be read".into() })
    }

    /// Has its driver read a limit table at its next start; none is the maker's.
    ///
    /// # Errors
    /// The table is refused or cannot be written, or the card has none.
    fn want_limits(&mut self, wanted: Option<&WantedLimits>) -> Result<(), CardError> {
        let _ = wanted;
        Err(CardError::Refused { why: "its limit table cannot be written".into() })
    }

    /// Copies the table that the card has now as the maker's, in place of the copy of first sight: its firmware is another.
    ///
    /// # Errors
    /// That cannot be, or the copy cannot be written.
    fn renew_makers_limits(&mut self) -> Result<(), CardError> {
        Err(CardError::Refused { why: "the copy of its limit table cannot be renewed".into() })
    }

    /// What there is to say of the card as it was found, in sentences: how the start of the machine went.
    fn told(&mut self) -> Vec<String> {
        Vec::new()
    }

    /// What the system's log has told of the card in the last so many seconds, the newest last; nothing where it cannot be
    /// read.
    fn system_log(&mut self, since: Seconds) -> Vec<String> {
        let _ = since;
        Vec::new()
    }

    /// Where a load in another process draws on this card; none for a card that lives in this process.
    fn draws_at(&self) -> Option<DrawsAt> {
        None
    }

    /// How whoever holds the card by itself hears that its controller is alive, while the card is not asked for anything; none
    /// for a card that nobody else holds.
    fn sign_of_life(&self) -> Option<SignOfLife> {
        None
    }

    /// How another process reaches this card, to put it back; none for one that lives in this process.
    fn reach(&self) -> Option<Reach> {
        None
    }

    /// By which clock it works.
    fn clock(&self) -> Clock {
        Clock::Virtual
    }

    /// What can be done with the card because it is simulated; none for a real one, and for one that
    /// another process simulates.
    fn simulation(&mut self) -> Option<&mut dyn Simulation> {
        None
    }
}

/// What a simulated card can do besides.
pub trait Simulation {
    /// From now on nothing goes wrong by chance.
    fn without_mishaps(&mut self);

    /// Starts its machine anew with a limit table in place of the maker's.
    fn start_with_limits(&mut self, table: LimitTable);

    /// The edges of this unit under frames of this demand, for judging a climb.
    fn edges(&self, demand: &dyn Fn(u64) -> Demand) -> Edges;
}
