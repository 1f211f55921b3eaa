//! The strategies of undervolting on many stand-ins that power holds back: what each ends with, held
//! against what the card truly does there, without the scatter of runs.

use serde::Serialize;
use yard_step_card::{BriefCard, CardChoice, Steady};
use yard_step_core::{Climb, Demand, Limiter, Plan, Policy, Seen, Settings, Stage, Watt};
use yard_step_scenes::Scene;

use crate::climbing::climb;
use crate::truth::look;
use crate::{StudyError, distinct, on_cards, scene_of};

/// Share of the loaded time at stock from which on a card counts as held back by power.
const HELD_BACK: f64 = 0.5;

/// What is to be studied.
#[derive(Debug, Clone)]
pub struct VoltageStudy {
    /// The first seed; the others follow it.
    pub first_seed: u64,
    /// Cards that power holds back, over all kinds in turn.
    pub cards: usize,
    /// The kinds.
    pub kinds: Vec<CardChoice>,
    /// The strategies, each on every card.
    pub strategies: Vec<Stage>,
    /// The policies, each on every card.
    pub policies: Vec<Policy>,
    /// The plan, but for its policy.
    pub plan: Plan,
    /// Cards worked on at a time.
    pub threads: usize,
}

/// One strategy on one card by one policy.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct StrategyRow {
    /// Kind of the card.
    pub kind: String,
    /// Its seed.
    pub seed: u64,
    /// The strategy.
    pub strategy: &'static str,
    /// Policy walked by.
    pub policy: Policy,
    /// Trials made.
    pub trials: usize,
    /// Time under load, minutes.
    pub minutes: f64,
    /// Trials that took the machine down.
    pub machine_downs: usize,
    /// Whether anything is kept.
    pub kept: bool,
    /// Score at what is kept, percent above stock.
    pub gain_percent: f64,
    /// Board power at stock, W.
    pub stock_watts: f64,
    /// Board power at what is kept, W.
    pub watts: f64,
    /// Power saved against stock, percent.
    pub saved_percent: f64,
    /// Hot spot at what is kept less that at stock, K.
    pub hot_spot_k: Option<f64>,
    /// Voltage taken off, mV.
    pub off_mv: i32,
    /// How much more could be taken off with everything else as kept, mV; negative where it is too
    /// much already.
    pub left_mv: i32,
    /// Whether it holds a day with 99 %.
    pub holds: bool,
    /// Chance of a day that the climb itself claimed, where it claimed one.
    pub claimed: Option<f64>,
    /// Whether the curve that is kept rises and lies inside the ranges; true where none is kept.
    pub curve_is_sound: bool,
    /// Whether the climb could not go on.
    pub stuck: bool,
}

impl VoltageStudy {
    /// Makes the study. `done` is called from any thread after each card, with how many are done.
    ///
    /// # Errors
    /// A card cannot be opened, a climb cannot be laid out, or the plan's scene is none of ours.
    pub fn run(&self, done: &(dyn Fn(usize) + Sync)) -> Result<Vec<StrategyRow>, StudyError> {
        let scene = scene_of(&self.plan)?;
        let numbers = self.held_back(scene)?;
        let on_card = |number| self.on_card(number, scene);
        let mut rows = on_cards(&numbers, self.threads, done, on_card)?;
        rows.sort_by_key(|row: &StrategyRow| (row.strategy, row.seed, row.policy as usize));
        Ok(rows)
    }

    /// The first cards that power holds back at stock, a like number of each kind.
    fn held_back(&self, scene: Scene) -> Result<Vec<usize>, StudyError> {
        let mut numbers = Vec::new();
        for number in 0..self.cards.saturating_mul(20) {
            if numbers.len() >= self.cards {
                break;
            }
            let (mut card, _) = self.open(number, scene)?;
            let stock =
                Climb::new(card.description().clone(), self.plan.clone(), &[Stage::Baseline])?;
            if held_back(&card.steady(&stock.held_settings()).seen) >= HELD_BACK {
                numbers.push(number);
            }
        }
        Ok(numbers)
    }

    fn open(
        &self,
        number: usize,
        scene: Scene,
    ) -> Result<(BriefCard<impl Fn(u64) -> Demand + use<>>, &CardChoice), StudyError> {
        let kind = self
            .kinds
            .get(number % self.kinds.len().max(1))
            .ok_or_else(|| StudyError::Scene("no kind of card".into()))?;
        let card = kind.open(self.first_seed + number as u64, 0)?;
        let demand = move |frame| scene.demand(frame);
        Ok((BriefCard::new(card, demand, scene.period(), 0), kind))
    }

    /// Every strategy by every policy on one card.
    fn on_card(&self, number: usize, scene: Scene) -> Result<Vec<StrategyRow>, StudyError> {
        let (mut card, kind) = self.open(number, scene)?;
        let mut rows = Vec::new();
        for strategy in &self.strategies {
            if !Climb::is_offered(card.description(), *strategy) {
                continue;
            }
            for policy in &self.policies {
                card.set_course(0);
                let plan = Plan { policy: *policy, ..self.plan.clone() };
                let stages = stages_for(*strategy);
                let laid_out = Climb::new(card.description().clone(), plan.clone(), &stages)?;
                let climbed = climb(&mut card, laid_out, scene.mean_load(), false);
                let laid_out = Climb::new(card.description().clone(), plan, &stages)?;
                let at_stock = card.steady(&laid_out.held_settings());
                let kept = climbed.outcome.settings;
                let at_kept = card.steady(&kept);
                let (before, after) = (watts(&at_stock), watts(&at_kept));
                let hot_spots = at_kept.seen.hot_spot_max.zip(at_stock.seen.hot_spot_max);
                let (off_mv, left_mv) = depths(&mut card, &laid_out, *strategy, &kept);
                rows.push(StrategyRow {
                    kind: kind.to_string().replace("standin:", ""),
                    seed: self.first_seed + number as u64,
                    strategy: strategy.label(),
                    policy: *policy,
                    trials: climbed.outcome.trials,
                    minutes: climbed.outcome.test_seconds.value() / 60.0,
                    machine_downs: climbed.machine_downs,
                    kept: climbed.outcome.stage.is_some(),
                    gain_percent: (at_kept.score / at_stock.score - 1.0) * 100.0,
                    stock_watts: before,
                    watts: after,
                    saved_percent: (1.0 - after / before) * 100.0,
                    hot_spot_k: hot_spots.map(|(at, stock)| at.value() - stock.value()),
                    off_mv,
                    left_mv,
                    holds: look(&mut card, &kept).holds(),
                    claimed: climbed.outcome.claim.map(|claim| claim.in_all()),
                    curve_is_sound: is_sound(&kept, &card),
                    stuck: climbed.stuck.is_some(),
                });
            }
        }
        Ok(rows)
    }
}

/// The stages that a strategy needs before it.
fn stages_for(strategy: Stage) -> Vec<Stage> {
    match strategy {
        Stage::Balanced => vec![Stage::Baseline, Stage::Core, strategy],
        Stage::MaxClock | Stage::MemoryVoltage => vec![Stage::Baseline, Stage::Power, strategy],
        _ => vec![Stage::Baseline, strategy],
    }
}

/// How deep kept settings are, and how much deeper the card would truly hold.
fn depths<D: Fn(u64) -> Demand>(
    card: &mut BriefCard<D>,
    climb: &Climb,
    strategy: Stage,
    kept: &Settings,
) -> (i32, i32) {
    let Some((depth, (at, top))) =
        climb.depth_of(strategy).and_then(|depth| Some((depth, depth.read(kept)?)))
    else {
        return (0, 0);
    };
    let mut holds = |off: i32| {
        let settings = depth.write(kept, off, depth.holds_clock().then_some(top));
        look(card, &settings).holds()
    };
    let step = depth.step();
    let mut edge = at;
    if holds(edge) {
        while edge + step <= depth.deepest() && holds(edge + step) {
            edge += step;
        }
    } else {
        while edge > 0 && !holds(edge) {
            edge -= step;
        }
    }
    (at, edge - at)
}

fn watts(steady: &Steady) -> f64 {
    steady.seen.average_power.map_or(0.0, Watt::value)
}

fn held_back(seen: &Seen) -> f64 {
    let idle = seen.limiter_share(Limiter::Load) + seen.limiter_share(Limiter::FrameCap);
    seen.limiter_share(Limiter::Power) / (1.0 - idle).max(0.05)
}

/// Whether a kept curve rises and lies inside the ranges of its card, on its bins.
fn is_sound<D: Fn(u64) -> Demand>(kept: &Settings, card: &BriefCard<D>) -> bool {
    let (Some(curve), Some(offer)) = (kept.curve, card.description().curve) else { return true };
    let points = curve.points();
    let rises = points
        .windows(2)
        .all(|pair| pair[0].millivolt < pair[1].millivolt && pair[0].mhz <= pair[1].mhz);
    rises && offer.contains(&curve) && offer.hold(&curve) == curve
}

/// One strategy by one policy over many cards.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct StrategySummary {
    /// The strategy.
    pub strategy: &'static str,
    /// The policy.
    pub policy: Policy,
    /// The kind of cards; none for all of them.
    pub kind: Option<String>,
    /// Cards.
    pub cards: usize,
    /// Cards that end above the stock score at no more than the stock watts.
    pub faster_for_no_more: usize,
    /// Median gain of the score over stock, percent.
    pub gain_median_percent: f64,
    /// Median power saved against stock, percent.
    pub saved_median_percent: f64,
    /// Cards that end with at least 99 % of the stock score.
    pub at_stock_score: usize,
    /// Median of how much more voltage could be taken off, mV.
    pub left_median_mv: f64,
    /// Share of kept settings that do not hold a day with 99 %, in percent.
    pub not_holding_percent: f64,
    /// Cards whose kept curve does not rise, or leaves its ranges.
    pub unsound_curves: usize,
    /// Mean number of trials.
    pub trials: f64,
    /// Mean time under load, minutes.
    pub minutes: f64,
    /// Machine downs, all cards together.
    pub machine_downs: usize,
    /// Climbs that could not go on.
    pub stuck: usize,
}

impl StrategySummary {
    fn of(
        strategy: &'static str,
        policy: Policy,
        kind: Option<&str>,
        rows: &[&StrategyRow],
    ) -> Self {
        let count = rows.len().max(1) as f64;
        let counted = |what: fn(&StrategyRow) -> bool| rows.iter().filter(|row| what(row)).count();
        let mean =
            |of: fn(&StrategyRow) -> f64| rows.iter().map(|row| of(row)).sum::<f64>() / count;
        let median = |of: fn(&StrategyRow) -> f64| {
            let values: Vec<f64> = rows.iter().map(|row| of(row)).collect();
            yard_step_core::statistics::median(&values).unwrap_or_default()
        };
        Self {
            strategy,
            policy,
            kind: kind.map(str::to_owned),
            cards: rows.len(),
            faster_for_no_more: counted(|row| {
                row.gain_percent > 0.0 && row.watts <= row.stock_watts
            }),
            gain_median_percent: median(|row| row.gain_percent),
            saved_median_percent: median(|row| row.saved_percent),
            left_median_mv: median(|row| f64::from(row.left_mv)),
            at_stock_score: counted(|row| row.gain_percent >= -1.0),
            not_holding_percent: counted(|row| !row.holds) as f64 / count * 100.0,
            unsound_curves: counted(|row| !row.curve_is_sound),
            trials: mean(|row| row.trials as f64),
            minutes: mean(|row| row.minutes),
            machine_downs: rows.iter().map(|row| row.machine_downs).sum(),
            stuck: counted(|row| row.stuck),
        }
    }
}

/// Each strategy by each policy over all cards, then over each kind.
#[must_use]
pub fn strategy_summaries(rows: &[StrategyRow]) -> Vec<StrategySummary> {
    let kinds = distinct(rows.iter().map(|row| row.kind.as_str()));
    let several = kinds.len() > 1;
    let kinds = kinds.into_iter().filter(|_| several).map(Some);
    let mut all = Vec::new();
    for kind in std::iter::once(None).chain(kinds) {
        for strategy in Stage::PLANNED.into_iter().filter(|stage| stage.is_undervolting()) {
            for policy in Policy::ALL {
                let of: Vec<&StrategyRow> = rows
                    .iter()
                    .filter(|row| row.strategy == strategy.label() && row.policy == policy)
                    .filter(|row| kind.is_none_or(|kind| row.kind == kind))
                    .collect();
                if !of.is_empty() {
                    all.push(StrategySummary::of(strategy.label(), policy, kind, &of));
                }
            }
        }
    }
    all
}
