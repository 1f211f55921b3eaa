//! The stress scenes on a graphics card.
//!
//! ```text
//!   GpuRun ── frame n ──► draw ──► verify on the card, as often as the frame is heavy ──► counts
//!      │                   │                                                                │
//!      │                   └── now and then, and where anything counted: the whole frame ◄──┘
//!      └─► sluice besides: patterns over the memory, verified and written anew
//! ```
//!
//! The shaders are the scenes' own pictures in integers, so that every card must give the bits that the processor gives
//! ([`yard_step_scenes`]): there is nothing to be recorded, and no rounding to be allowed for. A frame has ten times as many
//! pixels to each side as the same scene on a stand-in, of which it has every tenth in common.
//!
//! Vulkan is loaded when a card is opened. Where there is none, that is an error like any other.

mod adapter;
mod calibration;
mod canvas;
mod cross_check;
mod run;
mod shaders;

pub use adapter::{AdapterChoice, GpuAdapter, adapters};
pub use calibration::Calibration;
pub use canvas::{Canvas, Counts, FrameOrder};
pub use run::{GpuFrame, GpuRun};

use thiserror::Error;

/// Pixels of a frame on a card for one of the same scene's on a stand-in, to each side.
pub const ENLARGED: usize = 10;

/// Why a card does not draw.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum GpuError {
    /// There is no Vulkan, or none for this card.
    #[error(
        "no Vulkan device at {address}; there are: {known}. Install the card's Vulkan driver (on Debian: mesa-vulkan-drivers)"
    )]
    NoDevice {
        /// Address of the card on the bus, or "software".
        address: String,
        /// The devices that there are.
        known: String,
    },
    /// The device cannot be opened.
    #[error("the Vulkan device cannot be opened: {0}")]
    NotOpened(String),
    /// The card dropped the load.
    #[error("device lost")]
    Lost,
    /// It does not answer.
    #[error("the card did not finish a frame within {seconds} s")]
    Hung {
        /// How long it was waited for.
        seconds: u64,
    },
    /// There is not enough memory.
    #[error("the card has no memory left for the scene")]
    OutOfMemory,
}
