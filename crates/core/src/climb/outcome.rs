//! What a climb comes to.

use crate::air::fan::Fan;
use crate::card::description::SettingKind;
use crate::card::settings::Settings;
use crate::climb::by_load::{LoadGain, Ratio};
use crate::climb::claim::{Claim, Conditions};
use crate::climb::pair::Pair;
use crate::climb::search::bayesian::Surprise;
use crate::climb::{Baseline, Climb, Purpose, Shown, Stage, TrialRecord};
use crate::judge::verdict::{Meaning, Verdict, gain_percent};
use crate::load::artifact::Domain;
use crate::plan::{LEAST_LONG_RUN, Policy};
use crate::statistics::median;
use crate::units::{MhzOffset, Seconds};

/// What a climb comes to.
#[derive(Debug, Clone, PartialEq)]
pub struct Outcome {
    /// Settings to keep, as they were proven.
    pub settings: Settings,
    /// The stage after the two clocks that found them; none where core, memory or power did.
    pub stage: Option<Stage>,
    /// Where they lie on the map of core against memory.
    pub pair: Pair,
    /// Median score of the clean runs at these settings.
    pub score: Option<f64>,
    /// Gain of that score over the baseline.
    pub gain_percent: Option<f64>,
    /// Trials made in all.
    pub trials: usize,
    /// Time under load in all of them.
    pub test_seconds: Seconds,
    /// Whether the final run that the plan asks for stands behind the settings.
    pub confirmed: bool,
    /// The longest clean run at the settings, where it is shorter than [`LEAST_LONG_RUN`]: a brief check.
    pub brief: Option<Seconds>,
    /// What is claimed of them; none for stock, or where they are more of a hope.
    pub claim: Option<Claim>,
    /// The trial whose clock line shows the kept settings.
    pub kept_trial: Option<u32>,
    /// What the settings move from stock, the fan aside.
    pub moved: Vec<Shown>,
    /// The baseline, once it is complete.
    pub baseline: Option<Baseline>,
    /// Whether the climb has stages that search, beside its baseline.
    pub searches: bool,
    /// What the settings bring under each load of the climb.
    pub by_load: Vec<LoadGain>,
    /// The trial that was least to be expected, where the model did not fit this card: all is believed less firmly then.
    pub surprise: Option<Surprise>,
    /// What all of that was found under.
    pub conditions: Conditions,
}

impl Climb {
    /// What the climb would come to if it ended now.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        let (stage, settings) = self.kept();
        let pair = self.pair_of(&settings);
        let at_kept = self.clean_at(&settings);
        let under_it: Vec<&TrialRecord> = self.clean_under(&self.plan.scene, &settings).collect();
        let best_measured = under_it
            .iter()
            .filter(|trial| trial.purpose == Purpose::Settle)
            .chain(&under_it)
            .chain(&at_kept)
            .next()
            .copied();
        let scores: Vec<f64> = under_it.iter().filter_map(|trial| self.figure(trial)).collect();
        let figure = median(&scores);
        let gain = figure.zip(self.baseline()).map(|(s, base)| gain_percent(s, base.score));
        let confirmed = self.is_confirmed_by(stage, &at_kept) && self.is_cross_checked(&settings);
        Outcome {
            settings,
            stage,
            pair,
            score: figure.filter(|_| !self.goes_by_clock()),
            gain_percent: gain,
            trials: self.trials.len(),
            test_seconds: self.test_seconds(),
            confirmed,
            brief: at_kept
                .iter()
                .map(|trial| trial.seconds)
                .max_by(|a, b| a.value().total_cmp(&b.value()))
                .filter(|longest| *longest < LEAST_LONG_RUN),
            claim: self.claim_by(stage, pair).filter(Claim::is_worth_making),
            kept_trial: best_measured.map(|trial| trial.number),
            moved: settings.moved_but_fan(&self.card),
            baseline: self.baseline(),
            searches: self.stages.iter().any(|stage| *stage != Stage::Baseline),
            by_load: self.gains(&settings),
            surprise: self.surprise(),
            conditions: self.conditions(),
        }
    }

    /// The trial that was least to be expected of those that were not.
    #[must_use]
    pub fn surprise(&self) -> Option<Surprise> {
        let is_bayesian = self.plan.policy == Policy::Bayesian;
        let of_stages = self.stages.iter().filter_map(|stage| stage.rules().surprise(self));
        of_stages.min_by(|a, b| a.chance.total_cmp(&b.chance)).filter(|_| is_bayesian)
    }

    /// What the climb would keep, and the stage that found it: the cross-check, where it went back a step, or what
    /// the stages before it came to.
    fn kept(&self) -> (Option<Stage>, Settings) {
        match Stage::CrossCheck.rules().found(self) {
            Some(settings) => (Some(Stage::CrossCheck), settings),
            None => self.kept_until(Stage::CrossCheck),
        }
    }

    /// Settings of a place on the map, to be kept: stock where the core is not raised and the card has failed so early that
    /// more power alone is not sure to hold either. More memory clock would leave the core still less.
    pub(in crate::climb) fn settings_to_keep(&self, pair: Pair) -> Settings {
        match pair.core == MhzOffset::STOCK && !self.is_power_sure() {
            true => self.held_settings(),
            false => self.settings_of(pair),
        }
    }

    /// Whether raised limits are as sure to hold with both clocks at stock as what is kept has to be. Runs of the core
    /// tell: at raised limits it is faster.
    fn is_power_sure(&self) -> bool {
        let margin = self.plan.margin;
        let is_sure = |belief: crate::climb::EdgeBelief| {
            belief.holds_to(margin.hours(), margin.faults(), margin.confidence()) >= 0.0
        };
        self.tried_belief(Domain::Core).is_none_or(is_sure)
    }

    /// Whether clean runs long enough stand behind what a stage found, or behind what core, memory and power come to.
    pub(in crate::climb) fn is_confirmed_by(
        &self,
        stage: Option<Stage>,
        at_kept: &[&TrialRecord],
    ) -> bool {
        match stage {
            None => self.is_confirmed(self.kept_pair()),
            Some(stage) => stage.rules().is_confirmed(self, at_kept),
        }
    }

    /// What is claimed of a place on the map that a stage found, or that core, memory and power come to.
    pub(in crate::climb) fn claim_by(&self, stage: Option<Stage>, pair: Pair) -> Option<Claim> {
        match stage {
            None => self.claim(pair),
            Some(stage) => stage.rules().claim(self, pair),
        }
    }

    /// What settings bring under each load of the climb, as far as it ran clean there.
    #[must_use]
    pub fn gains(&self, settings: &Settings) -> Vec<LoadGain> {
        let of = |load: &str| {
            let runs: Vec<&TrialRecord> = self.clean_under(load, settings).collect();
            let base: Vec<f64> =
                self.counted_baseline_runs(load).filter_map(|run| self.figure(run)).collect();
            let figures: Vec<f64> = runs.iter().filter_map(|run| self.figure(run)).collect();
            LoadGain {
                load: load.to_owned(),
                runs: runs.len(),
                clean: Seconds(runs.iter().map(|run| run.seconds.value()).sum()),
                gain: Ratio::between(&figures, &base),
                by_clock: self.baseline_under(load).is_some_and(|baseline| baseline.by_clock),
            }
        };
        self.plan.loads().into_iter().map(of).collect()
    }

    /// Where settings lie on the map of core against memory.
    pub(in crate::climb) fn pair_of(&self, settings: &Settings) -> Pair {
        let read = |domain| self.axis(domain).map_or(MhzOffset::STOCK, |axis| axis.read(settings));
        Pair { core: read(Domain::Core), memory: read(Domain::Memory) }
    }

    /// Clean trials at settings, fan and all.
    pub(in crate::climb) fn clean_at(&self, settings: &Settings) -> Vec<&TrialRecord> {
        let is_there = |trial: &&TrialRecord| {
            let held = trial.held();
            trial.verdict() == Verdict::Clean
                && SettingKind::ALL.iter().all(|kind| held.get(*kind) == settings.get(*kind))
                && held.curve == settings.curve
                && held.fan.unwrap_or(Fan::Automatic) == settings.fan.unwrap_or(Fan::Automatic)
        };
        self.trials.iter().filter(is_there).collect()
    }

    /// The same under one load.
    pub(in crate::climb) fn clean_under(
        &self,
        load: &str,
        settings: &Settings,
    ) -> impl Iterator<Item = &TrialRecord> {
        self.clean_at(settings).into_iter().filter(move |trial| trial.scene == load)
    }

    /// Time under load in all trials made.
    #[must_use]
    pub fn test_seconds(&self) -> Seconds {
        Seconds(self.trials.iter().map(|trial| trial.seconds.value()).sum())
    }

    /// Where the climb would end on the map. Two edges found alone are not combined unless they
    /// were tried together: the one that brings more stays.
    pub(in crate::climb) fn kept_pair(&self) -> Pair {
        let alone = self.found_alone();
        let is_pair = alone.core > MhzOffset::STOCK && alone.memory > MhzOffset::STOCK;
        let tried = self.counted_of(Stage::Together).next().is_some();
        if self.goes_together() && (tried || !is_pair) {
            return self.kept_together();
        }
        if !is_pair {
            return alone;
        }
        let gain = |domain, value| self.gain_alone(domain, value).map_or(0.0, |gain| gain.0);
        if gain(Domain::Memory, alone.memory) > gain(Domain::Core, alone.core) {
            Pair { core: MhzOffset::STOCK, ..alone }
        } else {
            Pair { memory: MhzOffset::STOCK, ..alone }
        }
    }

    /// What is claimed of a place on the map.
    #[must_use]
    pub fn claim(&self, pair: Pair) -> Option<Claim> {
        let raised = [pair.core, pair.memory].map(|value| value > MhzOffset::STOCK);
        let margin = self.plan.margin;
        // What stays at stock may fail, too: raised power makes the core run faster.
        let (core, memory) = match raised {
            [false, false] if self.powered_settings() == self.held_settings() => return None,
            [false, false] if !self.is_power_sure() => return None,
            [true, true] => {
                let joint = self.joint()?;
                (Some(joint.core.clone()), Some(joint.memory.clone()))
            }
            _ => (self.tried_belief(Domain::Core), self.tried_belief(Domain::Memory)),
        };
        if core.is_none() && memory.is_none() {
            return None;
        }
        let chance = |belief: &Option<crate::climb::EdgeBelief>, value| {
            belief.as_ref().map_or(1.0, |b| b.chance_to_hold(value, margin.hours()))
        };
        // What stays at stock has nothing taken off.
        let below = |belief: &Option<crate::climb::EdgeBelief>, value: MhzOffset| {
            if value == MhzOffset::STOCK {
                return value;
            }
            let middle = belief.as_ref().map_or(0.0, |belief| belief.band(0.0).0);
            MhzOffset((middle - f64::from(value.0)).round() as i32).max(MhzOffset::STOCK)
        };
        Some(Claim {
            below_core: below(&core, pair.core),
            below_memory: below(&memory, pair.memory),
            ..self.claimed(
                chance(&core, pair.core) * chance(&memory, pair.memory),
                &self.settings_of(pair),
            )
        })
    }

    /// What is believed of the edge of a domain that the climb has looked for, or that has failed at stock.
    fn tried_belief(&self, domain: Domain) -> Option<crate::climb::EdgeBelief> {
        let stage = [Stage::Core, Stage::Memory].into_iter().find(|s| s.domain() == Some(domain));
        let is_tried = stage.is_some_and(|stage| self.trials_of(stage).next().is_some())
            || self.beside(domain).iter().any(|run| run.fault.is_some());
        is_tried.then(|| self.belief(domain)).flatten()
    }

    /// A claim by the chance that the settings themselves hold.
    pub(in crate::climb) fn claimed(&self, chance: f64, kept: &Settings) -> Claim {
        let (clean, unrelated) = self.undisturbed_so_far(kept);
        let before = self.experience.unrelated();
        Claim::new(self.plan.margin, chance, clean, unrelated, before)
    }

    /// Time under load without a fault, and faults that had another cause than the settings: those at settings that go
    /// nowhere beyond stock, or that `kept` is at least as bold as.
    pub(in crate::climb) fn undisturbed_so_far(&self, kept: &Settings) -> (Seconds, usize) {
        let clean = |trial: &&TrialRecord| trial.verdict().meaning() == Meaning::Holds;
        let seconds = self.trials.iter().filter(clean).map(|trial| trial.seconds.value()).sum();
        let is_unrelated = |trial: &&TrialRecord| {
            let held = trial.held();
            let is_bold = held.is_at_least_as_bold_as(&held, &self.card);
            trial.verdict().is_fault()
                && (!is_bold || kept.is_at_least_as_bold_as(&held, &self.card))
        };
        let unrelated = self.trials.iter().filter(is_unrelated);
        (Seconds(seconds), unrelated.count())
    }

    /// Whether a long clean run was made there or above it, below all that failed.
    pub(in crate::climb) fn is_confirmed(&self, kept: Pair) -> bool {
        let raised = [kept.core, kept.memory].map(|value| value > MhzOffset::STOCK);
        let steps = |domain| self.plan.axis(domain);
        let (stage, long) = match (raised, self.plan.policy) {
            ([false, false], _) => return self.is_power_confirmed(),
            (_, Policy::Bayesian) if self.goes_together() => {
                (Stage::Together, self.plan.together.settle_seconds)
            }
            ([true, true], _) => (Stage::Together, self.plan.together.confirm_seconds),
            ([true, false], Policy::Bayesian) => (Stage::Core, steps(Domain::Core).settle_seconds),
            ([false, true], Policy::Bayesian) => {
                (Stage::Memory, steps(Domain::Memory).settle_seconds)
            }
            ([true, false], _) => (Stage::Core, steps(Domain::Core).confirm_seconds),
            ([false, true], _) => (Stage::Memory, steps(Domain::Memory).confirm_seconds),
        };
        let fails = |at: Pair| {
            let fault = |trial: &&TrialRecord| trial.verdict().is_fault();
            self.counted_of(stage).filter(fault).any(|trial| {
                let failed = self.place(trial);
                failed.core <= at.core && failed.memory <= at.memory
            })
        };
        self.counted_of(stage).any(|trial| {
            let at = self.place(trial);
            trial.verdict() == Verdict::Clean
                && trial.seconds.value() >= long
                && at.core >= kept.core
                && at.memory >= kept.memory
                && !fails(at)
        })
    }

    /// Whether more power alone was run often enough.
    fn is_power_confirmed(&self) -> bool {
        self.power_runs(self.plan.full_load()).len() >= self.plan.power.runs as usize
    }
}
