//! How loud the fan is where its user sits: measured or judged at a few speeds, by the fan laws in between.
//!
//! ```text
//!   L(n) = 10 · log10( 10^(F(n) / 10) + 10^(B / 10) )      F(n) = F + 50 · log10(n / 100 %)
//! ```
//!
//! `F` is the fan at full speed, `B` the background: the room and the rest of the machine, which is all there is to hear
//! below some speed. The sound power of a fan goes with the fifth power of its speed (fan laws: ASHRAE Handbook, HVAC
//! Applications, "Noise and Vibration Control"), and levels of independent sources add up as powers.
//!
//! Both are estimated from what the user noted, weighed against what fans and rooms are like in general.

use serde::{Deserialize, Serialize};

use crate::statistics::Uncertain;
use crate::units::{Decibel, Percent};

/// Lowest speed that makes a sound of its own, percent: below it, the fan law is left alone.
const LEAST_SPEED: f64 = 1.0;
/// Levels that are considered, dB: fan at full speed and background, and the distance of two of them.
const FANS: (f64, f64) = (25.0, 80.0);
const BACKGROUNDS: (f64, f64) = (10.0, 60.0);
const STEP: f64 = 0.5;
/// What fans at full speed and quiet rooms are like before anything was noted: mean and spread, dB. Assumption.
const ANY_FAN: (f64, f64) = (46.0, 6.0);
const ANY_BACKGROUND: (f64, f64) = (30.0, 5.0);
/// Error of a reading of a sound level meter, or of a telephone in its place, dB. Assumption.
const METER: f64 = 1.0;
/// By how much a fan is below the background when nobody hears it, dB. Assumption: a broadband noise is masked by
/// another of its kind that is 5 dB louder.
const MASKED: f64 = 5.0;
/// Most notes that are kept for a card.
pub const MOST_NOISE_NOTES: usize = 32;

/// How loud a fan seems to its user.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    Deserialize,
    strum::EnumCount,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantNames,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "lowercase")]
pub enum Loudness {
    /// The fan cannot be made out.
    Silent,
    /// It is heard, and does not disturb.
    Audible,
    /// It is louder than everything else.
    Loud,
}

impl Loudness {
    /// All of them, the quietest first.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] =
        [Self::Silent, Self::Audible, Self::Loud];

    /// The word.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// Level of the fan above the background that the word stands for, and its spread, dB. Assumption.
    const fn above_background(self) -> (f64, f64) {
        match self {
            Self::Silent => (-7.0, 3.5),
            Self::Audible => (2.0, 4.0),
            Self::Loud => (13.0, 5.0),
        }
    }
}

/// What a user noted at one speed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Heard {
    /// Measured where the user sits, all that is heard there, dB.
    Measured(Decibel),
    /// Judged by ear.
    Judged(Loudness),
}

/// One note of how loud the fan is at a speed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct NoiseNote {
    /// Speed of the fan, 0 to 100 %.
    pub speed: Percent,
    /// What was heard.
    pub heard: Heard,
}

/// Why a note of noise cannot be.
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
pub enum NoiseNoteError {
    /// A speed no fan has.
    #[error("a fan speed of {0} %: it must be 0 to 100 %")]
    Speed(f64),
    /// A level no room has.
    #[error("a level of {0} dB: it must be 10 to 100 dB")]
    Level(f64),
}

impl NoiseNote {
    /// A note, checked.
    ///
    /// # Errors
    /// A speed outside 0 to 100 %, a level outside 10 to 100 dB.
    pub fn new(speed: Percent, heard: Heard) -> Result<Self, NoiseNoteError> {
        if !(0.0..=100.0).contains(&speed.value()) {
            return Err(NoiseNoteError::Speed(speed.value()));
        }
        match heard {
            Heard::Measured(level) if !(10.0..=100.0).contains(&level.value()) => {
                Err(NoiseNoteError::Level(level.value()))
            }
            _ => Ok(Self { speed, heard }),
        }
    }
}

/// The fan's own level at a speed, where it is `full` dB at full speed.
pub(crate) fn fan_law(full: f64, speed: f64) -> f64 {
    full + 50.0 * (speed.max(LEAST_SPEED) / 100.0).log10()
}

/// Two sources together, dB.
fn together(one: f64, other: f64) -> f64 {
    10.0 * (10.0_f64.powf(one / 10.0) + 10.0_f64.powf(other / 10.0)).log10()
}

/// How loud a card is at every fan speed, as far as notes and assumptions tell.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct NoiseModel {
    /// The fan alone at full speed, dB.
    pub full: Uncertain,
    /// All else that is heard, dB.
    pub background: Uncertain,
    /// Notes it stands on; none where it is all assumed.
    pub notes: usize,
}

impl NoiseModel {
    /// What notes come to: the mean and spread of both levels over a grid, each place weighed by how well it fits the
    /// notes and what fans and rooms are like in general.
    #[must_use]
    pub fn of(notes: &[NoiseNote]) -> Self {
        let mut sums = [0.0; 5];
        for full in levels(FANS) {
            for background in levels(BACKGROUNDS) {
                let misfit: f64 = notes.iter().map(|note| misfit(note, full, background)).sum();
                let before = square(full, ANY_FAN) + square(background, ANY_BACKGROUND);
                let weight = (-0.5 * (misfit + before)).exp();
                let terms = [1.0, full, full * full, background, background * background];
                for (sum, term) in sums.iter_mut().zip(terms) {
                    *sum += weight * term;
                }
            }
        }
        let [all, full, full_squared, background, background_squared] = sums;
        let of = |sum: f64, squared: f64| {
            // Notes that nothing explains leave no weight at all.
            let mean = if all > 0.0 { sum / all } else { f64::NAN };
            Uncertain { value: mean, error: (squared / all - mean * mean).max(0.0).sqrt() }
        };
        let known = |found: Uncertain, any: (f64, f64)| match found.value.is_finite() {
            true => found,
            false => Uncertain { value: any.0, error: any.1 },
        };
        Self {
            full: known(of(full, full_squared), ANY_FAN),
            background: known(of(background, background_squared), ANY_BACKGROUND),
            notes: notes.len(),
        }
    }

    /// All that is heard at a speed.
    #[must_use]
    pub fn at(&self, speed: Percent) -> Decibel {
        if speed.value() < LEAST_SPEED {
            return Decibel(self.background.value);
        }
        Decibel(together(fan_law(self.full.value, speed.value()), self.background.value))
    }

    /// By how much one speed is quieter than another, of the fan alone: by the fan laws, whatever was
    /// noted.
    #[must_use]
    pub fn quieter(from: Percent, to: Percent) -> Decibel {
        Decibel(fan_law(0.0, from.value()) - fan_law(0.0, to.value()))
    }

    /// Standard error of what is said to be heard at a speed: each source counts by its share of the sound.
    #[must_use]
    pub fn error_at(&self, speed: Percent) -> Decibel {
        let power = |level: f64| 10.0_f64.powf(level / 10.0);
        let fan = match speed.value() < LEAST_SPEED {
            true => 0.0,
            false => power(fan_law(self.full.value, speed.value())),
        };
        let room = power(self.background.value);
        let share = fan / (fan + room);
        Decibel((share * self.full.error).hypot((1.0 - share) * self.background.error))
    }

    /// The highest speed, in whole percent, at which no more than `level` is heard, what is not known counted as noise;
    /// none where the background alone is louder.
    #[must_use]
    pub fn speed_for(&self, level: Decibel) -> Option<Percent> {
        let fits = |speed: &f64| self.at(Percent(*speed)) + self.error_at(Percent(*speed)) <= level;
        (0..=100).rev().map(f64::from).find(fits).map(Percent)
    }

    /// The highest speed at which the fan is masked by the background.
    #[must_use]
    pub fn inaudible_up_to(&self) -> Percent {
        let level = self.background.value - MASKED;
        let share = 10.0_f64.powf((level - self.full.value) / 50.0) * 100.0;
        Percent(share.clamp(0.0, 100.0).floor())
    }
}

fn levels((lowest, highest): (f64, f64)) -> impl Iterator<Item = f64> {
    let steps = ((highest - lowest) / STEP) as usize;
    (0..=steps).map(move |step| lowest + step as f64 * STEP)
}

fn square(value: f64, (mean, spread): (f64, f64)) -> f64 {
    ((value - mean) / spread).powi(2)
}

fn misfit(note: &NoiseNote, full: f64, background: f64) -> f64 {
    let fan = fan_law(full, note.speed.value());
    match note.heard {
        Heard::Measured(level) => square(level.value(), (together(fan, background), METER)),
        Heard::Judged(loudness) => {
            let (above, spread) = loudness.above_background();
            // What is beyond silent is silent, and beyond loud is loud.
            let off = fan - background - above;
            let is_beyond = match loudness {
                Loudness::Silent => off < 0.0,
                Loudness::Audible => false,
                Loudness::Loud => off > 0.0,
            };
            if is_beyond { 0.0 } else { (off / spread).powi(2) }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn measured(speed: f64, level: f64) -> NoiseNote {
        NoiseNote::new(Percent(speed), Heard::Measured(Decibel(level))).unwrap()
    }

    fn judged(speed: f64, loudness: Loudness) -> NoiseNote {
        NoiseNote::new(Percent(speed), Heard::Judged(loudness)).unwrap()
    }

    #[rstest]
    #[case(38.0, 24.0)]
    #[case(46.0, 30.0)]
    #[case(58.0, 38.0)]
    fn three_readings_tell_the_level_at_every_other_speed(
        #[case] full: f64,
        #[case] background: f64,
    ) {
        let truth = |speed: f64| together(fan_law(full, speed), background);
        let notes = [30.0, 60.0, 100.0].map(|speed| measured(speed, truth(speed)));
        let model = NoiseModel::of(&notes);
        for speed in [20.0, 40.0, 50.0, 75.0, 90.0] {
            let error = (model.at(Percent(speed)).value() - truth(speed)).abs();
            assert!(error < 1.0, "{error} dB at {speed} %");
        }
        assert!(model.full.error < 2.0 && model.notes == 3);
    }

    #[test]
    fn half_the_speed_is_fifteen_decibels_quieter_as_long_as_the_fan_is_what_is_heard() {
        assert!((NoiseModel::quieter(Percent(100.0), Percent(50.0)).value() - 15.05).abs() < 0.01);
        let model = NoiseModel::of(&[measured(100.0, 60.0), measured(0.0, 20.0)]);
        let fall = model.at(Percent(100.0)) - model.at(Percent(50.0));
        assert!((fall.value() - 15.0).abs() < 0.5, "{fall}");
        assert!((model.at(Percent(0.0)).value() - 20.0).abs() < 2.0, "the room is left");
    }

    #[test]
    fn words_order_the_speeds_where_nobody_has_a_meter() {
        let model = NoiseModel::of(&[
            judged(30.0, Loudness::Silent),
            judged(50.0, Loudness::Audible),
            judged(100.0, Loudness::Loud),
        ]);
        let silent = model.inaudible_up_to().value();
        assert!((25.0..50.0).contains(&silent), "{silent}");
        let loud = NoiseModel::of(&[judged(40.0, Loudness::Loud)]);
        assert!(loud.inaudible_up_to() < model.inaudible_up_to());
    }

    #[test]
    fn a_budget_is_a_speed_and_one_below_the_background_is_none() {
        let model =
            NoiseModel::of(&[measured(100.0, 50.0), measured(60.0, 40.0), measured(0.0, 30.0)]);
        let speed = model.speed_for(Decibel(40.0)).unwrap();
        let most = |speed| (model.at(speed) + model.error_at(speed)).value();
        assert!(most(speed) <= 40.0 && most(speed + Percent(1.0)) > 40.0, "{speed}");
        assert_eq!(model.speed_for(Decibel(20.0)), None);
        assert_eq!(model.speed_for(Decibel(90.0)), Some(Percent(100.0)));
    }

    #[test]
    fn the_more_is_noted_the_less_is_kept_in_reserve() {
        let unknown = NoiseModel::of(&[]);
        let known =
            NoiseModel::of(&[measured(100.0, 46.0), measured(60.0, 36.0), measured(0.0, 30.0)]);
        assert!(unknown.speed_for(Decibel(38.0)) < known.speed_for(Decibel(38.0)));
        assert!(known.error_at(Percent(100.0)) < unknown.error_at(Percent(100.0)));
    }

    #[test]
    fn notes_that_cannot_be_together_leave_levels_that_are_numbers() {
        let notes = [measured(10.0, 99.0), measured(100.0, 11.0), judged(5.0, Loudness::Loud)];
        let model = NoiseModel::of(&notes);
        assert!(model.full.value.is_finite() && model.at(Percent(50.0)).value().is_finite());
    }

    #[rstest]
    #[case(-1.0, 40.0, "0 to 100 %")]
    #[case(f64::NAN, 40.0, "0 to 100 %")]
    #[case(50.0, 400.0, "10 to 100 dB")]
    fn what_cannot_be_heard_is_not_noted(
        #[case] speed: f64,
        #[case] level: f64,
        #[case] told: &str,
    ) {
        let note = NoiseNote::new(Percent(speed), Heard::Measured(Decibel(level)));
        assert!(note.unwrap_err().to_string().contains(told));
    }
}
