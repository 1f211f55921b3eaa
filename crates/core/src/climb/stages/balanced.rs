//! Balanced: a mild overclock on a mild undervolt. A share of the overclock that the core stage found,
//! and as much undervolt as that allows.

use crate::card::settings::Settings;
use crate::climb::search::depth::Depth;
use crate::climb::search::scale::Scale;
use crate::climb::stages::rules::Strategy;
use crate::climb::{Climb, ClimbError, Stage};
use crate::load::artifact::Domain;

/// The stage.
pub(in crate::climb) struct Balanced;

impl Strategy for Balanced {
    fn needs_clock(&self) -> bool {
        true
    }

    fn builds_on(&self, before: &[Stage]) -> Result<(), ClimbError> {
        if before.contains(&Stage::Core) { Ok(()) } else { Err(ClimbError::NothingToShare) }
    }

    fn base(&self, climb: &Climb) -> Option<Settings> {
        let mut base = climb.held_settings();
        let axis = climb.axis(Domain::Core)?;
        let share = climb.plan.balanced.share_percent / 100.0;
        let alone = f64::from(climb.kept_alone(Domain::Core).0);
        axis.write(&mut base, axis.bin(alone * share));
        Some(base)
    }

    /// The same share of how deep another strategy of the climb came, or else cards mostly come.
    fn first(&self, climb: &Climb, depth: &Depth) -> Option<i32> {
        let known = [Stage::UndervoltQuiet, Stage::UndervoltClock]
            .into_iter()
            .filter(|stage| climb.stages.contains(stage) && climb.has_begun(*stage))
            .find_map(|stage| climb.depth_kept(stage));
        let known = known
            .map_or_else(|| depth.belief(&climb.plan, &climb.experience).band(0.0).0, f64::from);
        Some(depth.bin(known * climb.plan.balanced.share_percent / 100.0))
    }

    fn keeps_its_clock(&self) -> bool {
        true
    }

    fn measures_without_depth(&self) -> bool {
        true
    }
}
