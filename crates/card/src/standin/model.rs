//! The parameters of a stand-in: those of its kind, read from TOML, and those of the unit,
//! drawn from its seed.

use std::collections::BTreeMap;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Normal};
use serde::Deserialize;
use yard_step_core::{
    Absent, Ampere, CardDescription, CardLimits, Celsius, Channel, CurveKind, CurveOffer,
    FanControl, LimitField, LimitTable, LimitValue, MemoryWiring, Mhz, Millivolt, Offer, Reading,
    SettingKind, Span, UnknownField, VfCurve, Watt, settings_of,
};

use super::faults::Faults;
use crate::CardError;

/// Voltage above the curve's top at which half of the gain is gone, V.
const SATURATES_V: f64 = 0.05;

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Model {
    pub name: String,
    /// Work units per second at 2,000 MHz and the stock memory clock.
    pub throughput: f64,
    /// What it lets its fan be driven by.
    pub fan: FanControl,
    pub clocks: Clocks,
    pub memory: Memory,
    pub offers: Vec<Offer>,
    pub absent_settings: BTreeMap<SettingKind, String>,
    pub absent_sensors: BTreeMap<Channel, String>,
    pub power: Power,
    pub heat: Heat,
    pub silicon: Silicon,
    pub mishaps: Mishaps,
    pub limit_table: TableModel,
    /// How its family fails, where it is of one.
    #[serde(skip)]
    pub faults: Faults,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Clocks {
    pub boost_mhz: f64,
    pub bin_mhz: f64,
    /// Number of performance states, where the curve is made of them.
    pub states: Option<usize>,
    /// What can be moved of the curve, where anything can.
    pub shape: Option<Shape>,
    pub curve: Vec<(f64, f64)>,
}

/// How the curve is offered: at the voltages of its points, or a grid of them, and within which
/// ranges.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Shape {
    clocks: Span,
    voltages: Span,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Memory {
    kind: String,
    gib: u32,
    pub clock_mhz: f64,
    transfers_per_clock: u32,
    bus_bits: u32,
    headroom_mhz: f64,
    headroom_spread_mhz: f64,
    headroom_lowest_mhz: f64,
    headroom_highest_mhz: f64,
    pub headroom_mhz_per_c: f64,
    #[serde(default)]
    pub headroom_mhz_per_mv: f64,
    pub hazard_mhz: f64,
    /// Missing where the memory corrects nothing.
    pub corrects_from_mhz: Option<f64>,
    #[serde(default = "one")]
    pub corrects_mhz: f64,
    pub relaxes: Vec<(f64, f64)>,
    #[serde(default)]
    pub timing_levels: Vec<TimingLevel>,
    /// Memory-side voltage at stock, where there is one.
    pub stock_mv: Option<f64>,
    /// It corrects all its errors.
    #[serde(skip)]
    pub never_fails: bool,
}

impl Memory {
    pub(super) fn edge(&mut self) -> Edge<'_> {
        (
            &mut self.headroom_mhz,
            &mut self.headroom_spread_mhz,
            &mut self.headroom_lowest_mhz,
            &mut self.headroom_highest_mhz,
        )
    }
}

impl Silicon {
    pub(super) fn edge(&mut self) -> Edge<'_> {
        (
            &mut self.headroom_mhz,
            &mut self.headroom_spread_mhz,
            &mut self.headroom_lowest_mhz,
            &mut self.headroom_highest_mhz,
        )
    }
}

fn one() -> f64 {
    1.0
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct TimingLevel {
    pub gain: f64,
    pub edge_mhz: f64,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Power {
    /// Stock limit in watts of a card that counts its limit in percent.
    stock_limit_w: Option<f64>,
    pub switching_w_per_v2_ghz: f64,
    pub leakage_w_per_v: f64,
    pub leakage_doubling_c: f64,
    pub regulator_w: f64,
    pub regulator_milliohm: f64,
    pub current_limit_a: Option<f64>,
    pub memory_w: f64,
    pub board_w: f64,
    pub fan_w: f64,
    pub idle_activity: f64,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Heat {
    pub temperature_target_c: f64,
    pub die_j_per_k: f64,
    pub die_to_sink_k_per_w: f64,
    pub memory_j_per_k: f64,
    pub memory_to_sink_k_per_w: f64,
    pub sink_j_per_k: f64,
    pub hot_spot_k_per_w: f64,
    /// From the regulator to the sink, for its own loss.
    pub regulator_k_per_w: f64,
    pub sink_w_per_k_still: f64,
    pub sink_w_per_k_full_fan: f64,
    pub case_k_per_w_open: f64,
    pub case_k_per_w_closed: f64,
    pub case_seconds: f64,
    pub clock_drop_from_c: f64,
    pub clock_drop_step_c: f64,
    pub ceiling_c: f64,
    pub shutdown_c: f64,
    pub fan_seconds: f64,
    pub fan_stops_below_c: f64,
    pub fan_from_c: f64,
    pub fan_from_percent: f64,
    pub fan_percent_per_c: f64,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Silicon {
    headroom_mhz: f64,
    headroom_spread_mhz: f64,
    headroom_lowest_mhz: f64,
    headroom_highest_mhz: f64,
    pub headroom_mhz_per_v: f64,
    pub headroom_mhz_per_c: f64,
    pub hazard_mhz: f64,
    stretches_from_mhz: f64,
    stretches_spread_mhz: f64,
    pub stretched_share: f64,
    pub together_core_mhz: f64,
    pub together_memory_mhz: f64,
    pub transition_mhz: f64,
    geometry_mhz: f64,
    geometry_spread_mhz: f64,
    /// Narrowest and widest clock window that may suit a chip best; missing where there is none.
    window_mhz: Option<(f64, f64)>,
    #[serde(default)]
    pub window_loss: f64,
    leakage_spread: f64,
    mounting_spread: f64,
    pub score_spread: f64,
}

/// How often small things go wrong, each a probability from 0 to 1 per change of a setting or per
/// start of a load.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Mishaps {
    /// A changed setting is silently not taken.
    pub not_taken: f64,
    /// Another program keeps the card busy for a few percent of the time.
    pub background: f64,
    /// The host is too busy to keep the card loaded.
    pub starved: f64,
}

impl Mishaps {
    /// Nothing ever goes wrong.
    pub const NONE: Self = Self { not_taken: 0.0, background: 0.0, starved: 0.0 };
}

/// The limit table that its driver reads. The maker's values are those of the model's ranges.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct TableModel {
    /// Its fields, each with the factor on the maker's value beyond which the machine does not come up.
    comes_up_to: BTreeMap<LimitField, f64>,
    /// Fields that nobody knows.
    #[serde(default)]
    unknown: Vec<UnknownField>,
}

impl Model {
    /// The maker's limit table.
    pub(super) fn makers_limits(&self, card: &CardDescription) -> LimitTable {
        let fields = self.limit_table.comes_up_to.keys();
        let value = |field: &LimitField| {
            Some(LimitValue { field: *field, value: self.makers_limit(*field)?.round() })
        };
        LimitTable {
            card: card.table_owner(),
            fields: fields.filter_map(value).collect(),
            unknown: self.limit_table.unknown.clone(),
            file: None,
        }
    }

    /// What the maker allows, in the unit of the field; none where the card has nothing of the kind.
    fn makers_limit(&self, field: LimitField) -> Option<f64> {
        let highest = |kind| self.offer(kind).map(|offer| offer.maximum);
        match field {
            LimitField::PowerLimit => highest(SettingKind::PowerLimit),
            LimitField::CurrentLimit => self.power.current_limit_a,
            field => Some(self.base(field) + highest(*settings_of(field).first()?)?),
        }
    }

    /// What the offset of a field's setting counts from, in the unit of the field.
    pub(super) fn base(&self, field: LimitField) -> f64 {
        match field {
            LimitField::PowerLimit | LimitField::CurrentLimit => 0.0,
            LimitField::VoltageCeiling => self.top().volt * 1_000.0,
            LimitField::CoreClock => self.top().mhz,
            LimitField::MemoryClock => self.memory.clock_mhz,
        }
    }

    /// Whether a machine with this table in its card comes up.
    pub(super) fn comes_up_with(&self, table: &LimitTable) -> bool {
        table.fields.iter().all(|LimitValue { field, value }| {
            let most = self.limit_table.comes_up_to.get(field).zip(self.makers_limit(*field));
            most.is_none_or(|(factor, makers)| *value <= makers * factor)
        })
    }
}

/// Mean, spread, lowest and highest edge of a kind, MHz above stock.
pub(super) type Edge<'a> = (&'a mut f64, &'a mut f64, &'a mut f64, &'a mut f64);

/// What makes a card a unit.
#[derive(Debug, Clone, Copy)]
pub(super) struct Unit {
    /// MHz past the stock curve at which the mean time to a fault is 24 h, at 0.95 V and 65 °C.
    pub headroom: f64,
    /// Factor on the leakage.
    pub leakage: f64,
    /// Factor on the resistance between die and sink: how well the cooler is mounted.
    pub mounting: f64,
    /// Actual MHz past the stock memory clock at which the mean time to a fault is 24 h.
    pub memory_headroom: f64,
    /// MHz relative to the edge from where on the clock is stretched.
    pub stretches_from: f64,
    /// MHz of headroom between the gentlest and the harshest scene.
    pub geometry: f64,
    /// Width of the clock window that suits it best, MHz.
    pub window: f64,
}

impl Unit {
    pub(super) fn draw(model: &Model, seed: u64) -> Self {
        let (silicon, memory) = (&model.silicon, &model.memory);
        let mut dice = ChaCha8Rng::seed_from_u64(seed);
        let headroom = normal(&mut dice, silicon.headroom_mhz, silicon.headroom_spread_mhz)
            .clamp(silicon.headroom_lowest_mhz, silicon.headroom_highest_mhz);
        let leakage = normal(&mut dice, 0.0, silicon.leakage_spread).exp();
        let mounting = normal(&mut dice, 0.0, silicon.mounting_spread).exp();
        let memory_headroom = normal(&mut dice, memory.headroom_mhz, memory.headroom_spread_mhz)
            .clamp(memory.headroom_lowest_mhz, memory.headroom_highest_mhz);
        let stretches_from =
            normal(&mut dice, silicon.stretches_from_mhz, silicon.stretches_spread_mhz);
        let geometry = normal(&mut dice, silicon.geometry_mhz, silicon.geometry_spread_mhz);
        let (narrow, wide) = silicon.window_mhz.unwrap_or((1.0, 1.0));
        let window = narrow * (wide / narrow).powf(dice.random::<f64>());
        Self {
            headroom,
            leakage,
            mounting,
            memory_headroom,
            stretches_from,
            geometry: geometry.max(0.0),
            window,
        }
    }
}

/// A draw from a normal distribution; the mean itself where the spread is no number.
pub(super) fn normal(dice: &mut ChaCha8Rng, mean: f64, spread: f64) -> f64 {
    Normal::new(mean, spread).map_or(mean, |distribution| distribution.sample(dice))
}

/// A place on the stock V/F curve.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Point {
    pub mhz: f64,
    pub volt: f64,
}

impl Model {
    pub(super) fn read(text: &str) -> Result<Self, CardError> {
        let bad = |name: &str, cause: String| CardError::BadModel { name: name.into(), cause };
        let mut model: Self =
            toml::from_str(text).map_err(|error| bad("a stand-in", error.to_string()))?;
        model.percent_to_watts();
        match model.fault() {
            Some(cause) => Err(bad(&model.name, cause)),
            None => Ok(model),
        }
    }

    /// A power limit that the card counts in percent is turned into watts of its stock limit.
    fn percent_to_watts(&mut self) {
        let stock = self.power.stock_limit_w.unwrap_or(0.0) / 100.0;
        let counted = |offer: &&mut Offer| {
            offer.kind == SettingKind::PowerLimit && offer.reading == Reading::Percent
        };
        if let Some(offer) = self.offers.iter_mut().find(counted) {
            offer.minimum *= stock;
            offer.maximum *= stock;
            offer.step *= stock;
            offer.stock = offer.stock.map(|percent| percent * stock);
        }
    }

    /// What is wrong with the model, if anything is.
    fn fault(&self) -> Option<String> {
        let rising = self.clocks.curve.is_sorted_by(|a, b| a.0 < b.0 && a.1 < b.1);
        if self.clocks.curve.len() < 2 || !rising || self.clocks.bin_mhz <= 0.0 {
            return Some("its curve needs two points or more, rising, and a bin above 0".into());
        }
        if self.clocks.shape.is_some() && self.curve_offer().is_none() {
            return Some("the voltages of its shape give no curve".into());
        }
        if self.clocks.states.is_some_and(|states| states != self.clocks.curve.len()) {
            return Some("its curve needs one point for each performance state".into());
        }
        if self.offer(SettingKind::PowerLimit).and_then(|offer| offer.stock).is_none() {
            return Some("it needs an offer of power_limit with a stock value".into());
        }
        let empty = |offer: &&Offer| offer.step <= 0.0 || offer.minimum > offer.maximum;
        let bad = self.offers.iter().find(empty)?;
        Some(format!("its offer of {} is empty or has no step", bad.kind.label()))
    }

    pub(super) fn offer(&self, kind: SettingKind) -> Option<&Offer> {
        self.offers.iter().find(|offer| offer.kind == kind)
    }

    /// Last point of the stock curve.
    pub(super) fn top(&self) -> Point {
        let (millivolt, mhz) = self.clocks.curve.last().copied().unwrap_or_default();
        Point { mhz, volt: millivolt / 1_000.0 }
    }

    /// The curve that it lets be shaped: at every step of its voltages, or its states.
    pub(super) fn curve_offer(&self) -> Option<CurveOffer> {
        let Shape { clocks, voltages } = self.clocks.shape?;
        let whole = |(mv, mhz): &(f64, f64)| (mv.round() as u16, clocks.nearest(*mhz));
        let (kind, points): (_, Vec<_>) = match self.clocks.states {
            Some(_) => (CurveKind::States, self.clocks.curve.iter().map(whole).collect()),
            None => {
                let grid = (voltages.lowest..=voltages.highest).step_by(usize::from(voltages.step));
                let at = |mv: u16| whole(&(f64::from(mv), self.clock_at(f64::from(mv))));
                (CurveKind::Points, grid.map(at).collect())
            }
        };
        let factory = VfCurve::new(&points).ok()?;
        Some(CurveOffer { kind, factory, clocks, voltages })
    }

    /// Clock of the stock curve at a voltage inside it, MHz.
    fn clock_at(&self, millivolt: f64) -> f64 {
        let curve = &self.clocks.curve;
        let above = curve.partition_point(|(mv, _)| *mv < millivolt).clamp(1, curve.len() - 1);
        let ((mv0, mhz0), (mv1, mhz1)) = (curve[above - 1], curve[above]);
        mhz0 + (mhz1 - mhz0) * (millivolt - mv0) / (mv1 - mv0)
    }

    /// The bins of a curve that was asked for: each clock at the lowest voltage that reaches it.
    pub(super) fn points_on(&self, curve: &VfCurve) -> Vec<Point> {
        let (first, top) = (f64::from(curve.first().mhz), f64::from(curve.last().mhz));
        let count = ((top - first) / self.clocks.bin_mhz + 1e-9).floor() as usize;
        let at = |bin: usize| {
            let mhz = first + bin as f64 * self.clocks.bin_mhz;
            let volt = curve.voltage_for(Mhz(mhz)).map_or(0.0, |mv| mv.value() / 1_000.0);
            Point { mhz, volt }
        };
        (0..=count).map(at).collect()
    }

    /// The stock curve in bins: every clock the card can hold, with the voltage it needs. A card
    /// with a clock window goes on beyond the curve's last point at that point's voltage.
    pub(super) fn points(&self) -> Vec<Point> {
        let (curve, bin) = (&self.clocks.curve, self.clocks.bin_mhz);
        let mut points = Vec::new();
        for pair in curve.windows(2) {
            let &[(mv0, mhz0), (mv1, mhz1)] = pair else { continue };
            let mut mhz = points.last().map_or(mhz0, |p: &Point| p.mhz + bin);
            while mhz <= mhz1 + 1e-9 {
                let millivolt = mv0 + (mv1 - mv0) * (mhz - mhz0) / (mhz1 - mhz0);
                points.push(Point { mhz, volt: millivolt / 1_000.0 });
                mhz += bin;
            }
        }
        let highest = self.offer(SettingKind::ClockMaximum).map_or(0.0, |offer| offer.maximum);
        let Point { mut mhz, volt } = self.top();
        while mhz + bin <= highest + 1e-9 {
            mhz += bin;
            points.push(Point { mhz, volt });
        }
        points
    }

    pub(super) fn describe(&self, id: &str, seed: u64) -> CardDescription {
        let stock = |kind| self.offer(kind).and_then(|offer| offer.stock);
        let top = self.top();
        let absent_sensors: Vec<Absent<Channel>> = absences(&self.absent_sensors);
        CardDescription {
            id: id.to_owned(),
            serial: seed.to_string(),
            name: self.name.clone(),
            memory_type: self.memory.kind.clone(),
            memory_gib: self.memory.gib,
            memory_clock: Mhz(self.memory.clock_mhz),
            memory_wiring: MemoryWiring {
                transfers_per_clock: self.memory.transfers_per_clock,
                bus_bits: self.memory.bus_bits,
            },
            driver: String::new(),
            limits: CardLimits {
                boost_clock: Mhz(self.clocks.boost_mhz),
                highest_clock: Mhz(stock(SettingKind::ClockMaximum).unwrap_or(top.mhz)),
                clock_bin: Mhz(self.clocks.bin_mhz),
                voltage_ceiling: Some(Millivolt((top.volt * 1_000.0).round())),
                power_limit: stock(SettingKind::PowerLimit).map(Watt),
                temperature_target: Some(Celsius(self.heat.temperature_target_c)),
                temperature_ceiling: Some(Celsius(self.heat.ceiling_c)),
                current: self.power.current_limit_a.map(Ampere),
            },
            curve: self.curve_offer(),
            fan: self.fan,
            steps_unstated: false,
            limit_tables: None,
            offers: self.offers.clone(),
            sensors: Channel::ALL
                .into_iter()
                .filter(|channel| !self.absent_sensors.contains_key(channel))
                .collect(),
            absent_settings: absences(&self.absent_settings),
            absent_sensors,
        }
    }
}

fn absences<T: Copy>(all: &BTreeMap<T, String>) -> Vec<Absent<T>> {
    all.iter().map(|(what, why)| Absent { what: *what, why: why.clone() }).collect()
}

/// Clock of the stock curve at a voltage, MHz; beyond its ends it goes on, upwards ever flatter.
pub(super) fn curve_clock(model: &Model, volt: f64) -> f64 {
    let curve = &model.clocks.curve;
    let millivolt = volt * 1_000.0;
    let above = curve.partition_point(|(mv, _)| *mv < millivolt).clamp(1, curve.len() - 1);
    let ((mv0, mhz0), (mv1, mhz1)) = (curve[above - 1], curve[above]);
    let slope = (mhz1 - mhz0) / (mv1 - mv0);
    let beyond = millivolt - mv1;
    if beyond > 0.0 {
        return mhz1 + slope * beyond / (1.0 + beyond / 1_000.0 / SATURATES_V);
    }
    mhz0 + slope * (millivolt - mv0)
}
