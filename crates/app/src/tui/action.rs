//! The one table of what can be done: name, keys, words and when it applies. Keys, footer and help
//! all read it.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use yard_step_core::Meaning;
use yard_step_engine::{Activity, NextView, Restart, Snapshot};

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
}

impl View {
    /// All views, in the order of the work.
    pub const ALL: [Self; 4] = [Self::Survey, Self::Climb, Self::Trace, Self::Artifacts];

    /// Key that shows the view.
    #[must_use]
    pub const fn key(self) -> char {
        match self {
            Self::Survey => '1',
            Self::Climb => '2',
            Self::Trace => '3',
            Self::Artifacts => 'v',
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

/// What the moment is like: all that decides whether an action applies.
#[derive(Debug, Clone, Copy)]
pub struct Moment {
    view: View,
    running: bool,
    gone: bool,
    has_next: bool,
    has_outcome: bool,
    has_trials: bool,
    has_baseline: bool,
    has_failure: bool,
    looking: bool,
    has_run: bool,
    many_cards: bool,
    /// Something in the view is held still, picked or narrowed down.
    holding: bool,
    has_spoilt: bool,
    /// The machine is down, or its card gone.
    down: bool,
    wants_restart: bool,
    is_manual: bool,
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
                || (view == View::Artifacts && state.artifacts.holds()),
            has_spoilt: snapshot.shown().is_some_and(|run| !run.spoilt.is_empty()),
            down: matches!(snapshot.restart, Some(Restart::Down | Restart::CardGone)),
            wants_restart: snapshot.restart.is_some(),
            is_manual: snapshot.is_manual,
        }
    }

    fn waits(self) -> bool {
        !self.running && !self.gone
    }
}

/// An entry of the table.
pub struct Binding {
    /// What it does.
    pub action: Action,
    /// Keys, the first of which is shown in the footer.
    pub keys: &'static [KeyCode],
    /// A word or two for the footer.
    pub label: &'static str,
    /// A line for the help.
    pub help: &'static str,
    /// When it applies.
    pub applies: fn(Moment) -> bool,
    /// Whether the footer shows it when it applies.
    pub in_footer: bool,
}

const fn key(character: char) -> KeyCode {
    KeyCode::Char(character)
}

/// The table.
pub const BINDINGS: &[Binding] = &[
    Binding {
        action: Action::Try,
        keys: &[KeyCode::Enter],
        label: "try it",
        help: "carry out the next step",
        applies: |m| m.waits() && m.has_next && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::Restart,
        keys: &[KeyCode::Enter],
        label: "restart the machine",
        help: "restart a machine that went down, and take the climb up again",
        applies: |m| m.waits() && m.down,
        in_footer: true,
    },
    Binding {
        action: Action::Restart,
        keys: &[key('R')],
        label: "restart",
        help: "restart the machine after a driver reset: boost is odd until then",
        applies: |m| m.waits() && m.wants_restart && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::Say,
        keys: &[key('w')],
        label: "say what you saw",
        help: "end a run of the manual load with what you saw in it",
        applies: |m| m.running && m.is_manual,
        in_footer: true,
    },
    Binding {
        action: Action::FrameBefore,
        keys: &[KeyCode::Left],
        label: "frame before",
        help: "in Artifacts: show the spoilt frame before",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::FrameAfter,
        keys: &[KeyCode::Right],
        label: "after",
        help: "in Artifacts: show the spoilt frame after",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::ArtifactUp,
        keys: &[KeyCode::Up],
        label: "artifact",
        help: "in Artifacts: look at the artifact above in the list",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::ArtifactDown,
        keys: &[KeyCode::Down],
        label: "artifact",
        help: "in Artifacts: look at the artifact below in the list",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: false,
    },
    Binding {
        action: Action::Nearer,
        keys: &[key('+'), key('=')],
        label: "nearer",
        help: "in Artifacts: enlarge the artifact that is looked at",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::Farther,
        keys: &[key('-')],
        label: "farther",
        help: "in Artifacts: show more of the frame again",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::ExportPicture,
        keys: &[key('x')],
        label: "export",
        help: "in Artifacts: write frame, reference and difference as PNG",
        applies: |m| m.view == View::Artifacts && m.has_spoilt,
        in_footer: true,
    },
    Binding {
        action: Action::Auto,
        keys: &[key('a')],
        label: "auto-climb",
        help: "take every next step without being asked, or stop doing so",
        applies: |m| !m.gone && (m.running || (m.has_next && !m.down)),
        in_footer: true,
    },
    Binding {
        action: Action::NudgeUp,
        keys: &[KeyCode::Up, key('+')],
        label: "higher",
        help: "make the next value one fine step higher",
        applies: |m| !m.gone && m.view == View::Climb && m.has_baseline,
        in_footer: true,
    },
    Binding {
        action: Action::NudgeDown,
        keys: &[KeyCode::Down, key('-')],
        label: "lower",
        help: "make the next value one fine step lower",
        applies: |m| !m.gone && m.view == View::Climb && m.has_baseline,
        in_footer: true,
    },
    Binding {
        action: Action::DropNudge,
        keys: &[key('d')],
        label: "as planned",
        help: "leave the next value to the plan again",
        applies: |m| !m.gone && m.view == View::Climb && m.has_baseline,
        in_footer: false,
    },
    Binding {
        action: Action::Pause,
        keys: &[key(' ')],
        label: "pause",
        help: "hold the run still, or let it go on",
        applies: |m| m.running,
        in_footer: true,
    },
    Binding {
        action: Action::Stop,
        keys: &[key('s')],
        label: "stop",
        help: "stop the run; it proves nothing then",
        applies: |m| m.running,
        in_footer: true,
    },
    Binding {
        action: Action::Keep,
        keys: &[key('k')],
        label: "keep",
        help: "keep the outcome as a profile and put the card to it",
        applies: |m| m.waits() && m.has_outcome && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::Earlier,
        keys: &[KeyCode::Left],
        label: "earlier",
        help: "look at the trial before",
        applies: |m| m.waits() && m.view == View::Climb && m.has_trials,
        in_footer: true,
    },
    Binding {
        action: Action::Later,
        keys: &[KeyCode::Right],
        label: "later",
        help: "look at the trial after",
        applies: |m| m.waits() && m.view == View::Climb && m.looking,
        in_footer: true,
    },
    Binding {
        action: Action::CursorBack,
        keys: &[KeyCode::Left],
        label: "cursor",
        help: "in Trace: move the cursor back in time (Shift: ten times as far)",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::CursorOn,
        keys: &[KeyCode::Right],
        label: "cursor",
        help: "in Trace: move the cursor on in time",
        applies: |m| m.has_run,
        in_footer: false,
    },
    Binding {
        action: Action::ZoomIn,
        keys: &[key('+'), key('='), KeyCode::Up],
        label: "zoom in",
        help: "in Trace: show half the time, around the cursor",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::ZoomOut,
        keys: &[key('-'), KeyCode::Down],
        label: "out",
        help: "in Trace: show twice the time",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::ScrollBack,
        keys: &[key('['), KeyCode::PageUp],
        label: "back",
        help: "in Trace: show the time before",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::ScrollOn,
        keys: &[key(']'), KeyCode::PageDown],
        label: "on",
        help: "in Trace: show the time after",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::Freeze,
        keys: &[key('f')],
        label: "hold still",
        help: "in Trace: hold the picture still while data goes on arriving, or let it go",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::ResetFigures,
        keys: &[key('r')],
        label: "reset",
        help: "in Trace: take lowest, mean and highest from now on",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::LayOver,
        keys: &[key('o')],
        label: "lay over",
        help: "in Trace: lay an earlier trial over this one, the one before that, and none again",
        applies: |m| m.has_run && m.waits() && m.has_trials,
        in_footer: true,
    },
    Binding {
        action: Action::Export,
        keys: &[key('x')],
        label: "export",
        help: "in Trace: write the stretch that is shown as CSV",
        applies: |m| m.has_run,
        in_footer: true,
    },
    Binding {
        action: Action::Import,
        keys: &[key('i')],
        label: "import",
        help: "in Trace: read a trace made elsewhere",
        applies: |m| m.view == View::Trace,
        in_footer: true,
    },
    Binding {
        action: Action::Earlier,
        keys: &[key(',')],
        label: "earlier",
        help: "in Trace and Artifacts: look at the trial before",
        applies: |m| m.waits() && matches!(m.view, View::Trace | View::Artifacts) && m.has_trials,
        in_footer: true,
    },
    Binding {
        action: Action::Later,
        keys: &[key('.')],
        label: "later",
        help: "in Trace and Artifacts: look at the trial after",
        applies: |m| m.waits() && matches!(m.view, View::Trace | View::Artifacts) && m.looking,
        in_footer: true,
    },
    Binding {
        action: Action::Machine,
        keys: &[key('r')],
        label: "room, supply, alarms",
        help: "in Survey: say what room, power supply and alarms are",
        applies: |m| m.view == View::Survey && !m.gone,
        in_footer: true,
    },
    Binding {
        action: Action::Settings,
        keys: &[key('t')],
        label: "try settings",
        help: "set what the card offers and try it next, whatever the plan",
        applies: |m| m.waits() && matches!(m.view, View::Survey | View::Climb),
        in_footer: true,
    },
    Binding {
        action: Action::Cards,
        keys: &[key('c')],
        label: "cards",
        help: "choose another card of this machine, or hold two alike in step",
        applies: |m| m.waits() && m.many_cards,
        in_footer: true,
    },
    Binding {
        action: Action::Present,
        keys: &[KeyCode::Esc],
        label: "present",
        help: "let go of what is held or looked at, one thing after the other",
        applies: |m| m.holding || (m.waits() && m.looking),
        in_footer: false,
    },
    Binding {
        action: Action::Mark,
        keys: &[key('m')],
        label: "mark",
        help: "give the trial looked at, or the last one, a verdict of your own",
        applies: |m| !m.gone && m.has_trials,
        in_footer: true,
    },
    Binding {
        action: Action::EndStage,
        keys: &[key('e')],
        label: "end stage",
        help: "end the stage with what is known",
        applies: |m| !m.gone && !m.has_outcome,
        in_footer: true,
    },
    Binding {
        action: Action::Stages,
        keys: &[key('g')],
        label: "stages",
        help: "the stages, how steps are chosen, and the margin: end, skip, repeat or change them",
        applies: |m| m.waits(),
        in_footer: true,
    },
    Binding {
        action: Action::Chart,
        keys: &[key('z')],
        label: "core/memory/map",
        help: "in Climb: the staircase of core or memory, or the map of both",
        applies: |m| m.view == View::Climb,
        in_footer: true,
    },
    Binding {
        action: Action::Which,
        keys: &[key('u')],
        label: "which one?",
        help: "find out whether core or memory failed in the trial looked at, or in the last failure",
        applies: |m| m.waits() && m.has_failure,
        in_footer: false,
    },
    Binding {
        action: Action::LeaveOut,
        keys: &[key('l')],
        label: "what brought what",
        help: "at the end of the climb, run with one setting left out after the other",
        applies: |m| m.waits() && m.has_baseline,
        in_footer: false,
    },
    Binding {
        action: Action::BackToStock,
        keys: &[key('b')],
        label: "to stock",
        help: "put the card back to its factory state; stops a run",
        applies: |m| !m.gone && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::NewClimb,
        keys: &[key('n')],
        label: "new climb",
        help: "begin another climb on this card",
        applies: |m| m.waits() && (m.has_trials || !m.has_next),
        in_footer: false,
    },
    Binding {
        action: Action::Pace,
        keys: &[key('p')],
        label: "pace",
        help: "run the virtual clock at 1×, 10×, 60× or as fast as possible",
        applies: |m| !m.gone,
        in_footer: true,
    },
    Binding {
        action: Action::Show(View::Survey),
        keys: &[key('1')],
        label: "Survey",
        help: "show the card, its settings, sensors and baseline",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Show(View::Climb),
        keys: &[key('2')],
        label: "Climb",
        help: "show the staircase, the run and the next step",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Show(View::Trace),
        keys: &[key('3')],
        label: "Trace",
        help: "show everything that was measured, over time",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Show(View::Artifacts),
        keys: &[key('v')],
        label: "artifacts",
        help: "show spoilt frames beside what they should have been",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Help,
        keys: &[key('?')],
        label: "all keys",
        help: "show this table",
        applies: |_| true,
        in_footer: true,
    },
    Binding {
        action: Action::Quit,
        keys: &[key('q')],
        label: "quit",
        help: "put the card back to what was kept, or to stock, and leave",
        applies: |_| true,
        in_footer: true,
    },
];

/// The action a key stands for at this moment.
#[must_use]
pub fn action_for(event: KeyEvent, moment: Moment) -> Option<Action> {
    if event.modifiers.contains(KeyModifiers::CONTROL) {
        return (event.code == key('c')).then_some(Action::Quit);
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
        KeyCode::Char(' ') => "Space".into(),
        KeyCode::Char(character) => character.to_string(),
        other => format!("{other:?}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::collections::BTreeMap;

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
                    holding: bit(9) && matches!(view, View::Trace | View::Artifacts),
                    has_spoilt: bit(10),
                    down: bit(11),
                    wants_restart: bit(12),
                    is_manual: bit(13),
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
        };
        let press = |character| KeyEvent::new(key(character), KeyModifiers::CONTROL);
        assert_eq!(action_for(press('c'), moment), Some(Action::Quit));
        assert_eq!(action_for(press('s'), moment), None);
        let plain = |character| KeyEvent::new(key(character), KeyModifiers::NONE);
        assert_eq!(action_for(plain('s'), moment), Some(Action::Stop));
        assert_eq!(action_for(plain('k'), moment), None, "nothing to keep while a trial runs");
    }
}
