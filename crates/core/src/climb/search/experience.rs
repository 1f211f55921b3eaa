//! What earlier climbs have shown of a kind of card: a climb after them need not begin with assumptions that hold for any.
//!
//! ```text
//!   climbs on this kind ──► lesson, lesson, …  ─┐
//!   climbs on others    ──► lesson, lesson, …  ─┴─► Experience ─► what a search assumes before its first trial
//! ```
//!
//! A lesson is what the trials of one climb say by themselves: the likelihood of each e-fold and of each place of the edge,
//! with what was assumed divided out. Units of a kind scatter, so lessons are pooled by a hierarchical model: each unit's
//! value is drawn from a normal distribution whose mean and spread are not known, and what is assumed of the next unit is the
//! mixture of those that the lessons leave likely (Gelman et al., *Bayesian Data Analysis*, ch. 5). Other kinds count as a
//! hint that may be wrong: half of the weight before the first climb on this kind is theirs, the other half what is
//! assumed of any card (a robust mixture prior; Schmidli et al., *Biometrics* 70, 2014).

use serde::{Deserialize, Serialize};

use crate::climb::search::belief::{
    Assumed, E_FOLD_PLACES, E_FOLD_SPREAD, EDGE_PLACES, e_fold_at, e_fold_log, edge_at,
};
use crate::load::artifact::Domain;
use crate::plan::Margin;
use crate::proof::assurance::Assurance;
use crate::proof::exposure::Exposure;
use crate::proof::kind::LoadKind;

/// Weight of other kinds before the first climb on this one.
const OTHERS: f64 = 0.5;
/// Weight that always stays with what is assumed of any card.
const ANY: f64 = 0.05;
/// What is known before the first hour of faults that no setting causes, where no earlier climb tells: a gamma
/// distribution of their rate, its shape and the hours it stands for. Assumption: most machines have none to speak of, a
/// few have one in a hundred hours.
pub(in crate::climb) const UNRELATED: (f64, f64) = (0.06, 80.0);
/// Faults that what is known of their gravity counts as in the next climb.
const SEVERITY_WEIGHT: f64 = 3.0;

/// What one climb says of one domain.
#[derive(Debug, Clone, PartialEq)]
pub(in crate::climb) struct DomainLesson {
    /// Likelihood of each e-fold.
    pub(in crate::climb) e_folds: [f64; E_FOLD_PLACES],
    /// Likelihood of each place of the edge.
    pub(in crate::climb) edges: [f64; EDGE_PLACES],
}

/// What one climb says of its card, whatever was assumed before.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Lesson {
    pub(in crate::climb) core: Option<DomainLesson>,
    pub(in crate::climb) memory: Option<DomainLesson>,
    pub(in crate::climb) faults: usize,
    pub(in crate::climb) machine_downs: usize,
    pub(in crate::climb) unrelated: usize,
    pub(in crate::climb) clean_hours: f64,
}

/// What is assumed before the first trial of a climb, by all that earlier climbs have shown.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Experience {
    /// Earlier climbs on this kind of card that it rests on.
    pub climbs: usize,
    /// Earlier climbs on other kinds.
    pub others: usize,
    core: Assumed,
    memory: Assumed,
    /// Faults that took the machine down, and faults, that a climb begins with.
    severity: (f64, f64),
    /// Faults that no setting caused, and clean hours, that a claim begins with.
    unrelated: (f64, f64),
}

impl Default for Experience {
    /// None: what is assumed of any card.
    fn default() -> Self {
        Self {
            climbs: 0,
            others: 0,
            core: Assumed::of_any(Domain::Core),
            memory: Assumed::of_any(Domain::Memory),
            severity: (0.015, SEVERITY_WEIGHT),
            unrelated: UNRELATED,
        }
    }
}

/// What experience says of one domain, to be shown.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Expectation {
    /// Where the edge lies above stock, percent of the clock: mean and standard deviation.
    pub edge_percent: (f64, f64),
    /// E-fold, percent of the clock: median, and the values that one in ten lies below and above.
    pub e_fold_percent: (f64, f64, f64),
}

impl Experience {
    /// What the lessons of climbs on this kind of card, and of those on others, come to.
    #[must_use]
    pub fn of(kind: &[Lesson], others: &[Lesson]) -> Self {
        if kind.is_empty() && others.is_empty() {
            return Self::default();
        }
        let usual = Self::default();
        let domain = |of: fn(&Lesson) -> Option<&DomainLesson>, domain| {
            let pick = |lessons: &[Lesson]| -> Vec<DomainLesson> {
                lessons.iter().filter_map(|lesson| of(lesson).cloned()).collect()
            };
            assumed(&pick(kind), &pick(others), domain)
        };
        let sum = |of: fn(&Lesson) -> f64| kind.iter().map(of).sum::<f64>();
        // Of this kind only: how grave faults are, and how often they come of themselves, says little of another.
        let faults = usual.severity.1 + sum(|lesson| lesson.faults as f64);
        let downs = usual.severity.0 + sum(|lesson| lesson.machine_downs as f64);
        Self {
            climbs: kind.len(),
            others: others.len(),
            core: domain(|lesson| lesson.core.as_ref(), Domain::Core),
            memory: domain(|lesson| lesson.memory.as_ref(), Domain::Memory),
            severity: (downs / faults * SEVERITY_WEIGHT, SEVERITY_WEIGHT),
            unrelated: (
                usual.unrelated.0 + sum(|lesson| lesson.unrelated as f64),
                usual.unrelated.1 + sum(|lesson| lesson.clean_hours),
            ),
        }
    }

    pub(in crate::climb) fn assumed(&self, domain: Domain) -> &Assumed {
        match domain {
            Domain::Core => &self.core,
            Domain::Memory => &self.memory,
        }
    }

    pub(in crate::climb) fn severity(&self) -> (f64, f64) {
        self.severity
    }

    /// What stands behind settings whose runs come to `exposure`, for days made of `shares`.
    #[must_use]
    pub fn assurance(
        &self,
        exposure: Exposure,
        shares: &[(LoadKind, f64)],
        claim: Option<(Margin, f64)>,
    ) -> Assurance {
        Assurance::new(exposure, shares, claim, self.unrelated)
    }

    pub(in crate::climb) fn unrelated(&self) -> (f64, f64) {
        self.unrelated
    }

    /// What it says of one domain.
    #[must_use]
    pub fn expectation(&self, domain: Domain) -> Expectation {
        let assumed = self.assumed(domain);
        let total: f64 = assumed.e_folds.iter().sum();
        let quantile = |share: f64| {
            let mut sum = 0.0;
            let place = assumed.e_folds.iter().position(|weight| {
                sum += weight;
                sum >= share * total
            });
            e_fold_at(domain, place.unwrap_or(E_FOLD_PLACES - 1)) * 100.0
        };
        Expectation {
            edge_percent: (assumed.edge.0 * 100.0, assumed.edge.1 * 100.0),
            e_fold_percent: (quantile(0.5), quantile(0.1), quantile(0.9)),
        }
    }

    /// Share of the faults that are expected to take the machine down, 0 to 1, near the edge.
    #[must_use]
    pub fn machine_down_share(&self) -> f64 {
        self.severity.0 / self.severity.1
    }

    /// Hours to a fault that no setting causes, as far as clean hours tell.
    #[must_use]
    pub fn hours_to_unrelated_fault(&self) -> f64 {
        self.unrelated.1 / self.unrelated.0
    }
}

/// A population: mean and spread of a quantity over the units of a kind, with how likely it is.
#[derive(Debug, Clone, Copy)]
struct Population {
    mean: f64,
    spread: f64,
    weight: f64,
}

impl Population {
    /// Weights of the values `at`, which sum to 1.
    fn weights(&self, at: &[f64]) -> Vec<f64> {
        let of = |value: &f64| (-((value - self.mean) / self.spread).powi(2) / 2.0).exp();
        let weights: Vec<f64> = at.iter().map(of).collect();
        let sum: f64 = weights.iter().sum::<f64>().max(1e-300);
        weights.into_iter().map(|weight| weight / sum).collect()
    }

    fn likelihood(&self, at: &[f64], lesson: &[f64]) -> f64 {
        self.weights(at).iter().zip(lesson).map(|(weight, likely)| weight * likely).sum()
    }
}

/// Populations over a grid of means and spreads, weighed by what is assumed of any kind: means normal about `mean`, spreads
/// half normal.
fn populations(mean: (f64, f64), spread: f64) -> Vec<Population> {
    let means = (-12..=12).map(|step| f64::from(step) / 4.0);
    let spreads = [0.15, 0.3, 0.5, 0.75, 1.0, 1.5, 2.0, 3.0];
    means
        .flat_map(|z| spreads.iter().map(move |s| (z, *s)))
        .map(|(z, s)| Population {
            mean: mean.0 + z * mean.1,
            spread: s * spread,
            weight: (-(z * z + s * s) / 2.0).exp(),
        })
        .collect()
}

fn normalised(mut populations: Vec<Population>) -> Vec<Population> {
    let sum: f64 = populations.iter().map(|population| population.weight).sum();
    for population in &mut populations {
        population.weight /= sum.max(1e-300);
    }
    populations
}

/// The populations after lessons.
fn taught(populations: Vec<Population>, at: &[f64], lessons: &[&[f64]]) -> Vec<Population> {
    let teach = |population: Population| {
        let likely = lessons.iter().map(|lesson| population.likelihood(at, lesson).max(1e-12));
        Population { weight: population.weight * likely.product::<f64>(), ..population }
    };
    normalised(populations.into_iter().map(teach).collect())
}

/// Weights of the values `at` for the next unit of a kind.
fn next_unit(any: &[Population], at: &[f64], kind: &[&[f64]], others: &[&[f64]]) -> Vec<f64> {
    let hinted = taught(any.to_vec(), at, others);
    let share = if others.is_empty() { 0.0 } else { OTHERS };
    let mixed = any.iter().zip(&hinted).map(|(any, hinted)| Population {
        weight: any.weight * (1.0 - share) + hinted.weight * share,
        ..*any
    });
    let kind = taught(mixed.collect(), at, kind);
    let mut weights = vec![0.0; at.len()];
    for population in &kind {
        for (weight, of) in weights.iter_mut().zip(population.weights(at)) {
            *weight += population.weight * of;
        }
    }
    weights
}

/// What is assumed of a domain after lessons.
fn assumed(kind: &[DomainLesson], others: &[DomainLesson], domain: Domain) -> Assumed {
    fn slices(lessons: &[DomainLesson], of: fn(&DomainLesson) -> &[f64]) -> Vec<&[f64]> {
        lessons.iter().map(of).collect()
    }
    let any = Assumed::of_any(domain);
    if kind.is_empty() && others.is_empty() {
        return any;
    }
    let logs: Vec<f64> = (0..E_FOLD_PLACES).map(e_fold_log).collect();
    let e_fold_populations =
        normalised(populations((0.0, E_FOLD_SPREAD * 0.85), E_FOLD_SPREAD * 0.5));
    let of = |lesson: fn(&DomainLesson) -> &[f64]| (slices(kind, lesson), slices(others, lesson));
    let (own, theirs) = of(|lesson| &lesson.e_folds);
    let learnt = next_unit(&e_fold_populations, &logs, &own, &theirs);
    let total: f64 = any.e_folds.iter().sum();
    let e_folds =
        std::array::from_fn(|place| learnt[place] * (1.0 - ANY) + any.e_folds[place] / total * ANY);
    let edges: Vec<f64> = (0..EDGE_PLACES).map(edge_at).collect();
    let edge_populations = normalised(populations((any.edge.0, any.edge.1), any.edge.1));
    let (own, theirs) = of(|lesson| &lesson.edges);
    let weights = next_unit(&edge_populations, &edges, &own, &theirs);
    let mean: f64 = edges.iter().zip(&weights).map(|(edge, weight)| edge * weight).sum();
    let variance: f64 =
        edges.iter().zip(&weights).map(|(edge, weight)| weight * (edge - mean).powi(2)).sum();
    Assumed { edge: (mean, variance.sqrt().max(edge_at(1) - edge_at(0))), e_folds }
}
