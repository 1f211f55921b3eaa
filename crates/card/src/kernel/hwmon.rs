//! Sensors and limits of the kernel's monitoring files (hwmon): temperatures by their labels, power, voltage, clocks, fan.

use std::thread;
use std::time::{Duration, Instant};

use yard_step_core::{Celsius, Channel, Percent, Sample, Watt};

use crate::kernel::refusal::{Refusal, write};
use crate::kernel::tree::{Place, Unread};

/// Most temperatures of a card.
const MOST_TEMPERATURES: usize = 8;
/// Time between two readings of the energy.
const BETWEEN_ENERGIES: Duration = Duration::from_millis(100);
/// Full fan, as `pwm1` counts it where no highest level is told.
const FULL: f64 = 255.0;

/// `pwm1_enable` while the fan is set by hand, and while the card drives it.
const BY_HAND: &str = "1";
const BY_CARD: &str = "2";

/// Every channel that such files can tell.
pub(super) const TOLD: [Channel; 8] = [
    Channel::CoreClock,
    Channel::MemoryClock,
    Channel::Voltage,
    Channel::BoardPower,
    Channel::CoreTemperature,
    Channel::HotSpot,
    Channel::MemoryTemperature,
    Channel::Fan,
];

/// The monitoring files of a card.
#[derive(Debug, Clone)]
pub(super) struct Hwmon {
    place: Place,
    /// Files of the temperatures that are known by their label.
    temperatures: Vec<(Channel, String)>,
}

/// A power limit as the files state it, W.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct PowerCap {
    pub lowest: f64,
    pub highest: f64,
    pub stock: f64,
    /// Whether the lowest is not the card's own word.
    pub is_assumed: bool,
}

impl Hwmon {
    /// The monitoring files of a device; why there are none.
    pub fn of(device: &Place) -> Result<Self, Unread> {
        let all = device.at("hwmon");
        let name = all.names().into_iter().find(|name| name.starts_with("hwmon"));
        let place = all.at(name.ok_or_else(|| Unread::Missing(all.told()))?);
        let temperatures = temperatures(&place);
        Ok(Self { place, temperatures })
    }

    /// Where they lie.
    pub fn place(&self) -> &Place {
        &self.place
    }

    /// What the files tell now, as far as they do, each with its reason where it does not.
    pub fn read(&self, sample: &mut Sample) -> Vec<(Channel, Unread)> {
        let mut missing = Vec::new();
        for channel in TOLD {
            match self.reading(channel) {
                Ok(value) => sample.set(channel, Some(value)),
                Err(why) => missing.push((channel, why)),
            }
        }
        missing
    }

    /// What the files say of a channel, in its unit.
    fn reading(&self, channel: Channel) -> Result<f64, Unread> {
        match channel {
            Channel::CoreClock => self.millionth("freq1_input"),
            Channel::MemoryClock => self.millionth("freq2_input"),
            Channel::Voltage => self.place.number_in("in0_input"),
            Channel::BoardPower => {
                self.millionth("power1_average").or_else(|_| self.millionth("power1_input"))
            }
            Channel::Fan => self.fan_speed(),
            heat => {
                let file = self.temperatures.iter().find(|(of, _)| *of == heat);
                let missing = || Unread::Missing(self.place.at(label_of(heat)).told());
                let (_, file) = file.ok_or_else(missing)?;
                self.place.number_in(file).map(|value| value / 1e3)
            }
        }
    }

    /// What is counted in millionths of the unit.
    fn millionth(&self, name: &str) -> Result<f64, Unread> {
        self.place.number_in(name).map(|value| value / 1e6)
    }

    /// Fan speed in percent of the highest: by its pulse width, or by its turns.
    pub fn fan_speed(&self) -> Result<f64, Unread> {
        let share = |name: &str, most: Result<f64, Unread>| {
            let most = most?;
            let now = self.place.number_in(name)?;
            if most > 0.0 {
                return Ok(now / most * 100.0);
            }
            Err(Unread::Odd(self.place.at(name).told(), now.to_string(), "fan speed"))
        };
        let full = self.place.number_in("pwm1_max").or(Ok(FULL));
        share("pwm1", full)
            .or_else(|why| share("fan1_input", self.place.number_in("fan1_max")).map_err(|_| why))
    }

    /// Lowest and highest share of full fan that may be set, percent, where the fan may be set by hand.
    pub fn fan_range(&self) -> Result<(f64, f64), Unread> {
        self.place.number_in("pwm1_enable")?;
        self.place.number_in("pwm1")?;
        let full = self.place.number_in("pwm1_max").unwrap_or(FULL);
        let least = self.place.number_in("pwm1_min").unwrap_or(0.0);
        if full > 0.0 && (0.0..full).contains(&least) {
            return Ok(((least / full * 100.0).ceil(), 100.0));
        }
        Err(Unread::Odd(self.place.at("pwm1_max").told(), full.to_string(), "highest fan level"))
    }

    /// Whether the fan stands at a speed that was set by hand.
    pub fn is_fan_by_hand(&self) -> Result<bool, Unread> {
        self.place.at("pwm1_enable").text().map(|mode| mode == BY_HAND)
    }

    /// Sets the fan to a speed, by hand.
    pub fn write_fan(&self, speed: Percent) -> Result<(), Refusal> {
        let full = self.place.number_in("pwm1_max").unwrap_or(FULL);
        if !self.is_fan_by_hand().unwrap_or(false) {
            write(&self.place.at("pwm1_enable"), BY_HAND)?;
        }
        write(&self.place.at("pwm1"), &format!("{:.0}", speed.value() / 100.0 * full))
    }

    /// Leaves the fan to the card, in the mode that the card had it in.
    pub fn leave_fan(&self, mode: Option<&str>) -> Result<(), Refusal> {
        let mode = mode.filter(|mode| *mode != BY_HAND).unwrap_or(BY_CARD);
        write(&self.place.at("pwm1_enable"), mode)
    }

    /// The power limit that holds now, W, in either family's files.
    pub fn power_limit_now(&self) -> Result<f64, Unread> {
        self.millionth(self.power_limit_file())
    }

    /// Sets the power limit.
    pub fn write_power_limit(&self, limit: Watt) -> Result<(), Refusal> {
        write(&self.place.at(self.power_limit_file()), &format!("{:.0}", limit.value() * 1e6))
    }

    fn power_limit_file(&self) -> &'static str {
        if self.place.at("power1_cap").is_there() { "power1_cap" } else { "power1_max" }
    }

    /// The power limit that the card is rated for, W.
    pub fn rated_power(&self) -> Option<f64> {
        self.millionth("power1_cap_default").ok()
    }

    /// The range of the power limit, in either family's files.
    pub fn power_cap(&self) -> Result<PowerCap, Unread> {
        let now = match self.millionth("power1_cap") {
            Err(Unread::Missing(_)) => return self.power_max(),
            other => other?,
        };
        let (lowest, highest) =
            (self.millionth("power1_cap_min")?, self.millionth("power1_cap_max")?);
        let stock = self.millionth("power1_cap_default").unwrap_or(now);
        self.checked("power1_cap_max", PowerCap { lowest, highest, stock, is_assumed: false })
    }

    /// The power limit of the family that states its rated one and no range: it can be lowered.
    fn power_max(&self) -> Result<PowerCap, Unread> {
        let now = self.millionth("power1_max")?;
        let rated = self.millionth("power1_rated_max").unwrap_or(now);
        self.checked(
            "power1_max",
            PowerCap {
                lowest: (rated / 2.0).ceil(),
                highest: rated,
                stock: rated,
                is_assumed: true,
            },
        )
    }

    fn checked(&self, name: &str, cap: PowerCap) -> Result<PowerCap, Unread> {
        let is_range = 0.0 <= cap.lowest
            && cap.lowest < cap.highest
            && cap.highest <= 5_000.0
            && (cap.lowest..=cap.highest).contains(&cap.stock);
        let PowerCap { lowest, highest, stock, .. } = cap;
        let told = || format!("{lowest} to {highest} W, stock {stock} W");
        is_range.then_some(cap).ok_or_else(|| {
            Unread::Odd(self.place.at(name).told(), told(), "range of a power limit")
        })
    }

    /// Energy used so far, J, where power is told by that alone.
    pub fn energy(&self) -> Result<f64, Unread> {
        self.millionth("energy1_input")
    }

    /// Power by two readings of the energy, a moment apart.
    pub fn power_by_energy(&self) -> Result<Watt, Unread> {
        let (began, before) = (Instant::now(), self.energy()?);
        thread::sleep(BETWEEN_ENERGIES);
        let used = self.energy()? - before;
        let seconds = began.elapsed().as_secs_f64();
        let told = || {
            Unread::Odd(
                self.place.at("energy1_input").told(),
                before.to_string(),
                "energy that grows",
            )
        };
        (used > 0.0).then(|| Watt(used / seconds)).ok_or_else(told)
    }

    /// Temperature at which the card takes itself down or back, °C: its critical one.
    pub fn critical(&self) -> Option<Celsius> {
        let file = self.temperatures.iter().find(|(of, _)| *of == Channel::CoreTemperature)?;
        let name = file.1.replace("_input", "_crit");
        let degrees = self.place.number_in(&name).ok()? / 1e3;
        (40.0..=130.0).contains(&degrees).then_some(Celsius(degrees))
    }
}

/// The kernel's label of a temperature.
const fn label_of(channel: Channel) -> &'static str {
    match channel {
        Channel::HotSpot => "temp*_label junction",
        Channel::MemoryTemperature => "temp*_label mem",
        _ => "temp*_label edge",
    }
}

fn temperatures(place: &Place) -> Vec<(Channel, String)> {
    let mut found = Vec::new();
    for number in 1..=MOST_TEMPERATURES {
        let file = format!("temp{number}_input");
        let label = place.at(format!("temp{number}_label")).text();
        let channel = match label.as_deref() {
            Ok("edge" | "pkg") => Channel::CoreTemperature,
            Ok("junction") => Channel::HotSpot,
            Ok("mem" | "vram") => Channel::MemoryTemperature,
            // A single temperature without a label is the chip's.
            Err(Unread::Missing(_)) if number == 1 && place.at(&file).is_there() => {
                Channel::CoreTemperature
            }
            _ => continue,
        };
        if !found.iter().any(|(known, _)| *known == channel) {
            found.push((channel, file));
        }
    }
    found
}
