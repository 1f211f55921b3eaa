//! What was gained: two trials side by side, and the frontier of work against what it costs.

pub mod compare;
pub(crate) mod frontier;
pub(crate) mod notes;
mod scatter;
pub(crate) mod variants;
