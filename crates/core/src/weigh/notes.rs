//! What the user holds beside before and after: trials of their own choice, scores from elsewhere, and what energy costs.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::load::told::figure_in_words;
use crate::text::checked_name;
use crate::units::Watt;
use crate::weigh::variants::MOST_VARIANTS;

/// Longest name of a score that is held beside, characters.
pub const LONGEST_REFERENCE: usize = 40;
/// Most scores that are held beside.
pub const MOST_REFERENCES: usize = 6;
/// Most trials that stand beside stock: that and the profile in use have places of their own.
const MOST_TRIALS: usize = MOST_VARIANTS - 2;
/// Hours of use a day, as long as nobody says otherwise.
pub const USUAL_HOURS: f64 = 3.0;
/// Highest price of a kilowatt-hour.
const HIGHEST_PRICE: f64 = 1e6;
/// Longest name of the unit of a price, characters.
const LONGEST_UNIT: usize = 8;

/// A score to hold beside the bars: of another card, or of this one at another time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ReferenceScore {
    /// What it is of.
    pub name: String,
    /// Under which load.
    pub load: String,
    /// The score.
    pub score: f64,
}

impl ReferenceScore {
    /// A score that was typed.
    ///
    /// # Errors
    /// A name is empty or too long, or the score is none that a load could have.
    pub fn new(name: &str, load: &str, score: f64) -> Result<Self, WeighNoteError> {
        let named =
            |text: &str| checked_name(text, LONGEST_REFERENCE).map_err(|_| WeighNoteError::Name);
        if !(score > 0.0 && score < 1e12) {
            return Err(WeighNoteError::Score);
        }
        Ok(Self { name: named(name)?, load: named(load)?, score })
    }
}

/// How much a card is used, and what a kilowatt-hour costs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct UseOfIt {
    /// Hours of use a day, 0 to 24.
    pub hours_a_day: f64,
    /// Price of a kilowatt-hour, with its unit; none where nobody said it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub price: Option<(f64, String)>,
}

impl Default for UseOfIt {
    fn default() -> Self {
        Self { hours_a_day: USUAL_HOURS, price: None }
    }
}

impl UseOfIt {
    /// Reads hours of use a day.
    ///
    /// # Errors
    /// It is no number of hours that a day could have.
    pub fn hours(text: &str) -> Result<f64, WeighNoteError> {
        let hours: f64 = text.trim().parse().map_err(|_| WeighNoteError::Hours)?;
        (0.0..=24.0).contains(&hours).then_some(hours).ok_or(WeighNoteError::Hours)
    }

    /// Reads a price with its unit, such as "0.30 EUR".
    ///
    /// # Errors
    /// It is no price.
    pub fn price(text: &str) -> Result<(f64, String), WeighNoteError> {
        let (price, unit) = text.trim().split_once(' ').unwrap_or((text.trim(), ""));
        let price: f64 = price.parse().map_err(|_| WeighNoteError::Price)?;
        if !(0.0..=HIGHEST_PRICE).contains(&price) {
            return Err(WeighNoteError::Price);
        }
        if unit.is_empty() {
            return Ok((price, String::new()));
        }
        let unit = checked_name(unit, LONGEST_UNIT).map_err(|_| WeighNoteError::Price)?;
        Ok((price, unit))
    }
}

/// Watt-hours saved or spent, and what they cost.
#[derive(Debug, Clone, PartialEq)]
pub struct Energy {
    /// Watt-hours for each hour of use.
    pub an_hour: f64,
    /// Kilowatt-hours a year.
    pub a_year: f64,
    /// What those of a year cost, with its unit; none where no price was said.
    pub cost: Option<(f64, String)>,
}

impl Energy {
    /// What so many watts come to, used as it is said.
    #[must_use]
    pub fn of(watts: Watt, UseOfIt { hours_a_day, price }: &UseOfIt) -> Self {
        let a_year = watts.value() * hours_a_day * 365.0 / 1_000.0;
        let cost = price.as_ref().map(|(price, unit)| (a_year * price, unit.clone()));
        Self { an_hour: watts.value(), a_year, cost }
    }
}

/// All of it, of a card.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct WeighNotes {
    /// Trials whose settings stand beside stock, as climbs and numbers.
    pub trials: Vec<(i64, u32)>,
    /// Scores from elsewhere.
    pub references: Vec<ReferenceScore>,
    /// Use and price.
    pub use_of_it: UseOfIt,
}

/// A change of it.
#[derive(Debug, Clone, PartialEq)]
pub enum WeighNote {
    /// A trial is put beside stock, or taken away.
    Trial(i64, u32),
    /// A score from elsewhere, in place of one of the same name under the same load.
    Reference(ReferenceScore),
    /// The score of this name under this load is taken away.
    DropReference(String, String),
    /// Use and price.
    Use(UseOfIt),
}

/// Why something cannot be held beside.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum WeighNoteError {
    /// A name is missing or too long.
    #[error("a name has 1 to {LONGEST_REFERENCE} characters, without control characters")]
    Name,
    /// It is no score.
    #[error("a score is a number above 0, such as 1020")]
    Score,
    /// It is no number of hours a day.
    #[error("the hours of use a day are a number from 0 to 24")]
    Hours,
    /// It is no price.
    #[error("a price is a number from 0 to 1000000 and a unit, such as \"0.30 EUR\"")]
    Price,
    /// There are as many trials as there can be.
    #[error("{MOST_TRIALS} trials stand in before and after at most: take one away first")]
    Full,
    /// There are as many scores as there can be.
    #[error("there are {MOST_REFERENCES} scores from elsewhere: take one away first")]
    FullOfScores,
    /// There is no such score.
    #[error("there is no such score from elsewhere")]
    NoScore,
}

impl WeighNotes {
    /// Takes a change in; what there is to say about it.
    ///
    /// # Errors
    /// There is no room for more, or nothing of that name.
    pub fn change(&mut self, change: &WeighNote) -> Result<String, WeighNoteError> {
        match change {
            WeighNote::Trial(climb, trial) => {
                let name = format!("Trial {trial} of climb {climb}");
                if let Some(at) = self.trials.iter().position(|of| of == &(*climb, *trial)) {
                    self.trials.remove(at);
                    return Ok(format!("{name} no longer stands in before and after."));
                }
                if self.trials.len() >= MOST_TRIALS {
                    return Err(WeighNoteError::Full);
                }
                self.trials.push((*climb, *trial));
                Ok(format!("{name} now stands in before and after (Weigh, z)."))
            }
            WeighNote::Reference(score) => {
                self.references.retain(|of| (&of.name, &of.load) != (&score.name, &score.load));
                if self.references.len() >= MOST_REFERENCES {
                    return Err(WeighNoteError::FullOfScores);
                }
                self.references.push(score.clone());
                let ReferenceScore { name, load, score } = score;
                Ok(format!("Noted: \"{name}\", {} under {load}.", figure_in_words(*score)))
            }
            WeighNote::DropReference(name, load) => {
                let before = self.references.len();
                self.references.retain(|of| (&of.name, &of.load) != (name, load));
                if self.references.len() == before {
                    return Err(WeighNoteError::NoScore);
                }
                Ok(format!("\"{name}\" no longer stands beside the scores under {load}."))
            }
            WeighNote::Use(use_of_it) => {
                self.use_of_it = use_of_it.clone();
                Ok("Noted.".into())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_trial_is_put_there_and_taken_away_and_there_is_room_for_four() {
        let mut notes = WeighNotes::default();
        for trial in 1..=4 {
            notes.change(&WeighNote::Trial(1, trial)).unwrap();
        }
        assert_eq!(notes.change(&WeighNote::Trial(1, 6)), Err(WeighNoteError::Full));
        let told = notes.change(&WeighNote::Trial(1, 3)).unwrap();
        assert!(told.contains("no longer"), "{told}");
        notes.change(&WeighNote::Trial(1, 6)).unwrap();
        assert_eq!(notes.trials, [(1, 1), (1, 2), (1, 4), (1, 6)]);
    }

    #[test]
    fn a_score_takes_the_place_of_one_of_its_name_under_its_load() {
        let mut notes = WeighNotes::default();
        let score = |name: &str, score| ReferenceScore::new(name, "medley", score).unwrap();
        notes.change(&WeighNote::Reference(score("last year", 980.0))).unwrap();
        notes.change(&WeighNote::Reference(score("last year", 1_020.0))).unwrap();
        assert_eq!(notes.references, [score("last year", 1_020.0)]);
        for other in 1..MOST_REFERENCES {
            let other = score(&format!("card {other}"), 900.0);
            notes.change(&WeighNote::Reference(other)).unwrap();
        }
        let more = WeighNote::Reference(score("one more", 1.0));
        assert_eq!(notes.change(&more), Err(WeighNoteError::FullOfScores));
        let gone = WeighNote::DropReference("last year".into(), "medley".into());
        notes.change(&gone).unwrap();
        assert_eq!(notes.change(&gone), Err(WeighNoteError::NoScore));
        notes.change(&more).unwrap();
        let text = serde_json::to_string(&notes).unwrap();
        assert_eq!(serde_json::from_str::<WeighNotes>(&text).unwrap(), notes);
    }

    #[rstest]
    #[case("", "medley", 1.0, WeighNoteError::Name)]
    #[case("a", " ", 1.0, WeighNoteError::Name)]
    #[case("a", "b", 0.0, WeighNoteError::Score)]
    #[case("a", "b", f64::NAN, WeighNoteError::Score)]
    fn a_score_that_cannot_be_is_refused(
        #[case] name: &str,
        #[case] load: &str,
        #[case] score: f64,
        #[case] why: WeighNoteError,
    ) {
        assert_eq!(ReferenceScore::new(name, load, score), Err(why));
    }

    #[rstest]
    #[case("0.30 EUR", Ok((0.3, "EUR".into())))]
    #[case(" 12 ", Ok((12.0, String::new())))]
    #[case("-1 EUR", Err(WeighNoteError::Price))]
    #[case("NaN", Err(WeighNoteError::Price))]
    #[case("cheap", Err(WeighNoteError::Price))]
    #[case("1 much too long a unit", Err(WeighNoteError::Price))]
    fn a_price_is_a_number_and_a_unit(
        #[case] text: &str,
        #[case] price: Result<(f64, String), WeighNoteError>,
    ) {
        assert_eq!(UseOfIt::price(text), price);
    }

    #[rstest]
    #[case("24", Some(24.0))]
    #[case("24.5", None)]
    #[case("inf", None)]
    #[case("", None)]
    fn hours_are_those_of_a_day(#[case] text: &str, #[case] hours: Option<f64>) {
        assert_eq!(UseOfIt::hours(text).ok(), hours);
    }

    #[test]
    fn energy_is_told_for_an_hour_a_year_and_in_money() {
        let price = Some((0.3, "EUR".to_owned()));
        let energy = Energy::of(Watt(-50.0), &UseOfIt { hours_a_day: 4.0, price });
        assert_eq!((energy.an_hour, energy.a_year), (-50.0, -73.0));
        let (cost, unit) = energy.cost.unwrap();
        assert!((cost + 21.9).abs() < 1e-9 && unit == "EUR");
        assert_eq!(Energy::of(Watt(-50.0), &UseOfIt::default()).cost, None);
    }
}
