//! What lies over a view: questions, choices, texts that are typed; and what comes of a key there.

use std::path::PathBuf;

use ratatui::crossterm::event::KeyCode;
use yard_step_core::Verdict;
use yard_step_engine::{Activity, Command, KeepWhat, NextView, Snapshot};

use super::action::Action;
use super::bindings::BINDINGS;
use super::browser::Change;
use super::fields::Fields;
use super::form::{Filled, Form};
use super::ledger_state::NoteOn;
use super::profiles_state;
use super::settings_form::{Chosen, SettingsForm};
use super::stages_panel;
use super::state::{Outcome, State};
use super::widgets::entry::Entry;
use crate::input::typed_path;

/// What lies over the view.
#[derive(Debug, Clone, PartialEq)]
pub enum Overlay {
    /// All keys, from this line of them on.
    Help(usize),
    /// A question before something risky is done.
    Ask(Question),
    /// Choosing a verdict for a trial.
    Mark {
        /// Its climb.
        climb: i64,
        /// The trial.
        trial: u32,
        /// Place in the list: the verdicts, then "its own".
        chosen: usize,
    },
    /// Naming what is to be kept.
    Keep {
        /// Name, purpose and, for a trial, margin.
        form: Fields,
        /// Whose settings.
        what: KeepWhat,
    },
    /// Naming a profile to be read, and how much it is cut back.
    ImportProfile(Fields),
    /// Typing a number in Shape.
    Value {
        /// As far as it is typed.
        text: Entry,
        /// What it is for.
        label: String,
    },
    /// Typing the path of a file.
    Path {
        /// What for.
        what: FileUse,
        /// As far as it is typed.
        text: Entry,
    },
    /// Choosing among the cards of the machine.
    Cards(usize),
    /// Saying what the machine is like.
    Machine(Form),
    /// Setting what the card offers.
    Settings(Box<SettingsForm>),
    /// Saying how a run of the manual load went: place in the list of verdicts.
    Say(usize),
    /// The climb's stages, its policy and its margin: place in the list.
    Stages(usize),
    /// Typing what is searched for in Ledger.
    Search {
        /// As far as it is typed.
        text: Entry,
        /// What was searched for before.
        before: String,
    },
    /// Choosing what Ledger lists: place in the panel.
    Filter(usize),
    /// Typing a note.
    Note {
        /// What it is about.
        on: NoteOn,
        /// As far as it is typed.
        text: Entry,
    },
}

/// What a file is wanted for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileUse {
    /// To write the trace that is shown.
    Export,
    /// To read a trace made elsewhere.
    Import,
    /// To write the pictures of a spoilt frame.
    Picture,
    /// To write a list of trials.
    List,
    /// To write a profile.
    Profile,
    /// To draw the frontier.
    Frontier,
}

/// A question, and what is done on yes.
#[derive(Debug, Clone, PartialEq)]
pub struct Question {
    /// What would be done.
    pub what: String,
    /// What would happen.
    pub consequence: String,
    pub(super) yes: Yes,
}

#[derive(Debug, Clone, PartialEq)]
pub(super) enum Yes {
    Send(Command),
    Change(Change),
    Quit,
}

/// What can be said of a run that only the user sees; the machine down and a setting that was not
/// taken show by themselves.
pub const SAYABLE: [Verdict; 7] = [
    Verdict::Clean,
    Verdict::Artifacts,
    Verdict::LoadDied,
    Verdict::DriverReset,
    Verdict::Throttled,
    Verdict::Slower,
    Verdict::Void,
];

/// Longest path that can be typed.
const LONGEST_PATH: usize = 200;

/// Longest number that can be typed in Shape.
const LONGEST_NUMBER: usize = 10;

impl State {
    pub(super) fn overlay_key(
        &mut self,
        overlay: Overlay,
        code: KeyCode,
        snapshot: &Snapshot,
    ) -> Outcome {
        match (overlay, code) {
            (Overlay::Help(first), KeyCode::Down) => {
                self.overlay = Some(Overlay::Help((first + 1).min(BINDINGS.len() - 1)));
                Outcome::Nothing
            }
            (Overlay::Help(first), KeyCode::Up) => {
                self.overlay = Some(Overlay::Help(first.saturating_sub(1)));
                Outcome::Nothing
            }
            (Overlay::Search { before, .. }, KeyCode::Esc) => {
                self.ledger.type_search(&before);
                Outcome::Nothing
            }
            (_, KeyCode::Esc) | (Overlay::Help(_), _) => Outcome::Nothing,
            (Overlay::Ask(question), KeyCode::Char('y') | KeyCode::Enter) => match question.yes {
                Yes::Send(command) => Outcome::Send(command),
                Yes::Change(change) => Outcome::Change(change),
                Yes::Quit => Outcome::Quit,
            },
            (Overlay::Ask(_), KeyCode::Char('n')) => Outcome::Nothing,
            (Overlay::Mark { climb, trial, chosen }, KeyCode::Enter) => {
                let verdict = Verdict::ALL.get(chosen).copied();
                Outcome::Send(Command::Mark { climb, trial, verdict })
            }
            (Overlay::Mark { climb, trial, chosen }, KeyCode::Up) => {
                let chosen = chosen.saturating_sub(1);
                self.overlay = Some(Overlay::Mark { climb, trial, chosen });
                Outcome::Nothing
            }
            (Overlay::Mark { climb, trial, chosen }, KeyCode::Down) => {
                let chosen = (chosen + 1).min(Verdict::ALL.len());
                self.overlay = Some(Overlay::Mark { climb, trial, chosen });
                Outcome::Nothing
            }
            (Overlay::Search { .. } | Overlay::Filter(_), KeyCode::Enter) => Outcome::Nothing,
            (Overlay::Search { mut text, before }, code) => {
                text.key(code);
                self.ledger.type_search(text.text());
                self.overlay = Some(Overlay::Search { text, before });
                Outcome::Nothing
            }
            (Overlay::Filter(chosen), code) => {
                self.overlay = Some(Overlay::Filter(self.ledger.filter_key(chosen, code)));
                Outcome::Nothing
            }
            (Overlay::Note { on, text }, KeyCode::Enter) => {
                Outcome::Change(on.change(text.trimmed().to_owned()))
            }
            (Overlay::Note { on, mut text }, code) => {
                text.key(code);
                self.overlay = Some(Overlay::Note { on, text });
                Outcome::Nothing
            }
            (Overlay::Say(chosen), KeyCode::Enter) => SAYABLE
                .get(chosen)
                .map_or(Outcome::Nothing, |said| Outcome::Send(Command::Say(*said))),
            (Overlay::Say(chosen), KeyCode::Up) => {
                self.overlay = Some(Overlay::Say(chosen.saturating_sub(1)));
                Outcome::Nothing
            }
            (Overlay::Say(chosen), KeyCode::Down) => {
                self.overlay = Some(Overlay::Say((chosen + 1).min(SAYABLE.len() - 1)));
                Outcome::Nothing
            }
            (Overlay::Keep { mut form, what }, KeyCode::Enter) => {
                match profiles_state::keep_wish(&form, what) {
                    Ok(wish) => return Outcome::Send(Command::Keep(Box::new(wish))),
                    Err(problem) => form.problem = Some(problem),
                }
                self.overlay = Some(Overlay::Keep { form, what });
                Outcome::Nothing
            }
            (Overlay::Keep { mut form, what }, code) => {
                form.key(code);
                self.overlay = Some(Overlay::Keep { form, what });
                Outcome::Nothing
            }
            (Overlay::ImportProfile(mut form), KeyCode::Enter) => {
                match profiles_state::import_change(&form, snapshot) {
                    Ok(change) => return Outcome::Change(change),
                    Err(problem) => form.problem = Some(problem),
                }
                self.overlay = Some(Overlay::ImportProfile(form));
                Outcome::Nothing
            }
            (Overlay::ImportProfile(mut form), code) => {
                form.key(code);
                self.overlay = Some(Overlay::ImportProfile(form));
                Outcome::Nothing
            }
            (Overlay::Value { text, .. }, KeyCode::Enter) if !text.trimmed().is_empty() => {
                self.shape.type_in(snapshot, text.text());
                Outcome::Nothing
            }
            (Overlay::Value { mut text, label }, code) => {
                text.key(code);
                self.overlay = Some(Overlay::Value { text, label });
                Outcome::Nothing
            }
            (Overlay::Path { what, text }, code) => self.path_key(what, text, code, snapshot),
            (Overlay::Cards(chosen), code) => self.cards_key(chosen, code, snapshot),
            (Overlay::Stages(chosen), code) => {
                let (chosen, command) = stages_panel::key(chosen, code, snapshot);
                self.overlay = Some(Overlay::Stages(chosen));
                command.map_or(Outcome::Nothing, Outcome::Send)
            }
            (Overlay::Machine(form), code) => match form.key(code) {
                Filled::Done(machine) => Outcome::Send(Command::SetMachine(machine)),
                Filled::NotYet(form) => {
                    self.overlay = Some(Overlay::Machine(form));
                    Outcome::Nothing
                }
            },
            (Overlay::Settings(form), code) => match form.key(code) {
                Chosen::Done(settings) => Outcome::Send(Command::Wish(Box::new(settings))),
                Chosen::NotYet(form) => {
                    self.overlay = Some(Overlay::Settings(Box::new(form)));
                    Outcome::Nothing
                }
            },
            (same, _) => {
                self.overlay = Some(same);
                Outcome::Nothing
            }
        }
    }

    fn path_key(
        &mut self,
        what: FileUse,
        mut text: Entry,
        code: KeyCode,
        snapshot: &Snapshot,
    ) -> Outcome {
        match code {
            KeyCode::Enter if !text.trimmed().is_empty() => {
                let path = typed_path(text.text());
                return match (what, self.trace.shown(snapshot)) {
                    (FileUse::Frontier, _) => self.export_frontier(snapshot, path),
                    (FileUse::Profile, _) => self.export_profile(snapshot, path),
                    (FileUse::List, _) => Outcome::Change(self.ledger.export(path)),
                    (FileUse::Picture, _) => self.picture(snapshot, path),
                    (FileUse::Import, _) => Outcome::Import(path),
                    (FileUse::Export, None) => Outcome::Nothing,
                    (FileUse::Export, Some(shown)) => Outcome::Export {
                        trace: Box::new(shown.trace.clone()),
                        window: self.trace.window(shown),
                        path,
                    },
                };
            }
            code => drop(text.key(code)),
        }
        self.overlay = Some(Overlay::Path { what, text });
        Outcome::Nothing
    }

    fn picture(&self, snapshot: &Snapshot, path: PathBuf) -> Outcome {
        let Some(run) = snapshot.shown() else { return Outcome::Nothing };
        let (Some(frame), Ok(scene)) = (self.artifacts.frame(run), run.scene.parse()) else {
            return Outcome::Nothing;
        };
        let title = format!(
            "climb {}, trial {}, {}, frame {}",
            run.climb, run.number, run.scene, frame.number
        );
        Outcome::ExportPicture { scene, frame: Box::new(frame.clone()), title, path }
    }

    fn cards_key(&mut self, chosen: usize, code: KeyCode, snapshot: &Snapshot) -> Outcome {
        let last = snapshot.rack.len().saturating_sub(1);
        match code {
            KeyCode::Enter => {
                self.trace.begin_anew();
                return Outcome::Send(Command::Choose(chosen));
            }
            KeyCode::Char('i') => return Outcome::Send(Command::ToggleInStep(chosen)),
            KeyCode::Up => self.overlay = Some(Overlay::Cards(chosen.saturating_sub(1))),
            KeyCode::Down => self.overlay = Some(Overlay::Cards((chosen + 1).min(last))),
            _ => self.overlay = Some(Overlay::Cards(chosen.min(last))),
        }
        Outcome::Nothing
    }
}

/// The line in which the path of a file is typed.
pub(super) fn path_of(what: FileUse, text: String) -> Overlay {
    Overlay::Path { what, text: Entry::new(text, LONGEST_PATH) }
}

/// The line in which a number is typed.
pub(super) fn value_of(label: String) -> Overlay {
    Overlay::Value { text: Entry::new("", LONGEST_NUMBER), label }
}

/// The choice of a verdict for a trial that has one.
pub(super) fn mark(climb: i64, trial: u32, present: Verdict) -> Overlay {
    let chosen = Verdict::ALL.iter().position(|verdict| *verdict == present);
    Overlay::Mark { climb, trial, chosen: chosen.unwrap_or(Verdict::ALL.len()) }
}

/// What has to be asked before an action is carried out.
pub(super) fn question_before(action: Action, snapshot: &Snapshot) -> Option<Overlay> {
    let ask = |what: String, consequence: String, yes| {
        Some(Overlay::Ask(Question { what, consequence, yes }))
    };
    let running = matches!(snapshot.activity, Activity::Running | Activity::Paused);
    match action {
        Action::Try => {
            let NextView::Trial { what, risk: Some(risk), .. } = &snapshot.next else {
                return None;
            };
            let what = format!("Try {what} all the same?");
            ask(what, risk.clone(), Yes::Send(Command::Try { yes: true }))
        }
        Action::EndStage => ask(
            format!("End the stage {} now?", snapshot.stage),
            "The climb goes by the trials made so far: the highest value that held, less the \
             margin. What was not confirmed is said to be so."
                .into(),
            Yes::Send(Command::EndStage),
        ),
        Action::NewClimb => ask(
            "Begin another climb?".into(),
            format!(
                "Climb {} stays in the ledger{}. The new one begins with its baseline.",
                snapshot.climb,
                if matches!(snapshot.next, NextView::Ended(_)) { "" } else { ", as given up" }
            ),
            Yes::Send(Command::NewClimb),
        ),
        Action::BackToStock if running || !snapshot.profiles.is_empty() => ask(
            "Put the card to its factory settings?".into(),
            if running {
                "The running trial is stopped and proves nothing. No profile is in use after that."
                    .into()
            } else {
                "No profile is in use after that: the card starts at stock, too. Profiles stay kept."
                    .into()
            },
            Yes::Send(Command::BackToStock),
        ),
        Action::Quit if running => ask(
            "Leave while a trial runs?".into(),
            "The trial is stopped and proves nothing; all others are kept, and the climb goes on \
             from here when it is opened again. The card is put back."
                .into(),
            Yes::Quit,
        ),
        Action::Mark => {
            if let Some(run) = &snapshot.looked_at {
                let verdict = run.judgement.as_ref()?.verdict;
                return Some(mark(run.climb, run.number, verdict));
            }
            let last = snapshot.trials.last()?;
            Some(mark(snapshot.climb, last.number, last.verdict()))
        }
        Action::Say => Some(Overlay::Say(0)),
        Action::Keep => {
            let name = format!("climb {}", snapshot.climb);
            Some(profiles_state::keep_form(name, KeepWhat::Outcome))
        }
        Action::KeepTrial => {
            let run = snapshot.shown()?;
            let (climb, trial) = (run.climb, run.number);
            let name = format!("trial {trial} of climb {climb}");
            Some(profiles_state::keep_form(name, KeepWhat::Trial { climb, trial }))
        }
        Action::Machine => Some(Overlay::Machine(Form::of(&snapshot.machine))),
        Action::Cards => Some(Overlay::Cards(snapshot.present)),
        Action::Settings => {
            let form = SettingsForm::of(&snapshot.card, snapshot.held);
            Some(Overlay::Settings(Box::new(form)))
        }
        Action::Export => {
            let shown = snapshot.shown();
            let (climb, number) = shown.map_or((snapshot.climb, 0), |run| (run.climb, run.number));
            let text = format!("climb-{climb}-trial-{number}.csv");
            Some(path_of(FileUse::Export, text))
        }
        Action::Import => Some(path_of(FileUse::Import, String::new())),
        _ => None,
    }
}
