//! What comes of a key, and of the action it stands for: each view is asked first, then what every
//! view has in common.

use std::path::PathBuf;

use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use ratatui::layout::Rect;
use yard_step_core::{
    MOST_MEASURED, Meaning, Origin, Profile, Seconds, Settings, TrialRecord, WeighNote, counted,
};
use yard_step_engine::{Activity, Command, FreeStart, KeepWhat, MEASURED, Snapshot, SoakWhat};
use yard_step_report::{Sheet, draw_frontier, draw_soak};

use crate::exchange::chart::what_is_drawn;
use crate::tui::app::outcome::Outcome;
use crate::tui::app::profiles::file_name;
use crate::tui::app::screen;
use crate::tui::app::state::{State, is_free};
use crate::tui::keys::action::{Action, View};
use crate::tui::keys::table::action_for;
use crate::tui::overlays::air_forms::{noise_form, wish_form};
use crate::tui::overlays::load_list::LoadList;
use crate::tui::overlays::profile_forms::keep_form;
use crate::tui::overlays::proof_form::proof_form;
use crate::tui::overlays::questions::question_before;
use crate::tui::overlays::weigh_forms::{ALL_PARTS, notes_form, page_form};
use crate::tui::overlays::{
    FileUse, Overlay, Question, Yes, fan_value, free_value, mark, path_of, value_of,
};
use crate::tui::views::ledger::browser::{Change, Done};
use crate::tui::views::ledger::state::Came;
use crate::tui::views::shape::state::ShapeState;
use crate::tui::views::{air, climb, ledger, proof, shape, trace, weigh};
use crate::tui::widgets::entry::Entry;

impl State {
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
        let moment = self.moment(snapshot);
        let action = action_for(key, moment);
        let control_c = action == Some(Action::Quit) && key.code == KeyCode::Char('c');
        // A letter with the control key is not that letter.
        let is_typed = !key.modifiers.contains(KeyModifiers::CONTROL);
        if self.overlay.is_some() && !is_typed && !control_c {
            return Outcome::Nothing;
        }
        match self.overlay.take() {
            Some(overlay) if !control_c => self.overlay_key(overlay, key.code, snapshot),
            _ => {
                let cells = if key.modifiers.contains(KeyModifiers::SHIFT) { 10.0 } else { 1.0 };
                let column = screen::column_share(area) * cells;
                action.map_or(Outcome::Nothing, |action| self.act(action, snapshot, column))
            }
        }
    }

    /// Carries an action out. `column` is the share of the time shown that a column is.
    pub(super) fn act(&mut self, action: Action, snapshot: &Snapshot, column: f64) -> Outcome {
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
                shape::state::Came::Done => return self.apply_what_is_shaped(snapshot),
                shape::state::Came::Send(command) => return Outcome::Send(command),
                shape::state::Came::NotHere => {}
            }
        }
        if self.view == View::Air
            && let Some(outcome) = self.act_on_air(action, snapshot)
        {
            return outcome;
        }
        if self.view == View::Proof
            && let Some(outcome) = self.act_on_proof(action, snapshot)
        {
            return outcome;
        }
        if let Some(outcome) = self.act_on_free_run(action, snapshot) {
            return outcome;
        }
        if self.view == View::Weigh
            && let Some(outcome) = self.act_on_weigh(action, snapshot)
        {
            return outcome;
        }
        if action == Action::ExportChart {
            self.ask_for_chart(snapshot);
            return Outcome::Nothing;
        }
        if self.act_on_artifacts(action, snapshot) || self.act_on_trace(action, snapshot, column) {
            return Outcome::Nothing;
        }
        if action == Action::ExportPicture {
            let run = snapshot.shown();
            let frame = run.and_then(|run| self.artifacts.frame(run)).map_or(0, |f| f.number);
            let (climb, trial) =
                run.map_or((snapshot.climb.number, 0), |run| (run.climb, run.number));
            let text = format!("climb-{climb}-trial-{trial}-frame-{frame}.png");
            self.overlay = Some(path_of(FileUse::Picture, text));
            return Outcome::Nothing;
        }
        if action == Action::KeepTrial && self.view == View::Shape {
            match self.shape.shown(snapshot).settings() {
                Ok(settings) => {
                    let what = KeepWhat::Settings(Box::new(settings));
                    self.overlay = Some(keep_form("by hand".into(), what));
                }
                Err(error) => self.told(format!("{error}.")),
            }
            return Outcome::Nothing;
        }
        if self.view == View::Artifacts && matches!(action, Action::Earlier | Action::Later) {
            return self.other_spoilt(snapshot, action == Action::Later);
        }
        if let Some(overlay) = question_before(action, snapshot) {
            if action == Action::Settings {
                // They stand beside the clock line.
                self.view = View::Climb;
            }
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
                self.overlay = Some(Overlay::Keys);
                return Outcome::Nothing;
            }
            Action::Quit => return Outcome::Quit,
            Action::Try => {
                // In Shape one sees the card move along its curve.
                if !matches!(self.view, View::Shape | View::Air | View::Proof) {
                    self.view = View::Climb;
                }
                Command::Try { yes: false }
            }
            Action::Auto => {
                if !snapshot.runs.auto && !matches!(self.view, View::Shape | View::Proof) {
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
            Action::Loads => {
                self.overlay = Some(Overlay::LoadList(LoadList::Choose(0)));
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
            // All others ask first, or belong to a view. A key that comes here does nothing: the walk
            // over real states finds it.
            other => {
                debug_assert!(false, "{other:?} has a key in {:?}, and does nothing", self.view);
                return Outcome::Nothing;
            }
        };
        if matches!(action, Action::Try | Action::Earlier | Action::Later | Action::Present) {
            self.trace.begin_anew();
        }
        Outcome::Send(command)
    }

    /// Carries out what concerns the view Air alone; `None` for what does not.
    fn act_on_air(&mut self, action: Action, snapshot: &Snapshot) -> Option<Outcome> {
        match self.air.act(action, snapshot) {
            air::state::Came::NotHere => return None,
            air::state::Came::Done => return Some(self.apply_drawn_fan(snapshot)),
            air::state::Came::Send(command) => return Some(Outcome::Send(command)),
            air::state::Came::Type => self.overlay = Some(fan_value(self.air.label(snapshot))),
            air::state::Came::Wish => self.overlay = Some(wish_form(snapshot)),
            air::state::Came::Noise => {
                self.overlay = Some(noise_form(air::state::present_speed(snapshot)));
            }
        }
        Some(Outcome::Nothing)
    }

    /// Carries out what concerns the view Proof alone; `None` for what does not.
    fn act_on_proof(&mut self, action: Action, snapshot: &Snapshot) -> Option<Outcome> {
        if action == Action::KeepTrial {
            let soaked = self.proof.soaked(snapshot)?;
            let what = KeepWhat::Settings(Box::new(soaked.stands));
            self.overlay = Some(keep_form("soaked".into(), what));
            return Some(Outcome::Nothing);
        }
        match self.proof.act(action, snapshot) {
            proof::state::Came::NotHere => return None,
            proof::state::Came::Done => {}
            proof::state::Came::Send(command) => {
                self.proof.begin();
                return Some(Outcome::Send(command));
            }
            proof::state::Came::Prove(what) => self.overlay = Some(proof_form(what)),
            proof::state::Came::Page => {
                let about = self.proof.selected(snapshot).map(|of| of.view.profile.clone());
                self.overlay = about.map(|about| {
                    page_form(format!("{}.pdf", file_name(&about.name, "page")), ALL_PARTS)
                });
            }
        }
        Some(Outcome::Nothing)
    }

    /// In a free run, the fan that is drawn is applied at once; nothing where the card is asked for it already.
    pub(super) fn apply_drawn_fan(&mut self, snapshot: &Snapshot) -> Outcome {
        let drawn = self.air.shown(snapshot).map(|draft| draft.sketch.fan());
        let Some(fan) = drawn.filter(|_| is_free(snapshot)) else { return Outcome::Nothing };
        let asked = self.free.asked(snapshot);
        let settings = Settings { fan: Some(fan), ..asked };
        if settings == asked {
            return Outcome::Nothing;
        }
        self.free.wanted = Some(settings);
        Outcome::Send(Command::Apply { settings: Box::new(settings), yes: false })
    }

    /// Carries out what concerns free runs; `None` for what does not.
    fn act_on_free_run(&mut self, action: Action, snapshot: &Snapshot) -> Option<Outcome> {
        match action {
            Action::FreeRun => {
                let plan = &snapshot.climb.plan.scene;
                let place = snapshot.runs.loads.iter().position(|load| load == plan);
                self.overlay = Some(Overlay::Loads(place.unwrap_or(0)));
            }
            Action::FreeType => {
                let offer = snapshot.machine.card.offers.get(self.free.chosen)?;
                self.overlay = Some(free_value(offer.kind.label()));
            }
            Action::FreeAway => {
                if let Some(free) = &snapshot.runs.free {
                    self.free.put_away(free);
                }
            }
            Action::KeepTrial if is_free(snapshot) => {
                let settings = self.free.asked(snapshot);
                let what = KeepWhat::Settings(Box::new(settings));
                self.overlay = Some(keep_form("free run".into(), what));
            }
            Action::StartHere => {
                let looked_at = snapshot.runs.looked_at.as_ref().and_then(|run| run.taken);
                let settings = match is_free(snapshot) {
                    true => Some(self.free.asked(snapshot)),
                    false => looked_at,
                };
                let Some(settings) = settings else {
                    self.told("The card never took the settings of this trial.".into());
                    return Some(Outcome::Nothing);
                };
                return Some(Outcome::Send(Command::StartFrom(Box::new(settings))));
            }
            Action::FreeRow(_)
            | Action::FreeBy(_)
            | Action::FreeBack
            | Action::FreeSuggested
            | Action::FreeYes
            | Action::FreeTrial => {
                let command = self.free.act(action, snapshot);
                if command.is_some() {
                    // What was shaped before was shaped on other settings.
                    self.shape = ShapeState::default();
                }
                return Some(command.map_or(Outcome::Nothing, Outcome::Send));
            }
            _ => return None,
        }
        Some(Outcome::Nothing)
    }

    /// Begins a free run with a load: under what is shaped in Shape, else under the trial looked at, else
    /// under what the engine takes, the newest that held.
    pub(super) fn begin_free_run(&mut self, load: String, snapshot: &Snapshot) -> Outcome {
        let shaped = self.shape.shown(snapshot);
        let looked_at = snapshot.runs.looked_at.as_ref();
        let settings = match self.view {
            View::Shape if !shaped.is_next(snapshot) => shaped.settings().ok(),
            View::Air => self.air.shown(snapshot).map(|draft| draft.settings(snapshot)),
            _ => looked_at.and_then(|run| run.taken),
        };
        if !matches!(self.view, View::Shape | View::Air) {
            self.view = View::Climb;
        }
        self.free.begin();
        self.trace.begin_anew();
        Outcome::Send(Command::FreeRun(Box::new(FreeStart {
            load: Some(load),
            settings,
            yes: false,
        })))
    }

    /// In a free run, what is shaped is applied at once; nothing where it is what the card holds already, or
    /// cannot be asked for yet.
    pub(super) fn apply_what_is_shaped(&mut self, snapshot: &Snapshot) -> Outcome {
        let shaped = self.shape.shown(snapshot).settings();
        match shaped.ok().filter(|shaped| is_free(snapshot) && *shaped != self.free.asked(snapshot))
        {
            Some(settings) => {
                self.free.wanted = Some(settings);
                let settings = Box::new(settings);
                Outcome::Send(Command::Apply { settings, yes: false })
            }
            None => Outcome::Nothing,
        }
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
                text: Entry::new(text, ledger::state::LONGEST),
            },
            Came::TypeNote(on, text) => {
                Overlay::Note { on, text: Entry::new(text, ledger::state::LONGEST) }
            }
            Came::ChooseFilter => Overlay::Filter(0),
            Came::Mark { climb, trial, verdict } => mark(climb, trial, verdict),
            Came::Keep { climb, trial } => keep_form(
                format!("trial {trial} of climb {climb}"),
                KeepWhat::Trial { climb, trial },
            ),
            Came::Prove { climb, trial } => proof_form(SoakWhat::Trial { climb, trial }),
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
        if action == Action::MeasureCells {
            self.ask_to_measure();
            return Some(Outcome::Nothing);
        }
        if action == Action::ExportPage {
            self.overlay = Some(page_form("page.pdf".into(), ALL_PARTS));
            return Some(Outcome::Nothing);
        }
        if action == Action::WeighNotes {
            let load = self.weigh.load.as_deref().unwrap_or_default();
            self.overlay = Some(notes_form(&self.weigh.notes, load));
            return Some(Outcome::Nothing);
        }
        match self.weigh.act(action) {
            weigh::state::Came::NotHere => return None,
            weigh::state::Came::Done => {}
            weigh::state::Came::Send(command) => return Some(Outcome::Send(command)),
            weigh::state::Came::Keep(climb, trial) => {
                let name = format!("trial {trial} of climb {climb}");
                let what = KeepWhat::Trial { climb, trial };
                self.overlay = Some(keep_form(name, what));
            }
            weigh::state::Came::Prove(climb, trial) => {
                self.overlay = Some(proof_form(SoakWhat::Trial { climb, trial }));
            }
            weigh::state::Came::Beside(climb, trial) => {
                return Some(Outcome::Change(Change::Weigh {
                    card: Box::new((*snapshot.machine.card).clone()),
                    notes: vec![WeighNote::Trial(climb, trial)],
                }));
            }
            weigh::state::Came::Shape => {
                let point = self.weigh.point()?;
                let (climb, trial) = point.newest;
                let told = format!("These are the settings of trial {trial} of climb {climb}.");
                self.shape.load(snapshot, point.settings, told);
                self.view = View::Shape;
            }
        }
        Some(Outcome::Nothing)
    }

    /// Asks whether what is missing of before and after is to be measured, and says how long that takes.
    fn ask_to_measure(&mut self) {
        self.weigh.shows_table = true;
        let table = &self.weigh.table;
        let cell = |(variant, load): &(usize, usize)| {
            Some((table.variants.get(*variant)?.settings, table.loads.get(*load)?.clone()))
        };
        let cells: Vec<(Settings, String)> =
            table.wanted().iter().take(MOST_MEASURED).filter_map(cell).collect();
        if cells.is_empty() {
            let text = match table.loads.is_empty() {
                true => "Nothing with a score has run yet: climb first.",
                false => {
                    "Nothing is left to measure: each difference is clear, shown to be absent, or was measured often."
                }
            };
            self.told(text.to_owned());
            return;
        }
        let time = Seconds(MEASURED.value() * cells.len() as f64);
        let most = table.rounds_at_most();
        let again = match most {
            1 => String::new(),
            most => format!(
                " What is not clear then runs again, until every difference is clear or shown to be absent: at most {} in all.",
                Seconds(time.value() * most as f64).in_words()
            ),
        };
        self.overlay = Some(Overlay::Ask(Question {
            what: format!("Measure {}?", counted(cells.len(), "run")),
            consequence: format!(
                "About {} and the warm-up: the settings by turns under each load, with the fan of the climb.{again}",
                time.in_words()
            ),
            yes: Yes::Send(Command::Measure(cells)),
        }));
    }

    /// The settings that a page would be about: those selected in Proof, or picked in Weigh.
    pub(super) fn page_about(&self, snapshot: &Snapshot) -> Option<Profile> {
        match self.view {
            View::Weigh => {
                let point = self.weigh.point()?;
                let (climb, trial) = point.newest;
                let name = format!("trial {trial} of climb {climb}");
                Some(Profile::new(name, point.settings, Origin::ByHand))
            }
            _ => self.proof.selected(snapshot).map(|of| of.view.profile.clone()),
        }
    }

    /// Asks where the chart of the view is to be saved.
    fn ask_for_chart(&mut self, snapshot: &Snapshot) {
        let climb = snapshot.climb.number;
        let file = match self.view {
            // Its bars belong to the page.
            View::Weigh if self.weigh.shows_table => {
                self.overlay = Some(page_form("before-and-after.svg".into(), "bars, table"));
                return;
            }
            View::Weigh => format!("work-against-{}.svg", self.weigh.cost),
            View::Proof => format!("soak-of-climb-{climb}.svg"),
            View::Trace => match self.trace.shown(snapshot).and_then(|shown| shown.run) {
                Some(run) => format!("climb-{}-trial-{}.svg", run.climb, run.number),
                None => "trace.svg".into(),
            },
            View::Shape => "curve.svg".into(),
            View::Air => "fan.svg".into(),
            _ => format!("climb-{climb}.svg"),
        };
        self.overlay = Some(path_of(FileUse::Chart, file));
    }

    /// The chart of the view, to be written to a file.
    pub(super) fn export_chart(&mut self, snapshot: &Snapshot, path: PathBuf) -> Outcome {
        let card = &snapshot.machine.card;
        let sheet = |sheet: Option<Sheet>| sheet.map(|sheet| Ok(sheet.to_svg()));
        let (what, drawn) = match self.view {
            View::Weigh => {
                let load = self.weigh.load.clone().unwrap_or_default();
                (
                    what_is_drawn(&self.weigh.frontier),
                    Some(draw_frontier(card, &load, &self.weigh.frontier)),
                )
            }
            View::Proof => {
                let soaked = self.proof.soaked(snapshot);
                ("The chart of the soak".into(), soaked.map(|soaked| draw_soak(card, soaked)))
            }
            View::Trace => ("The trace".into(), sheet(trace::sheet::sheet(&self.trace, snapshot))),
            View::Shape => ("The curve".into(), sheet(shape::sheet::sheet(&self.shape, snapshot))),
            View::Air => {
                ("The chart of the fan".into(), sheet(air::sheet::sheet(&self.air, snapshot)))
            }
            _ => {
                let drawn = climb::sheet::sheet(snapshot, self.chart);
                ("The chart of the climb".into(), sheet(Some(drawn)))
            }
        };
        match drawn {
            Some(Ok(svg)) => return Outcome::ExportChart { what, svg, path },
            Some(Err(error)) => self.told(format!("{error}.")),
            None => self.told("There is nothing to be drawn.".to_owned()),
        }
        Outcome::Nothing
    }

    /// Takes in what came of a change in the ledger; whether the session should read its lists again.
    pub(crate) fn done(&mut self, done: Done) -> bool {
        if matches!(done.change, Change::Weigh { .. }) {
            self.weigh.noted(&done.told);
        }
        self.ledger.done(done)
    }

    /// Goes to Shape with the settings of the trial selected in Ledger.
    fn shape_selected_trial(&mut self, snapshot: &Snapshot) {
        let Some(detail) = self.ledger.detail() else { return };
        let line = &detail.line;
        if detail.card.key() != snapshot.machine.card.key() {
            self.ledger.told = Some(format!(
                "It ran on {}, unit {}: choose that card first, with c.",
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
        let shown = snapshot.shown().filter(|run| run.climb == snapshot.climb.number);
        let from = shown.map_or(u32::MAX, |run| run.number);
        let mut spoilt = snapshot.climb.trials.iter().filter(|trial| trial.seen.wrong_frames > 0);
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
    if snapshot.climb.culprits.as_ref().is_some_and(|(_, culprits)| culprits.next.is_some()) {
        return None;
    }
    let looked = snapshot.looked_here();
    let failed = |trial: &&TrialRecord| trial.verdict().meaning() == Meaning::TooMuch;
    let newest = || snapshot.climb.trials.iter().rev().find(failed).map(|trial| trial.number);
    looked.or_else(newest)
}

/// The newest trial that has spoilt frames, where the one that is shown has none.
fn newest_spoilt(snapshot: &Snapshot) -> Option<u32> {
    let has_some = snapshot.shown().is_some_and(|run| !run.spoilt.is_empty());
    if has_some || snapshot.runs.activity != Activity::Waiting {
        return None;
    }
    let spoilt = snapshot.climb.trials.iter().rev().find(|trial| trial.seen.wrong_frames > 0);
    spoilt.map(|trial| trial.number)
}

/// The trial to be laid over next: the one before the one that is now, and none after the first.
fn next_laid_over(snapshot: &Snapshot) -> Option<u32> {
    // Only trials of the present climb are laid over.
    let last = snapshot.climb.trials.last().map(|trial| trial.number + 1);
    let shown =
        snapshot.shown().filter(|run| run.climb == snapshot.climb.number).map(|run| run.number);
    let present = snapshot.runs.laid_over.as_ref().map(|run| run.number).or(shown).or(last)?;
    let earlier = |trial: &&yard_step_core::TrialRecord| trial.number < present;
    snapshot.climb.trials.iter().rev().find(earlier).map(|trial| trial.number)
}
