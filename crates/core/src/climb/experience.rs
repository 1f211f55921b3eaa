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

use crate::climb::Climb;
use crate::climb::claim::UNRELATED;
use crate::climb::search::bayesian::believe;
use crate::climb::search::belief::{
    Assumed, E_FOLD_PLACES, E_FOLD_SPREAD, EDGE_PLACES, EdgeBelief, e_fold_at, e_fold_log, edge_at,
};
use crate::judge::verdict::Verdict;
use crate::load::artifact::Domain;

/// Weight of other kinds before the first climb on this one.
const OTHERS: f64 = 0.5;
/// Weight that always stays with what is assumed of any card.
const ANY: f64 = 0.05;
/// Faults that what is known of their gravity counts as in the next climb.
const SEVERITY_WEIGHT: f64 = 3.0;

/// What one climb says of one domain.
#[derive(Debug, Clone, PartialEq)]
struct DomainLesson {
    /// Likelihood of each e-fold.
    e_folds: [f64; E_FOLD_PLACES],
    /// Likelihood of each place of the edge.
    edges: [f64; EDGE_PLACES],
}

/// What one climb says of its card, whatever was assumed before.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Lesson {
    core: Option<DomainLesson>,
    memory: Option<DomainLesson>,
    faults: usize,
    machine_downs: usize,
    unrelated: usize,
    clean_hours: f64,
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

impl Climb {
    /// What this climb says of its card.
    #[must_use]
    pub fn lesson(&self) -> Lesson {
        let is_fault = |trial: &&crate::climb::TrialRecord| trial.verdict().is_fault();
        let faults = self.trials.iter().filter(is_fault);
        let downs = faults.clone().filter(|trial| trial.verdict() == Verdict::MachineDown).count();
        let (clean, unrelated) = self.undisturbed_so_far(self.kept_pair());
        Lesson {
            core: self.lesson_of(Domain::Core),
            memory: self.lesson_of(Domain::Memory),
            faults: faults.count(),
            machine_downs: downs,
            unrelated,
            clean_hours: clean.value() / 3_600.0,
        }
    }

    /// What its trials say of one domain; `None` where there are none of it.
    fn lesson_of(&self, domain: Domain) -> Option<DomainLesson> {
        let axis = self.axis(domain)?;
        let tried = self.tried_alone(domain);
        tried.iter().any(|trial| trial.proves()).then_some(())?;
        let any = Assumed::of_any(domain);
        let before = EdgeBelief::assumed(domain, axis.clock, None, &any);
        let after = believe(before.clone(), &tried);
        let edges = divided(after.edges(), before.edges());
        let together = self.believed_together(&Experience::default());
        let all = together.map_or(after, |joint| joint.get(domain).clone());
        let e_folds = divided(all.e_folds(domain), before.e_folds(domain));
        Some(DomainLesson { e_folds, edges })
    }
}

/// What a belief says with what was assumed divided out.
fn divided<const N: usize>(after: [f64; N], before: [f64; N]) -> [f64; N] {
    std::array::from_fn(|place| (after[place] / before[place].max(1e-12)).max(1e-6))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::card::settings::Settings;
    use crate::climb::{ClimbEvent, Stage, TrialRecord};
    use crate::fixtures::{card, record};
    use crate::judge::verdict::Fault;
    use crate::plan::Plan;
    use crate::units::{MhzOffset, Seconds};
    use rstest::rstest;

    /// A climb on a card whose faults set in with an e-fold of so many MHz from an edge at +100 MHz on: as many hours as
    /// bring one fault at each value, and then that fault.
    fn climb_with(e_fold: f64) -> Climb {
        let mut climb =
            Climb::new(card(), Plan::default(), &[Stage::Baseline, Stage::Core]).unwrap();
        for past in [7.0, 2.0, 7.0, 3.0, 6.0, 2.5, 7.5, 3.5_f64] {
            let number = climb.trials().len() as u32 + 1;
            let seconds = Seconds(24.0 * 3_600.0 / past.exp());
            let offset = MhzOffset((100.0 + past * e_fold).round() as i32);
            let asked = Settings { core_offset: Some(offset), ..Settings::stock(&card()) };
            let made = TrialRecord {
                stage: Stage::Core,
                asked,
                taken: Some(asked),
                judged: Verdict::LoadDied,
                seconds,
                faults: vec![Fault::at(seconds, "load died")],
                ..record(number)
            };
            climb.handle(ClimbEvent::TrialEnded(Box::new(made)));
        }
        climb
    }

    fn lessons(e_folds: &[f64]) -> Vec<Lesson> {
        e_folds.iter().map(|e_fold| climb_with(*e_fold).lesson()).collect()
    }

    fn median(experience: &Experience) -> f64 {
        experience.expectation(Domain::Core).e_fold_percent.0 / 100.0 * 2_050.0
    }

    fn width(experience: &Experience) -> f64 {
        let (_, low, high) = experience.expectation(Domain::Core).e_fold_percent;
        (high / low).ln()
    }

    #[rstest]
    #[case::steep(2.0)]
    #[case::usual(4.1)]
    #[case::gentle(12.0)]
    fn four_climbs_teach_how_fast_faults_set_in_on_their_kind(#[case] e_fold: f64) {
        let after = Experience::of(&lessons(&[e_fold; 4]), &[]);
        assert!((median(&after) / e_fold).ln().abs() < 0.4, "{} of {e_fold}", median(&after));
        let (one, none) = (Experience::of(&lessons(&[e_fold]), &[]), Experience::default());
        assert!(width(&after) < width(&one) && width(&one) < width(&none), "more climbs, surer");
        assert_eq!((after.climbs, one.climbs, none.climbs), (4, 1, 0));
    }

    #[test]
    fn units_that_differ_leave_it_open_and_units_that_agree_do_not() {
        let alike = Experience::of(&lessons(&[4.0; 6]), &[]);
        let unlike = Experience::of(&lessons(&[1.5, 12.0, 2.0, 10.0, 1.5, 12.0]), &[]);
        assert!(width(&unlike) > 1.5 * width(&alike), "{} {}", width(&unlike), width(&alike));
    }

    #[test]
    fn other_kinds_are_a_hint_that_climbs_on_this_one_overrule() {
        let theirs = lessons(&[12.0; 4]);
        let hinted = Experience::of(&[], &theirs);
        let usual = median(&Experience::default());
        assert!(median(&hinted) > usual, "{} {usual}", median(&hinted));
        assert!(width(&hinted) > width(&Experience::of(&theirs, &[])), "it may be wrong");
        let overruled = Experience::of(&lessons(&[4.1; 4]), &theirs);
        assert!((median(&overruled) / 4.1).ln().abs() < 0.4, "{}", median(&overruled));
    }

    #[test]
    fn what_was_taught_is_what_the_next_climb_begins_with() {
        let mut climb =
            Climb::new(card(), Plan::default(), &[Stage::Baseline, Stage::Core]).unwrap();
        let before = climb.belief(Domain::Core).unwrap();
        climb.handle(ClimbEvent::Learnt(Box::new(Experience::of(&lessons(&[12.0; 4]), &[]))));
        let after = climb.belief(Domain::Core).unwrap();
        let mean = |belief: &EdgeBelief| {
            let weights = belief.e_folds(Domain::Core);
            weights.iter().enumerate().map(|(at, w)| w * e_fold_log(at)).sum::<f64>()
        };
        assert!(mean(&after) > mean(&before) + 0.5, "{} {}", mean(&after), mean(&before));
        // A gentler onset has more taken off.
        let most = |belief: &EdgeBelief| belief.holds_to(24.0, 0.01, 0.985) - belief.band(0.0).0;
        assert!(most(&after) < 0.0);
    }

    #[test]
    fn grave_faults_and_those_of_other_causes_are_expected_again() {
        let mut grave = climb_with(4.0).lesson();
        (grave.machine_downs, grave.unrelated, grave.clean_hours) = (6, 1, 50.0);
        let after = Experience::of(&[grave], &[]);
        let none = Experience::default();
        assert!(after.machine_down_share() > 0.3 && none.machine_down_share() < 0.01);
        assert!(after.hours_to_unrelated_fault() < 130.0, "{}", after.hours_to_unrelated_fault());
        assert!(none.hours_to_unrelated_fault() > 1_000.0);
    }

    #[test]
    fn it_is_the_same_once_it_was_written_down_and_read() {
        let experience = Experience::of(&lessons(&[4.0, 6.0]), &lessons(&[8.0]));
        let text = serde_json::to_string(&experience).unwrap();
        assert_eq!(serde_json::from_str::<Experience>(&text).unwrap(), experience);
    }
}
