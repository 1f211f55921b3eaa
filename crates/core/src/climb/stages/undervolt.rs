//! What the stages that search down in voltage share: each is a [`Strategy`], which says what it holds
//! while the voltage falls, and where that pays no more.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::climb::search::bayesian::Surprise;
use crate::climb::search::belief::EdgeBelief;
use crate::climb::search::depth::Depth;
use crate::climb::search::{Search, SearchStep, Tried};
use crate::climb::stages::rules::{NudgeBy, StageRules, Strategy, ToGo, Walked};
use crate::climb::{
    Claim, Climb, ClimbError, Next, Pair, Purpose, Reason, Shown, Stage, TrialRecord,
};
use crate::judge::verdict::{Meaning, Verdict, gain_percent};
use crate::load::artifact::Domain;
use crate::measure::limiter::Limiter;
use crate::plan::{Margin, Policy};
use crate::statistics::mean;
use crate::units::{Celsius, Mhz, MhzOffset, MillivoltOffset, Percent, Seconds, Watt};

/// Share of belief that the band of a descent holds.
const BAND: f64 = 0.9;
/// Trials of a search down in voltage and their mean length, s, as seen on stand-ins.
const USUAL_TRIALS: f64 = 14.0;
const USUAL_SECONDS: f64 = 110.0;

/// A stage that searches down in voltage.
pub(in crate::climb) struct Undervolt {
    pub stage: Stage,
    pub by: &'static dyn Strategy,
}

impl StageRules for Undervolt {
    fn missing(&self, card: &CardDescription) -> Option<&'static str> {
        let (voltage, clock) = match self.by.domain() {
            Domain::Core => ("core voltage", "core clock"),
            Domain::Memory => ("memory voltage", "memory clock offset"),
        };
        if self.by.depth(card, 1, i32::MAX).is_none() {
            return Some(voltage);
        }
        let axis = crate::climb::Axis::of(card, self.by.domain());
        (self.by.needs_clock() && axis.is_none()).then_some(clock)
    }

    fn builds_on(&self, before: &[Stage]) -> Result<(), ClimbError> {
        self.by.builds_on(before)
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        climb.next_of_strategy(self.stage, self.by)
    }

    fn found(&self, climb: &Climb) -> Option<Settings> {
        climb.kept_of_strategy(self.stage, self.by)
    }

    fn gives_score_up(&self) -> bool {
        self.by.gives_score_up()
    }

    fn long_run(&self, climb: &Climb) -> f64 {
        climb.plan.voltage.settle_seconds
    }

    fn claim(&self, climb: &Climb, pair: Pair) -> Option<Claim> {
        let margin = climb.plan.margin;
        let chance = climb.chance_of_strategy(self.stage, margin)?;
        let (domain, found) = (self.by.domain(), self.found(climb)?);
        Some(Claim {
            below_depth: climb.depth_in_hand(self.stage),
            ..climb.claimed_beside(self.stage, domain, pair, chance, &found)
        })
    }

    fn surprise(&self, climb: &Climb) -> Option<Surprise> {
        climb.descending(self.stage)?.search.surprise()
    }

    fn to_go(&self, _climb: &Climb, done: f64) -> ToGo {
        let trials = (USUAL_TRIALS * self.by.searches() - done).max(1.0);
        ToGo { trials, seconds: USUAL_SECONDS }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        Some(NudgeBy::Depth)
    }

    fn strategy(&self) -> Option<&'static dyn Strategy> {
        Some(self.by)
    }
}

/// A strategy with what its trials told it so far.
struct Descending<'a> {
    search: Search<'a, Depth>,
    walked: Vec<Walked<'a>>,
    /// What is held in every trial, its voltage aside.
    base: Settings,
    /// The highest clock held, where it holds one.
    top: Option<Mhz>,
    /// Millivolts given back of the most that hold.
    eased_by: i32,
}

impl Descending<'_> {
    /// The depth it comes to, as far as is known, less what the strategy gives back.
    fn kept(&self) -> i32 {
        self.eased(self.search.kept())
    }

    fn eased(&self, depth: i32) -> i32 {
        self.search.scale.bin(f64::from((depth - self.eased_by).max(0)))
    }

    fn settings(&self, depth: i32) -> Settings {
        self.search.scale.write(&self.base, depth, self.top)
    }
}

/// What clean runs at settings came to, on average.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Measured {
    /// Runs.
    pub runs: usize,
    /// Work units per second.
    pub score: f64,
    /// Power of the board.
    pub power: Option<Watt>,
    /// Core clock.
    pub clock: Option<Mhz>,
    /// Highest hot spot of all.
    pub hot_spot: Option<Celsius>,
    /// How flat the clock line was.
    pub flatness: Option<Percent>,
    /// Share of the loaded time held back by power, 0 to 1.
    pub held_by_power: f64,
}

/// What a strategy comes to.
#[derive(Debug, Clone, PartialEq)]
pub struct StrategyReport {
    /// Which.
    pub stage: Stage,
    /// Settings it would keep; none where nothing is gained.
    pub settings: Option<Settings>,
    /// Millivolts taken off.
    pub depth: i32,
    /// What was measured there; none before it was run.
    pub measured: Option<Measured>,
    /// Gain of the score over stock, percent.
    pub gain_percent: Option<f64>,
    /// Power saved against stock, percent; negative where it takes more.
    pub saved_percent: Option<f64>,
    /// Chance that it stands its margin's span without a fault, 0 to 1.
    pub chance: f64,
    /// The depth as it is shown.
    pub at: Shown,
    /// What the settings move from stock, the fan aside.
    pub moved: Vec<Shown>,
    /// The baseline, measured alike.
    pub stock: Measured,
    /// By how much less it scores than what was kept before it, percent; none where it is not passed over for that.
    pub passed_over: Option<f64>,
}

impl Climb {
    /// The scale on which a strategy walks down on a card; none where it cannot.
    #[must_use]
    pub fn depth_of(&self, stage: Stage) -> Option<Depth> {
        let voltage = &self.plan.voltage;
        stage.rules().strategy()?.depth(&self.card, voltage.fine_step_mv, voltage.most_off_mv)
    }

    /// What clean runs at settings came to.
    #[must_use]
    pub fn measured(&self, settings: &Settings) -> Option<Measured> {
        let runs: Vec<&TrialRecord> = self
            .trials
            .iter()
            .filter(|trial| trial.verdict().is_without_fault() && trial.held() == *settings)
            .collect();
        self.measured_in(&runs)
    }

    pub(super) fn measured_baseline(&self) -> Option<Measured> {
        self.measured_in(&self.stock_runs().collect::<Vec<_>>())
    }

    /// A claim by the chance that what a stage moves in a domain holds, and by what is claimed of the other one.
    pub(in crate::climb) fn claimed_beside(
        &self,
        stage: Stage,
        domain: Domain,
        pair: Pair,
        chance: f64,
        kept: &Settings,
    ) -> Claim {
        let other = self.claim_beside(stage, domain, pair);
        Claim {
            below_core: other.map_or(MhzOffset::STOCK, |claim| claim.below_core),
            below_memory: other.map_or(MhzOffset::STOCK, |claim| claim.below_memory),
            ..self.claimed(chance * other.map_or(1.0, |claim| claim.chance), kept)
        }
    }

    /// What is claimed of the domain that a strategy leaves as it found it: by the strategy that moved that one, or else by
    /// the searches along the clocks.
    fn claim_beside(&self, stage: Stage, domain: Domain, pair: Pair) -> Option<Claim> {
        let before = self.kept_until(stage).0;
        let moved_it = before.filter(|before| {
            before.rules().strategy().is_some_and(|by| by.domain() == domain.other())
        });
        match moved_it {
            Some(before) => before.rules().claim(self, pair),
            None => {
                let mut pair = pair;
                pair.set(domain, MhzOffset::STOCK);
                self.claim(pair)
            }
        }
    }

    /// A strategy with what its trials told it so far.
    fn descending(&self, stage: Stage) -> Option<Descending<'_>> {
        let by = stage.rules().strategy()?;
        let depth = self.depth_of(stage)?;
        let mut base = by.base(self, stage)?;
        base.curve = None;
        let walked: Vec<Walked<'_>> = self
            .counted_of(stage)
            .filter_map(|record| {
                let held = record.held();
                let (at, top) = depth.read(&held)?;
                let same = depth.write(&base, at, by.holds_clock().then_some(top));
                let raised = Settings { power_limit: base.power_limit, ..held };
                let tried = Tried { value: at, record };
                (same == raised).then_some(Walked { tried, top })
            })
            .collect();
        let top = by.top(self, &depth, &walked);
        let depths = (depth.step()..=depth.deepest()).step_by(depth.step() as usize);
        let search = Search {
            scale: depth,
            plan: &self.plan,
            tried: walked.iter().map(|walked| walked.tried).collect(),
            slow_is_too_much: false,
            first: by.first(self, &depth),
            cap: by.cap(self, &walked, depth.step()),
            slope: by.worth() / depth.scale(),
            below_safe: 0.0,
            barred: self.barred_among(depths, |at| depth.write(&base, at, top)),
            taken_up_after: self.taken_up_after,
            is_followed: true,
            beside: Vec::new(),
            all: &self.trials,
            experience: &self.experience,
        };
        Some(Descending { search, walked, base, top, eased_by: by.eased_by(self) })
    }

    /// How deep a strategy comes as far as is known, mV off; none for another stage.
    pub(super) fn depth_kept(&self, stage: Stage) -> Option<i32> {
        Some(self.descending(stage)?.kept())
    }

    /// What a strategy wants next; `None` when it is over.
    fn next_of_strategy(&self, stage: Stage, by: &dyn Strategy) -> Option<Next> {
        if self.is_over(stage) {
            return None;
        }
        if let Some(next) = by.first_of_all(self) {
            return Some(next);
        }
        let now = self.descending(stage)?;
        let (asked, purpose, seconds, reason) = match now.search.next(false) {
            SearchStep::Kept(depth) => {
                if let Some(stuck) = self.stuck_in_vain(stage) {
                    return Some(stuck);
                }
                self.measure(stage, by, &now, now.eased(depth))?
            }
            SearchStep::Stuck(why) => return Some(Next::Stuck(why)),
            SearchStep::Try { value, purpose, seconds, reason } => {
                (now.settings(value), purpose, seconds, reason)
            }
        };
        let reason = match now.top.filter(|_| by.says_clock()) {
            Some(top) => Reason::HoldingClock(Box::new(reason), top),
            None => reason,
        };
        Some(Next::Trial(Box::new(self.proposal(stage, purpose, asked, seconds, reason))))
    }

    /// The run that measures what is to be kept, and one with a little more limit where dips are
    /// left and the plan gives it.
    fn measure(
        &self,
        stage: Stage,
        by: &dyn Strategy,
        now: &Descending<'_>,
        depth: i32,
    ) -> Option<(Settings, Purpose, Seconds, Reason)> {
        let settings = now.settings(depth);
        if depth == 0 && !by.measures_without_depth() {
            return None;
        }
        let wanted = Seconds(self.plan.voltage.settle_seconds);
        let at = now.search.scale.show(depth);
        if !self.has_settled(stage, &settings) {
            let purpose = Some(self.plan.margin.purpose());
            let reason = Reason::Measure { at, purpose, length: wanted };
            return Some((settings, Purpose::Settle, wanted, reason));
        }
        let (other, why) = by.other_limit(self, &settings)?;
        if self.has_settled(stage, &other) {
            return None;
        }
        let limit = other.show(SettingKind::PowerLimit);
        let reason = Reason::OtherLimit { at, why, limit, length: wanted };
        Some((other, Purpose::Settle, wanted, reason))
    }

    /// Whether settings were measured, however that ended.
    fn has_settled(&self, stage: Stage, settings: &Settings) -> bool {
        self.counted_of(stage).any(|trial| {
            trial.purpose == Purpose::Settle
                && trial.asked == *settings
                && trial.verdict().meaning() != Meaning::ProvesNothing
        })
    }

    /// The settings a strategy comes to, as far as is known; none where it gains nothing.
    fn kept_of_strategy(&self, stage: Stage, by: &dyn Strategy) -> Option<Settings> {
        if !self.counts(stage) {
            return None;
        }
        let now = self.descending(stage)?;
        let depth = now.kept();
        let raised = self.axis(by.domain()).map_or(MhzOffset::STOCK, |axis| axis.read(&now.base));
        let is_something = depth > 0 || (by.keeps_its_clock() && raised > MhzOffset::STOCK);
        let settings = is_something.then(|| now.settings(depth))?;
        let other = by.other_limit(self, &settings).map(|(other, _)| other);
        Some(other.filter(|other| self.measured(other).is_some()).unwrap_or(settings))
    }

    /// What a strategy comes to; `None` before its first trial.
    #[must_use]
    pub fn strategy_report(&self, stage: Stage) -> Option<StrategyReport> {
        let by = stage.rules().strategy().filter(|_| self.has_begun(stage))?;
        let now = self.descending(stage)?;
        let depth = now.kept();
        let settings = self.kept_of_strategy(stage, by);
        let measured = settings.and_then(|settings| self.measured(&settings));
        let stock = self.measured_baseline()?;
        let gain = measured.map(|at| gain_percent(at.score, stock.score));
        let power = measured.and_then(|at| at.power).zip(stock.power);
        let saved = power.map(|(at, stock)| (1.0 - at.value() / stock.value()) * 100.0);
        let chance = now.search.belief().chance_to_hold(f64::from(depth), self.plan.margin.hours());
        Some(StrategyReport {
            stage,
            settings,
            depth,
            measured,
            gain_percent: gain,
            saved_percent: saved,
            chance,
            at: now.search.scale.show(depth),
            moved: settings.map_or_else(Vec::new, |settings| settings.moved_but_fan(&self.card)),
            stock,
            passed_over: self.passed_over(stage),
        })
    }

    /// The search of a strategy down in voltage, before the trial that is `next`; none for another stage.
    #[must_use]
    pub fn descent(&self, stage: Stage, next: &Next) -> Option<Descent> {
        if !self.stages.contains(&stage) {
            return None;
        }
        let now = self.descending(stage)?;
        let depth = now.search.scale;
        let proposed = match next {
            Next::Trial(proposal) if proposal.request.stage == stage => {
                depth.read(&proposal.request.asked).map(|(depth, _)| depth)
            }
            _ => None,
        };
        let base = self.baseline().map(|baseline| baseline.score);
        let is_begun = !now.walked.is_empty();
        let has_band = is_begun || self.plan.policy == Policy::Bayesian;
        let bracket = now.search.bracket();
        Some(Descent {
            depth,
            trials: now.walked.iter().map(|walked| DescentTrial::of(self, walked, base)).collect(),
            held: bracket.floor,
            failed: bracket.ceiling.map(|failure| failure.value),
            band: has_band.then(|| {
                let (low, high) = now.search.belief().band(BAND);
                (depth.bin(low), depth.bin(high))
            }),
            kept: is_begun.then(|| now.kept()),
            next: proposed,
        })
    }

    /// By how much what a strategy keeps stays above the middle of where its edge is believed.
    fn depth_in_hand(&self, stage: Stage) -> MillivoltOffset {
        let Some(now) = self.descending(stage) else { return MillivoltOffset::STOCK };
        let middle = now.search.belief().band(0.0).0;
        let hand = middle - f64::from(now.kept());
        MillivoltOffset(hand.max(0.0).round() as i32)
    }

    /// What is believed of how deep a strategy may go, in mV off.
    pub(in crate::climb) fn belief_of_strategy(&self, stage: Stage) -> Option<EdgeBelief> {
        Some(self.descending(stage)?.search.belief())
    }

    /// Chance that settings a strategy keeps stand the margin's span, 0 to 1.
    fn chance_of_strategy(&self, stage: Stage, margin: Margin) -> Option<f64> {
        let now = self.descending(stage)?;
        Some(now.search.belief().chance_to_hold(f64::from(now.kept()), margin.hours()))
    }
}

/// One trial on the way down.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DescentTrial {
    /// Its number.
    pub number: u32,
    /// Millivolts taken off.
    pub depth: i32,
    /// Highest clock it held.
    pub top: Mhz,
    /// Its verdict.
    pub verdict: Verdict,
    /// Gain of its score over the baseline, percent.
    pub gain_percent: Option<f64>,
}

impl DescentTrial {
    fn of(climb: &Climb, walked: &Walked<'_>, base: Option<f64>) -> Self {
        let record = walked.tried.record;
        Self {
            number: record.number,
            depth: walked.tried.value,
            top: walked.top,
            verdict: record.verdict(),
            gain_percent: climb
                .figure(record)
                .zip(base)
                .map(|(score, base)| gain_percent(score, base)),
        }
    }
}

/// Trial after trial of a search down in voltage, each at the depth that it tried, in mV taken off.
#[derive(Debug, Clone, PartialEq)]
pub struct Descent {
    /// The scale.
    pub depth: Depth,
    /// The trials, in order.
    pub trials: Vec<DescentTrial>,
    /// Deepest that held.
    pub held: i32,
    /// Least deep that failed.
    pub failed: Option<i32>,
    /// Where the edge is believed, with 90 %; none before there is anything to go by.
    pub band: Option<(i32, i32)>,
    /// What would be kept now.
    pub kept: Option<i32>,
    /// The depth proposed next.
    pub next: Option<i32>,
}

/// Share of the loaded time in which power held the clock back, 0 to 1.
pub(super) fn held_by_power(trial: &TrialRecord) -> f64 {
    let seen = &trial.seen;
    let idle = seen.limiter_share(Limiter::Load) + seen.limiter_share(Limiter::FrameCap);
    seen.limiter_share(Limiter::Power) / (1.0 - idle).max(0.05)
}

impl Climb {
    fn measured_in(&self, runs: &[&TrialRecord]) -> Option<Measured> {
        let average = |of: &dyn Fn(&TrialRecord) -> Option<f64>| {
            mean(&runs.iter().filter_map(|run| of(run)).collect::<Vec<_>>())
        };
        Some(Measured {
            runs: runs.len(),
            score: average(&|run| self.figure(run))?,
            power: average(&|run| run.seen.average_power.map(Watt::value)).map(Watt),
            clock: average(&|run| run.seen.average_clock().map(Mhz::value)).map(Mhz),
            hot_spot: runs
                .iter()
                .filter_map(|run| run.seen.hot_spot_max)
                .max_by(|a, b| a.value().total_cmp(&b.value())),
            flatness: average(&|run| {
                run.seen.clock_line.as_ref().map(|line| line.flatness.value())
            })
            .map(Percent),
            held_by_power: average(&|run| Some(held_by_power(run))).unwrap_or(0.0),
        })
    }
}
