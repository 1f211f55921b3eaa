//! The limit table of a card in the keeper's hands: copied at first sight, and loaded as the machine starts.
//!
//! ```text
//!   first look in a run of the machine ─┬─ never seen before ─────────────► copied as the maker's
//!                                       ├─ a table that nobody has noted ─► left as it is, and told
//!                                       ├─ an override, by the rules of the record ──► noted as starting, loaded, read back
//!                                       └─ none, and one is still on the card ───────► the maker's, byte for byte
//! ```

use std::path::Path;
use std::time::{Duration, Instant};

use yard_step_core::{CardDescription, LimitTable, LimitTables, TableFile, WantedLimits};

use super::record::{Records, limits_in};
use crate::kernel::{KernelCard, LimitFile, look_at};
use crate::{CeilingError, CeilingRecord, CeilingStore};

/// How long a machine must run with an override, until the start with it counts as clean.
const BORNE_AFTER: Duration = Duration::from_secs(60);

/// The limit table of a card.
pub(super) struct Limits {
    store: CeilingStore,
    makers: LimitTable,
    /// Release of the driver, without what it was told to read.
    driver: String,
    /// When the machine has borne what it was started with.
    borne_at: Option<Instant>,
}

/// A card as it is once its limits are loaded.
pub(super) struct Started {
    pub card: KernelCard,
    /// Its limits; half a sentence why it has none.
    pub limits: Result<Limits, String>,
}

/// Whether two tables are the same, byte for byte.
fn is_same(one: &LimitTable, other: &LimitTable) -> bool {
    one.file.as_ref().map(TableFile::bytes) == other.file.as_ref().map(TableFile::bytes)
}

impl Limits {
    /// Loads what a card is to have at its first look in a run of the machine.
    pub(super) fn start(records: &Records, sysfs: &Path, found: KernelCard) -> Started {
        let file = LimitFile::of(sysfs, &found.directory);
        let now = match file.read() {
            Ok(now) => now,
            Err(why) => return Started { card: found, limits: Err(why) },
        };
        let store = limits_in(records.directory(), &found.address);
        let driver = found.description.driver.clone();
        let begun = begin(&file, &store, &now, &driver);
        let (tables, borne_at) = match begun {
            Ok(begun) => begun,
            Err(error) => return Started { card: found, limits: Err(error.to_string()) },
        };
        let mut card = match is_same(&now, &tables.in_force) {
            true => found.clone(),
            // Its ranges are others now.
            false => look_at(sysfs, &found.address).unwrap_or_else(|_| found.clone()),
        };
        let makers = tables.makers.clone();
        if tables.in_force != tables.makers {
            note_makers_ends(&mut card.description, &found.description);
        }
        card.description.driver = tables.driver(&driver);
        card.description.limit_tables = Some(Box::new(tables));
        Started { card, limits: Ok(Self { store, makers, driver, borne_at }) }
    }

    /// Those of a card that was looked at earlier in this run of the machine.
    pub(super) fn known(
        records: &Records,
        sysfs: &Path,
        (address, directory): (&str, &str),
        card: &CardDescription,
    ) -> Result<Self, String> {
        let Some(tables) = &card.limit_tables else {
            let why = LimitFile::of(sysfs, directory).read().err();
            return Err(
                why.unwrap_or_else(|| "the keeper did not find it when it opened the card".into())
            );
        };
        let store = limits_in(records.directory(), address);
        let driver = tables.release(&card.driver).to_owned();
        Ok(Self { store, makers: tables.makers.clone(), driver, borne_at: None })
    }

    /// Whether a card still has the table that was noted as the one in force.
    pub(super) fn are_as_noted(sysfs: &Path, directory: &str, card: &CardDescription) -> bool {
        match (&card.limit_tables, LimitFile::of(sysfs, directory).read()) {
            (Some(tables), Ok(now)) => is_same(&tables.in_force, &now),
            // A card in the middle of a reset tells nothing.
            (_, Err(_)) => true,
            (None, Ok(_)) => false,
        }
    }

    /// What is known of the table.
    pub(super) fn record(&self) -> Result<CeilingRecord, CeilingError> {
        Ok(self.store.change(&self.makers, |_| ())?.0)
    }

    /// What there is to say of the start of the machine.
    pub(super) fn told(&self) -> Option<String> {
        self.record().map_or_else(|error| Some(error.to_string()), |record| record.told)
    }

    /// Has a table loaded at the next start of the machine, as a user wants it; none is the maker's.
    pub(super) fn want(
        &self,
        wanted: Option<WantedLimits>,
        user: String,
    ) -> Result<(), CeilingError> {
        let wanted = wanted.map(|wanted| (wanted, self.driver.as_str(), user));
        self.store.want(&self.makers, wanted)
    }

    /// Copies the table that the card has now as the maker's, and gives it back with the driver's release.
    pub(super) fn renew(
        &mut self,
        sysfs: &Path,
        directory: &str,
    ) -> Result<(LimitTable, String), String> {
        let now = LimitFile::of(sysfs, directory).read()?;
        self.store.renew(&now).map_err(|error| error.to_string())?;
        self.makers = now;
        Ok((self.makers.clone(), self.driver.clone()))
    }

    /// Notes, after a while, that the machine has borne what it was started with.
    pub(super) fn look(&mut self) {
        if self.borne_at.is_some_and(|at| Instant::now() >= at) {
            self.note_borne();
        }
    }

    /// Notes that the machine has borne what it was started with: after a while, or at an orderly end.
    pub(super) fn note_borne(&mut self) {
        if self.borne_at.take().is_some()
            && let Err(error) = self.store.note_borne(&self.makers)
        {
            // The next start is with the maker's limits, and says why.
            tracing::info!("could not note that the machine came up with its limits: {error}");
        }
    }
}

/// The tables of a card once what it is to have is loaded, and when the machine has borne that.
fn begin(
    file: &LimitFile,
    store: &CeilingStore,
    now: &LimitTable,
    driver: &str,
) -> Result<(LimitTables, Option<Instant>), CeilingError> {
    let (record, ()) = store.change(now, |_| ())?;
    let makers = record.makers.table.clone();
    if !record.knows(|table| is_same(table, now)) {
        store.change(&makers, |record| {
            record.told = Some(format!(
                "The card's limit table is {} and was {} at first sight: its firmware is another, or another program has written it. \
                 It was left as it is, and no override was loaded. \"yard-step ceiling renew\" takes a new copy.",
                now.checksum(),
                makers.checksum()
            ));
        })?;
        return Ok((LimitTables { makers, in_force: now.clone() }, None));
    }
    let (wanted, _) = store.begin_start(&makers, driver)?;
    let is_override = wanted.is_some();
    let target = wanted.unwrap_or_else(|| makers.clone());
    let borne_at = is_override.then(|| Instant::now() + BORNE_AFTER);
    if is_same(now, &target) {
        return Ok((LimitTables { makers, in_force: target }, borne_at));
    }
    let Err(why) = file.load(&target) else {
        return Ok((LimitTables { makers, in_force: target }, borne_at));
    };
    // Whatever was half taken is not what anybody wants.
    let back = file.load(&makers);
    let rest = back.err().map_or_else(String::new, |why| format!(", and then: {why}"));
    store.change(&makers, |record| record.give_up(&format!("{why}{rest}")))?;
    let in_force = file.read().unwrap_or_else(|_| now.clone());
    Ok((LimitTables { makers, in_force }, None))
}

/// Notes at the ranges that reach further than before where they ended then.
fn note_makers_ends(card: &mut CardDescription, before: &CardDescription) {
    for offer in &mut card.offers {
        let makers = before.offer(offer.kind).map(|before| before.maximum);
        offer.makers_maximum = makers.filter(|makers| offer.maximum > *makers);
    }
}
