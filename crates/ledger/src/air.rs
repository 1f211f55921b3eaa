//! Fans: what the user said of a card's, and what its runs tell of heat.

use rusqlite::{Row, params};
use serde_json::from_str;
use yard_step_core::{AirNotes, CardDescription, HeatRun, Room, Seen, Settings};

use crate::browse::REMOVED;
use crate::error::{Doing, LedgerError};
use crate::facts::Fact;
use crate::handle::Ledger;

/// Newest runs by which a cooler is judged: dust, paste and fans change over the years.
const MOST_RUNS: u32 = 400;

/// The fact that holds what was said of a card's fan.
fn fact(name: &str) -> Fact<'_> {
    Fact {
        name,
        thing: "what was said of the fan",
        reading: "read what was said of the fan",
        writing: "write down what is said of the fan",
    }
}

fn name_for(card: &CardDescription) -> String {
    format!("air of {}", card.key())
}

impl Ledger {
    /// What the user said of a card's fan; nothing where nothing was said.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn air_notes(&self, card: &CardDescription) -> Result<AirNotes, LedgerError> {
        let name = name_for(card);
        self.ask(move |connection| fact(&name).read(connection))
    }

    /// Writes down what the user says of a card's fan.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn set_air_notes(
        &self,
        card: &CardDescription,
        notes: &AirNotes,
    ) -> Result<(), LedgerError> {
        let (name, notes) = (name_for(card), notes.clone());
        self.ask(move |connection| fact(&name).write(connection, &notes))
    }

    /// What the newest runs on a card tell of heat, in the order in which they were begun. Runs that were too short to
    /// tell are left out.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn heat_runs(&self, card: &CardDescription) -> Result<Vec<HeatRun>, LedgerError> {
        let key = card.key();
        self.ask(move |connection| {
            let doing = "read what runs tell of heat";
            let mut select = connection
                .prepare(&format!(
                    "SELECT scene, coalesce(taken, asked), seen, room
                     FROM trial WHERE seen IS NOT NULL AND json_extract(seen, '$.plateau') IS NOT NULL
                         AND NOT {REMOVED} AND climb IN
                         (SELECT climb.id FROM climb JOIN card ON card.id = climb.card
                          WHERE card.key = ?)
                     ORDER BY id DESC LIMIT {MOST_RUNS}"
                ))
                .doing(doing)?;
            let mut rows = select.query(params![key]).doing(doing)?;
            let mut runs = Vec::new();
            while let Some(row) = rows.next().doing(doing)? {
                runs.extend(read(row).doing(doing)?);
            }
            runs.reverse();
            Ok(runs)
        })
    }
}

/// What a run tells; none where it cannot be understood, or a reading is missing.
fn read(row: &Row<'_>) -> rusqlite::Result<Option<HeatRun>> {
    let (load, settings, seen): (String, String, String) = (row.get(0)?, row.get(1)?, row.get(2)?);
    let room: Option<String> = row.get(3)?;
    let (Ok(settings), Ok(seen)) = (from_str::<Settings>(&settings), from_str::<Seen>(&seen))
    else {
        return Ok(None);
    };
    let room = room.and_then(|text| from_str::<Room>(&text).ok());
    Ok(HeatRun::of(load, &settings, &seen, room))
}
