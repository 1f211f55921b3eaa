//! What every scene's process says and hears, wherever it draws.

use std::io::{self, BufRead, Read, Write, stdin, stdout};
use std::mem::replace;
use std::path::PathBuf;
use std::process::exit;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::Duration;

use yard_step_card::slot::Release;
use yard_step_core::{CheckedFrame, Seconds, score_pass};
use yard_step_scenes::{PASS_FRAMES, SizedScene};

use super::protocol::{FrameLine, FromLoad, Reason, ToLoad};

/// Time between two heartbeats.
const HEARTBEAT: Duration = Duration::from_millis(500);
/// Exit code of a load that lost its device.
pub(super) const DEVICE_LOST: i32 = 70;
/// Longest line that it is told, bytes.
const MOST_WORD: u64 = 1 << 10;
/// How long a load rests before it ends by itself: what it keeps in memory is of no use by then.
const RESTS: Duration = Duration::from_secs(60);

/// How long a scene is run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Level {
    /// Once through, for a score.
    Pass,
    /// Until it is told to stop; a score after every pass.
    Soak,
}

impl Level {
    /// Frames after which it ends by itself.
    pub(super) const fn frames(self) -> u64 {
        match self {
            Self::Pass => PASS_FRAMES,
            Self::Soak => u64::MAX,
        }
    }
}

/// Where a load that draws on a graphics card finds what it needs.
#[derive(Debug, Clone, Default)]
pub struct GpuPlaces {
    /// Directory in which the calibration of each card is kept.
    pub kept: Option<PathBuf>,
    /// Bytes of the card's memory that may be written and verified.
    pub memory: u64,
}

/// What is said goes out line by line, whichever thread says it.
#[derive(Clone, Default)]
pub(super) struct Voice(Arc<Mutex<Speech>>);

#[derive(Default)]
struct Speech {
    speaks: bool,
    /// Lines about frames, which go out together before anything is waited for, and before any other line.
    kept: Vec<u8>,
}

impl Voice {
    /// One that is heard before its hello, for whoever has to say why there is none.
    pub(super) fn speaking() -> Self {
        let voice = Self::default();
        voice.speech().speaks = true;
        voice
    }

    pub(super) fn say(&self, message: &FromLoad) -> io::Result<()> {
        let mut speech = self.speech();
        match message {
            // Between the two nothing is said, not even that it is alive.
            FromLoad::Hello { .. } => speech.speaks = true,
            FromLoad::Resting => speech.speaks = false,
            _ if !speech.speaks => return Ok(()),
            _ => {}
        }
        speech.keep(message)?;
        if matches!(message, FromLoad::Frame(_)) { Ok(()) } else { speech.out() }
    }

    /// Lets out what was kept of frames.
    pub(super) fn out(&self) -> io::Result<()> {
        self.speech().out()
    }

    /// Says goodbye and ends the process; nothing is said after that.
    pub(super) fn leave(&self, reason: Reason, code: i32) -> ! {
        self.leave_because(reason, None, code)
    }

    /// The same with the reason in words.
    pub(super) fn leave_because(&self, reason: Reason, why: Option<String>, code: i32) -> ! {
        let mut speech = self.speech();
        // With nobody listening any more there is nobody to be told.
        let _ = speech.keep(&FromLoad::Bye { reason, why }).and_then(|()| speech.out());
        exit(code)
    }

    fn speech(&self) -> MutexGuard<'_, Speech> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Speech {
    fn keep(&mut self, message: &FromLoad) -> io::Result<()> {
        serde_json::to_writer(&mut self.kept, message)?;
        self.kept.push(b'\n');
        Ok(())
    }

    fn out(&mut self) -> io::Result<()> {
        let mut out = stdout().lock();
        let written = out.write_all(&self.kept).and_then(|()| out.flush());
        self.kept.clear();
        written
    }
}

/// Whether it is to run, as far as it has been told.
#[derive(Clone, Default)]
pub(super) struct Orders(Arc<(Mutex<Order>, Condvar)>);

#[derive(Default)]
enum Order {
    /// To run; on this device once it has attached itself.
    #[default]
    Begin,
    Run(Option<Release>),
    Rest,
}

impl Orders {
    fn order(&self) -> MutexGuard<'_, Order> {
        self.0.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn is_to_rest(&self) -> bool {
        matches!(*self.order(), Order::Rest)
    }

    /// Notes that it runs; `device` is let go when it is to rest.
    pub(super) fn runs(&self, device: Option<Release>) {
        *self.order() = Order::Run(device);
    }

    fn rest(&self) {
        // Whoever waits for the card learns of it at once.
        if let Order::Run(Some(device)) = replace(&mut *self.order(), Order::Rest) {
            device.now();
        }
    }

    fn begin(&self) {
        *self.order() = Order::Begin;
        self.0.1.notify_all();
    }

    /// Waits for the word to begin; whether it came in time.
    pub(super) fn wait_for_begin(&self) -> bool {
        let rests = |order: &mut Order| matches!(order, Order::Rest);
        let waited = self.0.1.wait_timeout_while(self.order(), RESTS, rests);
        !waited.unwrap_or_else(PoisonError::into_inner).1.timed_out()
    }
}

/// The frames of the present pass, by section, and when it began.
#[derive(Default)]
pub(super) struct Passes {
    finished: Vec<(usize, Seconds)>,
    began: Seconds,
}

impl Passes {
    /// Tells of a frame, and of the score where a pass ends with it.
    pub(super) fn tell(
        &mut self,
        scene: SizedScene,
        checked: &CheckedFrame,
        voice: &Voice,
    ) -> io::Result<()> {
        voice.say(&FromLoad::Frame(FrameLine::of(checked)))?;
        self.finished.push((checked.section, checked.at - self.began));
        if self.finished.len() as u64 == PASS_FRAMES {
            let score = score_pass(&self.finished, scene.sections(), scene.work_per_frame());
            if let Some(score) = score {
                voice.say(&FromLoad::Score(score))?;
            }
            self.finished.clear();
            self.began = checked.at;
        }
        Ok(())
    }
}

/// Does what the lines of the input say. The process ends on the word to stop, on one that it does not know, and
/// when whoever started it is gone.
pub(super) fn listen(voice: Voice, orders: Orders) {
    thread::spawn(move || {
        let mut input = stdin().lock();
        loop {
            let mut line = String::new();
            // A word is short; what goes on for longer is none.
            let read = input.by_ref().take(MOST_WORD).read_line(&mut line);
            match read.map(|_| serde_json::from_str(&line)) {
                Ok(Ok(ToLoad::Rest)) => orders.rest(),
                Ok(Ok(ToLoad::Begin)) => orders.begin(),
                Ok(Ok(ToLoad::Stop) | Err(_)) | Err(_) => voice.leave(Reason::Stopped, 0),
            }
        }
    });
}

pub(super) fn beat(voice: Voice, frames: Arc<AtomicU64>) {
    thread::spawn(move || {
        while voice.say(&FromLoad::Heartbeat { frames: frames.load(Ordering::Relaxed) }).is_ok() {
            thread::sleep(HEARTBEAT);
        }
    });
}
