//! One reading of everything a card can be asked about itself.

use serde::{Deserialize, Serialize};

use crate::card::description::Channel;
use crate::units::{Celsius, Mhz, Millivolt, Percent, Seconds, Watt};

/// Readings taken at one instant. A reading that is missing is a gap, never zero.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Sample {
    /// Time since the trial began.
    pub at: Seconds,
    /// Core clock as reported.
    pub core_clock: Option<Mhz>,
    /// Core clock at which work was done.
    pub effective_clock: Option<Mhz>,
    /// Actual memory clock.
    pub memory_clock: Option<Mhz>,
    /// Core voltage.
    pub voltage: Option<Millivolt>,
    /// Power of the whole board.
    pub board_power: Option<Watt>,
    /// Core temperature.
    pub core_temperature: Option<Celsius>,
    /// Hottest spot of the chip.
    pub hot_spot: Option<Celsius>,
    /// Fan speed.
    pub fan: Option<Percent>,
    /// Share of time spent on the load.
    pub load: Option<Percent>,
    /// Share of time spent for other programs.
    pub background: Option<Percent>,
    /// Frames finished per second.
    pub frame_rate: Option<f64>,
    /// Power of the chip alone.
    #[serde(default)]
    pub chip_power: Option<Watt>,
    /// Memory temperature.
    #[serde(default)]
    pub memory_temperature: Option<Celsius>,
    /// Temperature of the voltage regulator.
    #[serde(default)]
    pub regulator_temperature: Option<Celsius>,
}

impl Sample {
    /// The temperature a card is steered by: that of its core or, where it tells none, its hot spot.
    #[must_use]
    pub fn chip_temperature(&self) -> Option<Celsius> {
        self.core_temperature.or(self.hot_spot)
    }

    /// The sample without readings that cannot be, which become gaps: a driver that has lost its
    /// card makes numbers up.
    #[must_use]
    pub fn without_nonsense(mut self) -> Self {
        for channel in Channel::ALL {
            let (least, most) = channel.possible();
            if self.get(channel).is_some_and(|value| !(least..=most).contains(&value)) {
                self.set(channel, None);
            }
        }
        self
    }

    /// The reading of one channel in its unit.
    #[must_use]
    pub fn get(&self, channel: Channel) -> Option<f64> {
        match channel {
            Channel::CoreClock => self.core_clock.map(Mhz::value),
            Channel::EffectiveClock => self.effective_clock.map(Mhz::value),
            Channel::MemoryClock => self.memory_clock.map(Mhz::value),
            Channel::Voltage => self.voltage.map(Millivolt::value),
            Channel::BoardPower => self.board_power.map(Watt::value),
            Channel::CoreTemperature => self.core_temperature.map(Celsius::value),
            Channel::HotSpot => self.hot_spot.map(Celsius::value),
            Channel::Fan => self.fan.map(Percent::value),
            Channel::Load => self.load.map(Percent::value),
            Channel::Background => self.background.map(Percent::value),
            Channel::FrameRate => self.frame_rate,
            Channel::ChipPower => self.chip_power.map(Watt::value),
            Channel::MemoryTemperature => self.memory_temperature.map(Celsius::value),
            Channel::RegulatorTemperature => self.regulator_temperature.map(Celsius::value),
        }
    }

    /// Puts a reading into one channel, in its unit.
    pub fn set(&mut self, channel: Channel, value: Option<f64>) {
        match channel {
            Channel::CoreClock => self.core_clock = value.map(Mhz),
            Channel::EffectiveClock => self.effective_clock = value.map(Mhz),
            Channel::MemoryClock => self.memory_clock = value.map(Mhz),
            Channel::Voltage => self.voltage = value.map(Millivolt),
            Channel::BoardPower => self.board_power = value.map(Watt),
            Channel::CoreTemperature => self.core_temperature = value.map(Celsius),
            Channel::HotSpot => self.hot_spot = value.map(Celsius),
            Channel::Fan => self.fan = value.map(Percent),
            Channel::Load => self.load = value.map(Percent),
            Channel::Background => self.background = value.map(Percent),
            Channel::FrameRate => self.frame_rate = value,
            Channel::ChipPower => self.chip_power = value.map(Watt),
            Channel::MemoryTemperature => self.memory_temperature = value.map(Celsius),
            Channel::RegulatorTemperature => self.regulator_temperature = value.map(Celsius),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reading_that_cannot_be_is_a_gap() {
        let sample = Sample {
            board_power: Some(Watt(-3.0)),
            core_temperature: Some(Celsius(-273_150.0)),
            hot_spot: Some(Celsius(71.0)),
            voltage: Some(Millivolt(f64::NAN)),
            ..Sample::default()
        };
        let kept = Sample { hot_spot: Some(Celsius(71.0)), ..Sample::default() };
        assert_eq!(sample.without_nonsense(), kept);
    }

    #[test]
    fn every_channel_gives_back_what_was_put_in() {
        let mut sample = Sample::default();
        for (index, channel) in Channel::ALL.into_iter().enumerate() {
            assert_eq!(sample.get(channel), None);
            sample.set(channel, Some(index as f64));
        }
        for (index, channel) in Channel::ALL.into_iter().enumerate() {
            assert_eq!(sample.get(channel), Some(index as f64));
        }
    }
}
