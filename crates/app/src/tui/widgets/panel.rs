//! A panel: a rule with a heading, and the space below it.
//!
//! ```text
//! ── Clock line ─────────────────── 2045 MHz
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::{row, write, write_right};

/// Draws the rule and returns the space below.
pub(crate) fn panel(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    heading: &str,
    aside: &str,
) -> Rect {
    let rule = row(area, 0);
    let line = "─".repeat(usize::from(rule.width));
    write(buffer, rule, (rule.x, rule.y), &line, theme.style(Role::Faint));
    let heading = format!(" {heading} ");
    let end = write(buffer, rule, (rule.x + 2, rule.y), &heading, theme.style(Role::Title));
    if !aside.is_empty() {
        let left =
            Rect { x: end.min(rule.right()), width: rule.right().saturating_sub(end), ..rule };
        write_right(buffer, left, rule.y, &format!(" {aside} "), theme.style(Role::Dim));
    }
    inside(area)
}

/// The space below a panel's rule.
pub(crate) fn inside(area: Rect) -> Rect {
    Rect { y: area.y + area.height.min(1), height: area.height.saturating_sub(1), ..area }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};

    const THEME: Theme = Theme::new(Depth::None);

    #[test]
    fn heading_left_and_aside_right() {
        let lines = drawn(30, 2, |buffer, area| {
            assert_eq!(panel(buffer, area, THEME, "Card", "now"), Rect::new(0, 1, 30, 1));
        });
        assert_eq!(lines[0], format!("── Card {} now", "─".repeat(17)));
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD {
            drawn(width, height, |buffer, area| {
                panel(buffer, area, THEME, "A long heading", "and an aside");
            });
        }
    }
}
