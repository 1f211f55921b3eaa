//! The chart of a soak, drawn into a file.

use std::path::Path;

use yard_step_core::{CardDescription, Soaked};
use yard_step_report::draw_soak;

use crate::failure::Failure;
use crate::output::ChartKind;

/// The chart of a soak, in the kind that the file's name says.
pub(crate) fn soak_chart(
    card: &CardDescription,
    soaked: &Soaked,
    path: &Path,
) -> Result<Vec<u8>, Failure> {
    let kind = ChartKind::of(path).map_err(Failure::usage)?;
    Ok(kind.bytes(&draw_soak(card, soaked)?)?)
}
