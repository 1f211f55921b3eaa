//! The files of a card and what the kernel does behind them, without a file system.

use std::io;
use std::time::{Duration, Instant};

use nix::errno::Errno;
use thiserror::Error;
use yard_step_card::slot::{FrameSlot, SlotAddress};
use yard_step_card::{Card, CardError, LoadLost};
use yard_step_core::{
    CardDescription, Celsius, CurveKind, Fan, Mhz, MhzOffset, Millivolt, MillivoltOffset, Offer,
    Percent, Sample, Seconds, SettingKind, Settings, VfCurve, Watt,
};

use crate::limits::{Header, LimitFile};

/// Time for which files are gone during a reset.
const RESET: Duration = Duration::from_millis(500);
/// Numbers on the bus that belong to nobody.
const IDS: (&str, &str) = ("0x1b2c", "0x7310");
/// Bus on which the first device lies; those after it lie on the next ones.
const FIRST_BUS: u8 = 3;
/// Full fan, as the files count it.
const FULL: f64 = 255.0;
/// File that tells what a kernel would have announced of a stand-in.
const EVENTS: &str = "stand_in_events";
/// File that tells where loads draw on a stand-in.
const SLOT: &str = "stand_in_slot";
/// The limit table's file.
const LIMITS: &str = "pp_table";
/// Points of the fan curve, and its temperatures, °C.
const FAN_POINTS: usize = 5;
const FAN_HEAT: (i64, i64) = (25, 100);
/// The fan curve's file.
const FAN_CURVE: &str = "gpu_od/fan_ctrl/fan_curve";
/// Share of its highest clock to which the memory goes down.
const LOWEST_MEMORY: f64 = 0.1;

/// Which files a card has for its clocks and voltages.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::IntoStaticStr, strum::VariantNames,
)]
#[strum(serialize_all = "kebab-case")]
pub enum Layout {
    /// A table of levels with clock and voltage.
    Levels,
    /// A table with a clock window and a curve of three points.
    Curve,
    /// A table with a clock window and a voltage offset.
    Window,
    /// A table with a clock offset and a voltage offset.
    Offset,
    /// No table: the other family, with files for the clock window.
    Frequency,
}

impl Layout {
    /// The layout that fits a card best.
    #[must_use]
    pub fn fitting(card: &CardDescription) -> Self {
        match card.curve.map(|curve| curve.kind) {
            Some(CurveKind::States) => Self::Levels,
            _ if card.offers(SettingKind::CoreOffset) => Self::Offset,
            _ => Self::Window,
        }
    }

    /// How the limit table of such a card is laid out; none where the family has no file of it.
    const fn limits(self) -> Option<Header> {
        Some(match self {
            Self::Levels => Header::None,
            Self::Curve => Header::Older,
            Self::Window => Header::Middle,
            Self::Offset => Header::Newer,
            Self::Frequency => return None,
        })
    }
}

/// A card has nothing that files of a layout could show.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{card} cannot be shown as {layout}: it does not offer its {lacks}")]
pub struct Unsuited {
    card: String,
    layout: &'static str,
    lacks: &'static str,
}

/// A file of the device, from the root of the tree on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    /// Its path.
    pub path: String,
    /// Whether it can be written.
    pub is_writable: bool,
}

/// A card behind device files.
pub struct Device {
    card: Box<dyn Card>,
    layout: Layout,
    /// Which device of the machine it is, from 0.
    number: u8,
    /// Edits of the table that are not committed yet; none where there are none.
    edited: Option<Settings>,
    /// Whether the performance level is set by hand.
    is_manual: bool,
    /// Whether the fan is set by hand.
    is_fan_manual: bool,
    /// Points of the fan curve that are not committed yet: temperature, °C, and speed, percent.
    edited_fan: Option<[(i64, i64); FAN_POINTS]>,
    /// End of a reset that goes on.
    reset_until: Option<Instant>,
    /// Where loads draw on it, where they can.
    frames: Option<FrameSlot>,
    /// Path of that.
    slot: String,
    /// What a kernel would have announced.
    events: Vec<String>,
    /// Whether it took its machine down.
    is_down: bool,
    /// Seconds of the card's time to a second on the wall.
    speed: f64,
    /// When time last passed for the card.
    looked_at: Instant,
    /// Energy used so far, J.
    energy: f64,
    /// Its limit table, where its family has a file of it.
    limits: Option<LimitFile>,
}

impl Device {
    /// A card shown in a layout.
    ///
    /// # Errors
    /// The card offers nothing that such files could show.
    pub fn new(card: Box<dyn Card>, layout: Layout) -> Result<Self, Unsuited> {
        let described = card.description();
        let needs = match layout {
            Layout::Levels | Layout::Curve => SettingKind::Curve,
            Layout::Window | Layout::Frequency => SettingKind::ClockMaximum,
            Layout::Offset => SettingKind::CoreOffset,
        };
        let kind = described.curve.map(|curve| curve.kind);
        let is_suited = match layout {
            Layout::Levels => kind == Some(CurveKind::States),
            Layout::Curve => kind == Some(CurveKind::Points),
            _ => described.offers(needs),
        };
        if !is_suited {
            let (card, layout) = (described.name.clone(), layout.into());
            return Err(Unsuited { card, layout, lacks: needs.label() });
        }
        let limits = layout.limits().and_then(|header| LimitFile::of(header, described));
        Ok(Self {
            card,
            layout,
            number: 0,
            edited: None,
            is_manual: false,
            is_fan_manual: false,
            edited_fan: None,
            reset_until: None,
            frames: None,
            slot: String::new(),
            events: Vec::new(),
            is_down: false,
            speed: 1.0,
            looked_at: Instant::now(),
            energy: 0.0,
            limits,
        })
    }

    /// The same as another device of its machine, from 0.
    #[must_use]
    pub fn numbered(self, number: u8) -> Self {
        Self { number, ..self }
    }

    /// Its address on the bus.
    fn address(&self) -> String {
        format!("0000:{:02x}:00.0", FIRST_BUS.saturating_add(self.number))
    }

    /// Where its files lie, from the root of the tree on.
    pub(crate) fn directory(&self) -> String {
        format!("class/drm/card{}/device/", self.number)
    }

    /// The same with a slot where loads draw on the card; its path stands in a file that no real card has.
    ///
    /// # Errors
    /// The slot cannot be made.
    pub fn drawn_on_at(self, address: SlotAddress) -> io::Result<Self> {
        let slot = address.to_string();
        Ok(Self { frames: Some(FrameSlot::open(address)?), slot, ..self })
    }

    /// The same card in a hurry: it works, warms and cools so many times as fast.
    #[must_use]
    pub fn at_speed(self, speed: f64) -> Self {
        Self { speed, ..self }
    }

    /// Lets the time pass for the card that has passed on the wall.
    pub fn pass_time(&mut self) {
        let passed = self.looked_at.elapsed().as_secs_f64() * self.speed;
        self.looked_at = Instant::now();
        let ran = match &self.frames {
            Some(frames) => frames.work(self.card.as_mut(), Seconds(passed)).map(drop),
            None => {
                self.card.idle(Seconds(passed));
                Ok(())
            }
        };
        match ran {
            Err(LoadLost::DriverReset) => self.begin_reset(),
            Err(LoadLost::MachineDown) => self.is_down = true,
            Ok(()) | Err(_) => {}
        }
        let power = self.card.sample().ok().and_then(|sample| sample.board_power);
        self.energy += power.map_or(0.0, Watt::value) * passed;
    }

    /// The files that are there now.
    pub fn files(&mut self) -> Vec<File> {
        if self.is_down {
            return Vec::new();
        }
        let is_resetting = self.is_resetting();
        let directory = self.directory();
        let file = |name: &str, is_writable: bool| File {
            path: format!("{directory}{name}"),
            is_writable,
        };
        let mut files = vec![
            file("vendor", false),
            file("device", false),
            file("uevent", false),
            file("reset", true),
            file("mem_info_vram_total", false),
            file(EVENTS, false),
        ];
        if is_resetting {
            return files;
        }
        if self.frames.is_some() {
            files.push(file(SLOT, false));
        }
        files.push(file("gpu_busy_percent", false));
        if self.limits.is_some() {
            files.push(file(LIMITS, true));
        }
        if self.layout == Layout::Frequency {
            files.extend(["min_freq", "max_freq"].map(|name| file(&freq(name), true)));
            files.extend(["rpn_freq", "rp0_freq", "act_freq"].map(|name| file(&freq(name), false)));
            files.extend([file(&mon("power1_max"), true), file(&mon("power1_rated_max"), false)]);
            files.push(file(&mon("energy1_input"), false));
        } else {
            files.push(file("pp_od_clk_voltage", true));
            // The generation with a clock offset has its fan's curve in a file.
            if self.layout == Layout::Offset {
                files.push(file(FAN_CURVE, true));
            }
            files.push(file("pp_dpm_sclk", false));
            files.push(file("power_dpm_force_performance_level", true));
            files.push(file(&mon("power1_cap"), true));
            let caps = ["power1_cap_min", "power1_cap_max", "power1_cap_default", "power1_average"];
            files.extend(caps.map(|name| file(&mon(name), false)));
        }
        files.push(file(&mon("name"), false));
        let temperatures =
            ["temp1_label", "temp1_input", "temp1_crit", "temp2_label", "temp2_input"];
        files.extend(temperatures.map(|name| file(&mon(name), false)));
        files.extend(["freq1_input", "freq2_input", "in0_input"].map(|n| file(&mon(n), false)));
        files.extend(["pwm1", "pwm1_enable"].map(|name| file(&mon(name), true)));
        files.push(file(&mon("pwm1_max"), false));
        files
    }

    /// The content of a file.
    ///
    /// # Errors
    /// `ENOENT` where there is none (now), `EIO` and `ENODEV` where the card does not answer.
    pub fn read(&mut self, path: &str) -> Result<String, Errno> {
        let name = self.known(path)?;
        let card = self.card.description().clone();
        let text = match name.as_str() {
            "vendor" => IDS.0.to_owned(),
            "device" => IDS.1.to_owned(),
            "uevent" => format!("DRIVER=kernel-tree\nPCI_SLOT_NAME={}", self.address()),
            "reset" => return Err(Errno::EACCES),
            SLOT => self.slot.clone(),
            EVENTS => self.events.join("\n"),
            "mem_info_vram_total" => (u64::from(card.memory_gib) << 30).to_string(),
            "pp_od_clk_voltage" => return self.table(),
            FAN_CURVE => return self.fan_curve(),
            "pp_dpm_sclk" => {
                let (low, high) = self.clock_window()?;
                format!("0: {low:.0}Mhz *\n1: {high:.0}Mhz")
            }
            "power_dpm_force_performance_level" => {
                (if self.is_manual { "manual" } else { "auto" }).to_owned()
            }
            name => self.number(name, &card)?,
        };
        Ok(text + "\n")
    }

    /// Takes a text that is written to a file.
    ///
    /// # Errors
    /// As the kernel: `EINVAL` for what cannot be, `EACCES` for a file that only tells, and as [`read`](Self::read).
    pub fn write(&mut self, path: &str, text: &str) -> Result<(), Errno> {
        let name = self.known(path)?;
        let is_writable = self.files().iter().any(|file| file.path == path && file.is_writable);
        if !is_writable {
            return Err(Errno::EACCES);
        }
        let text = text.trim();
        match name.as_str() {
            "reset" if text == "1" => self.reset(),
            "reset" => Err(Errno::EINVAL),
            "pp_od_clk_voltage" => self.edit(text),
            FAN_CURVE => self.edit_fan(text),
            "power_dpm_force_performance_level" => {
                self.is_manual = match text {
                    "manual" => true,
                    "auto" => false,
                    _ => return Err(Errno::EINVAL),
                };
                Ok(())
            }
            name => {
                let value: i64 = text.parse().map_err(|_| Errno::EINVAL)?;
                self.set_number(name, value as f64)
            }
        }
    }

    /// The bytes of a file: those of the limit table, or a text.
    ///
    /// # Errors
    /// As [`read`](Self::read).
    pub fn read_bytes(&mut self, path: &str) -> Result<Vec<u8>, Errno> {
        match self.known(path)?.as_str() {
            LIMITS => self.limits.as_ref().map(|file| file.bytes().to_vec()).ok_or(Errno::ENOENT),
            _ => self.read(path).map(String::into_bytes),
        }
    }

    /// Takes the bytes that are written to a file: a limit table, or a text.
    ///
    /// # Errors
    /// As [`write`](Self::write); `EIO` for a table that states another size than it has.
    pub fn write_bytes(&mut self, path: &str, bytes: &[u8]) -> Result<(), Errno> {
        match self.known(path)?.as_str() {
            LIMITS => self.load_limits(bytes),
            _ => self.write(path, std::str::from_utf8(bytes).map_err(|_| Errno::EINVAL)?),
        }
    }

    /// Sets the card up anew with a limit table.
    fn load_limits(&mut self, bytes: &[u8]) -> Result<(), Errno> {
        let limits = self.limits.as_mut().ok_or(Errno::ENOENT)?;
        limits.take(bytes)?;
        let card = self.card.description();
        if let Some(tables) = &card.limit_tables {
            let table = limits.onto(&tables.makers, card);
            if let Some(simulation) = self.card.simulation() {
                simulation.start_with_limits(table);
            }
        }
        self.edited = None;
        let stock = Settings::stock(self.card.description());
        // A card that does not come up with them is down.
        self.is_down = self.card.apply(&stock).is_err();
        Ok(())
    }

    /// The name of a file of the device that is there now.
    fn known(&mut self, path: &str) -> Result<String, Errno> {
        let is_there = self.files().iter().any(|file| file.path == path);
        let name =
            path.strip_prefix(&self.directory()).filter(|_| is_there).ok_or(Errno::ENOENT)?;
        Ok(name.to_owned())
    }

    fn is_resetting(&mut self) -> bool {
        self.reset_until = self.reset_until.filter(|until| Instant::now() < *until);
        self.reset_until.is_some()
    }

    /// The files are gone for a while.
    fn begin_reset(&mut self) {
        self.edited = None;
        (self.is_manual, self.is_fan_manual) = (false, false);
        self.reset_until = Some(Instant::now() + RESET);
        let path = format!("/devices/pci0000:00/{}/drm/card{}", self.address(), self.number);
        self.events.push(format!(
            "change@{path} ACTION=change DEVPATH={path} SUBSYSTEM=drm WEDGED=none SEQNUM={}",
            self.events.len()
        ));
    }

    /// Takes the card down and up: it comes back at stock.
    fn reset(&mut self) -> Result<(), Errno> {
        self.begin_reset();
        let stock = Settings::stock(self.card.description());
        self.card.apply(&stock).map_err(|error| errno(&error))
    }

    fn taken(&mut self) -> Result<Settings, Errno> {
        self.card.taken().map_err(|error| errno(&error))
    }

    /// The settings as the table shows them: with its edits, where there are any.
    fn as_edited(&mut self) -> Result<Settings, Errno> {
        self.edited.map_or_else(|| self.taken(), Ok)
    }

    /// What the sensors tell, after the time that has passed since the last look.
    fn sample(&mut self) -> Result<Sample, Errno> {
        self.pass_time();
        self.card.sample().map_err(|error| errno(&error))
    }

    /// The number in a file, as the kernel counts it.
    fn number(&mut self, name: &str, card: &CardDescription) -> Result<String, Errno> {
        let whole = |value: Option<f64>, times: f64| {
            value.map(|value| format!("{:.0}", value * times)).ok_or(Errno::EOPNOTSUPP)
        };
        let limit = card.offer(SettingKind::PowerLimit);
        let window = card.offer(SettingKind::ClockMaximum);
        let monitored = name.strip_prefix(MONITOR);
        match (monitored, name) {
            (Some("name"), _) => Ok("kernel_tree".to_owned()),
            (Some("temp1_label"), _) => Ok("edge".to_owned()),
            (Some("temp2_label"), _) => Ok("junction".to_owned()),
            (Some("temp1_crit"), _) => whole(Some(card.limits.stops_at().value()), 1e3),
            (Some("power1_cap" | "power1_max"), _) => {
                let taken = self.taken()?;
                whole(taken.power_limit.map(Watt::value), 1e6)
            }
            (Some("power1_cap_min"), _) => whole(limit.map(|limit| limit.minimum), 1e6),
            (Some("power1_cap_max"), _) => whole(limit.map(|limit| limit.maximum), 1e6),
            (Some("power1_cap_default" | "power1_rated_max"), _) => {
                whole(limit.and_then(|limit| limit.stock), 1e6)
            }
            (Some("pwm1_max"), _) => Ok(format!("{FULL:.0}")),
            (Some("pwm1_enable"), _) => Ok(if self.is_fan_manual { "1" } else { "2" }.to_owned()),
            (Some(sensor), _) => {
                let sample = self.sample()?;
                match sensor {
                    "temp1_input" => whole(sample.core_temperature.map(Celsius::value), 1e3),
                    "temp2_input" => whole(sample.hot_spot.map(Celsius::value), 1e3),
                    "freq1_input" => whole(sample.core_clock.map(Mhz::value), 1e6),
                    "freq2_input" => whole(sample.memory_clock.map(Mhz::value), 1e6),
                    "in0_input" => whole(sample.voltage.map(Millivolt::value), 1.0),
                    "power1_average" => whole(sample.board_power.map(Watt::value), 1e6),
                    "energy1_input" => whole(Some(self.energy), 1e6),
                    "pwm1" => whole(sample.fan.map(Percent::value), FULL / 100.0),
                    _ => Err(Errno::ENOENT),
                }
            }
            (None, "gpu_busy_percent") => {
                let sample = self.sample()?;
                whole(sample.load.map(Percent::value), 1.0)
            }
            (None, name) => {
                let (low, high) = self.clock_window()?;
                match name.strip_prefix(FREQUENCY) {
                    Some("min_freq") => whole(Some(low), 1.0),
                    Some("max_freq") => whole(Some(high), 1.0),
                    Some("rpn_freq") => whole(window.map(|window| window.minimum), 1.0),
                    Some("rp0_freq") => whole(window.map(|window| window.maximum), 1.0),
                    Some("act_freq") => {
                        let sample = self.sample()?;
                        whole(sample.core_clock.map(Mhz::value), 1.0)
                    }
                    _ => Err(Errno::ENOENT),
                }
            }
        }
    }

    /// Takes a number that is written to a file.
    fn set_number(&mut self, name: &str, value: f64) -> Result<(), Errno> {
        let mut settings = self.taken()?;
        let within = |card: &Self, kind, value: f64| -> Result<f64, Errno> {
            let offer = card.card.description().offer(kind).ok_or(Errno::EOPNOTSUPP)?;
            let is_within = (offer.minimum..=offer.maximum).contains(&value);
            is_within.then_some(value).ok_or(Errno::EINVAL)
        };
        match name.strip_prefix(MONITOR).or_else(|| name.strip_prefix(FREQUENCY)) {
            Some("power1_cap" | "power1_max") => {
                let watts = within(self, SettingKind::PowerLimit, value / 1e6)?;
                settings.power_limit = Some(Watt(watts));
            }
            Some("min_freq") => {
                settings.set(
                    SettingKind::ClockMinimum,
                    Some(within(self, SettingKind::ClockMinimum, value)?),
                );
            }
            Some("max_freq") => {
                settings.set(
                    SettingKind::ClockMaximum,
                    Some(within(self, SettingKind::ClockMaximum, value)?),
                );
            }
            Some("pwm1_enable") => {
                self.is_fan_manual = match value as i64 {
                    1 => true,
                    2 => false,
                    _ => return Err(Errno::EINVAL),
                };
                if !self.is_fan_manual {
                    settings.fan = None;
                }
            }
            Some("pwm1") if !self.is_fan_manual => return Err(Errno::EINVAL),
            Some("pwm1") if (0.0..=FULL).contains(&value) => {
                settings.fan = Some(Fan::Fixed(Percent((value / FULL * 100.0).round())));
            }
            _ => return Err(Errno::EINVAL),
        }
        self.card.apply(&settings).map_err(|error| errno(&error))
    }

    /// Lowest and highest clock, MHz.
    fn clock_window(&mut self) -> Result<(f64, f64), Errno> {
        let settings = self.as_edited()?;
        let card = self.card.description();
        let value = |kind| settings.get(kind).or_else(|| card.offer(kind)?.stock);
        // A card without a window has that of its curve.
        let curve = card.curve.map(|offer| offer.factory);
        let floor = card.offer(SettingKind::ClockMinimum).map(|offer| offer.minimum);
        let floor = floor.or(curve.map(|curve| f64::from(curve.first().mhz)));
        let offset = settings.core_offset.map_or(0.0, |offset| f64::from(offset.0));
        let highest = Some(card.limits.highest_clock.value() + offset);
        let low = value(SettingKind::ClockMinimum).or(floor);
        let high = value(SettingKind::ClockMaximum).or(highest);
        low.zip(high).ok_or(Errno::EOPNOTSUPP)
    }

    /// The clock/voltage table as the kernel writes it.
    fn table(&mut self) -> Result<String, Errno> {
        let settings = self.as_edited()?;
        let window = match self.layout {
            Layout::Window | Layout::Curve => Some(self.clock_window()?),
            _ => None,
        };
        let card = self.card.description();
        let mut text = String::new();
        let mut ranges = String::from("OD_RANGE:\n");
        let range = |name: &str, (low, high): (f64, f64), unit: &str| {
            format!("{name}: {low:>7.0}{unit} {high:>10.0}{unit}\n")
        };
        let clocks =
            card.offer(SettingKind::ClockMaximum).map(|offer| (offer.minimum, offer.maximum));
        let most = card.offer(SettingKind::CoreOffset).map_or(0.0, |offer| offer.maximum);
        let highest = card.limits.highest_clock.value();
        let whole = (card.limits.boost_clock.value() * 0.2, highest + most);
        if let Some(offset) = settings.core_offset.filter(|_| self.layout == Layout::Offset) {
            text += &format!("OD_SCLK_OFFSET:\n{}Mhz\n", offset.0);
            if let Some(offer) = card.offer(SettingKind::CoreOffset) {
                ranges += &range("SCLK_OFFSET", (offer.minimum, offer.maximum), "Mhz");
            }
        }
        if let Some((low, high)) = window {
            text += &format!("OD_SCLK:\n0: {low:.0}Mhz\n1: {high:.0}Mhz\n");
            ranges += &range("SCLK", clocks.unwrap_or(whole), "Mhz");
        }
        if let (Layout::Levels, Some(offer)) = (self.layout, card.curve) {
            let curve = settings.curve.unwrap_or(offer.factory);
            text += "OD_SCLK:\n";
            for (index, point) in curve.points().iter().enumerate() {
                text += &format!("{index}: {:>10}Mhz {:>10}mV\n", point.mhz, point.millivolt);
            }
            let span = |low: u16, high: u16| (f64::from(low), f64::from(high));
            ranges += &range("SCLK", span(offer.clocks.lowest, offer.clocks.highest), "MHz");
            ranges += &range("VDDC", span(offer.voltages.lowest, offer.voltages.highest), "mV");
        }
        if let Some(offer) = card.offer(SettingKind::MemoryOffset) {
            let stock = card.memory_clock.value();
            let now = stock + settings.memory_offset.map_or(0.0, |offset| f64::from(offset.0));
            text += "OD_MCLK:\n";
            if self.layout != Layout::Curve {
                text += &format!("0: {:.0}Mhz\n", stock * LOWEST_MEMORY);
            }
            text += &format!("1: {now:.0}MHz\n");
            ranges += &range("MCLK", (stock + offer.minimum, stock + offer.maximum), "Mhz");
        }
        if let (Layout::Curve, Some(offer)) = (self.layout, card.curve) {
            text += "OD_VDDC_CURVE:\n";
            let points = anchors(&settings.curve.unwrap_or(offer.factory));
            for (index, (millivolt, mhz)) in points.into_iter().enumerate() {
                text += &format!("{index}: {mhz:.0}MHz {millivolt:.0}mV\n");
                let clocks = (f64::from(offer.clocks.lowest), f64::from(offer.clocks.highest));
                ranges += &range(&format!("VDDC_CURVE_SCLK[{index}]"), clocks, "Mhz");
                let volts = (f64::from(offer.voltages.lowest), f64::from(offer.voltages.highest));
                ranges += &range(&format!("VDDC_CURVE_VOLT[{index}]"), volts, "mV");
            }
        }
        let has_offset = matches!(self.layout, Layout::Window | Layout::Offset);
        if let Some(offer) = card.offer(SettingKind::VoltageOffset).filter(|_| has_offset) {
            let now = settings.voltage_offset.map_or(0, |offset| offset.0);
            text += &format!("OD_VDDGFX_OFFSET:\n{now}mV\n");
            // The generation with a window states no range for it.
            if self.layout == Layout::Offset {
                ranges += &range("VDDGFX_OFFSET", (offer.minimum, offer.maximum), "mv");
            }
        }
        Ok(text + &ranges)
    }

    /// The fan curve as the kernel writes it: zeros where nothing is set.
    fn fan_curve(&mut self) -> Result<String, Errno> {
        let set = match self.taken()?.fan {
            Some(Fan::Fixed(speed)) if !self.is_fan_manual => speed.value() as i64,
            _ => 0,
        };
        let (low, high) = FAN_HEAT;
        let at = |index: usize| low + (high - low) * index as i64 / (FAN_POINTS as i64 - 1);
        let own = std::array::from_fn(|index| if set > 0 { (at(index), set) } else { (0, 0) });
        let points = self.edited_fan.unwrap_or(own);
        let lines: String = (0..)
            .zip(points)
            .map(|(index, (at, speed))| format!("{index}: {at}C {speed}%\n"))
            .collect();
        let offer = self.card.description().offer(SettingKind::Fan).ok_or(Errno::EOPNOTSUPP)?;
        Ok(format!(
            "OD_FAN_CURVE:\n{lines}OD_RANGE:\nFAN_CURVE(hotspot temp): {low}C {high}C\nFAN_CURVE(fan speed): {:.0}% {:.0}%\n",
            offer.minimum, offer.maximum
        ))
    }

    /// Takes an edit of the fan curve, a commit or a reset.
    fn edit_fan(&mut self, text: &str) -> Result<(), Errno> {
        let mut settings = self.taken()?;
        match text {
            "r" => {
                self.edited_fan = None;
                settings.fan = None;
            }
            "c" => {
                let Some(points) = self.edited_fan.take() else { return Ok(()) };
                let speed = points[0].1;
                // The stand-in's fan is left to one speed here: nobody has to follow a curve for it.
                if points.iter().any(|point| point.1 != speed) {
                    return Err(Errno::EINVAL);
                }
                settings.fan = Some(Fan::Fixed(Percent(speed as f64)));
            }
            point => {
                let numbers: Result<Vec<i64>, _> = point.split(' ').map(str::parse).collect();
                let Ok([index, at, speed]) = numbers.as_deref() else { return Err(Errno::EINVAL) };
                let offer =
                    *self.card.description().offer(SettingKind::Fan).ok_or(Errno::EOPNOTSUPP)?;
                let is_within = (FAN_HEAT.0..=FAN_HEAT.1).contains(at)
                    && (offer.minimum..=offer.maximum).contains(&(*speed as f64));
                let mut points = self.edited_fan.unwrap_or([(0, 0); FAN_POINTS]);
                let place = usize::try_from(*index).ok().and_then(|index| points.get_mut(index));
                *place.filter(|_| is_within).ok_or(Errno::EINVAL)? = (*at, *speed);
                self.edited_fan = Some(points);
                return Ok(());
            }
        }
        self.card.apply(&settings).map_err(|error| errno(&error))
    }

    /// Takes an edit of the table, a commit or a reset.
    fn edit(&mut self, text: &str) -> Result<(), Errno> {
        if !self.is_manual {
            return Err(Errno::EINVAL);
        }
        let words: Vec<&str> = text.split_whitespace().collect();
        let (first, values) = words.split_first().ok_or(Errno::EINVAL)?;
        let values: Vec<i64> = values
            .iter()
            .map(|word| word.parse())
            .collect::<Result<_, _>>()
            .map_err(|_| Errno::EINVAL)?;
        let mut settings = self.as_edited()?;
        match (*first, values.as_slice()) {
            ("c", []) => {
                if let Some(edited) = self.edited.take() {
                    return self.card.apply(&edited).map_err(|error| errno(&error));
                }
                return Ok(());
            }
            ("r", []) => {
                self.edited = None;
                let stock = Settings::stock(self.card.description());
                // What is not in the table stays.
                let stock =
                    Settings { power_limit: settings.power_limit, fan: settings.fan, ..stock };
                return self.card.apply(&stock).map_err(|error| errno(&error));
            }
            (what, values) => self.take_edit(&mut settings, what, values)?,
        }
        self.edited = Some(settings);
        Ok(())
    }

    fn take_edit(&self, settings: &mut Settings, what: &str, values: &[i64]) -> Result<(), Errno> {
        let card = self.card.description();
        let checked = |kind: SettingKind, value: i64| {
            let offer: &Offer = card.offer(kind).ok_or(Errno::EINVAL)?;
            let is_within = (offer.minimum..=offer.maximum).contains(&(value as f64));
            is_within.then_some(value as i32).ok_or(Errno::EINVAL)
        };
        match (self.layout, what, values) {
            (Layout::Offset, "s", [offset]) => {
                settings.core_offset = Some(MhzOffset(checked(SettingKind::CoreOffset, *offset)?));
            }
            // A highest clock beyond the curve is an offset of the card's own.
            (Layout::Curve, "s", [1, mhz]) => {
                let offset = mhz - card.limits.highest_clock.value().round() as i64;
                settings.core_offset = Some(MhzOffset(checked(SettingKind::CoreOffset, offset)?));
            }
            (Layout::Window, "s", [index @ (0 | 1), mhz]) => {
                let kind = match index {
                    0 => SettingKind::ClockMinimum,
                    _ => SettingKind::ClockMaximum,
                };
                settings.set(kind, Some(f64::from(checked(kind, *mhz)?)));
            }
            (Layout::Levels, "s", [index, mhz, millivolt]) => {
                settings.curve = Some(self.with_level(settings, *index, *mhz, *millivolt)?);
            }
            (Layout::Curve, "vc", [index, mhz, millivolt]) => {
                settings.curve = Some(self.with_anchor(settings, *index, *mhz, *millivolt)?);
            }
            (Layout::Window | Layout::Offset, "vo", [offset]) => {
                let offset = checked(SettingKind::VoltageOffset, *offset)?;
                settings.voltage_offset = Some(MillivoltOffset(offset));
            }
            (_, "m", [1, mhz]) | (Layout::Levels, "m", [1, mhz, _]) => {
                let offset = mhz - card.memory_clock.value().round() as i64;
                settings.memory_offset =
                    Some(MhzOffset(checked(SettingKind::MemoryOffset, offset)?));
            }
            _ => return Err(Errno::EINVAL),
        }
        Ok(())
    }

    /// The curve with another clock and voltage at a level.
    fn with_level(
        &self,
        settings: &Settings,
        index: i64,
        mhz: i64,
        millivolt: i64,
    ) -> Result<VfCurve, Errno> {
        let offer = self.card.description().curve.ok_or(Errno::EINVAL)?;
        let curve = settings.curve.unwrap_or(offer.factory);
        let mut points: Vec<(u16, u16)> =
            curve.points().iter().map(|point| (point.millivolt, point.mhz)).collect();
        let within = |value: i64, low: u16, high: u16| {
            u16::try_from(value).ok().filter(|value| (low..=high).contains(value))
        };
        let mhz = within(mhz, offer.clocks.lowest, offer.clocks.highest);
        let millivolt = within(millivolt, offer.voltages.lowest, offer.voltages.highest);
        let place = usize::try_from(index).ok().and_then(|index| points.get_mut(index));
        *place.ok_or(Errno::EINVAL)? = millivolt.zip(mhz).ok_or(Errno::EINVAL)?;
        VfCurve::new(&points).map_err(|_| Errno::EINVAL)
    }

    /// The curve moved so that it goes through another clock at one of its three anchors; between them it moves by a share.
    fn with_anchor(
        &self,
        settings: &Settings,
        index: i64,
        mhz: i64,
        millivolt: i64,
    ) -> Result<VfCurve, Errno> {
        let offer = self.card.description().curve.ok_or(Errno::EINVAL)?;
        let curve = settings.curve.unwrap_or(offer.factory);
        let places = anchors(&curve);
        let index = usize::try_from(index).ok().filter(|index| *index < places.len());
        let index = index.ok_or(Errno::EINVAL)?;
        let clocks = f64::from(offer.clocks.lowest)..=f64::from(offer.clocks.highest);
        let volts = f64::from(offer.voltages.lowest)..=f64::from(offer.voltages.highest);
        let (mhz, millivolt) = (mhz as f64, millivolt as f64);
        if !clocks.contains(&mhz) || !volts.contains(&millivolt) {
            return Err(Errno::EINVAL);
        }
        let by = mhz - curve.clock_at(Millivolt(millivolt)).value();
        // Full at its own anchor, nothing at its neighbours.
        let share = |at: f64| {
            let own = places[index].0;
            let other = match at < own {
                true => index.checked_sub(1).map(|left| places[left].0),
                false => places.get(index + 1).map(|right| right.0),
            };
            other.map_or(1.0, |other| 1.0 - ((at - own) / (other - own)).clamp(0.0, 1.0))
        };
        let points: Vec<(u16, u16)> = curve
            .points()
            .iter()
            .map(|point| {
                let at = f64::from(point.millivolt);
                let moved = (f64::from(point.mhz) + by * share(at)).round().max(0.0);
                (point.millivolt, moved as u16)
            })
            .collect();
        VfCurve::new(&points).map_err(|_| Errno::EINVAL)
    }
}

/// First, middle and last point of a curve: voltage and clock.
fn anchors(curve: &VfCurve) -> [(f64, f64); 3] {
    let points = curve.points();
    [0, points.len() / 2, points.len() - 1]
        .map(|at| (f64::from(points[at].millivolt), f64::from(points[at].mhz)))
}

/// Where the monitoring files and those of the clock window lie, from the device on.
const MONITOR: &str = "hwmon/hwmon0/";
const FREQUENCY: &str = "tile0/gt0/freq0/";

fn mon(name: &str) -> String {
    format!("{MONITOR}{name}")
}

fn freq(name: &str) -> String {
    format!("{FREQUENCY}{name}")
}

/// What the kernel says where the card does not answer.
fn errno(error: &CardError) -> Errno {
    match error {
        CardError::Gone { .. } | CardError::NoAnswer { .. } => Errno::ENODEV,
        _ => Errno::EIO,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_card::{CardAddress, connect};

    const TABLE: &str = "class/drm/card0/device/pp_od_clk_voltage";
    const LEVEL: &str = "class/drm/card0/device/power_dpm_force_performance_level";
    const MON: &str = "class/drm/card0/device/hwmon/hwmon0/";

    fn device(card: &str, layout: Layout) -> Device {
        let address: CardAddress = card.parse().unwrap();
        Device::new(connect(&address).unwrap(), layout).unwrap()
    }

    /// A device whose table is set by hand.
    fn by_hand(card: &str, layout: Layout) -> Device {
        let mut device = device(card, layout);
        device.write(LEVEL, "manual\n").unwrap();
        device
    }

    const TARN: &str = "standin:tarn-310#7";
    const BRACKEN: &str = "standin:bracken-208#7";
    const QUERN: &str = "standin:quern-540#7";

    #[rstest]
    #[case(TARN, Layout::Offset, "s 45", "OD_SCLK_OFFSET:\n45Mhz")]
    #[case(TARN, Layout::Offset, "vo -20", "OD_VDDGFX_OFFSET:\n-20mV")]
    #[case(QUERN, Layout::Window, "s 1 2000", "1: 2000Mhz")]
    #[case(QUERN, Layout::Window, "m 1 2250", "1: 2250MHz")]
    #[case(BRACKEN, Layout::Levels, "s 7 1500 1100", "7:       1500Mhz       1100mV")]
    #[case(TARN, Layout::Curve, "vc 2 2100 1080", "2: 2100MHz 1080mV")]
    fn an_edit_holds_once_it_is_committed_and_a_reset_brings_the_factory_back(
        #[case] card: &str,
        #[case] layout: Layout,
        #[case] edit: &str,
        #[case] told: &str,
    ) {
        let mut device = by_hand(card, layout);
        let factory = device.read(TABLE).unwrap();
        let held = device.taken().unwrap();
        assert!(!factory.contains(told), "{factory}");
        device.write(TABLE, edit).unwrap();
        assert!(device.read(TABLE).unwrap().contains(told), "{}", device.read(TABLE).unwrap());
        assert_eq!(device.taken().unwrap(), held, "nothing reached the card yet");
        device.write(TABLE, "c\n").unwrap();
        assert_ne!(device.taken().unwrap(), held);
        assert!(device.read(TABLE).unwrap().contains(told), "{}", device.read(TABLE).unwrap());
        device.write(TABLE, "r").unwrap();
        assert_eq!(device.read(TABLE).unwrap(), factory, "byte for byte");
    }

    #[test]
    fn the_card_rounds_in_silence() {
        let mut device = by_hand(TARN, Layout::Offset);
        device.write(TABLE, "s 40").unwrap();
        device.write(TABLE, "c").unwrap();
        assert!(device.read(TABLE).unwrap().contains("OD_SCLK_OFFSET:\n30Mhz"));
    }

    #[rstest]
    #[case(TARN, Layout::Offset, "s 99999")]
    #[case(TARN, Layout::Offset, "s 1 45")]
    #[case(TARN, Layout::Offset, "s")]
    #[case(TARN, Layout::Offset, "x 1")]
    #[case(TARN, Layout::Offset, "")]
    #[case(TARN, Layout::Offset, "s fast")]
    #[case(QUERN, Layout::Window, "s 2 2000")]
    #[case(QUERN, Layout::Window, "m 0 100")]
    #[case(BRACKEN, Layout::Levels, "s 9 1500 1000")]
    #[case(BRACKEN, Layout::Levels, "s 0 1500 -3")]
    #[case(TARN, Layout::Curve, "vc 3 2000 1000")]
    #[case(TARN, Layout::Curve, "vc 1 2000 9000")]
    fn what_cannot_be_is_refused_and_changes_nothing(
        #[case] card: &str,
        #[case] layout: Layout,
        #[case] edit: &str,
    ) {
        let mut device = by_hand(card, layout);
        let before = device.read(TABLE).unwrap();
        assert_eq!(device.write(TABLE, edit), Err(Errno::EINVAL));
        assert_eq!(device.read(TABLE).unwrap(), before);
    }

    #[test]
    fn the_table_is_edited_by_hand_only() {
        let mut device = device(TARN, Layout::Offset);
        assert_eq!(device.write(TABLE, "s 30"), Err(Errno::EINVAL));
        assert_eq!(device.write(LEVEL, "fastest"), Err(Errno::EINVAL));
        device.write(LEVEL, "manual").unwrap();
        device.write(TABLE, "s 30").unwrap();
        assert_eq!(device.read(LEVEL).unwrap(), "manual\n");
    }

    #[test]
    fn power_and_fan_are_set_by_numbers_within_their_ranges() {
        let mut device = device(TARN, Layout::Offset);
        let at = |name: &str| format!("{MON}{name}");
        let most: f64 = device.read(&at("power1_cap_max")).unwrap().trim().parse().unwrap();
        assert_eq!(device.write(&at("power1_cap"), &format!("{}", most + 1e6)), Err(Errno::EINVAL));
        device.write(&at("power1_cap"), "200000000").unwrap();
        assert_eq!(device.read(&at("power1_cap")).unwrap(), "200000000\n");
        assert_eq!(device.write(&at("pwm1"), "128"), Err(Errno::EINVAL), "the card drives it");
        device.write(&at("pwm1_enable"), "1").unwrap();
        device.write(&at("pwm1"), "255").unwrap();
        assert_eq!(device.taken().unwrap().fan, Some(Fan::Fixed(Percent(100.0))));
        device.write(&at("pwm1_enable"), "2").unwrap();
        assert_eq!(device.taken().unwrap().fan, Settings::stock(device.card.description()).fan);
        assert_eq!(device.write(&at("temp1_input"), "1"), Err(Errno::EACCES));
        assert_eq!(device.write(&at("nothing"), "1"), Err(Errno::ENOENT));
    }

    #[test]
    fn a_fan_curve_is_committed_as_one_speed_and_reset() {
        let mut device = device(TARN, Layout::Offset);
        let file = format!("class/drm/card0/device/{FAN_CURVE}");
        let own = device.read(&file).unwrap();
        assert!(own.contains("4: 0C 0%"), "{own}");
        assert_eq!(device.write(&file, "0 25 400"), Err(Errno::EINVAL));
        assert_eq!(device.write(&file, "9 25 40"), Err(Errno::EINVAL));
        for index in 0..FAN_POINTS {
            device.write(&file, &format!("{index} {} 60", 25 + 15 * index)).unwrap();
        }
        assert_eq!(device.taken().unwrap().fan, Settings::stock(device.card.description()).fan);
        device.write(&file, "c").unwrap();
        assert_eq!(device.taken().unwrap().fan, Some(Fan::Fixed(Percent(60.0))));
        device.write(&file, "r").unwrap();
        assert_eq!(device.read(&file).unwrap(), own);
    }

    #[test]
    fn the_other_family_has_its_window_in_files_of_their_own() {
        let mut device = device(QUERN, Layout::Frequency);
        let at = |name: &str| format!("class/drm/card0/device/tile0/gt0/freq0/{name}");
        assert_eq!(device.read(TABLE), Err(Errno::ENOENT));
        device.write(&at("max_freq"), "1900").unwrap();
        assert_eq!(device.read(&at("max_freq")).unwrap(), "1900\n");
        assert_eq!(device.write(&at("max_freq"), "90000"), Err(Errno::EINVAL));
        assert_eq!(device.write(&at("act_freq"), "1900"), Err(Errno::EACCES));
        let energy = |device: &mut Device| -> f64 {
            device.read(&format!("{MON}energy1_input")).unwrap().trim().parse().unwrap()
        };
        let before = energy(&mut device);
        std::thread::sleep(Duration::from_millis(20));
        assert!(energy(&mut device) > before, "an idle card uses some, too");
    }

    #[test]
    fn in_a_reset_files_vanish_and_the_card_comes_back_at_stock() {
        let mut device = by_hand(TARN, Layout::Offset);
        let factory = device.read(TABLE).unwrap();
        for edit in ["s 45", "c"] {
            device.write(TABLE, edit).unwrap();
        }
        device.write("class/drm/card0/device/reset", "1").unwrap();
        assert_eq!(device.read(TABLE), Err(Errno::ENOENT));
        assert_eq!(device.read(&format!("{MON}temp1_input")), Err(Errno::ENOENT));
        assert!(device.read("class/drm/card0/device/vendor").is_ok(), "it is on the bus still");
        std::thread::sleep(RESET);
        assert_eq!(device.read(TABLE).unwrap(), factory);
        assert_eq!(device.read(LEVEL).unwrap(), "auto\n");
    }

    #[rstest]
    #[case(TARN, Layout::Levels, "cannot be shown as levels: it does not offer its V/F curve")]
    #[case(
        BRACKEN,
        Layout::Window,
        "cannot be shown as window: it does not offer its highest clock"
    )]
    #[case(
        QUERN,
        Layout::Offset,
        "cannot be shown as offset: it does not offer its core clock offset"
    )]
    fn a_card_that_does_not_fit_is_told(
        #[case] card: &str,
        #[case] layout: Layout,
        #[case] told: &str,
    ) {
        let address: CardAddress = card.parse().unwrap();
        let error = Device::new(connect(&address).unwrap(), layout).err().unwrap().to_string();
        assert!(error.contains(told), "{error}");
    }
}
