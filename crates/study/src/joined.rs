//! What all the stages come to together, beside what each of them comes to alone: on many stand-ins, held against what the
//! card truly does at the kept settings.

use serde::Serialize;
use yard_step_card::{BriefCard, CardChoice};
use yard_step_core::{Climb, Plan, Stage};
use yard_step_scenes::Scene;

use crate::climbing::climb;
use crate::truth::look;
use crate::{StudyError, of_all_and_each, on_cards, scene_of};

/// Stages that look for more score, in the order in which they join.
const JOINED: [Stage; 11] = [
    Stage::Power,
    Stage::Core,
    Stage::Memory,
    Stage::Together,
    Stage::MemoryVoltage,
    Stage::MaxClock,
    Stage::UndervoltClock,
    Stage::Alternate,
    Stage::Window,
    Stage::Timing,
    Stage::MemoryForCore,
];

/// What is to be studied.
#[derive(Debug, Clone)]
pub struct JoinedStudy {
    /// The first seed; the others follow it.
    pub first_seed: u64,
    /// Cards, over all kinds in turn.
    pub cards: usize,
    /// The kinds.
    pub kinds: Vec<CardChoice>,
    /// The plan.
    pub plan: Plan,
    /// Cards worked on at a time.
    pub threads: usize,
}

/// One climb on one card.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct JoinedRow {
    /// Kind of the card.
    pub kind: String,
    /// Its seed.
    pub seed: u64,
    /// The one stage that was made beside the baseline; none for all of them.
    pub stage: Option<&'static str>,
    /// Score at what is kept, percent above stock.
    pub gain_percent: f64,
    /// True chance of a day without a fault, 0 to 1.
    pub chance: f64,
    /// Whether that holds a day with 99 %.
    pub holds: bool,
    /// Settings moved from stock, the fan aside.
    pub moved: usize,
    /// Trials made.
    pub trials: usize,
    /// Time under load, minutes.
    pub minutes: f64,
    /// Trials that took the machine down.
    pub machine_downs: usize,
    /// Whether the climb could not go on.
    pub stuck: bool,
}

impl JoinedStudy {
    /// Makes the study. `done` is called from any thread after each card, with how many are done.
    ///
    /// # Errors
    /// A card cannot be opened, a climb cannot be laid out, or the plan's scene is none of ours.
    pub fn run(&self, done: &(dyn Fn(usize) + Sync)) -> Result<Vec<JoinedRow>, StudyError> {
        let scene = scene_of(&self.plan)?;
        let numbers: Vec<usize> = (0..self.cards).collect();
        let on_card = |number| self.on_card(number, scene);
        let mut rows = on_cards(&numbers, self.threads, done, on_card)?;
        rows.sort_by_key(|row: &JoinedRow| (row.seed, row.stage));
        Ok(rows)
    }

    fn on_card(&self, number: usize, scene: Scene) -> Result<Vec<JoinedRow>, StudyError> {
        let Some(kind) = self.kinds.get(number % self.kinds.len().max(1)) else {
            return Ok(Vec::new());
        };
        let seed = self.first_seed + number as u64;
        let demand = move |frame| scene.demand(frame);
        let mut card = BriefCard::new(kind.open(seed, 0)?, demand, scene.period(), 0);
        let description = card.description().clone();
        let offered: Vec<Stage> =
            JOINED.into_iter().filter(|stage| Climb::is_offered(&description, *stage)).collect();
        let stock = Climb::new(description, self.plan.clone(), &[Stage::Baseline])?;
        let base = card.steady(&stock.held_settings()).score;
        // What needs others before it is no single stage.
        let alone = offered.iter().filter(|stage| **stage != Stage::Together);
        let mut sets = vec![(None, offered.clone())];
        sets.extend(alone.map(|stage| (Some(*stage), vec![*stage])));
        let rows = sets.into_iter().map(|(stage, stages)| {
            card.set_course(0);
            let stages: Vec<Stage> = [Stage::Baseline].into_iter().chain(stages).collect();
            let laid_out = Climb::new(card.description().clone(), self.plan.clone(), &stages)?;
            let climbed = climb(&mut card, laid_out, scene.mean_load(), false);
            let kept = climbed.outcome.settings;
            let truth = look(&mut card, &kept);
            Ok(JoinedRow {
                kind: kind.to_string().replace("standin:", ""),
                seed,
                stage: stage.map(Stage::label),
                gain_percent: (card.steady(&kept).score / base - 1.0) * 100.0,
                chance: truth.chance,
                holds: truth.holds(),
                moved: climbed.outcome.moved.len(),
                trials: climbed.outcome.trials,
                minutes: climbed.outcome.test_seconds.value() / 60.0,
                machine_downs: climbed.machine_downs,
                stuck: climbed.stuck.is_some(),
            })
        });
        rows.collect()
    }
}

/// What the stages come to together on the cards of one kind.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct JoinedSummary {
    /// The kind; none for all of them.
    pub kind: Option<String>,
    /// Cards.
    pub cards: usize,
    /// Cards on which all together score at least as high as the best of the single stages.
    pub at_least_as_high: usize,
    /// Gain over stock of all together, percent: median.
    pub gain_median_percent: f64,
    /// The same of the best single stage.
    pub best_single_median_percent: f64,
    /// Cards whose joined settings do not hold a day with 99 %.
    pub not_holding: usize,
    /// The same of the settings of single stages, on average over the stages.
    pub singles_not_holding: f64,
    /// Minutes under load of a joined climb: mean.
    pub minutes: f64,
    /// Machine downs in all joined climbs.
    pub machine_downs: usize,
    /// Joined climbs that could not go on.
    pub stuck: usize,
}

/// The summaries: over all kinds, and of each.
#[must_use]
pub fn joined_summaries(rows: &[JoinedRow]) -> Vec<JoinedSummary> {
    of_all_and_each(rows.iter().map(|row| row.kind.as_str()), |kind| summary(rows, kind))
}

fn summary(rows: &[JoinedRow], kind: Option<&str>) -> JoinedSummary {
    let rows: Vec<&JoinedRow> =
        rows.iter().filter(|row| kind.is_none_or(|kind| row.kind == kind)).collect();
    let (joined, singles): (Vec<&JoinedRow>, Vec<&JoinedRow>) =
        rows.into_iter().partition(|row| row.stage.is_none());
    let best = |row: &JoinedRow| {
        let of_card = singles.iter().filter(|one| one.seed == row.seed && one.holds);
        of_card.map(|one| one.gain_percent).fold(0.0, f64::max)
    };
    let median = |of: &dyn Fn(&JoinedRow) -> f64| {
        let values: Vec<f64> = joined.iter().map(|row| of(row)).collect();
        yard_step_core::statistics::median(&values).unwrap_or_default()
    };
    let cards = joined.len();
    let failing = singles.iter().filter(|one| !one.holds).count() as f64;
    JoinedSummary {
        kind: kind.map(str::to_owned),
        cards,
        at_least_as_high: joined.iter().filter(|row| row.gain_percent >= best(row)).count(),
        gain_median_percent: median(&|row| row.gain_percent),
        best_single_median_percent: median(&best),
        not_holding: joined.iter().filter(|row| !row.holds).count(),
        singles_not_holding: failing / singles.len().max(1) as f64 * cards as f64,
        minutes: joined.iter().map(|row| row.minutes).sum::<f64>() / cards.max(1) as f64,
        machine_downs: joined.iter().map(|row| row.machine_downs).sum(),
        stuck: joined.iter().filter(|row| row.stuck).count(),
    }
}
