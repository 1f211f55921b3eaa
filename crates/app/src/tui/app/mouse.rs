//! What comes of the mouse.

use ratatui::crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use yard_step_engine::{Activity, Command, Snapshot};

use crate::tui::app::outcome::Outcome;
use crate::tui::app::screen;
use crate::tui::app::state::{State, is_free};
use crate::tui::keys::action::{Action, Move, View};

/// What the mouse does to something that is drawn.
enum Drawn {
    /// It is still being dragged.
    Goes,
    /// It is to be applied: a drag is, when it is over.
    Stands,
    /// Nothing.
    Nothing,
}

fn drawn(kind: MouseEventKind, has_moved: bool) -> Drawn {
    match kind {
        MouseEventKind::Up(MouseButton::Left) => Drawn::Stands,
        MouseEventKind::Drag(_) if has_moved => Drawn::Goes,
        _ if has_moved => Drawn::Stands,
        _ => Drawn::Nothing,
    }
}

impl State {
    pub(super) fn mouse(&mut self, mouse: MouseEvent, snapshot: &Snapshot, area: Rect) -> Outcome {
        let in_trace = self.view == View::Trace && self.overlay.is_none();
        let share = screen::share_at(area, (mouse.column, mouse.row)).filter(|_| in_trace);
        if let (Some(share), Some(shown)) = (share, self.trace.clone().shown(snapshot)) {
            match mouse.kind {
                MouseEventKind::ScrollUp | MouseEventKind::ScrollDown => {
                    let up = mouse.kind == MouseEventKind::ScrollUp;
                    self.trace.put_cursor(shown, share);
                    self.trace.zoom(shown, if up { 0.5 } else { 2.0 });
                    return Outcome::Nothing;
                }
                MouseEventKind::Down(MouseButton::Left)
                | MouseEventKind::Drag(MouseButton::Left) => {
                    self.trace.put_cursor(shown, share);
                    return Outcome::Nothing;
                }
                _ => {}
            }
        }
        if self.view == View::Shape && self.overlay.is_none() {
            let place = (mouse.column, mouse.row);
            let at = screen::shape_at(area, self, snapshot, place);
            let has_moved = self.shape.mouse(mouse.kind, at, snapshot);
            match drawn(mouse.kind, has_moved) {
                Drawn::Goes => return Outcome::Nothing,
                Drawn::Stands => return self.apply_what_is_shaped(snapshot),
                Drawn::Nothing => {}
            }
            let value = screen::value_at(area, place);
            if self.shape.mouse_on_value(mouse.kind, value, snapshot) {
                return self.apply_what_is_shaped(snapshot);
            }
        }
        if self.view == View::Air && self.overlay.is_none() {
            let at = screen::air_at(area, self, snapshot, (mouse.column, mouse.row));
            let has_moved = self.air.mouse(mouse.kind, at, snapshot);
            match drawn(mouse.kind, has_moved) {
                Drawn::Goes => return Outcome::Nothing,
                Drawn::Stands => return self.apply_drawn_fan(snapshot),
                Drawn::Nothing => {}
            }
        }
        if is_free(snapshot) && self.overlay.is_none() {
            let place = (mouse.column, mouse.row);
            if let Some(hit) = screen::free_setting_at(area, self, snapshot, place) {
                let command = match mouse.kind {
                    MouseEventKind::Down(MouseButton::Left) => self.free.click(hit, snapshot),
                    MouseEventKind::ScrollUp => self.free.scroll(hit, 1, snapshot),
                    MouseEventKind::ScrollDown => self.free.scroll(hit, -1, snapshot),
                    _ => None,
                };
                return command.map_or(Outcome::Nothing, Outcome::Send);
            }
        }
        if self.view == View::Weigh && self.overlay.is_none() {
            let point = screen::point_at(area, self, (mouse.column, mouse.row));
            if self.weigh.mouse(mouse.kind, point) {
                return Outcome::Nothing;
            }
        }
        if self.view == View::Proof && self.overlay.is_none() {
            let action = match mouse.kind {
                MouseEventKind::ScrollUp => Some(Action::ProofUp),
                MouseEventKind::ScrollDown => Some(Action::ProofDown),
                _ => None,
            };
            if let Some(action) = action {
                return self.act(action, snapshot, 0.0);
            }
            let place = (mouse.column, mouse.row);
            if mouse.kind == MouseEventKind::Down(MouseButton::Left)
                && let Some(line) = screen::candidate_at(area, self, snapshot, place)
            {
                self.proof.select(line);
                return Outcome::Nothing;
            }
        }
        if self.view == View::Ledger && self.overlay.is_none() {
            let way = match mouse.kind {
                MouseEventKind::ScrollUp => Some(Move::Up),
                MouseEventKind::ScrollDown => Some(Move::Down),
                _ => None,
            };
            if let Some(way) = way {
                return self.act(Action::Row(way), snapshot, 0.0);
            }
        }
        if mouse.kind != MouseEventKind::Down(MouseButton::Left) {
            return Outcome::Nothing;
        }
        if self.overlay.take().is_some() {
            return Outcome::Nothing;
        }
        let place = (mouse.column, mouse.row);
        if let Some(action) = screen::action_at(area, self, snapshot, place) {
            return self.act(action, snapshot, screen::column_share(area));
        }
        if self.lists_profiles() {
            if let Some(line) = screen::profile_at(area, snapshot, place) {
                self.profiles.select(line);
            }
            return Outcome::Nothing;
        }
        if let Some(line) = screen::line_at(area, self, place).filter(|_| self.view == View::Ledger)
        {
            self.ledger.select(line);
            return Outcome::Nothing;
        }
        match screen::trial_at(area, self, snapshot, place) {
            Some(trial) if snapshot.runs.activity == Activity::Waiting => {
                Outcome::Send(Command::Look(Some(trial)))
            }
            _ => Outcome::Nothing,
        }
    }
}
