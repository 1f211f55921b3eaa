//! What Climb knows of a free run: which setting is chosen, and what was asked for last.

use yard_step_core::{Offer, Settings, Verdict};
use yard_step_engine::{Command, FreeView, SegmentView, Snapshot};

use crate::tui::keys::action::{Action, Move};
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

    /// What is asked for, or would be with the next key.
    pub(crate) fn asked(&self, snapshot: &Snapshot) -> Settings {
        let of_segment = snapshot.runs.free.as_ref().and_then(|free| free.segments.last());
        self.wanted
            .or_else(|| of_segment.map(|segment| segment.asked))
            .unwrap_or_else(|| Settings::stock(&snapshot.machine.card))
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
        let asked = self.asked(snapshot);
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
        let mut settings = self.asked(snapshot);
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::free_snapshot;
    use rstest::rstest;
    use std::sync::Arc;
    use yard_step_core::{MhzOffset, Watt};

    /// The settings a command asks for.
    fn asked(command: Option<Command>) -> Settings {
        match command {
            Some(Command::Apply { settings, yes: false }) => *settings,
            other => panic!("not asked for: {other:?}"),
        }
    }

    #[test]
    fn the_chosen_setting_moves_from_what_the_segment_asked_for_and_further_from_there() {
        let snapshot = free_snapshot();
        let mut state = FreeState::default();
        assert_eq!(state.act(Action::FreeRow(Move::Down), &snapshot), None);
        let first = asked(state.act(Action::FreeBy(1), &snapshot));
        assert_eq!(first.core_offset, Some(MhzOffset(90)));
        // The next key comes before the engine has answered.
        let second = asked(state.act(Action::FreeBy(1), &snapshot));
        assert_eq!(second.core_offset, Some(MhzOffset(105)));
        let back = asked(state.act(Action::FreeBy(-5), &snapshot));
        assert_eq!(back.core_offset, Some(MhzOffset(30)));
    }

    #[rstest]
    #[case::a_power_limit_by_five_watts(0, 1, 225.0)]
    #[case::down(0, -5, 195.0)]
    #[case::no_further_than_the_range(0, 100, 286.0)]
    fn a_key_moves_by_what_can_be_felt(#[case] line: usize, #[case] steps: i8, #[case] watts: f64) {
        let snapshot = free_snapshot();
        let mut state = FreeState { chosen: line, ..FreeState::default() };
        let settings = asked(state.act(Action::FreeBy(steps), &snapshot));
        assert_eq!(settings.power_limit, Some(Watt(watts)));
    }

    #[rstest]
    #[case("75", Some(75))]
    #[case("80", Some(75))]
    #[case("999", Some(300))]
    #[case(" -40 ", Some(-45))]
    #[case("fast", None)]
    fn a_typed_number_falls_into_the_cards_range(#[case] text: &str, #[case] mhz: Option<i32>) {
        let snapshot = free_snapshot();
        let mut state = FreeState { chosen: 1, ..FreeState::default() };
        let command = state.type_in(text, &snapshot);
        assert_eq!(command.is_some(), mhz.is_some());
        if let Some(mhz) = mhz {
            assert_eq!(asked(command).core_offset, Some(MhzOffset(mhz)));
        }
    }

    #[test]
    fn a_click_chooses_a_setting_and_on_its_range_sets_it_and_the_wheel_steps_it() {
        let snapshot = free_snapshot();
        let mut state = FreeState::default();
        assert_eq!(state.click(Hit { line: 1, value: None }, &snapshot), None);
        assert_eq!(state.chosen, 1);
        let set = asked(state.click(Hit { line: 1, value: Some(120.0) }, &snapshot));
        assert_eq!(set.core_offset, Some(MhzOffset(120)));
        let stepped = asked(state.scroll(Hit { line: 0, value: None }, -1, &snapshot));
        assert_eq!((state.chosen, stepped.power_limit), (0, Some(Watt(215.0))));
        assert_eq!(stepped.core_offset, Some(MhzOffset(120)), "what was set before stays");
    }

    #[test]
    fn one_step_back_is_the_settings_before_that_did_not_fail() {
        let mut snapshot = free_snapshot();
        let mut state = FreeState::default();
        let back = asked(state.act(Action::FreeBack, &snapshot));
        assert_eq!(back.core_offset, Some(MhzOffset(60)), "however short");
        let view = Arc::make_mut(snapshot.runs.free.as_mut().unwrap());
        view.segments[1].verdict = Some(Verdict::Artifacts);
        let back = asked(state.act(Action::FreeBack, &snapshot));
        assert_eq!(back.core_offset, Some(MhzOffset(45)), "a failed one is passed over");
        view_of(&mut snapshot).segments.drain(..2);
        assert_eq!(state.act(Action::FreeBack, &snapshot), None, "there is nothing before");
    }

    fn view_of(snapshot: &mut Snapshot) -> &mut FreeView {
        Arc::make_mut(snapshot.runs.free.as_mut().unwrap())
    }

    #[test]
    fn suggestions_yeses_and_trials_are_commands_of_their_own() {
        let mut snapshot = free_snapshot();
        let mut state = FreeState::default();
        let suggested = asked(state.act(Action::FreeSuggested, &snapshot));
        assert_eq!(suggested.core_offset, Some(MhzOffset(90)));
        assert_eq!(state.act(Action::FreeYes, &snapshot), None, "nothing is asked");
        let bold = Settings { core_offset: Some(MhzOffset(150)), ..suggested };
        view_of(&mut snapshot).asks = Some((bold, crate::tui::fixtures::down()));
        let yes = Command::Apply { settings: Box::new(bold), yes: true };
        assert_eq!(state.act(Action::FreeYes, &snapshot), Some(yes));
        let trial = Command::TryInstead(Box::new(suggested));
        assert_eq!(state.act(Action::FreeTrial, &snapshot), Some(trial), "what was asked for last");
        view_of(&mut snapshot).suggestion = None;
        assert_eq!(state.act(Action::FreeSuggested, &snapshot), None);
    }

    #[test]
    fn a_new_free_run_forgets_what_was_asked_in_the_last_one() {
        let snapshot = free_snapshot();
        let mut state = FreeState { chosen: 1, ..FreeState::default() };
        state.act(Action::FreeBy(5), &snapshot);
        assert!(state.wanted.is_some());
        state.begin();
        assert_eq!((state.wanted, state.chosen), (None, 1), "but not which setting was chosen");
    }
}
