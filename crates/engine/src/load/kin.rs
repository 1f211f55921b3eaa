//! A load and everything it has started, so that all of it can be ended.
//!
//! What a load starts is in its process group, unless it leaves it (`setsid(2)`). It keeps the
//! environment, though, and by a mark in that it is found, as long as it does not clear it.

use std::fs::{self, File};
use std::io::Read;
use std::process::{self, Command};
use std::sync::atomic::{AtomicU32, Ordering};
use std::thread;
use std::time::Duration;

use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::Pid;
use serde::{Deserialize, Serialize};

/// Variable in the environment of a load and of all it starts.
const MARK: &str = "YARD_STEP_LOAD";

/// As much of a process's environment as is looked at, in bytes.
const MOST_ENVIRONMENT: u64 = 4 << 20;

/// Most looks for processes that were started while others were ended.
const LOOKS: u32 = 8;

/// Time between two looks.
const BETWEEN_LOOKS: Duration = Duration::from_millis(5);

/// A load's processes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Kin {
    /// Number of the process group the load began with.
    group: u32,
    /// What [`MARK`] says in their environment.
    mark: String,
}

/// A mark that no other load of this machine has now.
pub(super) fn mark(command: &mut Command) -> String {
    static LOADS: AtomicU32 = AtomicU32::new(0);
    let mark = format!("{}.{}", process::id(), LOADS.fetch_add(1, Ordering::Relaxed));
    command.env(MARK, &mark);
    mark
}

impl Kin {
    pub(super) fn new(group: u32, mark: String) -> Self {
        Self { group, mark }
    }

    /// Sends a signal to the load and to what is still in its group.
    pub(super) fn signal(&self, signal: Signal) {
        if let Ok(group) = i32::try_from(self.group) {
            // A group that is gone needs no signal.
            let _ = killpg(Pid::from_raw(group), signal);
        }
    }

    /// Ends all of them.
    pub(crate) fn end(&self) {
        self.signal(Signal::SIGKILL);
        for _ in 0..LOOKS {
            let marked = self.marked();
            if marked.is_empty() {
                return;
            }
            for process in marked {
                // One that is gone already needs no signal.
                let _ = kill(Pid::from_raw(process), Signal::SIGKILL);
            }
            // One that is dying bears its mark a moment longer.
            thread::sleep(BETWEEN_LOOKS);
        }
    }

    /// The processes that bear the mark. A dead one that nobody has waited for has no environment.
    fn marked(&self) -> Vec<i32> {
        let Ok(processes) = fs::read_dir("/proc") else { return Vec::new() };
        let wanted = format!("{MARK}={}", self.mark).into_bytes();
        let bears_it = |process: &i32| {
            let mut environment = Vec::new();
            // A process of another user cannot be read, and is none of this load's.
            let read = File::open(format!("/proc/{process}/environ"))
                .and_then(|file| file.take(MOST_ENVIRONMENT).read_to_end(&mut environment));
            read.is_ok() && environment.split(|byte| *byte == 0).any(|entry| entry == wanted)
        };
        processes
            .filter_map(|entry| entry.ok()?.file_name().to_str()?.parse().ok())
            .filter(bears_it)
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::process::CommandExt;
    use std::time::Instant;

    #[test]
    fn what_left_the_group_is_ended_too() {
        let mut command = Command::new("setsid");
        let mark = mark(&mut command);
        let mut load = command.args(["--fork", "sleep", "60"]).process_group(0).spawn().unwrap();
        let kin = Kin::new(load.id(), mark);
        load.wait().unwrap();
        let until = Instant::now() + Duration::from_secs(5);
        while kin.marked().is_empty() {
            assert!(Instant::now() < until, "the child never came to be");
        }
        kin.end();
        assert_eq!(kin.marked(), Vec::<i32>::new());
    }
}
