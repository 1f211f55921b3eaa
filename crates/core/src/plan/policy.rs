//! How the steps of a search are chosen.

use std::fmt;

use serde::{Deserialize, Serialize};

/// How the steps of a search are chosen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Policy {
    /// Coarse steps, then fine ones, as people do by hand.
    #[serde(alias = "steady")]
    FixedStep,
    /// Coarse steps, then halving what is left between held and failed.
    #[serde(alias = "halving")]
    Bisection,
    /// The trial from which most is learnt per minute.
    #[default]
    #[serde(alias = "believing")]
    Bayesian,
}

impl Policy {
    /// All policies.
    pub const ALL: [Self; 3] = [Self::FixedStep, Self::Bisection, Self::Bayesian];

    /// The policy's name.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::FixedStep => "fixed-step",
            Self::Bisection => "bisection",
            Self::Bayesian => "bayesian",
        }
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
        let label = match label {
            "steady" => "fixed-step",
            "halving" => "bisection",
            "believing" => "bayesian",
            present => present,
        };
        Self::ALL.into_iter().find(|policy| policy.label() == label)
    }
}

impl fmt::Display for Policy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.label())
    }
}
