//! How large a frame is, and how long a scene is before it begins again.

/// Pixels in a row of a checked frame.
pub const FRAME_WIDTH: usize = 128;
/// Rows of a checked frame.
pub const FRAME_HEIGHT: usize = 72;
/// Frames in one pass; after it, a scene begins again.
pub const PASS_FRAMES: u64 = 480;
/// Frames in each of the four sections of a pass.
pub const SECTION_FRAMES: u64 = PASS_FRAMES / 4;
