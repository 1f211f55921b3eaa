//! What a card is, what it offers, and what it holds.
//!
//! ```text
//!   description: identity, offers with their ranges, sensors, limits
//!        │ clamps, compares
//!   settings: one set of values ──► boldness: which of two asks more of the card
//!   memory_rate: actual, effective and per second
//! ```

pub(crate) mod boldness;
pub(crate) mod description;
pub(crate) mod memory_rate;
pub(crate) mod settings;
