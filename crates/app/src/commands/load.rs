//! `yard-step load`: runs a scene on a card.

use clap::Args;
use directories::ProjectDirs;
use tracing::{info, warn};
use yard_step_card::DrawsAt;
use yard_step_card::kernel::free_memory;
use yard_step_card::slot::SlotAddress;
use yard_step_engine::load::{self, GpuPlaces, Level};
use yard_step_scenes::SizedScene;

use crate::failure::{Failure, there_is_no};
use crate::options::parse_scene;

#[derive(Debug, Args)]
pub(crate) struct LoadOptions {
    /// Scene to run
    #[arg(long, value_parser = parse_scene)]
    pub scene: SizedScene,
    /// The slot in which a stand-in draws
    #[arg(long, required_unless_present = "gpu")]
    pub slot: Option<String>,
    /// The graphics card that draws, by its address on the bus; "software" is the processor
    #[arg(long, conflicts_with = "slot")]
    pub gpu: Option<String>,
    /// "pass": once through; "soak": until it is told to stop
    #[arg(long, default_value = "soak", value_parser = parse_level)]
    pub level: Level,
}

/// Bytes that are written and verified where a card does not tell how many are free.
const SOME_MEMORY: u64 = 256 << 20;
/// Share of the free memory that is: the rest is left to whoever else draws.
const MOST_MEMORY: f64 = 0.8;

/// What a scene on a graphics card needs besides.
fn gpu_places(options: &LoadOptions) -> GpuPlaces {
    let own = ProjectDirs::from("", "", "yard-step");
    let free = options.gpu.as_deref().and_then(free_memory);
    let memory = free.map_or(SOME_MEMORY, |free| (free as f64 * MOST_MEMORY) as u64);
    GpuPlaces { kept: own.map(|own| own.cache_dir().to_owned()), memory }
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
    let draws_at = match (&options.gpu, &options.slot) {
        (Some(address), _) => DrawsAt::Gpu(address.clone()),
        (None, slot) => DrawsAt::Slot(SlotAddress::from(slot.clone().unwrap_or_default())),
    };
    let served = load::serve(options.scene, options.level, &draws_at, &gpu_places(options));
    match &served {
        Ok(()) => info!("has ended"),
        Err(error) => warn!("{error}"),
    }
    Ok(served?)
}
