//! One controller per card: a lock that tells who holds it, and since when.
//!
//! The lock itself is the system's (`flock(2)`): it ends with the process that holds it, however
//! that comes about. What the file says is for people, and for noticing that an owner died.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use nix::sys::signal::kill;
use nix::unistd::Pid;
use serde::{Deserialize, Serialize};
use thiserror::Error;
use yard_step_card::file_name;
use yard_step_core::Seconds;

/// How long a holder that is closing is waited for.
const PATIENCE: Duration = Duration::from_millis(1_500);
/// How long the guard of a dead holder is waited for, which has the lock while it puts the card back.
const PATIENCE_WITH_GUARD: Duration = Duration::from_secs(20);

/// Why a card cannot be taken.
#[derive(Debug, Error)]
pub enum LockError {
    /// Another process has it.
    #[error(
        "another Yard Step works on {card}: {owner}. A card has one controller: close that one first."
    )]
    Held {
        /// The card.
        card: String,
        /// Who has it.
        owner: String,
    },
    /// Its last holder died, and the guard that was left takes long.
    #[error(
        "process {process} ended without giving the card {card} back, and its guard is still putting it back. Try again in a minute."
    )]
    PutBack {
        /// The card.
        card: String,
        /// Who had it.
        process: u32,
    },
    /// The file cannot be written.
    #[error("cannot write the lock {path}: {cause}")]
    File {
        /// The file.
        path: PathBuf,
        /// Why.
        cause: std::io::Error,
    },
}

/// Who holds a lock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
struct Owner {
    process: u32,
    /// Seconds since 1970, by the machine's clock.
    since: u64,
    /// Whether its guard knows where the card is to go back to.
    #[serde(default)]
    guarded: bool,
}

impl Owner {
    fn in_words(self, now: u64) -> String {
        let age = self.age(now).unwrap_or_else(|| "a time that cannot be told".into());
        format!("process {}, for {age}", self.process)
    }

    /// How long ago it took the card; `None` where the machine's clock was set back since.
    fn age(self, now: u64) -> Option<String> {
        now.checked_sub(self.since).map(|age| Seconds(age as f64).in_words())
    }
}

/// Ending of the file that tells of a trial without an outcome in the ledger.
const UNRECORDED: &str = "unrecorded";

/// A trial whose outcome could not be written down.
#[derive(Debug, PartialEq, Serialize, Deserialize)]
struct Unrecorded {
    ledger: PathBuf,
    trial: i64,
}

/// A lock that is held. It is given up when this is dropped.
#[derive(Debug)]
pub struct CardLock {
    file: File,
    path: PathBuf,
}

impl CardLock {
    /// Where the lock of a card lies.
    #[must_use]
    pub fn path(directory: &Path, card: &str) -> PathBuf {
        directory.join(format!("{}.lock", file_name(card)))
    }

    /// Takes the lock of a card; tells of an owner who died with it.
    ///
    /// # Errors
    /// Another process has it, or the file cannot be written.
    pub fn take(directory: &Path, card: &str) -> Result<(Self, Option<String>), LockError> {
        let path = Self::path(directory, card);
        let failed = |cause| LockError::File { path: path.clone(), cause };
        fs::create_dir_all(directory).map_err(failed)?;
        let mut file = open(&path).map_err(failed)?;
        let begun = Instant::now();
        while !try_lock(&file).map_err(failed)? {
            let refused = refusal(card, read_owner(&mut file));
            let patience = match refused {
                LockError::PutBack { .. } => PATIENCE_WITH_GUARD,
                _ => PATIENCE,
            };
            if begun.elapsed() > patience {
                return Err(refused);
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let told = read_owner(&mut file).map(|owner| {
            let ago = owner.age(now()).map_or(String::new(), |age| format!(" {age} ago"));
            format!(
                "Process {} took the card {card}{ago} and ended without giving it back; its lock was taken over.",
                owner.process
            )
        });
        let mut lock = Self { file, path: path.clone() };
        let own = Owner { process: std::process::id(), since: now(), guarded: false };
        lock.write(&serde_json::to_vec(&own).unwrap_or_default()).map_err(failed)?;
        Ok((lock, told))
    }

    /// Takes the lock at `path` if nobody has it, and leaves what it says of an owner who died as
    /// it is, for the next owner to tell. It is given up when the file is closed.
    pub(crate) fn stand_in_for_the_dead(path: &Path) -> Option<File> {
        let file = open(path).ok()?;
        try_lock(&file).unwrap_or(false).then_some(file)
    }

    /// Writes down that a guard of the holder knows where the card is to go back to.
    pub(crate) fn say_guarded(&mut self) {
        let Some(owner) = read_owner(&mut self.file).filter(|owner| !owner.guarded) else { return };
        let owner = Owner { guarded: true, ..owner };
        // Where this cannot be written, a guard of somebody else tries for its minute in vain.
        let _ = self.write(&serde_json::to_vec(&owner).unwrap_or_default());
    }

    /// Whether a process other than `but` holds the lock at `path` and says that its guard knows the
    /// way back. A process that is just dying holds its lock for a moment longer than its pipes.
    pub(crate) fn is_guarded_by_other(path: &Path, but: u32) -> bool {
        let owner = open(path).ok().and_then(|mut file| read_owner(&mut file));
        owner.is_some_and(|owner| owner.guarded && owner.process != but)
    }

    /// Notes beside the lock of the card that a trial ended and its outcome could not be written
    /// down: the next start must not take it for one that took the machine down.
    pub(crate) fn note_unrecorded(&self, ledger: &Path, trial: i64) {
        let note = Unrecorded { ledger: ledger.to_owned(), trial };
        let text = serde_json::to_vec(&note).unwrap_or_default();
        // Where not even this can be written, the trial is taken as machine down.
        let _ = fs::write(self.path.with_extension(UNRECORDED), text);
    }

    /// Whether that was noted of a trial.
    pub(crate) fn is_unrecorded(&self, ledger: &Path, trial: i64) -> bool {
        let text = fs::read(self.path.with_extension(UNRECORDED)).unwrap_or_default();
        let note: Option<Unrecorded> = serde_json::from_slice(&text).ok();
        note.is_some_and(|note| note == Unrecorded { ledger: ledger.to_owned(), trial })
    }

    /// Takes the note away: the trial has an outcome.
    pub(crate) fn forget_unrecorded(&self) {
        let _ = fs::remove_file(self.path.with_extension(UNRECORDED));
    }

    fn write(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        self.file.set_len(0)?;
        self.file.rewind()?;
        self.file.write_all(bytes)
    }
}

impl Drop for CardLock {
    fn drop(&mut self) {
        // A file that cannot be emptied only makes the next owner tell of one who died.
        let _ = self.write(&[]);
    }
}

/// Whether a process of this user is still there.
#[must_use]
pub fn is_alive(process: u32) -> bool {
    i32::try_from(process).is_ok_and(|process| kill(Pid::from_raw(process), None).is_ok())
}

/// What is said to whoever wants a card that is not free, by who has its lock or died with it.
fn refusal(card: &str, owner: Option<Owner>) -> LockError {
    let card = card.to_owned();
    match owner {
        Some(owner) if !is_alive(owner.process) => {
            LockError::PutBack { card, process: owner.process }
        }
        Some(owner) => LockError::Held { card, owner: owner.in_words(now()) },
        None => LockError::Held { card, owner: "owner unknown".into() },
    }
}

fn open(path: &Path) -> std::io::Result<File> {
    OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path)
}

fn try_lock(file: &File) -> std::io::Result<bool> {
    match file.try_lock() {
        Ok(()) => Ok(true),
        Err(TryLockError::WouldBlock) => Ok(false),
        Err(TryLockError::Error(cause)) => Err(cause),
    }
}

fn read_owner(file: &mut File) -> Option<Owner> {
    let mut text = String::new();
    file.rewind().ok()?;
    file.read_to_string(&mut text).ok()?;
    serde_json::from_str(&text).ok()
}

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |span| span.as_secs())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const CARD: &str = "standin:tarn-310#7";

    #[test]
    fn a_card_has_one_controller_and_the_second_is_told_who_and_since_when() {
        let dir = tempfile::tempdir().unwrap();
        let (lock, told) = CardLock::take(dir.path(), CARD).unwrap();
        assert_eq!(told, None);
        let error = CardLock::take(dir.path(), CARD).unwrap_err().to_string();
        let owner = format!("process {}, for ", std::process::id());
        assert!(error.contains(CARD) && error.contains(&owner), "{error}");
        assert!(CardLock::take(dir.path(), "standin:tarn-310#8").is_ok(), "another card is free");
        drop(lock);
        assert_eq!(CardLock::take(dir.path(), CARD).unwrap().1, None, "given back in order");
    }

    #[test]
    fn the_guard_of_a_dead_holder_is_waited_for() {
        let dir = tempfile::tempdir().unwrap();
        let mut held = std::process::Command::new("true").spawn().unwrap();
        held.wait().unwrap();
        let path = CardLock::path(dir.path(), CARD);
        fs::write(&path, format!("{{\"process\":{},\"since\":60}}", held.id())).unwrap();
        let guard = CardLock::stand_in_for_the_dead(&path).unwrap();
        let in_vain = refusal(CARD, read_owner(&mut open(&path).unwrap())).to_string();
        assert!(in_vain.contains("its guard is still putting it back"), "{in_vain}");
        let putting_back = std::thread::spawn(move || {
            std::thread::sleep(PATIENCE + Duration::from_millis(500));
            drop(guard);
        });
        let (_lock, told) = CardLock::take(dir.path(), CARD).unwrap();
        putting_back.join().unwrap();
        assert!(told.unwrap().contains("taken over"));
    }

    #[rstest]
    #[case::long_ago("{\"process\":4711,\"since\":60}", " ago and ended without giving it back;")]
    #[case::after_the_clock_was_set_back(
        "{\"process\":4711,\"since\":99999999999}",
        "Process 4711 took the card standin:tarn-310#7 and ended without giving it back;"
    )]
    fn the_lock_of_a_dead_owner_is_taken_over_and_that_is_said(
        #[case] left: &str,
        #[case] expected: &str,
    ) {
        let dir = tempfile::tempdir().unwrap();
        fs::write(CardLock::path(dir.path(), CARD), left).unwrap();
        let (_lock, told) = CardLock::take(dir.path(), CARD).unwrap();
        let told = told.unwrap();
        assert!(told.starts_with(&format!("Process 4711 took the card {CARD} ")), "{told}");
        assert!(told.contains(expected) && told.contains("taken over"), "{told}");
    }

    #[test]
    fn a_holder_that_is_just_dying_does_not_answer_for_the_card() {
        let dir = tempfile::tempdir().unwrap();
        let (mut lock, _) = CardLock::take(dir.path(), CARD).unwrap();
        let path = CardLock::path(dir.path(), CARD);
        let own = std::process::id();
        assert!(!CardLock::is_guarded_by_other(&path, own + 1), "no guard yet");
        lock.say_guarded();
        assert!(CardLock::is_guarded_by_other(&path, own + 1));
        assert!(!CardLock::is_guarded_by_other(&path, own), "it is the one that dies");
    }

    #[test]
    fn a_garbled_lock_is_no_owner() {
        let dir = tempfile::tempdir().unwrap();
        fs::write(CardLock::path(dir.path(), CARD), "{\"proc").unwrap();
        assert_eq!(CardLock::take(dir.path(), CARD).unwrap().1, None);
    }
}
