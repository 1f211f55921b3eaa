//! A trace as CSV: one row a sample, units in the header, an empty field for a gap.

use std::io::Write;

use yard_step_core::{Channel, Sample};

use crate::ReportError;

/// Writes samples as they come.
pub struct TraceWriter<W: Write> {
    csv: csv::Writer<W>,
    field: String,
}

impl<W: Write> TraceWriter<W> {
    /// Begins a trace with its header.
    ///
    /// # Errors
    /// The target cannot be written.
    pub fn new(target: W) -> Result<Self, ReportError> {
        let mut csv = csv::Writer::from_writer(target);
        csv.write_field("time_s")?;
        for channel in Channel::ALL {
            csv.write_field(column_name(channel))?;
        }
        csv.write_record(None::<&[u8]>)?;
        Ok(Self { csv, field: String::new() })
    }

    /// Writes one sample.
    ///
    /// # Errors
    /// The target cannot be written.
    pub fn write(&mut self, sample: &Sample) -> Result<(), ReportError> {
        self.number(Some(sample.at.value()), 1)?;
        for channel in Channel::ALL {
            self.number(sample.get(channel), decimals(channel))?;
        }
        Ok(self.csv.write_record(None::<&[u8]>)?)
    }

    /// Writes what is still held back.
    ///
    /// # Errors
    /// The target cannot be written.
    pub fn finish(mut self) -> Result<(), ReportError> {
        Ok(self.csv.flush().map_err(csv::Error::from)?)
    }

    fn number(&mut self, value: Option<f64>, decimals: u32) -> Result<(), ReportError> {
        self.field.clear();
        if let Some(value) = value {
            push_number(&mut self.field, value, decimals);
        }
        Ok(self.csv.write_field(&self.field)?)
    }
}

/// A number rounded to the given digits, written digit by digit: a day's trace has eleven million
/// numbers, and the standard formatting of each took longer than the physics behind them.
fn push_number(text: &mut String, value: f64, decimals: u32) {
    let unit = 10_i64.pow(decimals);
    let scaled = (value * unit as f64).round() as i64;
    if scaled < 0 {
        text.push('-');
    }
    let mut rest = scaled.unsigned_abs();
    let mut digits = ['0'; 20];
    let mut count = 0;
    while rest > 0 || count <= decimals as usize {
        digits[count] = char::from(b'0' + (rest % 10) as u8);
        rest /= 10;
        count += 1;
    }
    for place in (0..count).rev() {
        text.push(digits[place]);
        if place > 0 && place == decimals as usize {
            text.push('.');
        }
    }
}

/// Name of a channel's column: the trade's name and the unit, such as `core_clock_mhz`.
#[must_use]
pub fn column_name(channel: Channel) -> String {
    let unit = match channel.unit() {
        "°C" => "c".to_owned(),
        "%" => "percent".to_owned(),
        other => other.to_lowercase(),
    };
    format!("{}_{unit}", channel.label().replace(' ', "_"))
}

/// Digits behind the point that mean something.
const fn decimals(channel: Channel) -> u32 {
    match channel {
        Channel::CoreClock | Channel::MemoryClock | Channel::Voltage => 0,
        _ => 1,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Celsius, Mhz, Seconds};

    #[rstest]
    #[case(0.0, 1, "0.0")]
    #[case(-0.04, 1, "0.0")]
    #[case(-12.34, 1, "-12.3")]
    #[case(-0.5, 1, "-0.5")]
    #[case(99.96, 1, "100.0")]
    #[case(2_144.6, 0, "2145")]
    #[case(1.005, 2, "1.00")]
    #[case(-0.004, 2, "0.00")]
    #[case(0.05, 2, "0.05")]
    #[case(7.0, 0, "7")]
    #[case(9.1e18, 0, "9100000000000000000")]
    #[case(f64::MAX, 1, "922337203685477580.7")]
    fn numbers_are_rounded_to_their_digits(
        #[case] value: f64,
        #[case] decimals: u32,
        #[case] text: &str,
    ) {
        let mut written = String::new();
        push_number(&mut written, value, decimals);
        assert_eq!(written, text);
    }

    #[test]
    fn one_row_a_sample_with_units_above_and_gaps_empty() {
        let mut bytes = Vec::new();
        let mut trace = TraceWriter::new(&mut bytes).unwrap();
        let sample = Sample {
            at: Seconds(0.1),
            core_clock: Some(Mhz(2_010.0)),
            hot_spot: Some(Celsius(71.25)),
            ..Sample::default()
        };
        trace.write(&sample).unwrap();
        trace.finish().unwrap();
        let text = String::from_utf8(bytes).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(
            lines[0],
            "time_s,core_clock_mhz,effective_clock_mhz,memory_clock_mhz,voltage_mv,board_power_w,\
             core_temperature_c,hot_spot_c,fan_percent,load_percent,background_load_percent,\
             frame_rate_fps,chip_power_w,memory_temperature_c,regulator_temperature_c"
        );
        assert_eq!(lines[1], "0.1,2010,,,,,,71.3,,,,,,,");
        assert_eq!(lines.len(), 2);
    }
}
