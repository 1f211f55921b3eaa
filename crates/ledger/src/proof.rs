//! Soaks and checks: what the user wants proven, and what checks of profiles came to.

use serde::{Deserialize, Serialize};
use yard_step_core::{CardDescription, CheckRun, Profile, Soak};

use crate::error::LedgerError;
use crate::facts::Fact;
use crate::handle::{Ledger, now};

/// Checks kept of a profile: the first, and the newest.
const MOST_CHECKS: usize = 50;

/// What a check of a profile came to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Check {
    /// When it ended, seconds since 1970.
    pub at: i64,
    /// Release of the driver.
    pub driver: String,
    /// Its runs.
    pub runs: Vec<CheckRun>,
}

pub(crate) fn soak_fact(name: &str) -> Fact<'_> {
    Fact {
        name,
        thing: "a soak",
        reading: "read what is to be proven",
        writing: "write down what is to be proven",
    }
}

pub(crate) fn soak_name(climb: i64) -> String {
    format!("soak of climb {climb}")
}

fn check_fact(name: &str) -> Fact<'_> {
    Fact {
        name,
        thing: "checks of a profile",
        reading: "read the checks of a profile",
        writing: "write down a check of a profile",
    }
}

/// One that was kept anew under the same name begins anew.
fn check_name(card: &CardDescription, profile: &Profile) -> String {
    format!("checks of {} kept {} on {}", profile.name, profile.kept, card.key())
}

impl Ledger {
    /// Writes down what the user wants proven in a climb; `None` takes it back.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn set_climb_soak(&self, climb: i64, soak: Option<&Soak>) -> Result<(), LedgerError> {
        let (name, soak) = (soak_name(climb), soak.cloned());
        self.ask(move |connection| soak_fact(&name).write(connection, &soak))
    }

    /// The checks of a profile, the first one first.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn checks(
        &self,
        card: &CardDescription,
        profile: &Profile,
    ) -> Result<Vec<Check>, LedgerError> {
        let name = check_name(card, profile);
        self.ask(move |connection| check_fact(&name).read(connection))
    }

    /// Adds a check of a profile, made just now. Of very many, the first and the newest stay.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn add_check(
        &self,
        card: &CardDescription,
        profile: &Profile,
        runs: &[CheckRun],
    ) -> Result<(), LedgerError> {
        let name = check_name(card, profile);
        let check = Check { at: now(), driver: card.driver.clone(), runs: runs.to_vec() };
        self.ask(move |connection| {
            let fact = check_fact(&name);
            let mut checks: Vec<Check> = fact.read(connection)?;
            checks.push(check);
            if checks.len() > MOST_CHECKS {
                checks.remove(1);
            }
            fact.write(connection, &checks)
        })
    }
}
