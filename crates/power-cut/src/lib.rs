//! A file system that forgets whatever was not synced when the power is cut.
//!
//! ```text
//!   a program ──► mount (FUSE) ──► Log: every change, every sync ──► what is left after a cut at any of them
//! ```
//!
//! It keeps to what journaling file systems promise and to nothing more: a sync of a file makes its content last, and with it
//! every name that was made, moved or taken away before. All else is gone.

mod log;
mod mount;

pub use log::{Log, Number, ROOT};
pub use mount::{Mounted, mount};
