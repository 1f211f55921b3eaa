//! Is it still as proven? A short fixed programme, whose results are held against those of its first time.

use serde::{Deserialize, Serialize};

use crate::judge::verdict::{Verdict, gain_percent};
use crate::proof::soak::SoakLoad;
use crate::statistics::mean;
use crate::units::{Celsius, Percent, Seconds};

/// The programme: heat, a game-like mix, light load, load changes, and a start from cold; about twenty minutes.
const PROGRAMME: [(&str, f64, bool); 5] = [
    ("kiln", 360.0, false),
    ("lantern", 300.0, false),
    ("doldrums", 120.0, false),
    ("squall", 180.0, false),
    ("squall", 60.0, true),
];
/// A loss of score smaller than this is no drift.
const LEAST_SLOWER: Percent = Percent(1.5);
/// A core hotter by less than this, the room's part left out, is no drift, K.
const LEAST_HOTTER: f64 = 3.0;
/// Time after which a check is due, days: a season, in which a room changes.
const A_SEASON: i64 = 90;
const A_YEAR: i64 = 365;

/// The loads of the programme.
#[must_use]
pub fn check_loads() -> Vec<SoakLoad> {
    let of = |(load, seconds, is_cold): (&str, f64, bool)| {
        let load = if is_cold { SoakLoad::cold(load, 1.0) } else { SoakLoad::new(load, 1.0) };
        SoakLoad { seconds: Some(Seconds(seconds)), ..load }
    };
    PROGRAMME.into_iter().map(of).collect()
}

/// A run of the programme.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CheckRun {
    /// What ran.
    pub load: String,
    /// Whether it began cold.
    pub is_cold: bool,
    /// How it went.
    pub verdict: Verdict,
    /// Work units per second.
    pub score: Option<f64>,
    /// Highest core temperature.
    pub core: Option<Celsius>,
    /// Room it ran in.
    pub room: Option<Celsius>,
}

/// What a check says.
#[derive(Debug, Clone, PartialEq)]
pub enum CheckAnswer {
    /// It is the first: later ones are held against it.
    First,
    /// As it was.
    Same,
    /// Something changed.
    Changed {
        /// Score lost, percent, where that is more than chance.
        slower: Option<f64>,
        /// By how much hotter the core is, and how much of that is the room's part, K.
        hotter: Option<(f64, f64)>,
    },
    /// It failed.
    Failed {
        /// Under which load.
        load: String,
        /// How.
        verdict: Verdict,
    },
    /// A load of it has no result to compare.
    Incomplete,
}

impl CheckAnswer {
    /// Holds a check against the first one; `first` is empty where this is the first.
    #[must_use]
    pub fn of(first: &[CheckRun], now: &[CheckRun]) -> Self {
        if let Some(run) = now.iter().find(|run| run.verdict.is_fault()) {
            return Self::Failed { load: run.load.clone(), verdict: run.verdict };
        }
        if first.is_empty() {
            return Self::First;
        }
        let pairs: Vec<(&CheckRun, &CheckRun)> = now
            .iter()
            .filter_map(|run| {
                let is_same = |of: &&CheckRun| of.load == run.load && of.is_cold == run.is_cold;
                first.iter().find(is_same).map(|first| (first, run))
            })
            .collect();
        let gains: Vec<f64> = pairs
            .iter()
            .filter_map(|(first, now)| Some(gain_percent(now.score?, first.score?)))
            .collect();
        let Some(gain) = mean(&gains) else { return Self::Incomplete };
        // The hottest load tells of the cooler; from the others its changes are smaller.
        let hotter = pairs
            .iter()
            .filter_map(|(first, now)| {
                let by = now.core?.value() - first.core?.value();
                let of_room =
                    now.room.zip(first.room).map_or(0.0, |(now, then)| now.value() - then.value());
                Some((by, of_room))
            })
            .max_by(|a, b| a.0.total_cmp(&b.0));
        let hotter = hotter.filter(|(by, of_room)| by - of_room > LEAST_HOTTER);
        let slower = (gain < -LEAST_SLOWER.value()).then_some(-gain);
        match (slower, hotter) {
            (None, None) => Self::Same,
            (slower, hotter) => Self::Changed { slower, hotter },
        }
    }

    /// Whether the settings are still as they were proven.
    #[must_use]
    pub const fn is_as_proven(&self) -> bool {
        matches!(self, Self::First | Self::Same)
    }
}

/// Why a check is due.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CheckDue {
    /// The driver is another one since the last check.
    Driver {
        /// The one then.
        then: String,
    },
    /// Something was changed around the card since.
    Change,
    /// So many days have gone by: a season, or a year.
    Days(i64),
}

/// Whether a check is due, of settings last checked (or kept) `then`, seconds since 1970, under a driver.
#[must_use]
pub fn check_due(then: i64, driver_then: Option<&str>, now: i64, driver: &str) -> Option<CheckDue> {
    if let Some(then) = driver_then.filter(|then| *then != driver) {
        return Some(CheckDue::Driver { then: then.to_owned() });
    }
    let days = (now - then) / 86_400;
    (then > 0 && days >= A_SEASON).then_some(CheckDue::Days(days))
}

impl CheckDue {
    /// Whether a year or more has gone by.
    #[must_use]
    pub const fn is_a_year(&self) -> bool {
        matches!(self, Self::Days(days) if *days >= A_YEAR)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn run(load: &str, score: f64, core: f64, room: f64) -> CheckRun {
        CheckRun {
            load: load.into(),
            is_cold: false,
            verdict: Verdict::Clean,
            score: Some(score),
            core: Some(Celsius(core)),
            room: Some(Celsius(room)),
        }
    }

    #[rstest]
    #[case::same(995.0, 70.5, 20.0, CheckAnswer::Same)]
    #[case::summer(1_000.0, 78.0, 28.0, CheckAnswer::Same)]
    #[case::slower(970.0, 70.0, 20.0, CheckAnswer::Changed { slower: Some(3.0), hotter: None })]
    #[case::dusty(1_000.0, 79.0, 24.0, CheckAnswer::Changed { slower: None, hotter: Some((9.0, 4.0)) })]
    fn a_check_says_what_is_more_than_chance_and_more_than_the_room(
        #[case] score: f64,
        #[case] core: f64,
        #[case] room: f64,
        #[case] wanted: CheckAnswer,
    ) {
        let first = [run("kiln", 1_000.0, 70.0, 20.0), run("lantern", 1_000.0, 66.0, 20.0)];
        let now = [run("kiln", score, core, room), run("lantern", score, core - 4.0, room)];
        let found = match CheckAnswer::of(&first, &now) {
            CheckAnswer::Changed { slower, hotter } => {
                CheckAnswer::Changed { slower: slower.map(|by| (by * 10.0).round() / 10.0), hotter }
            }
            other => other,
        };
        assert_eq!(found, wanted);
    }

    #[test]
    fn the_first_check_is_noted_and_a_fault_is_told_whatever_else() {
        let now = [run("kiln", 1_000.0, 70.0, 20.0)];
        assert_eq!(CheckAnswer::of(&[], &now), CheckAnswer::First);
        let failed = [CheckRun { verdict: Verdict::Artifacts, ..now[0].clone() }];
        let answer = CheckAnswer::of(&[], &failed);
        assert_eq!(
            answer,
            CheckAnswer::Failed { load: "kiln".into(), verdict: Verdict::Artifacts }
        );
        assert!(!answer.is_as_proven());
        let other = [run("loom", 1.0, 1.0, 1.0)];
        assert_eq!(CheckAnswer::of(&other, &now), CheckAnswer::Incomplete);
    }

    #[rstest]
    #[case(Some("1.0"), 10, None)]
    #[case(Some("1.0"), 90, Some(CheckDue::Days(90)))]
    #[case(None, 400, Some(CheckDue::Days(400)))]
    #[case(Some("0.9"), 10, Some(CheckDue::Driver { then: "0.9".into() }))]
    fn a_check_is_due_after_a_driver_a_season_or_a_year(
        #[case] driver_then: Option<&str>,
        #[case] days: i64,
        #[case] wanted: Option<CheckDue>,
    ) {
        let then = 1_000_000;
        assert_eq!(check_due(then, driver_then, then + days * 86_400, "1.0"), wanted);
        assert_eq!(check_due(0, None, 1_000_000_000, "1.0"), None, "it was never kept");
    }
}
