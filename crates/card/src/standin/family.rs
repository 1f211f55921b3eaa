//! Families of cards whose physics differ from that of the stand-ins as they ship: laid over a kind of stand-in, to see
//! what a search makes of cards that nobody tuned it to.
//!
//! | key | meaning | range |
//! |---|---|---|
//! | `about` | what the family is, in a sentence | |
//! | `core`, `memory` | tables of one domain, see below | |
//! | `onset` | how faults set in: `exponential`, `power-law`, `soft-foot`, `two-slopes`, `cliff` | |
//! | `floor_hours` | hours to a fault that has nothing to do with any clock | 0.1 to 100,000 |
//! | `machine_down_share` | share of all faults that take the machine down, whatever the clock | 0 to 1 |
//! | `light_load_percent` | how much earlier the core fails while less than half of the card is busy, of the clock | 0 to 20 |
//! | `load_change_factor` | factor on the headroom lost for a moment when the load changes | 0 to 20 |
//! | `edge_scatter_percent` | how far edges move from run to run, of the clock (standard deviation) | 0 to 3 |
//! | `room_c`, `case` | the room: −20 to 60 °C; `open` or `closed` | |
//! | `score_noise` | factor on the scatter of scores | 0 to 10 |
//! | `corrects_everything` | the memory corrects all its errors: it never fails, and gets slower instead | |
//! | `not_taken`, `background`, `starved` | chance of each mishap, per change or start of a load | 0 to 0.5 |
//!
//! | key of a domain | meaning | range |
//! |---|---|---|
//! | `edge_percent` | by how much edges lie higher than the stand-ins' own, of the clock | −20 to 20 |
//! | `edge_spread` | factor on how far edges scatter between units | 0 to 5 |
//! | `lowest_edge_percent` | lowest edge, of the clock above stock | −10 to 20 |
//! | `e_fold` | factor on the clock in which the fault rate grows by e | 0.1 to 10 |
//! | `e_fold_scatter` | scatter of that between units: standard deviation of its logarithm | 0 to 2 |
//!
//! The edge is where one fault a day is to be expected, and `p` how far a clock is past it, in e-folds. Faults an hour:
//!
//! | onset | faults an hour | what it stands for |
//! |---|---|---|
//! | `exponential` | `exp(p) / 24` | the far tail of normally spread path delays |
//! | `power-law` | `max(0, 1 + p / 3)³ / 24` | no fault at all below a threshold, then more of them only slowly |
//! | `soft-foot` | `exp(p) / 24` above the edge, `exp(p / 3) / 24` below it | a few weak paths that fail early |
//! | `two-slopes` | `exp(2p) / 24` above the edge, `exp(p / 2) / 24` below it | two mechanisms, one of them steep |
//! | `cliff` | `exp(4p) / 24` | all or nothing |

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use serde::Deserialize;
use yard_step_core::{Case, Celsius, Room};

use super::faults::{Faults, Onset};
use super::model::{Edge, Mishaps, Model, normal};
use crate::CardError;

/// What a family changes of one domain.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Of {
    edge_percent: f64,
    edge_spread: f64,
    lowest_edge_percent: Option<f64>,
    e_fold: f64,
    e_fold_scatter: f64,
}

impl Default for Of {
    fn default() -> Self {
        Self {
            edge_percent: 0.0,
            edge_spread: 1.0,
            lowest_edge_percent: None,
            e_fold: 1.0,
            e_fold_scatter: 0.0,
        }
    }
}

/// A family of cards.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Family {
    about: String,
    core: Of,
    memory: Of,
    onset: Onset,
    floor_hours: Option<f64>,
    machine_down_share: f64,
    light_load_percent: f64,
    load_change_factor: f64,
    edge_scatter_percent: f64,
    room_c: Option<f64>,
    case: Option<Case>,
    score_noise: f64,
    corrects_everything: bool,
    not_taken: Option<f64>,
    background: Option<f64>,
    starved: Option<f64>,
}

impl Default for Family {
    fn default() -> Self {
        Self {
            about: String::new(),
            core: Of::default(),
            memory: Of::default(),
            onset: Onset::default(),
            floor_hours: None,
            machine_down_share: 0.0,
            light_load_percent: 0.0,
            load_change_factor: 1.0,
            edge_scatter_percent: 0.0,
            room_c: None,
            case: None,
            score_noise: 1.0,
            corrects_everything: false,
            not_taken: None,
            background: None,
            starved: None,
        }
    }
}

impl Family {
    /// Reads a family.
    ///
    /// # Errors
    /// It is no TOML, has an unknown key, or a value outside its range; the text says which.
    pub fn from_toml(text: &str) -> Result<Self, CardError> {
        let bad = |cause: String| CardError::BadModel { name: "a family of cards".into(), cause };
        let family: Self = toml::from_str(text).map_err(|error| bad(error.to_string()))?;
        let of = |name: &str, of: &Of| {
            [
                (format!("{name}.edge_percent"), of.edge_percent, -20.0..=20.0),
                (format!("{name}.edge_spread"), of.edge_spread, 0.0..=5.0),
                (
                    format!("{name}.lowest_edge_percent"),
                    of.lowest_edge_percent.unwrap_or(0.0),
                    -10.0..=20.0,
                ),
                (format!("{name}.e_fold"), of.e_fold, 0.1..=10.0),
                (format!("{name}.e_fold_scatter"), of.e_fold_scatter, 0.0..=2.0),
            ]
        };
        let mut ranges = vec![
            ("floor_hours".into(), family.floor_hours.unwrap_or(1.0), 0.1..=100_000.0),
            ("machine_down_share".into(), family.machine_down_share, 0.0..=1.0),
            ("light_load_percent".into(), family.light_load_percent, 0.0..=20.0),
            ("load_change_factor".into(), family.load_change_factor, 0.0..=20.0),
            ("edge_scatter_percent".into(), family.edge_scatter_percent, 0.0..=3.0),
            ("room_c".into(), family.room_c.unwrap_or(22.0), -20.0..=60.0),
            ("score_noise".into(), family.score_noise, 0.0..=10.0),
            ("not_taken".into(), family.not_taken.unwrap_or(0.0), 0.0..=0.5),
            ("background".into(), family.background.unwrap_or(0.0), 0.0..=0.5),
            ("starved".into(), family.starved.unwrap_or(0.0), 0.0..=0.5),
        ];
        ranges.extend(of("core", &family.core));
        ranges.extend(of("memory", &family.memory));
        match ranges.into_iter().find(|(_, value, range)| !range.contains(value)) {
            Some((name, value, range)) => Err(bad(format!(
                "{name} is {value}: it must be {} to {}",
                range.start(),
                range.end()
            ))),
            None => Ok(family),
        }
    }

    /// The same family with faults that set in `factor` times as slowly with clock. Its edges stay where they are.
    #[must_use]
    pub fn flattened(mut self, factor: f64) -> Self {
        self.core.e_fold *= factor;
        self.memory.e_fold *= factor;
        self
    }

    /// What the family is, in a sentence.
    #[must_use]
    pub fn about(&self) -> &str {
        &self.about
    }

    /// The room its cards stand in, where it says so.
    pub(super) fn room(&self) -> Option<Room> {
        let usual = Room::default();
        (self.room_c.is_some() || self.case.is_some()).then(|| Room {
            ambient: self.room_c.map_or(usual.ambient, Celsius),
            case: self.case.unwrap_or(usual.case),
        })
    }

    /// Lays the family over a kind of stand-in, for the unit with this seed.
    pub(super) fn lay_over(&self, model: &mut Model, seed: u64) {
        // A stream of its own: the other traits of the unit stay what they are.
        let mut dice = ChaCha8Rng::seed_from_u64(seed);
        dice.set_stream(u64::MAX);
        let core_clock = model.top().mhz;
        let memory_clock = model.memory.clock_mhz;
        let mut e_fold = |of: &Of| of.e_fold * normal(&mut dice, 0.0, of.e_fold_scatter).exp();
        model.silicon.hazard_mhz *= e_fold(&self.core);
        model.memory.hazard_mhz *= e_fold(&self.memory);
        let shift = |of: &Of, clock: f64, (mean, spread, lowest, highest): Edge<'_>| {
            let by = of.edge_percent / 100.0 * clock;
            for value in [mean, &mut *lowest, &mut *highest] {
                *value += by;
            }
            *spread *= of.edge_spread;
            if let Some(percent) = of.lowest_edge_percent {
                *lowest = percent / 100.0 * clock;
            }
        };
        shift(&self.core, core_clock, model.silicon.edge());
        shift(&self.memory, memory_clock, model.memory.edge());
        if self.corrects_everything {
            model.memory.corrects_from_mhz.get_or_insert(80.0);
            model.memory.never_fails = true;
        }
        model.silicon.transition_mhz *= self.load_change_factor;
        model.silicon.score_spread *= self.score_noise;
        let usual = model.mishaps;
        model.mishaps = Mishaps {
            not_taken: self.not_taken.unwrap_or(usual.not_taken),
            background: self.background.unwrap_or(usual.background),
            starved: self.starved.unwrap_or(usual.starved),
        };
        let scatter = self.edge_scatter_percent / 100.0;
        model.faults = Faults {
            onset: self.onset,
            floor: self.floor_hours.map_or(0.0, f64::recip),
            machine_down_share: self.machine_down_share,
            light_load_mhz: self.light_load_percent / 100.0 * core_clock,
            scatter_mhz: (scatter * core_clock, scatter * memory_clock),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("onset = \"sudden\"", "unknown variant")]
    #[case("edge = 3", "unknown field")]
    #[case("[core]\ne_fold = 0", "core.e_fold is 0: it must be 0.1 to 10")]
    #[case("[memory]\nedge_percent = 99", "memory.edge_percent is 99")]
    #[case("floor_hours = 0", "floor_hours is 0: it must be 0.1 to 100000")]
    #[case("machine_down_share = nan", "machine_down_share is NaN")]
    fn what_is_no_family_is_told(#[case] text: &str, #[case] told: &str) {
        let error = Family::from_toml(text).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }
}
