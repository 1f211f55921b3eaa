//! Profiles, in Ledger.

pub(crate) mod draw;
pub(crate) mod state;

pub(crate) use draw::{draw, line_at};
