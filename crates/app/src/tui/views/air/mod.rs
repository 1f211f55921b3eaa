//! Fans, noise and heat.

pub(crate) mod chart;
pub(crate) mod draw;
pub(crate) mod keys;
pub(crate) mod sheet;
pub(crate) mod state;

pub(crate) use draw::{at, draw};
