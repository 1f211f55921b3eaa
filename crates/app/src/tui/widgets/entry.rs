//! One line of text being typed. A text that stood there before is replaced by the first character
//! typed; a key that moves the cursor or deletes keeps it.

use ratatui::crossterm::event::KeyCode;
use tui_input::{Input, InputRequest};

/// The line.
#[derive(Debug, Clone)]
pub struct Entry {
    input: Input,
    longest: usize,
    /// Whether nothing was typed yet.
    is_fresh: bool,
}

impl PartialEq for Entry {
    fn eq(&self, other: &Self) -> bool {
        let of = |entry: &Self| (entry.text().to_owned(), entry.input.cursor(), entry.is_fresh);
        of(self) == of(other)
    }
}

impl Eq for Entry {}

impl Entry {
    /// A line with a text in it, of at most `longest` characters.
    #[must_use]
    pub fn new(text: impl Into<String>, longest: usize) -> Self {
        Self { input: Input::new(text.into()), longest, is_fresh: true }
    }

    /// What stands there.
    #[must_use]
    pub fn text(&self) -> &str {
        self.input.value()
    }

    /// What stands there, without the spaces around it.
    #[must_use]
    pub fn trimmed(&self) -> &str {
        self.text().trim()
    }

    /// Takes in a key; whether it was one for this line.
    pub fn key(&mut self, code: KeyCode) -> bool {
        let request = match code {
            KeyCode::Char(character) if character.is_control() => return false,
            KeyCode::Char(character) => {
                if self.is_fresh {
                    self.input.reset();
                }
                if self.text().chars().count() >= self.longest {
                    return true;
                }
                InputRequest::InsertChar(character)
            }
            KeyCode::Backspace => InputRequest::DeletePrevChar,
            KeyCode::Delete => InputRequest::DeleteNextChar,
            KeyCode::Left => InputRequest::GoToPrevChar,
            KeyCode::Right => InputRequest::GoToNextChar,
            KeyCode::Home => InputRequest::GoToStart,
            KeyCode::End => InputRequest::GoToEnd,
            _ => return false,
        };
        self.is_fresh = false;
        // What changed shows in the text.
        let _ = self.input.handle(request);
        true
    }

    /// The text with a caret where the next character goes.
    #[must_use]
    pub fn shown(&self) -> String {
        let text = self.text();
        let at = text.char_indices().nth(self.input.cursor()).map_or(text.len(), |(at, _)| at);
        format!("{}▏{}", &text[..at], &text[at..])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    use KeyCode::{Backspace, Char, Delete, End, Home, Left, Right};

    #[rstest]
    #[case::replaced(&[Char('a'), Char('b')], "ab▏")]
    #[case::kept_by_an_arrow(&[Right, Char('!')], "dome!▏")]
    #[case::kept_by_backspace(&[Backspace, Char('s')], "doms▏")]
    #[case::in_the_middle(&[Left, Left, Char('x')], "dox▏me")]
    #[case::at_the_ends(&[Home, Delete, End, Char('s')], "omes▏")]
    #[case::no_longer_than_it_may_be(&[Char('a'), Char('b'), Char('c'), Char('d'), Char('e'), Char('f'), Char('g')], "abcdef▏")]
    #[case::wide(&[Char('ä'), Char('月'), Left], "ä▏月")]
    fn keys_edit_the_line(#[case] keys: &[KeyCode], #[case] shown: &str) {
        let mut entry = Entry::new("dome", 6);
        for key in keys {
            assert!(entry.key(*key));
        }
        assert_eq!(entry.shown(), shown);
    }

    #[test]
    fn other_keys_are_left_to_others() {
        let mut entry = Entry::new("dome", 6);
        assert!(!entry.key(KeyCode::Enter) && !entry.key(KeyCode::Tab));
        assert!(entry.key(Char('x')) && entry.text() == "x", "it was still fresh");
    }
}
