//! The ledger: everything tried, on disk before anything can go wrong.
//!
//! ```text
//!   begin_trial ──► intent row, fsync ──► (the card is touched only now)
//!   add_measured ─► column blobs of up to 600 samples, and the wrong pixels of spoilt frames
//!   end_trial   ──► what was taken and seen, verdict, events: one transaction
//! ```
//!
//! A trial without an outcome is one the tool or the machine did not survive. One thread owns the
//! connection; [`Ledger`] is a handle that any thread may use.

mod air;
mod blob;
mod browse;
mod climbs;
mod codec;
mod dating;
mod error;
mod experience;
mod facts;
mod handle;
mod profile_document;
mod profiles;
mod proof;
mod samples;
mod schema;
mod search;
mod spoilt;
mod tidy;
mod trials;
mod weigh;

pub use browse::{Choices, ClimbLine, Filter, Order, SortBy, TrialDetail, TrialLine};
pub use climbs::{ClimbEntry, ClimbState};
pub use error::LedgerError;
pub use experience::KindExperience;
#[doc(hidden)]
pub use handle::DiskFailure;
pub use handle::{DataDir, Ledger, Meanwhile, Opened, Pending};
pub use profile_document::{CardPart, DocumentError, EvidencePart, ProfileDocument};
pub use proof::Check;
pub use search::{Figure, Relation, Search, SearchError};
pub use tidy::Emptied;
pub use trials::{Event, Intent, Measured, TrialEntry};
