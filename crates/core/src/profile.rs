//! Profiles: settings that were kept, what stands behind them, and whether they are still what they
//! were.
//!
//! ```text
//!   settings ──► runs at them, whichever climb they were made in ──► Backing ──► Proof
//!                 │ before they were kept │ after that
//!                 └───────────┬───────────┘
//!                           Drift
//! ```

use serde::{Deserialize, Serialize};

use crate::climb::{Margin, Outcome};
use crate::settings::Settings;
use crate::statistics::{mean, standard_deviation};
use crate::units::{Celsius, Mhz, Percent, Seconds, Watt};
use crate::verdict::{Verdict, gain_percent};

/// Time without a fault that proves settings to which no climb led: an hour, over all kinds of load.
pub const LEAST_PROOF: Seconds = Seconds(3_600.0);
/// Kinds of load that make up a mixture; the medley is one by itself.
const LEAST_LOADS: usize = 3;
/// Name of the load that is all scenes in turn.
const MIXTURE: &str = "medley";
/// A loss of score smaller than this is no drift, however little the runs scatter.
const LEAST_DRIFT: Percent = Percent(1.0);
/// More power than this above what was proven is told.
const POWER_DRIFT: Percent = Percent(3.0);
/// A hot spot warmer by more than this, the room's own change left out, is told, K.
const HEAT_DRIFT: f64 = 4.0;

/// Where the settings of a profile come from.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Origin {
    /// What a climb came to.
    #[default]
    Climb,
    /// Any one trial.
    Trial,
    /// Somebody else's file: a starting point.
    Imported {
        /// Share of the way from stock that was taken off.
        cut_back: Percent,
    },
}

/// Kept settings.
#[derive(Debug, Clone, PartialEq)]
pub struct Profile {
    /// Name, one of a kind per card.
    pub name: String,
    /// What it is for, in the user's words.
    pub purpose: String,
    /// The settings.
    pub settings: Settings,
    /// What they are to be good for; none where that was never said.
    pub margin: Option<Margin>,
    /// Chance that the climb claimed for the margin's span, 0 to 1.
    pub claimed: Option<f64>,
    /// Whether a long run of its climb stands behind it.
    pub confirmed: bool,
    /// Where the settings come from.
    pub origin: Origin,
    /// Climb they come from.
    pub climb: Option<i64>,
    /// Number of the trial that shows them, in that climb.
    pub trial: Option<u32>,
    /// Release of the driver they were kept under.
    pub driver: Option<String>,
    /// Whether the card is put to it, at each start as far as it is proven.
    pub in_use: bool,
    /// When it was kept, seconds since 1970; 0 before it is.
    pub kept: i64,
    /// Row of the newest trial there was then: what came after it says whether it has drifted.
    pub kept_after: i64,
}

impl Profile {
    /// A profile of these settings of which nothing else is known yet.
    #[must_use]
    pub fn new(name: impl Into<String>, settings: Settings, origin: Origin) -> Self {
        Self {
            name: name.into(),
            purpose: String::new(),
            settings,
            margin: None,
            claimed: None,
            confirmed: false,
            origin,
            climb: None,
            trial: None,
            driver: None,
            in_use: false,
            kept: 0,
            kept_after: 0,
        }
    }

    /// What a climb came to by a plan with this margin, as a profile without a name.
    #[must_use]
    pub fn of_outcome(outcome: &Outcome, margin: Margin, climb: i64) -> Self {
        Self {
            margin: Some(margin),
            claimed: outcome.claim.map(|claim| claim.chance),
            confirmed: outcome.confirmed,
            climb: Some(climb),
            trial: outcome.kept_trial,
            ..Self::new(String::new(), outcome.settings, Origin::Climb)
        }
    }

    /// Where it comes from, in a few words.
    #[must_use]
    pub fn origin_in_words(&self) -> String {
        match (self.origin, self.climb, self.trial) {
            (Origin::Imported { cut_back }, ..) => {
                format!("imported, cut back by {:.0} %", cut_back.value())
            }
            (Origin::Trial, Some(climb), Some(trial)) => format!("trial {trial} of climb {climb}"),
            (_, Some(climb), _) => format!("outcome of climb {climb}"),
            _ => "of unknown origin".into(),
        }
    }
}

/// A run at the settings of a profile, its fan aside.
#[derive(Debug, Clone, PartialEq)]
pub struct RunAt {
    /// Its climb.
    pub climb: i64,
    /// Its number there.
    pub trial: u32,
    /// Its row in the ledger: later runs have higher ones, whatever the clock said.
    pub row: i64,
    /// What ran.
    pub load: String,
    /// How long.
    pub seconds: Seconds,
    /// The verdict that counts.
    pub verdict: Verdict,
    /// Work units per second.
    pub score: Option<f64>,
    /// Average power of the board.
    pub power: Option<Watt>,
    /// Average core clock.
    pub clock: Option<Mhz>,
    /// Highest hot spot.
    pub hot_spot: Option<Celsius>,
    /// Room it ran in.
    pub ambient: Option<Celsius>,
}

impl RunAt {
    /// Whether it ran without a fault, however fast.
    fn holds(&self) -> bool {
        matches!(self.verdict, Verdict::Clean | Verdict::Slower | Verdict::HeldBack)
    }

    /// Whether the card failed.
    fn fails(&self) -> bool {
        self.verdict <= Verdict::Artifacts
    }
}

/// What stands behind settings: every run made with them.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Backing {
    /// Runs without a fault.
    pub runs: usize,
    /// Time under load in them.
    pub clean: Seconds,
    /// The loads that ran, each once.
    pub loads: Vec<String>,
    /// The newest run that failed: climb, trial and verdict.
    pub failed: Option<(i64, u32, Verdict)>,
}

impl Backing {
    /// What runs at settings come to.
    #[must_use]
    pub fn of(runs: &[RunAt]) -> Self {
        let mut backing = Self::default();
        for run in runs.iter().filter(|run| run.holds()) {
            backing.runs += 1;
            backing.clean = backing.clean + run.seconds;
            if !backing.loads.contains(&run.load) {
                backing.loads.push(run.load.clone());
            }
        }
        let failed = runs.iter().filter(|run| run.fails());
        backing.failed =
            failed.max_by_key(|run| run.row).map(|run| (run.climb, run.trial, run.verdict));
        backing
    }

    /// Whether the loads were of enough kinds to stand for all.
    fn is_mixture(&self) -> bool {
        self.loads.len() >= LEAST_LOADS || self.loads.iter().any(|load| load == MIXTURE)
    }

    /// The evidence in a few words.
    #[must_use]
    pub fn in_words(&self) -> String {
        if self.runs == 0 {
            return "no run without a fault".into();
        }
        let runs = if self.runs == 1 { "1 run".into() } else { format!("{} runs", self.runs) };
        format!("{} without a fault in {runs} of {}", self.clean.in_words(), self.loads.join(", "))
    }
}

/// Whether a profile is proven, and why, in a sentence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Proof {
    /// It may be put on the card at a start.
    Proven(String),
    /// Not yet, or no longer.
    Open(String),
    /// It failed.
    Failed(String),
}

impl Proof {
    /// What proves a profile on a card that runs under `driver`.
    ///
    /// Proven is what a climb's long run stands behind, where the climb is as sure of it as its margin
    /// [asks for](Margin::confidence); or what ran [`LEAST_PROOF`] without a fault. Either under the
    /// medley or under three kinds of load: each breaks differently. One fault is enough against
    /// it, and another driver makes all of it a starting point.
    #[must_use]
    pub fn of(profile: &Profile, backing: &Backing, driver: &str) -> Self {
        if let Some((climb, trial, verdict)) = backing.failed {
            return Self::Failed(format!("Trial {trial} of climb {climb} ended in {verdict}."));
        }
        if let Some(before) = profile.driver.as_deref().filter(|before| *before != driver) {
            return Self::Open(format!(
                "It was kept under driver {before}, and now it is {driver}: prove it again, then \
                 keep it again."
            ));
        }
        let enough = profile.margin.map_or(0.0, Margin::confidence);
        if profile.origin == Origin::Climb
            && profile.confirmed
            && profile.claimed.is_none_or(|chance| chance >= enough)
            && backing.is_mixture()
        {
            let runs = backing.in_words();
            return Self::Proven(format!("A long run of its climb stands behind it; {runs}."));
        }
        if backing.clean.value() >= LEAST_PROOF.value() && backing.is_mixture() {
            return Self::Proven(format!("It has {}.", backing.in_words()));
        }
        let left = LEAST_PROOF.value() - backing.clean.value();
        Self::Open(match left > 0.0 {
            true => format!(
                "It has {}: {} more under the medley, or three kinds of load, prove it.",
                backing.in_words(),
                Seconds(left).in_words()
            ),
            false => format!(
                "It has {}: that says little of other loads. Run the medley, or three kinds of load.",
                backing.in_words()
            ),
        })
    }

    /// Whether it is proven.
    #[must_use]
    pub const fn is_proven(&self) -> bool {
        matches!(self, Self::Proven(_))
    }

    /// It in a word.
    #[must_use]
    pub const fn label(&self) -> &'static str {
        match self {
            Self::Proven(_) => "proven",
            Self::Open(_) => "not proven",
            Self::Failed(_) => "failed",
        }
    }

    /// Why.
    #[must_use]
    pub fn why(&self) -> &str {
        match self {
            Self::Proven(why) | Self::Open(why) | Self::Failed(why) => why,
        }
    }
}

/// What a run made after settings were kept says of them.
#[derive(Debug, Clone, PartialEq)]
pub struct Drift {
    /// Whether it is no longer what was proven.
    pub is_drifted: bool,
    /// Score against what was proven, percent.
    pub score_percent: Option<f64>,
    /// A difference of score up to this is chance, percent.
    pub noise_percent: f64,
    /// All of it in a sentence.
    pub sentence: String,
}

/// Holds the newest run after row `kept_after` against those until then under the same load; `None` where
/// there is none of one of them.
#[must_use]
pub fn drift(kept_after: i64, runs: &[RunAt]) -> Option<Drift> {
    let proves = |run: &&RunAt| run.holds() || run.fails();
    let since = runs.iter().filter(|run| run.row > kept_after);
    let now = since.filter(proves).max_by_key(|run| run.row)?;
    let before: Vec<&RunAt> = runs
        .iter()
        .filter(|run| run.row <= kept_after && run.load == now.load && run.holds())
        .collect();
    let place = format!("trial {} of climb {}", now.trial, now.climb);
    if !now.holds() {
        return Some(Drift {
            is_drifted: true,
            score_percent: None,
            noise_percent: LEAST_DRIFT.value(),
            sentence: format!("It no longer holds: {place} ended in {}.", now.verdict),
        });
    }
    if before.is_empty() {
        return None;
    }
    let average = |of: &dyn Fn(&RunAt) -> Option<f64>| {
        mean(&before.iter().filter_map(|run| of(run)).collect::<Vec<_>>())
    };
    let scores: Vec<f64> = before.iter().filter_map(|run| run.score).collect();
    let scatter =
        mean(&scores).zip(standard_deviation(&scores)).map_or(0.0, |(m, s)| s / m * 200.0);
    let noise_percent = scatter.max(LEAST_DRIFT.value());
    let score = now.score.zip(mean(&scores)).map(|(at, before)| gain_percent(at, before));
    let watts = |run: &RunAt| run.power.map(Watt::value);
    let power = watts(now).zip(average(&watts)).map(|(at, before)| gain_percent(at, before));
    // Heat above the room, where the room is known of all of them.
    let above_room = |run: &RunAt| Some(run.hot_spot?.value() - run.ambient?.value());
    let hot_spot = |run: &RunAt| run.hot_spot.map(Celsius::value);
    let apart = |of: &dyn Fn(&RunAt) -> Option<f64>| of(now).zip(average(of));
    let heat = apart(&above_room).or(apart(&hot_spot)).map(|(at, before)| at - before);

    let mut parts = Vec::new();
    let is_slower = score.is_some_and(|score| score < -noise_percent);
    if let Some(score) = score {
        let beyond = if score.abs() > noise_percent { "more" } else { "no more" };
        parts.push(format!("score {score:+.1} %, {beyond} than chance (±{noise_percent:.1} %)"));
    }
    let takes_more = power.is_some_and(|power| power > POWER_DRIFT.value());
    let is_hotter = heat.is_some_and(|heat| heat > HEAT_DRIFT);
    parts.extend(power.map(|power| format!("power {power:+.1} %")));
    parts.extend(heat.map(|heat| format!("hot spot {heat:+.0} K")));
    let is_drifted = is_slower || takes_more || is_hotter;
    let verdict = match is_drifted {
        true => "It is no longer what was proven",
        false => "It is still what was proven",
    };
    Some(Drift {
        is_drifted,
        score_percent: score,
        noise_percent,
        sentence: format!("{verdict}: {} in {place}.", parts.join(", ")),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn run(row: i64, load: &str, minutes: f64, verdict: Verdict) -> RunAt {
        RunAt {
            climb: 3,
            trial: row as u32,
            row,
            load: load.into(),
            seconds: Seconds(minutes * 60.0),
            verdict,
            score: Some(1_000.0),
            power: Some(Watt(200.0)),
            clock: Some(Mhz(1_950.0)),
            hot_spot: Some(Celsius(80.0)),
            ambient: Some(Celsius(20.0)),
        }
    }

    fn kept(origin: Origin) -> Profile {
        Profile {
            margin: Some(Margin::Daily),
            driver: Some("1.0".into()),
            ..Profile::new("dome", Settings::default(), origin)
        }
    }

    #[rstest]
    #[case(&[("medley", 30.0), ("medley", 31.0)], true)]
    #[case(&[("medley", 30.0), ("kiln", 20.0)], false)]
    #[case(&[("kiln", 120.0)], false)]
    #[case(&[("kiln", 30.0), ("loom", 20.0), ("squall", 15.0)], true)]
    #[case(&[], false)]
    fn an_hour_without_a_fault_under_all_kinds_of_load_proves(
        #[case] runs: &[(&str, f64)],
        #[case] proven: bool,
    ) {
        let runs: Vec<RunAt> =
            runs.iter().map(|(load, minutes)| run(1, load, *minutes, Verdict::Clean)).collect();
        let proof = Proof::of(&kept(Origin::Trial), &Backing::of(&runs), "1.0");
        assert_eq!(proof.is_proven(), proven, "{proof:?}");
    }

    #[rstest]
    #[case(true, Some(0.993), "medley", true)]
    #[case(true, Some(0.993), "kiln", false)]
    #[case(true, Some(0.9), "medley", false)]
    #[case(false, Some(0.993), "medley", false)]
    fn what_a_climb_claims_proves_if_a_long_run_and_the_chance_stand_behind_it(
        #[case] confirmed: bool,
        #[case] claimed: Option<f64>,
        #[case] load: &str,
        #[case] proven: bool,
    ) {
        let backing = Backing::of(&[run(1, load, 10.0, Verdict::Clean)]);
        let profile = Profile { confirmed, claimed, ..kept(Origin::Climb) };
        assert_eq!(Proof::of(&profile, &backing, "1.0").is_proven(), proven);
        let imported = Origin::Imported { cut_back: Percent(25.0) };
        let foreign = Profile { origin: imported, ..profile };
        assert!(!Proof::of(&foreign, &backing, "1.0").is_proven(), "an import is never trusted");
    }

    #[rstest]
    fn one_fault_or_another_driver_is_enough_against_it() {
        let mut runs = vec![run(1, "medley", 90.0, Verdict::Clean)];
        let profile = kept(Origin::Trial);
        let moved = Proof::of(&profile, &Backing::of(&runs), "2.0");
        assert!(matches!(&moved, Proof::Open(why) if why.contains("driver 1.0")), "{moved:?}");
        runs.push(run(2, "squall", 1.0, Verdict::DriverReset));
        let failed = Proof::of(&profile, &Backing::of(&runs), "1.0");
        assert_eq!(failed.why(), "Trial 2 of climb 3 ended in driver reset.");
        assert_eq!(failed.label(), "failed");
        runs.push(run(3, "squall", 1.0, Verdict::Void));
        assert_eq!(Backing::of(&runs).runs, 1, "what proves nothing counts neither way");
    }

    #[rstest]
    #[case(1_004.0, 200.0, 80.0, 20.0, false, "no more than chance")]
    #[case(960.0, 200.0, 80.0, 20.0, true, "score -4.0 %, more than chance")]
    #[case(1_000.0, 212.0, 80.0, 20.0, true, "power +6.0 %")]
    #[case(1_000.0, 200.0, 88.0, 28.0, false, "hot spot +0 K")]
    #[case(1_000.0, 200.0, 88.0, 20.0, true, "hot spot +8 K")]
    fn drift_is_what_is_more_than_chance_and_more_than_the_room(
        #[case] score: f64,
        #[case] power: f64,
        #[case] hot_spot: f64,
        #[case] ambient: f64,
        #[case] drifted: bool,
        #[case] part: &str,
    ) {
        let now = RunAt {
            score: Some(score),
            power: Some(Watt(power)),
            hot_spot: Some(Celsius(hot_spot)),
            ambient: Some(Celsius(ambient)),
            ..run(20, "medley", 5.0, Verdict::Clean)
        };
        let proven = [run(1, "medley", 30.0, Verdict::Clean), run(2, "kiln", 9.0, Verdict::Clean)];
        let runs: Vec<RunAt> = proven.into_iter().chain([now]).collect();
        let drift = drift(10, &runs).unwrap();
        assert_eq!(drift.is_drifted, drifted, "{drift:?}");
        assert!(drift.sentence.contains(part), "{drift:?}");
    }

    #[rstest]
    fn a_fault_since_it_was_kept_is_drift_and_without_a_new_run_there_is_none() {
        let mut runs = vec![run(1, "medley", 30.0, Verdict::Clean)];
        assert_eq!(drift(10, &runs), None);
        runs.push(run(20, "kiln", 3.0, Verdict::Clean));
        assert_eq!(drift(10, &runs), None, "another load cannot be held against it");
        runs.push(run(30, "squall", 3.0, Verdict::Artifacts));
        assert!(drift(10, &runs).unwrap().sentence.contains("no longer holds"));
    }
}
