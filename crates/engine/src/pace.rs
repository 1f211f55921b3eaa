//! How fast the virtual clock runs against the clock on the wall.

use std::str::FromStr;
use std::time::{Duration, Instant};

use yard_step_core::Seconds;

/// The pace of a stand-in's clock.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, strum::Display, strum::EnumCount, strum::IntoStaticStr,
)]
pub enum Pace {
    /// As on the wall.
    #[strum(to_string = "1×")]
    Real,
    /// Ten seconds a second.
    #[strum(to_string = "10×")]
    Ten,
    /// A minute a second.
    #[strum(to_string = "60×")]
    Sixty,
    /// As fast as the machine computes.
    #[strum(to_string = "max")]
    Max,
}

impl Pace {
    /// All paces, slowest first.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] =
        [Self::Real, Self::Ten, Self::Sixty, Self::Max];

    /// The pace as it is shown and typed.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// Virtual seconds per second; none for as fast as possible.
    #[must_use]
    pub const fn factor(self) -> Option<f64> {
        match self {
            Self::Real => Some(1.0),
            Self::Ten => Some(10.0),
            Self::Sixty => Some(60.0),
            Self::Max => None,
        }
    }

    /// The next faster pace; the slowest after the fastest.
    #[must_use]
    pub fn next(self) -> Self {
        match self {
            Self::Real => Self::Ten,
            Self::Ten => Self::Sixty,
            Self::Sixty => Self::Max,
            Self::Max => Self::Real,
        }
    }
}

impl FromStr for Pace {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let number = text.strip_suffix(['x', '×']).unwrap_or(text);
        Self::ALL
            .into_iter()
            .find(|pace| pace.label() == text || pace.label().strip_suffix('×') == Some(number))
            .ok_or_else(|| format!("there is no pace \"{text}\"; there are: 1, 10, 60, max"))
    }
}

/// Tells how long to wait so that virtual time keeps its pace, without letting errors add up.
#[derive(Debug)]
pub struct Pacer {
    pace: Pace,
    due: Instant,
}

impl Pacer {
    /// A pacer that starts now.
    #[must_use]
    pub fn new(pace: Pace, now: Instant) -> Self {
        Self { pace, due: now }
    }

    /// How long to wait after `span` of virtual time went by. After a delay the pacer does not
    /// hurry to catch up by more than a tenth of a second.
    pub fn wait(&mut self, span: Seconds, now: Instant) -> Duration {
        const MOST_LAG: Duration = Duration::from_millis(100);
        let Some(factor) = self.pace.factor() else { return Duration::ZERO };
        self.due += Duration::from_secs_f64(span.value().max(0.0) / factor);
        if self.due + MOST_LAG < now {
            self.due = now;
        }
        self.due.saturating_duration_since(now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("1", Ok(Pace::Real))]
    #[case("10x", Ok(Pace::Ten))]
    #[case("60×", Ok(Pace::Sixty))]
    #[case("max", Ok(Pace::Max))]
    #[case("7", Err("there is no pace \"7\"; there are: 1, 10, 60, max".to_owned()))]
    fn paces_are_read_as_they_are_typed(#[case] text: &str, #[case] pace: Result<Pace, String>) {
        assert_eq!(text.parse(), pace);
    }

    #[rstest]
    #[case(Pace::Real, 1_000)]
    #[case(Pace::Ten, 100)]
    #[case(Pace::Max, 0)]
    fn a_virtual_second_takes_its_share(#[case] pace: Pace, #[case] millis: u128) {
        let start = Instant::now();
        let mut pacer = Pacer::new(pace, start);
        assert_eq!(pacer.wait(Seconds(1.0), start).as_millis(), millis);
    }

    #[test]
    fn lost_time_is_not_made_up_in_a_rush() {
        let start = Instant::now();
        let mut pacer = Pacer::new(Pace::Real, start);
        let late = start + Duration::from_secs(60);
        assert_eq!(pacer.wait(Seconds(0.1), late), Duration::ZERO);
        assert_eq!(pacer.wait(Seconds(0.1), late).as_millis(), 100);
    }
}
