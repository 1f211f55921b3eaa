//! What the keeper must know after it was killed: one file a card, written whole and synced before the card is changed.

use std::fs::{self, DirBuilder, OpenOptions, Permissions};
use std::io::{self, Read};
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yard_step_core::Settings;

use crate::CeilingStore;
use crate::kernel::Factory;
use crate::runtime_dir::file_name;
use crate::whole::write_whole;

const FORMAT: &str = "yard-step-keeper";
const VERSION: u32 = 1;
/// Largest record that is read, bytes.
const LARGEST: u64 = 4 << 20;
const ENDING: &str = "json";
/// Directory of the records of limit tables.
const CEILING: &str = "ceiling";

/// Where a keeper with its records in a directory keeps that of a card's limit table; the card by its address on the bus.
#[must_use]
pub fn limits_in(records: &Path, card: &str) -> CeilingStore {
    CeilingStore::of(&records.join(CEILING), card)
}

/// What is known of a card in one run of the machine.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct Record {
    format: String,
    version: u32,
    /// The run of the machine.
    pub boot: String,
    /// The card's address on the bus.
    pub card: String,
    /// The name of its directory below `class/drm`.
    pub directory: String,
    /// Root of the device files.
    pub sysfs: PathBuf,
    pub factory: Factory,
    /// Where the card goes once nobody controls it.
    pub way_back: Settings,
    /// Whether it may hold something else.
    pub is_away: bool,
    /// What it is put to at the start of the machine.
    #[serde(default)]
    pub start: Option<Start>,
    /// Whether the machine was started with that and has not been seen to bear it yet.
    #[serde(default)]
    pub is_starting: bool,
    /// Why the card was left at stock at the start, where it was.
    #[serde(default)]
    pub told: Option<String>,
}

/// What a card is put to at the start of the machine.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct Start {
    pub settings: Settings,
    /// Driver and kernel under which it was proven.
    pub driver: String,
    /// The card it was proven on: another one may lie in its place.
    #[serde(default)]
    pub card: String,
}

/// The directory of all records.
#[derive(Debug, Clone)]
pub(super) struct Records {
    directory: PathBuf,
}

impl Record {
    pub(super) fn new(
        (boot, sysfs, card): (&str, &Path, &str),
        directory: &str,
        factory: Factory,
    ) -> Self {
        let way_back = Settings::stock(&factory.description);
        Self {
            format: FORMAT.into(),
            version: VERSION,
            boot: boot.to_owned(),
            card: card.to_owned(),
            directory: directory.to_owned(),
            sysfs: sysfs.to_owned(),
            factory,
            way_back,
            is_away: false,
            start: None,
            is_starting: false,
            told: None,
        }
    }

    /// The same for another run of the machine: what is to be done at a start, and how the last one went.
    pub(super) fn with_start_of(self, before: Option<Self>) -> Self {
        let Some(Self { start, is_starting, .. }) = before else { return self };
        Self { start, is_starting, ..self }
    }
}

impl Records {
    /// The directory, made where it is missing: for root alone.
    pub(super) fn at(directory: &Path) -> io::Result<Self> {
        let named = |error: io::Error| {
            io::Error::new(error.kind(), format!("{}: {error}", directory.display()))
        };
        DirBuilder::new().recursive(true).mode(0o700).create(directory).map_err(named)?;
        fs::set_permissions(directory, Permissions::from_mode(0o700)).map_err(named)?;
        Ok(Self { directory: directory.to_owned() })
    }

    pub(super) fn directory(&self) -> &Path {
        &self.directory
    }

    fn path(&self, card: &str) -> PathBuf {
        self.directory.join(file_name(card)).with_extension(ENDING)
    }

    /// The record of a card; none where there is none, or none that can be understood.
    pub(super) fn of(&self, card: &str) -> Option<Record> {
        read(&self.path(card)).filter(|record| record.card == card)
    }

    /// All records that can be understood.
    pub(super) fn all(&self) -> Vec<Record> {
        let entries = fs::read_dir(&self.directory).into_iter().flatten().flatten();
        let files = entries.map(|entry| entry.path());
        let records = files.filter(|path| path.extension().is_some_and(|end| end == ENDING));
        records.filter_map(|path| read(&path)).collect()
    }

    /// Writes a record, so that it is there whole after a power cut.
    pub(super) fn write(&self, record: &Record) -> io::Result<()> {
        write_whole(&self.path(&record.card), &serde_json::to_vec(record)?)
    }
}

fn read(path: &Path) -> Option<Record> {
    let mut text = Vec::new();
    let file = OpenOptions::new().read(true).open(path).ok()?;
    file.take(LARGEST).read_to_end(&mut text).ok()?;
    let record: Record = serde_json::from_slice(&text).ok()?;
    let is_ours = record.format == FORMAT && record.version == VERSION;
    // An automatic fan is not written down.
    let card = &record.factory.description;
    let way_back = record.way_back.with_unwritten_fan(card);
    let whole = |start: Start| Start { settings: start.settings.with_unwritten_fan(card), ..start };
    let start = record.start.map(whole);
    is_ours.then_some(Record { way_back, start, ..record })
}
