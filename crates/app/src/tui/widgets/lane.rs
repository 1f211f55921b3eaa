//! The limiter lane: what held the clock back, moment by moment, right below the clock line.
//!
//! ```text
//!  limit│power         │heat  │power
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::{Limiter, Trace};

use crate::tui::theme::{Depth, Role, Theme};
use crate::tui::widgets::plot::field;
use crate::tui::widgets::{row, write, write_right};

/// Draws the lane with the same axis as the plot above it.
pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    trace: &Trace,
    (from, to): (f64, f64),
) {
    let line = row(area, 0);
    let field = field(line);
    let labels = Rect { width: line.width.min(6), ..line };
    write_right(buffer, labels, line.y, "limit", theme.style(Role::Dim));
    let columns = usize::from(field.width);
    let width = (to - from) / columns.max(1) as f64;
    let largest = |column: usize| {
        let start = from + column as f64 * width;
        trace.limiters(start, start + width).largest()
    };
    let limiters: Vec<Option<Limiter>> = (0..columns).map(largest).collect();
    let mut x = field.x;
    for run in limiters.chunk_by(|a, b| a == b) {
        if let Some(limiter) = run.first().copied().flatten() {
            write(
                buffer,
                field,
                (x, field.y),
                &segment(limiter, run.len(), theme),
                theme.limiter(limiter),
            );
        }
        x += run.len() as u16;
    }
}

/// A stretch under one limiter, with its name where there is room.
fn segment(limiter: Limiter, width: usize, theme: Theme) -> String {
    let name = limiter.label();
    let filler = if theme.depth() == Depth::None { name.get(..1).unwrap_or(" ") } else { " " };
    if width >= name.len() + 2 {
        format!(" {name} {}", filler.repeat(width - name.len() - 2))
    } else {
        filler.repeat(width)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use yard_step_core::{Sample, Seconds};

    fn lane(limiters: &[(Limiter, usize)]) -> Trace {
        let mut trace = Trace::new();
        let all =
            limiters.iter().flat_map(|(limiter, count)| std::iter::repeat_n(*limiter, *count));
        for (second, limiter) in all.enumerate() {
            let at = Seconds(second as f64 + 1.0);
            trace.push(&Sample { at, ..Sample::default() }, limiter);
        }
        trace
    }

    #[test]
    fn stretches_are_named_where_there_is_room() {
        let lane = lane(&[(Limiter::Power, 10), (Limiter::Heat, 3), (Limiter::Voltage, 9)]);
        let theme = Theme::new(Depth::None);
        let lines = drawn(29, 1, |buffer, area| draw(buffer, area, theme, &lane, (0.0, 22.0)));
        assert_eq!(lines[0], " limit  power ppphhh voltage");
    }

    #[test]
    fn what_has_not_happened_yet_is_empty() {
        let lane = lane(&[(Limiter::Power, 5)]);
        let theme = Theme::new(Depth::None);
        let lines = drawn(27, 1, |buffer, area| draw(buffer, area, theme, &lane, (0.0, 20.0)));
        assert_eq!(lines[0], " limit ppppp");
    }

    #[test]
    fn any_size_will_do() {
        let lane = lane(&[(Limiter::Unknown, 4)]);
        for (width, height) in AWKWARD {
            drawn(width, height, |buffer, area| {
                draw(buffer, area, Theme::new(Depth::True), &lane, (0.0, 4.0));
            });
        }
    }
}
