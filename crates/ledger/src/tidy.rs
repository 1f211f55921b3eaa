//! Notes, flags, and the deleting that can be taken back.
//!
//! ```text
//!   remove ──► hidden from every list ──► empty_removed ──► samples, pictures and climbs are gone
//!     ▲               │
//!     └─── restore ◄──┘
//! ```
//!
//! A climb rests on its trials. So a trial that is deleted by itself is hidden, and in the end
//! loses its samples and pictures, but its verdict stays where its climb needs it.

use rusqlite::params;

use crate::climbs::ClimbState;
use crate::error::{Doing, LedgerError};
use crate::handle::{Ledger, now};

/// What was deleted for good.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Emptied {
    /// Climbs, with all their trials.
    pub climbs: usize,
    /// Single trials, of which only the verdict stays with its climb.
    pub trials: usize,
}

impl Ledger {
    /// Writes a note on a trial; an empty one takes it away.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn note_trial(&self, row: i64, note: &str) -> Result<(), LedgerError> {
        self.set("write a note", "UPDATE trial SET note = ? WHERE id = ?", note.to_owned(), row)
    }

    /// Writes a note on a climb; an empty one takes it away.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn note_climb(&self, climb: i64, note: &str) -> Result<(), LedgerError> {
        self.set("write a note", "UPDATE climb SET note = ? WHERE id = ?", note.to_owned(), climb)
    }

    /// Flags a trial, or takes its flag away.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn flag_trial(&self, row: i64, flagged: bool) -> Result<(), LedgerError> {
        self.set("flag a trial", "UPDATE trial SET flagged = ? WHERE id = ?", flagged, row)
    }

    /// Deletes a trial: it is hidden from every list until it is brought back. Its climb goes by it
    /// as before.
    ///
    /// # Errors
    /// The trial has no outcome yet, or the ledger cannot be written.
    pub fn remove_trial(&self, row: i64) -> Result<(), LedgerError> {
        self.ask(move |connection| {
            let changed = connection
                .execute(
                    "UPDATE trial SET removed = ? WHERE id = ? AND verdict IS NOT NULL",
                    params![now(), row],
                )
                .doing("delete a trial")?;
            if changed == 0 {
                return Err(LedgerError::InUse {
                    thing: "a trial that has no outcome yet".into(),
                    way_out: "Let it end, or take its climb up again, first.",
                });
            }
            Ok(())
        })
    }

    /// Deletes a climb with all its trials: they are hidden from every list until it is brought
    /// back. Profiles that were kept of it stay.
    ///
    /// # Errors
    /// The climb is open, or the ledger cannot be written.
    pub fn remove_climb(&self, climb: i64) -> Result<(), LedgerError> {
        self.ask(move |connection| {
            let changed = connection
                .execute(
                    "UPDATE climb SET removed = ? WHERE id = ? AND state <> ?",
                    params![now(), climb, ClimbState::Open.label()],
                )
                .doing("delete a climb")?;
            if changed == 0 {
                return Err(LedgerError::InUse {
                    thing: format!("climb {climb}, which is open"),
                    way_out: "Bring it to its end, or begin another one on its card, first.",
                });
            }
            Ok(())
        })
    }

    /// Brings a deleted trial back.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn restore_trial(&self, row: i64) -> Result<(), LedgerError> {
        let statement = "UPDATE trial SET removed = ? WHERE id = ?";
        self.set("bring a trial back", statement, None::<i64>, row)
    }

    /// Brings a deleted climb back.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn restore_climb(&self, climb: i64) -> Result<(), LedgerError> {
        let statement = "UPDATE climb SET removed = ? WHERE id = ?";
        self.set("bring a climb back", statement, None::<i64>, climb)
    }

    /// Deletes for good what was deleted before: climbs with everything in them, single trials with their
    /// samples, pictures and notes. All or nothing.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn empty_removed(&self) -> Result<Emptied, LedgerError> {
        const CLIMBS: &str = "(SELECT id FROM climb WHERE removed IS NOT NULL)";
        let doing = "empty what was deleted";
        self.ask(move |connection| {
            let all = connection.transaction().doing(doing)?;
            let run = |statement: &str| {
                all.execute(&statement.replace("CLIMBS", CLIMBS), []).doing(doing)
            };
            let trials = "(SELECT id FROM trial WHERE removed IS NOT NULL OR climb IN CLIMBS)";
            for table in ["samples", "spoilt"] {
                run(&format!("DELETE FROM {table} WHERE trial IN {trials}"))?;
            }
            run("UPDATE profile SET climb = NULL, trial = NULL WHERE climb IN CLIMBS")?;
            run("DELETE FROM event WHERE climb IN CLIMBS")?;
            run("DELETE FROM trial WHERE climb IN CLIMBS")?;
            let emptied = Emptied {
                climbs: run("DELETE FROM climb WHERE id IN CLIMBS")?,
                trials: run("UPDATE trial SET purged = 1, note = '', flagged = 0
                             WHERE removed IS NOT NULL AND purged = 0")?,
            };
            all.commit().doing(doing)?;
            Ok(emptied)
        })
    }

    fn set(
        &self,
        doing: &'static str,
        statement: &'static str,
        value: impl rusqlite::ToSql + Send + 'static,
        row: i64,
    ) -> Result<(), LedgerError> {
        self.ask(move |connection| {
            connection.execute(statement, params![value, row]).doing(doing).map(|_| ())
        })
    }
}
