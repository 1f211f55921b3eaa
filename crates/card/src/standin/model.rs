//! The parameters of a stand-in: those of its kind, read from TOML, and those of the individual,
//! drawn from its seed.

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Normal};
use serde::Deserialize;
use yard_step_core::{
    CardDescription, CardLimits, Celsius, Channel, Mhz, Millivolt, Offer, SettingKind, Watt,
};

use crate::CardError;

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Model {
    pub name: String,
    pub memory_type: String,
    pub memory_gib: u32,
    pub clocks: Clocks,
    pub offers: Offers,
    pub power: Power,
    pub heat: Heat,
    pub silicon: Silicon,
    pub mishaps: Mishaps,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Clocks {
    pub boost_mhz: f64,
    pub bin_mhz: f64,
    pub memory_mhz: f64,
    pub curve: Vec<(f64, f64)>,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct OfferModel {
    minimum: f64,
    maximum: f64,
    step: f64,
    stock: Option<f64>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Offers {
    power_limit_w: OfferModel,
    temperature_target_c: OfferModel,
    core_offset_mhz: OfferModel,
    fan_percent: OfferModel,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Power {
    pub switching_w_per_v2_ghz: f64,
    pub leakage_w_per_v: f64,
    pub leakage_doubling_c: f64,
    pub regulator_efficiency: f64,
    pub memory_w: f64,
    pub board_w: f64,
    pub fan_w: f64,
    pub idle_activity: f64,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Heat {
    pub ambient_c: f64,
    pub die_j_per_k: f64,
    pub sink_j_per_k: f64,
    pub die_to_sink_k_per_w: f64,
    pub hot_spot_k_per_w: f64,
    pub sink_w_per_k_still: f64,
    pub sink_w_per_k_full_fan: f64,
    pub clock_drop_from_c: f64,
    pub clock_drop_step_c: f64,
    pub ceiling_c: f64,
    pub shutdown_c: f64,
    pub fan_seconds: f64,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Silicon {
    pub headroom_mhz: f64,
    pub headroom_spread_mhz: f64,
    pub headroom_lowest_mhz: f64,
    pub headroom_highest_mhz: f64,
    pub headroom_mhz_per_v: f64,
    pub headroom_mhz_per_c: f64,
    pub hazard_mhz: f64,
    pub leakage_spread: f64,
    pub mounting_spread: f64,
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

/// What makes a card an individual.
#[derive(Debug, Clone, Copy)]
pub(super) struct Individual {
    /// MHz past the stock curve at which the mean time to a fault is 24 h, at 0.95 V and 65 °C.
    pub headroom: f64,
    /// Factor on the leakage.
    pub leakage: f64,
    /// Factor on the resistance between die and sink: how well the cooler is mounted.
    pub mounting: f64,
}

impl Individual {
    pub(super) fn draw(silicon: &Silicon, seed: u64) -> Self {
        let mut dice = ChaCha8Rng::seed_from_u64(seed);
        let headroom = normal(&mut dice, silicon.headroom_mhz, silicon.headroom_spread_mhz)
            .clamp(silicon.headroom_lowest_mhz, silicon.headroom_highest_mhz);
        Self {
            headroom,
            leakage: normal(&mut dice, 0.0, silicon.leakage_spread).exp(),
            mounting: normal(&mut dice, 0.0, silicon.mounting_spread).exp(),
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
        let bad = |cause: String| CardError::BadModel { name: "a stand-in".into(), cause };
        let model: Self = toml::from_str(text).map_err(|error| bad(error.to_string()))?;
        let rising = model.clocks.curve.is_sorted_by(|a, b| a.0 < b.0 && a.1 < b.1);
        if model.clocks.curve.len() < 2 || !rising || model.clocks.bin_mhz <= 0.0 {
            return Err(
                bad("its curve needs two points or more, rising, and a bin above 0".into()),
            );
        }
        Ok(model)
    }

    /// The stock curve in bins: every clock the card can hold, with the voltage it needs.
    pub(super) fn points(&self) -> Vec<Point> {
        let curve = &self.clocks.curve;
        let mut points = Vec::new();
        for pair in curve.windows(2) {
            let &[(mv0, mhz0), (mv1, mhz1)] = pair else { continue };
            let mut mhz = points.last().map_or(mhz0, |p: &Point| p.mhz + self.clocks.bin_mhz);
            while mhz <= mhz1 + 1e-9 {
                let millivolt = mv0 + (mv1 - mv0) * (mhz - mhz0) / (mhz1 - mhz0);
                points.push(Point { mhz, volt: millivolt / 1_000.0 });
                mhz += self.clocks.bin_mhz;
            }
        }
        points
    }

    pub(super) fn describe(&self, id: &str, seed: u64) -> CardDescription {
        let offer = |kind, model: OfferModel| Offer {
            kind,
            minimum: model.minimum,
            maximum: model.maximum,
            step: model.step,
            stock: model.stock,
        };
        let offers = &self.offers;
        let (top_mv, top_mhz) = self.clocks.curve.last().copied().unwrap_or_default();
        CardDescription {
            id: id.to_owned(),
            serial: seed.to_string(),
            name: self.name.clone(),
            memory_type: self.memory_type.clone(),
            memory_gib: self.memory_gib,
            limits: CardLimits {
                boost_clock: Mhz(self.clocks.boost_mhz),
                highest_clock: Mhz(top_mhz),
                clock_bin: Mhz(self.clocks.bin_mhz),
                voltage_ceiling: Millivolt(top_mv),
                power_limit: Watt(offers.power_limit_w.stock.unwrap_or_default()),
                temperature_target: Celsius(offers.temperature_target_c.stock.unwrap_or_default()),
                temperature_ceiling: Celsius(self.heat.ceiling_c),
            },
            offers: vec![
                offer(SettingKind::PowerLimit, offers.power_limit_w),
                offer(SettingKind::TemperatureTarget, offers.temperature_target_c),
                offer(SettingKind::CoreOffset, offers.core_offset_mhz),
                offer(SettingKind::Fan, offers.fan_percent),
            ],
            sensors: Channel::ALL.to_vec(),
        }
    }
}
