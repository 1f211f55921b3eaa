//! `yard-step ceiling`: the limit table of a card's maker, and what is to be read in its place.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::thread;
use std::time::{Duration, Instant};

use clap::{Args, Subcommand};
use nix::unistd::geteuid;
use serde::Serialize;
use yard_step_card::keeper::{RECORDS, limits_in};
use yard_step_card::slot::{LINGER, SlotAddress};
use yard_step_card::{
    Card, CardError, CeilingRecord, CeilingStore, RuntimeDir, connect, read_table, this_user,
};
use yard_step_core::{
    BoundBy, LONGEST_REASON, LimitField, LimitOverride, LimitTable, LimitWish, SafetyCeilings,
    TableError, WantedLimits, check_table, checked_name, counted, limit_bounds, limits_moved,
};
use yard_step_engine::safety_ceilings;
use yard_step_words::{limit_changes, limit_warnings};

use crate::failure::Failure;
use crate::opening::open_ledger;
use crate::options::{CardOptions, DataDirOption};
use crate::output::{Overwrite, Target, json, note, print};
use crate::rig::ceiling_of;

/// Most bytes of unknown meaning that are shown one by one.
const MOST_BYTES: usize = 16;
/// Time between two looks whether the machine is off.
const LOOK: Duration = Duration::from_millis(50);

#[derive(Debug, Args)]
pub(crate) struct CeilingOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Where the keeper of real cards writes down what it must know: read by root where no keeper runs
    #[arg(long, value_name = "DIR", default_value = RECORDS)]
    pub records: PathBuf,
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
        /// A real card's table as the kernel gives it, byte for byte, in place of a document
        #[arg(long)]
        raw: bool,
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
        /// The table: a document that save has written or, for a real card, a file with the kernel's own bytes
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
    /// Copy the table that a real card has now as the maker's: after a firmware update or switch
    Renew {
        /// Do it
        #[arg(long)]
        yes: bool,
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

/// Where the record of a card's limit table is kept.
enum Keeping {
    /// By a stand-in's machine; off while nobody is at its slot.
    Machine(CeilingStore, SlotAddress),
    /// By the keeper of real cards.
    Keeper(Box<dyn Card>),
    /// In the keeper's records, which root reads where there is no keeper.
    Records(CeilingStore),
}

/// The limit table of one card, on this machine.
struct Place {
    name: String,
    driver: String,
    makers: LimitTable,
    keeping: Keeping,
    safety: SafetyCeilings,
}

impl Place {
    fn of(dir: &DataDirOption, options: &CeilingOptions) -> Result<Self, Failure> {
        let address = options.card.address()?;
        let dir = dir.resolve()?;
        let (ledger, told) = open_ledger(&dir)?;
        told.iter().for_each(|told| note(told));
        let machine = ledger.machine()?;
        let Some(bus) = address.on_bus() else {
            let card = connect(&address)?.description().clone();
            let Some(tables) = &card.limit_tables else {
                return Err(unreadable(&card.id, "it has none"));
            };
            let slot = SlotAddress::of(&RuntimeDir::of_user()?, &address.to_string());
            let safety = safety_ceilings(&ledger, &machine, &card)?;
            return Ok(Self {
                name: format!("{}, unit {}", card.name, card.serial),
                driver: card.driver.clone(),
                makers: tables.makers.clone(),
                keeping: Keeping::Machine(ceiling_of(&dir, &address), slot),
                safety,
            });
        };
        let store = limits_in(&options.records, bus);
        let no_keeper = match connect(&address) {
            Ok(mut card) => match card.ceiling() {
                Ok(record) => {
                    let described = card.description();
                    return Ok(Self {
                        name: described.name.clone(),
                        driver: described.driver.clone(),
                        makers: record.makers.table,
                        safety: safety_ceilings(&ledger, &machine, described)?,
                        keeping: Keeping::Keeper(card),
                    });
                }
                Err(CardError::NoKeeper { why }) => why,
                Err(CardError::Refused { why }) => {
                    return Err(unreadable(&address.to_string(), &why));
                }
                Err(error) => return Err(error.into()),
            },
            Err(error) => error.to_string(),
        };
        if !geteuid().is_root() {
            return Err(Failure::failed(format!(
                "{no_keeper}. Run \"sudo yard-step keeper\" in another terminal, or this command with sudo"
            )));
        }
        let Some(record) = store.read_unseen().map_err(Failure::failed)? else {
            return Err(Failure::failed(format!(
                "{no_keeper}, and there is no record of this card at {}",
                store.path().display()
            )));
        };
        Ok(Self {
            name: address.to_string(),
            driver: String::new(),
            makers: record.makers.table,
            keeping: Keeping::Records(store),
            safety: SafetyCeilings::default(),
        })
    }

    /// The record, begun with the maker's table where there is none yet.
    fn record(&mut self) -> Result<CeilingRecord, Failure> {
        match &mut self.keeping {
            Keeping::Machine(store, _) | Keeping::Records(store) => {
                Ok(store.change(&self.makers, |_| ()).map_err(Failure::failed)?.0)
            }
            Keeping::Keeper(card) => Ok(card.ceiling()?),
        }
    }

    /// Has a table read at the next start; none is the maker's.
    fn write(&mut self, wanted: Option<WantedLimits>) -> Result<(), Failure> {
        match &mut self.keeping {
            Keeping::Keeper(card) => Ok(card.want_limits(wanted.as_ref())?),
            Keeping::Records(_) if wanted.is_some() => Err(Failure::failed(
                "only the keeper loads a table: run \"sudo yard-step keeper\" in another terminal",
            )),
            Keeping::Machine(store, _) | Keeping::Records(store) => {
                let wanted = wanted.map(|wanted| (wanted, self.driver.as_str(), this_user()));
                store.want(&self.makers, wanted).map_err(Failure::failed)
            }
        }
    }

    /// What there is to say where a stand-in's machine is up, and goes on with the limits that it has. One that nobody uses is
    /// switched off in a moment.
    fn until_off(&self) -> &'static str {
        let Keeping::Machine(_, slot) = &self.keeping else { return "" };
        let until = Instant::now() + LINGER + LINGER;
        while slot.path().exists() {
            if Instant::now() > until {
                return "The card is in use and keeps its present limits: close Yard Step and open it again.\n";
            }
            thread::sleep(LOOK);
        }
        ""
    }

    /// Shows what a table changes, and writes it where that was said.
    fn want(&mut self, table: LimitTable, sure: &Sure) -> Result<(), Failure> {
        let next = self.record()?.next().clone();
        if next == table {
            return print("The driver reads these limits at its next start already.\n");
        }
        let mut text = String::new();
        for change in limit_changes(&next, &table, &self.makers) {
            let _ = writeln!(text, "{change}");
        }
        for warning in limit_warnings(&table, &self.makers, &self.safety) {
            let _ = writeln!(text, "{warning}");
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
        self.write(Some(WantedLimits { table, reason }))?;
        text += match self.keeping {
            Keeping::Keeper(_) => {
                "The keeper loads this as it first opens the card after the next start of the machine."
            }
            _ => "The driver reads this at the next start of the machine.",
        };
        text += " An unclean start removes it; so does \"yard-step ceiling off\".\n";
        print(&(text + self.until_off()))
    }

    /// A table that somebody has, if it is for this card.
    fn table_in(&self, file: &Path) -> Result<LimitTable, Failure> {
        read_table(file, &self.makers).map_err(Failure::failed)
    }

    /// Writes the maker's table to a file: as a document, or as the kernel gives it.
    fn save(&mut self, target: Target, is_raw: bool) -> Result<(), Failure> {
        let makers = self.record()?.makers;
        match (is_raw, &makers.table.file) {
            (false, _) => target.write(json(&makers)?.as_bytes())?,
            (true, Some(file)) => target.write(file.bytes())?,
            (true, None) => {
                return Err(Failure::usage("--raw: a stand-in's table is no file of the kernel"));
            }
        }
        target.say(&format!("The maker's table is in {}.", target.shown()))
    }

    /// What differs between two tables; byte by byte where its meaning is not known.
    fn compare(&self, table: &LimitTable, other: &LimitTable) -> Result<String, TableError> {
        table.check_for(&other.card)?;
        let mut lines = limit_changes(other, table, &self.makers);
        if let (Some(from), Some(to)) = (&other.file, &table.file) {
            let (from_size, to_size) = (from.bytes().len(), to.bytes().len());
            if from_size != to_size {
                lines.push(format!("size {from_size} → {to_size} bytes"));
            }
            let differing = || from.differing_bytes(to);
            let shown = differing().take(MOST_BYTES);
            lines.extend(shown.map(|(at, one, to)| format!("  byte {at:<5} {one:02x} → {to:02x}")));
            let more = differing().count().saturating_sub(MOST_BYTES);
            lines.extend((more > 0).then(|| format!("  and {} more", counted(more, "byte"))));
        }
        Ok(match lines.is_empty() {
            true => "The two tables hold the same.\n".to_owned(),
            false => lines.join("\n") + "\n",
        })
    }

    /// Restores what was taken away last.
    fn again(&mut self, sure: &Sure) -> Result<(), Failure> {
        let record = self.record()?;
        let Some(before) = &record.before else {
            return Err(Failure::failed("no table was taken away before"));
        };
        check_table(&before.table, &self.makers, &self.makers.card, &self.safety)
            .map_err(Failure::failed)?;
        let reason = sure.reason.clone().or_else(|| Some(before.reason.clone()));
        let reason = reason.filter(|reason| !reason.is_empty());
        self.want(before.table.clone(), &Sure { reason, yes: sure.yes })
    }

    /// Has the maker's table read at the next start.
    fn off(&mut self) -> Result<(), Failure> {
        if self.record()?.wanted.is_none() {
            return print("The driver reads the maker's limits already.\n");
        }
        self.write(None)?;
        let told = "The driver reads the maker's limits at the next start of the machine.\n";
        print(&(told.to_owned() + self.until_off()))
    }

    /// Takes a new copy of the maker's table.
    fn renew(&mut self, is_sure: bool) -> Result<(), Failure> {
        let Keeping::Keeper(card) = &mut self.keeping else {
            return Err(Failure::failed("only the keeper of a real card takes a new copy"));
        };
        if !is_sure {
            return Err(Failure::failed(
                "the table that the card has now would count as the maker's: do this after a firmware update or switch, not because another program \
                 has written it. Repeat the command with --yes",
            ));
        }
        card.renew_makers_limits()?;
        print(
            "The table that the card has now is the maker's copy. The old record is kept beside it.\n",
        )
    }
}

fn unreadable(card: &str, why: &str) -> Failure {
    Failure::usage(format!("{card}: no limit table of this card can be read: {why}"))
}

pub(crate) fn ceiling(dir: &DataDirOption, options: &CeilingOptions) -> Result<(), Failure> {
    let mut place = Place::of(dir, options)?;
    let show = CeilingCommand::Show { json: false };
    match options.command.as_ref().unwrap_or(&show) {
        CeilingCommand::Show { json: false } => {
            let record = place.record()?;
            print(&in_words(&place, &record))
        }
        CeilingCommand::Show { json: true } => {
            let record = place.record()?;
            print(&json(&Shown::of(&place, &record))?)
        }
        CeilingCommand::Save { out, raw, overwrite } => {
            place.save(Target::new(out, *overwrite)?, *raw)
        }
        CeilingCommand::Compare { file, with } => {
            let table = place.table_in(file)?;
            let other = match with {
                Some(with) => place.table_in(with)?,
                None => place.makers.clone(),
            };
            print(&place.compare(&table, &other).map_err(|error| refused(file, &error))?)
        }
        CeilingCommand::Set { changes, sure } => {
            let mut table = place.record()?.next().clone();
            for FieldChange { field, wish } in changes {
                table = limits_moved(&table, &place.makers, (*field, *wish), &place.safety)
                    .map_err(Failure::usage)?;
            }
            place.want(table, sure)
        }
        CeilingCommand::Load { file, sure } => {
            let table = place.table_in(file)?;
            check_table(&table, &place.makers, &place.makers.card, &place.safety)
                .map_err(|error| refused(file, &error))?;
            place.want(table, sure)
        }
        CeilingCommand::Off => place.off(),
        CeilingCommand::Again { sure } => place.again(sure),
        CeilingCommand::Renew { yes } => place.renew(*yes),
    }
}

fn refused(file: &Path, error: &dyn std::error::Error) -> Failure {
    Failure::failed(format!("{}: {error}", file.display()))
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
    by: Option<String>,
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
            let bounds = limit_bounds(field, &place.makers, &place.safety)?;
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
            by: record.wanted.as_ref().map(|wanted| wanted.by.clone()),
            told: record.told.clone(),
        }
    }
}

fn in_words(place: &Place, record: &CeilingRecord) -> String {
    let next = record.next();
    let of = match &record.wanted {
        None => "the maker's limits".to_owned(),
        Some(LimitOverride { table, driver, reason, by, .. }) => {
            let why = if reason.is_empty() { String::new() } else { format!(": {reason}") };
            let by = if by.is_empty() { String::new() } else { format!(" by {by}") };
            format!("override {} for driver {driver}{by}{why}", table.checksum())
        }
    };
    let mut text = format!("{}: {of}\n", place.name);
    if let Some(told) = &record.told {
        let _ = writeln!(text, "{told}");
    }
    if let Some(opaque) = yard_step_words::what_is_opaque(&place.makers) {
        let _ = writeln!(text, "{opaque}");
    }
    if place.makers.fields.is_empty() {
        return text;
    }
    let _ = writeln!(
        text,
        "  {:<16} {:>9}  {:>10}  {:<16} what it is about",
        "limit", "maker's", "next start", "may be"
    );
    for field in LimitField::ALL {
        let Some((makers, bounds)) =
            place.makers.value(field).zip(limit_bounds(field, &place.makers, &place.safety))
        else {
            continue;
        };
        let unit = field.unit();
        let next = next.value(field).unwrap_or(makers);
        let mark = if next > makers { "beyond the maker's. " } else { "" };
        let range = format!("{:.0} to {:.0} {unit}", bounds.lowest.ceil(), bounds.highest.floor());
        let by = match bounds.by {
            BoundBy::Share(_) => String::new(),
            by => format!(" {}", yard_step_words::limit_bound(field, by)),
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
    for warning in limit_warnings(next, &place.makers, &place.safety) {
        let _ = writeln!(text, "{warning}");
    }
    text
}
