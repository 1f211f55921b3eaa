//! What a climb came to, for others to see: a chart as SVG or PDF, a document as JSON, a trace as
//! CSV.

mod chart;
mod document;
mod font;
mod frontier;
mod import;
mod list;
mod page;
mod picture;
mod plot;
mod scatter;
mod sheet;
mod soak;
mod svg;
mod trace;

pub use chart::{KeptRun, draw_svg, kept_trial};
pub use document::{ClimbDocument, VERSION};
pub use font::{to_pdf, with_font};
pub use frontier::draw_frontier;
pub use import::{
    ColumnRead, ImportedTrace, MOST_BYTES, MOST_PROBLEMS, Meaning, RowProblem, import_trace,
};
pub use list::trial_list_csv;
pub use page::{LONGEST_TITLE, Page, PageLook, PagePart};
pub use picture::png_of;
pub use plot::{Plot, PlotLine, Range, Stroke, Tint};
pub use scatter::{Scatter, ScatterPoint, draw_scatter};
pub use sheet::Sheet;
pub use soak::draw_soak;
pub use trace::{TraceWriter, column_name};

use thiserror::Error;

/// Why a report cannot be made.
#[derive(Debug, Error)]
pub enum ReportError {
    /// The chart cannot be drawn.
    #[error("the chart cannot be drawn: {0}")]
    Chart(String),
    /// The chart cannot be turned into PDF.
    #[error("the chart cannot be turned into PDF: {0}")]
    Pdf(String),
    /// The trace cannot be written.
    #[error("the trace cannot be written: {0}")]
    Trace(#[from] csv::Error),
    /// The document cannot be written.
    #[error("the document cannot be written: {0}")]
    Document(#[from] serde_json::Error),
    /// A trace made elsewhere cannot be read.
    #[error("the trace cannot be read: {0}")]
    Import(String),
    /// Somebody wanted no more of it.
    #[error("reading it was cancelled")]
    Cancelled,
    /// The picture cannot be encoded.
    #[error("the picture cannot be encoded: {cause}")]
    Picture {
        /// Why.
        cause: String,
    },
    /// The climb in the ledger cannot be laid out again.
    #[error(transparent)]
    Climb(#[from] yard_step_core::ClimbError),
}
