//! `yard-step cards`: which cards there are, what they offer, and, on request, their true edges.

use std::fmt::Write as _;

use clap::Args;
use serde::Serialize;
use yard_step_card::{Card, CardAddress, Edges, connect};
use yard_step_core::{CardDescription, Channel, CurveKind, CurveOffer, SettingKind, stated};
use yard_step_scenes::Scene;

use super::simulate::simulated;
use crate::failure::Failure;
use crate::options::{NamedCard, parse_card, parse_whole};
use crate::output::{json, print};

#[derive(Debug, Args)]
pub(crate) struct CardsOptions {
    /// Only this card
    #[arg(long, value_parser = parse_card)]
    pub card: Option<NamedCard>,
    /// Which unit of a stand-in [default: 1]
    #[arg(long, value_name = "N", allow_negative_numbers = true, value_parser = parse_whole)]
    pub seed: Option<u64>,
    /// Also print the true edges of a stand-in, for judging a climb
    #[arg(long)]
    pub reveal: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Serialize)]
struct CardDocument {
    format: &'static str,
    version: u32,
    #[serde(flatten)]
    description: CardDescription,
    #[serde(skip_serializing_if = "Option::is_none")]
    edges: Option<Edges>,
}

#[derive(Serialize)]
struct CardsDocument {
    format: &'static str,
    version: u32,
    cards: Vec<CardDocument>,
}

pub(crate) fn cards(options: &CardsOptions) -> Result<(), Failure> {
    let addresses = match &options.card {
        Some(card) => vec![card.with_seed(options.seed)?],
        None => {
            let unit = options.seed.unwrap_or(1);
            CardAddress::all().into_iter().map(|card| card.with_unit(unit)).collect()
        }
    };
    let mut documents = Vec::new();
    for address in addresses {
        let mut card = connect(&address)?;
        let edges = options.reveal.then(|| edges(card.as_mut())).transpose()?;
        let description = card.description().clone();
        documents.push(CardDocument { format: "yard-step-card", version: 1, description, edges });
    }
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
    let mut text = format!(
        "{} ({}), unit {}, driver {}\n  {} GiB of {}, {} actual, {} effective, {}\n  boost clock {}, highest {}, power limit {}\n  settings\n",
        card.name,
        card.id,
        card.serial,
        card.driver,
        card.memory_gib,
        card.memory_type,
        card.memory_clock,
        card.memory_wiring.effective(card.memory_clock),
        card.memory_wiring.bandwidth(card.memory_clock),
        limits.boost_clock,
        limits.highest_clock,
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
    if let Some(edges) = &document.edges {
        text += &edges_in_words(edges);
    }
    text
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
