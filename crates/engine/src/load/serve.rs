//! The other side: a scene as the load process runs it.

use std::io::{self, BufRead, Write, stdin, stdout};
use std::process::exit;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use yard_step_card::slot::{Device, DeviceError};
use yard_step_core::{Frame, Seconds, score_pass};
use yard_step_scenes::{PASS_FRAMES, Scene, look_at, reference};

use super::protocol::{FrameLine, FromLoad, Reason, VERSION};

/// Time between two heartbeats.
const HEARTBEAT: Duration = Duration::from_millis(500);
/// Exit code of a load that lost its device.
const DEVICE_LOST: i32 = 70;

/// How long a scene is run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Level {
    /// Once through, for a score.
    Pass,
    /// Until it is told to stop; a score after every pass.
    Soak,
}

/// What is said goes out line by line, whichever thread says it.
#[derive(Clone, Default)]
struct Voice(Arc<Mutex<()>>);

impl Voice {
    fn say(&self, message: &FromLoad) -> io::Result<()> {
        let _turn = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        write_line(message)
    }

    /// Says goodbye and ends the process; nothing is said after that.
    fn leave(&self, reason: Reason, code: i32) -> ! {
        let _turn = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        // With nobody listening any more there is nobody to be told.
        let _ = write_line(&FromLoad::Bye { reason });
        exit(code)
    }
}

fn write_line(message: &FromLoad) -> io::Result<()> {
    let mut line = serde_json::to_vec(message)?;
    line.push(b'\n');
    let mut out = stdout().lock();
    out.write_all(&line)?;
    out.flush()
}

/// Runs a scene on a device: the whole of the load process. It ends the process when it is told to
/// stop, and when the device is lost.
///
/// # Errors
/// Nobody listens any more, or the card cannot be reached.
pub fn serve(scene: Scene, level: Level, mut device: Device) -> Result<(), DeviceError> {
    let voice = Voice::default();
    voice.say(&FromLoad::Hello { protocol: VERSION, name: scene.name().into() })?;
    let frames = Arc::new(AtomicU64::new(0));
    stop_when_told(voice.clone());
    beat(voice.clone(), Arc::clone(&frames));
    let mut finished: Vec<(usize, Seconds)> = Vec::new();
    let mut began = Seconds(0.0);
    for number in 0.. {
        let mut frame: Frame = reference(scene, number).clone();
        let at = match device.draw(&scene.demand(number), &mut frame) {
            Ok(at) => at,
            Err(DeviceError::Lost) => voice.leave(Reason::DeviceLost, DEVICE_LOST),
            Err(error) => return Err(error),
        };
        let checked = look_at(scene, number, &frame, at);
        voice.say(&FromLoad::Frame(FrameLine::of(&checked)))?;
        frames.store(number + 1, Ordering::Relaxed);
        finished.push((checked.section, at - began));
        if finished.len() as u64 == PASS_FRAMES {
            let score = score_pass(&finished, scene.sections(), scene.work_per_frame());
            if let Some(score) = score {
                voice.say(&FromLoad::Score(score))?;
            }
            if level == Level::Pass {
                voice.leave(Reason::Done, 0);
            }
            finished.clear();
            began = at;
        }
    }
    Ok(())
}

/// Ends the process on the word to stop, and when whoever started it is gone.
fn stop_when_told(voice: Voice) {
    thread::spawn(move || {
        // Whatever comes first, a word or the end of the input: there is only one thing to say.
        let _ = stdin().lock().read_line(&mut String::new());
        voice.leave(Reason::Stopped, 0);
    });
}

fn beat(voice: Voice, frames: Arc<AtomicU64>) {
    thread::spawn(move || {
        while voice.say(&FromLoad::Heartbeat { frames: frames.load(Ordering::Relaxed) }).is_ok() {
            thread::sleep(HEARTBEAT);
        }
    });
}
