//! The views, a folder each: what each knows of itself, and how it is drawn from a snapshot.

pub mod air;
pub mod artifacts;
pub mod climb;
pub mod ledger;
pub mod profiles;
pub mod proof;
pub mod shape;
pub(crate) mod sheet;
pub mod survey;
pub mod trace;
pub mod weigh;
