//! What Climb knows of a free run: which setting is chosen, and what was asked for last.

use yard_step_core::{Offer, Settings, Verdict};
use yard_step_engine::{Command, FreeView, SegmentView, Snapshot};

use crate::tui::keys::action::{Action, Move};
use crate::tui::views::climb::free;
use crate::tui::views::climb::panel::{Hit, moved};

/// The settings beside a free run.
#[derive(Debug, Clone, PartialEq, Default)]
pub(crate) struct FreeState {
    /// Line of the chosen setting.
    pub chosen: usize,
    /// What was asked for last, also where that came to nothing.
    pub wanted: Option<Settings>,
    /// First trial of the free run that was put away.
    away: Option<u32>,
}

impl FreeState {
    /// A free run begins: nothing has been asked for yet.
    pub(crate) fn begin(&mut self) {
        (self.wanted, self.away) = (None, None);
    }

    /// Puts a free run that has ended away.
    pub(crate) fn put_away(&mut self, free: &FreeView) {
        self.away = free.segments.first().map(|segment| segment.number);
    }

    /// Whether a free run was put away.
    pub(crate) fn is_away(&self, free: &FreeView) -> bool {
        free.ended.is_some()
            && self.away.is_some()
            && self.away == free.segments.first().map(|segment| segment.number)
    }

    fn offer<'a>(&self, snapshot: &'a Snapshot) -> Option<&'a Offer> {
        snapshot.machine.card.offers.get(self.chosen)
    }

    fn ask(&mut self, settings: Settings) -> Command {
        self.wanted = Some(settings);
        Command::Apply { settings: Box::new(settings), yes: false }
    }

    /// Carries an action out; `None` where there is nothing to send.
    pub(crate) fn act(&mut self, action: Action, snapshot: &Snapshot) -> Option<Command> {
        let view = snapshot.runs.free.as_ref()?;
        let asked = free::asked(snapshot, self);
        match action {
            Action::FreeRow(Move::Up) => self.chosen = self.chosen.saturating_sub(1),
            Action::FreeRow(_) => {
                let last = snapshot.machine.card.offers.len().saturating_sub(1);
                self.chosen = (self.chosen + 1).min(last);
            }
            Action::FreeBy(steps) => {
                let offer = *self.offer(snapshot)?;
                return Some(self.ask(moved(&offer, &asked, f64::from(steps))));
            }
            Action::FreeBack => return step_back(view).map(|settings| self.ask(settings)),
            Action::FreeSuggested => {
                let settings = view.suggestion.as_ref()?.settings;
                return Some(self.ask(settings));
            }
            Action::FreeYes => {
                let (settings, _) = view.asks.as_ref()?;
                return Some(Command::Apply { settings: Box::new(*settings), yes: true });
            }
            Action::FreeTrial => return Some(Command::TryInstead(Box::new(asked))),
            _ => {}
        }
        None
    }

    /// Takes in a number that was typed for the chosen setting.
    pub(crate) fn type_in(&mut self, text: &str, snapshot: &Snapshot) -> Option<Command> {
        let value: f64 = text.trim().parse().ok()?;
        self.set(value, snapshot)
    }

    fn set(&mut self, value: f64, snapshot: &Snapshot) -> Option<Command> {
        let offer = *self.offer(snapshot)?;
        let mut settings = free::asked(snapshot, self);
        settings.set(offer.kind, Some(offer.bin(value)));
        Some(self.ask(settings))
    }

    /// Takes in a click on the settings.
    pub(crate) fn click(&mut self, hit: Hit, snapshot: &Snapshot) -> Option<Command> {
        self.chosen = hit.line;
        self.set(hit.value?, snapshot)
    }

    /// Takes in the wheel over the settings.
    pub(crate) fn scroll(&mut self, hit: Hit, steps: i8, snapshot: &Snapshot) -> Option<Command> {
        self.chosen = hit.line;
        self.act(Action::FreeBy(steps), snapshot)
    }
}

/// The settings of the newest segment before the present one that did not fail.
fn step_back(view: &FreeView) -> Option<Settings> {
    let present = view.segments.last()?.asked;
    let held = |segment: &&SegmentView| {
        let failed = |verdict: Verdict| verdict.is_fault() || verdict == Verdict::NotTaken;
        segment.verdict.is_some_and(|verdict| !failed(verdict)) && segment.asked != present
    };
    view.segments.iter().rev().find(held).map(|segment| segment.asked)
}
