//! A fan curve is drawn, tried, kept and found again; noise is noted, and a budget drawn for.

use rstest::rstest;

use super::{mouse, place_of};
use crate::common::{self, PROGRAM, Terminal};

fn opened(dir: &tempfile::TempDir, card: &str) -> Terminal {
    let (plan, data) = (common::short_plan(dir.path()), dir.path().display());
    let command =
        format!("{PROGRAM} --data-dir {data} open --card {card} --plan {plan} --pace max");
    let terminal = Terminal::start((160, 50), &command);
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["5"]);
    terminal
}

#[rstest]
#[case::held_by_the_card("standin:tarn-310", "30", None)]
#[case::driven_by_yard_step("standin:bracken-208", "20", Some("Step drives the fan"))]
fn a_fan_curve_is_drawn_by_key_and_mouse_tried_kept_and_found_again(
    #[case] card: &str,
    #[case] least: &str,
    #[case] driver: Option<&str>,
) {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, card);
    terminal.wait_for_all(&["Fan over core temperature", "The card drives its fan by itself"]);
    terminal.press(&["Tab", "Tab"]);
    let first = format!("45 °C → {least} %");
    let drawn = terminal.wait_for_all(&[&first, "point 1 of 4", "hysteresis 3 K"]);

    // The axis says where 65 °C lie, half way between its labels: a drag from there is one move.
    let (at_60, axis) = place_of(&drawn, " 60 ");
    let (at_70, _) = place_of(&drawn, " 70 ");
    let column = (at_60 + at_70) / 2 + 1;
    mouse(&terminal, 0, (column, axis - 9), 'M');
    terminal.wait_for("point 2 of 4");
    mouse(&terminal, 32, (column, axis - 20), 'M');
    mouse(&terminal, 32, (column, axis - 26), 'M');
    mouse(&terminal, 0, (column, axis - 26), 'm');
    let dragged = terminal.wait_until("a higher second point", |screen| {
        let label = screen.lines().find(|line| line.contains(" °C → "))?;
        let (_, rest) = label.split_once(" °C → ")?;
        let speed: f64 = rest.split_whitespace().next()?.parse().ok()?;
        (speed > 53.0).then_some(speed)
    });
    assert!(dragged < 72.0, "{dragged}");
    terminal.press(&["z"]);
    terminal.wait_for("point 2 of 4");
    terminal.press(&["=", "6", "6", " ", "5", "2", "Enter"]);
    terminal.wait_for("66 °C → 52 %");
    terminal.press(&["i"]);
    terminal.wait_for("point 3 of 5");
    terminal.press(&["x"]);
    terminal.wait_for("of 4");
    if let Some(driver) = driver {
        terminal.wait_for(driver);
    }

    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["stock, your own", "Enter try it"]);
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["trial 1 at stock", "NEXT: ENTER", "1 run, case open"]);

    terminal.press(&["k"]);
    terminal.wait_for("The fan is driven so from now on, and after each start.");
    let curve = format!("taken  curve, {least} to 100 %");
    terminal.wait_for(&curve);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");

    let again = opened(&dir, card);
    again.wait_for(&curve);
    again.press(&["Right"]);
    again.wait_for("66 °C → 52 %");
    again.press(&["b"]);
    again.wait_for_all(&["The card is at stock", "taken  automatic"]);
    again.press(&["q"]);
    again.wait_for("ended with 0");
}

#[test]
fn noise_is_noted_a_budget_set_and_the_curve_for_it_is_drawn() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "standin:tarn-310");
    terminal.wait_for("Noise is assumed");
    terminal.press(&["d"]);
    terminal.wait_for("No run was long enough yet");
    terminal.press(&["Enter"]);
    terminal.wait_for("NEXT: ENTER");
    for (speed, level) in [("100", "47"), ("60", "38")] {
        terminal.press(&["N"]);
        terminal.wait_for("How loud is the fan?");
        terminal.press(&["BSpace", "BSpace", "BSpace"]);
        terminal.type_in(speed);
        terminal.press(&["Down", "Down"]);
        terminal.type_in(level);
        terminal.press(&["Enter"]);
        terminal.wait_for("Noted.");
    }
    terminal.wait_for("Noise from 2 notes");
    // Under a load for some minutes, the card tells how warm it becomes.
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["1 run, case open", "quieter than full speed"]);
    terminal.press(&["w"]);
    terminal.wait_for("Noise budget");
    terminal.type_in("900");
    terminal.press(&["Enter"]);
    terminal.wait_for("it must be 10 to 100 dB");
    terminal.press(&["BSpace", "BSpace", "BSpace"]);
    terminal.type_in("41");
    terminal.press(&["Enter"]);
    terminal.wait_for("at most 41.0 dB");
    terminal.press(&["d"]);
    terminal.wait_for_all(&["drawn  curve, 30 to 100 %", "point 1 of 4"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}
