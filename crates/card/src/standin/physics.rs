//! The physical model of a card: power, heat, boost and throughput, in steps of a tenth of a
//! second. What it says of faults and of the edges is in [`limits`](super::limits).
//!
//! ```text
//!   controls ─► govern ─► clock, voltage ─► chip, memory, fan, board power ─► warm ─► temperatures
//!                 ▲                                    │                               │
//!                 └──────── power, current, heat ──────┴───────────────────────────────┘
//! ```
//!
//! | quantity | formula | units | source |
//! |---|---|---|---|
//! | switching power | `k · activity · V² · f` | W, V, GHz | dynamic power of CMOS logic (Weste and Harris, *CMOS VLSI Design*, ch. 5) |
//! | leakage power | `k · V · 2^((T − 60) / d)` | W, V, °C | subthreshold leakage, linearised in V (same, ch. 5) |
//! | chip current | `P_chip / V` | A | |
//! | regulator loss | `P_0 + R · I²` | W, Ω, A | conduction loss of a buck converter (Erickson and Maksimović, *Fundamentals of Power Electronics*, ch. 3) |
//! | memory power | `P · traffic · f / f_stock · (V / V_stock)²` | W | as switching power |
//! | fan power | `P_full · n³` | W, share of full speed | fan affinity laws |
//! | board power | `chip + regulator + memory + fan + board` | W | one budget |
//! | die, memory and sink | `C · dT/dt = P_in − ΔT / R` each | J/K, K/W | lumped heat nodes (Incropera et al., *Heat and Mass Transfer*, ch. 5) |
//! | sink to air | `still + full · n^0.8` | W/K | forced convection over plates, Nusselt ∝ Re^0.8 (same, ch. 7) |
//! | air around the card | `τ · dT/dt = T_room + k · P − T` | K/W, s | an enclosure with a fixed exchange of air |
//! | frame time | `(1 − m) / f_core + m / r_memory` | share of stock | serial share of core and memory work (Amdahl) |
//! | memory rate | `(f − relaxed) · (1 + timing) / (1 + resent)` | MHz | assumption: every resent transfer takes its time again |
//! | window loss | `loss · min(1, (ln(width / best) / ln 6)²)` | share of the clock | assumption: a regulation loop hunts in a wide window and starves in a narrow one |

use yard_step_core::{
    Case, Celsius, CurveFollower, Demand, Fan, Room, SettingKind, Settings, VfCurve,
};

use super::model::{Heat, Model, Point, Power, Unit, curve_clock};

/// Length of a step in seconds.
pub(super) const STEP: f64 = 0.1;
/// The card regulates its power to this share of the limit.
const POWER_HEADROOM: f64 = 0.99;
/// Share by which the effective clock is below the reported one at best.
const CLOCK_LAG: f64 = 0.002;
/// How fast a clock comes up, MHz in a step: boards are quick to give in and slow to trust.
const UP_MHZ: f64 = 30.0;
/// How long a board puts up with more power than its limit when the clock must not go lower, s.
const OVERLOAD_SECONDS: f64 = 0.4;
/// How long it throttles then, s, and to which share of the lowest clock.
const THROTTLE_SECONDS: f64 = 0.6;
const THROTTLE_SHARE: f64 = 0.7;
/// How fast a card that regulates its fan to a temperature changes its speed, percent a second for each K.
const REGULATES: f64 = 0.6;
/// Time constant with which the supply of the chip follows its load, s.
const SUPPLY_SECONDS: f64 = 0.5;

/// A voltage of the curve with an offset on it, V; no chip runs on less than 0.4.
fn with_offset(volt: f64, offset: f64) -> f64 {
    (volt + offset).max(0.4)
}

/// What the stock curve gives at the voltage of each point with an offset on it, MHz.
fn stock_clocks(model: &Model, points: &[Point], offset: f64) -> Vec<f64> {
    points.iter().map(|point| curve_clock(model, with_offset(point.volt, offset))).collect()
}

/// What the card holds that the physics depends on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Controls {
    pub power_limit: f64,
    pub temperature_target: f64,
    pub core_offset: f64,
    pub memory_offset: f64,
    pub clock_minimum: f64,
    pub clock_maximum: f64,
    /// Offset of the core voltage, V.
    pub voltage_offset: f64,
    /// Memory-side voltage less its stock value, mV.
    pub memory_millivolt: f64,
    pub timing: usize,
    pub fan: Fan,
    pub frame_cap: f64,
    pub curve: Option<VfCurve>,
    /// The governor reads power wrongly (after a driver reset): factor on the limit.
    pub odd: f64,
}

impl Controls {
    /// What `held` means to a card of this model.
    pub(super) fn of(held: &Settings, model: &Model, odd: f64) -> Self {
        let value = |kind: SettingKind, otherwise: f64| held.get(kind).unwrap_or(otherwise);
        let stock = |kind| model.offer(kind).and_then(|offer| offer.stock);
        let stock_mv = model.memory.stock_mv.unwrap_or(0.0);
        Self {
            power_limit: value(
                SettingKind::PowerLimit,
                stock(SettingKind::PowerLimit).unwrap_or(f64::INFINITY),
            ),
            temperature_target: value(
                SettingKind::TemperatureTarget,
                model.heat.temperature_target_c,
            ),
            core_offset: value(SettingKind::CoreOffset, 0.0),
            memory_offset: value(SettingKind::MemoryOffset, 0.0),
            clock_minimum: value(SettingKind::ClockMinimum, 0.0),
            clock_maximum: value(
                SettingKind::ClockMaximum,
                stock(SettingKind::ClockMaximum).unwrap_or(f64::INFINITY),
            ),
            voltage_offset: value(SettingKind::VoltageOffset, 0.0) / 1_000.0,
            memory_millivolt: value(SettingKind::MemoryVoltage, stock_mv) - stock_mv,
            timing: value(SettingKind::MemoryTiming, 0.0) as usize,
            fan: held.fan.unwrap_or(Fan::Automatic),
            frame_cap: value(SettingKind::FrameCap, f64::INFINITY),
            curve: held.curve,
            odd,
        }
    }
}

/// The present state.
#[derive(Debug, Clone)]
pub(super) struct Physics {
    pub model: Model,
    pub unit: Unit,
    points: Vec<Point>,
    /// The curve that the points are of; none for the factory's.
    curve: Option<VfCurve>,
    /// What the stock curve gives at the voltage of each point, MHz, and the voltage offset with which that was
    /// worked out, V: it is asked for several times a step.
    stock_clocks: (Vec<f64>, f64),
    room: Room,
    /// The air around the card, °C.
    air: f64,
    bin: usize,
    heat_drop: f64,
    overload: f64,
    throttle_left: f64,
    activity: f64,
    /// Activity that the supply has settled to.
    supplied: f64,
    pub traffic: f64,
    pub geometry: f64,
    /// Share of the time in which a frame cap lets it work.
    pub duty: f64,
    pub die: f64,
    pub memory: f64,
    pub sink: f64,
    pub hot_spot: f64,
    /// Temperature of the voltage regulator, °C, and what it loses, W.
    pub regulator: f64,
    regulator_loss: f64,
    pub fan: f64,
    /// Whether the fan stands still whatever it is asked.
    pub fan_is_stuck: bool,
    /// Speed that a fan regulated to a temperature is at, percent.
    regulated: f64,
    follower: CurveFollower,
    pub chip_power: f64,
    memory_power: f64,
    pub board_power: f64,
    pub running: bool,
    /// Whether less than half of it is busy.
    pub is_light: bool,
    /// By how much the edges of core and memory are lower in this run, MHz.
    pub edges_lower_by: (f64, f64),
}

impl Physics {
    pub(super) fn new(model: Model, unit: Unit, room: Room) -> Self {
        let points = model.points();
        let stock_clocks = (stock_clocks(&model, &points, 0.0), 0.0);
        let air = room.ambient.value();
        Self {
            model,
            unit,
            points,
            curve: None,
            stock_clocks,
            room,
            air,
            bin: 0,
            heat_drop: 0.0,
            overload: 0.0,
            throttle_left: 0.0,
            activity: 0.0,
            supplied: 0.0,
            traffic: 0.5,
            geometry: 0.5,
            duty: 1.0,
            die: air + 8.0,
            memory: air + 8.0,
            sink: air + 6.0,
            hot_spot: air + 9.0,
            regulator: air + 6.0,
            regulator_loss: 0.0,
            fan_is_stuck: false,
            fan: 0.0,
            regulated: 0.0,
            follower: CurveFollower::default(),
            chip_power: 0.0,
            memory_power: 0.0,
            board_power: 0.0,
            running: false,
            is_light: false,
            edges_lower_by: (0.0, 0.0),
        }
    }

    /// The room it stands in.
    pub(super) fn room(&self) -> Room {
        self.room
    }

    /// Moves the card into another room; its heat it takes along.
    pub(super) fn set_room(&mut self, room: Room) {
        self.air += room.ambient.value() - self.room.ambient.value();
        self.room = room;
    }

    /// Moves on by `dt` seconds. `jitter` is a small relative deviation of the scene's activity.
    pub(super) fn step(
        &mut self,
        dt: f64,
        demand: Option<&Demand>,
        jitter: f64,
        controls: &Controls,
    ) {
        self.shape(controls);
        let idle = self.model.power.idle_activity;
        self.running = demand.is_some();
        self.is_light = demand.is_some_and(|demand| demand.load.value() < 50.0);
        self.duty = demand.map_or(1.0, |demand| self.duty_under(demand, controls));
        self.activity = demand.map_or(idle, |d| {
            let share = d.load.value() / 99.0 * self.duty;
            idle + (d.activity * (1.0 + jitter) - idle) * share
        });
        (self.traffic, self.geometry) = demand.map_or((0.5, 0.5), |d| (d.traffic, d.geometry));
        self.supplied += (self.activity - self.supplied) * (dt / SUPPLY_SECONDS).min(1.0);
        self.memory_power = self.memory_power_under(controls);
        self.govern(dt, controls);
        self.turn_fan(dt, controls);
        let point = self.shifted(self.bin, controls);
        self.chip_power = self.chip_power_at(point, self.warmth());
        self.board_power = self.board_power_of(self.chip_power, point.volt);
        self.regulator_loss = self.regulator_loss_of(self.chip_power, point.volt);
        self.warm(dt);
    }

    /// Lays out the bins of the curve that is held, where it is another than before. The card goes
    /// on at the clock it ran, as near as the new curve has it.
    fn shape(&mut self, controls: &Controls) {
        let is_same_curve = self.curve == controls.curve;
        if is_same_curve && self.stock_clocks.1 == controls.voltage_offset {
            return;
        }
        if !is_same_curve {
            self.lay_out(controls);
        }
        let offset = controls.voltage_offset;
        self.stock_clocks = (stock_clocks(&self.model, &self.points, offset), offset);
    }

    fn lay_out(&mut self, controls: &Controls) {
        let mhz = self.points.get(self.bin).map_or(0.0, |point| point.mhz);
        self.curve = controls.curve;
        self.points = match &self.curve {
            None => self.model.points(),
            Some(curve) => self.model.points_on(curve),
        };
        self.bin = self.points.partition_point(|point| point.mhz <= mhz).saturating_sub(1);
    }

    /// Clock that the stock curve gives at the voltage of the present point, MHz.
    pub(super) fn stock_clock(&self, volt: f64, controls: &Controls) -> f64 {
        let (clocks, offset) = &self.stock_clocks;
        match clocks.get(self.bin) {
            Some(clock) if *offset == controls.voltage_offset => *clock,
            _ => curve_clock(&self.model, volt),
        }
    }

    fn duty_under(&self, demand: &Demand, controls: &Controls) -> f64 {
        let frames = self.throughput(demand, controls) / demand.work_per_frame.max(1e-9);
        (controls.frame_cap / frames.max(1e-9)).min(1.0)
    }

    /// Chooses the clock: the highest point that power, current, heat and window allow.
    fn govern(&mut self, dt: f64, controls: &Controls) {
        if !self.running {
            (self.bin, self.heat_drop, self.throttle_left, self.overload) = (0, 0.0, 0.0, 0.0);
            return;
        }
        let allowed = self.allowed_by_heat(dt, controls);
        self.throttle_left = (self.throttle_left - dt).max(0.0);
        if self.throttle_left > 0.0 {
            self.bin = self.first_bin_at(controls.clock_minimum * THROTTLE_SHARE, controls);
            return;
        }
        let warmth = self.warmth();
        let limit = controls.power_limit * controls.odd * POWER_HEADROOM;
        let current = self.model.power.current_limit_a.unwrap_or(f64::INFINITY) * POWER_HEADROOM;
        let fits = |bin: usize| {
            let point = self.shifted(bin, controls);
            let chip = self.chip_power_at(point, warmth);
            chip / point.volt <= current && self.board_power_of(chip, point.volt) <= limit
        };
        let lowest = self.first_bin_at(controls.clock_minimum, controls).min(allowed);
        // Down at once as far as it takes, up a little each step.
        let mut bin = self.bin.clamp(lowest, allowed);
        while bin > lowest && !fits(bin) {
            bin -= 1;
        }
        if bin == lowest && lowest > 0 && !fits(bin) {
            // It may not go lower, and must not stay: the board pulls its own emergency brake.
            self.overload += dt;
            self.bin = bin;
            if self.overload >= OVERLOAD_SECONDS {
                (self.overload, self.throttle_left) = (0.0, THROTTLE_SECONDS);
            }
            return;
        }
        let most = (UP_MHZ / self.model.clocks.bin_mhz).round().max(2.0) as usize;
        for _ in 0..most {
            if bin >= self.bin.saturating_add(most) || bin >= allowed || !fits(bin + 1) {
                break;
            }
            bin += 1;
        }
        (self.bin, self.overload) = (bin, 0.0);
    }

    /// Highest bin that heat and the window's top allow. Above its target a card gives up one bin
    /// after the other, at the ceiling many at once.
    fn allowed_by_heat(&mut self, dt: f64, controls: &Controls) -> usize {
        let Heat { clock_drop_from_c, clock_drop_step_c, ceiling_c, .. } = self.model.heat;
        let above_target = self.die - controls.temperature_target;
        let bins_per_second = if self.die >= ceiling_c {
            1_800.0 / self.model.clocks.bin_mhz
        } else if above_target > 0.0 {
            (1.0 + above_target) * 15.0 / self.model.clocks.bin_mhz
        } else if above_target < -1.5 {
            -15.0 / self.model.clocks.bin_mhz
        } else {
            0.0
        };
        let highest = controls.clock_maximum - controls.core_offset;
        let top = self.points.partition_point(|p| p.mhz <= highest + 1e-9).saturating_sub(1);
        self.heat_drop = (self.heat_drop + bins_per_second * dt).clamp(0.0, top as f64);
        let warm_bins = ((self.die - clock_drop_from_c) / clock_drop_step_c).max(0.0);
        top.saturating_sub(warm_bins as usize).saturating_sub(self.heat_drop as usize)
    }

    fn first_bin_at(&self, mhz: f64, controls: &Controls) -> usize {
        let lowest = mhz - controls.core_offset;
        self.points.partition_point(|point| point.mhz < lowest - 1e-9).min(self.points.len() - 1)
    }

    /// A point of the curve with the offsets on its clock and its voltage.
    fn shifted(&self, bin: usize, controls: &Controls) -> Point {
        let point = self.points[bin];
        let offset = if self.running { controls.core_offset } else { 0.0 };
        Point { mhz: point.mhz + offset, volt: with_offset(point.volt, controls.voltage_offset) }
    }

    /// Factor on the leakage at the die's temperature.
    fn warmth(&self) -> f64 {
        ((self.die - 60.0) / self.model.power.leakage_doubling_c).exp2()
    }

    fn chip_power_at(&self, point: Point, warmth: f64) -> f64 {
        let Power { switching_w_per_v2_ghz, leakage_w_per_v, .. } = self.model.power;
        let switching =
            switching_w_per_v2_ghz * self.activity * point.volt.powi(2) * point.mhz / 1_000.0;
        switching + leakage_w_per_v * self.unit.leakage * point.volt * warmth
    }

    fn regulator_loss_of(&self, chip: f64, volt: f64) -> f64 {
        let power = &self.model.power;
        power.regulator_w + power.regulator_milliohm / 1_000.0 * (chip / volt).powi(2)
    }

    fn board_power_of(&self, chip: f64, volt: f64) -> f64 {
        let power = &self.model.power;
        let regulator = self.regulator_loss_of(chip, volt);
        let fan = power.fan_w * (self.fan / 100.0).powi(3);
        chip + regulator + self.memory_power + fan + power.board_w
    }

    fn memory_power_under(&self, controls: &Controls) -> f64 {
        let memory = &self.model.memory;
        let busy = if self.running { 0.4 + (0.2 + 0.8 * self.traffic) * self.duty } else { 0.35 };
        let volts = memory.stock_mv.map_or(1.0, |mv| 1.0 + controls.memory_millivolt / mv);
        let clock = 1.0 + controls.memory_offset / memory.clock_mhz;
        self.model.power.memory_w * busy * clock * volts.powi(2)
    }

    fn turn_fan(&mut self, dt: f64, controls: &Controls) {
        let heat = &self.model.heat;
        let wanted = match controls.fan {
            _ if self.fan_is_stuck => 0.0,
            Fan::Fixed(percent) => percent.value(),
            Fan::Curve(curve) => self.follower.next(&curve, Celsius(self.die)).value(),
            Fan::Target(target) => {
                let faster = REGULATES * (self.die - target.core.value()) * dt;
                self.regulated = (self.regulated + faster).clamp(target.least.value(), 100.0);
                self.regulated
            }
            Fan::Automatic if self.die < heat.fan_stops_below_c => 0.0,
            Fan::Automatic => {
                let speed =
                    heat.fan_from_percent + (self.die - heat.fan_from_c) * heat.fan_percent_per_c;
                speed.clamp(heat.fan_from_percent, 100.0)
            }
        };
        self.fan += (wanted - self.fan) * (dt / heat.fan_seconds).min(1.0);
    }

    fn warm(&mut self, dt: f64) {
        let heat = &self.model.heat;
        let mounted = self.unit.mounting;
        let from_die = (self.die - self.sink) / (heat.die_to_sink_k_per_w * mounted);
        let from_memory = (self.memory - self.sink) / heat.memory_to_sink_k_per_w;
        let to_air = heat.sink_w_per_k_still
            + heat.sink_w_per_k_full_fan * (self.fan / 100.0).max(0.0).powf(0.8);
        // Regulator and board give their heat to the same sink.
        let beside = self.board_power - self.chip_power - self.memory_power;
        self.die += (self.chip_power - from_die) / heat.die_j_per_k * dt;
        self.memory += (self.memory_power - from_memory) / heat.memory_j_per_k * dt;
        self.sink += (from_die + from_memory + beside - (self.sink - self.air) * to_air)
            / heat.sink_j_per_k
            * dt;
        self.hot_spot = self.die + heat.hot_spot_k_per_w * mounted * self.chip_power;
        self.regulator = self.sink + heat.regulator_k_per_w * self.regulator_loss;
        let case_k_per_w = match self.room.case {
            Case::Open => heat.case_k_per_w_open,
            Case::Closed => heat.case_k_per_w_closed,
        };
        let around = self.room.ambient.value() + case_k_per_w * self.board_power;
        self.air += (around - self.air) * dt / heat.case_seconds;
    }

    /// The point the card is at.
    pub(super) fn point(&self, controls: &Controls) -> Point {
        self.shifted(self.bin, controls)
    }

    /// Activity that the supply of the chip has not yet followed, 0 to 1: what droops the voltage.
    pub(super) fn transient(&self) -> f64 {
        (self.activity - self.supplied).max(0.0)
    }

    /// Core clock as reported, MHz.
    pub(super) fn core_clock(&self, controls: &Controls) -> f64 {
        self.point(controls).mhz
    }

    /// Clock at which work is done, MHz: the reported one less what regulation and stretching take.
    pub(super) fn effective_clock(&self, controls: &Controls) -> f64 {
        let regulated = self.core_clock(controls) * (1.0 - CLOCK_LAG - self.window_loss(controls));
        regulated - self.stretched(controls)
    }

    fn window_loss(&self, controls: &Controls) -> f64 {
        let width = controls.clock_maximum - controls.clock_minimum;
        if !width.is_finite() || self.model.silicon.window_loss == 0.0 {
            return 0.0;
        }
        let misfit = (width.max(1.0) / self.unit.window).ln() / 6.0_f64.ln();
        self.model.silicon.window_loss * misfit.powi(2).min(1.0)
    }

    /// Work units per second with the card to itself.
    pub(super) fn throughput(&self, demand: &Demand, controls: &Controls) -> f64 {
        let core = 2_000.0 / self.effective_clock(controls).max(1.0);
        let memory = self.model.memory.clock_mhz / self.memory_rate(controls).max(1.0);
        let time = (1.0 - demand.memory_share) * core + demand.memory_share * memory;
        self.model.throughput / time
    }

    /// Whether the card is so hot that it turns itself off.
    pub(super) fn is_too_hot(&self) -> bool {
        self.die >= self.model.heat.shutdown_c
    }
}
