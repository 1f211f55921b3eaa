//! Why a limit table is not taken.

use thiserror::Error;

/// Version of the documents with limit tables that are read and written.
pub const TABLE_VERSION: u32 = 1;

/// Why a table is not taken.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TableError {
    /// It is another kind of document.
    #[error("it is not a limit table but \"{0}\"")]
    Format(String),
    /// It is of a version that this program does not know.
    #[error("it is of version {0}, and this Yard Step reads version {TABLE_VERSION}")]
    Version(u32),
    /// Its checksum is another.
    #[error(
        "its checksum is {stated}, and that of its fields is {real}: it was changed or damaged"
    )]
    Checksum {
        /// The one that it states.
        stated: String,
        /// The one of its fields.
        real: String,
    },
    /// It holds what no table can hold.
    #[error("{0}")]
    Odd(String),
    /// It is for another card.
    #[error("it is for another card: {what} is {theirs} there and {ours} here")]
    OtherCard {
        /// What differs.
        what: &'static str,
        /// What it is in the table.
        theirs: String,
        /// What it is on the card.
        ours: String,
    },
}
