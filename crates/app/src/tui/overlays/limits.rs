//! The limit table of the card: what its maker wrote, what is in force, and what the driver is to read at its next start.
//!
//! ```text
//!   limit             maker's   in force   next start   may be
//! ▸ power limit         283 W      283 W      325 W ▲   142 to 339 W
//!   current limit       255 A      255 A      293 A ▲   128 to 306 A
//! ```

use ratatui::crossterm::event::KeyCode;
use yard_step_core::{
    LimitField, LimitTable, LimitWish, Machine, current_that_is_short, limit_bounds, limits_moved,
};
use yard_step_engine::{Command, Snapshot};

/// Steps of the arrows and of the pages, percent of the maker's value.
const STEP: f64 = 1.0;
const PAGE: f64 = 5.0;

/// The table as it is being changed.
#[derive(Debug, Clone, PartialEq)]
pub struct LimitsForm {
    makers: LimitTable,
    in_force: LimitTable,
    /// What the driver reads at its next start, as it is written now.
    next: LimitTable,
    /// What was taken away last.
    before: Option<LimitTable>,
    /// What it is to read.
    table: LimitTable,
    machine: Machine,
    chosen: usize,
    /// Why the last key did nothing, or why an override was taken away.
    pub told: Option<String>,
}

/// What comes of a key.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Limited {
    /// It stays open.
    NotYet(Box<LimitsForm>),
    /// It is asked whether that is to be written: what would happen, and what is sent then.
    Ask(String, Command),
}

impl LimitsForm {
    /// The table of the present card; none where it cannot be read.
    #[must_use]
    pub fn of(snapshot: &Snapshot) -> Option<Self> {
        let record = snapshot.machine.ceiling.as_ref()?;
        let tables = snapshot.machine.card.limit_tables.as_ref()?;
        let next = record.next().clone();
        Some(Self {
            makers: tables.makers.clone(),
            in_force: tables.in_force.clone(),
            table: next.clone(),
            next,
            before: record.before.as_ref().map(|before| before.table.clone()),
            machine: (*snapshot.machine.said).clone(),
            chosen: 0,
            told: record.told.clone(),
        })
    }

    fn fields(&self) -> Vec<LimitField> {
        let has = |field: &LimitField| self.makers.value(*field).is_some();
        LimitField::ALL.into_iter().filter(has).collect()
    }

    /// Takes in a key other than Esc.
    #[must_use]
    pub(crate) fn key(mut self, code: KeyCode) -> Limited {
        self.told = None;
        let fields = self.fields();
        match code {
            KeyCode::Up => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Down => self.chosen = (self.chosen + 1).min(fields.len().saturating_sub(1)),
            KeyCode::Left => self.step(-STEP),
            KeyCode::Right => self.step(STEP),
            KeyCode::PageDown => self.step(-PAGE),
            KeyCode::PageUp => self.step(PAGE),
            KeyCode::Char('f') => match current_that_is_short(&self.table, &self.makers) {
                Some(needed) => self.wish(LimitField::CurrentLimit, needed),
                None => self.told = Some("The current limit follows already.".into()),
            },
            KeyCode::Char('m') => self.table = self.makers.clone(),
            KeyCode::Char('a') => match self.before.clone() {
                Some(before) => self.table = before,
                None => self.told = Some("No table was taken away before.".into()),
            },
            KeyCode::Enter if self.table == self.next => {
                self.told = Some("Nothing is changed.".into());
            }
            KeyCode::Enter => return self.question(),
            _ => {}
        }
        Limited::NotYet(Box::new(self))
    }

    /// Moves the chosen field by so many percent of the maker's value.
    fn step(&mut self, percent: f64) {
        let Some(field) = self.fields().get(self.chosen).copied() else { return };
        let Some((now, makers)) = self.table.value(field).zip(self.makers.value(field)) else {
            return;
        };
        self.wish(field, now + makers * percent / 100.0);
    }

    fn wish(&mut self, field: LimitField, value: f64) {
        let wish = (field, LimitWish::To(value.round()));
        match limits_moved(&self.table, &self.makers, wish, &self.machine) {
            Ok(table) => self.table = table,
            Err(error) => self.told = Some(error.to_string()),
        }
    }

    /// What is asked before it is written: all of the change.
    fn question(&self) -> Limited {
        let is_makers = self.table == self.makers;
        let changes: Vec<String> = self
            .next
            .differences(&self.table)
            .iter()
            .map(|difference| {
                let unit = difference.field.unit();
                let shown =
                    |value: Option<f64>| value.map_or_else(String::new, |v| format!("{v:.0}"));
                let (from, to) = (shown(difference.from), shown(difference.to));
                format!("{} {from} → {to} {unit}", difference.field.label())
            })
            .collect();
        let follow = yard_step_words::limits_to_follow(&self.table, &self.makers);
        let warning = match is_makers {
            true => "These are the maker's limits.",
            false => {
                "More power and voltage than the maker allows can damage a card. A start that does not end cleanly takes them away."
            }
        };
        let consequence = [
            Some(format!("{}.", changes.join(", "))),
            follow,
            Some(warning.to_owned()),
            Some("The driver reads them at its next start.".to_owned()),
        ];
        let consequence: Vec<String> = consequence.into_iter().flatten().collect();
        let table = (!is_makers).then(|| Box::new(self.table.clone()));
        Limited::Ask(consequence.join(" "), Command::WantLimits(table))
    }

    /// Its lines, each with whether it is the chosen one.
    pub fn lines(&self) -> Vec<(String, bool)> {
        let head = format!(
            "  {:<16} {:>9} {:>10} {:>12}   {:<17}",
            "limit", "maker's", "in force", "next start", "may be"
        );
        let mut lines = vec![(head, false)];
        for (index, field) in self.fields().into_iter().enumerate() {
            let unit = field.unit();
            let shown = |table: &LimitTable| {
                table.value(field).map_or_else(String::new, |value| format!("{value:.0} {unit}"))
            };
            let mark = match (self.table.value(field), self.makers.value(field)) {
                (Some(next), Some(makers)) if next > makers => "▲",
                (Some(next), Some(makers)) if next < makers => "▼",
                _ => " ",
            };
            let range = limit_bounds(field, &self.makers, &self.machine)
                .map(|at| format!("{:.0} to {:.0} {unit}", at.lowest.ceil(), at.highest.floor()));
            let pointer = if index == self.chosen { "▸" } else { " " };
            let line = format!(
                "{pointer} {:<16} {:>9} {:>10} {:>10} {mark}   {:<17}",
                field.label(),
                shown(&self.makers),
                shown(&self.in_force),
                shown(&self.table),
                range.unwrap_or_default()
            );
            lines.push((line, index == self.chosen));
        }
        for unknown in &self.makers.unknown {
            let line = format!(
                "  field {:<10} {:>9}   meaning not published",
                unknown.number, unknown.raw
            );
            lines.push((line, false));
        }
        lines
    }

    /// What the chosen field is about, and what else there is to say.
    pub fn about(&self) -> Vec<String> {
        let field = self.fields().get(self.chosen).copied();
        let about = field.map(|field| yard_step_words::limit_field(field).to_owned());
        let follow = yard_step_words::limits_to_follow(&self.table, &self.makers);
        [about, follow, self.told.clone()].into_iter().flatten().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{limit_tables, snapshot, snapshot_with_limits};

    fn with_table() -> Snapshot {
        snapshot_with_limits(limit_tables((300.0, 250.0), (300.0, 250.0)))
    }

    fn press(form: LimitsForm, keys: &[KeyCode]) -> LimitsForm {
        keys.iter().fold(form, |form, key| match form.key(*key) {
            Limited::NotYet(form) => *form,
            Limited::Ask(what, _) => panic!("asks: {what}"),
        })
    }

    #[test]
    fn a_field_is_raised_the_current_follows_and_the_whole_change_is_asked_for() {
        use KeyCode::{Char, Enter, PageUp, Right};
        let form = LimitsForm::of(&with_table()).unwrap();
        let form = press(form, &[PageUp, PageUp, Right]);
        assert!(form.lines()[1].0.contains("333 W ▲"), "{:?}", form.lines());
        assert!(form.about().join(" ").contains("333 W need about 278 A"), "{:?}", form.about());
        let form = press(form, &[Char('f')]);
        assert!(form.lines()[2].0.contains("278 A ▲"), "{:?}", form.lines());
        let Limited::Ask(consequence, command) = form.key(Enter) else { panic!("not asked") };
        assert!(consequence.contains("power limit 300 → 333 W, current limit 250 → 278 A"));
        let Command::WantLimits(Some(table)) = command else { panic!() };
        assert_eq!(table.value(LimitField::PowerLimit), Some(333.0));
    }

    #[test]
    fn nothing_goes_beyond_the_bounds_or_is_written_without_a_change() {
        use KeyCode::{Char, Down, Enter, Left, PageUp};
        let form = LimitsForm::of(&with_table()).unwrap();
        let form = press(form, &[Enter]);
        assert_eq!(form.told.as_deref(), Some("Nothing is changed."));
        let form = press(form, &[PageUp; 5]);
        assert!(form.told.as_deref().unwrap().contains("it must be 150 to 360 W"), "{form:?}");
        let form = press(form, &[Char('m'), Down, Left, Down]);
        assert!(form.lines()[2].0.contains("248 A ▼"), "{:?}", form.lines());
        let form = press(form, &[Char('a')]);
        assert!(form.told.is_some(), "nothing was taken away");
        assert!(form.lines()[3].0.contains("meaning not published"));
    }

    #[test]
    fn a_card_without_a_table_has_no_form() {
        assert!(LimitsForm::of(&snapshot()).is_none());
    }
}
