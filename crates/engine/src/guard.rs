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
use std::io::{self, BufRead, Write};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;
use serde::{Deserialize, Serialize};
use yard_step_card::slot::{SlotAddress, SlotCard};
use yard_step_card::{Card, CardError};
use yard_step_core::Settings;

use crate::holding::restore;
use crate::lock::CardLock;

/// How long one who has taken the card over is looked after.
const PATIENCE: Duration = Duration::from_secs(10);
/// Time between two looks at a card.
const LATE: Duration = Duration::from_millis(20);
/// Looks at a card that was put back.
const LATE_LOOKS: u32 = 10;

/// What the engine says to its guard, a line each.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "snake_case")]
enum Word {
    /// Settings the card is to go back to.
    WayBack { settings: Box<Settings> },
    /// The load that runs now, by its process group.
    Load { group: Option<u32> },
    /// The card is back: there is nothing to be done.
    AllIsWell,
}

/// Where a guard is found and what it watches over.
#[derive(Debug, Clone)]
pub struct Post {
    /// The program whose `guard` command it is.
    pub program: PathBuf,
    /// The card, as another process reaches it.
    pub slot: String,
    /// The card's lock: whoever takes it is answerable for the card.
    pub lock: PathBuf,
    /// Where it writes down what it did.
    pub log: PathBuf,
}

/// A guard on its post. Dropped without a word, it puts the card back.
pub struct Guard {
    post: Post,
    child: Child,
    /// What it was told last, for one that takes its place.
    way_back: Option<Settings>,
}

impl Guard {
    /// Sets a guard on its post.
    ///
    /// # Errors
    /// The process cannot be started.
    pub fn start(post: Post) -> io::Result<Self> {
        Ok(Self { child: spawn(&post)?, post, way_back: None })
    }

    /// Sees to it that there is a guard; tells if a new one had to be set.
    ///
    /// # Errors
    /// There is none, and no other can be started.
    pub(crate) fn see_to_it(&mut self) -> io::Result<Option<String>> {
        if self.child.try_wait()?.is_none() {
            return Ok(None);
        }
        self.child = spawn(&self.post)?;
        if let Some(settings) = self.way_back {
            self.say(&Word::WayBack { settings: Box::new(settings) });
        }
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
    pub(crate) fn set_load(&mut self, group: Option<u32>) {
        self.say(&Word::Load { group });
    }

    /// Relieves it: the card is back.
    pub(crate) fn relieve(&mut self) {
        self.say(&Word::AllIsWell);
    }

    fn say(&mut self, word: &Word) {
        let Ok(mut line) = serde_json::to_vec(word) else { return };
        line.push(b'\n');
        if let Some(input) = &mut self.child.stdin {
            // One that is gone is replaced before the next trial, and told then.
            let _ = input.write_all(&line);
        }
    }
}

impl Drop for Guard {
    fn drop(&mut self) {
        drop(self.child.stdin.take());
        // It has nothing to do, or at most a second's work.
        let _ = self.child.wait();
    }
}

fn spawn(post: &Post) -> io::Result<Child> {
    // A group of its own: a key or a signal for the terminal's programs does not reach it.
    Command::new(&post.program)
        .arg("guard")
        .args(["--slot", &post.slot])
        .arg("--lock")
        .arg(&post.lock)
        .arg("--log")
        .arg(&post.log)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .process_group(0)
        .spawn()
}

/// Stands guard: the whole of the guard's process. Reads `input` to its end, then puts the card
/// back unless it was told that all is well.
pub fn stand(input: impl BufRead, slot: &str, lock: &Path, log: &Path) {
    let (mut way_back, mut load) = (None, None);
    for line in input.lines() {
        let Ok(line) = line else { break };
        match serde_json::from_str(&line) {
            Ok(Word::WayBack { settings }) => way_back = Some(*settings),
            Ok(Word::Load { group }) => load = group,
            Ok(Word::AllIsWell) => return,
            // The last line of one who died while writing it.
            Err(_) => {}
        }
    }
    if let Some(group) = load.and_then(|group| i32::try_from(group).ok()) {
        // A load that went with the engine needs no signal.
        let _ = killpg(Pid::from_raw(group), Signal::SIGKILL);
    }
    let Some(settings) = way_back else { return };
    let text = match see_it_back(slot, &settings, lock) {
        Ok(how) => format!("Yard Step was gone: {how}"),
        Err(error) => format!("Yard Step was gone, and the card is not to be reached: {error}"),
    };
    note(log, &text);
}

/// Puts the card back, or sees to it that whoever has taken it over meanwhile does.
fn see_it_back(slot: &str, settings: &Settings, lock: &Path) -> Result<&'static str, CardError> {
    let mut card = SlotCard::open(SlotAddress::from(slot.to_owned()), None)?;
    let way_back = settings.with_unwritten_fan(card.description());
    let until = Instant::now() + PATIENCE;
    loop {
        if let Some(_lock) = CardLock::stand_in_for_the_dead(lock) {
            let is_back = restore(&mut card, &way_back);
            // What the dead have asked for last may reach the card only now.
            for _ in 0..LATE_LOOKS {
                thread::sleep(LATE);
                if is_back && card.taken()? != way_back {
                    restore(&mut card, &way_back);
                }
            }
            return Ok(match is_back {
                true => "the card was put back",
                false => "the card does not hold what it was put to",
            });
        }
        // Another Yard Step has begun to work on it. It puts the card back first of all, unless it
        // dies before: so long as that is not seen, the card is left to nobody.
        if card.taken()? == way_back {
            return Ok("another one has put the card back");
        }
        if Instant::now() > until {
            return Ok("another one works on the card, and it was left to that");
        }
        thread::sleep(LATE);
    }
}

fn note(log: &Path, text: &str) {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |span| span.as_secs());
    let file = OpenOptions::new().create(true).append(true).open(log);
    // Without a log the card is back all the same.
    let _ =
        file.and_then(|mut file| writeln!(file, "{now} process {}: {text}", std::process::id()));
}
