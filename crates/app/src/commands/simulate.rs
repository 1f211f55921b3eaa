//! `yard-step simulate`: how a stand-in behaves under a load for as long as one likes, as a trace.

use std::path::{Path, PathBuf};

use clap::Args;
use yard_step_card::{Card, LoadLost, Simulation, Work, connect};
use yard_step_core::{CardDescription, Sample, Seconds, Settings};
use yard_step_engine::TICK;
use yard_step_report::TraceWriter;
use yard_step_scenes::{SizedScene, UncheckedRun};

use crate::failure::Failure;
use crate::input;
use crate::options::{CardOptions, parse_scene};
use crate::output::{Overwrite, Target};

#[derive(Debug, Args)]
pub(crate) struct SimulateOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Settings to run under, a TOML file [default: stock]
    #[arg(long, value_name = "FILE")]
    pub settings: Option<PathBuf>,
    /// Scene to run
    #[arg(long, default_value = "lantern", value_parser = parse_scene)]
    pub scene: SizedScene,
    /// Length of the run in virtual minutes, up to a week
    #[arg(long, value_name = "M", default_value_t = 15, value_parser = clap::value_parser!(u32).range(1..=10_080))]
    pub minutes: u32,
    /// File to write, ten samples a second; - is standard output
    #[arg(long, value_name = "FILE")]
    pub csv: PathBuf,
    #[command(flatten)]
    pub overwrite: Overwrite,
}

pub(crate) fn simulate(options: &SimulateOptions) -> Result<(), Failure> {
    let target = Target::new(&options.csv, options.overwrite)?;
    let mut card = connect(&options.card.address()?)?;
    let asked = read_settings(options.settings.as_deref(), card.description())?;
    // A trace is of the settings and the physics, not of a mishap of the day.
    without_mishaps(card.as_mut())?;
    let mut told = apply(card.as_mut(), &asked)?;
    let mut bytes = Vec::new();
    let mut trace = TraceWriter::new(&mut bytes)?;
    let (samples, lost) = run(card.as_mut(), options, &mut trace)?;
    trace.finish()?;
    target.write(&bytes)?;
    let length = Seconds(samples as f64 * TICK.value()).in_words();
    if let Some(lost) = lost {
        told.push(format!("It ended after {length}: {}.", how_lost(lost)));
    }
    told.push(format!("{samples} samples over {length} are in {}.", target.shown()));
    target.say(&told.join("\n"))
}

/// Settings from a TOML file; stock where none is named.
pub(crate) fn read_settings(
    path: Option<&Path>,
    card: &CardDescription,
) -> Result<Settings, Failure> {
    let Some(path) = path else { return Ok(Settings::default()) };
    let named = |cause: &dyn std::fmt::Display| {
        Failure::usage(format!("settings {}: {cause}", path.display()))
    };
    let text = input::text(path).map_err(|error| named(&error))?;
    Settings::from_toml(&text, card).map_err(|error| named(&error))
}

/// A card as one that is simulated; `why` another one will not do.
pub(crate) fn simulated<'a>(
    card: &'a mut dyn Card,
    why: &str,
) -> Result<&'a mut dyn Simulation, Failure> {
    let name = card.description().name.clone();
    card.simulation().ok_or_else(|| Failure::usage(format!("{name} is not simulated: {why}")))
}

/// Makes sure that nothing goes wrong by chance with a simulated card; refuses any other card.
pub(crate) fn without_mishaps(card: &mut dyn Card) -> Result<(), Failure> {
    simulated(card, "this command works without a guard, on stand-ins only")?.without_mishaps();
    Ok(())
}

/// How a load was lost, in words.
pub(crate) const fn how_lost(lost: LoadLost) -> &'static str {
    match lost {
        LoadLost::Died => "the load lost its device",
        LoadLost::Hung => "the load hung",
        LoadLost::Gone => "the card was gone",
        LoadLost::KeeperGone => "the keeper was gone",
        LoadLost::SettingsChanged => "another program changed the settings",
        LoadLost::DriverReset => "the driver reset the card",
        LoadLost::MachineDown => "the machine went down",
    }
}

/// Applies the settings inside the card's ranges and tells what is not as asked.
pub(crate) fn apply(card: &mut dyn Card, asked: &Settings) -> Result<Vec<String>, Failure> {
    let clamped = asked.clamped(card.description());
    card.apply(&clamped.settings)?;
    let taken = card.taken()?;
    let differences = clamped.settings.differences(&taken, card.description());
    let mut told = clamped.notes;
    told.extend(differences.iter().map(ToString::to_string));
    Ok(told)
}

/// Runs the load and writes every sample; returns how many, and how the load was lost, if it was.
fn run(
    card: &mut dyn Card,
    options: &SimulateOptions,
    trace: &mut TraceWriter<&mut Vec<u8>>,
) -> Result<(u64, Option<LoadLost>), Failure> {
    let mut load = UncheckedRun::new(options.scene);
    let ticks = u64::from(options.minutes) * 600;
    for tick in 1..=ticks {
        if let Err(lost) = card.run(TICK, Work::Here(&mut load)) {
            return Ok((tick - 1, Some(lost)));
        }
        let at = Seconds(tick as f64 / 10.0);
        trace.write(&Sample { at, ..card.sample()? })?;
    }
    Ok((ticks, None))
}
