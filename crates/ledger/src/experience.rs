//! What the climbs of a ledger have taught of each kind of card, and what of it is to be forgotten.

use std::collections::BTreeMap;

use rusqlite::{Connection, params};
use serde_json::{from_str, to_string};
use yard_step_core::{CardDescription, Experience, Lesson};

use crate::climbs::{ClimbEntry, read_climb};
use crate::codec::content;
use crate::error::{Doing, LedgerError};
use crate::facts::Fact;
use crate::handle::Ledger;

const FORGOTTEN: Fact<'_> = Fact {
    name: "forgotten",
    thing: THING,
    reading: "read what is to be forgotten",
    writing: "write down what is to be forgotten",
};
/// Climbs of one kind that are learnt from, the newest first: more would say little more.
const MOST: usize = 20;
/// Climbs that are looked through for them.
const MOST_LOOKED_AT: i64 = 500;

/// What is known of one kind of card.
#[derive(Debug, Clone, PartialEq)]
pub struct KindExperience {
    /// The kind: the name of the card.
    pub kind: String,
    /// What its climbs have taught.
    pub experience: Experience,
}

/// Up to which climb the lessons of each kind are to be forgotten.
type Forgotten = BTreeMap<String, i64>;

impl Ledger {
    /// What earlier climbs say of a card before its next one: those on its kind, and those on others.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn experience(&self, card: &CardDescription) -> Result<Experience, LedgerError> {
        let by_kind = self.lessons()?;
        Ok(of_kind(&by_kind, &card.name))
    }

    /// What earlier climbs say of each kind of card there is in the ledger.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn experiences(&self) -> Result<Vec<KindExperience>, LedgerError> {
        let by_kind = self.lessons()?;
        let known = by_kind
            .keys()
            .map(|kind| KindExperience { kind: kind.clone(), experience: of_kind(&by_kind, kind) });
        Ok(known.collect())
    }

    /// Makes future climbs ignore those that there are now: on one kind of card, or on all of them. The climbs themselves
    /// stay. Returns whether there was any.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn forget(&self, kind: Option<&str>) -> Result<bool, LedgerError> {
        let known = self.lessons()?.into_keys();
        let kinds: Vec<String> =
            known.filter(|known| kind.is_none_or(|kind| kind == known)).collect();
        if kinds.is_empty() {
            return Ok(false);
        }
        self.ask(move |connection| {
            let newest: i64 = connection
                .query_row("SELECT coalesce(max(id), 0) FROM climb", [], |row| row.get(0))
                .doing("look for the newest climb")?;
            let mut forgotten: Forgotten = FORGOTTEN.read(connection)?;
            forgotten.extend(kinds.into_iter().map(|kind| (kind, newest)));
            FORGOTTEN.write(connection, &forgotten)?;
            Ok(true)
        })
    }

    /// Notes with a climb what it was told of earlier ones: it comes to the same again whenever it is laid out.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn set_climb_experience(
        &self,
        climb: i64,
        experience: &Experience,
    ) -> Result<(), LedgerError> {
        let text = to_string(experience).map_err(|error| content(THING, &error))?;
        self.ask(move |connection| {
            connection
                .execute("UPDATE climb SET experience = ? WHERE id = ?", params![text, climb])
                .doing("write down what a climb was told of earlier ones")
                .map(|_| ())
        })
    }

    /// The lessons of each kind.
    fn lessons(&self) -> Result<BTreeMap<String, Vec<Lesson>>, LedgerError> {
        let entries = self.ask(|connection| entries(connection))?;
        let mut by_kind: BTreeMap<String, Vec<Lesson>> = BTreeMap::new();
        for entry in entries {
            // A climb that cannot be laid out any more teaches nothing.
            let Ok(climb) = entry.lay_out() else { continue };
            by_kind.entry(entry.card.name.clone()).or_default().push(climb.lesson());
        }
        Ok(by_kind)
    }
}

const THING: &str = "what earlier climbs have taught";

/// What lessons say of one kind.
fn of_kind(by_kind: &BTreeMap<String, Vec<Lesson>>, kind: &str) -> Experience {
    let own = by_kind.get(kind).cloned().unwrap_or_default();
    let others: Vec<Lesson> =
        by_kind.iter().filter(|(other, _)| *other != kind).flat_map(|(_, l)| l.clone()).collect();
    Experience::of(&own, &others)
}

/// The newest climbs of each kind that have trials and are not to be forgotten.
fn entries(connection: &Connection) -> Result<Vec<ClimbEntry>, LedgerError> {
    let forgotten: Forgotten = FORGOTTEN.read(connection)?;
    let doing = "look for climbs to learn from";
    let mut select = connection
        .prepare(
            "SELECT climb.id, card.description FROM climb JOIN card ON card.id = climb.card
             WHERE climb.removed IS NULL AND EXISTS
                 (SELECT 1 FROM trial WHERE trial.climb = climb.id AND trial.verdict IS NOT NULL)
             ORDER BY climb.id DESC LIMIT ?",
        )
        .doing(doing)?;
    let mut rows = select.query(params![MOST_LOOKED_AT]).doing(doing)?;
    let mut count: BTreeMap<String, usize> = BTreeMap::new();
    let mut found = Vec::new();
    while let Some(row) = rows.next().doing(doing)? {
        let (id, card): (i64, String) = (row.get(0).doing(doing)?, row.get(1).doing(doing)?);
        let card: CardDescription = from_str(&card).map_err(|error| content(THING, &error))?;
        let is_forgotten = forgotten.get(&card.name).is_some_and(|until| id <= *until);
        let so_far = count.entry(card.name).or_default();
        if !is_forgotten && *so_far < MOST {
            *so_far += 1;
            found.push(id);
        }
    }
    found.into_iter().map(|id| read_climb(connection, id)).collect()
}
