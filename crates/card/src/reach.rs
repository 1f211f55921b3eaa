//! How the processes of this program tell one another where a card is.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::keeper::KeptAddress;
use crate::slot::SlotAddress;

/// How another process reaches a card. It is written as JSON.
///
/// The user cannot name a card like this: whoever did so would go past the lock of the card's own name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Reach {
    /// A stand-in in the slot behind this socket.
    Slot(PathBuf),
    /// A real card, through its keeper.
    Kept(KeptAddress),
}

impl fmt::Display for Reach {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        serde_json::to_string(self).map_err(|_| fmt::Error)?.fmt(f)
    }
}

impl FromStr for Reach {
    type Err = serde_json::Error;

    fn from_str(text: &str) -> Result<Self, serde_json::Error> {
        serde_json::from_str(text)
    }
}

/// Where a load draws on a card.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DrawsAt {
    /// In the slot of a stand-in.
    Slot(SlotAddress),
    /// On the graphics card itself, by its address on the bus.
    Gpu(String),
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Reach::Slot("/run/user/7/yard-step/a b.sock".into()))]
    #[case(Reach::Kept(KeptAddress::of("0000:03:00.0")))]
    fn what_is_written_is_read_back(#[case] reach: Reach) {
        assert_eq!(reach.to_string().parse::<Reach>().unwrap(), reach);
    }
}
