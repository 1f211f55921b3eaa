//! The commands, a file each: what it is told and what it does.

mod attended;
mod cards;
mod ceiling;
mod climb;
mod demo;
mod guard;
mod import;
mod keeper;
mod learnt;
mod load;
mod machine;
mod open;
mod pass;
mod profile;
mod prove;
mod report;
mod simulate;
mod slot;
mod status;
mod study;
mod watch;
mod weigh;
mod with_profile;

pub(crate) use cards::{CardsOptions, cards};
pub(crate) use ceiling::{CeilingOptions, ceiling};
pub(crate) use climb::{ClimbOptions, climb};
pub(crate) use demo::{DemoOptions, demo};
pub(crate) use guard::{GuardOptions, guard};
pub(crate) use import::{ImportOptions, import};
pub(crate) use keeper::{KeeperOptions, keeper};
pub(crate) use learnt::{LearntOptions, learnt};
pub(crate) use load::{LoadOptions, load};
pub(crate) use machine::{MachineOptions, machine};
pub(crate) use open::{OpenOptions, open};
pub(crate) use pass::{PassOptions, pass};
pub(crate) use profile::{ProfileOptions, profile};
pub(crate) use prove::{ProveOptions, prove};
pub(crate) use report::{ReportOptions, report};
pub(crate) use simulate::{SimulateOptions, simulate};
pub(crate) use slot::{SlotOptions, slot};
pub(crate) use status::{StatusOptions, status};
pub(crate) use study::{StudyOptions, study};
pub(crate) use watch::{WatchOptions, watch};
pub(crate) use weigh::{WeighOptions, weigh};
pub(crate) use with_profile::{WithProfileOptions, with_profile};

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use signal_hook::consts::{SIGHUP, SIGINT};

use crate::failure::Failure;

/// What a terminal sends to its programs when it closes, or a key is pressed, is not for these.
fn stay() -> Result<(), Failure> {
    for signal in [SIGHUP, SIGINT] {
        signal_hook::flag::register(signal, Arc::new(AtomicBool::new(false)))?;
    }
    Ok(())
}
