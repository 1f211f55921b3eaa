//! The keys of Weigh.

use ratatui::crossterm::event::KeyCode;

use crate::tui::keys::action::Action;
use crate::tui::keys::binding::{Binding, key};

/// What can be done in Weigh only.
pub(crate) static BINDINGS: &[Binding] = &[
    Binding {
        action: Action::AskPoint,
        keys: &[KeyCode::Enter],
        label: "ask for it",
        help: "make the picked point the next trial; Enter again starts it",
        applies: |m| m.waits() && m.has_point && !m.point_is_next && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::FrontierLess,
        keys: &[KeyCode::Left],
        label: "less",
        help: "pick the point of the frontier that costs less",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::FrontierMore,
        keys: &[KeyCode::Right],
        label: "more",
        help: "pick the point of the frontier that costs more",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::PointBefore,
        keys: &[KeyCode::Up],
        label: "any point",
        help: "pick the point before, on the frontier or not",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::PointAfter,
        keys: &[KeyCode::Down],
        label: "any point",
        help: "pick the point after, on the frontier or not",
        applies: |m| m.in_weigh(),
        in_footer: false,
    },
    Binding {
        action: Action::BeforeAfter,
        keys: &[key('z')],
        label: "before/after",
        help: "stock beside the card's profiles under every load, or the frontier",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::MeasureCells,
        keys: &[key('v')],
        label: "measure",
        help: "measure what is missing of before and after, and what is not clear yet",
        applies: |m| m.in_weigh() && m.waits() && !m.soaking && !m.down,
        in_footer: true,
    },
    Binding {
        action: Action::OtherCost,
        keys: &[KeyCode::Tab],
        label: "against",
        help: "weigh against watts, degrees or decibels",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::OtherLoad,
        keys: &[key('f')],
        label: "load",
        help: "weigh the runs of another load",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
    Binding {
        action: Action::ExportPage,
        keys: &[key('x')],
        label: "page",
        help: "write one page about the picked settings: SVG, PDF, Markdown, HTML or text",
        applies: |m| m.has_point,
        in_footer: true,
    },
    Binding {
        action: Action::WeighNotes,
        keys: &[key('j')],
        label: "note",
        help: "note hours of use, price of energy and scores of other cards to hold beside",
        applies: |m| m.in_weigh(),
        in_footer: true,
    },
];
