//! `yard-step import`: what is in a trace made elsewhere.

use std::fmt::Write as _;
use std::io::{IsTerminal, stderr};
use std::path::Path;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use yard_step_core::{Channel, Seconds, Trace};
use yard_step_report::{ImportedTrace, Meaning, TraceWriter, import_trace};

use crate::cli::ImportOptions;
use crate::failure::Failure;
use crate::input;
use crate::output::{Target, print};

pub(crate) fn import(options: &ImportOptions) -> Result<(), Failure> {
    let target =
        options.csv.as_ref().map(|path| Target::new(path, options.overwrite)).transpose()?;
    let bar = progress()?;
    let imported = read(&options.file, &mut |share| {
        bar.set_position((share * 100.0) as u64);
        true
    });
    bar.finish_and_clear();
    let imported = imported?;
    let text = in_words(&imported);
    match target {
        None => print(&text),
        Some(target) => {
            let (bytes, count) = rows(&imported.trace, (0.0, f64::INFINITY))?;
            target.write(&bytes)?;
            target.say(&format!("{text}{count} samples are in {}.", target.shown()))
        }
    }
}

fn progress() -> Result<ProgressBar, Failure> {
    let on_terminal = stderr().is_terminal();
    let target =
        if on_terminal { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
    let style = ProgressStyle::with_template("reading {wide_bar} {percent:>3} %, Ctrl-C cancels")?;
    Ok(ProgressBar::with_draw_target(Some(100), target).with_style(style))
}

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
