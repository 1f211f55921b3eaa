//! Writing the kernel's device files, and what it says where it refuses.

use std::fs::OpenOptions;
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::thread;
use std::time::Duration;

use nix::errno::Errno;
use thiserror::Error;

use crate::kernel::tree::Place;

/// How often a file is written that the card is too busy for.
const TRIES: u32 = 5;
/// Time between two tries.
const BETWEEN_TRIES: Duration = Duration::from_millis(100);

/// What the kernel said as it refused a value.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("The kernel refused \"{text}\" for {file}: {why}.")]
pub struct Refusal {
    file: String,
    text: String,
    why: String,
}

/// Writes a text to a device file, in one piece, as the kernel wants it. What the card is too busy for is written again.
///
/// # Errors
/// The kernel refused it.
pub(super) fn write(place: &Place, text: &str) -> Result<(), Refusal> {
    write_patiently(place, format!("{text}\n").as_bytes(), text)
}

/// Writes the bytes of a table to a device file, in one piece. What the card is too busy for is written again.
///
/// # Errors
/// The kernel refused them.
pub(super) fn write_bytes(place: &Place, bytes: &[u8]) -> Result<(), Refusal> {
    write_patiently(place, bytes, &format!("a table of {} bytes", bytes.len()))
}

fn write_patiently(place: &Place, bytes: &[u8], text: &str) -> Result<(), Refusal> {
    let mut left = TRIES;
    loop {
        left -= 1;
        match once(place, bytes) {
            Ok(()) => return Ok(()),
            Err(error) if left > 0 && errno(&error) == Some(Errno::EBUSY) => {
                thread::sleep(BETWEEN_TRIES);
            }
            Err(error) => {
                let why = in_words(&error);
                return Err(Refusal { file: place.told(), text: text.to_owned(), why });
            }
        }
    }
}

fn once(place: &Place, bytes: &[u8]) -> io::Result<()> {
    // Nothing is made that was not there, and a pipe that nobody reads from is not waited for.
    let mut file =
        OpenOptions::new().write(true).custom_flags(nix::libc::O_NONBLOCK).open(place.path())?;
    // A file of the kernel takes each write for a whole value: a second one with the rest would be another.
    match file.write(bytes)? {
        written if written == bytes.len() => Ok(()),
        written => Err(io::Error::other(format!("it took {written} of {} bytes", bytes.len()))),
    }
}

fn errno(error: &io::Error) -> Option<Errno> {
    error.raw_os_error().map(Errno::from_raw)
}

fn in_words(error: &io::Error) -> String {
    match errno(error) {
        Some(Errno::EINVAL) => "the card does not take this value (EINVAL)".into(),
        Some(Errno::EBUSY) => "the card is busy (EBUSY)".into(),
        Some(Errno::EPERM | Errno::EACCES) => "this process may not write it (EPERM)".into(),
        Some(Errno::ENOENT) => "the file is gone (ENOENT)".into(),
        Some(Errno::ENODEV) => "the card is gone (ENODEV)".into(),
        Some(Errno::EOPNOTSUPP) => "the card cannot do this (EOPNOTSUPP)".into(),
        Some(other) => format!("{} ({other:?})", other.desc()),
        None => error.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Errno::EINVAL, "does not take this value (EINVAL)")]
    #[case(Errno::EBUSY, "is busy (EBUSY)")]
    #[case(Errno::EPERM, "may not write it (EPERM)")]
    #[case(Errno::EIO, "(EIO)")]
    fn what_the_kernel_says_is_told_in_words(#[case] errno: Errno, #[case] told: &str) {
        let words = in_words(&io::Error::from_raw_os_error(errno as i32));
        assert!(words.contains(told), "{words}");
    }

    #[test]
    fn a_file_that_is_not_there_is_not_made() {
        let dir = tempfile::tempdir().unwrap();
        let place = Place::root(dir.path()).at("power1_cap");
        let refused = write(&place, "1").unwrap_err().to_string();
        assert_eq!(refused, "The kernel refused \"1\" for power1_cap: the file is gone (ENOENT).");
        assert!(!place.is_there());
    }
}
