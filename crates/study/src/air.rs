//! Heat, noise and livable settings on many stand-ins: what a climb's runs foretell of other fan speeds, whether a curve
//! drawn for a noise budget keeps it, and what settling gives and costs; held against what the cards truly do.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::Serialize;
use yard_step_card::{BriefCard, Card as _, CardChoice, Family, Steady};
use yard_step_core::{
    Celsius, Climb, Decibel, Demand, Drawing, DrawnCurve, Fan, Heard, HeatModel, HeatRun, Keep,
    Mhz, NoiseModel, NoiseNote, Percent, Plan, Room, SUMMER, SettingKind, Settings, Stage, Watt,
    WhenIdle, Wish,
};
use yard_step_scenes::Scene;

use crate::climbing::climb;
use crate::truth::look;
use crate::{StudyError, of_all_and_each, on_cards, scene_of};

/// Speeds at which the plateau is foretold, percent, where the climb did not run them.
const FORETOLD: [f64; 5] = [95.0, 75.0, 65.0, 55.0, 45.0];
/// A foretold plateau that is off by no more than this is right, K.
const RIGHT_WITHIN: f64 = 2.0;
/// Speeds at which the user of a card measures its noise, percent, and the error of a reading, dB.
const MEASURED: [f64; 3] = [40.0, 70.0, 100.0];
const METER: f64 = 0.7;
/// A loss of clock counts as told where it is right within a bin, or so much of the clock.
const TOLD_WITHIN: f64 = 0.005;
/// What a budget may be broken by without being heard, dB.
const UNHEARD: f64 = 0.5;

/// What is to be studied.
#[derive(Debug, Clone)]
pub struct AirStudy {
    /// The first seed; the others follow it.
    pub first_seed: u64,
    /// Cards, over all kinds in turn.
    pub cards: usize,
    /// The kinds.
    pub kinds: Vec<CardChoice>,
    /// The family they are of, if it is another than the stand-ins as they ship.
    pub family: Option<Family>,
    /// The plan.
    pub plan: Plan,
    /// Cards worked on at a time.
    pub threads: usize,
}

/// One card.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct AirRow {
    /// Kind of the card.
    pub kind: String,
    /// Its seed.
    pub seed: u64,
    /// By how much each foretold plateau is above the true one, K.
    pub plateaus_off_k: Vec<f64>,
    /// Noise that the user allows, dB.
    pub budget_db: f64,
    /// Noise under the curve that was drawn for it, after two hours, dB.
    pub noise_db: f64,
    /// Clock that the curve costs against full speed, bins: as it was told, and in truth.
    pub lost_bins: (f64, f64),
    /// The same in a room that is 8 K warmer.
    pub lost_in_summer_bins: (f64, f64),
    /// Bins that are half a percent of the clock, or one.
    pub told_within_bins: f64,
    /// Whether the clock was said to be kept.
    pub keeps_clock: bool,
    /// Whether the budget was said to be kept.
    pub keeps_budget: bool,
    /// Fan of the search and of what settling came to, percent.
    pub fan: (f64, f64),
    /// By how much quieter that is, dB.
    pub quieter_db: f64,
    /// Score lost by settling, in truth, percent.
    pub lost_percent: f64,
    /// Power saved by it, in truth, percent.
    pub saved_percent: f64,
    /// Whether what the search found holds a day with 99 %, with the fan of the search.
    pub found_holds: bool,
    /// Whether what is settled holds a day with 99 % with its own fan.
    pub holds: bool,
    /// Whether anything was settled.
    pub is_settled: bool,
    /// Trials of the stage.
    pub trials: usize,
    /// Time of the stage under load, minutes.
    pub minutes: f64,
}

impl AirStudy {
    /// Makes the study. `done` is called from any thread after each card, with how many are done.
    ///
    /// # Errors
    /// A card cannot be opened, a climb cannot be laid out, or the plan's scene is none of ours.
    pub fn run(&self, done: &(dyn Fn(usize) + Sync)) -> Result<Vec<AirRow>, StudyError> {
        let scene = scene_of(&self.plan)?;
        let numbers: Vec<usize> = (0..self.cards).collect();
        let on_card = |number| self.on_card(number, scene);
        let mut rows = on_cards(&numbers, self.threads, done, on_card)?;
        rows.sort_by_key(|row: &AirRow| row.seed);
        Ok(rows)
    }

    fn open(
        &self,
        kind: &CardChoice,
        seed: u64,
        scene: Scene,
        warmer: f64,
    ) -> Result<BriefCard<impl Fn(u64) -> Demand + use<>>, StudyError> {
        let mut card = kind.open_of_family(seed, 0, self.family.as_ref())?;
        let room = card.room();
        card.set_room(Room { ambient: room.ambient + Celsius(warmer), ..room });
        Ok(BriefCard::new(card, move |frame| scene.demand(frame), scene.period(), 0))
    }

    fn on_card(&self, number: usize, scene: Scene) -> Result<Vec<AirRow>, StudyError> {
        let Some(kind) = self.kinds.get(number % self.kinds.len().max(1)) else {
            return Ok(Vec::new());
        };
        let seed = self.first_seed + number as u64;
        let mut card = self.open(kind, seed, scene, 0.0)?;
        let mut summer = self.open(kind, seed, scene, SUMMER)?;
        let description = card.description().clone();
        let mut stages = Climb::stages_on(&description);
        stages.push(Stage::Settle);
        let laid_out = Climb::new(description.clone(), self.plan.clone(), &stages)?;
        let climbed = climb(&mut card, laid_out, scene.mean_load(), false);
        let of_stage = climbed.trials.iter().filter(|trial| trial.stage == Stage::Settle);
        let is_settled = climbed.outcome.stage == Some(Stage::Settle);
        let found = climbed.settled.map_or(climbed.outcome.settings, |report| report.before);
        let settled = climbed.outcome.settings;

        let runs: Vec<HeatRun> = climbed
            .trials
            .iter()
            .filter_map(yard_step_core::TrialRecord::heat_run)
            .map(|run| HeatRun { room: Some(card.room()), ..run })
            .collect();
        let Some(heat) = HeatModel::of(&runs, &description) else {
            return Ok(Vec::new());
        };
        let plateaus_off_k = plateaus_off(&mut card, &heat, &runs, &found);

        let (noise, truth) = noise_of(seed);
        let before = card.steady(&found);
        let (wish, drawn) = drawn_for_budget(&card, &heat, &noise, &before, seed);
        let Some(drawn) = drawn else { return Ok(Vec::new()) };
        let under = Settings { fan: Some(Fan::Curve(drawn.curve)), ..found };
        let (at, in_summer) = (card.steady(&under), summer.steady(&under));
        let bin = description.limits.clock_bin.value();
        let lost = |steady: &Steady| (clock(&before) - clock(steady)).max(0.0) / bin;

        let quiet = card.steady(&settled);
        let fans = (fan(&before), fan(&quiet));
        Ok(vec![AirRow {
            kind: kind.to_string().replace("standin:", ""),
            seed,
            plateaus_off_k,
            budget_db: wish.most_noise.map_or(0.0, Decibel::value),
            noise_db: truth.at(Percent(fan(&at))).value(),
            lost_bins: (drawn.settled.lost.clock.value() / bin, lost(&at)),
            lost_in_summer_bins: (drawn.summer.lost.clock.value() / bin, lost(&in_summer)),
            told_within_bins: (clock(&before) * TOLD_WITHIN / bin).max(1.0),
            keeps_clock: drawn.keeps,
            keeps_budget: drawn.is_in_budget(),
            fan: fans,
            quieter_db: NoiseModel::quieter(Percent(fans.0), Percent(fans.1)).value(),
            lost_percent: (1.0 - quiet.score / before.score) * 100.0,
            saved_percent: (1.0 - watts(&quiet) / watts(&before)) * 100.0,
            found_holds: look(&mut card, &found).holds(),
            holds: look(&mut card, &settled).holds(),
            is_settled,
            trials: of_stage.clone().count(),
            minutes: of_stage.map(|trial| trial.seconds.value()).sum::<f64>() / 60.0,
        }])
    }
}

fn clock(steady: &Steady) -> f64 {
    steady.seen.average_clock().map_or(0.0, Mhz::value)
}

fn fan(steady: &Steady) -> f64 {
    steady.seen.fan.map_or(0.0, Percent::value)
}

fn watts(steady: &Steady) -> f64 {
    steady.seen.average_power.map_or(0.0, Watt::value)
}

/// By how much each plateau that was not run is foretold too high, at settings that were found.
fn plateaus_off<D: Fn(u64) -> Demand>(
    card: &mut BriefCard<D>,
    heat: &HeatModel,
    runs: &[HeatRun],
    found: &Settings,
) -> Vec<f64> {
    let power = watts(&card.steady(found));
    let room = card.room().ambient;
    let least = card.description().offer(SettingKind::Fan).map_or(0.0, |offer| offer.minimum);
    let target = card.description().limits.held_back_at(found.temperature_target).value();
    let was_run = |speed: f64| runs.iter().any(|run| (run.fan.value() - speed).abs() < 2.5);
    let speeds = FORETOLD.into_iter().filter(|speed| *speed >= least && !was_run(*speed));
    let off = |speed: f64| {
        let at = Settings { fan: Some(Fan::Fixed(Percent(speed))), ..*found };
        let truth = card.steady(&at).seen.plateau.map_or(0.0, Celsius::value);
        // At its target a card drops its clock to stay there.
        heat.plateau(Watt(power), Percent(speed), room).value.min(target) - truth
    };
    speeds.map(off).collect()
}

/// How loud a card is where its user sits, as three readings tell it, and in truth.
fn noise_of(seed: u64) -> (NoiseModel, NoiseModel) {
    let mut dice = ChaCha8Rng::seed_from_u64(seed);
    dice.set_stream(7);
    let sure = |value| yard_step_core::statistics::Uncertain { value, error: 0.0 };
    let truth = NoiseModel {
        full: sure(dice.random_range(38.0..56.0)),
        background: sure(dice.random_range(24.0..36.0)),
        notes: 0,
    };
    let notes = MEASURED.map(|speed| {
        let level = truth.at(Percent(speed)).value() + dice.random_range(-METER..METER);
        NoiseNote { speed: Percent(speed), heard: Heard::Measured(Decibel(level)) }
    });
    (NoiseModel::of(&notes), truth)
}

/// A curve for a budget that is somewhere between a slow fan and full speed.
fn drawn_for_budget<D: Fn(u64) -> Demand>(
    card: &BriefCard<D>,
    heat: &HeatModel,
    noise: &NoiseModel,
    before: &Steady,
    seed: u64,
) -> (Wish, Option<DrawnCurve>) {
    let mut dice = ChaCha8Rng::seed_from_u64(seed);
    dice.set_stream(8);
    let wish = Wish {
        room: card.room().ambient,
        power: Watt(watts(before)),
        clock: Mhz(clock(before)),
        keep: Keep::Clock,
        reserve: 3.0,
        most_noise: Some(noise.at(Percent(dice.random_range(45.0..100.0)))),
        when_idle: WhenIdle::default(),
    };
    (wish, Drawing { card: card.description(), heat, noise }.draw(&wish))
}

/// What the cards of one kind come to.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct AirSummary {
    /// The kind; none for all of them.
    pub kind: Option<String>,
    /// Cards.
    pub cards: usize,
    /// Share of the plateaus that were foretold within 2 K, 0 to 1.
    pub plateaus_right: f64,
    /// Cards whose noise under the curve is inside the budget, of those of which that was said.
    pub in_budget: (usize, usize),
    /// Cards whose clock under the curve is within one bin of that at full speed, of those of which that was said.
    pub clock_kept: (usize, usize),
    /// Cards whose loss of clock was told within one bin or half a percent: in the stated room, and in one that is 8 K warmer.
    pub loss_told: (usize, usize),
    /// By how much quieter settling leaves a card, dB: median.
    pub quieter_db: f64,
    /// Score that it costs, percent: median and nine of ten.
    pub lost_percent: (f64, f64),
    /// Power that it saves, percent: median.
    pub saved_percent: f64,
    /// Cards whose settled settings do not hold a day with 99 %, of those on which what the search found does.
    pub not_holding: (usize, usize),
    /// Cards on which nothing was settled.
    pub not_settled: usize,
    /// Minutes under load that settling takes: mean.
    pub minutes: f64,
}

/// The summaries: over all kinds, and of each.
#[must_use]
pub fn air_summaries(rows: &[AirRow]) -> Vec<AirSummary> {
    of_all_and_each(rows.iter().map(|row| row.kind.as_str()), |kind| summary(rows, kind))
}

fn summary(rows: &[AirRow], kind: Option<&str>) -> AirSummary {
    use yard_step_core::statistics::{mean, median, quantile};
    let rows: Vec<&AirRow> =
        rows.iter().filter(|row| kind.is_none_or(|kind| row.kind == kind)).collect();
    let count = |holds: &dyn Fn(&AirRow) -> bool| rows.iter().filter(|row| holds(row)).count();
    let of = |value: &dyn Fn(&AirRow) -> f64| rows.iter().map(|row| value(row)).collect::<Vec<_>>();
    let plateaus: Vec<f64> = rows.iter().flat_map(|row| &row.plateaus_off_k).copied().collect();
    let right = plateaus.iter().filter(|off| off.abs() <= RIGHT_WITHIN).count();
    let is_told =
        |row: &AirRow, (told, truth): (f64, f64)| (told - truth).abs() <= row.told_within_bins;
    let in_budget = |row: &AirRow| row.noise_db <= row.budget_db + UNHEARD;
    let lost = of(&|row| row.lost_percent);
    AirSummary {
        kind: kind.map(str::to_owned),
        cards: rows.len(),
        plateaus_right: right as f64 / plateaus.len().max(1) as f64,
        in_budget: (
            count(&|row| row.keeps_budget && in_budget(row)),
            count(&|row| row.keeps_budget),
        ),
        clock_kept: (
            count(&|row| row.keeps_clock && row.lost_bins.1 <= 1.0),
            count(&|row| row.keeps_clock),
        ),
        loss_told: (
            count(&|row| is_told(row, row.lost_bins)),
            count(&|row| is_told(row, row.lost_in_summer_bins)),
        ),
        quieter_db: median(&of(&|row| row.quieter_db)).unwrap_or_default(),
        lost_percent: (median(&lost).unwrap_or_default(), quantile(&lost, 0.9).unwrap_or_default()),
        saved_percent: median(&of(&|row| row.saved_percent)).unwrap_or_default(),
        not_holding: (count(&|row| row.found_holds && !row.holds), count(&|row| row.found_holds)),
        not_settled: count(&|row| !row.is_settled),
        minutes: mean(&of(&|row| row.minutes)).unwrap_or_default(),
    }
}
