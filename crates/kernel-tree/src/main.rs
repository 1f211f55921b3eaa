//! `kernel-tree DIR`: mounts stand-ins as the kernel's device files until it is stopped.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Parser;
use kernel_tree::{Device, Layout, mount};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use yard_step_card::slot::SlotAddress;
use yard_step_card::{CardAddress, RuntimeDir, connect};

/// Most cards of one machine.
const MOST_CARDS: usize = 16;

/// Mounts stand-in cards as the kernel's device files
#[derive(Debug, Parser)]
#[command(name = "kernel-tree", version)]
struct Options {
    /// An empty directory
    directory: PathBuf,
    /// The stand-in, with its unit; several make a machine of several cards
    #[arg(long, default_value = "standin:quern-540#1", value_parser = parse_card)]
    card: Vec<CardAddress>,
    /// Files for clocks and voltages: levels, curve, window, offset or frequency [default: what fits each card]
    #[arg(long, value_parser = parse_layout)]
    layout: Option<Layout>,
    /// How many times as fast as a real one the card works, warms and cools, 1 to 60
    #[arg(long, value_name = "TIMES", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=60))]
    speed: u32,
}

fn parse_card(text: &str) -> Result<CardAddress, String> {
    text.parse().map_err(|error: yard_step_card::ChoiceError| error.to_string())
}

fn parse_layout(text: &str) -> Result<Layout, String> {
    let all = <Layout as strum::VariantNames>::VARIANTS.join(", ");
    text.parse().map_err(|_| format!("there is no layout \"{text}\"; there are: {all}"))
}

fn main() -> ExitCode {
    match run(&Options::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(why) => {
            eprintln!("kernel-tree: {why}");
            ExitCode::FAILURE
        }
    }
}

fn run(options: &Options) -> Result<(), String> {
    let directory = options.directory.display();
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP]).map_err(|error| error.to_string())?;
    let runtime = RuntimeDir::of_user().map_err(|error| error.to_string())?;
    if options.card.len() > MOST_CARDS {
        return Err(format!("a machine has at most {MOST_CARDS} cards"));
    }
    let mut devices = Vec::new();
    let mut names = Vec::new();
    for (number, address) in (0..).zip(&options.card) {
        let card = connect(address).map_err(|error| error.to_string())?;
        let layout = options.layout.unwrap_or_else(|| Layout::fitting(card.description()));
        names.push(card.description().name.clone());
        let slot = format!("kernel-tree-{}-{number}", std::process::id());
        let device = Device::new(card, layout).map_err(|error| error.to_string())?;
        let device = device.numbered(number).drawn_on_at(SlotAddress::of(&runtime, &slot));
        let device = device.map_err(|error| error.to_string())?;
        devices.push(device.at_speed(f64::from(options.speed)));
    }
    let mounted = mount(devices, &options.directory).map_err(|error| {
        format!("cannot mount at {directory}: {error}. It takes an empty directory, /dev/fuse, and root.")
    })?;
    println!("Mounted at {directory}: {}. Ctrl+C unmounts.", names.join(", "));
    signals.forever().next();
    mounted.unmount().map_err(|error| format!("cannot unmount {directory}: {error}"))
}
