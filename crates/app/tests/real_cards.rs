//! A real card, as far as there is one here: a stand-in mounted as the kernel's files, a keeper that writes them, and climbs
//! by the real program. Mounting takes root and `/dev/fuse`.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use common::{PROGRAM, Terminal, stderr, stdout, until};
use kernel_tree::{Device, Layout, Mounted, mount};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use tempfile::TempDir;
use yard_step_card::slot::SlotAddress;
use yard_step_card::{CardAddress, Family, connect};

/// Columns and rows of a terminal.
const SIZE: (u16, u16) = (160, 50);

/// Short trials: eleven seconds are the shortest that have a score.
const PLAN: &str = "scene = \"lantern\"\nfull_load = \"lantern\"\npolicy = \"fixed-step\"\n\
    [baseline]\nruns = 1\nseconds = 10.2\nwarm_up_seconds = 0\n\
    [power]\nruns = 1\nseconds = 10.2\nhalvings = 0\n\
    [core]\ncoarse_step_mhz = 140\nfine_step_mhz = 20\nmargin_steps = 0\nseconds = 10.2\n\
    warm_up_seconds = 0\nconfirm_seconds = 10.2\nsettle_seconds = 10.2\n\
    [score]\nmost_repeats = 0\n[rules]\nmost_warming_k = 50\n";

/// Cards on which nothing fails within their ranges: after a driver reset, a climb waits for the restart of the machine.
const STURDY: &str = "not_taken = 0.0\nbackground = 0.0\nstarved = 0.0\n\
    [core]\nedge_percent = 20\nedge_spread = 0\n";

/// A machine with a card in it.
struct Machine {
    _tree: Mounted,
    dir: TempDir,
    keeper: Option<Child>,
    factory: String,
}

impl Machine {
    fn new(card: &str, layout: Layout) -> Self {
        Self::at_speed(card, layout, 1.0)
    }

    /// One whose card works so many times as fast: what it gains is clear after fewer seconds.
    fn at_speed(card: &str, layout: Layout, speed: f64) -> Self {
        let mut machine = Self::without_keeper(card, layout, speed);
        machine.start_keeper();
        machine
    }

    fn without_keeper(card: &str, layout: Layout, speed: f64) -> Self {
        Self::with_cards(&[card], layout, speed)
    }

    fn with_cards(cards: &[&str], layout: Layout, speed: f64) -> Self {
        let dir = tempfile::tempdir().unwrap();
        for name in ["tree", "run"] {
            fs::create_dir(dir.path().join(name)).unwrap();
        }
        fs::write(dir.path().join("plan.toml"), PLAN).unwrap();
        let family = Family::from_toml(STURDY).unwrap();
        let device = |number: u8, card: &str| {
            let address: CardAddress = card.parse().unwrap();
            let address = address.of_family("sturdy", family.clone());
            let device = Device::new(connect(&address).unwrap(), layout).unwrap();
            let slot = SlotAddress::at(&dir.path().join(format!("frames{number}.sock")));
            device.numbered(number).drawn_on_at(slot).unwrap().at_speed(speed)
        };
        let devices = (0..).zip(cards).map(|(number, card)| device(number, card)).collect();
        let tree = mount(devices, &dir.path().join("tree")).unwrap();
        let mut machine = Self { _tree: tree, dir, keeper: None, factory: String::new() };
        machine.factory = machine.state().unwrap();
        machine
    }

    fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    fn device(&self) -> PathBuf {
        self.device_of(0)
    }

    fn device_of(&self, card: u8) -> PathBuf {
        self.path(&format!("tree/class/drm/card{card}/device"))
    }

    fn state(&self) -> Option<String> {
        self.state_of(0)
    }

    /// All that can be set on a card, byte for byte; none while a reset has taken the files away.
    fn state_of(&self, card: u8) -> Option<String> {
        const MUST: [&str; 1] = ["hwmon/hwmon0/pwm1_enable"];
        const MAY: [&str; 7] = [
            "gpu_od/fan_ctrl/fan_curve",
            "pp_od_clk_voltage",
            "power_dpm_force_performance_level",
            "hwmon/hwmon0/power1_cap",
            "hwmon/hwmon0/power1_max",
            "tile0/gt0/freq0/min_freq",
            "tile0/gt0/freq0/max_freq",
        ];
        let read = |name: &str| fs::read_to_string(self.device_of(card).join(name)).ok();
        let must = MUST.iter().map(|name| read(name)).collect::<Option<String>>()?;
        Some(MAY.iter().filter_map(|name| read(name)).collect::<String>() + &must)
    }

    fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(PROGRAM);
        command.env("XDG_RUNTIME_DIR", self.path("run")).args(words);
        command
    }

    fn keeper(&self) -> Command {
        let mut command = self.command(&["keeper"]);
        command.arg("--sysfs").arg(self.path("tree"));
        command.arg("--records").arg(self.path("records"));
        command
    }

    fn start_keeper(&mut self) {
        let mut command = self.keeper();
        command.arg("--socket").arg(self.path("keeper.sock"));
        let mut keeper = command.stdout(Stdio::piped()).spawn().unwrap();
        let mut lines = BufReader::new(keeper.stdout.take().unwrap());
        let mut line = String::new();
        while !line.contains("listens at") {
            line.clear();
            assert!(lines.read_line(&mut line).unwrap() > 0, "the keeper said nothing");
        }
        // Read on, so that it is never kept waiting.
        thread::spawn(move || lines.lines().map_while(Result::ok).for_each(drop));
        self.keeper = Some(keeper);
    }

    /// What systemd does once the keeper has ended: the stop action, and a new one.
    fn replace_keeper(&mut self) {
        let mut keeper = self.keeper.take().unwrap();
        keeper.wait().unwrap();
        let put_back = self.keeper().arg("--put-back").output().unwrap();
        assert!(put_back.status.success(), "{}", stderr(&put_back));
        self.start_keeper();
    }

    fn on_card(&self, words: &[&str]) -> Command {
        self.on(words, "kernel")
    }

    fn on(&self, words: &[&str], card: &str) -> Command {
        let mut command = self.command(words);
        command.args(["--card", card, "--sysfs"]).arg(self.path("tree"));
        command.arg("--keeper").arg(self.path("keeper.sock"));
        command.arg("--data-dir").arg(self.path("data"));
        command
    }

    fn climb(&self, stages: &str) -> Command {
        let mut command = self.on_card(&["climb", "--stages", stages]);
        command.arg("--plan").arg(self.path("plan.toml"));
        command
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        if let Some(mut keeper) = self.keeper.take() {
            let _ = keeper.kill();
            let _ = keeper.wait();
        }
    }
}

#[test]
fn a_climb_through_the_files_of_every_generation_ends_with_the_factory_table_back() {
    let generations = [
        ("standin:bracken-208#7", Layout::Levels, "baseline,power,core"),
        ("standin:tarn-310#7", Layout::Curve, "baseline,power,core"),
        ("standin:quern-540#7", Layout::Window, "baseline,power,core"),
        ("standin:tarn-310#7", Layout::Offset, "baseline,power,core"),
        // The other family states no limit above its rated one.
        ("standin:quern-540#7", Layout::Frequency, "baseline,core"),
    ];
    thread::scope(|scope| {
        for (card, layout, stages) in generations {
            scope.spawn(move || climb_and_come_back(card, layout, stages));
        }
    });
}

/// The limit table by the commands: copied, compared, pending, and taken away without a keeper and without the card.
#[test]
fn a_limit_table_is_copied_byte_for_byte_and_an_override_is_taken_away_without_keeper_or_card() {
    let mut machine = Machine::new("standin:tarn-310#7", Layout::Offset);
    let factory = fs::read(machine.device().join("pp_table")).unwrap();
    let ceiling = |machine: &Machine, card: &str, words: &[&str]| {
        let mut command = machine.on(&["ceiling"], card);
        command.arg("--records").arg(machine.path("records")).args(words).output().unwrap()
    };
    let told = |machine: &Machine, card: &str, words: &[&str], what: &str| {
        let output = ceiling(machine, card, words);
        let text = stdout(&output) + &stderr(&output);
        assert!(text.contains(what), "{words:?}: {text}");
        output.status.code()
    };
    let raw = machine.path("raw.bin");
    let raw = raw.to_str().unwrap();
    assert_eq!(told(&machine, "kernel", &["save", "--raw", raw], "is in"), Some(0));
    assert_eq!(fs::read(raw).unwrap(), factory);
    told(&machine, "kernel", &["compare", raw], "The two tables hold the same.");

    // A file that the user has: as a whole, or not at all.
    let own = machine.path("own.bin");
    let mut bytes = factory.clone();
    bytes[1_100] ^= 1;
    fs::write(&own, &bytes).unwrap();
    let own = own.to_str().unwrap();
    told(&machine, "kernel", &["compare", own], "byte 1100");
    fs::write(machine.path("cut.bin"), &factory[..900]).unwrap();
    let cut = machine.path("cut.bin");
    let cut = cut.to_str().unwrap();
    let refused = told(&machine, "kernel", &["load", cut, "--yes"], "it states 1252 bytes");
    assert_eq!(refused, Some(1));
    assert_eq!(told(&machine, "kernel", &["load", own], "1 byte of unknown meaning"), Some(1));
    told(&machine, "kernel", &["load", own, "--yes"], "after the next start of the machine");
    told(&machine, "kernel", &["set", "power-limit=+15%", "--yes"], "+14.6 % on the maker's");
    assert_eq!(fs::read(machine.device().join("pp_table")).unwrap(), factory, "pending");

    // The keeper does not run, and then the card is not there either.
    machine.keeper.take().map(|mut keeper| (keeper.kill().unwrap(), keeper.wait().unwrap()));
    told(&machine, "kernel", &[], "override");
    let pending = told(&machine, "kernel", &["set", "power-limit=+5%", "--yes"], "only the keeper");
    assert_eq!(pending, Some(1));
    let absent = "kernel:0000:0a:00.0";
    told(&machine, absent, &["off"], "there is no record of this card");
    let address = "kernel:0000:03:00.0";
    let off = |words: &[&str]| {
        let mut command = machine.command(&["ceiling", "--card", address]);
        command
            .arg("--sysfs")
            .arg(machine.path("run"))
            .arg("--records")
            .arg(machine.path("records"));
        command.arg("--data-dir").arg(machine.path("data")).args(words).output().unwrap()
    };
    assert!(
        stdout(&off(&["off"])).contains("The driver reads the maker's limits at the next start")
    );
    assert!(stdout(&off(&["off"])).contains("the maker's limits already"));
    assert!(stdout(&off(&[])).contains("kernel:0000:03:00.0: the maker's limits"));
}

fn climb_and_come_back(card: &str, layout: Layout, stages: &str) {
    let machine = Machine::new(card, layout);
    let document = machine.path("climb.json");
    let mut climb = machine.climb(stages);
    let mut climb = climb
        .arg("--json")
        .arg(&document)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    until("something else in the files", || {
        let ended = climb.try_wait().unwrap().is_some();
        (ended || machine.state().is_some_and(|state| state != machine.factory)).then_some(())
    });
    let output = climb.wait_with_output().unwrap();
    let told = format!("{layout:?}: {}\n{}", stdout(&output), stderr(&output));
    assert!(output.status.success(), "{told}");
    assert_eq!(machine.state().as_ref(), Some(&machine.factory), "byte for byte\n{told}");
    let text = fs::read_to_string(document).unwrap();
    let document: serde_json::Value = serde_json::from_str(&text).unwrap();
    let trials = document["trials"].as_array().unwrap();
    let moved = |trial: &&serde_json::Value| trial["stage"] == "core";
    assert!(trials.iter().filter(moved).count() >= 2, "{told}");
    for trial in trials {
        assert!(trial["taken"].is_object(), "each was read back: {trial}");
        assert_ne!(trial["verdict"], "not taken", "{told}");
    }
}

/// The children of a process, with what they are for.
fn child_for(parent: u32, purpose: &str) -> Option<Pid> {
    let listed =
        Command::new("pgrep").args(["-P", &parent.to_string(), "-f", purpose]).output().unwrap();
    stdout(&listed).lines().next()?.parse().ok().map(Pid::from_raw)
}

/// So many kills on one machine, and the longest way back.
fn storm(card: &str, layout: Layout, kills: usize) -> Duration {
    let mut machine = Machine::new(card, layout);
    let stages = if layout == Layout::Frequency { "baseline,core" } else { "baseline,power,core" };
    let mut longest = Duration::ZERO;
    let start = |machine: &Machine, more: &[&str]| {
        let mut climb = machine.climb(stages);
        climb.args(["--unfinished", "void"]).args(more);
        climb.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let mut climb = start(&machine, &[]);
    for number in 0..kills {
        until("a trial at work", || {
            if climb.try_wait().unwrap().is_some() {
                climb = start(&machine, &["--fresh"]);
            }
            machine.state().filter(|state| *state != machine.factory)
        });
        // Any instant of a trial: while it is applied, read back, or run.
        thread::sleep(Duration::from_millis(number as u64 * 211 % 700));
        let target = ["application", "keeper", "guard", "load"][number % 4];
        let process = match target {
            "application" => None,
            "keeper" => machine.keeper.as_ref().map(|keeper| Pid::from_raw(keeper.id() as i32)),
            purpose => child_for(climb.id(), purpose),
        };
        let began = Instant::now();
        if let Some(process) = process {
            // It may have ended by itself just now.
            let _ = kill(process, Signal::SIGKILL);
        }
        if target == "keeper" {
            machine.replace_keeper();
        }
        // Whatever else was killed: in the end the application is, too.
        climb.kill().unwrap();
        climb.wait().unwrap();
        until("the card at stock", || {
            (machine.state().as_ref() == Some(&machine.factory)).then_some(())
        });
        longest = longest.max(began.elapsed());
        climb = start(&machine, &[]);
    }
    climb.kill().unwrap();
    climb.wait().unwrap();
    until("the card at stock", || {
        (machine.state().as_ref() == Some(&machine.factory)).then_some(())
    });
    longest
}

#[test]
fn fifty_kills_of_application_keeper_guard_and_load_leave_the_card_at_stock_each_time() {
    let machines = [
        ("standin:bracken-208#7", Layout::Levels),
        ("standin:tarn-310#7", Layout::Curve),
        ("standin:quern-540#7", Layout::Window),
        ("standin:tarn-310#7", Layout::Offset),
        ("standin:quern-540#7", Layout::Frequency),
    ];
    let longest = thread::scope(|scope| {
        let storms: Vec<_> = machines
            .into_iter()
            .map(|(card, layout)| scope.spawn(move || storm(card, layout, 10)))
            .collect();
        storms.into_iter().map(|storm| storm.join().unwrap()).max().unwrap()
    });
    println!("50 kills; longest way back {longest:?}");
}

/// What a load says until a line has the text; then it is told to stop.
fn load_says(arguments: &[&str], last: &str) -> String {
    let mut command = Command::new(PROGRAM);
    command.arg("load").args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut load = command.stderr(Stdio::null()).spawn().unwrap();
    let mut said = String::new();
    for line in BufReader::new(load.stdout.take().unwrap()).lines().map_while(Result::ok) {
        said += &format!("{line}\n");
        if line.contains(last) {
            break;
        }
    }
    drop(load.stdin.take());
    load.wait().unwrap();
    said
}

#[test]
fn a_scene_on_a_graphics_card_speaks_the_words_of_every_load() {
    let said = load_says(&["--gpu", "software", "--scene", "doldrums@96x54"], "\"number\":3");
    let lines: Vec<serde_json::Value> =
        said.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines[0]["type"], "hello", "{said}");
    let frames: Vec<_> = lines.iter().filter(|line| line["type"] == "frame").collect();
    assert_eq!(frames.len(), 4, "{said}");
    assert!(frames.iter().all(|frame| frame["wrong_pixels"] == 0), "{said}");
}

#[test]
fn a_card_that_no_vulkan_driver_knows_is_told_before_anything_runs() {
    let said = load_says(&["--gpu", "0000:ff:1f.7", "--scene", "kiln"], "bye");
    assert!(said.contains("no Vulkan device at 0000:ff:1f.7"), "{said}");
    assert!(said.contains("\"reason\":\"failed\"") && !said.contains("hello"), "{said}");
}

/// A user who has nothing to do with any of this.
const NOBODY: u32 = 65_534;

#[test]
fn another_user_of_the_machine_does_not_reach_the_card() {
    let machine = Machine::new("standin:tarn-310#7", Layout::Offset);
    // Everybody may go where the sockets and the files are.
    for (name, mode) in [("", 0o755), ("run", 0o777)] {
        fs::set_permissions(machine.path(name), fs::Permissions::from_mode(mode)).unwrap();
    }
    let own = machine.path("nobody");
    fs::create_dir(&own).unwrap();
    chown(&own, Some(NOBODY), Some(NOBODY)).unwrap();
    let told = as_nobody(&machine.climb("baseline"), &own);
    assert!(told.contains("user 65534 may not control cards here"), "{told}");
    let keeper = as_nobody(&machine.keeper(), &own);
    assert!(keeper.contains("only root may write to a card"), "{keeper}");
    assert_eq!(machine.state().as_ref(), Some(&machine.factory));
}

/// What a command says that another user runs, and that must fail.
fn as_nobody(command: &Command, home: &Path) -> String {
    // The program lies where only its builder may go. Another process copies it: a child that this one starts meanwhile would
    // have the copy open for writing, and nobody could run it.
    let program = home.join("program");
    if !program.exists() {
        let copied = Command::new("cp").arg(PROGRAM).arg(&program).status().unwrap();
        assert!(copied.success());
    }
    let mut words: Vec<_> = command.get_args().map(ToOwned::to_owned).collect();
    if let Some(place) = words.iter().position(|word| word == "--data-dir") {
        words[place + 1] = home.join("data").into();
    }
    let mut command = Command::new(program);
    command.args(words).uid(NOBODY).gid(NOBODY).env("HOME", home).env("XDG_RUNTIME_DIR", home);
    let output = command.output().unwrap();
    assert!(!output.status.success());
    stderr(&output)
}

#[test]
fn a_unit_names_what_systemd_has_to_do_when_the_keeper_ends() {
    let output = Command::new(PROGRAM)
        .args(["keeper", "--print-unit", "--group", "render", "--at-boot"])
        .output()
        .unwrap();
    let unit = stdout(&output);
    for line in [
        "ListenStream=/run/yard-step/keeper.sock",
        "SocketGroup=render",
        "keeper --group render --at-boot",
        "keeper --put-back",
        "WantedBy=multi-user.target",
    ] {
        assert!(unit.contains(line), "{line}: {unit}");
    }
}

#[test]
fn an_application_that_hangs_loses_the_card() {
    let machine = Machine::new("standin:quern-540#7", Layout::Window);
    let mut climb = machine.climb("baseline");
    let mut climb = climb.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    until("a trial at work", || machine.state().filter(|state| *state != machine.factory));
    let process = Pid::from_raw(climb.id() as i32);
    kill(process, Signal::SIGSTOP).unwrap();
    until("the card at stock", || {
        (machine.state().as_ref() == Some(&machine.factory)).then_some(())
    });
    kill(process, Signal::SIGCONT).unwrap();
    climb.kill().unwrap();
    climb.wait().unwrap();
}

#[test]
fn a_real_card_is_surveyed_and_tuned_while_its_load_runs() {
    let machine = Machine::new("standin:tarn-310#7", Layout::Offset);
    let words = |command: Command| -> String {
        let words: Vec<String> =
            command.get_args().map(|word| word.to_string_lossy().into_owned()).collect();
        format!("{PROGRAM} {}", words.join(" "))
    };
    let mut open = machine.on_card(&["open"]);
    open.arg("--plan").arg(machine.path("plan.toml"));
    let terminal = Terminal::start(SIZE, &words(open));
    let screen =
        terminal.wait_for_all(&["NEXT: ENTER", "those of the clock on the", "core clock offset"]);
    assert!(screen.contains("Closing the terminal"), "said beforehand: {screen}");
    assert!(!screen.contains("pace"), "it has none: {screen}");
    terminal.press(&["5", "Tab", "Tab", "k"]);
    terminal.wait_for_all(&["The fan is driven so from now on", "taken  curve"]);
    let driven = || fs::read_to_string(machine.device().join("gpu_od/fan_ctrl/fan_curve")).unwrap();
    assert!(!driven().contains("0: 0C 0%"), "by the keeper: {}", driven());
    terminal.press(&["b"]);
    until("an automatic fan", || driven().contains("0: 0C 0%").then_some(()));
    terminal.press(&["2", "F"]);
    terminal.wait_for_all(&["Free run", "▸ lantern"]);
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["FREE RUN", "segment 1 for"]);
    terminal.press(&["Right"]);
    terminal.wait_for_all(&["segment 2 for", "power limit"]);
    let raised = machine.state().unwrap();
    assert!(!raised.contains("\n217000000\n"), "in the files at once: {raised}");
    terminal.press(&["s"]);
    terminal.wait_for("RUN ENDED");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
    assert_eq!(machine.state().as_ref(), Some(&machine.factory));
}

#[test]
fn a_profile_of_a_real_card_goes_with_a_program() {
    let machine = Machine::at_speed("standin:tarn-310#7", Layout::Offset, 10.0);
    let mut climb = machine.climb("baseline,power");
    climb.args(["--keep", "raised"]);
    let climbed = climb.output().unwrap();
    assert!(climbed.status.success(), "{}", stderr(&climbed));
    let mut held = machine.on_card(&["with-profile"]);
    let probe = machine.device().join("hwmon/hwmon0/power1_cap");
    held.args(["raised", "--", "cat"]).arg(&probe);
    let held = held.output().unwrap();
    assert_eq!(stdout(&held).lines().last(), Some("283000000"), "{}", stderr(&held));
    assert_eq!(machine.state().as_ref(), Some(&machine.factory));
}

#[test]
fn two_cards_of_a_machine_are_held_in_step_and_both_go_back() {
    let cards = ["standin:tarn-310#7", "standin:tarn-310#8"];
    let mut machine = Machine::with_cards(&cards, Layout::Offset, 10.0);
    let factory = machine.factory.clone();
    let both_at =
        |machine: &Machine| [0, 1].map(|card| machine.state_of(card) == Some(factory.clone()));
    assert_eq!(both_at(&machine), [true, true], "they are alike");
    machine.start_keeper();
    let unnamed = machine.climb("baseline").output().unwrap();
    assert!(stderr(&unnamed).contains("kernel:0000:03:00.0, kernel:0000:04:00.0"));
    let climb = || {
        let mut climb = machine.on(&["climb", "--stages", "baseline,power"], "kernel:0000:03:00.0");
        climb.args(["--in-step", "kernel:0000:04:00.0", "--unfinished", "void", "--plan"]);
        climb.arg(machine.path("plan.toml"));
        climb
    };
    // Killed while both hold something else.
    let mut killed = climb().stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    until("both at work", || (both_at(&machine) == [false, false]).then_some(()));
    killed.kill().unwrap();
    killed.wait().unwrap();
    until("both at stock", || (both_at(&machine) == [true, true]).then_some(()));
    let climbed = climb().output().unwrap();
    let told = format!("{}{}", stdout(&climbed), stderr(&climbed));
    assert!(climbed.status.success() && told.contains("power 283 W"), "{told}");
    // A trial that a busy machine made void was run once more.
    let of_other: Vec<&str> =
        told.lines().filter(|line| line.contains("kernel:0000:04:00.0#1b2c:7310:")).collect();
    assert!(of_other.len() >= 2, "{told}");
    assert!(of_other.iter().all(|line| line.contains(": clean. ")), "{told}");
    assert_eq!(both_at(&machine), [true, true], "{told}");
}

#[test]
fn a_program_of_ones_own_loads_a_real_card_and_everyday_use_of_it_is_recorded() {
    let machine = Machine::at_speed("standin:tarn-310#7", Layout::Offset, 10.0);
    let config = machine.path("config.toml");
    let program = "[load.mill]\ncommand = \"sh\"\nscore = \"ground ([0-9]+)\"\n\
        args = [\"-c\", \"while sleep 0.5; do echo ground 812; done\"]\n";
    fs::write(&config, program).unwrap();
    let plan = PLAN.replace("scene = \"lantern\"\nfull_load = \"lantern\"", "scene = \"mill\"");
    fs::write(machine.path("plan.toml"), plan).unwrap();
    let mut climb = machine.climb("baseline");
    climb.arg("--config").arg(&config);
    let climbed = climb.output().unwrap();
    let told = format!("{}{}", stdout(&climbed), stderr(&climbed));
    assert!(climbed.status.success() && told.contains("score 812"), "{told}");
    // Somebody plays: frames are drawn on the card, and not by a trial.
    let mut game = Command::new(PROGRAM);
    game.args(["load", "--scene", "lantern", "--slot"]).arg(machine.path("frames0.sock"));
    let mut game =
        game.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let watched = machine.on_card(&["watch", "--hours", "0.003"]).output().unwrap();
    game.kill().unwrap();
    game.wait().unwrap();
    let told = format!("{}{}", stdout(&watched), stderr(&watched));
    assert!(watched.status.success() && told.contains("s busy, clean: "), "{told}");
    assert!(!told.contains("\n0 s of everyday use"), "{told}");
    assert_eq!(machine.state().as_ref(), Some(&machine.factory));
}

#[test]
fn a_card_that_was_first_seen_without_its_keeper_goes_back_to_stock_all_the_same() {
    let mut machine = Machine::without_keeper("standin:tarn-310#7", Layout::Offset, 10.0);
    let looked = machine.climb("baseline").output().unwrap();
    assert!(looked.status.success(), "{}{}", stdout(&looked), stderr(&looked));
    machine.start_keeper();
    let raised = machine.climb("baseline,power").arg("--fresh").output().unwrap();
    let told = format!("{}{}", stdout(&raised), stderr(&raised));
    assert!(raised.status.success() && told.contains("power 283 W"), "{told}");
    assert_eq!(machine.state().as_ref(), Some(&machine.factory), "{told}");
}

#[test]
fn a_reset_of_the_driver_ends_the_trial_and_only_the_user_restarts_the_machine() {
    let machine = Machine::new("standin:tarn-310#7", Layout::Offset);
    let mut climb = machine.climb("baseline");
    let climb = climb.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    until("a trial at work", || machine.state().filter(|state| *state != machine.factory));
    thread::sleep(Duration::from_secs(2));
    fs::write(machine.device().join("reset"), "1\n").unwrap();
    let output = climb.wait_with_output().unwrap();
    let told = stdout(&output) + &stderr(&output);
    assert!(
        told.contains("driver reset") && told.contains("The driver reset the card after"),
        "{told}"
    );
    assert!(told.contains("Restart the machine, and open Yard Step again"), "{told}");
    assert_eq!(output.status.code(), Some(1));
    assert_eq!(machine.state().as_ref(), Some(&machine.factory));
}

#[test]
fn a_trial_without_an_outcome_took_the_machine_down_only_if_the_machine_was_started_since() {
    let machine = Machine::new("standin:tarn-310#7", Layout::Offset);
    for (is_same_boot, told) in [
        (true, "void. Yard Step was ended in it, and the machine has not been started since"),
        (false, "machine down. It has no outcome"),
    ] {
        let mut climb = machine.climb("baseline");
        climb.args(["--fresh", "--unfinished", "void"]);
        let mut climb = climb.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        until("a trial at work", || machine.state().filter(|state| *state != machine.factory));
        climb.kill().unwrap();
        climb.wait().unwrap();
        if !is_same_boot {
            let ledger = rusqlite::Connection::open(machine.path("data/ledger.sqlite")).unwrap();
            let changed = ledger
                .execute("UPDATE trial SET boot = 'the one before' WHERE verdict IS NULL", []);
            assert_eq!(changed.unwrap(), 1);
        }
        let mut again = machine.climb("baseline");
        let mut again = again.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut lines = BufReader::new(again.stdout.take().unwrap()).lines().map_while(Result::ok);
        let line = lines.find(|line| line.contains("Trial 1 (")).unwrap_or_default();
        assert!(line.contains(told), "{line}");
        again.kill().unwrap();
        again.wait().unwrap();
    }
}
