//! In place of scenes on a graphics card, where this program is built without them.

use yard_step_card::slot::DeviceError;
use yard_step_scenes::SizedScene;

use super::protocol::Reason;
use super::speech::{GpuPlaces, Level, Voice};

/// Says that there is none, and ends the process.
pub(super) fn serve(_: SizedScene, _: Level, _: &str, _: &GpuPlaces) -> Result<(), DeviceError> {
    let why = "this Yard Step is built without scenes for graphics cards (feature gpu)";
    Voice::speaking().leave_because(Reason::Failed, Some(why.into()), 1)
}
