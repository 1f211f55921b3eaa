//! The keeper: the only process that writes to a real card. It runs as root; everything else runs as the user.
//!
//! ```text
//!   engine ── KeptCard ──┬── socket ── keeper ── files of the card (writing)
//!   guard  ── KeptCard ──┘      │         └── record on disk: factory, way back, whether the card is away from it
//!      └── files of the card (reading) ── nobody is asked for that
//! ```
//!
//! Whoever opens a card at the keeper controls it, alone. The keeper checks every value against the ranges that it has read
//! itself, and puts the card to the way back when its controller is gone, has been silent for [`SILENCE`], or when it is told
//! to stop itself. A keeper that was killed leaves its record: the next one puts the card back before anything else.

mod client;
mod host;
mod kept;
mod limits;
mod peers;
mod record;
mod wire;

pub use client::KeptCard;
pub use host::{Keeper, KeeperPlaces, Stop, put_back_all};
pub use peers::Peers;
pub use record::limits_in;

use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::kernel;

/// What stands for the software Vulkan driver in place of an address.
pub const SOFTWARE: &str = "software";
/// Where a keeper listens, where nothing else is said.
pub const SOCKET: &str = "/run/yard-step/keeper.sock";
/// Where it writes down what it must know after a kill.
pub const RECORDS: &str = "/var/lib/yard-step/keeper";
/// How long a machine must run with what it was started with, until it has borne it.
pub const BEARS_AFTER: Duration = Duration::from_secs(600);
/// How long a controller may be silent while its card is away from the way back.
pub const SILENCE: Duration = Duration::from_secs(2);

/// What is shared, for as long as nobody else has it. A thread that panicked with it has left it whole.
fn locked<T>(shared: &Mutex<T>) -> MutexGuard<'_, T> {
    shared.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Where a real card and its keeper are found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptAddress {
    /// The card's address on the bus, such as `0000:03:00.0`.
    pub card: String,
    /// Root of the kernel's device files.
    pub sysfs: PathBuf,
    /// The keeper's socket.
    pub keeper: PathBuf,
    /// Whether loads are drawn by the software Vulkan driver, for tests.
    #[serde(default)]
    pub in_software: bool,
}

impl KeptAddress {
    /// A card of this machine, at its usual keeper.
    #[must_use]
    pub fn of(card: &str) -> Self {
        Self {
            card: card.to_owned(),
            sysfs: Path::new(kernel::SYSFS).to_owned(),
            keeper: Path::new(SOCKET).to_owned(),
            in_software: false,
        }
    }
}

impl fmt::Display for KeptAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", kernel::PREFIX, self.card)
    }
}
