//! The wrong pixels of a frame, and no others: what is kept of a spoilt frame, since its reference
//! can always be drawn again.

use crate::load::frame::Frame;

/// What was drawn where it is not what it should have been.
///
/// ```
/// use yard_step_core::{Frame, Patch};
///
/// let reference = Frame::black(64, 36);
/// let mut drawn = reference.clone();
/// drawn.pixels[100] = 0x00ff_0000;
/// let patch = Patch::between(&drawn, &reference).unwrap();
/// let stored = patch.to_bytes();
/// assert!(stored.len() < 20);
/// assert_eq!(Patch::from_bytes(&stored).unwrap().over(&reference), drawn);
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Patch {
    /// Runs of wrong pixels: place of the first, row by row, and what was drawn.
    runs: Vec<(usize, Vec<u32>)>,
}

impl Patch {
    /// What differs between two frames; none if they are not of one size.
    #[must_use]
    pub fn between(drawn: &Frame, reference: &Frame) -> Option<Self> {
        if (drawn.width, drawn.height) != (reference.width, reference.height) {
            return None;
        }
        let mut runs: Vec<(usize, Vec<u32>)> = Vec::new();
        let pairs = drawn.pixels.iter().zip(&reference.pixels).enumerate();
        for (place, (&pixel, _)) in pairs.filter(|(_, (d, r))| d != r) {
            match runs.last_mut() {
                Some((first, run)) if *first + run.len() == place => run.push(pixel),
                _ => runs.push((place, vec![pixel])),
            }
        }
        Some(Self { runs })
    }

    /// The frame as it was drawn. What lies outside the reference is left out.
    #[must_use]
    pub fn over(&self, reference: &Frame) -> Frame {
        let mut frame = reference.clone();
        for (first, run) in &self.runs {
            for (offset, pixel) in run.iter().enumerate() {
                if let Some(place) = frame.pixels.get_mut(first + offset) {
                    *place = *pixel;
                }
            }
        }
        frame
    }

    /// Wrong pixels in it.
    #[must_use]
    pub fn len(&self) -> usize {
        self.runs.iter().map(|(_, run)| run.len()).sum()
    }

    /// Whether nothing differs.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.runs.is_empty()
    }

    /// The patch as bytes: for each run the pixels passed over since the last one and its length,
    /// both in seven-bit groups, the lowest first, with the top bit set in all but the last; then
    /// red, green and blue of each pixel.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = Vec::new();
        let mut end = 0;
        for (first, run) in &self.runs {
            put_number(&mut bytes, first - end);
            put_number(&mut bytes, run.len());
            for pixel in run {
                let [_, r, g, b] = pixel.to_be_bytes();
                bytes.extend([r, g, b]);
            }
            end = first + run.len();
        }
        bytes
    }

    /// Reads a patch back.
    ///
    /// # Errors
    /// What is wrong with bytes that are cut or garbled.
    pub fn from_bytes(mut bytes: &[u8]) -> Result<Self, String> {
        let mut runs = Vec::new();
        let mut end = 0_usize;
        while !bytes.is_empty() {
            let skipped = take_number(&mut bytes)?;
            let length = take_number(&mut bytes)?;
            let (pixels, rest) = length
                .checked_mul(3)
                .and_then(|count| bytes.split_at_checked(count))
                .ok_or("a patch is cut short")?;
            let run: Vec<u32> = pixels
                .chunks_exact(3)
                .map(|p| u32::from(p[0]) << 16 | u32::from(p[1]) << 8 | u32::from(p[2]))
                .collect();
            let first = end.checked_add(skipped).ok_or("a patch goes beyond any frame")?;
            end = first.checked_add(length).ok_or("a patch goes beyond any frame")?;
            runs.push((first, run));
            bytes = rest;
        }
        Ok(Self { runs })
    }
}

fn put_number(bytes: &mut Vec<u8>, mut number: usize) {
    while number >= 0x80 {
        bytes.push(number as u8 | 0x80);
        number >>= 7;
    }
    bytes.push(number as u8);
}

fn take_number(bytes: &mut &[u8]) -> Result<usize, String> {
    let mut number = 0_usize;
    for group in 0..4 {
        let (byte, rest) = bytes.split_first().ok_or("a patch is cut short")?;
        *bytes = rest;
        number |= usize::from(byte & 0x7f) << (7 * group);
        if byte & 0x80 == 0 {
            return Ok(number);
        }
    }
    Err("a patch has a number that is too large".into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn reference() -> Frame {
        let pixels = (0..64 * 40).map(|i: u32| i.wrapping_mul(2_654_435_761) >> 8).collect();
        Frame { width: 64, height: 40, pixels }
    }

    #[rstest]
    #[case::none(&[])]
    #[case::the_first(&[0])]
    #[case::the_last(&[64 * 40 - 1])]
    #[case::some_in_a_row(&[5, 6, 7, 300, 301, 2_000])]
    fn a_frame_comes_back_from_its_patch(#[case] wrong: &[usize]) {
        let mut drawn = reference();
        wrong.iter().for_each(|place| drawn.pixels[*place] ^= 0x00ff_00ff);
        let patch = Patch::between(&drawn, &reference()).unwrap();
        assert_eq!((patch.len(), patch.is_empty()), (wrong.len(), wrong.is_empty()));
        let back = Patch::from_bytes(&patch.to_bytes()).unwrap();
        assert_eq!(back, patch);
        assert_eq!(back.over(&reference()), drawn);
    }

    #[test]
    fn a_frame_wrong_throughout_takes_three_bytes_a_pixel() {
        let drawn = Frame { pixels: vec![0x0012_3456; 64 * 40], ..reference() };
        let bytes = Patch::between(&drawn, &reference()).unwrap().to_bytes();
        assert!(bytes.len() <= 64 * 40 * 3 + 4, "{}", bytes.len());
    }

    #[rstest]
    #[case(&[0x80])]
    #[case(&[0, 5, 1, 2, 3])]
    #[case(&[0xff, 0xff, 0xff, 0xff, 0xff, 1])]
    fn garbled_bytes_are_an_error_and_no_panic(#[case] bytes: &[u8]) {
        assert!(Patch::from_bytes(bytes).is_err());
    }

    #[test]
    fn frames_of_two_sizes_have_no_patch_and_a_foreign_one_changes_nothing_outside() {
        assert_eq!(Patch::between(&Frame::black(2, 2), &reference()), None);
        let drawn = Frame { pixels: vec![1; 64 * 40], ..reference() };
        let patch = Patch::between(&drawn, &reference()).unwrap();
        assert_eq!(patch.over(&Frame::black(4, 4)).pixels, vec![1; 16]);
    }
}
