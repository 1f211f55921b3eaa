//! A scene on a graphics card, as the load process runs it.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use yard_step_card::slot::DeviceError;
use yard_step_core::{Artifact, ArtifactKind, CheckedFrame, Domain, PixelArea};
use yard_step_gpu::{AdapterChoice, GpuError, GpuFrame, GpuRun};
use yard_step_scenes::{SizedScene, look_at};

use super::protocol::{FromLoad, Reason, VERSION};
use super::speech::{DEVICE_LOST, GpuPlaces, Level, Orders, Passes, Voice, beat, listen};

/// Runs a scene on the card at an address, once or as often as it is told to. It ends the process when it is told to
/// stop, and when the device is lost.
///
/// # Errors
/// Nobody listens any more.
pub(super) fn serve(
    scene: SizedScene,
    level: Level,
    address: &str,
    places: &GpuPlaces,
) -> Result<(), DeviceError> {
    let choice = AdapterChoice::of(address);
    let opened = GpuRun::open(&choice, scene, places.memory, places.kept.as_deref());
    let mut run = match opened {
        Ok(run) => run,
        Err(error) => Voice::speaking().leave_because(Reason::Failed, Some(error.to_string()), 1),
    };
    let (voice, orders) = (Voice::default(), Orders::default());
    let frames = Arc::new(AtomicU64::new(0));
    listen(voice.clone(), orders.clone());
    beat(voice.clone(), Arc::clone(&frames));
    loop {
        orders.runs(None);
        frames.store(0, Ordering::Relaxed);
        voice.say(&FromLoad::Hello { protocol: VERSION, name: scene.to_string() })?;
        let mut passes = Passes::default();
        for number in 0..level.frames() {
            if orders.is_to_rest() {
                break;
            }
            match run.next_frame() {
                Ok(frame) => passes.tell(scene, &checked(scene, frame), &voice)?,
                Err(error) => lose(&voice, &error),
            }
            voice.out()?;
            frames.store(number + 1, Ordering::Relaxed);
        }
        if !orders.is_to_rest() {
            voice.leave(Reason::Done, 0);
        }
        voice.say(&FromLoad::Resting)?;
        if !orders.wait_for_begin() {
            voice.leave(Reason::Stopped, 0);
        }
        if let Err(error) = run.rewind() {
            lose(&voice, &error);
        }
    }
}

fn lose(voice: &Voice, error: &GpuError) -> ! {
    voice.leave_because(Reason::DeviceLost, Some(error.to_string()), DEVICE_LOST)
}

/// What the checks have to say of a frame.
fn checked(scene: SizedScene, frame: GpuFrame) -> CheckedFrame {
    let mut checked = look_at(scene, frame.number, frame.drawn.as_ref(), frame.at);
    if frame.wrong_words > 0 {
        checked.artifacts.push(Artifact {
            kind: ArtifactKind::WrongWords,
            area: PixelArea { x: 0, y: 0, width: 0, height: 0 },
            pixels: frame.wrong_words,
            first_frame: frame.number,
            last_frame: frame.number,
            frames: 1,
            hint: Domain::Memory,
        });
    }
    // Those of the whole frame, which has more pixels than its reference, and words beside them.
    checked.wrong_pixels = frame.wrong_pixels + frame.wrong_words;
    checked
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_core::Seconds;
    use yard_step_scenes::Scene;

    #[test]
    fn wrong_words_count_though_nothing_can_be_seen_of_them() {
        let frame =
            GpuFrame { number: 3, at: Seconds(1.0), wrong_pixels: 0, wrong_words: 2, drawn: None };
        let checked = checked(Scene::Sluice.into(), frame);
        assert_eq!((checked.wrong_pixels, checked.artifacts.len()), (2, 1));
        assert_eq!(checked.artifacts[0].hint, Domain::Memory);
    }
}
