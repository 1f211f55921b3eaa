//! A scene as a load: frame after frame drawn by a card and checked.

use std::sync::{Arc, OnceLock};

use yard_step_core::{Demand, Frame, Workload};

use crate::check::{Check, check};
use crate::scene::{FRAME_HEIGHT, FRAME_WIDTH, PASS_FRAMES, Scene};

/// A frame that a card drew wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SpoiltFrame {
    /// Number of the frame, from the beginning of the run.
    pub number: u64,
    /// What was drawn.
    pub drawn: Arc<Frame>,
    /// What is wrong with it.
    pub check: Check,
}

/// A running scene. It knows the reference of every frame and compares what comes back.
pub struct SceneRun {
    scene: Scene,
    number: u64,
    latest_spoilt: Option<SpoiltFrame>,
    unread: Vec<(u64, u64)>,
}

impl SceneRun {
    /// The scene, before its first frame.
    #[must_use]
    pub fn new(scene: Scene) -> Self {
        Self { scene, number: 0, latest_spoilt: None, unread: Vec::new() }
    }

    /// Goes back to before the first frame.
    pub fn rewind(&mut self) {
        self.number = 0;
        self.latest_spoilt = None;
        self.unread.clear();
    }

    /// The scene that runs.
    #[must_use]
    pub fn scene(&self) -> Scene {
        self.scene
    }

    /// Frames checked since the last call, each as (number, wrong pixels).
    pub fn take_checked(&mut self) -> std::vec::Drain<'_, (u64, u64)> {
        self.unread.drain(..)
    }

    /// Frames drawn since the beginning of the run.
    #[must_use]
    pub fn frames_drawn(&self) -> u64 {
        self.number
    }

    /// The newest frame, as it was drawn; the first one before anything was drawn.
    #[must_use]
    pub fn latest(&self) -> &Frame {
        let newest = self.number.saturating_sub(1);
        match &self.latest_spoilt {
            Some(spoilt) if spoilt.number == newest => &spoilt.drawn,
            // It was found equal to its reference, so there is no need to keep a copy.
            _ => reference(self.scene, newest),
        }
    }

    /// The newest spoilt frame of this run.
    #[must_use]
    pub fn latest_spoilt(&self) -> Option<&SpoiltFrame> {
        self.latest_spoilt.as_ref()
    }
}

/// The reference of a frame. A pass repeats and a frame is a pure function, so each is drawn once
/// and looked up from then on, by every run of this process.
pub(crate) fn reference(scene: Scene, number: u64) -> &'static Frame {
    type Pass = [OnceLock<Frame>; PASS_FRAMES as usize];
    static PASSES: [Pass; Scene::ALL.len()] =
        [const { [const { OnceLock::new() }; PASS_FRAMES as usize] }; Scene::ALL.len()];
    let number = number % PASS_FRAMES;
    PASSES[scene as usize][number as usize].get_or_init(|| {
        let mut frame = Frame::black(FRAME_WIDTH, FRAME_HEIGHT);
        scene.draw(number, &mut frame);
        frame
    })
}

/// A scene that asks a card for its work and looks at no frame: for traces of a stand-in, whose
/// sensors do not depend on what was drawn.
#[derive(Debug, Clone, Copy)]
pub struct UncheckedRun {
    scene: Scene,
    number: u64,
}

impl UncheckedRun {
    /// The scene, before its first frame.
    #[must_use]
    pub fn new(scene: Scene) -> Self {
        Self { scene, number: 0 }
    }
}

impl Workload for UncheckedRun {
    fn demand(&self) -> Demand {
        self.scene.demand(self.number)
    }

    fn draw(&mut self, _: &mut Frame) {}

    fn present(&mut self, _: &Frame) {
        self.number += 1;
    }
}

impl Workload for SceneRun {
    fn demand(&self) -> Demand {
        self.scene.demand(self.number)
    }

    fn draw(&mut self, canvas: &mut Frame) {
        canvas.clone_from(reference(self.scene, self.number));
    }

    fn present(&mut self, drawn: &Frame) {
        let check = check(drawn, reference(self.scene, self.number));
        self.unread.push((self.number, check.wrong_pixels));
        if !check.is_exact() {
            let drawn = Arc::new(drawn.clone());
            self.latest_spoilt = Some(SpoiltFrame { number: self.number, drawn, check });
        }
        self.number += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn draw_and_present(run: &mut SceneRun, spoil: impl FnOnce(&mut Frame)) {
        let mut canvas = Frame::black(0, 0);
        run.draw(&mut canvas);
        spoil(&mut canvas);
        run.present(&canvas);
    }

    #[rstest]
    fn frames_drawn_right_are_counted_right_beyond_the_end_of_a_pass() {
        let mut run = SceneRun::new(Scene::Lantern);
        for _ in 0..PASS_FRAMES + 5 {
            draw_and_present(&mut run, |_| ());
        }
        assert!(run.latest_spoilt().is_none());
        let checked: Vec<_> = run.take_checked().collect();
        assert_eq!(checked.len() as u64, PASS_FRAMES + 5);
        assert!(checked.iter().all(|(_, wrong)| *wrong == 0));
        assert_eq!(run.take_checked().count(), 0, "what was taken is gone");
    }

    #[rstest]
    fn a_spoilt_frame_is_kept_with_its_number_and_forgotten_on_rewind() {
        let mut run = SceneRun::new(Scene::Lantern);
        for number in 0..10 {
            draw_and_present(&mut run, |frame| {
                if number == 7 {
                    frame.pixels[99] ^= 0xff;
                }
            });
        }
        let spoilt = run.latest_spoilt().unwrap();
        assert_eq!((spoilt.number, spoilt.check.wrong_pixels), (7, 1));
        assert_eq!(run.take_checked().filter(|(_, wrong)| *wrong > 0).count(), 1);
        run.rewind();
        assert!(run.latest_spoilt().is_none());
    }
}
