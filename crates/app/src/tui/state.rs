//! What the interface itself knows: which view is shown, and what is asked of the user. It turns
//! keys and clicks into commands for the engine.

use std::path::PathBuf;

use ratatui::crossterm::event::{
    Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};
use ratatui::layout::Rect;
use yard_step_core::{
    CardDescription, CheckedFrame, Frontier, Meaning, Trace, TrialRecord, printable,
};
use yard_step_engine::{Activity, Command, KeepWhat, Snapshot};
use yard_step_scenes::Scene;

use super::action::{Action, Moment, Move, View, action_for};
use super::artifact_state::ArtifactState;
use super::browser::{Change, List};
use super::ledger_state::{self, Came, LedgerState};
use super::overlay::{FileUse, Overlay, Question, Yes, mark, path_of, question_before, value_of};
use super::profiles_state::{self, ProfilesState};
use super::screen;
use super::shape_state::{self, ShapeState};
use super::trace_state::TraceState;
use super::views::climb::ChartKind;
use super::weigh_state::{self, WeighState};
use super::widgets::entry::Entry;

/// What comes of an event.
#[derive(Debug, Clone, PartialEq)]
pub enum Outcome {
    /// Nothing but perhaps another look.
    Nothing,
    /// A command for the engine.
    Send(Command),
    /// A stretch of a trace to be written to a file.
    Export {
        /// The trace.
        trace: Box<Trace>,
        /// First and last second.
        window: (f64, f64),
        /// The file.
        path: PathBuf,
    },
    /// The pictures of a spoilt frame, to be written to a file.
    ExportPicture {
        /// The scene.
        scene: Scene,
        /// The frame.
        frame: Box<CheckedFrame>,
        /// What the picture is called.
        title: String,
        /// The file.
        path: PathBuf,
    },
    /// A trace made elsewhere, to be read.
    Import(PathBuf),
    /// The frontier, to be drawn into a file.
    ExportFrontier {
        /// The card.
        card: Box<CardDescription>,
        /// The load whose runs are weighed.
        load: String,
        /// What is drawn.
        frontier: Box<Frontier>,
        /// The file.
        path: PathBuf,
    },
    /// Something in the ledger to be changed.
    Change(Change),
    /// The reading of a file is to end.
    CancelImport,
    /// The end.
    Quit,
}

/// The state.
#[derive(Debug, Clone, PartialEq)]
pub struct State {
    /// View that is shown.
    pub view: View,
    /// Which chart of the climb is shown in it.
    pub(crate) chart: ChartKind,
    /// What lies over it.
    pub overlay: Option<Overlay>,
    /// What there is to say, in whichever view the user is; until the next key.
    pub message: Option<String>,
    /// Whether a file is being read.
    pub(crate) is_reading: bool,
    /// What the view Trace knows of itself.
    pub trace: TraceState,
    /// What the view Artifacts knows of itself.
    pub artifacts: ArtifactState,
    /// What the view Shape knows of itself.
    pub shape: ShapeState,
    /// What the view Weigh knows of itself.
    pub weigh: WeighState,
    /// What the view Ledger knows of itself.
    pub ledger: LedgerState,
    /// What it knows of profiles.
    pub profiles: ProfilesState,
}

impl State {
    /// What is shown first.
    #[must_use]
    pub fn new(view: View) -> Self {
        Self {
            view,
            overlay: None,
            message: None,
            is_reading: false,
            trace: TraceState::default(),
            artifacts: ArtifactState::default(),
            shape: ShapeState::default(),
            weigh: WeighState::default(),
            ledger: LedgerState::default(),
            profiles: ProfilesState::default(),
            chart: ChartKind::default(),
        }
    }

    /// Says something, in whichever view the user is.
    pub fn told(&mut self, text: String) {
        self.message = Some(printable(&text));
    }

    /// Says how far the reading of a file has come.
    pub fn reads(&mut self, text: String) {
        self.is_reading = true;
        self.told(text);
    }

    /// The reading of a file is over, and why it came to nothing, if it did.
    pub fn has_read(&mut self, why_not: Option<String>) {
        self.is_reading = false;
        self.message = why_not.map(|why| printable(&why));
    }

    /// Takes in a terminal event. `area` is the whole screen.
    pub fn handle(&mut self, event: &Event, snapshot: &Snapshot, area: Rect) -> Outcome {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => self.key(*key, snapshot, area),
            Event::Mouse(mouse) => self.mouse(*mouse, snapshot, area),
            _ => Outcome::Nothing,
        }
    }

    fn key(&mut self, key: KeyEvent, snapshot: &Snapshot, area: Rect) -> Outcome {
        if self.is_reading && key.code == KeyCode::Esc && self.overlay.is_none() {
            return Outcome::CancelImport;
        }
        if !self.is_reading {
            self.message = None;
        }
        let moment = Moment::of(snapshot, self);
        let action = action_for(key, moment);
        let control_c = action == Some(Action::Quit) && key.code == KeyCode::Char('c');
        match self.overlay.take() {
            Some(overlay) if !control_c => self.overlay_key(overlay, key.code, snapshot),
            _ => {
                let cells = if key.modifiers.contains(KeyModifiers::SHIFT) { 10.0 } else { 1.0 };
                let column = screen::column_share(area) * cells;
                action.map_or(Outcome::Nothing, |action| self.act(action, snapshot, column))
            }
        }
    }

    fn mouse(&mut self, mouse: MouseEvent, snapshot: &Snapshot, area: Rect) -> Outcome {
        let in_trace = self.view == View::Trace && self.overlay.is_none();
        let share = screen::share_at(area, (mouse.column, mouse.row)).filter(|_| in_trace);
        if let (Some(share), Some(shown)) = (share, self.trace.clone().shown(snapshot)) {
            match mouse.kind {
                MouseEventKind::ScrollUp | MouseEventKind::ScrollDown => {
                    let up = mouse.kind == MouseEventKind::ScrollUp;
                    self.trace.put_cursor(shown, share);
                    self.trace.zoom(shown, if up { 0.5 } else { 2.0 });
                    return Outcome::Nothing;
                }
                MouseEventKind::Down(MouseButton::Left)
                | MouseEventKind::Drag(MouseButton::Left) => {
                    self.trace.put_cursor(shown, share);
                    return Outcome::Nothing;
                }
                _ => {}
            }
        }
        if self.view == View::Shape && self.overlay.is_none() {
            let place = (mouse.column, mouse.row);
            let at = screen::shape_at(area, self, snapshot, place);
            if self.shape.mouse(mouse.kind, at, snapshot) {
                return Outcome::Nothing;
            }
            let value = screen::value_at(area, place);
            if self.shape.mouse_on_value(mouse.kind, value, snapshot) {
                return Outcome::Nothing;
            }
        }
        if self.view == View::Weigh && self.overlay.is_none() {
            let point = screen::point_at(area, self, (mouse.column, mouse.row));
            if self.weigh.mouse(mouse.kind, point) {
                return Outcome::Nothing;
            }
        }
        if self.view == View::Ledger && self.overlay.is_none() {
            let way = match mouse.kind {
                MouseEventKind::ScrollUp => Some(Move::Up),
                MouseEventKind::ScrollDown => Some(Move::Down),
                _ => None,
            };
            if let Some(way) = way {
                return self.act(Action::Row(way), snapshot, 0.0);
            }
        }
        if mouse.kind != MouseEventKind::Down(MouseButton::Left) {
            return Outcome::Nothing;
        }
        if self.overlay.take().is_some() {
            return Outcome::Nothing;
        }
        let place = (mouse.column, mouse.row);
        if let Some(action) = screen::action_at(area, self, snapshot, place) {
            return self.act(action, snapshot, screen::column_share(area));
        }
        if self.lists_profiles() {
            if let Some(line) = screen::profile_at(area, snapshot, place) {
                self.profiles.select(line);
            }
            return Outcome::Nothing;
        }
        if let Some(line) = screen::line_at(area, self, place).filter(|_| self.view == View::Ledger)
        {
            self.ledger.select(line);
            return Outcome::Nothing;
        }
        match screen::trial_at(area, self, snapshot, place) {
            Some(trial) if snapshot.activity == Activity::Waiting => {
                Outcome::Send(Command::Look(Some(trial)))
            }
            _ => Outcome::Nothing,
        }
    }

    /// Carries an action out. `column` is the share of the time shown that a column is.
    fn act(&mut self, action: Action, snapshot: &Snapshot, column: f64) -> Outcome {
        if self.lists_profiles()
            && let Some(outcome) = self.act_on_profiles(action, snapshot)
        {
            return outcome;
        }
        if self.view == View::Ledger
            && let Some(came) = self.ledger.act(action)
        {
            return self.came(came, snapshot);
        }
        if self.view == View::Shape {
            if action == Action::ShapeType {
                let label = self.shape.shown(snapshot).focus_label();
                self.overlay = Some(value_of(label));
                return Outcome::Nothing;
            }
            match self.shape.act(action, snapshot) {
                shape_state::Came::Done => return Outcome::Nothing,
                shape_state::Came::Send(command) => return Outcome::Send(command),
                shape_state::Came::NotHere => {}
            }
        }
        if self.view == View::Weigh
            && let Some(outcome) = self.act_on_weigh(action, snapshot)
        {
            return outcome;
        }
        if self.act_on_artifacts(action, snapshot) || self.act_on_trace(action, snapshot, column) {
            return Outcome::Nothing;
        }
        if action == Action::ExportPicture {
            let run = snapshot.shown();
            let frame = run.and_then(|run| self.artifacts.frame(run)).map_or(0, |f| f.number);
            let (climb, trial) = run.map_or((snapshot.climb, 0), |run| (run.climb, run.number));
            let text = format!("climb-{climb}-trial-{trial}-frame-{frame}.png");
            self.overlay = Some(path_of(FileUse::Picture, text));
            return Outcome::Nothing;
        }
        if action == Action::KeepTrial && self.view == View::Shape {
            match self.shape.shown(snapshot).settings() {
                Ok(settings) => {
                    let what = KeepWhat::Settings(Box::new(settings));
                    self.overlay = Some(profiles_state::keep_form("by hand".into(), what));
                }
                Err(error) => self.told(format!("{error}.")),
            }
            return Outcome::Nothing;
        }
        if self.view == View::Artifacts && matches!(action, Action::Earlier | Action::Later) {
            return self.other_spoilt(snapshot, action == Action::Later);
        }
        if let Some(overlay) = question_before(action, snapshot) {
            self.overlay = Some(overlay);
            return Outcome::Nothing;
        }
        let command = match action {
            Action::Show(view) => {
                self.view = view;
                return match newest_spoilt(snapshot).filter(|_| view == View::Artifacts) {
                    Some(trial) => Outcome::Send(Command::Look(Some(trial))),
                    None => Outcome::Nothing,
                };
            }
            Action::Help => {
                self.overlay = Some(Overlay::Help(0));
                return Outcome::Nothing;
            }
            Action::Quit => return Outcome::Quit,
            Action::Try => {
                // In Shape one sees the card move along its curve.
                if self.view != View::Shape {
                    self.view = View::Climb;
                }
                Command::Try { yes: false }
            }
            Action::Auto => {
                if !snapshot.auto && self.view != View::Shape {
                    self.view = View::Climb;
                }
                Command::ToggleAuto
            }
            Action::Pause => Command::TogglePause,
            Action::Stop => Command::Stop,
            Action::NudgeUp => Command::Nudge(1),
            Action::NudgeDown => Command::Nudge(-1),
            Action::DropNudge => Command::DropNudge,
            Action::EndStage => Command::EndStage,
            Action::Chart => {
                self.chart = self.chart.next(snapshot);
                return Outcome::Nothing;
            }
            Action::Stages => {
                self.overlay = Some(Overlay::Stages(0));
                return Outcome::Nothing;
            }
            Action::Which => Command::AskWhich(which(snapshot)),
            Action::LeaveOut => Command::ToggleLeaveOut,
            Action::BackToStock => Command::BackToStock,
            Action::NewClimb => Command::NewClimb,
            Action::Pace => Command::NextPace,
            Action::Earlier => Command::LookBeside(-1),
            Action::Later => Command::LookBeside(1),
            Action::Present => Command::Look(None),
            Action::Restart => Command::Restart,
            Action::LayOver => Command::LayOver(next_laid_over(snapshot)),
            // These ask first, or are done with already.
            _ => return Outcome::Nothing,
        };
        if matches!(action, Action::Try | Action::Earlier | Action::Later | Action::Present) {
            self.trace.begin_anew();
        }
        Outcome::Send(command)
    }

    /// Goes on with what came of an action in Ledger.
    fn came(&mut self, came: Came, snapshot: &Snapshot) -> Outcome {
        self.overlay = Some(match came {
            Came::Nothing => return Outcome::Nothing,
            Came::Change(change) => return Outcome::Change(change),
            Came::Send(command, view) => {
                self.view = view.unwrap_or(self.view);
                self.trace.begin_anew();
                return Outcome::Send(command);
            }
            Came::AskFirst(what, consequence, change) => {
                Overlay::Ask(Question { what, consequence, yes: Yes::Change(change) })
            }
            Came::TypeSearch(text) => Overlay::Search {
                before: text.clone(),
                text: Entry::new(text, ledger_state::LONGEST),
            },
            Came::TypeNote(on, text) => {
                Overlay::Note { on, text: Entry::new(text, ledger_state::LONGEST) }
            }
            Came::ChooseFilter => Overlay::Filter(0),
            Came::Mark { climb, trial, verdict } => mark(climb, trial, verdict),
            Came::Keep { climb, trial } => profiles_state::keep_form(
                format!("trial {trial} of climb {climb}"),
                KeepWhat::Trial { climb, trial },
            ),
            Came::Shape => {
                self.shape_selected_trial(snapshot);
                return Outcome::Nothing;
            }
            Came::NameFile(text) => path_of(FileUse::List, text),
        });
        Outcome::Nothing
    }

    /// Carries out what concerns the view Weigh alone; `None` for what does not.
    fn act_on_weigh(&mut self, action: Action, snapshot: &Snapshot) -> Option<Outcome> {
        match self.weigh.act(action) {
            weigh_state::Came::NotHere => return None,
            weigh_state::Came::Done => {}
            weigh_state::Came::Send(command) => return Some(Outcome::Send(command)),
            weigh_state::Came::Keep(climb, trial) => {
                let name = format!("trial {trial} of climb {climb}");
                let what = KeepWhat::Trial { climb, trial };
                self.overlay = Some(profiles_state::keep_form(name, what));
            }
            weigh_state::Came::NameFile => {
                let text = format!("work-against-{}.svg", self.weigh.cost);
                self.overlay = Some(path_of(FileUse::Frontier, text));
            }
            weigh_state::Came::Shape => {
                let point = self.weigh.point()?;
                let (climb, trial) = point.newest;
                let told = format!("These are the settings of trial {trial} of climb {climb}.");
                self.shape.load(snapshot, point.settings, told);
                self.view = View::Shape;
            }
        }
        Some(Outcome::Nothing)
    }

    /// What is shown in Weigh, to be drawn into a file.
    pub(super) fn export_frontier(&self, snapshot: &Snapshot, path: PathBuf) -> Outcome {
        Outcome::ExportFrontier {
            card: Box::new((*snapshot.card).clone()),
            load: self.weigh.load.clone().unwrap_or_default(),
            frontier: Box::new(self.weigh.frontier.clone()),
            path,
        }
    }

    /// Whether profiles are listed.
    fn lists_profiles(&self) -> bool {
        self.view == View::Ledger && self.ledger.list() == List::Profiles
    }

    /// Goes to Shape with the settings of the trial selected in Ledger.
    fn shape_selected_trial(&mut self, snapshot: &Snapshot) {
        let Some(detail) = self.ledger.detail() else { return };
        let line = &detail.line;
        if detail.card.key() != snapshot.card.key() {
            self.ledger.told = Some(format!(
                "It ran on {}, individual {}: choose that card first, with c.",
                line.card, line.serial
            ));
            return;
        }
        let told =
            format!("These are the settings of trial {} of climb {}.", line.number, line.climb);
        self.shape.load(snapshot, detail.intent.asked, told);
        self.view = View::Shape;
    }

    /// Looks at the next trial of the climb that has spoilt frames, later or earlier.
    fn other_spoilt(&mut self, snapshot: &Snapshot, is_later: bool) -> Outcome {
        let shown = snapshot.shown().filter(|run| run.climb == snapshot.climb);
        let from = shown.map_or(u32::MAX, |run| run.number);
        let mut spoilt = snapshot.trials.iter().filter(|trial| trial.seen.wrong_frames > 0);
        let found = match is_later {
            true => spoilt.find(|trial| trial.number > from),
            false => spoilt.rfind(|trial| trial.number < from),
        };
        if let Some(trial) = found {
            return Outcome::Send(Command::Look(Some(trial.number)));
        }
        let place = if is_later { "later" } else { "earlier" };
        self.told(format!("No {place} trial of this climb has a spoilt frame."));
        Outcome::Nothing
    }

    /// Carries out what concerns the view Artifacts alone; whether that was all.
    fn act_on_artifacts(&mut self, action: Action, snapshot: &Snapshot) -> bool {
        let is_shown = self.view == View::Artifacts;
        if action == Action::Present && is_shown && self.artifacts.holds() {
            self.artifacts.let_go();
            return true;
        }
        let Some(run) = snapshot.shown().filter(|_| is_shown) else { return false };
        match action {
            Action::FrameBefore => self.artifacts.step(run, -1),
            Action::FrameAfter => self.artifacts.step(run, 1),
            Action::ArtifactUp => self.artifacts.pick(run, -1),
            Action::ArtifactDown => self.artifacts.pick(run, 1),
            Action::Nearer => self.artifacts.zoom(true),
            Action::Farther => self.artifacts.zoom(false),
            _ => return false,
        }
        self.artifacts.told = None;
        true
    }

    /// Carries out what concerns the view Trace alone; whether that was all.
    fn act_on_trace(&mut self, action: Action, snapshot: &Snapshot, column: f64) -> bool {
        if action == Action::Present && self.view == View::Trace && self.trace.holds() {
            self.trace.let_go();
            return true;
        }
        if action == Action::Freeze {
            self.trace.toggle_freeze(snapshot);
            return true;
        }
        // Cheap: a trace shares its chunks.
        let held = self.trace.clone();
        let Some(shown) = held.shown(snapshot) else { return false };
        match action {
            Action::CursorBack => self.trace.move_cursor(shown, -column),
            Action::CursorOn => self.trace.move_cursor(shown, column),
            Action::ZoomIn => self.trace.zoom(shown, 0.5),
            Action::ZoomOut => self.trace.zoom(shown, 2.0),
            Action::ScrollBack => self.trace.scroll(shown, -0.5),
            Action::ScrollOn => self.trace.scroll(shown, 0.5),
            Action::ResetFigures => self.trace.reset_figures(shown),
            _ => return false,
        }
        true
    }
}

/// The failed trial that is asked about: the one looked at, else the newest; none where the question
/// stands already.
fn which(snapshot: &Snapshot) -> Option<u32> {
    if snapshot.isolation.is_some_and(|(_, isolation)| isolation.culprit().is_none()) {
        return None;
    }
    let looked = snapshot.looked_here();
    let failed = |trial: &&TrialRecord| trial.verdict().meaning() == Meaning::TooMuch;
    let newest = || snapshot.trials.iter().rev().find(failed).map(|trial| trial.number);
    looked.or_else(newest)
}

/// The newest trial that has spoilt frames, where the one that is shown has none.
fn newest_spoilt(snapshot: &Snapshot) -> Option<u32> {
    let has_some = snapshot.shown().is_some_and(|run| !run.spoilt.is_empty());
    if has_some || snapshot.activity != Activity::Waiting {
        return None;
    }
    let spoilt = snapshot.trials.iter().rev().find(|trial| trial.seen.wrong_frames > 0);
    spoilt.map(|trial| trial.number)
}

/// The trial to be laid over next: the one before the one that is now, and none after the first.
fn next_laid_over(snapshot: &Snapshot) -> Option<u32> {
    // Only trials of the present climb are laid over.
    let last = snapshot.trials.last().map(|trial| trial.number + 1);
    let shown = snapshot.shown().filter(|run| run.climb == snapshot.climb).map(|run| run.number);
    let present = snapshot.laid_over.as_ref().map(|run| run.number).or(shown).or(last)?;
    let earlier = |trial: &&yard_step_core::TrialRecord| trial.number < present;
    snapshot.trials.iter().rev().find(earlier).map(|trial| trial.number)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{run_view, snapshot};
    use ratatui::crossterm::event::KeyModifiers;
    use rstest::rstest;
    use std::sync::Arc;
    use yard_step_core::Verdict;
    use yard_step_engine::{KeepWish, NextView, Restart};

    const AREA: Rect = Rect::new(0, 0, 160, 50);

    fn press(state: &mut State, snapshot: &Snapshot, code: KeyCode) -> Outcome {
        state.handle(&Event::Key(KeyEvent::new(code, KeyModifiers::NONE)), snapshot, AREA)
    }

    fn type_in(state: &mut State, snapshot: &Snapshot, text: &str) -> Outcome {
        text.chars().map(|c| press(state, snapshot, KeyCode::Char(c))).last().unwrap()
    }

    #[rstest]
    #[case(KeyCode::Enter, Command::Try { yes: false })]
    #[case(KeyCode::Char('a'), Command::ToggleAuto)]
    #[case(KeyCode::Up, Command::Nudge(1))]
    #[case(KeyCode::Char('-'), Command::Nudge(-1))]
    #[case(KeyCode::Char('p'), Command::NextPace)]
    #[case(KeyCode::Left, Command::LookBeside(-1))]
    fn a_key_becomes_its_command(#[case] code: KeyCode, #[case] command: Command) {
        let mut state = State::new(View::Climb);
        assert_eq!(press(&mut state, &snapshot(), code), Outcome::Send(command));
    }

    #[rstest]
    #[case(KeyCode::Char('s'))]
    #[case(KeyCode::Char(' '))]
    #[case(KeyCode::Char('k'))]
    #[case(KeyCode::Char('j'))]
    fn keys_that_do_not_apply_do_nothing(#[case] code: KeyCode) {
        let mut state = State::new(View::Climb);
        assert_eq!(press(&mut state, &snapshot(), code), Outcome::Nothing);
        assert_eq!(state, State::new(View::Climb));
    }

    #[rstest]
    fn a_risky_trial_asks_once_and_says_what_may_happen() {
        let mut snapshot = snapshot();
        if let NextView::Trial { risk, .. } = &mut snapshot.next {
            *risk = Some("Trial 3 took the machine down.".into());
        }
        let mut state = State::new(View::Climb);
        assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Nothing);
        let Some(Overlay::Ask(question)) = &state.overlay else { panic!() };
        assert_eq!(question.consequence, "Trial 3 took the machine down.");
        assert_eq!(press(&mut state, &snapshot, KeyCode::Char('x')), Outcome::Nothing);
        let yes = press(&mut state, &snapshot, KeyCode::Char('y'));
        assert_eq!(yes, Outcome::Send(Command::Try { yes: true }));
        assert_eq!(state.overlay, None);
    }

    #[rstest]
    fn artifacts_are_looked_for_where_there_are_some() {
        let mut snapshot = snapshot();
        let mut trials = (*snapshot.trials).clone();
        trials[1].seen.wrong_frames = 4;
        snapshot.trials = Arc::new(trials);
        let mut state = State::new(View::Climb);
        let number = snapshot.trials[1].number;
        let look = Outcome::Send(Command::Look(Some(number)));
        assert_eq!(press(&mut state, &snapshot, KeyCode::Char('v')), look);
        assert_eq!(state.view, View::Artifacts);
    }

    #[rstest]
    fn a_spoilt_frame_is_picked_enlarged_and_exported() {
        let mut snapshot = snapshot();
        let spoilt = Arc::new(crate::tui::fixtures::spoilt_frames());
        snapshot.run = Some(Arc::new(yard_step_engine::RunView { spoilt, ..run_view() }));
        let mut state = State::new(View::Artifacts);
        press(&mut state, &snapshot, KeyCode::Left);
        press(&mut state, &snapshot, KeyCode::Char('+'));
        assert_eq!(state.artifacts.factor(), 2);
        press(&mut state, &snapshot, KeyCode::Char('x'));
        let Outcome::ExportPicture { scene, frame, title, path } =
            press(&mut state, &snapshot, KeyCode::Enter)
        else {
            panic!()
        };
        assert_eq!((scene, frame.number), (Scene::Lantern, 41));
        assert!(title.ends_with("trial 4, lantern, frame 41"), "{title}");
        assert!(path.to_string_lossy().ends_with("-trial-4-frame-41.png"), "{path:?}");
        press(&mut state, &snapshot, KeyCode::Esc);
        assert!(!state.artifacts.holds(), "Esc lets go");
    }

    #[rstest]
    #[case(Restart::Down, KeyCode::Enter)]
    #[case(Restart::CardGone, KeyCode::Enter)]
    #[case(Restart::AfterReset(3), KeyCode::Char('R'))]
    fn a_machine_that_wants_a_restart_gets_it_by_one_key(
        #[case] restart: Restart,
        #[case] code: KeyCode,
    ) {
        let snapshot = Snapshot { restart: Some(restart), ..snapshot() };
        let outcome = press(&mut State::new(View::Climb), &snapshot, code);
        assert_eq!(outcome, Outcome::Send(Command::Restart));
    }

    #[rstest]
    fn of_a_load_that_only_the_user_sees_it_is_said_what_was_seen() {
        let running = Snapshot { is_manual: true, activity: Activity::Running, ..snapshot() };
        let mut state = State::new(View::Climb);
        press(&mut state, &running, KeyCode::Char('w'));
        press(&mut state, &running, KeyCode::Down);
        let said = press(&mut state, &running, KeyCode::Enter);
        assert_eq!(said, Outcome::Send(Command::Say(Verdict::Artifacts)));
    }

    #[rstest]
    #[case('e', Command::EndStage)]
    #[case('n', Command::NewClimb)]
    #[case('b', Command::BackToStock)]
    fn what_cannot_be_undone_is_asked_first(#[case] character: char, #[case] command: Command) {
        let snapshot = snapshot();
        let mut state = State::new(View::Climb);
        assert_eq!(press(&mut state, &snapshot, KeyCode::Char(character)), Outcome::Nothing);
        assert_eq!(press(&mut state, &snapshot, KeyCode::Esc), Outcome::Nothing);
        assert_eq!(state.overlay, None, "Esc takes it back");
        press(&mut state, &snapshot, KeyCode::Char(character));
        assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Send(command));
    }

    #[rstest]
    fn leaving_while_a_trial_runs_is_asked_and_control_c_is_no_way_around() {
        let mut snapshot = snapshot();
        let mut state = State::new(View::Climb);
        assert_eq!(press(&mut state, &snapshot, KeyCode::Char('q')), Outcome::Quit);
        snapshot.activity = Activity::Running;
        let control_c = Event::Key(KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL));
        assert_eq!(state.handle(&control_c, &snapshot, AREA), Outcome::Nothing);
        assert!(matches!(state.overlay, Some(Overlay::Ask(_))));
        assert_eq!(press(&mut state, &snapshot, KeyCode::Char('y')), Outcome::Quit);
    }

    #[rstest]
    fn a_trial_is_marked_from_a_list() {
        let snapshot = snapshot();
        let mut state = State::new(View::Climb);
        press(&mut state, &snapshot, KeyCode::Char('m'));
        press(&mut state, &snapshot, KeyCode::Down);
        let marked = press(&mut state, &snapshot, KeyCode::Enter);
        let (climb, verdict) = (snapshot.climb, Some(Verdict::Artifacts));
        assert_eq!(marked, Outcome::Send(Command::Mark { climb, trial: 3, verdict }));
        press(&mut state, &snapshot, KeyCode::Char('m'));
        for _ in 0..20 {
            press(&mut state, &snapshot, KeyCode::Down);
        }
        let taken_back = press(&mut state, &snapshot, KeyCode::Enter);
        assert_eq!(taken_back, Outcome::Send(Command::Mark { climb, trial: 3, verdict: None }));
    }

    #[rstest]
    fn a_profile_gets_the_name_that_is_typed() {
        let mut snapshot = snapshot();
        let outcome = yard_step_core::Outcome {
            pair: yard_step_core::Pair::default(),
            claim: None,
            settings: yard_step_core::Settings::default(),
            stage: None,
            score: None,
            gain_percent: None,
            trials: 3,
            test_seconds: yard_step_core::Seconds(1.0),
            confirmed: true,
            kept_trial: None,
            sentence: "Done.".into(),
        };
        snapshot.next = NextView::Ended(Box::new(outcome));
        let mut state = State::new(View::Climb);
        press(&mut state, &snapshot, KeyCode::Char('k'));
        for _ in 0..20 {
            press(&mut state, &snapshot, KeyCode::Backspace);
        }
        assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Nothing, "no empty name");
        type_in(&mut state, &snapshot, "dome q?");
        press(&mut state, &snapshot, KeyCode::Down);
        type_in(&mut state, &snapshot, "shows");
        let kept = press(&mut state, &snapshot, KeyCode::Enter);
        let wish = KeepWish {
            name: "dome q?".into(),
            purpose: "shows".into(),
            margin: None,
            what: KeepWhat::Outcome,
        };
        assert_eq!(kept, Outcome::Send(Command::Keep(Box::new(wish))));
    }

    #[rstest]
    fn while_looking_at_a_trial_the_arrows_go_on_and_escape_returns_to_the_present() {
        let mut snapshot = snapshot();
        let mut state = State::new(View::Climb);
        assert_eq!(press(&mut state, &snapshot, KeyCode::Right), Outcome::Nothing);
        snapshot.looked_at = Some(Arc::new(run_view()));
        let send = Outcome::Send;
        assert_eq!(press(&mut state, &snapshot, KeyCode::Left), send(Command::LookBeside(-1)));
        assert_eq!(press(&mut state, &snapshot, KeyCode::Right), send(Command::LookBeside(1)));
        assert_eq!(press(&mut state, &snapshot, KeyCode::Esc), send(Command::Look(None)));
    }

    #[rstest]
    fn a_click_picks_a_view_an_action_or_a_trial() {
        let snapshot = snapshot();
        let mut state = State::new(View::Climb);
        let click = |column, row| {
            Event::Mouse(MouseEvent {
                kind: MouseEventKind::Down(MouseButton::Left),
                column,
                row,
                modifiers: KeyModifiers::NONE,
            })
        };
        state.handle(&click(16, 0), &snapshot, AREA);
        assert_eq!(state.view, View::Survey);
        let tried = state.handle(&click(3, 49), &snapshot, AREA);
        assert_eq!(tried, Outcome::Send(Command::Try { yes: false }));
        assert_eq!(state.view, View::Climb);
        let picked = state.handle(&click(108, 10), &snapshot, AREA);
        assert_eq!(picked, Outcome::Send(Command::Look(Some(1))));
    }

    /// A moment of a card whose curve lets itself be shaped.
    fn shapeable() -> Snapshot {
        let mut snapshot = snapshot();
        let mut card = (*snapshot.card).clone();
        card.curve = Some(crate::tui::fixtures::curve_offer());
        snapshot.card = Arc::new(card);
        snapshot.held = Some(yard_step_core::Settings::stock(&snapshot.card));
        snapshot
    }

    fn at(kind: MouseEventKind, (column, row): (u16, u16)) -> Event {
        Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE })
    }

    #[rstest]
    fn in_shape_enter_asks_and_then_tries_without_leaving_the_view() {
        let mut snapshot = shapeable();
        let mut state = State::new(View::Climb);
        press(&mut state, &snapshot, KeyCode::Char('4'));
        press(&mut state, &snapshot, KeyCode::End);
        press(&mut state, &snapshot, KeyCode::Up);
        let Outcome::Send(Command::Wish(asked)) = press(&mut state, &snapshot, KeyCode::Enter)
        else {
            panic!("not asked for")
        };
        let NextView::Trial { asked: next, .. } = &mut snapshot.next else { panic!("no trial") };
        **next = *asked;
        let tried = press(&mut state, &snapshot, KeyCode::Enter);
        assert_eq!(tried, Outcome::Send(Command::Try { yes: false }));
        assert_eq!(state.view, View::Shape, "one sees the card move along its curve");
    }

    #[rstest]
    fn in_shape_the_mouse_picks_a_point_drags_it_and_scrolls() {
        let snapshot = shapeable();
        let mut state = State::new(View::Shape);
        let left = MouseButton::Left;
        // Somewhere in the middle of the chart.
        state.handle(&at(MouseEventKind::Down(left), (50, 30)), &snapshot, AREA);
        let picked = state.shape.draft(&snapshot);
        let before = picked.picked().unwrap();
        state.handle(&at(MouseEventKind::Drag(left), (50, 20)), &snapshot, AREA);
        state.handle(&at(MouseEventKind::Up(left), (50, 20)), &snapshot, AREA);
        let dragged = state.shape.draft(&snapshot).picked().unwrap();
        assert!(dragged.0 == before.0 && dragged.1 != before.1, "{before:?} to {dragged:?}");
        state.handle(&at(MouseEventKind::ScrollUp, (50, 20)), &snapshot, AREA);
        assert_eq!(state.shape.draft(&snapshot).picked().unwrap().1, dragged.1 + 15);
        press(&mut state, &snapshot, KeyCode::Char('z'));
        press(&mut state, &snapshot, KeyCode::Char('z'));
        assert_eq!(state.shape.draft(&snapshot).picked(), Some(before));
    }

    #[rstest]
    fn a_number_for_shape_is_typed_into_a_line_of_its_own() {
        let snapshot = shapeable();
        let mut state = State::new(View::Shape);
        press(&mut state, &snapshot, KeyCode::Home);
        press(&mut state, &snapshot, KeyCode::Char('='));
        let Some(Overlay::Value { label, .. }) = &state.overlay else {
            panic!("nothing to type in")
        };
        assert!(label.starts_with("clock at 800 mV"), "{label}");
        type_in(&mut state, &snapshot, "1605");
        press(&mut state, &snapshot, KeyCode::Enter);
        assert_eq!(state.shape.draft(&snapshot).picked(), Some((800, 1_605)));
        assert_eq!(state.overlay, None);
    }

    #[rstest]
    fn in_weigh_a_point_is_clicked_tried_shaped_kept_and_drawn() {
        let snapshot = snapshot();
        let mut state = State::new(View::Weigh);
        state.weigh.wants(&snapshot);
        state.weigh.take(Ok(crate::tui::fixtures::weighed()));
        let lowest = state.weigh.frontier.frontier[0];
        // The first line of the list of the frontier.
        let event = at(MouseEventKind::Down(MouseButton::Left), (130, 3));
        state.handle(&event, &snapshot, AREA);
        assert_eq!(state.weigh.picked(), Some(lowest));
        let settings = state.weigh.point().unwrap().settings;
        let asked = press(&mut state, &snapshot, KeyCode::Enter);
        assert_eq!(asked, Outcome::Send(Command::Wish(Box::new(settings))));
        press(&mut state, &snapshot, KeyCode::Char('k'));
        assert!(matches!(state.overlay, Some(Overlay::Keep { .. })), "{:?}", state.overlay);
        press(&mut state, &snapshot, KeyCode::Esc);
        press(&mut state, &snapshot, KeyCode::Char('x'));
        let drawn = press(&mut state, &snapshot, KeyCode::Enter);
        let Outcome::ExportFrontier { load, path, .. } = drawn else { panic!("{drawn:?}") };
        assert_eq!((load.as_str(), path.to_str()), ("lantern", Some("work-against-watts.svg")));
        press(&mut state, &snapshot, KeyCode::Char('l'));
        assert_eq!(state.view, View::Shape);
        assert_eq!(state.shape.draft(&snapshot).values.core_offset, settings.core_offset);
    }

    #[rstest]
    fn in_ledger_tab_leads_to_profiles_whose_keys_are_their_own() {
        let snapshot = snapshot();
        let mut state = State::new(View::Ledger);
        press(&mut state, &snapshot, KeyCode::Tab);
        press(&mut state, &snapshot, KeyCode::Tab);
        assert_eq!(state.ledger.list(), List::Profiles);
        press(&mut state, &snapshot, KeyCode::Char('x'));
        type_in(&mut state, &snapshot, "x");
        let written = press(&mut state, &snapshot, KeyCode::Enter);
        let Outcome::Change(Change::ExportProfile { path, .. }) = written else {
            panic!("{written:?}")
        };
        assert_eq!(path.to_str(), Some("last-autumn.jsonx"));
        press(&mut state, &snapshot, KeyCode::Char('i'));
        assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Nothing, "no file yet");
        type_in(&mut state, &snapshot, "theirs.json");
        let read = press(&mut state, &snapshot, KeyCode::Enter);
        let Outcome::Change(Change::ImportProfile { path, share, .. }) = read else {
            panic!("{read:?}")
        };
        assert_eq!((path.to_str(), share.value()), (Some("theirs.json"), 25.0));
        press(&mut state, &snapshot, KeyCode::Char('d'));
        let gone = press(&mut state, &snapshot, KeyCode::Char('y'));
        assert_eq!(gone, Outcome::Send(Command::DropProfile("last autumn".into())));
        press(&mut state, &snapshot, KeyCode::Char('l'));
        assert_eq!(state.view, View::Shape);
    }
}
