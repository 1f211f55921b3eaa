//! The log: what all four processes do, in one file.
//!
//! ```text
//! 2026-03-01T12:00:00.000000Z yard-step[4711] trial 3 of climb 1:  INFO asks for core +60 MHz
//! 2026-03-01T12:00:00.200000Z load[4713] trial 3 of climb 1:  INFO runs lantern
//! ```

use std::fs::OpenOptions;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::{env, fmt, process};

use tracing_subscriber::Layer;
use tracing_subscriber::filter::{LevelFilter, Targets};
use tracing_subscriber::fmt::format::Writer;
use tracing_subscriber::fmt::time::{FormatTime, SystemTime};
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;
use yard_step_engine::{LOG_FILE, log_trial, set_log_file};

use crate::failure::Failure;

/// Says how much is logged: a level, or levels by part of the program.
const LEVEL: &str = "YARD_STEP_LOG";

/// The time, which process it is, and the trial it is about.
struct Stamp {
    process: &'static str,
}

impl FormatTime for Stamp {
    fn format_time(&self, writer: &mut Writer<'_>) -> fmt::Result {
        SystemTime.format_time(writer)?;
        write!(writer, " {}[{}]", self.process, process::id())?;
        match log_trial() {
            Some(trial) => write!(writer, " {trial}:"),
            None => Ok(()),
        }
    }
}

/// Begins the log, if one is wanted: by the user, or by the process that started this one.
///
/// # Errors
/// The file cannot be written, or the level is none.
pub(crate) fn begin(named: Option<&Path>, process: &'static str) -> Result<(), Failure> {
    let passed_on = env::var_os(LOG_FILE).map(PathBuf::from);
    let Some(path) = named.map(Path::to_owned).or(passed_on) else { return Ok(()) };
    let targets: Targets = match env::var(LEVEL) {
        Err(_) => Targets::new().with_default(LevelFilter::INFO),
        Ok(text) => text.parse().map_err(|_| {
            Failure::usage(format!(
                "{LEVEL} is \"{text}\": it must be error, warn, info, debug or trace, or levels by \
                 part such as yard_step_engine=debug"
            ))
        })?,
    };
    let cannot = |cause| {
        Failure::usage(format!(
            "cannot write the log {}: {cause}. Name another file.",
            path.display()
        ))
    };
    let file = OpenOptions::new().create(true).append(true).open(&path).map_err(cannot)?;
    // The processes that are started have the same working directory, but need not keep it.
    set_log_file(&path.canonicalize().map_err(cannot)?);
    let lines = tracing_subscriber::fmt::layer()
        .with_ansi(false)
        .with_target(false)
        .with_timer(Stamp { process })
        .with_writer(Mutex::new(file));
    tracing_subscriber::registry().with(lines.with_filter(targets)).init();
    Ok(())
}
