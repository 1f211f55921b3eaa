//! Trials: what is about to be done, what came of it, and what happened in between.

use rusqlite::{Connection, Row, params};
use serde_json::from_str;
use yard_step_core::{
    Celsius, CheckedFrame, Fault, Mhz, Purpose, Room, Sample, Seconds, Seen, Settings, Stage,
    TrialRecord, Verdict, Watt,
};

use crate::codec::{content, json};
use crate::error::{Doing, LedgerError};
use crate::handle::{Ledger, Pending, now};
use crate::samples::insert_samples;
use crate::spoilt::insert_spoilt;

/// A trial that has its verdict, with its place in the ledger.
#[derive(Debug, Clone)]
pub struct TrialEntry {
    /// Row of the trial.
    pub id: i64,
    /// The run of the machine it was made in.
    pub boot: String,
    /// When it began, seconds since 1970.
    pub began: i64,
    /// The trial.
    pub record: TrialRecord,
}

/// What is about to be done.
#[derive(Debug, Clone, PartialEq)]
pub struct Intent {
    /// Row of the trial; 0 before it is written.
    pub id: i64,
    /// Climb it belongs to.
    pub climb: i64,
    /// Place in the climb, from 1.
    pub number: u32,
    /// Stage.
    pub stage: Stage,
    /// What for.
    pub purpose: Purpose,
    /// Settings that will be asked.
    pub asked: Settings,
    /// Scene that will be run.
    pub scene: String,
    /// Length in all.
    pub planned: Seconds,
    /// Part of it that is warm-up.
    pub warm_up: Seconds,
    /// The room, where the user has entered it.
    pub room: Option<Room>,
    /// Release of the driver; none in trials of ledgers that did not note it.
    pub driver: Option<String>,
    /// The run of the machine it is made in (see `Card::boot`).
    pub boot: String,
    /// The trial in which the driver reset the card in the same run of the machine.
    pub since_reset: Option<u32>,
    /// How long it is known to have run: its last sign of life.
    pub lived: Seconds,
}

impl Intent {
    /// What had been about to be done in a trial that has its verdict: as much of it as its record
    /// tells. `id` is its row, 0 before it is written.
    #[must_use]
    pub fn of_record(id: i64, climb: i64, record: &TrialRecord) -> Self {
        Self {
            id,
            climb,
            number: record.number,
            stage: record.stage,
            purpose: record.purpose,
            asked: record.asked,
            scene: record.scene.clone(),
            planned: record.seconds,
            warm_up: Seconds(0.0),
            room: record.room,
            driver: None,
            boot: String::new(),
            since_reset: record.since_reset,
            lived: record.seconds,
        }
    }

    /// The trial with this verdict and nothing else known of it yet.
    #[must_use]
    pub fn judged(&self, judged: Verdict, reason: String) -> TrialRecord {
        TrialRecord {
            number: self.number,
            stage: self.stage,
            purpose: self.purpose,
            asked: self.asked,
            taken: None,
            seen: Seen::default(),
            scene: self.scene.clone(),
            seconds: Seconds(0.0),
            judged,
            reason,
            marked: None,
            score: None,
            faults: Vec::new(),
            room: self.room,
            in_step: Vec::new(),
            since_reset: self.since_reset,
        }
    }
}

/// What was measured of a trial and is not in the ledger yet.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Measured {
    /// Place of the first sample among all of the trial's.
    pub first: usize,
    /// Samples, in order.
    pub samples: Vec<Sample>,
    /// Spoilt frames, each with the time of the trial at which it was drawn.
    pub spoilt: Vec<CheckedFrame>,
}

/// Something worth remembering.
#[derive(Debug, Clone, PartialEq)]
pub struct Event {
    /// Trial it happened in, if any.
    pub trial: Option<i64>,
    /// When, from the beginning of that trial.
    pub at: Seconds,
    /// What kind: `applied`, `fault`, `restart`, `mark` and the like.
    pub kind: String,
    /// In words.
    pub text: String,
}

impl Ledger {
    /// Writes down what is about to be done and returns its row. When this returns, the
    /// intent is on disk.
    ///
    /// # Errors
    /// The ledger cannot be written; the card must not be touched then.
    pub fn begin_trial(&self, intent: &Intent) -> Result<i64, LedgerError> {
        let intent = intent.clone();
        self.ask(move |connection| {
            connection
                .execute(
                    "INSERT INTO trial
                     (climb, number, stage, purpose, asked, scene, planned_s, warm_up_s, room,
                      driver, boot, since_reset, core_mhz, memory_mhz, began)
                     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    params![
                        intent.climb,
                        intent.number,
                        intent.stage.label(),
                        intent.purpose.label(),
                        json("settings", &intent.asked)?,
                        intent.scene,
                        intent.planned.value(),
                        intent.warm_up.value(),
                        intent.room.map(|room| json("the room", &room)).transpose()?,
                        intent.driver,
                        intent.boot,
                        intent.since_reset,
                        core_clock(&intent.asked),
                        intent.asked.memory_offset.map(|offset| f64::from(offset.0)),
                        now(),
                    ],
                )
                .doing("write down a trial")?;
            Ok(connection.last_insert_rowid())
        })
    }

    /// Writes down the outcome of a trial, its last samples and its events: all or nothing.
    ///
    /// # Errors
    /// The ledger cannot be written; the trial then stays without an outcome.
    pub fn end_trial(
        &self,
        trial: i64,
        record: &TrialRecord,
        rest: Measured,
        events: Vec<Event>,
    ) -> Result<(), LedgerError> {
        let record = record.clone();
        self.ask(move |connection| {
            let all = connection.transaction().doing("write down an outcome")?;
            insert_samples(&all, trial, rest.first, &rest.samples)?;
            insert_spoilt(&all, trial, &rest.spoilt)?;
            for event in &events {
                insert_event(&all, trial_climb(&all, trial)?, event)?;
            }
            update_outcome(&all, trial, &record)?;
            all.commit().doing("write down an outcome")
        })
    }

    /// Adds what was measured of a running trial, all or nothing. The trial need not wait for it.
    pub fn add_measured(&self, trial: i64, measured: Measured) -> Pending<()> {
        self.begin(move |connection| {
            let all = connection.transaction().doing("write down what was measured")?;
            insert_samples(&all, trial, measured.first, &measured.samples)?;
            insert_spoilt(&all, trial, &measured.spoilt)?;
            all.commit().doing("write down what was measured")
        })
    }

    /// Notes that a trial has lived so long: all that is known of one that took the machine down. The trial need not wait for
    /// it.
    pub fn sign_of_life(&self, trial: i64, lived: Seconds) -> Pending<()> {
        self.begin(move |connection| {
            connection
                .execute("UPDATE trial SET lived_s = ? WHERE id = ?", params![lived.value(), trial])
                .doing("write down a sign of life")
                .map(|_| ())
        })
    }

    /// Writes down an event outside a running trial.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn add_event(&self, climb: i64, event: &Event) -> Result<(), LedgerError> {
        let event = event.clone();
        self.ask(move |connection| insert_event(connection, climb, &event))
    }

    /// Writes down the user's verdict on a trial, or takes it back.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn mark_trial(
        &self,
        climb: i64,
        number: u32,
        verdict: Option<Verdict>,
    ) -> Result<(), LedgerError> {
        self.ask(move |connection| {
            connection
                .execute(
                    "UPDATE trial SET marked = ? WHERE climb = ? AND number = ?",
                    params![verdict.map(Verdict::label), climb, number],
                )
                .doing("mark a trial")
                .map(|_| ())
        })
    }

    /// All events of a climb, in order.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn events(&self, climb: i64) -> Result<Vec<Event>, LedgerError> {
        self.ask(move |connection| {
            let mut select = connection
                .prepare("SELECT trial, at_s, kind, text FROM event WHERE climb = ? ORDER BY id")
                .doing("read events")?;
            select
                .query_map(params![climb], |row| {
                    Ok(Event {
                        trial: row.get(0)?,
                        at: Seconds(row.get(1)?),
                        kind: row.get(2)?,
                        text: row.get(3)?,
                    })
                })
                .and_then(Iterator::collect)
                .doing("read events")
        })
    }
}

/// What a list shows of the core clock that was asked for: its offset or, on a card without one, the
/// top of its window, MHz.
fn core_clock(asked: &Settings) -> Option<f64> {
    let offset = asked.core_offset.map(|offset| f64::from(offset.0));
    offset.or(asked.clock_maximum.map(Mhz::value))
}

fn insert_event(connection: &Connection, climb: i64, event: &Event) -> Result<(), LedgerError> {
    connection
        .execute(
            "INSERT INTO event (climb, trial, at_s, kind, text) VALUES (?, ?, ?, ?, ?)",
            params![climb, event.trial, event.at.value(), event.kind, event.text],
        )
        .doing("write down an event")
        .map(|_| ())
}

fn trial_climb(connection: &Connection, trial: i64) -> Result<i64, LedgerError> {
    connection
        .query_row("SELECT climb FROM trial WHERE id = ?", params![trial], |row| row.get(0))
        .doing("find a trial")
}

fn update_outcome(
    connection: &Connection,
    trial: i64,
    record: &TrialRecord,
) -> Result<(), LedgerError> {
    let taken = record.taken.as_ref().map(|taken| json("settings", taken)).transpose()?;
    connection
        .execute(
            "UPDATE trial SET taken = ?, seen = ?, seconds = ?, verdict = ?, reason = ?,
             marked = ?, score = ?, faults = ?, in_step = ?, power_w = ?, hot_spot_c = ?
             WHERE id = ?",
            params![
                taken,
                json("what was seen", &record.seen)?,
                record.seconds.value(),
                record.judged.label(),
                record.reason,
                record.marked.map(Verdict::label),
                record.score,
                json("faults", &record.faults)?,
                json("cards in step", &record.in_step)?,
                record.seen.average_power.map(Watt::value),
                record.seen.hot_spot_max.map(Celsius::value),
                trial,
            ],
        )
        .doing("write down an outcome")
        .map(|_| ())
}

/// Everything of a trial but its samples and its spoilt frames.
const WHOLE: &str = "climb, id, number, stage, purpose, asked, scene, planned_s, warm_up_s, taken, \
                     seen, seconds, verdict, reason, marked, score, faults, room, in_step, driver, \
                     boot, since_reset, lived_s, began";

/// One trial: what was about to be done, and what came of it.
pub(crate) fn read_trial(
    connection: &Connection,
    row: i64,
) -> Result<(Intent, Option<TrialRecord>), LedgerError> {
    let mut select = connection
        .prepare_cached(&format!("SELECT {WHOLE} FROM trial WHERE id = ?"))
        .doing("read a trial")?;
    let mut rows = select.query(params![row]).doing("read a trial")?;
    let missing = || content(&format!("trial row {row}"), &"it is not there");
    let found = rows.next().doing("read a trial")?.ok_or_else(missing)?;
    let intent = read_intent(found, found.get("climb").doing("read a trial")?)?;
    let verdict: Option<String> = found.get("verdict").doing("read a verdict")?;
    let record = verdict.map(|verdict| read_record(found, &intent, &verdict)).transpose()?;
    Ok((intent, record))
}

pub(crate) fn read_trials(
    connection: &Connection,
    climb: i64,
) -> Result<(Vec<TrialEntry>, Option<Intent>), LedgerError> {
    let mut select = connection
        .prepare(&format!("SELECT {WHOLE} FROM trial WHERE climb = ? ORDER BY number"))
        .doing("read trials")?;
    let mut rows = select.query(params![climb]).doing("read trials")?;
    let (mut trials, mut unfinished) = (Vec::new(), None);
    while let Some(row) = rows.next().doing("read trials")? {
        let intent = read_intent(row, climb)?;
        let verdict: Option<String> = row.get("verdict").doing("read a verdict")?;
        match verdict {
            None => unfinished = Some(intent),
            Some(verdict) => {
                trials.push(TrialEntry {
                    id: intent.id,
                    boot: intent.boot.clone(),
                    began: row.get("began").doing("read a trial")?,
                    record: read_record(row, &intent, &verdict)?,
                });
            }
        }
    }
    Ok((trials, unfinished))
}

fn read_intent(row: &Row<'_>, climb: i64) -> Result<Intent, LedgerError> {
    let number: u32 = row.get("number").doing("read a trial")?;
    let thing = format!("trial {number} of climb {climb}");
    let text = |column: &str| row.get::<_, String>(column).doing("read a trial");
    let unknown = |what: &str, label: &str| content(&thing, &format!("unknown {what} {label}"));
    let (stage, purpose) = (text("stage")?, text("purpose")?);
    Ok(Intent {
        id: row.get("id").doing("read a trial")?,
        climb,
        number,
        stage: Stage::from_label(&stage).ok_or_else(|| unknown("stage", &stage))?,
        purpose: Purpose::from_label(&purpose).ok_or_else(|| unknown("purpose", &purpose))?,
        asked: from_str(&text("asked")?).map_err(|error| content(&thing, &error))?,
        scene: text("scene")?,
        planned: Seconds(row.get("planned_s").doing("read a trial")?),
        warm_up: Seconds(row.get("warm_up_s").doing("read a trial")?),
        room: row
            .get::<_, Option<String>>("room")
            .doing("read a trial")?
            .map(|text| from_str(&text).map_err(|error| content(&thing, &error)))
            .transpose()?,
        driver: row.get("driver").doing("read a trial")?,
        boot: text("boot")?,
        since_reset: row.get("since_reset").doing("read a trial")?,
        lived: Seconds(row.get("lived_s").doing("read a trial")?),
    })
}

fn read_record(row: &Row<'_>, intent: &Intent, verdict: &str) -> Result<TrialRecord, LedgerError> {
    let thing = format!("trial {} of climb {}", intent.number, intent.climb);
    let optional = |column: &str| row.get::<_, Option<String>>(column).doing("read a trial");
    let judged = |label: &str| {
        Verdict::from_label(label)
            .ok_or_else(|| content(&thing, &format!("unknown verdict {label}")))
    };
    let parse_error = |error: serde_json::Error| content(&thing, &error);
    let taken = optional("taken")?.map(|text| from_str(&text)).transpose().map_err(parse_error)?;
    let seen: Seen = from_str(&optional("seen")?.unwrap_or_default()).map_err(parse_error)?;
    let faults: Vec<Fault> =
        from_str(&optional("faults")?.unwrap_or_default()).map_err(parse_error)?;
    let reason = optional("reason")?.unwrap_or_default();
    let in_step =
        optional("in_step")?.map(|text| from_str(&text)).transpose().map_err(parse_error)?;
    Ok(TrialRecord {
        taken,
        seen,
        seconds: Seconds(row.get("seconds").doing("read a trial")?),
        marked: optional("marked")?.map(|label| judged(&label)).transpose()?,
        score: row.get("score").doing("read a trial")?,
        faults,
        in_step: in_step.unwrap_or_default(),
        ..intent.judged(judged(verdict)?, reason)
    })
}
