//! The settings beside the clock line: of each what is asked, its range with stock and what is held, and
//! what was tried there.
//!
//! ```text
//! ▸ core clock offset   +105 MHz   -150 ╌╌╌┆╌╌●◈▲╌ 300
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::{
    Axis, Domain, Offer, RISKED, SettingKind, Settings, TrialRecord, Verdict, forecast,
};
use yard_step_engine::Snapshot;

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::widgets::panel::{inside, panel};
use crate::tui::widgets::{cut, row, write, write_right};

/// Widths of the name and of the value.
const NAME: u16 = 20;
const VALUE: u16 = 12;
/// From this width on, the ends of a range are told.
const ROOMY: u16 = 58;
/// Width of the lowest value before a range, and of the highest after it.
const END: u16 = 5;

/// What the panel shows.
pub(crate) struct SettingsPanel<'a> {
    pub snapshot: &'a Snapshot,
    /// What is asked for, or would be.
    pub asked: &'a Settings,
    /// What the card holds.
    pub held: Option<Settings>,
    /// Line of the chosen setting.
    pub chosen: usize,
}

/// A place in the panel.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Hit {
    /// Line of the setting.
    pub line: usize,
    /// Value on its range, where the place lies on that.
    pub value: Option<f64>,
}

impl SettingsPanel<'_> {
    pub(crate) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let space = panel(buffer, area, theme, "Settings", "┆ stock  ◈ held");
        self.draw_lines(buffer, space, theme);
    }

    /// A line for each setting, one about the chosen one, and what all of them are expected to do.
    pub(crate) fn draw_lines(&self, buffer: &mut Buffer, space: Rect, theme: Theme) {
        for (index, offer) in self.snapshot.machine.card.offers.iter().enumerate() {
            self.draw_line(buffer, row(space, index as u16), theme, offer, index == self.chosen);
        }
        let count = self.snapshot.machine.card.offers.len() as u16;
        if let Some(offer) = self.snapshot.machine.card.offers.get(self.chosen) {
            let line = row(space, count);
            let text = cut(&self.about(offer), line.width.saturating_sub(3));
            write(buffer, line, (line.x + 3, line.y), &text, theme.style(Role::Dim));
        }
        let line = row(space, count + 1);
        let room = line.width.saturating_sub(3);
        let text = cut(&self.expected(room), room);
        write(buffer, line, (line.x + 3, line.y), &text, theme.style(Role::Text));
    }

    fn draw_line(
        &self,
        buffer: &mut Buffer,
        line: Rect,
        theme: Theme,
        offer: &Offer,
        is_chosen: bool,
    ) {
        if is_chosen {
            buffer.set_style(line.intersection(buffer.area), theme.style(Role::Selected));
            write(buffer, line, (line.x + 1, line.y), "▸", theme.style(Role::Accent));
        }
        let asked = self.asked.get(offer.kind);
        let is_moved = asked != offer.stock || !self.is_number(offer);
        let role = if is_moved { Role::Clock } else { Role::Text };
        write(buffer, line, (line.x + 3, line.y), offer.kind.label(), theme.style(Role::Text));
        let value = asked.map_or_else(|| self.asked.show(offer.kind), |value| offer.show(value));
        let cell = Rect { x: line.x + NAME + 1, width: VALUE, ..line };
        write_right(
            buffer,
            cell.intersection(line),
            line.y,
            &cut(&value, VALUE),
            theme.style(role),
        );
        let Some(track) = track(line) else { return };
        if line.width >= ROOMY {
            let (low, high) = (format!("{:.0}", offer.minimum), format!("{:.0}", offer.maximum));
            let before = Rect { x: track.x - END - 1, width: END, ..line };
            write_right(buffer, before, line.y, &low, theme.style(Role::Dim));
            write(buffer, line, (track.right() + 1, line.y), &high, theme.style(Role::Dim));
        }
        let rule = "╌".repeat(usize::from(track.width));
        write(buffer, track, (track.x, line.y), &rule, theme.style(Role::Faint));
        if let Some((low, high)) = self.edge(offer) {
            let (from, to) = (place(track, offer, low), place(track, offer, high));
            let band = Rect { x: from, width: to - from + 1, ..track };
            buffer.set_style(band.intersection(buffer.area), theme.style(Role::Band));
        }
        if let Some(stock) = offer.stock {
            let x = place(track, offer, stock);
            write(buffer, track, (x, line.y), "┆", theme.style(Role::Text));
        }
        // What failed lies over what held, and what is held now over both.
        let mut tried = self.tried(offer);
        tried.sort_by_key(|(_, verdict)| verdict.is_fault());
        let mut mark = |value, text: &str, style| {
            write(buffer, track, (place(track, offer, value), line.y), text, style);
        };
        for (value, verdict) in tried {
            mark(value, glyph(verdict), theme.verdict(verdict));
        }
        if let Some(now) = self.held.as_ref().and_then(|held| held.get(offer.kind)) {
            mark(now, "◈", theme.style(Role::Clock));
        }
    }

    fn is_number(&self, offer: &Offer) -> bool {
        self.asked.get(offer.kind).is_some() || offer.stock.is_none()
    }

    /// The chosen setting in a line: its range and stock, what was tried, where its edge is believed.
    fn about(&self, offer: &Offer) -> String {
        let stock = offer.stock.map_or("automatic".into(), |stock| offer.show(stock));
        let mut text = format!("stock {stock}, in steps of {}", offer.show_step());
        if let Some((low, high)) = self.edge(offer) {
            text += &format!("; edge {} to {}", offer.show(low), offer.show(high));
        }
        if let Some(risk) = self.risk(offer) {
            let span = RISKED.in_words();
            text = format!("fault within {span}: {}; {text}", percent(risk));
        }
        let tried = self.tried(offer);
        let failed = tried
            .iter()
            .filter(|_| self.domain(offer).is_some())
            .filter(|(_, verdict)| verdict.is_fault())
            .map(|(at, _)| *at);
        if let Some(lowest) = failed.reduce(f64::min) {
            text += &format!("; failed from {}", offer.show(lowest));
        }
        text
    }

    /// Watts and hot spot that the asked values are expected to come to, and by which trial where there is room.
    fn expected(&self, width: u16) -> String {
        let climb = &self.snapshot.climb;
        let runs_free = self.snapshot.runs.free.as_ref().and(self.snapshot.runs.newest.as_ref());
        let load = runs_free.map_or(&climb.plan.scene, |run| &run.scene);
        let card = &self.snapshot.machine.card;
        let Some(told) = forecast(card, &climb.trials, load, self.asked) else {
            return format!("expected W and °C: known after a run under {load}");
        };
        let (power, by) = (told.power, told.from);
        let power = format!("{:.0} ± {:.0} W", power.value.value(), power.within.value());
        let heat = match told.hot_spot {
            Some(heat) => {
                format!("hot spot {:.0} ± {:.0} °C", heat.value.value(), heat.within.value())
            }
            None => "°C unknown with this fan".into(),
        };
        let short = format!("expected {power}, {heat}");
        let whole = format!("{short}, by trial {by}");
        if whole.chars().count() > usize::from(width) { short } else { whole }
    }

    /// The domain whose clock a setting moves.
    fn domain(&self, offer: &Offer) -> Option<Domain> {
        [Domain::Core, Domain::Memory].into_iter().find(|domain| {
            Axis::of(&self.snapshot.machine.card, *domain)
                .is_some_and(|axis| axis.kind() == offer.kind)
        })
    }

    /// Chance of a fault at the value that is asked, with all else at stock, where it is known.
    fn risk(&self, offer: &Offer) -> Option<f64> {
        let domain = self.domain(offer)?;
        let axis = Axis::of(&self.snapshot.machine.card, domain)?;
        let mut stairs = self.snapshot.climb.stairs.iter().flatten();
        stairs.find(|stairs| stairs.domain == domain)?.risk(axis.read(self.asked))
    }

    /// Where the edge of a clock is believed, in the setting's own unit.
    fn edge(&self, offer: &Offer) -> Option<(f64, f64)> {
        let domain = self.domain(offer)?;
        let stairs = self.snapshot.climb.stairs.iter().flatten();
        let (low, high) = stairs.into_iter().find(|stairs| stairs.domain == domain)?.band?;
        let axis = Axis::of(&self.snapshot.machine.card, domain)?;
        let in_unit = |value| {
            let mut settings = Settings::stock(&self.snapshot.machine.card);
            axis.write(&mut settings, value);
            settings.get(offer.kind)
        };
        in_unit(low).zip(in_unit(high))
    }

    /// Values of a setting that were tried in this climb, each with the gravest verdict it came to, and with
    /// all else no bolder than asked now.
    fn tried(&self, offer: &Offer) -> Vec<(f64, Verdict)> {
        let mut tried: Vec<(f64, Verdict)> = Vec::new();
        let of = |trial: &TrialRecord| Some((trial.held().get(offer.kind)?, trial.verdict()));
        for (value, verdict) in self.snapshot.climb.trials.iter().filter_map(of) {
            match tried.iter_mut().find(|(at, _)| *at == value) {
                Some((_, gravest)) => *gravest = verdict.min(*gravest),
                None => tried.push((value, verdict)),
            }
        }
        tried.retain(|(value, verdict)| *verdict != Verdict::Void && Some(*value) != offer.stock);
        tried
    }
}

/// The range of a line; none where there is no room for one.
fn track(line: Rect) -> Option<Rect> {
    let end = if line.width >= ROOMY { END } else { 0 };
    let x = line.x + NAME + VALUE + end + 3;
    let end = line.right().saturating_sub(end + 1);
    (end > x + 6).then(|| Rect { x, width: end - x, ..line })
}

fn place(track: Rect, offer: &Offer, value: f64) -> u16 {
    let share = (value - offer.minimum) / (offer.maximum - offer.minimum).max(1e-9);
    track.x + (share.clamp(0.0, 1.0) * f64::from(track.width - 1)).round() as u16
}

fn percent(share: f64) -> String {
    match share * 100.0 {
        little if little < 0.5 => "under 1 %".into(),
        percent => format!("{percent:.0} %"),
    }
}

/// Rows the panel wants for a card.
pub(crate) fn height(snapshot: &Snapshot) -> u16 {
    snapshot.machine.card.offers.len() as u16 + 3
}

/// What lies at a place of the screen, in a panel drawn into `area`.
pub(crate) fn hit(area: Rect, snapshot: &Snapshot, (x, y): (u16, u16)) -> Option<Hit> {
    let space = inside(area);
    if !space.contains((x, y).into()) {
        return None;
    }
    let line = usize::from(y - space.y);
    let offer = snapshot.machine.card.offers.get(line)?;
    let on_range = track(row(space, line as u16)).filter(|track| track.contains((x, y).into()));
    let value = on_range.map(|track| {
        let share = f64::from(x - track.x) / f64::from((track.width - 1).max(1));
        offer.bin(offer.minimum + share * (offer.maximum - offer.minimum))
    });
    Some(Hit { line, value })
}

/// The value of a setting some steps from what is asked; out of "automatic" or "none" one comes at the top of
/// the range.
pub(crate) fn moved(offer: &Offer, asked: &Settings, steps: f64) -> Settings {
    let from = asked.get(offer.kind).or(offer.stock);
    let value = from.map_or(offer.maximum, |value| offer.bin(value + steps * step_of(offer)));
    let mut settings = *asked;
    settings.set(offer.kind, Some(value));
    settings
}

/// A step of one key: the card's own, but no finer than anybody would feel.
fn step_of(offer: &Offer) -> f64 {
    let least = match offer.kind {
        SettingKind::PowerLimit => 5.0,
        SettingKind::MemoryOffset => 25.0,
        SettingKind::Fan => 5.0,
        _ => offer.step,
    };
    (least / offer.step).round().max(1.0) * offer.step
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{snapshot, stairs};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use std::sync::Arc;
    use yard_step_core::{MhzOffset, Plan};

    fn lines(snapshot: &Snapshot, offset: i32, width: u16, height: u16) -> Vec<String> {
        let mut asked = Settings::stock(&snapshot.machine.card);
        asked.core_offset = Some(MhzOffset(offset));
        let panel = SettingsPanel { snapshot, asked: &asked, held: Some(asked), chosen: 1 };
        drawn(width, height, |buffer, area| panel.draw(buffer, area, Theme::new(Depth::None)))
    }

    #[test]
    fn a_line_has_value_range_stock_held_and_what_was_tried_with_its_verdict() {
        let lines = lines(&snapshot(), 75, 70, 8);
        let core = &lines[2];
        assert!(core.starts_with(" ▸ core clock offset"), "{core}");
        assert!(
            core.contains("+75 MHz") && core.contains("-150") && core.contains("300"),
            "{core}"
        );
        let places: Vec<usize> =
            ['┆', '●', '◈', '▲'].map(|mark| core.chars().position(|c| c == mark).unwrap()).to_vec();
        assert!(
            places.windows(2).all(|pair| pair[0] < pair[1]),
            "in the order of the values: {core}"
        );
        assert!(lines[1].contains("220 W, 100 %") && !lines[1].contains('▸'), "{}", lines[1]);
    }

    #[rstest]
    #[case(0, "fault within 10 min: under 1 %")]
    #[case(60, "fault within 10 min: 2 %")]
    #[case(75, "fault within 10 min: 90 %")]
    fn the_chance_of_a_fault_is_told_before_the_value_is_applied(
        #[case] offset: i32,
        #[case] told: &str,
    ) {
        let lines = lines(&snapshot(), offset, 90, 8);
        assert!(lines[4].contains(told), "{}", lines[4]);
        assert!(lines[4].contains("in steps of 15 MHz; failed from +120 MHz"), "{}", lines[4]);
    }

    #[test]
    fn watts_and_hot_spot_are_foretold_by_the_most_alike_run_under_the_load() {
        let mut snapshot = snapshot();
        let under = |load: &str| Arc::new(Plan { scene: load.into(), ..Plan::default() });
        snapshot.climb.plan = under(&snapshot.climb.trials[0].scene);
        let other_fan = &lines(&snapshot, 0, 90, 9)[5];
        assert!(other_fan.contains("expected 216 ± 4 W, °C unknown with this fan, by trial 1"));
        let asked = snapshot.climb.trials[0].held();
        let panel =
            SettingsPanel { snapshot: &snapshot, asked: &asked, held: Some(asked), chosen: 1 };
        let same_fan =
            &drawn(90, 9, |buffer, area| panel.draw(buffer, area, Theme::new(Depth::None)))[5];
        assert!(same_fan.contains("expected 216 ± 4 W, hot spot "), "{same_fan}");
        snapshot.climb.plan = under("loom");
        let unknown = &lines(&snapshot, 0, 90, 9)[5];
        assert!(unknown.contains("expected W and °C: known after a run under loom"), "{unknown}");
    }

    #[test]
    fn the_believed_edge_is_told_in_the_settings_own_unit() {
        let mut snapshot = snapshot();
        let mut known = stairs(60, Some(120));
        known.band = Some((MhzOffset(90), MhzOffset(135)));
        snapshot.climb.stairs[0] = Some(Arc::new(known));
        let lines = lines(&snapshot, 60, 100, 8);
        assert!(lines[4].contains("edge +90 MHz to +135 MHz"), "{}", lines[4]);
    }

    #[test]
    fn a_place_on_a_range_is_the_value_it_stands_for() {
        let snapshot = snapshot();
        let area = Rect::new(10, 5, 70, 8);
        let line = row(inside(area), 1);
        let track = track(line).unwrap();
        let at = |x: u16| hit(area, &snapshot, (x, line.y)).unwrap();
        assert_eq!(at(track.x), Hit { line: 1, value: Some(-150.0) });
        assert_eq!(at(track.right() - 1), Hit { line: 1, value: Some(300.0) });
        assert_eq!(at(line.x + 4), Hit { line: 1, value: None }, "on its name");
        assert_eq!(hit(area, &snapshot, (line.x, area.y)), None, "on the heading");
        assert_eq!(hit(area, &snapshot, (2, line.y)), None, "beside it");
    }

    #[test]
    fn a_narrow_panel_keeps_the_marks_and_any_size_will_do() {
        let narrow = lines(&snapshot(), 75, 43, 8);
        assert!(narrow[2].contains('◈') && !narrow[2].contains("-150"), "{}", narrow[2]);
        for (width, height) in AWKWARD.into_iter().chain([(30, 4), (200, 40)]) {
            lines(&snapshot(), 75, width, height);
        }
    }
}
