//! The samples of trials: a minute of them in a blob, read back as samples or as a trace.

use rusqlite::{Connection, params};
use yard_step_core::{Limiter, Sample, Trace};

use crate::blob;
use crate::error::{Doing, LedgerError};
use crate::handle::Ledger;

impl Ledger {
    /// All samples of a trial, in order.
    ///
    /// # Errors
    /// The ledger cannot be read, or a block of samples is garbled.
    pub fn samples(&self, trial: i64) -> Result<Vec<Sample>, LedgerError> {
        self.blocks(trial, blob::unpack).map(|blocks| blocks.into_iter().flatten().collect())
    }

    /// All samples of a trial as a trace. `limiter` names what limited the clock in a sample.
    ///
    /// # Errors
    /// The ledger cannot be read, or a block of samples is garbled.
    pub fn trace(
        &self,
        trial: i64,
        limiter: impl Fn(&Sample) -> Limiter,
    ) -> Result<Trace, LedgerError> {
        let mut trace = Trace::new();
        for block in self.blocks(trial, blob::unpack_columns)? {
            trace.push_columns(block, &limiter);
        }
        Ok(trace)
    }

    fn blocks<T: Send + 'static>(
        &self,
        trial: i64,
        unpack: fn(&[u8]) -> Result<T, String>,
    ) -> Result<Vec<T>, LedgerError> {
        self.ask(move |connection| {
            let mut select = connection
                .prepare("SELECT columns FROM samples WHERE trial = ? ORDER BY first")
                .doing("read samples")?;
            let mut rows = select.query(params![trial]).doing("read samples")?;
            let mut blocks = Vec::new();
            while let Some(row) = rows.next().doing("read samples")? {
                let bytes = row.get_ref(0).doing("read samples")?.as_blob().unwrap_or_default();
                let thing = || format!("a block of samples of trial row {trial}");
                let block = unpack(bytes)
                    .map_err(|cause| LedgerError::Content { thing: thing(), cause })?;
                blocks.push(block);
            }
            Ok(blocks)
        })
    }
}

pub(crate) fn insert_samples(
    connection: &Connection,
    trial: i64,
    first: usize,
    samples: &[Sample],
) -> Result<(), LedgerError> {
    for (index, chunk) in samples.chunks(blob::MOST_SAMPLES).enumerate() {
        let at = (first + index * blob::MOST_SAMPLES) as i64;
        connection
            .execute(
                "INSERT INTO samples (trial, first, count, columns) VALUES (?, ?, ?, ?)",
                params![trial, at, chunk.len() as i64, blob::pack(chunk)],
            )
            .doing("write down samples")?;
    }
    Ok(())
}
