//! What the view Weigh knows of itself: what is weighed against what, and which point is picked.

use std::sync::Arc;

use ratatui::crossterm::event::{MouseButton, MouseEventKind};
use yard_step_core::{
    CardDescription, Cost, Decibel, Frontier, FrontierPoint, VariantTable, WeighNotes, Weighed,
    loads,
};
use yard_step_engine::{Command, Snapshot};

use crate::tui::keys::action::Action;
use crate::tui::views::ledger::browser::WeighedCard;

/// What a change in the session makes out of date.
type Stamp = (String, i64, usize, usize);

/// The state.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct WeighState {
    runs: Arc<Vec<Weighed>>,
    card: Option<Arc<CardDescription>>,
    /// Noise of the card at full fan, where its user has entered it.
    pub full_fan: Option<Decibel>,
    /// The load that is weighed; none before there is any.
    pub load: Option<String>,
    /// What work is weighed against.
    pub cost: Cost,
    /// Stock beside the card's profiles and what else the user holds beside.
    pub table: Arc<VariantTable>,
    /// What that is.
    pub notes: WeighNotes,
    /// Whether that is shown, instead of the frontier.
    pub shows_table: bool,
    /// Work against cost, as it was worked out last.
    pub frontier: Frontier,
    /// Place of the picked point.
    picked: Option<usize>,
    stamp: Option<Stamp>,
    /// Whether the runs were read.
    pub is_read: bool,
    /// What there is to say about the last action.
    pub told: Option<String>,
}

/// What came of an action in Weigh.
#[derive(Debug, Clone, PartialEq)]
pub enum Came {
    /// It concerns another view.
    NotHere,
    /// Nothing more is to be done.
    Done,
    /// A command for the engine.
    Send(Command),
    /// The picked point is to be shaped.
    Shape,
    /// The picked point is to be kept: its newest trial.
    Keep(i64, u32),
    /// The picked point is to be soaked: its newest trial.
    Prove(i64, u32),
    /// The picked point is put into before and after, or taken away: its newest trial.
    Beside(i64, u32),
}

impl WeighState {
    /// The card whose runs have to be read for the view to be up to date; none where it is.
    pub fn wants(&mut self, snapshot: &Snapshot) -> Option<Box<CardDescription>> {
        let marked = snapshot.climb.trials.iter().filter(|trial| trial.marked.is_some()).count();
        let stamp = (
            snapshot.machine.card.key(),
            snapshot.climb.number,
            snapshot.climb.trials.len(),
            marked,
        );
        if self.full_fan != snapshot.machine.said.full_fan {
            self.full_fan = snapshot.machine.said.full_fan;
            self.weigh();
        }
        if self.stamp.as_ref() == Some(&stamp) {
            return None;
        }
        if self.card.as_ref().is_none_or(|card| card.key() != stamp.0) {
            let Self { cost, full_fan, shows_table, .. } = *self;
            *self = Self { cost, full_fan, shows_table, ..Self::default() };
            self.load = Some(snapshot.climb.plan.scene.clone());
        }
        self.card = Some(Arc::clone(&snapshot.machine.card));
        self.stamp = Some(stamp);
        Some(Box::new((*snapshot.machine.card).clone()))
    }

    /// Takes in what was read.
    pub fn take(&mut self, card: Result<WeighedCard, String>) {
        match card {
            Err(why) => self.told = Some(why),
            Ok(WeighedCard { runs, table, notes }) => {
                (self.table, self.notes) = (Arc::new(table), notes);
                (self.runs, self.is_read) = (Arc::new(runs), true);
                let has_any = |load: &String| self.runs.iter().any(|run| run.load == *load);
                if !self.load.as_ref().is_some_and(has_any) {
                    self.load = loads(&self.runs).into_iter().next();
                }
                self.weigh();
            }
        }
    }

    /// Takes in what came of a note; what it concerns is read again.
    pub fn noted(&mut self, told: &Result<String, String>) {
        let (Ok(text) | Err(text)) = told;
        (self.told, self.stamp) = (Some(text.clone()), None);
    }

    /// Works the frontier out anew; the picked settings stay picked.
    fn weigh(&mut self) {
        let Some(card) = self.card.clone() else { return };
        let before = self.point().map(|point| point.settings);
        let load = self.load.clone().unwrap_or_default();
        let runs: Vec<Weighed> = self.runs.iter().filter(|run| run.load == load).cloned().collect();
        self.frontier = Frontier::of(&runs, &card, self.cost, self.full_fan);
        let points = &self.frontier.points;
        let same =
            before.and_then(|settings| points.iter().position(|point| point.settings == settings));
        self.picked = same.or(self.frontier.knee).or(self.frontier.frontier.last().copied());
    }

    /// Place of the picked point.
    #[must_use]
    pub fn picked(&self) -> Option<usize> {
        self.picked.filter(|place| *place < self.frontier.points.len())
    }

    /// The picked point.
    #[must_use]
    pub fn point(&self) -> Option<&FrontierPoint> {
        self.frontier.point(self.picked()?)
    }

    /// Picks a point.
    pub fn pick(&mut self, place: usize) {
        self.picked = Some(place);
    }

    /// Goes to the next point of the frontier with less, or more, cost.
    fn step_on_frontier(&mut self, up: bool) {
        let now = self.picked().unwrap_or(0);
        let on = &self.frontier.frontier;
        let next = match up {
            true => on.iter().find(|place| **place > now),
            false => on.iter().rev().find(|place| **place < now),
        };
        self.picked = next.copied().or(self.picked);
    }

    /// Carries an action out.
    pub fn act(&mut self, action: Action) -> Came {
        let newest = self.point().map(|point| point.newest);
        let told = self.told.take();
        match action {
            Action::FrontierLess => self.step_on_frontier(false),
            Action::FrontierMore => self.step_on_frontier(true),
            Action::PointBefore => self.picked = self.picked().map(|at| at.saturating_sub(1)),
            Action::PointAfter => {
                let last = self.frontier.points.len().saturating_sub(1);
                self.picked = self.picked().map(|at| (at + 1).min(last));
            }
            Action::BeforeAfter => self.shows_table = !self.shows_table,
            Action::OtherCost => {
                let at = Cost::ALL.iter().position(|cost| *cost == self.cost).unwrap_or(0);
                self.cost = Cost::ALL[(at + 1) % Cost::ALL.len()];
                self.weigh();
            }
            Action::OtherLoad => {
                let loads = loads(&self.runs);
                let at = loads.iter().position(|load| Some(load) == self.load.as_ref());
                let next = at.map_or(0, |at| (at + 1) % loads.len().max(1));
                self.load = loads.get(next).cloned();
                self.weigh();
            }
            Action::AskPoint => {
                let Some(point) = self.point() else { return Came::Done };
                return Came::Send(Command::Wish(Box::new(point.settings)));
            }
            Action::ProveThis => {
                return newest.map_or(Came::Done, |(climb, trial)| Came::Prove(climb, trial));
            }
            Action::LoadShape => return if newest.is_some() { Came::Shape } else { Came::Done },
            Action::KeepTrial => {
                return newest.map_or(Came::Done, |(climb, trial)| Came::Keep(climb, trial));
            }
            Action::Beside => {
                return newest.map_or(Came::Done, |(climb, trial)| Came::Beside(climb, trial));
            }
            _ => {
                self.told = told;
                return Came::NotHere;
            }
        }
        Came::Done
    }

    /// Takes in the mouse over the chart, where `point` is what lies there.
    pub fn mouse(&mut self, kind: MouseEventKind, point: Option<usize>) -> bool {
        match (kind, point) {
            (MouseEventKind::Down(MouseButton::Left), Some(place)) => self.pick(place),
            (MouseEventKind::ScrollUp, _) => self.step_on_frontier(true),
            (MouseEventKind::ScrollDown, _) => self.step_on_frontier(false),
            _ => return false,
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{snapshot, weighed};

    fn state() -> WeighState {
        let mut state = WeighState::default();
        assert!(state.wants(&snapshot()).is_some());
        assert!(state.wants(&snapshot()).is_none(), "once");
        state.take(Ok(WeighedCard { runs: weighed(), ..WeighedCard::default() }));
        state
    }

    #[test]
    fn the_knee_is_picked_first_and_the_arrows_go_along_the_frontier() {
        let mut state = state();
        assert_eq!(state.load.as_deref(), Some("lantern"), "the plan's load has no runs");
        assert_eq!(state.picked(), state.frontier.knee);
        let at = |state: &WeighState| state.point().unwrap().cost;
        let knee = at(&state);
        state.act(Action::FrontierMore);
        assert!(at(&state) > knee);
        for _ in 0..9 {
            state.act(Action::FrontierLess);
        }
        assert_eq!(state.picked(), state.frontier.frontier.first().copied());
        state.act(Action::PointAfter);
        assert_eq!(state.picked(), Some(state.frontier.frontier[0] + 1));
    }

    #[test]
    fn another_cost_keeps_the_picked_settings_and_another_load_has_points_of_its_own() {
        let mut state = state();
        let before = state.point().unwrap().settings;
        state.act(Action::OtherCost);
        assert_eq!((state.cost, state.point().unwrap().settings), (Cost::Degrees, before));
        state.act(Action::OtherLoad);
        assert_eq!(state.load.as_deref(), Some("kiln"));
        assert_eq!(state.frontier.points.len(), 1);
    }

    #[test]
    fn a_point_is_asked_for_shaped_and_kept() {
        let mut state = state();
        let point = state.point().unwrap().clone();
        let wish = Command::Wish(Box::new(point.settings));
        assert_eq!(state.act(Action::AskPoint), Came::Send(wish));
        assert_eq!(state.act(Action::LoadShape), Came::Shape);
        assert_eq!(state.act(Action::KeepTrial), Came::Keep(point.newest.0, point.newest.1));
        assert_eq!(state.act(Action::ProveThis), Came::Prove(point.newest.0, point.newest.1));
        assert_eq!(state.act(Action::Beside), Came::Beside(point.newest.0, point.newest.1));
        let mut empty = WeighState::default();
        for action in [Action::AskPoint, Action::LoadShape, Action::KeepTrial, Action::ProveThis] {
            assert_eq!(empty.act(action), Came::Done);
        }
    }
}
