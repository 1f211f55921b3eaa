//! How large a frame is, and how long a scene is before it begins again.

use std::fmt;

/// Pixels in a row of a checked frame.
pub const FRAME_WIDTH: usize = 128;
/// Rows of a checked frame.
pub const FRAME_HEIGHT: usize = 72;
/// Frames in one pass; after it, a scene begins again.
pub const PASS_FRAMES: u64 = 480;
/// Frames in each of the four sections of a pass.
pub const SECTION_FRAMES: u64 = PASS_FRAMES / 4;

/// Pixels of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FrameSize {
    /// Pixels in a row.
    pub width: usize,
    /// Rows.
    pub height: usize,
}

impl FrameSize {
    /// The size of a scene that names none.
    pub const USUAL: Self = Self { width: FRAME_WIDTH, height: FRAME_HEIGHT };
    /// The sizes a scene can be drawn in, the smallest first.
    pub const ALL: [Self; 4] = [
        Self { width: 96, height: 54 },
        Self::USUAL,
        Self { width: 160, height: 90 },
        Self { width: 192, height: 108 },
    ];

    /// Pixels in a row, and rows.
    #[must_use]
    pub const fn sides(self) -> (usize, usize) {
        (self.width, self.height)
    }

    /// Place among [`ALL`](Self::ALL).
    pub(crate) fn place(self) -> usize {
        Self::ALL.iter().position(|size| *size == self).unwrap_or(1)
    }

    /// Pixels, against those of [`USUAL`](Self::USUAL).
    pub(crate) fn pixels(self) -> f64 {
        (self.width * self.height) as f64 / (FRAME_WIDTH * FRAME_HEIGHT) as f64
    }
}

impl fmt::Display for FrameSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}x{}", self.width, self.height)
    }
}
