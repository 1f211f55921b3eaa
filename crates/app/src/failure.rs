//! How a command fails, and its exit code.

use std::fmt::Display;
use std::process::ExitCode;

use yard_step_core::printable_lines;

/// A command that did not do what it was asked.
#[derive(Debug)]
pub(crate) enum Failure {
    /// It was used wrongly: exit code 2.
    Usage(String),
    /// It could not be done: exit code 1.
    Failed(String),
    /// Somebody interrupted it: exit code 130.
    Interrupted(String),
    /// A program that it ran ended with this exit code, which is passed on; the program has said why.
    Ended(u8),
}

impl Failure {
    pub(crate) fn usage(error: impl Display) -> Self {
        Self::Usage(error.to_string())
    }

    pub(crate) fn failed(error: impl Display) -> Self {
        Self::Failed(error.to_string())
    }

    /// The same failure with something that failed after it.
    pub(crate) fn and(self, error: &impl Display) -> Self {
        let both = |text: String| format!("{text}\n{error}");
        match self {
            Self::Usage(text) => Self::Usage(both(text)),
            Self::Failed(text) => Self::Failed(both(text)),
            Self::Interrupted(text) => Self::Interrupted(both(text)),
            Self::Ended(_) => Self::Failed(error.to_string()),
        }
    }

    /// Tells the user and returns the exit code.
    pub(crate) fn tell(&self) -> ExitCode {
        let (text, code) = match self {
            Self::Usage(text) => (text, 2),
            Self::Failed(text) => (text, 1),
            Self::Interrupted(text) => (text, 130),
            Self::Ended(code) => return ExitCode::from(*code),
        };
        eprintln!("yard-step: {}", printable_lines(text));
        ExitCode::from(code)
    }
}

impl Failure {
    /// What is told.
    pub(crate) fn text(&self) -> &str {
        match self {
            Self::Usage(text) | Self::Failed(text) | Self::Interrupted(text) => text,
            Self::Ended(_) => "",
        }
    }
}

impl<E: std::error::Error> From<E> for Failure {
    fn from(error: E) -> Self {
        Self::Failed(error.to_string())
    }
}

/// Says that there is no such name, and which there are.
pub(crate) fn there_is_no(what: &str, text: &str, known: &[&str]) -> String {
    format!("there is no {what} \"{text}\"; there are: {}", known.join(", "))
}
