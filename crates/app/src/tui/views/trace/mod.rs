//! Everything that was measured, over time.

pub(crate) mod draw;
pub(crate) mod keys;
pub(crate) mod sheet;
pub(crate) mod state;

pub(crate) use draw::{column_share, draw, share_at};
