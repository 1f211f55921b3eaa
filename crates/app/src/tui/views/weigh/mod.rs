//! Work against what it costs.

pub(crate) mod draw;
pub(crate) mod frontier;
pub(crate) mod keys;
pub(crate) mod state;
mod variants;

pub(crate) use draw::{draw, point_at};
