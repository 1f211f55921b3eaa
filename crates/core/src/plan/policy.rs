//! How the steps of a search are chosen.

use serde::{Deserialize, Serialize};

/// How the steps of a search are chosen.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Default,
    Serialize,
    Deserialize,
    strum::Display,
    strum::EnumCount,
    strum::IntoStaticStr,
    strum::EnumString,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Policy {
    /// Coarse steps, then fine ones, as people do by hand.
    #[serde(alias = "steady")]
    #[strum(to_string = "fixed-step", serialize = "steady")]
    FixedStep,
    /// Coarse steps, then halving what is left between held and failed.
    #[serde(alias = "halving")]
    #[strum(to_string = "bisection", serialize = "halving")]
    Bisection,
    /// The trial from which most is learnt per minute.
    #[default]
    #[serde(alias = "believing")]
    #[strum(to_string = "bayesian", serialize = "believing")]
    Bayesian,
}

impl Policy {
    /// All policies.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] =
        [Self::FixedStep, Self::Bisection, Self::Bayesian];

    /// The policy's name.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// What it does, in half a sentence.
    #[must_use]
    pub const fn how(self) -> &'static str {
        match self {
            Self::FixedStep => "coarse steps, then fine ones, and an hour at what held",
            Self::Bisection => "coarse steps, then bisection, and an hour at what held",
            Self::Bayesian => "the most informative trial per minute, each time",
        }
    }

    /// The policy of that name, or of the name it had in plans of earlier versions.
    #[must_use]
    pub fn from_label(label: &str) -> Option<Self> {
        label.parse().ok()
    }
}
