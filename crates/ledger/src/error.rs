//! What can go wrong with the ledger.

use std::path::PathBuf;

use thiserror::Error;

/// A failure of the ledger, naming the operation, the thing, the cause and the way out.
#[derive(Debug, Error)]
pub enum LedgerError {
    /// The data directory cannot be made or written.
    #[error("cannot write the data directory {path}: {cause}. Name another one with --data-dir.")]
    DataDir {
        /// The directory.
        path: PathBuf,
        /// Why.
        cause: std::io::Error,
    },
    /// The ledger cannot be opened.
    #[error("cannot open the ledger {path}: {cause}. Name another directory with --data-dir.")]
    Open {
        /// The file.
        path: PathBuf,
        /// Why.
        cause: rusqlite::Error,
    },
    /// The file is another program's.
    #[error(
        "{path} is a database, but it is not a ledger of Yard Step. Name another directory with --data-dir."
    )]
    Foreign {
        /// The file.
        path: PathBuf,
    },
    /// The ledger is of a newer version.
    #[error(
        "the ledger {path} is of version {found}, and this Yard Step knows versions up to {known}. Use the newer Yard Step that wrote it, or another --data-dir."
    )]
    TooNew {
        /// The file.
        path: PathBuf,
        /// Its version.
        found: i64,
        /// Ours.
        known: i64,
    },
    /// Another Yard Step works with the same ledger.
    #[error(
        "another Yard Step works in {path} now. Close it first, or name another directory with --data-dir."
    )]
    Busy {
        /// The directory.
        path: PathBuf,
    },
    /// A statement failed.
    #[error(
        "cannot {doing} in the ledger: {cause}. Free space on its disk or check its permissions, then start again; what was recorded so far is safe."
    )]
    Statement {
        /// The operation, as a verb.
        doing: &'static str,
        /// Why.
        cause: rusqlite::Error,
    },
    /// Something recorded cannot be understood.
    #[error("{thing} in the ledger cannot be read: {cause}")]
    Content {
        /// What.
        thing: String,
        /// Why.
        cause: String,
    },
    /// What was to be deleted is still needed.
    #[error("{thing} cannot be deleted. {way_out}")]
    InUse {
        /// What.
        thing: String,
        /// How it could be.
        way_out: &'static str,
    },
    /// There is no such climb.
    #[error("there is no climb {asked} in the ledger; {}", known(.climbs))]
    NoClimb {
        /// What was asked for.
        asked: i64,
        /// Those there are.
        climbs: Vec<i64>,
    },
    /// The thread that owns the ledger is gone.
    #[error("the ledger is closed")]
    Closed,
}

fn known(climbs: &[i64]) -> String {
    let numbers: Vec<String> = climbs.iter().map(ToString::to_string).collect();
    match numbers.as_slice() {
        [] => "it holds none yet: make one with `yard-step climb`".into(),
        some => format!("there are: {}", some.join(", ")),
    }
}

/// Gives a failed statement the name of the operation.
pub(crate) trait Doing<T> {
    fn doing(self, doing: &'static str) -> Result<T, LedgerError>;
}

impl<T> Doing<T> for Result<T, rusqlite::Error> {
    fn doing(self, doing: &'static str) -> Result<T, LedgerError> {
        self.map_err(|cause| LedgerError::Statement { doing, cause })
    }
}
