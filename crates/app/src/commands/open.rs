//! `yard-step open`: the interface on a card.

use std::io::{IsTerminal, stdout};
use std::path::PathBuf;

use clap::Args;
use yard_step_card::CardAddress;
use yard_step_engine::{Pace, Rack};

use crate::failure::Failure;
use crate::metrics::Page;
use crate::opening::{Opened, Wanted, open_climb, rack};
use crate::options::{ClimbingOptions, DataDirOption, parse_address, parse_pace};
use crate::tui;

#[derive(Debug, Args)]
pub(crate) struct OpenOptions {
    #[command(flatten)]
    pub climbing: ClimbingOptions,
    /// Another card of the same machine, such as standin:quern-540#3
    #[arg(long, value_name = "CARD", value_parser = parse_address)]
    pub also: Vec<CardAddress>,
    /// Pace of a stand-in's clock: 1, 10, 60 or max
    #[arg(long, default_value = "1", value_parser = parse_pace)]
    pub pace: Pace,
}

pub(crate) fn open(data_dir: &DataDirOption, options: &OpenOptions) -> Result<(), Failure> {
    needs_terminal()?;
    let mut wanted = Wanted::from_options(&options.climbing, data_dir)?;
    wanted.reopen = true;
    let dir = data_dir.resolve()?;
    let cards = &options.climbing.card;
    let in_step = cards.found_all(&options.climbing.in_step)?;
    let (page, served) = options.climbing.page()?;
    let mut opened = open_climb(&dir, &wanted, &in_step)?;
    opened.told.extend(served);
    let also = [in_step, cards.found_all(&options.also)?].concat();
    let rack = rack(&dir, &opened, &wanted, &also)?;
    show(opened, rack, options.pace, page, data_dir.config_path())
}

pub(crate) fn needs_terminal() -> Result<(), Failure> {
    if stdout().is_terminal() && std::io::stdin().is_terminal() {
        return Ok(());
    }
    Err(Failure::usage(
        "the interface needs a terminal for its input and output. Start it in one, or climb \
         without it: yard-step climb --card standin:tarn-310",
    ))
}

pub(crate) fn show(
    opened: Opened,
    rack: Rack,
    pace: Pace,
    page: Option<Page>,
    config: Option<PathBuf>,
) -> Result<(), Failure> {
    let Opened { engine, told, lock, ledger } = opened;
    let result = tui::run(engine, rack, ledger, pace, told, page, config);
    drop(lock);
    result.map_err(Failure::failed)
}
