//! What the view Proof knows of itself: which settings are selected.

use yard_step_core::Soaked;
use yard_step_engine::{Candidate, Command, Snapshot, SoakWhat};

use crate::tui::keys::action::Action;

/// The state.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ProofState {
    /// The line that was selected; none as long as the newest soak is shown.
    selected: Option<usize>,
}

/// What came of an action in Proof.
#[derive(Debug, Clone, PartialEq)]
pub enum Came {
    /// It concerns another view.
    NotHere,
    /// Nothing more is to be done.
    Done,
    /// A command for the engine.
    Send(Command),
    /// What is to be proven, and how, is filled in.
    Prove(SoakWhat),
    /// The page goes into a file.
    Page,
}

impl ProofState {
    /// Place of the selected settings.
    #[must_use]
    pub fn place(&self, snapshot: &Snapshot) -> usize {
        let last = snapshot.machine.candidates.len().saturating_sub(1);
        self.selected.unwrap_or(0).min(last)
    }

    /// The selected settings, with what stands behind them.
    #[must_use]
    pub fn selected<'a>(&self, snapshot: &'a Snapshot) -> Option<&'a Candidate> {
        snapshot.machine.candidates.get(self.place(snapshot))
    }

    /// Selects the settings in a line.
    pub fn select(&mut self, place: usize) {
        self.selected = Some(place);
    }

    /// The soak that is shown: one that goes on, or the newest until something is selected.
    #[must_use]
    pub fn soaked<'a>(&self, snapshot: &'a Snapshot) -> Option<&'a Soaked> {
        let soaked = snapshot.climb.soaked.as_deref()?;
        (soaked.end.is_none() || self.selected.is_none()).then_some(soaked)
    }

    /// Whether a profile is selected, which can be checked.
    #[must_use]
    pub fn is_checkable(&self, snapshot: &Snapshot) -> bool {
        let selected = self.selected(snapshot);
        selected.is_some_and(|candidate| matches!(candidate.what, SoakWhat::Profile(_)))
    }

    /// A soak begins: it is shown.
    pub fn begin(&mut self) {
        self.selected = None;
    }

    /// Carries an action out.
    pub fn act(&mut self, action: Action, snapshot: &Snapshot) -> Came {
        match action {
            Action::ProofUp => self.select(self.place(snapshot).saturating_sub(1)),
            Action::ProofDown => {
                self.select(self.place(snapshot) + 1);
                self.select(self.place(snapshot));
            }
            Action::Prove => match self.selected(snapshot) {
                Some(candidate) => return Came::Prove(candidate.what.clone()),
                None => return Came::NotHere,
            },
            Action::CheckHere => match self.selected(snapshot).map(|candidate| &candidate.what) {
                Some(SoakWhat::Profile(name)) => {
                    return Came::Send(Command::CheckProfile(name.clone()));
                }
                _ => return Came::NotHere,
            },
            Action::EndSoak => return Came::Send(Command::EndSoak),
            Action::ExportPage => return Came::Page,
            _ => return Came::NotHere,
        }
        Came::Done
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::proof_snapshot;

    #[test]
    fn the_selected_settings_are_soaked_and_a_profile_is_checked() {
        let snapshot = proof_snapshot();
        let mut state = ProofState::default();
        let Came::Prove(SoakWhat::Profile(name)) = state.act(Action::Prove, &snapshot) else {
            panic!()
        };
        let check = state.act(Action::CheckHere, &snapshot);
        assert_eq!(check, Came::Send(Command::CheckProfile(name)));
        for _ in 0..5 {
            assert_eq!(state.act(Action::ProofDown, &snapshot), Came::Done);
        }
        assert_eq!(state.act(Action::Prove, &snapshot), Came::Prove(SoakWhat::Held));
        assert_eq!(state.act(Action::CheckHere, &snapshot), Came::NotHere, "no profile");
        for _ in 0..5 {
            state.act(Action::ProofUp, &snapshot);
        }
        assert_eq!(state.place(&snapshot), 0);
    }
}
