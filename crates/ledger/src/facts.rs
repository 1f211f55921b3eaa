//! Facts that outlive every climb: what the user said of the machine.

use rusqlite::{Connection, OptionalExtension, params};
use serde_json::{from_str, to_string};
use yard_step_core::Machine;

use crate::error::{Doing, LedgerError};
use crate::handle::Ledger;

const MACHINE: &str = "machine";

impl Ledger {
    /// What the user said of the machine; nothing where nothing was said.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn machine(&self) -> Result<Machine, LedgerError> {
        self.ask(|connection| read_machine(connection))
    }

    /// Writes down what the user says of the machine.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn set_machine(&self, machine: &Machine) -> Result<(), LedgerError> {
        let machine = machine.clone();
        self.ask(move |connection| {
            connection
                .execute(
                    "INSERT INTO fact (name, value) VALUES (?, ?)
                     ON CONFLICT (name) DO UPDATE SET value = excluded.value",
                    params![MACHINE, to_string(&machine).map_err(garbled)?],
                )
                .doing("write down the facts of the machine")
                .map(|_| ())
        })
    }
}

/// What the user said of the machine.
pub(crate) fn read_machine(connection: &Connection) -> Result<Machine, LedgerError> {
    let text: Option<String> = connection
        .query_row("SELECT value FROM fact WHERE name = ?", params![MACHINE], |row| row.get(0))
        .optional()
        .doing("read the facts of the machine")?;
    text.map_or_else(|| Ok(Machine::default()), |text| from_str(&text).map_err(garbled))
}

fn garbled(error: serde_json::Error) -> LedgerError {
    LedgerError::Content { thing: "the facts of the machine".into(), cause: error.to_string() }
}
