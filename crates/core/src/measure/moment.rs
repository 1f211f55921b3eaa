//! What is known of a run at one moment, as far as alarms look at it.

use crate::measure::sample::Sample;

/// What an alarm looks at, at one moment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moment<'a> {
    /// What the sensors say.
    pub sample: &'a Sample,
    /// Frames with wrong pixels so far.
    pub wrong_frames: u64,
    /// How fast the chip becomes warmer, K a minute; none before that can be told.
    pub rise_per_minute: Option<f64>,
    /// By how much the fan was slower than asked for a while, percent; none where the card drives it.
    pub fan_short_by: Option<f64>,
}

impl<'a> Moment<'a> {
    /// Sensors alone, with no course behind them.
    #[must_use]
    pub const fn of(sample: &'a Sample) -> Self {
        Self { sample, wrong_frames: 0, rise_per_minute: None, fan_short_by: None }
    }
}
