//! What a higher ceiling brings: the same climb on the same card, with the maker's limit table and with one whose power and
//! current limits are raised.

use serde::Serialize;
use yard_step_card::{BriefCard, CardChoice};
use yard_step_core::{Climb, LimitField, Plan, Stage};
use yard_step_scenes::Scene;

use crate::climbing::climb;
use crate::truth::look;
use crate::{StudyError, of_all_and_each, on_cards, scene_of};

/// The stages of a climb.
const STAGES: [Stage; 3] = [Stage::Baseline, Stage::Power, Stage::Core];

/// What is to be studied.
#[derive(Debug, Clone)]
pub struct CeilingStudy {
    /// The first seed; the others follow it.
    pub first_seed: u64,
    /// Cards, over all kinds in turn.
    pub cards: usize,
    /// The kinds.
    pub kinds: Vec<CardChoice>,
    /// The plan.
    pub plan: Plan,
    /// By how much power and current limit are raised above the maker's, percent.
    pub raise_percent: f64,
    /// Cards worked on at a time.
    pub threads: usize,
}

/// What a climb on a card came to.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct CeilingClimb {
    /// Score at what is kept, percent above stock, without the scatter of runs.
    pub gain_percent: f64,
    /// Board power there, W.
    pub watts: f64,
    /// Highest core temperature there, °C.
    pub core_c: f64,
    /// True chance of a day without a fault, 0 to 1.
    pub chance: f64,
    /// Whether it holds a day with 99 %.
    pub holds: bool,
    /// Time under load, minutes.
    pub minutes: f64,
    /// Trials that took the machine down.
    pub machine_downs: usize,
}

/// Both climbs on one card.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct CeilingRow {
    /// Kind of the card.
    pub kind: String,
    /// Its seed.
    pub seed: u64,
    /// Whether power held it back at the maker's highest limit.
    pub is_power_limited: bool,
    /// With the maker's limits.
    pub makers: CeilingClimb,
    /// With the raised ones.
    pub raised: CeilingClimb,
}

/// Share of the time from which on power counts as what holds a card back.
const POWER_LIMITED: f64 = 0.2;

impl CeilingStudy {
    /// Makes the study. `done` is called from any thread after each card, with how many are done.
    ///
    /// # Errors
    /// A card cannot be opened, a climb cannot be laid out, or the plan's scene is none of ours.
    pub fn run(&self, done: &(dyn Fn(usize) + Sync)) -> Result<Vec<CeilingRow>, StudyError> {
        let scene = scene_of(&self.plan)?;
        let numbers: Vec<usize> = (0..self.cards).collect();
        let on_card = |number| self.on_card(number, scene);
        let mut rows = on_cards(&numbers, self.threads, done, on_card)?;
        rows.sort_by_key(|row: &CeilingRow| row.seed);
        Ok(rows)
    }

    fn on_card(&self, number: usize, scene: Scene) -> Result<Vec<CeilingRow>, StudyError> {
        let Some(kind) = self.kinds.get(number % self.kinds.len().max(1)) else {
            return Ok(Vec::new());
        };
        let seed = self.first_seed + number as u64;
        let mut is_power_limited = false;
        let mut climbed_at = |factor: f64| -> Result<CeilingClimb, StudyError> {
            let mut card = kind.open(seed, 0)?;
            if factor != 1.0 {
                let mut table = card.makers_limits();
                for field in [LimitField::PowerLimit, LimitField::CurrentLimit] {
                    let makers = table.value(field).unwrap_or_default();
                    table = table.with(field, (makers * factor).round());
                }
                card.override_limits(Some(table));
                card.load_limits();
            }
            let demand = move |frame| scene.demand(frame);
            let mut card = BriefCard::new(card, demand, scene.period(), 0);
            let laid_out = Climb::new(card.description().clone(), self.plan.clone(), &STAGES)?;
            let base = card.steady(&laid_out.held_settings()).score;
            let top = laid_out.raised_to_the_top();
            if factor == 1.0 {
                let seen = card.steady(&top).seen.clone();
                is_power_limited =
                    seen.limiter_share(yard_step_core::Limiter::Power) >= POWER_LIMITED;
            }
            let climbed = climb(&mut card, laid_out, scene.mean_load(), false);
            let kept = climbed.outcome.settings;
            let (truth, steady) = (look(&mut card, &kept), card.steady(&kept));
            Ok(CeilingClimb {
                gain_percent: (steady.score / base - 1.0) * 100.0,
                watts: steady.seen.average_power.map_or(0.0, |power| power.value()),
                core_c: steady.seen.core_temperature_max.map_or(0.0, |core| core.value()),
                chance: truth.chance,
                holds: truth.holds(),
                minutes: climbed.outcome.test_seconds.value() / 60.0,
                machine_downs: climbed.machine_downs,
            })
        };
        let makers = climbed_at(1.0)?;
        let raised = climbed_at(1.0 + self.raise_percent / 100.0)?;
        let kind = kind.to_string().replace("standin:", "");
        Ok(vec![CeilingRow { kind, seed, is_power_limited, makers, raised }])
    }
}

/// What a higher ceiling brings to the power-limited cards of one kind.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct CeilingSummary {
    /// The kind; none for all of them.
    pub kind: Option<String>,
    /// Cards, and those of them that power holds back at the maker's highest limit: all else is about these.
    pub cards: (usize, usize),
    /// Score gained beside the maker's limits, points of percent of stock: median.
    pub gained_percent: f64,
    /// More board power: median, W.
    pub watts: f64,
    /// Hotter core: median, K.
    pub hotter_k: f64,
    /// Kept settings that do not hold a day: with the maker's limits, and with the raised ones.
    pub not_holding: (usize, usize),
    /// Machine downs in 100 hours under load: with the maker's limits, and with the raised ones.
    pub downs_per_100_hours: (f64, f64),
}

/// The summaries: over all kinds, and of each.
#[must_use]
pub fn ceiling_summaries(rows: &[CeilingRow]) -> Vec<CeilingSummary> {
    of_all_and_each(rows.iter().map(|row| row.kind.as_str()), |kind| summary(rows, kind))
}

fn summary(rows: &[CeilingRow], kind: Option<&str>) -> CeilingSummary {
    let all: Vec<&CeilingRow> =
        rows.iter().filter(|row| kind.is_none_or(|kind| row.kind == kind)).collect();
    let limited: Vec<&CeilingRow> =
        all.iter().copied().filter(|row| row.is_power_limited).collect();
    let median = |of: fn(&CeilingClimb) -> f64| {
        let differences: Vec<f64> =
            limited.iter().map(|row| of(&row.raised) - of(&row.makers)).collect();
        yard_step_core::statistics::median(&differences).unwrap_or_default()
    };
    let failing =
        |of: fn(&CeilingRow) -> &CeilingClimb| limited.iter().filter(|row| !of(row).holds).count();
    let downs = |of: fn(&CeilingRow) -> &CeilingClimb| {
        let count: usize = limited.iter().map(|row| of(row).machine_downs).sum();
        let minutes: f64 = limited.iter().map(|row| of(row).minutes).sum();
        count as f64 / minutes.max(1.0) * 6_000.0
    };
    CeilingSummary {
        kind: kind.map(str::to_owned),
        cards: (all.len(), limited.len()),
        gained_percent: median(|climb| climb.gain_percent),
        watts: median(|climb| climb.watts),
        hotter_k: median(|climb| climb.core_c),
        not_holding: (failing(|row| &row.makers), failing(|row| &row.raised)),
        downs_per_100_hours: (downs(|row| &row.makers), downs(|row| &row.raised)),
    }
}
