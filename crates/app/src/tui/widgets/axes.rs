//! The two axes of a chart: labels at the left of its field, and below it.
//!
//! ```text
//!   60 ┤
//!   40 ┤      field
//!      └──┬─────┬───
//!   °C   20    40
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::{write, write_right};

/// The axes of a field, as they are drawn.
pub(crate) struct Axes<'a> {
    buffer: &'a mut Buffer,
    /// All there is room for, the labels too.
    area: Rect,
    field: Rect,
    theme: Theme,
}

impl<'a> Axes<'a> {
    /// Draws both lines. The field leaves room for labels at its left, and two rows below it.
    pub(crate) fn draw(
        buffer: &'a mut Buffer,
        (area, field): (Rect, Rect),
        theme: Theme,
    ) -> Axes<'a> {
        let faint = theme.style(Role::Faint);
        for y in field.y..field.bottom() {
            write(buffer, area, (field.x - 1, y), "│", faint);
        }
        let line = format!("└{}", "─".repeat(usize::from(field.width)));
        write(buffer, area, (field.x - 1, field.bottom()), &line, faint);
        Axes { buffer, area, field, theme }
    }

    fn labels(&self) -> Rect {
        Rect { width: (self.field.x - self.area.x).saturating_sub(2), ..self.area }
    }

    /// A label in a row.
    pub(crate) fn up(&mut self, y: u16, label: &str) {
        let labels = self.labels();
        write_right(self.buffer, labels, y, label, self.theme.style(Role::Dim));
        write(self.buffer, self.area, (self.field.x - 1, y), "┤", self.theme.style(Role::Faint));
    }

    /// A label below a column, as far to the left as it takes to be whole.
    pub(crate) fn along(&mut self, x: u16, label: &str) {
        let (y, width) = (self.field.bottom(), label.chars().count() as u16);
        write(self.buffer, self.area, (x, y), "┬", self.theme.style(Role::Faint));
        let from = x.saturating_sub(width / 2).min(self.area.right().saturating_sub(width));
        write(self.buffer, self.area, (from, y + 1), label, self.theme.style(Role::Dim));
    }

    /// The unit of the axis below, at its left.
    pub(crate) fn unit(self, unit: &str) {
        let labels = self.labels();
        let dim = self.theme.style(Role::Dim);
        write_right(self.buffer, labels, self.field.bottom() + 1, unit, dim);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::drawn;

    #[test]
    fn labels_stand_beside_their_ticks_and_the_last_one_is_whole() {
        let lines = drawn(14, 4, |buffer, area| {
            let field = Rect { x: 6, y: 0, width: 8, height: 2 };
            let mut axes = Axes::draw(buffer, (area, field), Theme::new(Depth::None));
            axes.up(0, "60 %");
            axes.along(8, "20");
            axes.along(13, "100");
            axes.unit("°C");
        });
        assert_eq!(
            lines,
            ["60 % ┤        ", "     │        ", "     └──┬────┬", "  °C   20  100"]
                .map(str::trim_end)
        );
    }
}
