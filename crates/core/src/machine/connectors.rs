//! What the power connectors of a card are rated for, as its user tells: no card states it.

use serde::{Deserialize, Serialize};

use crate::units::Watt;

/// Ratings that are believed, W: from the slot alone to more than any card has.
pub const RATINGS: (f64, f64) = (50.0, 2_000.0);

/// What the user said of the power connectors of one card.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CardConnectors {
    /// Key of the card.
    pub card: String,
    /// What all of them and the slot are rated for together, W.
    #[serde(rename = "rating_w")]
    pub rating: Watt,
}
