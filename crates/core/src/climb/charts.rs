//! What there is to draw of a climb: the staircase of a domain, and the map of core against memory.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::climb::pair::Pair;
use crate::climb::search::Bracket;
use crate::climb::search::axis::Axis;
use crate::climb::{Climb, EdgeBelief, Next, Stage, TrialRecord};
use crate::judge::verdict::Verdict;
use crate::load::artifact::Domain;
use crate::plan::Policy;
use crate::units::{MhzOffset, Seconds};

/// Places of the frontier that are worked out.
const FRONTIER: i32 = 12;
/// Share of belief that the band of a staircase holds.
const BAND: f64 = 0.9;

/// One trial in a chart.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ChartTrial {
    /// Its number.
    pub number: u32,
    /// Where it lies on the map.
    pub place: Pair,
    /// Its verdict.
    pub verdict: Verdict,
    /// Whether the climb learns from it.
    pub counts: bool,
    /// Gain of its score over the baseline, percent.
    pub gain_percent: Option<f64>,
}

/// Trial after trial, each at the value of one domain that it tried.
#[derive(Debug, Clone, PartialEq)]
pub struct Stairs {
    /// The domain.
    pub domain: Domain,
    /// Trials of its stage, and those together.
    pub trials: Vec<ChartTrial>,
    /// Where its edge is seen to lie.
    pub bracket: Bracket,
    /// Where it is believed to lie, with 90 %; none before there is anything to go by.
    pub band: Option<(MhzOffset, MhzOffset)>,
    /// What would be kept now.
    pub kept: Option<MhzOffset>,
    /// The value proposed next, where it is one of this domain.
    pub next: Option<MhzOffset>,
    /// Chance of a fault within [`RISKED`] at each value from stock up, 0 to 1; empty before there is anything
    /// to go by.
    pub risks: Vec<(MhzOffset, f64)>,
}

/// Time for which the chance of a fault is told.
pub const RISKED: Seconds = Seconds(600.0);
/// Values of a clock at which that is worked out at most.
const MOST_RISKS: i32 = 64;

impl Stairs {
    /// Chance of a fault within [`RISKED`] at a value, where it is known.
    #[must_use]
    pub fn risk(&self, value: MhzOffset) -> Option<f64> {
        let above = self.risks.partition_point(|(at, _)| *at < value);
        self.risks.get(above).map(|(_, risk)| *risk)
    }

    /// The value of a trial.
    #[must_use]
    pub fn value(&self, trial: &ChartTrial) -> MhzOffset {
        trial.place.get(self.domain)
    }
}

/// Core against memory.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Map {
    /// Every trial that was not at stock in both, and the newest that was.
    pub trials: Vec<ChartTrial>,
    /// Highest core clock believed to hold, from the lowest memory clock to the highest.
    pub frontier: Vec<Pair>,
    /// The clean trial with the best score.
    pub best: Option<Pair>,
    /// What would be kept now.
    pub kept: Pair,
    /// The place proposed next.
    pub next: Option<Pair>,
}

impl Climb {
    fn chart_trial(&self, trial: &TrialRecord) -> ChartTrial {
        let base = self.baseline_under(&trial.scene).map(|baseline| baseline.score);
        ChartTrial {
            number: trial.number,
            place: self.place(trial),
            verdict: trial.verdict(),
            counts: trial.stage != Stage::Own,
            gain_percent: self
                .figure(trial)
                .zip(base)
                .map(|(s, b)| crate::judge::verdict::gain_percent(s, b)),
        }
    }

    fn place_of(&self, next: &Next) -> Option<(Stage, Pair)> {
        let Next::Trial(proposal) = next else { return None };
        let read = |domain| {
            self.axis(domain).map_or(MhzOffset::STOCK, |a| a.read(&proposal.request.asked))
        };
        let pair = Pair { core: read(Domain::Core), memory: read(Domain::Memory) };
        Some((proposal.request.stage, pair))
    }

    /// The staircase of a domain, before the trial that is `next`; none where the climb does not look for its edge.
    #[must_use]
    pub fn stairs(&self, domain: Domain, next: &Next) -> Option<Stairs> {
        let stage = self.stages.iter().find(|stage| stage.domain() == Some(domain)).copied()?;
        let bracket = self.bracket(stage)?;
        let of_stage = |trial: &&TrialRecord| {
            trial.stage == stage
                || trial.stage == Stage::Together
                || (trial.stage == Stage::Own
                    && self.axis(domain).is_some_and(|a| trial.value_on(&a) != MhzOffset::STOCK))
        };
        let trials: Vec<ChartTrial> =
            self.trials.iter().filter(of_stage).map(|t| self.chart_trial(t)).collect();
        let is_begun = !trials.is_empty();
        let together = self.counted_of(Stage::Together).next().is_some();
        let joint = together.then(|| self.joint()).flatten();
        let belief = match joint {
            Some(joint) => Some(joint.get(domain).clone()),
            None => self.belief(domain),
        };
        let axis = self.axis(domain)?;
        let belief = belief.filter(|_| is_begun || self.plan.policy == Policy::Bayesian);
        let risks = belief.as_ref().map_or_else(Vec::new, |belief| risks(&axis, belief));
        let band = belief.map(|b| {
            let (low, high) = b.band(BAND);
            (axis.bin(low), axis.bin(high))
        });
        let kept = is_begun.then(|| match together {
            true => self.kept_together().get(domain),
            false => self.kept_alone(domain),
        });
        let next = self
            .place_of(next)
            .filter(|(at, _)| *at == stage || *at == Stage::Together)
            .map(|(_, pair)| pair.get(domain));
        Some(Stairs { domain, trials, bracket, band, kept, next, risks })
    }

    /// The map of core against memory, before the trial that is `next`.
    #[must_use]
    pub fn map(&self, next: &Next) -> Map {
        let trials: Vec<ChartTrial> = self.trials.iter().map(|t| self.chart_trial(t)).collect();
        // Gains under different loads are not held against each other.
        let of_searches = |pair: &(&ChartTrial, &TrialRecord)| pair.1.scene == self.plan.scene;
        let best = trials
            .iter()
            .zip(&self.trials)
            .filter(of_searches)
            .filter(|(trial, _)| trial.verdict == Verdict::Clean && trial.counts)
            .filter_map(|(trial, _)| Some((trial.gain_percent?, trial.place)))
            .max_by(|a, b| a.0.total_cmp(&b.0))
            .map(|(_, place)| place);
        Map {
            frontier: self.frontier(),
            best,
            kept: self.kept_pair(),
            next: self.place_of(next).map(|(_, pair)| pair),
            trials,
        }
    }

    /// The believed frontier: for each memory clock the highest core clock that would be kept. Alone
    /// each goes as far as it holds by itself; together both give way, the more the higher the other
    /// is (a straight line between what is believed alone and together).
    fn frontier(&self) -> Vec<Pair> {
        let margin = self.plan.margin;
        let (hours, faults, sure) = (margin.hours(), margin.faults(), margin.confidence());
        let holds = |belief: &EdgeBelief| belief.holds_to(hours, faults, sure).max(0.0);
        let (Some(core), Some(memory), Some(joint)) =
            (self.belief(Domain::Core), self.belief(Domain::Memory), self.joint())
        else {
            return Vec::new();
        };
        let (Some(core_axis), Some(memory_axis)) =
            (self.axis(Domain::Core), self.axis(Domain::Memory))
        else {
            return Vec::new();
        };
        let alone = (holds(&core), holds(&memory));
        let both = (holds(&joint.core).min(alone.0), holds(&joint.memory).min(alone.1));
        let mut places = Vec::new();
        for step in 0..=FRONTIER {
            let at = alone.1 * f64::from(step) / f64::from(FRONTIER);
            let core = if at <= both.1 {
                let share = if both.1 > 0.0 { at / both.1 } else { 0.0 };
                alone.0 + (both.0 - alone.0) * share
            } else {
                let share = (at - both.1) / (alone.1 - both.1).max(1e-9);
                both.0 * (1.0 - share)
            };
            places.push(Pair { core: core_axis.bin(core), memory: memory_axis.bin(at) });
        }
        places
    }
}

/// The chance of a fault at values of an axis, from stock to its highest.
fn risks(axis: &Axis, belief: &EdgeBelief) -> Vec<(MhzOffset, f64)> {
    let hours = RISKED.value() / 3_600.0;
    let step = axis.in_bins((axis.highest().0 / MOST_RISKS).max(1).into()).0.max(1);
    let values = (0..=axis.highest().0 / step).map(|index| MhzOffset(index * step));
    values.map(|value| (value, 1.0 - belief.chance_to_hold(value, hours))).collect()
}

/// Settings in a few words: what they raise of core and memory, else of power, else that they are
/// stock. The fan is left out.
#[must_use]
pub fn in_short(settings: &Settings, card: &CardDescription) -> String {
    let stock = Settings::stock(card);
    let mut parts = Vec::new();
    for domain in [Domain::Core, Domain::Memory] {
        if let Some(axis) = Axis::of(card, domain) {
            let value = axis.read(settings);
            if value != MhzOffset::STOCK {
                parts.push(format!("{domain} {}", axis.show(value)));
            }
        }
    }
    // The clocks are told above; limits, fan and curve by themselves.
    let told = [
        SettingKind::PowerLimit,
        SettingKind::TemperatureTarget,
        SettingKind::CoreOffset,
        SettingKind::MemoryOffset,
        SettingKind::ClockMaximum,
        SettingKind::Fan,
        SettingKind::Curve,
    ];
    let others = SettingKind::ALL.into_iter().filter(|kind| !told.contains(kind));
    let moved = |kind: &SettingKind| {
        settings.get(*kind).is_some() && settings.get(*kind) != stock.get(*kind)
    };
    parts.extend(
        others.filter(moved).map(|kind| format!("{} {}", kind.label(), settings.show(kind))),
    );
    parts.extend(settings.curve.map(|_| format!("curve {}", settings.show(SettingKind::Curve))));
    if parts.is_empty() && moved(&SettingKind::PowerLimit) {
        parts.push(format!("power {}", settings.show(SettingKind::PowerLimit)));
    }
    if parts.is_empty() { "stock".into() } else { parts.join(", ") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::air::fan::Fan;
    use crate::fixtures::card;
    use crate::plan::Plan;
    use crate::units::{Percent, Watt};
    use rstest::rstest;

    #[rstest]
    #[case(|_: &mut Settings| (), "stock")]
    #[case(|s: &mut Settings| s.core_offset = Some(MhzOffset(60)), "core +60 MHz")]
    #[case(|s: &mut Settings| s.power_limit = Some(Watt(286.0)), "power 286 W")]
    #[case(|s: &mut Settings| s.fan = Some(Fan::Fixed(Percent(40.0))), "stock")]
    #[case(
        |s: &mut Settings| {
            s.core_offset = Some(MhzOffset(-30));
            s.power_limit = Some(Watt(286.0));
        },
        "core −30 MHz"
    )]
    fn settings_in_short_name_what_matters_most(
        #[case] change: fn(&mut Settings),
        #[case] told: &str,
    ) {
        let mut settings = Settings::stock(&card());
        change(&mut settings);
        assert_eq!(in_short(&settings, &card()), told);
    }

    fn climb() -> Climb {
        let plan = Plan { policy: Policy::Bayesian, ..Plan::default() };
        Climb::new(card(), plan, &[Stage::Baseline, Stage::Core]).unwrap()
    }

    #[test]
    fn the_chance_of_a_fault_rises_with_the_clock_from_next_to_none_at_stock() {
        let climb = climb();
        let stairs = climb.stairs(Domain::Core, &climb.next()).unwrap();
        assert!(stairs.risks.len() > 10, "{}", stairs.risks.len());
        let rises = |pair: &[(MhzOffset, f64)]| pair[0].0 < pair[1].0 && pair[0].1 <= pair[1].1;
        assert!(stairs.risks.windows(2).all(rises), "{:?}", stairs.risks);
        let at_stock = stairs.risk(MhzOffset::STOCK).unwrap();
        assert!(at_stock < 0.02, "{at_stock}");
        assert!(stairs.risk(MhzOffset(300)).unwrap() > 0.5, "far past any edge");
        // Between two values the chance is that of the bolder one.
        let (value, risk) = stairs.risks[3];
        assert_eq!(stairs.risk(MhzOffset(value.0 - 1)), Some(risk));
    }

    #[test]
    fn a_climb_has_no_staircase_of_a_clock_it_does_not_look_for() {
        let climb = climb();
        assert_eq!(climb.stairs(Domain::Memory, &climb.next()), None);
        let stepwise = Climb::new(
            card(),
            Plan { policy: Policy::FixedStep, ..Plan::default() },
            &climb.stages,
        )
        .unwrap();
        let stairs = stepwise.stairs(Domain::Core, &stepwise.next()).unwrap();
        assert!(stairs.risks.is_empty() && stairs.band.is_none(), "nothing is known yet");
    }
}
