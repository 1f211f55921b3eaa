//! What a card is given to do, and what came back.
//!
//! ```text
//!   workload (demand, frames) ──► card ──► frame ──► artifact: what is wrong in it
//!        │                                   └─────► patch: the wrong pixels, packed
//!        └──► pass: once through a scene, scored; told: what a program says of its own run
//! ```

pub(crate) mod artifact;
pub(crate) mod frame;
pub(crate) mod pass;
pub(crate) mod patch;
pub(crate) mod told;
pub(crate) mod workload;

/// Name of what a card does for its user's own programs while no load of a climb runs.
pub const EVERYDAY: &str = "everyday";
/// Name of the load that is all scenes in turn.
pub(crate) const MIXTURE: &str = "medley";
