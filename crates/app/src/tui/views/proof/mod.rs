//! Proof: settings under many loads, what that proves, and what would prove more.

mod chart;
pub(crate) mod draw;
pub(crate) mod keys;
pub mod state;

pub(crate) use draw::draw;
