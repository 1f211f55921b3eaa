//! A scene as a load: frame after frame drawn by a card and checked.

use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, PoisonError};

use lru::LruCache;
use tracing::warn;

use yard_step_core::{CheckedFrame, Demand, Frame, Patch, Seconds, Workload};

use crate::check::check;
use crate::classify::classify;
use crate::pass::FrameSize;
use crate::scene::Scene;
use crate::sized::SizedScene;

/// Most references that are kept: a pass of a scene, which takes 18 MB at the usual size and 40 MB at the largest.
const MOST_KEPT: NonZeroUsize = NonZeroUsize::new(480).unwrap();

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

/// The reference of a frame. A pass repeats and a frame is a pure function, so the newest are kept, for every run of
/// this process.
#[must_use]
pub fn reference(scene: impl Into<SizedScene>, number: u64) -> Arc<Frame> {
    static KEPT: Mutex<Option<References>> = Mutex::new(None);
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    kept.get_or_insert_with(|| References::at_most(MOST_KEPT)).of(scene.into(), number)
}

/// References that were drawn, those that were asked for last. They lie in the memory of a machine whose settings are
/// being tried: each has a checksum, so that a bit that turned over in it is not laid at the card's door.
struct References(LruCache<(Scene, FrameSize, u64), (Arc<Frame>, u32)>);

impl References {
    fn at_most(most: NonZeroUsize) -> Self {
        Self(LruCache::new(most))
    }

    fn of(&mut self, sized: SizedScene, number: u64) -> Arc<Frame> {
        let (scene, place) = sized.shown(number);
        let key = (scene, sized.size(), place);
        match self.0.get(&key) {
            Some((frame, checksum)) if checksum_of(frame) == *checksum => return Arc::clone(frame),
            Some(_) => {
                warn!(%sized, number, "a reference is not as it was drawn, and is drawn again")
            }
            None => {}
        }
        let frame = Arc::new(sized.drawn(number));
        self.0.put(key, (Arc::clone(&frame), checksum_of(&frame)));
        frame
    }
}

/// CRC-32 of the pixels.
fn checksum_of(frame: &Frame) -> u32 {
    crc32fast::hash(bytemuck::cast_slice(&frame.pixels))
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

    fn size(&self) -> (usize, usize) {
        (0, 0)
    }

    fn draw(&mut self, _: &mut Frame) {}

    fn present(&mut self, _: Option<&Frame>, _: Seconds) {
        self.number += 1;
    }
}

impl Workload for SceneRun {
    fn demand(&self) -> Demand {
        self.scene.demand(self.number)
    }

    fn size(&self) -> (usize, usize) {
        self.scene.size().sides()
    }

    fn draw(&mut self, canvas: &mut Frame) {
        canvas.clone_from(&reference(self.scene, self.number));
    }

    fn present(&mut self, drawn: Option<&Frame>, at: Seconds) {
        self.checked.push(look_at(self.scene, self.number, drawn, at));
        self.number += 1;
    }
}

/// Compares a frame with its reference and names what is wrong with it; with nothing wrong where none was `drawn`
/// otherwise.
#[must_use]
pub fn look_at(
    scene: impl Into<SizedScene>,
    number: u64,
    drawn: Option<&Frame>,
    at: Seconds,
) -> CheckedFrame {
    let scene = scene.into();
    let section = scene.section(number);
    let Some(drawn) = drawn else {
        return CheckedFrame { number, at, section, ..CheckedFrame::default() };
    };
    let reference = reference(scene, number);
    let check = check(drawn, &reference);
    let patch = if check.is_exact() { None } else { Patch::between(drawn, &reference) };
    CheckedFrame {
        number,
        at,
        section,
        wrong_pixels: check.wrong_pixels,
        artifacts: classify(number, &check, (reference.width, reference.height)),
        patch: patch.map(Arc::new),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::PASS_FRAMES;
    use yard_step_core::ArtifactKind;

    fn draw_and_present(run: &mut SceneRun, spoil: impl FnOnce(&mut Frame)) {
        let mut canvas = Frame::black(0, 0);
        run.draw(&mut canvas);
        spoil(&mut canvas);
        run.present(Some(&canvas), Seconds(0.0));
    }

    #[test]
    fn no_more_references_are_kept_than_is_said_and_none_that_was_changed() {
        let mut kept = References::at_most(NonZeroUsize::new(3).unwrap());
        let (first, scene) =
            (SizedScene::from(Scene::Doldrums).drawn(0), SizedScene::from(Scene::Doldrums));
        assert_eq!(*kept.of(scene, 0), first);
        let key = (Scene::Doldrums, scene.size(), 0);
        let (frame, checksum) = kept.0.get(&key).cloned().unwrap();
        let mut turned = (*frame).clone();
        turned.pixels[7] ^= 1 << 3;
        kept.0.put(key, (Arc::new(turned), checksum));
        assert_eq!(*kept.of(scene, 0), first, "a bit that turned over is none of the reference");
        for number in [1, 2, 0, 3, 0] {
            assert_eq!(*kept.of(scene, number), scene.drawn(number));
        }
        let held: Vec<u64> = kept.0.iter().map(|((_, _, number), _)| *number).collect();
        assert_eq!(held, [0, 3, 2], "those that were asked for last");
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
        let shown = spoilt[0].patch.as_ref().unwrap().over(&reference(Scene::Loom, 7));
        assert_eq!(shown.pixels[99], reference(Scene::Loom, 7).pixels[99] ^ 0xff);
    }
}
