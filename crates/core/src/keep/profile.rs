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

use crate::air::fan::Fan;
use crate::card::settings::Settings;
use crate::climb::Outcome;
use crate::judge::verdict::{Verdict, gain_percent};
use crate::load::{EVERYDAY, MIXTURE};
use crate::machine::changes::CardChange;
use crate::plan::{LEAST_LONG_RUN, Margin};
use crate::proof::exposure::{Exposure, ProofRun};
use crate::statistics::{mean, standard_deviation};
use crate::units::{Celsius, Mhz, Percent, Seconds, Watt};

/// Time without a fault that proves settings to which no climb led: an hour, over all kinds of load.
pub const LEAST_PROOF: Seconds = Seconds(3_600.0);
/// Longest name of a profile, characters.
pub const LONGEST_NAME: usize = 40;
/// Longest purpose of a profile, characters.
pub const LONGEST_PURPOSE: usize = 60;
/// Kinds of load that make up a mixture; the medley is one by itself.
pub const LEAST_LOADS: usize = 3;

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
    /// Put together by hand.
    ByHand,
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
    /// Release of the driver it ran under; none where that was not noted.
    pub driver: Option<String>,
    /// How its fan was driven; none for automatic.
    pub fan: Option<Fan>,
    /// Highest core temperature.
    pub core_temperature: Option<Celsius>,
    /// Highest hot spot.
    pub hot_spot: Option<Celsius>,
    /// Highest memory temperature.
    pub memory_temperature: Option<Celsius>,
    /// Room it ran in.
    pub ambient: Option<Celsius>,
    /// When it began, seconds since 1970.
    pub began: i64,
    /// How busy it kept the card.
    pub mean_load: Option<Percent>,
    /// Whether it began idle and cold.
    pub is_cold: bool,
    /// Average fan speed.
    pub fan_speed: Option<Percent>,
    /// Average frames per second, and the rate below which one sample in a hundred lies.
    pub frame_rates: Option<(f64, f64)>,
}

impl RunAt {
    /// What it says of its settings.
    #[must_use]
    pub fn as_proof(&self) -> ProofRun<'_> {
        ProofRun {
            load: &self.load,
            mean_load: self.mean_load,
            is_cold: self.is_cold,
            seconds: self.seconds,
            failed: self.fails(),
        }
    }

    /// Whether it ran without a fault, however fast.
    fn holds(&self) -> bool {
        self.verdict.is_without_fault()
    }

    /// Whether the card failed.
    fn fails(&self) -> bool {
        self.verdict.is_fault()
    }
}

/// Why a run without a fault is no evidence for a profile.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum NoEvidence {
    /// Another driver, or one that was not noted.
    Driver,
    /// Something was changed around the card since.
    Change,
    /// The fan was faster than the profile's, and the card no hotter than that makes it.
    Fan,
}

/// What stands behind a profile: the runs made at its settings, under the present driver and with a
/// fan no faster than its own, or with the card at least as hot as its own fan lets it become.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Backing {
    /// Runs without a fault.
    pub runs: usize,
    /// Time under load in them.
    pub clean: Seconds,
    /// The loads that ran, each once, and how long.
    pub loads: Vec<(String, Seconds)>,
    /// The newest run that failed, whatever its driver and fan: climb, trial and verdict.
    pub failed: Option<(i64, u32, Verdict)>,
    /// Runs without a fault that do not count: they ran under another driver.
    pub under_other_driver: usize,
    /// Runs without a fault that do not count: their fan kept the card cooler.
    pub cooler: usize,
    /// Runs without a fault that do not count: they were made before `change`.
    pub before_change: usize,
    /// The newest change around the card.
    pub change: Option<CardChange>,
    /// Whether the climb the profile comes from ran it under a mixture of loads.
    pub from_mixture: bool,
    /// Hours and faults by kind of load, in the runs that count and in those that failed.
    pub exposure: Box<Exposure>,
}

impl Backing {
    /// What runs at the settings of a profile come to on a card under `driver`, around which `change` was the newest
    /// change.
    #[must_use]
    pub fn of(
        profile: &Profile,
        runs: &[RunAt],
        driver: &str,
        change: Option<&CardChange>,
    ) -> Self {
        let mut backing = Self { change: change.cloned(), ..Self::default() };
        let mut own_loads = Vec::new();
        for run in runs.iter().filter(|run| run.holds()) {
            let is_before = change.is_some_and(|change| run.began < change.at);
            let why = is_before.then_some(NoEvidence::Change);
            match why.or_else(|| no_evidence(profile, run, runs, driver)) {
                Some(NoEvidence::Change) => backing.before_change += 1,
                Some(NoEvidence::Driver) => backing.under_other_driver += 1,
                Some(NoEvidence::Fan) => backing.cooler += 1,
                None => {
                    backing.add(run);
                    if Some(run.climb) == profile.climb {
                        own_loads.push(run.load.as_str());
                    }
                }
            }
        }
        backing.from_mixture =
            !own_loads.is_empty() && own_loads.into_iter().all(|load| load == MIXTURE);
        let failed = runs.iter().filter(|run| run.fails());
        failed.clone().for_each(|run| backing.exposure.add(&run.as_proof()));
        backing.failed =
            failed.max_by_key(|run| run.row).map(|run| (run.climb, run.trial, run.verdict));
        backing
    }

    /// Takes in what ran at bolder settings, as far as it was without a fault: it says as much of milder ones.
    pub fn add_bolder(
        &mut self,
        profile: &Profile,
        runs: &[RunAt],
        driver: &str,
        change: Option<&CardChange>,
    ) {
        let counts = |run: &&RunAt| {
            run.holds()
                && change.is_none_or(|change| run.began >= change.at)
                && no_evidence(profile, run, runs, driver).is_none()
        };
        runs.iter().filter(counts).for_each(|run| self.exposure.add(&run.as_proof()));
    }

    fn add(&mut self, run: &RunAt) {
        self.exposure.add(&run.as_proof());
        self.runs += 1;
        self.clean = self.clean + run.seconds;
        match self.loads.iter_mut().find(|(load, _)| *load == run.load) {
            Some((_, seconds)) => *seconds = *seconds + run.seconds,
            None => self.loads.push((run.load.clone(), run.seconds)),
        }
    }

    /// Time that counts as time under a mixture of loads: all of the medley's, and of three or more
    /// other kinds three times that of the third longest.
    #[must_use]
    pub fn mixed(&self) -> Seconds {
        let is_mixture = |load: &&(String, Seconds)| load.0 == MIXTURE;
        let medley: f64 = self.loads.iter().filter(is_mixture).map(|load| load.1.value()).sum();
        let mut others: Vec<f64> =
            self.loads.iter().filter(|load| !is_mixture(load)).map(|load| load.1.value()).collect();
        others.sort_by(|a, b| b.total_cmp(a));
        let least = others.get(LEAST_LOADS - 1).copied().unwrap_or(0.0);
        Seconds(medley + least * LEAST_LOADS as f64)
    }
}

/// Why a run is no evidence for a profile; `None` where it is.
fn no_evidence(profile: &Profile, run: &RunAt, runs: &[RunAt], driver: &str) -> Option<NoEvidence> {
    if run.driver.as_deref() != Some(driver) {
        return Some(NoEvidence::Driver);
    }
    if Fan::is_no_faster(run.fan, profile.settings.fan) {
        return None;
    }
    // What the profile's own fan made of the card under the same load.
    let own = runs.iter().filter(|other| {
        other.holds()
            && other.load == run.load
            && Fan::is_no_faster(other.fan, profile.settings.fan)
    });
    let own: Vec<&RunAt> = own.collect();
    let temperatures: [fn(&RunAt) -> Option<Celsius>; 3] =
        [|run| run.core_temperature, |run| run.hot_spot, |run| run.memory_temperature];
    let is_as_hot = temperatures.iter().all(|of| {
        let hottest = own.iter().filter_map(|run| of(run)).map(Celsius::value).reduce(f64::max);
        hottest.is_none_or(|hottest| of(run).is_some_and(|at| at.value() >= hottest))
    });
    (own.is_empty() || !is_as_hot).then_some(NoEvidence::Fan)
}

/// Whether a profile is proven, and by what.
#[derive(Debug, Clone, Copy, PartialEq, strum::IntoStaticStr)]
pub enum Proof {
    /// It may be put on the card at a start.
    #[strum(to_string = "proven")]
    Proven(Grounds),
    /// Not yet, or no longer.
    #[strum(to_string = "not proven")]
    Open {
        /// Time under the medley without a fault that is still missing.
        left: Seconds,
    },
    /// It failed.
    #[strum(to_string = "failed")]
    Failed {
        /// Climb of the newest run that failed.
        climb: i64,
        /// Its trial.
        trial: u32,
        /// How it ended.
        verdict: Verdict,
    },
}

/// What proves a profile.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Grounds {
    /// The long run of the climb it comes from.
    LongRun,
    /// Runs of [`LEAST_PROOF`] in all.
    Hours,
}

impl Proof {
    /// What proves a profile.
    ///
    /// Proven is what a climb's final run stands behind, where the climb ran the medley, is as sure of it as its
    /// margin [asks for](Margin::confidence), and it ran for [`LEAST_LONG_RUN`] in all; or what ran [`LEAST_PROOF`]
    /// without a fault under the medley, or a third of that under each of three kinds of load: each breaks
    /// differently. One fault is enough against it.
    #[must_use]
    pub fn of(profile: &Profile, backing: &Backing) -> Self {
        if let Some((climb, trial, verdict)) = backing.failed {
            return Self::Failed { climb, trial, verdict };
        }
        let enough = profile.margin.map_or(0.0, Margin::confidence);
        if profile.origin == Origin::Climb
            && profile.confirmed
            && profile.claimed.is_none_or(|chance| chance >= enough)
            && backing.from_mixture
            && backing.mixed() >= LEAST_LONG_RUN
        {
            return Self::Proven(Grounds::LongRun);
        }
        let left = LEAST_PROOF.value() - backing.mixed().value();
        if left <= 0.0 {
            return Self::Proven(Grounds::Hours);
        }
        Self::Open { left: Seconds(left) }
    }

    /// Whether it is proven.
    #[must_use]
    pub const fn is_proven(&self) -> bool {
        matches!(self, Self::Proven(_))
    }

    /// It in a word.
    #[must_use]
    pub fn label(&self) -> &'static str {
        self.into()
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
    /// Power against what was proven, percent.
    pub power_percent: Option<f64>,
    /// By how much hotter its hot spot became, K: above the room, where that is known of all runs.
    pub hotter: Option<f64>,
    /// The run that says so: climb and trial.
    pub run: (i64, u32),
    /// How that run failed, where it did.
    pub failed: Option<Verdict>,
}

/// Holds the newest run after row `kept_after` against those until then under the same load; `None` where
/// there is none of one of them. Everyday use has no score, and every program its own watts: only its faults tell.
#[must_use]
pub fn drift(kept_after: i64, runs: &[RunAt]) -> Option<Drift> {
    let proves = |run: &&RunAt| (run.holds() && run.load != EVERYDAY) || run.fails();
    let since = runs.iter().filter(|run| run.row > kept_after);
    let now = since.filter(proves).max_by_key(|run| run.row)?;
    let before: Vec<&RunAt> = runs
        .iter()
        .filter(|run| run.row <= kept_after && run.load == now.load && run.holds())
        .collect();
    let run = (now.climb, now.trial);
    if !now.holds() {
        return Some(Drift {
            is_drifted: true,
            score_percent: None,
            noise_percent: LEAST_DRIFT.value(),
            power_percent: None,
            hotter: None,
            run,
            failed: Some(now.verdict),
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

    let is_slower = score.is_some_and(|score| score < -noise_percent);
    let takes_more = power.is_some_and(|power| power > POWER_DRIFT.value());
    let is_hotter = heat.is_some_and(|heat| heat > HEAT_DRIFT);
    Some(Drift {
        is_drifted: is_slower || takes_more || is_hotter,
        score_percent: score,
        noise_percent,
        power_percent: power,
        hotter: heat,
        run,
        failed: None,
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
            driver: Some("1.0".into()),
            fan: None,
            core_temperature: Some(Celsius(68.0)),
            hot_spot: Some(Celsius(80.0)),
            memory_temperature: None,
            began: 1_000,
            ambient: Some(Celsius(20.0)),
            mean_load: Some(Percent(97.0)),
            is_cold: false,
            fan_speed: Some(Percent(100.0)),
            frame_rates: Some((20.0, 15.0)),
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
    #[case::one_short_run(&[("kiln", 120.0), ("medley", 1.0)], false)]
    #[case::two_short_runs(&[("kiln", 120.0), ("loom", 1.0), ("squall", 1.0)], false)]
    #[case::a_third_each(&[("kiln", 30.0), ("loom", 20.0), ("squall", 20.0)], true)]
    #[case::a_third_short(&[("kiln", 30.0), ("loom", 20.0), ("squall", 19.0)], false)]
    #[case::with_medley(&[("kiln", 30.0), ("loom", 10.0), ("squall", 10.0), ("medley", 30.0)], true)]
    #[case(&[], false)]
    fn an_hour_without_a_fault_under_all_kinds_of_load_proves(
        #[case] runs: &[(&str, f64)],
        #[case] proven: bool,
    ) {
        let runs: Vec<RunAt> =
            runs.iter().map(|(load, minutes)| run(1, load, *minutes, Verdict::Clean)).collect();
        let profile = kept(Origin::Trial);
        let proof = Proof::of(&profile, &Backing::of(&profile, &runs, "1.0", None));
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
        let mut runs = vec![run(1, load, 10.0, Verdict::Clean)];
        let profile = Profile { confirmed, claimed, climb: Some(3), ..kept(Origin::Climb) };
        let proof = |profile: &Profile, runs: &[RunAt], driver: &str| {
            Proof::of(profile, &Backing::of(profile, runs, driver, None)).is_proven()
        };
        assert_eq!(proof(&profile, &runs, "1.0"), proven);
        assert!(!proof(&profile, &runs, "2.0"), "under another driver nothing of it counts");
        let imported = Origin::Imported { cut_back: Percent(25.0) };
        let foreign = Profile { origin: imported, ..profile.clone() };
        assert!(!proof(&foreign, &runs, "1.0"), "an import is never trusted");
        // One short run of another climb makes no mixture of this one's loads.
        runs.push(RunAt { climb: 9, ..run(2, "medley", 1.0, Verdict::Clean) });
        assert_eq!(proof(&profile, &runs, "1.0"), proven);
    }

    #[test]
    fn runs_before_something_was_changed_around_the_card_prove_nothing_any_more() {
        let change = CardChange { card: "a".into(), what: "new paste".into(), at: 1_500 };
        let old = [run(1, "medley", 90.0, Verdict::Clean), run(2, "medley", 5.0, Verdict::Clean)];
        let after = RunAt { began: 1_500, ..run(3, "medley", 30.0, Verdict::Clean) };
        let profile = kept(Origin::Trial);
        let runs = [old.to_vec(), vec![after]].concat();
        let backing = Backing::of(&profile, &runs, "1.0", Some(&change));
        assert_eq!((backing.runs, backing.before_change), (1, 2));
        let proof = Proof::of(&profile, &backing);
        assert_eq!(proof, Proof::Open { left: Seconds(1_800.0) });
        assert!(Proof::of(&profile, &Backing::of(&profile, &runs, "1.0", None)).is_proven());
        // A fault counts, whatever was changed since.
        let failed = [run(1, "medley", 1.0, Verdict::LoadDied)];
        let backing = Backing::of(&profile, &failed, "1.0", Some(&change));
        assert_eq!(backing.failed, Some((3, 1, Verdict::LoadDied)));
    }

    #[rstest]
    #[case(1.0, false)]
    #[case(9.9, false)]
    #[case(10.0, true)]
    fn a_brief_run_of_a_climb_is_no_long_run(#[case] minutes: f64, #[case] proven: bool) {
        let profile = Profile {
            confirmed: true,
            claimed: Some(0.999),
            climb: Some(3),
            ..kept(Origin::Climb)
        };
        let runs = [run(1, "medley", minutes, Verdict::Clean)];
        let proof = Proof::of(&profile, &Backing::of(&profile, &runs, "1.0", None));
        assert_eq!(proof.is_proven(), proven, "{proof:?}");
    }

    #[test]
    fn one_fault_is_enough_against_it() {
        let profile = kept(Origin::Trial);
        let mut runs = vec![run(1, "medley", 90.0, Verdict::Clean)];
        runs.push(run(2, "squall", 1.0, Verdict::DriverReset));
        let failed = Proof::of(&profile, &Backing::of(&profile, &runs, "1.0", None));
        assert_eq!(failed, Proof::Failed { climb: 3, trial: 2, verdict: Verdict::DriverReset });
        assert_eq!(failed.label(), "failed");
        runs.push(run(3, "squall", 1.0, Verdict::Void));
        let backing = Backing::of(&profile, &runs, "1.0", None);
        assert_eq!(backing.runs, 1, "what proves nothing counts neither way");
    }

    const FULL: Option<Fan> = Some(Fan::Fixed(Percent(100.0)));
    const QUIET: Option<Fan> = Some(Fan::Fixed(Percent(30.0)));

    #[rstest]
    #[case::the_same(Some("1.0"), QUIET, QUIET, None, true)]
    #[case::slower(Some("1.0"), QUIET, FULL, None, true)]
    #[case::faster(Some("1.0"), FULL, QUIET, None, false)]
    #[case::automatic(Some("1.0"), None, QUIET, None, false)]
    #[case::another_driver(Some("0.9"), QUIET, QUIET, None, false)]
    #[case::driver_unknown(None, QUIET, QUIET, None, false)]
    #[case::faster_but_as_hot(Some("1.0"), FULL, QUIET, Some(80.0), true)]
    #[case::faster_and_cooler(Some("1.0"), FULL, QUIET, Some(80.5), false)]
    fn a_run_counts_under_the_same_driver_and_with_a_fan_no_faster_or_a_card_as_hot(
        #[case] driver: Option<&str>,
        #[case] fan: Option<Fan>,
        #[case] own_fan: Option<Fan>,
        #[case] own_fan_makes: Option<f64>,
        #[case] counts: bool,
    ) {
        let mut profile = kept(Origin::Trial);
        profile.settings.fan = own_fan;
        let driver = driver.map(str::to_owned);
        let mut runs = vec![RunAt { driver, fan, ..run(1, "medley", 90.0, Verdict::Clean) }];
        let hot_spot = own_fan_makes.map(Celsius);
        runs.extend(hot_spot.map(|_| RunAt {
            fan: own_fan,
            hot_spot,
            ..run(2, "medley", 1.0, Verdict::Clean)
        }));
        let backing = Backing::of(&profile, &runs, "1.0", None);
        let proof = Proof::of(&profile, &backing);
        assert_eq!(proof.is_proven(), counts, "{proof:?}");
        assert_eq!(backing.under_other_driver + backing.cooler, usize::from(!counts));
    }

    #[rstest]
    #[case(1_004.0, 200.0, 80.0, 20.0, false, (0.4, 0.0, 0.0))]
    #[case(960.0, 200.0, 80.0, 20.0, true, (-4.0, 0.0, 0.0))]
    #[case(1_000.0, 212.0, 80.0, 20.0, true, (0.0, 6.0, 0.0))]
    #[case(1_000.0, 200.0, 88.0, 28.0, false, (0.0, 0.0, 0.0))]
    #[case(1_000.0, 200.0, 88.0, 20.0, true, (0.0, 0.0, 8.0))]
    fn drift_is_what_is_more_than_chance_and_more_than_the_room(
        #[case] score: f64,
        #[case] power: f64,
        #[case] hot_spot: f64,
        #[case] ambient: f64,
        #[case] drifted: bool,
        #[case] apart: (f64, f64, f64),
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
        let found = [drift.score_percent, drift.power_percent, drift.hotter].map(Option::unwrap);
        let is_near = |(found, wanted): (f64, f64)| (found - wanted).abs() < 0.05;
        assert!(found.into_iter().zip(<[f64; 3]>::from(apart)).all(is_near), "{drift:?}");
    }

    #[test]
    fn a_fault_since_it_was_kept_is_drift_and_without_a_new_run_there_is_none() {
        let mut runs = vec![run(1, "medley", 30.0, Verdict::Clean)];
        assert_eq!(drift(10, &runs), None);
        runs.push(run(20, "kiln", 3.0, Verdict::Clean));
        assert_eq!(drift(10, &runs), None, "another load cannot be held against it");
        runs.push(run(30, "squall", 3.0, Verdict::Artifacts));
        let failed = drift(10, &runs).unwrap();
        assert_eq!((failed.failed, failed.run), (Some(Verdict::Artifacts), (3, 30)));
    }
}
