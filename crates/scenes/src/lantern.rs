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

/// What colour frame `number` has at each place of each row.
pub(crate) fn rows(number: u64) -> impl Fn(i32) -> Row {
    let number = number as i32;
    let lights = lanterns(number);
    let ridges = Ridges::at(number);
    move |y| {
        // Ripples take the mirrored row up and down by so much.
        const RIPPLE: i32 = 16;
        let (seen, within) = if y < SHORE { (y, REACH) } else { (mirrored(y), REACH + RIPPLE) };
        let near = lights.iter().filter(|light| (seen - light.y).abs() <= within);
        Row { y, number, lights: near.copied().collect(), ridges }
    }
}

/// A row of the picture, with the lanterns whose light reaches it.
pub(crate) struct Row {
    y: i32,
    number: i32,
    lights: Vec<Light>,
    ridges: Ridges,
}

impl Row {
    pub(crate) fn at(&self, x: i32) -> Colour {
        let (lights, ridges) = (&self.lights, &self.ridges);
        if self.y < SHORE {
            air(x, self.y, lights, ridges)
        } else {
            water(x, self.y, self.number, lights, ridges)
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
    let seen = air(x + ripple * depth / 700, mirrored(y) + ripple / 8, lights, ridges);
    let sheen = if hash((x / 24 + number / 6) as u32, (y / 16) as u32, 5).is_multiple_of(23) {
        14
    } else {
        0
    };
    [seen[0] * 5 / 8 + sheen, seen[1] * 5 / 8 + 4 + sheen, seen[2] * 5 / 8 + 12 + sheen]
}
