//! Artifacts: a spoilt frame beside what it should have been.
//!
//! ```text
//! ┌ which trial, which frame, when the others were ──────────────┐
//! ├ as it was drawn ─────────────────────┬ as it should have been┤
//! │                                      │                       │
//! │                                      ├ difference ───────────┤
//! ├ what is wrong ───────────────────────┤                       │
//! └──────────────────────────────────────┴───────────────────────┘
//! ```

use std::sync::Arc;

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use yard_step_core::{Artifact, CheckedFrame, Frame, PixelArea, count_by_kind, suggested_domain};
use yard_step_engine::{Picture, RunView, Snapshot, SpoiltPicture};
use yard_step_scenes::{SizedScene, WrongPixel, section_of};

use crate::tui::theme::{Role, Theme};
use crate::tui::views::artifacts::picture;
use crate::tui::views::artifacts::state::ArtifactState;
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::{cut, row, write, write_right, write_wrapped};

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    pub head: Rect,
    pub drawn: Rect,
    pub list: Rect,
    pub reference: Rect,
    pub difference: Rect,
}

pub(crate) fn layout(area: Rect) -> Places {
    let [head, body] = Layout::vertical([Constraint::Length(4), Constraint::Fill(1)]).areas(area);
    let [left, _, right] = Layout::horizontal([
        Constraint::Fill(1),
        Constraint::Length(1),
        Constraint::Length(area.width * 2 / 5),
    ])
    .areas(body);
    let list_height = (left.height / 4).clamp(5, 12);
    let [drawn, list] =
        Layout::vertical([Constraint::Fill(1), Constraint::Length(list_height)]).areas(left);
    let [reference, difference] =
        Layout::vertical([Constraint::Fill(1), Constraint::Fill(1)]).areas(right);
    Places { head, drawn, list, reference, difference }
}

pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    state: &ArtifactState,
) {
    let places = layout(area);
    let Some(run) = snapshot.shown() else {
        return draw_nothing(buffer, area, theme, "No trial has run yet in this climb.");
    };
    let (Some(frame), Some(place)) = (state.frame(run), state.place(run)) else {
        let text = if run.seen.wrong_frames > 0 {
            format!(
                "{} frames of {} were drawn wrong, but their pictures were not kept.",
                run.seen.wrong_frames, run.title
            )
        } else {
            format!(
                "No frame of {} was drawn wrong, of {} that were checked. Spoilt frames are \
                 shown here beside what they should have been, in this trial and in every earlier \
                 one: , and . step through the trials.",
                run.title, run.seen.frames
            )
        };
        return draw_nothing(buffer, area, theme, &text);
    };
    draw_head(buffer, places.head, theme, run, place);
    if let Some(told) = &state.told {
        let line = row(places.head, 3);
        write_right(buffer, line, line.y, told, theme.style(Role::Warn));
    }
    let scene: Option<SizedScene> = run.scene.parse().ok();
    let pictures = scene.and_then(|scene| SpoiltPicture::of(scene, frame));
    draw_list(buffer, places.list, theme, run, frame, state.artifact(frame));
    let Some(mut pictures) = pictures else {
        let space = panel(buffer, places.drawn, theme, "As it was drawn", "");
        let text = "This load tells how many pixels were wrong, but not which.";
        write(buffer, space, (space.x + 2, space.y + 1), text, theme.style(Role::Dim));
        return;
    };
    let size = (pictures.drawn.frame.width as u32, pictures.drawn.frame.height as u32);
    let part = state.part(frame, size);
    // From near by, the colours themselves are worth more than marks.
    let near = match state.factor() {
        1 if picture::is_marked(&pictures.drawn) => "wrong pixels marked".to_owned(),
        1 => "the whole frame".to_owned(),
        factor => {
            pictures.drawn.wrong.clear();
            format!("{factor}×, {part}")
        }
    };
    let sides = [
        (places.drawn, "As it was drawn", &pictures.drawn, near.as_str()),
        (places.reference, "As it should have been", &pictures.reference, ""),
    ];
    for (place, heading, whole, aside) in sides {
        let space = panel(buffer, place, theme, heading, aside);
        picture::draw(buffer, space, theme, &cropped(whole, part));
    }
    let space = panel(buffer, places.difference, theme, "Difference, brightened", "");
    let apart = gathered(&cropped(&pictures.difference, part).frame, space);
    picture::draw(buffer, space, theme, &Picture::of(frame.number, apart));
}

fn draw_nothing(buffer: &mut Buffer, area: Rect, theme: Theme, text: &str) {
    let space = panel(buffer, area, theme, "Artifacts", "");
    let inner = Rect {
        x: space.x + 2,
        y: space.y + 1,
        width: space.width.saturating_sub(4).min(90),
        height: space.height.saturating_sub(1),
    };
    write_wrapped(buffer, inner, text, theme.style(Role::Text));
}

/// Which frame it is, and a line of the run's time on which every spoilt one is marked.
fn draw_head(buffer: &mut Buffer, area: Rect, theme: Theme, run: &RunView, place: usize) {
    let frame = &run.spoilt[place];
    let heading = format!("Artifacts: {}, {}", run.title, run.scene);
    let space = panel(buffer, area, theme, &heading, &summary(run));
    let first = row(space, 0);
    let section = section_of(&run.scene, frame.number);
    let section = section.map_or(String::new(), |name| format!(", in \"{name}\""));
    let text = format!(
        "spoilt frame {} of {}: frame {} after {}{section}: {} wrong pixels",
        place + 1,
        run.spoilt.len(),
        frame.number,
        frame.at.in_words(),
        frame.wrong_pixels
    );
    write(buffer, first, (first.x + 2, first.y), &text, theme.style(Role::Text));
    let line = row(space, 1);
    let line = Rect { x: line.x + 2, width: line.width.saturating_sub(3), ..line };
    let most = usize::from(line.width.saturating_sub(1)) as f64;
    let column = |at: f64| (at / run.at.value().max(0.1) * most).clamp(0.0, most) as u16;
    let ground = "·".repeat(usize::from(line.width));
    write(buffer, line, (line.x, line.y), &ground, theme.style(Role::Faint));
    for spoilt in run.spoilt.iter() {
        let x = line.x + column(spoilt.at.value());
        write(buffer, line, (x, line.y), "×", theme.style(Role::Bad));
    }
    let x = line.x + column(frame.at.value());
    write(buffer, line, (x, line.y), "▼", theme.style(Role::Accent));
    let below = row(space, 2);
    let all = format!("the run: {}", run.at.in_words());
    write(buffer, below, (below.x + 2, below.y), &all, theme.style(Role::Dim));
}

/// All artifacts of the run in a few words.
fn summary(run: &RunView) -> String {
    let kinds: Vec<String> = count_by_kind(&run.seen.artifacts)
        .into_iter()
        .map(|(kind, count)| format!("{kind} ×{count}"))
        .collect();
    let hint = suggested_domain(&run.seen.artifacts).map_or(String::new(), |(domain, share)| {
        format!("; {:.0} % suggest the {domain}", share * 100.0)
    });
    format!("{} wrong frames, {}{hint}", run.seen.wrong_frames, kinds.join(", "))
}

fn draw_list(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    run: &RunView,
    frame: &CheckedFrame,
    chosen: usize,
) {
    let aside = "evidence, never a proof";
    let space = panel(buffer, area, theme, "What is wrong in this frame", aside);
    let rows = usize::from(space.height).max(1);
    let first = chosen.saturating_sub(rows - 1);
    for (index, artifact) in frame.artifacts.iter().enumerate().skip(first).take(rows) {
        let line = row(space, (index - first) as u16);
        let style = theme.style(Role::Text);
        let (pointer, style) = if index == chosen {
            ("▸", style.patch(theme.style(Role::Selected)))
        } else {
            (" ", style)
        };
        let text = format!(
            "{pointer} {:<11} {:>4} px  {:<16} suggests {:<7} {}",
            artifact.kind.label(),
            artifact.pixels,
            artifact.area.to_string(),
            artifact.hint.label(),
            lasted(run, artifact, frame.number)
        );
        let room = line.width.saturating_sub(2);
        write(buffer, line, (line.x + 1, line.y), &cut(&text, room), style);
    }
}

/// From which to which frame something was seen at the place of an artifact.
fn lasted(run: &RunView, artifact: &Artifact, number: u64) -> String {
    let whole = run.seen.artifacts.iter().find(|whole| {
        (whole.first_frame..=whole.last_frame).contains(&number)
            && whole.area.overlap(artifact.area) >= 0.5
    });
    match whole {
        Some(whole) if whole.frames > 1 => format!(
            "{} in {} frames, {} to {}",
            whole.kind, whole.frames, whole.first_frame, whole.last_frame
        ),
        _ => "this frame only".into(),
    }
}

/// A frame no larger than it is shown in a space, each pixel the brightest of those it stands for:
/// a single one that differs must not be lost.
fn gathered(frame: &Frame, space: Rect) -> Frame {
    let place = picture::fitted(space, (frame.width, frame.height));
    let width = usize::from(place.width).min(frame.width);
    let height = (usize::from(place.height) * 2).min(frame.height);
    let mut gathered = Frame::black(width, height);
    if gathered.pixels.is_empty() {
        return gathered;
    }
    for (index, pixel) in frame.pixels.iter().enumerate() {
        let (x, y) = (index % frame.width, index / frame.width);
        let target =
            &mut gathered.pixels[y * height / frame.height * width + x * width / frame.width];
        let brighter = |a: [u8; 4], b: [u8; 4]| [0, 1, 2, 3].map(|i| a[i].max(b[i]));
        *target = u32::from_be_bytes(brighter(target.to_be_bytes(), pixel.to_be_bytes()));
    }
    gathered
}

/// A part of a picture.
fn cropped(whole: &Picture, part: PixelArea) -> Picture {
    let (x, y) = (part.x as usize, part.y as usize);
    let (width, height) = (part.width as usize, part.height as usize);
    let rows = (y..y + height).map(|row| row * whole.frame.width + x);
    let pixels = rows.flat_map(|first| &whole.frame.pixels[first..first + width]).copied();
    let wrong: Vec<WrongPixel> = whole
        .wrong
        .iter()
        .filter(|pixel| (x..x + width).contains(&pixel.x) && (y..y + height).contains(&pixel.y))
        .map(|pixel| WrongPixel { x: pixel.x - x, y: pixel.y - y, ..*pixel })
        .collect();
    let frame = Frame { width, height, pixels: pixels.collect() };
    Picture { frame: Arc::new(frame), wrong, ..whole.clone() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{snapshot, spoilt_frames};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};

    const THEME: Theme = Theme::new(Depth::None);

    fn spoilt_snapshot() -> Snapshot {
        let mut snapshot = snapshot();
        let run = snapshot.runs.newest.clone().unwrap();
        let spoilt = spoilt_frames();
        let mut run = (*run).clone();
        run.seen.wrong_frames = spoilt.len() as u64;
        run.seen.artifacts = spoilt.iter().flat_map(|frame| frame.artifacts.clone()).collect();
        run.spoilt = Arc::new(spoilt);
        snapshot.runs.newest = Some(Arc::new(run));
        snapshot
    }

    fn shown(snapshot: &Snapshot, state: &ArtifactState) -> String {
        drawn(160, 48, |buffer, area| draw(buffer, area, THEME, snapshot, state)).join("\n")
    }

    #[test]
    fn the_newest_spoilt_frame_stands_beside_its_reference_and_their_difference() {
        let text = shown(&spoilt_snapshot(), &ArtifactState::default());
        for part in ["As it was drawn", "As it should have been", "Difference, brightened"] {
            assert!(text.contains(part), "{text}");
        }
        assert!(text.contains("spoilt frame 3 of 3: frame 212 after"), "{text}");
        assert!(text.contains("▸ tile") && text.contains("suggests memory"), "{text}");
    }

    #[test]
    fn from_nearer_it_is_said_what_is_shown() {
        let mut state = ArtifactState::default();
        (0..2).for_each(|_| state.zoom(true));
        assert!(shown(&spoilt_snapshot(), &state).contains("4×, 32×18 at"));
    }

    #[test]
    fn without_spoilt_frames_it_says_so_and_what_would_be_here() {
        let text = shown(&snapshot(), &ArtifactState::default());
        assert!(text.contains("was drawn wrong") && text.contains("beside what they should"));
        let mut empty = snapshot();
        empty.runs.newest = None;
        assert!(shown(&empty, &ArtifactState::default()).contains("No trial has run yet"));
    }

    #[test]
    fn a_single_pixel_that_differs_is_seen_however_small_the_picture() {
        for place in [0, 127, 5_000, 128 * 72 - 1] {
            let mut frame = Frame::black(128, 72);
            frame.pixels[place] = 0x0060_0000;
            let small = gathered(&frame, Rect::new(0, 0, 30, 9));
            assert_eq!(small.pixels.iter().filter(|pixel| **pixel == 0x0060_0000).count(), 1);
        }
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD.into_iter().chain([(79, 22), (100, 28)]) {
            drawn(width, height, |buffer, area| {
                draw(buffer, area, THEME, &spoilt_snapshot(), &ArtifactState::default());
            });
        }
    }
}
