//! Values as the JSON that stands in a column, and errors that name what could not be read.

use serde_json::to_string;

use crate::error::LedgerError;

pub(crate) fn json(thing: &str, value: &impl serde::Serialize) -> Result<String, LedgerError> {
    to_string(value).map_err(|error| content(thing, &error))
}

pub(crate) fn content(thing: &str, cause: &impl ToString) -> LedgerError {
    LedgerError::Content { thing: thing.to_owned(), cause: cause.to_string() }
}
