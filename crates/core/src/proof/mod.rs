//! Proof: how sure one may be that settings hold, and what to run next to be surer.
//!
//! ```text
//!   runs at the settings ──► Exposure: hours and faults by kind of load ──► Assurance: bounds, chances
//!   Soak: what the user wants ───────────────┴──► the next run: what teaches most for its time
//! ```

pub(crate) mod assurance;
pub(crate) mod check;
pub(crate) mod exposure;
pub(crate) mod kind;
pub(crate) mod soak;
