//! Real cards, reached through the kernel's device files: what they are, what they offer and what they measure, and how
//! they are asked to hold something else.
//!
//! ```text
//!   /sys/class/drm/cardN ──► tree (bounded reading) ──┬─► identity   address, names, driver, kernel
//!                                                     ├─► table      clock/voltage table, each generation
//!                                                     ├─► frequency  clock window of the other family
//!                                                     ├─► hwmon      sensors, power limit, fan
//!                                                     ├─► metrics    one blob of all sensors
//!                                                     └─► limit_file limit table, read and written as a whole
//!                                                              ├──► KernelCard: description, readings
//!                                                              └──► files: what it holds, and writing
//! ```
//!
//! Only the [keeper](crate::keeper) writes.
//!
//! A card is recognised by the files it has. What is missing is told with its reason.

mod events;
mod fan_curve;
mod file_card;
mod files;
mod frequency;
mod hwmon;
mod identity;
mod limit_file;
mod log;
mod metrics;
mod refusal;
mod table;
mod tree;

pub(crate) use events::Events;
pub(crate) use file_card::{FileCard, boot_id};
pub(crate) use files::{CardFiles, Factory, RESET, look_at};
pub(crate) use identity::is_address;
pub(crate) use limit_file::LimitFile;
pub(crate) use log::kernel_log;
pub use refusal::Refusal;

use std::path::Path;

use yard_step_core::{
    Absent, CardDescription, CardLimits, Channel, CurveKind, CurveOffer, FanControl, Limiter,
    MemoryWiring, Mhz, Millivolt, Offer, Reading, Sample, SettingKind, Span, VfCurve, Watt,
};

use crate::kernel::fan_curve::FanCurveFile;
use crate::kernel::frequency::Frequency;
use crate::kernel::hwmon::Hwmon;
use crate::kernel::identity::{PciId, address, driver, release, why_no_table};
use crate::kernel::metrics::Metrics;
use crate::kernel::table::{Generation, Range, Table};
use crate::kernel::tree::Place;

/// Where the kernel shows its devices.
pub const SYSFS: &str = "/sys";
/// Name that the user gives the only real card.
pub const PREFIX: &str = "kernel:";
/// The curve of a fan that the card drives along one.
const FAN_CURVE: &str = "gpu_od/fan_ctrl/fan_curve";
/// What is said of memory whose kind no file tells.
const KIND_NOT_STATED: &str = "of a kind not stated";
/// Most levels of a clock.
const MOST_LEVELS: usize = 64;
/// Settings that the clock/voltage table holds.
const IN_TABLE: [SettingKind; 6] = [
    SettingKind::CoreOffset,
    SettingKind::MemoryOffset,
    SettingKind::ClockMinimum,
    SettingKind::ClockMaximum,
    SettingKind::VoltageOffset,
    SettingKind::Curve,
];
/// Most cards that are looked at.
const MOST_CARDS: usize = 64;
/// Range of a voltage offset where the table states none, mV: downwards only, and not far.
const ASSUMED_OFFSET: Range = (-100.0, 0.0);
/// What is said of that, and of a power limit without a range.
const NO_OFFSET_RANGE: &str =
    "The card states no range of its voltage offset: this one is Yard Step's own.";
const NO_POWER_RANGE: &str =
    "The card states its rated power and no range: it can be lowered to half of that.";

/// A real card as its files show it.
#[derive(Debug, Clone, PartialEq)]
pub struct KernelCard {
    /// The name of its directory below `class/drm`.
    pub directory: String,
    /// Its address on the bus, or the name of its directory where it tells none.
    pub address: String,
    /// What it is and offers, and what is missing with the reason.
    pub description: CardDescription,
    /// What it measured as it was looked at.
    pub now: Sample,
    /// What held its clock back then, as far as the card tells that itself.
    pub limiter: Option<Limiter>,
    /// What of the ranges is not the card's own word, in sentences.
    pub notes: Vec<String>,
}

/// The real cards below a root such as [`SYSFS`], in the order of their numbers.
#[must_use]
pub fn kernel_cards(root: &Path) -> Vec<KernelCard> {
    let root = Place::root(root);
    places(&root).map(|card| Survey::of(&root, &card).finished()).collect()
}

/// The real card at an address; the others are not looked at.
pub(crate) fn kernel_card(root: &Path, wanted: &str) -> Option<KernelCard> {
    let root = Place::root(root);
    let card = places(&root).find(|card| address(card, &card.at("device")) == wanted)?;
    Some(Survey::of(&root, &card).finished())
}

/// Where real cards lie below a root.
fn places(root: &Place) -> impl Iterator<Item = Place> {
    let class = root.at("class/drm");
    let number = |name: &String| name.strip_prefix("card")?.parse::<u32>().ok();
    let mut names: Vec<(u32, String)> =
        class.names().into_iter().filter_map(|name| Some((number(&name)?, name))).collect();
    names.sort();
    names
        .into_iter()
        .map(move |(_, name)| class.at(name))
        // A directory without a device is a screen's or a render node's.
        .filter(|card| card.at("device").is_there())
        .take(MOST_CARDS)
}

/// What is being found out about a card.
struct Survey {
    directory: String,
    address: String,
    name: String,
    driver: Option<String>,
    serial: String,
    memory_gib: u32,
    offers: Vec<Offer>,
    curve: Option<CurveOffer>,
    fan: FanControl,
    limits: CardLimits,
    memory_clock: f64,
    sample: Sample,
    limiter: Option<Limiter>,
    absent_settings: Vec<Absent<SettingKind>>,
    absent_sensors: Vec<Absent<Channel>>,
    notes: Vec<String>,
}

impl Survey {
    fn of(root: &Place, card: &Place) -> Self {
        let device = card.at("device");
        let driver = driver(&device);
        let id = PciId::of(&device);
        // A card without a number of its own is told from another one in its place by its kind.
        let kind = id.as_ref().map_or_else(|_| "unknown".to_owned(), ToString::to_string);
        let name = id.map_or_else(|why| format!("unknown device ({why})"), |id| id.name());
        let address = address(card, &device);
        let serial = device.at("unique_id").text().ok().filter(|text| is_plain(text));
        let mut survey = Self {
            directory: card.name(),
            serial: serial.unwrap_or(kind),
            address,
            name,
            driver,
            memory_gib: memory_gib(&device),
            offers: Vec::new(),
            curve: None,
            fan: FanControl::Speed,
            limits: CardLimits {
                boost_clock: Mhz(0.0),
                highest_clock: Mhz(0.0),
                clock_bin: Mhz(1.0),
                voltage_ceiling: None,
                power_limit: None,
                temperature_target: None,
                temperature_ceiling: None,
                current: None,
            },
            memory_clock: 0.0,
            sample: Sample::default(),
            limiter: None,
            absent_settings: Vec::new(),
            absent_sensors: Vec::new(),
            notes: Vec::new(),
        };
        survey.look_at_clocks(root, card, &device);
        survey.take_levels(&device);
        survey.look_at_sensors(card, &device);
        survey.look_at_the_rest();
        survey
    }

    fn lacks(&mut self, what: SettingKind, why: impl Into<String>) {
        self.absent_settings.push(Absent { what, why: why.into() });
    }

    fn offer(&mut self, kind: SettingKind, (minimum, maximum): Range, stock: f64) {
        let is_offset = matches!(
            kind,
            SettingKind::CoreOffset | SettingKind::MemoryOffset | SettingKind::VoltageOffset
        );
        if !(minimum < maximum && (minimum..=maximum).contains(&stock)) {
            let why = format!(
                "the card states {minimum} to {maximum} as its range, and {stock} as its value"
            );
            return self.lacks(kind, why);
        }
        let reading = if is_offset { Reading::Offset } else { Reading::Absolute };
        self.offers.push(Offer {
            kind,
            reading,
            minimum,
            maximum,
            step: 1.0,
            stock: Some(stock),
            makers_maximum: None,
        });
    }

    /// Clocks and voltages: by the table, or by the files of a clock window.
    fn look_at_clocks(&mut self, root: &Place, card: &Place, device: &Place) {
        let file = device.at("pp_od_clk_voltage");
        match file.text() {
            Ok(text) => match Table::parse(&text) {
                Ok(table) => self.take_table(&table),
                Err(why) => self.lack_clocks(&why.to_string()),
            },
            Err(missing) => match Frequency::of(card, device) {
                Ok(files) => self.take_window(&files),
                Err(_) => {
                    let why = why_no_table(root, self.driver.as_deref(), &missing);
                    self.lack_clocks(&why);
                }
            },
        }
    }

    fn lack_clocks(&mut self, why: &str) {
        for kind in IN_TABLE {
            self.lacks(kind, why);
        }
    }

    fn take_table(&mut self, table: &Table) {
        let generation = table.generation();
        if let Some(highest) = table.highest_core() {
            self.limits.boost_clock = Mhz(highest);
            self.limits.highest_clock = Mhz(highest);
        }
        self.take_memory(table);
        let no = |what: &str| format!("the card's clock/voltage table has no {what}");
        match (generation, table.core_offset, table.range("SCLK_OFFSET")) {
            (Generation::Offset, Some(now), Some(range)) => {
                self.offer(SettingKind::CoreOffset, range, now);
            }
            (Generation::Offset, ..) => {
                self.lacks(SettingKind::CoreOffset, no("range of the offset"))
            }
            // All levels above the lowest are moved by it.
            (Generation::Levels, ..) if table.range("SCLK").is_some() => {
                let top = table.highest_core().unwrap_or_default();
                let (low, high) = table.range("SCLK").unwrap_or_default();
                self.offer(SettingKind::CoreOffset, (low - top, high - top), 0.0);
            }
            _ => self.lacks(SettingKind::CoreOffset, no("clock offset")),
        }
        match (generation, table.range("SCLK")) {
            (Generation::Window | Generation::Curve, Some(range)) => {
                let window = [
                    (SettingKind::ClockMinimum, table.core_at(0)),
                    (SettingKind::ClockMaximum, table.highest_core()),
                ];
                for (kind, now) in window {
                    match now {
                        Some(now) => self.offer(kind, range, now),
                        None => self.lacks(kind, no("such clock")),
                    }
                }
            }
            _ => {
                for kind in [SettingKind::ClockMinimum, SettingKind::ClockMaximum] {
                    self.lacks(kind, no("clock window"));
                }
            }
        }
        match table.voltage_offset {
            Some(now) => {
                let stated = table.range("VDDGFX_OFFSET");
                if stated.is_none() {
                    self.notes.push(NO_OFFSET_RANGE.into());
                }
                let range = stated.unwrap_or(ASSUMED_OFFSET);
                self.offer(SettingKind::VoltageOffset, range, now);
            }
            None => self.lacks(SettingKind::VoltageOffset, no("voltage offset")),
        }
        match states(table) {
            Some(curve) => {
                let highest = f64::from(curve.factory.last().millivolt);
                self.limits.voltage_ceiling = Some(Millivolt(highest));
                self.curve = Some(curve);
            }
            None if matches!(generation, Generation::Levels | Generation::Curve) => {
                self.lacks(SettingKind::Curve, no("usable points with ranges"));
            }
            None => self.lacks(SettingKind::Curve, no("points")),
        }
    }

    /// The highest clocks of the levels that the driver lists, where nothing else tells them.
    fn take_levels(&mut self, device: &Place) {
        if let Some(highest) = highest_level(device, "pp_dpm_sclk")
            && self.limits.boost_clock == Mhz(0.0)
        {
            (self.limits.boost_clock, self.limits.highest_clock) = (Mhz(highest), Mhz(highest));
        }
        if let Some(highest) =
            highest_level(device, "pp_dpm_mclk").filter(|_| self.memory_clock == 0.0)
        {
            self.memory_clock = highest;
        }
    }

    /// The memory clock: the kernel tells the clock of the memory controller, and an offset is one of that.
    fn take_memory(&mut self, table: &Table) {
        let Some(highest) = table.highest_memory() else {
            return self.lacks(
                SettingKind::MemoryOffset,
                "the card's clock/voltage table has no memory clock",
            );
        };
        self.memory_clock = highest;
        match table.range("MCLK") {
            Some((low, high)) => {
                self.offer(SettingKind::MemoryOffset, (low - highest, high - highest), 0.0);
            }
            None => self
                .lacks(SettingKind::MemoryOffset, "the card states no range of the memory clock"),
        }
    }

    fn take_window(&mut self, files: &Frequency) {
        self.limiter = files.limiter();
        if let Ok(clock) = files.actual() {
            self.sample.core_clock = Some(Mhz(clock));
        }
        let only = "the card's files tell a clock window only";
        for kind in [
            SettingKind::CoreOffset,
            SettingKind::MemoryOffset,
            SettingKind::VoltageOffset,
            SettingKind::Curve,
        ] {
            self.lacks(kind, only);
        }
        match files.range() {
            Ok((low, high)) => {
                let (lowest, highest) =
                    (files.lowest().unwrap_or(low), files.highest().unwrap_or(high));
                self.limits.boost_clock = Mhz(highest);
                self.limits.highest_clock = Mhz(highest);
                self.offer(SettingKind::ClockMinimum, (low, high), lowest);
                self.offer(SettingKind::ClockMaximum, (low, high), highest);
            }
            Err(why) => {
                self.lacks(SettingKind::ClockMinimum, why.to_string());
                self.lacks(SettingKind::ClockMaximum, why.to_string());
            }
        }
    }

    fn look_at_sensors(&mut self, card: &Place, device: &Place) {
        let clock = self.sample.core_clock;
        let mut missing: Vec<(Channel, String)> = Vec::new();
        match Hwmon::of(device).or_else(|why| Hwmon::of(card).map_err(|_| why)) {
            Ok(hwmon) => {
                let found = hwmon.read(&mut self.sample);
                missing.extend(found.into_iter().map(|(what, why)| (what, why.to_string())));
                if self.sample.board_power.is_none() && hwmon.energy().is_ok() {
                    missing.retain(|(what, _)| *what != Channel::BoardPower);
                    match hwmon.power_by_energy() {
                        Ok(power) => self.sample.board_power = Some(power),
                        Err(why) => missing.push((Channel::BoardPower, why.to_string())),
                    }
                }
                self.limits.temperature_ceiling = hwmon.critical();
                self.take_power(&hwmon);
                self.take_fan(device, &hwmon);
            }
            Err(why) => {
                for kind in [SettingKind::PowerLimit, SettingKind::Fan] {
                    self.lacks(kind, why.to_string());
                }
                missing.extend(hwmon::TOLD.map(|what| (what, why.to_string())));
            }
        }
        if let (Some(clock), None) = (clock, self.sample.core_clock) {
            self.sample.core_clock = Some(clock);
            missing.retain(|(what, _)| *what != Channel::CoreClock);
        }
        match device.number_in("gpu_busy_percent") {
            Ok(busy) => self.sample.set(Channel::Load, Some(busy)),
            Err(why) => missing.push((Channel::Load, why.to_string())),
        }
        self.take_metrics(device, &mut missing);
        let before = self.sample;
        self.sample = before.without_nonsense();
        for channel in Channel::ALL {
            if before.get(channel).is_some() && self.sample.get(channel).is_none() {
                missing.push((channel, "its reading cannot be true".into()));
            }
        }
        self.absent_sensors = missing.into_iter().map(|(what, why)| Absent { what, why }).collect();
    }

    /// The blob tells what throttles, and a few readings that no other file has.
    fn take_metrics(&mut self, device: &Place, missing: &mut Vec<(Channel, String)>) {
        let own = [Channel::EffectiveClock, Channel::RegulatorTemperature];
        let read = device.at("gpu_metrics").bytes(metrics::LARGEST);
        let parsed = read.map_err(|why| why.to_string());
        let parsed = parsed.and_then(|bytes| Metrics::parse(&bytes).map_err(|why| why.to_string()));
        match parsed {
            Err(why) => missing.extend(own.map(|what| (what, why.clone()))),
            Ok(metrics) => {
                self.limiter = self.limiter.or_else(|| metrics.limiter());
                metrics.fill(&mut self.sample);
                missing.retain(|(channel, _)| self.sample.get(*channel).is_none());
                for channel in own.into_iter().filter(|own| self.sample.get(*own).is_none()) {
                    missing.push((channel, "the card's metrics do not tell it".into()));
                }
            }
        }
    }

    fn take_power(&mut self, hwmon: &Hwmon) {
        match hwmon.power_cap() {
            Ok(cap) => {
                if cap.is_assumed {
                    self.notes.push(NO_POWER_RANGE.into());
                }
                self.limits.power_limit = Some(Watt(cap.stock));
                self.offer(SettingKind::PowerLimit, (cap.lowest, cap.highest), cap.stock);
            }
            Err(why) => self.lacks(SettingKind::PowerLimit, why.to_string()),
        }
    }

    /// The fan: by the curve of a card that drives it along one, or by hand.
    fn take_fan(&mut self, device: &Place, hwmon: &Hwmon) {
        let offer = |(minimum, maximum): Range| Offer {
            kind: SettingKind::Fan,
            reading: Reading::Absolute,
            minimum,
            maximum,
            step: 1.0,
            stock: None,
            makers_maximum: None,
        };
        if let Ok(text) = device.at(FAN_CURVE).text()
            && let Some(curve) = FanCurveFile::parse(&text)
        {
            self.offers.push(offer(curve.speeds));
            return;
        }
        match hwmon.fan_range() {
            Ok(range) => self.offers.push(offer(range)),
            Err(why) => self.lacks(SettingKind::Fan, why.to_string()),
        }
    }

    /// What no file of the kernel tells or takes.
    fn look_at_the_rest(&mut self) {
        for kind in [
            SettingKind::TemperatureTarget,
            SettingKind::MemoryVoltage,
            SettingKind::MemoryTiming,
            SettingKind::FrameCap,
        ] {
            self.lacks(kind, "the kernel has no file for it");
        }
        let told_by_loads = "told by the load";
        let known = self.absent_sensors.iter().map(|absent| absent.what).collect::<Vec<_>>();
        let more = [
            (Channel::FrameRate, told_by_loads),
            (Channel::Background, "the kernel has no file for it"),
            (Channel::ChipPower, "the kernel has no file for it"),
        ];
        for (what, why) in more.into_iter().filter(|(what, _)| !known.contains(what)) {
            self.absent_sensors.push(Absent { what, why: why.into() });
        }
    }

    fn finished(mut self) -> KernelCard {
        self.offers
            .sort_by_key(|offer| SettingKind::ALL.iter().position(|kind| *kind == offer.kind));
        self.absent_settings
            .sort_by_key(|absent| SettingKind::ALL.iter().position(|kind| *kind == absent.what));
        let sensors = Channel::ALL
            .into_iter()
            .filter(|channel| self.sample.get(*channel).is_some())
            .collect();
        KernelCard {
            description: CardDescription {
                id: format!("{PREFIX}{}", self.address),
                serial: self.serial,
                name: self.name,
                memory_type: KIND_NOT_STATED.into(),
                memory_gib: self.memory_gib,
                memory_clock: Mhz(self.memory_clock),
                memory_wiring: MemoryWiring::default(),
                driver: release(self.driver.as_deref()),
                limits: self.limits,
                curve: self.curve,
                fan: self.fan,
                steps_unstated: true,
                limit_tables: None,
                offers: self.offers,
                sensors,
                absent_settings: self.absent_settings,
                absent_sensors: self.absent_sensors,
            },
            directory: self.directory,
            address: self.address,
            now: self.sample,
            limiter: self.limiter,
            notes: self.notes,
        }
    }
}

/// The levels or the points of a table as states that can be shaped; none where its ranges are none.
fn states(table: &Table) -> Option<CurveOffer> {
    let (clocks, voltages) = match table.generation() {
        Generation::Levels => (table.range("SCLK")?, table.range("VDDC")?),
        Generation::Curve => (
            table.range("VDDC_CURVE_SCLK[0]").or_else(|| table.range("SCLK"))?,
            table.range("VDDC_CURVE_VOLT[0]")?,
        ),
        Generation::Window | Generation::Offset => return None,
    };
    let span =
        |(low, high): Range| Some(Span { lowest: whole(low)?, highest: whole(high)?, step: 1 });
    Some(CurveOffer {
        kind: CurveKind::States,
        factory: curve_of(table)?,
        clocks: span(clocks)?,
        voltages: span(voltages)?,
    })
}

/// The levels or the points of a table as a curve; none where it has no such, or they are none.
fn curve_of(table: &Table) -> Option<VfCurve> {
    let rows = match table.generation() {
        Generation::Levels => &table.core,
        Generation::Curve => &table.curve,
        Generation::Window | Generation::Offset => return None,
    };
    let points: Option<Vec<(u16, u16)>> =
        rows.iter().map(|row| Some((whole(row.millivolt?)?, whole(row.mhz)?))).collect();
    VfCurve::new(&points?).ok()
}

fn whole(value: f64) -> Option<u16> {
    (0.0..=f64::from(u16::MAX)).contains(&value).then_some(value as u16)
}

/// Highest clock of a list of levels, such as `1: 2400Mhz *`, MHz.
fn highest_level(device: &Place, file: &str) -> Option<f64> {
    let text = device.at(file).text().ok()?;
    let clocks = text.lines().take(MOST_LEVELS).filter_map(|line| {
        let (_, rest) = line.split_once(':')?;
        let clock = rest.split_whitespace().next()?.to_ascii_lowercase();
        clock.strip_suffix("mhz")?.parse::<f64>().ok()
    });
    clocks.filter(|clock| (1.0..=20_000.0).contains(clock)).reduce(f64::max)
}

/// Bytes of a card's memory that nobody uses now, by its address on the bus; none where its files do not tell.
#[must_use]
pub fn free_memory(address: &str) -> Option<u64> {
    let device = Place::root(Path::new(SYSFS)).at("bus/pci/devices").at(address);
    let bytes = |name: &str| device.number_in(name).ok();
    let (total, used) = (bytes("mem_info_vram_total")?, bytes("mem_info_vram_used")?);
    is_address(address).then_some((total - used).max(0.0) as u64)
}

/// Memory of a card in GiB, as its files tell it; 0 where they do not.
fn memory_gib(device: &Place) -> u32 {
    let bytes = device.number_in("mem_info_vram_total").unwrap_or(0.0);
    (bytes / (1_u64 << 30) as f64).round().clamp(0.0, 4_096.0) as u32
}

fn is_plain(text: &str) -> bool {
    text.len() <= 64 && text.chars().all(|letter| letter.is_ascii_alphanumeric())
}

#[cfg(test)]
mod tests;
