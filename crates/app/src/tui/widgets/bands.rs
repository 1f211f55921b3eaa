//! What the charts of curve and window share: a field with labels at its left, its axis below it, and
//! below that a line for each part of the load, on the same axis.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::{row, write, write_right};

/// Width of the labels at the left: the name of a scene must fit.
pub(crate) const GUTTER: u16 = 10;
/// Rows of the axis.
const AXIS: u16 = 2;

/// The field of a chart with so many lines below its axis; none where there is no room for it.
pub(crate) fn field(area: Rect, lines: usize) -> Option<Rect> {
    let field = Rect {
        x: area.x + GUTTER.min(area.width),
        width: area.width.checked_sub(GUTTER)?,
        height: area.height.checked_sub(AXIS + lines as u16)?,
        ..area
    };
    (field.width > 1 && field.height > 1).then_some(field)
}

/// Draws the line of one part of the load, with its name and its figures; without the columns from
/// which to which it reaches, only the name.
pub(crate) fn draw(
    buffer: &mut Buffer,
    (area, field, index): (Rect, Rect, usize),
    theme: Theme,
    name: &str,
    columns: Option<(u16, u16)>,
    figures: &str,
) {
    let dim = theme.style(Role::Dim);
    let line = row(area, field.height + AXIS + index as u16);
    // A name that is too long for the gutter goes before the figures.
    let is_long = name.chars().count() > usize::from(GUTTER - 2);
    let text = if is_long { format!("{name}: {figures}") } else { figures.to_owned() };
    if !is_long {
        write_right(buffer, Rect { width: GUTTER - 2, ..line }, line.y, name, dim);
    }
    let Some((left, right)) = columns else { return };
    let bar = "━".repeat(usize::from(right - left + 1));
    write(buffer, line, (left, line.y), &bar, theme.style(Role::Accent));
    let width = text.chars().count() as u16;
    let behind = right + 2;
    let fits = behind + width <= line.right();
    let from = if fits { behind } else { left.saturating_sub(width + 1) };
    write(buffer, line, (from.max(field.x), line.y), &text, dim);
}
