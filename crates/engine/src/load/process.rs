//! A load's process: started, listened to, and ended whatever it does.

use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::process::{Child, ChildStdin, Command, ExitStatus, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, TryRecvError, channel};
use std::thread;
use std::time::{Duration, Instant};

use nix::sys::signal::Signal;

use super::kin::{self, Kin};
use crate::logging::pass_log_on;

/// How long a load that was told to stop may take.
const STOPS: Duration = Duration::from_millis(500);
/// Longest line that is listened to; a load that says more without an end of line talks nonsense.
const MOST_LINE: u64 = 4 << 20;

/// What a load's output is made of.
pub(super) enum Said {
    /// A line.
    Line(String),
    /// Something that is no line of text.
    Nonsense(String),
}

/// A running load. It is ended when this is dropped.
pub(super) struct Process {
    child: Child,
    kin: Kin,
    input: Option<ChildStdin>,
    output: Receiver<Said>,
    /// When it last said anything.
    heard: Instant,
}

impl Process {
    pub(super) fn start(command: &mut Command) -> Result<Self, String> {
        let name = command.get_program().to_string_lossy().into_owned();
        // A group of its own: what it starts itself can be ended with it, and a key in the
        // terminal ends neither.
        pass_log_on(command);
        let mark = kin::mark(command);
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .map_err(|error| format!("the load {name} cannot be started: {error}"))?;
        let (sender, output) = channel();
        if let Some(stdout) = child.stdout.take() {
            let mut reader = BufReader::new(stdout);
            thread::spawn(move || {
                loop {
                    let mut line = Vec::new();
                    let said = match reader.by_ref().take(MOST_LINE).read_until(b'\n', &mut line) {
                        Ok(0) | Err(_) => return,
                        Ok(_) if !line.ends_with(b"\n") && line.len() as u64 == MOST_LINE => {
                            Said::Nonsense("a line without an end".into())
                        }
                        Ok(_) => match String::from_utf8(line) {
                            Ok(text) => Said::Line(text.trim_end().to_owned()),
                            Err(_) => Said::Nonsense("bytes that are not text".into()),
                        },
                    };
                    if sender.send(said).is_err() {
                        return;
                    }
                }
            });
        }
        let input = child.stdin.take();
        let kin = Kin::new(child.id(), mark);
        Ok(Self { child, kin, input, output, heard: Instant::now() })
    }

    pub(super) fn kin(&self) -> &Kin {
        &self.kin
    }

    /// The next thing it said, waiting no longer than `wait`. `Err` once it says nothing any more.
    pub(super) fn next(&mut self, wait: Duration) -> Result<Option<Said>, ()> {
        let said = match self.output.try_recv() {
            Ok(said) => Some(said),
            Err(TryRecvError::Disconnected) => return Err(()),
            Err(TryRecvError::Empty) if wait.is_zero() => None,
            Err(TryRecvError::Empty) => match self.output.recv_timeout(wait) {
                Ok(said) => Some(said),
                Err(RecvTimeoutError::Timeout) => None,
                Err(RecvTimeoutError::Disconnected) => return Err(()),
            },
        };
        if said.is_some() {
            self.heard = Instant::now();
        }
        Ok(said)
    }

    /// How long it has said nothing.
    pub(super) fn silent_for(&self) -> Duration {
        self.heard.elapsed()
    }

    /// Forgets how long it has been silent.
    pub(super) fn listen_anew(&mut self) {
        self.heard = Instant::now();
    }

    /// Its exit, waiting no longer than `wait`.
    pub(super) fn exit(&mut self, wait: Duration) -> Option<ExitStatus> {
        let until = Instant::now() + wait;
        loop {
            match self.child.try_wait() {
                Ok(Some(status)) => return Some(status),
                Ok(None) if Instant::now() < until => thread::sleep(Duration::from_millis(2)),
                Ok(None) | Err(_) => return None,
            }
        }
    }

    /// Tells it something; whether it can still be told.
    pub(super) fn say(&mut self, words: &[u8]) -> bool {
        self.input.as_mut().is_some_and(|input| input.write_all(words).is_ok())
    }

    /// Asks it to stop, in its own words and by signal, and ends it if it does not.
    pub(super) fn stop(mut self, words: &[u8]) {
        // It may be gone already; then there is nothing to be told.
        self.say(words);
        self.input = None;
        if words.is_empty() {
            self.kin.signal(Signal::SIGTERM);
        }
        // If it still runs after that, it is ended as this is dropped, with what it started itself.
        self.exit(STOPS);
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        self.kin.end();
        let _ = self.child.wait();
    }
}

/// How a process ended, as the words that follow "the load".
pub(super) fn in_words(status: Option<ExitStatus>) -> String {
    match status {
        None => "closed its output".into(),
        Some(status) => match (status.signal(), status.code()) {
            (Some(signal), _) => {
                let name = Signal::try_from(signal).map_or("an unknown one", Signal::as_str);
                format!("was ended by signal {signal} ({name})")
            }
            (None, Some(code)) => format!("ended with exit code {code}"),
            (None, None) => "ended".into(),
        },
    }
}
