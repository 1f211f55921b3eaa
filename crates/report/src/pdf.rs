//! SVG to PDF, with the text kept as text and the font embedded.

use std::sync::Arc;

use epaint_default_fonts::HACK_REGULAR;
use svg2pdf::{ConversionOptions, PageOptions};
use usvg::{Options, Tree, fontdb};

use crate::ReportError;

/// The family every text of a chart is set in.
pub(crate) const FONT: &str = "Hack";

/// Turns a chart into a PDF of one page.
///
/// # Errors
/// The SVG cannot be read or converted.
pub fn to_pdf(svg: &str) -> Result<Vec<u8>, ReportError> {
    let failed = |error: &dyn std::fmt::Display| ReportError::Pdf(error.to_string());
    let mut fonts = fontdb::Database::new();
    fonts.load_font_data(HACK_REGULAR.to_vec());
    // A text in a family the database does not know would be dropped without a word.
    fonts.set_monospace_family(FONT);
    fonts.set_sans_serif_family(FONT);
    fonts.set_serif_family(FONT);
    let options =
        Options { fontdb: Arc::new(fonts), font_family: FONT.into(), ..Options::default() };
    let tree = Tree::from_str(svg, &options).map_err(|error| failed(&error))?;
    svg2pdf::to_pdf(&tree, ConversionOptions::default(), PageOptions::default())
        .map_err(|error| failed(&error))
}
