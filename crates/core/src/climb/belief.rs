//! What is believed of an edge, from every trial so far.
//!
//! Past its edge a card fails at random, the sooner the further past. The model behind a belief:
//!
//! | quantity | formula | source |
//! |---|---|---|
//! | fault rate at value x | `λ(x) = exp((x − e) / h) / 24 h` | path delays are spread normally; the far tail of that is close to exponential |
//! | time to the first fault | exponential with that rate | faults of a warm card under a repeating load come independently |
//! | edge `e` | the value at which a fault a day is to be expected | what is looked for |
//! | e-fold `h` | megahertz in which the rate grows by the factor e | not known to the searcher either |
//!
//! A belief is a grid of weights over `e` and `h`. Each trial multiplies them by its likelihood:
//! `exp(−λt)` for `t` clean hours, `λ·exp(−λt)` for a fault after `t` hours (Bayes' rule; see Gelman
//! et al., *Bayesian Data Analysis*, ch. 2 and 3).
//!
//! Where no trial has spoken, assumptions do, which hold for many cards rather than for one: an
//! e-fold takes some 0.2 % of the core clock and some 0.35 % of the memory clock, give or take a
//! quarter; an edge lies some 6 to 8 % above stock, and in one card of ten anywhere.

use crate::artifact::Domain;
use crate::units::MhzOffset;

use super::axis::Axis;

/// Fault rates beyond this many e-folds past the edge do not grow any more.
const MOST_PAST: f64 = 15.0;
/// Cells with less than this share of the heaviest one's weight are left out.
const NEGLIGIBLE: f64 = 1e-7;
/// E-folds, in shares of the clock, and how uncertain they are (standard deviation of their
/// logarithm).
const CORE_E_FOLD: f64 = 0.0020;
const MEMORY_E_FOLD: f64 = 0.0035;
const E_FOLD_SPREAD: f64 = 0.25;
/// Where edges lie, in shares of the clock: mean, standard deviation.
const CORE_EDGE: (f64, f64) = (0.060, 0.025);
const MEMORY_EDGE: (f64, f64) = (0.080, 0.030);
/// Cards whose edges may lie anywhere.
const ANYWHERE: f64 = 0.1;
/// Largest share of its clock that a domain loses when the other one is at its edge too.
const MOST_LOST_TOGETHER: f64 = 0.030;
/// Hours of the day in which an edge shows one fault.
const EDGE_HOURS: f64 = 24.0;

/// One guess at the edge.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Cell {
    edge: f64,
    e_fold: f64,
    weight: f64,
}

impl Cell {
    fn past(&self, value: f64) -> f64 {
        ((value - self.edge) / self.e_fold).min(MOST_PAST)
    }

    /// Faults per hour.
    fn rate(&self, value: f64) -> f64 {
        self.past(value).exp() / EDGE_HOURS
    }

    /// The highest value at which at most `faults` come in `hours`.
    fn holds_to(&self, hours: f64, faults: f64) -> f64 {
        self.edge + self.e_fold * (faults * EDGE_HOURS / hours).ln()
    }
}

/// What is believed of the edge of one domain, other things equal.
#[derive(Debug, Clone, PartialEq)]
pub struct EdgeBelief {
    cells: Vec<Cell>,
    edge_step: f64,
    clock: f64,
}

/// What a trial of some length at some value would probably bring.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Prospect {
    /// Chance that it ends in a fault, 0 to 1.
    pub fault: f64,
    /// Chance that it takes the machine down, 0 to 1.
    pub machine_down: f64,
    /// How long it will run, on average, hours.
    pub hours: f64,
    /// By how much it narrows down the highest value that holds: fall of its standard deviation,
    /// MHz.
    pub knowledge: f64,
}

impl EdgeBelief {
    /// What is assumed of a domain before its first trial.
    #[must_use]
    pub fn before(axis: &Axis) -> Self {
        let (e_fold, (mean, spread)) = match axis.domain {
            Domain::Core => (CORE_E_FOLD, CORE_EDGE),
            Domain::Memory => (MEMORY_E_FOLD, MEMORY_EDGE),
        };
        let clock = axis.clock;
        let (e_fold, mean, spread) = (e_fold * clock, mean * clock, spread * clock);
        let edge_step = e_fold * 0.6;
        let (lowest, highest) = (-0.02 * clock, 0.2 * clock);
        let count = ((highest - lowest) / edge_step) as usize;
        let mut cells = Vec::with_capacity(count * 9);
        for place in 0..=count {
            let edge = lowest + place as f64 * edge_step;
            let normal = (-((edge - mean) / spread).powi(2) / 2.0).exp() / spread;
            let flat = (std::f64::consts::TAU).sqrt() / (highest - lowest);
            for sigma in -4..=4_i32 {
                let sigma = f64::from(sigma) * 0.6;
                cells.push(Cell {
                    edge,
                    e_fold: e_fold * (sigma * E_FOLD_SPREAD).exp(),
                    weight: (normal * (1.0 - ANYWHERE) + flat * ANYWHERE)
                        * (-sigma * sigma / 2.0).exp(),
                });
            }
        }
        let mut belief = Self { cells, edge_step, clock };
        belief.normalise();
        belief
    }

    fn normalise(&mut self) {
        let most = self.cells.iter().map(|cell| cell.weight).fold(0.0, f64::max);
        self.cells.retain(|cell| cell.weight > most * NEGLIGIBLE);
        let sum: f64 = self.cells.iter().map(|cell| cell.weight).sum();
        for cell in &mut self.cells {
            cell.weight /= sum;
        }
    }

    /// Takes in a run at `value` that lasted `hours` and ended in a fault, or did not.
    ///
    /// `others` is the rate at which faults of other causes are to be expected in it, per hour: a
    /// fault that may as well have another cause says less.
    pub fn take(&mut self, value: MhzOffset, hours: f64, fault: bool, others: f64) {
        let value = f64::from(value.0);
        for cell in &mut self.cells {
            let rate = cell.rate(value);
            let likelihood = (-rate * hours).exp();
            cell.weight *= if fault { (rate + others) * likelihood } else { likelihood };
        }
        if self.cells.iter().any(|cell| cell.weight > 0.0) {
            self.normalise();
        } else {
            // No guess explains what happened: it is as far off as guesses go.
            let count = self.cells.len().max(1) as f64;
            self.cells.iter_mut().for_each(|cell| cell.weight = 1.0 / count);
        }
    }

    /// The same domain once the other one is raised too: its edge lies lower, nobody knows by how
    /// much.
    #[must_use]
    pub fn lowered_by_the_other(&self) -> Self {
        let most = MOST_LOST_TOGETHER * self.clock;
        let steps = (most / self.edge_step).ceil().max(1.0) as usize;
        let mut sums = std::collections::BTreeMap::<(i64, u64), Cell>::new();
        for cell in self.cells.iter().filter(|cell| cell.weight > 1e-5) {
            for step in 0..=steps {
                // Some of it is likely, all or none of it is not.
                let share = step as f64 / steps as f64;
                let likely = 0.15 + share * (1.0 - share) * 4.0;
                let edge = cell.edge - step as f64 * self.edge_step;
                let key = ((edge / self.edge_step * 4.0).round() as i64, cell.e_fold.to_bits());
                let weight = cell.weight * likely;
                sums.entry(key).and_modify(|sum| sum.weight += weight).or_insert(Cell {
                    edge,
                    weight,
                    ..*cell
                });
            }
        }
        let mut belief = Self { cells: sums.into_values().collect(), ..*self };
        belief.normalise();
        belief
    }

    /// Chance that `value` stands `hours` without a fault, all guesses weighed.
    #[must_use]
    pub fn chance_to_hold(&self, value: MhzOffset, hours: f64) -> f64 {
        let value = f64::from(value.0);
        self.cells.iter().map(|cell| cell.weight * (-cell.rate(value) * hours).exp()).sum()
    }

    /// Faults per hour to expect at `value`, all guesses weighed.
    #[must_use]
    pub fn rate(&self, value: MhzOffset) -> f64 {
        let value = f64::from(value.0);
        self.cells.iter().map(|cell| cell.weight * cell.rate(value)).sum()
    }

    /// The value that is not above the highest that still holds (at most `faults` to expect in
    /// `hours`) with the given confidence, 0 to 1; MHz from stock.
    #[must_use]
    pub fn holds_to(&self, hours: f64, faults: f64, confidence: f64) -> f64 {
        self.quantile(1.0 - confidence, |cell| cell.holds_to(hours, faults))
    }

    /// The band in which the edge lies with the given confidence, MHz from stock.
    #[must_use]
    pub fn band(&self, confidence: f64) -> (f64, f64) {
        let tail = (1.0 - confidence) / 2.0;
        (self.quantile(tail, |c| c.edge), self.quantile(1.0 - tail, |c| c.edge))
    }

    fn quantile(&self, share: f64, of: impl Fn(&Cell) -> f64) -> f64 {
        let mut values: Vec<(f64, f64)> =
            self.cells.iter().map(|cell| (of(cell), cell.weight)).collect();
        values.sort_by(|a, b| a.0.total_cmp(&b.0));
        let mut sum = 0.0;
        for (value, weight) in &values {
            sum += weight;
            if sum >= share {
                return *value;
            }
        }
        values.last().map_or(0.0, |(value, _)| *value)
    }

    /// A guess drawn by a number from 0 to 1: its edge and its e-fold, MHz.
    #[must_use]
    pub fn draw(&self, dice: f64) -> (f64, f64) {
        let mut sum = 0.0;
        let found = self.cells.iter().find(|cell| {
            sum += cell.weight;
            sum >= dice
        });
        found.or(self.cells.last()).map_or((0.0, 1.0), |cell| (cell.edge, cell.e_fold))
    }

    /// What a trial of `hours` at `value` would bring, if what counts is the highest value at which
    /// at most `faults` come in `span` hours.
    #[must_use]
    pub fn prospect(&self, value: MhzOffset, hours: f64, span: f64, faults: f64) -> Prospect {
        let value = f64::from(value.0);
        // Ends at once, early, late, or not at all.
        let mut outcomes = [Moments::default(); 4];
        let (mut machine_down, mut length) = (0.0, 0.0);
        for cell in &self.cells {
            let rate = cell.rate(value);
            let stands = |hours: f64| (-rate * hours).exp();
            let ends = [1.0, stands(hours * 0.05), stands(hours * 0.35), stands(hours), 0.0];
            let target = cell.holds_to(span, faults);
            for (outcome, ends) in outcomes.iter_mut().zip(ends.windows(2)) {
                outcome.push(cell.weight * (ends[0] - ends[1]), target);
            }
            machine_down += cell.weight * (1.0 - ends[3]) * gravity(cell.past(value));
            length += cell.weight * (1.0 - ends[3]) / rate;
        }
        let mut all = Moments::default();
        outcomes.iter().for_each(|outcome| all.add(outcome));
        let after: f64 = outcomes.iter().map(|outcome| outcome.sum * outcome.spread()).sum();
        Prospect {
            fault: 1.0 - outcomes[3].sum,
            machine_down,
            hours: length,
            knowledge: (all.spread() - after).max(0.0),
        }
    }
}

/// Share of the faults `past` e-folds past an edge that take the machine down. Assumption: hardly
/// any near the edge, and more by a half for each e-fold beyond eight.
fn gravity(past: f64) -> f64 {
    (0.01 * ((past - 8.0) * 0.5).exp()).min(0.5)
}

/// Weighted sums of a quantity.
#[derive(Debug, Clone, Copy, Default)]
struct Moments {
    sum: f64,
    first: f64,
    second: f64,
}

impl Moments {
    fn push(&mut self, weight: f64, value: f64) {
        self.sum += weight;
        self.first += weight * value;
        self.second += weight * value * value;
    }

    fn add(&mut self, other: &Self) {
        self.sum += other.sum;
        self.first += other.first;
        self.second += other.second;
    }

    /// Standard deviation.
    fn spread(&self) -> f64 {
        if self.sum <= 1e-12 {
            return 0.0;
        }
        let mean = self.first / self.sum;
        (self.second / self.sum - mean * mean).max(0.0).sqrt()
    }
}
