//! What the charts of all views have in common when they are saved.

use yard_step_core::{CardDescription, Meaning, Verdict};
use yard_step_report::{PlotLine, Stroke, Tint};

/// The card and what it runs under, as facts of a sheet.
pub(crate) fn facts_of(card: &CardDescription) -> Vec<String> {
    vec![
        format!("{}, unit {}", card.name, card.serial),
        format!("driver {}", card.driver),
        format!("Yard Step {}", env!("CARGO_PKG_VERSION")),
    ]
}

/// A line of a plot.
pub(crate) fn line(name: &str, tint: Tint, stroke: Stroke, points: Vec<(f64, f64)>) -> PlotLine {
    PlotLine { name: name.to_owned(), tint, stroke, points }
}

/// Runs as marks, told apart by what their verdicts mean; those without any are left out.
pub(crate) fn by_meaning(runs: &[(Verdict, (f64, f64))]) -> Vec<PlotLine> {
    let kinds = [
        (Meaning::Holds, "held", Tint::Own(1)),
        (Meaning::TooMuch, "too much", Tint::Bad),
        (Meaning::ProvesNothing, "proves nothing", Tint::Dim),
    ];
    let marks = kinds.map(|(meaning, name, tint)| {
        let of = runs.iter().filter(|(verdict, _)| verdict.meaning() == meaning);
        line(name, tint, Stroke::Marks, of.map(|(_, at)| *at).collect())
    });
    marks.into_iter().filter(|line| !line.points.is_empty()).collect()
}
