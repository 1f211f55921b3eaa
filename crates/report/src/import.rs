//! Traces made elsewhere: CSV whose columns are told by their headers.
//!
//! ```text
//!   "GPU Clock [GHz]"  ──►  name: gpu clock ──► core clock
//!                           unit: GHz       ──► × 1,000 MHz
//! ```
//!
//! Delimiters are comma, semicolon or tab, whichever the header has most of; with a semicolon or a
//! tab, numbers may have a decimal comma. UTF-8 and UTF-16 are read. A field that is empty or says so (`N/A`, `-`) is a gap. A row
//! that cannot be read is left out and told by its line.

use std::io::Read;

use yard_step_core::{Channel, Limiter, Sample, Seconds, Trace, printable, quoted};

use crate::ReportError;

/// Rows that could not be read which are told one by one; all are counted.
pub const MOST_PROBLEMS: usize = 100;

/// A trace made elsewhere.
#[derive(Debug, Clone, PartialEq)]
pub struct ImportedTrace {
    /// The samples, from time zero.
    pub trace: Trace,
    /// What each column was taken for, in order.
    pub columns: Vec<ColumnRead>,
    /// Rows left out, the first [`MOST_PROBLEMS`] of them.
    pub problems: Vec<RowProblem>,
    /// How many rows were left out.
    pub left_out: usize,
}

/// A column of the file.
#[derive(Debug, Clone, PartialEq)]
pub struct ColumnRead {
    /// Its header.
    pub header: String,
    /// What it was taken for.
    pub meaning: Meaning,
}

/// What a column was taken for.
#[derive(Debug, Clone, PartialEq)]
pub enum Meaning {
    /// The time.
    Time,
    /// A channel.
    Channel(Channel),
    /// Nothing, and why.
    LeftOut(String),
}

/// A row that could not be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowProblem {
    /// Its line in the file, from 1.
    pub line: u64,
    /// What is wrong with it.
    pub cause: String,
}

/// Names under which the channels go in the trade, in lower case.
const NAMES: [(Channel, &[&str]); 14] = [
    (
        Channel::CoreClock,
        &[
            "core clock",
            "gpu clock",
            "gpu core clock",
            "graphics clock",
            "core frequency",
            "gpu frequency",
            "clock",
        ],
    ),
    (Channel::EffectiveClock, &["effective clock", "effective core clock", "gpu effective clock"]),
    (
        Channel::MemoryClock,
        &["memory clock", "mem clock", "vram clock", "memory frequency", "gpu memory clock"],
    ),
    (Channel::Voltage, &["voltage", "core voltage", "gpu voltage", "gpu core voltage"]),
    (
        Channel::BoardPower,
        &["board power", "total board power", "power", "power draw", "card power", "gpu power"],
    ),
    (Channel::ChipPower, &["chip power", "core power", "gpu chip power", "gpu core power"]),
    (
        Channel::CoreTemperature,
        &["core temperature", "core temp", "temperature", "temp", "gpu temperature", "gpu temp"],
    ),
    (
        Channel::HotSpot,
        &[
            "hot spot",
            "hotspot",
            "hot spot temperature",
            "hotspot temperature",
            "gpu hotspot",
            "gpu hot spot",
            "junction temperature",
        ],
    ),
    (
        Channel::MemoryTemperature,
        &["memory temperature", "memory temp", "vram temperature", "memory junction temperature"],
    ),
    (
        Channel::RegulatorTemperature,
        &["regulator temperature", "regulator temp", "vrm temperature", "vrm temp"],
    ),
    (Channel::Fan, &["fan", "fan speed", "fan duty", "gpu fan"]),
    (
        Channel::Load,
        &[
            "load",
            "gpu load",
            "core load",
            "utilization",
            "utilisation",
            "gpu utilization",
            "usage",
            "gpu usage",
        ],
    ),
    (Channel::Background, &["background load"]),
    (Channel::FrameRate, &["frame rate", "framerate", "fps", "frames per second"]),
];

const TIMES: [&str; 6] = ["time", "timestamp", "t", "elapsed", "elapsed time", "date time"];

/// Where the time may stand if no column of [`TIMES`] is there.
const DATE: &str = "date";

/// How a number becomes one of ours: times a factor, plus an offset.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Conversion {
    factor: f64,
    offset: f64,
}

const AS_IT_IS: Conversion = Conversion { factor: 1.0, offset: 0.0 };

/// A unit, and the factor and offset that make ours of it.
type Unit = (&'static str, f64, f64);

/// Units of each kind of quantity, in lower case, the first being ours.
const UNITS: [(&str, &[Unit]); 7] = [
    ("MHz", &[("mhz", 1.0, 0.0), ("ghz", 1_000.0, 0.0), ("khz", 0.001, 0.0), ("hz", 1e-6, 0.0)]),
    ("mV", &[("mv", 1.0, 0.0), ("v", 1_000.0, 0.0)]),
    ("W", &[("w", 1.0, 0.0), ("mw", 0.001, 0.0), ("kw", 1_000.0, 0.0)]),
    (
        "°C",
        &[
            ("°c", 1.0, 0.0),
            ("c", 1.0, 0.0),
            ("degc", 1.0, 0.0),
            ("°f", 5.0 / 9.0, -160.0 / 9.0),
            ("f", 5.0 / 9.0, -160.0 / 9.0),
            ("k", 1.0, -273.15),
        ],
    ),
    ("%", &[("%", 1.0, 0.0), ("percent", 1.0, 0.0)]),
    ("fps", &[("fps", 1.0, 0.0)]),
    (
        "s",
        &[
            ("s", 1.0, 0.0),
            ("sec", 1.0, 0.0),
            ("seconds", 1.0, 0.0),
            ("ms", 0.001, 0.0),
            ("us", 1e-6, 0.0),
            ("min", 60.0, 0.0),
            ("h", 3_600.0, 0.0),
        ],
    ),
];

/// Largest file that is read, bytes.
pub const MOST_BYTES: u64 = 64 << 20;
/// Rows between two looks at whether somebody wants the reading to end.
const LOOK_EVERY: usize = 1_000;

/// Reads a trace made elsewhere. `go_on` is told which share of it was read, 0 to 1, and says whether
/// to read on.
///
/// # Errors
/// The file cannot be read or is larger than [`MOST_BYTES`], it has no column of times, no column of
/// readings, or no row that can be read; what it has is named. Or somebody wanted no more of it.
pub fn import_trace(
    source: impl Read,
    go_on: &mut dyn FnMut(f64) -> bool,
) -> Result<ImportedTrace, ReportError> {
    let mut bytes = Vec::new();
    source
        .take(MOST_BYTES + 1)
        .read_to_end(&mut bytes)
        .map_err(|error| ReportError::Import(error.to_string()))?;
    if bytes.len() as u64 > MOST_BYTES {
        let most = MOST_BYTES >> 20;
        return Err(ReportError::Import(format!("it is larger than {most} MiB: split it")));
    }
    let bytes = as_utf8(bytes)?;
    let delimiter = delimiter_of(&bytes);
    let mut rows = csv::ReaderBuilder::new()
        .delimiter(delimiter)
        .flexible(true)
        .trim(csv::Trim::All)
        .from_reader(bytes.as_slice());
    let headers: Vec<String> = rows
        .byte_headers()?
        .iter()
        .map(|field| printable(&String::from_utf8_lossy(field)))
        .collect();
    let columns = Columns::read(&headers)?;
    let mut reading = Reading::new(&columns, delimiter != b',');
    let mut record = csv::ByteRecord::new();
    let total = bytes.len().max(1) as f64;
    for row in 0.. {
        let read = rows.read_byte_record(&mut record)?;
        let at = rows.position().byte() as f64;
        if row % LOOK_EVERY == 0 && !go_on((at / total).min(1.0)) {
            return Err(ReportError::Cancelled);
        }
        if !read {
            break;
        }
        let line = record.position().map_or(0, csv::Position::line);
        reading.row(&record, line);
    }
    reading.finish()
}

/// Whether every other byte at the beginning is zero, and no other is.
fn is_every_other_zero(bytes: &[u8], from: usize) -> bool {
    bytes.iter().take(64).enumerate().all(|(at, byte)| (*byte == 0) == (at % 2 == from))
}

/// A file's text as UTF-8.
fn as_utf8(bytes: Vec<u8>) -> Result<Vec<u8>, ReportError> {
    let units = |order: fn([u8; 2]) -> u16| -> Vec<u16> {
        bytes[2..].chunks_exact(2).map(|two| order([two[0], two[1]])).collect()
    };
    let wide = match bytes.get(..2) {
        Some([0xff, 0xfe]) => Some(units(u16::from_le_bytes)),
        Some([0xfe, 0xff]) => Some(units(u16::from_be_bytes)),
        _ => None,
    };
    match wide {
        Some(wide) => Ok(String::from_utf16_lossy(&wide).into_bytes()),
        // Text in an alphabet of one byte each has every other byte zero in UTF-16.
        None if bytes.len() >= 4
            && (is_every_other_zero(&bytes, 0) || is_every_other_zero(&bytes, 1)) =>
        {
            Err(ReportError::Import(
                "it looks like UTF-16 without a byte order mark: save it as UTF-8".into(),
            ))
        }
        None if bytes.contains(&0) => Err(ReportError::Import("it is not a text file".into())),
        None => Ok(bytes),
    }
}

/// The delimiter the first line has most of.
fn delimiter_of(bytes: &[u8]) -> u8 {
    let first = bytes.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let count = |wanted: u8| first.iter().filter(|byte| **byte == wanted).count();
    [b',', b';', b'\t'].into_iter().max_by_key(|delimiter| count(*delimiter)).unwrap_or(b',')
}

/// Where what stands.
struct Columns {
    time: (usize, Conversion),
    channels: Vec<(usize, Channel, Conversion)>,
    told: Vec<ColumnRead>,
}

impl Columns {
    fn read(headers: &[String]) -> Result<Self, ReportError> {
        let (mut time, mut channels, mut told) = (None, Vec::new(), Vec::new());
        // A date by itself says less than a time: it counts only where there is no time.
        let is_time = |header: &String| TIMES.contains(&split_unit(header).0.as_str());
        let has_time = headers.iter().any(is_time);
        for (index, header) in headers.iter().enumerate() {
            let taken = |c: Channel| channels.iter().any(|(_, taken, _)| *taken == c);
            let meaning = match meaning_of(header) {
                Ok((Meaning::Time, _)) if has_time && !is_time(header) => {
                    Meaning::LeftOut("the column of times tells more".into())
                }
                Ok((Meaning::Time, conversion)) if time.is_none() => {
                    time = Some((index, conversion));
                    Meaning::Time
                }
                Ok((Meaning::Channel(channel), conversion)) if !taken(channel) => {
                    channels.push((index, channel, conversion));
                    Meaning::Channel(channel)
                }
                Ok(_) => Meaning::LeftOut("an earlier column is the same".into()),
                Err(why) => Meaning::LeftOut(why),
            };
            told.push(ColumnRead { header: header.clone(), meaning });
        }
        let seen = || match headers {
            [] => "none".to_owned(),
            [single] if single.is_empty() => "none".to_owned(),
            headers => headers.join(", ").chars().take(300).collect(),
        };
        let Some(time) = time else {
            return Err(ReportError::Import(format!(
                "it has no column of times. One must be called time, timestamp or elapsed; there \
                 are: {}",
                seen()
            )));
        };
        if channels.is_empty() {
            return Err(ReportError::Import(format!(
                "it has no column of readings that are known, such as core clock, board power or \
                 hot spot; there are: {}",
                seen()
            )));
        }
        Ok(Self { time, channels, told })
    }
}

/// What a header means, and how its numbers become ours.
fn meaning_of(header: &str) -> Result<(Meaning, Conversion), String> {
    let (name, unit) = split_unit(header);
    if TIMES.contains(&name.as_str()) || name == DATE {
        return Ok((Meaning::Time, conversion("s", unit.as_deref())?));
    }
    let found = NAMES.iter().find(|(_, names)| names.contains(&name.as_str()));
    let Some((channel, _)) = found else { return Err("not a known reading".into()) };
    Ok((Meaning::Channel(*channel), conversion(channel.unit(), unit.as_deref())?))
}

fn conversion(ours: &str, theirs: Option<&str>) -> Result<Conversion, String> {
    let Some(theirs) = theirs else { return Ok(AS_IT_IS) };
    let known = UNITS.iter().find(|(unit, _)| *unit == ours).map_or(&[][..], |(_, known)| known);
    known
        .iter()
        .find(|(unit, ..)| *unit == theirs)
        .map(|(_, factor, offset)| Conversion { factor: *factor, offset: *offset })
        .ok_or_else(|| format!("{theirs} cannot be turned into {ours}"))
}

/// A header in lower case without punctuation, and its unit: in brackets, or as the last word.
fn split_unit(header: &str) -> (String, Option<String>) {
    let lower = header.to_lowercase();
    let brackets = [('[', ']'), ('(', ')')].into_iter().find_map(|(open, close)| {
        let start = lower.find(open)?;
        let end = lower[start..].find(close)? + start;
        Some((start, end))
    });
    if let Some((start, end)) = brackets {
        let unit = lower[start + 1..end].trim().to_owned();
        let unit = Some(unit).filter(|unit| !unit.is_empty());
        return (words(&lower[..start]).join(" "), unit);
    }
    let mut words = words(&lower);
    let is_unit =
        |word: &String| UNITS.iter().any(|(_, known)| known.iter().any(|(unit, ..)| unit == word));
    let unit = if words.len() > 1 { words.pop_if(|word| is_unit(word)) } else { None };
    (words.join(" "), unit)
}

fn words(text: &str) -> Vec<String> {
    let split = |c: char| c.is_whitespace() || matches!(c, '_' | '-' | '.' | ',' | ':' | '/');
    text.split(split).filter(|word| !word.is_empty()).map(str::to_owned).collect()
}

/// The rows as they come in.
struct Reading<'a> {
    columns: &'a Columns,
    decimal_comma: bool,
    trace: Trace,
    problems: Vec<RowProblem>,
    left_out: usize,
    /// Time of the first row, and of the last one, as they stand in the file.
    first: Option<f64>,
    last: f64,
    /// Seconds to add for midnights passed by clock times.
    midnights: f64,
}

const DAY: f64 = 86_400.0;

/// Whether a text is a date such as 2026-03-01, 1.3.2026 or 03/01/2026.
fn is_date(text: &str) -> bool {
    let parts: Vec<&str> = text.trim().split(['-', '.', '/']).collect();
    let is_whole = |part: &&str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    parts.len() == 3 && parts.iter().all(is_whole)
}

impl<'a> Reading<'a> {
    fn new(columns: &'a Columns, decimal_comma: bool) -> Self {
        Self {
            columns,
            decimal_comma,
            trace: Trace::new(),
            problems: Vec::new(),
            left_out: 0,
            first: None,
            last: 0.0,
            midnights: 0.0,
        }
    }

    fn row(&mut self, record: &csv::ByteRecord, line: u64) {
        if let Err(cause) = self.sample(record) {
            self.left_out += 1;
            if self.problems.len() < MOST_PROBLEMS {
                self.problems.push(RowProblem { line, cause });
            }
        }
    }

    fn sample(&mut self, record: &csv::ByteRecord) -> Result<(), String> {
        let expected = self.columns.told.len();
        if record.len() != expected {
            let doubled = !self.decimal_comma && record.len() > expected;
            let hint = if doubled {
                ". Numbers with a decimal comma? Then separate the fields with ;"
            } else {
                ""
            };
            return Err(format!("{} fields where the header has {expected}{hint}", record.len()));
        }
        let field = |index: usize| String::from_utf8_lossy(record.get(index).unwrap_or_default());
        let (index, conversion) = self.columns.time;
        let time = self.time(&field(index), conversion)?;
        let mut sample = Sample::default();
        for (index, channel, conversion) in &self.columns.channels {
            let value = self.number(&field(*index))?;
            let value = value.map(|value| value * conversion.factor + conversion.offset);
            sample.set(*channel, value);
        }
        let first = *self.first.get_or_insert(time);
        // A trace that begins at another time than zero, such as a clock's, is moved there.
        let start = if first < 60.0 { 0.0 } else { first };
        if !self.trace.is_empty() && time <= self.last {
            return Err(format!("time {time} is not after the row before it, {}", self.last));
        }
        self.last = time;
        sample.at = Seconds(time - start);
        self.trace.push(&sample, Limiter::Unknown);
        Ok(())
    }

    /// A time in seconds: a number in the column's unit, or a time of day, with a date or without.
    fn time(&mut self, text: &str, conversion: Conversion) -> Result<f64, String> {
        let clock = text.rsplit([' ', 'T']).next().unwrap_or(text).trim_end_matches('Z');
        let parts: Vec<&str> = clock.split(':').collect();
        if parts.len() < 2 {
            if is_date(text) {
                return Err(format!("{} is a date without a time of day", quoted(text)));
            }
            let number = self.number(text)?.ok_or("no time")?;
            return Ok(number * conversion.factor + conversion.offset);
        }
        let mut seconds = 0.0;
        for part in parts {
            let part: f64 = part.parse().map_err(|_| format!("{} is no time", quoted(text)))?;
            seconds = seconds * 60.0 + part;
        }
        seconds += self.midnights;
        if self.first.is_some() && self.last - seconds > DAY / 2.0 {
            self.midnights += DAY;
            seconds += DAY;
        }
        Ok(seconds)
    }

    fn number(&self, text: &str) -> Result<Option<f64>, String> {
        let text = text.trim();
        if text.is_empty()
            || ["-", "n/a", "na", "nan", "null"].contains(&text.to_lowercase().as_str())
        {
            return Ok(None);
        }
        let number =
            if self.decimal_comma { text.replace(',', ".").parse() } else { text.parse::<f64>() };
        match number {
            Ok(number) if number.is_finite() => Ok(Some(number)),
            _ if !self.decimal_comma && text.replace(',', ".").parse::<f64>().is_ok() => {
                Err(format!(
                    "{} has a comma: where that is a decimal comma, separate the fields with ;",
                    quoted(text)
                ))
            }
            _ => Err(format!("{} is not a number", quoted(text))),
        }
    }

    fn finish(self) -> Result<ImportedTrace, ReportError> {
        if self.trace.is_empty() {
            let why = self.problems.first().map_or("it has no rows".to_owned(), |problem| {
                format!("none of its rows can be read; line {}: {}", problem.line, problem.cause)
            });
            return Err(ReportError::Import(why));
        }
        let Self { columns, trace, problems, left_out, .. } = self;
        Ok(ImportedTrace { trace, columns: columns.told.clone(), problems, left_out })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::TraceWriter;
    use rstest::rstest;
    use yard_step_core::{Celsius, Mhz, Millivolt, Percent, Watt};

    fn read(text: &str) -> ImportedTrace {
        import_trace(text.as_bytes(), &mut |_| true).unwrap()
    }

    #[rstest]
    #[case("time_s", Meaning::Time, 1.0)]
    #[case("Elapsed [ms]", Meaning::Time, 0.001)]
    #[case("core_clock_mhz", Meaning::Channel(Channel::CoreClock), 1.0)]
    #[case("GPU Clock [GHz]", Meaning::Channel(Channel::CoreClock), 1_000.0)]
    #[case("Core voltage (V)", Meaning::Channel(Channel::Voltage), 1_000.0)]
    #[case("Board power, mW", Meaning::Channel(Channel::BoardPower), 0.001)]
    #[case("Hotspot (°F)", Meaning::Channel(Channel::HotSpot), 5.0 / 9.0)]
    #[case("FPS", Meaning::Channel(Channel::FrameRate), 1.0)]
    #[case("fan_percent", Meaning::Channel(Channel::Fan), 1.0)]
    #[case("memory temperature", Meaning::Channel(Channel::MemoryTemperature), 1.0)]
    #[case("Regulator temperature (°C)", Meaning::Channel(Channel::RegulatorTemperature), 1.0)]
    fn headers_are_understood_with_their_units(
        #[case] header: &str,
        #[case] meaning: Meaning,
        #[case] factor: f64,
    ) {
        let (found, conversion) = meaning_of(header).unwrap();
        assert_eq!((found, conversion.factor), (meaning, factor));
    }

    #[test]
    fn what_is_written_of_every_sensor_is_read_again() {
        let mut bytes = Vec::new();
        let mut trace = TraceWriter::new(&mut bytes).unwrap();
        let mut sample = Sample { at: Seconds(0.1), ..Sample::default() };
        for (index, channel) in Channel::ALL.into_iter().enumerate() {
            sample.set(channel, Some(index as f64 + 1.0));
        }
        trace.write(&sample).unwrap();
        trace.finish().unwrap();
        let imported = read(&String::from_utf8(bytes).unwrap());
        let all: Vec<Meaning> = Channel::ALL.into_iter().map(Meaning::Channel).collect();
        let known =
            |meaning: &Meaning| imported.columns.iter().any(|column| column.meaning == *meaning);
        let unknown: Vec<&Meaning> = all.iter().filter(|meaning| !known(meaning)).collect();
        assert!(unknown.is_empty(), "{unknown:?}");
    }

    #[rstest]
    #[case("Fan speed [RPM]", "rpm cannot be turned into %")]
    #[case("Colour", "not a known reading")]
    #[case("Core clock [W]", "w cannot be turned into MHz")]
    fn what_is_not_understood_is_told(#[case] header: &str, #[case] why: &str) {
        assert_eq!(meaning_of(header).unwrap_err(), why);
    }

    #[test]
    fn units_are_converted_and_gaps_kept() {
        let imported = read(
            "Time [min];GPU clock [GHz];Core voltage [V];Temp [°F];Hot spot [K]\n\
             0,5;2,05;0,95;149;350,15\n1;N/A;;-;351,15\n",
        );
        let samples: Vec<Sample> = imported.trace.samples(0.0, 1e9).collect();
        assert_eq!(samples[0].at, Seconds(30.0));
        let close = |a: Option<f64>, b: f64| (a.unwrap() - b).abs() < 0.01;
        assert!(close(samples[0].core_clock.map(Mhz::value), 2_050.0));
        assert!(close(samples[0].voltage.map(Millivolt::value), 950.0));
        assert!(close(samples[0].core_temperature.map(Celsius::value), 65.0));
        assert!(close(samples[1].hot_spot.map(Celsius::value), 78.0));
        assert_eq!((samples[1].core_clock, samples[1].core_temperature), (None, None));
        assert_eq!(imported.left_out, 0);
    }

    #[test]
    fn bad_rows_are_left_out_and_told_by_line() {
        let imported = read(
            "time_s,power_w,note\n0.1,200,a\n0.2,many,b\n0.3,201\n0.05,202,c\nsoon,203,d\n0.5,204,e\n",
        );
        assert_eq!(imported.trace.len(), 2);
        let told: Vec<(u64, &str)> =
            imported.problems.iter().map(|p| (p.line, p.cause.as_str())).collect();
        assert_eq!(told[0], (3, "\"many\" is not a number"));
        assert_eq!(told[1], (4, "2 fields where the header has 3"));
        assert_eq!(told[2].0, 5, "{told:?}");
        assert_eq!(told[3], (6, "\"soon\" is not a number"));
        assert_eq!(imported.left_out, 4);
        assert!(matches!(&imported.columns[2].meaning, Meaning::LeftOut(_)));
    }

    #[test]
    fn times_of_day_go_on_over_midnight_from_zero() {
        let imported =
            read("Timestamp,load\n23:59:59.5,90\n2026-03-01 00:00:00.5,91\n00:00:01.5,92\n");
        let times: Vec<f64> = imported.trace.samples(0.0, 1e9).map(|s| s.at.value()).collect();
        assert_eq!(times, [0.0, 1.0, 2.0]);
    }

    #[rstest]
    #[case(
        "",
        "no column of times. One must be called time, timestamp or elapsed; there are: none"
    )]
    #[case("a\0b,c\n1,2\n", "not a text file")]
    #[case("clock,power\n1,2\n", "there are: clock, power")]
    #[case("time,colour\n1,red\n", "no column of readings")]
    #[case("time,power\n", "it has no rows")]
    #[case("time,power\n1,x\n", "none of its rows can be read; line 2")]
    #[case(
        "time,power\n0,5,200,5\n",
        "Numbers with a decimal comma? Then separate the fields with ;"
    )]
    #[case("time,power\n1,\"200,5\"\n", "\"200,5\" has a comma")]
    #[case("date,power\n2026-03-01,200\n", "\"2026-03-01\" is a date without a time of day")]
    #[case("t\0i\0m\0e\0", "looks like UTF-16 without a byte order mark")]
    fn a_file_that_is_no_trace_says_why(#[case] text: &str, #[case] told: &str) {
        let error = import_trace(text.as_bytes(), &mut |_| true).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[rstest]
    #[case::little(&[0xff, 0xfe], u16::to_le_bytes)]
    #[case::big(&[0xfe, 0xff], u16::to_be_bytes)]
    fn utf_16_is_read(#[case] mark: &[u8], #[case] order: fn(u16) -> [u8; 2]) {
        let text = "time_s,Hotspot (°C)\n0.5,70\n1,71\n";
        let wide = text.encode_utf16().flat_map(order);
        let bytes: Vec<u8> = mark.iter().copied().chain(wide).collect();
        let imported = import_trace(bytes.as_slice(), &mut |_| true).unwrap();
        assert_eq!((imported.trace.len(), imported.left_out), (2, 0));
    }

    #[test]
    fn a_date_beside_a_time_is_left_out_and_a_date_with_a_time_is_one() {
        let beside = read("Date,Time,power\n2026-03-01,12:00:00,200\n2026-03-01,12:00:01,201\n");
        assert_eq!(beside.trace.len(), 2);
        assert_eq!(beside.columns[1].meaning, Meaning::Time);
        let whole = read("Date,power\n2026-03-01 12:00:00,200\n2026-03-01 12:00:01,201\n");
        assert_eq!(whole.trace.len(), 2);
    }

    #[test]
    fn nothing_in_a_file_steers_the_terminal_and_quotes_are_short() {
        let long = "x".repeat(5_000);
        let imported = read(&format!("time,\u{1b}[2Jpower,load\n1,200,90\n2,{long},91\n"));
        assert_eq!(imported.columns[1].header, "[2Jpower");
        assert_eq!((imported.trace.len(), imported.problems.len()), (2, 0), "a gap is no problem");
        let imported = read(&format!("time,power\n1,200\n2,\u{1b}]0;{long}\n"));
        assert!(!imported.problems.is_empty(), "{imported:?}");
        let cause = &imported.problems[0].cause;
        assert!(cause.chars().count() < 110 && !cause.contains('\u{1b}'), "{cause}");
    }

    #[test]
    fn too_much_is_refused_and_reading_can_be_ended() {
        let endless = import_trace(std::io::repeat(b'1'), &mut |_| true).unwrap_err().to_string();
        assert!(endless.contains("larger than 64 MiB"), "{endless}");
        let text: String = (0..5_000).map(|row| format!("{row},200\n")).collect();
        let mut told = Vec::new();
        let ended = import_trace(format!("time,power\n{text}").as_bytes(), &mut |share| {
            told.push(share);
            told.len() < 3
        });
        assert!(matches!(ended, Err(ReportError::Cancelled)));
        assert!(told.windows(2).all(|pair| pair[0] < pair[1]) && told[2] < 1.0, "{told:?}");
    }

    #[test]
    fn what_was_exported_comes_back() {
        let samples: Vec<Sample> = (1..=700)
            .map(|tick| Sample {
                at: Seconds(f64::from(tick) / 10.0),
                core_clock: (tick % 7 != 0).then_some(Mhz(2_000.0 + f64::from(tick))),
                board_power: Some(Watt(200.5)),
                fan: Some(Percent(80.0)),
                ..Sample::default()
            })
            .collect();
        let mut bytes = Vec::new();
        let mut writer = TraceWriter::new(&mut bytes).unwrap();
        samples.iter().for_each(|sample| writer.write(sample).unwrap());
        writer.finish().unwrap();
        let imported = import_trace(bytes.as_slice(), &mut |_| true).unwrap();
        let back: Vec<Sample> = imported.trace.samples(0.0, 1e9).collect();
        assert_eq!(back.len(), samples.len());
        for (one, other) in back.iter().zip(&samples) {
            assert!((one.at.value() - other.at.value()).abs() < 1e-4);
            assert_eq!(one.core_clock, other.core_clock);
            assert_eq!((one.board_power, one.fan), (other.board_power, other.fan));
        }
        assert_eq!(imported.left_out, 0);
    }
}
