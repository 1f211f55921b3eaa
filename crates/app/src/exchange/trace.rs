//! Traces, read from and written to CSV.

use std::path::Path;

use yard_step_core::Trace;
use yard_step_report::{ImportedTrace, TraceWriter, import_trace};

use crate::failure::Failure;
use crate::input;

/// Reads a trace made elsewhere. `go_on` is as in [`import_trace`].
pub(crate) fn read(
    path: &Path,
    go_on: &mut dyn FnMut(f64) -> bool,
) -> Result<ImportedTrace, Failure> {
    let named = |cause: &dyn std::fmt::Display| {
        Failure::usage(format!("cannot import {}: {cause}", path.display()))
    };
    let file = input::open(path).map_err(|error| named(&error))?;
    import_trace(file, go_on).map_err(|error| named(&error))
}

/// The samples of a stretch of time as CSV, and how many.
pub(crate) fn rows(trace: &Trace, (from, to): (f64, f64)) -> Result<(Vec<u8>, u64), Failure> {
    let mut bytes = Vec::new();
    let mut writer = TraceWriter::new(&mut bytes)?;
    let mut count = 0;
    for sample in trace.samples(from, to) {
        writer.write(&sample)?;
        count += 1;
    }
    writer.finish()?;
    Ok((bytes, count))
}
