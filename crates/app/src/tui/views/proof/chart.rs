//! A soak as rows of loads over time: when each ran, how hot it made the card, and where it failed.
//!
//! ```text
//!  kiln      ▓▓▓        ▓▓▓▓▓                 1 h 20 min  < 2.3 /h
//!  doldrums      ░░░░        ░░▲              52 min       5.5 /h
//!            0 h      1 h      2 h
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::{Assurance, Celsius, LoadKind, Seconds, Soaked};

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::widgets::{cut, row, write, write_right};

/// Columns of the load's name, and of the figures at the end of a row.
const NAME: u16 = 14;
const FIGURES: u16 = 24;
/// Hot spots from which a run is drawn darker, °C.
const SHADES: [(f64, &str); 4] = [(85.0, "█"), (75.0, "▓"), (60.0, "▒"), (f64::MIN, "░")];

/// What a run looks like whose card became so hot.
fn shade(hottest: Option<Celsius>) -> &'static str {
    let at = hottest.map_or(f64::MIN, Celsius::value);
    SHADES.into_iter().find(|(from, _)| at >= *from).map_or("░", |(_, shade)| shade)
}

/// What the shades mean.
pub(super) fn legend() -> String {
    "hot spot ░ below 60 °C  ▒ 60  ▓ 75  █ from 85".into()
}

/// The figures at the end of a row: clean time, faults, and the bound on their rate with 95 %.
pub(super) fn figures(assurance: &Assurance, kind: LoadKind) -> String {
    let exposure = assurance.exposure();
    let clean = exposure.clean(kind).in_words();
    let Some(bound) = assurance.bound(kind) else { return "not run".into() };
    let bound = match bound {
        b if b >= 10.0 => format!("{b:.0}"),
        b if b >= 0.1 => format!("{b:.1}"),
        b => format!("{b:.3}"),
    };
    format!("{clean:>11}  <{bound:>5} /h")
}

/// Lines of a row: two where there is room, so that rows are told apart.
fn row_height(area: Rect, rows: usize) -> u16 {
    if usize::from(area.height) >= rows * 2 + 4 { 2 } else { 1 }
}

/// Draws the rows of a soak. Returns how many lines it took.
pub(super) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, soaked: &Soaked) -> u16 {
    let field = field(area);
    let height = row_height(area, soaked.soak.loads.len());
    let total = total(soaked).value().max(1.0);
    let column = |at: Seconds| {
        let share = (at.value() / total).clamp(0.0, 1.0);
        field.x + (share * f64::from(field.width.saturating_sub(1))) as u16
    };
    let loads = &soaked.soak.loads;
    for (place, load) in loads.iter().enumerate() {
        let line = row(area, place as u16 * height);
        if line.is_empty() {
            return place as u16 * height;
        }
        write(
            buffer,
            line,
            (line.x, line.y),
            &cut(&load.name(), NAME - 1),
            theme.style(Role::Text),
        );
        for x in field.x..field.right() {
            write(buffer, field, (x, line.y), "·", theme.style(Role::Faint));
        }
        for run in soaked.runs.iter().filter(|run| run.place == Some(place)) {
            let (from, to) = (column(run.began), column(run.began + run.seconds));
            let is_void = !run.verdict.is_fault() && !run.verdict.is_without_fault();
            let (symbol, role) = match is_void {
                true => ("╌", Role::Dim),
                false => (shade(run.hottest), Role::Clock),
            };
            for x in from..=to {
                write(buffer, field, (x, line.y), symbol, theme.style(role));
            }
            if run.verdict.is_fault() {
                write(buffer, field, (to, line.y), glyph(run.verdict), theme.verdict(run.verdict));
            }
        }
        let text = figures(&soaked.assurance, load.main_kind());
        write_right(buffer, line, line.y, &text, theme.style(Role::Text));
    }
    let rows = loads.len() as u16 * height;
    draw_axis(buffer, row(area, rows), field, theme, total);
    rows + 1
}

/// Time that the chart covers: to the goal, where that is a time, or as far as it has come.
fn total(soaked: &Soaked) -> Seconds {
    use yard_step_core::Goal;
    match soaked.soak.goal {
        Goal::Hours(hours) | Goal::Until { hours, .. } if soaked.end.is_none() => {
            Seconds((hours * 3_600.0).max(soaked.spent.value()))
        }
        _ => Seconds(soaked.spent.value().max(600.0)),
    }
}

fn draw_axis(buffer: &mut Buffer, line: Rect, field: Rect, theme: Theme, total: f64) {
    let style = theme.style(Role::Dim);
    let hours = total / 3_600.0;
    let step = [0.25, 0.5, 1.0, 2.0, 4.0, 8.0, 24.0, 48.0, 168.0, 336.0]
        .into_iter()
        .find(|step| hours / step <= f64::from(field.width / 9).max(1.0))
        .unwrap_or(672.0);
    let mut at = 0.0;
    while at <= hours + 1e-9 {
        let x = field.x + (at / hours.max(1e-9) * f64::from(field.width.saturating_sub(1))) as u16;
        let text = if at.fract() == 0.0 { format!("{at:.0} h") } else { format!("{at} h") };
        let left = x.min(field.right().saturating_sub(text.len() as u16));
        write(buffer, line, (left, line.y), &text, style);
        at += step;
    }
}

fn field(area: Rect) -> Rect {
    let left = NAME.min(area.width);
    Rect { x: area.x + left, width: area.width.saturating_sub(left + FIGURES + 1), ..area }
}

/// Draws the rows of settings of which no soak goes on: a bar for the hours of each kind of load.
pub(super) fn draw_kinds(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    assurance: &Assurance,
) -> u16 {
    let field = field(area);
    let height = row_height(area, LoadKind::ALL.len());
    let most = LoadKind::ALL
        .into_iter()
        .map(|kind| assurance.exposure().clean(kind).value())
        .fold(3_600.0, f64::max);
    for (place, kind) in LoadKind::ALL.into_iter().enumerate() {
        let line = row(area, place as u16 * height);
        if line.is_empty() {
            return place as u16 * height;
        }
        write(buffer, line, (line.x, line.y), kind.label(), theme.style(Role::Text));
        let share = assurance.exposure().clean(kind).value() / most;
        let filled = (share * f64::from(field.width)).round() as u16;
        for x in field.x..field.right() {
            let (symbol, role) = match x < field.x + filled {
                true => ("▬", Role::Clock),
                false => ("·", Role::Faint),
            };
            write(buffer, field, (x, line.y), symbol, theme.style(role));
        }
        let faults = assurance.exposure().faults(kind);
        if faults > 0.0 {
            let text = format!(" {faults:.1} faults ");
            write(buffer, field, (field.x + 1, line.y), &text, theme.style(Role::Bad));
        }
        write_right(buffer, line, line.y, &figures(assurance, kind), theme.style(Role::Text));
    }
    LoadKind::ALL.len() as u16 * height
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{proof_snapshot, soaked};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};

    const THEME: Theme = Theme::new(Depth::None);

    #[test]
    fn every_load_has_its_row_with_its_runs_its_fault_and_its_bound() {
        let soaked = soaked();
        let lines = drawn(120, 9, |buffer, area| {
            draw(buffer, area, THEME, &soaked);
        });
        assert!(lines[0].starts_with("kiln") && lines[0].contains("▓"), "{lines:#?}");
        assert!(lines[4].starts_with("doldrums") && lines[4].contains("▲"), "{lines:#?}");
        assert!(lines[6].starts_with("squall, cold"), "{lines:#?}");
        assert!(lines[0].contains("/h") && lines[0].contains("<"), "{lines:#?}");
        assert!(lines[7].contains("0 h"), "{lines:#?}");
    }

    #[test]
    fn what_has_not_run_says_so_and_any_size_will_do() {
        let snapshot = proof_snapshot();
        let assurance = &snapshot.machine.candidates[1].assurance;
        let lines = drawn(100, 8, |buffer, area| {
            draw_kinds(buffer, area, THEME, assurance);
        });
        assert!(lines[0].contains("not run"), "{lines:#?}");
        for (width, height) in AWKWARD {
            drawn(width, height, |buffer, area| {
                draw(buffer, area, THEME, &soaked());
                draw_kinds(buffer, area, THEME, assurance);
            });
        }
    }
}
