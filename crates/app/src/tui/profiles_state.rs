//! Profiles in Ledger: which one is selected, and what comes of an action on it; and the forms in
//! which something is kept or read from a file.

use std::path::PathBuf;

use yard_step_core::{CUT_BACK, LONGEST_NAME, LONGEST_PURPOSE, Margin, Percent, checked_name};
use yard_step_engine::{Command, KeepWhat, KeepWish, ProfileView, Snapshot};

use super::action::{Action, Move, View};
use super::browser::Change;
use super::fields::{Fields, TextField};
use super::overlay::{FileUse, Overlay, Question, Yes, path_of};
use super::state::{Outcome, State};
use crate::input::typed_path;

/// Longest path.
const LONGEST_PATH: usize = 200;
const MARGINS: [&str; 4] =
    ["not said", Margin::Record.label(), Margin::Daily.label(), Margin::Gift.label()];

/// The state.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ProfilesState {
    /// Place of the selected one.
    place: usize,
}

impl ProfilesState {
    /// Place of the selected line: the profiles of the card, and "no profile" after the last.
    #[must_use]
    pub fn place(&self, snapshot: &Snapshot) -> usize {
        self.place.min(snapshot.profiles.len())
    }

    /// The selected one.
    #[must_use]
    pub fn selected<'a>(&self, snapshot: &'a Snapshot) -> Option<&'a ProfileView> {
        snapshot.profiles.get(self.place(snapshot))
    }

    /// Selects another one.
    pub fn select(&mut self, place: usize) {
        self.place = place;
    }

    fn go(&mut self, way: Move, snapshot: &Snapshot) {
        let place = self.place(snapshot);
        self.place = match way {
            Move::Up => place.saturating_sub(1),
            Move::Down => (place + 1).min(snapshot.profiles.len()),
            Move::First | Move::PageUp => 0,
            Move::Last | Move::PageDown => snapshot.profiles.len(),
        };
    }
}

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
            self.overlay = Some(Overlay::ImportProfile(Fields::new(vec![
                TextField::text("file", "", LONGEST_PATH),
                TextField::text("cut back, %", format!("{CUT_BACK}"), 5),
            ])));
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
                    Some(risk) => risk.clone(),
                    None => format!("{} The card holds it until you leave.", view.proof.why()),
                },
                Command::UseProfile { name, yes: true },
            ),
            Action::CheckProfile => {
                self.view = View::Climb;
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
                let text = format!("{}.json", file_name(&name));
                self.overlay = Some(path_of(FileUse::Profile, text));
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
    pub(super) fn export_profile(&self, snapshot: &Snapshot, path: PathBuf) -> Outcome {
        self.profiles.selected(snapshot).map_or(Outcome::Nothing, |view| {
            Outcome::Change(Change::ExportProfile {
                card: Box::new((*snapshot.card).clone()),
                view: Box::new(view.clone()),
                path,
            })
        })
    }
}

/// A name as part of a file's name.
fn file_name(name: &str) -> String {
    let plain = |c: char| if c.is_alphanumeric() { c } else { '-' };
    let text: String = name.to_lowercase().chars().map(plain).collect();
    let text = text.trim_matches('-').to_owned();
    if text.is_empty() { "profile".into() } else { text }
}

/// The form in which something is kept. What a climb came to has the margin of its plan.
pub(super) fn keep_form(name: String, what: KeepWhat) -> Overlay {
    let mut fields = vec![
        TextField::text("name", name, LONGEST_NAME),
        TextField::text("purpose", "", LONGEST_PURPOSE),
    ];
    if what != KeepWhat::Outcome {
        fields.push(TextField::choice("good for", &MARGINS, 0));
    }
    Overlay::Keep { form: Fields::new(fields), what }
}

/// What is to be kept, or why it cannot be yet.
pub(super) fn keep_wish(form: &Fields, what: KeepWhat) -> Result<KeepWish, String> {
    let name = checked_name(form.typed(0), LONGEST_NAME);
    Ok(KeepWish {
        name: name.map_err(|why| format!("A profile needs another name: {why}."))?,
        purpose: form.typed(1).to_owned(),
        margin: form.chosen(2).checked_sub(1).and_then(|at| Margin::ALL.get(at).copied()),
        what,
    })
}

/// The change that reads a profile from a file, or why it cannot be made yet.
pub(super) fn import_change(form: &Fields, snapshot: &Snapshot) -> Result<Change, String> {
    if form.typed(0).is_empty() {
        return Err("Name the file: a profile as JSON.".into());
    }
    let share: Option<f64> = form.typed(1).trim_end_matches('%').trim().parse().ok();
    let share = share.filter(|share| (0.0..=100.0).contains(share));
    let share = share.ok_or("What is cut back is a number from 0 to 100 %.")?;
    Ok(Change::ImportProfile {
        card: Box::new((*snapshot.card).clone()),
        path: typed_path(form.typed(0)),
        share: Percent(share),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use ratatui::crossterm::event::KeyCode;
    use rstest::rstest;
    use yard_step_core::Proof;

    fn acted(action: Action, proof: Option<Proof>) -> (State, Outcome) {
        let mut snapshot = snapshot();
        if let Some(proof) = proof {
            snapshot.profiles[0].proof = proof;
        }
        let mut state = State::new(View::Ledger);
        let outcome = state.act_on_profiles(action, &snapshot).unwrap();
        (state, outcome)
    }

    #[rstest]
    fn a_proven_profile_is_used_at_once_and_any_other_after_a_yes() {
        let (_, outcome) = acted(Action::UseProfile, Some(Proof::Proven("An hour.".into())));
        let name = "last autumn".to_owned();
        assert_eq!(outcome, Outcome::Send(Command::UseProfile { name, yes: false }));
        let (state, outcome) = acted(Action::UseProfile, Some(Proof::Open("A minute.".into())));
        assert_eq!(outcome, Outcome::Nothing);
        let Some(Overlay::Ask(question)) = state.overlay else { panic!("{:?}", state.overlay) };
        assert!(question.what.contains("which is not proven"), "{question:?}");
        assert!(question.consequence.starts_with("A minute."), "{question:?}");
    }

    #[test]
    fn a_profile_as_bold_as_what_took_the_machine_down_is_asked_for_however_proven() {
        let mut snapshot = snapshot();
        snapshot.profiles[0].proof = Proof::Proven("An hour.".into());
        snapshot.profiles[0].risk = Some("Settings no bolder took it down.".into());
        let mut state = State::new(View::Ledger);
        state.act_on_profiles(Action::UseProfile, &snapshot);
        let Some(Overlay::Ask(question)) = state.overlay else { panic!("not asked") };
        assert_eq!(question.consequence, "Settings no bolder took it down.");
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

    #[rstest]
    fn deleting_asks_and_checking_goes_to_climb() {
        let (state, _) = acted(Action::DropProfile, None);
        assert!(matches!(state.overlay, Some(Overlay::Ask(_))));
        let (state, outcome) = acted(Action::CheckProfile, None);
        assert_eq!(state.view, View::Climb);
        assert_eq!(outcome, Outcome::Send(Command::CheckProfile("last autumn".into())));
    }

    #[rstest]
    #[case("25", Ok(25.0))]
    #[case("40 %", Ok(40.0))]
    #[case("140", Err("0 to 100"))]
    #[case("much", Err("0 to 100"))]
    fn an_import_says_how_much_is_cut_back(
        #[case] share: &str,
        #[case] expected: Result<f64, &str>,
    ) {
        let form = Fields::new(vec![
            TextField::text("file", "theirs.json", 40),
            TextField::text("cut back, %", share, 9),
        ]);
        match (import_change(&form, &snapshot()), expected) {
            (Ok(Change::ImportProfile { share, .. }), Ok(value)) => {
                assert_eq!(share, Percent(value));
            }
            (Err(why), Err(part)) => assert!(why.contains(part), "{why}"),
            (other, _) => panic!("{other:?}"),
        }
    }

    #[rstest]
    fn a_trial_is_kept_with_name_purpose_and_margin() {
        let what = KeepWhat::Trial { climb: 3, trial: 7 };
        let Overlay::Keep { mut form, .. } = keep_form("quiet".into(), what) else { panic!() };
        for code in [KeyCode::Down, KeyCode::Char('q'), KeyCode::Down, KeyCode::Right] {
            form.key(code);
        }
        form.key(KeyCode::Right);
        let wish = keep_wish(&form, what).unwrap();
        assert_eq!((wish.name.as_str(), wish.purpose.as_str()), ("quiet", "q"));
        assert_eq!(wish.margin, Some(Margin::Daily));
        let Overlay::Keep { form, .. } = keep_form(" ".into(), what) else { panic!() };
        assert!(keep_wish(&form, what).is_err(), "no empty name");
    }
}
