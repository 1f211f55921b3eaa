//! Charts as files that stand alone: text kept as text, and the font embedded in it.

use std::sync::Arc;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use epaint_default_fonts::HACK_REGULAR;
use svg2pdf::{ConversionOptions, PageOptions};
use usvg::{Options, Tree, fontdb};

use crate::ReportError;

/// The family every text of a chart is set in.
pub(crate) const FONT: &str = "Hack";

/// A chart that keeps its layout where the font is not installed: any other of fixed width takes its place.
pub(crate) fn in_any_fixed_width(svg: &str) -> String {
    svg.replace(&format!("\"{FONT}\""), &format!("\"{FONT}, monospace\""))
}

/// Puts the font into a chart, so that it looks the same where the font is not installed. This
/// makes it some 400 kB larger.
#[must_use]
pub fn with_font(svg: &str) -> String {
    let Some(end_of_head) = svg.find("<svg").and_then(|at| Some(at + svg[at..].find('>')? + 1))
    else {
        return svg.to_owned();
    };
    let (head, body) = svg.split_at(end_of_head);
    let font = BASE64_STANDARD.encode(HACK_REGULAR);
    format!(
        "{head}\n<style>@font-face {{ font-family: {FONT}; \
         src: url(data:font/ttf;base64,{font}) }}</style>{body}"
    )
}

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_font_lies_inside_the_drawing_and_does_no_harm_there() {
        let svg = r#"<svg width="9" height="9" xmlns="http://www.w3.org/2000/svg"><g/></svg>"#;
        let with = with_font(svg);
        assert!(with.starts_with(&svg[..svg.find("<g").unwrap()]));
        assert!(with.contains("@font-face") && with.ends_with("</style><g/></svg>"));
        assert!(to_pdf(&with).is_ok());
    }

    #[test]
    fn what_is_no_drawing_is_left_as_it_is() {
        assert_eq!(with_font("no drawing"), "no drawing");
    }
}
