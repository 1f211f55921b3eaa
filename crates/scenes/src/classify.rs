//! From wrong pixels to artifacts: grouped by nearness, named by shape.
//!
//! ```text
//!   wrong pixels ──► groups of neighbours ──► shape of each ──► kind, and the domain it suggests
//!                                                │
//!                     tile, streak, banding ◄────┴────► strewn pixels: gathered to speckles
//! ```
//!
//! | kind | shape | suggests | because |
//! |---|---|---|---|
//! | whole frame | more than half of all pixels | core | one wrong result shades everything |
//! | banding | from side to side, two rows or more | memory | rows of the picture share a memory channel |
//! | streak | at most two pixels thin, four or more long | core | a wrong corner draws a triangle out to a line |
//! | tile | a filled block, four or more each way | memory | memory is read in blocks |
//! | speckle | anything smaller or looser | memory if single bits differ, else core | memory loses bits, a core computes other values |
//! | flicker | comes and goes at one place (see [`yard_step_core::ArtifactLog`]) | core | what is stored wrong stays wrong |

use yard_step_core::{Artifact, ArtifactKind, Domain, PixelArea};

use crate::check::{Check, WrongPixel};

/// Share of all pixels from which the whole frame is wrong.
const WHOLE: f64 = 0.5;
/// Pixels in between that do not part a group.
const GAP: usize = 2;
/// Pixels in between that do not part strewn pixels.
const STREWN: u32 = 7;
/// Least share of its rectangle that a block fills.
const FILLED: f64 = 0.7;
/// Least share of the picture's width that a band has.
const ACROSS: f64 = 0.8;

/// The artifacts of frame `number`, of `width` × `height` pixels.
#[must_use]
pub fn classify(number: u64, check: &Check, (width, height): (usize, usize)) -> Vec<Artifact> {
    if check.is_exact() {
        return Vec::new();
    }
    let all = (width * height) as u64;
    if check.wrong_pixels as f64 > WHOLE * all as f64 || check.places.is_empty() {
        let area = PixelArea { x: 0, y: 0, width: width as u32, height: height as u32 };
        let whole = Group { area, pixels: check.wrong_pixels, bits: 24 * check.wrong_pixels };
        return vec![whole.named(number, ArtifactKind::WholeFrame)];
    }
    let mut found = Vec::new();
    let mut strewn: Vec<Group> = Vec::new();
    for group in groups(&check.places, (width, height)) {
        match group.shape(width) {
            ArtifactKind::Speckle => strewn.push(group),
            kind => found.push(group.named(number, kind)),
        }
    }
    found.extend(gathered(strewn).iter().map(|g| g.named(number, ArtifactKind::Speckle)));
    found
}

/// Wrong pixels that belong together.
#[derive(Debug, Clone, Copy)]
struct Group {
    area: PixelArea,
    pixels: u64,
    /// Bits that differ, in all of them.
    bits: u64,
}

impl Group {
    fn shape(&self, frame_width: usize) -> ArtifactKind {
        let PixelArea { width, height, .. } = self.area;
        let fill = self.pixels as f64 / self.area.pixels() as f64;
        let (thin, long) = (width.min(height), width.max(height));
        if f64::from(width) >= ACROSS * frame_width as f64 && height >= 2 && fill >= 0.5 {
            ArtifactKind::Banding
        } else if thin <= 2 && long >= 4 && fill >= 0.5 {
            ArtifactKind::Streak
        } else if thin >= 4 && fill >= FILLED {
            ArtifactKind::Tile
        } else {
            ArtifactKind::Speckle
        }
    }

    fn named(&self, frame: u64, kind: ArtifactKind) -> Artifact {
        let hint = match kind {
            ArtifactKind::Tile | ArtifactKind::Banding => Domain::Memory,
            // A lost bit now and then is memory; other values altogether were computed so.
            ArtifactKind::Speckle if self.bits < 2 * self.pixels => Domain::Memory,
            _ => Domain::Core,
        };
        Artifact {
            kind,
            area: self.area,
            pixels: self.pixels,
            first_frame: frame,
            last_frame: frame,
            frames: 1,
            hint,
        }
    }

    fn is_near(&self, other: &Self) -> bool {
        let apart = |a: u32, a_length: u32, b: u32, b_length: u32| {
            a.max(b).saturating_sub((a + a_length).min(b + b_length))
        };
        let (one, two) = (self.area, other.area);
        apart(one.x, one.width, two.x, two.width) < STREWN
            && apart(one.y, one.height, two.y, two.height) < STREWN
    }

    fn join(&mut self, other: &Self) {
        let (one, two) = (self.area, other.area);
        let (x, y) = (one.x.min(two.x), one.y.min(two.y));
        self.area = PixelArea {
            x,
            y,
            width: (one.x + one.width).max(two.x + two.width) - x,
            height: (one.y + one.height).max(two.y + two.height) - y,
        };
        self.pixels += other.pixels;
        self.bits += other.bits;
    }
}

/// Groups of pixels, each no further than [`GAP`] from another of its group.
fn groups(places: &[WrongPixel], (width, height): (usize, usize)) -> Vec<Group> {
    const NONE: u32 = u32::MAX;
    let mut waiting = vec![NONE; width * height];
    for (index, pixel) in places.iter().enumerate() {
        waiting[pixel.y * width + pixel.x] = index as u32;
    }
    let mut found = Vec::new();
    let mut reached = Vec::new();
    for pixel in places {
        let place = pixel.y * width + pixel.x;
        if waiting[place] == NONE {
            continue;
        }
        let area = PixelArea { x: pixel.x as u32, y: pixel.y as u32, width: 1, height: 1 };
        let mut group = Group { area, pixels: 0, bits: 0 };
        waiting[place] = NONE;
        reached.push(*pixel);
        while let Some(pixel) = reached.pop() {
            let area = PixelArea { x: pixel.x as u32, y: pixel.y as u32, width: 1, height: 1 };
            let bits = u64::from((pixel.drawn ^ pixel.expected).count_ones());
            group.join(&Group { area, pixels: 1, bits });
            let rows = pixel.y.saturating_sub(GAP)..(pixel.y + GAP + 1).min(height);
            for y in rows {
                for x in pixel.x.saturating_sub(GAP)..(pixel.x + GAP + 1).min(width) {
                    let index = std::mem::replace(&mut waiting[y * width + x], NONE);
                    reached.extend(places.get(index as usize));
                }
            }
        }
        found.push(group);
    }
    found
}

/// Gathers loose groups that lie near one another.
fn gathered(mut loose: Vec<Group>) -> Vec<Group> {
    let mut found: Vec<Group> = Vec::new();
    while let Some(mut group) = loose.pop() {
        // A group that has grown may reach others that it did not before.
        while let Some(place) = loose.iter().position(|other| group.is_near(other)) {
            group.join(&loose.swap_remove(place));
        }
        found.push(group);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::check;
    use rstest::rstest;
    use yard_step_core::Frame;

    fn found(spoil: impl Fn(&mut dyn FnMut(usize, usize, u32))) -> Vec<(ArtifactKind, Domain)> {
        let reference = Frame::black(64, 36);
        let mut drawn = reference.clone();
        spoil(&mut |x, y, bits| drawn.pixels[y * 64 + x] ^= bits);
        let artifacts = classify(3, &check(&drawn, &reference), (64, 36));
        artifacts.iter().map(|artifact| (artifact.kind, artifact.hint)).collect()
    }

    fn block(flip: &mut dyn FnMut(usize, usize, u32), from: (usize, usize), size: (usize, usize)) {
        for y in from.1..from.1 + size.1 {
            for x in from.0..from.0 + size.0 {
                flip(x, y, 0x00f0_f0f1);
            }
        }
    }

    #[rstest]
    #[case::one_bit((20, 9), (1, 1), 1, ArtifactKind::Speckle, Domain::Memory)]
    #[case::one_pixel((63, 35), (1, 1), 0x00ff, ArtifactKind::Speckle, Domain::Core)]
    #[case::block((8, 16), (8, 8), 0xff, ArtifactKind::Tile, Domain::Memory)]
    #[case::cut_block((60, 16), (4, 8), 0xff, ArtifactKind::Tile, Domain::Memory)]
    #[case::line((5, 5), (20, 1), 0xff, ArtifactKind::Streak, Domain::Core)]
    #[case::standing_line((5, 5), (2, 20), 0xff, ArtifactKind::Streak, Domain::Core)]
    #[case::rows((0, 10), (64, 4), 1, ArtifactKind::Banding, Domain::Memory)]
    #[case::everything((0, 0), (64, 36), 1, ArtifactKind::WholeFrame, Domain::Core)]
    fn shapes_are_named(
        #[case] from: (usize, usize),
        #[case] size: (usize, usize),
        #[case] bits: u32,
        #[case] kind: ArtifactKind,
        #[case] domain: Domain,
    ) {
        let artifacts = found(|flip| {
            for y in from.1..from.1 + size.1 {
                (from.0..from.0 + size.0).for_each(|x| flip(x, y, bits));
            }
        });
        assert_eq!(artifacts, [(kind, domain)]);
    }

    #[test]
    fn things_apart_are_counted_apart_and_strewn_pixels_together() {
        let artifacts = found(|flip| {
            block(flip, (0, 0), (8, 8));
            block(flip, (40, 0), (8, 8));
            [(20, 20), (24, 23), (29, 25)].into_iter().for_each(|(x, y)| flip(x, y, 2));
            flip(60, 33, 4);
        });
        let count = |kind| artifacts.iter().filter(|(found, _)| *found == kind).count();
        assert_eq!(count(ArtifactKind::Tile), 2);
        assert_eq!(count(ArtifactKind::Speckle), 2);
    }

    #[test]
    fn an_exact_frame_has_none_and_one_of_another_size_is_wrong_as_a_whole() {
        let reference = Frame::black(8, 8);
        assert!(classify(0, &check(&reference, &reference), (8, 8)).is_empty());
        let other = classify(0, &check(&Frame::black(4, 4), &reference), (8, 8));
        assert_eq!((other[0].kind, other[0].pixels), (ArtifactKind::WholeFrame, 64));
    }
}
