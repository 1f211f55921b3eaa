//! Settings as a whole, their clamping to what a card advertises, and the comparison of what was
//! asked with what was taken.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::air::fan::{Fan, FanControl, FanCurve, FanTarget};
use crate::card::description::{CardDescription, Offer, SettingKind};
use crate::shape::{CurveOffer, VfCurve};
use crate::units::{Celsius, Mhz, MhzOffset, Millivolt, MillivoltOffset, Percent, Watt};

/// Why settings cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SettingsError {
    /// Not TOML, an unknown key, or a value of the wrong type.
    #[error("the settings cannot be read: {0}")]
    Unreadable(String),
    /// Infinite or not a number.
    #[error("the {0} must be a number")]
    NoNumber(&'static str),
    /// Said in two ways that may differ.
    #[error("the {what} is given twice, as {one} and as {other}: omit one of them")]
    Twice {
        /// Which setting.
        what: &'static str,
        /// One key.
        one: &'static str,
        /// The other.
        other: &'static str,
    },
    /// Percent of a stock limit that the card does not state.
    #[error("power_limit_percent needs a card that states its power limit: use power_limit_w")]
    NoStockLimit,
}

/// One set of settings. What is `None` is left as the card has it at stock.
///
/// It is written with the unit in every name: `{"core_offset_mhz": 120, "fan_percent": 100.0}`,
/// where a fan without `fan_percent`, `fan_curve` and `fan_target` is automatic.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(try_from = "Written", into = "Written")]
pub struct Settings {
    /// Board power limit.
    pub power_limit: Option<Watt>,
    /// Core temperature target.
    pub temperature_target: Option<Celsius>,
    /// Core clock offset.
    pub core_offset: Option<MhzOffset>,
    /// Offset of the actual memory clock.
    pub memory_offset: Option<MhzOffset>,
    /// Lowest core clock under load.
    pub clock_minimum: Option<Mhz>,
    /// Highest core clock.
    pub clock_maximum: Option<Mhz>,
    /// Offset of the core voltage.
    pub voltage_offset: Option<MillivoltOffset>,
    /// Memory-side voltage.
    pub memory_voltage: Option<Millivolt>,
    /// Memory timing level, 0 being stock.
    pub memory_timing: Option<u8>,
    /// Fan.
    pub fan: Option<Fan>,
    /// Highest frame rate, fps.
    pub frame_cap: Option<u32>,
    /// V/F curve.
    pub curve: Option<VfCurve>,
}

/// Settings as they stand in a file.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default, expecting = "settings by name, such as core_offset_mhz")]
struct Written {
    #[serde(skip_serializing_if = "Option::is_none")]
    power_limit_w: Option<Watt>,
    #[serde(skip_serializing_if = "Option::is_none")]
    power_limit_percent: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    temperature_target_c: Option<Celsius>,
    #[serde(skip_serializing_if = "Option::is_none")]
    core_offset_mhz: Option<MhzOffset>,
    #[serde(skip_serializing_if = "Option::is_none")]
    memory_offset_mhz: Option<MhzOffset>,
    #[serde(skip_serializing_if = "Option::is_none")]
    clock_minimum_mhz: Option<Mhz>,
    #[serde(skip_serializing_if = "Option::is_none")]
    clock_maximum_mhz: Option<Mhz>,
    #[serde(skip_serializing_if = "Option::is_none")]
    voltage_offset_mv: Option<MillivoltOffset>,
    #[serde(skip_serializing_if = "Option::is_none")]
    memory_voltage_mv: Option<Millivolt>,
    #[serde(skip_serializing_if = "Option::is_none")]
    memory_timing_level: Option<u8>,
    #[serde(skip_serializing_if = "Option::is_none")]
    fan_percent: Option<Percent>,
    #[serde(skip_serializing_if = "Option::is_none")]
    fan_curve: Option<FanCurve>,
    #[serde(skip_serializing_if = "Option::is_none")]
    fan_target: Option<FanTarget>,
    #[serde(skip_serializing_if = "Option::is_none")]
    frame_cap_fps: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    vf_curve: Option<VfCurve>,
}

impl From<Settings> for Written {
    fn from(settings: Settings) -> Self {
        let (fan_percent, fan_curve, fan_target) = match settings.fan {
            Some(Fan::Fixed(percent)) => (Some(percent), None, None),
            Some(Fan::Curve(curve)) => (None, Some(curve), None),
            Some(Fan::Target(target)) => (None, None, Some(target)),
            Some(Fan::Automatic) | None => (None, None, None),
        };
        Self {
            power_limit_w: settings.power_limit,
            power_limit_percent: None,
            temperature_target_c: settings.temperature_target,
            core_offset_mhz: settings.core_offset,
            memory_offset_mhz: settings.memory_offset,
            clock_minimum_mhz: settings.clock_minimum,
            clock_maximum_mhz: settings.clock_maximum,
            voltage_offset_mv: settings.voltage_offset,
            memory_voltage_mv: settings.memory_voltage,
            memory_timing_level: settings.memory_timing,
            fan_percent,
            fan_curve,
            fan_target,
            frame_cap_fps: settings.frame_cap,
            vf_curve: settings.curve,
        }
    }
}

impl TryFrom<Written> for Settings {
    type Error = SettingsError;

    fn try_from(written: Written) -> Result<Self, SettingsError> {
        written.for_stock_limit(None)
    }
}

impl Written {
    /// The settings, with a power limit in percent turned into watts of the stock limit.
    fn for_stock_limit(self, stock: Option<f64>) -> Result<Settings, SettingsError> {
        let twice = |what, one, other| Err(SettingsError::Twice { what, one, other });
        let power_limit = match (self.power_limit_w, self.power_limit_percent) {
            (Some(_), Some(_)) => {
                return twice("power limit", "power_limit_w", "power_limit_percent");
            }
            (None, Some(percent)) => {
                Some(Watt(stock.ok_or(SettingsError::NoStockLimit)? * percent / 100.0))
            }
            (watt, None) => watt,
        };
        let fan = match (self.fan_percent, self.fan_curve, self.fan_target) {
            (Some(_), Some(_), _) => return twice("fan", "fan_percent", "fan_curve"),
            (Some(_), _, Some(_)) => return twice("fan", "fan_percent", "fan_target"),
            (_, Some(_), Some(_)) => return twice("fan", "fan_curve", "fan_target"),
            (Some(percent), None, None) => Some(Fan::Fixed(percent)),
            (None, Some(curve), None) => Some(Fan::Curve(curve)),
            (None, None, Some(target)) => Some(Fan::Target(target)),
            (None, None, None) => None,
        };
        let settings = Settings {
            power_limit,
            temperature_target: self.temperature_target_c,
            core_offset: self.core_offset_mhz,
            memory_offset: self.memory_offset_mhz,
            clock_minimum: self.clock_minimum_mhz,
            clock_maximum: self.clock_maximum_mhz,
            voltage_offset: self.voltage_offset_mv,
            memory_voltage: self.memory_voltage_mv,
            memory_timing: self.memory_timing_level,
            fan,
            frame_cap: self.frame_cap_fps,
            curve: self.vf_curve,
        };
        match SettingKind::ALL
            .into_iter()
            .find(|kind| settings.get(*kind).is_some_and(|value| !value.is_finite()))
        {
            Some(kind) => Err(SettingsError::NoNumber(kind.label())),
            None => Ok(settings),
        }
    }
}

impl Settings {
    /// The factory settings of a card, every offered setting named.
    #[must_use]
    pub fn stock(card: &CardDescription) -> Self {
        let mut settings = Self::default();
        for offer in &card.offers {
            settings.set(offer.kind, offer.stock);
        }
        settings
    }

    /// Reads settings for a card from TOML, named as in the [type's description](Self). The power
    /// limit may also stand as `power_limit_percent` of the card's stock limit.
    ///
    /// # Errors
    /// Text that is no TOML, unknown keys, values of the wrong type, a fan curve that is none, a
    /// setting given twice, and values that are no number.
    pub fn from_toml(text: &str, card: &CardDescription) -> Result<Self, SettingsError> {
        let written: Written = toml::from_str(text)
            .map_err(|error| SettingsError::Unreadable(error.to_string().trim_end().to_owned()))?;
        written.for_stock_limit(card.offer(SettingKind::PowerLimit).and_then(|offer| offer.stock))
    }

    /// The value of one setting in its unit; `None` where it is unset, and for a fan that has not
    /// one fixed speed, and for a curve.
    #[must_use]
    pub fn get(&self, kind: SettingKind) -> Option<f64> {
        match kind {
            SettingKind::PowerLimit => self.power_limit.map(Watt::value),
            SettingKind::TemperatureTarget => self.temperature_target.map(Celsius::value),
            SettingKind::CoreOffset => self.core_offset.map(|offset| f64::from(offset.0)),
            SettingKind::MemoryOffset => self.memory_offset.map(|offset| f64::from(offset.0)),
            SettingKind::ClockMinimum => self.clock_minimum.map(Mhz::value),
            SettingKind::ClockMaximum => self.clock_maximum.map(Mhz::value),
            SettingKind::VoltageOffset => self.voltage_offset.map(|offset| f64::from(offset.0)),
            SettingKind::MemoryVoltage => self.memory_voltage.map(Millivolt::value),
            SettingKind::MemoryTiming => self.memory_timing.map(f64::from),
            SettingKind::Fan => match self.fan {
                Some(Fan::Fixed(percent)) => Some(percent.value()),
                Some(Fan::Automatic | Fan::Curve(_) | Fan::Target(_)) | None => None,
            },
            SettingKind::FrameCap => self.frame_cap.map(f64::from),
            SettingKind::Curve => None,
        }
    }

    /// Sets one setting by its kind; a fan set to `None` is automatic. A V/F curve is no number:
    /// whatever it is set to here, it is the factory's.
    pub fn set(&mut self, kind: SettingKind, value: Option<f64>) {
        let whole = value.map(|value| value.round() as i32);
        match kind {
            SettingKind::PowerLimit => self.power_limit = value.map(Watt),
            SettingKind::TemperatureTarget => self.temperature_target = value.map(Celsius),
            SettingKind::CoreOffset => self.core_offset = whole.map(MhzOffset),
            SettingKind::MemoryOffset => self.memory_offset = whole.map(MhzOffset),
            SettingKind::ClockMinimum => self.clock_minimum = value.map(Mhz),
            SettingKind::ClockMaximum => self.clock_maximum = value.map(Mhz),
            SettingKind::VoltageOffset => self.voltage_offset = whole.map(MillivoltOffset),
            SettingKind::MemoryVoltage => self.memory_voltage = value.map(Millivolt),
            SettingKind::MemoryTiming => self.memory_timing = value.map(|level| level as u8),
            SettingKind::Fan => {
                self.fan = Some(value.map_or(Fan::Automatic, |v| Fan::Fixed(Percent(v))));
            }
            SettingKind::FrameCap => self.frame_cap = value.map(|fps| fps as u32),
            SettingKind::Curve => self.curve = None,
        }
    }

    /// Whether a setting is named here at all, an automatic fan and curves included.
    #[must_use]
    pub fn says(&self, kind: SettingKind) -> bool {
        match kind {
            SettingKind::Fan => self.fan.is_some(),
            SettingKind::Curve => self.curve.is_some(),
            _ => self.get(kind).is_some(),
        }
    }

    /// The settings as they were before they were written down: an automatic fan is not written.
    #[must_use]
    pub fn with_unwritten_fan(self, card: &CardDescription) -> Self {
        let automatic = card.offer(SettingKind::Fan).map(|_| Fan::Automatic);
        Self { fan: self.fan.or(automatic), ..self }
    }

    /// What differs from a card's stock settings, each with its name.
    #[must_use]
    pub fn moved_from_stock(&self, card: &CardDescription) -> Vec<String> {
        let stock = Self::stock(card);
        SettingKind::ALL
            .into_iter()
            .filter(|kind| self.says(*kind))
            .filter(|kind| self.show(*kind) != stock.show(*kind))
            .map(|kind| format!("{} {}", kind.label(), self.show(kind)))
            .collect()
    }

    /// The same without the fan.
    #[must_use]
    pub fn moved_but_fan(&self, card: &CardDescription) -> Vec<String> {
        Self { fan: Self::stock(card).fan, ..*self }.moved_from_stock(card)
    }

    /// Whether they are the same but perhaps for the fan.
    #[must_use]
    pub fn is_but_for_fan(&self, other: &Self) -> bool {
        Self { fan: None, ..*self } == Self { fan: None, ..*other }
    }

    /// One setting taken over from another set.
    pub fn copy(&mut self, kind: SettingKind, from: &Self) {
        match kind {
            SettingKind::Fan => self.fan = from.fan,
            SettingKind::Curve => self.curve = from.curve,
            _ => self.set(kind, from.get(kind)),
        }
    }

    /// One setting as it is shown, unit included.
    #[must_use]
    pub fn show(&self, kind: SettingKind) -> String {
        match (kind, self.fan, self.get(kind)) {
            (_, _, Some(value)) => kind.show(value),
            (SettingKind::Fan, Some(Fan::Curve(curve)), _) => {
                let points = curve.points();
                let ends = points.first().zip(points.last());
                ends.map_or("curve".into(), |((_, low), (_, high))| {
                    let low = curve.stops_below().map_or(*low, |_| 0.0);
                    format!("curve, {low:.0} to {high:.0} %")
                })
            }
            (SettingKind::Fan, Some(Fan::Target(target)), _) => {
                format!("{} target, at least {}", target.core, target.least)
            }
            (SettingKind::Curve, ..) => match self.curve {
                None => kind.without_number().to_owned(),
                Some(curve) => {
                    let top = curve.flat_from();
                    format!("{} MHz at {} mV", top.mhz, top.millivolt)
                }
            },
            (_, _, None) => kind.without_number().to_owned(),
        }
    }

    /// These settings brought inside what the card advertises, with a note for every change.
    /// What the card does not offer is left out and noted. Nothing else may reach a card.
    #[must_use]
    pub fn clamped(&self, card: &CardDescription) -> Clamped {
        let mut settings = *self;
        let mut notes = Vec::new();
        for kind in SettingKind::ALL {
            let is_driven_fan = matches!(
                (kind, self.fan),
                (SettingKind::Fan, Some(Fan::Curve(_) | Fan::Target(_)))
            );
            let is_vf_curve = kind == SettingKind::Curve && self.curve.is_some();
            let is_number = self.get(kind).is_some();
            match (card.offer(kind), card.curve) {
                _ if !is_number && !is_driven_fan && !is_vf_curve => {}
                (_, Some(offer)) if kind == SettingKind::Curve => {
                    notes.extend(settings.clamp_curve(&offer));
                }
                (None, _) => {
                    settings.set(kind, None);
                    let why = card.why_not_offered(kind);
                    notes.push(format!("{} is left out: {why}", kind.label()));
                }
                (Some(offer), _) => notes.extend(settings.clamp_one(offer, card.fan)),
            }
        }
        if let (Some(low), Some(high)) = (settings.clock_minimum, settings.clock_maximum)
            && low > high
        {
            settings.clock_minimum = Some(high);
            notes.push(format!(
                "lowest clock {low} is above the highest clock {high}: {high} is asked"
            ));
        }
        Clamped { settings, notes }
    }

    /// Brings the V/F curve into the ranges of its offer; tells if it had to. The factory's own is
    /// none.
    fn clamp_curve(&mut self, offer: &CurveOffer) -> Option<String> {
        let asked = self.curve?;
        let held = offer.within(&asked);
        self.curve = Some(held).filter(|held| *held != offer.factory);
        (held != asked).then(|| {
            let CurveOffer { clocks, voltages, .. } = offer;
            format!(
                "the V/F curve leaves {} to {} MHz or {} to {} mV, or has other points than the \
                 card: it is asked inside that",
                clocks.lowest, clocks.highest, voltages.lowest, voltages.highest
            )
        })
    }

    /// Brings one setting into the range of its offer; tells if it had to.
    fn clamp_one(&mut self, offer: &Offer, control: FanControl) -> Option<String> {
        let kind = offer.kind;
        if let (SettingKind::Fan, Some(Fan::Target(target))) = (kind, self.fan) {
            return self.clamp_target(target, offer, control);
        }
        if let (SettingKind::Fan, Some(Fan::Curve(curve))) = (kind, self.fan) {
            let within = curve.within(offer.minimum, offer.maximum);
            self.fan = Some(Fan::Curve(within));
            return (within != curve).then(|| {
                format!(
                    "the fan curve leaves {:.0} to {:.0} %: it is asked inside that",
                    offer.minimum, offer.maximum
                )
            });
        }
        let asked = self.get(kind)?;
        let held = asked.clamp(offer.minimum, offer.maximum);
        (held != asked).then(|| {
            self.set(kind, Some(held));
            format!(
                "{} {} is outside {} to {}: {} is asked",
                kind.label(),
                kind.show(asked),
                kind.show(offer.minimum),
                kind.show(offer.maximum),
                kind.show(held)
            )
        })
    }

    /// Brings what a fan is regulated to into the range of the card; tells if it had to. A card that does not regulate
    /// its fan is left to drive it as it does by itself.
    fn clamp_target(
        &mut self,
        target: FanTarget,
        offer: &Offer,
        control: FanControl,
    ) -> Option<String> {
        let FanControl::Target { lowest, highest } = control else {
            self.fan = Some(Fan::Automatic);
            return Some(
                "the fan's target is left out: this card does not regulate its fan to one".into(),
            );
        };
        let within = FanTarget {
            core: Celsius(target.core.value().clamp(lowest, highest)),
            least: Percent(target.least.value().clamp(offer.minimum, offer.maximum)),
        };
        self.fan = Some(Fan::Target(within));
        (within != target).then(|| {
            format!(
                "the fan's target leaves {lowest:.0} to {highest:.0} °C or {:.0} to {:.0} %: it is asked inside that",
                offer.minimum, offer.maximum
            )
        })
    }

    /// Where `taken` is not what was asked. A value the card rounded to its own bin is a
    /// difference too, but a [harmless](Difference::rounded) one.
    #[must_use]
    pub fn differences(&self, taken: &Self, card: &CardDescription) -> Vec<Difference> {
        let stock = Self::stock(card);
        let curve = card
            .curve
            .and_then(|offer| self.curve_difference(taken, &card.curve_to_compare(offer)));
        card.offers
            .iter()
            .filter_map(|offer| {
                let kind = offer.kind;
                let mut wanted = stock;
                if self.says(kind) {
                    wanted.copy(kind, self);
                }
                let same = match kind {
                    SettingKind::Fan => {
                        wanted.fan.unwrap_or(Fan::Automatic) == taken.fan.unwrap_or(Fan::Automatic)
                    }
                    _ => wanted.get(kind) == taken.get(kind),
                };
                (!same).then(|| Difference {
                    kind,
                    asked: wanted.show(kind),
                    taken: taken.show(kind),
                    rounded: matches!(
                        (wanted.get(kind), taken.get(kind)),
                        (Some(a), Some(t)) if (a - t).abs() < card.rounding(offer)
                    ),
                })
            })
            .chain(curve)
            .collect()
    }

    fn curve_difference(&self, taken: &Self, offer: &CurveOffer) -> Option<Difference> {
        let [asked, held] = [self, taken].map(|settings| settings.curve.unwrap_or(offer.factory));
        (asked != held).then(|| Difference {
            kind: SettingKind::Curve,
            asked: self.show(SettingKind::Curve),
            taken: taken.show(SettingKind::Curve),
            rounded: offer.is_rounding(&asked, &held),
        })
    }
}

/// Settings that a card may be asked for, and what had to be changed to get there.
#[derive(Debug, Clone, PartialEq)]
pub struct Clamped {
    /// Inside every advertised range.
    pub settings: Settings,
    /// A sentence for each change.
    pub notes: Vec<String>,
}

/// One setting that is not held as asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// Which setting.
    pub kind: SettingKind,
    /// What was asked, as it is shown.
    pub asked: String,
    /// What the card says it holds, as it is shown.
    pub taken: String,
    /// Less than one step apart: the card rounded, it did not refuse.
    pub rounded: bool,
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = if self.rounded { "rounded to" } else { "the card holds" };
        write!(f, "{}: asked {}, {word} {}", self.kind.label(), self.asked, self.taken)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::card;
    use crate::shape::Span;
    use rstest::rstest;

    #[rstest]
    #[case(500.0, 300.0, 1)]
    #[case(-500.0, -150.0, 1)]
    #[case(120.0, 120.0, 0)]
    fn nothing_outside_the_advertised_range_remains(
        #[case] asked: f64,
        #[case] held: f64,
        #[case] notes: usize,
    ) {
        let mut settings = Settings::default();
        settings.set(SettingKind::CoreOffset, Some(asked));
        let clamped = settings.clamped(&card());
        assert_eq!(clamped.settings.get(SettingKind::CoreOffset), Some(held));
        assert_eq!(clamped.notes.len(), notes);
    }

    #[test]
    fn what_the_card_does_not_offer_is_left_out_and_told() {
        let mut description = card();
        description.offers.retain(|offer| offer.kind != SettingKind::TemperatureTarget);
        let asked = Settings { temperature_target: Some(Celsius(90.0)), ..Settings::default() };
        let clamped = asked.clamped(&description);
        assert_eq!(clamped.settings.temperature_target, None);
        assert!(clamped.notes[0].contains("temperature target is left out"));
    }

    #[rstest]
    #[case(120, 120, None)]
    #[case(130, 120, Some(true))]
    #[case(120, 0, Some(false))]
    #[case(120, 135, Some(false))]
    fn a_rounded_value_is_told_from_a_refused_one(
        #[case] asked: i32,
        #[case] taken: i32,
        #[case] rounded: Option<bool>,
    ) {
        let with =
            |offset| Settings { core_offset: Some(MhzOffset(offset)), ..Settings::stock(&card()) };
        let differences = with(asked).differences(&with(taken), &card());
        assert_eq!(differences.first().map(|d| d.rounded), rounded);
    }

    #[test]
    fn unset_settings_are_expected_to_be_at_stock() {
        let taken = Settings { power_limit: Some(Watt(250.0)), ..Settings::stock(&card()) };
        let differences = Settings::default().differences(&taken, &card());
        assert_eq!(differences.len(), 1);
        assert_eq!(differences[0].to_string(), "power limit: asked 220 W, the card holds 250 W");
    }

    #[rstest]
    #[case("core_offset = 60", "unknown field `core_offset`, expected one of")]
    #[case("core_offset_mhz = \"much\"", "invalid type")]
    #[case("power_limit_w = nan", "the power limit must be a number")]
    #[case("fan_percent = inf", "the fan must be a number")]
    #[case("fan_percent = 40\nfan_curve = [[40, 30]]", "the fan is given twice")]
    #[case("fan_curve = [[40, 30], [30, 40]]", "the fan curve falls back at 30 °C")]
    #[case("power_limit_w = 200\npower_limit_percent = 90", "the power limit is given twice")]
    #[case("memory_timing_level = -1", "invalid value")]
    fn settings_that_cannot_be_meant_are_refused(#[case] text: &str, #[case] told: &str) {
        let error = Settings::from_toml(text, &card()).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[test]
    fn settings_are_read_from_toml() {
        let settings =
            Settings::from_toml("core_offset_mhz = -30\nfan_percent = 80", &card()).unwrap();
        assert_eq!(settings.core_offset, Some(MhzOffset(-30)));
        assert_eq!(settings.fan, Some(Fan::Fixed(Percent(80.0))));
        assert_eq!(settings.power_limit, None);
    }

    #[test]
    fn settings_are_written_with_their_units_and_read_back() {
        let settings = Settings {
            core_offset: Some(MhzOffset(105)),
            fan: Some(Fan::Fixed(Percent(100.0))),
            ..Settings::default()
        };
        let text = serde_json::to_string(&settings).unwrap();
        assert_eq!(text, r#"{"core_offset_mhz":105,"fan_percent":100.0}"#);
        assert_eq!(serde_json::from_str::<Settings>(&text).unwrap(), settings);
    }

    #[test]
    fn a_power_limit_in_percent_is_of_the_stock_limit_of_the_card() {
        let settings = Settings::from_toml("power_limit_percent = 110", &card()).unwrap();
        assert!((settings.power_limit.unwrap().value() - 242.0).abs() < 1e-9);
    }

    #[test]
    fn every_setting_is_got_as_it_was_set_and_read_back_as_it_was_written() {
        let mut settings = Settings::default();
        let numbers = SettingKind::ALL.into_iter().filter(|kind| *kind != SettingKind::Curve);
        for (index, kind) in numbers.clone().enumerate() {
            assert_eq!(settings.get(kind), None);
            settings.set(kind, Some(index as f64 + 1.0));
        }
        for (index, kind) in numbers.enumerate() {
            assert_eq!(settings.get(kind), Some(index as f64 + 1.0), "{}", kind.label());
        }
        let text = serde_json::to_string(&settings).unwrap();
        assert_eq!(serde_json::from_str::<Settings>(&text).unwrap(), settings);
    }

    #[test]
    fn a_vf_curve_is_written_clamped_and_compared_as_a_whole() {
        let curve = |points: &[(u16, u16)]| VfCurve::new(points).unwrap();
        let factory = curve(&[(700, 1_305), (800, 1_590), (900, 1_815)]);
        let offer = CurveOffer {
            kind: crate::shape::CurveKind::Points,
            factory,
            clocks: Span { lowest: 900, highest: 2_505, step: 15 },
            voltages: Span { lowest: 700, highest: 900, step: 100 },
        };
        let card = CardDescription { curve: Some(offer), ..card() };
        let with = |curve| Settings { curve: Some(curve), ..Settings::stock(&card) };

        let asked = with(curve(&[(700, 1_400), (800, 1_800), (900, 2_600)]));
        let text = serde_json::to_string(&asked).unwrap();
        let asked_as_written = Settings { fan: None, ..asked };
        assert!(text.contains("\"vf_curve\":[[700,1400],[800,1800],[900,2600]]"), "{text}");
        assert_eq!(serde_json::from_str::<Settings>(&text).unwrap(), asked_as_written);
        let clamped = asked.clamped(&card);
        assert_eq!(
            clamped.settings.curve,
            Some(curve(&[(700, 1_400), (800, 1_800), (900, 2_505)]))
        );
        assert!(clamped.notes[0].contains("900 to 2505 MHz"), "{:?}", clamped.notes);
        assert_eq!(with(factory).clamped(&card).settings.curve, None, "the factory's is none");

        let taken = with(curve(&[(700, 1_395), (800, 1_800), (900, 2_505)]));
        let differences = clamped.settings.differences(&taken, &card);
        assert_eq!(differences.len(), 1);
        assert!(differences[0].rounded, "{differences:?}");
        let refused = clamped.settings.differences(&Settings::stock(&card), &card);
        assert!(!refused[0].rounded && refused[0].taken == "factory", "{refused:?}");
        assert_eq!(asked.moved_from_stock(&card), ["V/F curve 2600 MHz at 900 mV"]);
    }

    #[test]
    fn a_fan_curve_is_written_clamped_and_compared_as_a_whole() {
        let curve = |low| Fan::Curve(FanCurve::new(&[(40.0, low), (80.0, 100.0)]).unwrap());
        let asked = Settings { fan: Some(curve(10.0)), ..Settings::default() };
        let text = serde_json::to_string(&asked).unwrap();
        assert_eq!(serde_json::from_str::<Settings>(&text).unwrap(), asked);
        let clamped = asked.clamped(&card());
        assert_eq!(clamped.settings.fan, Some(curve(30.0)), "the fan of the card starts at 30 %");
        assert_eq!(clamped.notes.len(), 1);
        let taken = Settings { fan: Some(curve(30.0)), ..Settings::stock(&card()) };
        assert_eq!(clamped.settings.differences(&taken, &card()), []);
        let told = clamped.settings.differences(&Settings::stock(&card()), &card());
        assert_eq!(told[0].to_string(), "fan: asked curve, 30 to 100 %, the card holds automatic");
    }

    #[test]
    fn a_window_upside_down_is_closed_at_its_top() {
        let mut description = card();
        for kind in [SettingKind::ClockMinimum, SettingKind::ClockMaximum] {
            description.offers.push(Offer {
                kind,
                reading: crate::card::description::Reading::Absolute,
                minimum: 500.0,
                maximum: 3_000.0,
                step: 5.0,
                stock: None,
                makers_maximum: None,
            });
        }
        let asked = Settings {
            clock_minimum: Some(Mhz(2_500.0)),
            clock_maximum: Some(Mhz(2_000.0)),
            ..Settings::default()
        };
        let clamped = asked.clamped(&description);
        assert_eq!(clamped.settings.clock_minimum, Some(Mhz(2_000.0)));
        assert!(clamped.notes[0].contains("above the highest clock"), "{:?}", clamped.notes);
    }
}
