//! `lantern`: paper lanterns rise from a lake between hills, and the water gives them back.
//!
//! All coordinates are in sixteenths of a pixel of a 128 × 72 picture, whatever the canvas' size;
//! every motion goes round a whole number of times in a pass, so that the scene loops.

use yard_step_core::Frame;

use crate::scene::PASS_FRAMES;

const WIDTH: i32 = 128 * 16;
const HEIGHT: i32 = 72 * 16;
/// Height of the waterline.
const SHORE: i32 = 50 * 16;
const LANTERNS: u32 = 14;
/// Distance at which the largest lantern's glow has fallen to nothing.
const REACH: i32 = 540;

/// Share of the chip at work, 0 to 1, through the four parts of a pass: the quiet lake, the first
/// lanterns, the full sky, the drift away.
pub(crate) fn activity(number: u64) -> f64 {
    const PARTS: [f64; 4] = [0.93, 0.97, 1.0, 0.95];
    let length = PASS_FRAMES / PARTS.len() as u64;
    let part = PARTS[(number / length) as usize % PARTS.len()];
    // A slow swell inside each part: 0 at its ends, 1 in the middle.
    let swell = f64::from(wave((number % length) as i32, length as i32)) / 256.0;
    part - 0.02 + 0.03 * swell
}

pub(crate) fn draw(number: u64, canvas: &mut Frame) {
    let lights = lanterns(number as i32);
    let ridges = Ridges::at(number as i32);
    let (width, height) = (canvas.width, canvas.height);
    for row in 0..height {
        let y = scaled(row, height, HEIGHT);
        for column in 0..width {
            let x = scaled(column, width, WIDTH);
            let colour = if y < SHORE {
                air(x, y, &lights, &ridges)
            } else {
                water(x, y, number as i32, &lights, &ridges)
            };
            canvas.pixels[row * width + column] = pack(colour);
        }
    }
}

fn scaled(index: usize, count: usize, extent: i32) -> i32 {
    (index as i64 * i64::from(extent) / count.max(1) as i64) as i32
}

type Colour = [i32; 3];

struct Light {
    x: i32,
    y: i32,
    size: i32,
    colour: Colour,
}

fn lanterns(number: i32) -> Vec<Light> {
    (0..LANTERNS)
        .map(|index| {
            let dice = hash(index, 0x51, 7);
            let rounds = 1 + (dice & 1) as i32;
            let span = SHORE + 320;
            let phase = (dice >> 3) as i32 & 0x3fff;
            let risen = (number * rounds * span / PASS_FRAMES as i32 + phase) % span;
            let sway =
                wave(number * (1 + (dice >> 20 & 1) as i32) + (dice >> 8 & 0xff) as i32, 240) - 128;
            let warmth = (dice >> 24) as i32 & 63;
            Light {
                x: ((dice >> 5) as i32 & 0x7ff) % WIDTH + sway / 3,
                y: SHORE - 24 - risen + 160,
                size: 380 + (dice >> 17 & 0xff) as i32 * 2,
                colour: [255, 150 + warmth, 60 + warmth / 2],
            }
        })
        .collect()
}

struct Ridges {
    drift: i32,
}

impl Ridges {
    fn at(number: i32) -> Self {
        Self { drift: number * 512 / PASS_FRAMES as i32 }
    }

    /// Height of the far and the near ridge above the shore at `x`.
    fn heights(&self, x: i32) -> (i32, i32) {
        let far = ridge(x + self.drift * 2, 320, 3) / 2 + 90;
        let near = ridge(x + self.drift * 4, 210, 9) / 3 + 8;
        (far, near)
    }
}

/// Smooth noise that repeats every 2048: value noise with straight lines between lattice points.
fn ridge(x: i32, height: i32, salt: u32) -> i32 {
    let cell = x.rem_euclid(WIDTH) / 128;
    let along = x.rem_euclid(128);
    let lattice = |cell: i32| (hash(cell.rem_euclid(16) as u32, salt, 3) & 0xff) as i32;
    (lattice(cell) * (128 - along) + lattice(cell + 1) * along) / 128 * height / 256
}

fn air(x: i32, y: i32, lights: &[Light], ridges: &Ridges) -> Colour {
    let (far, near) = ridges.heights(x);
    let above = SHORE - y;
    let mut colour = if above < near {
        [10, 16, 22]
    } else if above < far {
        [24, 32, 52]
    } else {
        sky(x, y)
    };
    for light in lights {
        shine(&mut colour, x - light.x, y - light.y, light);
    }
    colour
}

fn sky(x: i32, y: i32) -> Colour {
    let depth = y * 256 / SHORE;
    let dusk = depth * depth / 256;
    let star = hash((x / 16) as u32, (y / 16) as u32, 11);
    let twinkle =
        if star.is_multiple_of(149) && depth < 170 { 120 + (star >> 20 & 63) as i32 } else { 0 };
    [
        14 + dusk * 120 / 256 + twinkle,
        18 + dusk * 62 / 256 + twinkle,
        46 + dusk * 40 / 256 + twinkle,
    ]
}

/// Adds a lantern's light at a distance: a paper body a little taller than wide, and a glow that
/// falls with the square of the distance.
fn shine(colour: &mut Colour, dx: i32, dy: i32, light: &Light) {
    // Farther away the integer glow is zero in every channel.
    if dx.abs().max(dy.abs()) > REACH {
        return;
    }
    let body = dx * dx * 3 + dy * dy * 2;
    let distance = (dx * dx + dy * dy) / 64 + 6;
    let glow = if body < light.size * 16 { 250 } else { (light.size * 5 / distance).min(200) };
    for (channel, hue) in colour.iter_mut().zip(light.colour) {
        *channel += hue * glow / 256;
    }
}

fn water(x: i32, y: i32, number: i32, lights: &[Light], ridges: &Ridges) -> Colour {
    let depth = y - SHORE;
    let ripple = wave(depth * 3 + number * 10, 160) - 128;
    let mirrored = SHORE - depth * 2 - 8;
    let seen = air(x + ripple * depth / 700, mirrored + ripple / 8, lights, ridges);
    let sheen = if hash((x / 24 + number / 6) as u32, (y / 16) as u32, 5).is_multiple_of(23) {
        14
    } else {
        0
    };
    [seen[0] * 5 / 8 + sheen, seen[1] * 5 / 8 + 4 + sheen, seen[2] * 5 / 8 + 12 + sheen]
}

fn pack(colour: Colour) -> u32 {
    let byte = |value: i32| value.clamp(0, 255) as u32;
    byte(colour[0]) << 16 | byte(colour[1]) << 8 | byte(colour[2])
}

/// A parabola wave: 0 at the ends of each period, 256 in its middle, smooth in between.
fn wave(at: i32, period: i32) -> i32 {
    let place = at.rem_euclid(period) * 1024 / period;
    place * (1024 - place) / 1024
}

/// Integer hash by multiply and xor-shift.
fn hash(a: u32, b: u32, salt: u32) -> u32 {
    let mut h =
        a.wrapping_mul(0x9e37_79b1) ^ b.wrapping_mul(0x85eb_ca77) ^ salt.wrapping_mul(0xc2b2_ae3d);
    h ^= h >> 15;
    h = h.wrapping_mul(0x2c1b_3c6d);
    h ^= h >> 12;
    h = h.wrapping_mul(0x297a_2d39);
    h ^ h >> 15
}
