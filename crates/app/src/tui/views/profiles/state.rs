//! Profiles in Ledger: which one is selected, and what comes of an action on it; and the forms in
//! which something is kept or read from a file.

use yard_step_engine::{ProfileView, Snapshot};

use crate::tui::keys::action::Move;

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
        self.place.min(snapshot.machine.profiles.len())
    }

    /// The selected one.
    #[must_use]
    pub fn selected<'a>(&self, snapshot: &'a Snapshot) -> Option<&'a ProfileView> {
        snapshot.machine.profiles.get(self.place(snapshot))
    }

    /// Selects another one.
    pub fn select(&mut self, place: usize) {
        self.place = place;
    }

    /// Goes through the list.
    pub fn go(&mut self, way: Move, snapshot: &Snapshot) {
        let place = self.place(snapshot);
        self.place = match way {
            Move::Up => place.saturating_sub(1),
            Move::Down => (place + 1).min(snapshot.machine.profiles.len()),
            Move::First | Move::PageUp => 0,
            Move::Last | Move::PageDown => snapshot.machine.profiles.len(),
        };
    }
}
