//! An entry of a table of keys: what it does, its keys and words, and when it applies.

use ratatui::crossterm::event::KeyCode;

use crate::tui::keys::action::Action;
use crate::tui::keys::moment::Moment;

/// An entry of a table.
pub struct Binding {
    /// What it does.
    pub action: Action,
    /// Keys, the first of which is shown in the footer.
    pub keys: &'static [KeyCode],
    /// A word or two for the footer.
    pub label: &'static str,
    /// A line for the help.
    pub help: &'static str,
    /// When it applies.
    pub applies: fn(Moment) -> bool,
    /// Whether the footer shows it when it applies.
    pub in_footer: bool,
}

impl Binding {
    /// The keys, as they are shown.
    #[must_use]
    pub fn keys_in_words(&self) -> String {
        self.keys.iter().map(|code| key_name(*code)).collect::<Vec<_>>().join(" ")
    }
}
/// The key of a character.
pub(crate) const fn key(character: char) -> KeyCode {
    KeyCode::Char(character)
}

/// A key as it is shown.
#[must_use]
pub fn key_name(code: KeyCode) -> String {
    match code {
        KeyCode::Enter => "Enter".into(),
        KeyCode::Esc => "Esc".into(),
        KeyCode::Up => "↑".into(),
        KeyCode::Down => "↓".into(),
        KeyCode::Left => "←".into(),
        KeyCode::Right => "→".into(),
        KeyCode::PageUp => "PgUp".into(),
        KeyCode::PageDown => "PgDn".into(),
        KeyCode::Delete => "Del".into(),
        KeyCode::Char(' ') => "Space".into(),
        KeyCode::Char(character) => character.to_string(),
        other => format!("{other:?}"),
    }
}
