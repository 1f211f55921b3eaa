//! What a card is and what it lets itself be asked: identity, offered settings, sensors, limits.

use serde::{Deserialize, Serialize};

use crate::units::{Celsius, Mhz, Millivolt, Watt};

/// A setting that some card may offer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SettingKind {
    /// The highest board power the card allows itself, in watts.
    PowerLimit,
    /// The core temperature at which the card begins to drop its clock, in °C.
    TemperatureTarget,
    /// Offset of every V/F point, in MHz.
    CoreOffset,
    /// Fixed fan speed in percent; automatic where none is set.
    Fan,
}

impl SettingKind {
    /// Every kind, in the order in which they are shown.
    pub const ALL: [Self; 4] =
        [Self::PowerLimit, Self::TemperatureTarget, Self::CoreOffset, Self::Fan];

    /// The trade's name of the setting.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::PowerLimit => "power limit",
            Self::TemperatureTarget => "temperature target",
            Self::CoreOffset => "core clock offset",
            Self::Fan => "fan",
        }
    }

    /// The unit in which its values are counted.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::PowerLimit => "W",
            Self::TemperatureTarget => "°C",
            Self::CoreOffset => "MHz",
            Self::Fan => "%",
        }
    }

    /// Whether values stand for themselves or are relative to stock.
    #[must_use]
    pub const fn reading(self) -> Reading {
        match self {
            Self::CoreOffset => Reading::Offset,
            Self::PowerLimit | Self::TemperatureTarget | Self::Fan => Reading::Absolute,
        }
    }
}

/// How the number of a setting is to be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Reading {
    /// The value itself.
    Absolute,
    /// A difference to stock.
    Offset,
}

impl Reading {
    /// The word shown beside a range.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Absolute => "absolute",
            Self::Offset => "offset",
        }
    }
}

/// One setting a card offers, with the range the card advertises, in the setting's unit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Offer {
    /// Which setting.
    pub kind: SettingKind,
    /// Lowest value the card takes.
    pub minimum: f64,
    /// Highest value the card takes.
    pub maximum: f64,
    /// Distance between two values the card tells apart; above zero.
    pub step: f64,
    /// The factory value; none where stock is "automatic".
    pub stock: Option<f64>,
}

impl Offer {
    /// The nearest value the card can hold at or below `value`, counted in steps from the stock
    /// value (or the minimum) and kept inside the range.
    #[must_use]
    pub fn bin(&self, value: f64) -> f64 {
        let origin = self.stock.unwrap_or(self.minimum);
        let steps = ((value - origin) / self.step + 1e-9).floor();
        (origin + steps * self.step).clamp(self.minimum, self.maximum)
    }
}

/// A reading some card may give.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Channel {
    /// Core clock as the card reports it, MHz.
    CoreClock,
    /// Core clock at which work was really done, MHz.
    EffectiveClock,
    /// Actual (not effective) memory clock, MHz.
    MemoryClock,
    /// Core voltage, mV.
    Voltage,
    /// Power of the whole board, W.
    BoardPower,
    /// Core temperature, °C.
    CoreTemperature,
    /// Hottest spot of the chip, °C.
    HotSpot,
    /// Fan speed, percent of its highest.
    Fan,
    /// Share of time in which the card worked on the load, percent.
    Load,
    /// Share of time in which it worked for other programs, percent.
    Background,
    /// Frames of the scene finished per second; measured by the load, not by the card.
    FrameRate,
}

impl Channel {
    /// Every channel, in the order in which they are stored.
    pub const ALL: [Self; 11] = [
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
    ];

    /// The trade's name of the reading.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::CoreClock => "core clock",
            Self::EffectiveClock => "effective clock",
            Self::MemoryClock => "memory clock",
            Self::Voltage => "voltage",
            Self::BoardPower => "board power",
            Self::CoreTemperature => "core temperature",
            Self::HotSpot => "hot spot",
            Self::Fan => "fan",
            Self::Load => "load",
            Self::Background => "background load",
            Self::FrameRate => "frame rate",
        }
    }

    /// The unit behind the number.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::CoreClock | Self::EffectiveClock | Self::MemoryClock => "MHz",
            Self::Voltage => "mV",
            Self::BoardPower => "W",
            Self::CoreTemperature | Self::HotSpot => "°C",
            Self::Fan | Self::Load | Self::Background => "%",
            Self::FrameRate => "fps",
        }
    }
}

/// Limits a card states about itself.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CardLimits {
    /// Advertised boost clock.
    pub boost_clock: Mhz,
    /// Highest clock of the V/F curve at stock: what is reached with power and cold to spare.
    pub highest_clock: Mhz,
    /// Distance of two neighbouring clocks, the boost bin.
    pub clock_bin: Mhz,
    /// Highest core voltage.
    pub voltage_ceiling: Millivolt,
    /// Board power limit at stock.
    pub power_limit: Watt,
    /// Core temperature above which clocks drop at stock.
    pub temperature_target: Celsius,
    /// Temperature at which the load is stopped and the card put back, whoever runs it.
    pub temperature_ceiling: Celsius,
}

/// Everything that is known of a card before the first change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CardDescription {
    /// What the user names it by, such as `standin:tarn-310`.
    pub id: String,
    /// The individual: two cards of one model differ.
    pub serial: String,
    /// Name to show.
    pub name: String,
    /// Memory type.
    pub memory_type: String,
    /// Memory size in GiB.
    pub memory_gib: u32,
    /// Limits the card states.
    pub limits: CardLimits,
    /// Settings it offers. What is missing here, the card does not offer.
    pub offers: Vec<Offer>,
    /// Readings its sensors give. What is missing here, the card does not measure.
    pub sensors: Vec<Channel>,
}

impl CardDescription {
    /// The offer of one kind, if the card makes it.
    #[must_use]
    pub fn offer(&self, kind: SettingKind) -> Option<&Offer> {
        self.offers.iter().find(|offer| offer.kind == kind)
    }

    /// Whether the card has a sensor for the channel.
    #[must_use]
    pub fn senses(&self, channel: Channel) -> bool {
        self.sensors.contains(&channel)
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
            minimum: -150.0,
            maximum: 300.0,
            step: 15.0,
            stock: Some(0.0),
        };
        assert_eq!(offer.bin(asked), held);
    }
}
