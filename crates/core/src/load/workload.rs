//! What a load asks of a card, and the meeting point between a card that draws frames and a load
//! that knows what they should look like.

use std::sync::Arc;

use crate::load::artifact::Artifact;
use crate::load::frame::Frame;
use crate::load::patch::Patch;
use crate::units::{Percent, Seconds};

/// What a scene asks of a card at one moment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Demand {
    /// Share of the chip's transistors that switch each clock, 0 to 1: what drives the power.
    pub activity: f64,
    /// Share of the work that waits for memory rather than the core, 0 to 1.
    pub memory_share: f64,
    /// Work units in one frame.
    pub work_per_frame: f64,
    /// Share of time in which there is work at all.
    pub load: Percent,
    /// How much of the work goes through the longest paths of the chip, 0 to 1; 0.5 is a game-like
    /// mix.
    pub geometry: f64,
    /// How busy the memory bus is, 0 to 1; 0.5 is a game-like mix.
    pub traffic: f64,
}

impl Default for Demand {
    /// A full, steady, game-like load.
    fn default() -> Self {
        Self {
            activity: 0.96,
            memory_share: 0.2,
            work_per_frame: 50.0,
            load: Percent(99.0),
            geometry: 0.5,
            traffic: 0.5,
        }
    }
}

/// A frame that was drawn and compared with its reference.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct CheckedFrame {
    /// Number of the frame, from the beginning of the run.
    pub number: u64,
    /// When it was finished, since the load was begun.
    pub at: Seconds,
    /// The section of the load it lies in, counted from 0.
    pub section: usize,
    /// Number of wrong pixels.
    pub wrong_pixels: u64,
    /// What they look like.
    pub artifacts: Vec<Artifact>,
    /// What was drawn where it is wrong; none for a right frame, or where it is not known.
    pub patch: Option<Arc<Patch>>,
}

/// A load as a card sees it: work to draw, and somebody who looks at what was drawn.
pub trait Workload {
    /// What the frame now due asks of the card.
    fn demand(&self) -> Demand;

    /// Pixels in a row of the frame now due, and its rows; none of either where it has no picture.
    fn size(&self) -> (usize, usize);

    /// Draws the frame now due, as an unfailing card would, into `canvas`. Asked for only where the card is about to
    /// draw something else.
    fn draw(&mut self, canvas: &mut Frame);

    /// Hands over the frame now due, finished `at` that time since the load was begun, and moves on to the next: as it
    /// was drawn, or none where it came out as an unfailing card draws it, to the bit.
    fn present(&mut self, drawn: Option<&Frame>, at: Seconds);
}
