//! A chart of a view, written into a file.

use std::path::Path;

use crate::output::{ChartKind, write_new};

/// Writes a chart into a new file, in the kind that its name says; returns what there is to say, or why it was not written.
pub(crate) fn write_chart(what: &str, svg: &str, path: &Path) -> Result<String, String> {
    let kind = ChartKind::of(path).map_err(|why| format!("{why}."))?;
    write_new(path, &kind.bytes(svg).map_err(|error| format!("{error}."))?)?;
    Ok(format!("{what} is in {}.", path.display()))
}
