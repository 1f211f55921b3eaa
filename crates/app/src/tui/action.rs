//! What can be done, and what decides whether it applies. Which keys do it is in the
//! [table](super::bindings::BINDINGS).

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use yard_step_core::{Meaning, Settings};
use yard_step_engine::{Activity, NextView, Restart, Snapshot};

use super::bindings::BINDINGS;
use super::browser::List;
use super::state::State;

/// A view of the interface.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum View {
    /// The card, its settings, sensors and baseline.
    Survey,
    /// The staircase, the live run and the next step.
    Climb,
    /// Everything that was measured, over time.
    Trace,
    /// Spoilt frames beside what they should have been.
    Artifacts,
    /// Curve, window and voltages.
    Shape,
    /// Work against what it costs.
    Weigh,
    /// Everything tried.
    Ledger,
}

impl View {
    /// All views, in the order of the work.
    pub const ALL: [Self; 7] = [
        Self::Survey,
        Self::Climb,
        Self::Trace,
        Self::Shape,
        Self::Weigh,
        Self::Ledger,
        Self::Artifacts,
    ];

    /// Key that shows the view.
    #[must_use]
    pub const fn key(self) -> char {
        match self {
            Self::Survey => '1',
            Self::Climb => '2',
            Self::Trace => '3',
            Self::Artifacts => '9',
            Self::Shape => '4',
            Self::Weigh => '7',
            Self::Ledger => '8',
        }
    }

    /// Name of the view.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Survey => "Survey",
            Self::Climb => "Climb",
            Self::Trace => "Trace",
            Self::Artifacts => "Artifacts",
            Self::Shape => "Shape",
            Self::Weigh => "Weigh",
            Self::Ledger => "Ledger",
        }
    }
}

/// Something the user can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// Carry out the next step.
    Try,
    /// Take every next step without being asked.
    Auto,
    /// Hold the run still or let it go on.
    Pause,
    /// Stop the run.
    Stop,
    /// Next value one fine step up.
    NudgeUp,
    /// Next value one fine step down.
    NudgeDown,
    /// Leave the next value to the plan.
    DropNudge,
    /// Change a trial's verdict.
    Mark,
    /// End the stage.
    EndStage,
    /// Look at the stages, the policy and the margin, and change them.
    Stages,
    /// Another chart of the climb.
    Chart,
    /// Ask which one it was.
    Which,
    /// Have what brought what measured.
    LeaveOut,
    /// Keep the outcome.
    Keep,
    /// Keep the settings of one trial.
    KeepTrial,
    /// Shape the settings of what is selected.
    LoadShape,
    /// Put the card to the selected profile.
    UseProfile,
    /// Try the selected profile again.
    CheckProfile,
    /// Delete the selected profile.
    DropProfile,
    /// Write the selected profile to a file.
    ExportProfile,
    /// Read a profile from a file.
    ImportProfile,
    /// Card to stock.
    BackToStock,
    /// Begin another climb.
    NewClimb,
    /// Look at the trial before.
    Earlier,
    /// Look at the trial after.
    Later,
    /// Back to the present.
    Present,
    /// Say what the machine is like.
    Machine,
    /// Choose among the cards.
    Cards,
    /// Try settings of one's own.
    Settings,
    /// Cursor back in time.
    CursorBack,
    /// Cursor on in time.
    CursorOn,
    /// A shorter stretch of time.
    ZoomIn,
    /// A longer stretch of time.
    ZoomOut,
    /// An earlier stretch.
    ScrollBack,
    /// A later stretch.
    ScrollOn,
    /// Hold the picture still.
    Freeze,
    /// Take figures anew.
    ResetFigures,
    /// Lay another trial over.
    LayOver,
    /// Write what is shown to a file.
    Export,
    /// Read a trace made elsewhere.
    Import,
    /// The spoilt frame before.
    FrameBefore,
    /// The spoilt frame after.
    FrameAfter,
    /// The artifact above in the list.
    ArtifactUp,
    /// The artifact below in the list.
    ArtifactDown,
    /// A smaller part of the frame, larger.
    Nearer,
    /// A larger part of the frame.
    Farther,
    /// Write the pictures to a file.
    ExportPicture,
    /// In Shape, the point before, or a value one step down.
    ShapeLeft,
    /// In Shape, the point after, or a value one step up.
    ShapeRight,
    /// In Shape, one step up.
    ShapeUp,
    /// In Shape, one step down.
    ShapeDown,
    /// In Shape, five steps up.
    ShapeMuchUp,
    /// In Shape, five steps down.
    ShapeMuchDown,
    /// In Shape, the first point.
    ShapeFirst,
    /// In Shape, the last point.
    ShapeLast,
    /// In Shape, something else for the keys to move.
    ShapeFocus,
    /// In Shape, type a number.
    ShapeType,
    /// Flatten everything to the right of a point.
    Flatten,
    /// Smooth what lies left of a point, or the states below the top.
    Smooth,
    /// Shift the whole curve up.
    ShiftUp,
    /// Shift the whole curve down.
    ShiftDown,
    /// Take the last move of the curve back.
    Undo,
    /// Make it again.
    Redo,
    /// Everything in Shape as from the factory.
    Factory,
    /// A nearer look at the curve.
    ShapeNearer,
    /// A farther look at the curve.
    ShapeFarther,
    /// Have the shape tried next.
    AskShape,
    /// Have the card held at one point.
    HoldPoint,
    /// In Weigh, the point of the frontier that costs less.
    FrontierLess,
    /// In Weigh, the point of the frontier that costs more.
    FrontierMore,
    /// In Weigh, the point before, on the frontier or not.
    PointBefore,
    /// In Weigh, the point after.
    PointAfter,
    /// Weigh against something else.
    OtherCost,
    /// Weigh the runs of another load.
    OtherLoad,
    /// Have the picked point tried next.
    AskPoint,
    /// Draw the frontier into a file.
    ExportFrontier,
    /// In Ledger, another line of the list.
    Row(Move),
    /// Trials or climbs.
    OtherList,
    /// Open what is selected.
    OpenRow,
    /// Search for words and figures.
    Search,
    /// Choose what is listed.
    Filter,
    /// Sort by something else.
    Sort,
    /// Sort the other way round.
    Reverse,
    /// Write a note.
    Jot,
    /// Flag a trial.
    Flag,
    /// Hold a trial, to compare others with it.
    Hold,
    /// Try a trial's settings again.
    Repeat,
    /// Delete what is selected.
    Delete,
    /// Bring back what was deleted.
    BringBack,
    /// Make an end of what was deleted.
    Empty,
    /// Write the list to a file.
    ExportList,
    /// Restart the machine.
    Restart,
    /// Say how a run went that only the user sees.
    Say,
    /// Next pace.
    Pace,
    /// Show a view.
    Show(View),
    /// All actions.
    Help,
    /// Leave.
    Quit,
}

/// A way through a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Move {
    /// One line up.
    Up,
    /// One line down.
    Down,
    /// A screenful up.
    PageUp,
    /// A screenful down.
    PageDown,
    /// To the first.
    First,
    /// To the last.
    Last,
}

/// What the moment is like: all that decides whether an action applies.
#[derive(Debug, Clone, Copy)]
pub struct Moment {
    pub(super) view: View,
    pub(super) running: bool,
    pub(super) gone: bool,
    pub(super) has_next: bool,
    pub(super) has_outcome: bool,
    pub(super) has_trials: bool,
    pub(super) has_baseline: bool,
    pub(super) has_failure: bool,
    pub(super) looking: bool,
    pub(super) has_run: bool,
    pub(super) many_cards: bool,
    /// Something in the view is held still, picked or narrowed down.
    pub(super) holding: bool,
    pub(super) has_spoilt: bool,
    /// The machine is down, or its card gone.
    pub(super) down: bool,
    pub(super) wants_restart: bool,
    pub(super) is_manual: bool,
    /// In Shape, the card lets a curve be shaped.
    pub(super) has_curve: bool,
    /// In Shape, what is shaped is what the next trial asks for.
    pub(super) shape_is_next: bool,
    /// In Weigh, a point is picked.
    pub(super) has_point: bool,
    /// In Weigh, the picked point is what the next trial asks for.
    pub(super) point_is_next: bool,
    /// In Ledger, profiles are listed.
    pub(super) in_profiles: bool,
    /// In Ledger, a profile is selected.
    pub(super) has_profile: bool,
    /// In Ledger, something is selected.
    pub(super) has_row: bool,
    /// In Ledger, something was deleted that can be brought back.
    pub(super) has_removed: bool,
}

impl Moment {
    /// The moment a snapshot shows.
    #[must_use]
    pub fn of(snapshot: &Snapshot, state: &State) -> Self {
        let view = state.view;
        Self {
            view,
            running: matches!(snapshot.activity, Activity::Running | Activity::Paused),
            gone: snapshot.activity == Activity::Gone,
            has_next: matches!(snapshot.next, NextView::Trial { .. }),
            has_outcome: matches!(snapshot.next, NextView::Ended(_)),
            has_trials: !snapshot.trials.is_empty(),
            has_baseline: snapshot.baseline.is_some(),
            has_failure: snapshot
                .trials
                .iter()
                .any(|trial| trial.verdict().meaning() == Meaning::TooMuch),
            looking: snapshot.looked_at.is_some(),
            has_run: view == View::Trace && state.trace.shown(snapshot).is_some(),
            many_cards: snapshot.rack.len() > 1,
            holding: (view == View::Trace && state.trace.holds())
                || (view == View::Artifacts && state.artifacts.holds())
                || (view == View::Ledger && state.ledger.holds()),
            has_spoilt: snapshot.shown().is_some_and(|run| !run.spoilt.is_empty()),
            down: matches!(snapshot.restart, Some(Restart::Down | Restart::CardGone)),
            wants_restart: snapshot.restart.is_some(),
            is_manual: snapshot.is_manual,
            has_curve: view == View::Shape && snapshot.card.curve.is_some(),
            shape_is_next: view == View::Shape && state.shape.shown(snapshot).is_next(snapshot),
            has_point: view == View::Weigh && state.weigh.point().is_some(),
            point_is_next: view == View::Weigh
                && state.weigh.point().is_some_and(|point| is_asked(snapshot, &point.settings)),
            in_profiles: view == View::Ledger && state.ledger.list() == List::Profiles,
            has_profile: view == View::Ledger
                && state.ledger.list() == List::Profiles
                && !snapshot.profiles.is_empty(),
            has_row: view == View::Ledger && state.ledger.has_row(),
            has_removed: view == View::Ledger && state.ledger.has_removed(),
        }
    }

    pub(super) fn in_ledger(self) -> bool {
        self.view == View::Ledger
    }

    pub(super) fn in_weigh(self) -> bool {
        self.view == View::Weigh
    }

    pub(super) fn in_shape(self) -> bool {
        self.view == View::Shape
    }

    /// Whether trials or climbs are listed.
    pub(super) fn in_lists(self) -> bool {
        self.in_ledger() && !self.in_profiles
    }

    /// Whether the settings of one trial can be kept: of the selected one in Ledger, of the run that
    /// is shown in Shape, of the trial looked at elsewhere.
    pub(super) fn has_trial_to_keep(self) -> bool {
        match self.view {
            View::Ledger => self.has_row,
            View::Shape => true,
            View::Climb | View::Trace => self.looking,
            View::Weigh => self.has_point,
            View::Survey | View::Artifacts => false,
        }
    }

    /// Whether Enter stands for the next step, and not for something of the view.
    pub(super) fn enter_is_free(self) -> bool {
        match self.view {
            View::Ledger => false,
            View::Shape => self.shape_is_next,
            View::Weigh => self.point_is_next || !self.has_point,
            _ => true,
        }
    }

    pub(super) fn waits(self) -> bool {
        !self.running && !self.gone
    }
}

/// Whether the next trial asks for these settings.
pub(super) fn is_asked(snapshot: &Snapshot, settings: &Settings) -> bool {
    matches!(&snapshot.next, NextView::Trial { asked, .. } if **asked == *settings)
}

/// The action a key stands for at this moment.
#[must_use]
pub fn action_for(event: KeyEvent, moment: Moment) -> Option<Action> {
    if event.modifiers.contains(KeyModifiers::CONTROL) {
        return (event.code == KeyCode::Char('c')).then_some(Action::Quit);
    }
    BINDINGS
        .iter()
        .find(|binding| binding.keys.contains(&event.code) && (binding.applies)(moment))
        .map(|binding| binding.action)
}

/// A key as it is shown.
#[must_use]
pub fn key_name(code: KeyCode) -> String {
    match code {
        KeyCode::Enter => "Enter".into(),
        KeyCode::Esc => "Esc".into(),
        KeyCode::Up => "↑".into(),
        KeyCode::Down => "↓".into(),
        KeyCode::Left => "←".into(),
        KeyCode::Right => "→".into(),
        KeyCode::PageUp => "PgUp".into(),
        KeyCode::PageDown => "PgDn".into(),
        KeyCode::Delete => "Del".into(),
        KeyCode::Char(' ') => "Space".into(),
        KeyCode::Char(character) => character.to_string(),
        other => format!("{other:?}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::bindings::Binding;
    use rstest::rstest;
    use std::collections::BTreeMap;

    const fn key(character: char) -> KeyCode {
        KeyCode::Char(character)
    }

    fn moments() -> impl Iterator<Item = Moment> {
        View::ALL.into_iter().flat_map(|view| {
            (0..1_u32 << 15).map(move |bits| {
                let bit = |place: u32| bits >> place & 1 == 1;
                Moment {
                    view,
                    running: bit(0),
                    gone: bit(1),
                    has_next: bit(2),
                    has_outcome: bit(3),
                    has_trials: bit(4),
                    has_baseline: bit(5),
                    has_failure: bit(14),
                    looking: bit(6),
                    has_run: bit(7) && view == View::Trace,
                    many_cards: bit(8),
                    holding: bit(9) && matches!(view, View::Trace | View::Artifacts | View::Ledger),
                    has_spoilt: bit(10),
                    down: bit(11),
                    wants_restart: bit(12),
                    is_manual: bit(13),
                    has_curve: bit(10) && view == View::Shape,
                    shape_is_next: bit(7) && view == View::Shape,
                    has_point: bit(7) && view == View::Weigh,
                    point_is_next: bit(7) && bit(10) && view == View::Weigh,
                    in_profiles: bit(9) && view == View::Ledger,
                    has_profile: bit(9) && bit(10) && view == View::Ledger,
                    has_row: bit(7) && !bit(9) && view == View::Ledger,
                    has_removed: bit(10) && !bit(9) && view == View::Ledger,
                }
            })
        })
    }

    #[rstest]
    fn at_no_moment_do_two_actions_share_a_key() {
        for moment in moments() {
            let mut owners: BTreeMap<String, Vec<&str>> = BTreeMap::new();
            for binding in BINDINGS.iter().filter(|binding| (binding.applies)(moment)) {
                for code in binding.keys {
                    owners.entry(key_name(*code)).or_default().push(binding.label);
                }
            }
            let shared: Vec<_> = owners.iter().filter(|(_, owners)| owners.len() > 1).collect();
            assert!(shared.is_empty(), "{shared:?} at {moment:?}");
        }
    }

    #[rstest]
    fn every_action_is_in_the_table_and_applies_in_one_way_at_a_time() {
        for binding in BINDINGS {
            assert!(!binding.keys.is_empty() && !binding.label.is_empty());
            assert!(binding.help.len() > 8, "{:?} needs a line of help", binding.action);
            let same = |other: &&Binding| other.action == binding.action;
            if BINDINGS.iter().filter(same).count() == 1 {
                continue;
            }
            for moment in moments() {
                let ways = BINDINGS.iter().filter(same).filter(|b| (b.applies)(moment)).count();
                assert!(ways <= 1, "{:?} at {moment:?}", binding.action);
            }
        }
        for view in View::ALL {
            assert!(BINDINGS.iter().any(|binding| binding.action == Action::Show(view)));
        }
    }

    #[rstest]
    fn control_c_always_quits_and_other_control_keys_do_nothing() {
        let moment = Moment {
            view: View::Climb,
            running: true,
            gone: false,
            has_next: true,
            has_outcome: false,
            has_trials: true,
            has_baseline: true,
            has_failure: true,
            looking: false,
            has_run: false,
            many_cards: false,
            holding: false,
            has_spoilt: false,
            down: false,
            wants_restart: false,
            is_manual: false,
            has_curve: false,
            shape_is_next: false,
            has_point: false,
            point_is_next: false,
            in_profiles: false,
            has_profile: false,
            has_row: false,
            has_removed: false,
        };
        let press = |character| KeyEvent::new(key(character), KeyModifiers::CONTROL);
        assert_eq!(action_for(press('c'), moment), Some(Action::Quit));
        assert_eq!(action_for(press('s'), moment), None);
        let plain = |character| KeyEvent::new(key(character), KeyModifiers::NONE);
        assert_eq!(action_for(plain('s'), moment), Some(Action::Stop));
        assert_eq!(action_for(plain('k'), moment), None, "nothing to keep while a trial runs");
    }
}
