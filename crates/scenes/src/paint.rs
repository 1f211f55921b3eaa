//! What the scenes are painted with: a plane of their own, waves, noise and colours, all in
//! integers.
//!
//! The plane is 128 × 72 pixels in sixteenths, whatever the canvas' size. No value comes near the
//! bounds of 32 bits, so that no processor and no graphics card can differ.

use yard_step_core::Frame;

use crate::pass::PASS_FRAMES;

/// Width of the plane.
pub(crate) const WIDTH: i32 = 128 * 16;
/// Height of the plane.
pub(crate) const HEIGHT: i32 = 72 * 16;

/// Red, green and blue; what lies outside 0 to 255 is cut off when a pixel is set.
pub(crate) type Colour = [i32; 3];

/// Fills the canvas with a picture on the plane.
pub(crate) fn paint(canvas: &mut Frame, picture: impl Fn(i32, i32) -> Colour) {
    paint_rows(canvas, |y, places, row| {
        for (colour, x) in row.iter_mut().zip(places) {
            *colour = picture(*x, y);
        }
    });
}

/// The same, for a picture that is worked out a row at a time: at `y`, at places from left to right.
pub(crate) fn paint_rows(canvas: &mut Frame, fill: impl Fn(i32, &[i32], &mut [Colour])) {
    let (width, height) = (canvas.width, canvas.height);
    let places: Vec<i32> = (0..width).map(|column| scaled(column, width, WIDTH)).collect();
    let mut row = vec![Colour::default(); width];
    for (index, pixels) in canvas.pixels.chunks_exact_mut(width.max(1)).enumerate() {
        fill(scaled(index, height, HEIGHT), &places, &mut row);
        for (pixel, colour) in pixels.iter_mut().zip(&row) {
            *pixel = pack(*colour);
        }
    }
}

fn scaled(index: usize, count: usize, extent: i32) -> i32 {
    (index as i64 * i64::from(extent) / count.max(1) as i64) as i32
}

fn pack(colour: Colour) -> u32 {
    let byte = |value: i32| value.clamp(0, 255) as u32;
    byte(colour[0]) << 16 | byte(colour[1]) << 8 | byte(colour[2])
}

/// A colour `share` 256ths of the way from one to another.
pub(crate) fn mix(from: Colour, to: Colour, share: i32) -> Colour {
    let share = share.clamp(0, 256);
    [0, 1, 2].map(|channel| from[channel] + (to[channel] - from[channel]) * share / 256)
}

/// A colour with `amount` 256ths of its brightness.
pub(crate) fn lit(colour: Colour, amount: i32) -> Colour {
    colour.map(|channel| channel * amount / 256)
}

/// How far something has come that goes `rounds` whole times over `span` in a pass.
pub(crate) fn travelled(number: i32, rounds: i32, span: i32) -> i32 {
    number * rounds * span / PASS_FRAMES as i32
}

/// A parabola wave: 0 at the ends of each period, 256 in its middle, smooth in between.
pub(crate) fn wave(at: i32, period: i32) -> i32 {
    let place = at.rem_euclid(period) * 1024 / period;
    place * (1024 - place) / 1024
}

/// Integer hash by multiply and xor-shift.
pub(crate) fn hash(a: u32, b: u32, salt: u32) -> u32 {
    let mut h =
        a.wrapping_mul(0x9e37_79b1) ^ b.wrapping_mul(0x85eb_ca77) ^ salt.wrapping_mul(0xc2b2_ae3d);
    h ^= h >> 15;
    h = h.wrapping_mul(0x2c1b_3c6d);
    h ^= h >> 12;
    h = h.wrapping_mul(0x297a_2d39);
    h ^ h >> 15
}

/// Smooth noise along a line that repeats every [`WIDTH`]: value noise with straight lines between
/// lattice points.
pub(crate) fn ridge(x: i32, height: i32, salt: u32) -> i32 {
    let cell = x.rem_euclid(WIDTH) / 128;
    let along = x.rem_euclid(128);
    let lattice = |cell: i32| (hash(cell.rem_euclid(16) as u32, salt, 3) & 0xff) as i32;
    (lattice(cell) * (128 - along) + lattice(cell + 1) * along) / 128 * height / 256
}

/// Smooth noise on the plane, 0 to 255, in cells of `size`, a power of two. Down the plane it
/// repeats every `repeat` cells and across it every four widths, so that something can scroll for
/// ever.
pub(crate) fn noise(x: i32, y: i32, size: i32, repeat: i32, salt: u32) -> i32 {
    // Shifts and masks, since this is most of what a frame costs: for a power of two they are the
    // division and the remainder that round down.
    let (shift, within) = (size.trailing_zeros(), size - 1);
    let (across, down) = (x & within, y & within);
    let column = |dx: i32| ((x >> shift) + dx) & (4 * WIDTH / size - 1);
    let row = |dy: i32| ((y >> shift) + dy).rem_euclid(repeat);
    let (columns, rows) = ([column(0), column(1)], [row(0), row(1)]);
    let lattice =
        |dx: usize, dy: usize| (hash(columns[dx] as u32, rows[dy] as u32, salt) & 0xff) as i32;
    let along = |dy: usize| (lattice(0, dy) * (size - across) + lattice(1, dy) * across) >> shift;
    (along(0) * (size - down) + along(1) * down) >> shift
}
