//! What was changed and synced, in order, and what of it is left after a cut.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::path::Path;

/// Number of a file or a directory.
pub type Number = u64;
/// The number of the root.
pub const ROOT: Number = 1;

/// A change, or a sync.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Step {
    Make { parent: Number, name: String, number: Number, is_directory: bool },
    Move { from: (Number, String), to: (Number, String) },
    Unlink { parent: Number, name: String },
    Write { number: Number, at: u64, bytes: Vec<u8> },
    Resize { number: Number, size: u64 },
    Sync { number: Number },
}

/// Names and contents at an instant.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct State {
    names: BTreeMap<(Number, String), Number>,
    directories: BTreeSet<Number>,
    contents: BTreeMap<Number, Vec<u8>>,
}

impl State {
    fn take(&mut self, step: &Step) {
        match step {
            Step::Make { parent, name, number, is_directory } => {
                self.names.insert((*parent, name.clone()), *number);
                match is_directory {
                    true => drop(self.directories.insert(*number)),
                    false => drop(self.contents.insert(*number, Vec::new())),
                }
            }
            Step::Move { from, to } => {
                if let Some(number) = self.names.remove(from) {
                    self.names.insert(to.clone(), number);
                }
            }
            Step::Unlink { parent, name } => drop(self.names.remove(&(*parent, name.clone()))),
            Step::Write { number, at, bytes } => {
                let content = self.contents.entry(*number).or_default();
                let end = *at as usize + bytes.len();
                content.resize(content.len().max(end), 0);
                content[*at as usize..end].copy_from_slice(bytes);
            }
            Step::Resize { number, size } => {
                self.contents.entry(*number).or_default().resize(*size as usize, 0);
            }
            Step::Sync { .. } => {}
        }
    }
}

/// Everything that was done, and the present.
#[derive(Debug, Clone, Default)]
pub struct Log {
    steps: Vec<Step>,
    now: State,
    newest: Number,
}

impl Log {
    /// Nothing yet.
    #[must_use]
    pub fn new() -> Self {
        let now = State { directories: BTreeSet::from([ROOT]), ..State::default() };
        Self { steps: Vec::new(), now, newest: ROOT }
    }

    /// How many changes and syncs there were.
    #[must_use]
    pub fn len(&self) -> usize {
        self.steps.len()
    }

    /// Whether nothing was done yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty()
    }

    fn note(&mut self, step: Step) {
        self.now.take(&step);
        self.steps.push(step);
    }

    /// What has a name in a directory.
    #[must_use]
    pub fn look(&self, parent: Number, name: &str) -> Option<Number> {
        self.now.names.get(&(parent, name.to_owned())).copied()
    }

    /// Names in a directory, with their numbers.
    pub fn names(&self, parent: Number) -> impl Iterator<Item = (&str, Number)> {
        let all = self.now.names.iter().filter(move |((of, _), _)| *of == parent);
        all.map(|((_, name), number)| (name.as_str(), *number))
    }

    /// Whether a number is a directory's; none where nothing has it.
    #[must_use]
    pub fn is_directory(&self, number: Number) -> Option<bool> {
        let is_directory = self.now.directories.contains(&number);
        (is_directory || self.now.contents.contains_key(&number)).then_some(is_directory)
    }

    /// The content of a file.
    #[must_use]
    pub fn content(&self, number: Number) -> Option<&[u8]> {
        self.now.contents.get(&number).map(Vec::as_slice)
    }

    /// Makes a file or a directory; its number.
    pub fn make(&mut self, parent: Number, name: &str, is_directory: bool) -> Number {
        self.newest += 1;
        let (name, number) = (name.to_owned(), self.newest);
        self.note(Step::Make { parent, name, number, is_directory });
        number
    }

    /// Gives something another name.
    pub fn rename(&mut self, from: (Number, &str), to: (Number, &str)) {
        let owned = |(parent, name): (Number, &str)| (parent, name.to_owned());
        self.note(Step::Move { from: owned(from), to: owned(to) });
    }

    /// Takes a name away.
    pub fn unlink(&mut self, parent: Number, name: &str) {
        self.note(Step::Unlink { parent, name: name.to_owned() });
    }

    /// Writes to a file.
    pub fn write(&mut self, number: Number, at: u64, bytes: &[u8]) {
        self.note(Step::Write { number, at, bytes: bytes.to_vec() });
    }

    /// Gives a file another size.
    pub fn resize(&mut self, number: Number, size: u64) {
        self.note(Step::Resize { number, size });
    }

    /// Makes a file's content last, and all names with it.
    pub fn sync(&mut self, number: Number) {
        self.note(Step::Sync { number });
    }

    /// Writes what is left after a cut behind so many steps into a directory.
    ///
    /// # Errors
    /// The directory cannot be written.
    pub fn left_after(&self, steps: usize, into: &Path) -> io::Result<()> {
        let begin = State { directories: BTreeSet::from([ROOT]), ..State::default() };
        let (mut now, mut lasting) = (begin.clone(), begin);
        for step in self.steps.iter().take(steps) {
            now.take(step);
            if let Step::Sync { number } = step {
                lasting.names.clone_from(&now.names);
                lasting.directories.clone_from(&now.directories);
                if let Some(content) = now.contents.get(number) {
                    lasting.contents.insert(*number, content.clone());
                }
            }
        }
        written(&lasting, ROOT, into)
    }
}

/// Writes a directory and what is in it.
fn written(state: &State, directory: Number, into: &Path) -> io::Result<()> {
    fs::create_dir_all(into)?;
    for ((parent, name), number) in &state.names {
        if *parent != directory {
            continue;
        }
        let path = into.join(name);
        match state.directories.contains(number) {
            true => written(state, *number, &path)?,
            // A name that lasts may stand before a content that does not.
            false => fs::write(path, state.contents.get(number).map_or(&[][..], Vec::as_slice))?,
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The files that are left, with what is in them.
    fn left(log: &Log, steps: usize) -> Vec<(String, String)> {
        let dir = tempfile::tempdir().unwrap();
        log.left_after(steps, dir.path()).unwrap();
        let mut found: Vec<(String, String)> = fs::read_dir(dir.path())
            .unwrap()
            .flatten()
            .map(|entry| {
                let text = fs::read_to_string(entry.path()).unwrap();
                (entry.file_name().into_string().unwrap(), text)
            })
            .collect();
        found.sort();
        found
    }

    fn pair(name: &str, text: &str) -> (String, String) {
        (name.to_owned(), text.to_owned())
    }

    #[test]
    fn only_what_was_synced_is_left_at_each_instant() {
        let mut log = Log::new();
        let file = log.make(ROOT, "a", false);
        log.write(file, 0, b"one");
        log.sync(file);
        log.write(file, 3, b" two");
        let other = log.make(ROOT, "b", false);
        log.write(other, 0, b"never synced");
        log.sync(file);
        assert!(left(&log, 2).is_empty(), "made and written, and not synced");
        assert_eq!(left(&log, 3), [pair("a", "one")]);
        assert_eq!(left(&log, 6), [pair("a", "one")]);
        // The sync of a file makes all names last, but no other content.
        assert_eq!(left(&log, 7), [pair("a", "one two"), pair("b", "")]);
        assert_eq!(log.content(other), Some(&b"never synced"[..]), "the present is whole");
    }

    #[test]
    fn names_that_are_moved_or_taken_away_last_with_the_next_sync() {
        let mut log = Log::new();
        let part = log.make(ROOT, "part", false);
        log.write(part, 0, b"new");
        log.sync(part);
        let old = log.make(ROOT, "whole", false);
        log.write(old, 0, b"old");
        log.sync(old);
        log.rename((ROOT, "part"), (ROOT, "whole"));
        let before = log.len();
        log.resize(part, 1);
        log.sync(part);
        assert_eq!(left(&log, before), [pair("part", "new"), pair("whole", "old")]);
        assert_eq!(left(&log, log.len()), [pair("whole", "n")]);
        log.unlink(ROOT, "whole");
        assert_eq!(left(&log, log.len()), [pair("whole", "n")], "it is still there");
        assert_eq!((log.look(ROOT, "whole"), log.names(ROOT).count()), (None, 0));
    }
}
