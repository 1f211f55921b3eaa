//! The frontier, drawn into a file.

use std::path::Path;

use yard_step_core::{CardDescription, Frontier};
use yard_step_report::draw_frontier;

use crate::failure::Failure;
use crate::output::ChartKind;

/// The chart of a frontier, in the kind that the file's name says.
pub(crate) fn chart(
    card: &CardDescription,
    load: &str,
    frontier: &Frontier,
    path: &Path,
) -> Result<Vec<u8>, Failure> {
    let kind = ChartKind::of(path).map_err(Failure::usage)?;
    Ok(kind.bytes(&draw_frontier(card, load, frontier)?)?)
}

pub(crate) fn drawn(frontier: &Frontier, place: &dyn std::fmt::Display) -> String {
    format!("The chart of work against {} is in {place}.", frontier.cost.what())
}
