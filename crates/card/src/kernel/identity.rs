//! Who a card is: its address on the bus, its names from the system's PCI database, its driver and the kernel.

use std::fmt;
use std::path::Path;

use crate::kernel::tree::{Place, Unread};

/// Where systems keep the PCI database.
const DATABASES: [&str; 3] =
    ["/usr/share/misc/pci.ids", "/usr/share/hwdata/pci.ids", "/usr/share/pci.ids"];
/// Largest database that is read, bytes: it has about one and a half million.
const LARGEST_DATABASE: u64 = 16 << 20;
/// Bit of the driver's feature mask that has it offer its clock/voltage table.
const TABLE_BIT: u32 = 0x4000;

/// Numbers of a device on the bus.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct PciId {
    pub vendor: u16,
    pub device: u16,
    pub subsystem: Option<(u16, u16)>,
}

impl fmt::Display for PciId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:04x}:{:04x}", self.vendor, self.device)?;
        match self.subsystem {
            Some((vendor, device)) => write!(f, "/{vendor:04x}:{device:04x}"),
            None => Ok(()),
        }
    }
}

impl PciId {
    /// The numbers of a device.
    pub fn of(device: &Place) -> Result<Self, Unread> {
        let number = |name: &str| -> Result<u16, Unread> {
            let value = device.number_in(name)?;
            let is_id = value.fract() == 0.0 && (0.0..=f64::from(u16::MAX)).contains(&value);
            let odd = || Unread::Odd(device.at(name).told(), value.to_string(), "PCI number");
            is_id.then_some(value as u16).ok_or_else(odd)
        };
        let subsystem = number("subsystem_vendor").ok().zip(number("subsystem_device").ok());
        Ok(Self { vendor: number("vendor")?, device: number("device")?, subsystem })
    }

    /// The name of the device in a PCI database; none where it has none.
    pub fn name_in(&self, database: &str) -> Option<String> {
        let id = |number: u16| format!("{number:04x}  ");
        let mut lines = database.lines().skip_while(|line| !line.starts_with(&id(self.vendor)));
        let vendor = lines.next()?.get(6..)?.trim();
        let of_vendor = lines.take_while(|line| line.starts_with(['\t', '#']) || line.is_empty());
        let wanted = format!("\t{}", id(self.device));
        let mut of_device = of_vendor.skip_while(|line| !line.starts_with(&wanted));
        let name = of_device.next()?.get(7..)?.trim();
        let own = self.subsystem.and_then(|(vendor, device)| {
            let wanted = format!("\t\t{vendor:04x} {device:04x}  ");
            let mut of_subsystems = of_device.take_while(|line| line.starts_with("\t\t"));
            of_subsystems.find_map(|line| line.strip_prefix(&wanted))
        });
        Some(format!("{vendor} {}", own.map_or(name, str::trim)))
    }

    /// The name of the device in the system's database, or its numbers.
    pub fn name(&self) -> String {
        let read = |path: &&str| Place::root(Path::new(path)).bytes(LARGEST_DATABASE).ok();
        let database = DATABASES.iter().find_map(read).unwrap_or_default();
        let named = self.name_in(&String::from_utf8_lossy(&database));
        let named = named.map(|name| name.chars().filter(|letter| !letter.is_control()).collect());
        named.unwrap_or_else(|| format!("device {:04x}:{:04x}", self.vendor, self.device))
    }
}

/// Address of a device on the bus, such as `0000:03:00.0`: as it tells it itself, or by the link to it.
pub(super) fn address(card: &Place, device: &Place) -> String {
    let told = device.at("uevent").text().ok().and_then(|text| {
        let line = text.lines().find_map(|line| line.strip_prefix("PCI_SLOT_NAME="))?;
        is_address(line).then(|| line.to_owned())
    });
    told.or_else(|| device.link_name().filter(|name| is_address(name)))
        .unwrap_or_else(|| card.name())
}

/// Whether a text is an address on the bus.
pub(crate) fn is_address(text: &str) -> bool {
    let digits = |part: Option<&str>, count: usize| {
        part.is_some_and(|part| {
            part.len() == count && part.chars().all(|digit| digit.is_ascii_hexdigit())
        })
    };
    let mut parts = text.split([':', '.']);
    digits(parts.next(), 4)
        && digits(parts.next(), 2)
        && digits(parts.next(), 2)
        && digits(parts.next(), 1)
        && parts.next().is_none()
}

/// The driver of a device.
pub(super) fn driver(device: &Place) -> Option<String> {
    device.at("driver").link_name().or_else(|| {
        let text = device.at("uevent").text().ok()?;
        let name = text.lines().find_map(|line| line.strip_prefix("DRIVER="))?;
        let is_name = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-';
        (!name.is_empty() && name.chars().all(is_name)).then(|| name.to_owned())
    })
}

/// Driver and kernel, to which what is proven is bound.
pub(super) fn release(driver: Option<&str>) -> String {
    let kernel = nix::sys::utsname::uname()
        .map_or_else(|_| "unknown".into(), |name| name.release().to_string_lossy().into_owned());
    format!("{} of kernel {kernel}", driver.unwrap_or("no driver"))
}

/// Why a driver offers no clock/voltage table: what the system says of the parameter that enables it.
pub(super) fn why_no_table(root: &Place, driver: Option<&str>, missing: &Unread) -> String {
    let Some(driver) = driver else { return format!("{missing}: no driver holds the card") };
    let mask = root.at(format!("module/{driver}/parameters/ppfeaturemask"));
    let Ok(value) = mask.number() else { return missing.to_string() };
    let bits = value as u32;
    if bits & TABLE_BIT != 0 {
        return missing.to_string();
    }
    format!(
        "{missing}: driver {driver} has its table disabled; parameter {driver}.ppfeaturemask=0x{:08x} enables it at the next start",
        bits | TABLE_BIT
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const DATABASE: &str = "# a list\n\
        0fa1  Other Works\n\t1111  Other One\n\
        1b2c  Moorland Graphics\n\t0a0b  Heron [Heron 90]\n\t\t0fa1 0001  Heron by Other Works\n\t7310  Tarn\n\
        2c3d  Last Works\n\t0a0b  Not This One\n";

    #[rstest]
    #[case(0x1b2c, 0x7310, None, Some("Moorland Graphics Tarn"))]
    #[case(0x1b2c, 0x0a0b, None, Some("Moorland Graphics Heron [Heron 90]"))]
    #[case(0x1b2c, 0x0a0b, Some((0x0fa1, 1)), Some("Moorland Graphics Heron by Other Works"))]
    #[case(0x1b2c, 0x0a0b, Some((0x0fa1, 2)), Some("Moorland Graphics Heron [Heron 90]"))]
    #[case(0x1b2c, 0x1111, None, None)]
    #[case(0x9999, 0x0a0b, None, None)]
    fn a_device_is_named_by_the_database(
        #[case] vendor: u16,
        #[case] device: u16,
        #[case] subsystem: Option<(u16, u16)>,
        #[case] name: Option<&str>,
    ) {
        let id = PciId { vendor, device, subsystem };
        assert_eq!(id.name_in(DATABASE).as_deref(), name);
    }

    #[rstest]
    #[case("0000:03:00.0", true)]
    #[case("0000:3:00.0", false)]
    #[case("0000:03:00.0.1", false)]
    #[case("../0000:03:00.0", false)]
    #[case("card0", false)]
    fn an_address_has_four_parts(#[case] text: &str, #[case] is: bool) {
        assert_eq!(is_address(text), is);
    }

    #[test]
    fn no_database_is_torn_apart_by_what_stands_in_it() {
        let id = PciId { vendor: 0x1b2c, device: 0x7310, subsystem: None };
        for text in ["1b2c  ", "1b2c  \n\t7310  ", "1b2c  é\n\t7310  é", "\u{1b}[2J"] {
            let _ = id.name_in(text);
        }
    }
}
