//! What the user said of a card's fan: how loud it is, what is wished of it, and how it is to be driven.

use serde::{Deserialize, Serialize};

use crate::air::budget::{Keep, WhenIdle, Wish};
use crate::air::fan::Fan;
use crate::air::heat::HeatModel;
use crate::air::noise::{MOST_NOISE_NOTES, NoiseNote};
use crate::card::description::CardDescription;
use crate::units::{Celsius, Decibel, Percent};

/// What is wished of a fan curve, as far as the user said.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AirWish {
    /// Score that may be lost, percent; none to keep the clock.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lose_percent: Option<f64>,
    /// Temperature of the room; none for the machine's, or what is assumed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub room: Option<Celsius>,
    /// By how much the card may be hotter than foreseen before the fan becomes louder, K.
    pub reserve_k: f64,
    /// The most that may be heard under load; none for as little as keeps what is to be kept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most_noise: Option<Decibel>,
    /// What the fan is to do while the card has nothing to do.
    pub when_idle: WhenIdle,
    /// The loads it is for; none for all that ran.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub loads: Vec<String>,
}

impl Default for AirWish {
    fn default() -> Self {
        Self {
            lose_percent: None,
            room: None,
            reserve_k: 4.0,
            most_noise: None,
            when_idle: WhenIdle::default(),
            loads: Vec::new(),
        }
    }
}

/// Why a wish cannot be.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("{what} is {value}: it must be {lowest} to {highest} {unit}")]
pub struct WishError {
    what: &'static str,
    value: f64,
    lowest: f64,
    highest: f64,
    unit: &'static str,
}

impl AirWish {
    /// Checks every number.
    ///
    /// # Errors
    /// One that is out of its range, named.
    pub fn check(&self) -> Result<(), WishError> {
        let all = [
            ("the score that may be lost", self.lose_percent, 0.0, 50.0, "%"),
            ("the room", self.room.map(Celsius::value), -20.0, 60.0, "°C"),
            ("the reserve", Some(self.reserve_k), 0.0, 20.0, "K"),
            ("the noise under load", self.most_noise.map(Decibel::value), 10.0, 100.0, "dB"),
        ];
        let wrong = all.into_iter().find(|(_, value, lowest, highest, _)| {
            value.is_some_and(|value| !(*lowest..=*highest).contains(&value))
        });
        match wrong {
            Some((what, value, lowest, highest, unit)) => {
                Err(WishError { what, value: value.unwrap_or_default(), lowest, highest, unit })
            }
            None => Ok(()),
        }
    }

    /// The wish for a card with this cooler, in a machine whose room has `ambient`; none where none of its loads ran.
    #[must_use]
    pub fn on(&self, heat: &HeatModel, card: &CardDescription, ambient: Celsius) -> Option<Wish> {
        let is_meant =
            |load: &str| self.loads.is_empty() || self.loads.iter().any(|own| own == load);
        let hottest = heat.loads.iter().find(|load| is_meant(&load.load))?;
        Some(Wish {
            room: self.room.unwrap_or(ambient),
            power: hottest.power,
            clock: hottest.clock.unwrap_or(card.limits.boost_clock),
            keep: self.lose_percent.map_or(Keep::Clock, |percent| Keep::ScoreBut(Percent(percent))),
            reserve: self.reserve_k,
            most_noise: self.most_noise,
            when_idle: self.when_idle,
        })
    }
}

/// All that the user said of a card's fan.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AirNotes {
    /// How loud it is, a note a speed, the slowest first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub noise: Vec<NoiseNote>,
    /// What is wished of its curve.
    pub wish: AirWish,
    /// How it is to be driven, when nothing is tried on the card; none for as the card does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub chosen: Option<Fan>,
}

impl AirNotes {
    /// Takes a note in, in place of one at the same speed. Whether there was room for it.
    pub fn note(&mut self, note: NoiseNote) -> bool {
        self.noise.retain(|other| (other.speed - note.speed).value().abs() >= 0.5);
        if self.noise.len() >= MOST_NOISE_NOTES {
            return false;
        }
        self.noise.push(note);
        self.noise.sort_by(|a, b| a.speed.value().total_cmp(&b.speed.value()));
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::air::noise::{Heard, Loudness};
    use rstest::rstest;

    #[test]
    fn a_note_takes_the_place_of_one_at_its_speed_and_all_are_in_order() {
        let mut notes = AirNotes::default();
        for (speed, level) in [(100.0, 46.0), (50.0, 33.0), (100.0, 44.0)] {
            let heard = Heard::Measured(Decibel(level));
            assert!(notes.note(NoiseNote::new(Percent(speed), heard).unwrap()));
        }
        let speeds: Vec<f64> = notes.noise.iter().map(|note| note.speed.value()).collect();
        assert_eq!(speeds, [50.0, 100.0]);
        assert_eq!(notes.noise[1].heard, Heard::Measured(Decibel(44.0)));
        for speed in 0..40 {
            notes.note(NoiseNote {
                speed: Percent(f64::from(speed) * 2.0),
                heard: Heard::Judged(Loudness::Silent),
            });
        }
        assert_eq!(notes.noise.len(), MOST_NOISE_NOTES);
    }

    #[rstest]
    #[case(AirWish { lose_percent: Some(80.0), ..AirWish::default() }, "the score that may be lost is 80")]
    #[case(AirWish { reserve_k: f64::NAN, ..AirWish::default() }, "0 to 20 K")]
    #[case(AirWish { most_noise: Some(Decibel(3.0)), ..AirWish::default() }, "10 to 100 dB")]
    #[case(AirWish { room: Some(Celsius(90.0)), ..AirWish::default() }, "the room is 90")]
    fn a_wish_that_cannot_be_is_refused_with_its_range(#[case] wish: AirWish, #[case] told: &str) {
        let error = wish.check().unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
        AirWish::default().check().unwrap();
    }

    #[test]
    fn notes_are_read_as_they_were_written() {
        let mut notes = AirNotes { chosen: Some(Fan::Fixed(Percent(60.0))), ..AirNotes::default() };
        notes.note(NoiseNote { speed: Percent(60.0), heard: Heard::Judged(Loudness::Audible) });
        let text = serde_json::to_string(&notes).unwrap();
        assert_eq!(serde_json::from_str::<AirNotes>(&text).unwrap(), notes);
    }
}
