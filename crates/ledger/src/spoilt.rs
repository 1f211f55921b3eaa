//! Spoilt frames: what was wrong with them, and the wrong pixels themselves.

use std::sync::Arc;

use rusqlite::{Connection, params};
use yard_step_core::{CheckedFrame, Patch, Seconds};

use crate::codec::{content, json};
use crate::error::{Doing, LedgerError};
use crate::handle::Ledger;

impl Ledger {
    /// The spoilt frames of a trial that were written down, in order.
    ///
    /// # Errors
    /// The ledger cannot be read, or a frame in it is garbled.
    pub fn spoilt_frames(&self, trial: i64) -> Result<Vec<CheckedFrame>, LedgerError> {
        self.ask(move |connection| {
            let mut select = connection
                .prepare(
                    "SELECT number, at_s, wrong_pixels, artifacts, patch FROM spoilt
                     WHERE trial = ? ORDER BY number",
                )
                .doing("read spoilt frames")?;
            let mut rows = select.query(params![trial]).doing("read spoilt frames")?;
            let mut frames = Vec::new();
            while let Some(row) = rows.next().doing("read spoilt frames")? {
                let number: i64 = row.get(0).doing("read a spoilt frame")?;
                let wrong: i64 = row.get(2).doing("read a spoilt frame")?;
                let artifacts: String = row.get(3).doing("read a spoilt frame")?;
                let patch: Option<Vec<u8>> = row.get(4).doing("read a spoilt frame")?;
                let thing = format!("spoilt frame {number} of trial row {trial}");
                frames.push(CheckedFrame {
                    number: number as u64,
                    at: Seconds(row.get(1).doing("read a spoilt frame")?),
                    section: 0,
                    wrong_pixels: wrong as u64,
                    artifacts: serde_json::from_str(&artifacts)
                        .map_err(|error| content(&thing, &error))?,
                    patch: patch
                        .map(|bytes| Patch::from_bytes(&bytes).map(Arc::new))
                        .transpose()
                        .map_err(|cause| content(&thing, &cause))?,
                });
            }
            Ok(frames)
        })
    }
}

pub(crate) fn insert_spoilt(
    connection: &Connection,
    trial: i64,
    frames: &[CheckedFrame],
) -> Result<(), LedgerError> {
    for frame in frames {
        connection
            .execute(
                "INSERT OR REPLACE INTO spoilt
                 (trial, number, at_s, wrong_pixels, artifacts, patch) VALUES (?, ?, ?, ?, ?, ?)",
                params![
                    trial,
                    frame.number as i64,
                    frame.at.value(),
                    frame.wrong_pixels as i64,
                    json("artifacts", &frame.artifacts)?,
                    frame.patch.as_ref().map(|patch| patch.to_bytes()),
                ],
            )
            .doing("write down a spoilt frame")?;
    }
    Ok(())
}
