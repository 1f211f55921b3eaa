//! Balanced: a mild overclock on a mild undervolt. A share of the overclock that was found, of both clocks, and a little
//! less undervolt than that allows.

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

    fn base(&self, climb: &Climb, stage: Stage) -> Option<Settings> {
        let share = climb.plan.balanced.share_percent / 100.0;
        let mut base = climb.with_stock(self.domain(), stage);
        let core = climb.axis(Domain::Core)?;
        core.write(&mut base, core.bin(f64::from(climb.kept_alone(Domain::Core).0) * share));
        if let Some(memory) = climb.axis(Domain::Memory) {
            let found = f64::from(memory.read(&base).0);
            memory.write(&mut base, memory.bin(found * share));
        }
        Some(base)
    }

    fn gives_score_up(&self) -> bool {
        true
    }

    fn eased_by(&self, climb: &Climb) -> i32 {
        climb.plan.balanced.ease_mv
    }

    /// The same share of how deep another strategy of the climb came, or else cards mostly come.
    fn first(&self, climb: &Climb, depth: &Depth) -> Option<i32> {
        let before = climb.stages.iter().take_while(|stage| **stage != Stage::Balanced);
        let known = before
            .filter(|stage| [Stage::UndervoltQuiet, Stage::UndervoltClock].contains(stage))
            .filter(|stage| climb.has_begun(**stage))
            .filter_map(|stage| climb.depth_kept(*stage))
            .last();
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
