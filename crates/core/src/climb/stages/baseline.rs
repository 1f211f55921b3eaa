//! The baseline: runs at stock, and the noise floor they show.

use crate::card::description::CardDescription;
use crate::climb::stages::rules::{NudgeBy, StageRules, ToGo};
use crate::climb::{Climb, Next, Proposal, Purpose, Reason, Stage, Stuck, TrialRecord};
use crate::judge::verdict::{Meaning, Verdict};
use crate::load::told::{SubScoreBaseline, Told, sub_score_baselines};
use crate::statistics::{mean, median, prediction_bound, standard_deviation};
use crate::units::{Celsius, Mhz, Percent, Seconds, Watt};

/// What the card does at stock.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Baseline {
    /// Runs that count.
    pub runs: usize,
    /// Median score; of a load without figures the median of the average clocks, MHz.
    pub score: f64,
    /// Whether it goes by the clock, since the load has no figures.
    pub by_clock: bool,
    /// Spread of the scores: standard deviation in percent of the median. Zero for a single run.
    pub noise: Percent,
    /// The noise floor of this machine: a single run that gains more than this on the median is
    /// more than chance, with 95 % confidence. None for a single run.
    pub noise_floor: Option<Percent>,
    /// Mean of the temperatures the runs were going to, where their warming told.
    pub plateau: Option<Celsius>,
    /// Mean of the average clocks.
    pub average_clock: Mhz,
    /// Mean of the average board powers.
    pub average_power: Option<Watt>,
    /// Highest hot spot of all runs.
    pub hot_spot_max: Option<Celsius>,
}

/// The stage.
pub(in crate::climb) struct BaselineRuns;

impl StageRules for BaselineRuns {
    fn missing(&self, _card: &CardDescription) -> Option<&'static str> {
        None
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        climb.next_of_baseline()
    }

    fn to_go(&self, climb: &Climb, _done: f64) -> ToGo {
        let left = |load| {
            let done = climb.counted_baseline_runs(load).count();
            (f64::from(climb.runs_wanted(load)) - done as f64).max(0.0)
        };
        let trials = climb.plan.loads().into_iter().map(left).sum();
        ToGo { trials, seconds: climb.plan.baseline.seconds }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        None
    }
}

/// How far the baseline under one load is.
#[derive(Debug, Clone, PartialEq)]
pub struct BaselineProgress {
    /// The load.
    pub load: String,
    /// Runs that count.
    pub done: usize,
    /// Runs wanted.
    pub wanted: u32,
    /// What it is; none before it is complete.
    pub baseline: Option<Baseline>,
}

impl Climb {
    /// The baseline under the load of the searches, once enough runs count, or once the user ended the stage with at
    /// least one.
    #[must_use]
    pub fn baseline(&self) -> Option<Baseline> {
        self.baseline_under(&self.plan.scene)
    }

    /// The same under any of the climb's loads.
    #[must_use]
    pub fn baseline_under(&self, load: &str) -> Option<Baseline> {
        if !self.has_baseline(load) {
            return None;
        }
        let runs: Vec<&TrialRecord> = self.counted_baseline_runs(load).collect();
        let scores: Vec<f64> = runs.iter().filter_map(|run| self.figure(run)).collect();
        let clocks: Vec<f64> =
            runs.iter().filter_map(|run| run.seen.average_clock()).map(Mhz::value).collect();
        let powers: Vec<f64> =
            runs.iter().filter_map(|run| run.seen.average_power).map(Watt::value).collect();
        let score = median(&scores)?;
        Some(Baseline {
            runs: runs.len(),
            score,
            by_clock: self.goes_by_clock_under(load),
            noise: Percent(standard_deviation(&scores).unwrap_or(0.0) / score * 100.0),
            noise_floor: prediction_bound(&scores).map(|bound| Percent(bound / score * 100.0)),
            plateau: self.known_plateau(load),
            average_clock: Mhz(mean(&clocks)?),
            average_power: mean(&powers).map(Watt),
            hot_spot_max: runs
                .iter()
                .filter_map(|run| run.seen.hot_spot_max)
                .max_by(|a, b| a.value().total_cmp(&b.value())),
        })
    }

    /// Whether the baseline under a load is complete.
    pub(in crate::climb) fn has_baseline(&self, load: &str) -> bool {
        let done = self.counted_baseline_runs(load).count();
        done >= self.runs_wanted(load) as usize || (done > 0 && self.is_over(Stage::Baseline))
    }

    /// Baseline runs that must count under a load of the climb.
    fn runs_wanted(&self, load: &str) -> u32 {
        let is_measured = load == self.plan.scene || load == self.plan.full_load();
        match is_measured {
            true => self.plan.baseline.runs,
            false => self.plan.cross_check.baseline_runs,
        }
    }

    /// How far the baseline is, load by load, in the order in which they run.
    #[must_use]
    pub fn baseline_progress(&self) -> Vec<BaselineProgress> {
        let of = |load: &str| BaselineProgress {
            load: load.to_owned(),
            done: self.counted_baseline_runs(load).count(),
            wanted: self.runs_wanted(load),
            baseline: self.baseline_under(load),
        };
        self.plan.loads().into_iter().map(of).collect()
    }

    /// Whether runs under the load of the searches are held against each other by their average clock.
    #[must_use]
    pub fn goes_by_clock(&self) -> bool {
        self.goes_by_clock_under(&self.plan.scene)
    }

    /// Whether runs under a load are held against each other by their average clock, since it has no figures: no
    /// score is told, and no frame is seen, in any clean run of its baseline.
    fn goes_by_clock_under(&self, load: &str) -> bool {
        let mut clean = self
            .counted_of(Stage::Baseline)
            .filter(|run| run.scene == load && run.verdict() == Verdict::Clean);
        let has_none = |run: &TrialRecord| run.score.is_none() && run.seen.frames == 0;
        clean.next().is_some_and(has_none) && clean.all(has_none)
    }

    /// What a trial is held against others of its load by: its score, or its average clock in MHz where the load has
    /// no figures.
    #[must_use]
    pub fn figure(&self, trial: &TrialRecord) -> Option<f64> {
        match self.goes_by_clock_under(&trial.scene) {
            true => trial.seen.average_clock().map(Mhz::value),
            false => trial.score,
        }
    }

    /// The sub-scores of the baseline runs that count under the load of the searches, median and noise of each; none
    /// of a load without any.
    #[must_use]
    pub fn sub_score_baselines(&self) -> Vec<SubScoreBaseline> {
        let runs = self.counted_baseline_runs(&self.plan.scene);
        sub_score_baselines(&runs.map(|run| run.seen.told.clone()).collect::<Vec<Told>>())
    }

    /// How many baseline runs count so far, under all loads.
    #[must_use]
    pub fn baseline_runs(&self) -> usize {
        let loads = self.plan.loads().into_iter();
        loads.map(|load| self.counted_baseline_runs(load).count()).sum()
    }

    /// The baseline runs that count under a load.
    pub(in crate::climb) fn counted_baseline_runs(
        &self,
        load: &str,
    ) -> impl Iterator<Item = &TrialRecord> {
        self.counted_of(Stage::Baseline)
            .filter(move |run| run.scene == load)
            .filter(|run| run.verdict() == Verdict::Clean && self.figure(run).is_some())
            // Without a clock there is nothing to hold the clocks of others against.
            .filter(|run| run.seen.average_clock().is_some())
    }

    /// The baseline runs that count under the load of the searches.
    pub(in crate::climb) fn stock_runs(&self) -> impl Iterator<Item = &TrialRecord> {
        self.counted_baseline_runs(&self.plan.scene)
    }

    /// What the baseline wants next; `None` when it is complete under every load.
    fn next_of_baseline(&self) -> Option<Next> {
        let all = self.plan.loads();
        let load = all.into_iter().find(|load| !self.has_baseline(load))?;
        if self.is_over(Stage::Baseline) {
            // Ended by the user: a load without a run is not compared under, but the searches cannot do without.
            let is_needed = [self.plan.scene.as_str(), self.plan.full_load()]
                .into_iter()
                .any(|load| !self.has_baseline(load));
            return is_needed.then_some(Next::Stuck(Stuck::NoBaseline));
        }
        let retries = self.plan.rules.retries as usize;
        let in_a_row = self
            .trials_of(Stage::Baseline)
            .rev()
            .take_while(|run| run.number as usize > self.taken_up_after)
            .filter(|run| !run.was_stopped())
            .take_while(|run| run.scene == load && run.verdict() != Verdict::Clean)
            .collect::<Vec<_>>();
        if in_a_row.len() > retries {
            return Some(Next::Stuck(stuck(&in_a_row, &self.card)));
        }
        let seconds = self.plan.baseline.seconds;
        if let Some(stuck) = self.stuck_without_score(Stage::Baseline, load, seconds) {
            return Some(stuck);
        }
        Some(Next::Trial(Box::new(self.baseline_proposal(load, in_a_row.first().copied()))))
    }

    fn baseline_proposal(&self, load: &str, spoilt: Option<&TrialRecord>) -> Proposal {
        let plan = &self.plan.baseline;
        let first = self.trials.is_empty();
        let is_warm = self.trials_of(Stage::Baseline).any(|run| {
            run.verdict() == Verdict::Clean || run.seconds.value() >= plan.warm_up_seconds.max(1.0)
        });
        let warm_up = if !is_warm { plan.warm_up_seconds } else { self.plan.core.warm_up_seconds };
        let (runs, done) = (self.runs_wanted(load), self.counted_baseline_runs(load).count());
        let of_many = self.plan.has_many_loads().then(|| load.to_owned());
        let reason = match spoilt {
            Some(run) => Reason::BaselineAgain {
                trial: run.number,
                verdict: run.verdict(),
                done,
                runs,
                load: of_many,
            },
            None if first => {
                Reason::BaselineFirst { runs, warm_up: Seconds(warm_up), load: of_many }
            }
            None => Reason::BaselineNext { done, runs, load: of_many },
        };
        let proposal = self.proposal_after(
            Seconds(warm_up),
            Stage::Baseline,
            Purpose::Baseline,
            self.held_settings(),
            Seconds(plan.seconds),
            reason,
        );
        proposal.under(load)
    }
}

fn stuck(in_a_row: &[&TrialRecord], card: &CardDescription) -> Stuck {
    let runs = in_a_row.len();
    let last = in_a_row.first().map(|run| run.reason.clone()).unwrap_or_default();
    let is_the_load = in_a_row.iter().all(|run| run.verdict() == Verdict::LoadDied);
    if let Some(run) = in_a_row.first().filter(|_| is_the_load) {
        return Stuck::LoadEnds { load: run.scene.clone(), runs, last };
    }
    let is_faulty = in_a_row.iter().any(|run| run.verdict().meaning() == Meaning::TooMuch);
    Stuck::BaselineInVain { runs, last, fails: is_faulty.then(|| card.name.clone()) }
}
