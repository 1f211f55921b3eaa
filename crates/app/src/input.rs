//! Files that are read: regular ones, of bounded size.

use std::fs::{self, File};
use std::io::Read;
use std::path::{Path, PathBuf};

use directories::BaseDirs;
use yard_step_report::MOST_BYTES;

/// Opens a file for reading. Whatever could be read without an end, or make the reader wait, is
/// refused: a pipe, a device, a directory, or more than 64 MiB.
///
/// # Errors
/// Why it is not read.
pub(crate) fn open(path: &Path) -> Result<File, String> {
    // Looked at before it is opened: opening a pipe waits for somebody to write.
    let found = fs::metadata(path).map_err(|error| error.to_string())?;
    if !found.is_file() {
        return Err("it is not a regular file".into());
    }
    if found.len() > MOST_BYTES {
        return Err(format!("it is larger than {} MiB", MOST_BYTES >> 20));
    }
    File::open(path).map_err(|error| error.to_string())
}

/// Reads a text.
///
/// # Errors
/// It cannot be read, is too large, or is no UTF-8.
pub(crate) fn text(path: &Path) -> Result<String, String> {
    let mut text = String::new();
    let read = open(path)?.take(MOST_BYTES).read_to_string(&mut text);
    read.map(|_| text).map_err(|error| error.to_string())
}

/// A path as it was typed into a form: `~/` stands for the home directory.
pub(crate) fn typed_path(text: &str) -> PathBuf {
    let text = text.trim();
    match (text.strip_prefix("~/"), BaseDirs::new()) {
        (Some(rest), Some(own)) => own.home_dir().join(rest),
        _ => PathBuf::from(text),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use nix::sys::stat::Mode;
    use nix::unistd::mkfifo;

    #[test]
    fn what_is_no_regular_file_or_too_large_is_refused_at_once() {
        let dir = tempfile::tempdir().unwrap();
        let pipe = dir.path().join("pipe");
        mkfifo(&pipe, Mode::S_IRWXU).unwrap();
        let large = dir.path().join("large");
        File::create(&large).unwrap().set_len(MOST_BYTES + 1).unwrap();
        let refused =
            [&pipe, Path::new("/dev/zero"), dir.path()].map(|path| open(path).unwrap_err());
        assert!(refused.iter().all(|why| why == "it is not a regular file"), "{refused:?}");
        assert_eq!(open(&large).unwrap_err(), "it is larger than 64 MiB");
        assert!(text(&dir.path().join("missing")).unwrap_err().contains("No such file"));
    }

    #[test]
    fn a_tilde_stands_for_home() {
        let home = BaseDirs::new().unwrap().home_dir().to_owned();
        assert_eq!(typed_path(" ~/x.csv"), home.join("x.csv"));
        assert_eq!(typed_path("x/~/y.csv"), PathBuf::from("x/~/y.csv"));
    }
}
