//! Everything tried.

pub(crate) mod browser;
pub(crate) mod draw;
pub(crate) mod keys;
pub(crate) mod state;

pub(crate) use draw::{draw, draw_typing, line_at};
