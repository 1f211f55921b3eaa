//! `yard-step weigh`: the frontier of work against what it costs, as a table, a chart or a document.

use std::fmt::Write as _;
use std::path::PathBuf;

use clap::Args;
use serde::Serialize;
use yard_step_core::{CardDescription, Cost, Frontier, Settings, Weighed, loads};
use yard_step_report::draw_frontier;

use crate::exchange::chart::{told_of_chart, what_is_drawn};
use crate::failure::Failure;
use crate::opening::open_ledger;
use crate::options::{CardOptions, DataDirOption};
use crate::output::{ChartKind, Overwrite, Target, json, note, print};
use crate::rig::look_at;

#[derive(Debug, Args)]
pub(crate) struct WeighOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// What work is weighed against: watts, degrees or decibels
    #[arg(long, value_name = "COST", default_value = "watts", value_parser = parse_cost)]
    pub against: Cost,
    /// Load whose runs are weighed [default: the one with the most runs]
    #[arg(long, value_name = "NAME")]
    pub load: Option<String>,
    /// Chart to draw, a new file ending in .svg or .pdf
    #[arg(long, value_name = "FILE", conflicts_with = "json")]
    pub out: Option<PathBuf>,
    #[command(flatten)]
    pub overwrite: Overwrite,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

pub(crate) fn weigh(data_dir: &DataDirOption, options: &WeighOptions) -> Result<(), Failure> {
    let kind = options.out.as_deref().map(ChartKind::of).transpose().map_err(Failure::usage)?;
    let target =
        options.out.as_ref().map(|path| Target::new(path, options.overwrite)).transpose()?;
    let dir = data_dir.resolve()?;
    let (ledger, told) = open_ledger(&dir)?;
    if let Some(line) = told {
        note(&line);
    }
    let card = look_at(&dir, &options.card.address()?)?.description().clone();
    let runs = ledger.weighed(&card)?;
    let load = load_of(&runs, options.load.as_deref(), &card)?;
    let runs: Vec<Weighed> = runs.into_iter().filter(|run| run.load == load).collect();
    let frontier = Frontier::of(&runs, &card, options.against, ledger.machine()?.full_fan);
    if let Some((target, kind)) = target.zip(kind) {
        target.write(&kind.bytes(&draw_frontier(&card, &load, &frontier)?)?)?;
        return target.say(&told_of_chart(&what_is_drawn(&frontier), &target.shown()));
    }
    if options.json {
        let document = Document::of(&card, &load, &frontier);
        return print(&json(&document)?);
    }
    print(&in_words(&card, &load, &frontier))
}

/// The load that is named, or the one with the most runs.
fn load_of(
    runs: &[Weighed],
    named: Option<&str>,
    card: &CardDescription,
) -> Result<String, Failure> {
    let known = loads(runs);
    match named {
        Some(load) if known.iter().any(|other| other == load) => Ok(load.to_owned()),
        Some(load) if known.is_empty() => Err(Failure::usage(format!(
            "nothing was run on {} yet, {load} or other: climb on it first",
            card.key()
        ))),
        Some(load) => Err(Failure::usage(format!(
            "\"{load}\" was never run on {}; there are: {}",
            card.key(),
            known.join(", ")
        ))),
        None => known.into_iter().next().ok_or_else(|| {
            Failure::usage(format!("nothing was run on {} yet: climb on it first", card.key()))
        }),
    }
}

fn in_words(card: &CardDescription, load: &str, frontier: &Frontier) -> String {
    let cost = frontier.cost;
    let mut text = format!(
        "{}, unit {}, under {load}: work against {}\n{}\n\n",
        card.name,
        card.serial,
        cost.what(),
        yard_step_words::frontier(frontier)
    );
    let _ = writeln!(text, "   {:>8}  {:>8}  {:>9}  settings", cost.unit(), "score", "of stock");
    let stock = frontier.stock_score();
    for place in &frontier.frontier {
        let Some(point) = frontier.point(*place) else { continue };
        let mark = match (Some(*place) == frontier.knee, point.is_stock) {
            (true, _) => "◉",
            (false, true) => "▢",
            _ => " ",
        };
        let against =
            stock.map_or("–".into(), |stock| format!("{:.1} %", point.score / stock * 100.0));
        // Writing to a string cannot fail.
        let _ = writeln!(
            text,
            " {mark} {:>8.1}  {:>8.1}  {against:>9}  {}",
            point.cost, point.score, point.what
        );
    }
    let others = frontier.points.len() - frontier.frontier.len();
    let failed = frontier.points.iter().filter(|point| point.failed.is_some()).count();
    let _ = writeln!(
        text,
        "\n◉ knee  ▢ stock  {} settings more were run: {} dominated, {failed} failed",
        others,
        others - failed
    );
    text
}

/// A frontier as JSON; units are in the names.
#[derive(Serialize)]
struct Document<'a> {
    format: &'static str,
    version: u32,
    card: String,
    load: &'a str,
    against: &'static str,
    unit: &'static str,
    sentence: String,
    points: Vec<PointPart<'a>>,
}

#[derive(Serialize)]
struct PointPart<'a> {
    settings: Settings,
    what: &'a str,
    runs: usize,
    seconds: f64,
    score: f64,
    cost: f64,
    failed: Option<&'static str>,
    is_stock: bool,
    on_frontier: bool,
    knee: bool,
}

impl<'a> Document<'a> {
    fn of(card: &CardDescription, load: &'a str, frontier: &'a Frontier) -> Self {
        let part = |(place, point): (usize, &'a yard_step_core::FrontierPoint)| PointPart {
            settings: point.settings,
            what: &point.what,
            runs: point.runs,
            seconds: point.seconds.value(),
            score: point.score,
            cost: point.cost,
            failed: point.failed.map(|verdict| verdict.label()),
            is_stock: point.is_stock,
            on_frontier: point.is_on_frontier,
            knee: Some(place) == frontier.knee,
        };
        Self {
            format: "yard-step-frontier",
            version: 1,
            card: card.key(),
            load,
            against: frontier.cost.label(),
            unit: frontier.cost.unit(),
            sentence: yard_step_words::frontier(frontier),
            points: frontier.points.iter().enumerate().map(part).collect(),
        }
    }
}

/// The cost of a name that was typed.
fn parse_cost(text: &str) -> Result<Cost, String> {
    let all = Cost::ALL.map(Cost::label).join(", ");
    Cost::from_label(text)
        .ok_or_else(|| format!("work is not weighed against \"{text}\"; there are: {all}"))
}
