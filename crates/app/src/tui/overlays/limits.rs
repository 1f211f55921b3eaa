//! The limit table of the card: what its maker wrote, what is in force, and what the driver is to read at its next start.
//!
//! ```text
//!   limit             maker's   in force   next start   may be
//! ▸ power limit         283 W      283 W      325 W ▲   142 to 339 W
//!   current limit       255 A      255 A      293 A ▲   128 to 306 A
//!   reason           summer
//! ```

use std::iter;

use ratatui::crossterm::event::KeyCode;
use yard_step_core::{
    LONGEST_REASON, LimitField, LimitTable, LimitWish, SafetyCeilings, WantedLimits,
    current_that_is_short, limit_bounds, limits_moved,
};
use yard_step_engine::{CeilingView, Command, Snapshot};

use crate::tui::widgets::entry::Entry;

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
    safety: SafetyCeilings,
    /// Why, in the user's words.
    reason: Entry,
    /// Who wrote what is read at the next start; empty where that is the maker's, or not known.
    by: String,
    /// The field, and behind them the reason.
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
        let CeilingView { record, safety } = &**snapshot.machine.ceiling.as_ref()?;
        let tables = snapshot.machine.card.limit_tables.as_ref()?;
        let (next, wanted) = (record.next().clone(), record.wanted.as_ref());
        Some(Self {
            makers: tables.makers.clone(),
            in_force: tables.in_force.clone(),
            table: next.clone(),
            next,
            before: record.before.as_ref().map(|before| before.table.clone()),
            safety: *safety,
            reason: Entry::new(wanted.map_or("", |wanted| &wanted.reason), LONGEST_REASON),
            by: wanted.map_or_else(String::new, |wanted| wanted.by.clone()),
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
        let writes = !matches!(code, KeyCode::Up | KeyCode::Down | KeyCode::Enter);
        if self.chosen == fields.len() && writes {
            self.reason.key(code);
            return Limited::NotYet(Box::new(self));
        }
        match code {
            KeyCode::Up => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Down => self.chosen = (self.chosen + 1).min(fields.len()),
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
        match limits_moved(&self.table, &self.makers, wish, &self.safety) {
            Ok(table) => self.table = table,
            Err(error) => self.told = Some(error.to_string()),
        }
    }

    /// What is asked before it is written: all of the change.
    fn question(&self) -> Limited {
        let is_makers = self.table == self.makers;
        let changes = yard_step_words::limit_changes(&self.next, &self.table, &self.makers);
        let warnings = yard_step_words::limit_warnings(&self.table, &self.makers, &self.safety);
        let warning = match is_makers {
            true => "These are the maker's limits.",
            false => {
                "More power and voltage than the maker allows can damage a card. An unclean start removes them."
            }
        };
        let rest = [warning.to_owned(), "The driver reads them at its next start.".to_owned()];
        let changes = format!("{}.", changes.join(", "));
        let consequence: Vec<String> = iter::once(changes).chain(warnings).chain(rest).collect();
        let (table, reason) = (self.table.clone(), self.reason.trimmed().to_owned());
        let wanted = (!is_makers).then(|| Box::new(WantedLimits { table, reason }));
        Limited::Ask(consequence.join(" "), Command::WantLimits(wanted))
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
            let range = limit_bounds(field, &self.makers, &self.safety)
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
        let is_chosen = self.chosen == self.fields().len();
        let (pointer, reason) = match is_chosen {
            true => ("▸", self.reason.shown()),
            false => (" ", self.reason.text().to_owned()),
        };
        lines.push((format!("{pointer} {:<16} {reason}", "reason"), is_chosen));
        lines
    }

    /// What the chosen field is about, and what else there is to say.
    pub fn about(&self) -> Vec<String> {
        let field = self.fields().get(self.chosen).copied();
        let about = match field {
            Some(field) => yard_step_words::limit_field(field).to_owned(),
            None => "Why, in your words: it is kept with the table.".to_owned(),
        };
        let bound = field.and_then(|field| {
            let bounds = limit_bounds(field, &self.makers, &self.safety)?;
            Some(yard_step_words::limit_bound(field, bounds.by))
        });
        let warnings = yard_step_words::limit_warnings(&self.table, &self.makers, &self.safety);
        let by = (!self.by.is_empty()).then(|| format!("Changed by {}.", self.by));
        let opaque = yard_step_words::what_is_opaque(&self.makers);
        let rest = [by, self.told.clone()].into_iter().flatten();
        iter::once(about).chain(bound).chain(opaque).chain(warnings).chain(rest).collect()
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
        let power = "power limit 300 W → 333 W (+11.0 % on the maker's)";
        let current = "current limit 250 A → 278 A (+11.2 % on the maker's)";
        assert!(consequence.contains(&format!("{power}, {current}.")), "{consequence}");
        let Command::WantLimits(Some(wanted)) = command else { panic!() };
        assert_eq!(wanted.table.value(LimitField::PowerLimit), Some(333.0));
        assert_eq!(wanted.reason, "");
    }

    #[test]
    fn nothing_goes_beyond_the_bounds_or_is_written_without_a_change() {
        use KeyCode::{Char, Down, Enter, Left, PageUp};
        let form = LimitsForm::of(&with_table()).unwrap();
        let form = press(form, &[Enter]);
        assert_eq!(form.told.as_deref(), Some("Nothing is changed."));
        let form = press(form, &[PageUp; 5]);
        assert!(form.told.as_deref().unwrap().contains("it must be 150 to 360 W"), "{form:?}");
        let form = press(form, &[Char('m'), Down, Left]);
        assert!(form.lines()[2].0.contains("248 A ▼"), "{:?}", form.lines());
        let form = press(form, &[Char('a')]);
        assert!(form.told.is_some(), "nothing was taken away");
        assert!(form.lines()[3].0.contains("meaning not published"));
    }

    #[test]
    fn a_reason_is_typed_and_goes_with_the_table() {
        use KeyCode::{Char, Down, Enter, PageUp, Up};
        let form = LimitsForm::of(&with_table()).unwrap();
        // Letters that are keys elsewhere are letters here.
        let typed = ['m', 'a', 'y', ' ', 'f'].map(Char);
        let form = press(form, &[PageUp, Down, Down]);
        let form = press(press(form, &typed), &[Up, Down]);
        let (reason, is_chosen) = form.lines().pop().unwrap();
        assert!(is_chosen && reason.contains("reason           may f▏"), "{reason}");
        let Limited::Ask(_, Command::WantLimits(Some(wanted))) = form.key(Enter) else { panic!() };
        assert_eq!(wanted.reason, "may f");
        assert_eq!(wanted.table.value(LimitField::PowerLimit), Some(315.0));
    }

    #[test]
    fn a_card_without_a_table_has_no_form() {
        assert!(LimitsForm::of(&snapshot()).is_none());
    }
}
