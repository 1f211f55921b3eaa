//! Where the edges of a unit truly lie: for judging a climb afterwards, never for climbing.

use serde::Serialize;
use yard_step_core::{
    Demand, Fan, Mhz, MhzOffset, MillivoltOffset, Offer, Percent, SettingKind, Settings, Watt,
};

use super::StandIn;
use super::brief::{Progress, WARM_UP_SECONDS, heat_up, units};
use super::physics::{Controls, Physics, STEP};

/// The true edges of a card: for each setting it offers, the furthest value whose expected time to
/// the first fault is at least 24 h once the card is warm, everything else at stock and the fan
/// full.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Edges {
    /// Highest core clock offset.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub core_offset_mhz: Option<MhzOffset>,
    /// Highest offset of the actual memory clock.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory_offset_mhz: Option<MhzOffset>,
    /// Highest clock, of a card with a window.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clock_maximum_mhz: Option<Mhz>,
    /// Lowest voltage offset.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub voltage_offset_mv: Option<MillivoltOffset>,
}

/// What a card does at certain settings once it is warm, without its faults.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Warm {
    /// Faults to expect per hour.
    pub faults_per_hour: f64,
    /// Work units per second.
    pub score: f64,
    /// Mean core clock, MHz.
    pub clock: Mhz,
    /// Mean power of the board, W.
    pub power: Watt,
}

const MEASURED_SECONDS: f64 = 600.0;
const FAULTS_PER_HOUR: f64 = 1.0 / 24.0;

impl StandIn {
    /// Finds the edges by running the model without its faults. `demand` says what a frame of the
    /// scene asks for.
    #[must_use]
    pub fn edges(&self, demand: impl Fn(u64) -> Demand) -> Edges {
        let edge = |kind| self.edge_of(kind, &full_fan(), &demand);
        let whole = |kind| edge(kind).map(|value| value.round() as i32);
        Edges {
            core_offset_mhz: whole(SettingKind::CoreOffset).map(MhzOffset),
            memory_offset_mhz: whole(SettingKind::MemoryOffset).map(MhzOffset),
            clock_maximum_mhz: edge(SettingKind::ClockMaximum).map(Mhz),
            voltage_offset_mv: whole(SettingKind::VoltageOffset).map(MillivoltOffset),
        }
    }

    /// The furthest value of one setting that holds, beside `others`; none where it is not offered.
    #[must_use]
    pub fn edge_of(
        &self,
        kind: SettingKind,
        others: &Settings,
        demand: &impl Fn(u64) -> Demand,
    ) -> Option<f64> {
        let offer = self.description.offer(kind)?;
        let bins = ((offer.maximum - offer.minimum) / offer.step).floor() as usize;
        // The fault rate rises towards the dangerous end, so the edge is found by bisection.
        let (mut holds, mut fails) = (0, bins + 1);
        while fails - holds > 1 {
            let middle = usize::midpoint(holds, fails);
            let mut settings = *others;
            settings.set(kind, Some(towards_danger(offer, middle)));
            if self.warm(&settings, demand).faults_per_hour <= FAULTS_PER_HOUR {
                holds = middle;
            } else {
                fails = middle;
            }
        }
        Some(towards_danger(offer, holds))
    }

    /// What the card does at `settings` once it is warm, when nothing fails.
    #[must_use]
    pub fn warm(&self, settings: &Settings, demand: &impl Fn(u64) -> Demand) -> Warm {
        let controls = Controls::of(settings, &self.model, 1.0);
        let room = self.physics.room();
        let mut physics = Physics::new(self.model.clone(), self.unit, room);
        let mut progress = Progress::default();
        heat_up(&mut physics, &controls, demand, WARM_UP_SECONDS, &mut progress);
        let (mut faults, mut done, mut clock, mut power) = (0.0, 0.0, 0.0, 0.0);
        let steps = (MEASURED_SECONDS / STEP).floor();
        for _ in 0..steps as usize {
            let asked = demand(progress.frame);
            physics.step(STEP, Some(&asked), 0.0, &controls);
            let units = units(&physics, &controls, &asked, STEP);
            progress.add(units, &asked);
            faults += physics.past(&controls).faults_per_hour(self.model.faults.onset);
            done += units;
            clock += physics.core_clock(&controls);
            power += physics.board_power;
        }
        Warm {
            faults_per_hour: faults / steps,
            score: done / MEASURED_SECONDS,
            clock: Mhz(clock / steps),
            power: Watt(power / steps),
        }
    }
}

/// The value `steps` steps from the safe end of a range: low clocks and high voltages are safe.
fn towards_danger(offer: &Offer, steps: usize) -> f64 {
    let way = steps as f64 * offer.step;
    match offer.kind {
        SettingKind::VoltageOffset => offer.maximum - way,
        _ => offer.minimum + way,
    }
}

fn full_fan() -> Settings {
    Settings { fan: Some(Fan::Fixed(Percent(100.0))), ..Settings::default() }
}
