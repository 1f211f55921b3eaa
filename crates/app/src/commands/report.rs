//! `yard-step report`: the chart of a climb, or the page about a profile, as a file.

use std::path::PathBuf;

use clap::Args;
use yard_step_core::{ReferenceScore, UseOfIt, checked_name};
use yard_step_ledger::{ClimbEntry, Ledger, LedgerError};
use yard_step_report::{KeptRun, LONGEST_TITLE, PageLook, PagePart, draw_svg};

use crate::commands::profile::view;
use crate::exchange::page::{PageForm, PageWish, page, part};
use crate::failure::Failure;
use crate::opening::open_ledger;
use crate::options::{DataDirOption, NamedCard, parse_card, parse_whole};
use crate::output::{ChartKind, Overwrite, Target, note};
use crate::rig::look_at;

#[derive(Debug, Args)]
pub(crate) struct ReportOptions {
    /// Number of the climb whose chart is drawn
    #[arg(
        long,
        value_name = "ID",
        allow_negative_numbers = true,
        required_unless_present = "profile",
        conflicts_with = "profile"
    )]
    pub climb: Option<i64>,
    /// Name of the profile that the page is about
    #[arg(long, value_name = "NAME", requires = "card")]
    pub profile: Option<String>,
    /// The card of the profile, such as standin:tarn-310#7
    #[arg(long, value_parser = parse_card)]
    pub card: Option<NamedCard>,
    /// Which unit of a stand-in [default: 1]
    #[arg(long, value_name = "N", allow_negative_numbers = true, value_parser = parse_whole)]
    pub seed: Option<u64>,
    /// File to write: .svg or .pdf, and for a page also .md, .html or .txt; - is standard output
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
    /// Form of a page: svg, pdf, md, html or text [default: what the file's name says]
    #[arg(long, value_name = "FORM", requires = "profile", value_parser = parse_form)]
    pub format: Option<PageForm>,
    /// Title of the page
    #[arg(long, value_name = "TEXT", requires = "profile")]
    pub title: Option<String>,
    /// Parts of the page, in their order: changed, trade-offs, bars, table, frontier, clock, curve, fan, proof [default: all]
    #[arg(long, value_name = "PARTS", value_delimiter = ',', requires = "profile", value_parser = part)]
    pub parts: Vec<PagePart>,
    /// A dark page
    #[arg(long, requires = "profile")]
    pub dark: bool,
    /// A wide page instead of a sheet of A4
    #[arg(long, requires = "profile")]
    pub wide: bool,
    /// A score to hold beside, of another card or of this one earlier: "last year=1020@medley"
    #[arg(long, value_name = "NAME=SCORE@LOAD", requires = "profile", value_parser = parse_reference)]
    pub reference: Vec<ReferenceScore>,
    /// Hours of use a day, for the energy of a year [default: as noted in Weigh, or 3]
    #[arg(long, value_name = "HOURS", requires = "profile", value_parser = UseOfIt::hours)]
    pub hours_a_day: Option<f64>,
    /// Price of a kilowatt-hour, such as "0.30 EUR" [default: as noted in Weigh]
    #[arg(long, value_name = "PRICE", requires = "profile", value_parser = UseOfIt::price)]
    pub price: Option<(f64, String)>,
    #[command(flatten)]
    pub overwrite: Overwrite,
}

fn parse_form(text: &str) -> Result<PageForm, String> {
    text.parse()
        .map_err(|_| format!("there is no form \"{text}\"; there are: svg, pdf, md, html, text"))
}

fn parse_reference(text: &str) -> Result<ReferenceScore, String> {
    let how = "write NAME=SCORE@LOAD, such as \"last year=1020@medley\"";
    let (name, rest) = text.rsplit_once('=').ok_or(how)?;
    let (score, load) = rest.split_once('@').ok_or(how)?;
    let score: f64 = score.trim().parse().map_err(|_| how)?;
    ReferenceScore::new(name, load, score).map_err(|why| format!("{why}; {how}"))
}

pub(crate) fn report(data_dir: &DataDirOption, options: &ReportOptions) -> Result<(), Failure> {
    match (&options.profile, options.climb) {
        (Some(name), _) => report_page(data_dir, options, name),
        (None, Some(climb)) => report_climb(data_dir, options, climb),
        (None, None) => {
            Err(Failure::usage("name a climb with --climb, or a profile with --profile"))
        }
    }
}

fn report_page(
    data_dir: &DataDirOption,
    options: &ReportOptions,
    name: &str,
) -> Result<(), Failure> {
    let form = match options.format {
        Some(form) => form,
        None => PageForm::of(&options.out).map_err(Failure::usage)?,
    };
    let title = options.title.as_ref().map(|title| checked_name(title, LONGEST_TITLE)).transpose();
    let title = title.map_err(|why| Failure::usage(format!("--title: {why}")))?;
    let target = Target::new(&options.out, options.overwrite)?;
    let dir = data_dir.resolve()?;
    let (ledger, told) = open_ledger(&dir)?;
    if let Some(line) = told {
        note(&line);
    }
    let Some(card) = &options.card else {
        return Err(Failure::usage("name the card of the profile with --card"));
    };
    let card = look_at(&dir, &card.with_seed(options.seed)?)?.description().clone();
    let profile = view(&ledger, &card, name)?.profile;
    let parts =
        if options.parts.is_empty() { PagePart::ALL.to_vec() } else { options.parts.clone() };
    let wish = PageWish {
        title,
        look: PageLook { parts, dark: options.dark, wide: options.wide },
        references: options.reference.clone(),
        hours_a_day: options.hours_a_day,
        price: options.price.clone(),
        ..PageWish::about(profile)
    };
    let page = page(&ledger, &card, &wish)?;
    target.write(&form.bytes(&page, &wish.look)?)?;
    target.say(&format!("The page about profile \"{name}\" is in {}.", target.shown()))
}

fn report_climb(
    data_dir: &DataDirOption,
    options: &ReportOptions,
    climb: i64,
) -> Result<(), Failure> {
    let kind = ChartKind::of(&options.out).map_err(Failure::usage)?;
    let target = Target::new(&options.out, options.overwrite)?;
    let (ledger, told) = open_ledger(&data_dir.resolve()?)?;
    if let Some(line) = told {
        note(&line);
    }
    let entry = ledger.climb(climb).map_err(unknown)?;
    let svg = draw_svg(&entry, kept_run(&ledger, &entry)?.as_ref())?;
    target.write(&kind.bytes(&svg)?)?;
    target.say(&format!("The report of climb {} is in {}.", entry.id, target.shown()))
}

/// A number that no climb has is a usage error.
fn unknown(error: LedgerError) -> Failure {
    match error {
        LedgerError::NoClimb { .. } => Failure::usage(error),
        other => other.into(),
    }
}

/// The run that shows what is kept or, before there is an outcome, the newest one.
fn kept_run(ledger: &Ledger, entry: &ClimbEntry) -> Result<Option<KeptRun>, Failure> {
    let kept = yard_step_report::kept_trial(entry)?;
    let found = entry.trials.iter().find(|trial| Some(trial.record.number) == kept);
    let Some(trial) = found else { return Ok(None) };
    Ok(Some(KeptRun { number: trial.record.number, samples: ledger.samples(trial.id)? }))
}
