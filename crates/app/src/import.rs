//! `yard-step import`: what is in a trace made elsewhere.

use std::fmt::Write as _;
use std::fs::File;
use std::io::BufWriter;
use std::path::Path;

use yard_step_core::{Channel, Seconds, Trace};
use yard_step_report::{ImportedTrace, Meaning, TraceWriter, import_trace};

use crate::cards::print;
use crate::cli::ImportOptions;
use crate::failure::Failure;

pub(crate) fn import(options: &ImportOptions) -> Result<(), Failure> {
    let imported = read(&options.file)?;
    print(&in_words(&imported))?;
    let Some(path) = &options.csv else { return Ok(()) };
    let count = write(&imported.trace, (0.0, f64::INFINITY), path)?;
    print(&format!("{count} samples are in {}.\n", path.display()))
}

/// Reads a trace made elsewhere.
pub(crate) fn read(path: &Path) -> Result<ImportedTrace, Failure> {
    let named = |cause: &dyn std::fmt::Display| {
        Failure::usage(format!("cannot import {}: {cause}", path.display()))
    };
    let file = File::open(path).map_err(|error| named(&error))?;
    import_trace(file).map_err(|error| named(&error))
}

/// Writes the samples of a stretch of time as CSV; answers how many.
pub(crate) fn write(trace: &Trace, (from, to): (f64, f64), path: &Path) -> Result<u64, Failure> {
    let file = File::create(path).map_err(|error| {
        Failure::usage(format!("cannot write {}: {error}. Name another file.", path.display()))
    })?;
    let mut writer = TraceWriter::new(BufWriter::new(file))?;
    let mut count = 0;
    for sample in trace.samples(from, to) {
        writer.write(&sample)?;
        count += 1;
    }
    writer.finish()?;
    Ok(count)
}

fn in_words(imported: &ImportedTrace) -> String {
    let trace = &imported.trace;
    let mut text =
        format!("{} samples over {}\ncolumns\n", trace.len(), Seconds(trace.seconds()).in_words());
    for column in &imported.columns {
        let meaning = match &column.meaning {
            Meaning::Time => "time".to_owned(),
            Meaning::Channel(channel) => figures(trace, *channel),
            Meaning::LeftOut(why) => format!("left out: {why}"),
        };
        // Writing to a string cannot fail.
        let _ = writeln!(text, "  {:<28}{meaning}", column.header);
    }
    for problem in &imported.problems {
        let _ = writeln!(text, "line {}: {}", problem.line, problem.cause);
    }
    if imported.left_out > 0 {
        let _ = writeln!(text, "{} rows were left out", imported.left_out);
    }
    text
}

fn figures(trace: &Trace, channel: Channel) -> String {
    let (label, unit) = (channel.label(), channel.unit());
    match trace.over(channel, -1.0, trace.seconds()) {
        Some(all) => format!(
            "{label}, lowest {:.1}, mean {:.1}, highest {:.1} {unit}",
            all.lowest,
            all.mean(),
            all.highest
        ),
        None => format!("{label}, no reading"),
    }
}
