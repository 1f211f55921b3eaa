//! What the view Ledger knows of itself: what is listed and searched for, which line is selected,
//! and what was deleted last.

use std::path::PathBuf;

use ratatui::crossterm::event::KeyCode;
use yard_step_core::compare::{Comparison, Side, compare};
use yard_step_core::{Stage, Verdict, WeighNote};
use yard_step_engine::{Activity, Command, Snapshot};
use yard_step_ledger::{ClimbLine, Filter, Order, Search, SortBy, TrialDetail, TrialLine};

use crate::tui::keys::action::{Action, Move, View};
use crate::tui::views::ledger::browser::{Ask, Change, Done, Found, List};

/// Lines that PgUp and PgDn go on by.
const PAGE: usize = 20;

/// What climbs are sorted by: time, time under load, failures.
const CLIMB_SORTS: [SortBy; 3] = [SortBy::Time, SortBy::Length, SortBy::Verdict];

/// Longest search, and longest note.
pub(crate) const LONGEST: usize = 120;

/// What a change in the session makes out of date.
type Stamp = (i64, usize, usize, bool);

/// The state.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct LedgerState {
    /// What is to be shown.
    ask: Ask,
    /// What was asked for last.
    asked: Option<Ask>,
    /// The search as it is typed.
    search: String,
    /// Why the search cannot be carried out.
    pub problem: Option<String>,
    /// What was found last.
    pub found: Option<Box<Found>>,
    /// The trial that others are compared with.
    pub held: Option<Box<TrialDetail>>,
    /// What was deleted since the start, the newest last.
    deleted: Vec<Change>,
    stamp: Option<Stamp>,
    /// The engine's answer to the last command that it was given.
    answer: Option<String>,
    /// What there is to say about the last change.
    pub told: Option<String>,
}

/// What comes of an action in the view.
#[derive(Debug, Clone, PartialEq)]
pub enum Came {
    /// Nothing but another look.
    Nothing,
    /// A command for the engine, and the view it is watched in.
    Send(Command, Option<View>),
    /// Something to be changed at once.
    Change(Change),
    /// Something to be changed after a yes: what, and what would happen.
    AskFirst(String, String, Change),
    /// Words to be typed: a search.
    TypeSearch(String),
    /// Words to be typed: a note on what is named, and the note as it is.
    TypeNote(NoteOn, String),
    /// The filter is to be chosen.
    ChooseFilter,
    /// A verdict is to be chosen for a trial.
    Mark {
        /// Its climb.
        climb: i64,
        /// Its number.
        trial: u32,
        /// The verdict it has.
        verdict: Verdict,
    },
    /// The selected trial is to be kept as a profile.
    Keep {
        /// Its climb.
        climb: i64,
        /// Its number.
        trial: u32,
    },
    /// The selected trial's settings are to be soaked.
    Prove {
        /// Its climb.
        climb: i64,
        /// Its number.
        trial: u32,
    },
    /// The selected trial's settings are to be shaped.
    Shape,
    /// A file is to be named.
    NameFile(String),
}

/// What a note is written on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoteOn {
    /// The trial in a row.
    Trial(i64),
    /// A climb.
    Climb(i64),
}

impl NoteOn {
    /// The change that writes it.
    #[must_use]
    pub fn change(self, note: String) -> Change {
        match self {
            Self::Trial(row) => Change::NoteTrial(row, note),
            Self::Climb(climb) => Change::NoteClimb(climb, note),
        }
    }
}

/// A line of the filter's panel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Row {
    Card,
    Climb,
    Stage,
    Verdict,
    Load,
    Flagged,
    Removed,
}

const ROWS: [Row; 7] =
    [Row::Card, Row::Climb, Row::Stage, Row::Verdict, Row::Load, Row::Flagged, Row::Removed];

impl LedgerState {
    /// What is listed.
    #[must_use]
    pub fn list(&self) -> List {
        self.ask.list
    }

    /// Which trials are listed.
    #[must_use]
    pub fn filter(&self) -> &Filter {
        &self.ask.filter
    }

    /// In which order.
    #[must_use]
    pub fn order(&self) -> Order {
        self.ask.order
    }

    /// The search as it was typed.
    #[must_use]
    pub fn search(&self) -> &str {
        &self.search
    }

    /// Place of the selected line.
    #[must_use]
    pub fn place(&self) -> usize {
        self.ask.place
    }

    /// How many lines there are.
    #[must_use]
    pub fn total(&self) -> usize {
        self.present().map_or(0, |found| found.total)
    }

    /// What was found, as far as it is of the list that is shown.
    fn present(&self) -> Option<&Found> {
        self.found.as_deref().filter(|found| found.ask.list == self.ask.list)
    }

    /// The trial at a place, as far as it was fetched.
    #[must_use]
    pub fn trial_at(&self, place: usize) -> Option<&TrialLine> {
        let found = self.present().filter(|_| self.ask.list == List::Trials)?;
        found.trials.get(place.checked_sub(found.first)?)
    }

    /// The climb at a place.
    #[must_use]
    pub fn climb_at(&self, place: usize) -> Option<&ClimbLine> {
        let found = self.present().filter(|_| self.ask.list == List::Climbs)?;
        found.climbs.get(place)
    }

    /// The selected trial.
    #[must_use]
    pub fn trial(&self) -> Option<&TrialLine> {
        self.trial_at(self.ask.place)
    }

    /// The selected climb.
    #[must_use]
    pub fn climb(&self) -> Option<&ClimbLine> {
        self.climb_at(self.ask.place)
    }

    /// The selected trial as a whole, once it was fetched.
    #[must_use]
    pub fn detail(&self) -> Option<&TrialDetail> {
        let whole = self.present()?.trial.as_deref()?;
        (Some(whole.line.id) == self.trial().map(|line| line.id)).then_some(whole)
    }

    /// The selected trial beside the held one, or by itself; none where one of them has no outcome.
    #[must_use]
    pub fn comparison(&self) -> Option<Comparison> {
        fn side(detail: &TrialDetail) -> Option<Side<'_>> {
            let record = detail.record.as_ref()?;
            Some(Side { card: &detail.card, record, baseline: &detail.baseline })
        }
        let detail = self.detail()?;
        let held = self.held.as_deref().unwrap_or(detail);
        Some(compare(side(held)?, side(detail)?))
    }

    /// Whether a line is selected.
    #[must_use]
    pub fn has_row(&self) -> bool {
        self.trial().is_some() || self.climb().is_some()
    }

    /// Whether something was deleted that can be brought back.
    #[must_use]
    pub fn has_removed(&self) -> bool {
        let removed = self.found.as_ref().is_some_and(|found| found.choices.removed > 0);
        removed || !self.deleted.is_empty() || (self.ask.filter.removed && self.has_row())
    }

    /// Whether something is held, searched for or filtered.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.held.is_some() || !self.search.is_empty() || self.ask.filter != Filter::default()
    }

    /// Lets go of what is held, else of the search, else of the filter.
    fn let_go(&mut self) {
        if self.held.take().is_some() {
            return;
        }
        if self.search.is_empty() {
            self.ask.filter = Filter::default();
        } else {
            self.type_search("");
        }
    }

    /// What has to be asked of the browser for the view to be up to date; none where it is.
    pub fn wants(&mut self, snapshot: &Snapshot) -> Option<Ask> {
        let marked = snapshot.climb.trials.iter().filter(|trial| trial.marked.is_some()).count();
        let running = snapshot.runs.activity == Activity::Running;
        let stamp = (snapshot.climb.number, snapshot.climb.trials.len(), marked, running);
        let before = self.stamp.replace(stamp);
        if before != Some(stamp) {
            self.ask.edition += 1;
        }
        if self.answer != snapshot.answer {
            self.answer.clone_from(&snapshot.answer);
            // What was answered before the list was looked at is no news here.
            if before.is_some() && self.answer.is_some() {
                self.told.clone_from(&self.answer);
                self.ask.edition += 1;
            }
        }
        if self.asked.as_ref() == Some(&self.ask) {
            return None;
        }
        self.asked = Some(self.ask.clone());
        self.asked.clone()
    }

    /// Takes in what was found, unless something else was asked for since.
    pub fn take(&mut self, found: Result<Box<Found>, String>) {
        match found {
            Err(why) => self.told = Some(why),
            Ok(found) => {
                if self.ask == found.ask {
                    (self.ask.place, self.ask.id) = (found.place, found.id);
                    self.asked = Some(self.ask.clone());
                }
                self.found = Some(found);
            }
        }
    }

    /// Takes in what came of a change; whether the session should read its lists again.
    pub fn done(&mut self, done: Done) -> bool {
        self.ask.edition += 1;
        let (ok, text) = match done.told {
            Ok(text) => (true, text),
            Err(text) => (false, text),
        };
        self.told = Some(text);
        if !ok {
            return false;
        }
        match done.change {
            Change::RemoveTrial(_) | Change::RemoveClimb(_) => self.deleted.push(done.change),
            Change::RestoreTrial(row) => self.deleted.retain(|c| *c != Change::RemoveTrial(row)),
            Change::RestoreClimb(id) => self.deleted.retain(|c| *c != Change::RemoveClimb(id)),
            Change::Empty => self.deleted.clear(),
            Change::ImportProfile { .. } => {}
            _ => return false,
        }
        true
    }

    /// Searches for what is typed; a search that cannot be understood changes nothing and says why.
    pub fn type_search(&mut self, text: &str) {
        text.clone_into(&mut self.search);
        match text.parse::<Search>() {
            Ok(search) => {
                self.problem = None;
                // Figures are of trials.
                if !search.bounds.is_empty() && self.ask.list == List::Climbs {
                    self.list_instead(List::Trials);
                }
                self.ask.filter.search = search;
            }
            Err(error) => self.problem = Some(error.to_string()),
        }
    }

    /// Goes to a line.
    pub fn select(&mut self, place: usize) {
        self.ask.place = place.min(self.total().saturating_sub(1));
        self.ask.id = match self.ask.list {
            List::Trials => self.trial().map(|line| line.id),
            List::Climbs => self.climb().map(|line| line.id),
            List::Profiles => None,
        };
    }

    fn go(&mut self, way: Move) {
        let place = self.ask.place;
        self.select(match way {
            Move::Up => place.saturating_sub(1),
            Move::Down => place + 1,
            Move::PageUp => place.saturating_sub(PAGE),
            Move::PageDown => place + PAGE,
            Move::First => 0,
            Move::Last => usize::MAX,
        });
    }

    /// Carries out what concerns this view; `None` for what does not.
    pub fn act(&mut self, action: Action) -> Option<Came> {
        if let Action::Row(way) = action {
            self.go(way);
            return Some(Came::Nothing);
        }
        self.told = None;
        let came = match action {
            Action::Present if self.holds() => {
                self.let_go();
                Came::Nothing
            }
            Action::Present => Came::Nothing,
            Action::OtherList => {
                self.list_instead(match self.ask.list {
                    List::Trials => List::Climbs,
                    List::Climbs => List::Profiles,
                    List::Profiles => List::Trials,
                });
                Came::Nothing
            }
            Action::Search => Came::TypeSearch(self.search.clone()),
            Action::Filter => Came::ChooseFilter,
            Action::Sort => {
                let ways = match self.ask.list {
                    List::Trials => &SortBy::ALL[..],
                    List::Climbs | List::Profiles => &CLIMB_SORTS[..],
                };
                self.ask.order.by = beside(ways, self.ask.order.by, true);
                Came::Nothing
            }
            Action::Reverse => {
                self.ask.order.descending = !self.ask.order.descending;
                Came::Nothing
            }
            Action::Empty => {
                let removed = self.found.as_ref().map_or(0, |found| found.choices.removed);
                Came::AskFirst(
                    "Empty what was deleted, for good?".into(),
                    format!(
                        "{removed} trials: what was measured in them goes for good, and deleted \
                         climbs as a whole. Single trials of other climbs leave their verdict, \
                         which their climb rests on."
                    ),
                    Change::Empty,
                )
            }
            Action::BringBack => self.bring_back()?,
            Action::ExportList => Came::NameFile("trials.csv".into()),
            _ => match (self.trial().cloned(), self.climb().cloned()) {
                (Some(line), _) => self.act_on_trial(action, &line)?,
                (None, Some(line)) => self.act_on_climb(action, &line)?,
                (None, None) => return None,
            },
        };
        Some(came)
    }

    fn list_instead(&mut self, list: List) {
        (self.ask.list, self.ask.place, self.ask.id) = (list, 0, None);
    }

    fn bring_back(&self) -> Option<Came> {
        let selected = match (self.ask.filter.removed, self.trial(), self.climb()) {
            (true, Some(line), _) => Some(Change::RestoreTrial(line.id)),
            (true, None, Some(line)) => Some(Change::RestoreClimb(line.id)),
            _ => None,
        };
        let newest = || match self.deleted.last()? {
            Change::RemoveTrial(row) => Some(Change::RestoreTrial(*row)),
            Change::RemoveClimb(climb) => Some(Change::RestoreClimb(*climb)),
            _ => None,
        };
        // What was deleted before the start is chosen among the deleted.
        Some(selected.or_else(newest).map_or(Came::ChooseFilter, Came::Change))
    }

    fn act_on_trial(&mut self, action: Action, line: &TrialLine) -> Option<Came> {
        let (climb, trial) = (line.climb, line.number);
        Some(match action {
            Action::OpenRow | Action::Mark | Action::Beside if line.verdict.is_none() => {
                self.told = Some(format!("Trial {trial} has no outcome yet."));
                return Some(Came::Nothing);
            }
            Action::LoadShape => Came::Shape,
            Action::KeepTrial => Came::Keep { climb, trial },
            Action::ProveThis => Came::Prove { climb, trial },
            Action::OpenRow => Came::Send(Command::LookInto { climb, trial }, Some(View::Trace)),
            Action::StartHere => Came::Send(Command::StartFromTrial(line.id), None),
            Action::Repeat => Came::Send(Command::Repeat(line.id), Some(View::Climb)),
            Action::Flag => Came::Change(Change::Flag(line.id, !line.flagged)),
            Action::Jot => Came::TypeNote(NoteOn::Trial(line.id), line.note.clone()),
            Action::Mark => Came::Mark { climb, trial, verdict: line.verdict? },
            Action::Beside => {
                let Some(detail) = self.detail() else {
                    self.told = Some(format!("Trial {trial} is still being read: press B again."));
                    return Some(Came::Nothing);
                };
                let card = Box::new(detail.card.clone());
                let notes = vec![WeighNote::Trial(climb, trial)];
                Came::Change(Change::Weigh { card, notes })
            }
            Action::Hold => {
                let same = self.held.as_ref().is_some_and(|held| held.line.id == line.id);
                self.held = if same { None } else { self.detail().cloned().map(Box::new) };
                Came::Nothing
            }
            Action::Delete => Came::AskFirst(
                format!("Delete trial {trial} of climb {climb}?"),
                format!(
                    "It is hidden from every list; z brings it back. Climb {climb} still goes by \
                     it: mark it void with m if it should not."
                ),
                Change::RemoveTrial(line.id),
            ),
            _ => return None,
        })
    }

    fn act_on_climb(&mut self, action: Action, line: &ClimbLine) -> Option<Came> {
        let climb = line.id;
        Some(match action {
            Action::OpenRow => {
                self.ask.filter = Filter {
                    climb: Some(climb),
                    removed: self.ask.filter.removed,
                    ..Filter::default()
                };
                self.search.clear();
                self.list_instead(List::Trials);
                Came::Nothing
            }
            Action::Jot => Came::TypeNote(NoteOn::Climb(climb), line.note.clone()),
            Action::Delete => Came::AskFirst(
                format!("Delete climb {climb} with its {} trials?", line.trials),
                "They are hidden from every list; z brings them back. Profiles that were kept of \
                 it stay."
                    .into(),
                Change::RemoveClimb(climb),
            ),
            Action::Repeat
            | Action::Flag
            | Action::Hold
            | Action::Beside
            | Action::Mark
            | Action::KeepTrial
            | Action::ProveThis
            | Action::LoadShape => {
                self.told = Some("That is for trials: Enter lists those of this climb.".into());
                return Some(Came::Nothing);
            }
            _ => return None,
        })
    }

    /// Writes the list to a file.
    #[must_use]
    pub fn export(&self, path: PathBuf) -> Change {
        Change::Export(Box::new(self.ask.filter.clone()), self.ask.order, path)
    }

    /// The lines of the filter's panel.
    #[must_use]
    pub fn filter_lines(&self) -> Vec<(&'static str, String)> {
        let filter = &self.ask.filter;
        let any = || "any".to_owned();
        let choices = self.found.as_ref().map(|found| &found.choices);
        ROWS.into_iter()
            .map(|row| match row {
                Row::Card => ("card", {
                    let cards = choices.map_or(&[][..], |choices| &choices.cards);
                    let key = filter.card.as_ref();
                    let named = cards.iter().find(|(card, _)| Some(card) == key);
                    named.map_or_else(any, |(_, name)| name.clone())
                }),
                Row::Climb => ("climb", filter.climb.map_or_else(any, |id| id.to_string())),
                Row::Stage => ("stage", filter.stage.map_or_else(any, |s| s.to_string())),
                Row::Verdict => ("verdict", filter.verdict.map_or_else(any, |v| v.to_string())),
                Row::Load => ("load", filter.load.clone().unwrap_or_else(any)),
                Row::Flagged => ("flag", if filter.flagged { "flagged".into() } else { any() }),
                Row::Removed => ("deleted", {
                    let count = choices.map_or(0, |choices| choices.removed);
                    if filter.removed { format!("yes ({count} trials)") } else { "no".into() }
                }),
            })
            .collect()
    }

    /// What a key does in the filter's panel: the line that is chosen then.
    pub fn filter_key(&mut self, chosen: usize, code: KeyCode) -> usize {
        let chosen = chosen.min(ROWS.len() - 1);
        let on = match code {
            KeyCode::Up => return chosen.saturating_sub(1),
            KeyCode::Down => return (chosen + 1).min(ROWS.len() - 1),
            KeyCode::Right | KeyCode::Char(' ') => true,
            KeyCode::Left => false,
            KeyCode::Backspace => {
                let search = self.ask.filter.search.clone();
                self.ask.filter = Filter { search, ..Filter::default() };
                return chosen;
            }
            _ => return chosen,
        };
        let choices = self.found.as_ref().map(|found| found.choices.clone()).unwrap_or_default();
        let filter = &mut self.ask.filter;
        match ROWS[chosen] {
            Row::Card => {
                let keys: Vec<String> = choices.cards.iter().map(|(key, _)| key.clone()).collect();
                filter.card = choose(&keys, filter.card.take(), on);
            }
            Row::Climb => filter.climb = choose(&choices.climbs, filter.climb, on),
            Row::Stage => {
                let mut stages = Stage::PLANNED.to_vec();
                stages.push(Stage::Own);
                filter.stage = choose(&stages, filter.stage, on);
            }
            Row::Verdict => filter.verdict = choose(&Verdict::ALL, filter.verdict, on),
            Row::Load => filter.load = choose(&choices.loads, filter.load.take(), on),
            Row::Flagged => filter.flagged = !filter.flagged,
            Row::Removed => filter.removed = !filter.removed,
        }
        chosen
    }
}

/// The value after or before one in a list, with none between its ends.
fn choose<T: Clone + PartialEq>(all: &[T], value: Option<T>, on: bool) -> Option<T> {
    let place = value.and_then(|value| all.iter().position(|other| *other == value));
    let next = match (place, on) {
        (None, true) => Some(0),
        (None, false) => all.len().checked_sub(1),
        (Some(place), true) => Some(place + 1),
        (Some(place), false) => place.checked_sub(1),
    };
    all.get(next?).cloned()
}

/// The value after or before one in a list, round its ends.
pub(crate) fn beside<T: Copy + PartialEq>(all: &[T], value: T, on: bool) -> T {
    let place = all.iter().position(|other| *other == value).unwrap_or(0);
    let step = if on { 1 } else { all.len() - 1 };
    all[(place + step) % all.len()]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{ended_trials, snapshot};
    use crate::tui::views::ledger::browser::Browser;
    use rstest::{fixture, rstest};
    use std::sync::mpsc::channel;
    use yard_step_ledger::{DataDir, Ledger};

    /// The state of a view on a ledger of a climb with six trials, the fifth of them selected.
    #[fixture]
    fn state() -> LedgerState {
        let mut state = LedgerState::default();
        up_to_date(&mut state);
        state.select(1);
        up_to_date(&mut state);
        state
    }

    /// Has a browser find what the state wants, in a ledger that is made for that alone.
    fn up_to_date(state: &mut LedgerState) {
        let dir = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
        ended_trials(&ledger, 6);
        let (answer, answers) = channel();
        let browser = Browser::start(ledger, move |a| answer.send(a).unwrap()).unwrap();
        browser.ask(state.wants(&snapshot()).unwrap());
        let crate::tui::views::ledger::browser::Answer::Found(found) = answers.recv().unwrap()
        else {
            panic!()
        };
        state.take(found);
    }

    #[rstest]
    fn nothing_is_asked_for_twice_and_a_new_trial_is_asked_for(mut state: LedgerState) {
        let mut snapshot = snapshot();
        assert_eq!(state.wants(&snapshot), None);
        let mut trials = (*snapshot.climb.trials).clone();
        trials.pop();
        snapshot.climb.trials = trials.into();
        let ask = state.wants(&snapshot).unwrap();
        assert_eq!((ask.place, ask.id), (1, Some(5)), "and what was selected stays so");
        assert_eq!(state.wants(&snapshot), None);
    }

    #[rstest]
    fn what_the_engine_answers_is_told_and_the_list_looked_through_again(mut state: LedgerState) {
        let edition = state.ask.edition;
        let told = "Trial 5 of climb 1 is marked void; the climb goes by that.";
        let answered = Snapshot { answer: Some(told.into()), ..snapshot() };
        assert_eq!(state.wants(&answered).map(|ask| ask.edition), Some(edition + 1));
        assert_eq!(state.told.as_deref(), Some(told));
        state.told = None;
        assert_eq!(state.wants(&answered), None, "once");
        assert_eq!(state.told, None);
    }

    #[rstest]
    #[case(Move::Up, 0)]
    #[case(Move::Down, 2)]
    #[case(Move::PageUp, 0)]
    #[case(Move::PageDown, 5)]
    #[case(Move::First, 0)]
    #[case(Move::Last, 5)]
    fn the_list_is_gone_through(mut state: LedgerState, #[case] way: Move, #[case] place: usize) {
        assert_eq!(state.act(Action::Row(way)), Some(Came::Nothing));
        assert_eq!(state.place(), place);
        assert_eq!(state.trial().map(|line| line.number as usize), Some(6 - place));
    }

    #[rstest]
    #[case(Action::OpenRow, Came::Send(Command::LookInto { climb: 1, trial: 5 }, Some(View::Trace)))]
    #[case(Action::StartHere, Came::Send(Command::StartFromTrial(5), None))]
    #[case(Action::Repeat, Came::Send(Command::Repeat(5), Some(View::Climb)))]
    #[case(Action::Flag, Came::Change(Change::Flag(5, true)))]
    #[case(Action::ProveThis, Came::Prove { climb: 1, trial: 5 })]
    #[case(Action::Jot, Came::TypeNote(NoteOn::Trial(5), String::new()))]
    #[case(Action::Mark, Came::Mark { climb: 1, trial: 5, verdict: Verdict::Clean })]
    #[case(Action::Search, Came::TypeSearch(String::new()))]
    #[case(Action::ExportList, Came::NameFile("trials.csv".into()))]
    #[case(Action::BringBack, Came::ChooseFilter)]
    fn an_action_concerns_the_selected_trial(
        mut state: LedgerState,
        #[case] action: Action,
        #[case] came: Came,
    ) {
        assert_eq!(state.act(action), Some(came));
    }

    #[rstest]
    fn what_does_not_concern_the_view_is_left_to_others(mut state: LedgerState) {
        assert_eq!(state.act(Action::Auto), None);
        assert_eq!(state.act(Action::Quit), None);
    }

    #[rstest]
    fn a_deletion_is_asked_first_and_the_last_one_is_brought_back(mut state: LedgerState) {
        let Some(Came::AskFirst(what, consequence, change)) = state.act(Action::Delete) else {
            panic!()
        };
        assert_eq!(what, "Delete trial 5 of climb 1?");
        assert!(consequence.contains("z brings it back"), "{consequence}");
        assert!(!state.has_removed());
        let refused = Err("The disk is full.".to_owned());
        assert!(!state.done(Done { change: change.clone(), told: refused }));
        assert_eq!(state.told.as_deref(), Some("The disk is full."));
        assert!(!state.has_removed());
        assert!(state.done(Done { change, told: Ok("Deleted.".into()) }));
        assert!(state.has_removed());
        let back = Change::RestoreTrial(5);
        assert_eq!(state.act(Action::BringBack), Some(Came::Change(back.clone())));
        state.done(Done { change: back, told: Ok("Back.".into()) });
        assert!(!state.has_removed());
    }

    #[rstest]
    fn a_trial_is_held_and_others_are_compared_with_it(mut state: LedgerState) {
        assert_eq!(state.act(Action::Hold), Some(Came::Nothing));
        assert!(state.holds());
        state.act(Action::Row(Move::Up));
        assert_eq!(state.comparison(), None, "before the other one was fetched");
        up_to_date(&mut state);
        let compared = state.comparison().unwrap();
        assert_eq!(compared.figures[0].shown(), ("1005".to_owned(), "1006".to_owned()));
        assert_eq!(compared.asked.len(), 1);
        state.act(Action::Present);
        assert_eq!((state.holds(), state.held.as_ref()), (false, None));
    }

    #[rstest]
    fn a_search_that_cannot_be_understood_leaves_the_list_as_it_is(mut state: LedgerState) {
        state.type_search("clean");
        up_to_date(&mut state);
        assert_eq!(state.total(), 5, "all but the one with artifacts");
        state.type_search("clean speed>3");
        assert!(
            state.problem.as_ref().is_some_and(|text| text.contains("not a figure of a trial"))
        );
        assert_eq!(state.wants(&snapshot()), None);
        state.type_search("score>1004.5");
        assert_eq!(state.problem, None);
        up_to_date(&mut state);
        assert_eq!(state.total(), 2);
        state.act(Action::Present);
        assert_eq!(state.search(), "", "Esc lets go of it");
    }

    #[rstest]
    fn a_filter_is_chosen_with_the_arrows(mut state: LedgerState) {
        let value = |state: &LedgerState, row: usize| state.filter_lines()[row].1.clone();
        assert_eq!(state.filter_key(0, KeyCode::Right), 0);
        assert_eq!(value(&state, 0), "Test card · 7");
        state.filter_key(0, KeyCode::Right);
        assert_eq!(value(&state, 0), "any", "round the end");
        state.filter_key(3, KeyCode::Left);
        assert_eq!(value(&state, 3), Verdict::ALL[Verdict::ALL.len() - 1].label());
        assert_eq!(state.filter_key(3, KeyCode::Down), 4);
        state.filter_key(4, KeyCode::Right);
        assert_eq!(value(&state, 4), "lantern");
        up_to_date(&mut state);
        state.filter_key(4, KeyCode::Backspace);
        assert_eq!(*state.filter(), Filter::default());
    }

    #[rstest]
    fn a_climb_opens_into_its_trials(mut state: LedgerState) {
        state.act(Action::OtherList);
        assert!(!state.has_row(), "before they were found");
        up_to_date(&mut state);
        assert_eq!(state.climb().map(|climb| climb.trials), Some(6));
        state.act(Action::Repeat);
        assert!(state.told.as_ref().is_some_and(|text| text.starts_with("That is for trials")));
        state.act(Action::OpenRow);
        assert_eq!((state.list(), state.filter().climb), (List::Trials, Some(1)));
    }

    #[rstest]
    #[case(None, true, Some(1))]
    #[case(None, false, Some(3))]
    #[case(Some(3), true, None)]
    #[case(Some(1), false, None)]
    #[case(Some(9), true, Some(1))]
    fn none_lies_between_the_ends(
        #[case] value: Option<i32>,
        #[case] on: bool,
        #[case] next: Option<i32>,
    ) {
        assert_eq!(choose(&[1, 2, 3], value, on), next);
        assert_eq!(choose(&[], value, on), None);
    }
}
