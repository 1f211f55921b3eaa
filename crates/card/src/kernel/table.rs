//! The clock/voltage table (`pp_od_clk_voltage`) of a real card, in each of its generations. The format is the kernel's,
//! as its documentation tells it (*GPU power/thermal controls and monitoring*).
//!
//! | generation | sections | written as |
//! |---|---|---|
//! | levels | `OD_SCLK` and `OD_MCLK` with clock and voltage of each level | `s 1 500 820`, `m 0 350 810` |
//! | curve of three points | lowest and highest clock, `OD_VDDC_CURVE` | `s 1 2000`, `m 1 875`, `vc 2 2000 1050` |
//! | voltage offset | lowest and highest clock, `OD_VDDGFX_OFFSET` | `s 1 2000`, `m 1 1000`, `vo -50` |
//! | clock offset | `OD_SCLK_OFFSET`, `OD_MCLK`, `OD_VDDGFX_OFFSET` | `s 50`, `m 1 1300`, `vo -50` |
//!
//! All are made to hold by `c`, and the factory's values come back by `r`.

use thiserror::Error;

/// Most lines of a section, and most sections' lines in all: a table has some twenty.
const MOST_ROWS: usize = 32;
/// Largest value that a clock in MHz or a voltage in mV can have.
const LARGEST: f64 = 20_000.0;

/// A line of a section.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Row {
    /// Its number.
    pub index: u8,
    /// Clock, MHz.
    pub mhz: f64,
    /// Voltage, mV; none where the line has only a clock.
    pub millivolt: Option<f64>,
}

/// What a table lets be set, and how.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Generation {
    /// Clock and voltage of each level.
    Levels,
    /// Lowest and highest clock, and a curve of three points.
    Curve,
    /// Lowest and highest clock, and perhaps an offset of the voltage.
    Window,
    /// An offset of the clock, and perhaps one of the voltage.
    Offset,
}

/// Lowest and highest value that something takes.
pub type Range = (f64, f64);

/// A table as it was read.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Table {
    /// Levels of the core clock, or its lowest (0) and highest (1), MHz.
    pub core: Vec<Row>,
    /// The same of the memory clock, as the memory controller counts it.
    pub memory: Vec<Row>,
    /// Points of the curve.
    pub curve: Vec<Row>,
    /// Offset of the core clock, MHz.
    pub core_offset: Option<f64>,
    /// Offset of the voltage, mV.
    pub voltage_offset: Option<f64>,
    /// Ranges by the name that the table gives them, such as `SCLK` or `VDDC_CURVE_VOLT[1]`.
    pub ranges: Vec<(String, Range)>,
}

/// Why a text is no table, with the line.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TableError {
    /// A line belongs to no section.
    #[error("line {0} of the clock/voltage table is before any section")]
    NoSection(usize),
    /// A line cannot be understood.
    #[error("line {0} of the clock/voltage table is no clock, voltage or range")]
    Line(usize),
    /// A number cannot be.
    #[error("line {0} of the clock/voltage table has a number that cannot be")]
    Number(usize),
    /// There are more lines than a table has.
    #[error("the clock/voltage table has more than {MOST_ROWS} lines in a section")]
    TooLong,
    /// There is nothing in it that could be set.
    #[error("the clock/voltage table has no section that is known")]
    Nothing,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Section {
    Core,
    Memory,
    Curve,
    CoreOffset,
    VoltageOffset,
    Ranges,
    /// One of the processor's, or one that is not known: it is left alone.
    Other,
}

impl Section {
    fn of(name: &str) -> Self {
        match name {
            "OD_SCLK" => Self::Core,
            "OD_MCLK" => Self::Memory,
            "OD_VDDC_CURVE" => Self::Curve,
            "OD_SCLK_OFFSET" => Self::CoreOffset,
            "OD_VDDGFX_OFFSET" => Self::VoltageOffset,
            "OD_RANGE" => Self::Ranges,
            _ => Self::Other,
        }
    }
}

impl Table {
    /// Reads a table.
    ///
    /// # Errors
    /// A line cannot be understood, or nothing in it is known.
    pub fn parse(text: &str) -> Result<Self, TableError> {
        let mut table = Self::default();
        let mut section = None;
        for (at, line) in text.lines().enumerate() {
            let (line, at) = (line.trim(), at + 1);
            if line.is_empty() {
                continue;
            }
            // A section's name stands alone; everything else has a value behind its colon.
            if let Some(name) = line.strip_suffix(':').filter(|name| name.starts_with("OD_")) {
                section = Some(Section::of(name));
                continue;
            }
            match section.ok_or(TableError::NoSection(at))? {
                Section::Core => push(&mut table.core, row(line, at)?)?,
                Section::Memory => push(&mut table.memory, row(line, at)?)?,
                Section::Curve => push(&mut table.curve, row(line, at)?)?,
                Section::CoreOffset => table.core_offset = Some(single(line, at)?),
                Section::VoltageOffset => table.voltage_offset = Some(single(line, at)?),
                Section::Ranges => push(&mut table.ranges, range(line, at)?)?,
                Section::Other => {}
            }
        }
        let is_empty = table.core.is_empty()
            && table.memory.is_empty()
            && table.curve.is_empty()
            && table.core_offset.is_none()
            && table.voltage_offset.is_none();
        if is_empty { Err(TableError::Nothing) } else { Ok(table) }
    }

    /// What it lets be set.
    #[must_use]
    pub fn generation(&self) -> Generation {
        if self.core_offset.is_some() {
            Generation::Offset
        } else if !self.curve.is_empty() {
            Generation::Curve
        } else if self.core.iter().any(|row| row.millivolt.is_some()) {
            Generation::Levels
        } else {
            Generation::Window
        }
    }

    /// The range of that name; none where the table states none.
    #[must_use]
    pub fn range(&self, name: &str) -> Option<Range> {
        let found = self.ranges.iter().find(|(known, _)| known == name)?;
        Some(found.1)
    }

    /// Highest core clock, MHz.
    #[must_use]
    pub fn highest_core(&self) -> Option<f64> {
        highest(&self.core).or_else(|| highest(&self.curve))
    }

    /// Core clock of the level of that number, MHz; of a window 0 is the lowest and 1 the highest.
    #[must_use]
    pub fn core_at(&self, index: u8) -> Option<f64> {
        self.core.iter().find(|row| row.index == index).map(|row| row.mhz)
    }

    /// Highest memory clock, MHz.
    #[must_use]
    pub fn highest_memory(&self) -> Option<f64> {
        highest(&self.memory)
    }
}

fn highest(rows: &[Row]) -> Option<f64> {
    rows.iter().map(|row| row.mhz).reduce(f64::max)
}

fn push<T>(rows: &mut Vec<T>, row: T) -> Result<(), TableError> {
    if rows.len() >= MOST_ROWS {
        return Err(TableError::TooLong);
    }
    rows.push(row);
    Ok(())
}

/// A line such as `1: 991Mhz 900mV` or `1: 2100Mhz`.
fn row(line: &str, at: usize) -> Result<Row, TableError> {
    let (index, rest) = line.split_once(':').ok_or(TableError::Line(at))?;
    let index = index.trim().parse().map_err(|_| TableError::Line(at))?;
    let mut values = rest.split_whitespace();
    let mhz = with_unit(values.next().unwrap_or_default(), "mhz", at)?;
    let millivolt = values.next().map(|text| with_unit(text, "mv", at)).transpose()?;
    match values.next() {
        None => Ok(Row { index, mhz, millivolt }),
        Some(_) => Err(TableError::Line(at)),
    }
}

/// A line such as `-25mV` or `0Mhz`.
fn single(line: &str, at: usize) -> Result<f64, TableError> {
    with_unit(line, "mv", at).or_else(|_| with_unit(line, "mhz", at))
}

/// A line such as `SCLK: 500Mhz 2150Mhz`.
fn range(line: &str, at: usize) -> Result<(String, Range), TableError> {
    let (name, rest) = line.split_once(':').ok_or(TableError::Line(at))?;
    let mut values = rest.split_whitespace().map(|text| single(text, at));
    match (values.next(), values.next(), values.next()) {
        (Some(low), Some(high), None) => {
            let (low, high) = (low?, high?);
            if low > high {
                return Err(TableError::Number(at));
            }
            Ok((name.trim().to_owned(), (low, high)))
        }
        _ => Err(TableError::Line(at)),
    }
}

/// A whole number with its unit, in either case.
fn with_unit(text: &str, unit: &str, at: usize) -> Result<f64, TableError> {
    let lower = text.to_ascii_lowercase();
    let number = lower.strip_suffix(unit).ok_or(TableError::Line(at))?;
    let number: i64 = number.trim().parse().map_err(|_| TableError::Line(at))?;
    let number = number as f64;
    if number.abs() <= LARGEST { Ok(number) } else { Err(TableError::Number(at)) }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;
    use rstest::rstest;

    pub(in crate::kernel) const LEVELS: &str = "OD_SCLK:\n0:        852Mhz        800mV\n1:        991Mhz        900mV\n2:       1400Mhz       1050mV\n\
        OD_MCLK:\n0:        167Mhz        800mV\n1:        800Mhz        950mV\n\
        OD_RANGE:\nSCLK:     852MHz       2000MHz\nMCLK:     167MHz       1100MHz\nVDDC:     800mV        1150mV\n";
    pub(in crate::kernel) const CURVE: &str = "OD_SCLK:\n0: 800Mhz\n1: 2000Mhz\nOD_MCLK:\n1: 870MHz\nOD_VDDC_CURVE:\n0: 800MHz 720mV\n1: 1400MHz 830mV\n2: 2000MHz 1100mV\n\
        OD_RANGE:\nSCLK:     800Mhz       2100Mhz\nMCLK:     620Mhz        940Mhz\nVDDC_CURVE_SCLK[0]:     800Mhz       2100Mhz\nVDDC_CURVE_VOLT[0]:     720mV        1150mV\n";
    pub(in crate::kernel) const WINDOW: &str = "OD_SCLK:\n0: 500Mhz\n1: 2400Mhz\nOD_MCLK:\n0: 97Mhz\n1: 1000MHz\nOD_VDDGFX_OFFSET:\n0mV\n\
        OD_RANGE:\nSCLK:     500Mhz       2700Mhz\nMCLK:     670Mhz       1150Mhz\n";
    pub(in crate::kernel) const OFFSET: &str = "OD_SCLK_OFFSET:\n0Mhz\nOD_MCLK:\n0: 97Mhz\n1: 1250MHz\nOD_VDDGFX_OFFSET:\n-25mV\n\
        OD_RANGE:\nSCLK_OFFSET:    -500Mhz        900Mhz\nMCLK:      97Mhz       1450Mhz\nVDDGFX_OFFSET:    -200mv          0mv\n";

    #[rstest]
    #[case(LEVELS, Generation::Levels, Some(1_400.0), Some(800.0), 3)]
    #[case(CURVE, Generation::Curve, Some(2_000.0), Some(870.0), 4)]
    #[case(WINDOW, Generation::Window, Some(2_400.0), Some(1_000.0), 2)]
    #[case(OFFSET, Generation::Offset, None, Some(1_250.0), 3)]
    fn each_generation_is_read(
        #[case] text: &str,
        #[case] generation: Generation,
        #[case] core: Option<f64>,
        #[case] memory: Option<f64>,
        #[case] ranges: usize,
    ) {
        let table = Table::parse(text).unwrap();
        assert_eq!(table.generation(), generation);
        assert_eq!((table.highest_core(), table.highest_memory()), (core, memory));
        assert_eq!(table.ranges.len(), ranges);
    }

    #[test]
    fn values_and_ranges_are_those_of_the_text() {
        let table = Table::parse(OFFSET).unwrap();
        assert_eq!((table.core_offset, table.voltage_offset), (Some(0.0), Some(-25.0)));
        assert_eq!(table.range("SCLK_OFFSET"), Some((-500.0, 900.0)));
        assert_eq!(table.range("VDDC"), None);
        let table = Table::parse(LEVELS).unwrap();
        assert_eq!(table.core[1], Row { index: 1, mhz: 991.0, millivolt: Some(900.0) });
        let unknown = format!("OD_CCLK:\n0: 1400Mhz\nsomething else\n{WINDOW}");
        assert_eq!(Table::parse(&unknown), Table::parse(WINDOW), "a section that is not ours");
    }

    #[rstest]
    #[case("", TableError::Nothing)]
    #[case("OD_RANGE:\nSCLK: 1MHz 2MHz", TableError::Nothing)]
    #[case("0: 500Mhz", TableError::NoSection(1))]
    #[case("OD_SCLK:\n0: 500", TableError::Line(2))]
    #[case("OD_SCLK:\n0: 500Mhz 3 4", TableError::Line(2))]
    #[case("OD_SCLK:\n300: 500Mhz", TableError::Line(2))]
    #[case("OD_SCLK:\n0: 99999Mhz", TableError::Number(2))]
    #[case("OD_SCLK:\n0: 500Mhz\nOD_RANGE:\nSCLK: 900Mhz 100Mhz", TableError::Number(4))]
    #[case("OD_VDDGFX_OFFSET:\n5W", TableError::Line(2))]
    fn what_is_no_table_says_where(#[case] text: &str, #[case] error: TableError) {
        assert_eq!(Table::parse(text), Err(error));
    }

    #[test]
    fn a_section_without_an_end_is_not_read_for_ever() {
        let text = format!("OD_SCLK:\n{}", "0: 500Mhz\n".repeat(5_000));
        assert_eq!(Table::parse(&text), Err(TableError::TooLong));
    }

    /// A table as the kernel writes it.
    fn written(table: &Table) -> String {
        let rows = |name: &str, rows: &[Row]| -> String {
            let line = |row: &Row| match row.millivolt {
                Some(mv) => format!("{}: {:>10}Mhz {mv:>10}mV\n", row.index, row.mhz),
                None => format!("{}: {}Mhz\n", row.index, row.mhz),
            };
            let lines: String = rows.iter().map(line).collect();
            if rows.is_empty() { lines } else { format!("{name}:\n{lines}") }
        };
        let one = |name: &str, value: Option<f64>, unit: &str| {
            value.map_or(String::new(), |value| format!("{name}:\n{value}{unit}\n"))
        };
        let ranges: String = table
            .ranges
            .iter()
            .map(|(name, (low, high))| format!("{name}: {low:>7}Mhz {high:>10}Mhz\n"))
            .collect();
        rows("OD_SCLK", &table.core)
            + &one("OD_SCLK_OFFSET", table.core_offset, "Mhz")
            + &rows("OD_MCLK", &table.memory)
            + &rows("OD_VDDC_CURVE", &table.curve)
            + &one("OD_VDDGFX_OFFSET", table.voltage_offset, "mV")
            + &format!("OD_RANGE:\n{ranges}")
    }

    #[test]
    fn any_table_comes_back_as_it_was_written() {
        let mut random = ChaCha8Rng::seed_from_u64(7);
        for _ in 0..500 {
            let with_voltage = random.random_bool(0.5);
            let mut rows = |most: u8, voltage: bool| -> Vec<Row> {
                (0..random.random_range(1..=most))
                    .map(|index| Row {
                        index,
                        mhz: f64::from(random.random_range(0..5_000)),
                        millivolt: voltage.then(|| f64::from(random.random_range(0..2_000))),
                    })
                    .collect()
            };
            let (core, memory, curve) =
                (rows(8, with_voltage), rows(4, with_voltage), rows(3, true));
            let low = f64::from(random.random_range(-500..500));
            let table = Table {
                core,
                memory,
                curve,
                core_offset: random.random_bool(0.5).then_some(low),
                voltage_offset: random.random_bool(0.5).then_some(-low),
                ranges: vec![("SCLK".into(), (low, low + 300.0))],
            };
            assert_eq!(Table::parse(&written(&table)), Ok(table));
        }
    }

    #[test]
    fn a_mutilated_table_is_read_or_refused_and_nothing_else() {
        let mut random = ChaCha8Rng::seed_from_u64(11);
        for round in 0..4_000 {
            let mut bytes = [LEVELS, CURVE, WINDOW, OFFSET][round % 4].as_bytes().to_vec();
            for _ in 0..random.random_range(1..6) {
                let at = random.random_range(0..bytes.len().max(2)).min(bytes.len() - 1);
                match random.random_range(0..3) {
                    0 => bytes[at] = random.random_range(9..127),
                    1 if bytes.len() > 1 => drop(bytes.remove(at)),
                    _ => bytes.truncate(at.max(1)),
                }
            }
            let text = String::from_utf8_lossy(&bytes).into_owned();
            if let Ok(table) = Table::parse(&text) {
                let values = table.core.iter().chain(&table.memory).map(|row| row.mhz);
                assert!(values.chain(table.core_offset).all(|value| value.abs() <= LARGEST));
                assert!(table.ranges.iter().all(|(_, (low, high))| low <= high), "{text}");
            }
        }
    }
}
