//! A chart of a view, written into a file.

use std::fmt::Display;
use std::path::Path;

use yard_step_core::Frontier;

use crate::output::{ChartKind, write_new};

/// Writes a chart into a new file, in the kind that its name says; returns what there is to say, or why it was not written.
pub(crate) fn write_chart(what: &str, svg: &str, path: &Path) -> Result<String, String> {
    let kind = ChartKind::of(path).map_err(|why| format!("{why}."))?;
    write_new(path, &kind.bytes(svg).map_err(|error| format!("{error}."))?)?;
    Ok(told_of_chart(what, &path.display()))
}

/// What is said of a chart once it is written.
pub(crate) fn told_of_chart(what: &str, place: &dyn Display) -> String {
    format!("{what} is in {place}.")
}

/// The chart of a frontier, as the beginning of a sentence.
pub(crate) fn what_is_drawn(frontier: &Frontier) -> String {
    format!("The chart of work against {}", frontier.cost.what())
}
