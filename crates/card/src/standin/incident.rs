//! Artifacts as they come to be: what goes wrong in a few frames after a fault.
//!
//! | domain | what it does | how often |
//! |---|---|---|
//! | memory | a bit of one pixel, and now and then of a few around it | 55 % |
//! | memory | a block of 8 × 8 pixels read from somewhere else | 30 % |
//! | memory | rows from one side to the other with a bit turned over | 15 % |
//! | core | a corner put in the wrong place: a line | 35 % |
//! | core | a patch computed right and wrong by turns | 25 % |
//! | core | one pixel computed wrong, mostly in many bits | 25 % |
//! | core | a wrong number that every pixel is shaded with | 15 % |

use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use yard_step_core::{ArtifactKind, Domain, Frame, PixelArea};

/// Pixels of a block of memory, each way.
const BLOCK: usize = 8;

/// One thing that is drawn wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Blemish {
    /// What it looks like.
    pub kind: ArtifactKind,
    /// Where it lies.
    pub area: PixelArea,
    seed: u64,
    bits: u32,
}

/// The artifacts of one fault, over the frames it lasts. A stand-in spoils its frames by this; the
/// checker can be measured on it, since it says what it did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Incident {
    domain: Domain,
    blemishes: Vec<Blemish>,
    frame: u32,
    frames: u32,
}

impl Incident {
    /// A fault of a domain that is `past` e-folds of its fault rate beyond its limit, in frames of
    /// `width` × `height` pixels: the further past, the more goes wrong.
    pub fn draw(
        dice: &mut ChaCha8Rng,
        domain: Domain,
        past: f64,
        (width, height): (usize, usize),
    ) -> Self {
        let amount = 1 + (past.clamp(0.0, 30.0) / 3.0) as usize;
        let blemishes: Vec<Blemish> = (0..amount)
            .map(|_| Blemish::draw(dice, domain, (width.max(1), height.max(1))))
            .collect();
        // What comes and goes must have the time to.
        let flickers = blemishes.iter().any(|blemish| blemish.kind == ArtifactKind::Flicker);
        let frames = if flickers { dice.random_range(3..=9) } else { dice.random_range(1..=4) };
        Self { domain, blemishes, frame: 0, frames }
    }

    /// As [`draw`](Self::draw), by a seed.
    #[must_use]
    pub fn seeded(seed: u64, domain: Domain, past: f64, size: (usize, usize)) -> Self {
        Self::draw(&mut ChaCha8Rng::seed_from_u64(seed), domain, past, size)
    }

    /// Where it comes from.
    #[must_use]
    pub fn domain(&self) -> Domain {
        self.domain
    }

    /// All that it does.
    #[must_use]
    pub fn blemishes(&self) -> &[Blemish] {
        &self.blemishes
    }

    /// Whether it is over.
    #[must_use]
    pub fn is_over(&self) -> bool {
        self.frame >= self.frames
    }

    /// Spoils the next frame.
    pub fn spoil(&mut self, frame: &mut Frame) {
        if frame.pixels.is_empty() {
            return;
        }
        for blemish in &self.blemishes {
            if blemish.kind != ArtifactKind::Flicker || self.frame.is_multiple_of(2) {
                blemish.spoil(frame);
            }
        }
        self.frame += 1;
    }
}

impl Blemish {
    fn draw(dice: &mut ChaCha8Rng, domain: Domain, (width, height): (usize, usize)) -> Self {
        let kind = match (domain, dice.random_range(0..100)) {
            (Domain::Memory, 0..55) => ArtifactKind::Speckle,
            (Domain::Memory, 55..85) => ArtifactKind::Tile,
            (Domain::Memory, _) => ArtifactKind::Banding,
            (Domain::Core, 0..35) => ArtifactKind::Streak,
            (Domain::Core, 35..60) => ArtifactKind::Flicker,
            (Domain::Core, 60..85) => ArtifactKind::Speckle,
            (Domain::Core, _) => ArtifactKind::WholeFrame,
        };
        let (x, y) = (dice.random_range(0..width), dice.random_range(0..height));
        let area = match kind {
            ArtifactKind::WholeFrame => (0, 0, width, height),
            ArtifactKind::Banding => (0, y, width, dice.random_range(2..=5)),
            ArtifactKind::Tile => (x / BLOCK * BLOCK, y / BLOCK * BLOCK, BLOCK, BLOCK),
            ArtifactKind::Streak if dice.random_bool(0.3) => {
                (x, y, 1, dice.random_range(6..=height / 2 + 7))
            }
            ArtifactKind::Streak => (x, y, dice.random_range(6..=width / 3 + 7), 1),
            ArtifactKind::Flicker => (x, y, dice.random_range(5..=19), dice.random_range(5..=13)),
            // Half of what memory loses is one bit of one pixel.
            ArtifactKind::Speckle if domain == Domain::Core || dice.random_bool(0.5) => {
                (x, y, 1, 1)
            }
            ArtifactKind::Speckle | ArtifactKind::WrongWords => (x, y, 6, 6),
        };
        let bits = match (domain, kind) {
            (Domain::Memory, ArtifactKind::Speckle | ArtifactKind::Banding) => {
                1 << dice.random_range(0..24)
            }
            _ => (dice.next_u32() & 0x00ff_ffff) | 1,
        };
        let (x, y, wide, high) = area;
        let area = PixelArea {
            x: x as u32,
            y: y as u32,
            width: wide.min(width - x) as u32,
            height: high.min(height - y) as u32,
        };
        Self { kind, area, seed: dice.next_u64(), bits }
    }

    fn spoil(&self, frame: &mut Frame) {
        let PixelArea { x, y, width, height } = self.area;
        let strewn = self.kind == ArtifactKind::Speckle && self.area.pixels() > 1;
        if strewn {
            return self.strew(frame);
        }
        for row in y..y + height {
            for column in x..x + width {
                let bits = match self.kind {
                    ArtifactKind::Tile | ArtifactKind::Flicker => {
                        self.bits.rotate_left((row * 5 + column * 3) & 7) & 0x00ff_ffff | 1
                    }
                    _ => self.bits,
                };
                flip(frame, column, row, bits);
            }
        }
    }

    /// A bit of the first pixel, and of up to four more around it.
    fn strew(&self, frame: &mut Frame) {
        let PixelArea { x, y, width, height } = self.area;
        flip(frame, x, y, self.bits);
        let mut dice = ChaCha8Rng::seed_from_u64(self.seed);
        for _ in 0..dice.random_range(1..=4) {
            let (dx, dy) = (dice.random_range(0..width), dice.random_range(0..height));
            if (dx, dy) != (0, 0) {
                flip(frame, x + dx, y + dy, 1 << dice.random_range(0..24));
            }
        }
    }
}

fn flip(frame: &mut Frame, x: u32, y: u32, bits: u32) {
    let index = y as usize * frame.width + x as usize;
    if let Some(pixel) = frame.pixels.get_mut(index) {
        *pixel ^= bits;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(31, 17)]
    #[case(1, 1)]
    #[case(128, 72)]
    fn the_first_frame_of_an_incident_always_differs(#[case] width: usize, #[case] height: usize) {
        for seed in 0..500 {
            let clean = Frame::black(width, height);
            let mut frame = clean.clone();
            let domain = if seed % 2 == 0 { Domain::Core } else { Domain::Memory };
            let mut incident = Incident::seeded(seed, domain, 0.0, (width, height));
            incident.spoil(&mut frame);
            assert_ne!(frame, clean, "seed {seed}");
        }
    }

    #[test]
    fn an_incident_ends() {
        let mut incident = Incident::seeded(3, Domain::Core, 9.0, (64, 36));
        let mut frames = 0;
        while !incident.is_over() {
            incident.spoil(&mut Frame::black(64, 36));
            frames += 1;
        }
        assert!((1..=9).contains(&frames));
        assert_eq!(incident.blemishes().len(), 4);
    }
}
