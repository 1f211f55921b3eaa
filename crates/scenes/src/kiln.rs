//! `kiln`: flames in a brick arch, pots glowing in them. Every pixel of the fire is many layers of
//! noise laid over one another: arithmetic without end, and the most heat.

use crate::paint::{Colour, HEIGHT, WIDTH, hash, lit, mix, noise, travelled, wave};

/// Cells after which the smallest flames repeat.
const REPEAT: i32 = 48;
/// Height of the floor the fire stands on.
const FLOOR: i32 = 62 * 16;

/// What colour frame `number` has at each place.
pub(crate) fn picture(number: u64) -> impl Fn(i32, i32) -> Colour {
    let number = number as i32;
    // The fire breathes twice a pass.
    let breath = wave(number * 2, 480);
    move |x, y| if in_arch(x, y) { inside(x, y, number, breath) } else { bricks(x, y, breath) }
}

/// Whether a place is inside the opening: straight walls, and half an ellipse above them.
fn in_arch(x: i32, y: i32) -> bool {
    const HALF: i32 = 52 * 16;
    const SPRING: i32 = 34 * 16;
    const RISE: i32 = 26 * 16;
    let aside = (x - WIDTH / 2).abs();
    if aside >= HALF || y >= FLOOR {
        return false;
    }
    let above = (SPRING - y).max(0);
    let (a, b) = (aside * 256 / HALF, above * 256 / RISE);
    a * a + b * b < 256 * 256
}

fn inside(x: i32, y: i32, number: i32, breath: i32) -> Colour {
    let heat = flames(x, y, number) + breath / 8;
    let fire = glow(heat);
    match pot(x, y) {
        // A pot is a dark body that the fire behind it lights from its edges.
        Some(edge) => mix([34, 14, 12], [255, 128, 40], (256 - edge) * (heat + 60) / 420),
        None => fire,
    }
}

/// Heat at a place, 0 to about 330: noise of falling size that rises, the finer the faster, and
/// thins out with height.
fn flames(x: i32, y: i32, number: i32) -> i32 {
    let mut heat = 0;
    for (layer, size) in [256, 128, 64, 32].into_iter().enumerate() {
        let layer = layer as i32;
        let risen = travelled(number, 2 << layer, REPEAT * size);
        let sway = wave(y + number * 8 + layer * 300, 640) / 8;
        heat += noise(x + sway, y + risen, size, REPEAT, 21 + layer as u32) / (layer + 1);
    }
    let from_floor = (FLOOR - y).max(0);
    let middle = (x - WIDTH / 2).abs() / 12;
    heat * 3 / 4 + 90 - from_floor / 4 - middle
}

/// The colour of a heat, from soot over red and orange to nearly white.
fn glow(heat: i32) -> Colour {
    match heat {
        ..60 => mix([16, 6, 8], [96, 16, 8], heat * 4),
        60..140 => mix([96, 16, 8], [238, 92, 16], (heat - 60) * 16 / 5),
        140..230 => mix([238, 92, 16], [255, 208, 84], (heat - 140) * 17 / 6),
        _ => mix([255, 208, 84], [255, 250, 226], (heat - 230) * 3),
    }
}

/// If a place is on one of the five pots: how near it is to the middle of the pot, 0 to 256.
fn pot(x: i32, y: i32) -> Option<i32> {
    (0..5).find_map(|index| {
        let dice = hash(index, 4, 17) as i32 & 0xff;
        let (cx, tall) = (WIDTH / 2 - 580 + index as i32 * 290, 190 + dice / 2);
        let cy = FLOOR - tall;
        let (dx, dy) = ((x - cx).abs().min(512), (y - cy).abs());
        // A belly that narrows to a neck above it.
        let width = if y < cy { 98 - dy.min(tall) * 52 / tall } else { 98 };
        let (a, b) = (dx * 256 / width, dy * 256 / tall);
        let far = (a * a + b * b) / 256;
        (far < 256 && y < FLOOR).then_some(256 - far)
    })
}

fn bricks(x: i32, y: i32, breath: i32) -> Colour {
    const LONG: i32 = 14 * 16;
    const HIGH: i32 = 6 * 16;
    let row = y / HIGH;
    let shifted = x + row % 2 * LONG / 2;
    let mortar = shifted % LONG < 14 || y % HIGH < 14;
    let dice = (hash((shifted / LONG) as u32, row as u32, 31) & 31) as i32;
    let own = if mortar { [44, 38, 36] } else { [112 + dice, 54 + dice / 2, 40] };
    // The fire lights the bricks around the opening, and more when it breathes in.
    let away = (x - WIDTH / 2).abs() / 8 + (HEIGHT * 3 / 4 - y).abs() / 6;
    lit(own, (300 - away + breath / 5).clamp(50, 300))
}
