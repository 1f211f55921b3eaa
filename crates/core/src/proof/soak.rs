//! A soak: settings under many loads for hours, each next run the one that teaches most for its time.
//!
//! The first runs are one of each load, in the order they were named, short ones: what is badly wrong shows at once. From then
//! on the load comes next that raises the chance of a day most for its time; a load's runs get longer with the hours
//! that it has stood, so that early faults are found early and the card is heat-soaked later.

use serde::{Deserialize, Serialize};

use crate::card::settings::Settings;
use crate::plan::Margin;
use crate::proof::assurance::Assurance;
use crate::proof::exposure::Exposure;
use crate::proof::kind::LoadKind;
use crate::units::Seconds;

/// Shortest run of a soak.
pub const SHORTEST_SOAK: Seconds = Seconds(300.0);
/// Longest run: what a crash takes with it is no more than that.
const LONGEST: Seconds = Seconds(3_600.0);
/// Length of a run from cold, and of the rest before it.
const COLD_RUN: Seconds = Seconds(120.0);
const COLD_REST: Seconds = Seconds(300.0);
/// Most steps of a reserve.
pub const MOST_RESERVE: u8 = 4;
/// Most loads of a soak.
pub const MOST_SOAK_LOADS: usize = 16;
/// Most runs of a measurement.
pub const MOST_MEASURED: usize = 72;
/// Longest soak, hours.
pub const LONGEST_SOAK: f64 = 2_000.0;
/// What a day of use is made of, as long as nobody says otherwise: as much of each kind, and a cold start now and then.
pub const USUAL_DAY: [(LoadKind, f64); LoadKind::ALL.len()] = [
    (LoadKind::Heat, 0.16),
    (LoadKind::Memory, 0.16),
    (LoadKind::Geometry, 0.16),
    (LoadKind::Game, 0.16),
    (LoadKind::Light, 0.16),
    (LoadKind::Changes, 0.16),
    (LoadKind::Cold, 0.04),
];

/// A load of a soak.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SoakLoad {
    /// What runs.
    pub load: String,
    /// What it counts for; none for a load that is several kinds, or whose kind its own readings tell.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub kind: Option<LoadKind>,
    /// Its share of a day's use, in relation to the others.
    pub share: f64,
    /// Length of its runs; none for one that is chosen.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub seconds: Option<Seconds>,
    /// Settings of its own, of a load that measures them rather than proving those of the soak.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub settings: Option<Settings>,
}

impl SoakLoad {
    /// A load by its name, with its share.
    #[must_use]
    pub fn new(load: impl Into<String>, share: f64) -> Self {
        let load = load.into();
        Self { kind: LoadKind::of_scene(&load), load, share, seconds: None, settings: None }
    }

    /// A load that begins idle and cold, with its share.
    #[must_use]
    pub fn cold(load: impl Into<String>, share: f64) -> Self {
        Self { kind: Some(LoadKind::Cold), ..Self::new(load, share) }
    }

    /// What it is called in a list: its load, and that it begins cold.
    #[must_use]
    pub fn name(&self) -> String {
        if self.is_cold() { format!("{}, cold", self.load) } else { self.load.clone() }
    }

    /// The kind that stands for it in a list, where a load of several kinds counts as a game-like mix.
    #[must_use]
    pub fn main_kind(&self) -> LoadKind {
        self.kind.unwrap_or(LoadKind::Game)
    }

    /// Whether it begins idle and cold.
    #[must_use]
    pub fn is_cold(&self) -> bool {
        self.kind == Some(LoadKind::Cold)
    }

    fn kinds(&self) -> Vec<(LoadKind, f64)> {
        match self.kind {
            Some(kind) => vec![(kind, 1.0)],
            None => LoadKind::of_load(&self.load, None),
        }
    }
}

/// When a soak is over.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Goal {
    /// After so many hours.
    Hours(f64),
    /// At a time, seconds since 1970; the hours that are left until then are worked out whenever it is taken up.
    Until {
        /// The time.
        at: i64,
        /// Hours from its beginning.
        hours: f64,
    },
    /// As soon as the settings are proven for a span, time under load.
    Proven(Seconds),
    /// After one run of each load.
    Once,
}

/// What comes after a fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OnFault {
    /// It goes on with milder settings.
    #[default]
    StepBack,
    /// It ends.
    Stop,
}

/// What the user wants proven, and how. All of it is settled before it begins.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Soak {
    /// The settings.
    pub settings: Settings,
    /// Where they come from, such as `profile "quiet"`.
    pub of: String,
    /// The loads, in the order in which they run first.
    pub loads: Vec<SoakLoad>,
    /// When it is over.
    pub goal: Goal,
    /// What comes after a fault.
    #[serde(default)]
    pub on_fault: OnFault,
    /// Fine steps by which what runs is bolder than what is proven.
    #[serde(default)]
    pub reserve: u8,
    /// Number of the last trial of its climb before it began.
    pub after: u32,
    /// What stood behind the settings then.
    #[serde(default)]
    pub before: Exposure,
    /// The chance that a climb claimed for them.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub claim: Option<(Margin, f64)>,
    /// Whether it was ended, by the user or because what it came to is noted.
    #[serde(default)]
    pub ended: bool,
    /// The profile that it checks against its first check; none for a soak that proves.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub check: Option<String>,
}

/// Why a soak cannot begin.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum SoakError {
    /// No load.
    #[error("a soak needs at least one load, and at most {MOST_SOAK_LOADS}")]
    Loads,
    /// A share that is none.
    #[error("the share of {0} must be more than 0 and at most 1,000")]
    Share(String),
    /// Too short, too long, or no number.
    #[error("the soak's length must be 0.1 to {LONGEST_SOAK} hours")]
    Length,
    /// A reserve that is too large.
    #[error("the reserve must be 0 to {MOST_RESERVE} steps")]
    Reserve,
    /// A span that is none, or that no soak proves.
    #[error("the span to be proven must be 10 minutes to 30 days")]
    Span,
}

/// The next run of a soak.
#[derive(Debug, Clone, PartialEq)]
pub struct SoakStep {
    /// Its place among the loads.
    pub place: usize,
    /// Its length.
    pub length: Seconds,
    /// How long the card idles before it.
    pub rest: Seconds,
    /// Why this one.
    pub why: SoakWhy,
}

/// Why a load of a soak comes next.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum SoakWhy {
    /// It has not run yet; so many more have not.
    FirstRound {
        /// How many more.
        left: usize,
    },
    /// It teaches most for its time: it stood so long so far.
    Weakest {
        /// Its time without a fault so far.
        clean: Seconds,
        /// Faults of bolder settings under it.
        failed_before: bool,
    },
}

impl Soak {
    /// Checks it.
    ///
    /// # Errors
    /// No load or too many, a share, a length or a chance that cannot be.
    pub fn check(&self) -> Result<(), SoakError> {
        let most = if self.is_measurement() { MOST_MEASURED } else { MOST_SOAK_LOADS };
        if self.loads.is_empty() || self.loads.len() > most {
            return Err(SoakError::Loads);
        }
        let is_share = |share: f64| share > 0.0 && share <= 1_000.0;
        if let Some(load) = self.loads.iter().find(|load| !is_share(load.share)) {
            return Err(SoakError::Share(load.load.clone()));
        }
        if self.reserve > MOST_RESERVE {
            return Err(SoakError::Reserve);
        }
        match self.goal {
            Goal::Hours(hours) | Goal::Until { hours, .. }
                if !(0.1..=LONGEST_SOAK).contains(&hours) =>
            {
                Err(SoakError::Length)
            }
            Goal::Proven(span) if !(600.0..=30.0 * 86_400.0).contains(&span.value()) => {
                Err(SoakError::Span)
            }
            _ => Ok(()),
        }
    }

    /// The loads of a soak that nobody chose loads for: every scene, and one from cold.
    #[must_use]
    pub fn usual_loads() -> Vec<SoakLoad> {
        let of =
            |load: &str, kind, share| SoakLoad { kind: Some(kind), ..SoakLoad::new(load, share) };
        let scenes = ["kiln", "sluice", "loom", "lantern", "doldrums", "squall", "squall"];
        let day = USUAL_DAY.into_iter();
        scenes.into_iter().zip(day).map(|(scene, (kind, share))| of(scene, kind, share)).collect()
    }

    /// What a day of use is made of, by kind.
    #[must_use]
    pub fn shares(&self) -> Vec<(LoadKind, f64)> {
        let of = |load: &SoakLoad| {
            let share = load.share;
            load.kinds().into_iter().map(move |(kind, part)| (kind, part * share))
        };
        self.loads.iter().flat_map(of).collect()
    }

    /// Whether it measures settings side by side, rather than proving some.
    #[must_use]
    pub fn is_measurement(&self) -> bool {
        !self.loads.is_empty() && self.loads.iter().all(|load| load.settings.is_some())
    }

    /// How long the card idles before each run from cold.
    #[must_use]
    pub const fn rest_before_cold(&self) -> Seconds {
        COLD_REST
    }

    /// What a chance is asked for: the goal's span, or a day.
    #[must_use]
    pub fn span(&self) -> Seconds {
        match self.goal {
            Goal::Proven(span) => span,
            _ => Margin::Daily.span(),
        }
    }

    /// Whether it is over after so much time, with this assurance, each load having run so often.
    #[must_use]
    pub fn is_reached(&self, assurance: &Assurance, spent: Seconds, runs: &[usize]) -> bool {
        match self.goal {
            // What is left must be worth a run.
            Goal::Hours(hours) | Goal::Until { hours, .. } => {
                spent.value() + 30.0 > hours * 3_600.0
            }
            Goal::Proven(span) => assurance.is_proven(span),
            Goal::Once => runs.iter().all(|runs| *runs > 0),
        }
    }

    /// What runs next; none once it is over. `runs` is how often each load has run.
    #[must_use]
    pub fn next(&self, assurance: &Assurance, spent: Seconds, runs: &[usize]) -> Option<SoakStep> {
        if self.is_reached(assurance, spent, runs) {
            return None;
        }
        let waiting = runs.iter().filter(|runs| **runs == 0).count();
        let place = match runs.iter().position(|runs| *runs == 0) {
            Some(first) => first,
            None => self.most_telling(assurance)?,
        };
        let load = self.loads.get(place)?;
        let (length, rest) = self.length(load, assurance);
        let length = match self.goal {
            Goal::Hours(hours) | Goal::Until { hours, .. } => {
                let left = hours * 3_600.0 - spent.value() - rest.value();
                Seconds(length.value().min(left.max(30.0)))
            }
            Goal::Proven(_) | Goal::Once => length,
        };
        let why = match waiting {
            0 => SoakWhy::Weakest {
                clean: self.clean(load, assurance),
                failed_before: load
                    .kinds()
                    .iter()
                    .any(|(kind, _)| assurance.exposure().near[kind.place()] > 0.0),
            },
            waiting => SoakWhy::FirstRound { left: waiting - 1 },
        };
        Some(SoakStep { place, length, rest, why })
    }

    fn most_telling(&self, assurance: &Assurance) -> Option<usize> {
        let span = self.span();
        let worth = |load: &SoakLoad| -> f64 {
            let (length, rest) = self.length(load, assurance);
            let (hours, work) = (length.value() / 3_600.0, (length + rest).value() / 3_600.0);
            let kinds = load.kinds().into_iter();
            kinds.map(|(kind, part)| assurance.worth(kind, hours * part, work, span)).sum()
        };
        let loads = self.loads.iter().map(worth).enumerate();
        loads.max_by(|a, b| a.1.total_cmp(&b.1)).map(|(place, _)| place)
    }

    /// Time that a load's kinds have stood, each by its part of it.
    fn clean(&self, load: &SoakLoad, assurance: &Assurance) -> Seconds {
        let kinds = load.kinds().into_iter();
        Seconds(kinds.map(|(kind, part)| assurance.exposure().clean(kind).value() * part).sum())
    }

    /// Length of a load's next run, and of the rest before it.
    fn length(&self, load: &SoakLoad, assurance: &Assurance) -> (Seconds, Seconds) {
        let none = Seconds(0.0);
        if let Some(seconds) = load.seconds {
            return (seconds, if load.is_cold() { COLD_REST } else { none });
        }
        if load.is_cold() {
            return (COLD_RUN, COLD_REST);
        }
        let stood = self.clean(load, assurance).value() * 0.5;
        (Seconds(stood.clamp(SHORTEST_SOAK.value(), LONGEST.value())), none)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::proof::exposure::ProofRun;
    use rstest::rstest;

    fn soak(goal: Goal) -> Soak {
        Soak {
            settings: Settings::default(),
            of: "profile \"dome\"".into(),
            loads: Soak::usual_loads(),
            goal,
            on_fault: OnFault::StepBack,
            reserve: 0,
            after: 0,
            before: Exposure::default(),
            claim: Some((Margin::Daily, 0.998)),
            ended: false,
            check: None,
        }
    }

    /// Runs it to its end on a card that never fails: what ran, and for how long.
    fn run(soak: &Soak) -> Vec<(usize, Seconds)> {
        let mut exposure = soak.before;
        let (mut spent, mut counts, mut ran) =
            (Seconds(0.0), vec![0; soak.loads.len()], Vec::new());
        loop {
            let assurance = Assurance::new(exposure, &soak.shares(), soak.claim, (0.06, 80.0));
            let Some(step) = soak.next(&assurance, spent, &counts) else { return ran };
            let load = &soak.loads[step.place];
            exposure.add(&ProofRun {
                load: &load.load,
                mean_load: None,
                is_cold: load.is_cold(),
                seconds: step.length,
                failed: false,
            });
            spent = spent + step.length + step.rest;
            counts[step.place] += 1;
            ran.push((step.place, step.length));
            assert!(ran.len() < 10_000, "no end");
        }
    }

    #[test]
    fn a_night_begins_with_every_load_and_then_leaves_none_behind() {
        let soak = soak(Goal::Hours(8.0));
        let ran = run(&soak);
        let first: Vec<usize> = ran.iter().take(7).map(|(place, _)| *place).collect();
        assert_eq!(first, [0, 1, 2, 3, 4, 5, 6]);
        assert!(ran.iter().take(6).all(|(_, length)| *length == SHORTEST_SOAK));
        let hours = |of: usize| -> f64 {
            let own = ran.iter().filter(|(place, _)| *place == of);
            own.map(|(_, length)| length.value() / 3_600.0).sum()
        };
        let all: f64 = (0..7).map(hours).sum();
        assert!((6.5..=8.0).contains(&all), "{all} h");
        for place in 0..6 {
            assert!((0.7..1.8).contains(&hours(place)), "{place}: {} h", hours(place));
        }
        assert!(ran.iter().any(|(_, length)| length.value() > 1_200.0), "later runs are longer");
    }

    #[test]
    fn what_failed_before_comes_up_more_often() {
        let mut after_fault = soak(Goal::Hours(8.0));
        after_fault.before.near[LoadKind::Light.place()] = 0.4;
        let count = |soak: &Soak| -> f64 {
            let light = run(soak).into_iter().filter(|(place, _)| *place == 4);
            light.map(|(_, length)| length.value()).sum()
        };
        assert!(count(&after_fault) > 1.5 * count(&soak(Goal::Hours(8.0))));
    }

    #[test]
    fn a_chance_ends_it_and_each_load_runs_once_where_that_is_wanted() {
        let hours = |goal| -> f64 {
            run(&soak(goal)).iter().map(|(_, length)| length.value() / 3_600.0).sum()
        };
        let (hour, day) =
            (hours(Goal::Proven(Seconds(3_600.0))), hours(Goal::Proven(Seconds(86_400.0))));
        assert!((50.0..200.0).contains(&hour), "{hour} h");
        assert!((1_000.0..4_000.0).contains(&day), "{day} h");
        assert_eq!(run(&soak(Goal::Once)).len(), 7);
    }

    #[rstest]
    #[case(Goal::Hours(0.0), SoakError::Length)]
    #[case(Goal::Hours(f64::NAN), SoakError::Length)]
    #[case(Goal::Until { at: 0, hours: -3.0 }, SoakError::Length)]
    #[case(Goal::Proven(Seconds(0.0)), SoakError::Span)]
    #[case(Goal::Proven(Seconds(1e9)), SoakError::Span)]
    fn what_cannot_be_reached_is_refused(#[case] goal: Goal, #[case] error: SoakError) {
        assert_eq!(soak(goal).check(), Err(error));
    }

    #[test]
    fn loads_and_shares_are_checked() {
        let good = soak(Goal::Hours(8.0));
        assert_eq!(good.check(), Ok(()));
        assert_eq!(Soak { loads: Vec::new(), ..good.clone() }.check(), Err(SoakError::Loads));
        let loads = vec![SoakLoad::new("kiln", f64::INFINITY)];
        assert_eq!(Soak { loads, ..good }.check(), Err(SoakError::Share("kiln".into())));
    }
}
