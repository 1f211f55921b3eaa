//! What stands around the card: room, power supply, what was changed there, and what should be in order before the first
//! change.

pub(crate) mod changes;
pub(crate) mod connectors;
pub(crate) mod memory;
pub(crate) mod prerequisites;
pub(crate) mod room;
pub(crate) mod supply;
