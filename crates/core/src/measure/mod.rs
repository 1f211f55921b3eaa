//! What was seen of a card under load.
//!
//! ```text
//!   sample ──► limiter: what held the clock back ──┐
//!     ├──► clock_line, plateau                      ├──► monitor ──► Seen
//!     └──► trace ──► strip: a channel over time     ┘
//! ```

pub(crate) mod clock_line;
pub(crate) mod limiter;
pub(crate) mod moment;
pub(crate) mod monitor;
pub(crate) mod plateau;
pub(crate) mod sample;
pub(crate) mod step_change;
pub(crate) mod strip;
pub(crate) mod trace;
