//! The stages of a climb: what each proposes, what it found, and what it keeps.
//!
//! | file | stages |
//! |---|---|
//! | `baseline` | baseline |
//! | `power` | power |
//! | `edge` | core, memory; and the order of the stages |
//! | `together` | together |
//! | `undervolt` | max-clock, undervolt-clock, undervolt-quiet, balanced |
//! | `rounds` | window, timing, memory-for-core |
//!
//! Everything is read off the trials made, so that a resumed climb, a mark of the user or a wish in
//! between needs no special care.

pub(in crate::climb) mod baseline;
pub(in crate::climb) mod edge;
pub(in crate::climb) mod power;
pub(in crate::climb) mod rounds;
#[cfg(test)]
mod tests;
pub(in crate::climb) mod together;
pub(in crate::climb) mod undervolt;
