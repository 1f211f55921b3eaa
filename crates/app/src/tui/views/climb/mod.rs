//! The staircase, the live run and the next step; or a free run.

pub(crate) mod draw;
pub(crate) mod facts;
pub(crate) mod free;
pub(crate) mod keys;
pub(crate) mod map;
pub(crate) mod panel;
pub(crate) mod sheet;
pub(crate) mod staircase;
pub(crate) mod state;

pub(crate) use draw::{draw, trial_at};
