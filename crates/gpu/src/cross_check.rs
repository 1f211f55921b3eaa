//! Whole frames compared on the processor, beside the run: a card that fails may also verify wrongly.

use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;
use std::time::{Duration, Instant};

use yard_step_core::Frame;
use yard_step_scenes::{Scene, SizedScene, check, reference};

use crate::ENLARGED;

/// Share of a core that comparing may take.
const SHARE: f64 = 0.05;

/// What came of comparing a frame.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Compared {
    pub number: u64,
    /// Wrong pixels of the whole frame.
    pub wrong_pixels: u64,
    /// The frame in the size of its reference, where something is wrong with it.
    pub drawn: Option<Frame>,
}

/// Compares frames on a thread of its own, one at a time.
pub(crate) struct CrossCheck {
    frames: Sender<(u64, Frame)>,
    compared: Receiver<Compared>,
    is_busy: bool,
    /// When the next frame is wanted.
    due: Instant,
    began: Instant,
}

impl CrossCheck {
    pub(crate) fn of(scene: SizedScene) -> Self {
        let (frames, wanted) = channel::<(u64, Frame)>();
        let (told, compared) = channel();
        thread::spawn(move || {
            for (number, frame) in wanted {
                if told.send(compare(scene, number, &frame)).is_err() {
                    return;
                }
            }
        });
        let now = Instant::now();
        Self { frames, compared, is_busy: false, due: now, began: now }
    }

    /// Whether a frame is wanted now.
    pub(crate) fn wants_one(&self) -> bool {
        !self.is_busy && Instant::now() >= self.due
    }

    pub(crate) fn take(&mut self, number: u64, frame: Frame) {
        self.is_busy = self.frames.send((number, frame)).is_ok();
        self.began = Instant::now();
    }

    /// What was compared since the last call, where something was.
    pub(crate) fn compared(&mut self) -> Option<Compared> {
        let compared = self.compared.try_recv().ok()?;
        self.is_busy = false;
        let took = self.began.elapsed().as_secs_f64();
        self.due = Instant::now() + Duration::from_secs_f64((took / SHARE).min(60.0));
        Some(compared)
    }
}

/// Compares a whole frame with what the processor draws.
pub(crate) fn compare(scene: SizedScene, number: u64, drawn: &Frame) -> Compared {
    let mut expected = Frame::black(drawn.width, drawn.height);
    Scene::draw(*scene, number, &mut expected);
    let found = check(drawn, &expected);
    let is_wrong = !found.is_exact();
    let small = is_wrong.then(|| reduced(scene, number, drawn, &expected));
    Compared { number, wrong_pixels: found.wrong_pixels, drawn: small }
}

/// A frame in the size of its reference. A pixel in whose place anything is wrong has the first wrong colour there.
fn reduced(scene: SizedScene, number: u64, drawn: &Frame, expected: &Frame) -> Frame {
    let mut small = (*reference(scene, number)).clone();
    let width = small.width.max(1);
    for (at, pixel) in small.pixels.iter_mut().enumerate() {
        let (column, row) = (at % width * ENLARGED, at / width * ENLARGED);
        let places = (0..ENLARGED * ENLARGED)
            .map(|place| (row + place / ENLARGED) * drawn.width + column + place % ENLARGED);
        let mut both =
            places.filter_map(|place| drawn.pixels.get(place).zip(expected.pixels.get(place)));
        if let Some((wrong, _)) = both.find(|(drawn, expected)| drawn != expected) {
            *pixel = *wrong;
        }
    }
    small
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wrong_pixel_anywhere_is_found_and_shown_in_its_place() {
        let scene = SizedScene::from(Scene::Lantern);
        let mut frame = Frame::black(1_280, 720);
        Scene::Lantern.draw(40, &mut frame);
        assert_eq!(compare(scene, 40, &frame).drawn, None);
        frame.pixels[357 * 1_280 + 643] ^= 1 << 20;
        let found = compare(scene, 40, &frame);
        let small = found.drawn.unwrap();
        assert_eq!((found.wrong_pixels, small.width), (1, 128));
        let own = reference(scene, 40);
        let wrong: Vec<usize> =
            (0..small.pixels.len()).filter(|at| small.pixels[*at] != own.pixels[*at]).collect();
        assert_eq!(wrong, [35 * 128 + 64]);
    }
}
