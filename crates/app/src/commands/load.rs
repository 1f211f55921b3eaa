//! `yard-step load`: runs a scene on a card.

use clap::Args;
use tracing::{info, warn};
use yard_step_card::slot::SlotAddress;
use yard_step_engine::load::{self, Level};
use yard_step_scenes::SizedScene;

use crate::failure::{Failure, there_is_no};
use crate::options::parse_scene;

#[derive(Debug, Args)]
pub(crate) struct LoadOptions {
    /// Scene to run
    #[arg(long, value_parser = parse_scene)]
    pub scene: SizedScene,
    /// Where the card is reached
    #[arg(long)]
    pub slot: String,
    /// "pass": once through; "soak": until it is told to stop
    #[arg(long, default_value = "soak", value_parser = parse_level)]
    pub level: Level,
}

fn parse_level(text: &str) -> Result<Level, String> {
    match text {
        "pass" => Ok(Level::Pass),
        "soak" => Ok(Level::Soak),
        other => Err(there_is_no("level", other, &["pass", "soak"])),
    }
}

/// `yard-step load`: a scene on a card, in the words of the load protocol.
pub(crate) fn load(options: &LoadOptions) -> Result<(), Failure> {
    info!("runs {}", options.scene.name());
    let served =
        load::serve(options.scene, options.level, &SlotAddress::from(options.slot.clone()));
    match &served {
        Ok(()) => info!("has ended"),
        Err(error) => warn!("{error}"),
    }
    Ok(served?)
}
