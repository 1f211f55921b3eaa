//! Reading the kernel's device files: bounded, never waiting, and with a reason for everything that cannot be read.

use std::fs::{self, OpenOptions};
use std::io::{ErrorKind, Read};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use thiserror::Error;

/// Longest text that is read, bytes: the kernel's own files have a page, and some a few.
const LONGEST_TEXT: u64 = 64 << 10;

/// Why a file was not read, as half a sentence.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Unread {
    /// It is not there.
    #[error("there is no file {0}")]
    Missing(String),
    /// This user may not read it.
    #[error("{0} may not be read by this user")]
    NotAllowed(String),
    /// There is more in it than such a file has.
    #[error("{0} has no end within {1} bytes")]
    Endless(String, u64),
    /// It is no text.
    #[error("{0} is no text")]
    NoText(String),
    /// There is nothing in it.
    #[error("{0} is empty")]
    Empty(String),
    /// It holds something else than what belongs there.
    #[error("{0} holds \"{1}\", which is no {2}")]
    Odd(String, String, &'static str),
    /// The system would not give it.
    #[error("{0} cannot be read: {1}")]
    Failed(String, String),
}

/// A directory of device files, and the root below which it lies, for telling places.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Place {
    root: PathBuf,
    path: PathBuf,
}

impl Place {
    /// The root of a tree.
    pub fn root(path: &Path) -> Self {
        Self { root: path.to_owned(), path: path.to_owned() }
    }

    /// A place below this one.
    pub fn at(&self, relative: impl AsRef<Path>) -> Self {
        Self { root: self.root.clone(), path: self.path.join(relative) }
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The place as it is told: from the root of the tree on.
    pub fn told(&self) -> String {
        self.path.strip_prefix(&self.root).unwrap_or(&self.path).display().to_string()
    }

    /// Last part of its path.
    pub fn name(&self) -> String {
        self.path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned())
    }

    /// Last part of what a link leads to; none where it is no link.
    pub fn link_name(&self) -> Option<String> {
        let to = fs::read_link(&self.path).ok()?;
        Some(to.file_name()?.to_string_lossy().into_owned())
    }

    /// Whether there is anything.
    pub fn is_there(&self) -> bool {
        self.path.exists()
    }

    /// Names of what lies in the directory, in order; none where it cannot be listed.
    pub fn names(&self) -> Vec<String> {
        let entries = fs::read_dir(&self.path).into_iter().flatten().flatten();
        let mut names: Vec<String> =
            entries.filter_map(|entry| entry.file_name().into_string().ok()).collect();
        names.sort();
        names
    }

    /// The bytes of a file, at most so many.
    pub fn bytes(&self, most: u64) -> Result<Vec<u8>, Unread> {
        let failed = |error: &std::io::Error| match error.kind() {
            ErrorKind::NotFound | ErrorKind::NotADirectory => Unread::Missing(self.told()),
            ErrorKind::PermissionDenied => Unread::NotAllowed(self.told()),
            _ => Unread::Failed(self.told(), error.to_string()),
        };
        // A pipe that nobody writes to would be waited for.
        let file = OpenOptions::new()
            .read(true)
            .custom_flags(nix::libc::O_NONBLOCK)
            .open(&self.path)
            .map_err(|error| failed(&error))?;
        let mut bytes = Vec::new();
        file.take(most + 1).read_to_end(&mut bytes).map_err(|error| failed(&error))?;
        if bytes.len() as u64 > most {
            return Err(Unread::Endless(self.told(), most));
        }
        Ok(bytes)
    }

    /// The text of a file, without the white space around it.
    pub fn text(&self) -> Result<String, Unread> {
        let bytes = self.bytes(LONGEST_TEXT)?;
        let text = String::from_utf8(bytes).map_err(|_| Unread::NoText(self.told()))?;
        match text.trim() {
            "" => Err(Unread::Empty(self.told())),
            text => Ok(text.to_owned()),
        }
    }

    /// The number in a file, as the kernel writes it: decimal, or with `0x` before it.
    pub fn number(&self) -> Result<f64, Unread> {
        let text = self.text()?;
        let hexadecimal = text.strip_prefix("0x").map(|digits| u64::from_str_radix(digits, 16));
        let number = match hexadecimal {
            Some(read) => read.ok().map(|number| number as f64),
            None => text.parse().ok().filter(|number: &f64| number.is_finite()),
        };
        number.ok_or_else(|| Unread::Odd(self.told(), brief(&text), "number"))
    }

    /// The number in a file of this directory.
    pub fn number_in(&self, name: &str) -> Result<f64, Unread> {
        self.at(name).number()
    }
}

/// The beginning of a text, in one line and without what steers a terminal.
pub(super) fn brief(text: &str) -> String {
    let plain = text.chars().filter(|letter| !letter.is_control());
    let mut brief: String = plain.take(24).collect();
    if brief.len() < text.len() {
        brief.push('…');
    }
    brief
}

/// A text in one line, without what steers a terminal, and no longer than a line of a log should be.
pub(super) fn brief_line(text: &str) -> String {
    text.chars().filter(|letter| !letter.is_control()).take(200).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use nix::sys::stat::Mode;
    use nix::unistd::mkfifo;

    #[test]
    fn what_cannot_be_read_has_its_reason_and_nothing_is_waited_for() {
        let dir = tempfile::tempdir().unwrap();
        let write = |name: &str, bytes: &[u8]| fs::write(dir.path().join(name), bytes).unwrap();
        write("empty", b" \n");
        write("latin", b"\xe4\xf6");
        write("word", b"fast\x1b[31m\n");
        write("long", &vec![b'7'; (64 << 10) + 1]);
        mkfifo(&dir.path().join("pipe"), Mode::S_IRWXU).unwrap();
        std::os::unix::fs::symlink("/dev/zero", dir.path().join("zero")).unwrap();
        std::os::unix::fs::symlink("loop", dir.path().join("loop")).unwrap();
        let place = Place::root(dir.path());
        let why = |name: &str| place.number_in(name).unwrap_err().to_string();
        assert_eq!(why("none"), "there is no file none");
        assert_eq!(why("none/deeper"), "there is no file none/deeper");
        assert_eq!(why("empty"), "empty is empty");
        assert_eq!(why("pipe"), "pipe is empty");
        assert_eq!(why("latin"), "latin is no text");
        assert_eq!(why("word"), "word holds \"fast[31m…\", which is no number");
        assert!(why("long").contains("no end within 65536 bytes"), "{}", why("long"));
        assert!(why("zero").contains("no end"), "{}", why("zero"));
        assert!(why("loop").contains("cannot be read"), "{}", why("loop"));
        assert!(place.text().unwrap_err().to_string().contains("directory"));
    }

    #[test]
    fn numbers_are_decimal_or_hexadecimal() {
        let dir = tempfile::tempdir().unwrap();
        let place = Place::root(dir.path());
        for (text, number) in [("255\n", 255.0), ("0xfff7bfff", 4_294_426_623.0), ("-30", -30.0)] {
            fs::write(dir.path().join("n"), text).unwrap();
            assert_eq!(place.number_in("n"), Ok(number));
        }
        for text in ["0xgg", "NaN", "inf", "1 2"] {
            fs::write(dir.path().join("n"), text).unwrap();
            assert!(matches!(place.number_in("n"), Err(Unread::Odd(..))), "{text}");
        }
    }
}
