//! What the commands share that look after a card while other programs use it.

use std::fs::File;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use yard_step_core::CardDescription;
use yard_step_engine::{EngineError, Rig};
use yard_step_ledger::Ledger;

use crate::failure::Failure;
use crate::opening::open_ledger;
use crate::options::{CardOptions, DataDirOption};
use crate::output::note;
use crate::rig::rig;

/// A card with its guard, the ledger, and whether somebody wants an end.
pub(super) struct Attended {
    pub rig: Rig,
    pub card: CardDescription,
    pub ledger: Ledger,
    pub stop: Arc<AtomicBool>,
    /// Held for as long as the directory is in use.
    pub lock: File,
}

/// Opens ledger and card. From here on, signals no longer end the process.
pub(super) fn attend_to(data_dir: &DataDirOption, card: &CardOptions) -> Result<Attended, Failure> {
    let dir = data_dir.resolve()?;
    let lock = dir.enter()?;
    let (ledger, set_aside) = open_ledger(&dir)?;
    let address = card.address()?;
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [SIGHUP, SIGINT, SIGTERM] {
        signal_hook::flag::register(signal, Arc::clone(&stop))?;
    }
    let (rig, died) = rig(&dir, &address, &[])?;
    set_aside.into_iter().chain(died).for_each(|line| note(&line));
    let card = rig.card.description().clone();
    Ok(Attended { rig, card, ledger, stop, lock })
}

/// What is told where a profile needs a yes; `what` is done to it with one.
pub(super) fn or_needs_yes(error: EngineError, what: &str) -> Failure {
    match error {
        EngineError::NeedsYes(risk) => Failure::failed(format!(
            "{} Add --yes to {what} it anyway.",
            yard_step_words::risk(&risk)
        )),
        other => other.into(),
    }
}
