//! Before and after, in Weigh: stock, the card's profiles and what the user holds beside them under each load, as bars with
//! their errors, and their figures.
//!
//! ```text
//!  kiln
//!  stock      ████████████████████        996 ±3     213 W  70 °C
//!  daily      ██████████████████████     1060 ±2    +6.4 ±0.3 %  240 W  75 °C
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use yard_step_core::{
    Celsius, Decibel, Energy, ReferenceScore, UseOfIt, Variant, VariantCell, VariantTable,
    WeighNotes, error_in_words, fan_noise, figure_in_words,
};

use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::{below, cut, row, wrapped, write, write_wrapped};

/// Columns of the name, and of the score.
const NAME: u16 = 22;
const SCORE: u16 = 32;
/// Fewest columns for the bars beside figures.
const BARS: u16 = 20;

/// What is drawn.
pub(super) struct VariantChart<'a> {
    pub table: &'a VariantTable,
    /// Scores from elsewhere, use and price.
    pub notes: &'a WeighNotes,
    /// Noise of the fan at full speed, where its user has said it.
    pub full_fan: Option<Decibel>,
    /// Climb and trial of the point that is picked.
    pub picked: Option<(i64, u32)>,
    /// What there is to say about the last action.
    pub told: Option<&'a str>,
}

/// Where the parts of a line lie.
#[derive(Clone, Copy)]
struct Columns {
    bars: u16,
    has_figures: bool,
}

impl VariantChart<'_> {
    pub(super) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let table = self.table;
        let aside = format!("°C core/hot spot · scatter of a run {:.1} %", table.scatter_percent);
        let space = panel(buffer, area, theme, "Before and after", &aside);
        let space = Rect { x: space.x + 1, width: space.width.saturating_sub(2), ..space };
        let dim = theme.style(Role::Dim);
        if table.loads.is_empty() {
            let text = "Nothing with a score has run at stock or at a profile yet: climb, then keep what it finds.";
            write_wrapped(buffer, space, text, dim);
            return;
        }
        let notes = self.notes().join(" ");
        let told = self.told.map_or(Vec::new(), |told| wrapped(told, usize::from(space.width)));
        let foot = wrapped(&notes, usize::from(space.width)).len() + told.len();
        let columns = self.columns(space.width);
        let mut line = 0;
        // What stands below the bars has its place at any size.
        let last = space.height.saturating_sub(foot as u16);
        for (load, name) in table.loads.iter().enumerate() {
            if line + 2 > last {
                break;
            }
            let head = row(space, line);
            write(buffer, head, (head.x, head.y), name, theme.style(Role::Title));
            let rows = Rect { height: last.saturating_sub(line + 1), ..below(space, line + 1) };
            line += 2 + self.draw_load(buffer, rows, theme, load, columns);
        }
        let rest = below(space, line.min(last));
        let used = write_wrapped(buffer, rest, &told.join(" "), theme.style(Role::Warn));
        write_wrapped(buffer, below(rest, used), &notes, dim);
    }

    fn columns(&self, width: u16) -> Columns {
        let cells = self.table.cells.iter().flatten().flatten();
        let widths = cells.map(|cell| figures_of(cell, self.full_fan).chars().count() as u16);
        let widest = widths.max().unwrap_or(0);
        let has_figures = width >= NAME + SCORE + BARS + widest;
        let figures = if has_figures { widest } else { 0 };
        Columns { bars: width.saturating_sub(NAME + SCORE + figures), has_figures }
    }

    /// Draws what there is under a load; returns the rows that it took.
    fn draw_load(
        &self,
        buffer: &mut Buffer,
        area: Rect,
        theme: Theme,
        load: usize,
        columns: Columns,
    ) -> u16 {
        let table = self.table;
        let name = &table.loads[load];
        let references: Vec<&ReferenceScore> =
            self.notes.references.iter().filter(|of| of.load == *name).collect();
        let scores = (0..table.variants.len()).filter_map(|at| table.cell(at, load)?.score);
        let scores = scores.map(|(score, _)| score).chain(references.iter().map(|of| of.score));
        let most = scores.fold(1e-9, f64::max);
        let mut rows = 0;
        for variant in 0..table.variants.len() {
            let place = row(area, rows);
            if place.is_empty() {
                return rows;
            }
            self.draw_variant(buffer, place, theme, (variant, load), (most, columns));
            rows += 1;
        }
        for reference in references {
            let place = row(area, rows);
            if place.is_empty() {
                return rows;
            }
            let dim = theme.style(Role::Dim);
            write(buffer, place, (place.x, place.y), &cut(&reference.name, NAME - 1), dim);
            let style = theme.style(Role::Title);
            let at = draw_bar(buffer, place, columns.bars, reference.score / most, style);
            let text = format!("{:>6}  as you noted it", figure_in_words(reference.score));
            write(buffer, place, (at, place.y), &text, dim);
            rows += 1;
        }
        rows
    }

    fn draw_variant(
        &self,
        buffer: &mut Buffer,
        place: Rect,
        theme: Theme,
        (variant, load): (usize, usize),
        (most, columns): (f64, Columns),
    ) {
        let table = self.table;
        let of = &table.variants[variant];
        let role = if of.failed { Role::Bad } else { Role::Text };
        write(buffer, place, (place.x, place.y), &cut(&of.name, NAME - 1), theme.style(role));
        let Some(cell) = table.cell(variant, load) else {
            write(buffer, place, (place.x + NAME, place.y), "not run", theme.style(Role::Dim));
            return;
        };
        let Some((score, error)) = cell.score else { return };
        let colour = theme.style(if variant == 0 { Role::Dim } else { Role::Clock });
        let at = draw_bar(buffer, place, columns.bars, score / most, colour);
        let text = format!("{:>6} ±{}", figure_in_words(score), error_in_words(score, error));
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
        if columns.has_figures {
            let figures = figures_of(cell, self.full_fan);
            write(buffer, place, (at + SCORE - 1, place.y), &figures, theme.style(Role::Text));
        }
    }

    /// What stands below the bars, in sentences.
    fn notes(&self) -> Vec<String> {
        let table = self.table;
        let mut notes = Vec::new();
        let missing = table.missing();
        if !missing.is_empty() {
            let name = |(variant, load): &(usize, usize)| {
                let (variant, load) = (table.variants.get(*variant)?, table.loads.get(*load)?);
                Some(format!("{} under {load}", variant.name))
            };
            let names: Vec<String> = missing.iter().filter_map(name).collect();
            notes.push(format!("Not measured: {}.", names.join(", ")));
        }
        if !table.unlike_fans.is_empty() {
            let loads = table.unlike_fans.join(", ");
            notes.push(format!("Fans were not driven alike under {loads}."));
        }
        if table.variants.iter().any(|variant| variant.failed) {
            notes.push("Red: a run at these settings failed; they are no recommendation.".into());
        }
        let elsewhere = self.notes.references.iter().filter(|of| !table.loads.contains(&of.load));
        notes.extend(elsewhere.map(|of| {
            let score = figure_in_words(of.score);
            format!("{} under {}: {score}; nothing here ran under that load.", of.name, of.load)
        }));
        notes.extend(energy(table, &self.notes.use_of_it));
        notes.extend(self.picked.map(|(climb, trial)| {
            let is_there = self.notes.trials.contains(&(climb, trial));
            let what = if is_there { "takes it away" } else { "puts it beside these" };
            format!("Picked: trial {trial} of climb {climb}; B {what}.")
        }));
        notes
    }
}

/// Draws a bar of a share of its room; returns the column after that.
fn draw_bar(buffer: &mut Buffer, place: Rect, room: u16, share: f64, style: Style) -> u16 {
    let bar = Rect { x: place.x + NAME, width: room, ..place };
    let length = (share * f64::from(room)).round() as u16;
    for x in bar.x..(bar.x + length).min(bar.right()) {
        write(buffer, bar, (x, bar.y), "▬", style);
    }
    bar.right() + 1
}

/// What the settings spend more or less than stock under the first load, where both ran.
fn energy(table: &VariantTable, use_of_it: &UseOfIt) -> Option<String> {
    let load = table.loads.first()?;
    let stock = table.cell(0, 0)?.power?;
    let of = |(at, variant): (usize, &Variant)| {
        let energy = Energy::of(table.cell(at, 0)?.power? - stock, use_of_it);
        let name = &variant.name;
        if energy.an_hour.abs() < 0.5 {
            return Some(format!("{name} as much"));
        }
        Some(format!("{name} {}", yard_step_words::energy(&energy)))
    };
    let each: Vec<String> = table.variants.iter().enumerate().skip(1).filter_map(of).collect();
    let (told, hours) = (each.join("; "), use_of_it.hours_a_day);
    (!each.is_empty())
        .then(|| format!("Energy against stock under {load}, used {hours} h a day: {told}."))
}

/// Clock, power, heat, fan, work per watt, noise and frames per second in a line.
fn figures_of(cell: &VariantCell, full_fan: Option<Decibel>) -> String {
    let show = |value: Option<f64>, unit: &str, width: usize| {
        value.map_or_else(|| format!("{:>width$} {unit}", "–"), |v| format!("{v:>width$.0} {unit}"))
    };
    let per_watt = cell.per_watt().map_or("–".into(), |value| format!("{value:.2}"));
    let whole = |at: Celsius| format!("{:.0}", at.value());
    let heat = match (cell.core, cell.hot_spot) {
        (Some(core), Some(hot)) => format!("{}/{} °C", whole(core), whole(hot)),
        (one, other) => format!("{} °C", one.or(other).map_or("–".into(), whole)),
    };
    let heat = format!("{heat:>8}");
    let noise = cell.fan.zip(full_fan).map(|(fan, full)| fan_noise(fan, full).value());
    let noise = noise.map_or(String::new(), |noise| format!("  {noise:.0} dB"));
    let frames = cell
        .frame_rates
        .map_or(String::new(), |(average, low)| format!("  {average:.0} fps, 1 % low {low:.0}"));
    format!(
        "{}  {}  {}  {}  {per_watt} /W{noise}{frames}",
        show(cell.clock.map(|clock| clock.value()), "MHz", 4),
        show(cell.power.map(|power| power.value()), "W", 3),
        heat,
        show(cell.fan.map(|fan| fan.value()), "% fan", 3),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use yard_step_core::{Mhz, Percent, Settings, Variant, Watt};

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
                core: Some(Celsius(66.0)),
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

    /// The chart without anything held beside.
    fn chart(table: &VariantTable, full_fan: Option<Decibel>) -> VariantChart<'_> {
        static NONE: WeighNotes = WeighNotes {
            trials: Vec::new(),
            references: Vec::new(),
            use_of_it: UseOfIt { hours_a_day: 3.0, price: None },
        };
        VariantChart { table, notes: &NONE, full_fan, picked: None, told: None }
    }

    fn text(chart: &VariantChart<'_>) -> String {
        drawn(160, 30, |buffer, area| chart.draw(buffer, area, THEME)).join("\n")
    }

    #[test]
    fn changes_beyond_chance_are_told_and_what_is_missing_is_listed() {
        let text = text(&chart(&table(), None));
        for part in [
            "+6.0 ±0.3 %",
            "as stock",
            "not run",
            "1998 MHz  213 W  66/79 °C  100 % fan  4.69 /W",
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
        let quiet = text(&chart(&table, None));
        assert!(!quiet.contains("dB"), "nobody said how loud the fan is: {quiet}");
        let text = text(&chart(&table, Some(Decibel(45.0))));
        let text: Vec<&str> = text.split_whitespace().collect();
        let text = text.join(" ");
        for part in
            ["/W 45 dB 96 fps, 1 % low 71", "daily +27 Wh an hour, +30 kWh a year; bold as much."]
        {
            assert!(text.contains(part), "{part}:\n{text}");
        }
    }

    #[test]
    fn what_the_user_holds_beside_is_drawn_on_the_same_scale_and_priced() {
        let mut table = table();
        table.cells[1][0].as_mut().unwrap().power = Some(Watt(240.0));
        let score = |load: &str| ReferenceScore::new("last year", load, 1_030.0).unwrap();
        let notes = WeighNotes {
            trials: vec![(2, 7)],
            references: vec![score("kiln"), score("sluice")],
            use_of_it: UseOfIt { hours_a_day: 8.0, price: Some((0.3, "EUR".into())) },
        };
        let mut chart = VariantChart { notes: &notes, ..chart(&table, None) };
        chart.picked = Some((2, 7));
        let there = text(&chart);
        let bar = |name: &str| {
            let line = there.lines().find(|line| line.trim_start().starts_with(name)).unwrap();
            line.matches('▬').count()
        };
        assert!(bar("last year") > bar("stock") && bar("last year") < bar("daily"));
        let words: Vec<&str> = there.split_whitespace().collect();
        let words = words.join(" ");
        for part in [
            "1030 as you noted it",
            "last year under sluice: 1030; nothing here ran under that load.",
            "used 8 h a day: daily +27 Wh an hour, +79 kWh a year, +23.65 EUR a year;",
            "trial 7 of climb 2; B takes it away.",
        ] {
            assert!(words.contains(part), "{part}:\n{there}");
        }
        chart.picked = Some((2, 8));
        chart.told = Some("Noted.");
        let other = text(&chart);
        assert!(other.contains("B puts it beside these.") && other.contains("Noted."), "{other}");
    }

    #[test]
    fn nothing_yet_says_so_and_any_size_will_do() {
        let empty = VariantTable::default();
        let nothing = text(&chart(&empty, None));
        assert!(nothing.contains("Nothing with a score"), "{nothing}");
        let table = table();
        for (width, height) in AWKWARD {
            drawn(width, height, |buffer, area| {
                chart(&table, Some(Decibel(45.0))).draw(buffer, area, THEME);
            });
        }
    }
}
