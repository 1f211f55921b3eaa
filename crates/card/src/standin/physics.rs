//! The physical model of a card: power, heat, boost and throughput, in steps of a tenth of a
//! second.
//!
//! | quantity | formula | source |
//! |---|---|---|
//! | switching power | `k · activity · V² · f` | dynamic power of CMOS logic (Weste and Harris, *CMOS VLSI Design*, ch. 5) |
//! | leakage power | `k · V · 2^((T − 60) / d)` | subthreshold leakage, linearised in V (same, ch. 5) |
//! | board power | `chip / efficiency + memory + board + fan³` | fan affinity law: power grows with the cube of speed |
//! | die and sink | `C · dT/dt = P_in − ΔT / R` each | two-node lumped heat model (Incropera, ch. 5) |
//! | sink to air | `still + full · fan^0.8` | forced convection over plates, Nusselt ∝ Re^0.8 (same, ch. 7) |
//! | frame time | `(1 − m) / f_core + m / f_memory` | serial share of core and memory work (Amdahl) |

use yard_step_core::Demand;

use super::model::{Heat, Individual, Model, Point, Power};

/// Length of a step in seconds.
pub(super) const STEP: f64 = 0.1;
/// The card regulates its power to this share of the limit.
const POWER_HEADROOM: f64 = 0.99;
/// Work units per second at 2,000 MHz and the stock memory clock.
const UNITS_AT_2_GHZ: f64 = 1_000.0;
/// Share by which the effective clock is below the reported one.
const CLOCK_LAG: f64 = 0.002;

/// What the card holds that the physics depends on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Controls {
    pub power_limit: f64,
    pub temperature_target: f64,
    pub core_offset: f64,
    /// Fixed fan speed in percent, or automatic.
    pub fan: Option<f64>,
    /// The governor reads power wrongly (after a driver reset): factor on the limit.
    pub odd: f64,
}

/// The present state.
#[derive(Debug, Clone)]
pub(super) struct Physics {
    model: Model,
    individual: Individual,
    points: Vec<Point>,
    pub ambient: f64,
    bin: usize,
    heat_drop: f64,
    activity: f64,
    pub die: f64,
    pub sink: f64,
    pub hot_spot: f64,
    pub fan: f64,
    pub board_power: f64,
    running: bool,
}

impl Physics {
    pub(super) fn new(model: Model, individual: Individual) -> Self {
        let points = model.points();
        let ambient = model.heat.ambient_c;
        Self {
            model,
            individual,
            points,
            ambient,
            bin: 0,
            heat_drop: 0.0,
            activity: 0.0,
            die: ambient + 8.0,
            sink: ambient + 6.0,
            hot_spot: ambient + 9.0,
            fan: 0.0,
            board_power: 0.0,
            running: false,
        }
    }

    /// Moves on by `dt` seconds. `jitter` is a small relative deviation of the scene's activity.
    pub(super) fn step(
        &mut self,
        dt: f64,
        demand: Option<&Demand>,
        jitter: f64,
        controls: &Controls,
    ) {
        let idle = self.model.power.idle_activity;
        self.running = demand.is_some();
        self.activity = demand
            .map_or(idle, |d| idle + (d.activity * (1.0 + jitter) - idle) * d.load.value() / 99.0);
        self.govern(dt, controls);
        self.turn_fan(dt, controls);
        let offset = if self.running { controls.core_offset } else { 0.0 };
        let chip = self.chip_power(self.shifted(self.bin, offset), self.activity);
        self.board_power = self.board_power_of(chip);
        self.warm(dt, chip);
    }

    /// Chooses the clock: the highest point that power, heat and voltage allow.
    fn govern(&mut self, dt: f64, controls: &Controls) {
        if !self.running {
            self.bin = 0;
            self.heat_drop = 0.0;
            return;
        }
        let Heat { clock_drop_from_c, clock_drop_step_c, ceiling_c, .. } = self.model.heat;
        let above_target = self.die - controls.temperature_target;
        let pull = if self.die >= ceiling_c {
            120.0
        } else if above_target > 0.0 {
            1.0 + above_target
        } else if above_target < -1.5 {
            -1.0
        } else {
            0.0
        };
        let top = self.points.len() - 1;
        self.heat_drop = (self.heat_drop + pull * dt).clamp(0.0, top as f64);
        let warm_bins = ((self.die - clock_drop_from_c) / clock_drop_step_c).max(0.0);
        let allowed =
            top.saturating_sub(warm_bins as usize).saturating_sub(self.heat_drop as usize);

        let limit = controls.power_limit * controls.odd * POWER_HEADROOM;
        let offset = controls.core_offset;
        let fits = |bin: usize| self.power_at(bin, offset) <= limit;
        let mut bin = self.bin.min(allowed);
        // Down at once as far as it takes, up by two bins a step: boards are quick to give in and
        // slow to trust.
        while bin > 0 && !fits(bin) {
            bin -= 1;
        }
        for _ in 0..2 {
            if bin == self.bin.saturating_add(2) || bin >= allowed || !fits(bin + 1) {
                break;
            }
            bin += 1;
        }
        self.bin = bin;
    }

    fn power_at(&self, bin: usize, offset: f64) -> f64 {
        self.board_power_of(self.chip_power(self.shifted(bin, offset), self.activity))
    }

    /// A point of the curve with the offset on its clock: the voltage stays as it is.
    fn shifted(&self, bin: usize, offset: f64) -> Point {
        let point = self.points[bin];
        Point { mhz: point.mhz + offset, ..point }
    }

    fn chip_power(&self, point: Point, activity: f64) -> f64 {
        let Power { switching_w_per_v2_ghz, leakage_w_per_v, leakage_doubling_c, .. } =
            self.model.power;
        let switching =
            switching_w_per_v2_ghz * activity * point.volt.powi(2) * point.mhz / 1_000.0;
        let warmth = ((self.die - 60.0) / leakage_doubling_c).exp2();
        switching + leakage_w_per_v * self.individual.leakage * point.volt * warmth
    }

    fn board_power_of(&self, chip: f64) -> f64 {
        let power = &self.model.power;
        let memory = power.memory_w * if self.running { 1.0 } else { 0.35 };
        let fan = power.fan_w * (self.fan / 100.0).powi(3);
        chip / power.regulator_efficiency + memory + power.board_w + fan
    }

    fn turn_fan(&mut self, dt: f64, controls: &Controls) {
        let automatic =
            if self.die < 48.0 { 0.0 } else { (30.0 + (self.die - 50.0) * 1.6).clamp(30.0, 100.0) };
        let wanted = controls.fan.unwrap_or(automatic);
        self.fan += (wanted - self.fan) * (dt / self.model.heat.fan_seconds).min(1.0);
    }

    fn warm(&mut self, dt: f64, chip: f64) {
        let heat = &self.model.heat;
        let between =
            (self.die - self.sink) / (heat.die_to_sink_k_per_w * self.individual.mounting);
        let to_air = heat.sink_w_per_k_still
            + heat.sink_w_per_k_full_fan * (self.fan / 100.0).max(0.0).powf(0.8);
        // Memory and regulator give their heat to the same sink.
        let beside = self.board_power - chip;
        self.die += (chip - between) / heat.die_j_per_k * dt;
        self.sink +=
            (between + beside - (self.sink - self.ambient) * to_air) / heat.sink_j_per_k * dt;
        self.hot_spot = self.die + heat.hot_spot_k_per_w * self.individual.mounting * chip;
    }

    /// The point of the stock curve the card is at.
    fn point(&self) -> Point {
        self.points[self.bin]
    }

    /// Core clock as reported, MHz.
    pub(super) fn core_clock(&self, controls: &Controls) -> f64 {
        self.point().mhz + if self.running { controls.core_offset } else { 0.0 }
    }

    /// Clock at which work is done, MHz.
    pub(super) fn effective_clock(&self, controls: &Controls) -> f64 {
        self.core_clock(controls) * (1.0 - CLOCK_LAG)
    }

    /// Core voltage in mV.
    pub(super) fn millivolt(&self) -> f64 {
        self.point().volt * 1_000.0
    }

    /// Work units per second with the card to itself.
    pub(super) fn throughput(&self, demand: &Demand, controls: &Controls) -> f64 {
        let core = 2_000.0 / self.effective_clock(controls);
        UNITS_AT_2_GHZ / ((1.0 - demand.memory_share) * core + demand.memory_share)
    }

    /// MHz past the clock at which the mean time to a fault is 24 h; negative is safe ground.
    pub(super) fn past_the_limit(&self, controls: &Controls) -> f64 {
        let silicon = &self.model.silicon;
        let headroom = self.individual.headroom
            + silicon.headroom_mhz_per_v * (self.point().volt - 0.95)
            + silicon.headroom_mhz_per_c * (self.die - 65.0);
        controls.core_offset - headroom
    }

    /// Faults per hour: `exp(past / e-fold) / 24 h`. Timing errors grow exponentially with the
    /// lack of slack (path delays are spread normally; its tail is close to exponential).
    pub(super) fn faults_per_hour(&self, controls: &Controls) -> f64 {
        (self.past_the_limit(controls) / self.model.silicon.hazard_mhz).min(60.0).exp() / 24.0
    }

    /// Whether the card is so hot that it turns itself off.
    pub(super) fn is_too_hot(&self) -> bool {
        self.die >= self.model.heat.shutdown_c
    }
}
