//! `yard-step status`: what the sessions of this user are doing, for another terminal or a status bar.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;

use clap::Args;
use signal_hook::consts::{SIGINT, SIGTERM};
use yard_step_card::RuntimeDir;

use crate::failure::Failure;
use crate::output::{json, print};
use crate::status::{Status, sessions};

/// Time between two looks.
const EVERY: Duration = Duration::from_secs(1);
/// Time between two looks at whether to end.
const NAP: Duration = Duration::from_millis(100);

#[derive(Debug, Args)]
pub(crate) struct StatusOptions {
    /// Go on, with a line for each change, until interrupted
    #[arg(long)]
    pub follow: bool,
    /// Print JSON, with --follow an object a line
    #[arg(long)]
    pub json: bool,
}

pub(crate) fn status(options: &StatusOptions) -> Result<(), Failure> {
    let runtime = RuntimeDir::of_user()?;
    if !options.follow {
        let all = sessions(runtime.path());
        if all.is_empty() {
            return Err(Failure::failed("no session is running on this machine"));
        }
        return match options.json {
            true => print(&json(&all)?),
            false => all.iter().try_for_each(|one| print(&format!("{}\n", one.line()))),
        };
    }
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM] {
        signal_hook::flag::register(signal, Arc::clone(&stop))?;
    }
    let mut before: Vec<Status> = Vec::new();
    while !stop.load(Ordering::Relaxed) {
        let all = sessions(runtime.path());
        for one in all.iter().filter(|one| !before.contains(one)) {
            let line = if options.json { serde_json::to_string(one)? } else { one.line() };
            print(&format!("{line}\n"))?;
        }
        before = all;
        let mut left = EVERY;
        while !left.is_zero() && !stop.load(Ordering::Relaxed) {
            thread::sleep(NAP);
            left = left.saturating_sub(NAP);
        }
    }
    Ok(())
}
