//! What a card is and what it lets itself be asked: identity, offered settings, sensors, limits.

use serde::{Deserialize, Serialize};

use crate::air::fan::FanControl;
use crate::card::memory_rate::MemoryWiring;
use crate::ceiling::table::{LimitTables, TableOwner};
use crate::shape::CurveOffer;
use crate::units::{Ampere, Celsius, Mhz, Millivolt, Watt};

/// A setting that some card may offer.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    strum::EnumCount,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
pub enum SettingKind {
    /// The highest board power the card allows itself, in watts.
    #[strum(to_string = "power limit")]
    PowerLimit,
    /// The core temperature at which the card begins to drop its clock, in °C.
    #[strum(to_string = "temperature target")]
    TemperatureTarget,
    /// Offset of the clock of every V/F point, in MHz.
    #[strum(to_string = "core clock offset")]
    CoreOffset,
    /// Offset of the actual memory clock, in MHz.
    #[strum(to_string = "memory clock offset")]
    MemoryOffset,
    /// Lowest core clock under load, in MHz.
    #[strum(to_string = "lowest clock")]
    ClockMinimum,
    /// Highest core clock, in MHz.
    #[strum(to_string = "highest clock")]
    ClockMaximum,
    /// Offset of the voltage of every V/F point, in mV.
    #[strum(to_string = "voltage offset")]
    VoltageOffset,
    /// A second voltage that feeds the memory's side of the chip, in mV.
    #[strum(to_string = "memory-side voltage")]
    MemoryVoltage,
    /// How tight the memory timings are, 0 being stock.
    #[strum(to_string = "memory timing")]
    MemoryTiming,
    /// The fan: a fixed speed in percent, a curve, or automatic.
    #[strum(to_string = "fan")]
    Fan,
    /// Highest frame rate, in fps; none where it is not capped.
    #[strum(to_string = "frame cap")]
    FrameCap,
    /// The V/F curve: points at fixed voltages, or performance states. No number says it.
    #[strum(to_string = "V/F curve")]
    Curve,
}

impl SettingKind {
    /// Every kind, in the order in which they are shown.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::PowerLimit,
        Self::TemperatureTarget,
        Self::CoreOffset,
        Self::Curve,
        Self::MemoryOffset,
        Self::ClockMinimum,
        Self::ClockMaximum,
        Self::VoltageOffset,
        Self::MemoryVoltage,
        Self::MemoryTiming,
        Self::Fan,
        Self::FrameCap,
    ];

    /// The trade's name of the setting.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// The unit in which its values are counted; empty for a level.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::PowerLimit => "W",
            Self::TemperatureTarget => "°C",
            Self::CoreOffset | Self::MemoryOffset | Self::ClockMinimum | Self::ClockMaximum => {
                "MHz"
            }
            Self::VoltageOffset | Self::MemoryVoltage => "mV",
            Self::MemoryTiming | Self::Curve => "",
            Self::Fan => "%",
            Self::FrameCap => "fps",
        }
    }

    /// Less than this apart, what was asked and what was taken count as rounding on a card that does not say in which steps it
    /// counts, in the setting's unit. Assumption: cards round to 1 to 5 W, to clock bins of up to 25 MHz, to 6.25 or 12.5 mV,
    /// and fans to a few points of percent.
    #[must_use]
    pub const fn assumed_rounding(self) -> f64 {
        match self {
            Self::PowerLimit => 5.0,
            Self::CoreOffset | Self::MemoryOffset | Self::ClockMinimum | Self::ClockMaximum => 25.0,
            Self::VoltageOffset | Self::MemoryVoltage => 13.0,
            Self::Fan => 3.0,
            Self::TemperatureTarget | Self::MemoryTiming | Self::FrameCap | Self::Curve => 1.0,
        }
    }

    /// What stands for stock where the factory value is no number.
    #[must_use]
    pub const fn without_number(self) -> &'static str {
        match self {
            Self::Fan => "automatic",
            Self::FrameCap => "none",
            Self::Curve => "factory",
            _ => "stock",
        }
    }

    /// A value of this kind with its unit, and its sign where it is an offset.
    #[must_use]
    pub fn show(self, value: f64) -> String {
        let number = match self {
            Self::CoreOffset | Self::MemoryOffset | Self::VoltageOffset => match value.round() {
                0.0 => "±0".to_owned(),
                n if n > 0.0 => format!("+{n}"),
                n => format!("−{}", -n),
            },
            _ => format!("{value:.0}"),
        };
        match self.unit() {
            "" => format!("level {number}"),
            unit => format!("{number} {unit}"),
        }
    }
}

/// How the number of a setting is to be read.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "lowercase")]
pub enum Reading {
    /// The value itself.
    #[default]
    Absolute,
    /// A difference to stock.
    Offset,
    /// The card counts it in percent of stock; values here are in the setting's unit all the same.
    Percent,
}

impl Reading {
    /// The word shown beside a range.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }
}

/// One setting a card offers, with the range the card advertises, in the setting's unit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Offer {
    /// Which setting.
    pub kind: SettingKind,
    /// How the card counts it.
    #[serde(default)]
    pub reading: Reading,
    /// Lowest value the card takes.
    pub minimum: f64,
    /// Highest value the card takes.
    pub maximum: f64,
    /// Highest value under the maker's limits, where those in force let it take more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub makers_maximum: Option<f64>,
    /// Distance between two values the card tells apart; above zero.
    pub step: f64,
    /// The factory value; none where stock is "automatic" or "none".
    pub stock: Option<f64>,
}

/// Why a card takes another value than the one asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Adjusted {
    /// It is above the highest the card takes.
    ToHighest,
    /// It is below the lowest the card takes.
    ToLowest,
    /// It lies between two steps of the card.
    ToStep,
}

impl Offer {
    /// The value the card takes where this one is asked for, and why it is another.
    #[must_use]
    pub fn taken(&self, asked: f64) -> (f64, Option<Adjusted>) {
        let taken = self.bin(asked);
        let why = if asked > self.maximum {
            Some(Adjusted::ToHighest)
        } else if asked < self.minimum {
            Some(Adjusted::ToLowest)
        } else {
            ((taken - asked).abs() > 1e-6).then_some(Adjusted::ToStep)
        };
        (taken, why)
    }

    /// The nearest value the card can hold at or below `value`, counted in steps from the stock
    /// value (or the minimum) and kept inside the range.
    #[must_use]
    pub fn bin(&self, value: f64) -> f64 {
        let origin = self.stock.unwrap_or(self.minimum);
        let steps = ((value - origin) / self.step + 1e-9).floor();
        (origin + steps * self.step).clamp(self.minimum, self.maximum)
    }

    /// A value as it is shown on this card: a power limit in watts and in percent of stock.
    #[must_use]
    pub fn show(&self, value: f64) -> String {
        let text = self.kind.show(value);
        match (self.kind, self.stock) {
            (SettingKind::PowerLimit, Some(stock)) if stock > 0.0 => {
                format!("{text}, {:.0} %", value / stock * 100.0)
            }
            _ => text,
        }
    }

    /// One step as it is shown: in percent where the card counts so.
    #[must_use]
    pub fn show_step(&self) -> String {
        match (self.reading, self.stock) {
            (Reading::Percent, Some(stock)) if stock > 0.0 => {
                format!("{:.0} %", self.step / stock * 100.0)
            }
            _ => format!("{:.0} {}", self.step, self.kind.unit()).trim_end().to_owned(),
        }
    }
}

/// Something a card has not, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Absent<T> {
    /// What is missing.
    pub what: T,
    /// Why, in half a sentence.
    pub why: String,
}

/// A reading some card may give.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    strum::EnumCount,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
pub enum Channel {
    /// Core clock as the card reports it, MHz.
    #[strum(to_string = "core clock")]
    CoreClock,
    /// Core clock at which work was really done, MHz.
    #[strum(to_string = "effective clock")]
    EffectiveClock,
    /// Actual (not effective) memory clock, MHz.
    #[strum(to_string = "memory clock")]
    MemoryClock,
    /// Core voltage, mV.
    #[strum(to_string = "voltage")]
    Voltage,
    /// Power of the whole board, W.
    #[strum(to_string = "board power")]
    BoardPower,
    /// Core temperature, °C.
    #[strum(to_string = "core temperature")]
    CoreTemperature,
    /// Hottest spot of the chip, °C.
    #[strum(to_string = "hot spot")]
    HotSpot,
    /// Fan speed, percent of its highest.
    #[strum(to_string = "fan")]
    Fan,
    /// Share of time in which the card worked on the load, percent.
    #[strum(to_string = "load")]
    Load,
    /// Share of time in which it worked for other programs, percent.
    #[strum(to_string = "background load")]
    Background,
    /// Frames of the scene finished per second; measured by the load, not by the card.
    #[strum(to_string = "frame rate")]
    FrameRate,
    /// Power of the chip alone, W.
    #[strum(to_string = "chip power")]
    ChipPower,
    /// Memory temperature, °C.
    #[strum(to_string = "memory temperature")]
    MemoryTemperature,
    /// Temperature of the voltage regulator, °C.
    #[strum(to_string = "regulator temperature")]
    RegulatorTemperature,
}

impl Channel {
    /// Every channel, in the order in which they are stored: new ones go to the end.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::CoreClock,
        Self::EffectiveClock,
        Self::MemoryClock,
        Self::Voltage,
        Self::BoardPower,
        Self::CoreTemperature,
        Self::HotSpot,
        Self::Fan,
        Self::Load,
        Self::Background,
        Self::FrameRate,
        Self::ChipPower,
        Self::MemoryTemperature,
        Self::RegulatorTemperature,
    ];

    /// Least and most that a sensor that works can say, in the channel's unit.
    #[must_use]
    pub const fn possible(self) -> (f64, f64) {
        match self {
            Self::CoreClock | Self::EffectiveClock | Self::MemoryClock => (0.0, 20_000.0),
            Self::Voltage => (0.0, 5_000.0),
            Self::BoardPower | Self::ChipPower => (0.0, 5_000.0),
            Self::CoreTemperature
            | Self::HotSpot
            | Self::MemoryTemperature
            | Self::RegulatorTemperature => (-60.0, 200.0),
            Self::Fan => (0.0, 250.0),
            Self::Load | Self::Background => (0.0, 100.5),
            Self::FrameRate => (0.0, 1_000_000.0),
        }
    }

    /// The trade's name of the reading.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// The unit behind the number.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::CoreClock | Self::EffectiveClock | Self::MemoryClock => "MHz",
            Self::Voltage => "mV",
            Self::BoardPower | Self::ChipPower => "W",
            Self::CoreTemperature
            | Self::HotSpot
            | Self::MemoryTemperature
            | Self::RegulatorTemperature => "°C",
            Self::Fan | Self::Load | Self::Background => "%",
            Self::FrameRate => "fps",
        }
    }
}

/// Temperature at which the load is stopped where a card states no ceiling. Assumption: what chips of
/// these years stand for hours, with some degrees to spare.
pub const ASSUMED_CEILING: Celsius = Celsius(90.0);

/// Limits a card states about itself. A card may not state all of them.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CardLimits {
    /// Advertised boost clock.
    pub boost_clock: Mhz,
    /// Highest clock of the V/F curve at stock: what is reached with power and cold to spare.
    pub highest_clock: Mhz,
    /// Distance of two neighbouring clocks, the boost bin.
    pub clock_bin: Mhz,
    /// Highest core voltage.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub voltage_ceiling: Option<Millivolt>,
    /// Board power limit at stock.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub power_limit: Option<Watt>,
    /// Core temperature above which clocks drop at stock.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature_target: Option<Celsius>,
    /// Highest temperature that the card allows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature_ceiling: Option<Celsius>,
    /// Highest current into the chip.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub current: Option<Ampere>,
}

impl CardLimits {
    /// Temperature at which the load is stopped and the card put back, whoever runs it: the card's
    /// ceiling, or [`ASSUMED_CEILING`].
    #[must_use]
    pub fn stops_at(&self) -> Celsius {
        self.temperature_ceiling.unwrap_or(ASSUMED_CEILING)
    }

    /// Temperature that holds the card back: the target it is set to, or else its own, and no more than that at which the
    /// load is stopped.
    #[must_use]
    pub fn held_back_at(&self, target: Option<Celsius>) -> Celsius {
        let stop = self.stops_at();
        target.or(self.temperature_target).filter(|target| *target < stop).unwrap_or(stop)
    }
}

/// Everything that is known of a card before the first change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CardDescription {
    /// What the user names it by, such as `standin:tarn-310`.
    pub id: String,
    /// The unit: two cards of one model differ.
    pub serial: String,
    /// Name to show.
    pub name: String,
    /// Memory type.
    pub memory_type: String,
    /// Memory size in GiB.
    pub memory_gib: u32,
    /// Actual memory clock at stock.
    #[serde(default)]
    pub memory_clock: Mhz,
    /// What makes a rate of a memory clock.
    #[serde(default)]
    pub memory_wiring: MemoryWiring,
    /// Release of the driver the card runs under.
    #[serde(default)]
    pub driver: String,
    /// Limits the card states.
    pub limits: CardLimits,
    /// The V/F curve it lets be shaped, where it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub curve: Option<CurveOffer>,
    /// What it lets its fan be driven by, where it offers its fan.
    #[serde(default)]
    pub fan: FanControl,
    /// Whether it does not say in which steps it counts, so that those of its offers are the finest there can be.
    #[serde(default)]
    pub steps_unstated: bool,
    /// Its maker's limit table and the one in force, where it has such a table.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_tables: Option<Box<LimitTables>>,
    /// Settings it offers. What is missing here, the card does not offer.
    pub offers: Vec<Offer>,
    /// Readings its sensors give. What is missing here, the card does not measure.
    pub sensors: Vec<Channel>,
    /// Settings it does not offer, with the reason where it is known.
    #[serde(default)]
    pub absent_settings: Vec<Absent<SettingKind>>,
    /// Readings it does not give, with the reason where it is known.
    #[serde(default)]
    pub absent_sensors: Vec<Absent<Channel>>,
}

impl CardDescription {
    /// Which cards have the same limit table.
    #[must_use]
    pub fn table_owner(&self) -> TableOwner {
        TableOwner {
            kind: self.id.clone(),
            memory_type: self.memory_type.clone(),
            memory_gib: self.memory_gib,
        }
    }

    /// Whether it states how its memory is wired.
    #[must_use]
    pub fn states_memory(&self) -> bool {
        self.memory_wiring != MemoryWiring::default()
    }

    /// The offer of one kind, if the card makes it.
    #[must_use]
    pub fn offer(&self, kind: SettingKind) -> Option<&Offer> {
        self.offers.iter().find(|offer| offer.kind == kind)
    }

    /// Whether a setting is offered at all, as a number or as a curve.
    #[must_use]
    pub fn offers(&self, kind: SettingKind) -> bool {
        match kind {
            SettingKind::Curve => self.curve.is_some(),
            _ => self.offer(kind).is_some(),
        }
    }

    /// Every kind of setting it offers, in the order in which they are shown.
    pub fn offered(&self) -> impl Iterator<Item = SettingKind> {
        SettingKind::ALL.into_iter().filter(|kind| self.offers(*kind))
    }

    /// Less than this apart, what was asked and what was taken count as rounding, in the setting's unit.
    #[must_use]
    pub fn rounding(&self, offer: &Offer) -> f64 {
        match self.steps_unstated {
            true => offer.step.max(offer.kind.assumed_rounding()),
            false => offer.step,
        }
    }

    /// Its curve with the steps in which points may differ and still count as rounded.
    #[must_use]
    pub fn curve_to_compare(&self, offer: CurveOffer) -> CurveOffer {
        let assumed = |kind: SettingKind| kind.assumed_rounding() as u16;
        match self.steps_unstated {
            true => offer
                .with_steps(assumed(SettingKind::CoreOffset), assumed(SettingKind::VoltageOffset)),
            false => offer,
        }
    }

    /// Whether the card has a sensor for the channel.
    #[must_use]
    pub fn senses(&self, channel: Channel) -> bool {
        self.sensors.contains(&channel)
    }

    /// Why a setting is not offered.
    #[must_use]
    pub fn why_not_offered(&self, kind: SettingKind) -> &str {
        let found = self.absent_settings.iter().find(|absent| absent.what == kind);
        found.map_or("this card does not offer it", |absent| &absent.why)
    }

    /// Why a channel is not measured.
    #[must_use]
    pub fn why_not_sensed(&self, channel: Channel) -> &str {
        let found = self.absent_sensors.iter().find(|absent| absent.what == channel);
        found.map_or("no such sensor", |absent| &absent.why)
    }

    /// Key under which the ledger knows this very card.
    #[must_use]
    pub fn key(&self) -> String {
        format!("{}#{}", self.id, self.serial)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, 0.0)]
    #[case(29.9, 15.0)]
    #[case(30.0, 30.0)]
    #[case(-1.0, -15.0)]
    #[case(999.0, 300.0)]
    #[case(-999.0, -150.0)]
    fn a_value_falls_into_the_bin_at_or_below_it(#[case] asked: f64, #[case] held: f64) {
        let offer = Offer {
            kind: SettingKind::CoreOffset,
            reading: Reading::Offset,
            minimum: -150.0,
            maximum: 300.0,
            step: 15.0,
            stock: Some(0.0),
            makers_maximum: None,
        };
        assert_eq!(offer.bin(asked), held);
    }

    #[rstest]
    #[case(SettingKind::CoreOffset, -45.0, "−45 MHz")]
    #[case(SettingKind::MemoryOffset, 120.0, "+120 MHz")]
    #[case(SettingKind::VoltageOffset, 0.0, "±0 mV")]
    #[case(SettingKind::MemoryVoltage, 900.0, "900 mV")]
    #[case(SettingKind::MemoryTiming, 2.0, "level 2")]
    fn a_value_is_shown_with_unit_and_sign(
        #[case] kind: SettingKind,
        #[case] value: f64,
        #[case] text: &str,
    ) {
        assert_eq!(kind.show(value), text);
    }

    #[test]
    fn a_power_limit_is_told_in_watts_and_percent_also_where_the_card_counts_in_percent() {
        let offer = Offer {
            kind: SettingKind::PowerLimit,
            reading: Reading::Percent,
            minimum: 165.0,
            maximum: 379.5,
            step: 3.3,
            stock: Some(330.0),
            makers_maximum: None,
        };
        assert_eq!((offer.show(363.0), offer.show_step()), ("363 W, 110 %".into(), "1 %".into()));
        assert_eq!(offer.bin(364.0), 363.0);
    }
}
