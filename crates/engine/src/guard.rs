//! The guard: a small process of its own that holds the way back.
//!
//! ```text
//!   engine ── way back, load ──► guard ── (the engine is gone) ──► ends the load,
//!      └───── all is well ─────►   └── leaves                      puts the card back, logs it, leaves
//! ```
//!
//! It knows that the engine is gone when its input ends: that happens however a process ends. It
//! needs neither ledger nor configuration, only the settings to go back to, which it is told each
//! time they change.

use std::fs::OpenOptions;
use std::io::{self, BufRead, PipeReader, PipeWriter, Read, Write};
use std::os::unix::process::{CommandExt, parent_id};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use nix::unistd::Pid;
use serde::{Deserialize, Serialize};
use tracing::info;
use yard_step_card::{Card, FanDriver, Reach, connect_to_held, is_held, restore};
use yard_step_core::{Seconds, Settings};

use crate::load::Kin;
use crate::lock::CardLock;
use crate::logging::pass_log_on;

/// How long a guard tries to see the card back.
const PATIENCE: Duration = Duration::from_secs(60);
/// Time between two tries.
const BETWEEN_TRIES: Duration = Duration::from_millis(200);
/// Time between two looks at a card.
const LATE: Duration = Duration::from_millis(20);
/// Longest message that is read, bytes.
const MOST_MESSAGE: u64 = 64 << 10;
/// Looks at a card that was put back.
const LATE_LOOKS: u32 = 10;

/// What the engine says to its guard, a line each.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "snake_case")]
enum Word {
    /// Settings the card is to go back to.
    WayBack { settings: Box<Settings> },
    /// The load that runs now.
    Load { kin: Option<Kin> },
    /// The card is back: there is nothing to be done.
    AllIsWell,
}

/// Where a guard is found and what it watches over.
#[derive(Debug, Clone)]
pub struct Post {
    /// The program whose `guard` command it is.
    pub program: PathBuf,
    /// The card, as another process reaches it.
    pub card: Reach,
    /// The card's lock: whoever takes it is answerable for the card.
    pub lock: PathBuf,
    /// Where it writes down what it did.
    pub log: PathBuf,
}

/// A guard on its post. Dropped without a word, it puts the card back.
pub struct Guard {
    post: Post,
    child: Child,
    /// What it is told by; it ends with this process, whatever becomes of that.
    input: Option<PipeWriter>,
    /// What it was told last, for one that takes its place.
    way_back: Option<Settings>,
}

impl Guard {
    /// Sets a guard on its post.
    ///
    /// # Errors
    /// The process cannot be started.
    pub fn start(post: Post) -> io::Result<Self> {
        let (child, input) = spawn(&post, None)?;
        Ok(Self { post, child, input: Some(input), way_back: None })
    }

    /// Sees to it that there is a guard; tells if a new one had to be set.
    ///
    /// # Errors
    /// There is none, and no other can be started.
    pub(crate) fn see_to_it(&mut self) -> io::Result<Option<String>> {
        if self.child.try_wait()?.is_none() {
            return Ok(None);
        }
        let (child, input) = spawn(&self.post, self.way_back)?;
        (self.child, self.input) = (child, Some(input));
        Ok(Some("The guard was gone; another one took its place.".into()))
    }

    /// Tells it where the card is to go back to, if it does not know.
    pub(crate) fn set_way_back(&mut self, settings: &Settings) {
        if self.way_back == Some(*settings) {
            return;
        }
        self.way_back = Some(*settings);
        self.say(&Word::WayBack { settings: Box::new(*settings) });
    }

    /// Tells it which load runs.
    pub(crate) fn set_load(&mut self, load: Option<&Kin>) {
        self.say(&Word::Load { kin: load.cloned() });
    }

    /// Relieves it: the card is back.
    pub(crate) fn relieve(mut self) {
        self.say(&Word::AllIsWell);
        drop(self.input.take());
        // It has nothing to do any more.
        let _ = self.child.wait();
    }

    /// Leaves the card to it. It goes on by itself, for a minute at most, and is not waited for.
    pub(crate) fn hand_over(self) {
        // What becomes of a guard that is dropped without a word.
    }

    fn say(&mut self, word: &Word) {
        if let Some(input) = &mut self.input {
            // One that is gone is replaced before the next trial, and told then.
            let _ = input.write_all(&line_of(word));
        }
    }
}

/// A message as it is sent.
fn line_of(word: &Word) -> Vec<u8> {
    let mut line = serde_json::to_vec(word).unwrap_or_default();
    line.push(b'\n');
    line
}

impl Drop for Guard {
    fn drop(&mut self) {
        drop(self.input.take());
        if let Ok(None) = self.child.try_wait() {
            // It works on; whoever has ended must be waited for by somebody.
            let process = Pid::from_raw(self.child.id() as i32);
            thread::spawn(move || nix::sys::wait::waitpid(process, None));
        }
    }
}

/// The two ends of what a guard is told by, with the way back waiting in it: whoever is killed right after the guard was
/// started leaves one that knows what to do.
fn instructed(way_back: Option<Settings>) -> io::Result<(PipeReader, PipeWriter)> {
    let (output, mut input) = io::pipe()?;
    if let Some(settings) = way_back {
        input.write_all(&line_of(&Word::WayBack { settings: Box::new(settings) }))?;
    }
    Ok((output, input))
}

fn spawn(post: &Post, way_back: Option<Settings>) -> io::Result<(Child, PipeWriter)> {
    let (output, input) = instructed(way_back)?;
    // A group of its own: a key or a signal for the terminal's programs does not reach it.
    let mut command = Command::new(&post.program);
    pass_log_on(&mut command);
    command
        .arg("guard")
        .args(["--card", &post.card.to_string()])
        .arg("--lock")
        .arg(&post.lock)
        .arg("--told")
        .arg(&post.log)
        .stdin(output)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .process_group(0)
        .spawn()
        .map(|child| (child, input))
}

/// Stands guard: the whole of the guard's process. Reads `input` to its end, then puts the card
/// back unless it was told that all is well. Whether the card is back in the end.
pub fn stand(mut input: impl BufRead, reach: &str, lock: &Path, log: &Path) -> bool {
    // Asked before anything is read: whoever dies later is not the parent any more.
    let guarded = parent_id();
    let (mut way_back, mut load) = (None, None);
    let mut line = Vec::new();
    // A message that is too long is no message of ours: it cannot be parsed, and its rest neither.
    while matches!(
        input.by_ref().take(MOST_MESSAGE).read_until(b'\n', &mut line),
        Ok(count) if count > 0
    ) {
        match serde_json::from_slice(&line) {
            Ok(Word::WayBack { settings }) => {
                info!("holds the way back");
                way_back = Some(*settings);
            }
            Ok(Word::Load { kin }) => load = kin,
            Ok(Word::AllIsWell) => {
                info!("is relieved: all is well");
                return true;
            }
            // The last line of one who died while writing it.
            Err(_) => {}
        }
        line.clear();
    }
    if let Some(load) = load {
        load.end();
    }
    info!("Yard Step is gone");
    let Some(settings) = way_back else { return true };
    match see_it_back(reach, &settings, (lock, guarded), PATIENCE) {
        Ok(how) => {
            note(log, &format!("Yard Step was gone: {how}"));
            true
        }
        Err(cause) => {
            let waited = Seconds(PATIENCE.as_secs_f64()).in_words();
            let text = format!(
                "Yard Step was gone, and after {waited} of trying the card was not seen to be \
                 back: {cause}"
            );
            note(log, &text);
            false
        }
    }
}

/// Tries until the card is seen to hold the settings, or somebody else answers for it.
fn see_it_back(
    reach: &str,
    settings: &Settings,
    (lock, guarded): (&Path, u32),
    patience: Duration,
) -> Result<&'static str, String> {
    let until = Instant::now() + patience;
    let mut card = None;
    loop {
        let cause = match try_it_back(&mut card, reach, settings, (lock, guarded)) {
            Ok(how) => return Ok(how),
            Err(cause) => cause,
        };
        if Instant::now() > until {
            return Err(cause);
        }
        thread::sleep(BETWEEN_TRIES);
    }
}

/// One try. `reached` is the card, as far as it could be reached before.
fn try_it_back(
    reached: &mut Option<Box<dyn Card>>,
    reach: &str,
    settings: &Settings,
    (lock, guarded): (&Path, u32),
) -> Result<&'static str, String> {
    let Some(_lock) = CardLock::stand_in_for_the_dead(lock) else {
        // Another Yard Step has begun to work on the card. Until its own guard knows the way back,
        // it may die and leave the card to nobody.
        return match CardLock::is_guarded_by_other(lock, guarded) {
            true => Ok("another Yard Step answers for the card"),
            false => Err("another Yard Step has taken the card and set no guard".into()),
        };
    };
    let mut card = match reached.take() {
        Some(card) => card,
        None => {
            let card: Reach =
                reach.parse().map_err(|error| format!("no card is named so: {error}"))?;
            connect_to_held(&card).map_err(|error| error.to_string())?
        }
    };
    let way_back = settings.with_unwritten_fan(card.description());
    // A fan that was driven stands at its last speed, and nobody drives it any more.
    let way_back = FanDriver::left_alone(&way_back, card.description());
    restore(card.as_mut(), &way_back).map_err(|error| error.cause)?;
    // What the dead have asked for last may reach the card only now.
    for _ in 0..LATE_LOOKS {
        thread::sleep(LATE);
        let taken = card.taken().map_err(|error| error.to_string())?;
        if !is_held(card.as_ref(), &way_back, &taken) {
            restore(card.as_mut(), &way_back).map_err(|error| error.cause)?;
        }
    }
    *reached = Some(card);
    Ok("the card was put back")
}

fn note(log: &Path, text: &str) {
    info!("{text}");
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |span| span.as_secs());
    let file = OpenOptions::new().create(true).append(true).open(log);
    // Without a log the card is back all the same.
    let _ =
        file.and_then(|mut file| writeln!(file, "{now} process {}: {text}", std::process::id()));
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_core::Watt;

    #[test]
    fn a_guard_knows_the_way_back_from_its_birth() {
        let settings = Settings { power_limit: Some(Watt(200.0)), ..Settings::default() };
        let (mut output, input) = instructed(Some(settings)).unwrap();
        // As when Yard Step is killed before it says anything.
        drop(input);
        let mut line = Vec::new();
        output.read_to_end(&mut line).unwrap();
        let word: Word = serde_json::from_slice(&line).unwrap();
        assert!(matches!(word, Word::WayBack { settings: told } if *told == settings));
    }
}
