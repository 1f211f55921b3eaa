//! The limit table of a real card: the bytes that the kernel's file `pp_table` gives, and what of them is known.
//!
//! ```text
//!   header: size u16, format u8, content u8 │ driver's part, its own size in it │ part of the card's firmware
//!   └──────────────── by these a layout is known ────────────────┘  └── opaque: never changed here ──┘
//! ```
//!
//! | layout | format | driver's part | public header of the kernel |
//! |---|---|---|---|
//! | [`OLDER`] | 12 | 482 bytes | `smu_v11_0_pptable.h` |
//! | [`MIDDLE`] | 15 | 802 bytes | `smu_v11_0_7_pptable.h` |
//! | [`NEWER`] | 15 | 832 bytes | `smu_v13_0_0_pptable.h`, `smu_v13_0_7_pptable.h` |
//!
//! Of the driver's part, the ends of the ranges that the driver offers are read and changed: core clock, memory clock, and by how
//! many percent the power limit may be raised. All numbers are little-endian.

use serde::{Deserialize, Serialize};

use crate::ceiling::error::TableError;
use crate::ceiling::field::{LimitField, LimitValue};

/// Largest table that the kernel gives whole, bytes: a page of 4,096 less one.
pub const LARGEST_FILE: usize = 4_095;
/// Bytes of the header that all tables have.
const HEADER: usize = 4;
/// Highest clock, MHz, and highest percentage that are believed; with more, the layout is taken for another.
const HIGHEST_CLOCK: u32 = 10_000;
const HIGHEST_PERCENT: u32 = 100;
/// Numbers of what the driver may offer: a core clock window, a memory clock, a power limit.
const OFFERS_CORE: usize = 0;
const OFFERS_MEMORY: usize = 2;
const OFFERS_POWER: usize = 3;
/// Most of what a driver may offer.
const MOST_OFFERED: u32 = 32;

/// Where in a table its numbers stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Layout {
    /// Format revision in the header.
    format: u8,
    /// Where the size of the driver's part stands, and what it is.
    part: (usize, u16),
    /// Where the part on ranges begins: revision, three bytes, count of what is offered, count of settings.
    ranges: usize,
    /// Most settings, and the numbers of the memory clock and of the power percentage among them.
    settings: (u32, usize, usize),
}

const OLDER: Layout = Layout { format: 12, part: (5, 482), ranges: 182, settings: (32, 8, 9) };
const MIDDLE: Layout = Layout { format: 15, part: (5, 802), ranges: 182, settings: (64, 7, 8) };
const NEWER: Layout = Layout { format: 15, part: (6, 832), ranges: 211, settings: (64, 7, 8) };
/// All that are known.
const KNOWN: [Layout; 3] = [OLDER, MIDDLE, NEWER];

impl Layout {
    /// The layout of a table; none where none of those that are known fits.
    fn of(bytes: &[u8]) -> Option<Self> {
        let fits = |layout: &Self| {
            bytes.get(2) == Some(&layout.format)
                && u16_at(bytes, layout.part.0) == Some(layout.part.1)
                && bytes.len() >= usize::from(layout.part.1)
                && layout.is_plausible(bytes)
        };
        KNOWN.into_iter().find(fits)
    }

    /// Whether the counts and numbers can be what they are taken for.
    fn is_plausible(&self, bytes: &[u8]) -> bool {
        let count = |at: usize, most: u32| u32_at(bytes, at).is_some_and(|count| count <= most);
        let clocks = [LimitField::CoreClock, LimitField::MemoryClock];
        let is_clock =
            |field| self.number(bytes, field).is_none_or(|mhz| (1..=HIGHEST_CLOCK).contains(&mhz));
        count(self.ranges + 4, MOST_OFFERED)
            && count(self.ranges + 8, self.settings.0)
            && clocks.into_iter().all(is_clock)
            && self
                .number(bytes, LimitField::PowerLimit)
                .is_none_or(|percent| percent <= HIGHEST_PERCENT)
    }

    /// Where the number of a field stands; none where the driver does not offer what it ends.
    fn place(&self, bytes: &[u8], field: LimitField) -> Option<usize> {
        let (_, memory, power) = self.settings;
        let (offer, setting) = match field {
            LimitField::CoreClock => (OFFERS_CORE, 0),
            LimitField::MemoryClock => (OFFERS_MEMORY, memory),
            LimitField::PowerLimit => (OFFERS_POWER, power),
            LimitField::CurrentLimit | LimitField::VoltageCeiling => return None,
        };
        let offered = self.ranges + 12;
        let is_offered = bytes.get(offered + offer).is_some_and(|flag| *flag != 0);
        let has = |at: usize, index: usize| {
            u32_at(bytes, at).is_some_and(|count| (index as u64) < u64::from(count))
        };
        let is_there = is_offered && has(self.ranges + 4, offer) && has(self.ranges + 8, setting);
        is_there.then_some(offered + MOST_OFFERED as usize + 4 * setting)
    }

    fn number(&self, bytes: &[u8], field: LimitField) -> Option<u32> {
        u32_at(bytes, self.place(bytes, field)?)
    }
}

/// The limit table of a real card as the kernel gives it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TableFile {
    /// Its bytes; in hexadecimal digits where it is written down.
    #[serde(with = "hex")]
    bytes: Vec<u8>,
    /// The power limit from which the percentage counts, W; none where the card does not tell it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    rated_power: Option<f64>,
}

impl TableFile {
    /// A table by its bytes, and the power limit that the card is rated for, W.
    ///
    /// # Errors
    /// They are no such table: too few, too many, or of another number than the table states.
    pub fn new(bytes: Vec<u8>, rated_power: Option<f64>) -> Result<Self, TableError> {
        let file = Self { bytes, rated_power };
        file.check().map(|()| file)
    }

    /// Checks what is so in each table. The kernel refuses one whose stated size is another than that of the file.
    ///
    /// # Errors
    /// It is not so.
    pub(crate) fn check(&self) -> Result<(), TableError> {
        let length = self.bytes.len();
        let odd = |why: String| Err(TableError::Odd(why));
        if !(HEADER..=LARGEST_FILE).contains(&length) {
            return odd(format!(
                "it has {length} bytes, and a table that the kernel gives whole has {HEADER} to {LARGEST_FILE}"
            ));
        }
        let stated = u16_at(&self.bytes, 0).map_or(0, usize::from);
        if stated != length {
            return odd(format!("it states {stated} bytes, and has {length}"));
        }
        match self.rated_power {
            Some(rated) if !(rated.is_finite() && rated > 0.0) => {
                odd(format!("its rated power is {rated}"))
            }
            _ => Ok(()),
        }
    }

    /// Other bytes, for a card with the same rated power.
    ///
    /// # Errors
    /// As [`new`](Self::new).
    pub fn with_bytes(&self, bytes: Vec<u8>) -> Result<Self, TableError> {
        Self::new(bytes, self.rated_power)
    }

    /// Its bytes.
    #[must_use]
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// The power limit from which the percentage counts, W.
    #[must_use]
    pub const fn rated_power(&self) -> Option<f64> {
        self.rated_power
    }

    /// Its revision, format and content, as it is told.
    #[must_use]
    pub fn revision(&self) -> String {
        let at = |index: usize| self.bytes.get(index).copied().unwrap_or_default();
        format!("{}.{}", at(2), at(3))
    }

    /// Whether nothing of it is known, so that it can only be copied, compared and loaded as a whole.
    #[must_use]
    pub fn is_opaque(&self) -> bool {
        self.fields().is_empty()
    }

    /// What of it is known.
    #[must_use]
    pub fn fields(&self) -> Vec<LimitValue> {
        let Some(layout) = Layout::of(&self.bytes) else { return Vec::new() };
        let value = |field| {
            let number = f64::from(layout.number(&self.bytes, field)?);
            let value = match field {
                LimitField::PowerLimit => self.rated_power? * (100.0 + number) / 100.0,
                _ => number,
            };
            Some(LimitValue { field, value })
        };
        LimitField::ALL.into_iter().filter_map(value).collect()
    }

    /// The same with another value in a field that is known: the whole percentage, or the whole MHz, at or below it.
    #[must_use]
    pub(crate) fn with(&self, field: LimitField, value: f64) -> Self {
        let mut file = self.clone();
        let place = Layout::of(&self.bytes).and_then(|layout| layout.place(&self.bytes, field));
        let number = match (field, self.rated_power) {
            (LimitField::PowerLimit, Some(rated)) => value / rated * 100.0 - 100.0,
            (LimitField::PowerLimit, None) => return file,
            _ => value,
        };
        if let Some(slot) = place.and_then(|at| file.bytes.get_mut(at..at + 4)) {
            // Rounding down never asks for more than was wished; what lies a hair below a whole number is that number.
            let whole = (number + 1e-6).floor().clamp(0.0, f64::from(u32::MAX)) as u32;
            slot.copy_from_slice(&whole.to_le_bytes());
        }
        file
    }

    /// Where it differs from another one, as far as both reach: the place, the byte here, the byte there.
    pub fn differing_bytes(&self, other: &Self) -> impl Iterator<Item = (usize, u8, u8)> {
        let both = self.bytes.iter().zip(&other.bytes).enumerate();
        both.filter(|(_, (one, other))| one != other).map(|(at, (one, other))| (at, *one, *other))
    }

    /// Checks that it may stand in the place of the maker's: of the same size and revision, and with the same layout.
    ///
    /// # Errors
    /// It may not.
    pub(crate) fn check_against(&self, makers: &Self) -> Result<(), TableError> {
        let (theirs, ours) = (&self.bytes, &makers.bytes);
        let other = |what, theirs, ours| Err(TableError::OtherCard { what, theirs, ours });
        if theirs.len() != ours.len() {
            let size = |bytes: &[u8]| format!("{} bytes", bytes.len());
            return other("the table's size", size(theirs), size(ours));
        }
        if self.revision() != makers.revision() {
            return other("the table's revision", self.revision(), makers.revision());
        }
        if Layout::of(theirs) != Layout::of(ours) {
            return Err(TableError::Odd("its layout is not that of the card's table".into()));
        }
        if self.rated_power != makers.rated_power {
            let power = |watts: Option<f64>| {
                watts.map_or_else(|| "unknown".to_owned(), |watts| format!("{watts:.0} W"))
            };
            return other("the rated power", power(self.rated_power), power(makers.rated_power));
        }
        Ok(())
    }
}

fn u16_at(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const ENDS: [u32; 3] = [2_600, 1_200, 15];

    /// A made-up table of the known layout with this number, the oldest first, or an opaque one where there is none, with the
    /// highest core clock and memory clock, MHz, and the percentage of the power limit.
    fn table(layout: usize, [core, memory, power]: [u32; 3]) -> Vec<u8> {
        let known = KNOWN.get(layout).copied();
        let part = known.map_or(HEADER, |layout| usize::from(layout.part.1));
        let size = part + 420;
        // What nobody has published looks like anything.
        let mut bytes: Vec<u8> = (0..size).map(|at| (at * 37 % 251) as u8).collect();
        bytes[..2].copy_from_slice(&(size as u16).to_le_bytes());
        bytes[2] = known.map_or(7, |layout| layout.format);
        let Some(layout) = known else { return bytes };
        bytes[3..part].fill(0);
        let at = layout.part.0;
        bytes[at..at + 2].copy_from_slice(&layout.part.1.to_le_bytes());
        let (_, memory_at, power_at) = layout.settings;
        let offered = layout.ranges + 12;
        let settings = [(0, core), (memory_at, memory), (power_at, power)];
        let mut numbers = settings.map(|(at, value)| (offered + 32 + 4 * at, value)).to_vec();
        numbers.extend([(layout.ranges + 4, 16), (layout.ranges + 8, 19)]);
        for (at, value) in numbers {
            bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        for offer in [OFFERS_CORE, OFFERS_MEMORY, OFFERS_POWER] {
            bytes[offered + offer] = 1;
        }
        bytes
    }

    fn file(layout: usize) -> TableFile {
        TableFile::new(table(layout, ENDS), Some(200.0)).unwrap()
    }

    fn value(file: &TableFile, field: LimitField) -> Option<f64> {
        file.fields().into_iter().find(|limit| limit.field == field).map(|limit| limit.value)
    }

    /// Offsets counted by hand in the structures of the public headers.
    #[rstest]
    #[case(0, 226, 226 + 4 * 8, 226 + 4 * 9)]
    #[case(1, 226, 226 + 4 * 7, 226 + 4 * 8)]
    #[case(2, 255, 255 + 4 * 7, 255 + 4 * 8)]
    fn each_layout_is_read_and_changed_where_the_header_has_it(
        #[case] layout: usize,
        #[case] core: usize,
        #[case] memory: usize,
        #[case] power: usize,
    ) {
        let before = file(layout);
        let fields = [LimitField::PowerLimit, LimitField::CoreClock, LimitField::MemoryClock];
        assert_eq!(before.fields().len(), 3);
        assert_eq!(fields.map(|field| value(&before, field)), [230.0, 2_600.0, 1_200.0].map(Some));
        for (field, at, to, number) in [
            (LimitField::CoreClock, core, 2_700.0, 2_700),
            (LimitField::MemoryClock, memory, 1_300.0, 1_300),
            (LimitField::PowerLimit, power, 260.0, 30),
        ] {
            let after = before.with(field, to);
            let differing: Vec<usize> =
                (0..before.bytes.len()).filter(|i| before.bytes[*i] != after.bytes[*i]).collect();
            assert!(differing.iter().all(|i| (at..at + 4).contains(i)), "{differing:?}");
            assert_eq!(u32_at(&after.bytes, at), Some(number));
            assert_eq!(value(&after, field), Some(to));
            assert_eq!(after.check_against(&before), Ok(()));
        }
    }

    #[test]
    fn a_power_between_two_percentages_is_the_lower_one() {
        let raised = file(1).with(LimitField::PowerLimit, 263.9);
        assert_eq!(value(&raised, LimitField::PowerLimit), Some(262.0));
        let without = TableFile::new(table(1, ENDS), None).unwrap();
        assert_eq!(value(&without, LimitField::PowerLimit), None, "percent of nothing known");
        assert_eq!(without.with(LimitField::PowerLimit, 262.0), without);
    }

    #[test]
    fn an_unknown_revision_or_what_cannot_be_is_opaque() {
        let opaque = file(9);
        assert!(opaque.is_opaque());
        assert_eq!(opaque.with(LimitField::CoreClock, 1.0), opaque);
        let damaged = |damage: &dyn Fn(&mut Vec<u8>)| {
            let mut bytes = table(0, ENDS);
            damage(&mut bytes);
            TableFile::new(bytes, Some(200.0)).unwrap()
        };
        assert!(damaged(&|bytes| bytes[2] = 13).is_opaque(), "another format");
        assert!(damaged(&|bytes| bytes[5] += 1).is_opaque(), "another driver's part");
        assert!(damaged(&|bytes| bytes[226 + 3] = 1).is_opaque(), "a clock that cannot be");
        assert!(damaged(&|bytes| bytes[226 + 36] = 101).is_opaque(), "a percentage that cannot be");
        assert!(damaged(&|bytes| bytes[182 + 4] = 33).is_opaque(), "a count that cannot be");
        let no_core = damaged(&|bytes| bytes[182 + 12] = 0);
        assert_eq!(value(&no_core, LimitField::CoreClock), None, "the driver does not offer it");
        assert_eq!(value(&no_core, LimitField::MemoryClock), Some(1_200.0));
    }

    #[test]
    fn what_the_kernel_would_refuse_or_cut_is_refused_before() {
        let told = |bytes: Vec<u8>| TableFile::new(bytes, None).unwrap_err().to_string();
        assert!(told(vec![3, 0, 0]).contains("it has 3 bytes"));
        assert!(told(vec![0; LARGEST_FILE + 1]).contains("4 to 4095"));
        let mut cut = table(2, ENDS);
        cut.pop();
        assert_eq!(told(cut), "it states 1252 bytes, and has 1251");
        let rated = TableFile::new(table(2, ENDS), Some(f64::NAN)).unwrap_err().to_string();
        assert!(rated.contains("rated power"), "{rated}");
    }

    #[rstest]
    #[case(file(1), "the table's size is 1222 bytes there and 902 bytes here")]
    #[case(TableFile::new(table(0, ENDS), Some(210.0)).unwrap(), "the rated power is 210 W there")]
    #[case({ let mut other = file(0); other.bytes[3] = 9; other }, "the table's revision is 12.9 there")]
    #[case({ let mut other = file(0); other.bytes[5] = 0; other }, "its layout is not")]
    fn a_table_of_another_card_is_refused(#[case] other: TableFile, #[case] told: &str) {
        let error = other.check_against(&file(0)).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_without_a_panic(
            mut bytes in proptest::collection::vec(any::<u8>(), 0..1_400),
            layout in 0_usize..4,
            at in 0_usize..900,
        ) {
            let mut whole = table(layout, ENDS);
            let length = whole.len();
            whole[at % length] ^= bytes.first().copied().unwrap_or(1);
            for bytes in [&mut bytes, &mut whole] {
                let size = bytes.len() as u16;
                if let Some(header) = bytes.get_mut(..2) {
                    header.copy_from_slice(&size.to_le_bytes());
                }
                if let Ok(file) = TableFile::new(bytes.clone(), Some(200.0)) {
                    for field in LimitField::ALL {
                        let moved = file.with(field, 1_234.0);
                        prop_assert_eq!(moved.bytes.len(), file.bytes.len());
                    }
                }
            }
        }
    }
}
