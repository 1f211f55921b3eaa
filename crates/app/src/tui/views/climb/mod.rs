//! The staircase, the live run and the next step.

pub(crate) mod draw;
pub(crate) mod facts;
pub(crate) mod keys;
pub(crate) mod map;
pub(crate) mod staircase;

pub(crate) use draw::{draw, trial_at};
