//! What a machine knows of a card's limit table: the maker's copy, the override that its driver is to read, and whether the
//! machine has come up with it. All of it is one file, written whole, so that no kill leaves a mixture.
//!
//! ```text
//!   start ─┬─ no override ───────────────────────────────► the maker's table
//!          ├─ another driver since it was written ───────► the maker's table; the override is kept apart
//!          ├─ the last start with it did not end cleanly ► the maker's table; the override is kept apart
//!          └─ otherwise: noted as starting, then ────────► the override
//! ```

use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, ErrorKind, Read};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};
use thiserror::Error;
use yard_step_core::{
    ChangeError, LimitOverride, LimitTable, SafetyCeilings, TableDocument, TableOwner,
    WantedLimits, check_table, printable,
};

use crate::runtime_dir::file_name;
use crate::whole::write_whole;

const FORMAT: &str = "yard-step-ceiling";
const VERSION: u32 = 1;
/// Largest file that is read, bytes.
const LARGEST: u64 = 256 << 10;

/// What is known of the limit table of one card.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CeilingRecord {
    format: String,
    version: u32,
    /// The maker's table, as it was at first sight.
    pub makers: TableDocument,
    /// What the driver reads at its next start; none is the maker's table.
    pub wanted: Option<LimitOverride>,
    /// The override that was taken away last.
    pub before: Option<LimitOverride>,
    /// Whether the machine was started with the override and has not been seen to bear it yet.
    pub is_starting: bool,
    /// Why the override was taken away without anybody's wish, where it was.
    pub told: Option<String>,
}

impl CeilingRecord {
    /// The record of a card that is seen for the first time.
    #[must_use]
    pub fn at_first_sight(makers: &LimitTable) -> Self {
        Self {
            format: FORMAT.into(),
            version: VERSION,
            makers: makers.document(),
            wanted: None,
            before: None,
            is_starting: false,
            told: None,
        }
    }

    /// The table that the driver reads at its next start.
    #[must_use]
    pub fn next(&self) -> &LimitTable {
        self.wanted.as_ref().map_or(&self.makers.table, |wanted| &wanted.table)
    }

    /// Has the driver read this table at its next start; the maker's own is no override.
    pub fn want(&mut self, wanted: LimitOverride) {
        if wanted.table == self.makers.table {
            self.want_makers();
            return;
        }
        if let Some(before) = self.wanted.take() {
            self.before = Some(before);
        }
        (self.wanted, self.is_starting, self.told) = (Some(wanted), false, None);
    }

    /// Has the driver read the maker's table at its next start; whether that is a change.
    pub fn want_makers(&mut self) -> bool {
        let Some(wanted) = self.wanted.take() else { return false };
        (self.before, self.is_starting, self.told) = (Some(wanted), false, None);
        true
    }

    /// What the driver reads as the machine starts, by the rules above; none is the maker's table.
    fn begin_start(&mut self, driver: &str) -> Option<LimitTable> {
        let wanted = self.wanted.as_ref()?;
        let why = if wanted.driver != driver {
            format!("it was written for driver {}, and the driver is now {driver}", wanted.driver)
        } else if self.is_starting {
            "the machine did not come up with it".to_owned()
        } else {
            self.is_starting = true;
            return Some(wanted.table.clone());
        };
        self.give_up(&why);
        None
    }

    /// Takes the override away without anybody's wish, and says why, in half a sentence.
    pub(crate) fn give_up(&mut self, why: &str) {
        let Some(wanted) = self.wanted.take() else { return };
        let table = wanted.table.checksum();
        (self.before, self.is_starting) = (Some(wanted), false);
        self.told = Some(format!(
            "The maker's limits are in force again, the override {table} is not: {why}. \"yard-step ceiling again\" restores it."
        ));
    }

    /// Whether a table is one that was noted here: the maker's, the one that is wanted, or the one before.
    pub(crate) fn knows(&self, is_same: impl Fn(&LimitTable) -> bool) -> bool {
        let all = [&self.wanted, &self.before].into_iter().flatten().map(|over| &over.table);
        all.chain([&self.makers.table]).any(is_same)
    }
}

/// Why a record or a table cannot be read or written.
#[derive(Debug, Error)]
pub enum CeilingError {
    /// The file cannot be read or written.
    #[error("{}: {cause}", path.display())]
    File {
        /// Which.
        path: PathBuf,
        /// Why.
        cause: io::Error,
    },
    /// It is no such file.
    #[error("{}: {why}", path.display())]
    Content {
        /// Which.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// The table is refused for this card.
    #[error(transparent)]
    Refused(#[from] ChangeError),
}

/// Where the record of one card is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CeilingStore {
    path: PathBuf,
}

impl CeilingStore {
    /// The record of a card in a directory.
    #[must_use]
    pub fn of(directory: &Path, card: &str) -> Self {
        Self { path: directory.join(file_name(card)).with_extension("json") }
    }

    /// The record in a file.
    #[must_use]
    pub fn at(path: &Path) -> Self {
        Self { path: path.to_owned() }
    }

    /// The file.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    fn file(&self, cause: io::Error) -> CeilingError {
        CeilingError::File { path: self.path.clone(), cause }
    }

    /// The record; none where there is none yet.
    ///
    /// # Errors
    /// It cannot be read, or is none: damaged, of another version, or for another card.
    pub fn read(&self, owner: &TableOwner) -> Result<Option<CeilingRecord>, CeilingError> {
        self.read_as(Some(owner))
    }

    /// The same for a card that cannot be asked what it is.
    ///
    /// # Errors
    /// As [`read`](Self::read), but for another card.
    pub fn read_unseen(&self) -> Result<Option<CeilingRecord>, CeilingError> {
        self.read_as(None)
    }

    fn read_as(&self, owner: Option<&TableOwner>) -> Result<Option<CeilingRecord>, CeilingError> {
        let text = match read_bounded(&self.path) {
            Ok(text) => text,
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(self.file(error)),
        };
        let odd = |why: String| CeilingError::Content { path: self.path.clone(), why };
        let record: CeilingRecord =
            serde_json::from_slice(&text).map_err(|error| odd(printable(&error.to_string())))?;
        if record.format != FORMAT || record.version != VERSION {
            let (format, version) = (printable(&record.format), record.version);
            return Err(odd(format!("unknown format \"{format}\", version {version}")));
        }
        let makers = record.makers.clone().into_table().map_err(|error| odd(error.to_string()))?;
        // The bounds that go for any machine: a file may be edited by anybody who can.
        let owner = owner.unwrap_or(&makers.card);
        let check = |table| check_table(table, &makers, owner, &SafetyCeilings::default());
        let all = [&record.wanted, &record.before].into_iter().flatten().map(|over| &over.table);
        all.chain([&makers]).try_for_each(check).map_err(|error| odd(error.to_string()))?;
        Ok(Some(record))
    }

    /// Changes the record, which begins with the maker's table at first sight, and gives back the new one. One process at a
    /// time does so; nothing is written where nothing changes.
    ///
    /// # Errors
    /// As [`read`](Self::read), and it cannot be written: the one before is still there.
    pub fn change<T>(
        &self,
        makers: &LimitTable,
        change: impl FnOnce(&mut CeilingRecord) -> T,
    ) -> Result<(CeilingRecord, T), CeilingError> {
        let lock = || -> io::Result<File> {
            let directory = self.path.parent().unwrap_or(Path::new("."));
            DirBuilder::new().recursive(true).mode(0o700).create(directory)?;
            let file = OpenOptions::new()
                .write(true)
                .create(true)
                .truncate(false)
                .open(self.path.with_extension("lock"))?;
            file.lock()?;
            Ok(file)
        };
        let _lock = lock().map_err(|error| self.file(error))?;
        let known = self.read(&makers.card)?;
        let mut record = known.clone().unwrap_or_else(|| CeilingRecord::at_first_sight(makers));
        let changed = change(&mut record);
        if known.as_ref() != Some(&record) {
            let text = serde_json::to_vec_pretty(&record).map_err(io::Error::from);
            let written = text.and_then(|text| write_whole(&self.path, &text));
            written.map_err(|error| self.file(error))?;
        }
        Ok((record, changed))
    }

    /// Has the driver read a table at its next start, as a user of this name wants it under a release of the driver; none is the
    /// maker's.
    ///
    /// # Errors
    /// The table lies outside the bounds that go for any machine, or is for another card; and as [`change`](Self::change).
    pub fn want(
        &self,
        makers: &LimitTable,
        wanted: Option<(WantedLimits, &str, String)>,
    ) -> Result<(), CeilingError> {
        let Some((wanted, driver, by)) = wanted else {
            return self.change(makers, CeilingRecord::want_makers).map(drop);
        };
        check_table(&wanted.table, makers, &makers.card, &SafetyCeilings::default())?;
        let since = SystemTime::now().duration_since(UNIX_EPOCH);
        let at = since.map_or(0, |since| since.as_secs().cast_signed());
        let wanted = wanted.by(&by, driver, at);
        self.change(makers, |record| record.want(wanted)).map(drop)
    }

    /// Begins anew with a fresh copy of the maker's table, for a card whose firmware is another now. Overrides of the one before
    /// do not fit it and are gone; the old record stays beside it.
    ///
    /// # Errors
    /// It cannot be written.
    pub(crate) fn renew(&self, makers: &LimitTable) -> Result<(), CeilingError> {
        match fs::rename(&self.path, self.path.with_extension("old")) {
            Err(error) if error.kind() != ErrorKind::NotFound => return Err(self.file(error)),
            _ => {}
        }
        self.change(makers, |_| ()).map(drop)
    }

    /// The table that the driver reads as the machine starts, and what there is to say of it. What comes of the start is
    /// noted beforehand: a machine that does not come up has the maker's table at its next start.
    ///
    /// # Errors
    /// The record cannot be read or written: the maker's table is read.
    pub fn begin_start(
        &self,
        makers: &LimitTable,
        driver: &str,
    ) -> Result<(Option<LimitTable>, Option<String>), CeilingError> {
        let (record, table) = self.change(makers, |record| record.begin_start(driver))?;
        Ok((table, record.told))
    }

    /// Notes that the machine has borne its table.
    ///
    /// # Errors
    /// The record cannot be read or written: the next start is with the maker's table.
    pub fn note_borne(&self, makers: &LimitTable) -> Result<(), CeilingError> {
        self.change(makers, |record| record.is_starting = false).map(drop)
    }
}

/// A table in a file: a document of Yard Step's or, for a real card whose maker's table is given, the bytes of the kernel's own
/// file.
///
/// # Errors
/// The file cannot be read, or holds no whole table.
pub fn read_table(path: &Path, makers: &LimitTable) -> Result<LimitTable, CeilingError> {
    let text =
        read_bounded(path).map_err(|cause| CeilingError::File { path: path.to_owned(), cause })?;
    let odd = |why: String| CeilingError::Content { path: path.to_owned(), why };
    // The kernel's own has zeros in it, and no document has.
    if let Some(file) = makers.file.as_ref().filter(|_| text.contains(&0)) {
        let file = file.with_bytes(text).map_err(|error| odd(error.to_string()))?;
        return Ok(LimitTable::of_file(makers.card.clone(), file));
    }
    let document: TableDocument = serde_json::from_slice(&text)
        .map_err(|error| odd(format!("it is no limit table: {}", printable(&error.to_string()))))?;
    document.into_table().map_err(|error| odd(error.to_string()))
}

/// The bytes of a plain file of bounded size.
fn read_bounded(path: &Path) -> io::Result<Vec<u8>> {
    use std::os::unix::fs::OpenOptionsExt;
    // A pipe would be waited for.
    let file = OpenOptions::new().read(true).custom_flags(nix::libc::O_NONBLOCK).open(path)?;
    if !file.metadata()?.is_file() {
        return Err(io::Error::new(ErrorKind::InvalidInput, "it is no plain file"));
    }
    let mut text = Vec::new();
    file.take(LARGEST + 1).read_to_end(&mut text)?;
    if text.len() as u64 > LARGEST {
        let why = format!("it is larger than {} KiB", LARGEST >> 10);
        return Err(io::Error::new(ErrorKind::InvalidData, why));
    }
    Ok(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;
    use rstest::rstest;
    use yard_step_core::{LimitField, TableFile};

    fn makers() -> LimitTable {
        let card = "standin:tarn-310".parse::<crate::CardAddress>().unwrap();
        crate::connect(&card).unwrap().description().limit_tables.clone().unwrap().makers
    }

    fn raised() -> LimitOverride {
        let table = makers().with(LimitField::PowerLimit, 310.0);
        LimitOverride {
            table,
            driver: "1.0".into(),
            reason: "summer".into(),
            by: String::new(),
            at: 7,
        }
    }

    /// A store whose driver is to read a raised table.
    fn store() -> (tempfile::TempDir, CeilingStore) {
        let dir = tempfile::tempdir().unwrap();
        let store = CeilingStore::of(dir.path(), "standin:tarn-310#7");
        store.change(&makers(), |record| record.want(raised())).unwrap();
        (dir, store)
    }

    #[test]
    fn an_override_is_read_once_it_was_borne_and_gone_at_the_start_after_one_that_was_not() {
        let (_dir, store) = store();
        let start = |driver| store.begin_start(&makers(), driver).unwrap();
        for _ in 0..3 {
            assert_eq!(start("1.0"), (Some(raised().table), None));
            store.note_borne(&makers()).unwrap();
        }
        // It goes down with it: the next start is with the maker's table, and says so.
        assert!(start("1.0").0.is_some());
        let (table, told) = start("1.0");
        assert_eq!(table, None);
        assert!(told.unwrap().contains("the machine did not come up with it"));
        assert_eq!(start("1.0").0, None, "and it stays gone");
        let before = store.read(&makers().card).unwrap().unwrap().before.unwrap();
        assert_eq!(before, raised(), "it is kept apart");
        store.change(&makers(), |record| record.want(before)).unwrap();
        assert_eq!(start("1.0"), (Some(raised().table), None), "and can be restored");
    }

    #[test]
    fn a_driver_update_takes_an_override_away_and_says_so() {
        let (_dir, store) = store();
        let (table, told) = store.begin_start(&makers(), "2.0").unwrap();
        assert_eq!(table, None);
        assert!(told.unwrap().contains("written for driver 1.0, and the driver is now 2.0"));
        let mut record = store.read(&makers().card).unwrap().unwrap();
        assert_eq!((&record.wanted, record.before.is_some()), (&None, true));
        assert!(!record.want_makers(), "it is off already");
    }

    /// A real card's table, of which nothing is known.
    fn opaque() -> LimitTable {
        let mut bytes = vec![0x5a; 300];
        bytes[..2].copy_from_slice(&300_u16.to_le_bytes());
        LimitTable::of_file(makers().card, TableFile::new(bytes, Some(200.0)).unwrap())
    }

    #[rstest]
    #[case::of_a_stand_in(makers(), raised().table)]
    #[case::of_a_real_card(opaque(), opaque())]
    fn five_thousand_mutated_tables_never_pass_with_a_wrong_checksum(
        #[case] makers: LimitTable,
        #[case] of_file: LimitTable,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("table.json");
        let whole = serde_json::to_vec(&of_file.document()).unwrap();
        let mut random = ChaCha8Rng::seed_from_u64(20);
        let mut refused = 0;
        for _ in 0..5_000 {
            let mut text = whole.clone();
            for _ in 0..random.random_range(1..4) {
                let at = random.random_range(0..text.len());
                match random.random_range(0..5) {
                    0 => text[at] = random.random(),
                    1 => text.truncate(at.max(1)),
                    2 => text.insert(at, b"0123456789-e."[random.random_range(0..13)]),
                    3 if text[at].is_ascii_digit() => text[at] = b'0' + random.random_range(0..10),
                    _ => drop(text.remove(at)),
                }
                if text.is_empty() {
                    text.push(b'{');
                }
            }
            fs::write(&path, &text).unwrap();
            match read_table(&path, &makers) {
                Err(_) => refused += 1,
                // White space, or a digit by itself: the same table.
                Ok(table) => assert_eq!(table, of_file, "{}", String::from_utf8_lossy(&text)),
            }
        }
        assert!(refused > 4_000, "{refused}");
    }

    #[test]
    fn what_is_no_file_of_a_table_is_told_with_its_name() {
        let dir = tempfile::tempdir().unwrap();
        let path = |name: &str| dir.path().join(name);
        fs::create_dir(path("directory")).unwrap();
        fs::write(path("empty"), "").unwrap();
        fs::write(path("huge"), vec![b' '; 1 << 20]).unwrap();
        nix::unistd::mkfifo(&path("pipe"), nix::sys::stat::Mode::S_IRWXU).unwrap();
        for (name, told) in [
            ("nothing", "No such file"),
            ("directory", "no plain file"),
            ("pipe", "no plain file"),
            ("empty", "it is no limit table"),
            ("huge", "larger than 256 KiB"),
        ] {
            let error = read_table(&path(name), &makers()).unwrap_err().to_string();
            assert!(error.contains(told) && error.contains(name), "{name}: {error}");
        }
        let store = CeilingStore::at(&path("huge"));
        assert!(store.begin_start(&makers(), "1.0").is_err());
    }

    #[test]
    fn a_record_edited_beyond_the_bounds_is_not_taken() {
        let (_dir, store) = store();
        let text = fs::read_to_string(store.path()).unwrap();
        fs::write(store.path(), text.replace("310.0", "31000.0")).unwrap();
        let error = store.begin_start(&makers(), "1.0").unwrap_err().to_string();
        assert!(error.contains("power limit of 31000 W: it must be"), "{error}");
    }

    #[test]
    fn a_record_for_another_card_is_not_taken() {
        let (_dir, store) = store();
        let other = TableOwner { kind: "standin:quern-540".into(), ..makers().card };
        let error = store.read(&other).unwrap_err().to_string();
        assert!(error.contains("it is for another card"), "{error}");
    }
}
