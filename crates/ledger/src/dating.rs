//! When something was, where that is known otherwise than by the clock.

use rusqlite::params;

use crate::error::{Doing, LedgerError};
use crate::handle::Ledger;

/// Time between two trials of a climb that went on by itself, s.
const BETWEEN_TRIALS: f64 = 20.0;

impl Ledger {
    /// Dates a climb: it began at `began`, seconds since 1970, its trials followed one upon the other, and
    /// what was kept of it was kept at its end.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn date_climb(&self, climb: i64, began: i64) -> Result<(), LedgerError> {
        self.ask(move |connection| {
            let all = connection.transaction().doing("date a climb")?;
            all.execute("UPDATE climb SET began = ?2 WHERE id = ?1", params![climb, began])
                .doing("date a climb")?;
            all.execute(
                "UPDATE trial SET began = ?2 + CAST((
                     SELECT coalesce(sum(coalesce(other.seconds, 0) + ?3), 0) FROM trial AS other
                     WHERE other.climb = trial.climb AND other.number < trial.number
                 ) AS INTEGER) WHERE climb = ?1",
                params![climb, began, BETWEEN_TRIALS],
            )
            .doing("date the trials of a climb")?;
            all.execute(
                "UPDATE profile SET saved = (
                     SELECT CAST(max(began + coalesce(seconds, 0)) AS INTEGER) FROM trial
                     WHERE climb = ?1
                 ) WHERE climb = ?1 AND EXISTS (SELECT 1 FROM trial WHERE climb = ?1)",
                params![climb],
            )
            .doing("date the profiles of a climb")?;
            all.commit().doing("date a climb")
        })
    }
}
