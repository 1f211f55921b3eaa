//! Quantities with their unit in the type, so that watts cannot be added to degrees and an
//! offset cannot be mistaken for a clock.

use std::fmt;
use std::ops::{Add, Neg, Sub};

use serde::{Deserialize, Serialize};

macro_rules! quantity {
    ($(#[$doc:meta])* $name:ident, $unit:literal, $decimals:literal) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Default, Serialize, Deserialize)]
        #[serde(transparent)]
        pub struct $name(pub f64);

        impl $name {
            /// The unit as it is written behind a number.
            pub const UNIT: &'static str = $unit;

            /// The bare number, in the unit of the type.
            #[must_use]
            pub const fn value(self) -> f64 {
                self.0
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                let text = format!("{:.*} {}", $decimals, self.0, $unit);
                f.pad(&text)
            }
        }

        impl Add for $name {
            type Output = Self;
            fn add(self, other: Self) -> Self {
                Self(self.0 + other.0)
            }
        }

        impl Sub for $name {
            type Output = Self;
            fn sub(self, other: Self) -> Self {
                Self(self.0 - other.0)
            }
        }
    };
}

quantity!(
    /// An absolute clock in megahertz.
    Mhz, "MHz", 0
);
quantity!(
    /// An electric potential in millivolts.
    Millivolt, "mV", 0
);
quantity!(
    /// A power in watts. Whether it is that of the chip or the whole board, the field's name says.
    Watt, "W", 0
);
quantity!(
    /// An electric current in amperes.
    Ampere, "A", 0
);
quantity!(
    /// A rate of memory transfers in millions a second and data pin: the *effective* rate that is
    /// printed on boxes, a multiple of the actual clock.
    MegaTransfers, "MT/s", 0
);
quantity!(
    /// Memory bandwidth in billions of bytes a second, over the whole bus.
    GigabytesPerSecond, "GB/s", 0
);
quantity!(
    /// A temperature in degrees Celsius.
    Celsius, "°C", 0
);
quantity!(
    /// A level of sound in decibels, A-weighted where it was measured so.
    Decibel, "dB", 1
);
quantity!(
    /// A share in percent; 100 is the whole.
    Percent, "%", 0
);
quantity!(
    /// A span of time in seconds.
    Seconds, "s", 0
);

impl Seconds {
    /// The span in words short enough for a table: `42 s`, `3 min`, `1 h 05 min`.
    ///
    /// ```
    /// # use yard_step_core::Seconds;
    /// assert_eq!(Seconds(42.0).in_words(), "42 s");
    /// assert_eq!(Seconds(200.0).in_words(), "3 min 20 s");
    /// assert_eq!(Seconds(3_900.0).in_words(), "1 h 05 min");
    /// ```
    #[must_use]
    pub fn in_words(self) -> String {
        let whole = self.0.max(0.0).round() as u64;
        let (hours, minutes, seconds) = (whole / 3600, whole / 60 % 60, whole % 60);
        match (hours, minutes, seconds) {
            (0, 0, s) => format!("{s} s"),
            (0, m, 0) => format!("{m} min"),
            (0, m, s) => format!("{m} min {s:02} s"),
            (h, 0, _) => format!("{h} h"),
            (h, m, _) => format!("{h} h {m:02} min"),
        }
    }
}

macro_rules! offset {
    ($(#[$doc:meta])* $name:ident, $unit:literal) => {
        $(#[$doc])*
        #[derive(
            Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
        )]
        #[serde(transparent)]
        pub struct $name(pub i32);

        impl $name {
            /// Stock: no offset.
            pub const STOCK: Self = Self(0);
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                let text = match self.0 {
                    0 => concat!("±0 ", $unit).to_owned(),
                    n if n > 0 => format!(concat!("+{} ", $unit), n),
                    n => format!(concat!("−{} ", $unit), n.unsigned_abs()),
                };
                f.pad(&text)
            }
        }

        impl Add for $name {
            type Output = Self;
            fn add(self, other: Self) -> Self {
                Self(self.0.saturating_add(other.0))
            }
        }

        impl Sub for $name {
            type Output = Self;
            fn sub(self, other: Self) -> Self {
                Self(self.0.saturating_sub(other.0))
            }
        }

        impl From<i32> for $name {
            fn from(offset: i32) -> Self {
                Self(offset)
            }
        }

        impl From<$name> for f64 {
            fn from(offset: $name) -> Self {
                Self::from(offset.0)
            }
        }

        impl Neg for $name {
            type Output = Self;
            fn neg(self) -> Self {
                Self(self.0.saturating_neg())
            }
        }
    };
}

offset!(
    /// A clock offset in whole megahertz, relative to what the card does at stock. Never a clock.
    MhzOffset,
    "MHz"
);
offset!(
    /// A voltage offset in whole millivolts, relative to the stock curve. Never a voltage.
    MillivoltOffset,
    "mV"
);

impl Add<MhzOffset> for Mhz {
    type Output = Self;
    fn add(self, offset: MhzOffset) -> Self {
        Self(self.0 + f64::from(offset.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, "±0 MHz")]
    #[case(120, "+120 MHz")]
    #[case(-45, "−45 MHz")]
    fn an_offset_always_shows_its_sign(#[case] value: i32, #[case] text: &str) {
        assert_eq!(MhzOffset(value).to_string(), text);
        let millivolt = text.replace("MHz", "mV");
        assert_eq!(MillivoltOffset(value).to_string(), millivolt);
    }

    #[test]
    fn quantities_carry_their_unit_and_honour_the_width() {
        assert_eq!(Mhz(2_054.6).to_string(), "2055 MHz");
        assert_eq!(format!("{:>8}", Watt(220.0)), "   220 W");
        assert_eq!(Mhz(2_000.0) + MhzOffset(-60), Mhz(1_940.0));
    }

    #[rstest]
    #[case(-3.0, "0 s")]
    #[case(60.0, "1 min")]
    #[case(7_200.0, "2 h")]
    fn spans_are_told_in_words(#[case] seconds: f64, #[case] text: &str) {
        assert_eq!(Seconds(seconds).in_words(), text);
    }
}
