//! What a card is given to do, and what came back.
//!
//! ```text
//!   workload (demand, frames) ──► card ──► frame ──► artifact: what is wrong in it
//!        │                                   └─────► patch: the wrong pixels, packed
//!        └──► pass: once through a scene, scored
//! ```

pub(crate) mod artifact;
pub(crate) mod frame;
pub(crate) mod pass;
pub(crate) mod patch;
pub(crate) mod workload;
