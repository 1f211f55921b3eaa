//! A scene as a load: frame after frame drawn by a card and checked.

use std::sync::{Arc, OnceLock};

use yard_step_core::{CheckedFrame, Demand, Frame, Patch, Seconds, Workload};

use crate::check::check;
use crate::classify::classify;
use crate::pass::{FrameSize, PASS_FRAMES};
use crate::scene::Scene;
use crate::sized::SizedScene;

/// A running scene. It knows the reference of every frame and compares what comes back.
pub struct SceneRun {
    scene: SizedScene,
    number: u64,
    checked: Vec<CheckedFrame>,
}

impl SceneRun {
    /// The scene, before its first frame.
    #[must_use]
    pub fn new(scene: impl Into<SizedScene>) -> Self {
        Self { scene: scene.into(), number: 0, checked: Vec::new() }
    }

    /// Goes back to before the first frame.
    pub fn rewind(&mut self) {
        self.number = 0;
        self.checked.clear();
    }

    /// The scene that runs.
    #[must_use]
    pub fn scene(&self) -> SizedScene {
        self.scene
    }

    /// Frames checked since the last call, in order.
    pub fn take_checked(&mut self) -> std::vec::Drain<'_, CheckedFrame> {
        self.checked.drain(..)
    }
}

/// The reference of a frame. A pass repeats and a frame is a pure function, so each is drawn once and looked up from
/// then on, by every run of this process.
#[must_use]
pub fn reference(scene: impl Into<SizedScene>, number: u64) -> &'static Frame {
    type Pass = [OnceLock<Frame>; PASS_FRAMES as usize];
    type Scenes = [Pass; Scene::ALL.len()];
    static SIZES: [Scenes; FrameSize::ALL.len()] =
        [const { [const { [const { OnceLock::new() }; PASS_FRAMES as usize] }; Scene::ALL.len()] };
            FrameSize::ALL.len()];
    let sized = scene.into();
    let (scene, place) = sized.shown(number);
    SIZES[sized.size().place()][scene as usize][place as usize].get_or_init(|| sized.drawn(number))
}

/// A scene that asks a card for its work and looks at no frame: for traces of a stand-in, whose
/// sensors do not depend on what was drawn.
#[derive(Debug, Clone, Copy)]
pub struct UncheckedRun {
    scene: SizedScene,
    number: u64,
}

impl UncheckedRun {
    /// The scene, before its first frame.
    #[must_use]
    pub fn new(scene: impl Into<SizedScene>) -> Self {
        Self { scene: scene.into(), number: 0 }
    }
}

impl Workload for UncheckedRun {
    fn demand(&self) -> Demand {
        self.scene.demand(self.number)
    }

    fn draw(&mut self, _: &mut Frame) {}

    fn present(&mut self, _: &Frame, _: Seconds) {
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

    fn present(&mut self, drawn: &Frame, at: Seconds) {
        self.checked.push(look_at(self.scene, self.number, drawn, at));
        self.number += 1;
    }
}

/// Compares a frame with its reference and names what is wrong with it.
#[must_use]
pub fn look_at(
    scene: impl Into<SizedScene>,
    number: u64,
    drawn: &Frame,
    at: Seconds,
) -> CheckedFrame {
    let scene = scene.into();
    let reference = reference(scene, number);
    let check = check(drawn, reference);
    let patch = if check.is_exact() { None } else { Patch::between(drawn, reference) };
    CheckedFrame {
        number,
        at,
        section: scene.section(number),
        wrong_pixels: check.wrong_pixels,
        artifacts: classify(number, &check, (reference.width, reference.height)),
        patch: patch.map(Arc::new),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_core::ArtifactKind;

    fn draw_and_present(run: &mut SceneRun, spoil: impl FnOnce(&mut Frame)) {
        let mut canvas = Frame::black(0, 0);
        run.draw(&mut canvas);
        spoil(&mut canvas);
        run.present(&canvas, Seconds(0.0));
    }

    #[test]
    fn frames_drawn_right_are_counted_right_beyond_the_end_of_a_pass() {
        let mut run = SceneRun::new(Scene::Lantern);
        for _ in 0..PASS_FRAMES + 5 {
            draw_and_present(&mut run, |_| ());
        }
        let checked: Vec<_> = run.take_checked().collect();
        assert_eq!(checked.len() as u64, PASS_FRAMES + 5);
        assert!(checked.iter().all(|frame| frame.wrong_pixels == 0 && frame.patch.is_none()));
        assert_eq!(run.take_checked().count(), 0, "what was taken is gone");
        assert_eq!((checked[0].section, checked[479].section, checked[480].section), (0, 3, 0));
    }

    #[test]
    fn a_spoilt_frame_comes_with_what_is_wrong_and_can_be_shown_again() {
        let mut run = SceneRun::new(Scene::Loom);
        for number in 0..10 {
            draw_and_present(&mut run, |frame| {
                if number == 7 {
                    frame.pixels[99] ^= 0xff;
                }
            });
        }
        let checked: Vec<_> = run.take_checked().collect();
        let spoilt: Vec<_> = checked.iter().filter(|frame| frame.wrong_pixels > 0).collect();
        assert_eq!((spoilt.len(), spoilt[0].number, spoilt[0].wrong_pixels), (1, 7, 1));
        assert_eq!(spoilt[0].artifacts[0].kind, ArtifactKind::Speckle);
        let shown = spoilt[0].patch.as_ref().unwrap().over(reference(Scene::Loom, 7));
        assert_eq!(shown.pixels[99], reference(Scene::Loom, 7).pixels[99] ^ 0xff);
    }
}
