//! A night of soak: begun with three keys, killed half-way, taken up, finished and drawn; and what is asked before it begins.

use std::process::Command;

use super::SIZE;
use crate::common::{PROGRAM, Terminal, stdout, text_of, yard_step};

fn opened(dir: &tempfile::TempDir, options: &str) -> Terminal {
    let data = dir.path().display();
    let command =
        format!("{PROGRAM} --data-dir {data} open --card standin:tarn-310 --seed 29 {options}");
    let terminal = Terminal::start(SIZE, &command);
    terminal.wait_for("Survey");
    terminal
}

/// Hours of the soak so far, by the heading of its panel.
fn hours(screen: &str) -> Option<f64> {
    let line = screen.lines().find(|line| line.contains("under load and at rest"))?;
    let (before, _) = line.split_once(" h ")?;
    before.rsplit(' ').next()?.parse().ok()
}

#[test]
fn a_night_is_begun_with_three_keys_survives_a_kill_and_ends_with_its_chart() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--pace max");
    terminal.press(&["6"]);
    terminal.wait_for_all(&["▸ what the card holds", "never ran", "Not proven for daily use yet"]);
    terminal.press(&["Enter"]);
    terminal
        .wait_for_all(&["Soak these settings", "kiln, sluice, loom, lantern, doldrums, squall"]);
    // The length of a night is what is asked; three keys begin it as it stands.
    terminal.press(&["Down", "BSpace", "1", "0", "Enter"]);
    terminal.wait_for_all(&["Soak of what the card holds", "soaking", "kiln"]);
    let half =
        terminal.wait_until("some hours of it", |screen| hours(screen).filter(|h| *h >= 4.0));
    let killed = Command::new("kill").args(["-s", "KILL", &terminal.program()]).status().unwrap();
    assert!(killed.success());
    drop(terminal);

    let again = opened(&dir, "--pace max --unfinished void");
    again.press(&["6"]);
    again.wait_for("Soak of what the card holds");
    let found = again.wait_until("the hours so far", hours);
    assert!(found >= half - 0.1 && found < 10.0, "{found} after {half}");
    again.press(&["a"]);
    again.wait_for("has passed its soak");
    // Every load has its bound at the end of its row.
    let screen = again.wait_for_all(&["squall, cold", "hours alone", "raise a day to 99.00 %"]);
    assert!(screen.lines().filter(|line| line.contains("/h")).count() >= 7, "{screen}");
    let picture = dir.path().join("night.svg");
    again.press(&["X"]);
    again.wait_for("Save the chart");
    again.press(&["C-u"]);
    (0..40).for_each(|_| again.press(&["BSpace"]));
    again.type_in(&text_of(&picture));
    again.press(&["Enter"]);
    again.wait_for("The chart of the soak is in");
    let svg = std::fs::read_to_string(&picture).unwrap();
    assert!(svg.contains("squall, cold") && svg.contains("Believed to hold"));
    again.press(&["q"]);
    again.wait_for("ended with 0");
}

#[test]
fn what_a_soak_needs_is_asked_before_it_and_it_can_be_ended() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--pace 60");
    terminal.press(&["6", "Enter"]);
    terminal.wait_for("Soak these settings");
    terminal.press(&["Down", "BSpace", "x", "Enter"]);
    terminal.wait_for("The hours are a number, such as 8.");
    terminal.press(&["BSpace", "2", "Down"]);
    terminal.press(&["C-u"]);
    (0..60).for_each(|_| terminal.press(&["BSpace"]));
    terminal.type_in("kiln, furnace");
    terminal.press(&["Enter"]);
    terminal.wait_for("there is no scene \"furnace\"");
    terminal.press(&["Enter"]);
    terminal.wait_for("Soak these settings");
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["soaking", "RUNNING"]);
    // In the middle of a run, too.
    terminal.press(&["d"]);
    terminal.wait_for_all(&["The soak is ended", "was ended", "waiting"]);
    // A trial is soaked from where it is listed, and the soak is shown in Proof.
    terminal.press(&["8"]);
    terminal.wait_for("Trial 1 of climb 1");
    terminal.press(&["P"]);
    terminal.wait_for_all(&["Soak these settings", "What is proven: trial 1 of climb 1"]);
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["Soak of trial 1 of climb 1", "soaking", "RUNNING"]);
    terminal.press(&["s"]);
    terminal.wait_for("waiting");
    terminal.press(&["d"]);
    // The climb does not go on by itself.
    terminal.wait_for_all(&["The soak is ended", "was ended", "NEXT: ENTER", "waiting"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn a_soak_and_a_check_without_the_interface() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let run = |words: &[&str]| {
        let mut all = vec!["--data-dir", data.as_str()];
        all.extend(words);
        yard_step(&all)
    };
    let card = ["--card", "standin:bracken-208", "--seed", "4"];
    let prove = |more: &[&str]| run(&[&["prove"], &card[..], more].concat());
    let chart = dir.path().join("soak.pdf");
    let done =
        prove(&["--hours", "0.5", "--loads", "kiln,doldrums:2,cold", "--out", &text_of(&chart)]);
    let text = stdout(&done);
    assert!(done.status.success(), "{text}");
    for part in ["cold start", "doldrums", "has passed its soak", "Believed to hold", "a day"] {
        assert!(text.contains(part), "{part}: {text}");
    }
    assert!(std::fs::read(&chart).unwrap().starts_with(b"%PDF"));
    for (words, told) in [
        (vec!["--hours", "0"], "it must be 0.1 to 2000"),
        (vec!["--loads", "kiln,kiln"], "named twice"),
        (vec!["--loads", "furnace"], "furnace"),
        (vec!["--until", "noon"], "no time of day"),
        (vec!["--profile", "none"], "no profile \"none\""),
        (vec!["--reserve", "9"], "9 is not in 0..=4"),
        (vec!["--out", "night.doc"], "name a file that ends in .svg or .pdf"),
    ] {
        let refused = prove(&words);
        let text = String::from_utf8(refused.stderr.clone()).unwrap();
        assert_eq!(refused.status.code(), Some(2), "{words:?}: {text}");
        assert!(text.contains(told), "{told}: {text}");
    }
    let unknown = run(&[&["profile"], &card[..], &["check", "none"]].concat());
    assert_eq!(unknown.status.code(), Some(2));
}
