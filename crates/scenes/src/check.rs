//! Comparing a drawn frame with its reference.

use yard_step_core::Frame;

/// How many wrong pixels of one frame are kept with their place; all are counted.
pub const MOST_PLACES: usize = 1 << 16;

/// One pixel that is not what it should be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WrongPixel {
    /// Column, from the left.
    pub x: usize,
    /// Row, from the top.
    pub y: usize,
    /// What was drawn, `0x00RRGGBB`.
    pub drawn: u32,
    /// What it should have been.
    pub expected: u32,
}

/// The result of a comparison.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Check {
    /// Number of wrong pixels.
    pub wrong_pixels: u64,
    /// The first [`MOST_PLACES`] of them, row by row.
    pub places: Vec<WrongPixel>,
}

impl Check {
    /// Whether every pixel is right.
    #[must_use]
    pub fn is_exact(&self) -> bool {
        self.wrong_pixels == 0
    }
}

/// Compares `drawn` with `reference`, pixel by pixel, to the bit. In a frame of another size every
/// pixel of the reference is wrong, and no places are named.
///
/// Whole rows are compared at the speed of memory; only rows that differ are looked into.
#[must_use]
pub fn check(drawn: &Frame, reference: &Frame) -> Check {
    if (drawn.width, drawn.height) != (reference.width, reference.height) {
        return Check { wrong_pixels: reference.pixels.len() as u64, places: Vec::new() };
    }
    // Nearly every frame is right.
    if drawn.pixels == reference.pixels {
        return Check::default();
    }
    let mut result = Check::default();
    let width = reference.width.max(1);
    let rows = drawn.pixels.chunks_exact(width).zip(reference.pixels.chunks_exact(width));
    for (y, (drawn, expected)) in rows.enumerate().filter(|(_, (d, e))| d != e) {
        for (x, (&drawn, &expected)) in drawn.iter().zip(expected).enumerate() {
            if drawn != expected {
                result.wrong_pixels += 1;
                if result.places.len() < MOST_PLACES {
                    result.places.push(WrongPixel { x, y, drawn, expected });
                }
            }
        }
    }
    result
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Scene;
    use rstest::rstest;

    fn reference() -> Frame {
        let mut frame = Frame::black(128, 72);
        Scene::Lantern.draw(40, &mut frame);
        frame
    }

    #[test]
    fn an_equal_frame_is_exact() {
        assert!(check(&reference(), &reference()).is_exact());
        assert!(check(&Frame::black(0, 0), &Frame::black(0, 0)).is_exact());
    }

    #[rstest]
    #[case::first_pixel(0, 0)]
    #[case::last_pixel(127, 71)]
    #[case::somewhere(64, 30)]
    fn one_bit_in_one_pixel_is_found_with_its_place(#[case] x: usize, #[case] y: usize) {
        for bit in 0..24 {
            let mut drawn = reference();
            drawn.pixels[y * 128 + x] ^= 1 << bit;
            let found = check(&drawn, &reference());
            assert_eq!(found.wrong_pixels, 1);
            assert_eq!((found.places[0].x, found.places[0].y), (x, y));
            assert_eq!(found.places[0].drawn ^ found.places[0].expected, 1 << bit);
        }
    }

    #[test]
    fn every_wrong_pixel_counts_though_not_every_place_is_kept() {
        let reference = Frame::black(640, 360);
        let drawn = Frame { pixels: vec![1; 640 * 360], ..reference.clone() };
        let found = check(&drawn, &reference);
        assert_eq!((found.wrong_pixels, found.places.len()), (640 * 360, MOST_PLACES));
    }

    #[test]
    fn a_frame_of_another_size_is_wrong_throughout() {
        let found = check(&Frame::black(4, 4), &reference());
        assert_eq!((found.wrong_pixels, found.places.len()), (128 * 72, 0));
    }
}
