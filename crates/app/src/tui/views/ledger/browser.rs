//! Looks through the ledger on a thread of its own, so that the screen never waits for a search.
//!
//! ```text
//!   LedgerState ── Ask, Change ──► browser ── Found, Done ──► LedgerState
//!                                   │  │
//!                     looks: reader ┘  └ changes: the ledger itself
//! ```
//!
//! Of several questions that wait, only the newest is answered; changes are all carried out, in
//! their order.

use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;

use yard_step_core::{
    CardDescription, Next, Origin, Percent, Profile, Settings, VariantTable, WeighNote, WeighNotes,
    Weighed, counted,
};
use yard_step_engine::ProfileView;
use yard_step_ledger::{
    Choices, ClimbLine, Filter, Ledger, LedgerError, Order, SortBy, TrialDetail, TrialLine,
};

use crate::exchange::page::side_by_side;
use crate::exchange::profile;
use crate::output::write_new;

/// Lines that are fetched around the selected one, on either side.
const FETCHED: usize = 200;

/// Lines that a screen may show around the selected one, on either side.
const SHOWN: usize = 100;

/// What is said of a deletion.
const DELETED: &str = "Deleted. z brings it back.";

/// What is listed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum List {
    /// Trials.
    #[default]
    Trials,
    /// Climbs.
    Climbs,
    /// Profiles of the present card, which come with the snapshot.
    Profiles,
}

/// What the view wants to show.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Ask {
    /// What is listed.
    pub list: List,
    /// Which trials; of climbs, only whether deleted ones are wanted.
    pub filter: Filter,
    /// In which order the trials come.
    pub order: Order,
    /// Place of the selected line.
    pub place: usize,
    /// Row of the selected trial, or number of the selected climb: it stays selected where its place
    /// changes.
    pub id: Option<i64>,
    /// Changes whenever what was found before may be out of date.
    pub edition: u64,
}

impl Ask {
    /// Whether another look through the ledger is needed to answer this after `before`.
    fn asks_anew(&self, before: &Self) -> bool {
        (self.list, self.edition, self.order) != (before.list, before.edition, before.order)
            || self.filter != before.filter
    }
}

/// What was found.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Found {
    /// What was asked.
    pub ask: Ask,
    /// How many lines the list has.
    pub total: usize,
    /// Place of the selected line.
    pub place: usize,
    /// Row of the selected trial, or number of the selected climb.
    pub id: Option<i64>,
    /// Place of the first of the trials in [`Self::trials`].
    pub first: usize,
    /// The trials around the selected one.
    pub trials: Vec<TrialLine>,
    /// The climbs, all of them.
    pub climbs: Arc<Vec<ClimbLine>>,
    /// The selected trial as a whole.
    pub trial: Option<Box<TrialDetail>>,
    /// What the selected climb came to, in a sentence.
    pub outcome: Option<String>,
    /// What there is to choose from.
    pub choices: Arc<Choices>,
}

/// Something to be changed in the ledger, or written down from it.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// Write a note on the trial in a row.
    NoteTrial(i64, String),
    /// Write a note on a climb.
    NoteClimb(i64, String),
    /// Flag the trial in a row, or take its flag away.
    Flag(i64, bool),
    /// Delete the trial in a row.
    RemoveTrial(i64),
    /// Delete a climb.
    RemoveClimb(i64),
    /// Bring the trial in a row back.
    RestoreTrial(i64),
    /// Bring a climb back.
    RestoreClimb(i64),
    /// Delete for good all that was deleted.
    Empty,
    /// Write the trials that a filter lets through to a file.
    Export(Box<Filter>, Order, PathBuf),
    /// Write a profile to a file.
    ExportProfile {
        /// Its card.
        card: Box<CardDescription>,
        /// The profile.
        view: Box<ProfileView>,
        /// The file.
        path: PathBuf,
    },
    /// Note what stands beside before and after of a card.
    Weigh {
        /// The card.
        card: Box<CardDescription>,
        /// What is noted.
        notes: Vec<WeighNote>,
    },
    /// Read a profile from a file, as a starting point.
    ImportProfile {
        /// The card it is for.
        card: Box<CardDescription>,
        /// The file.
        path: PathBuf,
        /// Share of the way from stock that is taken off.
        share: Percent,
    },
}

/// What came of a change.
#[derive(Debug, Clone, PartialEq)]
pub struct Done {
    /// The change.
    pub change: Change,
    /// What there is to say: what was done, or why it was not.
    pub told: Result<String, String>,
}

/// What Weigh shows of a card.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct WeighedCard {
    /// Everything that was run on it.
    pub runs: Vec<Weighed>,
    /// Stock beside other settings.
    pub table: VariantTable,
    /// What the user holds beside.
    pub notes: WeighNotes,
}

/// What the browser answers.
#[derive(Debug, Clone, PartialEq)]
pub enum Answer {
    /// What was found; or why nothing could be.
    Found(Result<Box<Found>, String>),
    /// What came of a change.
    Done(Done),
    /// What was run on a card; or why it could not be read.
    Weighed(Result<WeighedCard, String>),
}

enum Wish {
    Ask(Box<Ask>),
    Change(Change),
    Weigh(Box<CardDescription>),
}

/// The way to the browser's thread, which ends with it.
pub struct Browser {
    wishes: Sender<Wish>,
}

impl Browser {
    /// Starts the thread. `answer` is called with each of its answers.
    ///
    /// # Errors
    /// The ledger cannot be opened for reading.
    pub fn start(
        ledger: Ledger,
        answer: impl FnMut(Answer) + Send + 'static,
    ) -> Result<Self, LedgerError> {
        let reader = ledger.reader()?;
        let (wishes, inbox) = channel();
        let desk = Desk { reader, ledger, rows: Vec::new(), found: Found::default(), known: false };
        thread::spawn(move || desk.serve(&inbox, answer));
        Ok(Self { wishes })
    }

    /// Asks for what is to be shown; a question asked before that has no answer yet is forgotten.
    pub fn ask(&self, ask: Ask) {
        // A browser that is gone has told why.
        let _ = self.wishes.send(Wish::Ask(Box::new(ask)));
    }

    /// Asks for everything that was run on a card.
    pub fn weigh(&self, card: Box<CardDescription>) {
        let _ = self.wishes.send(Wish::Weigh(card));
    }

    /// Has something changed.
    pub fn change(&self, change: Change) {
        let _ = self.wishes.send(Wish::Change(change));
    }
}

struct Desk {
    reader: Ledger,
    ledger: Ledger,
    /// The rows of the trials found last, in order.
    rows: Vec<i64>,
    found: Found,
    /// Whether anything was found yet.
    known: bool,
}

impl Desk {
    fn serve(mut self, inbox: &Receiver<Wish>, mut answer: impl FnMut(Answer)) {
        while let Ok(first) = inbox.recv() {
            let mut newest = None;
            for wish in std::iter::once(first).chain(inbox.try_iter()) {
                match wish {
                    Wish::Ask(ask) => newest = Some(ask),
                    Wish::Weigh(card) => {
                        answer(Answer::Weighed(weigh(&self.reader, &card)));
                    }
                    Wish::Change(change) => {
                        let told = self.carry_out(&change).map_err(|cause| sentence(&cause));
                        answer(Answer::Done(Done { change, told }));
                    }
                }
            }
            if let Some(ask) = newest {
                let found = self.look(*ask).map_err(|error| sentence(&error.to_string()));
                answer(Answer::Found(found.map(|()| Box::new(self.found.clone()))));
            }
        }
    }

    fn look(&mut self, ask: Ask) -> Result<(), LedgerError> {
        let anew = !self.known || ask.asks_anew(&self.found.ask);
        let moved = anew || (ask.place, ask.id) != (self.found.place, self.found.id);
        if anew {
            self.known = false;
            self.found.choices = Arc::new(self.reader.choices()?);
            match ask.list {
                List::Trials => self.rows = self.reader.find(&ask.filter, ask.order)?,
                List::Profiles => self.rows.clear(),
                List::Climbs => {
                    let mut climbs = self.reader.climb_lines(ask.filter.removed)?;
                    climbs.retain(|climb| lets_through(&ask.filter, climb));
                    sort_climbs(&mut climbs, ask.order);
                    self.found.climbs = Arc::new(climbs);
                    self.rows = self.found.climbs.iter().map(|line| line.id).collect();
                }
            }
            self.known = true;
        }
        let found = &mut self.found;
        found.total = self.rows.len();
        let last = found.total.saturating_sub(1);
        found.place = ask.place.min(last);
        if let Some(id) = ask.id.filter(|_| anew) {
            let same = self.rows.iter().position(|row| *row == id);
            found.place = same.unwrap_or(found.place);
        }
        found.id = self.rows.get(found.place).copied();
        if moved && ask.list == List::Trials {
            let range = around(found.place, found.total, FETCHED);
            let near = around(found.place, found.total, SHOWN);
            let covered = found.first..found.first + found.trials.len();
            if anew || near.start < covered.start || near.end > covered.end {
                found.first = range.start;
                found.trials = self.reader.lines(self.rows.get(range).unwrap_or_default())?;
            }
            let trial = found.id.map(|row| self.reader.trial(row)).transpose()?;
            found.trial = trial.flatten().map(Box::new);
        }
        if moved && ask.list == List::Climbs {
            found.outcome = found.id.map(|id| outcome(&self.reader, id)).transpose()?;
        }
        found.ask = ask;
        Ok(())
    }

    fn carry_out(&self, change: &Change) -> Result<String, String> {
        let ledger = &self.ledger;
        let failed = |error: LedgerError| error.to_string();
        let noted = |note: &str| if note.is_empty() { "The note is gone." } else { "Noted." };
        let (done, told) = match change {
            Change::NoteTrial(row, note) => (ledger.note_trial(*row, note), noted(note)),
            Change::NoteClimb(climb, note) => (ledger.note_climb(*climb, note), noted(note)),
            Change::Flag(row, true) => (ledger.flag_trial(*row, true), "Flagged."),
            Change::Flag(row, false) => (ledger.flag_trial(*row, false), "The flag is gone."),
            Change::RemoveTrial(row) => (ledger.remove_trial(*row), DELETED),
            Change::RemoveClimb(climb) => (ledger.remove_climb(*climb), DELETED),
            Change::RestoreTrial(row) => (ledger.restore_trial(*row), "Brought back."),
            Change::RestoreClimb(climb) => (ledger.restore_climb(*climb), "Brought back."),
            Change::Empty => {
                let emptied = ledger.empty_removed().map_err(failed)?;
                return Ok(format!(
                    "Gone for good: {} and {}.",
                    counted(emptied.climbs, "climb"),
                    counted(emptied.trials, "single trial")
                ));
            }
            Change::Export(filter, order, path) => {
                let rows = self.reader.find(filter, *order).map_err(failed)?;
                let lines = self.reader.lines(&rows).map_err(failed)?;
                return write_list(&lines, path);
            }
            Change::ExportProfile { card, view, path } => return profile::export(card, view, path),
            Change::Weigh { card, notes } => return note_beside(ledger, card, notes),
            Change::ImportProfile { card, path, share } => {
                return profile::import(ledger, card, path, *share, None);
            }
        };
        done.map(|()| told.to_owned()).map_err(failed)
    }
}

/// The lines around a place, so many on either side.
fn around(place: usize, total: usize, many: usize) -> Range<usize> {
    place.saturating_sub(many)..(place + many + 1).min(total)
}

/// Whether a filter lets a climb through, as far as it is about climbs: their card, number and words.
fn lets_through(filter: &Filter, climb: &ClimbLine) -> bool {
    let said = [&climb.key, &climb.card, climb.state.label(), &climb.profiles, &climb.note];
    let said = said.join(" ").to_lowercase();
    filter.card.as_ref().is_none_or(|key| *key == climb.key)
        && filter.climb.is_none_or(|id| id == climb.id)
        && filter.search.words.iter().all(|word| said.contains(word))
}

/// Puts climbs in an order that is meant for trials: what a climb has no figure for, it has by time.
fn sort_climbs(climbs: &mut [ClimbLine], order: Order) {
    climbs.sort_by(|a, b| {
        let rising = match order.by {
            SortBy::Length => a.under_load.value().total_cmp(&b.under_load.value()),
            SortBy::Verdict => a.failed.cmp(&b.failed),
            _ => a.id.cmp(&b.id),
        };
        let rising = rising.then(a.id.cmp(&b.id));
        if order.descending { rising.reverse() } else { rising }
    });
}

/// What a climb came to, or what it waits for.
fn outcome(ledger: &Ledger, id: i64) -> Result<String, LedgerError> {
    let entry = ledger.climb(id)?;
    Ok(match entry.lay_out() {
        Err(error) => error.to_string(),
        Ok(climb) => match climb.next() {
            Next::Ended(outcome) => yard_step_words::outcome(&outcome),
            Next::Stuck(why) => yard_step_words::stuck(&why),
            Next::Trial(proposal) => {
                format!(
                    "In stage {}. Next: {}",
                    climb.stage(),
                    yard_step_words::reason(&proposal.reason)
                )
            }
        },
    })
}

fn write_list(lines: &[TrialLine], path: &Path) -> Result<String, String> {
    let text = yard_step_report::trial_list_csv(lines).map_err(|error| error.to_string())?;
    write_new(path, text.as_bytes())?;
    Ok(format!("{} are in {}.", counted(lines.len(), "trial"), path.display()))
}

/// With a capital at the beginning.
fn sentence(text: &str) -> String {
    let mut characters = text.chars();
    characters
        .next()
        .map_or(String::new(), |first| first.to_uppercase().chain(characters).collect())
}

/// Notes what stands beside before and after; nothing of it where one of the notes cannot be.
fn note_beside(
    ledger: &Ledger,
    card: &CardDescription,
    notes: &[WeighNote],
) -> Result<String, String> {
    let mut held = ledger.weigh_notes(card).map_err(|error| error.to_string())?;
    let told: Result<Vec<String>, _> = notes.iter().map(|note| held.change(note)).collect();
    let told = told.map_err(|why| format!("not noted: {why}."))?;
    ledger.set_weigh_notes(card, &held).map_err(|error| error.to_string())?;
    Ok(told.last().cloned().unwrap_or_default())
}

/// Everything run on a card, and stock beside its profiles: the one in use first, else the newest.
fn weigh(reader: &Ledger, card: &CardDescription) -> Result<WeighedCard, String> {
    let failed = |error: &dyn std::fmt::Display| sentence(&error.to_string());
    let runs = reader.weighed(card).map_err(|error| failed(&error))?;
    let mut profiles = reader.profiles(card).map_err(|error| failed(&error))?;
    profiles.sort_by_key(|profile| !profile.in_use);
    let stock = || Profile::new("stock", Settings::stock(card), Origin::ByHand);
    let about = profiles.into_iter().next().unwrap_or_else(stock);
    let notes = reader.weigh_notes(card).map_err(|error| failed(&error))?;
    let table = side_by_side(reader, card, &about, &notes);
    let (table, _) = table.map_err(|failure| sentence(failure.text()))?;
    Ok(WeighedCard { runs, table, notes })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{card, ended_trials};
    use rstest::{fixture, rstest};
    use std::sync::mpsc::Receiver;
    use tempfile::TempDir;
    use yard_step_core::Seconds;
    use yard_step_core::Verdict;
    use yard_step_ledger::{ClimbState, DataDir};

    struct Room {
        dir: TempDir,
        ledger: Ledger,
        browser: Browser,
        answers: Receiver<Answer>,
    }

    /// A browser on a ledger of a climb with six trials.
    #[fixture]
    fn room() -> Room {
        let dir = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
        ended_trials(&ledger, 6);
        let (answer, answers) = channel();
        let browser = Browser::start(ledger.clone(), move |a| answer.send(a).unwrap()).unwrap();
        Room { dir, ledger, browser, answers }
    }

    impl Room {
        fn found(&self, ask: &Ask) -> Found {
            self.browser.ask(ask.clone());
            match self.answers.recv().unwrap() {
                Answer::Found(found) => *found.unwrap(),
                other => panic!("{other:?}"),
            }
        }

        fn done(&self, change: Change) -> Result<String, String> {
            self.browser.change(change.clone());
            match self.answers.recv().unwrap() {
                Answer::Done(done) => {
                    assert_eq!(done.change, change);
                    done.told
                }
                other => panic!("{other:?}"),
            }
        }
    }

    #[rstest]
    fn the_selected_trial_stays_selected_where_the_order_changes(room: Room) {
        let ask = Ask { place: 1, ..Ask::default() };
        let found = room.found(&ask);
        assert_eq!((found.total, found.place, found.id), (6, 1, Some(5)));
        assert_eq!(found.trials.iter().map(|line| line.id).collect::<Vec<_>>(), [6, 5, 4, 3, 2, 1]);
        assert_eq!(found.trial.unwrap().line.id, 5);
        let order = Order { by: SortBy::Climb, descending: false };
        let turned = room.found(&Ask { order, id: found.id, ..ask });
        assert_eq!((turned.place, turned.id), (4, Some(5)));
    }

    #[rstest]
    fn what_changed_is_seen_once_it_is_asked_for_anew(room: Room) {
        let ask = Ask { id: Some(4), ..Ask::default() };
        assert_eq!(room.found(&ask).place, 2);
        assert_eq!(room.done(Change::Flag(4, true)).unwrap(), "Flagged.");
        let flagged = Filter { flagged: true, ..Filter::default() };
        let found = room.found(&Ask { filter: flagged, edition: 1, ..ask.clone() });
        assert_eq!((found.total, found.id), (1, Some(4)));
        assert_eq!(room.done(Change::RemoveTrial(4)).unwrap(), "Deleted. z brings it back.");
        let left = room.found(&Ask { place: 2, edition: 2, ..ask });
        assert_eq!((left.total, left.place, left.id), (5, 2, Some(3)), "the next one is selected");
        assert_eq!((left.choices.trials, left.choices.removed), (5, 1));
    }

    #[rstest]
    fn climbs_are_listed_with_what_the_selected_one_came_to(room: Room) {
        let ask = Ask { list: List::Climbs, ..Ask::default() };
        let found = room.found(&ask);
        assert_eq!((found.total, found.id, found.climbs[0].trials), (1, Some(1), 6));
        let outcome = found.outcome.unwrap();
        assert!(outcome.starts_with("In stage "), "{outcome}");
        let refused = room.done(Change::RemoveClimb(1)).unwrap_err();
        assert!(refused.starts_with("Climb 1, which is open cannot be deleted."), "{refused}");
        room.done(Change::NoteClimb(1, "in summer".into())).unwrap();
        assert_eq!(room.found(&Ask { edition: 1, ..ask }).climbs[0].note, "in summer");
    }

    #[rstest]
    #[case("", SortBy::Time, true, &[3, 2, 1])]
    #[case("", SortBy::Time, false, &[1, 2, 3])]
    #[case("", SortBy::Length, true, &[2, 3, 1])]
    #[case("", SortBy::Verdict, true, &[1, 3, 2])]
    #[case("ended tarn", SortBy::Time, true, &[3, 1])]
    #[case("SUMMER", SortBy::Time, true, &[2])]
    fn climbs_are_searched_and_sorted(
        #[case] search: &str,
        #[case] by: SortBy,
        #[case] descending: bool,
        #[case] ids: &[i64],
    ) {
        let line = |id, card: &str, hours: f64, failed, note: &str| ClimbLine {
            id,
            key: format!("standin:{card}#1"),
            card: card.into(),
            serial: "1".into(),
            state: ClimbState::Ended,
            began: id,
            trials: 9,
            failed,
            under_load: Seconds(hours * 3_600.0),
            profiles: String::new(),
            note: note.into(),
        };
        let mut climbs = vec![
            line(1, "Tarn", 1.0, 5, ""),
            line(2, "Quern", 3.0, 0, "Summer"),
            line(3, "Tarn", 2.0, 1, ""),
        ];
        let filter = Filter { search: search.parse().unwrap(), ..Filter::default() };
        climbs.retain(|climb| lets_through(&filter, climb));
        sort_climbs(&mut climbs, Order { by, descending });
        assert_eq!(climbs.iter().map(|climb| climb.id).collect::<Vec<_>>(), ids);
    }

    #[rstest]
    fn of_several_questions_the_last_is_answered_and_no_change_is_lost(room: Room) {
        // While the ledger is busy with the first change, the others come in.
        for row in 1..=6 {
            room.browser.change(Change::Flag(row, true));
            room.browser.ask(Ask { place: row as usize, ..Ask::default() });
        }
        let (mut changes, mut last) = (0, None);
        while changes < 6 || last != Some(5) {
            match room.answers.recv().unwrap() {
                Answer::Done(done) => changes += usize::from(done.told.is_ok()),
                Answer::Found(found) => last = Some(found.unwrap().place),
                Answer::Weighed(runs) => panic!("{runs:?}"),
            }
        }
        let lines = room.ledger.lines(&[1, 2, 3, 4, 5, 6]).unwrap();
        assert!(lines.iter().all(|line| line.flagged));
    }

    #[rstest]
    fn what_was_run_is_read_to_be_weighed_but_for_what_was_deleted(room: Room) {
        let weighed = || {
            room.browser.weigh(Box::new(card()));
            match room.answers.recv().unwrap() {
                Answer::Weighed(card) => card.unwrap().runs,
                other => panic!("{other:?}"),
            }
        };
        let runs = weighed();
        assert_eq!(runs.len(), 6);
        assert_eq!(runs[0].fan, Some(Percent(100.0)));
        assert!(runs.iter().any(|run| run.verdict == Verdict::Artifacts));
        room.done(Change::RemoveTrial(1)).unwrap();
        assert_eq!(weighed().len(), 5);
    }

    #[rstest]
    fn a_profile_goes_through_a_file_and_comes_back_cut_back(room: Room) {
        let path = room.dir.path().join("last-autumn.json");
        let view = Box::new(crate::tui::fixtures::snapshot().machine.profiles.remove(0));
        let export = Change::ExportProfile { card: Box::new(card()), view, path: path.clone() };
        assert!(room.done(export.clone()).unwrap().starts_with("Profile \"last autumn\" is in "));
        assert!(room.done(export).unwrap_err().contains("is there already"));
        let import = Change::ImportProfile { card: Box::new(card()), path, share: Percent(34.0) };
        let told = room.done(import.clone()).unwrap();
        assert!(told.contains("cut back by 34 %: core +15 MHz"), "{told}");
        assert!(room.done(import).unwrap().contains("Imported as \"last autumn 2\""));
        let kept = room.ledger.profiles(&card()).unwrap();
        assert_eq!(kept.len(), 2);
        assert!(kept.iter().all(|profile| !profile.in_use && !profile.confirmed));
    }

    #[rstest]
    fn the_list_is_written_and_no_file_is_written_over(room: Room) {
        let path = room.dir.path().join("trials.csv");
        let clean = Filter { verdict: Some(Verdict::Clean), ..Filter::default() };
        let export = Change::Export(Box::new(clean), Order::default(), path.clone());
        assert!(room.done(export.clone()).unwrap().starts_with("5 trials are in "));
        assert_eq!(std::fs::read_to_string(&path).unwrap().lines().count(), 6);
        assert!(room.done(export).unwrap_err().contains("is there already and is left alone"));
        let nowhere = room.dir.path().join("no/such/place.csv");
        let refused = Change::Export(Box::default(), Order::default(), nowhere);
        assert!(room.done(refused).unwrap_err().starts_with("Cannot write "));
    }

    #[test]
    fn lines_are_fetched_around_the_selected_one_and_again_where_they_run_out() {
        assert_eq!(around(0, 10, 3), 0..4);
        assert_eq!(around(9, 10, 3), 6..10);
        assert!(around(5, 0, 3).is_empty());
    }
}
