//! A stand-in's limit table as the bytes of the kernel's file `pp_table`.
//!
//! The fields are laid out one after the other as the structures of the kernel's public headers have them. What is behind the
//! driver's part is made up, and means nothing.

use nix::errno::Errno;
use yard_step_core::{CardDescription, LimitField, LimitTable, SettingKind};

/// Bytes behind the driver's part.
const FIRMWARE: usize = 420;
/// How many things a driver can offer, and what of it is offered: core clock window, memory clock, power limit.
const OFFERS: usize = 32;
const OFFERED: [usize; 3] = [0, 2, 3];
/// Revision of a table whose layout nobody has published.
const UNPUBLISHED: u8 = 7;

/// The ends of the ranges that a table states: highest core clock and memory clock, MHz, and by how many percent the power
/// limit may be raised.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Ends {
    core: u32,
    memory: u32,
    power: u32,
}

/// Which of the public headers a table follows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Header {
    /// `smu_v11_0_pptable.h`
    Older,
    /// `smu_v11_0_7_pptable.h`
    Middle,
    /// `smu_v13_0_0_pptable.h`
    Newer,
    /// None of them.
    None,
}

/// The file of a device.
#[derive(Debug)]
pub(crate) struct LimitFile {
    bytes: Vec<u8>,
    makers: Ends,
    /// Where each of the ends stands; nowhere where none is published.
    places: Option<[usize; 3]>,
}

/// Bytes as they are laid out.
#[derive(Default)]
struct Bytes(Vec<u8>);

impl Bytes {
    fn byte(&mut self, value: u8) {
        self.0.push(value);
    }

    fn word(&mut self, value: u16) {
        self.0.extend(value.to_le_bytes());
    }

    fn long(&mut self, value: u32) {
        self.0.extend(value.to_le_bytes());
    }

    fn zeros(&mut self, count: usize) {
        self.0.resize(self.0.len() + count, 0);
    }
}

impl LimitFile {
    /// The file of a card; none where it has no power limit.
    pub(crate) fn of(header: Header, card: &CardDescription) -> Option<Self> {
        let highest = |kind| card.offer(kind).map_or(0.0, |offer| offer.maximum);
        let core = card.offer(SettingKind::ClockMaximum).map_or_else(
            || card.limits.highest_clock.value() + highest(SettingKind::CoreOffset),
            |offer| offer.maximum,
        );
        let memory = card.memory_clock.value() + highest(SettingKind::MemoryOffset);
        let power = card.offer(SettingKind::PowerLimit)?;
        let raised = (power.maximum / power.stock? - 1.0) * 100.0;
        let makers = Ends { core: core as u32, memory: memory as u32, power: raised as u32 };
        let (bytes, places) = laid_out(header, makers);
        Some(Self { bytes, makers, places })
    }

    pub(crate) fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Takes another table, as the kernel does: one whose stated size is another is refused.
    pub(crate) fn take(&mut self, bytes: &[u8]) -> Result<(), Errno> {
        let stated = bytes.get(..2).map(|size| usize::from(u16::from_le_bytes([size[0], size[1]])));
        if stated != Some(bytes.len()) {
            return Err(Errno::EIO);
        }
        bytes.clone_into(&mut self.bytes);
        Ok(())
    }

    /// What the table in force makes of a stand-in's own: the ends that are others than the maker's.
    pub(crate) fn onto(&self, makers: &LimitTable, card: &CardDescription) -> LimitTable {
        let Some([core, memory, power]) = self.places.map(|places| places.map(|at| self.long(at)))
        else {
            return makers.clone();
        };
        let moved = |table: LimitTable, field, (now, was): (u32, u32)| {
            let value = makers.value(field).map(|value| value + f64::from(now) - f64::from(was));
            value.filter(|_| now != was).map_or(table.clone(), |value| table.with(field, value))
        };
        let mut table = moved(makers.clone(), LimitField::CoreClock, (core, self.makers.core));
        table = moved(table, LimitField::MemoryClock, (memory, self.makers.memory));
        let rated = card.offer(SettingKind::PowerLimit).and_then(|offer| offer.stock);
        match rated.filter(|_| power != self.makers.power) {
            Some(rated) => {
                let watts = (rated * (100.0 + f64::from(power)) / 100.0).floor();
                table.with(LimitField::PowerLimit, watts)
            }
            None => table,
        }
    }

    fn long(&self, at: usize) -> u32 {
        let bytes = self.bytes.get(at..at + 4).and_then(|bytes| bytes.try_into().ok());
        bytes.map_or(0, u32::from_le_bytes)
    }
}

/// A table's bytes, and where its ends stand.
fn laid_out(header: Header, ends: Ends) -> (Vec<u8>, Option<[usize; 3]>) {
    let mut bytes = Bytes::default();
    // struct atom_common_table_header; the size is filled in at the end.
    bytes.word(0);
    bytes.byte(match header {
        Header::Older => 12,
        Header::Middle | Header::Newer => 15,
        Header::None => UNPUBLISHED,
    });
    bytes.byte(0);
    let places = (header != Header::None).then(|| driver_part(&mut bytes, header, ends));
    let firmware = bytes.0.len();
    bytes.0.extend((0..FIRMWARE).map(|at| (at * 37 % 251) as u8));
    let mut bytes = bytes.0;
    let size = (bytes.len() as u16).to_le_bytes();
    bytes[..2].copy_from_slice(&size);
    let size_at = match header {
        Header::Older | Header::Middle => 5,
        Header::Newer => 6,
        Header::None => return (bytes, None),
    };
    bytes[size_at..size_at + 2].copy_from_slice(&(firmware as u16).to_le_bytes());
    (bytes, places)
}

/// The driver's part, field by field; where its ends stand.
fn driver_part(bytes: &mut Bytes, header: Header, ends: Ends) -> [usize; 3] {
    bytes.byte(2); // table_revision
    if header == Header::Newer {
        bytes.byte(0); // padding
    }
    bytes.word(0); // table_size
    bytes.long(1); // golden_pp_id
    bytes.long(1); // golden_revision
    bytes.word(0x80); // format_id
    bytes.long(9); // platform_caps
    bytes.byte(28); // thermal_controller_type
    bytes.zeros(6); // small_power_limit1, small_power_limit2, boost_power_limit
    if header == Header::Older {
        bytes.zeros(4); // od_turbo_power_limit, od_power_save_power_limit
    }
    bytes.word(118); // software_shutdown_temp
    bytes.zeros(match header {
        Header::Older => 6 * 2,
        Header::Middle => 8 * 2,
        _ => 45 * 4,
    });
    if header != Header::Newer {
        bytes.zeros(1 + 3 + 4 + 16 * 4 + 16 * 4); // power_saving_clock
    }
    // overdrive_table
    let (most, settings, memory, power) = match header {
        Header::Older => (32, 19, 8, 9),
        _ => (64, 30, 7, 8),
    };
    bytes.byte(0x81);
    bytes.zeros(3);
    bytes.long(16); // feature_count
    bytes.long(settings); // setting_count
    bytes.0.extend((0..OFFERS).map(|offer| u8::from(OFFERED.contains(&offer))));
    let highest = bytes.0.len();
    bytes.zeros(2 * most * 4); // max, min
    if header != Header::Older {
        bytes.zeros(32 * 2); // pm_setting
    }
    if header == Header::Newer {
        bytes.byte(0); // padding1
    }
    let places = [0, memory, power].map(|setting| highest + 4 * setting);
    for (at, value) in places.into_iter().zip([ends.core, ends.memory, ends.power]) {
        bytes.0[at..at + 4].copy_from_slice(&value.to_le_bytes());
    }
    places
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_card::{CardAddress, connect};
    use yard_step_core::TableFile;

    fn card(name: &str) -> CardDescription {
        let address: CardAddress = name.parse().unwrap();
        connect(&address).unwrap().description().clone()
    }

    /// What is laid out here by the order of the fields is read there by their places.
    #[rstest]
    #[case("standin:tarn-310#7", Header::Older)]
    #[case("standin:tarn-310#7", Header::Newer)]
    #[case("standin:quern-540#7", Header::Middle)]
    fn what_is_laid_out_is_what_is_read(#[case] name: &str, #[case] header: Header) {
        let card = card(name);
        let file = LimitFile::of(header, &card).unwrap();
        let stock = card.offer(SettingKind::PowerLimit).unwrap().stock.unwrap();
        let table = TableFile::new(file.bytes().to_vec(), Some(stock)).unwrap();
        let value = |field| {
            let found = table.fields().into_iter().find(|limit| limit.field == field);
            found.unwrap().value
        };
        let Ends { core, memory, power } = file.makers;
        assert_eq!(value(LimitField::CoreClock), f64::from(core));
        assert_eq!(value(LimitField::MemoryClock), f64::from(memory));
        assert_eq!(value(LimitField::PowerLimit), stock * (100.0 + f64::from(power)) / 100.0);
    }

    #[test]
    fn a_table_whose_layout_nobody_has_published_is_opaque() {
        let bracken = card("standin:bracken-208#7");
        let file = LimitFile::of(Header::None, &bracken).unwrap();
        assert!(TableFile::new(file.bytes().to_vec(), None).unwrap().is_opaque());
        let tables = bracken.limit_tables.as_ref().unwrap();
        assert_eq!(file.onto(&tables.makers, &bracken), tables.makers);
    }
}
