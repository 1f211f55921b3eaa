//! The files of one card at work: what it holds, what it measures, and how it is asked to hold something else.
//!
//! ```text
//!   Settings ──► power limit ──► table: level manual, edits, commit ──► clock window ──► fan
//!                    └──────────────── each file only where it differs ─────────────────┘
//! ```
//!
//! What the kernel refuses is noted in its words, and shows when the card is read back.

use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use yard_step_core::{
    CardDescription, Channel, Fan, Limiter, MhzOffset, Percent, Sample, SettingKind, Settings,
    VfCurve, VfPoint, Watt,
};

use super::fan_curve::FanCurveFile;
use super::frequency::Frequency;
use super::hwmon::Hwmon;
use super::metrics::{self, Metrics};
use super::refusal::{Refusal, write};
use super::table::{Generation, Range, Row, Table};
use super::tree::{Place, Unread};
use super::{FAN_CURVE, IN_TABLE, KernelCard, curve_of, kernel_card};
use crate::CardError;

/// The clock/voltage table.
const TABLE: &str = "pp_od_clk_voltage";
/// Whether clocks are set by hand.
const LEVEL: &str = "power_dpm_force_performance_level";
/// The level in which the table takes edits.
const MANUAL: &str = "manual";
/// Whether the fan stops while the card is cool, on a card that has a fan curve.
const ZERO_SPEED: &str = "gpu_od/fan_ctrl/fan_zero_rpm_enable";
/// How long files are waited for that a reset has taken away.
pub(crate) const RESET: Duration = Duration::from_secs(3);
/// Time between two looks for them.
const LOOK: Duration = Duration::from_millis(50);
/// How long a fan may take to a speed that it was set to, and how near it comes, points of percent.
const FAN_TURNS: Duration = Duration::from_secs(60);
const FAN_NEAR: f64 = 5.0;

/// What a card was like before anything was changed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct Factory {
    /// What it is and offers; what it calls stock is what it held.
    pub description: CardDescription,
    /// Text of its clock/voltage table.
    pub table: Option<String>,
    /// Its performance level.
    level: Option<String>,
    /// By whom its fan was driven, as its file counts it.
    fan_mode: Option<String>,
}

/// The files of one card.
#[derive(Debug)]
pub(crate) struct CardFiles {
    card: Place,
    device: Place,
    factory: Factory,
    hwmon: Option<Hwmon>,
    frequency: Option<Frequency>,
    /// The last reading of the energy, where power is told by that alone.
    energy: Option<(Instant, f64)>,
    power: Option<Watt>,
    /// What throttled at the last look, as the card tells it.
    limiter: Option<Limiter>,
    /// Whether the card tells by its metrics what throttles.
    tells_limiter: bool,
    /// The settings that were asked for last.
    asked: Option<Settings>,
    /// The speed that the fan was set to, and when: a fan takes its time to get there.
    fan_set: Option<(Instant, Percent)>,
}

/// A real card below a root, as its files show it now.
///
/// # Errors
/// There is none at that address.
pub(crate) fn look_at(root: &Path, address: &str) -> Result<KernelCard, CardError> {
    kernel_card(root, address).ok_or_else(|| CardError::Gone {
        cause: format!("there is no card at {address} below {}", root.display()),
    })
}

impl CardFiles {
    /// The files of a card that holds what it had from the factory.
    pub fn at_factory(root: &Path, card: KernelCard) -> Self {
        let place = Place::root(root).at("class/drm").at(&card.directory);
        let device = place.at("device");
        let hwmon = monitor(&place, &device);
        let fan_mode = hwmon.as_ref().and_then(|hwmon| hwmon.place().at("pwm1_enable").text().ok());
        let factory = Factory {
            description: card.description,
            table: device.at(TABLE).text().ok(),
            level: device.at(LEVEL).text().ok(),
            fan_mode,
        };
        Self::with(place, device, hwmon, factory)
    }

    /// The files of a card that may have been changed since this was noted of it.
    pub fn with_factory(root: &Path, directory: &str, factory: Factory) -> Self {
        let place = Place::root(root).at("class/drm").at(directory);
        let device = place.at("device");
        let hwmon = monitor(&place, &device);
        Self::with(place, device, hwmon, factory)
    }

    fn with(card: Place, device: Place, hwmon: Option<Hwmon>, factory: Factory) -> Self {
        let frequency = Frequency::of(&card, &device).ok();
        Self {
            card,
            device,
            factory,
            hwmon,
            frequency,
            energy: None,
            power: None,
            limiter: None,
            tells_limiter: true,
            asked: None,
            fan_set: None,
        }
    }

    pub fn factory(&self) -> &Factory {
        &self.factory
    }

    /// Path of its device below the root.
    pub fn device(&self) -> &Path {
        self.device.path()
    }

    /// What the card is and offers.
    pub fn description(&self) -> &CardDescription {
        &self.factory.description
    }

    /// Takes over how the card was from the factory, from somebody who saw it then.
    pub fn take_factory(&mut self, factory: Factory) {
        self.factory = factory;
    }

    /// A file of the device that holds a path; none where there is none.
    pub fn path_in(&self, name: &str) -> Option<String> {
        self.device.at(name).text().ok()
    }

    /// Whether the files that a reset takes away are there.
    pub fn is_there(&self) -> bool {
        match (&self.factory.table, &self.hwmon) {
            (Some(_), _) => self.device.at(TABLE).is_there(),
            (None, Some(hwmon)) => hwmon.place().is_there(),
            (None, None) => self.device.is_there(),
        }
    }

    /// The settings that the card holds, as its files tell them. Files that a reset has taken away are waited for.
    ///
    /// # Errors
    /// They do not come back, or tell what cannot be.
    pub fn taken(&mut self) -> Result<Settings, CardError> {
        let until = Instant::now() + RESET;
        loop {
            match self.held() {
                Ok(settings) => return Ok(settings),
                Err(why) if Instant::now() > until => {
                    return Err(CardError::Gone { cause: why.to_string() });
                }
                Err(_) => self.look_again(),
            }
        }
    }

    /// Waits a moment for files that a reset has taken away. The monitoring files may have another number afterwards.
    pub fn look_again(&mut self) {
        thread::sleep(LOOK);
        self.hwmon = monitor(&self.card, &self.device);
    }

    /// The settings that the files tell now; why they do not, where one is missing or tells what cannot be.
    fn held(&self) -> Result<Settings, Unread> {
        let card = self.description();
        let mut settings = Settings::default();
        let table = match self.factory.table {
            Some(_) => Some(self.table()?),
            None => None,
        };
        for kind in card.offered() {
            match kind {
                SettingKind::PowerLimit => {
                    settings.power_limit = Some(Watt(self.monitoring()?.power_limit_now()?));
                }
                SettingKind::Fan => settings.fan = Some(self.fan()?),
                // Both are read off the levels or points, below.
                SettingKind::Curve => {}
                kind => settings.set(kind, self.value(kind, table.as_ref())?),
            }
        }
        if let Some(table) = &table {
            self.read_curve(table, &mut settings);
        }
        Ok(settings)
    }

    /// The levels or points of the table: the factory's moved by an offset, or a curve of their own.
    fn read_curve(&self, table: &Table, settings: &mut Settings) {
        let card = self.description();
        let Some(factory) = self.factory_table() else { return };
        let is_level = table.generation() == Generation::Levels;
        let curve = curve_of(table).filter(|curve| Some(*curve) != curve_of(&factory));
        if card.curve.is_some() {
            settings.curve = curve;
        }
        if !is_level || !card.offers(SettingKind::CoreOffset) {
            return;
        }
        settings.core_offset = Some(MhzOffset(0));
        // What was asked for tells a curve apart from an offset, and from a curve together with an offset. Levels that
        // nobody asked for, as at first sight, are an offset where they are moved alike.
        let offset = self.asked.and_then(|asked| asked.core_offset).filter(|by| by.0 != 0);
        let base = self.asked.and_then(|asked| asked.curve);
        if base.is_some() && offset.is_none() {
            return;
        }
        let rows = base.map_or_else(|| factory.core.clone(), |base| rows_of(&base));
        let Some(by) = moved_by(&rows, &table.core, table.range("SCLK")) else { return };
        if offset.is_none() && by == 0.0 {
            return;
        }
        settings.core_offset = Some(MhzOffset(by.round() as i32));
        settings.curve = base;
    }

    /// All that is set on the card but its fan, to be compared with what it is later.
    pub fn state(&self) -> Result<String, Unread> {
        let table = match self.factory.table {
            Some(_) => self.device.at(TABLE).text()?,
            None => String::new(),
        };
        let window = match &self.frequency {
            Some(files) if self.factory.table.is_none() => (files.lowest()?, files.highest()?),
            _ => (0.0, 0.0),
        };
        let limit = match self.description().offers(SettingKind::PowerLimit) {
            true => self.monitoring()?.power_limit_now()?,
            false => 0.0,
        };
        Ok(format!("{table}\n{window:?} {limit}"))
    }

    /// The table that the card had from the factory.
    fn factory_table(&self) -> Option<Table> {
        Table::parse(self.factory.table.as_deref()?).ok()
    }

    fn table(&self) -> Result<Table, Unread> {
        let place = self.device.at(TABLE);
        let text = place.text()?;
        Table::parse(&text).map_err(|why| Unread::Failed(place.told(), why.to_string()))
    }

    /// The value of a setting that the table holds, or the files of the clock window.
    fn value(&self, kind: SettingKind, table: Option<&Table>) -> Result<Option<f64>, Unread> {
        if let (Some(files), None) = (&self.frequency, table) {
            return match kind {
                SettingKind::ClockMinimum => files.lowest().map(Some),
                SettingKind::ClockMaximum => files.highest().map(Some),
                _ => Ok(None),
            };
        }
        let Some(table) = table else { return Ok(None) };
        Ok(match kind {
            SettingKind::CoreOffset => table.core_offset.or(Some(0.0)),
            SettingKind::VoltageOffset => table.voltage_offset,
            SettingKind::ClockMinimum => table.core_at(0),
            SettingKind::ClockMaximum => table.core_at(1),
            SettingKind::MemoryOffset => {
                let stock = self.description().memory_clock.value();
                table.highest_memory().map(|highest| highest - stock)
            }
            _ => None,
        })
    }

    fn monitoring(&self) -> Result<&Hwmon, Unread> {
        self.hwmon.as_ref().ok_or_else(|| Unread::Missing(self.device.at("hwmon").told()))
    }

    /// How the fan is driven.
    fn fan(&self) -> Result<Fan, Unread> {
        if let Some(curve) = self.fan_curve() {
            return Ok(curve.fan());
        }
        let hwmon = self.monitoring()?;
        match hwmon.is_fan_by_hand()? {
            true => Ok(Fan::Fixed(self.fan_by_hand(Percent(hwmon.fan_speed()?.round())))),
            false => Ok(Fan::Automatic),
        }
    }

    /// The curve along which the card drives its fan, where it has one.
    fn fan_curve(&self) -> Option<FanCurveFile> {
        FanCurveFile::parse(&self.device.at(FAN_CURVE).text().ok()?)
    }

    /// Writes to the card's own fan curve. A fan that is set by hand does not stop by itself either, where the card lets that be
    /// said.
    fn write_fan_curve(&self, edits: &[String], stops: &str) -> Result<(), Refusal> {
        let stop = self.device.at(ZERO_SPEED);
        if stop.is_there() {
            write(&stop, stops)?;
            write(&stop, "c")?;
        }
        edits.iter().try_for_each(|edit| write(&self.device.at(FAN_CURVE), edit))
    }

    /// The speed at which a fan stands that turns at `now`: the one that it was set to, as long as it may be on its way there.
    fn fan_by_hand(&self, now: Percent) -> Percent {
        let Some((since, speed)) = self.fan_set else { return now };
        let is_near = (now - speed).value().abs() <= FAN_NEAR;
        if is_near || since.elapsed() < FAN_TURNS { speed } else { now }
    }

    /// What the sensors read now.
    pub fn sample(&mut self) -> Sample {
        let mut sample = Sample::default();
        if let Some(hwmon) = &self.hwmon {
            hwmon.read(&mut sample);
        }
        if let (Some(files), None) = (&self.frequency, sample.core_clock) {
            sample.set(Channel::CoreClock, files.actual().ok());
        }
        sample.set(Channel::Load, self.device.number_in("gpu_busy_percent").ok());
        self.limiter = self.frequency.as_ref().and_then(Frequency::limiter);
        if self.tells_limiter || self.needs_metrics(&sample) {
            let read = self.device.at("gpu_metrics").bytes(metrics::LARGEST).ok();
            let metrics = read.and_then(|bytes| Metrics::parse(&bytes).ok());
            // A card whose metrics do not tell what throttles is not asked again for that alone.
            self.tells_limiter = metrics.is_some_and(|metrics| metrics.throttle.is_some());
            if let Some(metrics) = metrics {
                metrics.fill(&mut sample);
                self.limiter = self.limiter.or(metrics.limiter());
            }
        }
        if sample.board_power.is_none() {
            sample.board_power = self.power_by_energy();
        }
        sample.without_nonsense()
    }

    /// What throttled as the sensors were read last, as far as the card tells that itself.
    pub fn limiter(&self) -> Option<Limiter> {
        self.limiter
    }

    /// Whether the card measures something that the other files have not told.
    fn needs_metrics(&self, sample: &Sample) -> bool {
        let told_elsewhere = |channel: &Channel| *channel == Channel::BoardPower;
        let missing = |channel: &&Channel| sample.get(**channel).is_none();
        let sensors = self.description().sensors.iter();
        sensors.filter(missing).any(|channel| !told_elsewhere(channel) || self.energy.is_none())
    }

    /// Power by the energy used since the last look. The counter of a card moves by steps: between two of them the power
    /// is as it was.
    fn power_by_energy(&mut self) -> Option<Watt> {
        let now = (Instant::now(), self.hwmon.as_ref()?.energy().ok()?);
        let Some((at, before)) = self.energy else {
            self.energy = Some(now);
            return None;
        };
        let used = now.1 - before;
        if used != 0.0 {
            self.energy = Some(now);
            // A counter that began anew says nothing of this span.
            let seconds = (now.0 - at).as_secs_f64();
            self.power = (used > 0.0).then(|| Watt(used / seconds)).or(self.power);
        }
        self.power
    }

    /// Asks the card to hold settings; what they leave open goes to stock. What the kernel refused comes back in its words:
    /// the rest is asked for all the same.
    ///
    /// # Errors
    /// What the card holds cannot be read.
    pub fn apply(&mut self, settings: &Settings) -> Result<Vec<Refusal>, CardError> {
        let card = &self.factory.description;
        let stock = Settings::stock(card);
        let mut wanted = *settings;
        for kind in card.offered().filter(|kind| !settings.says(*kind)) {
            wanted.copy(kind, &stock);
        }
        let held = self.taken()?;
        self.asked = Some(wanted);
        let mut refused = Refusals::default();
        if held.power_limit != wanted.power_limit {
            self.write_power_limit(&wanted, &mut refused);
        }
        match self.factory.table {
            Some(_) => self.write_table(&held, &wanted, &mut refused),
            None => self.write_window(&held, &wanted, &mut refused),
        }
        self.write_fan(&held, &wanted, &mut refused);
        Ok(refused.0)
    }

    /// Turns the fan at a fixed speed and leaves all else as it is.
    ///
    /// # Errors
    /// The kernel refused it.
    pub fn turn_fan(&mut self, speed: Percent) -> Result<(), Refusal> {
        if let Some(curve) = self.fan_curve() {
            return self.write_fan_curve(&curve.flat(speed), "0");
        }
        let Some(hwmon) = &self.hwmon else { return Ok(()) };
        hwmon.write_fan(speed)?;
        self.fan_set = Some((Instant::now(), speed));
        Ok(())
    }

    fn write_power_limit(&self, wanted: &Settings, refused: &mut Refusals) {
        let (Some(limit), Some(hwmon)) = (wanted.power_limit, &self.hwmon) else { return };
        refused.note(hwmon.write_power_limit(limit));
    }

    fn write_window(&self, held: &Settings, wanted: &Settings, refused: &mut Refusals) {
        let Some(files) = &self.frequency else { return };
        for (index, mhz) in window_edits(held, wanted) {
            let place = if index == 0 { files.lowest_place() } else { files.highest_place() };
            refused.note(write(&place, &format!("{mhz:.0}")));
        }
    }

    fn write_table(&self, held: &Settings, wanted: &Settings, refused: &mut Refusals) {
        let stock = Settings::stock(self.description());
        let is_factory = IN_TABLE.iter().all(|kind| is_same(*kind, &stock, wanted));
        let table = self.device.at(TABLE);
        // What is within the rounding of the card may read as stock, and is not what it had from the factory.
        let is_beside = is_factory && table.text().ok() != self.factory.table;
        if is_beside || IN_TABLE.iter().any(|kind| !is_same(*kind, held, wanted)) {
            self.set_level(MANUAL, refused);
            if is_factory {
                self.bring_factory_back(&table, refused);
            } else {
                self.edit_table(&table, held, wanted, refused);
            }
        }
        if let Some(own) = self.factory.level.as_deref().filter(|_| is_factory) {
            self.set_level(own, refused);
        }
    }

    /// Sets by whom clocks are set, where the card has that and it is not so already.
    fn set_level(&self, wanted: &str, refused: &mut Refusals) {
        let level = self.device.at(LEVEL);
        if self.factory.level.is_some() && level.text().ok().as_deref() != Some(wanted) {
            refused.note(write(&level, wanted));
        }
    }

    fn edit_table(
        &self,
        table: &Place,
        held: &Settings,
        wanted: &Settings,
        refused: &mut Refusals,
    ) {
        let (Ok(now), Some(factory)) = (self.table(), self.factory_table()) else { return };
        let edits = edits((&now, &factory), self.description(), held, wanted);
        let written = edits.iter().try_for_each(|edit| write(table, edit));
        let committed = written.and_then(|()| write(table, "c"));
        if committed.is_err() {
            // A part of what was asked for is nothing that anybody wants to hold, now or by a later commit.
            self.bring_factory_back(table, &mut Refusals::default());
        }
        refused.note(committed);
    }

    /// Has the table hold the factory's values. Some generations take them into force with the commit only.
    fn bring_factory_back(&self, table: &Place, refused: &mut Refusals) {
        refused.note(write(table, "r"));
        refused.note(write(table, "c"));
    }

    fn write_fan(&mut self, held: &Settings, wanted: &Settings, refused: &mut Refusals) {
        let (Some(hwmon), Some(fan)) = (&self.hwmon, wanted.fan) else { return };
        if held.fan == wanted.fan {
            return;
        }
        // A curve and a target are followed by whoever holds the card.
        let written = match fan {
            Fan::Fixed(speed) => self.turn_fan(speed),
            Fan::Automatic | Fan::Curve(_) | Fan::Target(_) if self.fan_curve().is_some() => {
                self.write_fan_curve(&["r".to_owned(), "c".to_owned()], "r")
            }
            Fan::Automatic | Fan::Curve(_) | Fan::Target(_) => {
                hwmon.leave_fan(self.factory.fan_mode.as_deref())
            }
        };
        refused.note(written);
    }
}

/// What the kernel refused so far.
#[derive(Debug, Default)]
struct Refusals(Vec<Refusal>);

impl Refusals {
    fn note(&mut self, written: Result<(), Refusal>) {
        self.0.extend(written.err());
    }
}

fn is_same(kind: SettingKind, one: &Settings, other: &Settings) -> bool {
    match kind {
        SettingKind::Curve => one.curve == other.curve,
        kind => one.get(kind) == other.get(kind),
    }
}

/// What has to be written to a table so that it holds what is wanted, in an order in which no value stands in the way of
/// another.
fn edits(
    (table, factory): (&Table, &Table),
    card: &CardDescription,
    held: &Settings,
    wanted: &Settings,
) -> Vec<String> {
    let changed = |kind: SettingKind| wanted.get(kind).filter(|_| !is_same(kind, held, wanted));
    let mut edits = Vec::new();
    let is_moved = [SettingKind::CoreOffset, SettingKind::Curve]
        .into_iter()
        .any(|kind| !is_same(kind, held, wanted));
    match table.generation() {
        Generation::Levels | Generation::Curve if is_moved => {
            edits.extend(curve_edits(table, factory, wanted));
        }
        Generation::Offset => {
            let offset = changed(SettingKind::CoreOffset);
            edits.extend(offset.map(|offset| format!("s {offset:.0}")));
        }
        _ => {}
    }
    let window = window_edits(held, wanted);
    edits.extend(window.iter().map(|(index, mhz)| format!("s {index} {mhz:.0}")));
    if let Some(MhzOffset(offset)) =
        wanted.memory_offset.filter(|_| !is_same(SettingKind::MemoryOffset, held, wanted))
        && let Some(highest) = table.memory.iter().max_by(|a, b| a.mhz.total_cmp(&b.mhz))
    {
        let mhz = card.memory_clock.value() + f64::from(offset);
        edits.push(with_voltage(&format!("m {} {mhz:.0}", highest.index), highest.millivolt));
    }
    if let Some(offset) = changed(SettingKind::VoltageOffset) {
        edits.push(format!("vo {offset:.0}"));
    }
    edits
}

/// Which ends of the clock window are to be others, MHz: the lowest is 0 and the highest 1, in an order in which the two do
/// not cross in between.
fn window_edits(held: &Settings, wanted: &Settings) -> Vec<(u8, f64)> {
    let ends = [(0, SettingKind::ClockMinimum), (1, SettingKind::ClockMaximum)];
    let changed = |(index, kind): (u8, SettingKind)| {
        let mhz = wanted.get(kind).filter(|_| !is_same(kind, held, wanted))?;
        Some((index, mhz))
    };
    let mut edits: Vec<(u8, f64)> = ends.into_iter().filter_map(changed).collect();
    if wanted.clock_maximum > held.clock_maximum {
        edits.reverse();
    }
    edits
}

/// The levels or points of a table that are to be others.
fn curve_edits(table: &Table, factory: &Table, wanted: &Settings) -> Vec<String> {
    let (word, rows, own) = match table.generation() {
        Generation::Levels => ("s", &table.core, &factory.core),
        _ => ("vc", &table.curve, &factory.curve),
    };
    let mut target = wanted.curve.map_or_else(|| own.clone(), |curve| rows_of(&curve));
    if table.generation() == Generation::Levels {
        let by = wanted.core_offset.map_or(0.0, |offset| f64::from(offset.0));
        target = moved(&target, by, table.range("SCLK"));
    }
    steps_to(rows, &target)
        .into_iter()
        .map(|row| with_voltage(&format!("{word} {} {:.0}", row.index, row.mhz), row.millivolt))
        .collect()
}

/// The levels to be written one after the other, so that no level is ever above the next one on the way: what rises is
/// written from the top down, and what falls from the bottom up.
fn steps_to(from: &[Row], to: &[Row]) -> Vec<Row> {
    let mut now = from.to_vec();
    let mut steps = Vec::new();
    let upwards: Vec<usize> = (0..from.len().min(to.len())).collect();
    let downwards: Vec<usize> = upwards.iter().rev().copied().collect();
    let mut step = |order: &[usize], next: fn(Row, Row) -> Row| {
        for at in order {
            let row = next(now[*at], to[*at]);
            if row != now[*at] {
                steps.push(row);
                now[*at] = row;
            }
        }
    };
    step(&downwards, |now, to| {
        let higher = now.millivolt.zip(to.millivolt).map(|(now, to)| now.max(to));
        Row { millivolt: higher.or(now.millivolt), ..now }
    });
    step(&downwards, |now, to| Row { mhz: now.mhz.max(to.mhz), ..now });
    step(&upwards, |now, to| Row { mhz: to.mhz, ..now });
    step(&upwards, |now, to| Row { millivolt: to.millivolt, ..now });
    steps
}

/// The levels of a curve.
fn rows_of(curve: &VfCurve) -> Vec<Row> {
    let row = |(index, point): (usize, &VfPoint)| Row {
        index: index as u8,
        mhz: f64::from(point.mhz),
        millivolt: Some(f64::from(point.millivolt)),
    };
    curve.points().iter().enumerate().map(row).collect()
}

/// Levels moved by an offset, as far as the range goes. The lowest one, at which the card idles, stays.
fn moved(rows: &[Row], by: f64, range: Option<Range>) -> Vec<Row> {
    let (low, high) = range.unwrap_or((0.0, f64::MAX));
    let lowest = rows.first().map(|row| row.index);
    let moved = |row: &Row| match Some(row.index) == lowest {
        true => *row,
        false => Row { mhz: (row.mhz + by).max(low).min(high), ..*row },
    };
    rows.iter().map(moved).collect()
}

/// By how much all levels are moved, but for rounding; none where they are not moved alike.
fn moved_by(from: &[Row], to: &[Row], range: Option<Range>) -> Option<f64> {
    let by = to.last()?.mhz - from.last()?.mhz;
    let near = SettingKind::CoreOffset.assumed_rounding();
    let is_alike = |(expected, row): (&Row, &Row)| {
        (expected.mhz - row.mhz).abs() < near && expected.millivolt == row.millivolt
    };
    let expected = moved(from, by, range);
    (from.len() == to.len() && expected.iter().zip(to).all(is_alike)).then_some(by)
}

fn with_voltage(edit: &str, millivolt: Option<f64>) -> String {
    millivolt.map_or_else(|| edit.to_owned(), |millivolt| format!("{edit} {millivolt:.0}"))
}

pub(super) fn monitor(card: &Place, device: &Place) -> Option<Hwmon> {
    Hwmon::of(device).or_else(|_| Hwmon::of(card)).ok()
}

#[cfg(test)]
mod tests {
    use super::super::kernel_cards;
    use super::super::table::tests::{CURVE, LEVELS, OFFSET, WINDOW};
    use super::super::tests::Tree;
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Mhz, MillivoltOffset, VfCurve};

    /// The card of a tree with this table.
    fn with_table(text: &str) -> (Tree, CardFiles) {
        let tree = Tree::new();
        tree.put(TABLE, text);
        tree.put(LEVEL, "auto\n");
        let card = kernel_cards(tree.root()).remove(0);
        let files = CardFiles::at_factory(tree.root(), card);
        (tree, files)
    }

    fn curve(points: &[(u16, u16)]) -> Option<VfCurve> {
        Some(VfCurve::new(points).unwrap())
    }

    #[rstest]
    #[case::levels(
        LEVELS,
        Settings { curve: curve(&[(800, 852), (875, 991), (1_050, 1_450)]), ..Settings::default() },
        &["s 2 1450 1050", "s 1 991 875"]
    )]
    #[case::levels_by_an_offset(
        LEVELS,
        Settings { core_offset: Some(MhzOffset(60)), ..Settings::default() },
        &["s 2 1460 1050", "s 1 1051 900"]
    )]
    #[case::memory_of_levels(
        LEVELS,
        Settings { memory_offset: Some(MhzOffset(50)), ..Settings::default() },
        &["m 1 850 950"]
    )]
    #[case::points(
        CURVE,
        Settings { curve: curve(&[(720, 800), (830, 1_450), (1_100, 2_000)]), ..Settings::default() },
        &["vc 1 1450 830"]
    )]
    #[case::a_window_upwards(
        WINDOW,
        Settings { clock_minimum: Some(Mhz(2_450.0)), clock_maximum: Some(Mhz(2_500.0)), ..Settings::default() },
        &["s 1 2500", "s 0 2450"]
    )]
    #[case::a_window_downwards(
        WINDOW,
        Settings { clock_minimum: Some(Mhz(510.0)), clock_maximum: Some(Mhz(2_000.0)), ..Settings::default() },
        &["s 0 510", "s 1 2000"]
    )]
    #[case::offsets(
        OFFSET,
        Settings {
            core_offset: Some(MhzOffset(45)),
            memory_offset: Some(MhzOffset(-50)),
            voltage_offset: Some(MillivoltOffset(-60)),
            ..Settings::default()
        },
        &["s 45", "m 1 1200", "vo -60"]
    )]
    fn a_table_is_edited_where_it_is_to_be_another(
        #[case] text: &str,
        #[case] wanted: Settings,
        #[case] expected: &[&str],
    ) {
        let (_tree, mut files) = with_table(text);
        let held = files.taken().unwrap();
        let mut whole = held;
        for kind in IN_TABLE.into_iter().filter(|kind| wanted.says(*kind)) {
            whole.copy(kind, &wanted);
        }
        let table = files.table().unwrap();
        assert_eq!(edits((&table, &table), files.description(), &held, &whole), expected);
        assert!(edits((&table, &table), files.description(), &held, &held).is_empty());
    }

    #[test]
    fn what_is_held_already_is_not_written() {
        let (tree, mut files) = with_table(OFFSET);
        let held = files.taken().unwrap();
        assert_eq!(files.apply(&held), Ok(Vec::new()));
        assert_eq!(tree.read(LEVEL), "auto\n", "nothing was touched");
        assert_eq!(tree.read(TABLE), OFFSET);
    }

    #[test]
    fn a_table_in_a_plain_directory_is_not_taken_and_read_back_as_it_is() {
        let (_tree, mut files) = with_table(OFFSET);
        let stock = Settings::stock(files.description());
        let asked = Settings { core_offset: Some(MhzOffset(45)), ..stock };
        // A plain file takes whatever is written, and holds no table afterwards.
        files.apply(&asked).unwrap();
        assert!(files.taken().is_err(), "and that is told");
    }
}
