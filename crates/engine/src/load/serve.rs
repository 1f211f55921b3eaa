//! The other side: a scene as the load process runs it.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use yard_step_card::DrawsAt;
use yard_step_card::slot::{Device, DeviceError, SlotAddress};
use yard_step_scenes::{SizedScene, look_at, reference};

use super::on_gpu;
use super::protocol::{FromLoad, Reason, VERSION};
use super::speech::{DEVICE_LOST, GpuPlaces, Level, Orders, Passes, Voice, beat, listen};

/// Frames that are handed in before the first of them is drawn: a card that is quick need not wait for the next.
const AHEAD: u64 = 24;

/// Runs a scene on the card at an address, once or as often as it is told to: the whole of the load process. It
/// ends the process when it is told to stop, and when the device is lost.
///
/// # Errors
/// Nobody listens any more, or the card cannot be reached.
pub fn serve(
    scene: SizedScene,
    level: Level,
    draws_at: &DrawsAt,
    places: &GpuPlaces,
) -> Result<(), DeviceError> {
    match draws_at {
        DrawsAt::Slot(slot) => serve_slot(scene, level, slot),
        DrawsAt::Gpu(address) => on_gpu::serve(scene, level, address, places),
    }
}

fn serve_slot(scene: SizedScene, level: Level, address: &SlotAddress) -> Result<(), DeviceError> {
    let (voice, orders) = (Voice::default(), Orders::default());
    let frames = Arc::new(AtomicU64::new(0));
    let mut device = Device::attach(address)?;
    listen(voice.clone(), orders.clone());
    beat(voice.clone(), Arc::clone(&frames));
    loop {
        orders.runs(Some(device.release()?));
        frames.store(0, Ordering::Relaxed);
        voice.say(&FromLoad::Hello { protocol: VERSION, name: scene.to_string() })?;
        match run(scene, level, &mut device, &voice, &frames) {
            _ if orders.is_to_rest() => {}
            Err(DeviceError::Lost) => voice.leave(Reason::DeviceLost, DEVICE_LOST),
            Err(error) => return Err(error),
            Ok(()) => voice.leave(Reason::Done, 0),
        }
        drop(device);
        voice.say(&FromLoad::Resting)?;
        if !orders.wait_for_begin() {
            voice.leave(Reason::Stopped, 0);
        }
        device = Device::attach(address)?;
    }
}

/// One run, from the first frame to the end of what was asked for.
fn run(
    scene: SizedScene,
    level: Level,
    device: &mut Device,
    voice: &Voice,
    frames: &AtomicU64,
) -> Result<(), DeviceError> {
    let mut passes = Passes::default();
    let last = level.frames();
    let mut handed_in = 0;
    for number in 0..last {
        while handed_in < last.min(number + AHEAD) {
            device.hand_in(&scene.demand(handed_in), scene.size().sides());
            handed_in += 1;
        }
        if device.has_to_wait() {
            voice.out()?;
        }
        let drawn = device.drawn(|| (*reference(scene, number)).clone())?;
        let at = drawn.at;
        let checked = look_at(scene, number, drawn.otherwise.as_ref(), at);
        passes.tell(scene, &checked, voice)?;
        frames.store(number + 1, Ordering::Relaxed);
    }
    Ok(())
}
