//! What the view Artifacts knows of itself: which spoilt frame is shown, and how near.

use yard_step_core::{CheckedFrame, PixelArea};
use yard_step_engine::RunView;

/// Nearest: one pixel in sixteen of each row and column is shown.
const MOST_ZOOM: u32 = 4;

/// The state.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ArtifactState {
    /// The trial and the place of the frame that was picked; none shows the newest.
    picked: Option<(u32, usize)>,
    /// Which artifact of the frame is looked at.
    artifact: usize,
    /// How often the picture was enlarged to twice its size.
    zoom: u32,
    /// What became of the last file.
    pub told: Option<String>,
}

impl ArtifactState {
    /// Place of the frame that is shown among the spoilt ones of a run.
    #[must_use]
    pub fn place(&self, run: &RunView) -> Option<usize> {
        let last = run.spoilt.len().checked_sub(1)?;
        let picked = self.picked.filter(|(trial, _)| *trial == run.number);
        Some(picked.map_or(last, |(_, place)| place.min(last)))
    }

    /// The frame that is shown.
    #[must_use]
    pub fn frame<'a>(&self, run: &'a RunView) -> Option<&'a CheckedFrame> {
        run.spoilt.get(self.place(run)?)
    }

    /// Place of the artifact that is looked at among those of its frame.
    #[must_use]
    pub fn artifact(&self, frame: &CheckedFrame) -> usize {
        self.artifact.min(frame.artifacts.len().saturating_sub(1))
    }

    /// How many times as large as the whole the picture is shown.
    #[must_use]
    pub fn factor(&self) -> u32 {
        1 << self.zoom
    }

    /// Goes to the frame `by` after the one shown; after the last comes nothing.
    pub fn step(&mut self, run: &RunView, by: isize) {
        let Some(place) = self.place(run) else { return };
        let place = place.saturating_add_signed(by).min(run.spoilt.len() - 1);
        (self.picked, self.artifact) = (Some((run.number, place)), 0);
    }

    /// Goes to the artifact `by` after the one looked at.
    pub fn pick(&mut self, run: &RunView, by: isize) {
        if let Some(frame) = self.frame(run) {
            let last = frame.artifacts.len().saturating_sub(1);
            self.artifact = self.artifact(frame).saturating_add_signed(by).min(last);
        }
    }

    /// Shows the artifact from nearer, or from farther away.
    pub fn zoom(&mut self, nearer: bool) {
        self.zoom =
            if nearer { (self.zoom + 1).min(MOST_ZOOM) } else { self.zoom.saturating_sub(1) };
    }

    /// Whether something is picked or enlarged.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.picked.is_some() || self.zoom > 0
    }

    /// Shows the newest frame as a whole again.
    pub fn let_go(&mut self) {
        *self = Self::default();
    }

    /// The part of a frame of `width` × `height` pixels that is shown: around the artifact that is
    /// looked at, and never beyond the frame's edge.
    #[must_use]
    pub fn part(&self, frame: &CheckedFrame, (width, height): (u32, u32)) -> PixelArea {
        let size = (width.div_ceil(self.factor()), height.div_ceil(self.factor()));
        let middle =
            frame.artifacts.get(self.artifact(frame)).map_or((width / 2, height / 2), |artifact| {
                let area = artifact.area;
                (area.x + area.width / 2, area.y + area.height / 2)
            });
        PixelArea {
            x: middle.0.saturating_sub(size.0 / 2).min(width - size.0),
            y: middle.1.saturating_sub(size.1 / 2).min(height - size.1),
            width: size.0,
            height: size.1,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{run_view, spoilt_frames};
    use rstest::rstest;
    use std::sync::Arc;

    fn spoilt() -> RunView {
        RunView { spoilt: Arc::new(spoilt_frames()), ..run_view() }
    }

    #[test]
    fn the_newest_frame_is_shown_until_one_is_picked() {
        let (run, mut state) = (spoilt(), ArtifactState::default());
        let last = run.spoilt.len() - 1;
        assert_eq!(state.place(&run), Some(last));
        state.step(&run, -1);
        assert_eq!(state.place(&run), Some(last - 1));
        state.step(&run, -100);
        assert_eq!(state.place(&run), Some(0));
        let other = RunView { number: run.number + 1, ..run.clone() };
        assert_eq!(state.place(&other), Some(last), "what was picked is of one trial");
        state.let_go();
        assert_eq!(state.place(&run), Some(last));
        assert_eq!(state.place(&RunView { spoilt: Arc::default(), ..run }), None);
    }

    #[rstest]
    #[case(0, (128, 72))]
    #[case(2, (32, 18))]
    #[case(9, (8, 5))]
    fn from_nearer_less_is_shown_around_the_artifact(#[case] times: u32, #[case] size: (u32, u32)) {
        let (run, mut state) = (spoilt(), ArtifactState::default());
        (0..times).for_each(|_| state.zoom(true));
        for frame in run.spoilt.iter() {
            let part = state.part(frame, (128, 72));
            assert_eq!((part.width, part.height), size);
            assert!(part.x + part.width <= 128 && part.y + part.height <= 72);
            let seen = frame.artifacts[0].area;
            assert!(part.overlap(seen) > 0.0, "{part} {seen}");
        }
    }
}
