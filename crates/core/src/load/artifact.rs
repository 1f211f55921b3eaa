//! Artifacts: wrong pixels of one frame, grouped and named, and how they go on over many frames.

use std::fmt;

use serde::{Deserialize, Serialize};

/// What a group of wrong pixels looks like.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    Deserialize,
    strum::Display,
    strum::EnumCount,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
pub enum ArtifactKind {
    /// Single pixels, alone or strewn about.
    #[strum(to_string = "speckle")]
    Speckle,
    /// A filled block.
    #[strum(to_string = "tile")]
    Tile,
    /// A thin line.
    #[strum(to_string = "streak")]
    Streak,
    /// Nearly the whole picture.
    #[strum(to_string = "whole frame")]
    WholeFrame,
    /// Something that comes and goes at one place, from frame to frame.
    #[strum(to_string = "flicker")]
    Flicker,
    /// A band of rows from one side of the picture to the other.
    #[strum(to_string = "banding")]
    Banding,
    /// Words of the card's memory that were not what had been written: nothing that can be seen.
    #[strum(to_string = "wrong words")]
    WrongWords,
}

impl ArtifactKind {
    /// All kinds.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::Speckle,
        Self::Tile,
        Self::Streak,
        Self::WholeFrame,
        Self::Flicker,
        Self::Banding,
        Self::WrongWords,
    ];

    /// The kind in a word or two.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }
}

/// The part of a card a fault may come from.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    Deserialize,
    strum::Display,
    strum::EnumCount,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "lowercase")]
pub enum Domain {
    /// The core computes wrong.
    Core,
    /// The memory gives back something else than was written.
    Memory,
}

impl Domain {
    /// The domain in a word.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// The other one of the two.
    #[must_use]
    pub const fn other(self) -> Self {
        match self {
            Self::Core => Self::Memory,
            Self::Memory => Self::Core,
        }
    }
}

/// A rectangle of pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct PixelArea {
    /// First column, from the left.
    pub x: u32,
    /// First row, from the top.
    pub y: u32,
    /// Columns.
    pub width: u32,
    /// Rows.
    pub height: u32,
}

impl PixelArea {
    /// How many pixels it has.
    #[must_use]
    pub fn pixels(self) -> u64 {
        u64::from(self.width) * u64::from(self.height)
    }

    /// Share of two areas together that both cover (intersection over union), 0 to 1.
    #[must_use]
    pub fn overlap(self, other: Self) -> f64 {
        let along = |a: u32, a_length: u32, b: u32, b_length: u32| {
            u64::from((a + a_length).min(b + b_length).saturating_sub(a.max(b)))
        };
        let both = along(self.x, self.width, other.x, other.width)
            * along(self.y, self.height, other.y, other.height);
        let either = self.pixels() + other.pixels() - both;
        if either == 0 { 0.0 } else { both as f64 / either as f64 }
    }
}

impl fmt::Display for PixelArea {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}×{} at {},{}", self.width, self.height, self.x, self.y)
    }
}

/// A group of wrong pixels in one frame, or in several in which it was found at one place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Artifact {
    /// What it looks like.
    pub kind: ArtifactKind,
    /// Where, and how large.
    #[serde(flatten)]
    pub area: PixelArea,
    /// Wrong pixels, in the frame in which it had most.
    pub pixels: u64,
    /// The frame in which it was seen first, from the beginning of the run.
    pub first_frame: u64,
    /// The frame in which it was seen last.
    pub last_frame: u64,
    /// In how many frames it was seen.
    pub frames: u64,
    /// The domain that its kind suggests: evidence, and never a proof.
    pub hint: Domain,
}

impl fmt::Display for Artifact {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} of {} px, {}", self.kind, self.pixels, self.area)?;
        if self.frames > 1 {
            write!(f, ", {} frames from {} to {}", self.frames, self.first_frame, self.last_frame)
        } else {
            write!(f, ", frame {}", self.first_frame)
        }
    }
}

/// Frames within which something at the same place counts as the same artifact.
const SAME_WITHIN: u64 = 12;
/// Overlap from which two places are the same.
const SAME_PLACE: f64 = 0.5;
/// Artifacts that are kept one by one.
const MOST: usize = 100;

/// The artifacts of a run, each with the frames it was seen in.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ArtifactLog {
    artifacts: Vec<Artifact>,
    beyond: u64,
}

impl ArtifactLog {
    /// Takes in the artifacts of one frame. One that was there a moment ago goes on; one that was
    /// there, was not, and is there again, flickers.
    pub fn push(&mut self, frame: u64, found: &[Artifact]) {
        for artifact in found {
            let is_same = |known: &Artifact| {
                frame > known.last_frame
                    && frame - known.last_frame <= SAME_WITHIN
                    && known.area.overlap(artifact.area) >= SAME_PLACE
            };
            match self.artifacts.iter().rposition(is_same) {
                Some(known) => self.artifacts[known].go_on(frame, artifact),
                None if self.artifacts.len() < MOST => self.artifacts.push(artifact.clone()),
                None => self.beyond += 1,
            }
        }
    }

    /// All artifacts, in the order in which they were first seen.
    #[must_use]
    pub fn artifacts(&self) -> &[Artifact] {
        &self.artifacts
    }

    /// How many more there were than are kept one by one.
    #[must_use]
    pub fn beyond(&self) -> u64 {
        self.beyond
    }
}

impl Artifact {
    fn go_on(&mut self, frame: u64, again: &Self) {
        let was_gone = frame - self.last_frame > 1;
        if was_gone && again.kind != ArtifactKind::WholeFrame {
            (self.kind, self.hint) = (ArtifactKind::Flicker, Domain::Core);
        }
        self.last_frame = frame;
        self.frames += 1;
        if again.pixels > self.pixels {
            (self.pixels, self.area) = (again.pixels, again.area);
        }
    }
}

/// The domain that most of the artifacts suggest, and which share of them does, 0.5 to 1.
#[must_use]
pub fn suggested_domain(artifacts: &[Artifact]) -> Option<(Domain, f64)> {
    if artifacts.is_empty() {
        return None;
    }
    let of_core = artifacts.iter().filter(|artifact| artifact.hint == Domain::Core).count();
    let core = of_core as f64 / artifacts.len() as f64;
    Some(if core >= 0.5 { (Domain::Core, core) } else { (Domain::Memory, 1.0 - core) })
}

/// The kinds of artifacts with how many there are of each, the most frequent first.
#[must_use]
pub fn count_by_kind(artifacts: &[Artifact]) -> Vec<(ArtifactKind, usize)> {
    let count = |kind| artifacts.iter().filter(|artifact| artifact.kind == kind).count();
    let mut counts: Vec<_> = ArtifactKind::ALL.into_iter().map(|k| (k, count(k))).collect();
    counts.retain(|(_, count)| *count > 0);
    counts.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    counts
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn artifact(frame: u64, x: u32) -> Artifact {
        Artifact {
            kind: ArtifactKind::Tile,
            area: PixelArea { x, y: 8, width: 8, height: 8 },
            pixels: 64,
            first_frame: frame,
            last_frame: frame,
            frames: 1,
            hint: Domain::Memory,
        }
    }

    #[rstest]
    #[case::at_the_same_place(0, 1.0)]
    #[case::half_of_it(4, 1.0 / 3.0)]
    #[case::beside_it(8, 0.0)]
    fn overlap_is_intersection_over_union(#[case] x: u32, #[case] expected: f64) {
        assert_eq!(artifact(0, 0).area.overlap(artifact(0, x).area), expected);
    }

    #[rstest]
    #[case::goes_on(&[5, 6, 7], ArtifactKind::Tile, 1)]
    #[case::comes_and_goes(&[5, 7, 9], ArtifactKind::Flicker, 1)]
    #[case::long_after_it_is_another(&[5, 40], ArtifactKind::Tile, 2)]
    fn what_is_seen_at_one_place_is_one_artifact(
        #[case] frames: &[u64],
        #[case] kind: ArtifactKind,
        #[case] count: usize,
    ) {
        let mut log = ArtifactLog::default();
        for frame in frames {
            log.push(*frame, &[artifact(*frame, 16)]);
        }
        let found = log.artifacts();
        assert_eq!((found.len(), found[0].kind), (count, kind));
        assert_eq!(found[0].first_frame, 5);
        assert_eq!(found.last().unwrap().last_frame, *frames.last().unwrap());
    }

    #[test]
    fn beyond_the_most_they_are_only_counted() {
        let mut log = ArtifactLog::default();
        for frame in 0..130 {
            log.push(frame * 100, &[artifact(frame * 100, 0)]);
        }
        assert_eq!((log.artifacts().len(), log.beyond()), (100, 30));
    }

    #[test]
    fn most_of_the_artifacts_decide_which_domain_is_suggested() {
        assert_eq!(suggested_domain(&[]), None);
        let core = Artifact { hint: Domain::Core, ..artifact(0, 0) };
        let mixed = [artifact(0, 0), artifact(1, 9), core.clone(), artifact(3, 3)];
        assert_eq!(suggested_domain(&mixed), Some((Domain::Memory, 0.75)));
        assert_eq!(count_by_kind(&mixed), [(ArtifactKind::Tile, 4)]);
    }
}
