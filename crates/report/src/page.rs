//! One page to show: what was changed on a card, what it brought, and how sure that is; as SVG, PDF, Markdown, HTML in one file
//! without scripts, and as a plain card sheet.
//!
//! ```text
//!   title, card, date
//!   changed: …
//!   ┌ bars: score under each load, with errors ┐
//!   ┌ table: clock, watts, degrees, fan        ┐
//!   ┌ work against power, clock lines          ┐
//!   ┌ V/F curve and fan curve, where shaped    ┐
//!   ┌ proof: hours by kind of load, chances    ┐
//! ```

use std::fmt::Write as _;

use serde::Serialize;
use yard_step_core::{
    Assurance, Energy, FanCurve, Frontier, FrontierPoint, LoadKind, Mhz, Percent, ReferenceScore,
    SPANS, UseOfIt, VariantCell, VariantTable, VfCurve, error_in_words, figure_in_words,
};

use crate::frontier::broken;
use crate::plot::{Plot, PlotLine, Range, Stroke, Tint};
use crate::svg::{DARK, Drawing, LIGHT, columns, escaped};

/// Size of a page on paper, and of a wide one, in pixels of 1/96 inch.
const PAPER: (f64, f64) = (794.0, 1_123.0);
const WIDE: (f64, f64) = (1_500.0, 844.0);
const MARGIN: f64 = 34.0;
/// Longest title, characters.
pub const LONGEST_TITLE: usize = 80;
const SMALL: f64 = 11.0;
const BAR: f64 = 15.0;

/// A part of a page that can be left out.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantNames,
)]
#[strum(serialize_all = "kebab-case")]
pub enum PagePart {
    /// What was changed against stock.
    Changed,
    /// Scores as bars.
    Bars,
    /// Clock, power, heat and fan.
    Table,
    /// Work against power of everything that ran.
    Frontier,
    /// Clock lines.
    Clock,
    /// The V/F curve, where it was shaped.
    Curve,
    /// The fan curve, where there is one.
    Fan,
    /// How sure it is.
    Proof,
    /// What it costs and saves.
    TradeOffs,
}

impl PagePart {
    /// All parts, in their order.
    pub const ALL: [Self; 9] = [
        Self::Changed,
        Self::TradeOffs,
        Self::Bars,
        Self::Table,
        Self::Frontier,
        Self::Clock,
        Self::Curve,
        Self::Fan,
        Self::Proof,
    ];

    /// Whether it is drawn, and so stands in the picture of an HTML page.
    fn is_chart(self) -> bool {
        !matches!(self, Self::Changed | Self::TradeOffs | Self::Table)
    }
}

/// How a page looks.
#[derive(Debug, Clone, PartialEq)]
pub struct PageLook {
    /// The parts that are shown.
    pub parts: Vec<PagePart>,
    /// Whether it is dark.
    pub dark: bool,
    /// Whether it is wide rather than a sheet of paper.
    pub wide: bool,
}

impl Default for PageLook {
    fn default() -> Self {
        Self { parts: PagePart::ALL.to_vec(), dark: false, wide: false }
    }
}

/// What a page tells.
#[derive(Debug, Clone, PartialEq)]
pub struct Page {
    /// Its title.
    pub title: String,
    /// Facts in a line: card, unit, driver, room, date, version.
    pub facts: Vec<String>,
    /// Each setting that was moved, with its value.
    pub changed: Vec<String>,
    /// The settings side by side, stock first.
    pub table: VariantTable,
    /// Place among them of those the page is about.
    pub about: usize,
    /// Scores of other cards, or of this one at another time.
    pub references: Vec<ReferenceScore>,
    /// Clock lines: whose, and seconds with clocks.
    pub clock_lines: Vec<(String, Vec<(f64, Mhz)>)>,
    /// Load of the clock lines.
    pub clock_load: String,
    /// Work against power under a load, with its name; none where nothing ran there.
    pub frontier: Option<(String, Frontier)>,
    /// V/F curves: the card's own and the one it is asked for; none where it is not shaped.
    pub curves: Vec<(String, VfCurve)>,
    /// The fan curve of the settings.
    pub fan: Option<FanCurve>,
    /// How sure one may be of the settings.
    pub assurance: Assurance,
    /// Why they are proven or not, in sentences.
    pub proof: String,
    /// Hours of use a day, and the price of a kilowatt-hour.
    pub use_of_it: UseOfIt,
}

/// A figure with its name, of settings under a load.
type Row = (&'static str, fn(&VariantCell) -> Option<f64>, &'static str, usize);

/// The figures of the table.
const ROWS: [Row; 8] = [
    ("average fps", |cell| cell.frame_rates.map(|rates| rates.0), "fps", 1),
    ("1 % low fps", |cell| cell.frame_rates.map(|rates| rates.1), "fps", 1),
    ("clock", |cell| cell.clock.map(Mhz::value), "MHz", 0),
    ("power", |cell| cell.power.map(|power| power.value()), "W", 0),
    ("core", |cell| cell.core.map(|core| core.value()), "°C", 0),
    ("hot spot", |cell| cell.hot_spot.map(|at| at.value()), "°C", 0),
    ("fan", |cell| cell.fan.map(Percent::value), "%", 0),
    ("work per watt", VariantCell::per_watt, "/W", 2),
];

impl Page {
    /// The loads under which two of the settings can be compared, by their places; all where there are none.
    fn shared_loads(&self) -> Vec<usize> {
        let all = 0..self.table.loads.len();
        let ran = |load: usize| {
            let variants = 0..self.table.variants.len();
            variants.filter(|variant| self.table.cell(*variant, load).is_some()).count()
        };
        let shared: Vec<usize> = all.clone().filter(|load| ran(*load) > 1).collect();
        if shared.is_empty() { all.collect() } else { shared }
    }

    /// The loads that are left out of that, in a sentence.
    fn unshared(&self) -> Option<String> {
        let shared = self.shared_loads();
        let names = self.table.loads.iter().enumerate();
        let left: Vec<&str> = names
            .filter(|(load, _)| !shared.contains(load))
            .map(|(_, name)| name.as_str())
            .collect();
        (!left.is_empty())
            .then(|| format!("Run with one of the settings only: {}.", left.join(", ")))
    }

    /// Score of settings under a load with its error, and its change against stock.
    fn score(&self, variant: usize, load: usize) -> Option<String> {
        let (score, error) = self.table.cell(variant, load)?.score?;
        let change = match self.table.change(variant, load).filter(|_| variant > 0) {
            None => String::new(),
            Some(change) if change.is_clear() => {
                format!("  {:+.1} ±{:.1} %", change.percent, change.error)
            }
            Some(change) => format!("  {:+.1} %: no more than chance", change.percent),
        };
        Some(format!("{} ±{}{change}", figure_in_words(score), error_in_words(score, error)))
    }

    /// What the settings cost and save against stock, a sentence for each load.
    #[must_use]
    pub fn trade_offs(&self) -> Vec<String> {
        let mut told = Vec::new();
        for (load, name) in self.table.loads.iter().enumerate() {
            let (Some(now), Some(stock)) =
                (self.table.cell(self.about, load), self.table.cell(0, load))
            else {
                continue;
            };
            if self.about == 0 {
                continue;
            }
            let mut parts = Vec::new();
            if let Some(change) = self.table.change(self.about, load) {
                parts.push(match change.is_clear() {
                    true => format!("score {:+.1} %", change.percent),
                    false => "score as at stock".into(),
                });
            }
            for (label, of, unit, digits) in ROWS.into_iter().skip(2) {
                let Some((now, stock)) = of(now).zip(of(stock)) else { continue };
                let apart = now - stock;
                let is_seen = apart.abs() >= 0.5 * 10.0_f64.powi(-(digits as i32));
                if is_seen {
                    parts.push(format!("{label} {apart:+.digits$} {unit}"));
                }
            }
            let fan = self.table.unlike_fans.contains(name);
            let fan = if fan { " (the fan was not driven alike)" } else { "" };
            told.push(format!("{name}: {}{fan}.", parts.join(", ")));
        }
        told.extend(self.energy());
        told
    }

    /// What the change of power comes to, where it is known.
    fn energy(&self) -> Option<String> {
        let of = |variant: usize| self.table.cell(variant, 0)?.power;
        let watts = of(self.about)? - of(0)?;
        let energy = yard_step_words::energy(&Energy::of(watts, &self.use_of_it));
        let (load, hours) = (&self.table.loads[0], self.use_of_it.hours_a_day);
        (self.about > 0).then(|| format!("Energy under {load}, used {hours} h a day: {energy}."))
    }

    /// How sure one may be, in sentences.
    #[must_use]
    pub fn sure(&self) -> Vec<String> {
        vec![
            yard_step_words::believed(&self.assurance),
            self.proof.clone(),
            yard_step_words::to_raise(&self.assurance, SPANS[0].1),
        ]
    }

    /// The page as Markdown.
    #[must_use]
    pub fn to_markdown(&self, look: &PageLook) -> String {
        let safe = |text: &str| text.replace('|', "\\|");
        let mut text = format!("# {}\n\n{}\n", self.title, self.facts.join(" · "));
        for part in &look.parts {
            match part {
                PagePart::Changed => {
                    text += "\n## Changed against stock\n\n";
                    self.changed.iter().for_each(|line| text += &format!("- {line}\n"));
                }
                PagePart::Bars => {
                    let names: Vec<String> =
                        self.table.variants.iter().map(|variant| safe(&variant.name)).collect();
                    let _ = write!(text, "\n## Score\n\n| load | {} |\n|---|", names.join(" | "));
                    text += &"---|".repeat(names.len());
                    text += "\n";
                    for (load, name) in self.table.loads.iter().enumerate() {
                        let cells: Vec<String> = (0..names.len())
                            .map(|variant| {
                                self.score(variant, load).unwrap_or_else(|| "not run".into())
                            })
                            .collect();
                        let _ = writeln!(text, "| {} | {} |", safe(name), cells.join(" | "));
                    }
                    for reference in &self.references {
                        let _ = writeln!(
                            text,
                            "\n{} under {}: {}.",
                            reference.name,
                            reference.load,
                            figure_in_words(reference.score)
                        );
                    }
                }
                PagePart::Table => {
                    text += "\n## Figures\n";
                    for (load, name) in self.table.loads.iter().enumerate() {
                        let names: Vec<String> =
                            self.table.variants.iter().map(|variant| safe(&variant.name)).collect();
                        let _ = write!(text, "\n| {} | {} |\n|---|", safe(name), names.join(" | "));
                        text += &"---|".repeat(names.len());
                        text += "\n";
                        for row in ROWS {
                            let _ = writeln!(
                                text,
                                "| {} | {} |",
                                row.0,
                                self.row(row, load).join(" | ")
                            );
                        }
                    }
                }
                PagePart::Frontier => {
                    if let Some((load, frontier)) = &self.frontier {
                        let _ = writeln!(
                            text,
                            "\n## Work against power under {}\n\n{}",
                            safe(load),
                            yard_step_words::frontier(frontier)
                        );
                    }
                }
                PagePart::Clock | PagePart::Curve | PagePart::Fan => {}
                PagePart::Proof => {
                    text += "\n## How sure\n\n";
                    self.sure().iter().for_each(|line| text += &format!("{line}\n\n"));
                }
                PagePart::TradeOffs => {
                    text += "\n## Against stock\n\n";
                    self.trade_offs().iter().for_each(|line| text += &format!("- {line}\n"));
                }
            }
        }
        text
    }

    fn row(&self, (_, of, unit, digits): Row, load: usize) -> Vec<String> {
        let cell = |variant: usize| {
            let value = self.table.cell(variant, load).and_then(of);
            value.map_or("–".into(), |value| format!("{value:.digits$} {unit}"))
        };
        (0..self.table.variants.len()).map(cell).collect()
    }

    /// A plain sheet for forums: nothing wider than 80 columns.
    #[must_use]
    pub fn to_text(&self) -> String {
        let mut lines = vec![self.title.clone(), "=".repeat(self.title.chars().count().min(80))];
        lines.extend(broken(&self.facts.join(", "), 78));
        lines.push(String::new());
        lines.push("Changed against stock:".into());
        lines.extend(self.changed.iter().flat_map(|line| broken(&format!("  {line}"), 76)));
        lines.push(String::new());
        for load in self.shared_loads() {
            let Some(name) = self.table.loads.get(load) else { continue };
            lines.push(format!("{name}:"));
            for (variant, of) in self.table.variants.iter().enumerate() {
                let score = self.score(variant, load).unwrap_or_else(|| "not run".into());
                lines.push(format!("  {:<20}  {score}", crate::svg::cut(&of.name, 20)));
            }
            for of in self.references.iter().filter(|of| of.load == *name) {
                let score = figure_in_words(of.score);
                lines.push(format!("  {:<20}  {score}", crate::svg::cut(&of.name, 20)));
            }
        }
        lines.push(String::new());
        lines.push("Against stock:".into());
        lines.extend(self.trade_offs().iter().flat_map(|line| broken(line, 78)));
        lines.push(String::new());
        lines.extend(self.sure().iter().flat_map(|line| broken(line, 78)));
        lines.join("\n") + "\n"
    }

    /// The page as one HTML file without scripts: its text as text, the chart inside it as SVG.
    #[must_use]
    pub fn to_html(&self, look: &PageLook) -> String {
        let palette = if look.dark { DARK } else { LIGHT };
        let chart = self.to_svg(&PageLook {
            parts: look.parts.iter().copied().filter(|part| part.is_chart()).collect(),
            ..look.clone()
        });
        let list = |lines: &[String]| -> String {
            lines.iter().map(|line| format!("<li>{}</li>\n", escaped(line))).collect()
        };
        let mut body = format!(
            "<h1>{}</h1>\n<p class=\"dim\">{}</p>\n",
            escaped(&self.title),
            escaped(&self.facts.join(" · "))
        );
        if look.parts.contains(&PagePart::Changed) {
            body +=
                &format!("<h2>Changed against stock</h2>\n<ul>\n{}</ul>\n", list(&self.changed));
        }
        body += &chart;
        if look.parts.contains(&PagePart::Table) {
            body += &self.html_table();
        }
        if look.parts.contains(&PagePart::TradeOffs) {
            body += &format!("<h2>Against stock</h2>\n<ul>\n{}</ul>\n", list(&self.trade_offs()));
        }
        format!(
            "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<title>{}</title>\n<style>body {{ background: {}; color: {}; font-family: monospace; max-width: 60rem; margin: 2rem auto; padding: 0 1rem }} .dim {{ color: {} }} table {{ border-collapse: collapse }} td, th {{ padding: .15rem .8rem; text-align: right; border-bottom: 1px solid {} }} svg {{ max-width: 100%; height: auto }}</style>\n</head>\n<body>\n{body}</body>\n</html>\n",
            escaped(&self.title),
            palette.ground,
            palette.ink,
            palette.dim,
            palette.faint
        )
    }

    fn html_table(&self) -> String {
        let mut text = String::from("<h2>Figures</h2>\n");
        for (load, name) in self.table.loads.iter().enumerate() {
            let _ = write!(text, "<table>\n<tr><th>{}</th>", escaped(name));
            for variant in &self.table.variants {
                let _ = write!(text, "<th>{}</th>", escaped(&variant.name));
            }
            text += "</tr>\n";
            for row in ROWS {
                let _ = write!(text, "<tr><th>{}</th>", row.0);
                for cell in self.row(row, load) {
                    let _ = write!(text, "<td>{cell}</td>");
                }
                text += "</tr>\n";
            }
            text += "</table>\n";
        }
        text
    }

    /// The page as SVG.
    #[must_use]
    pub fn to_svg(&self, look: &PageLook) -> String {
        let size = if look.wide { WIDE } else { PAPER };
        let palette = if look.dark { DARK } else { LIGHT };
        let mut drawing = Drawing::new(palette);
        let whole = size.0 - 2.0 * MARGIN;
        drawing.text((MARGIN, 50.0), whole, 22.0, palette.ink, &self.title);
        let mut top = 74.0;
        for line in broken(&self.facts.join(" · "), columns(whole, SMALL)) {
            drawing.text((MARGIN, top), whole, SMALL, palette.dim, &line);
            top += 16.0;
        }
        top += 8.0;
        // A wide page has two columns; what comes first in one begins beside what comes first in the other.
        let gap = 36.0;
        let width = if look.wide { (whole - gap) / 2.0 } else { whole };
        let mut flows = vec![(MARGIN, top)];
        if look.wide {
            flows.push((MARGIN + width + gap, top));
        }
        for part in &look.parts {
            let right = !matches!(part, PagePart::Changed | PagePart::TradeOffs | PagePart::Bars);
            let flow = usize::from(look.wide && right);
            let at = flows[flow];
            let foot = self.draw_part(&mut drawing, *part, at, width);
            flows[flow].1 = foot;
        }
        let lowest = flows.iter().map(|flow| flow.1).fold(0.0, f64::max);
        drawing.finished(size, lowest + MARGIN)
    }

    /// Draws a part from `(x, y)` on; returns where the next begins.
    fn draw_part(
        &self,
        drawing: &mut Drawing,
        part: PagePart,
        (x, y): (f64, f64),
        width: f64,
    ) -> f64 {
        let colours = drawing.palette;
        let heading = |drawing: &mut Drawing, text: &str| {
            drawing.line((x, y), (x + width, y), colours.faint, 1.0);
            drawing.text((x, y + 20.0), width, 14.0, colours.ink, text);
            y + 42.0
        };
        match part {
            PagePart::Changed => {
                let top = heading(drawing, "Changed against stock");
                let text = self.changed.join(", ");
                let text = if text.is_empty() { "nothing".to_owned() } else { text };
                paragraph(drawing, (x, top), width, &[text]) + 6.0
            }
            PagePart::Bars => {
                let top = heading(drawing, "Score, with standard errors");
                self.draw_bars(drawing, (x, top), width)
            }
            PagePart::Table => {
                let top = heading(drawing, "Figures");
                self.draw_table(drawing, (x, top), width)
            }
            PagePart::Clock => {
                let top = heading(drawing, &format!("Core clock under {}, MHz", self.clock_load));
                self.draw_clock(drawing, (x, top), width)
            }
            PagePart::Frontier => {
                let Some((load, frontier)) = &self.frontier else { return y };
                let top = heading(drawing, &format!("Score against watts under {load}"));
                Self::draw_frontier(drawing, frontier, (x, top), width)
            }
            PagePart::Curve if self.curves.is_empty() => y,
            PagePart::Curve => {
                let top = heading(drawing, "V/F curve, MHz");
                self.draw_curves(drawing, (x, top), width)
            }
            PagePart::Fan => {
                let Some(curve) = &self.fan else { return y };
                let top = heading(drawing, "Fan curve, %");
                draw_fan(drawing, curve, (x, top), width)
            }
            PagePart::Proof => {
                let top = heading(drawing, "How sure");
                let top = self.draw_proof(drawing, (x, top), width);
                paragraph(drawing, (x, top), width, &self.sure()) + 6.0
            }
            PagePart::TradeOffs => {
                let top = heading(drawing, "Against stock");
                paragraph(drawing, (x, top), width, &self.trade_offs()) + 6.0
            }
        }
    }

    fn draw_bars(&self, drawing: &mut Drawing, (x, top): (f64, f64), width: f64) -> f64 {
        let colours = drawing.palette;
        let (name_width, figure_width) = (width * 0.22, width * 0.36);
        let (left, most_width) = (x + name_width, width - name_width - figure_width);
        let mut y = top;
        for load in self.shared_loads() {
            let Some(name) = self.table.loads.get(load) else { continue };
            drawing.text((x, y), width, 12.0, colours.ink, name);
            y += 8.0;
            let references = self.references.iter().filter(|of| of.load == *name);
            let scores = (0..self.table.variants.len())
                .filter_map(|variant| self.table.cell(variant, load)?.score)
                .map(|(score, _)| score);
            let most = scores.chain(references.clone().map(|of| of.score)).fold(1e-9, f64::max);
            for (variant, of) in self.table.variants.iter().enumerate() {
                let colour = colours.bars[variant % colours.bars.len()];
                drawing.text((x, y + 12.0), name_width - 8.0, SMALL, colours.dim, &of.name);
                let text = self.score(variant, load);
                if let Some((score, error)) = self.table.cell(variant, load).and_then(|c| c.score) {
                    let at = |value: f64| left + value / most * most_width;
                    drawing.rect((left, y + 2.0), (at(score) - left, BAR - 4.0), colour);
                    let middle = y + BAR / 2.0;
                    drawing.line(
                        (at(score - error), middle),
                        (at(score + error), middle),
                        colours.ink,
                        1.5,
                    );
                }
                let failed = if of.failed { "  failed elsewhere" } else { "" };
                let text = text.unwrap_or_else(|| "not run".into()) + failed;
                let place = (left + most_width + 8.0, y + 12.0);
                drawing.text(place, figure_width - 8.0, SMALL, colours.ink, &text);
                y += BAR + 3.0;
            }
            for reference in references {
                drawing.text((x, y + 12.0), name_width - 8.0, SMALL, colours.dim, &reference.name);
                let at = left + reference.score / most * most_width;
                drawing.line((at, y), (at, y + BAR), colours.ink, 2.0);
                let place = (left + most_width + 8.0, y + 12.0);
                let text = figure_in_words(reference.score);
                drawing.text(place, figure_width - 8.0, SMALL, colours.dim, &text);
                y += BAR + 3.0;
            }
            y += 14.0;
        }
        if let Some(text) = self.unshared() {
            drawing.text((x, y), width, SMALL, colours.dim, &text);
            y += 20.0;
        }
        if self.table.loads.is_empty() {
            drawing.text((x, y), width, SMALL, colours.dim, "Nothing was measured yet.");
            y += 20.0;
        }
        y
    }

    fn draw_table(&self, drawing: &mut Drawing, (x, top): (f64, f64), width: f64) -> f64 {
        let colours = drawing.palette;
        let count = self.table.variants.len().max(1) as f64;
        let name_width = width * 0.2;
        let column = (width - name_width) / count;
        let mut y = top;
        // Of many loads, the first tells; the others are in the documents of text.
        for load in self.shared_loads().into_iter().take(2) {
            let Some(name) = self.table.loads.get(load) else { continue };
            drawing.text((x, y), name_width - 6.0, SMALL, colours.ink, name);
            for (variant, of) in self.table.variants.iter().enumerate() {
                let at = x + name_width + column * variant as f64;
                drawing.text((at, y), column - 6.0, SMALL, colours.ink, &of.name);
            }
            y += 16.0;
            for row in ROWS {
                drawing.text((x, y), name_width - 6.0, SMALL, colours.dim, row.0);
                for (variant, text) in self.row(row, load).iter().enumerate() {
                    let at = x + name_width + column * variant as f64;
                    drawing.text((at, y), column - 6.0, SMALL, colours.dim, text);
                }
                y += 15.0;
            }
            y += 8.0;
        }
        y
    }

    fn draw_clock(&self, drawing: &mut Drawing, at: (f64, f64), width: f64) -> f64 {
        let colours = drawing.palette;
        if self.clock_lines.is_empty() {
            drawing.text(at, width, SMALL, colours.dim, "No run of both was recorded.");
            return at.1 + 22.0;
        }
        let lines = self.clock_lines.iter().enumerate().map(|(index, (name, line))| PlotLine {
            name: name.clone(),
            tint: Tint::Own(index),
            stroke: Stroke::Line,
            points: line.iter().map(|(at, clock)| (*at, clock.value())).collect(),
        });
        let plot =
            Plot { lines: lines.collect(), across: "seconds".into(), range: Range::Around(15.0) };
        plot.draw(drawing, at, width)
    }

    /// Work against power of everything that ran under a load; what nothing beats is joined by a line.
    fn draw_frontier(
        drawing: &mut Drawing,
        frontier: &Frontier,
        at: (f64, f64),
        width: f64,
    ) -> f64 {
        let place = |point: &FrontierPoint| (point.cost, point.score);
        let among = |failed: bool, tint| {
            let others = frontier
                .points
                .iter()
                .filter(|point| !point.is_on_frontier && point.failed.is_some() == failed);
            let points = others.map(place).collect();
            PlotLine { name: String::new(), tint, stroke: Stroke::Marks, points }
        };
        let on = frontier.frontier.iter().filter_map(|at| frontier.point(*at)).map(place);
        let one = |name: &str, tint, at: Option<usize>| {
            let points = at.and_then(|at| frontier.point(at)).map(place).into_iter().collect();
            PlotLine { name: name.into(), tint, stroke: Stroke::Marks, points }
        };
        let best = PlotLine {
            name: "nothing beats it".into(),
            tint: Tint::Own(1),
            stroke: Stroke::Marked,
            points: on.collect(),
        };
        let lines = vec![
            among(true, Tint::Bad),
            among(false, Tint::Dim),
            best,
            one("stock", Tint::Ink, frontier.stock),
            one("knee", Tint::Own(2), frontier.knee),
        ];
        let lines = lines.into_iter().filter(|line| !line.points.is_empty()).collect();
        Plot { lines, across: "board power, W".into(), range: Range::Around(2.0) }
            .draw(drawing, at, width)
    }

    /// The curves of clock over voltage, as the card comes and as it is asked for.
    fn draw_curves(&self, drawing: &mut Drawing, at: (f64, f64), width: f64) -> f64 {
        let lines = self.curves.iter().enumerate().map(|(index, (name, curve))| PlotLine {
            name: name.clone(),
            tint: Tint::Own(index),
            stroke: Stroke::Marked,
            points: curve
                .points()
                .iter()
                .map(|point| (f64::from(point.millivolt), f64::from(point.mhz)))
                .collect(),
        });
        Plot {
            lines: lines.collect(),
            across: "core voltage, mV".into(),
            range: Range::Around(15.0),
        }
        .draw(drawing, at, width)
    }

    fn draw_proof(&self, drawing: &mut Drawing, (x, top): (f64, f64), width: f64) -> f64 {
        let colours = drawing.palette;
        let exposure = self.assurance.exposure();
        let most = LoadKind::ALL.into_iter().map(|kind| exposure.clean(kind).value());
        let most = most.fold(3_600.0, f64::max);
        let (name_width, figure_width) = (width * 0.18, width * 0.4);
        let mut y = top;
        for kind in LoadKind::ALL {
            drawing.text((x, y + 9.0), name_width - 6.0, SMALL, colours.dim, kind.label());
            let share = exposure.clean(kind).value() / most;
            let length = share * (width - name_width - figure_width);
            drawing.rect((x + name_width, y), (length, 10.0), colours.bars[1]);
            let text = match self.assurance.bound(kind) {
                None => "not run".to_owned(),
                Some(bound) => {
                    let clean = exposure.clean(kind).in_words();
                    format!("{clean}, fewer than {bound:.2} faults/h")
                }
            };
            let colour = if exposure.faults(kind) > 0.0 { colours.bad } else { colours.ink };
            let place = (x + width - figure_width + 8.0, y + 9.0);
            drawing.text(place, figure_width - 8.0, SMALL, colour, &text);
            y += 16.0;
        }
        y + 16.0
    }
}

/// The curve along which the fan is driven.
fn draw_fan(drawing: &mut Drawing, curve: &FanCurve, at: (f64, f64), width: f64) -> f64 {
    let stop = curve.stops_below();
    let name = match stop {
        Some(below) => format!("core to fan speed, stopped below {:.0} °C", below.value()),
        None => "core to fan speed".to_owned(),
    };
    let line = PlotLine {
        name,
        tint: Tint::Own(1),
        stroke: Stroke::Marked,
        points: curve.points().to_vec(),
    };
    Plot {
        lines: vec![line],
        across: "core temperature, °C".into(),
        range: Range::Fixed(0.0, 100.0),
    }
    .draw(drawing, at, width)
}

/// Writes sentences one below the other, each broken at the width; returns where the next begins.
fn paragraph(drawing: &mut Drawing, (x, top): (f64, f64), width: f64, sentences: &[String]) -> f64 {
    let ink = drawing.palette.ink;
    let mut y = top;
    for line in sentences.iter().flat_map(|text| broken(text, columns(width, SMALL))) {
        drawing.text((x, y), width, SMALL, ink, &line);
        y += 15.0;
    }
    y + 8.0
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{
        Celsius, Cost, Exposure, Margin, ProofRun, Seconds, Settings, USUAL_DAY, Variant, Verdict,
        Watt,
    };

    fn curve(by: u16) -> VfCurve {
        VfCurve::new(&[(700, 900 + by), (900, 1_500 + by), (1_050, 1_900 + by)]).unwrap()
    }

    /// Three points: stock, one that nothing beats, and one that failed.
    fn frontier() -> Frontier {
        let point = |score: f64, cost: f64| FrontierPoint {
            settings: Settings::default(),
            what: String::new(),
            newest: (1, 1),
            runs: 1,
            seconds: Seconds(120.0),
            score,
            cost,
            failed: (cost > 230.0).then_some(Verdict::Artifacts),
            is_stock: cost == 200.0,
            is_on_frontier: cost < 230.0,
            error: 2.0,
            is_dominated: false,
        };
        Frontier {
            cost: Cost::Watts,
            points: vec![point(1_000.0, 200.0), point(1_040.0, 220.0), point(1_050.0, 240.0)],
            frontier: vec![0, 1],
            knee: Some(1),
            stock: Some(0),
        }
    }

    fn page(variants: usize, name: &str) -> Page {
        let variant = |index: usize| Variant {
            name: if index == 0 { "stock".into() } else { format!("{name} {index}") },
            settings: Settings::default(),
            what: String::new(),
            failed: index == 3,
        };
        let cell = |index: usize, load: usize| {
            (index < 2 || load == 0).then(|| VariantCell {
                runs: 2,
                score: Some((1_000.0 + 40.0 * index as f64, 4.0)),
                clock: Some(Mhz(1_950.0 + 30.0 * index as f64)),
                power: Some(Watt(200.0 + 10.0 * index as f64)),
                core: Some(Celsius(70.0)),
                ..VariantCell::default()
            })
        };
        let mut exposure = Exposure::default();
        exposure.add(&ProofRun {
            load: "medley",
            mean_load: None,
            is_cold: false,
            seconds: Seconds(36_000.0),
            failed: false,
        });
        let line =
            |offset: f64| (0..200).map(|at| (f64::from(at), Mhz(1_900.0 + offset))).collect();
        Page {
            title: "Dome shows".into(),
            facts: vec!["Tarn 310, unit 7".into(), "driver 1.0".into(), "room 21 °C".into()],
            changed: vec!["core +60 MHz".into(), "power limit 283 W".into()],
            table: VariantTable {
                variants: (0..variants).map(variant).collect(),
                loads: vec!["medley".into(), "kiln".into()],
                cells: (0..variants)
                    .map(|index| (0..2).map(|load| cell(index, load)).collect())
                    .collect(),
                unlike_fans: vec!["kiln".into()],
                scatter_percent: 0.5,
            },
            about: 1.min(variants - 1),
            references: vec![ReferenceScore {
                name: "last year".into(),
                load: "medley".into(),
                score: 1_020.0,
            }],
            clock_lines: vec![("stock".into(), line(0.0)), ("tuned".into(), line(60.0))],
            clock_load: "medley".into(),
            frontier: Some(("medley".into(), frontier())),
            curves: vec![("stock".into(), curve(0)), (name.to_owned(), curve(30))],
            fan: Some(FanCurve::new(&[(40.0, 30.0), (80.0, 100.0)]).unwrap()),
            assurance: Assurance::new(
                exposure,
                &USUAL_DAY,
                Some((Margin::Daily, 0.998)),
                (0.06, 80.0),
            ),
            proof: "It has 10 h without a fault.".into(),
            use_of_it: UseOfIt { hours_a_day: 4.0, price: Some((0.3, "EUR".into())) },
        }
    }

    /// Every text of an SVG: where it begins, its foot, its size and its characters.
    fn texts(svg: &str) -> Vec<(f64, f64, f64, usize)> {
        let number = |line: &str, name: &str| -> f64 {
            let (_, rest) = line.split_once(&format!(" {name}=\"")).unwrap();
            rest.split('"').next().unwrap().parse().unwrap()
        };
        let lines = svg.lines().filter(|line| line.starts_with("<text"));
        lines
            .map(|line| {
                let inner = line.split_once('>').unwrap().1.trim_end_matches("</text>");
                let inner = inner.replace("&amp;", "&").replace("&lt;", "<").replace("&gt;", ">");
                let size = number(line, "font-size");
                (number(line, "x"), number(line, "y"), size, inner.chars().count())
            })
            .collect()
    }

    #[rstest]
    fn no_text_runs_over_another_or_over_the_edge(
        #[values(1, 2, 6)] variants: usize,
        #[values("quiet", "a name of forty characters & no more of <it>")] name: &str,
        #[values(false, true)] wide: bool,
    ) {
        let page = page(variants, name);
        let svg = page.to_svg(&PageLook { wide, ..PageLook::default() });
        let width = if wide { WIDE.0 } else { PAPER.0 };
        let texts = texts(&svg);
        for (index, (x, y, size, count)) in texts.iter().enumerate() {
            let end = x + *count as f64 * size * 0.602;
            assert!(end <= width, "{end} of {width}");
            for (x2, y2, _, count2) in &texts[index + 1..] {
                let is_same_line = (y - y2).abs() < 8.0;
                let overlaps = *x2 < end && *x < x2 + *count2 as f64 * size * 0.602 - 1.0;
                assert!(!(is_same_line && overlaps), "at {x} {y} and {x2} {y2}: {variants} {name}");
            }
        }
        assert!(crate::to_pdf(&svg).unwrap().starts_with(b"%PDF"));
    }

    #[test]
    fn what_is_missing_says_so_and_chance_is_called_chance() {
        let mut page = page(4, "quiet");
        page.table.cells[2][0].as_mut().unwrap().score = Some((1_001.0, 4.0));
        let text = page.to_text();
        assert!(text.contains("not run") && text.contains("no more than chance"), "{text}");
        assert!(text.lines().all(|line| line.chars().count() <= 80), "{text}");
        for part in [
            "medley: score +4.0 %",
            "power +10 W",
            "not driven alike",
            "+15 kWh a year",
            "+4.38 EUR",
        ] {
            assert!(text.replace('\n', " ").contains(part), "{part}: {text}");
        }
    }

    #[rstest]
    #[case(PagePart::Frontier, "Score against watts under medley", &["knee", "stock"])]
    #[case(PagePart::Curve, "V/F curve, MHz", &[">1050<", "core voltage, mV", "quiet"])]
    #[case(PagePart::Fan, "Fan curve, %", &[">80<", "core temperature, °C", "core to fan speed"])]
    fn a_chart_is_on_the_page_where_there_is_something_to_draw(
        #[case] part: PagePart,
        #[case] heading: &str,
        #[case] told: &[&str],
    ) {
        let look = PageLook { parts: vec![part], ..PageLook::default() };
        let full = page(2, "quiet");
        let svg = full.to_svg(&look);
        assert!(svg.contains(heading) && told.iter().all(|text| svg.contains(text)), "{svg}");
        assert!(full.to_html(&look).contains(heading));
        let empty = Page { frontier: None, curves: Vec::new(), fan: None, ..full };
        assert!(!empty.to_svg(&look).contains(heading));
    }

    #[test]
    fn documents_have_the_parts_that_were_chosen_and_no_script() {
        let page = page(2, "quiet <b>");
        let look =
            PageLook { parts: vec![PagePart::Bars, PagePart::Proof], dark: true, wide: false };
        let markdown = page.to_markdown(&look);
        assert!(markdown.contains("| medley |") && markdown.contains("## How sure"));
        assert!(!markdown.contains("Changed"));
        let html = page.to_html(&look);
        assert!(
            html.contains("<svg") && html.contains("quiet &lt;b&gt;") && !html.contains("<script")
        );
        assert!(html.contains(DARK.ground) && !html.contains("Figures"));
        let whole = page.to_html(&PageLook::default());
        assert!(whole.contains("<td>") && whole.contains("Changed against stock"));
    }
}
