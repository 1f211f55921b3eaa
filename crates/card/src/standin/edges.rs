//! Where the edges of an individual truly lie: for judging a climb afterwards, never for climbing.

use serde::Serialize;
use yard_step_core::{Demand, MhzOffset, SettingKind};

use super::StandIn;
use super::physics::{Physics, STEP};

/// The true edges of a card.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Edges {
    /// Highest core clock offset, at stock voltage and full fan, whose expected time to the first
    /// fault is at least 24 h once the card is warm.
    pub core_offset_mhz: MhzOffset,
}

const WARM_UP_SECONDS: usize = 1_500;
const MEASURED_SECONDS: usize = 600;
const FAULTS_PER_HOUR: f64 = 1.0 / 24.0;

impl StandIn {
    /// Finds the edges by running the model without its faults. `demand` says what a frame of the
    /// scene asks for.
    #[must_use]
    pub fn edges(&self, demand: impl Fn(u64) -> Demand) -> Edges {
        let Some(offer) = self.description.offer(SettingKind::CoreOffset) else {
            return Edges { core_offset_mhz: MhzOffset::STOCK };
        };
        // The fault rate rises with the offset, so the edge is found by halving.
        let bins = ((offer.maximum - offer.minimum) / offer.step).floor() as usize;
        let (mut holds, mut fails) = (0, bins + 1);
        while fails - holds > 1 {
            let middle = usize::midpoint(holds, fails);
            let offset = offer.minimum + middle as f64 * offer.step;
            if self.mean_faults_per_hour(offset, &demand) <= FAULTS_PER_HOUR {
                holds = middle;
            } else {
                fails = middle;
            }
        }
        let offset = offer.minimum + holds as f64 * offer.step;
        Edges { core_offset_mhz: MhzOffset(offset.round() as i32) }
    }

    fn mean_faults_per_hour(&self, offset: f64, demand: &impl Fn(u64) -> Demand) -> f64 {
        let mut controls = self.controls();
        (controls.core_offset, controls.fan, controls.odd) = (offset, Some(100.0), 1.0);
        let mut physics = Physics::new(self.model.clone(), self.individual);
        let per_second = (1.0 / STEP) as usize;
        let (mut work, mut frame, mut faults) = (0.0, 0, 0.0);
        for step in 0..(WARM_UP_SECONDS + MEASURED_SECONDS) * per_second {
            let asked = demand(frame);
            physics.step(STEP, Some(&asked), 0.0, &controls);
            work += physics.throughput(&asked, &controls) * STEP;
            while work >= asked.work_per_frame {
                work -= asked.work_per_frame;
                frame += 1;
            }
            if step >= WARM_UP_SECONDS * per_second {
                faults += physics.faults_per_hour(&controls);
            }
        }
        faults / (MEASURED_SECONDS * per_second) as f64
    }
}
