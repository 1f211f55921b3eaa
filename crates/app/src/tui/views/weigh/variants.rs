//! Before and after, in Weigh: stock and the card's profiles under each load, as bars with their errors, and their figures.
//!
//! ```text
//!  kiln
//!  stock      ████████████████████        996 ±3     213 W  70 °C
//!  daily      ██████████████████████     1060 ±2    +6.4 ±0.3 %  240 W  75 °C
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::{
    Decibel, Energy, Variant, VariantCell, VariantTable, fan_noise, figure_in_words,
};

use crate::exchange::page::USUAL_HOURS;
use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::{below, cut, row, write, write_wrapped};

/// Columns of the name, and of the score.
const NAME: u16 = 18;
const SCORE: u16 = 32;
/// Fewest columns for the bars beside figures.
const BARS: u16 = 20;

/// Draws the table. `full_fan` is the noise of the fan at full speed, where its user has said it.
pub(super) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    table: &VariantTable,
    full_fan: Option<Decibel>,
) {
    let aside = format!("scatter of a run {:.1} %", table.scatter_percent);
    let space = panel(buffer, area, theme, "Before and after", &aside);
    let space = Rect { x: space.x + 1, width: space.width.saturating_sub(2), ..space };
    let dim = theme.style(Role::Dim);
    let mut line = 0;
    if table.loads.is_empty() {
        let text = "Nothing with a score has run at stock or at a profile yet: climb, then keep what it finds.";
        write_wrapped(buffer, space, text, dim);
        return;
    }
    let widths = table.cells.iter().flatten().flatten();
    let widths = widths.map(|cell| figures_of(cell, full_fan).chars().count() as u16);
    let widest = widths.max().unwrap_or(0);
    let has_figures = space.width >= NAME + SCORE + BARS + widest;
    let figures = if has_figures { widest } else { 0 };
    let bars = space.width.saturating_sub(NAME + SCORE + figures);
    for (load, name) in table.loads.iter().enumerate() {
        if line + 2 > space.height {
            break;
        }
        let head = row(space, line);
        write(buffer, head, (head.x, head.y), name, theme.style(Role::Title));
        line += 1;
        let scores = (0..table.variants.len()).filter_map(|at| table.cell(at, load)?.score);
        let most = scores.map(|(score, _)| score).fold(1e-9, f64::max);
        for (variant, of) in table.variants.iter().enumerate() {
            let place = row(space, line);
            if place.is_empty() {
                return;
            }
            line += 1;
            let role = if of.failed { Role::Bad } else { Role::Text };
            write(buffer, place, (place.x, place.y), &cut(&of.name, NAME - 1), theme.style(role));
            let Some(cell) = table.cell(variant, load) else {
                write(buffer, place, (place.x + NAME, place.y), "not run", dim);
                continue;
            };
            let Some((score, error)) = cell.score else { continue };
            let length = (score / most * f64::from(bars)).round() as u16;
            let bar = Rect { x: place.x + NAME, width: bars, ..place };
            let colour = if variant == 0 { Role::Dim } else { Role::Clock };
            for x in bar.x..(bar.x + length).min(bar.right()) {
                write(buffer, bar, (x, bar.y), "▬", theme.style(colour));
            }
            let at = bar.right() + 1;
            let text = format!("{:>6} ±{}", figure_in_words(score), figure_in_words(error));
            write(buffer, place, (at, place.y), &text, theme.style(Role::Title));
            if let Some(change) = table.change(variant, load).filter(|_| variant > 0) {
                let clear = change.is_clear();
                let text = match clear {
                    true => format!("{:+.1} ±{:.1} %", change.percent, change.error),
                    false => "as stock".to_owned(),
                };
                let role = match (clear, change.percent > 0.0) {
                    (false, _) => Role::Dim,
                    (true, true) => Role::Good,
                    (true, false) => Role::Warn,
                };
                write(buffer, place, (at + 15, place.y), &text, theme.style(role));
            }
            if has_figures {
                let at = bar.right() + SCORE;
                write(
                    buffer,
                    place,
                    (at, place.y),
                    &figures_of(cell, full_fan),
                    theme.style(Role::Text),
                );
            }
        }
        line += 1;
    }
    let mut notes = Vec::new();
    let missing = table.missing();
    if !missing.is_empty() {
        let name = |(variant, load): &(usize, usize)| {
            Some(format!(
                "{} under {}",
                table.variants.get(*variant)?.name,
                table.loads.get(*load)?
            ))
        };
        let names: Vec<String> = missing.iter().filter_map(name).collect();
        notes.push(format!("Not measured: {}.", names.join(", ")));
    }
    if !table.unlike_fans.is_empty() {
        notes.push(format!("Fans were not driven alike under {}.", table.unlike_fans.join(", ")));
    }
    if table.variants.iter().any(|variant| variant.failed) {
        notes.push("Red: a run at these settings failed; they are no recommendation.".into());
    }
    notes.extend(energy(table));
    write_wrapped(buffer, below(space, line), &notes.join(" "), dim);
}

/// What the profiles spend more or less than stock under the first load, where both ran.
fn energy(table: &VariantTable) -> Option<String> {
    let load = table.loads.first()?;
    let stock = table.cell(0, 0)?.power?;
    let of = |(at, variant): (usize, &Variant)| {
        let energy = Energy::of(table.cell(at, 0)?.power? - stock, USUAL_HOURS, None);
        let name = &variant.name;
        if energy.an_hour.abs() < 0.5 {
            return Some(format!("{name} as much"));
        }
        Some(format!("{name} {:+.0} Wh an hour, {:+.0} kWh a year", energy.an_hour, energy.a_year))
    };
    let each: Vec<String> = table.variants.iter().enumerate().skip(1).filter_map(of).collect();
    let told = each.join("; ");
    (!each.is_empty())
        .then(|| format!("Energy against stock under {load}, at {USUAL_HOURS} h a day: {told}."))
}

/// Clock, power, heat, fan, work per watt, noise and frames per second in a line.
fn figures_of(cell: &VariantCell, full_fan: Option<Decibel>) -> String {
    let show = |value: Option<f64>, unit: &str, width: usize| {
        value.map_or_else(|| format!("{:>width$} {unit}", "–"), |v| format!("{v:>width$.0} {unit}"))
    };
    let per_watt = cell.per_watt().map_or("–".into(), |value| format!("{value:.2}"));
    let noise = cell.fan.zip(full_fan).map(|(fan, full)| fan_noise(fan, full).value());
    let noise = noise.map_or(String::new(), |noise| format!("  {noise:.0} dB"));
    let frames = cell
        .frame_rates
        .map_or(String::new(), |(average, low)| format!("  {average:.0} fps, 1 % low {low:.0}"));
    format!(
        "{}  {}  {}  {}  {per_watt} /W{noise}{frames}",
        show(cell.clock.map(|clock| clock.value()), "MHz", 4),
        show(cell.power.map(|power| power.value()), "W", 3),
        show(cell.hot_spot.or(cell.core).map(|at| at.value()), "°C", 3),
        show(cell.fan.map(|fan| fan.value()), "% fan", 3),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use yard_step_core::{Celsius, Mhz, Percent, Settings, Variant, Watt};

    const THEME: Theme = Theme::new(Depth::None);

    fn table() -> VariantTable {
        let variant = |name: &str, failed| Variant {
            name: name.into(),
            settings: Settings::default(),
            what: String::new(),
            failed,
        };
        let cell = |score| {
            Some(VariantCell {
                runs: 2,
                score: Some((score, 2.0)),
                clock: Some(Mhz(1_998.0)),
                power: Some(Watt(213.0)),
                hot_spot: Some(Celsius(79.0)),
                fan: Some(Percent(100.0)),
                ..VariantCell::default()
            })
        };
        VariantTable {
            variants: vec![variant("stock", false), variant("daily", false), variant("bold", true)],
            loads: vec!["kiln".into(), "loom".into()],
            cells: vec![
                vec![cell(1_000.0), cell(900.0)],
                vec![cell(1_060.0), cell(901.0)],
                vec![cell(1_100.0), None],
            ],
            unlike_fans: vec!["loom".into()],
            scatter_percent: 0.5,
        }
    }

    #[test]
    fn changes_beyond_chance_are_told_and_what_is_missing_is_listed() {
        let text =
            drawn(160, 30, |buffer, area| draw(buffer, area, THEME, &table(), None)).join("\n");
        for part in [
            "+6.0 ±0.3 %",
            "as stock",
            "not run",
            "1998 MHz  213 W   79 °C  100 % fan  4.69 /W",
            "Not measured: bold under loom.",
            "Fans were not driven alike under loom.",
            "no recommendation",
        ] {
            assert!(text.contains(part), "{part}:\n{text}");
        }
        let bar = |name: &str| {
            let line = text.lines().find(|line| line.trim_start().starts_with(name)).unwrap();
            line.matches('▬').count()
        };
        assert!(bar("bold") > bar("daily") && bar("daily") > bar("stock"));
    }

    #[test]
    fn noise_frames_and_energy_are_told_where_they_are_known() {
        let mut table = table();
        let daily = table.cells[1][0].as_mut().unwrap();
        daily.power = Some(Watt(240.0));
        daily.frame_rates = Some((96.0, 71.0));
        let quiet = drawn(160, 30, |b, area| draw(b, area, THEME, &table, None)).join("\n");
        assert!(!quiet.contains("dB"), "nobody said how loud the fan is: {quiet}");
        let told = |b: &mut Buffer, area| draw(b, area, THEME, &table, Some(Decibel(45.0)));
        let text = drawn(160, 30, told).join(" ");
        let text: Vec<&str> = text.split_whitespace().collect();
        let text = text.join(" ");
        for part in
            ["/W 45 dB 96 fps, 1 % low 71", "daily +27 Wh an hour, +30 kWh a year; bold as much."]
        {
            assert!(text.contains(part), "{part}:\n{text}");
        }
    }

    #[test]
    fn nothing_yet_says_so_and_any_size_will_do() {
        let empty = VariantTable::default();
        let text = drawn(90, 9, |buffer, area| draw(buffer, area, THEME, &empty, None)).join("\n");
        assert!(text.contains("Nothing with a score"), "{text}");
        for (width, height) in AWKWARD {
            drawn(width, height, |buffer, area| {
                draw(buffer, area, THEME, &table(), Some(Decibel(45.0)))
            });
        }
    }
}
