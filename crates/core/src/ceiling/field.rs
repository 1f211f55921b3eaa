//! The limits whose meaning is known.

use serde::{Deserialize, Serialize};

/// A limit whose meaning is known.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "kebab-case")]
pub enum LimitField {
    /// Highest power limit that may be set, W.
    PowerLimit,
    /// Highest current into the chip, A.
    CurrentLimit,
    /// Highest voltage of the core, mV.
    VoltageCeiling,
    /// Highest core clock, MHz.
    CoreClock,
    /// Highest actual memory clock, MHz.
    MemoryClock,
}

impl LimitField {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Self; 5] = [
        Self::PowerLimit,
        Self::CurrentLimit,
        Self::VoltageCeiling,
        Self::CoreClock,
        Self::MemoryClock,
    ];

    /// Its name on the command line, such as `power-limit`.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.into()
    }

    /// Its name to show.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::PowerLimit => "power limit",
            Self::CurrentLimit => "current limit",
            Self::VoltageCeiling => "voltage ceiling",
            Self::CoreClock => "core clock",
            Self::MemoryClock => "memory clock",
        }
    }

    /// Its unit.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::PowerLimit => "W",
            Self::CurrentLimit => "A",
            Self::VoltageCeiling => "mV",
            Self::CoreClock | Self::MemoryClock => "MHz",
        }
    }
}

/// One field of a table.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LimitValue {
    /// Which.
    pub field: LimitField,
    /// Its value, in its [unit](LimitField::unit).
    pub value: f64,
}
