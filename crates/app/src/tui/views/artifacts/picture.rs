//! A frame of the scene in half-block cells: two pixels a cell, one above the other. Wrong pixels
//! are marked so that they are seen at any scale.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Style};
use yard_step_engine::Picture;

use crate::tui::theme::{Depth, Role, Theme};

const MARK: Color = Color::Rgb(255, 64, 200);

/// The largest area of the frame's proportions inside `area`, in its middle. A cell is two pixels
/// high.
pub(crate) fn fitted(area: Rect, (width, height): (usize, usize)) -> Rect {
    if width == 0 || height == 0 {
        return Rect { width: 0, height: 0, ..area };
    }
    let (wide, high) = (usize::from(area.width), usize::from(area.height) * 2);
    let (wide, high) = if wide * height <= high * width {
        (wide, wide * height / width)
    } else {
        (high * width / height, high)
    };
    let (wide, high) = (wide as u16, (high / 2) as u16);
    Rect {
        x: area.x + (area.width - wide) / 2,
        y: area.y + (area.height - high) / 2,
        width: wide,
        height: high,
    }
}

/// Whether the wrong pixels of a picture are marked: where much is wrong, marks would hide what it
/// looks like.
pub(crate) fn is_marked(picture: &Picture) -> bool {
    picture.wrong_pixels * 4 <= picture.frame.pixels.len() as u64
}

/// Draws the picture and returns where it lies.
pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, picture: &Picture) -> Rect {
    let frame = &picture.frame;
    let place = fitted(area, (frame.width, frame.height));
    let (columns, rows) = (usize::from(place.width), usize::from(place.height) * 2);
    if columns == 0 || rows == 0 {
        return place;
    }
    let mut wrong = vec![false; columns * rows];
    let marked = if is_marked(picture) { &picture.wrong[..] } else { &[] };
    for pixel in marked {
        let (x, y) = (pixel.x * columns / frame.width, pixel.y * rows / frame.height);
        wrong[y * columns + x] = true;
    }
    let sample = |column: usize, row: usize| {
        let (x, y) = (column * frame.width / columns, row * frame.height / rows);
        (frame.pixels[y * frame.width + x], wrong[row * columns + column])
    };
    for y in 0..place.height {
        for x in 0..place.width {
            let upper = sample(usize::from(x), usize::from(y) * 2);
            let lower = sample(usize::from(x), usize::from(y) * 2 + 1);
            if let Some(cell) = buffer.cell_mut((place.x + x, place.y + y)) {
                let (symbol, style) = cell_of(theme, upper, lower);
                cell.set_symbol(symbol).set_style(style);
            }
        }
    }
    place
}

fn cell_of(theme: Theme, upper: (u32, bool), lower: (u32, bool)) -> (&'static str, Style) {
    match theme.depth() {
        Depth::True => {
            let colour = |(pixel, wrong): (u32, bool)| {
                if wrong {
                    MARK
                } else {
                    let [_, r, g, b] = pixel.to_be_bytes();
                    Color::Rgb(r, g, b)
                }
            };
            ("▀", Style::new().fg(colour(upper)).bg(colour(lower)))
        }
        _ if upper.1 || lower.1 => ("X", theme.style(Role::Bad)),
        _ => (shade(upper.0, lower.0), theme.style(Role::Dim)),
    }
}

/// A character as dark or bright as two pixels are on average.
fn shade(upper: u32, lower: u32) -> &'static str {
    const SHADES: [&str; 8] = [" ", ".", ":", "-", "=", "+", "*", "#"];
    // Luma of ITU-R BT.601.
    let luma = |pixel: u32| {
        let [_, r, g, b] = pixel.to_be_bytes().map(u32::from);
        (r * 299 + g * 587 + b * 114) / 1_000
    };
    SHADES[((luma(upper) + luma(lower)) / 2 * 8 / 256) as usize]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use std::sync::Arc;
    use yard_step_core::Frame;
    use yard_step_scenes::WrongPixel;

    fn picture(wrong: &[(usize, usize)]) -> Picture {
        let mut frame = Frame::black(8, 4);
        frame.pixels[..8].fill(0x00ff_ffff);
        frame.pixels[8..16].fill(0x00ff_ffff);
        let wrong: Vec<WrongPixel> =
            wrong.iter().map(|(x, y)| WrongPixel { x: *x, y: *y, drawn: 1, expected: 0 }).collect();
        Picture { number: 0, frame: Arc::new(frame), wrong_pixels: wrong.len() as u64, wrong }
    }

    #[test]
    fn each_cell_shows_two_pixels() {
        let mut buffer = Buffer::empty(Rect::new(0, 0, 8, 2));
        draw(&mut buffer, Rect::new(0, 0, 8, 2), Theme::new(Depth::True), &picture(&[(2, 3)]));
        assert_eq!(buffer[(0, 0)].symbol(), "▀");
        assert_eq!(buffer[(0, 0)].fg, Color::Rgb(255, 255, 255));
        assert_eq!(buffer[(0, 1)].bg, Color::Rgb(0, 0, 0));
        assert_eq!(buffer[(2, 1)].bg, MARK, "row 3 is the lower half of the second line");
    }

    #[test]
    fn without_colour_wrong_pixels_are_letters() {
        let theme = Theme::new(Depth::None);
        let lines = drawn(8, 2, |buffer, area| {
            draw(buffer, area, theme, &picture(&[(7, 0)]));
        });
        assert_eq!(lines, ["#######X", ""]);
    }

    #[test]
    fn what_is_wrong_throughout_is_shown_as_it_is() {
        let all: Vec<(usize, usize)> = (0..8).flat_map(|x| (0..4).map(move |y| (x, y))).collect();
        let lines = drawn(8, 2, |buffer, area| {
            draw(buffer, area, Theme::new(Depth::None), &picture(&all));
        });
        assert_eq!(lines, ["########", ""]);
    }

    #[test]
    fn one_wrong_pixel_is_seen_even_when_the_picture_is_small() {
        let mut big = picture(&[]);
        big.frame = Arc::new(Frame::black(1_280, 720));
        big.wrong = vec![WrongPixel { x: 1_279, y: 719, drawn: 1, expected: 0 }];
        let theme = Theme::new(Depth::None);
        let lines = drawn(16, 4, |buffer, area| {
            draw(buffer, area, theme, &big);
        });
        assert_eq!(lines.iter().filter(|line| line.contains('X')).count(), 1);
    }

    #[rstest]
    #[case((160, 50), (64, 36), Rect::new(0, 2, 160, 45))]
    #[case((10, 50), (64, 36), Rect::new(0, 24, 10, 2))]
    #[case((100, 10), (64, 36), Rect::new(32, 0, 35, 10))]
    fn proportions_are_kept(
        #[case] area: (u16, u16),
        #[case] frame: (usize, usize),
        #[case] expected: Rect,
    ) {
        assert_eq!(fitted(Rect::new(0, 0, area.0, area.1), frame), expected);
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD {
            drawn(width, height, |buffer, area| {
                draw(buffer, area, Theme::new(Depth::True), &picture(&[(7, 3)]));
            });
        }
    }
}
