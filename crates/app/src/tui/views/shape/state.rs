//! What the view Shape knows of itself: the curve being shaped, the values beside it, and which of
//! them the keys move. Nothing of it reaches the card before it is asked for.

use std::borrow::Cow;

use ratatui::crossterm::event::{MouseButton, MouseEventKind};
use yard_step_core::{Change, CurveError, CurveKind, Fan, Percent, SettingKind, Settings, Sketch};
use yard_step_engine::{Command, NextView, Snapshot};

use crate::tui::keys::action::Action;
use crate::tui::overlays::settings::taken_in_words;

/// What shapes clock and voltage beside a curve, in the order in which it is shown.
pub const BESIDE: [SettingKind; 6] = [
    SettingKind::CoreOffset,
    SettingKind::VoltageOffset,
    SettingKind::ClockMinimum,
    SettingKind::ClockMaximum,
    SettingKind::MemoryVoltage,
    SettingKind::MemoryTiming,
];

/// What the keys move.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Focus {
    /// The clocks of the curve.
    Clocks,
    /// The voltages of performance states.
    Voltages,
    /// Whether the picked point is a ceiling.
    Ceiling,
    /// One of the values beside it: place in [`BESIDE`].
    Value(usize),
}

/// What is shaped on one card.
#[derive(Debug, Clone, PartialEq)]
pub struct Draft {
    /// Key of the card.
    card: String,
    /// The curve, where the card offers one.
    pub sketch: Option<Sketch>,
    /// Everything else; its curve is not read.
    pub values: Settings,
    /// The point that is picked.
    pub point: usize,
    /// Whether nothing above the picked point is to be reached: the sketch stays, what is asked is flat
    /// from the point on.
    pub ceiling: bool,
    /// What the keys move.
    pub focus: Focus,
    /// What the last smoothing changed.
    pub changes: Vec<Change>,
}

/// What came of an action in Shape.
#[derive(Debug, Clone, PartialEq)]
pub enum Came {
    /// It concerns another view.
    NotHere,
    /// Nothing more is to be done.
    Done,
    /// A command for the engine.
    Send(Command),
}

/// The state.
#[derive(Debug, Clone, PartialEq)]
pub struct ShapeState {
    draft: Option<Draft>,
    /// Whether the mouse holds a point, and whether it has moved it: a whole drag is one move.
    drag: Option<bool>,
    /// What became of the last wish.
    pub told: Option<String>,
    /// How many times nearer than the whole curve one looks.
    pub zoom: u16,
}

impl Default for ShapeState {
    fn default() -> Self {
        Self { draft: None, drag: None, told: None, zoom: 1 }
    }
}

/// Nearest that one can look at a curve.
const NEAREST: u16 = 8;

impl Draft {
    /// What the card holds now, with the fan as trials have it.
    #[must_use]
    pub fn of(snapshot: &Snapshot) -> Self {
        let card = &snapshot.machine.card;
        let values = snapshot.machine.held.unwrap_or_else(|| Settings::stock(card));
        Self::from(snapshot, values)
    }

    fn from(snapshot: &Snapshot, mut values: Settings) -> Self {
        let card = &snapshot.machine.card;
        let is_free = snapshot.runs.free.as_ref().is_some_and(|free| free.ended.is_none());
        if card.offers(SettingKind::Fan) && !is_free {
            values.fan = Some(Fan::Fixed(Percent(snapshot.climb.plan.hold.fan_percent)));
        }
        let sketch =
            card.curve.map(|offer| Sketch::new(offer, &values.curve.unwrap_or(offer.factory)));
        let point = sketch.as_ref().map_or(0, |sketch| sketch.points().len() * 2 / 3);
        let first = BESIDE.iter().position(|kind| card.offers(*kind)).unwrap_or(0);
        Self {
            card: card.key(),
            focus: if sketch.is_some() { Focus::Clocks } else { Focus::Value(first) },
            sketch,
            values,
            point,
            ceiling: false,
            changes: Vec::new(),
        }
    }

    /// The settings that would be asked for.
    ///
    /// # Errors
    /// The curve falls somewhere, or two states have one voltage.
    pub fn settings(&self) -> Result<Settings, CurveError> {
        let Some(sketch) = &self.sketch else { return Ok(self.values) };
        let sketch = match self.ceiling {
            true => &self.below_ceiling(sketch),
            false => sketch,
        };
        let curve = sketch.curve()?;
        let curve = Some(curve).filter(|_| !sketch.is_factory());
        Ok(Settings { curve, ..self.values })
    }

    /// The sketch, flat from the picked point on.
    fn below_ceiling(&self, sketch: &Sketch) -> Sketch {
        let mut flat = sketch.clone();
        flat.flatten_right(self.point);
        flat
    }

    /// The ceiling in MHz, where there is one.
    #[must_use]
    pub fn ceiling_clock(&self) -> Option<u16> {
        self.picked().filter(|_| self.ceiling).map(|(_, mhz)| mhz)
    }

    /// Whether it is what the next trial asks for.
    #[must_use]
    pub fn is_next(&self, snapshot: &Snapshot) -> bool {
        self.settings().is_ok_and(|settings| is_asked(snapshot, &settings))
    }

    /// Clock and voltage of the picked point, mV and MHz.
    #[must_use]
    pub fn picked(&self) -> Option<(u16, u16)> {
        self.sketch.as_ref()?.points().get(self.point).copied()
    }

    fn pick(&mut self, point: usize) {
        let last = self.sketch.as_ref().map_or(0, |sketch| sketch.points().len() - 1);
        self.point = point.min(last);
    }

    /// Moves what is in focus by so many of its steps.
    fn step(&mut self, snapshot: &Snapshot, by: i32) {
        self.changes.clear();
        match (self.focus, &mut self.sketch) {
            (Focus::Clocks, Some(sketch)) => drop(sketch.raise(self.point, by)),
            (Focus::Voltages, Some(sketch)) => drop(sketch.raise_voltage(self.point, by)),
            (Focus::Ceiling, _) => self.ceiling = by > 0,
            (Focus::Value(at), _) => self.step_value(snapshot, at, by),
            _ => {}
        }
    }

    fn step_value(&mut self, snapshot: &Snapshot, at: usize, by: i32) {
        let Some(offer) = BESIDE.get(at).and_then(|kind| snapshot.machine.card.offer(*kind)) else {
            return;
        };
        let from = self.values.get(offer.kind).or(offer.stock).unwrap_or(offer.minimum);
        self.values.set(offer.kind, Some(offer.bin(from + f64::from(by) * offer.step)));
    }

    /// The next thing that the keys move, among those the card offers.
    fn next_focus(&mut self, snapshot: &Snapshot) {
        let kind = self.sketch.as_ref().map(|sketch| sketch.offer().kind);
        let curve = match kind {
            Some(CurveKind::States) => vec![Focus::Clocks, Focus::Voltages, Focus::Ceiling],
            Some(CurveKind::Points) => vec![Focus::Clocks, Focus::Ceiling],
            None => vec![],
        };
        let offered =
            |at: &usize| BESIDE.get(*at).is_some_and(|kind| snapshot.machine.card.offers(*kind));
        let values = (0..BESIDE.len()).filter(offered).map(Focus::Value);
        let all: Vec<Focus> = curve.into_iter().chain(values).collect();
        let now = all.iter().position(|focus| *focus == self.focus).unwrap_or(0);
        if let Some(next) = all.get((now + 1) % all.len().max(1)) {
            self.focus = *next;
        }
    }

    /// Takes in what was typed for what is in focus: a value, or with `%` a share of all clocks (or
    /// voltages).
    ///
    /// # Errors
    /// Why it cannot be taken.
    pub fn type_in(&mut self, snapshot: &Snapshot, text: &str) -> Result<(), String> {
        self.changes.clear();
        let text = text.trim();
        let (number, is_share) =
            text.strip_suffix('%').map_or((text, false), |number| (number.trim(), true));
        let value: f64 =
            number.parse().ok().filter(|value: &f64| value.is_finite()).ok_or_else(|| {
                format!("\"{text}\" is not a number: type one, such as 2010 or 95%.")
            })?;
        match (self.focus, &mut self.sketch, is_share) {
            (Focus::Clocks, Some(sketch), true) => drop(sketch.scale_clocks(Percent(value))),
            (Focus::Voltages, Some(sketch), true) => drop(sketch.scale_voltages(Percent(value))),
            (Focus::Clocks, Some(sketch), false) => drop(sketch.set_clock(self.point, value)),
            (Focus::Voltages, Some(sketch), false) => drop(sketch.set_voltage(self.point, value)),
            (Focus::Ceiling, ..) => {
                return Err("The ceiling is the picked point: ↑ sets it, ↓ takes it away.".into());
            }
            (Focus::Value(_), _, true) => {
                return Err("Percent works for a curve only; type the value itself.".into());
            }
            (Focus::Value(at), ..) => {
                let offer = BESIDE.get(at).and_then(|kind| snapshot.machine.card.offer(*kind));
                let offer = offer.ok_or("This card does not offer that.")?;
                self.values.set(offer.kind, Some(offer.bin(value)));
            }
            _ => {}
        }
        Ok(())
    }

    /// What is in focus, in a few words, for the line that is typed.
    #[must_use]
    pub fn focus_label(&self) -> String {
        let point = self.picked();
        match (self.focus, point) {
            (Focus::Clocks, Some((mv, _))) => format!("clock at {mv} mV, in MHz, or all in %"),
            (Focus::Voltages, Some((_, mhz))) => {
                format!("voltage of {mhz} MHz, in mV, or all in %")
            }
            (Focus::Value(at), _) => BESIDE.get(at).map_or(String::new(), |kind| {
                format!(
                    "{}, in {}",
                    kind.label(),
                    if kind.unit().is_empty() { "levels" } else { kind.unit() }
                )
            }),
            _ => String::new(),
        }
    }
}

impl ShapeState {
    /// What is shaped on the present card: what was begun, or what the card holds.
    #[must_use]
    pub fn shown(&self, snapshot: &Snapshot) -> Cow<'_, Draft> {
        let key = snapshot.machine.card.key();
        let begun = self.draft.as_ref().filter(|draft| draft.card == key);
        begun.map_or_else(|| Cow::Owned(Draft::of(snapshot)), Cow::Borrowed)
    }

    /// The same, to be changed; its moves come along.
    #[must_use]
    pub fn draft(&self, snapshot: &Snapshot) -> Draft {
        self.shown(snapshot).into_owned()
    }

    /// Begins again from these settings: a profile, or a point of the frontier.
    pub fn load(&mut self, snapshot: &Snapshot, settings: Settings, told: String) {
        let mut draft = self.draft(snapshot);
        let fresh = Draft::from(snapshot, settings);
        match (&mut draft.sketch, &fresh.sketch) {
            // One move, so that undoing it brings back what was there.
            (Some(sketch), Some(loaded)) => {
                if let Ok(curve) = loaded.curve() {
                    sketch.load(&curve);
                }
                draft.values = fresh.values;
            }
            _ => draft = fresh,
        }
        (self.draft, self.told) = (Some(draft), Some(told));
    }

    /// What would become of what is typed, and why.
    #[must_use]
    pub fn preview(&self, snapshot: &Snapshot, text: &str) -> String {
        let mut draft = self.draft(snapshot);
        if text.trim().is_empty() {
            return String::new();
        }
        if let Err(why) = draft.type_in(snapshot, text) {
            return why;
        }
        let asked: Option<f64> = text.trim().parse().ok();
        let (taken, unit) = match (draft.focus, draft.picked()) {
            (Focus::Value(at), _) => {
                let offer = BESIDE.get(at).and_then(|kind| snapshot.machine.card.offer(*kind));
                return offer.zip(asked).map_or(String::new(), |(o, a)| taken_in_words(o, a));
            }
            (Focus::Clocks, Some((_, mhz))) => (mhz, "MHz"),
            (Focus::Voltages, Some((mv, _))) => (mv, "mV"),
            _ => return String::new(),
        };
        match asked {
            Some(asked) if (asked - f64::from(taken)).abs() > 0.5 => {
                format!("{asked} → {taken} {unit}, inside the card's range and steps")
            }
            _ => format!("→ {taken} {unit} at this point"),
        }
    }

    /// Takes in what was typed.
    pub fn type_in(&mut self, snapshot: &Snapshot, text: &str) {
        let mut draft = self.draft(snapshot);
        self.told = draft.type_in(snapshot, text).err();
        self.draft = Some(draft);
    }

    /// Carries an action out.
    pub fn act(&mut self, action: Action, snapshot: &Snapshot) -> Came {
        let mut draft = self.draft(snapshot);
        self.told = None;
        let picks = matches!(draft.focus, Focus::Clocks | Focus::Voltages | Focus::Ceiling);
        match action {
            Action::ShapeLeft if picks => draft.pick(draft.point.saturating_sub(1)),
            Action::ShapeRight if picks => draft.pick(draft.point + 1),
            Action::ShapeLeft => draft.step(snapshot, -1),
            Action::ShapeRight => draft.step(snapshot, 1),
            Action::ShapeUp => draft.step(snapshot, 1),
            Action::ShapeDown => draft.step(snapshot, -1),
            Action::ShapeMuchUp => draft.step(snapshot, 5),
            Action::ShapeMuchDown => draft.step(snapshot, -5),
            Action::ShapeFirst => draft.pick(0),
            Action::ShapeLast => draft.pick(usize::MAX),
            Action::ShapeFocus => draft.next_focus(snapshot),
            Action::Flatten | Action::Smooth | Action::ShiftUp | Action::ShiftDown => {
                self.shape_curve(&mut draft, action);
            }
            Action::Undo | Action::Redo => {
                draft.changes.clear();
                let moved = draft.sketch.as_mut().is_some_and(|sketch| match action {
                    Action::Undo => sketch.undo(),
                    _ => sketch.redo(),
                });
                if !moved {
                    self.told = Some("Nothing to undo or redo.".into());
                }
            }
            Action::Factory => {
                let stock = Settings::stock(&snapshot.machine.card);
                draft.changes.clear();
                if let Some(sketch) = &mut draft.sketch {
                    let factory = sketch.offer().factory;
                    sketch.load(&factory);
                }
                for kind in BESIDE {
                    draft.values.copy(kind, &stock);
                }
            }
            Action::ShapeNearer => self.zoom = (self.zoom * 2).min(NEAREST),
            Action::ShapeFarther => self.zoom = (self.zoom / 2).max(1),
            Action::AskShape => return self.ask(draft, snapshot),
            _ => return Came::NotHere,
        }
        self.draft = Some(draft);
        Came::Done
    }

    fn shape_curve(&mut self, draft: &mut Draft, action: Action) {
        let point = draft.point;
        draft.changes.clear();
        let Some(sketch) = &mut draft.sketch else {
            self.told = Some("This card has no curve to shape.".into());
            return;
        };
        let bin = f64::from(sketch.offer().clocks.step);
        match action {
            Action::Flatten => drop(sketch.flatten_right(point)),
            Action::ShiftUp => drop(sketch.shift_all(bin)),
            Action::ShiftDown => drop(sketch.shift_all(-bin)),
            _ => {
                draft.changes = match sketch.offer().kind {
                    CurveKind::Points => sketch.smooth_left(point),
                    CurveKind::States => sketch.smooth_states(),
                };
                if draft.changes.is_empty() {
                    self.told = Some("Already smooth: nothing changed.".into());
                }
            }
        }
    }

    /// Has the shape tried next.
    fn ask(&mut self, draft: Draft, snapshot: &Snapshot) -> Came {
        let asked = draft.settings();
        let is_next = draft.is_next(snapshot);
        self.draft = Some(draft);
        match asked {
            Err(error) => {
                self.told = Some(format!("{error}."));
                Came::Done
            }
            // Asked for already: now it is tried.
            Ok(_) if is_next => Came::NotHere,
            Ok(settings) => Came::Send(Command::Wish(Box::new(settings))),
        }
    }

    /// Takes in the mouse over the chart: `at` is voltage and clock there, mV and MHz.
    pub fn mouse(
        &mut self,
        kind: MouseEventKind,
        at: Option<(f64, f64)>,
        snapshot: &Snapshot,
    ) -> bool {
        let mut draft = self.draft(snapshot);
        match (kind, at) {
            (MouseEventKind::Up(MouseButton::Left), _) => {
                self.drag = None;
                return false;
            }
            (MouseEventKind::Down(MouseButton::Left), Some((millivolt, _))) => {
                let Some(sketch) = &draft.sketch else { return false };
                let near = sketch.points().iter().enumerate().min_by(|a, b| {
                    let away = |point: &(u16, u16)| (f64::from(point.0) - millivolt).abs();
                    away(a.1).total_cmp(&away(b.1))
                });
                let point = near.map_or(0, |(point, _)| point);
                draft.pick(point);
                draft.focus = Focus::Clocks;
                self.drag = Some(false);
            }
            (MouseEventKind::Drag(MouseButton::Left), Some((millivolt, mhz))) => {
                let (Some(moved), Some(sketch)) = (self.drag, &mut draft.sketch) else {
                    return false;
                };
                draft.changes.clear();
                if moved {
                    sketch.undo();
                }
                self.drag = Some(sketch.place(draft.point, millivolt, mhz));
            }
            (MouseEventKind::ScrollUp, Some(_)) => draft.step(snapshot, 1),
            (MouseEventKind::ScrollDown, Some(_)) => draft.step(snapshot, -1),
            _ => return false,
        }
        self.told = None;
        self.draft = Some(draft);
        true
    }

    /// Takes in the mouse over the values beside the chart.
    pub fn mouse_on_value(
        &mut self,
        kind: MouseEventKind,
        value: Option<usize>,
        snapshot: &Snapshot,
    ) -> bool {
        let offered = |at: &usize| {
            BESIDE.get(*at).is_some_and(|setting| snapshot.machine.card.offers(*setting))
        };
        let Some(at) = value.filter(offered) else { return false };
        let mut draft = self.draft(snapshot);
        match kind {
            MouseEventKind::Down(MouseButton::Left) => draft.focus = Focus::Value(at),
            MouseEventKind::ScrollUp => draft.step_value(snapshot, at, 1),
            MouseEventKind::ScrollDown => draft.step_value(snapshot, at, -1),
            _ => return false,
        }
        self.draft = Some(draft);
        true
    }
}

/// Whether the next trial asks for these settings.
pub(crate) fn is_asked(snapshot: &Snapshot, settings: &Settings) -> bool {
    matches!(&snapshot.climb.next, NextView::Trial { asked, .. } if **asked == *settings)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::tui::fixtures::{curve_offer, snapshot};
    use rstest::rstest;
    use std::sync::Arc;
    use yard_step_core::{CardDescription, CurveOffer, MhzOffset, VfCurve};
    use yard_step_engine::NextView;

    /// A moment of a card whose curve lets itself be shaped.
    pub(crate) fn moment(kind: CurveKind) -> Snapshot {
        let mut snapshot = snapshot();
        let offer = CurveOffer { kind, ..curve_offer() };
        let card = CardDescription { curve: Some(offer), ..(*snapshot.machine.card).clone() };
        snapshot.machine.card = Arc::new(card);
        snapshot.machine.held = Some(Settings::stock(&snapshot.machine.card));
        snapshot
    }

    fn points(state: &ShapeState, snapshot: &Snapshot) -> Vec<(u16, u16)> {
        state.draft(snapshot).sketch.unwrap().points().to_vec()
    }

    fn acted(snapshot: &Snapshot, actions: &[Action]) -> ShapeState {
        let mut state = ShapeState::default();
        for action in actions {
            assert_eq!(state.act(*action, snapshot), Came::Done, "{action:?}");
        }
        state
    }

    #[test]
    fn a_point_is_raised_flattened_smoothed_and_all_of_it_undone() {
        let snapshot = moment(CurveKind::Points);
        let factory = points(&ShapeState::default(), &snapshot);
        let mut state = acted(
            &snapshot,
            &[Action::ShapeFirst, Action::ShapeRight, Action::ShapeRight, Action::ShapeMuchUp],
        );
        assert_eq!(points(&state, &snapshot)[2], (850, factory[2].1 + 75));
        assert_eq!(state.act(Action::Flatten, &snapshot), Came::Done);
        assert!(points(&state, &snapshot)[2..].iter().all(|point| point.1 == 1_785));
        assert_eq!(state.act(Action::Smooth, &snapshot), Came::Done);
        assert_eq!(state.draft(&snapshot).changes.len(), 1, "the point between");
        for _ in 0..3 {
            state.act(Action::Undo, &snapshot);
        }
        assert_eq!(points(&state, &snapshot), factory);
        assert_eq!(state.told, None);
        state.act(Action::Undo, &snapshot);
        assert!(state.told.is_some(), "there is no more to undo");
        state.act(Action::Redo, &snapshot);
        assert_eq!(points(&state, &snapshot)[2].1, 1_785);
    }

    #[test]
    fn enter_asks_first_and_tries_once_it_is_next() {
        let mut snapshot = moment(CurveKind::Points);
        let mut state = acted(&snapshot, &[Action::ShapeLast, Action::ShapeUp]);
        let Came::Send(Command::Wish(asked)) = state.act(Action::AskShape, &snapshot) else {
            panic!("not asked")
        };
        assert_eq!(asked.curve.unwrap().last().mhz, 2_010);
        let NextView::Trial { asked: next, .. } = &mut snapshot.climb.next else {
            panic!("no trial")
        };
        **next = *asked;
        assert!(state.draft(&snapshot).is_next(&snapshot));
        assert_eq!(state.act(Action::AskShape, &snapshot), Came::NotHere);
    }

    #[test]
    fn a_curve_that_falls_is_not_asked_and_says_where() {
        let snapshot = moment(CurveKind::Points);
        let mut state = acted(&snapshot, &[Action::ShapeFirst, Action::ShapeMuchUp]);
        assert_eq!(state.act(Action::AskShape, &snapshot), Came::Done);
        assert!(state.told.as_ref().unwrap().contains("at 825 mV"), "{:?}", state.told);
    }

    #[test]
    fn a_ceiling_flattens_what_is_asked_above_the_point_but_not_the_sketch() {
        let snapshot = moment(CurveKind::Points);
        let before = [Action::ShapeFirst, Action::ShapeFocus, Action::ShapeUp];
        let mut state = acted(&snapshot, &before);
        let asked = |state: &ShapeState| state.draft(&snapshot).settings().unwrap().curve.unwrap();
        assert_eq!(asked(&state).last().mhz, 1_590);
        assert_eq!(points(&state, &snapshot).last().unwrap().1, 1_995);
        // It goes along with the point, and away again.
        state.act(Action::ShapeRight, &snapshot);
        let second = points(&state, &snapshot)[1].1;
        assert_eq!((asked(&state).last().mhz, second > 1_590), (second, true));
        state.type_in(&snapshot, "1700");
        assert!(state.told.as_ref().unwrap().contains("↑ sets it"), "{:?}", state.told);
        state.act(Action::ShapeDown, &snapshot);
        assert_eq!(state.draft(&snapshot).ceiling_clock(), None);
        assert_eq!(state.draft(&snapshot).settings().unwrap().curve, None, "as from the factory");
    }

    #[rstest]
    #[case(CurveKind::Points, &[], "1830", (900, 1_830))]
    #[case(CurveKind::Points, &[], "50 %", (900, 915))]
    #[case(CurveKind::States, &[Action::ShapeFocus], "910", (900, 1_815))]
    #[case(CurveKind::States, &[Action::ShapeFocus], "880", (875, 1_815))]
    fn numbers_are_typed_for_what_the_keys_move(
        #[case] kind: CurveKind,
        #[case] before: &[Action],
        #[case] text: &str,
        #[case] expected: (u16, u16),
    ) {
        let snapshot = moment(kind);
        let mut state = acted(&snapshot, before);
        // The point at two thirds is picked at first; go to the fifth.
        while state.draft(&snapshot).point > 4 {
            state.act(Action::ShapeLeft, &snapshot);
        }
        state.type_in(&snapshot, text);
        assert_eq!(points(&state, &snapshot)[4], expected, "{:?}", state.told);
        state.type_in(&snapshot, "fast");
        assert!(state.told.as_ref().unwrap().contains("not a number"), "{:?}", state.told);
    }

    #[test]
    fn values_beside_the_curve_are_stepped_in_the_cards_own_steps() {
        let snapshot = moment(CurveKind::Points);
        let mut state =
            acted(&snapshot, &[Action::ShapeFocus, Action::ShapeFocus, Action::ShapeUp]);
        assert_eq!(state.draft(&snapshot).values.core_offset, Some(MhzOffset(15)));
        state.type_in(&snapshot, "1000");
        assert_eq!(state.draft(&snapshot).values.core_offset, Some(MhzOffset(300)));
        state.act(Action::Factory, &snapshot);
        assert_eq!(state.draft(&snapshot).values.core_offset, Some(MhzOffset(0)));
    }

    #[test]
    fn a_whole_drag_is_one_move() {
        let snapshot = moment(CurveKind::Points);
        let factory = points(&ShapeState::default(), &snapshot);
        let mut state = ShapeState::default();
        let (down, drag, up) = (
            MouseEventKind::Down(MouseButton::Left),
            MouseEventKind::Drag(MouseButton::Left),
            MouseEventKind::Up(MouseButton::Left),
        );
        assert!(state.mouse(down, Some((903.0, 1_700.0)), &snapshot));
        assert_eq!(state.draft(&snapshot).point, 4, "the nearest voltage");
        for mhz in [1_850.0, 1_900.0, 1_948.0] {
            assert!(state.mouse(drag, Some((930.0, mhz)), &snapshot));
        }
        state.mouse(up, None, &snapshot);
        assert_eq!(points(&state, &snapshot)[4], (900, 1_950));
        assert!(!state.mouse(drag, Some((900.0, 1_700.0)), &snapshot), "nothing is held any more");
        state.act(Action::Undo, &snapshot);
        assert_eq!(points(&state, &snapshot), factory);
    }

    #[test]
    fn settings_are_loaded_as_one_move() {
        let snapshot = moment(CurveKind::Points);
        let mut flat: Vec<(u16, u16)> = curve_offer().factory.into();
        flat.iter_mut().skip(5).for_each(|point| point.1 = 1_875);
        let settings = Settings {
            curve: Some(VfCurve::new(&flat).unwrap()),
            core_offset: Some(MhzOffset(30)),
            ..Settings::stock(&snapshot.machine.card)
        };
        let mut state = ShapeState::default();
        state.load(&snapshot, settings, "Loaded.".into());
        assert_eq!(points(&state, &snapshot), flat);
        assert_eq!(state.draft(&snapshot).values.core_offset, Some(MhzOffset(30)));
        state.act(Action::Undo, &snapshot);
        assert_eq!(points(&state, &snapshot), Vec::from(curve_offer().factory));
    }

    #[test]
    fn another_card_begins_anew() {
        let snapshot = moment(CurveKind::Points);
        let state = acted(&snapshot, &[Action::ShapeUp]);
        let mut other = moment(CurveKind::Points);
        let card = CardDescription { serial: "8".into(), ..(*other.machine.card).clone() };
        other.machine.card = Arc::new(card);
        assert!(state.draft(&other).sketch.unwrap().is_factory());
    }
}
