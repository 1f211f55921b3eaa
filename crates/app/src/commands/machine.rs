//! `yard-step machine`: what the user says of room, power supply and alarms.

use std::fmt::Write as _;
use std::path::PathBuf;

use clap::{ArgGroup, Args};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use yard_step_card::{CardAddress, connect};
use yard_step_core::{
    Alarm, AlarmAct, AlarmOn, CardChange, CardConnectors, CardDescription, CardMemory, Case,
    Decibel, LONGEST_CHANGE, Machine, MemoryKind, Room, Watt, checked_name, counted,
};

use crate::failure::Failure;
use crate::opening::open_ledger;
use crate::options::{DataDirOption, parse_address};
use crate::output::{json, note, print};

#[derive(Debug, Args)]
#[command(group = ArgGroup::new("about the card").args(["changed", "memory", "connectors"]).multiple(true))]
pub(crate) struct MachineOptions {
    /// Temperature of the room, °C
    #[arg(long, value_name = "C", allow_negative_numbers = true)]
    pub ambient: Option<f64>,
    /// Whether the case is open or closed
    #[arg(long, value_name = "CASE", value_parser = parse_case)]
    pub case: Option<Case>,
    /// Rated power of the supply, W
    #[arg(long, value_name = "W", allow_negative_numbers = true)]
    pub supply: Option<f64>,
    /// Most that the rest of the machine draws, W
    #[arg(long, value_name = "W", allow_negative_numbers = true)]
    pub rest: Option<f64>,
    /// Noise of the card at full fan, as you measure it where you sit, dB(A)
    #[arg(long, value_name = "DB", allow_negative_numbers = true)]
    pub noise: Option<f64>,
    /// An alarm such as hot-spot=95:stop; instead of a threshold, "off" takes it away
    #[arg(long, value_name = "WHAT=ABOVE:ACT", value_parser = parse_alarm)]
    pub alarm: Vec<AlarmChange>,
    /// What was changed around a card, such as "new paste": runs before and after it are not compared
    #[arg(long, value_name = "WHAT", requires = "card")]
    pub changed: Option<String>,
    /// The day of that change, such as 2026-11-20 [default: now]
    #[arg(long, value_name = "DATE", requires = "changed", value_parser = parse_day)]
    pub on: Option<i64>,
    /// Kind of memory of a card that does not state it: GDDR5, GDDR6 or HBM; "unknown" takes it back
    #[arg(long, value_name = "KIND", requires = "card", value_parser = parse_memory)]
    pub memory: Option<SaidMemory>,
    /// Width of the bus of that memory, bits
    #[arg(long, value_name = "BITS", requires = "memory")]
    pub bus_bits: Option<u32>,
    /// What the card's power connectors and slot are rated for together, W; it bounds how far its power limit may be raised; 0
    /// takes it back
    #[arg(long, value_name = "W", requires = "card", allow_negative_numbers = true)]
    pub connectors: Option<f64>,
    /// The card that --changed, --memory or --connectors is about, such as standin:tarn-310#7
    #[arg(long, value_name = "CARD", requires = "about the card", value_parser = parse_address)]
    pub card: Option<CardAddress>,
    /// Where the kernel shows its devices, in place of /sys
    #[arg(long, value_name = "DIR", requires = "card")]
    pub sysfs: Option<PathBuf>,
    /// Take a change back, by its number in the list
    #[arg(long, value_name = "N")]
    pub forget_change: Option<usize>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

/// Reads a day: its beginning where this machine is, seconds since 1970. A day to come is none.
fn parse_day(text: &str) -> Result<i64, String> {
    let wrong = || format!("\"{text}\" is not a day: write it as 2026-11-20");
    let day: Date = text.parse().map_err(|_| wrong())?;
    let begins = day.to_zoned(TimeZone::system()).map_err(|_| wrong())?.timestamp();
    if begins > Timestamp::now() {
        return Err(format!("{text} is still to come"));
    }
    Ok(begins.as_second())
}

/// An alarm to be set, or to be taken away.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct AlarmChange {
    pub on: AlarmOn,
    pub to: Option<(f64, AlarmAct)>,
}

/// What is said of a card's memory: its kind, or that it is not known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct SaidMemory(Option<MemoryKind>);

fn parse_memory(text: &str) -> Result<SaidMemory, String> {
    if text == "unknown" {
        return Ok(SaidMemory(None));
    }
    let kind = text.parse().map_err(|_| {
        let known = MemoryKind::ALL.map(MemoryKind::label).join(", ");
        format!("no data rate is known for memory \"{text}\"; choose from {known}, unknown")
    })?;
    Ok(SaidMemory(Some(kind)))
}

fn parse_case(text: &str) -> Result<Case, String> {
    [Case::Open, Case::Closed]
        .into_iter()
        .find(|case| case.label() == text)
        .ok_or_else(|| "it is either open or closed".into())
}

fn parse_alarm(text: &str) -> Result<AlarmChange, String> {
    let (what, then) =
        text.split_once('=').ok_or("an alarm is WHAT=ABOVE:ACT, such as hot-spot=95:stop")?;
    let name = |on: AlarmOn| on.label().replace(' ', "-");
    let on = AlarmOn::ALL.into_iter().find(|on| name(*on) == what).ok_or_else(|| {
        let all: Vec<String> = AlarmOn::ALL.into_iter().map(name).collect();
        format!("there is no alarm on \"{what}\"; there are: {}", all.join(", "))
    })?;
    if then == "off" {
        return Ok(AlarmChange { on, to: None });
    }
    let (above, act) = then.split_once(':').unwrap_or((then, "warn"));
    let above = above.parse().map_err(|_| format!("\"{above}\" is not a number"))?;
    let act_name = |act: AlarmAct| act.label().replace(' ', "-");
    let act = AlarmAct::ALL.into_iter().find(|known| act_name(*known) == act).ok_or_else(|| {
        let all: Vec<String> = AlarmAct::ALL.into_iter().map(act_name).collect();
        format!("an alarm has no action \"{act}\"; there are: {}", all.join(", "))
    })?;
    Ok(AlarmChange { on, to: Some((above, act)) })
}

pub(crate) fn machine(data_dir: &DataDirOption, options: &MachineOptions) -> Result<(), Failure> {
    let dir = data_dir.resolve()?;
    let changes = options.changes();
    // What is only looked at needs no lock; what is changed must not be changed under a climb.
    let lock = changes.then(|| dir.enter()).transpose()?;
    let (ledger, told) = open_ledger(&dir)?;
    if let Some(line) = told {
        note(&line);
    }
    let mut machine = ledger.machine()?;
    if changes {
        options.change(&mut machine)?;
        machine.check().map_err(Failure::usage)?;
        ledger.set_machine(&machine)?;
    }
    drop(lock);
    if options.json { print(&json(&machine)?) } else { print(&in_words(&machine)) }
}

impl MachineOptions {
    fn changes(&self) -> bool {
        self.ambient.is_some()
            || self.case.is_some()
            || self.supply.is_some()
            || self.rest.is_some()
            || self.noise.is_some()
            || !self.alarm.is_empty()
            || self.changed.is_some()
            || self.memory.is_some()
            || self.connectors.is_some()
            || self.forget_change.is_some()
    }

    fn change(&self, machine: &mut Machine) -> Result<(), Failure> {
        if self.ambient.is_some() || self.case.is_some() {
            let mut room = machine.room.unwrap_or_default();
            room.ambient.0 = self.ambient.unwrap_or(room.ambient.0);
            room.case = self.case.unwrap_or(room.case);
            machine.room = Some(room);
        }
        machine.supply = self.supply.map(Watt).or(machine.supply);
        machine.rest = self.rest.map(Watt).or(machine.rest);
        machine.full_fan = self.noise.map(Decibel).or(machine.full_fan);
        for change in &self.alarm {
            machine.alarms.retain(|alarm| alarm.on != change.on);
            let set = change.to.map(|(above, act)| Alarm { on: change.on, above, act });
            machine.alarms.extend(set);
        }
        if let Some(number) = self.forget_change {
            let count = machine.changes.len();
            if !(1..=count).contains(&number) {
                let known = counted(count, "change");
                return Err(Failure::usage(format!(
                    "--forget-change {number}: there is no such change; {known} noted, see yard-step machine"
                )));
            }
            machine.changes.remove(number - 1);
        }
        if let (Some(what), Some(card)) = (&self.changed, &self.card) {
            let what = checked_name(what, LONGEST_CHANGE)
                .map_err(|why| Failure::usage(format!("--changed: {why}")))?;
            let card = self.described(card)?.key();
            let at = self.on.unwrap_or_else(|| Timestamp::now().as_second());
            machine.changes.push(CardChange { card, what, at });
        }
        if let (Some(rating), Some(card)) = (self.connectors, &self.card) {
            let card = self.described(card)?.key();
            machine.connectors.retain(|said| said.card != card);
            let said = CardConnectors { card, rating: Watt(rating) };
            machine.connectors.extend((rating != 0.0).then_some(said));
        }
        if let (Some(SaidMemory(kind)), Some(card)) = (self.memory, &self.card) {
            let card = self.described(card)?;
            if card.states_memory() {
                return Err(Failure::usage(format!(
                    "--memory: {} states its memory itself: {}",
                    card.id, card.memory_type
                )));
            }
            if kind.is_none() && self.bus_bits.is_some() {
                return Err(Failure::usage("--bus-bits: name the kind of the memory as well"));
            }
            let (card, bus_bits) = (card.key(), self.bus_bits);
            machine.memories.retain(|memory| memory.card != card);
            machine.memories.extend(kind.map(|kind| CardMemory { card, kind, bus_bits }));
        }
        Ok(())
    }

    /// The card that is named, as it describes itself.
    fn described(&self, card: &CardAddress) -> Result<CardDescription, Failure> {
        let found = card.found_at(self.sysfs.as_deref(), None).looked_up();
        Ok(connect(&found.map_err(Failure::usage)?)?.description().clone())
    }
}

fn in_words(machine: &Machine) -> String {
    let unsaid = || "not said".to_owned();
    let watts = |watt: Option<Watt>| watt.map_or_else(unsaid, |watt| watt.to_string());
    let room = machine.room.map_or_else(unsaid, |room: Room| room.to_string());
    let mut text = format!(
        "room                 {room}\npower supply         {}\nrest of the machine  {}\nnoise at full fan    {}\n",
        watts(machine.supply),
        watts(machine.rest),
        machine.full_fan.map_or_else(unsaid, |noise| noise.to_string())
    );
    for Alarm { on, above, act } in &machine.alarms {
        // Writing to a string cannot fail.
        let _ = writeln!(
            text,
            "alarm                {} above {above:.0} {}: {}",
            on.label(),
            on.unit(),
            act.label()
        );
    }
    for CardConnectors { card, rating } in &machine.connectors {
        let _ = writeln!(text, "connectors           {card}: {rating}");
    }
    for CardMemory { card, kind, bus_bits } in &machine.memories {
        let bus = bus_bits.map_or_else(String::new, |bits| format!(", {bits} bits wide"));
        let _ = writeln!(text, "memory               {card}: {}{bus}", kind.label());
    }
    for (index, CardChange { card, what, at }) in machine.changes.iter().enumerate() {
        let day = Timestamp::from_second(*at).map_or_else(
            |_| "some day".to_owned(),
            |at| at.to_zoned(TimeZone::system()).date().to_string(),
        );
        let _ = writeln!(text, "change {:<13} {day}, {card}: {what}", index + 1);
    }
    text
}
