//! The engine: carries out what a climb proposes and writes down what comes of it.
//!
//! ```text
//!   Climb::next ──► intent (ledger, fsync) ──► apply ──► read back ──► load and watch
//!        ▲                                                                  │
//!        └──── TrialEnded ◄── outcome (ledger) ◄── verdict ◄────────────────┘
//! ```
//!
//! [`Engine`] does one trial at a time and is driven directly by the headless climb; [`Session`]
//! puts it on a thread of its own, takes [`Command`]s and publishes a [`Snapshot`] to draw.

mod apply;
mod engine;
mod error;
mod holding;
mod in_step;
mod pace;
mod rack;
mod session;
mod snapshot;
mod trial;
mod view;

pub use engine::{Engine, Unfinished};
pub use error::EngineError;
pub use pace::{Pace, Pacer};
pub use rack::{Opener, Rack};
pub use session::{Command, Session};
pub use trial::{LiveRun, Overseer, Steer, TICK};
pub use view::{
    Activity, ClimbSummary, InStepView, Mark, MarkKind, NextView, Picture, RackCard, RunView,
    Snapshot,
};
