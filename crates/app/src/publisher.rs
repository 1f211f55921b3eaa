//! Telling what a session is doing: once a second in a file in the directory of this user's sockets, taken away at the
//! end, and on a page where one is served.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use yard_step_card::RuntimeDir;

use crate::metrics::Page;
use crate::status::{ENDING, Status};

/// Time between two writings.
const EVERY: Duration = Duration::from_secs(1);

/// Tells what a session is doing: in a file, and to a collector where one is served.
pub(crate) struct Publisher {
    /// The directory of this user's sockets. A session goes on where nothing can be written there.
    directory: Option<PathBuf>,
    page: Option<Page>,
    /// The file, once it is written.
    written: Option<PathBuf>,
    /// When it was told last.
    told: Option<Instant>,
}

impl Publisher {
    /// In a file, and on a page where there is one.
    pub(crate) fn new(page: Option<Page>) -> Self {
        let runtime = RuntimeDir::of_user().ok();
        let directory = runtime.map(|runtime| runtime.path().to_owned());
        Self { directory, page, written: None, told: None }
    }

    /// Tells a status, if it is time; whether it was written is nobody's concern but that of who asks for it.
    pub(crate) fn publish(&mut self, status: impl FnOnce() -> Status) {
        if self.told.is_some_and(|at| at.elapsed() < EVERY) {
            return;
        }
        let status = status();
        let name = format!("{}-{}.{ENDING}", status.process, plain(&status));
        let path = self.directory.as_ref().map(|directory| directory.join(name));
        if let Some(before) = self.written.take().filter(|before| Some(before) != path.as_ref()) {
            let _ = fs::remove_file(before);
        }
        if let Some(path) = &path {
            let _ = write(path, &status);
        }
        if let Some(page) = &self.page {
            page.show(status);
        }
        (self.written, self.told) = (path, Some(Instant::now()));
    }
}

impl Drop for Publisher {
    fn drop(&mut self) {
        if let Some(path) = &self.written {
            let _ = fs::remove_file(path);
        }
    }
}

/// Card and unit as part of a file's name.
fn plain(status: &Status) -> String {
    let is_plain = |letter: char| letter.is_ascii_alphanumeric();
    let text = format!("{}-{}", status.card, status.unit);
    text.chars().map(|letter| if is_plain(letter) { letter } else { '-' }).collect()
}

/// Whole or not at all: a reader never sees half a file.
fn write(path: &Path, status: &Status) -> io::Result<()> {
    let beside = path.with_extension("new");
    fs::write(&beside, serde_json::to_vec(status)?)?;
    fs::rename(beside, path)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::status::sessions;
    use crate::tui::fixtures::snapshot;

    #[test]
    fn it_is_written_once_a_second_at_most_read_back_and_taken_away_at_the_end() {
        let dir = tempfile::tempdir().unwrap();
        let directory = Some(dir.path().to_owned());
        let mut publisher = Publisher { directory, page: None, written: None, told: None };
        let status = Status::of_snapshot(&snapshot());
        publisher.publish(|| status.clone());
        publisher.publish(|| panic!("so soon"));
        assert_eq!(sessions(dir.path()), [status]);
        drop(publisher);
        assert_eq!(sessions(dir.path()), []);
    }
}
