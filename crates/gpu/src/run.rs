//! A scene as a load on a graphics card: frame after frame, each verified.

use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use yard_step_core::{Frame, Seconds};
use yard_step_scenes::{Scene, SizedScene};

use crate::canvas::{Canvas, FrameOrder};
use crate::cross_check::{CrossCheck, compare};
use crate::{AdapterChoice, Calibration, GpuAdapter, GpuError};

/// How long a calm frame of `squall` leaves the card alone: shorter than any clock takes to fall far.
const LULL: Duration = Duration::from_millis(3);
/// How long a frame of `doldrums` leaves it alone, and one of its pauses.
const IDLE: Duration = Duration::from_millis(11);
const PAUSE: Duration = Duration::from_millis(16);

/// A frame that a card has drawn and verified.
#[derive(Debug, Clone, PartialEq)]
pub struct GpuFrame {
    /// Number of the frame, from the beginning of the run.
    pub number: u64,
    /// When it was finished, since the run began: by the card's own clock where it has one and the scene never lets it idle.
    pub at: Seconds,
    /// Wrong pixels of the whole frame, as the card or the processor has counted them.
    pub wrong_pixels: u64,
    /// Words of memory that were not what had been written.
    pub wrong_words: u64,
    /// The frame in the size of its reference, where it is known to be wrong.
    pub drawn: Option<Frame>,
}

/// A running scene on a card.
pub struct GpuRun {
    scene: SizedScene,
    canvas: Canvas,
    calibration: Calibration,
    begun: u64,
    finished: u64,
    began: Instant,
    /// Time that the card has worked, by its own clock.
    worked: f64,
    cross_check: CrossCheck,
}

impl GpuRun {
    /// Opens a card for a scene. `memory` bytes are written and verified besides by `sluice`, as far as there are so many;
    /// the calibration is kept in `kept`.
    ///
    /// # Errors
    /// There is no such card, or it fails.
    pub fn open(
        choice: &AdapterChoice,
        scene: SizedScene,
        memory: u64,
        kept: Option<&Path>,
    ) -> Result<Self, GpuError> {
        let card = GpuAdapter::open(choice)?;
        let calibration = Calibration::of(&card, kept)?;
        let mut canvas = Canvas::new(card, scene.size())?;
        if matches!(scene.scene(), Scene::Sluice | Scene::Medley) {
            canvas.take_memory(memory);
        }
        let cross_check = CrossCheck::of(scene);
        Ok(Self {
            scene,
            canvas,
            calibration,
            begun: 0,
            finished: 0,
            began: Instant::now(),
            worked: 0.0,
            cross_check,
        })
    }

    /// Goes back to before the first frame; frames on their way are waited for.
    ///
    /// # Errors
    /// The card fails.
    pub fn rewind(&mut self) -> Result<(), GpuError> {
        while self.finished < self.begun {
            self.canvas.finish()?;
            self.finished += 1;
        }
        (self.begun, self.finished, self.worked) = (0, 0, 0.0);
        self.began = Instant::now();
        Ok(())
    }

    /// Bytes of memory that patterns are written to.
    #[must_use]
    pub fn memory(&self) -> u64 {
        self.canvas.memory()
    }

    /// The next frame.
    ///
    /// # Errors
    /// The device is lost, or the card does not finish a frame.
    pub fn next_frame(&mut self) -> Result<GpuFrame, GpuError> {
        while self.begun < self.finished + self.canvas.depth() as u64 {
            self.begin_next()?;
        }
        let counts = self.canvas.finish()?;
        let number = self.finished;
        self.finished += 1;
        let mut frame = GpuFrame {
            number,
            at: self.now(counts.nanoseconds),
            wrong_pixels: u64::from(counts.wrong_pixels),
            wrong_words: u64::from(counts.wrong_words),
            drawn: None,
        };
        if counts.wrong_pixels > 0 {
            // Whatever else waits: this is what the run is for.
            let found = compare(self.scene, number, &self.canvas.frame()?);
            frame.wrong_pixels = frame.wrong_pixels.max(found.wrong_pixels);
            frame.drawn = found.drawn;
        } else if self.cross_check.wants_one() {
            let whole = self.canvas.frame()?;
            self.cross_check.take(number, whole);
        }
        if let Some(found) = self.cross_check.compared().filter(|found| found.wrong_pixels > 0) {
            // Of an earlier frame, which the card itself took for right.
            frame.wrong_pixels = frame.wrong_pixels.max(found.wrong_pixels);
            frame.drawn = frame.drawn.or(found.drawn);
        }
        Ok(frame)
    }

    fn begin_next(&mut self) -> Result<(), GpuError> {
        let number = self.begun;
        if let Some(pause) = self.pause_before(number) {
            thread::sleep(pause);
        }
        let (scene, place) = self.scene.shown(number);
        let rounds = self.calibration.rounds_of(self.scene.scene(), number);
        let turns_memory = scene == Scene::Sluice;
        let size = self.scene.size();
        self.canvas.begin(FrameOrder { scene, number: place, size, rounds, turns_memory })?;
        self.begun += 1;
        Ok(())
    }

    /// How long the card is left alone before a frame.
    fn pause_before(&self, number: u64) -> Option<Duration> {
        let is_calm = self.scene.is_calm(number);
        match self.scene.shown(number).0 {
            Scene::Squall if is_calm => Some(LULL),
            Scene::Doldrums if is_calm => Some(PAUSE),
            Scene::Doldrums => Some(IDLE),
            _ => None,
        }
    }

    fn now(&mut self, busy: Option<u64>) -> Seconds {
        let idles = matches!(self.scene.scene(), Scene::Squall | Scene::Doldrums | Scene::Medley);
        match busy.filter(|_| !idles) {
            Some(nanoseconds) => {
                self.worked += nanoseconds as f64 / 1e9;
                Seconds(self.worked)
            }
            None => Seconds(self.began.elapsed().as_secs_f64()),
        }
    }
}
