//! How much is taken off what was found, and what is claimed for the rest, by what it is for.

use serde::{Deserialize, Serialize};

use crate::units::Seconds;

/// Time without a fault under a mixture that a profile needs to be proven by its climb: less proves nothing,
/// however sure the climb was.
pub const LEAST_LONG_RUN: Seconds = Seconds(600.0);

/// What settings are to be good for.
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
    strum::VariantNames,
    strum::IntoStaticStr,
    strum::EnumString,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "lowercase")]
pub enum Margin {
    /// One lucky run.
    Record,
    /// Every day.
    #[default]
    Daily,
    /// Somebody else's every day, with nobody there who knows what to do.
    Gift,
}

impl Margin {
    /// All margins, the boldest first.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] =
        [Self::Record, Self::Daily, Self::Gift];

    /// The margin's name in a plan.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// What it is for, in words.
    #[must_use]
    pub const fn purpose(self) -> &'static str {
        match self {
            Self::Record => "a record try",
            Self::Daily => "daily use",
            Self::Gift => "a gift",
        }
    }

    /// The margin of that name.
    #[must_use]
    pub fn from_label(label: &str) -> Option<Self> {
        label.parse().ok()
    }

    /// How long settings are to stand without a fault.
    #[must_use]
    pub const fn span(self) -> Seconds {
        match self {
            Self::Record => Seconds(600.0),
            Self::Daily => Seconds(86_400.0),
            Self::Gift => Seconds(30.0 * 86_400.0),
        }
    }

    /// With which chance they are to stand it, 0 to 1.
    #[must_use]
    pub const fn chance(self) -> f64 {
        match self {
            Self::Record => 0.8,
            Self::Daily | Self::Gift => 0.99,
        }
    }

    /// How sure the climb must be of that chance before it keeps them, 0 to 1.
    #[must_use]
    pub const fn confidence(self) -> f64 {
        match self {
            Self::Record => 0.6,
            Self::Daily => 0.99,
            Self::Gift => 0.995,
        }
    }

    /// Faults that may be expected in the span, so that it is stood with the chance: `−ln p`.
    #[must_use]
    pub fn faults(self) -> f64 {
        -self.chance().ln()
    }

    /// Length of the span, hours.
    #[must_use]
    pub fn hours(self) -> f64 {
        self.span().value() / 3_600.0
    }

    /// Fine steps that the stepwise policies take off, where a plan takes `daily` for daily use.
    #[must_use]
    pub const fn fine_steps(self, daily: i32) -> i32 {
        match self {
            Self::Record => 0,
            Self::Daily => daily,
            Self::Gift => daily * 2,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn a_margin_is_named_and_expects_as_few_faults_as_its_chance_allows(
        #[values(Margin::Record, Margin::Daily, Margin::Gift)] margin: Margin,
    ) {
        assert_eq!(Margin::from_label(margin.label()), Some(margin));
        assert!(((-margin.faults()).exp() - margin.chance()).abs() < 1e-12);
    }

    #[test]
    fn the_bolder_comes_first() {
        for pair in Margin::ALL.windows(2) {
            assert!(pair[0].hours() < pair[1].hours());
            assert!(pair[0].chance() <= pair[1].chance());
            assert!(pair[0].confidence() < pair[1].confidence());
            assert!(pair[0].fine_steps(1) < pair[1].fine_steps(1));
        }
    }
}
