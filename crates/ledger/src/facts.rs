//! Facts that outlive every climb: what the user said of the machine.

use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{from_str, to_string};
use yard_step_core::Machine;

use crate::codec::content;
use crate::error::{Doing, LedgerError};
use crate::handle::Ledger;

const MACHINE: Fact<'_> = Fact {
    name: "machine",
    thing: "the facts of the machine",
    reading: "read the facts of the machine",
    writing: "write down the facts of the machine",
};

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
        self.ask(move |connection| MACHINE.write(connection, &machine))
    }
}

/// What the user said of the machine.
pub(crate) fn read_machine(connection: &Connection) -> Result<Machine, LedgerError> {
    MACHINE.read(connection)
}

/// A fact, and what errors call it.
pub(crate) struct Fact<'a> {
    pub name: &'a str,
    pub thing: &'static str,
    pub reading: &'static str,
    pub writing: &'static str,
}

impl Fact<'_> {
    /// What it is; its default where it was never written down.
    pub(crate) fn read<T: DeserializeOwned + Default>(
        &self,
        connection: &Connection,
    ) -> Result<T, LedgerError> {
        let text: Option<String> = connection
            .query_row("SELECT value FROM fact WHERE name = ?", params![self.name], |row| {
                row.get(0)
            })
            .optional()
            .doing(self.reading)?;
        let read = |text: String| from_str(&text).map_err(|error| content(self.thing, &error));
        text.map_or_else(|| Ok(T::default()), read)
    }

    /// Writes it down, in place of what it was.
    pub(crate) fn write(
        &self,
        connection: &Connection,
        value: &impl Serialize,
    ) -> Result<(), LedgerError> {
        let text = to_string(value).map_err(|error| content(self.thing, &error))?;
        connection
            .execute(
                "INSERT INTO fact (name, value) VALUES (?, ?)
                 ON CONFLICT (name) DO UPDATE SET value = excluded.value",
                params![self.name, text],
            )
            .doing(self.writing)
            .map(|_| ())
    }
}
