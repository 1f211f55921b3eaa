//! `squall`: rain, breakers and lightning around a lighthouse. The load jumps between almost
//! nothing and everything, at several periods: what holds while it is steady may fail at a change.

use crate::paint::{Colour, HEIGHT, WIDTH, hash, lit, mix, noise, travelled, wave};
use crate::pass::SECTION_FRAMES;

const SEA: i32 = 48 * 16;
const TOWER: i32 = 30 * 16;

/// Frames for which the load stays as it is, in each section; none for the last, in which it
/// changes by chance.
const HOLDS: [u64; 4] = [30, 10, 3, 0];

/// Whether frame `number` asks for everything the card has.
pub(crate) fn is_gust(number: u64) -> bool {
    let hold = HOLDS[(number / SECTION_FRAMES) as usize % HOLDS.len()];
    match hold {
        0 => hash((number / 2) as u32, 7, 99) & 1 == 0,
        hold => (number / hold).is_multiple_of(2),
    }
}

/// What colour frame `number` has at each place.
pub(crate) fn picture(number: u64) -> impl Fn(i32, i32) -> Colour {
    let gust = is_gust(number);
    let number = number as i32;
    let flash = if gust { (hash(number as u32 / 3, 1, 5) & 127) as i32 } else { 0 };
    move |x, y| {
        let mut colour = match tower(x, y) {
            Some(colour) => lit(colour, 150 + flash),
            None if y < SEA - crest(x, number, 0) => sky(x, y, number, flash),
            None => sea(x, y, number, flash),
        };
        shine(&mut colour, x, y, number);
        rain(&mut colour, x, y, number, gust);
        colour
    }
}

fn sky(x: i32, y: i32, number: i32, flash: i32) -> Colour {
    let drift = travelled(number, 4, WIDTH);
    let cloud = (noise(x + drift, y, 256, 8, 3) * 2 + noise(x + drift * 2, y, 128, 16, 4)) / 3;
    let colour = mix([14, 18, 28], [74, 82, 96], cloud);
    if flash > 90 && is_bolt(x, y, number / 3) {
        return [248, 246, 255];
    }
    [colour[0] + flash, colour[1] + flash, colour[2] + flash * 9 / 8]
}

/// Whether a place is on the bolt of lightning: a line that jumps aside every few pixels.
fn is_bolt(x: i32, y: i32, strike: i32) -> bool {
    let start = (hash(strike as u32, 2, 6) & 1_023) as i32 + 600;
    let aside: i32 =
        (0..=y / 64).map(|step| (hash(strike as u32, step as u32, 12) & 127) as i32 - 64).sum();
    (x - start - aside).abs() < 14
}

/// Height of the sea above its mean at `x`, for the wave in row `row`.
fn crest(x: i32, number: i32, row: i32) -> i32 {
    let run = travelled(number, 6 - row, WIDTH);
    wave(x + run + row * 170, 512) / 3 + wave(x * 2 - run, 683 - row * 40) / 5 - 60
}

fn sea(x: i32, y: i32, number: i32, flash: i32) -> Colour {
    // The nearest wave in front of the place decides.
    let row = (0..5).rev().find(|row| y > SEA + row * 110 - crest(x, number, *row)).unwrap_or(0);
    let below = y - (SEA + row * 110 - crest(x, number, row));
    let deep = mix([62, 96, 104], [12, 30, 44], below * 2);
    let foam = noise(x * 2 + travelled(number, 4, WIDTH), y * 3, 64, 64, 9);
    let colour = if below < 20 + foam / 6 { mix(deep, [214, 226, 226], foam) } else { deep };
    lit(colour, 200 + flash / 2 + row * 10)
}

fn tower(x: i32, y: i32) -> Option<Colour> {
    let dx = (x - TOWER).abs();
    let foot = SEA + 60;
    if (20 * 16..foot).contains(&y) && dx < 56 + (y - 20 * 16) / 10 {
        let band = (y - 20 * 16) / 96 % 2 == 0;
        let round = 256 - dx * 2;
        return Some(lit(if band { [186, 62, 54] } else { [222, 218, 206] }, round));
    }
    if (15 * 16..20 * 16).contains(&y) && dx < 44 {
        return Some([255, 238, 170]);
    }
    let rock = foot - 40 + dx / 3;
    (dx < 330 && y > rock && y < HEIGHT).then_some([34, 32, 34])
}

/// The beam of the lighthouse, which turns eight times a pass.
fn shine(colour: &mut Colour, x: i32, y: i32, number: i32) {
    let turn = number * 8 % 480;
    let reach = wave(turn * 2, 480) * 8 - 1_024;
    let (dx, dy) = (x - TOWER, y - 17 * 16);
    let towards = if turn < 240 { dx } else { -dx };
    if towards <= 40 || reach <= -900 {
        return;
    }
    let wide = towards / 6 + 12;
    if dy.abs() < wide {
        let light = (90 - towards / 24).max(0) * (wide - dy.abs()) / wide;
        *colour = [colour[0] + light, colour[1] + light, colour[2] + light * 3 / 4];
    }
}

fn rain(colour: &mut Colour, x: i32, y: i32, number: i32, gust: bool) {
    let slant = x * 2 + y / 2 + travelled(number, 24, WIDTH * 2);
    let fallen = y - travelled(number, 40, HEIGHT);
    let dice = hash((slant / 24) as u32, fallen.div_euclid(160).rem_euclid(288) as u32, 55);
    if dice % 100 < if gust { 16 } else { 7 } && fallen.rem_euclid(160) < 90 {
        *colour = mix(*colour, [168, 184, 198], 90);
    }
}
