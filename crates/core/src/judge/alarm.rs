//! Alarms of the user's own, beside the ones that always hold.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::card::description::Channel;
use crate::measure::moment::Moment;

/// What an alarm looks at.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    Deserialize,
    strum::EnumCount,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
pub enum AlarmOn {
    /// Core temperature, °C.
    #[strum(to_string = "core temperature")]
    CoreTemperature,
    /// Hot spot, °C.
    #[strum(to_string = "hot spot")]
    HotSpot,
    /// Board power, W.
    #[strum(to_string = "board power")]
    BoardPower,
    /// Frames with wrong pixels in one trial.
    #[strum(to_string = "artifacts")]
    Artifacts,
    /// Memory temperature, °C.
    #[strum(to_string = "memory temperature")]
    MemoryTemperature,
    /// Temperature of the voltage regulator, °C.
    #[strum(to_string = "regulator temperature")]
    RegulatorTemperature,
    /// How fast the chip becomes warmer, K a minute: a cooler that has come off, a pump that has stopped.
    #[strum(to_string = "temperature rise")]
    TemperatureRise,
    /// By how much the fan is slower than it was asked to be, percent: one that does not spin.
    #[strum(to_string = "fan shortfall")]
    FanShortfall,
}

impl AlarmOn {
    /// Everything an alarm may look at.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::CoreTemperature,
        Self::HotSpot,
        Self::MemoryTemperature,
        Self::RegulatorTemperature,
        Self::TemperatureRise,
        Self::FanShortfall,
        Self::BoardPower,
        Self::Artifacts,
    ];

    /// The trade's name of it.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// The unit of its threshold.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::CoreTemperature
            | Self::HotSpot
            | Self::MemoryTemperature
            | Self::RegulatorTemperature => "°C",
            Self::TemperatureRise => "K/min",
            Self::FanShortfall => "%",
            Self::BoardPower => "W",
            Self::Artifacts => "frames",
        }
    }

    /// Lowest and highest threshold that makes sense.
    #[must_use]
    pub const fn range(self) -> (f64, f64) {
        match self {
            Self::CoreTemperature | Self::HotSpot => (20.0, 120.0),
            Self::MemoryTemperature | Self::RegulatorTemperature => (20.0, 150.0),
            Self::TemperatureRise => (1.0, 1_000.0),
            Self::FanShortfall => (5.0, 100.0),
            Self::BoardPower => (10.0, 2_000.0),
            Self::Artifacts => (0.0, 100_000.0),
        }
    }

    /// The sensor it reads; none where it goes by more than one reading.
    #[must_use]
    pub const fn channel(self) -> Option<Channel> {
        match self {
            Self::CoreTemperature => Some(Channel::CoreTemperature),
            Self::HotSpot => Some(Channel::HotSpot),
            Self::MemoryTemperature => Some(Channel::MemoryTemperature),
            Self::RegulatorTemperature => Some(Channel::RegulatorTemperature),
            Self::BoardPower => Some(Channel::BoardPower),
            Self::FanShortfall => Some(Channel::Fan),
            Self::TemperatureRise | Self::Artifacts => None,
        }
    }

    fn value(self, moment: &Moment<'_>) -> Option<f64> {
        match self {
            Self::Artifacts => Some(moment.wrong_frames as f64),
            Self::TemperatureRise => moment.rise_per_minute,
            Self::FanShortfall => moment.fan_short_by,
            Self::CoreTemperature
            | Self::HotSpot
            | Self::MemoryTemperature
            | Self::RegulatorTemperature
            | Self::BoardPower => moment.sample.get(self.channel()?),
        }
    }
}

/// What an alarm does.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    Deserialize,
    strum::EnumCount,
    strum::VariantNames,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
pub enum AlarmAct {
    /// Says so and goes on.
    #[strum(to_string = "warn")]
    Warn,
    /// Stops the trial; the climb goes on.
    #[strum(to_string = "stop")]
    Stop,
    /// Stops the trial, puts the card back to what was kept (or to stock), and climbs no further
    /// by itself.
    #[strum(to_string = "put back")]
    PutBack,
}

impl AlarmAct {
    /// All acts, the mildest first.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] =
        [Self::Warn, Self::Stop, Self::PutBack];

    /// The act in words.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }
}

/// One alarm: when the reading is above the threshold, act.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Alarm {
    /// What it looks at.
    pub on: AlarmOn,
    /// Threshold in the unit of `on`.
    pub above: f64,
    /// What it does.
    pub act: AlarmAct,
}

/// An alarm that went off.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct AlarmRaised {
    /// The alarm.
    pub alarm: Alarm,
    /// The reading that set it off.
    pub value: f64,
}

impl fmt::Display for AlarmRaised {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Alarm { on, above, .. } = self.alarm;
        let (value, unit) = (self.value, on.unit());
        write!(f, "{} {value:.0} {unit} is above the alarm at {above:.0} {unit}", on.label())
    }
}

/// The gravest alarm that a sample sets off. A reading that is missing sets nothing off: a sensor
/// that falls silent is a matter of its own.
#[must_use]
pub fn raised(alarms: &[Alarm], moment: &Moment<'_>) -> Vec<AlarmRaised> {
    let mut raised: Vec<AlarmRaised> = alarms
        .iter()
        .filter_map(|alarm| {
            let value = alarm.on.value(moment)?;
            (value > alarm.above).then_some(AlarmRaised { alarm: *alarm, value })
        })
        .collect();
    raised.sort_by_key(|one| std::cmp::Reverse(one.alarm.act as u8));
    raised
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::sample;
    use crate::measure::sample::Sample;
    use rstest::rstest;

    #[rstest]
    #[case(AlarmOn::HotSpot, 72.0, 0, None)]
    #[case(AlarmOn::HotSpot, 71.0, 0, Some("hot spot 72 °C is above the alarm at 71 °C"))]
    #[case(AlarmOn::CoreTemperature, 59.0, 0, Some("core temperature 60 °C"))]
    #[case(AlarmOn::BoardPower, 199.0, 0, Some("board power 200 W"))]
    #[case(AlarmOn::Artifacts, 0.0, 0, None)]
    #[case(AlarmOn::Artifacts, 2.0, 3, Some("artifacts 3 frames is above the alarm at 2 frames"))]
    fn an_alarm_goes_off_above_its_threshold(
        #[case] on: AlarmOn,
        #[case] above: f64,
        #[case] wrong: u64,
        #[case] told: Option<&str>,
    ) {
        let sample = sample();
        let moment = Moment { wrong_frames: wrong, ..Moment::of(&sample) };
        let raised = raised(&[Alarm { on, above, act: AlarmAct::Warn }], &moment);
        let text = raised.first().map(ToString::to_string);
        match told {
            None => assert_eq!(text, None),
            Some(told) => assert!(text.unwrap().starts_with(told)),
        }
    }

    #[test]
    fn the_gravest_comes_first_and_a_missing_reading_is_silent() {
        let alarms = AlarmAct::ALL.map(|act| Alarm { on: AlarmOn::HotSpot, above: 50.0, act });
        assert_eq!(raised(&alarms, &Moment::of(&sample()))[0].alarm.act, AlarmAct::PutBack);
        let blind = Sample { hot_spot: None, ..sample() };
        assert!(raised(&alarms, &Moment::of(&blind)).is_empty());
    }

    #[rstest]
    #[case(
        AlarmOn::TemperatureRise,
        80.0,
        "temperature rise 95 K/min is above the alarm at 80 K/min"
    )]
    #[case(AlarmOn::FanShortfall, 30.0, "fan shortfall 55 % is above the alarm at 30 %")]
    fn heat_that_comes_too_fast_and_a_fan_that_stands_set_alarms_off(
        #[case] on: AlarmOn,
        #[case] above: f64,
        #[case] told: &str,
    ) {
        let alarms = [Alarm { on, above, act: AlarmAct::Stop }];
        let sample = sample();
        let calm = Moment::of(&sample);
        assert!(raised(&alarms, &calm).is_empty(), "nothing is known of it");
        let moment = Moment { rise_per_minute: Some(95.0), fan_short_by: Some(55.0), ..calm };
        assert_eq!(raised(&alarms, &moment)[0].to_string(), told);
    }
}
