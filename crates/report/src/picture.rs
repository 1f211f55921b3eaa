//! Frames as a PNG picture, side by side.

use png::{BitDepth, ColorType, Encoder};
use yard_step_core::Frame;

use crate::ReportError;

/// Pixels of the picture for each pixel of a frame, each way.
const SCALE: usize = 4;
/// Pixels between two frames.
const GAP: usize = 8;

/// A PNG of frames of one size, side by side, each pixel four times as large, with texts to be kept
/// beside them (keyword and text, of the Latin alphabet).
///
/// # Errors
/// The picture cannot be encoded: it has no pixels, or too many.
pub fn png_of(frames: &[&Frame], texts: &[(&str, String)]) -> Result<Vec<u8>, ReportError> {
    let failed = |cause: png::EncodingError| ReportError::Picture { cause: cause.to_string() };
    let height = frames.iter().map(|frame| frame.height).max().unwrap_or(0) * SCALE;
    let width = frames.iter().map(|frame| frame.width * SCALE).sum::<usize>()
        + GAP * frames.len().saturating_sub(1);
    let mut bytes = vec![0x20; width * height * 3];
    let mut left = 0;
    for frame in frames {
        for y in 0..frame.height * SCALE {
            for x in 0..frame.width * SCALE {
                let [_, r, g, b] = frame.pixels[y / SCALE * frame.width + x / SCALE].to_be_bytes();
                let at = (y * width + left + x) * 3;
                bytes[at..at + 3].copy_from_slice(&[r, g, b]);
            }
        }
        left += frame.width * SCALE + GAP;
    }
    let mut file = Vec::new();
    let mut encoder = Encoder::new(&mut file, width as u32, height as u32);
    encoder.set_color(ColorType::Rgb);
    encoder.set_depth(BitDepth::Eight);
    for (keyword, text) in texts {
        encoder.add_text_chunk((*keyword).to_owned(), text.clone()).map_err(failed)?;
    }
    let mut writer = encoder.write_header().map_err(failed)?;
    writer.write_image_data(&bytes).map_err(failed)?;
    writer.finish().map_err(failed)?;
    Ok(file)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_come_back_side_by_side_with_what_was_said_of_them() {
        let one = Frame { width: 2, height: 1, pixels: vec![0x00ff_0000, 0x0000_00ff] };
        let other = Frame::black(2, 1);
        let file = png_of(&[&one, &other], &[("Title", "trial 7".into())]).unwrap();
        let mut reader = png::Decoder::new(file.as_slice()).read_info().unwrap();
        let mut pixels = vec![0; reader.output_buffer_size()];
        let info = reader.next_frame(&mut pixels).unwrap();
        assert_eq!((info.width, info.height), (2 * 4 + 8 + 2 * 4, 4));
        assert_eq!((&pixels[..3], &pixels[12..15]), (&[255, 0, 0][..], &[0, 0, 255][..]));
        assert_eq!(pixels[16 * 3..17 * 3], [0, 0, 0], "the second frame after a gap");
        assert_eq!(reader.info().uncompressed_latin1_text[0].text, "trial 7");
    }

    #[test]
    fn nothing_is_no_picture() {
        assert!(png_of(&[], &[]).is_err());
    }
}
