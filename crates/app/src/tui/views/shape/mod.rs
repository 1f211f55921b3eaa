//! Curve, window and voltages.

pub(crate) mod curve;
pub(crate) mod draw;
pub(crate) mod keys;
pub(crate) mod sheet;
pub(crate) mod state;
pub(crate) mod window;

pub(crate) use draw::{at, draw, value_at};
