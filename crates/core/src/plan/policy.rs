//! How the steps of a search are chosen.

use std::fmt;

use serde::{Deserialize, Serialize};

/// How the steps of a search are chosen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Policy {
    /// Fixed steps, as people do by hand.
    Steady,
    /// Coarse steps, then halving what is left.
    Halving,
    /// Where a minute tells most of the edge.
    #[default]
    Believing,
}

impl Policy {
    /// All policies.
    pub const ALL: [Self; 3] = [Self::Steady, Self::Halving, Self::Believing];

    /// The policy's name.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Steady => "steady",
            Self::Halving => "halving",
            Self::Believing => "believing",
        }
    }

    /// What it does, in half a sentence.
    #[must_use]
    pub const fn how(self) -> &'static str {
        match self {
            Self::Steady => "fixed steps, coarse then fine, and an hour at what held",
            Self::Halving => "coarse steps, then halves what is left, and an hour at what held",
            Self::Believing => "goes where a minute tells most of the edge",
        }
    }

    /// The policy of that name.
    #[must_use]
    pub fn from_label(label: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|policy| policy.label() == label)
    }
}

impl fmt::Display for Policy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.label())
    }
}
