//! `yard-step import`: what is in a trace made elsewhere.

use std::fmt::Write as _;
use std::io::{IsTerminal, stderr};
use std::path::PathBuf;

use clap::Args;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use yard_step_core::{Channel, Seconds, Trace};
use yard_step_report::{ImportedTrace, Meaning};

use crate::exchange::trace::{read, rows};
use crate::failure::Failure;
use crate::output::{Overwrite, Target, print};

#[derive(Debug, Args)]
pub(crate) struct ImportOptions {
    /// The trace, a CSV file
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// Write what was read as a trace of ours
    #[arg(long, value_name = "FILE")]
    pub csv: Option<PathBuf>,
    #[command(flatten)]
    pub overwrite: Overwrite,
}

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
