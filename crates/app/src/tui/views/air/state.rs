//! What the view Air knows of itself: the fan as it is drawn. Nothing of it reaches the card before it is asked for.

use ratatui::crossterm::event::{MouseButton, MouseEventKind};
use std::borrow::Cow;
use yard_step_core::{Fan, FanSketch, Percent, SettingKind, Settings};
use yard_step_engine::{Command, Snapshot};

use crate::tui::keys::action::Action;
use crate::tui::views::shape::state::is_asked;

/// Said where a fan that is left to the card is to be moved.
const BY_ITSELF: &str = "The card drives its fan: Tab drives it in another way.";
/// Largest hysteresis that the key comes to, K.
const MOST_BY_KEY: f64 = 10.0;

/// What is drawn for one card.
#[derive(Debug, Clone, PartialEq)]
pub struct Draft {
    /// Key of the card.
    card: String,
    /// The fan.
    pub sketch: FanSketch,
    /// The point that is picked.
    pub point: usize,
}

/// What came of an action in Air.
#[derive(Debug, Clone, PartialEq)]
pub enum Came {
    /// It concerns another view.
    NotHere,
    /// Nothing more is to be done.
    Done,
    /// A command for the engine.
    Send(Command),
    /// A number is typed.
    Type,
    /// What is wished of a curve is filled in.
    Wish,
    /// How loud the fan is is filled in.
    Noise,
}

/// The state.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct AirState {
    draft: Option<Draft>,
    /// Whether the mouse holds a point, and whether it has moved it: a whole drag is one move.
    drag: Option<bool>,
    /// What became of the last wish.
    pub told: Option<String>,
}

impl Draft {
    /// The fan as it was chosen, or as the card holds it.
    fn of(snapshot: &Snapshot) -> Option<Self> {
        let card = &snapshot.machine.card;
        let chosen = snapshot.machine.air.as_ref().and_then(|air| air.notes.chosen);
        let held = snapshot.machine.held.and_then(|held| held.fan);
        let fan = chosen.or(held).unwrap_or(Fan::Automatic);
        Some(Self { card: card.key(), sketch: FanSketch::new(card, fan)?, point: 0 })
    }

    fn points(&self) -> usize {
        self.sketch.curve().map_or(0, |curve| curve.points().len())
    }

    fn pick(&mut self, point: usize) {
        self.point = point.min(self.points().saturating_sub(1));
    }

    /// What the next trial would ask for: what the card holds otherwise, with this fan.
    #[must_use]
    pub fn settings(&self, snapshot: &Snapshot) -> Settings {
        let card = &snapshot.machine.card;
        let used = snapshot.machine.profiles.iter().find(|view| view.profile.in_use);
        let held = match snapshot.is_free() {
            true => snapshot.machine.held,
            false => used.map(|view| view.profile.settings),
        };
        Settings { fan: Some(self.sketch.fan()), ..held.unwrap_or_else(|| Settings::stock(card)) }
    }
}

impl AirState {
    /// What is drawn for the present card; none where its fan cannot be set.
    #[must_use]
    pub fn shown(&self, snapshot: &Snapshot) -> Option<Cow<'_, Draft>> {
        let key = snapshot.machine.card.key();
        match self.draft.as_ref().filter(|draft| draft.card == key) {
            Some(draft) => Some(Cow::Borrowed(draft)),
            None => Draft::of(snapshot).map(Cow::Owned),
        }
    }

    /// Whether the fan that is drawn is what the next trial asks for.
    #[must_use]
    pub fn is_next(&self, snapshot: &Snapshot) -> bool {
        self.shown(snapshot).is_some_and(|draft| is_asked(snapshot, &draft.settings(snapshot)))
    }

    /// What is typed, in words.
    #[must_use]
    pub fn label(&self, snapshot: &Snapshot) -> String {
        match self.shown(snapshot).map(|draft| draft.sketch.fan()) {
            Some(Fan::Curve(_)) => "speed in %, or °C and %".into(),
            Some(Fan::Target(_)) => "least speed in %, or °C and %".into(),
            _ => "fan speed in %".into(),
        }
    }

    /// Takes in what was typed: a speed, or a temperature and a speed.
    pub fn type_in(&mut self, snapshot: &Snapshot, text: &str) {
        let Some(mut draft) = self.shown(snapshot).map(Cow::into_owned) else { return };
        self.told = type_in(&mut draft, text).err();
        self.draft = Some(draft);
    }

    /// Carries an action out.
    pub fn act(&mut self, action: Action, snapshot: &Snapshot) -> Came {
        let Some(mut draft) = self.shown(snapshot).map(Cow::into_owned) else {
            return Came::NotHere;
        };
        self.told = None;
        let by = |draft: &mut Draft, kelvin: f64, percent: f64| {
            if draft.sketch.fan() == Fan::Automatic {
                return Some(BY_ITSELF.to_owned());
            }
            draft.sketch.shift(draft.point, kelvin, percent);
            None
        };
        match action {
            Action::AirLeft => draft.pick(draft.point.saturating_sub(1)),
            Action::AirRight => draft.pick(draft.point + 1),
            Action::AirUp => self.told = by(&mut draft, 0.0, 1.0),
            Action::AirDown => self.told = by(&mut draft, 0.0, -1.0),
            Action::AirMuchUp => self.told = by(&mut draft, 0.0, 10.0),
            Action::AirMuchDown => self.told = by(&mut draft, 0.0, -10.0),
            Action::AirCooler => self.told = by(&mut draft, -1.0, 0.0),
            Action::AirHotter => self.told = by(&mut draft, 1.0, 0.0),
            Action::AirMode => {
                draft.sketch.next_mode();
            }
            Action::AirAdd => match draft.sketch.add(draft.point) {
                Some(point) => draft.point = point,
                None => self.told = Some(no_room(&draft)),
            },
            Action::AirRemove => {
                if !draft.sketch.remove(draft.point) {
                    self.told = Some("A curve keeps one point at least.".into());
                }
            }
            Action::AirStop => {
                if !draft.sketch.toggle_stop() {
                    self.told = Some("Only a curve has a fan stop: Tab chooses one.".into());
                }
            }
            Action::AirHysteresis => self.told = more_hysteresis(&mut draft),
            Action::Undo | Action::Redo => {
                let moved = match action {
                    Action::Undo => draft.sketch.undo(),
                    _ => draft.sketch.redo(),
                };
                if !moved {
                    self.told = Some("Nothing to undo or redo.".into());
                }
            }
            Action::AirDraw => self.told = draw_for_budget(&mut draft, snapshot),
            Action::AirType => return Came::Type,
            Action::AirWish => return Came::Wish,
            Action::AirNoise => return Came::Noise,
            Action::AirKeep => return keep(&draft, snapshot),
            Action::AskAir => {
                let settings = draft.settings(snapshot);
                self.draft = Some(draft);
                return Came::Send(Command::Wish(Box::new(settings)));
            }
            _ => return Came::NotHere,
        }
        draft.pick(draft.point);
        self.draft = Some(draft);
        Came::Done
    }

    /// Takes in the mouse over the chart: `at` is temperature and speed there, °C and %.
    pub fn mouse(
        &mut self,
        kind: MouseEventKind,
        at: Option<(f64, f64)>,
        snapshot: &Snapshot,
    ) -> bool {
        let Some(mut draft) = self.shown(snapshot).map(Cow::into_owned) else { return false };
        match (kind, at) {
            (MouseEventKind::Up(MouseButton::Left), _) => {
                self.drag = None;
                return false;
            }
            (MouseEventKind::Down(MouseButton::Left), Some((celsius, _))) => {
                let Some(curve) = draft.sketch.curve() else { return false };
                let away = |point: &(f64, f64)| (point.0 - celsius).abs();
                let near = curve.points().iter().enumerate();
                let near = near.min_by(|a, b| away(a.1).total_cmp(&away(b.1)));
                draft.pick(near.map_or(0, |(point, _)| point));
                self.drag = Some(false);
            }
            (MouseEventKind::Drag(MouseButton::Left), Some((celsius, percent))) => {
                let Some(moved) = self.drag else { return false };
                if moved {
                    draft.sketch.undo();
                }
                self.drag = Some(draft.sketch.place(draft.point, celsius, percent));
            }
            (MouseEventKind::ScrollUp, Some(_)) => {
                draft.sketch.shift(draft.point, 0.0, 1.0);
            }
            (MouseEventKind::ScrollDown, Some(_)) => {
                draft.sketch.shift(draft.point, 0.0, -1.0);
            }
            _ => return false,
        }
        self.told = None;
        self.draft = Some(draft);
        true
    }
}

fn type_in(draft: &mut Draft, text: &str) -> Result<(), String> {
    let numbers: Result<Vec<f64>, _> = text
        .split([' ', ',', ';', '%', '°', 'C'])
        .filter(|part| !part.is_empty())
        .map(str::parse)
        .collect();
    let numbers = numbers.unwrap_or_default();
    let (at, speed) = match numbers.as_slice() {
        [speed] => (None, *speed),
        [at, speed] => (Some(*at), *speed),
        _ => {
            return Err(format!(
                "\"{text}\" is neither a speed nor a temperature and a speed: type one, such as 40 or 65 40."
            ));
        }
    };
    if !speed.is_finite() || at.is_some_and(|at| !at.is_finite()) {
        return Err(format!("\"{text}\" is not a number."));
    }
    match draft.sketch.fan() {
        Fan::Automatic => {
            return Err(BY_ITSELF.into());
        }
        Fan::Fixed(now) => {
            draft.sketch.shift(0, 0.0, speed - now.value());
        }
        Fan::Target(now) => {
            let kelvin = at.map_or(0.0, |at| at - now.core.value());
            draft.sketch.shift(0, kelvin, speed - now.least.value());
        }
        Fan::Curve(curve) => {
            let now = curve.points().get(draft.point).copied().unwrap_or_default();
            draft.sketch.place(draft.point, at.unwrap_or(now.0), speed);
        }
    }
    Ok(())
}

fn no_room(draft: &Draft) -> String {
    match draft.sketch.curve() {
        None => "Only a curve has points: Tab chooses one.".into(),
        Some(_) => "There is no room for another point here.".into(),
    }
}

fn more_hysteresis(draft: &mut Draft) -> Option<String> {
    let Some(curve) = draft.sketch.curve() else {
        return Some("Only a curve has a hysteresis: Tab chooses one.".into());
    };
    let by = match curve.hysteresis() + 1.0 > MOST_BY_KEY {
        true => -curve.hysteresis(),
        false => 1.0,
    };
    draft.sketch.shift_hysteresis(by);
    None
}

/// Takes the curve that was drawn for the budget; why not, where there is none.
fn draw_for_budget(draft: &mut Draft, snapshot: &Snapshot) -> Option<String> {
    let drawn = snapshot.machine.air.as_ref().and_then(|air| air.drawn);
    let Some(drawn) = drawn else {
        return Some("No run was long enough yet to tell how warm the card becomes: run a load for some minutes first.".into());
    };
    if !draft.sketch.set(Fan::Curve(drawn.curve)) {
        return Some("This is the curve for the budget already.".into());
    }
    None
}

/// Has the fan driven so from now on.
fn keep(draft: &Draft, snapshot: &Snapshot) -> Came {
    let Some(air) = &snapshot.machine.air else { return Came::NotHere };
    let fan = draft.sketch.fan();
    let chosen = Some(fan).filter(|fan| *fan != Fan::Automatic);
    let notes = yard_step_core::AirNotes { chosen, ..air.notes.clone() };
    Came::Send(Command::SetAir(Box::new(notes)))
}

/// The fan speed that a note of noise is most likely about: the present one.
pub(crate) fn present_speed(snapshot: &Snapshot) -> Percent {
    let seen = snapshot.machine.sensors.and_then(|sample| sample.fan);
    let most = snapshot.machine.card.offer(SettingKind::Fan).map_or(100.0, |offer| offer.maximum);
    Percent(seen.map_or(most, Percent::value).round())
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::tui::fixtures::{air_view, snapshot};
    use rstest::rstest;
    use std::sync::Arc;
    use yard_step_core::FanCurve;

    /// A moment in which the card's fan follows a curve.
    pub(crate) fn moment() -> Snapshot {
        let mut snapshot = snapshot();
        let mut air = air_view();
        let curve = FanCurve::new(&[(45.0, 30.0), (65.0, 45.0), (85.0, 100.0)]).unwrap();
        air.notes.chosen = Some(Fan::Curve(curve));
        snapshot.machine.air = Some(Arc::new(air));
        snapshot
    }

    fn acted(snapshot: &Snapshot, actions: &[Action]) -> AirState {
        let mut state = AirState::default();
        for action in actions {
            state.act(*action, snapshot);
        }
        state
    }

    fn points(state: &AirState, snapshot: &Snapshot) -> Vec<(f64, f64)> {
        state.shown(snapshot).unwrap().sketch.curve().unwrap().points().to_vec()
    }

    #[rstest]
    #[case(&[Action::AirRight, Action::AirUp], (65.0, 46.0))]
    #[case(&[Action::AirRight, Action::AirMuchDown], (65.0, 35.0))]
    #[case(&[Action::AirRight, Action::AirHotter, Action::AirHotter], (67.0, 45.0))]
    #[case(&[Action::AirRight, Action::AirUp, Action::Undo], (65.0, 45.0))]
    #[case(&[Action::AirRight, Action::AirUp, Action::Undo, Action::Redo], (65.0, 46.0))]
    fn keys_move_the_picked_point(#[case] actions: &[Action], #[case] point: (f64, f64)) {
        let snapshot = moment();
        assert_eq!(points(&acted(&snapshot, actions), &snapshot)[1], point);
    }

    #[test]
    fn points_are_added_and_removed_by_key() {
        let snapshot = moment();
        let state = acted(&snapshot, &[Action::AirAdd]);
        assert_eq!(points(&state, &snapshot)[1], (55.0, 38.0));
        let state = acted(&snapshot, &[Action::AirRemove, Action::AirRemove, Action::AirRemove]);
        assert_eq!(points(&state, &snapshot).len(), 1);
        assert!(state.told.unwrap().contains("one point"));
    }

    #[rstest]
    #[case("50", Ok((65.0, 50.0)))]
    #[case("70 55", Ok((70.0, 55.0)))]
    #[case("70 °C, 55 %", Ok((70.0, 55.0)))]
    #[case("fast", Err("neither a speed"))]
    #[case("1 2 3", Err("neither a speed"))]
    fn a_point_is_typed(#[case] text: &str, #[case] expected: Result<(f64, f64), &str>) {
        let snapshot = moment();
        let mut state = acted(&snapshot, &[Action::AirRight]);
        state.type_in(&snapshot, text);
        match expected {
            Ok(point) => assert_eq!(points(&state, &snapshot)[1], point),
            Err(part) => assert!(state.told.unwrap().contains(part)),
        }
    }

    #[test]
    fn a_drag_of_the_mouse_is_one_move() {
        let snapshot = moment();
        let mut state = AirState::default();
        let left = MouseButton::Left;
        assert!(state.mouse(MouseEventKind::Down(left), Some((66.0, 44.0)), &snapshot));
        for at in [(66.0, 50.0), (68.0, 60.0), (70.0, 70.0)] {
            assert!(state.mouse(MouseEventKind::Drag(left), Some(at), &snapshot));
        }
        state.mouse(MouseEventKind::Up(left), None, &snapshot);
        assert_eq!(points(&state, &snapshot)[1], (70.0, 70.0));
        state.act(Action::Undo, &snapshot);
        assert_eq!(points(&state, &snapshot)[1], (65.0, 45.0));
    }

    #[test]
    fn the_fan_is_asked_for_on_the_settings_that_the_card_goes_back_to() {
        let snapshot = moment();
        let mut state = acted(&snapshot, &[Action::AirMode]);
        let Came::Send(Command::Wish(settings)) = state.act(Action::AskAir, &snapshot) else {
            panic!()
        };
        assert_eq!(settings.fan, Some(Fan::Automatic), "after a curve comes automatic");
        let used = snapshot.machine.profiles.iter().find(|view| view.profile.in_use).unwrap();
        let kept = used.profile.settings;
        assert_eq!(Settings { fan: None, ..*settings }, Settings { fan: None, ..kept });
    }

    #[test]
    fn a_fan_is_kept_with_all_else_that_was_noted() {
        let snapshot = moment();
        let mut state = acted(&snapshot, &[Action::AirUp]);
        let Came::Send(Command::SetAir(notes)) = state.act(Action::AirKeep, &snapshot) else {
            panic!()
        };
        assert_eq!(notes.noise, snapshot.machine.air.as_ref().unwrap().notes.noise);
        assert!(matches!(notes.chosen, Some(Fan::Curve(_))));
    }

    #[test]
    fn the_curve_for_the_budget_is_drawn_and_can_be_undone() {
        let snapshot = moment();
        let drawn = snapshot.machine.air.as_ref().unwrap().drawn.unwrap();
        let before = points(&AirState::default(), &snapshot);
        let mut state = acted(&snapshot, &[Action::AirDraw]);
        assert_eq!(points(&state, &snapshot), drawn.curve.points());
        state.act(Action::Undo, &snapshot);
        assert_eq!(points(&state, &snapshot), before);
    }

    #[test]
    fn what_only_a_curve_has_says_so_elsewhere() {
        let mut snapshot = moment();
        snapshot.machine.air = None;
        for action in [Action::AirAdd, Action::AirStop, Action::AirHysteresis, Action::AirUp] {
            let mut state = AirState::default();
            while state.shown(&snapshot).unwrap().sketch.fan() != Fan::Automatic {
                state.act(Action::AirMode, &snapshot);
            }
            state.act(action, &snapshot);
            assert!(state.told.is_some_and(|told| told.contains("Tab")), "{action:?}");
        }
    }
}
