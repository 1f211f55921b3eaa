//! `yard-step guard`: holds the way back of a card.

use std::io::stdin;
use std::path::{Path, PathBuf};

use clap::Args;
use yard_step_engine::stand;

use super::stay;
use crate::failure::Failure;

#[derive(Debug, Args)]
pub(crate) struct GuardOptions {
    /// How the card is reached
    #[arg(long)]
    pub card: String,
    /// The card's lock
    #[arg(long)]
    pub lock: PathBuf,
    /// Where to write down what was done
    #[arg(long)]
    pub told: PathBuf,
}

/// `yard-step guard`: holds the way back for a process that may end at any time.
pub(crate) fn guard(options: &GuardOptions) -> Result<(), Failure> {
    stay()?;
    let (lock, log): (&Path, &Path) = (&options.lock, &options.told);
    match stand(stdin().lock(), &options.card, lock, log) {
        true => Ok(()),
        false => Err(Failure::failed(format!("the card is not back; {} tells why", log.display()))),
    }
}
