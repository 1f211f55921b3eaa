//! Profiles: settings that were kept, with the climb and trial that stand behind them.

use rusqlite::params;
use serde_json::{from_str, to_string};
use yard_step_core::{CardDescription, Settings};

use crate::error::{Doing, LedgerError};
use crate::handle::{Ledger, now};

/// Kept settings.
#[derive(Debug, Clone, PartialEq)]
pub struct Profile {
    /// Name, one of a kind per card.
    pub name: String,
    /// The settings.
    pub settings: Settings,
    /// Climb they come from.
    pub climb: Option<i64>,
    /// Number of the trial that shows them, in that climb.
    pub trial: Option<u32>,
    /// Release of the driver they were kept under.
    pub driver: Option<String>,
}

impl Ledger {
    /// Keeps settings under a name; a profile of that name is replaced.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn keep(&self, card: &CardDescription, profile: &Profile) -> Result<(), LedgerError> {
        let (key, profile) = (card.key(), profile.clone());
        self.ask(move |connection| {
            let settings = to_string(&profile.settings).map_err(|error| LedgerError::Content {
                thing: "a profile".into(),
                cause: error.to_string(),
            })?;
            connection
                .execute(
                    "INSERT INTO profile (card, name, settings, climb, trial, driver, saved)
                     SELECT id, ?, ?, ?, ?, ?, ? FROM card WHERE key = ?
                     ON CONFLICT (card, name) DO UPDATE SET settings = excluded.settings,
                     climb = excluded.climb, trial = excluded.trial, driver = excluded.driver,
                     saved = excluded.saved",
                    params![
                        profile.name,
                        settings,
                        profile.climb,
                        profile.trial,
                        profile.driver,
                        now(),
                        key
                    ],
                )
                .doing("keep a profile")
                .map(|_| ())
        })
    }

    /// The profiles of a card, the newest first.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn profiles(&self, card: &CardDescription) -> Result<Vec<Profile>, LedgerError> {
        let key = card.key();
        self.ask(move |connection| {
            let mut select = connection
                .prepare(
                    "SELECT profile.name, settings, climb, trial, driver FROM profile
                     JOIN card ON card.id = profile.card WHERE card.key = ?
                     ORDER BY saved DESC, profile.id DESC",
                )
                .doing("read profiles")?;
            let rows = select
                .query_map(params![key], |row| {
                    Ok((
                        row.get(0)?,
                        row.get::<_, String>(1)?,
                        row.get(2)?,
                        row.get(3)?,
                        row.get(4)?,
                    ))
                })
                .and_then(Iterator::collect::<Result<Vec<_>, _>>)
                .doing("read profiles")?;
            rows.into_iter()
                .map(|(name, settings, climb, trial, driver): (String, String, _, _, _)| {
                    let settings = from_str(&settings).map_err(|error| LedgerError::Content {
                        thing: format!("profile {name}"),
                        cause: error.to_string(),
                    })?;
                    Ok(Profile { name, settings, climb, trial, driver })
                })
                .collect()
        })
    }
}
