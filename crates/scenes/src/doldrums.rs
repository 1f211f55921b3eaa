//! `doldrums`: a boat without wind on a flat sea. Little to do, and pauses in between, as in a menu:
//! a card that holds under full load may fail when it is woken again and again.

use crate::paint::{Colour, hash, lit, mix, noise, wave};

const HORIZON: i32 = 40 * 16;
/// Frames from one pause to the next, and frames of the pause.
const ROUND: u64 = 60;
const PAUSE: u64 = 18;

/// Whether nothing but waiting is asked for in frame `number`.
pub(crate) fn is_pause(number: u64) -> bool {
    number % ROUND >= ROUND - PAUSE
}

/// What colour frame `number` has at each place.
pub(crate) fn picture(number: u64) -> impl Fn(i32, i32) -> Colour {
    let number = number as i32;
    let heave = wave(number * 2, 480) / 12 - 10;
    move |x, y| {
        if let Some(colour) = boat(x, y - heave) {
            return colour;
        }
        if y < HORIZON { sky(x, y, number) } else { sea(x, y, number, heave) }
    }
}

fn sky(x: i32, y: i32, number: i32) -> Colour {
    let depth = y * 256 / HORIZON;
    let ground = mix([84, 132, 158], [236, 214, 176], depth);
    let (dx, dy) = (x - 96 * 16, y - 16 * 16);
    let far = (dx * dx + dy * dy) / 256;
    if far < 36 {
        return [255, 244, 206];
    }
    let haze = mix(ground, [255, 236, 190], (6_000 / (far + 24)).min(200));
    let cloud = noise(x + wave(number, 480), y * 5, 128, 16, 2);
    mix(haze, [250, 240, 224], (cloud - 150).clamp(0, 90))
}

fn sea(x: i32, y: i32, number: i32, heave: i32) -> Colour {
    let depth = y - HORIZON;
    let ground = mix([176, 182, 168], [30, 84, 104], (depth * 2).min(256));
    // Long swells, closer together towards the horizon.
    let swell = wave(depth * 6_000 / (depth + 120) + number * 4 + x / 8, 480);
    let water = lit(ground, 226 + swell / 8);
    if let Some(colour) = boat(x + swell / 6 - 20, 2 * HORIZON - y + 20 - heave) {
        return mix(water, colour, 110);
    }
    let glitter = hash((x / 40) as u32, (y / 12 + number / 8) as u32, 8) & 0xff;
    let under_sun = (x - 96 * 16).abs() < 60 + depth / 3;
    if under_sun && glitter > 180 { mix(water, [255, 244, 206], 170) } else { water }
}

/// The boat: a hull, a mast and a sail that hangs.
fn boat(x: i32, y: i32) -> Option<Colour> {
    let (dx, up) = (x - 46 * 16, HORIZON + 60 - y);
    if (0..70).contains(&up) && dx.abs() < 170 + up {
        let plank = up / 18 % 2 * 14;
        return Some([104 + plank, 52 + plank, 40]);
    }
    if (70..520).contains(&up) && dx.abs() < 7 {
        return Some([70, 52, 40]);
    }
    let sail = (110..490).contains(&up) && dx > 10 && dx < (500 - up) * 5 / 8;
    if sail {
        // Folds, since no wind fills it.
        let fold = wave(dx * 3 + up / 2, 160) / 4;
        return Some([196 + fold, 180 + fold, 152 + fold]);
    }
    None
}
