//! What was run on a card, as far as work and its cost are weighed.

use rusqlite::{Row, params};
use serde_json::from_str;
use yard_step_core::{
    CardDescription, Celsius, Percent, Seconds, Verdict, Watt, WeighNotes, Weighed,
};

use crate::browse::REMOVED;
use crate::error::{Doing, LedgerError};
use crate::facts::Fact;
use crate::handle::Ledger;

/// The fact that holds what stands beside before and after of a card.
fn fact(name: &str) -> Fact<'_> {
    Fact {
        name,
        thing: "what stands beside before and after",
        reading: "read what stands beside before and after",
        writing: "write down what stands beside before and after",
    }
}

fn name_for(card: &CardDescription) -> String {
    format!("weigh of {}", card.key())
}

impl Ledger {
    /// What the user holds beside before and after of a card; nothing where nothing was said.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn weigh_notes(&self, card: &CardDescription) -> Result<WeighNotes, LedgerError> {
        let name = name_for(card);
        self.ask(move |connection| fact(&name).read(connection))
    }

    /// Writes down what the user holds beside before and after of a card.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn set_weigh_notes(
        &self,
        card: &CardDescription,
        notes: &WeighNotes,
    ) -> Result<(), LedgerError> {
        let (name, notes) = (name_for(card), notes.clone());
        self.ask(move |connection| fact(&name).write(connection, &notes))
    }

    /// Every run on a card that has an outcome and was not deleted, in the order in which they were
    /// begun. Of the figures, what was not measured is none.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn weighed(&self, card: &CardDescription) -> Result<Vec<Weighed>, LedgerError> {
        let key = card.key();
        self.ask(move |connection| {
            let doing = "read what was run on a card";
            let mut select = connection
                .prepare(&format!(
                    "SELECT climb, number, asked, scene, seconds, coalesce(marked, verdict), score,
                         power_w, hot_spot_c, json_extract(seen, '$.fan')
                     FROM trial WHERE verdict IS NOT NULL AND NOT {REMOVED} AND climb IN
                         (SELECT climb.id FROM climb JOIN card ON card.id = climb.card
                          WHERE card.key = ?)
                     ORDER BY id"
                ))
                .doing(doing)?;
            let mut rows = select.query(params![key]).doing(doing)?;
            let mut runs = Vec::new();
            while let Some(row) = rows.next().doing(doing)? {
                runs.extend(read(row).doing(doing)?);
            }
            Ok(runs)
        })
    }
}

/// A run; none where its settings or its verdict cannot be understood.
fn read(row: &Row<'_>) -> rusqlite::Result<Option<Weighed>> {
    let (asked, verdict): (String, String) = (row.get(2)?, row.get(5)?);
    let (Ok(asked), Some(verdict)) = (from_str(&asked), Verdict::from_label(&verdict)) else {
        return Ok(None);
    };
    Ok(Some(Weighed {
        climb: row.get(0)?,
        trial: row.get(1)?,
        asked,
        load: row.get(3)?,
        seconds: Seconds(row.get::<_, Option<f64>>(4)?.unwrap_or_default()),
        verdict,
        score: row.get(6)?,
        watts: row.get::<_, Option<f64>>(7)?.map(Watt),
        hot_spot: row.get::<_, Option<f64>>(8)?.map(Celsius),
        fan: row.get::<_, Option<f64>>(9)?.map(Percent),
    }))
}
