//! The views, a file each: where things lie, and how they are drawn from a snapshot.

pub(crate) mod artifacts;
pub(crate) mod climb;
pub(crate) mod ledger;
pub(crate) mod profiles;
pub(crate) mod shape;
pub(crate) mod survey;
pub(crate) mod trace;
pub(crate) mod weigh;
