//! Running the real program, by itself and in a terminal.
#![allow(dead_code)]

use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::atomic::{AtomicU32, Ordering};
use std::thread::sleep;
use std::time::{Duration, Instant};

use yard_step_card::RuntimeDir;
use yard_step_card::slot::{SlotAddress, SlotCard};
use yard_step_engine::CardLock;

pub const PROGRAM: &str = env!("CARGO_BIN_EXE_yard-step");

/// Runs the program to its end.
pub fn yard_step(arguments: &[&str]) -> Output {
    program(arguments).output().unwrap()
}

/// The program with arguments, on the machine of its data directory.
pub fn program(arguments: &[&str]) -> Command {
    let data = arguments.windows(2).find(|pair| pair[0] == "--data-dir").map_or("", |pair| pair[1]);
    let mut command = program_on_machine_of(data);
    command.args(arguments);
    command
}

/// The program on the machine of a data directory, without arguments yet.
pub fn program_on_machine_of(data: &str) -> Command {
    let mut command = Command::new(PROGRAM);
    command.env("XDG_RUNTIME_DIR", machine_of(data));
    command
}

/// A machine of its own for each data directory of the tests: the directory of its sockets and
/// locks. Without it, tests that use the same card would wait for one another.
pub fn machine_of(data: &str) -> PathBuf {
    let mut digest = DefaultHasher::new();
    data.hash(&mut digest);
    let name = format!("yard-step-test-{}/{:016x}", std::process::id(), digest.finish());
    let place = std::env::temp_dir().join(name);
    std::fs::create_dir_all(&place).unwrap();
    place
}

/// The stand-in that a program has switched on, on the machine of its data directory.
pub fn card_on_machine_of(data: &str, key: &str) -> Option<SlotCard> {
    let runtime = RuntimeDir::at(&machine_of(data).join("yard-step")).ok()?;
    SlotCard::open(SlotAddress::of(&runtime, key), None).ok()
}

/// Where the lock of a card lies on the machine of a data directory.
pub fn lock_on_machine_of(data: &str, key: &str) -> PathBuf {
    let place = machine_of(data).join("yard-step");
    RuntimeDir::at(&place).unwrap();
    CardLock::path(&place, key)
}

pub fn stdout(output: &Output) -> String {
    String::from_utf8(output.stdout.clone()).unwrap()
}

pub fn stderr(output: &Output) -> String {
    String::from_utf8(output.stderr.clone()).unwrap()
}

pub fn text_of(path: &Path) -> String {
    path.to_str().unwrap().to_owned()
}

/// A plan by which every step can be foretold.
pub const FIXED_STEP: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/common/fixed-step.toml");

/// A plan whose trials are short.
pub fn short_plan(dir: &Path) -> String {
    let path = dir.join("short.toml");
    let axis = "seconds = 30\nwarm_up_seconds = 5\nconfirm_seconds = 120\nsettle_seconds = 30\n";
    let plan = format!(
        "scene = \"lantern\"\npolicy = \"fixed-step\"\n\
         [baseline]\nseconds = 30\nwarm_up_seconds = 60\n\
         [power]\nseconds = 30\nruns = 1\n[core]\n{axis}[memory]\n{axis}\
         [together]\nconfirm_seconds = 120\nisolate_seconds = 30\nsettle_seconds = 30\n\
         [score]\nmost_repeats = 0\n[rules]\nmost_warming_k = 50\n"
    );
    std::fs::write(&path, plan).unwrap();
    path.to_str().unwrap().to_owned()
}

/// A terminal of its own, with a program in it.
pub struct Terminal {
    server: String,
}

/// How long to wait for something that must come: far longer than it takes.
const PATIENCE: Duration = Duration::from_secs(120);

impl Terminal {
    /// Starts a shell command in a terminal of the given size. When it ends, its exit code is
    /// shown as `ended with N`.
    pub fn start((columns, rows): (u16, u16), command: &str) -> Self {
        static COUNT: AtomicU32 = AtomicU32::new(0);
        let count = COUNT.fetch_add(1, Ordering::Relaxed);
        let terminal = Self { server: format!("yard-step-test-{}-{count}", std::process::id()) };
        let (columns, rows) = (columns.to_string(), rows.to_string());
        let mut words = command.split_whitespace();
        let data = words.find(|word| *word == "--data-dir").and_then(|_| words.next());
        let machine = machine_of(data.unwrap_or_default());
        let command = format!(
            "export COLORTERM=truecolor XDG_RUNTIME_DIR={} YARD_STEP_INJECT_FAULTS=1; {command}; echo ended with $?; exec sleep 600",
            machine.display()
        );
        terminal.tmux(&[
            "-f",
            "/dev/null",
            "new-session",
            "-d",
            "-s",
            "s",
            "-x",
            &columns,
            "-y",
            &rows,
            &command,
        ]);
        terminal
    }

    fn tmux(&self, arguments: &[&str]) -> String {
        let output =
            Command::new("tmux").args(["-u", "-L", &self.server]).args(arguments).output().unwrap();
        assert!(output.status.success(), "tmux {arguments:?}: {}", stderr(&output));
        stdout(&output)
    }

    pub fn press(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", "-t", "s", key]);
        }
    }

    /// Types a text as it is.
    pub fn type_in(&self, text: &str) {
        self.tmux(&["send-keys", "-t", "s", "-l", text]);
    }

    pub fn resize(&self, (columns, rows): (u16, u16)) {
        let (columns, rows) = (columns.to_string(), rows.to_string());
        self.tmux(&["resize-window", "-t", "s", "-x", &columns, "-y", &rows]);
    }

    pub fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p", "-t", "s"])
    }

    /// Whether the terminal shows the alternate screen, as a full-screen program does.
    pub fn is_taken(&self) -> bool {
        self.tmux(&["display-message", "-p", "-t", "s", "#{alternate_on}"]).trim() == "1"
    }

    /// Process number of the program in the terminal.
    pub fn program(&self) -> String {
        let shell = self.tmux(&["display-message", "-p", "-t", "s", "#{pane_pid}"]);
        let children = Command::new("pgrep").args(["-P", shell.trim()]).output().unwrap();
        stdout(&children).lines().next().unwrap().to_owned()
    }

    /// Waits until a text is on the screen and returns with the screen.
    pub fn wait_for(&self, text: &str) -> String {
        self.wait_for_all(&[text])
    }

    /// Waits until one of the texts is on the screen; answers which.
    pub fn wait_for_any<'a>(&self, texts: &[&'a str]) -> &'a str {
        let seen = |screen: &str| texts.iter().find(|text| screen.contains(**text)).copied();
        self.wait_until(&format!("never saw any of {texts:?}"), seen)
    }

    /// Waits until all texts are on the screen at once. A screen may be caught half drawn, so what
    /// belongs together is waited for together.
    pub fn wait_for_all(&self, texts: &[&str]) -> String {
        let has_all = |screen: &str| texts.iter().all(|text| screen.contains(text));
        self.wait_until(&format!("never saw {texts:?}"), |screen| {
            has_all(screen).then(|| screen.to_owned())
        })
    }

    /// Closes what shows `heading`, and waits until it is gone: an Escape with a letter right behind it
    /// is another key to a terminal.
    pub fn close(&self, heading: &str) {
        self.press(&["Escape"]);
        self.wait_until(&format!("{heading:?} stays"), |screen| {
            (!screen.contains(heading)).then_some(())
        });
    }

    /// Writes everything that the program prints from now on to a file, sequences and all.
    pub fn pipe_to(&self, file: &Path) {
        let cat = format!("cat > {}", file.display());
        self.tmux(&["pipe-pane", "-o", "-t", "s", &cat]);
    }

    /// Looks at the screen until something is found there; `failure` is told where it never is.
    pub fn wait_until<T>(&self, failure: &str, find: impl Fn(&str) -> Option<T>) -> T {
        let began = Instant::now();
        loop {
            let screen = self.screen();
            if let Some(found) = find(&screen) {
                return found;
            }
            assert!(began.elapsed() < PATIENCE, "{failure} in:\n{screen}");
            sleep(Duration::from_millis(50));
        }
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = Command::new("tmux").args(["-L", &self.server, "kill-server"]).output();
    }
}

/// Waits for something that must come.
pub fn until<T>(what: &str, mut look: impl FnMut() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(began.elapsed() < PATIENCE, "never came to be: {what}");
        sleep(Duration::from_millis(5));
    }
}
