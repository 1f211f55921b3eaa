//! The one table of what can be done: name, keys, words and when it applies. Keys, footer and help
//! all read it.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use crate::tui::keys::action::{Action, Move, View};
use crate::tui::keys::moment::Moment;

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

impl Binding {
    /// The keys, as they are shown.
    #[must_use]
    pub fn keys_in_words(&self) -> String {
        self.keys.iter().map(|code| key_name(*code)).collect::<Vec<_>>().join(" ")
    }

    /// What it does, without the view it belongs to, and whether it belongs to one.
    #[must_use]
    pub fn help_in_view(&self) -> (&'static str, bool) {
        let of_view = self.help.strip_prefix("in ").and_then(|help| help.split_once(": "));
        of_view.map_or((self.help, false), |(_, help)| (help, true))
    }
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
        applies: |m| m.waits() && m.has_next && !m.down && m.enter_is_free(),
        in_footer: true,
    },
    Binding {
        action: Action::Restart,
        keys: &[KeyCode::Enter],
        label: "restart the machine",
        help: "restart a machine that went down, and take the climb up again",
        applies: |m| m.waits() && m.down && !m.in_ledger(),
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
        action: Action::AskPoint,
        keys: &[KeyCode::Enter],
        label: "ask for it",
        help: "in Weigh: have the picked point tried next; Enter once more tries it",
        applies: |m| m.waits() && m.has_point && !m.point_is_next && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::FrontierLess,
        keys: &[KeyCode::Left],
        label: "undervolt-quiet",
        help: "in Weigh: pick the point of the frontier that costs less",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::FrontierMore,
        keys: &[KeyCode::Right],
        label: "more",
        help: "in Weigh: pick the point of the frontier that costs more",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::PointBefore,
        keys: &[KeyCode::Up],
        label: "any point",
        help: "in Weigh: pick the point before, on the frontier or not",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::PointAfter,
        keys: &[KeyCode::Down],
        label: "any point",
        help: "in Weigh: pick the point after, on the frontier or not",
        applies: |m| m.in_weigh(),
        in_footer: false,
    },
    Binding {
        action: Action::OtherCost,
        keys: &[KeyCode::Tab],
        label: "against",
        help: "in Weigh: weigh against watts, degrees or decibels",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::OtherLoad,
        keys: &[key('f')],
        label: "load",
        help: "in Weigh: weigh the runs of another load",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::ExportFrontier,
        keys: &[key('x')],
        label: "export",
        help: "in Weigh: draw the frontier as SVG or PDF",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::UseProfile,
        keys: &[KeyCode::Enter],
        label: "put the card to it",
        help: "in Ledger: put the card to the selected profile, at each start as far as it is proven",
        applies: |m| m.has_profile && m.waits() && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::CheckProfile,
        keys: &[key('r')],
        label: "try it again",
        help: "in Ledger: try the selected profile next, to prove it or to see whether it has drifted",
        applies: |m| m.has_profile && !m.gone,
        in_footer: true,
    },
    Binding {
        action: Action::ExportProfile,
        keys: &[key('x')],
        label: "export",
        help: "in Ledger: write the selected profile as JSON",
        applies: |m| m.has_profile,
        in_footer: true,
    },
    Binding {
        action: Action::ImportProfile,
        keys: &[key('i')],
        label: "import",
        help: "in Ledger: read a profile from JSON, as a starting point that is cut back",
        applies: |m| m.in_profiles,
        in_footer: true,
    },
    Binding {
        action: Action::DropProfile,
        keys: &[key('d'), KeyCode::Delete],
        label: "delete",
        help: "in Ledger: delete the selected profile; its trials stay",
        applies: |m| m.has_profile && m.waits(),
        in_footer: true,
    },
    Binding {
        action: Action::LoadShape,
        keys: &[key('l')],
        label: "to Shape",
        help: "in Ledger and Weigh: shape the settings of what is selected",
        applies: |m| m.has_row || m.has_profile || m.has_point,
        in_footer: true,
    },
    Binding {
        action: Action::OpenRow,
        keys: &[KeyCode::Enter],
        label: "open",
        help: "in Ledger: look at the selected trial in Trace, or list the climb's trials",
        applies: |m| m.has_row && m.waits(),
        in_footer: true,
    },
    Binding {
        action: Action::Row(Move::Up),
        keys: &[KeyCode::Up],
        label: "up",
        help: "in Ledger: select the line above",
        applies: |m| m.in_ledger(),
        in_footer: false,
    },
    Binding {
        action: Action::Row(Move::Down),
        keys: &[KeyCode::Down],
        label: "down",
        help: "in Ledger: select the line below",
        applies: |m| m.in_ledger(),
        in_footer: false,
    },
    Binding {
        action: Action::Row(Move::PageUp),
        keys: &[KeyCode::PageUp],
        label: "page up",
        help: "in Ledger: a screenful up",
        applies: |m| m.in_ledger(),
        in_footer: false,
    },
    Binding {
        action: Action::Row(Move::PageDown),
        keys: &[KeyCode::PageDown],
        label: "page down",
        help: "in Ledger: a screenful down",
        applies: |m| m.in_ledger(),
        in_footer: false,
    },
    Binding {
        action: Action::Row(Move::First),
        keys: &[KeyCode::Home],
        label: "first",
        help: "in Ledger: to the first line",
        applies: |m| m.in_ledger(),
        in_footer: false,
    },
    Binding {
        action: Action::Row(Move::Last),
        keys: &[KeyCode::End],
        label: "last",
        help: "in Ledger: to the last line",
        applies: |m| m.in_ledger(),
        in_footer: false,
    },
    Binding {
        action: Action::Search,
        keys: &[key('/')],
        label: "search",
        help: "in Ledger: search for words and figures, such as: clean score>1000",
        applies: |m| m.in_lists(),
        in_footer: true,
    },
    Binding {
        action: Action::Filter,
        keys: &[key('f')],
        label: "filter",
        help: "in Ledger: choose card, climb, stage, verdict, load, flagged or deleted",
        applies: |m| m.in_lists(),
        in_footer: true,
    },
    Binding {
        action: Action::Sort,
        keys: &[key('o')],
        label: "order",
        help: "in Ledger: sort by something else",
        applies: |m| m.in_lists(),
        in_footer: true,
    },
    Binding {
        action: Action::Reverse,
        keys: &[key('O')],
        label: "reverse",
        help: "in Ledger: sort the other way round",
        applies: |m| m.in_lists(),
        in_footer: false,
    },
    Binding {
        action: Action::OtherList,
        keys: &[KeyCode::Tab],
        label: "other list",
        help: "in Ledger: list trials, climbs or profiles",
        applies: |m| m.in_ledger(),
        in_footer: true,
    },
    Binding {
        action: Action::Hold,
        keys: &[key('h')],
        label: "hold",
        help: "in Ledger: hold the selected trial and compare others with it",
        applies: |m| m.has_row,
        in_footer: true,
    },
    Binding {
        action: Action::Repeat,
        keys: &[key('r')],
        label: "repeat",
        help: "in Ledger: try the selected trial's settings again next",
        applies: |m| m.has_row && !m.gone,
        in_footer: true,
    },
    Binding {
        action: Action::Flag,
        keys: &[key('*')],
        label: "flag",
        help: "in Ledger: flag the selected trial, or take its flag away",
        applies: |m| m.has_row,
        in_footer: true,
    },
    Binding {
        action: Action::Jot,
        keys: &[key('j')],
        label: "note",
        help: "in Ledger: write a note on the selected trial or climb",
        applies: |m| m.has_row,
        in_footer: true,
    },
    Binding {
        action: Action::Delete,
        keys: &[key('d'), KeyCode::Delete],
        label: "delete",
        help: "in Ledger: delete the selected trial or climb; z brings it back",
        applies: |m| m.has_row,
        in_footer: true,
    },
    Binding {
        action: Action::BringBack,
        keys: &[key('z')],
        label: "bring back",
        help: "in Ledger: bring back what was deleted last, or is selected among the deleted",
        applies: |m| m.has_removed,
        in_footer: true,
    },
    Binding {
        action: Action::Empty,
        keys: &[key('D')],
        label: "empty",
        help: "in Ledger: make an end of all that was deleted",
        applies: |m| m.has_removed,
        in_footer: false,
    },
    Binding {
        action: Action::ExportList,
        keys: &[key('x')],
        label: "export",
        help: "in Ledger: write the list as CSV",
        applies: |m| m.has_row,
        in_footer: false,
    },
    Binding {
        action: Action::AskShape,
        keys: &[KeyCode::Enter],
        label: "ask for it",
        help: "in Shape: have the shape tried next; Enter once more tries it",
        applies: |m| m.waits() && m.in_shape() && !m.shape_is_next && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::ShapeLeft,
        keys: &[KeyCode::Left],
        label: "point",
        help: "in Shape: pick the point before; of a value, a step down",
        applies: |m| m.in_shape(),
        in_footer: true,
    },
    Binding {
        action: Action::ShapeRight,
        keys: &[KeyCode::Right],
        label: "point",
        help: "in Shape: pick the point after; of a value, a step up",
        applies: |m| m.in_shape(),
        in_footer: false,
    },
    Binding {
        action: Action::ShapeUp,
        keys: &[KeyCode::Up],
        label: "raise",
        help: "in Shape: raise the picked point, or the value, by a step",
        applies: |m| m.in_shape(),
        in_footer: true,
    },
    Binding {
        action: Action::ShapeDown,
        keys: &[KeyCode::Down],
        label: "lower",
        help: "in Shape: lower the picked point, or the value, by a step",
        applies: |m| m.in_shape(),
        in_footer: true,
    },
    Binding {
        action: Action::ShapeMuchUp,
        keys: &[KeyCode::PageUp],
        label: "raise much",
        help: "in Shape: raise by five steps",
        applies: |m| m.in_shape(),
        in_footer: false,
    },
    Binding {
        action: Action::ShapeMuchDown,
        keys: &[KeyCode::PageDown],
        label: "lower much",
        help: "in Shape: lower by five steps",
        applies: |m| m.in_shape(),
        in_footer: false,
    },
    Binding {
        action: Action::ShapeFirst,
        keys: &[KeyCode::Home],
        label: "first",
        help: "in Shape: pick the first point",
        applies: |m| m.has_curve,
        in_footer: false,
    },
    Binding {
        action: Action::ShapeLast,
        keys: &[KeyCode::End],
        label: "last",
        help: "in Shape: pick the last point",
        applies: |m| m.has_curve,
        in_footer: false,
    },
    Binding {
        action: Action::ShapeFocus,
        keys: &[KeyCode::Tab],
        label: "what moves",
        help: "in Shape: move clocks, voltages of states, or one of the values beside them",
        applies: |m| m.in_shape(),
        in_footer: true,
    },
    Binding {
        action: Action::ShapeType,
        keys: &[key('=')],
        label: "type",
        help: "in Shape: type a number for what moves, or a share of the whole curve such as 95%",
        applies: |m| m.in_shape(),
        in_footer: true,
    },
    Binding {
        action: Action::Flatten,
        keys: &[key('f')],
        label: "flatten",
        help: "in Shape: flatten everything to the right of the point to its clock",
        applies: |m| m.has_curve,
        in_footer: true,
    },
    Binding {
        action: Action::Smooth,
        keys: &[key('y')],
        label: "smooth",
        help: "in Shape: smooth what lies left of the point, or the states below the top",
        applies: |m| m.has_curve,
        in_footer: true,
    },
    Binding {
        action: Action::ShiftUp,
        keys: &[key(']')],
        label: "shift up",
        help: "in Shape: shift the whole curve up by a step",
        applies: |m| m.has_curve,
        in_footer: true,
    },
    Binding {
        action: Action::ShiftDown,
        keys: &[key('[')],
        label: "shift down",
        help: "in Shape: shift the whole curve down by a step",
        applies: |m| m.has_curve,
        in_footer: false,
    },
    Binding {
        action: Action::Undo,
        keys: &[key('z')],
        label: "undo",
        help: "in Shape: take the last move of the curve back",
        applies: |m| m.has_curve,
        in_footer: true,
    },
    Binding {
        action: Action::Redo,
        keys: &[key('Z')],
        label: "redo",
        help: "in Shape: make the move again that was taken back",
        applies: |m| m.has_curve,
        in_footer: false,
    },
    Binding {
        action: Action::Factory,
        keys: &[key('o')],
        label: "factory",
        help: "in Shape: curve and values as from the factory; z brings the curve back",
        applies: |m| m.in_shape(),
        in_footer: true,
    },
    Binding {
        action: Action::ShapeNearer,
        keys: &[key('+')],
        label: "nearer",
        help: "in Shape: look at the curve around the point from nearer",
        applies: |m| m.has_curve,
        in_footer: false,
    },
    Binding {
        action: Action::ShapeFarther,
        keys: &[key('-')],
        label: "farther",
        help: "in Shape: see more of the curve again",
        applies: |m| m.has_curve,
        in_footer: false,
    },
    Binding {
        action: Action::HoldPoint,
        keys: &[key('!')],
        label: "hold point",
        help: "in Shape: have the card held at the picked point, to try it live under load",
        applies: |m| m.waits() && m.has_curve && !m.down,
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
        applies: |m| {
            m.waits() && m.has_outcome && !m.down && !m.in_ledger() && !m.has_trial_to_keep()
        },
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
        help: "in Trace: look at the trial before; in Artifacts: at one before with spoilt frames",
        applies: |m| m.waits() && matches!(m.view, View::Trace | View::Artifacts) && m.has_trials,
        in_footer: true,
    },
    Binding {
        action: Action::Later,
        keys: &[key('.')],
        label: "later",
        help: "in Trace: look at the trial after; in Artifacts: at the next one with spoilt frames",
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
        applies: |m| m.holding || (m.waits() && m.looking && !m.in_ledger()),
        in_footer: false,
    },
    Binding {
        action: Action::Mark,
        keys: &[key('m')],
        label: "mark",
        help: "give the trial looked at, selected, or the last one, a verdict of your own",
        applies: |m| !m.gone && if m.in_ledger() { m.has_row } else { m.has_trials },
        in_footer: true,
    },
    Binding {
        action: Action::EndStage,
        keys: &[key('e')],
        label: "end stage",
        help: "end the stage with what is known",
        applies: |m| !m.gone && !m.has_outcome && !m.in_ledger(),
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
        applies: |m| m.waits() && m.has_failure && !m.in_ledger(),
        in_footer: false,
    },
    Binding {
        action: Action::LeaveOut,
        keys: &[key('l')],
        label: "what brought what",
        help: "at the end of the climb, run with one setting left out after the other",
        applies: |m| m.waits() && m.has_baseline && !m.in_ledger() && !m.has_point,
        in_footer: false,
    },
    Binding {
        action: Action::KeepTrial,
        keys: &[key('k')],
        label: "keep it",
        help: "keep what is selected, looked at, or shaped in Shape as a profile",
        applies: |m| m.waits() && m.has_trial_to_keep(),
        in_footer: true,
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
        applies: |m| m.waits() && (m.has_trials || !m.has_next) && !m.in_ledger(),
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
        keys: &[key('9')],
        label: "Artifacts",
        help: "show spoilt frames beside what they should have been",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Show(View::Shape),
        keys: &[key('4')],
        label: "Shape",
        help: "show V/F curve, performance states or clock window, and the voltages",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Show(View::Weigh),
        keys: &[key('7')],
        label: "Weigh",
        help: "show work against watts, degrees or decibels, from every run",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Show(View::Ledger),
        keys: &[key('8')],
        label: "Ledger",
        help: "show everything tried: every trial and climb",
        applies: |_| true,
        in_footer: false,
    },
    Binding {
        action: Action::Help,
        keys: &[key('?')],
        label: "keys",
        help: "show the keys that work here, and then all keys",
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
    use crate::tui::keys::table::Binding;
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
