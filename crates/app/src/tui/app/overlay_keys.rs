//! What comes of a key while something lies over the view.

use std::path::PathBuf;

use ratatui::crossterm::event::KeyCode;
use yard_step_core::{Told, Verdict};
use yard_step_engine::{Command, Snapshot};

use crate::input::typed_path;
use crate::tui::app::outcome::Outcome;
use crate::tui::app::state::State;
use crate::tui::keys::action::View;
use crate::tui::keys::table::bindings;
use crate::tui::overlays::air_forms::{noise_command, wish_command};
use crate::tui::overlays::fields::Fields;
use crate::tui::overlays::limits::Limited;
use crate::tui::overlays::load_list::{Did, LoadList};
use crate::tui::overlays::machine::Filled;
use crate::tui::overlays::profile_forms::{import_change, keep_wish};
use crate::tui::overlays::proof_form::proof_command;
use crate::tui::overlays::settings::Chosen;
use crate::tui::overlays::weigh_forms::{notes_of, page_wish};
use crate::tui::overlays::{FileUse, Overlay, Question, SAYABLE, Yes, score_of, stages};
use crate::tui::views::ledger::browser::Change;
use crate::tui::widgets::entry::Entry;

impl State {
    pub(crate) fn overlay_key(
        &mut self,
        overlay: Overlay,
        code: KeyCode,
        snapshot: &Snapshot,
    ) -> Outcome {
        match (overlay, code) {
            (Overlay::Keys, KeyCode::Char('?')) => {
                self.overlay = Some(Overlay::Help(0));
                Outcome::Nothing
            }
            (Overlay::Help(first), KeyCode::Down) => {
                self.overlay = Some(Overlay::Help((first + 1).min(bindings().count() - 1)));
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
            (Overlay::LoadList(LoadList::Add(_)), KeyCode::Esc) => {
                self.overlay = Some(Overlay::LoadList(LoadList::Choose(0)));
                Outcome::Nothing
            }
            (_, KeyCode::Esc) | (Overlay::Keys | Overlay::Help(_), _) => Outcome::Nothing,
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
            (Overlay::Say(chosen), KeyCode::Enter) => {
                SAYABLE.get(chosen).map_or(Outcome::Nothing, |said| self.said(*said))
            }
            (Overlay::Score { verdict, text, .. }, KeyCode::Enter) => {
                match Told::parse(text.trimmed()) {
                    Ok(told) => return Outcome::Send(Command::Say { verdict, told }),
                    Err(error) => {
                        let problem = Some(error.to_string());
                        self.overlay = Some(Overlay::Score { verdict, text, problem });
                    }
                }
                Outcome::Nothing
            }
            (Overlay::Score { verdict, mut text, .. }, code) => {
                text.key(code);
                self.overlay = Some(Overlay::Score { verdict, text, problem: None });
                Outcome::Nothing
            }
            (Overlay::Say(chosen), KeyCode::Up) => {
                self.overlay = Some(Overlay::Say(chosen.saturating_sub(1)));
                Outcome::Nothing
            }
            (Overlay::Say(chosen), KeyCode::Down) => {
                self.overlay = Some(Overlay::Say((chosen + 1).min(SAYABLE.len() - 1)));
                Outcome::Nothing
            }
            (Overlay::Keep { form, what }, code) => {
                let send = |wish| Outcome::Send(Command::Keep(Box::new(wish)));
                let kept = what.clone();
                let again = |form| Overlay::Keep { form, what };
                self.fill(form, code, again, |form| keep_wish(form, &kept).map(send))
            }
            (Overlay::Noise(form), code) => self.fill(form, code, Overlay::Noise, |form| {
                noise_command(form, snapshot).map(Outcome::Send)
            }),
            (Overlay::Budget(form), code) => self.fill(form, code, Overlay::Budget, |form| {
                wish_command(form, snapshot).map(Outcome::Send)
            }),
            (Overlay::WeighNotes(form), code) => {
                self.fill(form, code, Overlay::WeighNotes, |form| {
                    let card = Box::new((*snapshot.machine.card).clone());
                    notes_of(form).map(|notes| Outcome::Change(Change::Weigh { card, notes }))
                })
            }
            (Overlay::Page(form), code) => {
                let about = self.page_about(snapshot);
                self.fill(form, code, Overlay::Page, |form| {
                    let about = about.ok_or("Select settings first: a page is about them.")?;
                    let (wish, path) = page_wish(form, about)?;
                    let card = Box::new((*snapshot.machine.card).clone());
                    Ok(Outcome::ExportPage { card, wish: Box::new(wish), path })
                })
            }
            (Overlay::Prove { form, what }, code) => {
                let whose = what.clone();
                let again = |form| Overlay::Prove { form, what };
                let outcome = self
                    .fill(form, code, again, |form| proof_command(form, &whose).map(Outcome::Send));
                if matches!(outcome, Outcome::Send(_)) {
                    self.view = View::Proof;
                    self.proof.begin();
                }
                outcome
            }
            (Overlay::ImportProfile(form), code) => {
                self.fill(form, code, Overlay::ImportProfile, |form| {
                    import_change(form, snapshot).map(Outcome::Change)
                })
            }
            (Overlay::FanValue { text, .. }, KeyCode::Enter) if !text.trimmed().is_empty() => {
                self.air.type_in(snapshot, text.text());
                self.apply_drawn_fan(snapshot)
            }
            (Overlay::FanValue { mut text, label }, code) => {
                text.key(code);
                self.overlay = Some(Overlay::FanValue { text, label });
                Outcome::Nothing
            }
            (Overlay::Value { text, .. }, KeyCode::Enter) if !text.trimmed().is_empty() => {
                self.shape.type_in(snapshot, text.text());
                self.apply_what_is_shaped(snapshot)
            }
            (Overlay::Value { mut text, label }, code) => {
                text.key(code);
                self.overlay = Some(Overlay::Value { text, label });
                Outcome::Nothing
            }
            (Overlay::FreeValue { text, .. }, KeyCode::Enter) if !text.trimmed().is_empty() => {
                self.free.type_in(text.text(), snapshot).map_or(Outcome::Nothing, Outcome::Send)
            }
            (Overlay::FreeValue { mut text, label }, code) => {
                text.key(code);
                self.overlay = Some(Overlay::FreeValue { text, label });
                Outcome::Nothing
            }
            (Overlay::Loads(chosen), KeyCode::Enter) => match snapshot.runs.loads.get(chosen) {
                Some(load) => self.begin_free_run(load.clone(), snapshot),
                None => Outcome::Nothing,
            },
            (Overlay::Loads(chosen), code) => {
                let last = snapshot.runs.loads.len().saturating_sub(1);
                let chosen = match code {
                    KeyCode::Up => chosen.saturating_sub(1),
                    KeyCode::Down => (chosen + 1).min(last),
                    _ => chosen.min(last),
                };
                self.overlay = Some(Overlay::Loads(chosen));
                Outcome::Nothing
            }
            (Overlay::LoadList(list), code) => match list.key(code, snapshot) {
                Did::Close => Outcome::Nothing,
                Did::Add(spec) => Outcome::AddLoad(spec),
                Did::Stay(list, command) => {
                    self.overlay = Some(Overlay::LoadList(list));
                    command.map_or(Outcome::Nothing, Outcome::Send)
                }
            },
            (Overlay::Path { what, text }, code) => self.path_key(what, text, code, snapshot),
            (Overlay::Cards(chosen), code) => self.cards_key(chosen, code, snapshot),
            (Overlay::Stages(chosen), code) => {
                let (chosen, command) = stages::key(chosen, code, snapshot);
                self.overlay = Some(Overlay::Stages(chosen));
                command.map_or(Outcome::Nothing, Outcome::Send)
            }
            (Overlay::Machine(form), code) => match form.key(code) {
                Filled::Done(machine) => Outcome::Send(Command::SetMachine(Box::new(machine))),
                Filled::NotYet(form) => {
                    self.overlay = Some(Overlay::Machine(form));
                    Outcome::Nothing
                }
            },
            (Overlay::Limits(form), code) => {
                self.overlay = Some(match form.key(code) {
                    Limited::Ask(consequence, command) => Overlay::Ask(Question {
                        what: "Have the driver read these limits?".into(),
                        consequence,
                        yes: Yes::Send(command),
                    }),
                    Limited::NotYet(form) => Overlay::Limits(form),
                });
                Outcome::Nothing
            }
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

    /// A key in a form: Enter does what it is for, or says why that cannot be yet; any other goes into its fields.
    fn fill(
        &mut self,
        mut form: Fields,
        code: KeyCode,
        again: impl FnOnce(Fields) -> Overlay,
        done: impl FnOnce(&Fields) -> Result<Outcome, String>,
    ) -> Outcome {
        match code {
            KeyCode::Enter => match done(&form) {
                Ok(outcome) => return outcome,
                Err(problem) => form.problem = Some(problem),
            },
            code => form.key(code),
        }
        self.overlay = Some(again(form));
        Outcome::Nothing
    }

    /// What was seen is said; where a program may have told a score, that is asked for.
    fn said(&mut self, verdict: Verdict) -> Outcome {
        if verdict.is_without_fault() {
            self.overlay = Some(score_of(verdict));
            return Outcome::Nothing;
        }
        Outcome::Send(Command::Say { verdict, told: Told::default() })
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
                    (FileUse::Chart, _) => self.export_chart(snapshot, path),
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
        let last = snapshot.machine.rack.len().saturating_sub(1);
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
