//! Where the limits of a unit lie, and what happens beyond them.
//!
//! | quantity | formula | units | source |
//! |---|---|---|---|
//! | core limit | `f_curve(V) + headroom(V, T) − droop` | MHz | assumption: a unit is so many MHz better than the curve its maker ships |
//! | curve beyond its top | `slope · dV / (1 + dV / 50 mV)` | MHz | alpha-power law of delay: ever less clock for a volt (Sakurai and Newton 1990) |
//! | faults | `exp(past / e-fold) / 24 h` | per hour | path delays are spread normally; the tail of that is close to exponential |
//! | combined droop | `mhz · other domain's share of its headroom` | MHz | assumption: core and memory controller share a supply |
//! | droop of a load change | `mhz · activity not yet supplied` | MHz | voltage droop ∝ change of current through the supply's impedance |
//! | resent transfers | `0.001 · exp(MHz beyond the onset / e-fold)` | share | bit errors of a link grow exponentially with lost margin |
//! | stretched clock | `share · (past − onset)` | MHz | assumption: a clock that follows droops gives up more than it won |

use super::faults::Onset;
use super::model::TimingLevel;
use super::physics::{Controls, Physics};

/// Memory-side voltage above stock at which half of the gain is gone, mV.
const MEMORY_SATURATES_MV: f64 = 120.0;
/// MHz of memory headroom between the idlest and the busiest bus.
const TRAFFIC_MHZ: f64 = 24.0;

/// How far past the clock at which the mean time to a fault is 24 h each domain is, in e-folds of
/// the fault rate; negative is safe ground.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Past {
    pub core: f64,
    pub memory: f64,
}

impl Past {
    /// Faults per hour in all, but for those that have nothing to do with clocks.
    pub(super) fn faults_per_hour(self, onset: Onset) -> f64 {
        onset.rate(self.core) + onset.rate(self.memory)
    }
}

impl Physics {
    /// How far past the stock curve the core runs, MHz.
    fn core_beyond_curve(&self, controls: &Controls) -> f64 {
        let point = self.point(controls);
        point.mhz - self.stock_clock(point.volt, controls)
    }

    /// MHz past the core's limit, but for the droop of a load change.
    fn core_past_steady(&self, controls: &Controls) -> f64 {
        let (silicon, unit) = (&self.model.silicon, &self.unit);
        let memory_share = (controls.memory_offset / unit.memory_headroom).clamp(0.0, 1.5);
        let headroom = unit.headroom
            + silicon.headroom_mhz_per_v * (self.point(controls).volt - 0.95)
            + silicon.headroom_mhz_per_c * (self.die - 65.0)
            - silicon.together_core_mhz * memory_share
            - unit.geometry * (self.geometry - 0.5);
        self.core_beyond_curve(controls) - headroom
    }

    /// Actual MHz past the memory's limit.
    fn memory_past(&self, controls: &Controls) -> f64 {
        let (memory, silicon) = (&self.model.memory, &self.model.silicon);
        let core_share = (self.core_beyond_curve(controls) / self.unit.headroom).clamp(0.0, 1.5);
        let mv = controls.memory_millivolt;
        let by_voltage =
            memory.headroom_mhz_per_mv * mv / (1.0 + mv.max(0.0) / MEMORY_SATURATES_MV);
        let by_timing = self.timing_level(controls).map_or(0.0, |level| level.edge_mhz);
        let headroom = self.unit.memory_headroom
            + memory.headroom_mhz_per_c * (self.memory - 60.0)
            + by_voltage
            + by_timing
            - silicon.together_memory_mhz * core_share
            - TRAFFIC_MHZ * (self.traffic - 0.5);
        controls.memory_offset - headroom
    }

    fn timing_level(&self, controls: &Controls) -> Option<TimingLevel> {
        self.model.memory.timing_levels.get(controls.timing.checked_sub(1)?).copied()
    }

    /// How far past their limits core and memory are now.
    pub(super) fn past(&self, controls: &Controls) -> Past {
        let droop = self.model.silicon.transition_mhz * self.transient();
        let early = if self.is_light { self.model.faults.light_load_mhz } else { 0.0 };
        let core = self.core_past_steady(controls) + droop + early + self.edges_lower_by.0;
        let memory = match self.model.memory.never_fails {
            true => f64::NEG_INFINITY,
            false => self.memory_past(controls) + self.edges_lower_by.1,
        };
        Past {
            core: core / self.model.silicon.hazard_mhz,
            memory: memory / self.model.memory.hazard_mhz,
        }
    }

    /// MHz by which the clock is stretched.
    pub(super) fn stretched(&self, controls: &Controls) -> f64 {
        let beyond = self.core_past_steady(controls) - self.unit.stretches_from;
        let most = self.core_clock(controls) * 0.3;
        (self.model.silicon.stretched_share * beyond.max(0.0)).min(most)
    }

    /// Rate at which the memory really delivers, as actual MHz.
    pub(super) fn memory_rate(&self, controls: &Controls) -> f64 {
        let memory = &self.model.memory;
        let offset = controls.memory_offset;
        let relaxed: f64 =
            memory.relaxes.iter().map(|(from, width)| (offset - from).clamp(0.0, *width)).sum();
        let timing = self.timing_level(controls).map_or(0.0, |level| level.gain);
        let resent = memory.corrects_from_mhz.map_or(0.0, |from| {
            let beyond = (self.memory_past(controls) + from) / memory.corrects_mhz;
            0.001 * beyond.min(8.0).exp()
        });
        (memory.clock_mhz + offset - relaxed) * (1.0 + timing) / (1.0 + resent)
    }
}

#[cfg(test)]
mod tests {
    use super::super::model::{Model, curve_clock};
    use super::*;
    use rstest::rstest;

    fn model() -> Model {
        Model::read(include_str!("../../cards/tarn-310.toml")).unwrap()
    }

    #[test]
    fn at_its_limit_a_domain_has_a_fault_a_day_and_each_e_fold_more_e_times_as_many() {
        let rate = |past| Onset::Exponential.rate(past);
        assert!((rate(0.0) * 24.0 - 1.0).abs() < 1e-12);
        for past in [-8.0, -1.0, 0.0, 3.0, 10.0] {
            let ratio = rate(past + 1.0) / rate(past);
            assert!((ratio - std::f64::consts::E).abs() < 1e-9, "{past}: {ratio}");
        }
        assert_eq!(rate(40.0), rate(15.0), "beyond some point all fails at once");
    }

    #[rstest]
    #[case(0.0, -50.0)]
    #[case(-50.0, 0.0)]
    #[case(1.5, 1.5)]
    fn faults_of_both_domains_add_up(#[case] core: f64, #[case] memory: f64) {
        let onset = Onset::Exponential;
        let both = Past { core, memory }.faults_per_hour(onset);
        assert!((both - onset.rate(core) - onset.rate(memory)).abs() < 1e-12);
        assert!(both >= onset.rate(core.max(memory)));
    }

    #[test]
    fn the_curve_goes_through_its_points_and_rises_between_them() {
        let model = model();
        for (millivolt, mhz) in &model.clocks.curve {
            let at = curve_clock(&model, millivolt / 1_000.0);
            assert!((at - mhz).abs() < 1e-6, "{millivolt} mV: {at}, not {mhz}");
        }
        let clocks: Vec<f64> = (600..1_200)
            .map(|millivolt| curve_clock(&model, f64::from(millivolt) / 1_000.0))
            .collect();
        assert!(clocks.windows(2).all(|pair| pair[0] <= pair[1]));
    }

    #[test]
    fn above_its_top_a_volt_brings_ever_less_clock() {
        let model = model();
        let (top, mhz) = *model.clocks.curve.last().unwrap();
        let above = |millivolt: f64| curve_clock(&model, (top + millivolt) / 1_000.0) - mhz;
        let gains = [10.0, 20.0, 30.0, 40.0].map(|at| above(at) - above(at - 10.0));
        assert!(gains.windows(2).all(|pair| pair[1] < pair[0] && pair[1] > 0.0), "{gains:?}");
        // At 50 mV half of what the slope promises is gone.
        let slope = above(1e-3) / 1e-3;
        assert!((above(50.0) / (slope * 50.0) - 0.5).abs() < 0.01, "{}", above(50.0) / slope);
    }
}
