//! Stress scenes whose every frame is known to the bit, and the checker that holds a card to it.
//!
//! ```text
//!   Scene ── frame n ──► reference ───────────────┐
//!     │                                           ▼
//!     └─► a card draws frame n ──► drawn ──► check(drawn, reference) ──► wrong pixels
//!                                                                            │
//!                               kind, place, suggested domain ◄── classify ◄─┘
//! ```
//!
//! A frame is a pure function of scene, frame number and size, in integer arithmetic alone: any
//! processor and any graphics card must give the same bits, so one differing bit is a fault and
//! never a matter of rounding.

mod check;
mod classify;
mod doldrums;
mod kiln;
mod lantern;
mod loom;
mod paint;
mod pass;
mod run;
mod scene;
mod sized;
mod sluice;
mod squall;

pub use check::{Check, MOST_PLACES, WrongPixel, check};
pub use classify::classify;
pub use pass::{FRAME_HEIGHT, FRAME_WIDTH, FrameSize, PASS_FRAMES, SECTION_FRAMES};
pub use run::{SceneRun, UncheckedRun, look_at, reference};
pub use scene::{Scene, UnknownScene};
pub use sized::{SizedScene, section_of, sections_of};
