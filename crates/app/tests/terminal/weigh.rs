//! Before and after: a trial put there, a score and a price noted, the page filled in, and charts saved.

use super::SIZE;
use crate::common::{PROGRAM, Terminal, text_of};

#[test]
fn what_is_held_beside_is_on_screen_on_the_page_and_there_after_a_restart() {
    let dir = tempfile::tempdir().unwrap();
    let start = format!("{PROGRAM} --data-dir {} demo", dir.path().display());
    let terminal = Terminal::start(SIZE, &start);
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["7"]);
    terminal.wait_for_all(&[
        "Frontier: work against board power",
        "On the frontier",
        "against stock.",
    ]);
    terminal.press(&["B"]);
    terminal.wait_for("now stands in before and after");
    terminal.press(&["z"]);
    terminal.wait_for_all(&["Before and after", "B takes it away", "used 3 h a day"]);
    terminal.press(&["j", "8", "Down"]);
    terminal.type_in("cheap");
    terminal.press(&["Enter"]);
    terminal.wait_for("Not noted: a price is a number from 0 to 1000000 and a unit");
    (0.."cheap".len()).for_each(|_| terminal.press(&["BSpace"]));
    terminal.type_in("0.30 EUR");
    terminal.press(&["Down"]);
    terminal.type_in("last year");
    terminal.press(&["Down", "Down"]);
    terminal.type_in("700");
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["Noted: \"last year\", 700", "as you noted it", "used 8 h a day"]);

    let page = dir.path().join("page.md");
    terminal.press(&["x"]);
    terminal.wait_for("Write the page");
    terminal.type_in(&text_of(&page));
    terminal.press(&["Down"]);
    terminal.type_in("Dome shows");
    terminal.press(&["Down"]);
    terminal.type_in("bars, trade-offs");
    terminal.press(&["Enter"]);
    terminal.wait_for("The page is in");
    let text = std::fs::read_to_string(&page).unwrap();
    assert!(text.starts_with("# Dome shows") && !text.contains("## Figures"), "{text}");
    for part in ["last year under", ": 700.", "used 8 h a day", "EUR a year", "of climb"] {
        assert!(text.contains(part), "{part}: {text}");
    }

    for (view, file, told) in [
        ("2", "climb.svg", "The chart of the climb is in"),
        ("4", "curve.svg", "The curve is in"),
        ("5", "fan.pdf", "The chart of the fan is in"),
    ] {
        let path = dir.path().join(file);
        terminal.press(&[view, "X"]);
        terminal.wait_for("Save the chart");
        terminal.type_in(&text_of(&path));
        terminal.press(&["Enter"]);
        terminal.wait_for(told);
        let begins: &[u8] = if file.ends_with("pdf") { b"%PDF" } else { b"<svg" };
        assert!(std::fs::read(&path).unwrap().starts_with(begins), "{file}");
    }
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
    drop(terminal);

    let again = Terminal::start(SIZE, &start);
    again.wait_for("NEXT: ENTER");
    again.press(&["7", "z"]);
    again.wait_for_all(&["last year", "as you noted it", "EUR a year"]);
    again.press(&["q"]);
    again.wait_for("ended with 0");
}
