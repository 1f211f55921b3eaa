//! The stages about voltage: walks down, and rounds of a few settings.
//!
//! ```text
//!   school (what is held, and at which clock) ──► Walk (how deep, by policy) ──► settings
//!                                                  │ bracket or belief, in mV off
//!   round  (a few candidates, one after another) ──► the best whose gain is one
//! ```
//!
//! Everything is read off the trials made, as in the other stages.

mod depth;
mod rounds;
mod schools;
#[cfg(test)]
mod tests;
mod walk;

pub use depth::Depth;
pub use rounds::RoundReport;
pub(super) use schools::depth_on;
pub use schools::{Measured, SchoolReport};
pub use walk::{Descent, DescentTrial};
