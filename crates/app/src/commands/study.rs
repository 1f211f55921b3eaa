//! `yard-step study`: whole climbs over many stand-ins, held against what these truly can do.

mod air;
mod ceiling;
mod proof;

use std::fmt::Write as _;
use std::io::{IsTerminal, stderr};
use std::path::PathBuf;

use clap::Args;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use serde::Serialize;
use yard_step_card::{Card as _, CardChoice, Family};
use yard_step_core::{CardDescription, CurveKind, MOST_RESERVE, Margin, Plan, Policy, Stage};
use yard_step_report::{Scatter, ScatterPoint, draw_scatter, with_font};
use yard_step_scenes::Scene;
use yard_step_study::{
    JoinedStudy, JoinedSummary, Learnt, Reliability, Row, StrategySummary, Study, StudyError,
    Summary, VoltageStudy, family_names, joined_summaries, reliability, shipped_family,
    strategy_summaries, summaries, write_csv,
};

use crate::failure::Failure;
use crate::options::{
    chosen_plan, family_named, parse_margin, parse_policy, parse_stage_among, parse_whole,
};
use crate::output::{ChartKind, Overwrite, Target, json, note, print};

#[derive(Debug, Args)]
pub(crate) struct StudyOptions {
    /// How many cards
    #[arg(long, value_name = "N", default_value_t = 60, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    pub cards: u32,
    /// Seed of the first card; the others follow it
    #[arg(long, value_name = "N", default_value_t = 1000, value_parser = parse_whole)]
    pub first_seed: u64,
    /// Kinds of cards, such as standin:tarn-310 [default: all in turn; for strategies those with a V/F curve]
    #[arg(long, value_name = "KINDS", value_delimiter = ',', value_parser = parse_kind)]
    pub kinds: Vec<CardChoice>,
    /// Policies: fixed-step, bisection, bayesian [default: all]
    #[arg(long, value_name = "POLICIES", value_delimiter = ',', value_parser = parse_policy)]
    pub policies: Vec<Policy>,
    /// Study the strategies of undervolting instead, on cards that power holds back: max-clock, undervolt-clock,
    /// undervolt-quiet, balanced
    #[arg(long, value_name = "STRATEGIES", value_delimiter = ',', value_parser = parse_strategy)]
    pub strategies: Vec<Stage>,
    /// Study what all stages come to together instead, beside each of them alone
    #[arg(long, conflicts_with_all = ["strategies", "policies"])]
    pub joined: bool,
    /// Study heat, noise and settling instead: foretold plateaus, fan curves for a noise budget, and what a permitted loss buys
    #[arg(long, conflicts_with_all = ["strategies", "policies", "joined"])]
    pub air: bool,
    /// Study limits above the maker's instead: what power and current limits so many percent higher bring, 1 to 20
    #[arg(long, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(1..=20), num_args = 0..=1, default_missing_value = "15", conflicts_with_all = ["strategies", "policies", "joined", "air", "proof"])]
    pub ceiling: Option<u8>,
    /// Study soaks instead, over all families: what is stated of settings after a night and when they are called proven
    #[arg(long, conflicts_with_all = ["strategies", "policies", "joined", "air"])]
    pub proof: bool,
    /// With --proof: fine steps by which a soak that proves runs bolder settings than it proves, 0 to 4
    #[arg(long, value_name = "STEPS", default_value_t = 2, value_parser = clap::value_parser!(u8).range(0..=i64::from(MOST_RESERVE)))]
    pub reserve: u8,
    /// Load of the climbs [default: the plan's; kiln for strategies]
    #[arg(long, value_name = "NAME")]
    pub load: Option<String>,
    /// What the settings are to be good for: record, daily or gift [default: the plan's]
    #[arg(long, value_name = "FOR", value_parser = parse_margin)]
    pub margin: Option<Margin>,
    /// Study the quick plan of `climb --quick`
    #[arg(long, conflicts_with = "plan")]
    pub quick: bool,
    /// Plan of the climbs, a TOML file
    #[arg(long, value_name = "FILE")]
    pub plan: Option<PathBuf>,
    /// Start every climb from values so many percent of the clock above the true edges, -10 to 10
    #[arg(long, value_name = "PERCENT", allow_negative_numbers = true, value_parser = parse_start_above)]
    pub start_above: Option<f64>,
    /// Climbs on the same kind of card that learn from one another, each from those before it
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=50))]
    pub learn: u32,
    /// Families of cards whose physics differ: names of those that ship, files, or "all"
    #[arg(long, value_name = "FAMILIES", value_delimiter = ',')]
    pub physics: Vec<String>,
    /// How many times as slowly faults set in with clock as they usually do, 0.2 to 5
    #[arg(long, value_name = "F", default_value_t = 1.0, value_parser = parse_flatter)]
    pub flatter: f64,
    /// Write everything as JSON
    #[arg(long, value_name = "FILE")]
    pub json: Option<PathBuf>,
    /// Write a row for each climb as CSV
    #[arg(long, value_name = "FILE")]
    pub csv: Option<PathBuf>,
    /// Draw gaps against time as SVG
    #[arg(long, value_name = "FILE")]
    pub svg: Option<PathBuf>,
    #[command(flatten)]
    pub overwrite: Overwrite,
}

fn parse_flatter(text: &str) -> Result<f64, String> {
    parse_between(text, 0.2, 5.0)
}

fn parse_start_above(text: &str) -> Result<f64, String> {
    parse_between(text, -10.0, 10.0)
}

fn parse_between(text: &str, lowest: f64, highest: f64) -> Result<f64, String> {
    let value: f64 = text.parse().map_err(|_| format!("\"{text}\" is not a number"))?;
    let is_between = (lowest..=highest).contains(&value);
    if is_between { Ok(value) } else { Err(format!("it must be {lowest} to {highest}")) }
}

fn parse_kind(text: &str) -> Result<CardChoice, String> {
    text.parse().map_err(|error: yard_step_card::ChoiceError| error.to_string())
}

fn parse_strategy(text: &str) -> Result<Stage, String> {
    parse_stage_among("strategy", text, |stage| stage.is_undervolting())
}

/// What is written as JSON: of the policies, or of the strategies.
#[derive(Serialize)]
struct Document<'a, S, R> {
    format: &'static str,
    version: u32,
    first_seed: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    family: Option<&'a String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    flatter: Option<f64>,
    scene: &'a str,
    margin: &'a str,
    summaries: &'a [S],
    rows: &'a [R],
}

impl<'a, S, R> Document<'a, S, R> {
    fn new(
        format: &'static str,
        (first_seed, plan): (u64, &'a Plan),
        summaries: &'a [S],
        rows: &'a [R],
    ) -> Self {
        Self {
            format,
            version: 1,
            first_seed,
            family: None,
            flatter: None,
            scene: &plan.scene,
            margin: plan.margin.label(),
            summaries,
            rows,
        }
    }
}

pub(crate) fn study(options: &StudyOptions) -> Result<(), Failure> {
    let loads = yard_step_engine::Loads { launcher: None, outside: Vec::new() };
    let mut plan = chosen_plan(options.quick, options.plan.as_deref(), &loads)?;
    if let Some(margin) = options.margin {
        plan.margin = margin;
    }
    if let Some(load) = &options.load {
        plan.scene.clone_from(load);
    }
    let files = Files::of(options)?;
    if !options.strategies.is_empty() {
        return study_strategies(options, plan, &files);
    }
    if options.air {
        return air::study_air(options, plan, &files);
    }
    if let Some(percent) = options.ceiling {
        return ceiling::study_ceiling(options, plan, f64::from(percent), &files);
    }
    if options.proof {
        return proof::study_proof(options, plan, &files);
    }
    if options.joined {
        return study_joined(options, plan, &files);
    }
    let families = families_of(&options.physics)?;
    let (family_name, family) = families.first().cloned().unwrap_or_default();
    let study = Study {
        first_seed: options.first_seed,
        cards: options.cards as usize,
        family,
        kinds: kinds_of(options),
        policies: if options.policies.is_empty() {
            Policy::ALL.to_vec()
        } else {
            options.policies.clone()
        },
        plan,
        flatter: options.flatter,
        start_above: options.start_above,
        learning: options.learn as usize,
        threads: std::thread::available_parallelism().map_or(1, usize::from),
    };
    if families.len() > 1 {
        return study_families(&study, families, &files);
    }
    let rows = with_progress(study.cards, |done| study.run(done))?;
    let table = summaries(&rows);
    files.write(&Document {
        family: Some(&family_name).filter(|name| !name.is_empty()),
        flatter: Some(study.flatter),
        ..Document::new("yard-step-study", (study.first_seed, &study.plan), &table, &rows)
    })?;
    if let Some(target) = &files.svg {
        target.write(picture(&study, &rows)?.as_bytes())?;
    }
    files.say(&told(&study, &table))
}

/// The kinds that were named, or all of them.
fn kinds_of(options: &StudyOptions) -> Vec<CardChoice> {
    if options.kinds.is_empty() { CardChoice::all() } else { options.kinds.clone() }
}

/// The families that were named, each with its name.
fn families_of(named: &[String]) -> Result<Vec<(String, Family)>, Failure> {
    let mut families = Vec::new();
    for name in named {
        if name == "all" {
            for name in family_names() {
                families.extend(shipped_family(name)?.map(|family| (name.to_owned(), family)));
            }
            continue;
        }
        families.push((name.clone(), family_named(name)?));
    }
    Ok(families)
}

/// One family of a study of many.
#[derive(Serialize)]
struct OfFamily {
    family: String,
    about: String,
    #[serde(flatten)]
    summary: Summary,
    reliability: Vec<Reliability>,
}

/// The same study on one family after the other.
fn study_families(
    study: &Study,
    families: Vec<(String, Family)>,
    files: &Files,
) -> Result<(), Failure> {
    if files.csv.is_some() || files.svg.is_some() {
        return Err(Failure::usage("--csv and --svg are of one family: name one with --physics"));
    }
    let bar = progress(study.cards * families.len())?;
    let mut table = Vec::new();
    for (place, (name, family)) in families.into_iter().enumerate() {
        let about = family.about().to_owned();
        let study = Study { family, ..study.clone() };
        let before = place * study.cards;
        let rows = study.run(&|done| bar.set_position((before + done) as u64)).map_err(refused)?;
        for summary in summaries(&rows).into_iter().filter(|summary| summary.kind.is_none()) {
            // A mixture of climbs that learnt more and less is of no use.
            if study.learning > 1 && summary.learnt.is_none() {
                continue;
            }
            let reliability = reliability(&rows, summary.policy, summary.learnt);
            table.push(OfFamily {
                family: name.clone(),
                about: about.clone(),
                summary,
                reliability,
            });
        }
    }
    bar.finish_and_clear();
    if let Some(target) = &files.json {
        target.write(json(&table)?.as_bytes())?;
    }
    files.say(&families_told(study, &table))
}

/// The table of the families, and what its columns mean.
fn families_told(study: &Study, table: &[OfFamily]) -> String {
    let mut text = format!(
        "{} cards of each family, from seed {} on, scene {}, for {}: {}.\n\n",
        study.cards,
        study.first_seed,
        study.plan.scene,
        study.plan.margin.purpose(),
        yard_step_words::margin_claim(study.plan.margin)
    );
    text += "family           policy      climb  not holding  claimed    true  gap median  nine of ten  minutes  \
             downs in 100  range held  fail at stock  could not go on\n";
    let percent = |value: Option<f64>| value.map_or("none".into(), |value| format!("{value:.1} %"));
    for OfFamily { family, summary, .. } in table {
        let _ = writeln!(
            text,
            "{family:<16} {:<10}  {:<5}  {:>9.1} %  {:>7}  {:>6}  {:>8.2} %  {:>9.2} %  {:>7.0}  {:>12.0}  {:>10}  {:>13}  {:>15}",
            summary.policy.label(),
            climb_of(summary),
            summary.not_holding_percent,
            percent(summary.claimed_percent),
            percent(summary.true_percent),
            summary.gap_median_percent,
            summary.gap_ninth_percent,
            summary.minutes,
            summary.machine_downs as f64 / summary.cards.max(1) as f64 * 100.0,
            percent(summary.ranges_held_percent),
            summary.never_holding,
            summary.stuck,
        );
    }
    text += "\nReliability: of the climbs that claimed so much for a day, how many there are and what is true of them.\n\n";
    for OfFamily { family, summary, reliability, .. } in table {
        let tenths: Vec<String> = reliability
            .iter()
            .map(|of| {
                format!(
                    "{:.0} to {:.0} %: {} of {:.1} %",
                    of.from_percent, of.to_percent, of.climbs, of.true_percent
                )
            })
            .collect();
        let _ = writeln!(
            text,
            "{family:<16} {:<10}  {:<5}  {}",
            summary.policy.label(),
            climb_of(summary),
            tenths.join("; ")
        );
    }
    text += "\nnot holding: of the cards that hold at stock, those kept at settings whose true chance of a day under the \
             scene, warm, without a fault is below 99 %.\nclaimed, true: mean chance of a day that climbs claimed, and \
             that is true of the same settings.\nclimb: the first on its kind of card, or the fourth and later ones, which learnt from those before them.\n\
             downs: machine downs.\nrange held: how often the range of trials and minutes left held what was left.\n";
    text
}

/// Which climbs a row of the table of families is of.
fn climb_of(row: &Summary) -> &'static str {
    match row.learnt {
        None | Some(Learnt::Nothing) => "1st",
        Some(Learnt::FromThree) => "4th +",
    }
}

fn progress(cards: usize) -> Result<ProgressBar, Failure> {
    let bar = ProgressBar::with_draw_target(
        Some(cards as u64),
        if stderr().is_terminal() {
            ProgressDrawTarget::stderr()
        } else {
            ProgressDrawTarget::hidden()
        },
    );
    let style = ProgressStyle::with_template("{bar:40} {pos}/{len} cards, {eta} left")
        .map_err(Failure::failed)?;
    bar.set_style(style);
    Ok(bar)
}

/// Makes a study of so many cards beside a bar that shows how many are done.
fn with_progress<T>(
    cards: usize,
    run: impl FnOnce(&(dyn Fn(usize) + Sync)) -> Result<T, StudyError>,
) -> Result<T, Failure> {
    let bar = progress(cards)?;
    let made = run(&|done| bar.set_position(done as u64)).map_err(refused)?;
    bar.finish_and_clear();
    Ok(made)
}

fn refused(error: StudyError) -> Failure {
    match error {
        StudyError::Scene(_) => Failure::usage(error),
        other => Failure::failed(other),
    }
}

/// The strategies of undervolting on cards that power holds back.
fn study_strategies(options: &StudyOptions, plan: Plan, files: &Files) -> Result<(), Failure> {
    belongs_to_policies(options, "--strategies")?;
    // Most of a mixed load leaves power to spare.
    let heavy = options.load.is_none() && options.plan.is_none();
    let scene = if heavy { Scene::Kiln.name().to_owned() } else { plan.scene.clone() };
    let shaped = || {
        let all = yard_step_card::CardChoice::all();
        all.into_iter()
            .filter(|kind| kind.open(1, 0).is_ok_and(|card| has_points(card.description())))
    };
    let study = VoltageStudy {
        first_seed: options.first_seed,
        cards: options.cards as usize,
        kinds: if options.kinds.is_empty() { shaped().collect() } else { options.kinds.clone() },
        strategies: options.strategies.clone(),
        policies: match options.policies.is_empty() {
            true => vec![Policy::Bayesian],
            false => options.policies.clone(),
        },
        plan: Plan { scene, ..plan },
        threads: std::thread::available_parallelism().map_or(1, usize::from),
    };
    let rows = with_progress(study.cards, |done| study.run(done))?;
    let table = strategy_summaries(&rows);
    let of = (study.first_seed, &study.plan);
    files.write(&Document::new("yard-step-study-of-strategies", of, &table, &rows))?;
    files.say(&strategies_told(&study, &table))
}

/// Refuses what only the study of policies does.
fn belongs_to_policies(options: &StudyOptions, other: &str) -> Result<(), Failure> {
    let is_of_policies = options.svg.is_some()
        || !options.physics.is_empty()
        || options.learn > 1
        || options.flatter != 1.0
        || options.start_above.is_some();
    match is_of_policies {
        true => Err(Failure::usage(format!(
            "--svg, --physics, --flatter, --start-above and --learn belong to the study of policies: omit them with {other}"
        ))),
        false => Ok(()),
    }
}

/// What all stages come to together, beside each alone.
fn study_joined(options: &StudyOptions, plan: Plan, files: &Files) -> Result<(), Failure> {
    belongs_to_policies(options, "--joined")?;
    let study = JoinedStudy {
        first_seed: options.first_seed,
        cards: options.cards as usize,
        kinds: kinds_of(options),
        plan,
        threads: std::thread::available_parallelism().map_or(1, usize::from),
    };
    let rows = with_progress(study.cards, |done| study.run(done))?;
    let table = joined_summaries(&rows);
    let of = (study.first_seed, &study.plan);
    files.write(&Document::new("yard-step-study-joined", of, &table, &rows))?;
    files.say(&joined_told(&study, &table))
}

/// The table of what joins, and what its columns mean.
fn joined_told(study: &JoinedStudy, table: &[JoinedSummary]) -> String {
    let mut text = format!(
        "{} cards, from seed {} on, under {}, for {}: {}.\n\n",
        study.cards,
        study.first_seed,
        study.plan.scene,
        study.plan.margin.purpose(),
        yard_step_words::margin_claim(study.plan.margin)
    );
    text += "cards        number  at least as high  gain median  best single  not holding  single stages  minutes  machine downs\n";
    for row in table {
        let _ = writeln!(
            text,
            "{:<12} {:>6}  {:>16}  {:>+9.2} %  {:>+9.2} %  {:>11}  {:>13.1}  {:>7.1}  {:>13}{}",
            row.kind.as_deref().unwrap_or("all kinds"),
            row.cards,
            row.at_least_as_high,
            row.gain_median_percent,
            row.best_single_median_percent,
            row.not_holding,
            row.singles_not_holding,
            row.minutes,
            row.machine_downs,
            match row.stuck {
                0 => String::new(),
                stuck => format!("  ({stuck} could not go on)"),
            }
        );
    }
    text += "\nat least as high: cards on which all stages together score at least as much as the best single stage whose settings hold.\n\
             not holding: joined settings whose true chance of a day under the load, warm, without a fault is below 99 %; beside it how many of \
             as many climbs with a single stage do not hold.\nAll of what was kept is looked at without the scatter of runs.\n";
    text
}

/// Whether a card lets the points of a V/F curve be shaped.
fn has_points(card: &CardDescription) -> bool {
    card.curve.is_some_and(|offer| offer.kind == CurveKind::Points)
}

/// The table of the strategies, and what its columns mean.
fn strategies_told(study: &VoltageStudy, table: &[StrategySummary]) -> String {
    let cards = table.first().map_or(0, |row| row.cards);
    let mut text = format!(
        "{cards} cards held back by power under {}, from seed {} on, for {}: {}.\n\n",
        study.plan.scene,
        study.first_seed,
        study.plan.margin.purpose(),
        yard_step_words::margin_claim(study.plan.margin)
    );
    text += "strategy        policy     cards        number  faster for no more  gain median  saved median  \
             at 99 % of stock  left median  not holding  unsound curves  trials  minutes  machine downs\n";
    let mut kind = None;
    for row in table {
        if kind.is_some_and(|before| before != &row.kind) {
            text.push('\n');
        }
        kind = Some(&row.kind);
        let _ = writeln!(
            text,
            "{:<15} {:<10} {:<12} {:>6}  {:>18}  {:>+9.2} %  {:>10.1} %  {:>16}  {:>8.0} mV  {:>9.1} %  {:>14}  \
             {:>6.1}  {:>7.1}  {:>13}{}",
            row.strategy,
            row.policy.label(),
            row.kind.as_deref().unwrap_or("all kinds"),
            row.cards,
            row.faster_for_no_more,
            row.gain_median_percent,
            row.saved_median_percent,
            row.at_stock_score,
            row.left_median_mv,
            row.not_holding_percent,
            row.unsound_curves,
            row.trials,
            row.minutes,
            row.machine_downs,
            match row.stuck {
                0 => String::new(),
                stuck => format!("  ({stuck} could not go on)"),
            }
        );
    }
    text += "\nAll of what was kept is looked at without the scatter of runs.\nfaster for no more: \
             above the stock score at no more than the stock watts.\nsaved: board power against \
             stock.\nnot holding: true chance of a day under the load, warm, without a fault below \
             99 %.\nleft: voltage that could \
             still be taken off, everything else as kept.\nunsound: a curve that falls somewhere, or leaves the card's ranges or bins.\n";
    text
}

/// The files a study is written to.
struct Files {
    json: Option<Target>,
    csv: Option<Target>,
    svg: Option<Target>,
}

impl Files {
    fn of(options: &StudyOptions) -> Result<Self, Failure> {
        if let Some(path) = &options.svg
            && ChartKind::of(path).map_err(Failure::usage)? != ChartKind::Svg
        {
            let path = path.display();
            return Err(Failure::usage(format!(
                "--svg draws SVG: name a file that ends in .svg, not {path}"
            )));
        }
        let target = |path: &Option<PathBuf>| {
            path.as_ref().map(|path| Target::new(path, options.overwrite)).transpose()
        };
        Ok(Self {
            json: target(&options.json)?,
            csv: target(&options.csv)?,
            svg: target(&options.svg)?,
        })
    }

    /// Writes all of a study as JSON, and its rows as CSV, where those are wanted.
    fn write<S: Serialize, R: Serialize>(
        &self,
        document: &Document<'_, S, R>,
    ) -> Result<(), Failure> {
        if let Some(target) = &self.json {
            target.write(json(document)?.as_bytes())?;
        }
        if let Some(target) = &self.csv {
            let mut bytes = Vec::new();
            write_csv(document.rows, &mut bytes)?;
            target.write(&bytes)?;
        }
        Ok(())
    }

    /// Prints the table, beside what goes to standard output.
    fn say(&self, table: &str) -> Result<(), Failure> {
        let all = [&self.json, &self.csv, &self.svg];
        if all.into_iter().flatten().any(Target::is_stdout) {
            note(table.trim_end());
            return Ok(());
        }
        print(table)
    }
}

/// The table, and what its columns mean.
fn told(study: &Study, table: &[Summary]) -> String {
    let mut text = format!(
        "{} cards, seeds {} to {}, scene {}, for {}: {}.\n\n",
        study.cards,
        study.first_seed,
        study.first_seed + (study.cards as u64).saturating_sub(1),
        study.plan.scene,
        study.plan.margin.purpose(),
        yard_step_words::margin_claim(study.plan.margin)
    );
    text += "policy     cards        number  not holding  gap median  nine of ten  core below  trials  \
             minutes  machine downs  driver resets\n";
    let mut kind = None;
    for row in table {
        let cards = cards_of(row);
        if kind.is_some_and(|before| before != cards) {
            text.push('\n');
        }
        kind = Some(cards);
        let _ = writeln!(
            text,
            "{:<10} {:<12} {:>6}  {:>9.1} %  {:>8.2} %  {:>9.2} %  {:>6.0} MHz  {:>6.1}  {:>7.1}  \
             {:>13}  {:>13}{}",
            row.policy.label(),
            cards_of(row),
            row.cards,
            row.not_holding_percent,
            row.gap_median_percent,
            row.gap_ninth_percent,
            row.core_gap_mhz,
            row.trials,
            row.minutes,
            row.machine_downs,
            row.driver_resets,
            match row.stuck {
                0 => String::new(),
                1 => "  (1 climb could not go on)".into(),
                stuck => format!("  ({stuck} climbs could not go on)"),
            }
        );
    }
    text += "\nnot holding: of the cards that hold at stock, those kept at settings whose true chance of a day under the scene, warm, without \
             a fault is below 99 %.\ngap: of the kept score to the best score of settings that \
             hold; below zero where what was kept does not hold.\nminutes: time under load of one \
             climb, on average.\n";
    text
}

/// Which cards a row of the table is of.
fn cards_of(row: &Summary) -> &str {
    match (row.learnt, &row.kind) {
        (Some(Learnt::Nothing), _) => "first climb",
        (Some(Learnt::FromThree), _) => "after 3",
        (None, kind) => kind.as_deref().unwrap_or("all kinds"),
    }
}

fn picture(study: &Study, rows: &[Row]) -> Result<String, Failure> {
    let names: Vec<String> =
        study.policies.iter().map(|policy| policy.label().to_owned()).collect();
    let points: Vec<ScatterPoint> = rows
        .iter()
        .filter_map(|row| {
            Some(ScatterPoint {
                series: study.policies.iter().position(|p| *p == row.policy).unwrap_or(0),
                x: row.minutes,
                y: row.gap_percent?,
                is_full: row.holds,
            })
        })
        .collect();
    let title = format!(
        "What policies find and what it costs: {} cards from seed {}",
        study.cards, study.first_seed
    );
    let svg = draw_scatter(&Scatter {
        title: &title,
        x: "minutes under load",
        y: "gap to the best score that holds, %",
        series: &names,
        empty: "does not hold a day",
        points: &points,
    })
    .map_err(Failure::failed)?;
    Ok(with_font(&svg))
}
