//! Climbs, their trials, samples and events.

use rusqlite::{Connection, OptionalExtension, Row, params};
use serde_json::{from_str, to_string};
use yard_step_core::{
    CardDescription, Celsius, CheckedFrame, Climb, ClimbError, ClimbEvent, Directive, Downed, Fan,
    Fault, Mhz, Plan, Purpose, Room, Sample, Seconds, Seen, Settings, Stage, TrialRecord, Verdict,
    Watt,
};

use crate::error::{Doing, LedgerError};
use crate::handle::{Ledger, now};
use crate::samples::insert_samples;
use crate::spoilt::insert_spoilt;

/// How far a climb has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ClimbState {
    /// It goes on, now or later.
    Open,
    /// It has its outcome.
    Ended,
    /// It was given up for a new one.
    GivenUp,
}

impl ClimbState {
    const ALL: [Self; 3] = [Self::Open, Self::Ended, Self::GivenUp];

    /// The state in a word or two.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Ended => "ended",
            Self::GivenUp => "given up",
        }
    }

    pub(crate) fn from_label(label: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.label() == label)
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
    /// Whether the user wants what brought what measured.
    pub leaving_out: bool,
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
        for trial in &self.trials {
            climb.handle(ClimbEvent::TrialEnded(Box::new(trial.record.clone())));
        }
        for directive in &self.directives {
            climb.handle(ClimbEvent::Directed(*directive));
        }
        climb.handle(ClimbEvent::Asked(self.isolating));
        climb.handle(ClimbEvent::LeaveOut(self.leaving_out));
        Ok(climb)
    }
}

/// A trial that has its verdict, with its place in the ledger.
#[derive(Debug, Clone)]
pub struct TrialEntry {
    /// Row of the trial.
    pub id: i64,
    /// The run of the machine it was made in.
    pub boot: String,
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
    /// Notes a card. At first sight its factory state is copied: the settings it holds before
    /// anything was changed. Later only its description is brought up to date. Answers whether it
    /// was new.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn note_card(&self, card: &CardDescription, held: &Settings) -> Result<bool, LedgerError> {
        let (card, held) = (card.clone(), *held);
        self.ask(move |connection| {
            let (key, text) = (card.key(), json("card", &card)?);
            let known = connection
                .execute("UPDATE card SET description = ? WHERE key = ?", params![text, key])
                .doing("note a card")?;
            if known > 0 {
                return Ok(false);
            }
            connection
                .execute(
                    "INSERT INTO card (key, description, factory, first_seen) VALUES (?, ?, ?, ?)",
                    params![key, text, json("factory settings", &held)?, now()],
                )
                .doing("note a card")?;
            Ok(true)
        })
    }

    /// The copy of a card's factory state; none for a card never seen.
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
            // An automatic fan is not written.
            Ok(Some(Settings { fan: state.fan.or(Some(Fan::Automatic)), ..state }))
        })
    }

    /// Begins a climb on a card that was noted; answers its number.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn begin_climb(
        &self,
        card: &CardDescription,
        plan: &Plan,
        stages: &[Stage],
    ) -> Result<i64, LedgerError> {
        let (key, plan) = (card.key(), plan.clone());
        let stages = stage_list(stages);
        self.ask(move |connection| {
            let plan = plan.to_toml().map_err(|error| content("the plan", &error))?;
            connection
                .execute(
                    "INSERT INTO climb (card, plan, stages, began)
                     SELECT id, ?, ?, ? FROM card WHERE key = ?",
                    params![plan, stages, now(), key],
                )
                .doing("begin a climb")?;
            Ok(connection.last_insert_rowid())
        })
    }

    /// Writes down what is about to be done and answers with its row. When this returns, the
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
                      boot, since_reset, core_mhz, memory_mhz, began)
                     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
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

    /// Adds what was measured of a running trial, all or nothing.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn add_measured(&self, trial: i64, measured: Measured) -> Result<(), LedgerError> {
        self.ask(move |connection| {
            let all = connection.transaction().doing("write down what was measured")?;
            insert_samples(&all, trial, measured.first, &measured.samples)?;
            insert_spoilt(&all, trial, &measured.spoilt)?;
            all.commit().doing("write down what was measured")
        })
    }

    /// Notes that a trial has lived so long: all that is known of one that took the machine down.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn sign_of_life(&self, trial: i64, lived: Seconds) -> Result<(), LedgerError> {
        self.ask(move |connection| {
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
    /// whether what brought what is to be measured.
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

    /// What took the machine down on a card in climbs other than `climb`, deleted ones among them:
    /// trials with that verdict, and those that have no outcome.
    ///
    /// # Errors
    /// The ledger cannot be read, or what it says cannot be understood.
    pub fn downed(&self, card: &CardDescription, climb: i64) -> Result<Vec<Downed>, LedgerError> {
        let (key, doing) = (card.key(), "look for what took the machine down");
        self.ask(move |connection| {
            let mut select = connection
                .prepare(
                    "SELECT trial.climb, trial.number, trial.asked, trial.taken FROM trial
                     JOIN climb ON climb.id = trial.climb JOIN card ON card.id = climb.card
                     WHERE card.key = ? AND climb.id <> ? AND
                     coalesce(trial.marked, trial.verdict, 'machine down') = 'machine down'",
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
                downed.push(Downed { climb, trial, asked, held });
            }
            Ok(downed)
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

fn climb_ids(connection: &Connection) -> Result<Vec<i64>, LedgerError> {
    connection
        .prepare("SELECT id FROM climb WHERE removed IS NULL ORDER BY id")
        .and_then(|mut select| select.query_map([], |row| row.get(0))?.collect())
        .doing("list the climbs")
}

fn read_climb(connection: &Connection, id: i64) -> Result<ClimbEntry, LedgerError> {
    let row = connection
        .query_row(
            "SELECT card.description, climb.plan, climb.stages, climb.ended_stages, climb.state,
             climb.began, climb.isolating, climb.leaving_out FROM climb JOIN card ON card.id = climb.card WHERE climb.id = ?",
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
                ))
            },
        )
        .optional()
        .doing("read a climb")?;
    let Some((card, plan, stages, ended, state, began, isolating, leaving_out)) = row else {
        return Err(LedgerError::NoClimb { asked: id, climbs: climb_ids(connection)? });
    };
    let thing = format!("climb {id}");
    let (trials, unfinished) = read_trials(connection, id)?;
    Ok(ClimbEntry {
        id,
        card: from_str(&card).map_err(|error| content(&thing, &error))?,
        plan: Plan::from_stored(&plan).map_err(|error| content(&thing, &error))?,
        stages: read_stages(&stages),
        directives: ended.split(',').filter_map(Directive::from_text).collect(),
        isolating,
        leaving_out,
        state: ClimbState::from_label(&state)
            .ok_or_else(|| content(&thing, &format!("unknown state {state}")))?,
        began,
        trials,
        unfinished,
    })
}

/// Everything of a trial but its samples and its spoilt frames.
const WHOLE: &str = "climb, id, number, stage, purpose, asked, scene, planned_s, warm_up_s, taken, \
                     seen, seconds, verdict, reason, marked, score, faults, room, in_step, boot, \
                     since_reset, lived_s";

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

fn read_trials(
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

fn stage_list(stages: &[Stage]) -> String {
    stages.iter().map(|stage| stage.label()).collect::<Vec<_>>().join(",")
}

fn read_stages(list: &str) -> Vec<Stage> {
    list.split(',').filter_map(Stage::from_label).collect()
}

pub(crate) fn json(thing: &str, value: &impl serde::Serialize) -> Result<String, LedgerError> {
    to_string(value).map_err(|error| content(thing, &error))
}

pub(crate) fn content(thing: &str, cause: &impl ToString) -> LedgerError {
    LedgerError::Content { thing: thing.to_owned(), cause: cause.to_string() }
}
