//! Files that are there whole or not at all.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::Path;

/// Writes a file, so that after a power cut it is there whole, or the one before it is.
pub(crate) fn write_whole(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let fresh = path.with_extension("new");
    let mut file = File::create(&fresh)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    fs::rename(&fresh, path)?;
    File::open(path.parent().unwrap_or(Path::new(".")))?.sync_all()
}
