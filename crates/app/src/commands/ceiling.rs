//! `yard-step ceiling`: the limit table of a card's maker, and what is to be read in its place.

use std::fmt::Write as _;
use std::path::PathBuf;
use std::str::FromStr;
use std::thread;
use std::time::{Duration, Instant};

use clap::{Args, Subcommand};
use jiff::Timestamp;
use serde::Serialize;
use yard_step_card::slot::{LINGER, SlotAddress};
use yard_step_card::{CeilingRecord, CeilingStore, RuntimeDir, connect, read_table};
use yard_step_core::{
    BoundBy, LONGEST_REASON, LimitDifference, LimitField, LimitOverride, LimitTable, LimitWish,
    Machine, check_table, checked_name, limit_bounds, limits_moved,
};

use crate::failure::Failure;
use crate::opening::open_ledger;
use crate::options::{CardOptions, DataDirOption};
use crate::output::{Overwrite, Target, json, note, print};
use crate::rig::ceiling_of;

/// Time between two looks whether the machine is off.
const LOOK: Duration = Duration::from_millis(50);

#[derive(Debug, Args)]
pub(crate) struct CeilingOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// What to do [default: show the table]
    #[command(subcommand)]
    pub command: Option<CeilingCommand>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CeilingCommand {
    /// Show the maker's limits, what the driver reads at its next start, and how far each may be moved
    Show {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Write the maker's table to a file, with a checksum
    Save {
        /// The file, or - for standard output
        out: PathBuf,
        #[command(flatten)]
        overwrite: Overwrite,
    },
    /// Show in what a table in a file differs from the maker's, or from another file
    Compare {
        /// A table
        file: PathBuf,
        /// Another one [default: the maker's]
        with: Option<PathBuf>,
    },
    /// Move fields for the next start of the machine, such as power-limit=+15% or current-limit=290
    Set {
        /// Fields with their values: absolute, or percent of the maker's
        #[arg(value_name = "FIELD=VALUE", required = true, value_parser = parse_change)]
        changes: Vec<FieldChange>,
        #[command(flatten)]
        sure: Sure,
    },
    /// Have the driver read a whole table from a file at the next start of the machine
    Load {
        /// The table
        file: PathBuf,
        #[command(flatten)]
        sure: Sure,
    },
    /// Have the driver read the maker's table at the next start of the machine
    Off,
    /// Restore the table that was taken away last, for the present driver
    Again {
        #[command(flatten)]
        sure: Sure,
    },
}

/// Whether, and why, a table is written.
#[derive(Debug, Args)]
pub(crate) struct Sure {
    /// Why, in your words; kept with the table
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,
    /// Write it; without, the changes are shown and nothing is written
    #[arg(long)]
    pub yes: bool,
}

/// A field that is to be another.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct FieldChange {
    field: LimitField,
    wish: LimitWish,
}

fn parse_change(text: &str) -> Result<FieldChange, String> {
    let (name, value) =
        text.split_once('=').ok_or("a change is FIELD=VALUE, such as power-limit=+15%")?;
    let field = LimitField::from_str(name).map_err(|_| {
        let known = LimitField::ALL.map(LimitField::name).join(", ");
        format!("there is no field \"{name}\"; there are: {known}")
    })?;
    let number = |text: &str| {
        let value: Option<f64> = text.parse().ok();
        let value = value.filter(|value| value.is_finite());
        value.ok_or_else(|| format!("\"{text}\" is not a number"))
    };
    let wish = match value.strip_suffix('%') {
        Some(percent) => LimitWish::ByPercent(number(percent)?),
        None => LimitWish::To(number(value)?),
    };
    Ok(FieldChange { field, wish })
}

/// The limit table of one card, on this machine.
struct Place {
    name: String,
    driver: String,
    makers: LimitTable,
    store: CeilingStore,
    machine: Machine,
    slot: SlotAddress,
}

impl Place {
    fn of(dir: &DataDirOption, options: &CardOptions) -> Result<Self, Failure> {
        let address = options.address()?;
        let dir = dir.resolve()?;
        let (ledger, told) = open_ledger(&dir)?;
        told.iter().for_each(|told| note(told));
        let card = connect(&address)?.description().clone();
        let Some(tables) = card.limit_tables else {
            return Err(Failure::usage(format!(
                "{}: no limit table of this card can be read",
                card.id
            )));
        };
        Ok(Self {
            name: format!("{}, unit {}", card.name, card.serial),
            driver: card.driver,
            makers: tables.makers,
            store: ceiling_of(&dir, &address),
            machine: ledger.machine()?,
            slot: SlotAddress::of(&RuntimeDir::of_user()?, &address.to_string()),
        })
    }

    /// The record, begun with the maker's table where there is none yet.
    fn record(&self) -> Result<CeilingRecord, Failure> {
        Ok(self.store.change(&self.makers, |_| ()).map_err(Failure::failed)?.0)
    }

    /// What there is to say where the machine is up, and goes on with the limits that it has. One that nobody uses is switched
    /// off in a moment.
    fn until_off(&self) -> &'static str {
        let until = Instant::now() + LINGER + LINGER;
        while self.slot.path().exists() {
            if Instant::now() > until {
                return "The card is in use and keeps its present limits: close Yard Step and open it again.\n";
            }
            thread::sleep(LOOK);
        }
        ""
    }

    /// Shows what a table changes, and writes it where that was said.
    fn want(&self, table: LimitTable, sure: &Sure) -> Result<(), Failure> {
        let record = self.record()?;
        let differences = record.next().differences(&table);
        if differences.is_empty() {
            return print("The driver reads these limits at its next start already.\n");
        }
        let mut text = String::new();
        for difference in &differences {
            let _ = writeln!(text, "{}", self.changed_in_words(difference));
        }
        if let Some(follow) = yard_step_words::limits_to_follow(&table, &self.makers) {
            let _ = writeln!(text, "{follow}");
        }
        if !sure.yes {
            print(&text)?;
            return Err(Failure::failed(
                "nothing was written. More power and voltage than the maker allows can damage a card. Repeat the command with --yes to write it",
            ));
        }
        let reason = match &sure.reason {
            Some(reason) => checked_name(reason, LONGEST_REASON)
                .map_err(|why| Failure::usage(format!("--reason: {why}")))?,
            None => String::new(),
        };
        let (driver, at) = (self.driver.clone(), Timestamp::now().as_second());
        let wanted = LimitOverride { table, driver, reason, at };
        let change = |record: &mut CeilingRecord| record.want(wanted);
        self.store.change(&self.makers, change).map_err(Failure::failed)?;
        text += "The driver reads this at the next start of the machine. A start that does not end cleanly takes it away again; so does \
                 \"yard-step ceiling off\".\n";
        print(&(text + self.until_off()))
    }

    fn changed_in_words(&self, difference: &LimitDifference) -> String {
        let LimitDifference { field, from, to } = *difference;
        let shown = |value: Option<f64>| {
            value.map_or_else(|| "–".to_owned(), |value| format!("{value:.0} {}", field.unit()))
        };
        let beside = self.makers.value(field).zip(to).map_or_else(String::new, |(makers, to)| {
            format!("  {:+.1} % on the maker's", (to / makers - 1.0) * 100.0)
        });
        format!("{:<16} {:>9} → {:<9}{beside}", field.label(), shown(from), shown(to))
    }
}

pub(crate) fn ceiling(dir: &DataDirOption, options: &CeilingOptions) -> Result<(), Failure> {
    let place = Place::of(dir, &options.card)?;
    let show = CeilingCommand::Show { json: false };
    match options.command.as_ref().unwrap_or(&show) {
        CeilingCommand::Show { json: false } => print(&in_words(&place, &place.record()?)),
        CeilingCommand::Show { json: true } => print(&json(&Shown::of(&place, &place.record()?))?),
        CeilingCommand::Save { out, overwrite } => {
            let target = Target::new(out, *overwrite)?;
            target.write(json(&place.record()?.makers)?.as_bytes())?;
            target.say(&format!("The maker's table is in {}.", target.shown()))
        }
        CeilingCommand::Compare { file, with } => {
            let table = read_table(file).map_err(Failure::failed)?;
            let other = match with {
                Some(with) => read_table(with).map_err(Failure::failed)?,
                None => place.makers.clone(),
            };
            table
                .check_for(&other.card)
                .map_err(|error| Failure::failed(format!("{}: {error}", file.display())))?;
            let lines: Vec<String> = other
                .differences(&table)
                .iter()
                .map(|difference| place.changed_in_words(difference) + "\n")
                .collect();
            let same = "The two tables hold the same.\n".to_owned();
            print(&if lines.is_empty() { same } else { lines.concat() })
        }
        CeilingCommand::Set { changes, sure } => {
            let record = place.record()?;
            let mut table = record.next().clone();
            for FieldChange { field, wish } in changes {
                table = limits_moved(&table, &place.makers, (*field, *wish), &place.machine)
                    .map_err(Failure::usage)?;
            }
            place.want(table, sure)
        }
        CeilingCommand::Load { file, sure } => {
            let table = read_table(file).map_err(Failure::failed)?;
            check_table(&table, &place.makers, &place.makers.card, &place.machine)
                .map_err(|error| Failure::failed(format!("{}: {error}", file.display())))?;
            place.want(table, sure)
        }
        CeilingCommand::Off => {
            let change = CeilingRecord::want_makers;
            let (_, was_on) = place.store.change(&place.makers, change).map_err(Failure::failed)?;
            match was_on {
                true => {
                    let told =
                        "The driver reads the maker's limits at the next start of the machine.\n";
                    print(&(told.to_owned() + place.until_off()))
                }
                false => print("The driver reads the maker's limits already.\n"),
            }
        }
        CeilingCommand::Again { sure } => {
            let record = place.record()?;
            let Some(before) = &record.before else {
                return Err(Failure::failed("no table was taken away before"));
            };
            check_table(&before.table, &place.makers, &place.makers.card, &place.machine)
                .map_err(Failure::failed)?;
            let reason = sure.reason.clone().or_else(|| Some(before.reason.clone()));
            let reason = reason.filter(|reason| !reason.is_empty());
            place.want(before.table.clone(), &Sure { reason, yes: sure.yes })
        }
    }
}

/// The table as JSON.
#[derive(Serialize)]
struct Shown {
    card: String,
    driver: String,
    fields: Vec<ShownField>,
    /// Checksum of the table that is read at the next start.
    next: String,
    is_makers: bool,
    reason: Option<String>,
    told: Option<String>,
}

#[derive(Serialize)]
struct ShownField {
    field: &'static str,
    unit: &'static str,
    makers: f64,
    next: Option<f64>,
    lowest: f64,
    highest: f64,
}

impl Shown {
    fn of(place: &Place, record: &CeilingRecord) -> Self {
        let next = record.next();
        let shown = |field: LimitField| {
            let bounds = limit_bounds(field, &place.makers, &place.machine)?;
            Some(ShownField {
                field: field.name(),
                unit: field.unit(),
                makers: place.makers.value(field)?,
                next: next.value(field),
                lowest: bounds.lowest.ceil(),
                highest: bounds.highest.floor(),
            })
        };
        Self {
            card: place.name.clone(),
            driver: place.driver.clone(),
            fields: LimitField::ALL.into_iter().filter_map(shown).collect(),
            next: next.checksum(),
            is_makers: *next == place.makers,
            reason: record.wanted.as_ref().map(|wanted| wanted.reason.clone()),
            told: record.told.clone(),
        }
    }
}

fn in_words(place: &Place, record: &CeilingRecord) -> String {
    let next = record.next();
    let of = match &record.wanted {
        None => "the maker's limits".to_owned(),
        Some(LimitOverride { table, driver, reason, .. }) => {
            let why = if reason.is_empty() { String::new() } else { format!(": {reason}") };
            format!("override {} for driver {driver}{why}", table.checksum())
        }
    };
    let mut text = format!("{}: {of}\n", place.name);
    if let Some(told) = &record.told {
        let _ = writeln!(text, "{told}");
    }
    let _ = writeln!(
        text,
        "  {:<16} {:>9}  {:>10}  {:<16} what it is about",
        "limit", "maker's", "next start", "may be"
    );
    for field in LimitField::ALL {
        let Some((makers, bounds)) =
            place.makers.value(field).zip(limit_bounds(field, &place.makers, &place.machine))
        else {
            continue;
        };
        let unit = field.unit();
        let next = next.value(field).unwrap_or(makers);
        let mark = if next > makers { "beyond the maker's. " } else { "" };
        let range = format!("{:.0} to {:.0} {unit}", bounds.lowest.ceil(), bounds.highest.floor());
        let by = match bounds.by {
            BoundBy::Share(_) => "",
            BoundBy::Supply(_) => " The power supply bounds it.",
        };
        // Writing to a string cannot fail.
        let _ = writeln!(
            text,
            "  {:<16} {makers:>6.0} {unit:<3} {next:>6.0} {unit:<3}  {range:<16} {mark}{}{by}",
            field.label(),
            yard_step_words::limit_field(field)
        );
    }
    for unknown in &place.makers.unknown {
        let _ = writeln!(
            text,
            "  field {:<10} {:>9}  nobody has published what it means: it cannot be changed",
            unknown.number, unknown.raw
        );
    }
    if let Some(line) = yard_step_words::limits_to_follow(next, &place.makers) {
        let _ = writeln!(text, "{line}");
    }
    text
}
