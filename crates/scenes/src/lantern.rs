//! `lantern`: paper lanterns rise from a lake between hills, and the water gives them back.
//!
//! Every motion goes round a whole number of times in a pass, so that the scene loops.

use std::sync::LazyLock;

use crate::paint::{Colour, WIDTH, hash, ridge, wave};
use crate::pass::PASS_FRAMES;

/// Height of the waterline.
const SHORE: i32 = 50 * 16;
const LANTERNS: u32 = 14;
/// Distance beyond which the largest lantern's glow is nothing in every channel: 5 · 890 divided by
/// d² / 64 + 6 is below 2 from there on, and a 256th of that times 255 is below 1.
const REACH: i32 = 378;

/// Frame `number`, a row at a time: a lantern's light reaches only part of each.
pub(crate) struct Lake {
    number: i32,
    lights: Vec<Light>,
    ridges: Ridges,
}

impl Lake {
    pub(crate) fn at(number: u64) -> Self {
        let number = number as i32;
        Self { number, lights: lanterns(number), ridges: Ridges::at(number) }
    }

    /// Fills a row at `y` with the colours at places from left to right.
    pub(crate) fn fill(&self, y: i32, places: &[i32], row: &mut [Colour]) {
        if y < SHORE {
            return self.fill_air(0, y, places, row);
        }
        let depth = y - SHORE;
        let ripple = wave(depth * 3 + self.number * 10, 160) - 128;
        self.fill_air(ripple * depth / 700, mirrored(y) + ripple / 8, places, row);
        for (colour, x) in row.iter_mut().zip(places) {
            *colour = given_back(*colour, *x, y, self.number);
        }
    }

    /// The air at `y`, with everything `aside` to the left.
    fn fill_air(&self, aside: i32, y: i32, places: &[i32], row: &mut [Colour]) {
        for (colour, x) in row.iter_mut().zip(places) {
            *colour = backdrop(x + aside, y, &self.ridges);
        }
        for light in self.lights.iter().filter(|light| (y - light.y).abs() <= REACH) {
            let centre = light.x - aside;
            let begin = places.partition_point(|x| *x < centre - REACH);
            let end = places.partition_point(|x| *x <= centre + REACH);
            for (colour, x) in row[begin..end].iter_mut().zip(&places[begin..end]) {
                shine(colour, x - centre, y - light.y, light);
            }
        }
    }
}

/// The row of the air that a row of the water gives back when it is flat.
fn mirrored(y: i32) -> i32 {
    SHORE - (y - SHORE) * 2 - 8
}

#[derive(Clone, Copy)]
struct Light {
    x: i32,
    y: i32,
    size: i32,
    colour: Colour,
    glow: &'static Glow,
}

/// How brightly a lantern shines, 0 to 200, by the square of the distance in 64ths.
type Glow = [u8; (2 * REACH * REACH / 64 + 1) as usize];

/// The glow of a lantern of a size: a division for each pixel and lantern would be most of what a frame
/// costs.
fn glow_of(size: i32) -> Glow {
    std::array::from_fn(|squared| (size * 5 / (squared as i32 + 6)).min(200) as u8)
}

fn lanterns(number: i32) -> Vec<Light> {
    static GLOWS: LazyLock<Vec<Glow>> = LazyLock::new(|| {
        (0..LANTERNS).map(|index| glow_of(lantern_size(hash(index, 0x51, 7)))).collect()
    });
    (0..LANTERNS)
        .zip(GLOWS.iter())
        .map(|(index, glow)| {
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
                size: lantern_size(dice),
                colour: [255, 150 + warmth, 60 + warmth / 2],
                glow,
            }
        })
        .collect()
}

/// The size of the lantern for which the dice fell so.
fn lantern_size(dice: u32) -> i32 {
    380 + (dice >> 17 & 0xff) as i32 * 2
}

#[derive(Clone, Copy)]
struct Ridges {
    drift: i32,
}

impl Ridges {
    fn at(number: i32) -> Self {
        Self { drift: number * 512 / PASS_FRAMES as i32 }
    }

    /// Height of the far and the near ridge above the shore at `x`.
    fn heights(&self, x: i32) -> (i32, i32) {
        // The ridges only drift: their outlines are worked out once.
        static OUTLINES: LazyLock<Vec<(i32, i32)>> = LazyLock::new(|| {
            (0..WIDTH).map(|x| (ridge(x, 320, 3) / 2 + 90, ridge(x, 210, 9) / 3 + 8)).collect()
        });
        let at = |x: i32| OUTLINES[x.rem_euclid(WIDTH) as usize];
        (at(x + self.drift * 2).0, at(x + self.drift * 4).1)
    }
}

/// The air without the lanterns.
fn backdrop(x: i32, y: i32, ridges: &Ridges) -> Colour {
    let (far, near) = ridges.heights(x);
    let above = SHORE - y;
    if above < near {
        [10, 16, 22]
    } else if above < far {
        [24, 32, 52]
    } else {
        sky(x, y)
    }
}

fn sky(x: i32, y: i32) -> Colour {
    let depth = y * 256 / SHORE;
    let dusk = depth * depth / 256;
    let twinkle = if depth < 170 { star(x / 16, y / 16) } else { 0 };
    [
        14 + dusk * 120 / 256 + twinkle,
        18 + dusk * 62 / 256 + twinkle,
        46 + dusk * 40 / 256 + twinkle,
    ]
}

/// How brightly a star shines in a cell of the sky; 0 where there is none.
fn star(column: i32, row: i32) -> i32 {
    let dice = hash(column as u32, row as u32, 11);
    if dice.is_multiple_of(149) { 120 + (dice >> 20 & 63) as i32 } else { 0 }
}

/// Adds a lantern's light at a distance: a paper body a little taller than wide, and a glow that
/// falls with the square of the distance.
fn shine(colour: &mut Colour, dx: i32, dy: i32, light: &Light) {
    let body = dx * dx * 3 + dy * dy * 2;
    let squared = (dx * dx + dy * dy) / 64;
    let glow = if body < light.size * 16 { 250 } else { i32::from(light.glow[squared as usize]) };
    for (channel, hue) in colour.iter_mut().zip(light.colour) {
        *channel += hue * glow / 256;
    }
}

/// What the water gives back of the air's colour.
fn given_back(air: Colour, x: i32, y: i32, number: i32) -> Colour {
    let glitters = hash((x / 24 + number / 6) as u32, (y / 16) as u32, 5).is_multiple_of(23);
    let sheen = if glitters { 14 } else { 0 };
    [air[0] * 5 / 8 + sheen, air[1] * 5 / 8 + 4 + sheen, air[2] * 5 / 8 + 12 + sheen]
}
