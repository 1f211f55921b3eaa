//! What is exchanged with others as files, by commands and by the interface alike.

pub(crate) mod chart;
pub(crate) mod page;
pub(crate) mod profile;
pub(crate) mod trace;
