//! One frame of a load, as pixels.

/// A picture of `width` × `height` pixels, `0x00RRGGBB` each, row by row from the top.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Frame {
    /// Pixels in a row.
    pub width: usize,
    /// Rows.
    pub height: usize,
    /// All pixels; `width * height` of them.
    pub pixels: Vec<u32>,
}

impl Frame {
    /// A black frame.
    #[must_use]
    pub fn black(width: usize, height: usize) -> Self {
        Self { width, height, pixels: vec![0; width * height] }
    }
}
