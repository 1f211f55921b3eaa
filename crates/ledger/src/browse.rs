//! Looking through everything tried: trials found, put in order and shown a screenful at a time.
//!
//! ```text
//!   Filter, Order ──► find ──► the rows of all that apply, in order (one index, read through once)
//!                                │
//!                      a screenful of them ──► lines ──► what the list shows
//! ```

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use rusqlite::{Connection, OptionalExtension, Row, ToSql, params, params_from_iter};
use serde_json::from_str;
use yard_step_core::statistics::median;
use yard_step_core::verdict::gain_percent;
use yard_step_core::{
    CardChange, CardDescription, Celsius, Seconds, Stage, TrialRecord, Verdict, Watt, in_short,
    unchanged_around,
};

use crate::climbs::ClimbState;
use crate::codec::content;
use crate::error::{Doing, LedgerError};
use crate::facts::read_machine;
use crate::handle::Ledger;
use crate::search::{Figure, Relation, Search};
use crate::trials::{Intent, read_trial};

/// Which trials are wanted: all that is said must apply.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Filter {
    /// Key of the card.
    pub card: Option<String>,
    /// Number of the climb.
    pub climb: Option<i64>,
    /// Stage.
    pub stage: Option<Stage>,
    /// Verdict that counts: the user's where there is one.
    pub verdict: Option<Verdict>,
    /// Load that was run.
    pub load: Option<String>,
    /// Only what the user flagged.
    pub flagged: bool,
    /// What was deleted and can be brought back, instead of what was not.
    pub removed: bool,
    /// What is searched for.
    pub search: Search,
}

/// What trials are put in order by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, strum::EnumCount, strum::IntoStaticStr)]
pub enum SortBy {
    /// When they began.
    #[default]
    #[strum(to_string = "time")]
    Time,
    /// Climb and place in it.
    #[strum(to_string = "climb")]
    Climb,
    /// Score.
    #[strum(to_string = "score")]
    Score,
    /// Gain over the baseline of their climb under the same load.
    #[strum(to_string = "gain")]
    Gain,
    /// Core clock asked for.
    #[strum(to_string = "core clock")]
    Core,
    /// Memory clock asked for.
    #[strum(to_string = "memory clock")]
    Memory,
    /// Power.
    #[strum(to_string = "power")]
    Power,
    /// Hot spot.
    #[strum(to_string = "hot spot")]
    HotSpot,
    /// Length.
    #[strum(to_string = "length")]
    Length,
    /// Verdict, the gravest first or last.
    #[strum(to_string = "verdict")]
    Verdict,
}

impl SortBy {
    /// All of them.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::Time,
        Self::Climb,
        Self::Score,
        Self::Gain,
        Self::Core,
        Self::Memory,
        Self::Power,
        Self::HotSpot,
        Self::Length,
        Self::Verdict,
    ];

    /// It in a word.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// The figure that is sorted by, if it is one.
    const fn figure(self) -> Option<Figure> {
        Some(match self {
            Self::Time | Self::Verdict => return None,
            Self::Climb => Figure::Climb,
            Self::Score => Figure::Score,
            Self::Gain => Figure::Gain,
            Self::Core => Figure::Core,
            Self::Memory => Figure::Memory,
            Self::Power => Figure::Power,
            Self::HotSpot => Figure::HotSpot,
            Self::Length => Figure::Minutes,
        })
    }

    /// What SQLite sorts by; what it cannot know, it has by time.
    fn expression(self) -> String {
        if self == Self::Verdict {
            let place = |(place, verdict): (usize, &Verdict)| {
                format!("WHEN '{}' THEN {}", verdict.label(), Verdict::ALL.len() - place)
            };
            let places: Vec<String> = Verdict::ALL.iter().enumerate().map(place).collect();
            return format!("CASE coalesce(marked, verdict) {} END", places.join(" "));
        }
        self.figure().and_then(Figure::column).unwrap_or("began").to_owned()
    }
}

/// How trials are put in order. What has no figure to be put in order by comes last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Order {
    /// By what.
    pub by: SortBy,
    /// The largest, or newest, first.
    pub descending: bool,
}

impl Default for Order {
    /// The newest first.
    fn default() -> Self {
        Self { by: SortBy::Time, descending: true }
    }
}

/// A trial in a line.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialLine {
    /// Row of the trial.
    pub id: i64,
    /// Climb it belongs to.
    pub climb: i64,
    /// Place in the climb, from 1.
    pub number: u32,
    /// Name of the card.
    pub card: String,
    /// Which unit.
    pub serial: String,
    /// Stage.
    pub stage: Stage,
    /// Settings asked for, in a few words.
    pub what: String,
    /// Load.
    pub load: String,
    /// When it began, seconds since 1970.
    pub began: i64,
    /// Length of the run; none before it has ended.
    pub seconds: Option<Seconds>,
    /// The verdict that counts; none before it has one.
    pub verdict: Option<Verdict>,
    /// Whether the verdict is the user's.
    pub by_hand: bool,
    /// Work units per second.
    pub score: Option<f64>,
    /// Gain over the baseline: see [`Ledger::find`].
    pub gain_percent: Option<f64>,
    /// Average power.
    pub power: Option<Watt>,
    /// Highest hot spot.
    pub hot_spot: Option<Celsius>,
    /// Whether the user flagged it.
    pub flagged: bool,
    /// What the user wrote about it.
    pub note: String,
}

/// A trial as a whole, with what is needed to judge it by itself.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialDetail {
    /// It in a line.
    pub line: TrialLine,
    /// The card.
    pub card: CardDescription,
    /// What was about to be done.
    pub intent: Intent,
    /// What came of it; none before it has a verdict.
    pub record: Option<TrialRecord>,
    /// Scores of the runs at stock that count, of its climb and under its load.
    pub baseline: Vec<f64>,
}

/// A climb in a line.
#[derive(Debug, Clone, PartialEq)]
pub struct ClimbLine {
    /// Number of the climb.
    pub id: i64,
    /// Key of the card.
    pub key: String,
    /// Name of the card.
    pub card: String,
    /// Which unit.
    pub serial: String,
    /// How far it has come.
    pub state: ClimbState,
    /// When it began, seconds since 1970.
    pub began: i64,
    /// Its trials.
    pub trials: usize,
    /// Those of them that failed: machine down, driver reset, load died or artifacts.
    pub failed: usize,
    /// Time under load.
    pub under_load: Seconds,
    /// Names of the profiles that were kept of it.
    pub profiles: String,
    /// What the user wrote about it.
    pub note: String,
}

/// What there is to choose from in a filter.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Choices {
    /// Keys of the cards, each with its name and unit.
    pub cards: Vec<(String, String)>,
    /// Climbs.
    pub climbs: Vec<i64>,
    /// Loads.
    pub loads: Vec<String>,
    /// Trials there are.
    pub trials: usize,
    /// Trials that were deleted and can be brought back, those of deleted climbs among them.
    pub removed: usize,
}

/// A trial belongs to a climb that was deleted, or was deleted itself.
pub(crate) const REMOVED: &str = "(removed IS NOT NULL OR climb IN \
                       (SELECT id FROM climb WHERE removed IS NOT NULL))";

/// A run at stock that counts.
const COUNTED: &str = "stage = 'baseline' AND coalesce(marked, verdict) = 'clean' \
                       AND since_reset IS NULL AND score IS NOT NULL";

impl Ledger {
    /// Rows of all trials that a filter lets through, in order.
    ///
    /// The gain of a trial is told over the median of the runs at stock of its climb that are clean,
    /// were made under the same load, and not in a run of the machine in which the driver had reset
    /// the card.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn find(&self, filter: &Filter, order: Order) -> Result<Vec<i64>, LedgerError> {
        let (filter, doing) = (filter.clone(), "look through the trials");
        self.ask(move |connection| {
            let (statement, values) = statement(&filter, order);
            let mut select = connection.prepare(&statement).doing(doing)?;
            let mut rows = select.query(params_from_iter(values.iter())).doing(doing)?;
            let mut gains = filter.search.bounds.clone();
            gains.retain(|(figure, ..)| *figure == Figure::Gain);
            let mut baselines = Baselines::default();
            let by_gain = order.by == SortBy::Gain;
            let (mut found, mut gained) = (Vec::new(), Vec::new());
            while let Some(row) = rows.next().doing(doing)? {
                let id: i64 = row.get(0).doing(doing)?;
                if !by_gain && gains.is_empty() {
                    found.push(id);
                    continue;
                }
                let gain = baselines.gain(connection, row)?;
                let lies = |bound| gain.is_some_and(|gain| bound_holds(bound, gain));
                if gains.iter().all(lies) {
                    gained.push((id, gain));
                }
            }
            if by_gain {
                gained.sort_by(|(_, a), (_, b)| match (a, b) {
                    (Some(a), Some(b)) if order.descending => b.total_cmp(a),
                    (Some(a), Some(b)) => a.total_cmp(b),
                    (a, b) => b.is_some().cmp(&a.is_some()),
                });
            }
            found.extend(gained.into_iter().map(|(id, _)| id));
            Ok(found)
        })
    }

    /// The trials of these rows in a line each; a row that is no longer there is left out.
    ///
    /// # Errors
    /// The ledger cannot be read, or what it says cannot be understood.
    pub fn lines(&self, rows: &[i64]) -> Result<Vec<TrialLine>, LedgerError> {
        let rows = rows.to_vec();
        self.ask(move |connection| {
            let mut reader = LineReader::default();
            let mut lines = Vec::with_capacity(rows.len());
            for id in rows {
                lines.extend(reader.line(connection, id)?);
            }
            Ok(lines)
        })
    }

    /// A trial as a whole; none where there is no such row.
    ///
    /// # Errors
    /// The ledger cannot be read, or what it says cannot be understood.
    pub fn trial(&self, row: i64) -> Result<Option<TrialDetail>, LedgerError> {
        self.ask(move |connection| {
            let mut reader = LineReader::default();
            let Some(line) = reader.line(connection, row)? else { return Ok(None) };
            let (intent, record) = read_trial(connection, row)?;
            let baseline = reader
                .baselines
                .scores(connection, intent.climb, &intent.scene, line.began)?
                .to_vec();
            let card = reader.card(connection, intent.climb)?.clone();
            Ok(Some(TrialDetail { line, card, intent, record, baseline }))
        })
    }

    /// The row of a trial that has its verdict; none where there is no such trial.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn row_of(&self, climb: i64, number: u32) -> Result<Option<i64>, LedgerError> {
        self.ask(move |connection| {
            connection
                .query_row(
                    "SELECT id FROM trial WHERE climb = ? AND number = ? AND verdict IS NOT NULL",
                    params![climb, number],
                    |row| row.get(0),
                )
                .optional()
                .doing("find a trial")
        })
    }

    /// The climbs in a line each, the newest first: those that were deleted, or those that were not.
    ///
    /// # Errors
    /// The ledger cannot be read, or what it says cannot be understood.
    pub fn climb_lines(&self, removed: bool) -> Result<Vec<ClimbLine>, LedgerError> {
        let doing = "list the climbs";
        self.ask(move |connection| {
            let mut select = connection
                .prepare(
                    "SELECT climb.id, card.key, card.description, climb.state, climb.began,
                     climb.note, count(trial.number),
                     count(CASE WHEN coalesce(trial.marked, trial.verdict) IN
                     ('machine down', 'driver reset', 'load died', 'artifacts') THEN 1 END),
                     total(trial.seconds),
                     (SELECT coalesce(group_concat(name, ', '), '') FROM profile
                      WHERE profile.climb = climb.id)
                     FROM climb JOIN card ON card.id = climb.card
                     LEFT JOIN trial ON trial.climb = climb.id
                     WHERE (climb.removed IS NOT NULL) = ? GROUP BY climb.id ORDER BY climb.id DESC",
                )
                .doing(doing)?;
            let mut rows = select.query(params![removed]).doing(doing)?;
            let mut lines = Vec::new();
            while let Some(row) = rows.next().doing(doing)? {
                lines.push(climb_line(row)?);
            }
            Ok(lines)
        })
    }

    /// What there is to choose from in a filter.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn choices(&self) -> Result<Choices, LedgerError> {
        let doing = "look through the ledger";
        self.ask(move |connection| {
            let count = |condition: &str| -> Result<usize, LedgerError> {
                let statement =
                    format!("SELECT count(*) FROM trial WHERE purged = 0 AND {condition}");
                let count: i64 =
                    connection.query_row(&statement, [], |row| row.get(0)).doing(doing)?;
                Ok(count as usize)
            };
            let list = |statement: &str| connection.prepare(statement).doing(doing);
            Ok(Choices {
                cards: list(
                    "SELECT key, coalesce(json_extract(description, '$.name'), key) ||
                     ' · ' || coalesce(json_extract(description, '$.serial'), '')
                     FROM card ORDER BY key",
                )?
                .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))
                .and_then(Iterator::collect)
                .doing(doing)?,
                climbs: list("SELECT id FROM climb WHERE removed IS NULL ORDER BY id DESC")?
                    .query_map([], |row| row.get(0))
                    .and_then(Iterator::collect)
                    .doing(doing)?,
                loads: list("SELECT DISTINCT scene FROM trial ORDER BY scene")?
                    .query_map([], |row| row.get(0))
                    .and_then(Iterator::collect)
                    .doing(doing)?,
                trials: count(&format!("NOT {REMOVED}"))?,
                removed: count(REMOVED)?,
            })
        })
    }
}

fn bound_holds((_, relation, bound): &(Figure, Relation, f64), value: f64) -> bool {
    relation.holds(value, *bound)
}

/// The statement that finds the trials of a filter in order, with its values.
fn statement(filter: &Filter, order: Order) -> (String, Vec<Box<dyn ToSql>>) {
    let (condition, values) = condition(filter);
    let direction = if order.descending { "DESC" } else { "ASC" };
    let expression = order.by.expression();
    let statement = format!(
        "SELECT id, climb, scene, score, began FROM trial INDEXED BY trial_list WHERE {condition} \
         ORDER BY {expression} {direction} NULLS LAST, climb {direction}, number {direction}"
    );
    (statement, values)
}

/// The condition of a filter, with the values of its question marks.
fn condition(filter: &Filter) -> (String, Vec<Box<dyn ToSql>>) {
    const OF_CARD: &str = "climb IN (SELECT climb.id FROM climb JOIN card ON card.id = climb.card \
                           WHERE card.key = ??)";
    const NAMED: &str = "climb IN (SELECT climb.id FROM climb JOIN card ON card.id = climb.card \
                         WHERE climb.note LIKE ?? ESCAPE '\\' OR card.key LIKE ?? ESCAPE '\\' \
                         OR json_extract(description, '$.name') LIKE ?? ESCAPE '\\')";
    let not = if filter.removed { "" } else { "NOT " };
    let mut parts = vec!["purged = 0".to_owned(), format!("{not}{REMOVED}")];
    let mut values: Vec<Box<dyn ToSql>> = Vec::new();
    // In a part, ?? stands for its value, wherever that is needed.
    let mut add = |part: &str, value: Box<dyn ToSql>| {
        values.push(value);
        parts.push(part.replace("??", &format!("?{}", values.len())));
    };
    if let Some(card) = &filter.card {
        add(OF_CARD, Box::new(card.clone()));
    }
    if let Some(climb) = filter.climb {
        add("climb = ??", Box::new(climb));
    }
    if let Some(stage) = filter.stage {
        add("stage = ??", Box::new(stage.label()));
    }
    if let Some(verdict) = filter.verdict {
        add("coalesce(marked, verdict) = ??", Box::new(verdict.label()));
    }
    if let Some(load) = &filter.load {
        add("scene = ??", Box::new(load.clone()));
    }
    if filter.flagged {
        add("flagged = ??", Box::new(true));
    }
    for word in &filter.search.words {
        let own = ["stage", "purpose", "scene", "coalesce(marked, verdict)", "note", "reason"]
            .map(|column| format!("{column} LIKE ?? ESCAPE '\\'"));
        let escaped = word.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_");
        add(&format!("({} OR {NAMED})", own.join(" OR ")), Box::new(format!("%{escaped}%")));
    }
    for (figure, relation, bound) in &filter.search.bounds {
        if let Some(column) = figure.column() {
            add(&format!("{column} {} ??", relation.sign()), Box::new(*bound));
        }
    }
    (parts.join(" AND "), values)
}

/// Scores of the runs at stock, read once for each climb and load, and for each stretch of time in which nothing
/// was changed around the card.
#[derive(Default)]
struct Baselines {
    changes: Option<Vec<CardChange>>,
    cards: Cards,
    scores: HashMap<(i64, String, i64), Vec<f64>>,
}

impl Baselines {
    /// Scores that belong to a run of a climb that began at `began`.
    fn scores(
        &mut self,
        connection: &Connection,
        climb: i64,
        load: &str,
        began: i64,
    ) -> Result<&[f64], LedgerError> {
        let (from, until) = self.unchanged_around(connection, climb, began)?;
        Ok(match self.scores.entry((climb, load.to_owned(), from)) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(unknown) => {
                let statement = format!(
                    "SELECT score FROM trial INDEXED BY trial_list \
                     WHERE climb = ? AND scene = ? AND began >= ? AND began < ? AND {COUNTED}"
                );
                let scores = connection
                    .prepare_cached(&statement)
                    .and_then(|mut select| {
                        let of = params![climb, load, from, until];
                        select.query_map(of, |row| row.get(0))?.collect()
                    })
                    .doing("read a baseline")?;
                unknown.insert(scores)
            }
        })
    }

    /// From and until when nothing was changed around the card of a climb.
    fn unchanged_around(
        &mut self,
        connection: &Connection,
        climb: i64,
        at: i64,
    ) -> Result<(i64, i64), LedgerError> {
        if self.changes.is_none() {
            self.changes = Some(read_machine(connection)?.changes);
        }
        let changes = self.changes.as_deref().unwrap_or_default();
        if changes.is_empty() {
            return Ok((i64::MIN, i64::MAX));
        }
        let card = self.cards.of(connection, climb)?.key();
        Ok(unchanged_around(changes, &card, at))
    }

    /// The gain of a trial of which climb, load, score and beginning are asked.
    fn gain(&mut self, connection: &Connection, row: &Row<'_>) -> Result<Option<f64>, LedgerError> {
        let doing = "read a trial";
        let score: Option<f64> = row.get("score").doing(doing)?;
        let Some(score) = score else { return Ok(None) };
        let (climb, load): (i64, String) =
            (row.get("climb").doing(doing)?, row.get("scene").doing(doing)?);
        let began = row.get("began").doing(doing)?;
        let baseline = median(self.scores(connection, climb, &load, began)?);
        Ok(baseline.map(|baseline| gain_percent(score, baseline)))
    }
}

/// The cards of climbs, each read once.
#[derive(Default)]
struct Cards(HashMap<i64, CardDescription>);

impl Cards {
    /// The card of a climb.
    fn of(&mut self, connection: &Connection, climb: i64) -> Result<&CardDescription, LedgerError> {
        Ok(match self.0.entry(climb) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(unknown) => {
                let text: String = connection
                    .query_row(
                        "SELECT description FROM card JOIN climb ON climb.card = card.id
                         WHERE climb.id = ?",
                        params![climb],
                        |row| row.get(0),
                    )
                    .doing("read a card")?;
                let card = from_str(&text)
                    .map_err(|error| content(&format!("the card of climb {climb}"), &error))?;
                unknown.insert(card)
            }
        })
    }
}

/// Reads lines, and remembers the cards and baselines it has come across.
#[derive(Default)]
struct LineReader {
    baselines: Baselines,
}

impl LineReader {
    /// The card of a climb.
    fn card(
        &mut self,
        connection: &Connection,
        climb: i64,
    ) -> Result<&CardDescription, LedgerError> {
        self.baselines.cards.of(connection, climb)
    }

    fn line(&mut self, connection: &Connection, id: i64) -> Result<Option<TrialLine>, LedgerError> {
        let doing = "read a trial";
        let mut select = connection
            .prepare_cached(
                "SELECT climb, number, stage, asked, scene, began, seconds, verdict, marked, score,
                 power_w, hot_spot_c, flagged, note FROM trial WHERE id = ?",
            )
            .doing(doing)?;
        let mut rows = select.query(params![id]).doing(doing)?;
        let Some(row) = rows.next().doing(doing)? else { return Ok(None) };
        let (climb, number) = (row.get("climb").doing(doing)?, row.get("number").doing(doing)?);
        let thing = format!("trial {number} of climb {climb}");
        let text = |column: &str| row.get::<_, String>(column).doing(doing);
        let figure = |column: &str| row.get::<_, Option<f64>>(column).doing(doing);
        let verdict = |column: &str| -> Result<Option<Verdict>, LedgerError> {
            let label: Option<String> = row.get(column).doing(doing)?;
            let known = |label: String| {
                Verdict::from_label(&label)
                    .ok_or_else(|| content(&thing, &format!("unknown verdict {label}")))
            };
            label.map(known).transpose()
        };
        let asked = from_str(&text("asked")?).map_err(|error| content(&thing, &error))?;
        let stage = text("stage")?;
        let (judged, marked) = (verdict("verdict")?, verdict("marked")?);
        let gain_percent = self.baselines.gain(connection, row)?;
        let card = self.card(connection, climb)?;
        Ok(Some(TrialLine {
            id,
            climb,
            number,
            card: card.name.clone(),
            serial: card.serial.clone(),
            stage: Stage::from_label(&stage)
                .ok_or_else(|| content(&thing, &format!("unknown stage {stage}")))?,
            what: in_short(&asked, card),
            load: text("scene")?,
            began: row.get("began").doing(doing)?,
            seconds: figure("seconds")?.map(Seconds),
            verdict: marked.or(judged),
            by_hand: marked.is_some(),
            score: figure("score")?,
            gain_percent,
            power: figure("power_w")?.map(Watt),
            hot_spot: figure("hot_spot_c")?.map(Celsius),
            flagged: row.get("flagged").doing(doing)?,
            note: text("note")?,
        }))
    }
}

fn climb_line(row: &Row<'_>) -> Result<ClimbLine, LedgerError> {
    let doing = "read a climb";
    let id: i64 = row.get(0).doing(doing)?;
    let thing = format!("climb {id}");
    let card: String = row.get(2).doing(doing)?;
    let card: CardDescription = from_str(&card).map_err(|error| content(&thing, &error))?;
    let state: String = row.get(3).doing(doing)?;
    let (trials, failed): (i64, i64) = (row.get(6).doing(doing)?, row.get(7).doing(doing)?);
    Ok(ClimbLine {
        id,
        key: row.get(1).doing(doing)?,
        card: card.name,
        serial: card.serial,
        state: ClimbState::from_label(&state)
            .ok_or_else(|| content(&thing, &format!("unknown state {state}")))?,
        began: row.get(4).doing(doing)?,
        trials: trials as usize,
        failed: failed as usize,
        under_load: Seconds(row.get(8).doing(doing)?),
        profiles: row.get(9).doing(doing)?,
        note: row.get(5).doing(doing)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::handle::DataDir;
    use rstest::rstest;

    /// The trials themselves hold what was seen: a search that read them would read all of it.
    #[rstest]
    #[case("")]
    #[case("clean tarn score>3 hot-spot<9 core>=1 minutes<3")]
    fn a_search_is_answered_from_one_index(
        #[case] line: &str,
        #[values(SortBy::Time, SortBy::Gain, SortBy::Verdict, SortBy::Memory)] by: SortBy,
    ) {
        let temporary = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&DataDir::new(temporary.path())).unwrap().ledger;
        let filter = Filter {
            search: line.parse().unwrap(),
            flagged: true,
            stage: Some(Stage::Core),
            ..Filter::default()
        };
        let plan: Vec<String> = ledger
            .ask(move |connection| {
                let (statement, values) = statement(&filter, Order { by, descending: true });
                let mut select =
                    connection.prepare(&format!("EXPLAIN QUERY PLAN {statement}")).unwrap();
                let rows = select.query_map(params_from_iter(values.iter()), |row| row.get(3));
                Ok(rows.unwrap().collect::<Result<_, _>>().unwrap())
            })
            .unwrap();
        assert!(plan[0].contains("trial USING COVERING INDEX trial_list"), "{plan:?}");
    }
}
