//! Opening a ledger, the thread that owns its connection, and the handle others use.

use std::fs::{self, File, TryLockError};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, TryRecvError, channel};
use std::thread::{self, JoinHandle};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rusqlite::Connection;

use crate::error::{Doing, LedgerError};
use crate::schema::{VERSION, migrate};

/// A directory that a ledger lives in.
#[derive(Debug, Clone)]
pub struct DataDir(PathBuf);

impl DataDir {
    /// The directory at `path`; nothing is touched yet.
    #[must_use]
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self(path.into())
    }

    /// The directory.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.0
    }

    /// The ledger's file.
    #[must_use]
    pub fn ledger(&self) -> PathBuf {
        self.0.join("ledger.sqlite")
    }

    /// Keeps the directory from being moved away by another process, for as long as the file lives.
    ///
    /// # Errors
    /// The directory cannot be written, or another process is moving it away.
    pub fn enter(&self) -> Result<File, LedgerError> {
        self.claim(File::try_lock_shared)
    }

    /// Makes this process the only one in the directory, for as long as the file lives.
    ///
    /// # Errors
    /// The directory cannot be written, or another process is in it.
    pub fn lock(&self) -> Result<File, LedgerError> {
        self.claim(File::try_lock)
    }

    fn claim(&self, lock: impl Fn(&File) -> Result<(), TryLockError>) -> Result<File, LedgerError> {
        let failed = |cause| LedgerError::DataDir { path: self.0.clone(), cause };
        fs::create_dir_all(&self.0).map_err(failed)?;
        let file = File::create(self.0.join("in-use")).map_err(failed)?;
        match lock(&file) {
            Ok(()) => Ok(file),
            Err(TryLockError::WouldBlock) => Err(LedgerError::Busy { path: self.0.clone() }),
            Err(TryLockError::Error(cause)) => Err(failed(cause)),
        }
    }
}

/// How a disk fails.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DiskFailure {
    /// It does not.
    None,
    /// There is no room on it.
    Full,
    /// Nothing may be written to it.
    ReadOnly,
}

/// A ledger just opened.
pub struct Opened {
    /// The handle.
    pub ledger: Ledger,
    /// Where a ledger that could not be read was set aside, with what was wrong with it.
    pub set_aside: Option<(PathBuf, String)>,
}

/// How long a statement waits for another process that writes.
const BUSY: Duration = Duration::from_secs(5);

type Job = Box<dyn FnOnce(&mut Connection) + Send>;

/// A handle on the ledger. Clones share one connection; the last one to go closes it and waits
/// until it is closed.
#[derive(Clone)]
pub struct Ledger {
    owner: Arc<Owner>,
    meanwhile: Option<Meanwhile>,
}

/// What is done while an answer of the ledger is waited for.
pub type Meanwhile = Arc<dyn Fn() + Send + Sync>;

/// How often it is done, and for how many times at most: whoever waits longer than five seconds is stuck.
const BETWEEN: Duration = Duration::from_millis(100);
const MOST_TIMES: usize = 50;

struct Owner {
    jobs: Option<Sender<Job>>,
    thread: Option<JoinHandle<()>>,
    path: PathBuf,
}

impl Drop for Owner {
    fn drop(&mut self) {
        drop(self.jobs.take());
        if let Some(thread) = self.thread.take() {
            // A thread that panicked has nothing left to close.
            let _ = thread.join();
        }
    }
}

impl Ledger {
    /// Opens the ledger of a directory, making both where they are missing. A file that is no
    /// readable ledger is renamed, never deleted, and a new one begun.
    ///
    /// # Errors
    /// The directory cannot be written, the file cannot be opened, or it is of a newer version.
    pub fn open(dir: &DataDir) -> Result<Opened, LedgerError> {
        fs::create_dir_all(dir.path())
            .map_err(|cause| LedgerError::DataDir { path: dir.path().into(), cause })?;
        let path = dir.ledger();
        let (connection, set_aside) = match connect(&path) {
            Ok(connection) => (connection, None),
            Err(LedgerError::Open { cause, .. }) if is_corrupt(&cause) => {
                let aside = set_aside(&path)
                    .map_err(|cause| LedgerError::DataDir { path: dir.path().into(), cause })?;
                (connect(&path)?, Some((aside, cause.to_string())))
            }
            Err(other) => return Err(other),
        };
        Ok(Opened { ledger: Self::serve(connection), set_aside })
    }

    /// The file, as an absolute path.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.owner.path
    }

    fn serve(mut connection: Connection) -> Self {
        let path = PathBuf::from(connection.path().unwrap_or_default());
        let path = path.canonicalize().unwrap_or(path);
        let (jobs, queue) = channel::<Job>();
        let thread = thread::spawn(move || {
            for job in queue {
                job(&mut connection);
            }
        });
        let owner = Owner { jobs: Some(jobs), thread: Some(thread), path };
        Self { owner: Arc::new(owner), meanwhile: None }
    }

    /// The same ledger by a handle that does something ten times a second while it waits, for five seconds at most: a disk
    /// that is busy with something else may take as long for a write.
    #[must_use]
    pub fn with_meanwhile(mut self, meanwhile: Option<Meanwhile>) -> Self {
        self.meanwhile = meanwhile;
        self
    }

    /// A second connection to the same ledger, for looking only: however long a search takes, what
    /// is being recorded does not wait for it.
    ///
    /// # Errors
    /// The ledger cannot be opened once more.
    pub fn reader(&self) -> Result<Self, LedgerError> {
        let path = self.path().to_owned();
        let open = |path: &Path| {
            let connection = Connection::open(path)?;
            connection.busy_timeout(BUSY)?;
            connection.pragma_update(None, "query_only", true)?;
            Ok(connection)
        };
        open(&path).map(Self::serve).map_err(|cause| LedgerError::Open { path, cause })
    }

    /// Makes every write fail from now on, or succeed again: to rehearse a disk that is full, or
    /// that the system has made read-only.
    ///
    /// # Errors
    /// The ledger is closed.
    #[doc(hidden)]
    pub fn rehearse(&self, failure: DiskFailure) -> Result<(), LedgerError> {
        self.ask(move |connection| {
            let pages: i64 =
                connection.pragma_query_value(None, "page_count", |row| row.get(0)).unwrap_or(1);
            let most = if failure == DiskFailure::Full { pages } else { i64::from(u32::MAX) - 2 };
            connection
                .pragma_update(None, "query_only", failure == DiskFailure::ReadOnly)
                .and_then(|()| {
                    connection.pragma_update_and_check(None, "max_page_count", most, |_| Ok(()))
                })
                .doing("rehearse a failure")
        })
    }

    /// Lets the owning thread do `work` and waits for the result.
    pub(crate) fn ask<T: Send + 'static>(
        &self,
        work: impl FnOnce(&mut Connection) -> Result<T, LedgerError> + Send + 'static,
    ) -> Result<T, LedgerError> {
        self.begin(work).wait()
    }

    /// Lets the owning thread do `work` as soon as it has done what was asked of it before.
    pub(crate) fn begin<T: Send + 'static>(
        &self,
        work: impl FnOnce(&mut Connection) -> Result<T, LedgerError> + Send + 'static,
    ) -> Pending<T> {
        let (answer, answered) = channel();
        let job: Job = Box::new(move |connection| {
            // Nobody waiting any more is no failure of the work.
            let _ = answer.send(work(connection));
        });
        if let Some(jobs) = &self.owner.jobs {
            // A thread that has ended drops the job, which is answered as if the ledger was closed.
            let _ = jobs.send(job);
        }
        Pending { answered, meanwhile: self.meanwhile.clone() }
    }
}

/// Work of the ledger that goes on while something else is done.
#[must_use = "whether it succeeded is not known before it has ended"]
pub struct Pending<T> {
    answered: Receiver<Result<T, LedgerError>>,
    meanwhile: Option<Meanwhile>,
}

impl<T> Pending<T> {
    /// What it came to; none while it goes on.
    #[must_use]
    pub fn ended(&self) -> Option<Result<T, LedgerError>> {
        match self.answered.try_recv() {
            Ok(answer) => Some(answer),
            Err(TryRecvError::Empty) => None,
            Err(TryRecvError::Disconnected) => Some(Err(LedgerError::Closed)),
        }
    }

    /// Waits for what it comes to.
    ///
    /// # Errors
    /// The work failed, or the ledger is closed.
    pub fn wait(self) -> Result<T, LedgerError> {
        if let Some(meanwhile) = &self.meanwhile {
            for _ in 0..MOST_TIMES {
                match self.answered.recv_timeout(BETWEEN) {
                    Err(RecvTimeoutError::Timeout) => meanwhile(),
                    answer => return answer.map_err(|_| LedgerError::Closed)?,
                }
            }
        }
        self.answered.recv().map_err(|_| LedgerError::Closed)?
    }
}

fn connect(path: &Path) -> Result<Connection, LedgerError> {
    let failed = |cause| LedgerError::Open { path: path.into(), cause };
    let needs_a_check = needs_a_check(path);
    let mut connection = Connection::open(path).map_err(failed)?;
    if is_foreign(&connection).map_err(failed)? {
        return Err(LedgerError::Foreign { path: path.into() });
    }
    prepare(&mut connection, needs_a_check).map_err(failed).and_then(|found| {
        if found > VERSION {
            return Err(LedgerError::TooNew { path: path.into(), found, known: VERSION });
        }
        Ok(connection)
    })
}

/// Whether a database is some other program's: it has tables, and none of a ledger's.
fn is_foreign(connection: &Connection) -> Result<bool, rusqlite::Error> {
    connection.busy_timeout(BUSY)?;
    connection.query_row(
        "SELECT count(*) > 0 AND count(*) FILTER (WHERE name IN ('card', 'climb', 'trial')) < 3
         FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'",
        [],
        |row| row.get(0),
    )
}

/// Whether every page of a ledger should be looked at: always while that takes no time, and where
/// it was not closed properly, which a journal left behind tells.
fn needs_a_check(path: &Path) -> bool {
    const SMALL: u64 = 32 << 20;
    let size = |path: &Path| fs::metadata(path).map_or(0, |file| file.len());
    let mut journal = path.as_os_str().to_owned();
    journal.push("-wal");
    size(path) <= SMALL || size(Path::new(&journal)) > 0
}

fn prepare(connection: &mut Connection, needs_a_check: bool) -> Result<i64, rusqlite::Error> {
    connection.busy_timeout(BUSY)?;
    // Every commit is on disk before the call returns: safety rests on it.
    connection.pragma_update(None, "journal_mode", "WAL")?;
    connection.pragma_update(None, "synchronous", "FULL")?;
    connection.pragma_update(None, "foreign_keys", true)?;
    let sound: String = if needs_a_check {
        connection.pragma_query_value(None, "quick_check", |row| row.get(0))?
    } else {
        "ok".into()
    };
    if sound != "ok" {
        let code = rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_CORRUPT);
        return Err(rusqlite::Error::SqliteFailure(code, Some(sound)));
    }
    migrate(connection)
}

fn is_corrupt(error: &rusqlite::Error) -> bool {
    use rusqlite::ErrorCode::{DatabaseCorrupt, NotADatabase};
    matches!(error.sqlite_error_code(), Some(DatabaseCorrupt | NotADatabase))
}

/// Renames a ledger that cannot be read, with its journal, to a name not yet taken.
fn set_aside(path: &Path) -> std::io::Result<PathBuf> {
    let name = |suffix: &str, count: u32| {
        let mut name = path.as_os_str().to_owned();
        name.push(format!(".unreadable-{count}{suffix}"));
        PathBuf::from(name)
    };
    let count = (1..).find(|count| !name("", *count).exists()).unwrap_or(u32::MAX);
    fs::rename(path, name("", count))?;
    for suffix in ["-wal", "-shm"] {
        let mut journal = path.as_os_str().to_owned();
        journal.push(suffix);
        if Path::new(&journal).exists() {
            fs::rename(&journal, name(suffix, count))?;
        }
    }
    Ok(name("", count))
}

/// Seconds since 1970, by the machine's clock: for showing only, never for measuring.
pub(crate) fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |span| span.as_secs() as i64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"this is no ledger at all, and long enough to be looked at by anybody".as_slice())]
    #[case(b"SQLite format 3\0 but then nothing that makes sense follows in here".as_slice())]
    fn a_corrupt_ledger_is_set_aside_and_a_new_one_begun(#[case] content: &[u8]) {
        let temporary = tempfile::tempdir().unwrap();
        let dir = DataDir::new(temporary.path());
        for round in 1..=2 {
            fs::write(dir.ledger(), content).unwrap();
            let opened = Ledger::open(&dir).unwrap();
            let (aside, _) = opened.set_aside.unwrap();
            assert_eq!(fs::read(&aside).unwrap(), content, "nothing is lost");
            assert!(aside.to_string_lossy().ends_with(&format!("unreadable-{round}")));
            assert!(opened.ledger.climbs().unwrap().is_empty());
        }
    }

    #[test]
    fn a_ledger_of_a_newer_version_is_refused_and_left_alone() {
        let temporary = tempfile::tempdir().unwrap();
        let dir = DataDir::new(temporary.path());
        Connection::open(dir.ledger()).unwrap().pragma_update(None, "user_version", 99).unwrap();
        let error = Ledger::open(&dir).err().unwrap().to_string();
        assert!(error.contains("version 99") && error.contains("newer Yard Step"), "{error}");
    }

    #[test]
    fn another_programs_database_is_refused_and_left_alone() {
        let temporary = tempfile::tempdir().unwrap();
        let dir = DataDir::new(temporary.path());
        let theirs = Connection::open(dir.ledger()).unwrap();
        theirs.execute_batch("CREATE TABLE recipe (name TEXT)").unwrap();
        drop(theirs);
        let before = fs::read(dir.ledger()).unwrap();
        let error = Ledger::open(&dir).err().unwrap().to_string();
        assert!(error.contains("is not a ledger of Yard Step"), "{error}");
        assert_eq!(fs::read(dir.ledger()).unwrap(), before);
    }

    #[test]
    fn a_directory_that_cannot_be_made_is_named() {
        let temporary = tempfile::tempdir().unwrap();
        let file = temporary.path().join("file");
        fs::write(&file, "").unwrap();
        let error = Ledger::open(&DataDir::new(file.join("below"))).err().unwrap().to_string();
        assert!(error.contains("file/below") && error.contains("--data-dir"), "{error}");
    }

    #[test]
    fn several_processes_may_work_in_a_directory_but_none_while_it_is_moved_away() {
        let temporary = tempfile::tempdir().unwrap();
        let dir = DataDir::new(temporary.path());
        let inside = [dir.enter().unwrap(), dir.enter().unwrap()];
        assert!(matches!(dir.lock(), Err(LedgerError::Busy { .. })));
        drop(inside);
        let lock = dir.lock().unwrap();
        assert!(matches!(dir.enter(), Err(LedgerError::Busy { .. })));
        drop(lock);
        assert!(dir.enter().is_ok());
    }

    #[test]
    fn something_may_be_done_while_an_answer_is_waited_for_but_not_for_ever() {
        let temporary = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&DataDir::new(temporary.path())).unwrap().ledger;
        let (done, heard) = channel();
        let ledger = ledger.with_meanwhile(Some(Arc::new(move || done.send(()).unwrap())));
        // What is waited for comes once nothing has been done for a while.
        let longest = BETWEEN * 10;
        let times = ledger.ask(move |_| {
            let mut times = 0;
            while heard.recv_timeout(longest).is_ok() {
                times += 1;
            }
            Ok(times)
        });
        assert_eq!(times.unwrap(), MOST_TIMES);
    }

    #[test]
    fn every_commit_reaches_the_disk() {
        let temporary = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&DataDir::new(temporary.path())).unwrap().ledger;
        let (mode, synchronous): (String, i64) = ledger
            .ask(|connection| {
                let mode = connection.pragma_query_value(None, "journal_mode", |row| row.get(0));
                let level = connection.pragma_query_value(None, "synchronous", |row| row.get(0));
                Ok((mode.unwrap(), level.unwrap()))
            })
            .unwrap();
        assert_eq!((mode.as_str(), synchronous), ("wal", 2), "2 is FULL: fsync at every commit");
    }
}
