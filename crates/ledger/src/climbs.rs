//! Cards and the climbs on them.

use rusqlite::{Connection, OptionalExtension, params};
use serde_json::from_str;
use yard_step_core::{
    CardDescription, Climb, ClimbError, ClimbEvent, Directive, Downed, Experience, Fan, Plan,
    Settings, Soak, Stage, are_other_limits,
};

use crate::codec::{content, json};
use crate::error::{Doing, LedgerError};
use crate::handle::{Ledger, now};
use crate::proof::{soak_fact, soak_name};
use crate::trials::{Intent, TrialEntry, read_trials};

/// How far a climb has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::IntoStaticStr, strum::EnumString)]
pub enum ClimbState {
    /// It goes on, now or later.
    #[strum(to_string = "open")]
    Open,
    /// It has its outcome.
    #[strum(to_string = "ended")]
    Ended,
    /// It is none: the record of a card's everyday use.
    #[strum(to_string = "everyday")]
    Everyday,
    /// It was given up for a new one.
    #[strum(to_string = "given up")]
    GivenUp,
}

impl ClimbState {
    /// The state in a word or two.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    pub(crate) fn from_label(label: &str) -> Option<Self> {
        label.parse().ok()
    }
}

/// A climb as it stands in the ledger, with every trial that has a verdict.
#[derive(Debug, Clone)]
pub struct ClimbEntry {
    /// Number of the climb.
    pub id: i64,
    /// The card.
    pub card: CardDescription,
    /// The plan.
    pub plan: Plan,
    /// Its stages.
    pub stages: Vec<Stage>,
    /// What the user said of the stages.
    pub directives: Vec<Directive>,
    /// The trial of which the user asked which one it was.
    pub isolating: Option<u32>,
    /// Whether the user wants each setting's part of the gain measured.
    pub leaving_out: bool,
    /// What the user wants proven before it goes on.
    pub soak: Option<Soak>,
    /// What it was told of earlier climbs.
    pub experience: Experience,
    /// How far it has come.
    pub state: ClimbState,
    /// When it began, seconds since 1970.
    pub began: i64,
    /// Trials that have a verdict, in order.
    pub trials: Vec<TrialEntry>,
    /// The trial that has none: the tool or the machine did not survive it.
    pub unfinished: Option<Intent>,
}

impl ClimbEntry {
    /// The climb as far as it has come: every trial and every wish about a stage told to it again.
    ///
    /// # Errors
    /// Its stages do not fit the card.
    pub fn lay_out(&self) -> Result<Climb, ClimbError> {
        let mut climb = Climb::new(self.card.clone(), self.plan.clone(), &self.stages)?;
        climb.handle(ClimbEvent::Learnt(Box::new(self.experience.clone())));
        for trial in &self.trials {
            climb.handle(ClimbEvent::TrialEnded(Box::new(trial.record.clone())));
        }
        for directive in &self.directives {
            climb.handle(ClimbEvent::Directed(*directive));
        }
        climb.handle(ClimbEvent::Asked(self.isolating));
        climb.handle(ClimbEvent::LeaveOut(self.leaving_out));
        climb.handle(ClimbEvent::Soak(self.soak.clone().map(Box::new)));
        Ok(climb)
    }
}

impl Ledger {
    /// Notes a card. As soon as it can be told, its factory state is copied: the settings it holds before
    /// anything was changed. Later only its description is brought up to date. Returns whether it
    /// was new.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn note_card(
        &self,
        card: &CardDescription,
        factory: Option<&Settings>,
    ) -> Result<bool, LedgerError> {
        let card = card.clone();
        // A card that could only be looked at has none yet.
        let nothing = Settings::default();
        let factory = factory.copied().unwrap_or(nothing);
        self.ask(move |connection| {
            let (key, text) = (card.key(), json("card", &card)?);
            let known = connection
                .execute("UPDATE card SET description = ? WHERE key = ?", params![text, key])
                .doing("note a card")?;
            if known > 0 {
                let (factory, nothing) =
                    (json("factory settings", &factory)?, json("factory settings", &nothing)?);
                connection
                    .execute(
                        "UPDATE card SET factory = ? WHERE key = ? AND factory = ?",
                        params![factory, key, nothing],
                    )
                    .doing("note the factory state of a card")?;
                return Ok(false);
            }
            connection
                .execute(
                    "INSERT INTO card (key, description, factory, first_seen) VALUES (?, ?, ?, ?)",
                    params![key, text, json("factory settings", &factory)?, now()],
                )
                .doing("note a card")?;
            Ok(true)
        })
    }

    /// The copy of a card's factory state; none for a card never seen, or only looked at.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn factory(&self, card: &CardDescription) -> Result<Option<Settings>, LedgerError> {
        let key = card.key();
        self.ask(move |connection| {
            let text: Option<String> = connection
                .query_row("SELECT factory FROM card WHERE key = ?", params![key], |row| row.get(0))
                .optional()
                .doing("read a factory state")?;
            let Some(text) = text else { return Ok(None) };
            let state: Settings =
                from_str(&text).map_err(|error| content("a factory state", &error))?;
            if state == Settings::default() {
                return Ok(None);
            }
            // An automatic fan is not written.
            Ok(Some(Settings { fan: state.fan.or(Some(Fan::Automatic)), ..state }))
        })
    }

    /// Begins a climb on a card that was noted; returns its number.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn begin_climb(
        &self,
        card: &CardDescription,
        plan: &Plan,
        stages: &[Stage],
    ) -> Result<i64, LedgerError> {
        let (card, plan) = (card.clone(), plan.clone());
        let stages = stage_list(stages);
        self.ask(move |connection| {
            let plan = plan.to_toml().map_err(|error| content("the plan", &error))?;
            connection
                .execute(
                    "INSERT INTO climb (card, plan, stages, began, begun_on)
                     SELECT id, ?, ?, ?, ? FROM card WHERE key = ?",
                    params![plan, stages, now(), json("card", &card)?, card.key()],
                )
                .doing("begin a climb")?;
            Ok(connection.last_insert_rowid())
        })
    }

    /// Writes down how far a climb has come.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn set_climb_state(
        &self,
        climb: i64,
        state: ClimbState,
        directives: &[Directive],
    ) -> Result<(), LedgerError> {
        let ended: Vec<String> = directives.iter().map(ToString::to_string).collect();
        let ended = ended.join(",");
        self.ask(move |connection| {
            connection
                .execute(
                    "UPDATE climb SET state = ?, ended_stages = ? WHERE id = ?",
                    params![state.label(), ended, climb],
                )
                .doing("write down a climb's state")
                .map(|_| ())
        })
    }

    /// Writes down a plan that was changed while its climb goes on.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn set_climb_plan(&self, climb: i64, plan: &Plan) -> Result<(), LedgerError> {
        let text = plan.to_toml().map_err(|error| content("the plan", &error))?;
        self.ask(move |connection| {
            connection
                .execute("UPDATE climb SET plan = ? WHERE id = ?", params![text, climb])
                .doing("write down a climb's plan")
                .map(|_| ())
        })
    }

    /// Writes down what the user wants to know of a climb: of which trial which one it was, and
    /// whether the part each setting has in the gain is to be measured.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn set_climb_questions(
        &self,
        climb: i64,
        isolating: Option<u32>,
        leaving_out: bool,
    ) -> Result<(), LedgerError> {
        self.ask(move |connection| {
            connection
                .execute(
                    "UPDATE climb SET isolating = ?, leaving_out = ? WHERE id = ?",
                    params![isolating, leaving_out, climb],
                )
                .doing("write down a question")
                .map(|_| ())
        })
    }

    /// Writes down another order of a climb's stages.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn set_climb_stages(&self, climb: i64, stages: &[Stage]) -> Result<(), LedgerError> {
        let stages = stage_list(stages);
        self.ask(move |connection| {
            connection
                .execute("UPDATE climb SET stages = ? WHERE id = ?", params![stages, climb])
                .doing("write down the order of a climb's stages")
                .map(|_| ())
        })
    }

    /// All climbs that were not deleted, oldest first.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn climbs(&self) -> Result<Vec<ClimbEntry>, LedgerError> {
        self.ask(|connection| {
            climb_ids(connection)?.into_iter().map(|id| read_climb(connection, id)).collect()
        })
    }

    /// What took the machine down on a card in climbs other than `climb` (0 for none), deleted ones
    /// among them: trials with that verdict, and those that have no outcome; but not those whose
    /// settings, or bolder ones, were seen to hold since.
    ///
    /// # Errors
    /// The ledger cannot be read, or what it says cannot be understood.
    pub fn downed(&self, card: &CardDescription, climb: i64) -> Result<Vec<Downed>, LedgerError> {
        let (card, doing) = (card.clone(), "look for what took the machine down");
        self.ask(move |connection| {
            let key = card.key();
            let mut select = connection
                .prepare(
                    "SELECT climb, number, asked, taken, id FROM trial INDEXED BY trial_list
                     WHERE climb IN (SELECT climb.id FROM climb JOIN card ON card.id = climb.card
                                     WHERE card.key = ?)
                     AND climb <> ?
                     AND coalesce(marked, verdict, 'machine down') = 'machine down'",
                )
                .doing(doing)?;
            let mut rows = select.query(params![key, climb]).doing(doing)?;
            let mut downed = Vec::new();
            while let Some(row) = rows.next().doing(doing)? {
                let (climb, trial): (i64, u32) =
                    (row.get(0).doing(doing)?, row.get(1).doing(doing)?);
                let thing = format!("trial {trial} of climb {climb}");
                let read = |text: String| -> Result<Settings, LedgerError> {
                    from_str(&text).map_err(|error| content(&thing, &error))
                };
                let asked = read(row.get(2).doing(doing)?)?;
                let taken: Option<String> = row.get(3).doing(doing)?;
                let held = taken.map(read).transpose()?.unwrap_or(asked);
                let row: i64 = row.get(4).doing(doing)?;
                downed.push((row, Downed { climb, trial, asked, held }));
            }
            let since = held_since(connection, &card, downed.iter().map(|(row, _)| *row).min())?;
            downed.retain(|(row, downed)| {
                !since.iter().any(|(later, held)| later > row && downed.bars(held, &card))
            });
            Ok(downed.into_iter().map(|(_, downed)| downed).collect())
        })
    }

    /// Numbers of the climbs on a card that were not deleted, the newest first.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn climbs_on(&self, card: &CardDescription) -> Result<Vec<i64>, LedgerError> {
        let key = card.key();
        self.ask(move |connection| {
            connection
                .prepare(
                    "SELECT climb.id FROM climb JOIN card ON card.id = climb.card
                     WHERE card.key = ? AND climb.removed IS NULL ORDER BY climb.id DESC",
                )
                .and_then(|mut select| select.query_map(params![key], |row| row.get(0))?.collect())
                .doing("list the climbs of a card")
        })
    }

    /// One climb.
    ///
    /// # Errors
    /// There is no such climb, or the ledger cannot be read.
    pub fn climb(&self, id: i64) -> Result<ClimbEntry, LedgerError> {
        self.ask(move |connection| read_climb(connection, id))
    }

    /// The newest climb on a card that is still open.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn open_climb(&self, card: &CardDescription) -> Result<Option<ClimbEntry>, LedgerError> {
        let key = card.key();
        self.ask(move |connection| {
            let id: Option<i64> = connection
                .query_row(
                    "SELECT climb.id FROM climb JOIN card ON card.id = climb.card
                     WHERE card.key = ? AND climb.state = 'open' AND climb.removed IS NULL
                     ORDER BY climb.id DESC LIMIT 1",
                    params![key],
                    |row| row.get(0),
                )
                .optional()
                .doing("look for an open climb")?;
            id.map(|id| read_climb(connection, id)).transpose()
        })
    }
}

fn climb_ids(connection: &Connection) -> Result<Vec<i64>, LedgerError> {
    connection
        .prepare("SELECT id FROM climb WHERE removed IS NULL ORDER BY id")
        .and_then(|mut select| select.query_map([], |row| row.get(0))?.collect())
        .doing("list the climbs")
}

pub(crate) fn read_climb(connection: &Connection, id: i64) -> Result<ClimbEntry, LedgerError> {
    let row = connection
        .query_row(
            "SELECT card.description, climb.plan, climb.stages, climb.ended_stages, climb.state,
             climb.began, climb.isolating, climb.leaving_out, climb.experience, climb.begun_on FROM climb JOIN card ON card.id = climb.card WHERE climb.id = ?",
            params![id],
            |row| {
                Ok((
                    row.get::<_, String>(0)?,
                    row.get::<_, String>(1)?,
                    row.get::<_, String>(2)?,
                    row.get::<_, String>(3)?,
                    row.get::<_, String>(4)?,
                    row.get::<_, i64>(5)?,
                    row.get::<_, Option<u32>>(6)?,
                    row.get::<_, bool>(7)?,
                    row.get::<_, Option<String>>(8)?,
                    row.get::<_, Option<String>>(9)?,
                ))
            },
        )
        .optional()
        .doing("read a climb")?;
    let Some((
        card,
        plan,
        stages,
        ended,
        state,
        began,
        isolating,
        leaving_out,
        experience,
        begun_on,
    )) = row
    else {
        return Err(LedgerError::NoClimb { asked: id, climbs: climb_ids(connection)? });
    };
    let thing = format!("climb {id}");
    let (trials, unfinished) = read_trials(connection, id)?;
    Ok(ClimbEntry {
        id,
        card: card_of(&card, begun_on.as_deref()).map_err(|error| content(&thing, &error))?,
        plan: Plan::from_stored(&plan).map_err(|error| content(&thing, &error))?,
        stages: read_stages(&stages),
        directives: ended.split(',').filter_map(Directive::from_text).collect(),
        isolating,
        leaving_out,
        soak: soak_fact(&soak_name(id)).read(connection)?,
        // One that began before climbs learnt from one another was told nothing.
        experience: experience
            .map_or_else(|| Ok(Experience::default()), |text| from_str(&text))
            .map_err(|error| content(&thing, &error))?,
        state: ClimbState::from_label(&state)
            .ok_or_else(|| content(&thing, &format!("unknown state {state}")))?,
        began,
        trials,
        unfinished,
    })
}

/// The card of a climb as it is described now; or as it was then, where its limits were others: a climb keeps the ranges that it
/// began with. One that began before that was written down goes by what is described now.
fn card_of(now: &str, then: Option<&str>) -> serde_json::Result<CardDescription> {
    let now: CardDescription = from_str(now)?;
    let then: Option<CardDescription> = then.map(from_str).transpose()?;
    Ok(then.filter(|then| are_other_limits(then, &now)).unwrap_or(now))
}

fn stage_list(stages: &[Stage]) -> String {
    stages.iter().map(|stage| stage.label()).collect::<Vec<_>>().join(",")
}

fn read_stages(list: &str) -> Vec<Stage> {
    list.split(',').filter_map(Stage::from_label).collect()
}

/// Settings that ran without a fault on a card after row `first`, the newest first, with their rows.
fn held_since(
    connection: &Connection,
    card: &CardDescription,
    first: Option<i64>,
) -> Result<Vec<(i64, Settings)>, LedgerError> {
    /// More than anybody makes after a crash before they look into it.
    const MOST: i64 = 5_000;
    let doing = "look for what held since";
    let Some(first) = first else { return Ok(Vec::new()) };
    let mut select = connection
        .prepare(
            "SELECT trial.id, coalesce(taken, asked) FROM trial
             JOIN climb ON climb.id = trial.climb JOIN card ON card.id = climb.card
             WHERE card.key = ? AND trial.id > ?
             AND coalesce(marked, verdict) IN ('clean', 'slower', 'throttled')
             ORDER BY trial.id DESC LIMIT ?",
        )
        .doing(doing)?;
    let mut rows = select.query(params![card.key(), first, MOST]).doing(doing)?;
    let mut found = Vec::new();
    while let Some(row) = rows.next().doing(doing)? {
        let (id, held): (i64, String) = (row.get(0).doing(doing)?, row.get(1).doing(doing)?);
        // What cannot be understood takes nothing back.
        found.extend(from_str(&held).ok().map(|held| (id, held)));
    }
    Ok(found)
}
