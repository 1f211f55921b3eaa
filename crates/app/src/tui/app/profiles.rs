//! What comes of an action on a profile.

use std::path::PathBuf;

use yard_step_engine::{Command, Snapshot, SoakWhat};

use crate::tui::app::outcome::Outcome;
use crate::tui::app::state::State;
use crate::tui::keys::action::{Action, View};
use crate::tui::overlays::profile_forms::import_form;
use crate::tui::overlays::proof_form::proof_form;
use crate::tui::overlays::{FileUse, Overlay, Question, Yes, path_of};
use crate::tui::views::ledger::browser::Change;

impl State {
    /// Carries out what concerns profiles; `None` for what does not.
    pub(super) fn act_on_profiles(
        &mut self,
        action: Action,
        snapshot: &Snapshot,
    ) -> Option<Outcome> {
        if let Action::Row(way) = action {
            self.profiles.go(way, snapshot);
            return Some(Outcome::Nothing);
        }
        if action == Action::ImportProfile {
            self.overlay = Some(import_form());
            return Some(Outcome::Nothing);
        }
        if action == Action::UseProfile && self.profiles.selected(snapshot).is_none() {
            // The line "no profile".
            return Some(Outcome::Send(Command::BackToStock));
        }
        let view = self.profiles.selected(snapshot)?;
        let name = view.profile.name.clone();
        let mut ask = |what: String, consequence: String, command| {
            self.overlay =
                Some(Overlay::Ask(Question { what, consequence, yes: Yes::Send(command) }));
            Some(Outcome::Nothing)
        };
        match action {
            Action::UseProfile if view.proof.is_proven() && view.risk.is_none() => {
                Some(Outcome::Send(Command::UseProfile { name, yes: false }))
            }
            Action::UseProfile => ask(
                format!("Apply profile \"{name}\", which is {}?", view.proof.label()),
                match &view.risk {
                    Some(risk) => yard_step_words::risk(risk),
                    None => format!("{} The card holds it until you leave.", view.why()),
                },
                Command::UseProfile { name, yes: true },
            ),
            Action::StartHere => {
                Some(Outcome::Send(Command::StartFrom(Box::new(view.profile.settings))))
            }
            Action::CheckProfile => {
                self.view = View::Proof;
                self.proof.begin();
                Some(Outcome::Send(Command::CheckProfile(name)))
            }
            Action::DropProfile => ask(
                format!("Delete profile \"{name}\"?"),
                match view.profile.in_use {
                    true => "It is in use: the card goes back to stock. Its trials stay.".into(),
                    false => "Its trials stay in the ledger.".into(),
                },
                Command::DropProfile(name),
            ),
            Action::ExportProfile => {
                let text = format!("{}.json", file_name(&name, "profile"));
                self.overlay = Some(path_of(FileUse::Profile, text));
                Some(Outcome::Nothing)
            }
            Action::ProveThis => {
                self.overlay = Some(proof_form(SoakWhat::Profile(name)));
                Some(Outcome::Nothing)
            }
            Action::LoadShape => {
                let told = format!("These are the settings of profile \"{name}\".");
                self.shape.load(snapshot, view.profile.settings, told);
                self.view = View::Shape;
                Some(Outcome::Nothing)
            }
            _ => None,
        }
    }

    /// The change that writes the selected profile to a file.
    pub(crate) fn export_profile(&self, snapshot: &Snapshot, path: PathBuf) -> Outcome {
        self.profiles.selected(snapshot).map_or(Outcome::Nothing, |view| {
            Outcome::Change(Change::ExportProfile {
                card: Box::new((*snapshot.machine.card).clone()),
                view: Box::new(view.clone()),
                path,
            })
        })
    }
}

/// A name as part of a file's name; `other` where nothing of it can be one.
pub(super) fn file_name(name: &str, other: &str) -> String {
    let plain = |c: char| if c.is_alphanumeric() { c } else { '-' };
    let text: String = name.to_lowercase().chars().map(plain).collect();
    let text = text.trim_matches('-').to_owned();
    if text.is_empty() { other.to_owned() } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{down, snapshot};
    use crate::tui::keys::action::Move;
    use yard_step_core::{Grounds, Proof, Seconds};

    fn acted(action: Action, proof: Option<Proof>) -> (State, Outcome) {
        let mut snapshot = snapshot();
        if let Some(proof) = proof {
            snapshot.machine.profiles[0].proof = proof;
        }
        let mut state = State::new(View::Ledger);
        let outcome = state.act_on_profiles(action, &snapshot).unwrap();
        (state, outcome)
    }

    #[test]
    fn a_proven_profile_is_used_at_once_and_any_other_after_a_yes() {
        let (_, outcome) = acted(Action::UseProfile, Some(Proof::Proven(Grounds::Hours)));
        let name = "last autumn".to_owned();
        assert_eq!(outcome, Outcome::Send(Command::UseProfile { name, yes: false }));
        let (state, outcome) = acted(Action::UseProfile, Some(Proof::Open { left: Seconds(60.0) }));
        assert_eq!(outcome, Outcome::Nothing);
        let Some(Overlay::Ask(question)) = state.overlay else { panic!("{:?}", state.overlay) };
        assert!(question.what.contains("which is not proven"), "{question:?}");
        assert!(question.consequence.starts_with("It has no run without a fault."), "{question:?}");
    }

    #[test]
    fn a_profile_as_bold_as_what_took_the_machine_down_is_asked_for_however_proven() {
        let mut snapshot = snapshot();
        snapshot.machine.profiles[0].proof = Proof::Proven(Grounds::Hours);
        snapshot.machine.profiles[0].risk = Some(down());
        let mut state = State::new(View::Ledger);
        state.act_on_profiles(Action::UseProfile, &snapshot);
        let Some(Overlay::Ask(question)) = state.overlay else { panic!("not asked") };
        assert_eq!(question.consequence, yard_step_words::risk(&down()));
    }

    #[test]
    fn the_line_after_the_last_profile_is_no_profile_at_all() {
        let snapshot = snapshot();
        let mut state = State::new(View::Ledger);
        state.act_on_profiles(Action::Row(Move::Last), &snapshot);
        assert_eq!(state.profiles.selected(&snapshot), None);
        let outcome = state.act_on_profiles(Action::UseProfile, &snapshot);
        assert_eq!(outcome, Some(Outcome::Send(Command::BackToStock)));
    }

    #[test]
    fn deleting_asks_and_checking_goes_to_proof() {
        let (state, _) = acted(Action::DropProfile, None);
        assert!(matches!(state.overlay, Some(Overlay::Ask(_))));
        let (state, outcome) = acted(Action::CheckProfile, None);
        assert_eq!(state.view, View::Proof);
        assert_eq!(outcome, Outcome::Send(Command::CheckProfile("last autumn".into())));
    }
}
