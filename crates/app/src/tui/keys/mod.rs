//! What can be done, when it applies, and which keys do it.

pub mod action;
pub(crate) mod binding;
pub(crate) mod global;
pub(crate) mod moment;
pub(crate) mod table;
