//! Which cards there are, and how the user names them.

use std::fmt;
use std::str::FromStr;

use thiserror::Error;

use crate::CardError;
use crate::standin::StandIn;

/// Every kind of stand-in: its name and its model.
pub const KINDS: [(&str, &str); 3] = [
    ("tarn-310", include_str!("../cards/tarn-310.toml")),
    ("bracken-208", include_str!("../cards/bracken-208.toml")),
    ("quern-540", include_str!("../cards/quern-540.toml")),
];

const PREFIX: &str = "standin:";

/// A card the user chose by name, such as `standin:tarn-310`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CardChoice {
    kind: &'static str,
    model: &'static str,
}

/// A card's name that is none.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("there is no card \"{asked}\"; there are: {}", CardChoice::all().iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))]
pub struct ChoiceError {
    asked: String,
}

impl CardChoice {
    /// All cards that can be chosen.
    #[must_use]
    pub fn all() -> Vec<Self> {
        KINDS.iter().map(|(kind, model)| Self { kind, model }).collect()
    }

    /// The unit of this kind with the given seed. `course` changes what chance brings (runs
    /// scatter, faults fall elsewhere) and leaves the unit as it is.
    ///
    /// # Errors
    /// The model that ships for this kind is unusable.
    pub fn open(&self, seed: u64, course: u64) -> Result<StandIn, CardError> {
        StandIn::new(&self.to_string(), self.model, seed, course)
    }
}

/// One unit: a kind and its seed, such as `standin:tarn-310#7`, under a release of the
/// driver.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CardName {
    /// The kind.
    pub choice: CardChoice,
    /// Which unit.
    pub seed: u64,
    /// Release of the driver its machine runs, from 1.
    pub driver: u32,
}

impl CardName {
    /// Switches the card on. `course` is as in [`CardChoice::open`].
    ///
    /// # Errors
    /// The model that ships for this kind is unusable.
    pub fn open(&self, course: u64) -> Result<StandIn, CardError> {
        let mut card = self.choice.open(self.seed, course)?;
        card.set_driver(self.driver);
        Ok(card)
    }
}

impl fmt::Display for CardName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}#{}", self.choice, self.seed)
    }
}

impl FromStr for CardName {
    type Err = ChoiceError;

    fn from_str(name: &str) -> Result<Self, ChoiceError> {
        let unknown = || ChoiceError { asked: name.to_owned() };
        let (kind, seed) = name.split_once('#').unwrap_or((name, "1"));
        let seed = seed.parse().map_err(|_| unknown())?;
        Ok(Self { choice: kind.parse().map_err(|_| unknown())?, seed, driver: 1 })
    }
}

impl fmt::Display for CardChoice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{PREFIX}{}", self.kind)
    }
}

impl FromStr for CardChoice {
    type Err = ChoiceError;

    fn from_str(name: &str) -> Result<Self, ChoiceError> {
        Self::all()
            .into_iter()
            .find(|choice| choice.to_string() == name)
            .ok_or_else(|| ChoiceError { asked: name.to_owned() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Card;
    use rstest::rstest;

    #[rstest]
    fn every_kind_opens_under_its_own_name() {
        for choice in CardChoice::all() {
            let card = choice.open(1, 0).unwrap();
            assert_eq!(card.description().id, choice.to_string());
            assert_eq!(choice.to_string().parse(), Ok(choice));
        }
    }

    #[rstest]
    #[case("standin:quern-540#12", 12)]
    #[case("standin:quern-540", 1)]
    fn an_individual_is_named_by_its_kind_and_seed(#[case] name: &str, #[case] seed: u64) {
        let card: CardName = name.parse().unwrap();
        assert_eq!(card.seed, seed);
        assert_eq!(card.open(0).unwrap().description().key(), card.to_string());
        assert!("standin:quern-540#x".parse::<CardName>().is_err());
    }

    #[rstest]
    #[case("")]
    #[case("tarn-310")]
    #[case("standin:tarn-999")]
    fn an_unknown_card_is_told_with_the_known_ones(#[case] name: &str) {
        let error = name.parse::<CardChoice>().unwrap_err().to_string();
        assert!(error.contains(&format!("no card \"{name}\"")), "{error}");
        assert!(error.contains("standin:tarn-310"), "{error}");
    }
}
