//! `loom`: cloth being woven, thread over thread, while the shuttle runs to and fro. Nothing but
//! edges: the longest paths of a chip are at work.

use crate::paint::{Colour, HEIGHT, WIDTH, hash, lit, mix, travelled, wave};

/// Distance from one thread to the next.
const PITCH: i32 = 56;
/// Height of the line at which the cloth grows.
const FELL: i32 = 30 * 16;
/// Picks of the weft in a pass; the cloth moves on by one each time.
const PICKS: i32 = 96;

/// What colour frame `number` has at each place.
pub(crate) fn picture(number: u64) -> impl Fn(i32, i32) -> Colour {
    let number = number as i32;
    // The pattern repeats every twelve picks, and a pass has a whole number of them.
    let woven = travelled(number, PICKS, PITCH);
    let frames = 480 / PICKS;
    let into_pick = number % frames * 256 / frames;
    let pick = number / frames;
    move |x, y| {
        if let Some(colour) = shuttle(x, y, pick, into_pick) {
            return colour;
        }
        if y < FELL { warp(x, y, pick, into_pick) } else { cloth(x, y + woven) }
    }
}

/// Whether the warp lies above the weft: a twill broken into diamonds.
fn is_over(column: i32, row: i32) -> bool {
    let (column, row) = (column.rem_euclid(24), row.rem_euclid(12));
    let folded = if column < 12 { column } else { 23 - column };
    (folded + row) % 6 < 3
}

fn warp_colour(column: i32) -> Colour {
    match column.rem_euclid(12) {
        0 | 1 => [222, 176, 92],
        5 | 6 => [96, 58, 110],
        _ => [172, 60, 62],
    }
}

fn weft_colour(row: i32) -> Colour {
    match row.rem_euclid(12) {
        3 => [226, 196, 128],
        8 | 9 => [46, 92, 104],
        _ => [58, 44, 78],
    }
}

/// The finished cloth: at every crossing one thread passes over the other and both are rounded.
fn cloth(x: i32, y: i32) -> Colour {
    let (column, row) = (x.div_euclid(PITCH), y.div_euclid(PITCH));
    let (across, down) = (wave(x, PITCH), wave(y, PITCH));
    let fibre = (hash((x / 8) as u32, (y / 8).rem_euclid(42) as u32, 41) & 31) as i32;
    if is_over(column, row) {
        lit(warp_colour(column), 90 + across / 2 + down / 4 + fibre)
    } else {
        lit(weft_colour(row), 100 + down / 2 + across / 4 + fibre)
    }
}

/// The open warp above the cloth: threads that part to let the shuttle through.
fn warp(x: i32, y: i32, pick: i32, into_pick: i32) -> Colour {
    let column = x.div_euclid(PITCH);
    let raised = is_over(column, pick);
    let apart = wave(into_pick, 256) * (FELL - y) / 5_000;
    let shift = if raised { -apart } else { apart };
    let across = (x + shift).rem_euclid(PITCH);
    if across < 14 {
        let ground = 34 + (FELL - y) / 40;
        return [ground / 2, ground / 2 + 2, ground / 2 + 8];
    }
    let comb = y > FELL - 5 * 16 && y < FELL - 2 * 16;
    let light = if raised { 250 } else { 130 } - (FELL - y) / 8;
    let thread = lit(warp_colour(column), light + wave(across, PITCH) / 6);
    if comb { mix(thread, [196, 182, 150], 150) } else { thread }
}

/// The shuttle: a boat of wood that crosses once in each pick, every other time the other way.
fn shuttle(x: i32, y: i32, pick: i32, into_pick: i32) -> Option<Colour> {
    const LONG: i32 = 15 * 16;
    let run = WIDTH + 2 * LONG;
    let there = into_pick * run / 256 - LONG;
    let cx = if pick % 2 == 0 { there } else { WIDTH - there };
    let cy = FELL - 9 * 16;
    let (dx, dy) = ((x - cx).abs(), (y - cy).abs());
    let half = 52 - dx * 52 / LONG;
    if dx >= LONG || dy >= half.max(1) || y >= HEIGHT {
        return None;
    }
    let hollow = dx < LONG / 3 && dy < half / 2;
    let wood = lit([206, 154, 96], 280 - dy * 3);
    Some(if hollow { weft_colour(pick) } else { wood })
}
