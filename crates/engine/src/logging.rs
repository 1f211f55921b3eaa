//! The log that all processes of the program write to, and the trial it speaks of.
//!
//! The process that is started by the user is told the file (`--log`). It passes it on to the
//! processes it starts by their environment.

use std::env;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Mutex, OnceLock, PoisonError};

/// Names the file of the log in the environment of a process.
pub const LOG_FILE: &str = "YARD_STEP_LOG_FILE";

/// Names the trial for which a process was started, in its environment.
const LOG_TRIAL: &str = "YARD_STEP_LOG_TRIAL";

static FILE: OnceLock<PathBuf> = OnceLock::new();
static TRIAL: Mutex<Option<String>> = Mutex::new(None);

/// Has the processes that are started from now on write to this file, too.
pub fn set_log_file(path: &Path) {
    // A second one changes nothing: a process has one log.
    let _ = FILE.set(path.to_owned());
}

/// Names the trial that runs now, for the lines of the log.
pub(crate) fn set_log_trial(trial: Option<String>) {
    *TRIAL.lock().unwrap_or_else(PoisonError::into_inner) = trial;
}

/// The trial that a line of the log is about: the one that runs now, or the one for which this
/// process was started.
#[must_use]
pub fn log_trial() -> Option<String> {
    let running = TRIAL.lock().unwrap_or_else(PoisonError::into_inner).clone();
    running.or_else(|| env::var(LOG_TRIAL).ok())
}

/// Tells a process that is to be started where the log is, and which trial it is for.
pub fn pass_log_on(command: &mut Command) {
    let Some(file) = FILE.get() else { return };
    command.env(LOG_FILE, file);
    if let Some(trial) = log_trial() {
        command.env(LOG_TRIAL, trial);
    }
}
