//! `yard-step slot`: hosts a stand-in.

use std::path::PathBuf;

use clap::Args;
use yard_step_card::slot::{FaultsOnRequest, SlotAddress, serve};
use yard_step_card::{CardAddress, CeilingStore};

use super::stay;
use crate::failure::Failure;
use crate::options::parse_address;

#[derive(Debug, Args)]
pub(crate) struct SlotOptions {
    /// The stand-in, such as standin:tarn-310#7
    #[arg(long, value_parser = parse_address)]
    pub card: CardAddress,
    /// Release of the driver
    #[arg(long, default_value_t = 1)]
    pub driver: u32,
    /// Course that chance takes
    #[arg(long, default_value_t = 0)]
    pub course: u64,
    /// Where it is reached
    #[arg(long)]
    pub address: String,
    /// What its machine keeps of the card's limit table
    #[arg(long)]
    pub ceiling: Option<PathBuf>,
    /// Let visitors make it go wrong on purpose
    #[arg(long)]
    pub inject_faults: bool,
}

/// `yard-step slot`: a stand-in in a process of its own.
pub(crate) fn slot(options: &SlotOptions) -> Result<(), Failure> {
    stay()?;
    let address = SlotAddress::from(options.address.clone());
    let card = options.card.with_driver(options.driver).on_course(options.course);
    let faults = match options.inject_faults {
        true => FaultsOnRequest::Allowed,
        false => FaultsOnRequest::Refused,
    };
    let ceiling = options.ceiling.as_deref().map(CeilingStore::at);
    Ok(serve(&address, card.stand_in()?, faults, ceiling)?)
}
