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
//! e-fold takes some 0.2 % of the core clock and some 0.35 % of the memory clock, but half or twice
//! that is as likely as not, and a fifth or five times not out of the question; an edge lies some 6 to 8 % above stock, and in one card of ten anywhere. Where the plan names a
//! value that is said to hold, the edge lies around it with a standard deviation of 2 %, but three times in
//! ten the word is worth nothing.

use serde::{Deserialize, Serialize};

use crate::climb::search::axis::Axis;
use crate::load::artifact::Domain;

/// E-folds past an edge beyond which it makes no difference.
const MOST_PAST: f64 = 15.0;
/// Faults per hour beyond which their rate does not grow: however far past an edge, a fault may wait
/// for half a minute, until a load comes to its worst scene or the card is warm.
const FASTEST: f64 = 360.0;
/// Cells with less than this share of the heaviest one's weight are left out.
const NEGLIGIBLE: f64 = 1e-7;
/// E-folds, in shares of the clock, and how uncertain they are (standard deviation of their
/// logarithm).
const CORE_E_FOLD: f64 = 0.0020;
const MEMORY_E_FOLD: f64 = 0.0035;
pub(in crate::climb) const E_FOLD_SPREAD: f64 = 0.7;
/// Step of the scale of e-folds, in their logarithm: it covers a fifth to five times as much.
const E_FOLD_STEP: f64 = 0.32;
/// Where edges lie, in shares of the clock: mean, standard deviation.
const CORE_EDGE: (f64, f64) = (0.060, 0.025);
const MEMORY_EDGE: (f64, f64) = (0.080, 0.030);
/// Cards whose edges may lie anywhere.
const ANYWHERE: f64 = 0.1;
/// How far an edge lies from a value that was said to hold, in shares of the clock (standard deviation).
const SAID_SPREAD: f64 = 0.02;
/// Such values that say nothing of this card.
const MISTAKEN: f64 = 0.3;
/// Lowest and highest edge that is thought of, in shares of the clock above stock.
const LOWEST_EDGE: f64 = -0.05;
const HIGHEST_EDGE: f64 = 0.2;
/// Largest share of its clock that a domain loses when the other one is at its edge too.
const MOST_LOST_TOGETHER: f64 = 0.030;
/// Share of the guesses, those that would have the least kept, whose mean a trial is to raise: what is kept hangs on the few
/// worst of them, but a single trial moves those little.
const TAIL: f64 = 0.3;
/// Hours of the day in which an edge shows one fault.
const EDGE_HOURS: f64 = 24.0;

/// Where the edge of a domain lies above stock on many cards, in shares of the clock: mean and standard deviation.
pub(in crate::climb) fn usual_edge(domain: Domain) -> (f64, f64) {
    match domain {
        Domain::Core => CORE_EDGE,
        Domain::Memory => MEMORY_EDGE,
    }
}

/// E-folds that are told apart.
pub(in crate::climb) const E_FOLD_PLACES: usize = 11;

/// Logarithm of an e-fold in times the usual one.
pub(in crate::climb) fn e_fold_log(place: usize) -> f64 {
    (place as f64 - (E_FOLD_PLACES / 2) as f64) * E_FOLD_STEP
}

/// An e-fold, in shares of the clock.
pub(in crate::climb) fn e_fold_at(domain: Domain, place: usize) -> f64 {
    let usual = match domain {
        Domain::Core => CORE_E_FOLD,
        Domain::Memory => MEMORY_E_FOLD,
    };
    usual * e_fold_log(place).exp()
}

/// Places of an edge that are told apart where one climb teaches another.
pub(in crate::climb) const EDGE_PLACES: usize = 55;

/// Such a place, in shares of the clock above stock.
pub(in crate::climb) fn edge_at(place: usize) -> f64 {
    LOWEST_EDGE + (place as f64 + 0.5) * (HIGHEST_EDGE - LOWEST_EDGE) / EDGE_PLACES as f64
}

/// What is assumed of one domain before the first trial.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(in crate::climb) struct Assumed {
    /// Where the edge lies above stock, in shares of the clock: mean and standard deviation.
    pub edge: (f64, f64),
    /// Weight of each e-fold.
    pub e_folds: [f64; E_FOLD_PLACES],
}

impl Assumed {
    /// Of any card.
    pub(in crate::climb) fn of_any(domain: Domain) -> Self {
        let weight = |log: f64| (-(log / E_FOLD_SPREAD).powi(2) / 2.0).exp();
        let e_folds = std::array::from_fn(|place| weight(e_fold_log(place)));
        Self { edge: usual_edge(domain), e_folds }
    }
}

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
        (self.past(value).exp() / EDGE_HOURS).min(FASTEST)
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
    /// Share of this card's faults that took the machine down beyond what is usual, 0 to 1.
    severity: f64,
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
    /// By how much it is likely to raise what can be kept: expected rise of the mean of the lower tail of the highest
    /// value that holds, MHz.
    pub knowledge: f64,
}

impl EdgeBelief {
    /// What is assumed of a domain before its first trial.
    #[must_use]
    pub fn before(axis: &Axis) -> Self {
        Self::assumed(axis.domain, axis.clock, None, &Assumed::of_any(axis.domain))
    }

    /// What is assumed of a domain whose clock at stock is `clock`, in whatever unit its values are
    /// counted. A value that is said to hold is a word from elsewhere: the edge may lie above or below it.
    pub(in crate::climb) fn assumed(
        domain: Domain,
        clock: f64,
        said: Option<f64>,
        assumed: &Assumed,
    ) -> Self {
        let (mean, spread) = (assumed.edge.0 * clock, assumed.edge.1 * clock);
        let edge_step = e_fold_at(domain, E_FOLD_PLACES / 2) * clock * 0.6;
        let (lowest, highest) = (LOWEST_EDGE * clock, HIGHEST_EDGE * clock);
        let count = ((highest - lowest) / edge_step) as usize;
        let mut cells = Vec::with_capacity((count + 1) * E_FOLD_PLACES);
        for place in 0..=count {
            let edge = lowest + place as f64 * edge_step;
            let normal =
                |mean: f64, spread: f64| (-((edge - mean) / spread).powi(2) / 2.0).exp() / spread;
            let flat = (std::f64::consts::TAU).sqrt() / (highest - lowest);
            let of_many = normal(mean, spread) * (1.0 - ANYWHERE) + flat * ANYWHERE;
            let density = said.map_or(of_many, |said| {
                normal(said, SAID_SPREAD * clock) * (1.0 - MISTAKEN) + of_many * MISTAKEN
            });
            for (place, weight) in assumed.e_folds.iter().enumerate() {
                let e_fold = e_fold_at(domain, place) * clock;
                cells.push(Cell { edge, e_fold, weight: density * weight });
            }
        }
        let mut belief = Self { cells, edge_step, clock, severity: 0.0 };
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
    pub fn take(&mut self, value: impl Into<f64>, hours: f64, fault: bool, others: f64) {
        self.chance_and_take(value, hours, fault, others);
    }

    /// The same; returns how likely it was, by what was believed before, to stand `hours` without a fault of this edge, 0 to 1.
    pub(in crate::climb) fn chance_and_take(
        &mut self,
        value: impl Into<f64>,
        hours: f64,
        fault: bool,
        others: f64,
    ) -> f64 {
        let value = value.into();
        let mut stands = 0.0;
        for cell in &mut self.cells {
            let rate = cell.rate(value);
            let likelihood = (-rate * hours).exp();
            stands += cell.weight * likelihood;
            cell.weight *= if fault { (rate + others) * likelihood } else { likelihood };
        }
        if self.cells.iter().any(|cell| cell.weight > 0.0) {
            self.normalise();
        } else {
            // No guess explains what happened: it is as far off as guesses go.
            let count = self.cells.len().max(1) as f64;
            self.cells.iter_mut().for_each(|cell| cell.weight = 1.0 / count);
        }
        stands
    }

    /// The same belief held half as firmly: as if half as many trials had spoken for it. What is taken of a model that does
    /// not fit (a coarsened posterior; Miller and Dunson, *Robust Bayesian Inference via Coarsening*, 2019).
    #[must_use]
    pub(in crate::climb) fn widened(mut self) -> Self {
        self.cells.iter_mut().for_each(|cell| cell.weight = cell.weight.sqrt());
        self.normalise();
        self
    }

    /// Takes in which share of the faults of this card takes the machine down, 0 to 1.
    pub(in crate::climb) fn set_severity(&mut self, share: f64) {
        self.severity = share;
    }

    /// The weight of each e-fold, where edges are believed of a clock of the given domain.
    pub(in crate::climb) fn e_folds(&self, domain: Domain) -> [f64; E_FOLD_PLACES] {
        let usual = e_fold_at(domain, E_FOLD_PLACES / 2) * self.clock;
        let mut weights = [0.0; E_FOLD_PLACES];
        for cell in &self.cells {
            let place = ((cell.e_fold / usual).ln() / E_FOLD_STEP).round() as i64;
            let place = place + (E_FOLD_PLACES / 2) as i64;
            if let Some(weight) = usize::try_from(place).ok().and_then(|at| weights.get_mut(at)) {
                *weight += cell.weight;
            }
        }
        weights
    }

    /// The weight of each place of the edge.
    pub(in crate::climb) fn edges(&self) -> [f64; EDGE_PLACES] {
        let step = (HIGHEST_EDGE - LOWEST_EDGE) / EDGE_PLACES as f64;
        let mut weights = [0.0; EDGE_PLACES];
        for cell in &self.cells {
            let place = ((cell.edge / self.clock - LOWEST_EDGE) / step).max(0.0) as usize;
            if let Some(weight) = weights.get_mut(place.min(EDGE_PLACES - 1)) {
                *weight += cell.weight;
            }
        }
        weights
    }

    /// The same domain once the other one is raised too: its edge lies lower, nobody knows by how
    /// much.
    #[must_use]
    pub fn lowered_by_the_other(&self) -> Self {
        let most = MOST_LOST_TOGETHER * self.clock;
        let steps = (most / self.edge_step).ceil().max(1.0) as usize;
        // By edge and e-fold, of which there are few: a table is much faster than a map.
        let mut e_folds: Vec<u64> = self.cells.iter().map(|cell| cell.e_fold.to_bits()).collect();
        e_folds.sort_unstable();
        e_folds.dedup();
        let place = |edge: f64| (edge / self.edge_step * 4.0).round() as i64;
        let edges = self.cells.iter().map(|cell| place(cell.edge));
        let (Some(lowest), Some(highest)) = (edges.clone().min(), edges.max()) else {
            return self.clone();
        };
        // One place is left for what is rounded.
        let lowest = lowest - 4 * steps as i64 - 1;
        let mut sums: Vec<Option<Cell>> =
            vec![None; (highest - lowest + 2) as usize * e_folds.len()];
        for cell in self.cells.iter().filter(|cell| cell.weight > 1e-5) {
            let e_fold = e_folds.partition_point(|bits| *bits < cell.e_fold.to_bits());
            for step in 0..=steps {
                // Some of it is likely, all or none of it is not.
                let share = step as f64 / steps as f64;
                let likely = 0.15 + share * (1.0 - share) * 4.0;
                let edge = cell.edge - step as f64 * self.edge_step;
                let weight = cell.weight * likely;
                let at = (place(edge) - lowest) as usize * e_folds.len() + e_fold;
                match sums.get_mut(at) {
                    Some(Some(sum)) => sum.weight += weight,
                    Some(empty) => *empty = Some(Cell { edge, weight, ..*cell }),
                    None => {}
                }
            }
        }
        let mut belief = Self { cells: sums.into_iter().flatten().collect(), ..*self };
        belief.normalise();
        belief
    }

    /// Chance that `value` stands `hours` without a fault, all guesses weighed.
    #[must_use]
    pub fn chance_to_hold(&self, value: impl Into<f64>, hours: f64) -> f64 {
        let value = value.into();
        self.cells.iter().map(|cell| cell.weight * (-cell.rate(value) * hours).exp()).sum()
    }

    /// Faults per hour to expect at `value`, all guesses weighed.
    #[must_use]
    pub fn rate(&self, value: impl Into<f64>) -> f64 {
        let value = value.into();
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
    pub fn prospect(&self, value: impl Into<f64>, hours: f64, span: f64, faults: f64) -> Prospect {
        self.at(value.into(), span, faults, (f64::MIN, f64::MAX)).prospect(hours)
    }

    /// What a trial at `value` says of each guess, however long it is. Between the ends of `worth` more is worth more;
    /// what lies beyond either of them is worth as much as it.
    pub(in crate::climb) fn at(
        &self,
        value: f64,
        span: f64,
        faults: f64,
        worth: (f64, f64),
    ) -> AtValue {
        let above = (faults * EDGE_HOURS / span).ln();
        let guess = |cell: &Cell| Guess {
            weight: cell.weight,
            rate: cell.rate(value),
            gravity: 1.0 - (1.0 - gravity(cell.past(value))) * (1.0 - self.severity),
            target: (cell.edge + cell.e_fold * above).clamp(worth.0, worth.1),
        };
        let mut guesses: Vec<Guess> = self.cells.iter().map(guess).collect();
        guesses.sort_by(|a, b| a.target.total_cmp(&b.target));
        AtValue(guesses)
    }
}

/// What a guess at the edge says of a trial at one value.
#[derive(Debug, Clone, Copy)]
struct Guess {
    weight: f64,
    /// Faults per hour.
    rate: f64,
    /// Share of its faults that take the machine down.
    gravity: f64,
    /// The value that would be kept if the guess were right.
    target: f64,
}

/// What all guesses say of a trial at one value, those first that would have the least kept: worked out once for trials of
/// several lengths.
pub(in crate::climb) struct AtValue(Vec<Guess>);

impl AtValue {
    /// What a trial of `hours` would bring.
    pub(in crate::climb) fn prospect(&self, hours: f64) -> Prospect {
        let mut chances = [0.0; ENDINGS];
        let (mut machine_down, mut length) = (0.0, 0.0);
        for Guess { weight, rate, gravity, .. } in &self.0 {
            let endings = endings(*rate, hours);
            for (chance, ending) in chances.iter_mut().zip(endings) {
                *chance += weight * ending;
            }
            let whole = endings[ENDINGS - 1];
            machine_down += weight * (1.0 - whole) * gravity;
            length += weight * mean_length(*rate, hours, whole);
        }
        Prospect {
            fault: 1.0 - chances[ENDINGS - 1],
            machine_down,
            hours: length,
            knowledge: self.rise_of_tail(hours, chances),
        }
    }

    /// By how much the mean of the lower tail of what would be kept is higher after a trial, whose endings have these
    /// chances, than before it. On average it cannot fall: a tail mean is a coherent measure of risk (Rockafellar and
    /// Uryasev 2000), and a concave function of the weights.
    fn rise_of_tail(&self, hours: f64, chances: [f64; ENDINGS]) -> f64 {
        let mut after = chances.map(Tail::of);
        let mut before = Tail::of(1.0);
        for Guess { weight, rate, target, .. } in &self.0 {
            before.take(*weight, *target);
            for (tail, ending) in after.iter_mut().zip(endings(*rate, hours)) {
                tail.take(weight * ending, *target);
            }
            if before.is_full() && after.iter().all(Tail::is_full) {
                break;
            }
        }
        let rise = after.iter().map(|tail| tail.sum).sum::<f64>() - before.sum;
        (rise / TAIL).max(0.0)
    }
}

/// Ways a trial may end that are told apart: at once, early, late, not at all.
const ENDINGS: usize = 4;

/// Their chances at a fault rate per hour.
fn endings(rate: f64, hours: f64) -> [f64; ENDINGS] {
    // To stand 5, 35 and 100 % of it: powers of the first, as this is where a search spends most of its time.
    let early = (-rate * hours * 0.05).exp();
    let (late, whole) = (early.powi(7), early.powi(20));
    [1.0 - early, early - late, late - whole, whole]
}

/// How long a trial of `hours` runs on average until it fails or ends, where it is likely to stand `whole` of it.
fn mean_length(rate: f64, hours: f64, whole: f64) -> f64 {
    let faults = rate * hours;
    // Where faults are rare, 1 − whole is all rounding: the first two terms of its series do.
    if faults < 1e-5 { hours * (1.0 - faults / 2.0) } else { (1.0 - whole) / rate }
}

/// The lower tail of what may be kept, filled from below.
#[derive(Debug, Clone, Copy)]
struct Tail {
    /// Weight that it still takes.
    left: f64,
    /// Sum of what is in it, each times its weight.
    sum: f64,
}

impl Tail {
    fn of(weight: f64) -> Self {
        Self { left: weight * TAIL, sum: 0.0 }
    }

    fn is_full(&self) -> bool {
        self.left <= 0.0
    }

    fn take(&mut self, weight: f64, value: f64) {
        let weight = weight.min(self.left);
        if weight > 0.0 {
            self.left -= weight;
            self.sum += weight * value;
        }
    }
}

/// Share of the faults `past` e-folds past an edge that take the machine down. Assumption: hardly
/// any near the edge, and more by a half for each e-fold beyond eight.
fn gravity(past: f64) -> f64 {
    (0.01 * ((past - 8.0) * 0.5).exp()).min(0.5)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::card;
    use crate::units::MhzOffset;
    use rstest::{fixture, rstest};

    const DAY: f64 = 24.0;
    /// A day that is stood with 99 %.
    const FAULTS: f64 = 0.01;

    #[fixture]
    fn belief() -> EdgeBelief {
        EdgeBelief::before(&Axis::of(&card(), Domain::Core).unwrap())
    }

    fn middle(belief: &EdgeBelief) -> f64 {
        belief.band(0.0).0
    }

    #[rstest]
    fn before_the_first_trial_an_edge_is_believed_where_those_of_many_cards_lie(
        belief: EdgeBelief,
    ) {
        let (low, high) = belief.band(0.8);
        assert!((113.0..133.0).contains(&middle(&belief)), "6 % of 2050 MHz");
        assert!((20.0..75.0).contains(&low) && (170.0..330.0).contains(&high), "{low} {high}");
    }

    #[rstest]
    fn clean_hours_raise_it_and_faults_lower_it(belief: EdgeBelief) {
        let taken = |hours, fault| {
            let mut after = belief.clone();
            after.take(MhzOffset(120), hours, fault, 0.0);
            after
        };
        let (clean, long, fault) = (taken(0.05, false), taken(2.0, false), taken(0.05, true));
        assert!(middle(&belief) < middle(&clean) && middle(&clean) < middle(&long));
        assert!(middle(&fault) < middle(&belief));
        assert!(
            clean.chance_to_hold(MhzOffset(120), DAY) > belief.chance_to_hold(MhzOffset(120), DAY)
        );
        let hold = |belief: &EdgeBelief| belief.chance_to_hold(MhzOffset(90), DAY);
        assert!(hold(&fault) < hold(&belief) && hold(&belief) < hold(&clean));
    }

    #[rstest]
    fn a_fault_that_may_have_another_cause_says_less(belief: EdgeBelief) {
        let after = |others| {
            let mut after = belief.clone();
            after.take(MhzOffset(100), 0.1, true, others);
            middle(&after)
        };
        assert!(after(0.0) < after(5.0) && after(5.0) < after(500.0));
        let mut clean = belief.clone();
        clean.take(MhzOffset(100), 0.1, false, 0.0);
        assert!(after(1e9) - middle(&clean) < 1.0, "in the end no more than that it ran so long");
    }

    #[rstest]
    fn the_more_is_asked_of_a_value_the_lower_it_lies(belief: EdgeBelief) {
        let daily = belief.holds_to(DAY, FAULTS, 0.9);
        assert!(belief.holds_to(DAY, FAULTS, 0.99) < daily, "surer");
        assert!(belief.holds_to(30.0 * DAY, FAULTS, 0.9) < daily, "longer");
        assert!(belief.holds_to(DAY, FAULTS / 10.0, 0.9) < daily, "with a larger chance");
        let chances: Vec<f64> =
            (0..20).map(|step| belief.chance_to_hold(MhzOffset(step * 15), DAY)).collect();
        assert!(chances.windows(2).all(|pair| pair[1] <= pair[0]), "{chances:?}");
    }

    #[rstest]
    #[case(60.0, 4.0)]
    #[case(120.0, 3.0)]
    #[case(210.0, 5.0)]
    fn many_trials_narrow_it_down_to_where_the_edge_is(
        mut belief: EdgeBelief,
        #[case] edge: f64,
        #[case] e_fold: f64,
    ) {
        let before = belief.band(0.9);
        // As many hours as bring one fault at each value, and then that fault.
        for past in [2, 4, 6, 4, 2, 5, 3] {
            let value = MhzOffset((edge + f64::from(past) * e_fold) as i32);
            let wait = DAY / f64::from(past).exp();
            belief.take(value, wait, true, 0.0);
        }
        let (low, high) = belief.band(0.9);
        assert!(low < edge && edge < high, "{low} to {high}");
        assert!(high - low < (before.1 - before.0) / 4.0);
        let held = belief.holds_to(DAY, FAULTS, 0.985);
        assert!(held < edge + e_fold * FAULTS.ln(), "{held}: on the safe side of the truth");
    }

    #[rstest]
    fn a_trial_further_up_ends_sooner_and_more_gravely(belief: EdgeBelief) {
        let at = |value| belief.prospect(MhzOffset(value), 0.1, DAY, FAULTS);
        let all: Vec<Prospect> = (0..16).map(|step| at(step * 20)).collect();
        for pair in all.windows(2) {
            assert!(pair[1].fault > pair[0].fault - 1e-9);
            assert!(pair[1].hours < pair[0].hours + 1e-9);
            assert!(pair[1].machine_down > pair[0].machine_down - 1e-9);
        }
        for prospect in &all {
            assert!(prospect.machine_down <= prospect.fault && prospect.fault <= 1.0);
            assert!(prospect.knowledge >= 0.0 && prospect.hours <= 0.1 + 1e-9);
        }
        let most = all.iter().map(|p| p.knowledge).fold(0.0, f64::max);
        assert!(all[0].knowledge < most && all[15].knowledge < most, "neither end tells most");
    }

    /// Against the exponential functions themselves, of which they are worked out by powers and a series.
    #[rstest]
    fn endings_and_lengths_are_those_of_exponential_waiting(
        #[values(0.0, 1e-12, 1e-6, 1e-3, 0.7, 40.0, FASTEST)] rate: f64,
        #[values(0.017, 0.36)] hours: f64,
    ) {
        let [at_once, early, late, not_at_all] = endings(rate, hours);
        let stands = |share: f64| (-rate * hours * share).exp();
        let expected =
            [1.0 - stands(0.05), stands(0.05) - stands(0.35), stands(0.35) - stands(1.0)];
        for (found, expected) in [at_once, early, late].into_iter().zip(expected) {
            assert!((found - expected).abs() < 1e-12, "{found} {expected}");
        }
        assert!((not_at_all - stands(1.0)).abs() < 1e-12);
        let length = mean_length(rate, hours, not_at_all);
        let expected = if rate == 0.0 { hours } else { -(-rate * hours).exp_m1() / rate };
        assert!((length / expected - 1.0).abs() < 1e-9, "{length} {expected}");
    }

    #[rstest]
    fn with_the_other_raised_the_edge_lies_lower_and_less_surely(belief: EdgeBelief) {
        let lowered = belief.lowered_by_the_other();
        assert!(middle(&lowered) < middle(&belief));
        assert!(middle(&belief) - middle(&lowered) < 0.03 * 2_050.0);
        assert!(lowered.holds_to(DAY, FAULTS, 0.985) < belief.holds_to(DAY, FAULTS, 0.985));
    }

    #[rstest]
    fn what_no_guess_explains_leaves_a_belief_that_still_answers(mut belief: EdgeBelief) {
        belief.take(MhzOffset(-100), 0.0, true, 0.0);
        belief.take(MhzOffset(400), 1e12, false, 0.0);
        let (low, high) = belief.band(0.9);
        assert!(low.is_finite() && high.is_finite() && low <= high);
    }

    #[rstest]
    #[case(0.0)]
    #[case(0.5)]
    #[case(1.0)]
    fn a_guess_is_drawn_from_what_is_believed(belief: EdgeBelief, #[case] dice: f64) {
        let (edge, e_fold) = belief.draw(dice);
        let (low, high) = belief.band(1.0);
        assert!((low..=high).contains(&edge) && e_fold > 0.0);
    }
}
