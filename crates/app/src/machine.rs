//! `yard-step machine`: what the user says of room, power supply and alarms.

use std::fmt::Write as _;

use yard_step_core::{Alarm, Decibel, Machine, Room, Watt};

use crate::cli::{DataDirOption, MachineOptions};
use crate::failure::Failure;
use crate::open::open_ledger;
use crate::output::{note, print};

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
        options.change(&mut machine);
        machine.check().map_err(Failure::usage)?;
        ledger.set_machine(&machine)?;
    }
    drop(lock);
    if options.json {
        print(&(serde_json::to_string_pretty(&machine)? + "\n"))
    } else {
        print(&in_words(&machine))
    }
}

impl MachineOptions {
    fn changes(&self) -> bool {
        self.ambient.is_some()
            || self.case.is_some()
            || self.supply.is_some()
            || self.rest.is_some()
            || self.noise.is_some()
            || !self.alarm.is_empty()
    }

    fn change(&self, machine: &mut Machine) {
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
    text
}
