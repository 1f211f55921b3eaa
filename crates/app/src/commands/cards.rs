//! `yard-step cards`: which cards there are, what they offer, and, on request, their true edges.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use yard_step_card::kernel::{self, KernelCard, kernel_cards};
use yard_step_card::{Card, CardAddress, Edges, connect, only_real_card};
use yard_step_core::{
    CardDescription, Channel, CurveKind, CurveOffer, Limiter, Mhz, Sample, SettingKind, stated,
};
use yard_step_scenes::Scene;

use super::simulate::simulated;
use crate::failure::Failure;
use crate::options::{NamedCard, parse_card, parse_whole};
use crate::output::{json, print};

#[derive(Debug, Args)]
pub(crate) struct CardsOptions {
    /// Only this card: a stand-in, kernel for the only real card, or one of several by its address, as in kernel:0000:03:00.0
    #[arg(long, value_parser = parse_which)]
    pub card: Option<Which>,
    /// Which unit of a stand-in [default: 1]
    #[arg(long, value_name = "N", allow_negative_numbers = true, value_parser = parse_whole)]
    pub seed: Option<u64>,
    /// Where the kernel shows its devices, in place of /sys
    #[arg(long, value_name = "DIR", default_value = kernel::SYSFS)]
    pub sysfs: PathBuf,
    /// Also print the true edges of a stand-in, for judging a climb
    #[arg(long)]
    pub reveal: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

/// A card that was named.
#[derive(Debug, Clone)]
pub(crate) enum Which {
    Named(NamedCard),
    /// A real card by its address; none for the only one.
    Real(Option<String>),
}

fn parse_which(text: &str) -> Result<Which, String> {
    match text.strip_prefix(kernel::PREFIX) {
        Some(address) => Ok(Which::Real(Some(address.to_owned()))),
        None if text == kernel::PREFIX.trim_end_matches(':') => Ok(Which::Real(None)),
        None => parse_card(text).map(Which::Named),
    }
}

/// The real card that was named, of those that there are.
fn real_card(named: Option<&str>, sysfs: &Path) -> Result<KernelCard, Failure> {
    let Some(address) = named else { return only_real_card(sysfs).map_err(Failure::usage) };
    let mut all = kernel_cards(sysfs);
    match all.iter().position(|card| card.address == address) {
        Some(at) => Ok(all.swap_remove(at)),
        None if all.is_empty() => only_real_card(sysfs).map_err(Failure::usage),
        None => {
            let known: Vec<&str> = all.iter().map(|card| card.description.id.as_str()).collect();
            Err(Failure::usage(format!(
                "there is no card at {address}; there are: {}",
                known.join(", ")
            )))
        }
    }
}

#[derive(Serialize)]
struct CardDocument {
    format: &'static str,
    version: u32,
    #[serde(flatten)]
    description: CardDescription,
    #[serde(skip_serializing_if = "Option::is_none")]
    edges: Option<Edges>,
    /// What a real card measured as it was looked at.
    #[serde(skip_serializing_if = "Option::is_none")]
    readings: Option<Sample>,
    /// What held its clock back then.
    #[serde(skip_serializing_if = "Option::is_none")]
    limited_by: Option<Limiter>,
    /// What of its ranges is not its own word.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    notes: Vec<String>,
}

impl CardDocument {
    fn of(description: CardDescription) -> Self {
        Self {
            format: "yard-step-card",
            version: 1,
            description,
            edges: None,
            readings: None,
            limited_by: None,
            notes: Vec::new(),
        }
    }

    fn of_real(card: KernelCard) -> Self {
        Self {
            readings: Some(card.now),
            limited_by: card.limiter,
            notes: card.notes,
            ..Self::of(card.description)
        }
    }
}

#[derive(Serialize)]
struct CardsDocument {
    format: &'static str,
    version: u32,
    cards: Vec<CardDocument>,
}

pub(crate) fn cards(options: &CardsOptions) -> Result<(), Failure> {
    let unit = options.seed.unwrap_or(1);
    let all = || CardAddress::all().into_iter().map(|card| card.with_unit(unit)).collect();
    let (addresses, real): (Vec<CardAddress>, Vec<KernelCard>) = match &options.card {
        Some(Which::Named(card)) => (vec![card.with_seed(options.seed)?], Vec::new()),
        Some(Which::Real(_)) if options.reveal => {
            return Err(Failure::usage("nobody knows the true edges (--reveal) of a real card"));
        }
        Some(Which::Real(address)) => {
            (Vec::new(), vec![real_card(address.as_deref(), &options.sysfs)?])
        }
        None => (all(), kernel_cards(&options.sysfs)),
    };
    let mut documents = Vec::new();
    for address in addresses {
        let mut card = connect(&address)?;
        let edges = options.reveal.then(|| edges(card.as_mut())).transpose()?;
        let description = card.description().clone();
        documents.push(CardDocument { edges, ..CardDocument::of(description) });
    }
    documents.extend(real.into_iter().map(CardDocument::of_real));
    let text = if !options.json {
        documents.iter().map(in_words).collect::<Vec<_>>().join("\n")
    } else if let (Some(_), [one]) = (&options.card, documents.as_slice()) {
        json(one)?
    } else {
        let all = CardsDocument { format: "yard-step-cards", version: 1, cards: documents };
        json(&all)?
    };
    print(&text)
}

/// The true edges of a simulated card.
fn edges(card: &mut dyn Card) -> Result<Edges, Failure> {
    let simulation = simulated(card, "nobody knows its true edges (--reveal)")?;
    Ok(simulation.edges(&|frame| Scene::Lantern.demand(frame)))
}

fn in_words(document: &CardDocument) -> String {
    let card = &document.description;
    let limits = &card.limits;
    let mut memory = format!("{} actual", known(card.memory_clock));
    if let Some(rate) = card.memory_wiring.effective(card.memory_clock) {
        memory += &format!(", {rate} effective");
    }
    if let Some(bandwidth) = card.memory_wiring.bandwidth(card.memory_clock) {
        memory += &format!(", {bandwidth}");
    }
    let mut text = format!(
        "{} ({}), unit {}, driver {}\n  {} GiB {}, {memory}\n  boost clock {}, highest {}, power limit {}\n  settings\n",
        card.name,
        card.id,
        card.serial,
        card.driver,
        card.memory_gib,
        card.memory_type,
        known(limits.boost_clock),
        known(limits.highest_clock),
        stated(limits.power_limit),
    );
    for kind in SettingKind::ALL {
        // Writing to a string cannot fail.
        let _ = match card.offer(kind) {
            Some(offer) => writeln!(
                text,
                "    {:<22}{} to {} in steps of {}, {}, stock {}",
                kind.label(),
                offer.show(offer.minimum),
                offer.show(offer.maximum),
                offer.show_step(),
                offer.reading.label(),
                offer.stock.map_or(kind.without_number().into(), |stock| offer.show(stock)),
            ),
            None if kind == SettingKind::Curve && card.curve.is_some() => {
                card.curve.map_or(Ok(()), |offer| writeln!(text, "    {}", curve_in_words(&offer)))
            }
            None => {
                let why = card.why_not_offered(kind);
                writeln!(text, "    {:<22}not offered: {why}", kind.label())
            }
        };
    }
    let sensors: Vec<&str> = Channel::ALL
        .into_iter()
        .filter(|channel| card.senses(*channel))
        .map(Channel::label)
        .collect();
    let _ = writeln!(text, "  sensors: {}", sensors.join(", "));
    for absent in &card.absent_sensors {
        let _ = writeln!(text, "  no {}: {}", absent.what.label(), absent.why);
    }
    if let Some(readings) = &document.readings {
        text += &readings_in_words(readings);
    }
    for note in &document.notes {
        let _ = writeln!(text, "  {note}");
    }
    if let Some(limiter) = document.limited_by {
        let _ = writeln!(text, "  held back now by: {}", limiter.label());
    }
    if let Some(edges) = &document.edges {
        text += &edges_in_words(edges);
    }
    text
}

/// A clock, where there is one.
fn known(clock: Mhz) -> String {
    if clock.value() > 0.0 { clock.to_string() } else { "unknown".into() }
}

fn readings_in_words(now: &Sample) -> String {
    let told: Vec<String> = Channel::ALL
        .into_iter()
        .filter_map(|channel| {
            let value = now.get(channel)?;
            Some(format!("{} {value:.0} {}", channel.label(), channel.unit()))
        })
        .collect();
    if told.is_empty() { String::new() } else { format!("  now: {}\n", told.join(", ")) }
}

fn edges_in_words(edges: &Edges) -> String {
    let lines = [
        ("core clock offset", edges.core_offset_mhz.map(|edge| edge.to_string())),
        ("memory clock offset", edges.memory_offset_mhz.map(|edge| edge.to_string())),
        ("highest clock", edges.clock_maximum_mhz.map(|edge| edge.to_string())),
        ("voltage offset", edges.voltage_offset_mv.map(|edge| edge.to_string())),
    ];
    lines
        .into_iter()
        .filter_map(|(what, edge)| Some(format!("  true edge of the {what}: {}\n", edge?)))
        .collect()
}

/// The offer of a V/F curve in one line.
fn curve_in_words(offer: &CurveOffer) -> String {
    let CurveOffer { clocks, voltages, factory, .. } = offer;
    let count = factory.points().len();
    let (what, by) = match offer.kind {
        CurveKind::Points => ("points", "at"),
        CurveKind::States => ("performance states", "of"),
    };
    format!(
        "{:<22}{count} {what} {by} {} to {} mV, {} to {} MHz in steps of {} MHz",
        SettingKind::Curve.label(),
        voltages.lowest,
        voltages.highest,
        clocks.lowest,
        clocks.highest,
        clocks.step
    )
}
