//! What happens past the edge: which fault comes, and how a frame is spoilt.

use rand::{Rng, RngExt};
use rand_chacha::ChaCha8Rng;
use yard_step_core::Frame;

use crate::LoadLost;

/// Where a fault comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Domain {
    /// The core computes wrong.
    Core,
    /// The memory keeps wrong.
    Memory,
}

/// A fault of the chip.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ChipFault {
    /// The next frames are wrong.
    Artifacts,
    /// The card drops the load.
    Lost(LoadLost),
}

/// Draws the kind of a fault that happens `past` e-folds of the fault rate past the limit. The
/// further past, the graver: each kind's weight grows exponentially from the place at which it
/// comes to be as likely as plain artifacts, the graver kinds later and faster.
pub(super) fn draw_kind(dice: &mut ChaCha8Rng, past: f64) -> ChipFault {
    const KINDS: [(ChipFault, f64, f64); 4] = [
        (ChipFault::Artifacts, 0.0, f64::INFINITY),
        (ChipFault::Lost(LoadLost::Died), 3.75, 2.0),
        (ChipFault::Lost(LoadLost::DriverReset), 6.25, 1.375),
        (ChipFault::Lost(LoadLost::MachineDown), 10.0, 1.0),
    ];
    let weights = KINDS.map(|(_, from, scale)| ((past - from) / scale).min(300.0).exp());
    let mut left = dice.random::<f64>() * weights.iter().sum::<f64>();
    for ((kind, ..), weight) in KINDS.into_iter().zip(weights) {
        if left < weight {
            return kind;
        }
        left -= weight;
    }
    ChipFault::Artifacts
}

/// Spoils a frame as a domain `past` e-folds beyond its limit does: a core draws single pixels,
/// tiles, or streaks wrong, a memory gives single pixels and tiles back wrong; more of them the
/// further past. At least one pixel is changed.
pub(super) fn spoil(frame: &mut Frame, dice: &mut ChaCha8Rng, domain: Domain, past: f64) {
    if frame.pixels.is_empty() {
        return;
    }
    let amount = 1 + (past.clamp(0.0, 30.0) / 3.0) as usize;
    for _ in 0..amount {
        let (x, y) = (dice.random_range(0..frame.width), dice.random_range(0..frame.height));
        let kinds = match domain {
            Domain::Core => 3,
            Domain::Memory => 2,
        };
        match dice.random_range(0..kinds) {
            0 => speckle(frame, dice, x, y),
            1 => tile(frame, dice, x / 8 * 8, y / 8 * 8),
            _ => streak(frame, dice, x, y),
        }
    }
}

fn speckle(frame: &mut Frame, dice: &mut ChaCha8Rng, x: usize, y: usize) {
    flip(frame, x, y, 1 << dice.random_range(0..24));
    for _ in 0..dice.random_range(0..6) {
        let near = |place: usize, extent: usize, by: usize| (place + by).min(extent - 1);
        let (dx, dy) = (dice.random_range(0..7), dice.random_range(0..7));
        let place = (near(x, frame.width, dx), near(y, frame.height, dy));
        if place != (x, y) {
            flip(frame, place.0, place.1, 1 << dice.random_range(4..24));
        }
    }
}

fn tile(frame: &mut Frame, dice: &mut ChaCha8Rng, x: usize, y: usize) {
    let garbage = dice.next_u32();
    for row in y..(y + 8).min(frame.height) {
        for column in x..(x + 8).min(frame.width) {
            let bits = garbage.rotate_left((row * 5 + column * 3) as u32 & 31);
            flip(frame, column, row, (bits & 0x00ff_ffff) | 1);
        }
    }
}

fn streak(frame: &mut Frame, dice: &mut ChaCha8Rng, x: usize, y: usize) {
    let length = dice.random_range(4..=frame.width.max(5) / 3 + 4);
    let bits = 0x0080_8080 | (dice.next_u32() & 0x007f_7f7f);
    for column in x..(x + length).min(frame.width) {
        flip(frame, column, y, bits);
    }
}

fn flip(frame: &mut Frame, x: usize, y: usize, bits: u32) {
    let index = y * frame.width + x;
    if let Some(pixel) = frame.pixels.get_mut(index) {
        *pixel ^= bits;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rstest::rstest;

    #[rstest]
    fn a_spoilt_frame_always_differs() {
        for seed in 0..500 {
            let mut dice = ChaCha8Rng::seed_from_u64(seed);
            let clean = Frame::black(31, 17);
            let mut frame = clean.clone();
            let domain = if seed % 2 == 0 { Domain::Core } else { Domain::Memory };
            spoil(&mut frame, &mut dice, domain, 0.0);
            assert_ne!(frame, clean, "seed {seed}");
        }
    }

    #[rstest]
    fn faults_get_graver_the_further_past_the_limit() {
        let mut dice = ChaCha8Rng::seed_from_u64(3);
        let mut share = |past: f64, kind: ChipFault| {
            (0..2_000).filter(|_| draw_kind(&mut dice, past) == kind).count() as f64 / 2_000.0
        };
        assert!(share(0.0, ChipFault::Artifacts) > 0.7);
        assert!(share(6.25, ChipFault::Lost(LoadLost::Died)) > 0.4);
        assert!(share(13.75, ChipFault::Lost(LoadLost::DriverReset)) > 0.45);
        assert!(share(37.5, ChipFault::Lost(LoadLost::MachineDown)) > 0.8);
        assert_eq!(share(0.0, ChipFault::Lost(LoadLost::MachineDown)), 0.0);
    }
}
