//! `sluice`: water rushing through the gates of a lock, over a bed of cobbles. Every pixel is
//! fetched from somewhere else: most of the work is memory traffic.

use crate::paint::{Colour, HEIGHT, WIDTH, hash, lit, mix, noise, travelled, wave};

/// Height of the sill that the water falls over.
const SILL: i32 = 26 * 16;
const REPEAT: i32 = 32;
const GATES: i32 = 4;
const GATE_WIDE: i32 = WIDTH / GATES;

/// What colour frame `number` has at each place.
pub(crate) fn picture(number: u64) -> impl Fn(i32, i32) -> Colour {
    let number = number as i32;
    move |x, y| {
        if is_post(x) && y < SILL + 9 * 16 {
            return post(x, y);
        }
        if y < SILL { above(x, y, number) } else { below(x, y, number) }
    }
}

fn is_post(x: i32) -> bool {
    (x + 3 * 16).rem_euclid(GATE_WIDE) < 6 * 16
}

fn post(x: i32, y: i32) -> Colour {
    let across = (x + 3 * 16).rem_euclid(GATE_WIDE);
    let plank = hash((y / 80) as u32, (x / GATE_WIDE) as u32, 3) as i32 & 15;
    lit([110 + plank, 84 + plank, 58], 120 + wave(across, 6 * 16) / 2)
}

/// How far a gate is open, 0 to 256; they move at different paces.
fn opened(gate: i32, number: i32) -> i32 {
    64 + wave(number * (1 + gate % 3) + gate * 90, 480) * 3 / 4
}

/// Sky, bank and the gates, with the still water behind them.
fn above(x: i32, y: i32, number: i32) -> Colour {
    let gate = x / GATE_WIDE;
    let lifted = opened(gate, number) * 9 * 16 / 256;
    if y > 8 * 16 - lifted && y < SILL - lifted {
        let board = (y + lifted) / 64;
        let grain = hash(board as u32, (x / 48) as u32, 9) as i32 & 15;
        let joint = (y + lifted) % 64 < 8;
        return if joint { [26, 24, 20] } else { [66 + grain, 58 + grain, 44] };
    }
    if y < 8 * 16 {
        let cloud = noise(x + wave(number, 480), y * 2, 256, 8, 14);
        return mix([120, 156, 178], [206, 214, 210], cloud);
    }
    sheet(x, y, number, 2)
}

/// The water: what is seen at a place is fetched from a place moved by two waves, out of a picture
/// of foam and cobbles that scrolls by.
fn below(x: i32, y: i32, number: i32) -> Colour {
    let depth = y - SILL;
    // Water under an open gate runs white.
    let rush = rush_at(x, number) - depth / 8;
    let dx = wave(y * 2 + number * 24, 320) / 6 - 21;
    let dy = wave(x * 2 + number * 16, 512) / 8 - 16;
    let bed = cobbles(x + dx, y + dy);
    let water = mix(bed, [28, 96, 108], 150 + depth / 16);
    let foam = sheet(x + dx, y, number, 8);
    mix(water, foam, (rush * 3 / 4).clamp(24, 236))
}

/// How hard the water runs at `x`: as the gate above lets it, and in between from one to the other.
fn rush_at(x: i32, number: i32) -> i32 {
    let from_middle = x - GATE_WIDE / 2;
    let gate = from_middle.div_euclid(GATE_WIDE);
    let along = from_middle.rem_euclid(GATE_WIDE);
    let at = |gate: i32| opened(gate.clamp(0, GATES - 1), number);
    (at(gate) * (GATE_WIDE - along) + at(gate + 1) * along) / GATE_WIDE
}

/// Streaks of foam that scroll down `rounds` times a pass.
fn sheet(x: i32, y: i32, number: i32, rounds: i32) -> Colour {
    let run = travelled(number, rounds, REPEAT * 64);
    let fine = noise(x * 4, y - run, 64, REPEAT, 5);
    let broad = noise(x * 2, y - run / 2, 128, REPEAT / 2, 6);
    let white = (fine * 2 + broad - 300).clamp(0, 256);
    mix([22, 74, 92], [232, 244, 240], white)
}

fn cobbles(x: i32, y: i32) -> Colour {
    const SIZE: i32 = 7 * 16;
    let row = y.div_euclid(SIZE);
    let shifted = x + row.rem_euclid(2) * SIZE / 2;
    let dice = hash(shifted.div_euclid(SIZE) as u32, row as u32, 77) as i32;
    let (dx, dy) = (shifted.rem_euclid(SIZE) - SIZE / 2, y.rem_euclid(SIZE) - SIZE / 2);
    let round = (dx * dx + dy * dy) * 256 / (SIZE * SIZE / 4);
    let shade = 70 + (dice & 63) - round / 8 + (HEIGHT - y) / 40;
    [shade, shade - 6, shade - 14 + (dice >> 8 & 15)]
}
