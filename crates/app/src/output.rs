//! What a command writes: to standard output, or to a file that was not there before.

use std::fmt::Display;
use std::fs::{self, File};
use std::io::{self, ErrorKind, Write as _};
use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use yard_step_core::printable_lines;
use yard_step_report::{ReportError, to_pdf, with_font};

use crate::failure::Failure;

/// The name that stands for standard output.
const STDOUT: &str = "-";

/// Whether a file that is there may be written over.
#[derive(Debug, Clone, Copy, Default, Args)]
pub(crate) struct Overwrite {
    /// Write over files that are there
    #[arg(long)]
    pub force: bool,
}

/// Prints to standard output; a reader that has seen enough is no failure.
pub(crate) fn print(text: &str) -> Result<(), Failure> {
    print_bytes(text.as_bytes())
}

fn print_bytes(bytes: &[u8]) -> Result<(), Failure> {
    let mut out = io::stdout().lock();
    match out.write_all(bytes).and_then(|()| out.flush()) {
        Err(error) if error.kind() == ErrorKind::BrokenPipe => Ok(()),
        Err(error) => Err(Failure::failed(format!("cannot write to standard output: {error}"))),
        Ok(()) => Ok(()),
    }
}

/// A document as JSON that people can read, with an end of line.
pub(crate) fn json(document: &impl Serialize) -> Result<String, Failure> {
    Ok(serde_json::to_string_pretty(document)? + "\n")
}

/// Says on standard error what is no result: a notice, or where a result was written.
pub(crate) fn note(text: &str) {
    eprintln!("{}", printable_lines(text));
}

/// A place a result goes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Target {
    path: PathBuf,
    force: bool,
}

impl Target {
    /// A place that was named. That it can be written is found out now, before any work is done.
    pub(crate) fn new(path: &Path, overwrite: Overwrite) -> Result<Self, Failure> {
        let target = Self { path: path.to_owned(), force: overwrite.force };
        if target.is_stdout() {
            return Ok(target);
        }
        if path.is_dir() {
            return Err(target.cannot(&"it is a directory"));
        }
        if path.exists() && !target.force {
            return Err(Failure::usage(already_there(path)));
        }
        let directory = path.parent().filter(|parent| !parent.as_os_str().is_empty());
        match directory.map(fs::metadata) {
            Some(Err(error)) => Err(target.cannot(&error)),
            Some(Ok(found)) if !found.is_dir() => {
                Err(target.cannot(&"its folder is not a directory"))
            }
            _ => Ok(target),
        }
    }

    /// Whether it is standard output.
    pub(crate) fn is_stdout(&self) -> bool {
        self.path.as_os_str() == STDOUT
    }

    /// Its name in a message.
    pub(crate) fn shown(&self) -> String {
        if self.is_stdout() { "standard output".into() } else { self.path.display().to_string() }
    }

    /// Writes a result there, whole or not at all.
    pub(crate) fn write(&self, bytes: &[u8]) -> Result<(), Failure> {
        if self.is_stdout() {
            return print_bytes(bytes);
        }
        let written =
            if self.force { replace(&self.path, bytes) } else { create(&self.path, bytes) };
        written.map_err(|error| match error.kind() {
            ErrorKind::AlreadyExists => Failure::usage(already_there(&self.path)),
            _ => self.cannot(&error),
        })
    }

    /// Says that something was written there: beside the result, where that went to standard output.
    pub(crate) fn say(&self, text: &str) -> Result<(), Failure> {
        if self.is_stdout() {
            note(text);
            return Ok(());
        }
        print(&format!("{text}\n"))
    }

    fn cannot(&self, cause: &dyn Display) -> Failure {
        Failure::usage(format!("cannot write {}: {cause}. Name another file.", self.path.display()))
    }
}

fn already_there(path: &Path) -> String {
    format!(
        "{} is there already and is left alone: name another file, or add --force to write over it",
        path.display()
    )
}

fn create(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let written = File::create_new(path).and_then(|mut file| file.write_all(bytes));
    if written.as_ref().is_err_and(|error| error.kind() != ErrorKind::AlreadyExists) {
        // Half a file is worse than none.
        let _ = fs::remove_file(path);
    }
    written
}

/// Writes beside the file and moves the result over it. A device or a pipe is written to as it is.
pub(crate) fn replace(path: &Path, bytes: &[u8]) -> io::Result<()> {
    if fs::metadata(path).is_ok_and(|found| !found.is_file()) {
        return File::options().write(true).open(path)?.write_all(bytes);
    }
    let mut name = path.as_os_str().to_owned();
    name.push(format!(".{}.part", std::process::id()));
    let part = PathBuf::from(name);
    create(&part, bytes)?;
    fs::rename(&part, path)
}

/// Writes a new file for the interface, which never writes over one; or says why not, and the way
/// out.
pub(crate) fn write_new(path: &Path, bytes: &[u8]) -> Result<(), String> {
    create(path, bytes).map_err(|cause| match cause.kind() {
        ErrorKind::AlreadyExists => {
            format!("{} is there already and is left alone: name another file.", path.display())
        }
        _ => format!("Cannot write {}: {cause}. Name another file.", path.display()),
    })
}

/// What a chart is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ChartKind {
    Svg,
    Pdf,
}

impl ChartKind {
    /// The kind that a file's name says, SVG on standard output; or that it says none.
    pub(crate) fn of(path: &Path) -> Result<Self, String> {
        match path.extension().and_then(|ending| ending.to_str()) {
            _ if path.as_os_str() == STDOUT => Ok(Self::Svg),
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const FORCE: Overwrite = Overwrite { force: true };

    #[test]
    fn a_file_that_is_there_is_written_over_only_with_force() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("x.csv");
        Target::new(&path, Overwrite::default()).unwrap().write(b"one").unwrap();
        let refused = Target::new(&path, Overwrite::default()).unwrap_err();
        assert!(refused.text().contains("add --force"), "{}", refused.text());
        assert_eq!(fs::read(&path).unwrap(), b"one");
        Target::new(&path, FORCE).unwrap().write(b"two").unwrap();
        assert_eq!(fs::read(&path).unwrap(), b"two");
        let names: Vec<_> = fs::read_dir(dir.path()).unwrap().flatten().collect();
        assert_eq!(names.len(), 1, "nothing else is left: {names:?}");
    }

    #[test]
    fn one_that_came_to_be_meanwhile_is_left_alone() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("x.csv");
        let target = Target::new(&path, Overwrite::default()).unwrap();
        fs::write(&path, "theirs").unwrap();
        assert!(target.write(b"ours").is_err());
        assert_eq!(fs::read(&path).unwrap(), b"theirs");
    }

    #[rstest]
    #[case("nowhere/x.csv", "No such file or directory")]
    #[case("", "is a directory")]
    fn a_place_that_cannot_be_written_is_told_before_the_work(
        #[case] name: &str,
        #[case] told: &str,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let refused = Target::new(&dir.path().join(name), FORCE).unwrap_err();
        assert!(refused.text().contains(told), "{}", refused.text());
    }

    #[rstest]
    #[case("-", Ok(ChartKind::Svg))]
    #[case("x.pdf", Ok(ChartKind::Pdf))]
    #[case("x.png", Err("ends in .svg or .pdf"))]
    fn the_kind_of_a_chart_is_told_by_its_name(
        #[case] name: &str,
        #[case] kind: Result<ChartKind, &str>,
    ) {
        match (ChartKind::of(Path::new(name)), kind) {
            (Ok(found), Ok(kind)) => assert_eq!(found, kind),
            (Err(why), Err(part)) => assert!(why.contains(part), "{why}"),
            (other, _) => panic!("{other:?}"),
        }
    }
}
