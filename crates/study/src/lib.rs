//! Whole climbs over many stand-in cards, held against what the cards truly can do: which policy
//! finds how much, at what cost, and how often what it keeps does not hold.
//!
//! ```text
//!   seeds × kinds ─► BriefCard ─┬─► truth: the best score that holds
//!                               └─► climb by each policy ─► Row ─► Summary, JSON, CSV
//! ```

mod air;
mod ceiling;
mod climbing;
mod families;
mod joined;
mod proof;
mod row;
mod table;
mod truth;
mod voltage;

pub use air::{AirRow, AirStudy, AirSummary, air_summaries};
pub use ceiling::{CeilingClimb, CeilingRow, CeilingStudy, CeilingSummary, ceiling_summaries};
pub use climbing::{Climbed, NoEnd, climb};
pub use families::{family_names, shipped_family};
pub use joined::{JoinedRow, JoinedStudy, JoinedSummary, joined_summaries};
pub use proof::{ProofRow, ProofStudy, ProofSummary, Tenth, proof_summary};
pub use row::{Learnt, Reliability, Row, Summary, reliability, summaries};
pub use table::write_csv;
pub use truth::{LEAST_CHANCE, Look, Truth, best, edge_alone, look};
pub use voltage::{StrategyRow, StrategySummary, VoltageStudy, strategy_summaries};

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use thiserror::Error;
use yard_step_card::{BriefCard, CardChoice, CardError, Family};
use yard_step_core::{
    Climb, ClimbError, ClimbEvent, Demand, Domain, Experience, Lesson, Plan, Policy,
};
use yard_step_scenes::Scene;

/// What is to be studied.
#[derive(Debug, Clone)]
pub struct Study {
    /// The first seed; the others follow it.
    pub first_seed: u64,
    /// Cards, over all kinds in turn.
    pub cards: usize,
    /// The kinds.
    pub kinds: Vec<CardChoice>,
    /// The policies, each on every card.
    pub policies: Vec<Policy>,
    /// The plan, but for its policy.
    pub plan: Plan,
    /// The family of the cards.
    pub family: Family,
    /// How many times as flat, or steep if below 1, faults set in as with an ordinary stand-in.
    pub flatter: f64,
    /// Where climbs start: so many percent of the clock above the true edge of each clock; at stock where
    /// there is none.
    pub start_above: Option<f64>,
    /// Climbs of each policy that learn from one another, one after the other on cards of the same kind; 1 where each climb
    /// is the first.
    pub learning: usize,
    /// Cards worked on at a time.
    pub threads: usize,
}

/// Why a study cannot be made.
#[derive(Debug, Error)]
pub enum StudyError {
    /// A card cannot be switched on.
    #[error(transparent)]
    Card(#[from] CardError),
    /// A climb cannot be laid out.
    #[error(transparent)]
    Climb(#[from] ClimbError),
    /// The plan names a load that is no scene of ours.
    #[error("a study runs on the scenes that ship: {0}")]
    Scene(String),
    /// The plan names other loads beside the one that steps.
    #[error(
        "a study runs every trial under one load: leave full_load and cross_check out of its plan"
    )]
    ManyLoads,
}

/// Works through things on a few threads; stops at the first that cannot be done.
fn on_all<T: Sync, R: Send>(
    things: &[T],
    threads: usize,
    on_one: impl Fn(&T) -> Result<Vec<R>, StudyError> + Sync,
) -> Result<Vec<R>, StudyError> {
    let next = AtomicUsize::new(0);
    let rows = Mutex::new(Ok(Vec::new()));
    std::thread::scope(|scope| {
        for _ in 0..threads.max(1) {
            scope.spawn(|| {
                while let Some(thing) = things.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let made = on_one(thing);
                    let mut rows = rows.lock().unwrap_or_else(|broken| broken.into_inner());
                    match (&mut *rows, made) {
                        (Ok(rows), Ok(more)) => rows.extend(more),
                        (Err(_), _) => return,
                        (rows, Err(error)) => *rows = Err(error),
                    }
                }
            });
        }
    });
    rows.into_inner().unwrap_or_else(|broken| broken.into_inner())
}

/// Makes the rows of cards by their numbers, on a few threads. `done` is called from any thread after each card, with how
/// many are done.
fn on_cards<R: Send>(
    numbers: &[usize],
    threads: usize,
    done: &(dyn Fn(usize) + Sync),
    on_card: impl Fn(usize) -> Result<Vec<R>, StudyError> + Sync,
) -> Result<Vec<R>, StudyError> {
    let finished = AtomicUsize::new(0);
    on_all(numbers, threads, |number| {
        let made = on_card(*number);
        done(finished.fetch_add(1, Ordering::Relaxed) + 1);
        made
    })
}

/// The plan of a climb, started so many percent of each clock above its true edge, as far as the card takes it.
fn started_above<D: Fn(u64) -> Demand>(
    card: &mut BriefCard<D>,
    climb: &Climb,
    percent: f64,
) -> Plan {
    let mut plan = climb.plan().clone();
    for (domain, of) in [(Domain::Core, &mut plan.core), (Domain::Memory, &mut plan.memory)] {
        let Some(axis) = climb.axis(domain) else { continue };
        let above = f64::from(edge_alone(card, climb, domain)) + percent / 100.0 * axis.clock;
        of.start_mhz = Some(axis.bin(above).0.max(1));
    }
    plan
}

/// A summary over all kinds, and one of each: `of` makes it of a kind, or of all where there is none.
fn of_all_and_each<'a, T>(
    kinds: impl Iterator<Item = &'a str>,
    of: impl FnMut(Option<&'a str>) -> T,
) -> Vec<T> {
    let each = distinct(kinds).into_iter().map(Some);
    [None].into_iter().chain(each).map(of).collect()
}

/// The kinds there are among those of some rows, in alphabetical order.
fn distinct<'a>(kinds: impl Iterator<Item = &'a str>) -> Vec<&'a str> {
    let mut kinds: Vec<&str> = kinds.collect();
    kinds.sort_unstable();
    kinds.dedup();
    kinds
}

/// The one scene that a plan runs.
fn scene_of(plan: &Plan) -> Result<Scene, StudyError> {
    if plan.has_many_loads() {
        return Err(StudyError::ManyLoads);
    }
    plan.scene.parse().map_err(|error| StudyError::Scene(format!("{error}")))
}

impl Study {
    /// Makes the study. `done` is called from any thread after each card, with how many are done.
    ///
    /// # Errors
    /// A card cannot be opened, a climb cannot be laid out, or the plan's scene is none of ours.
    pub fn run(&self, done: &(dyn Fn(usize) + Sync)) -> Result<Vec<Row>, StudyError> {
        let scene = scene_of(&self.plan)?;
        let finished = AtomicUsize::new(0);
        let one_more = || done(finished.fetch_add(1, Ordering::Relaxed) + 1);
        let mut rows = on_all(&self.sequences(), self.threads, |numbers| {
            self.on_sequence(numbers, scene, &one_more)
        })?;
        rows.sort_by_key(|row: &Row| (row.seed, row.policy as usize));
        Ok(rows)
    }

    /// The numbers of the cards, those together that learn from one another.
    fn sequences(&self) -> Vec<Vec<usize>> {
        let kinds = self.kinds.len().max(1);
        let of_kind = |kind: usize| (kind..self.cards).step_by(kinds).collect::<Vec<_>>();
        let chunks = |numbers: Vec<usize>| -> Vec<Vec<usize>> {
            numbers.chunks(self.learning.max(1)).map(<[usize]>::to_vec).collect()
        };
        (0..kinds).flat_map(|kind| chunks(of_kind(kind))).collect()
    }

    /// Every policy on cards of one kind, each climb with what those before it have taught.
    fn on_sequence(
        &self,
        numbers: &[usize],
        scene: Scene,
        done: &(dyn Fn() + Sync),
    ) -> Result<Vec<Row>, StudyError> {
        let mut lessons: Vec<Vec<Lesson>> = vec![Vec::new(); self.policies.len()];
        let mut rows = Vec::new();
        for number in numbers {
            rows.extend(self.on_card(*number, scene, &mut lessons)?);
            done();
        }
        Ok(rows)
    }

    /// Every policy on one card, each with its own lessons.
    fn on_card(
        &self,
        number: usize,
        scene: Scene,
        lessons: &mut [Vec<Lesson>],
    ) -> Result<Vec<Row>, StudyError> {
        let Some(kind) = self.kinds.get(number % self.kinds.len().max(1)) else {
            return Ok(Vec::new());
        };
        let seed = self.first_seed + number as u64;
        let family = self.family.clone().flattened(self.flatter);
        let card = kind.open_of_family(seed, 0, Some(&family))?;
        let demand = |frame| scene.demand(frame);
        let mut card = BriefCard::new(card, demand, scene.period(), 0);
        let description = card.description().clone();
        let stages = Climb::stages_on(&description);
        let laid_out = Climb::new(description, self.plan.clone(), &stages)?;
        let truth = best(&mut card, &laid_out);
        let given = match self.start_above {
            Some(percent) => started_above(&mut card, &laid_out, percent),
            None => self.plan.clone(),
        };
        let mut rows = Vec::new();
        for (policy, lessons) in self.policies.iter().zip(lessons) {
            card.set_course(0);
            let plan = Plan { policy: *policy, ..given.clone() };
            let mut laid_out = Climb::new(card.description().clone(), plan, &stages)?;
            let experience = Experience::of(lessons, &[]);
            laid_out.handle(ClimbEvent::Learnt(Box::new(experience)));
            // Playing a climb by steps forward takes longer than the climb.
            let with_outlooks = *policy == Policy::Bayesian;
            let climbed = climb(&mut card, laid_out, scene.mean_load(), with_outlooks);
            let kept = look(&mut card, &climbed.outcome.settings);
            let row = Row::new(kind, seed, *policy, &climbed, kept, truth);
            rows.push(Row { earlier: lessons.len(), ..row });
            lessons.push(climbed.lesson);
        }
        Ok(rows)
    }
}
