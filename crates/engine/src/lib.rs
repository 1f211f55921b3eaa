//! The engine: carries out what a climb proposes and writes down what comes of it.
//!
//! ```text
//!   Climb::next ──► intent (ledger, fsync) ──► apply ──► read back ──► load and watch
//!        ▲                                                                  │
//!        └──── TrialEnded ◄── outcome (ledger) ◄── verdict ◄────────────────┘
//! ```
//!
//! The card, its load and the guard are processes of their own where the card can be reached from
//! outside: what any of them does, and however any of them ends, the others go on.
//!
//! ```text
//!   engine ── socket ──► card (slot) ◄── socket ── load ── lines ──► engine
//!      └── lines ──► guard ── socket ──► card, once the engine is gone
//! ```
//!
//! [`Engine`] does one trial at a time and is driven directly by the headless climb; [`Session`]
//! puts it on a thread of its own, takes [`Command`]s and publishes a [`Snapshot`] to draw.

mod air;
mod apply;
mod card_keeper;
mod carry_out;
mod ending;
mod engine;
mod error;
mod everyday;
mod first_sight;
mod free_run;
mod free_view;
mod guard;
mod held_card;
mod holding;
mod in_step;
mod keeping;
pub mod load;
mod lock;
mod logging;
mod overseer;
mod pace;
mod profile_run;
mod profiles;
mod proving;
mod rack;
mod restart;
mod rig;
mod roles;
mod session;
mod snapshot;
mod trial;
mod view;

pub use carry_out::Step;
pub use engine::{Engine, Unfinished};
pub use error::EngineError;
pub use everyday::{Everyday, Stretch};
pub use free_run::{Driver, FreeRun, FreeStart, Hand};
pub use free_view::{Figure, FigureChange, FreeEnd, FreeView, SegmentView};
pub use guard::{Guard, Post, stand};
pub use holding::safety_ceilings;
pub use keeping::{KeepWhat, KeepWish, KeptFan};
pub use load::{Load, Loads};
pub use lock::{CardLock, LockError, is_alive};
pub use logging::{LOG_FILE, log_trial, pass_log_on, set_log_file};
pub use overseer::{LiveRun, Overseer, Steer};
pub use pace::{Pace, Pacer};
pub use profile_run::{Harm, ProfileRun};
pub use profiles::{Candidate, ProfileView, SoakWhat, risk_of};
pub use proving::{MEASURED, SoakWish};
pub use rack::{Opener, Rack};
pub use restart::Restart;
pub use rig::Rig;
pub use roles::LoadRoles;
pub use session::{Command, Session};
pub use trial::TICK;
pub use view::{
    Activity, AirView, ByLoad, CeilingView, ClimbSummary, ClimbView, EdgeFound, Found, InStepView,
    MachineView, Mark, MarkKind, NextView, Picture, RackCard, RunView, RunsView, Snapshot,
    SpoiltPicture, StageStanding, StageView,
};
pub use yard_step_card::NotBack;
