//! Files that are written for the user: never over one that is there.

use std::fs::File;
use std::io::{self, ErrorKind, Write as _};
use std::path::Path;

use yard_step_report::{ReportError, to_pdf, with_font};

/// Writes a new file; or says why not, and the way out.
pub(crate) fn write_new(path: &Path, bytes: &[u8]) -> Result<(), String> {
    let told = |cause: io::Error| match cause.kind() {
        ErrorKind::AlreadyExists => {
            format!("{} is there already and is left alone: name another file.", path.display())
        }
        _ => format!("Cannot write {}: {cause}. Name another file.", path.display()),
    };
    File::create_new(path).and_then(|mut file| file.write_all(bytes)).map_err(told)
}

/// What a chart is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ChartKind {
    Svg,
    Pdf,
}

impl ChartKind {
    /// The kind that a file's name says; or that it says none.
    pub(crate) fn of(path: &Path) -> Result<Self, String> {
        match path.extension().and_then(|ending| ending.to_str()) {
            Some("svg") => Ok(Self::Svg),
            Some("pdf") => Ok(Self::Pdf),
            _ => Err(format!(
                "cannot tell the kind of {}: name a file that ends in .svg or .pdf",
                path.display()
            )),
        }
    }

    /// A chart in this kind, with its font.
    pub(crate) fn bytes(self, svg: &str) -> Result<Vec<u8>, ReportError> {
        match self {
            Self::Svg => Ok(with_font(svg).into_bytes()),
            Self::Pdf => to_pdf(svg),
        }
    }
}
