//! What goes over the keeper's socket: requests and replies, each a JSON object in a line of its own, of bounded length.
//! The first request of a connection opens a card.

use serde::{Deserialize, Serialize};
use yard_step_core::{Percent, Settings, WantedLimits};

use crate::CeilingRecord;
use crate::kernel::Factory;

/// Longest request, bytes: settings with a long V/F curve take a few thousand.
pub(super) const MOST_REQUEST: usize = 64 << 10;
/// Longest reply, bytes.
pub(super) const MOST_REPLY: usize = 1 << 20;

/// What the keeper is asked.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "ask", rename_all = "snake_case")]
pub(super) enum Request {
    /// Opens a card: to control it, or only to be told of it.
    Open { card: String, controls: bool },
    /// Hold these settings.
    Apply { settings: Box<Settings> },
    /// Say what the card holds.
    Taken,
    /// Turn the fan at this speed.
    TurnFan { percent: Percent },
    /// Go back to these settings once nobody controls the card.
    WayBack { settings: Box<Settings> },
    /// Put the card to these settings at the start of the machine, as long as the driver is the same; none is stock. `renew`
    /// forgets how the last start went.
    Start { settings: Option<Box<Settings>>, renew: bool },
    /// Say what is known of the card's limit table.
    Ceiling,
    /// Load this limit table at the next start of the machine; none is the maker's.
    WantLimits { wanted: Option<Box<WantedLimits>> },
    /// Copy the limit table that the card has now as the maker's.
    RenewLimits,
    /// Say what the kernel's log has told of the card in the last so many seconds.
    Log { seconds: f64 },
    /// The controller is alive.
    Alive,
    /// Put the card to the way back: its controller leaves in order.
    Leave,
}

impl Request {
    /// The operation, as a verb.
    pub(super) const fn doing(&self) -> &'static str {
        match self {
            Self::Open { .. } => "open the card",
            Self::Apply { .. } => "hold settings",
            Self::Taken => "say what it holds",
            Self::TurnFan { .. } => "turn its fan",
            Self::WayBack { .. } => "note the way back",
            Self::Start { .. } => "note what to start with",
            Self::Ceiling => "say what is known of its limit table",
            Self::WantLimits { .. } => "note its limit table",
            Self::RenewLimits => "copy its limit table",
            Self::Log { .. } => "read the kernel's log",
            Self::Alive => "listen",
            Self::Leave => "let the card go",
        }
    }
}

/// What it answers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "answer", rename_all = "snake_case")]
pub(super) enum Reply {
    Done,
    /// The card is open: what it was like before anything was changed; and what stood in its way at the start of the machine,
    /// where something did.
    Opened {
        factory: Box<Factory>,
        #[serde(default)]
        told: Vec<String>,
    },
    /// The settings were written, but for what the kernel refused.
    Applied {
        refused: Vec<String>,
    },
    Holds {
        settings: Box<Settings>,
    },
    Ceiling {
        record: Box<CeilingRecord>,
    },
    /// The newest lines, oldest first.
    Logged {
        lines: Vec<String>,
    },
    /// The card was put back meanwhile, or never opened: the request was not carried out.
    NotControlled {
        why: String,
    },
    /// It was not carried out.
    Refused {
        why: String,
    },
    /// The card does not answer.
    Gone {
        why: String,
    },
}
