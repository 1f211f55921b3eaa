//! What hours prove, and what is believed besides.
//!
//! | quantity | formula | source |
//! |---|---|---|
//! | bound on a fault rate | `χ²(95 %, 2 (n + 1)) / 2 T` after `n` faults in `T` hours; `3 / T` without one | exact Poisson limit; the "rule of three" (Hanley and Lippman-Hand 1983) |
//! | chance of no fault of one cause in `h` hours | `(k / (k + h)) ^ s`, its rate gamma distributed with shape `s` after `k` hours | conjugate of the Poisson process (Gelman et al., *Bayesian Data Analysis*, ch. 2) |
//! | chance of none at all | the product over all causes | causes taken to be independent |
//!
//! A span is *proven* once it is 99 % sure that its chance is at least 99 %. That asks for more than a chance of 99 % on average: most
//! settings a climb keeps never fail, and a few fail once in a thousand hours. The rate is taken to be one of two: none to speak
//! of, or one that anything between a fault in ten hours and one in ten thousand is as likely for, on a logarithmic scale.
//!
//! Hours at settings that are a reserve bolder than those that are proven count for more, but for faults that no setting
//! causes: even where faults set in slowly, a fine step makes them half as frequent again.
//!
//! The causes: the edges (what a climb claims, which clean hours confirm), faults that no setting causes, and what each kind of
//! load may provoke that the others do not.

use statrs::distribution::{ChiSquared, ContinuousCDF};

use crate::plan::Margin;
use crate::proof::exposure::Exposure;
use crate::proof::kind::{ByKind, LoadKind};
use crate::units::Seconds;

/// Confidence of the bounds.
pub const BOUND_CONFIDENCE: f64 = 0.95;
/// Chance of a span that is to be proven, and how sure one must be of it.
pub const PROVEN: f64 = 0.99;
/// How likely settings have a rate of faults to speak of: those a climb claims to hold, and any others.
const MARGINAL: f64 = 0.2;
const MARGINAL_UNCLAIMED: f64 = 0.5;
/// What a fault that a step back seems to have cured leaves of the belief that the rest have none.
const AFTER_FAULT: f64 = 0.5;
/// Such a rate, faults an hour: the lowest and the highest.
const RATES: (f64, f64) = (1e-4, 1e-1);
/// How much more often settings fail that are a fine step bolder, where faults set in slowly.
const STEP_FACTOR: f64 = 2.0;
/// A day, a month and a year of time under load, hours.
pub const SPANS: [(&str, Seconds); 3] = [
    ("day", Seconds(86_400.0)),
    ("month", Seconds(30.0 * 86_400.0)),
    ("year", Seconds(365.0 * 86_400.0)),
];
/// What is known before the first hour of faults that one kind of load provokes and no other: shape and hours.
/// Assumption: one card in thirty or so has a weakness of that sort.
const OF_KIND: (f64, f64) = (0.010, 2.0);
/// The same of starts from cold: what they bring out comes within the first minutes.
const OF_COLD: (f64, f64) = (0.005, 0.1);
/// The same of the edges, where no climb claims anything: half of what somebody types fails within the hour.
const UNCLAIMED: (f64, f64) = (0.3, 0.5);
/// Hours that a claim of a climb is worth: about as long as it ran at what it kept.
const CLAIM_HOURS: f64 = 2.0;
/// However sure a climb was, its edges stay a cause.
const LEAST_EDGE_SHAPE: f64 = 0.004;
/// Most hours that are told to be left.
const MOST_HOURS: f64 = 20_000.0;

/// What is believed of one cause of faults: the shape of a gamma distribution of its rate, and the hours it stands for.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Cause {
    shape: f64,
    known: f64,
}

impl Cause {
    /// Logarithm of the chance that it brings no fault in `hours`.
    fn log_chance(self, hours: f64) -> f64 {
        -self.shape * (hours / self.known).ln_1p()
    }
}

/// How sure one may be of settings for a span of time under load.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Chances {
    /// What the clean hours alone prove with 95 %: the chance is at least this. None where a kind of load of the day has
    /// not run.
    pub by_hours: Option<f64>,
    /// The chance, with all that is believed of edges and other causes.
    pub believed: f64,
}

/// What would raise the chance most.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ToRaise {
    /// The kind of load that teaches most for its time now.
    pub kind: LoadKind,
    /// Time without a fault, spent as it teaches most, until the goal is reached; none where that takes too long.
    pub time: Option<Seconds>,
}

/// What stands behind settings.
#[derive(Debug, Clone, PartialEq)]
pub struct Assurance {
    exposure: Exposure,
    /// What a day of use is made of, adding up to 1.
    shares: ByKind,
    claim: Option<(Margin, f64)>,
    /// Faults that no setting causes: what was known before.
    unrelated: (f64, f64),
    /// What an hour counts for, but for faults that no setting causes.
    factor: f64,
}

impl Assurance {
    /// What `exposure` comes to for somebody whose days are made of `shares`. `claim` is the chance that a climb claimed
    /// for the span of its margin, `unrelated` what earlier climbs tell of faults that no setting causes: shape and
    /// hours of a gamma distribution of their rate.
    #[must_use]
    pub fn new(
        exposure: Exposure,
        shares: &[(LoadKind, f64)],
        claim: Option<(Margin, f64)>,
        unrelated: (f64, f64),
    ) -> Self {
        let whole: f64 = shares.iter().map(|(_, share)| share.max(0.0)).sum();
        let mut by_kind = ByKind::default();
        for (kind, share) in shares {
            by_kind[kind.place()] += share.max(0.0) / whole.max(1e-9);
        }
        Self { exposure, shares: by_kind, claim, unrelated, factor: 1.0 }
    }

    /// The same of settings that are milder than those that ran by so many fine steps.
    #[must_use]
    pub fn with_reserve(self, steps: u8) -> Self {
        Self { factor: STEP_FACTOR.powi(steps.into()), ..self }
    }

    /// Hours and faults by kind.
    #[must_use]
    pub fn exposure(&self) -> &Exposure {
        &self.exposure
    }

    /// Share of a day's use that a kind of load has, 0 to 1.
    #[must_use]
    pub fn share(&self, kind: LoadKind) -> f64 {
        self.shares[kind.place()]
    }

    /// The rate of faults under a kind of load is below this with 95 %, faults an hour; none before it ran.
    #[must_use]
    pub fn bound(&self, kind: LoadKind) -> Option<f64> {
        bound(self.exposure.hours[kind.place()], self.exposure.faults[kind.place()])
    }

    /// How sure one may be for a span.
    #[must_use]
    pub fn chances(&self, span: Seconds) -> Chances {
        let hours = span.value() / 3_600.0;
        Chances { by_hours: self.by_hours(hours), believed: self.log_chance(hours).exp() }
    }

    /// How sure it is that the chance of a span is at least 99 %, 0 to 1.
    #[must_use]
    pub fn sureness(&self, span: Seconds) -> f64 {
        self.sureness_after(self.mixed_hours(&ByKind::default()), span)
    }

    /// Whether a span is proven.
    #[must_use]
    pub fn is_proven(&self, span: Seconds) -> bool {
        self.sureness(span) >= PROVEN && self.chances(span).believed >= PROVEN
    }

    /// The longest of an hour, a day, a month and a year that is proven; none where none is.
    #[must_use]
    pub fn proven_for(&self) -> Option<(&'static str, Seconds)> {
        let spans = [("hour", Seconds(3_600.0))].into_iter().chain(SPANS);
        spans.take_while(|(_, span)| self.is_proven(*span)).last()
    }

    /// The same had so many hours of the day's mixture gone well.
    fn sureness_after(&self, mixed: f64, span: Seconds) -> f64 {
        const PLACES: usize = 60;
        let at: f64 = self.exposure.faults.iter().sum();
        let before = (self.exposure.in_all - at).max(0.0);
        let marginal = if self.claim.is_some() { MARGINAL } else { MARGINAL_UNCLAIMED };
        // One that failed at the settings themselves has a rate for sure.
        let none = if at > 0.0 { 0.0 } else { (1.0 - marginal) * AFTER_FAULT.powf(before) };
        let limit = -PROVEN.ln() / (span.value() / 3_600.0);
        let (lowest, highest) = (RATES.0.ln(), RATES.1.ln());
        let (mut low, mut all) = (0.0, 0.0);
        for place in 0..PLACES {
            let rate = (lowest + (highest - lowest) * (place as f64 + 0.5) / PLACES as f64).exp();
            let likely = (rate / RATES.1).powf(at) * (-rate * mixed * self.factor).exp();
            all += likely;
            low += if rate <= limit { likely } else { 0.0 };
        }
        let of_marginal = (1.0 - none) / PLACES as f64;
        (none + of_marginal * low) / (none + of_marginal * all).max(1e-300)
    }

    /// Hours of a mixture like the day's that the hours amount to: as many as the kind that ran least for its share.
    fn mixed_hours(&self, more: &ByKind) -> f64 {
        let kinds = LoadKind::ALL.into_iter().filter(|kind| self.share(*kind) > 0.0);
        let hours = |kind: LoadKind| {
            (self.exposure.hours[kind.place()] + more[kind.place()]) / self.share(kind)
        };
        let least = kinds.map(hours).fold(f64::INFINITY, f64::min);
        if least.is_finite() { least } else { 0.0 }
    }

    fn by_hours(&self, hours: f64) -> Option<f64> {
        let faults: f64 = self.exposure.faults.iter().sum();
        let rate = bound(self.mixed_hours(&ByKind::default()), faults)?;
        Some((-rate * hours).exp())
    }

    fn log_chance(&self, hours: f64) -> f64 {
        self.log_chance_after(&ByKind::default(), hours)
    }

    /// Logarithm of the chance of `hours`, had so many more hours gone well.
    fn log_chance_after(&self, more: &ByKind, hours: f64) -> f64 {
        let (edges, unrelated) = self.common(more.iter().sum());
        let of_kind = |kind: LoadKind| {
            self.of_kind(kind, more[kind.place()]).log_chance(self.share(kind) * hours)
        };
        let kinds: f64 = LoadKind::ALL.into_iter().map(of_kind).sum();
        edges.log_chance(hours) + unrelated.log_chance(hours) + kinds
    }

    /// What all kinds have in common: the edges, and faults that no setting causes.
    fn common(&self, more: f64) -> (Cause, Cause) {
        let total = self.exposure.hours.iter().sum::<f64>() + more;
        let faults: f64 = self.exposure.faults.iter().sum();
        let near: f64 = self.exposure.near.iter().sum();
        let (shape, known) = match self.claim {
            None => UNCLAIMED,
            Some((margin, chance)) => {
                let shape = -chance.clamp(1e-6, 1.0).ln() / (margin.hours() / CLAIM_HOURS).ln_1p();
                (shape.max(LEAST_EDGE_SHAPE), CLAIM_HOURS)
            }
        };
        let edges = Cause { shape: shape + faults + near, known: known + total * self.factor };
        let unrelated = Cause {
            shape: self.unrelated.0 + unrelated_of(self.exposure.in_all),
            known: self.unrelated.1 + total,
        };
        (edges, unrelated)
    }

    fn of_kind(&self, kind: LoadKind, more: f64) -> Cause {
        let place = kind.place();
        let found = self.exposure.faults[place] + self.exposure.near[place];
        let hours = (self.exposure.hours[place] + more) * self.factor;
        let (shape, known) = if kind == LoadKind::Cold { OF_COLD } else { OF_KIND };
        Cause { shape: shape + found, known: known + hours }
    }

    /// By how much the logarithm of the chance of `span` rises for each hour of work, if `hours` under a kind of load go
    /// well that take `work` hours, rest included.
    #[must_use]
    pub fn worth(&self, kind: LoadKind, hours: f64, work: f64, span: Seconds) -> f64 {
        let mut more = ByKind::default();
        more[kind.place()] = hours;
        let span = span.value() / 3_600.0;
        (self.log_chance_after(&more, span) - self.log_chance(span)) / work.max(1e-6)
    }

    /// What would raise the chance of a span most, and how long it takes until the span is proven.
    #[must_use]
    pub fn to_raise(&self, span: Seconds) -> Option<ToRaise> {
        let kinds = LoadKind::ALL.into_iter().filter(|kind| self.share(*kind) > 0.0);
        let worth = |kind: LoadKind| self.worth(kind, 0.25, 0.25, span);
        let kind = kinds.max_by(|a, b| worth(*a).total_cmp(&worth(*b)))?;
        Some(ToRaise { kind, time: self.time_to(|of| of.is_proven(span)) })
    }

    /// Time without a fault, spent as the day is made, until a span is believed to hold with a chance; none where that takes
    /// too long.
    #[must_use]
    pub fn time_to_believe(&self, span: Seconds, chance: f64) -> Option<Seconds> {
        self.time_to(|of| of.chances(span).believed >= chance)
    }

    /// Time, spent so that the hours amount to as much of the day's mixture as possible, until something is the case that more
    /// time never undoes: doubled until it is, then halved.
    fn time_to(&self, is_enough: impl Fn(&Self) -> bool) -> Option<Seconds> {
        const HALVINGS: usize = 16;
        let after = |mixed: f64| {
            let mut then = self.clone();
            for kind in LoadKind::ALL {
                let hours = &mut then.exposure.hours[kind.place()];
                *hours = hours.max(mixed * self.share(kind));
            }
            let spent = then.exposure.total().value() - self.exposure.total().value();
            (is_enough(&then), Seconds(spent))
        };
        let mut low = self.mixed_hours(&ByKind::default());
        if is_enough(self) {
            return Some(Seconds(0.0));
        }
        let mut high = low + 1.0;
        loop {
            let (is_there, spent) = after(high);
            if is_there {
                break;
            }
            if spent.value() > MOST_HOURS * 3_600.0 {
                return None;
            }
            (low, high) = (high, high * 2.0);
        }
        for _ in 0..HALVINGS {
            let middle = f64::midpoint(low, high);
            if after(middle).0 { high = middle } else { low = middle }
        }
        Some(after(high).1)
    }
}

/// How many of so many faults had nothing to do with the settings, as it is to be expected. The first one mostly has: a step back
/// cures it. The more come after steps back, the likelier it is that none cures them.
fn unrelated_of(faults: f64) -> f64 {
    0.1 * faults.min(1.0) + 0.6 * (faults - 1.0).clamp(0.0, 1.0) + 0.9 * (faults - 2.0).max(0.0)
}

/// Upper bound on a fault rate with 95 %, faults an hour, after so many in so many hours.
fn bound(hours: f64, faults: f64) -> Option<f64> {
    if hours <= 0.0 {
        return None;
    }
    let limit = ChiSquared::new(2.0 * (faults + 1.0)).ok()?;
    Some(limit.inverse_cdf(BOUND_CONFIDENCE) / (2.0 * hours))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::proof::exposure::ProofRun;
    use crate::proof::soak::USUAL_DAY;
    use rstest::rstest;

    const UNRELATED: (f64, f64) = (0.06, 80.0);

    fn after(runs: &[(&str, f64, bool)], claim: Option<f64>) -> Assurance {
        let mut exposure = Exposure::default();
        for (load, hours, failed) in runs {
            let seconds = Seconds(hours * 3_600.0);
            let run = ProofRun { load, mean_load: None, is_cold: false, seconds, failed: *failed };
            exposure.add(&run);
        }
        let claim = claim.map(|chance| (Margin::Daily, chance));
        Assurance::new(exposure, &USUAL_DAY, claim, UNRELATED)
    }

    const DAY: Seconds = SPANS[0].1;

    #[rstest]
    #[case::rule_of_three(3.0, 0.0, 0.9986)]
    #[case(30.0, 0.0, 0.0999)]
    // Table of exact Poisson limits: 4.744 for one event, 6.296 for two.
    #[case::one_fault(1.0, 1.0, 4.744)]
    #[case::two_faults(2.0, 2.0, 3.148)]
    fn the_bound_is_that_of_the_poisson_process(
        #[case] hours: f64,
        #[case] faults: f64,
        #[case] wanted: f64,
    ) {
        let found = bound(hours, faults).unwrap();
        assert!((found / wanted - 1.0).abs() < 1e-3, "{found}");
    }

    #[test]
    fn what_never_ran_is_proven_by_no_hours_of_another_kind() {
        let assurance = after(&[("kiln", 100.0, false)], Some(0.999));
        assert_eq!(assurance.bound(LoadKind::Light), None);
        assert!(assurance.bound(LoadKind::Heat).unwrap() < 0.031);
        assert_eq!(assurance.chances(DAY).by_hours, None);
    }

    #[test]
    fn clean_hours_raise_the_chance_and_a_fault_lowers_it() {
        let chance = |runs: &[(&str, f64, bool)]| after(runs, Some(0.998)).chances(DAY).believed;
        let (none, night, week) =
            (chance(&[]), chance(&[("medley", 10.0, false)]), chance(&[("medley", 168.0, false)]));
        assert!(none < night && night < week && week < 1.0, "{none} {night} {week}");
        let failed = chance(&[("medley", 10.0, false), ("squall", 1.0, true)]);
        assert!(failed < 0.7, "{failed}");
        let sure = after(&[("medley", 10.0, false)], Some(0.998));
        let [day, month, year] = SPANS.map(|(_, span)| sure.chances(span).believed);
        assert!(day > month && month > year, "{day} {month} {year}");
    }

    #[test]
    fn hours_alone_prove_less_than_hours_and_edges() {
        let assurance = after(&[("medley", 200.0, false)], Some(0.999));
        let assurance = Assurance { shares: after(&[], None).shares, ..assurance };
        let chances = assurance.chances(Seconds(3_600.0));
        // No cold start ran.
        assert_eq!(chances.by_hours, None);
        let no_cold: Vec<_> =
            USUAL_DAY.into_iter().filter(|(kind, _)| *kind != LoadKind::Cold).collect();
        let assurance = Assurance::new(
            *assurance.exposure(),
            &no_cold,
            Some((Margin::Daily, 0.999)),
            UNRELATED,
        );
        let chances = assurance.chances(Seconds(3_600.0));
        assert!(chances.by_hours.unwrap() < chances.believed, "{chances:?}");
        assert!(
            (chances.by_hours.unwrap() - (-3.0_f64 / 200.0).exp()).abs() < 0.005,
            "{chances:?}"
        );
    }

    #[test]
    fn what_ran_least_for_its_share_teaches_most() {
        let assurance = after(&[("medley", 12.0, false), ("kiln", 5.0, false)], Some(0.999));
        let worth = |kind| assurance.worth(kind, 1.0, 1.0, DAY);
        assert!(worth(LoadKind::Light) > worth(LoadKind::Heat));
        let failed = assurance.exposure.stepped_back(1.0);
        let near = Exposure {
            near: {
                let mut near = ByKind::default();
                near[0] = 0.4;
                near
            },
            ..failed
        };
        let near = Assurance { exposure: near, ..assurance.clone() };
        assert!(
            near.worth(LoadKind::Heat, 1.0, 1.0, DAY) > near.worth(LoadKind::Light, 1.0, 1.0, DAY),
            "what failed before comes up more often"
        );
    }

    #[test]
    fn the_hours_told_to_be_left_prove_it_when_they_are_spent() {
        let assurance = after(&[("medley", 3.0, false)], Some(0.9995));
        let ToRaise { time, .. } = assurance.to_raise(DAY).unwrap();
        let hours = time.unwrap().value() / 3_600.0;
        assert!((1_000.0..3_000.0).contains(&hours), "{hours}");
        let mut exposure = Exposure::default();
        for (kind, share) in USUAL_DAY {
            exposure.hours[kind.place()] = (hours + 3.0) * share;
        }
        let spent = Assurance { exposure, ..assurance.clone() };
        assert!(spent.is_proven(DAY) && !assurance.is_proven(DAY));
        assert_eq!(spent.to_raise(DAY).unwrap().time, Some(Seconds(0.0)));
        assert_eq!(spent.proven_for().unwrap().0, "day");
        assert_eq!(after(&[], None).to_raise(SPANS[2].1).unwrap().time, None);
    }

    #[test]
    fn a_reserve_makes_hours_count_for_more_and_a_fault_asks_for_more_of_them() {
        let runs = [("medley", 300.0, false), ("squall", 60.0, false)];
        let mut exposure = *after(&runs, Some(0.9995)).exposure();
        exposure.hours[LoadKind::Cold.place()] = 20.0;
        let plain = Assurance { exposure, ..after(&runs, Some(0.9995)) };
        let reserved = plain.clone().with_reserve(3);
        assert!(reserved.sureness(DAY) > plain.sureness(DAY) + 0.01);
        let cured = Assurance { exposure: Exposure { in_all: 1.0, ..exposure }, ..plain.clone() };
        assert!(cured.sureness(DAY) < plain.sureness(DAY) - 0.05);
        let mut failed = exposure;
        (failed.faults[0], failed.in_all) = (1.0, 1.0);
        let failed = Assurance { exposure: failed, ..plain };
        assert!(failed.sureness(DAY) < cured.sureness(DAY) / 2.0);
    }
}
