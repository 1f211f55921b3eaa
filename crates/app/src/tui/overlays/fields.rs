//! A few lines to be filled in: texts that are typed, and choices.
//!
//! ```text
//! ▸ name      dome shows▏
//!   purpose   every night
//!   good for  ‹ daily ›
//! ```

use ratatui::crossterm::event::KeyCode;

use crate::tui::widgets::entry::Entry;

/// One line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextField {
    label: &'static str,
    text: Entry,
    /// What ← and → choose from, instead of typing.
    choices: &'static [&'static str],
    choice: usize,
}

impl TextField {
    /// A text to be typed, of at most so many characters.
    #[must_use]
    pub fn text(label: &'static str, text: impl Into<String>, longest: usize) -> Self {
        Self { label, text: Entry::new(text, longest), choices: &[], choice: 0 }
    }

    /// A choice.
    #[must_use]
    pub fn choice(label: &'static str, choices: &'static [&'static str], choice: usize) -> Self {
        Self { label, text: Entry::new("", 0), choices, choice }
    }
}

/// The lines with what has been filled in so far.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fields {
    fields: Vec<TextField>,
    chosen: usize,
    /// What is wrong with what was to be taken.
    pub problem: Option<String>,
}

impl Fields {
    /// These lines, the first of them chosen.
    #[must_use]
    pub fn new(fields: Vec<TextField>) -> Self {
        Self { fields, chosen: 0, problem: None }
    }

    /// What was typed in a line, without the spaces around it.
    #[must_use]
    pub fn typed(&self, index: usize) -> &str {
        self.fields.get(index).map_or("", |field| field.text.trimmed())
    }

    /// What was chosen in a line.
    #[must_use]
    pub fn chosen(&self, index: usize) -> usize {
        self.fields.get(index).map_or(0, |field| field.choice)
    }

    /// Takes in a key other than Enter and Esc.
    pub fn key(&mut self, code: KeyCode) {
        self.problem = None;
        let last = self.fields.len().saturating_sub(1);
        let Some(field) = self.fields.get_mut(self.chosen) else { return };
        match code {
            KeyCode::Up | KeyCode::BackTab => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Down | KeyCode::Tab => self.chosen = (self.chosen + 1).min(last),
            code if field.choices.is_empty() => drop(field.text.key(code)),
            KeyCode::Left => field.choice = field.choice.saturating_sub(1),
            KeyCode::Right => field.choice = (field.choice + 1).min(field.choices.len() - 1),
            _ => {}
        }
    }

    /// The lines as they are shown, each with whether it is the chosen one.
    pub fn lines(&self) -> impl Iterator<Item = (String, bool)> {
        self.fields.iter().enumerate().map(|(index, field)| {
            let is_chosen = index == self.chosen;
            let pointer = if is_chosen { "▸" } else { " " };
            let value = match field.choices.get(field.choice) {
                Some(choice) => format!("‹ {choice} ›"),
                None if is_chosen => field.text.shown(),
                None => field.text.text().to_owned(),
            };
            (format!("{pointer} {:<12} {value}", field.label), is_chosen)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_typed_and_choices_chosen() {
        let mut fields = Fields::new(vec![
            TextField::text("name", "dome", 6),
            TextField::choice("good for", &["record", "daily"], 0),
        ]);
        for code in [KeyCode::Backspace, KeyCode::Char('s'), KeyCode::Char('q'), KeyCode::Char('x')]
        {
            fields.key(code);
        }
        fields.key(KeyCode::Char('y'));
        assert_eq!(fields.typed(0), "domsqx", "no longer than it may be");
        for code in [KeyCode::Down, KeyCode::Right, KeyCode::Right, KeyCode::Char('z')] {
            fields.key(code);
        }
        assert_eq!(fields.chosen(1), 1);
        let lines: Vec<String> = fields.lines().map(|(line, _)| line).collect();
        assert_eq!(lines, ["  name         domsqx", "▸ good for     ‹ daily ›"]);
    }
}
