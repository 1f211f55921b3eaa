//! Where a card stands: what its user says about the room and the case.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::units::Celsius;

/// Whether the case is open.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    Serialize,
    Deserialize,
    strum::VariantNames,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "lowercase")]
pub enum Case {
    /// Open, or none at all: the card breathes the air of the room.
    #[default]
    Open,
    /// Closed: the card breathes air it has warmed itself.
    Closed,
}

impl Case {
    /// The word.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }
}

/// The room a trial was made in, as its user entered it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Room {
    /// Temperature of the room, −20 to 60 °C.
    #[serde(rename = "ambient_c")]
    pub ambient: Celsius,
    /// The case.
    pub case: Case,
}

impl Default for Room {
    fn default() -> Self {
        Self { ambient: Celsius(22.0), case: Case::Open }
    }
}

impl fmt::Display for Room {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}, case {}", self.ambient, self.case.label())
    }
}
