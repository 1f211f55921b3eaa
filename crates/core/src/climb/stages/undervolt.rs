//! The strategies of undervolting, each one stage: what it holds while it walks down, and what it
//! comes to.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::climb::search::axis::Axis;
use crate::climb::search::belief::EdgeBelief;
use crate::climb::search::depth::Depth;
use crate::climb::search::walk::{Descent, Walk, WalkStep, Walked};
use crate::climb::search::{Search, SearchStep, Tried};
use crate::climb::{Climb, Next, Purpose, Stage, TrialRecord};
use crate::judge::verdict::{Meaning, Verdict, gain_percent};
use crate::load::artifact::Domain;
use crate::measure::limiter::Limiter;
use crate::plan::Margin;
use crate::plan::UndervoltClockPlan;
use crate::statistics::mean;
use crate::units::{Celsius, Mhz, MhzOffset, MillivoltOffset, Percent, Seconds, Watt};

/// Share by which the score follows the clock, as long as nothing better is known.
const SCORE_BY_CLOCK: f64 = 0.75;
/// Share by which the power follows the voltage: switching goes with its square, and is most of it.
const POWER_BY_VOLTAGE: f64 = 1.5;
/// Runs on the way down that tell which clock holds the score: the newest, since those before were
/// held back by power.
const TELLING_RUNS: usize = 4;
/// Share of the tolerance by which the score is let down on purpose: clock costs voltage.
const AIM: f64 = 0.7;
/// Watts by which two averages differ that can be told apart.
const TOLD_APART: f64 = 0.2;
/// How often the clock of a strategy that holds the score is set right at most.
const MOST_CORRECTIONS: usize = 4;

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
    /// All of it in a sentence.
    pub sentence: String,
}

/// One strategy at work.
struct Strategy<'a> {
    walk: Walk<'a>,
    /// What is held in every trial, its voltage aside.
    base: Settings,
    /// The highest clock held, where it holds one.
    top: Option<Mhz>,
}

impl Strategy<'_> {
    fn settings(&self, depth: i32) -> Settings {
        self.walk.depth.write(&self.base, depth, self.top)
    }
}

impl Stage {
    /// Whether a stage walks voltage down.
    #[must_use]
    pub const fn is_undervolting(self) -> bool {
        matches!(
            self,
            Self::MaxClock | Self::UndervoltClock | Self::UndervoltQuiet | Self::Balanced
        )
    }
}

impl Climb {
    /// The scale on which a strategy walks down on a card; none where it cannot.
    #[must_use]
    pub fn depth_of(&self, stage: Stage) -> Option<Depth> {
        let voltage = &self.plan.voltage;
        depth_on(&self.card, stage, voltage.fine_step_mv, voltage.most_off_mv)
    }

    /// What clean runs at settings came to.
    #[must_use]
    pub fn measured(&self, settings: &Settings) -> Option<Measured> {
        let runs: Vec<&TrialRecord> = self
            .trials
            .iter()
            .filter(|trial| trial.verdict().is_without_fault() && trial.held() == *settings)
            .collect();
        measured(&runs)
    }

    fn measured_baseline(&self) -> Option<Measured> {
        measured(&self.counted_baseline_runs().collect::<Vec<_>>())
    }

    /// A strategy with what its trials told it so far.
    fn strategy(&self, stage: Stage) -> Option<Strategy<'_>> {
        let depth = self.depth_of(stage)?;
        let mut base = match stage {
            Stage::MaxClock => {
                let mut base = self.voltage_up();
                self.axis(Domain::Core)?.write(&mut base, self.highest_found());
                base
            }
            Stage::Balanced => {
                let mut base = self.held_settings();
                let axis = self.axis(Domain::Core)?;
                let share = self.plan.balanced.share_percent / 100.0;
                let alone = f64::from(self.kept_alone(Domain::Core).0);
                axis.write(&mut base, axis.bin(alone * share));
                base
            }
            _ => self.held_settings(),
        };
        base.curve = None;
        let tried: Vec<Walked<'_>> = self
            .counted_of(stage)
            .filter_map(|record| {
                let held = record.held();
                let (at, top) = depth.read(&held)?;
                let holds_clock = matches!(stage, Stage::UndervoltClock | Stage::UndervoltQuiet);
                let same = depth.write(&base, at, holds_clock.then_some(top));
                let raised = Settings { power_limit: base.power_limit, ..held };
                (same == raised).then_some(Walked { depth: at, top, record })
            })
            .collect();
        let top = match stage {
            Stage::UndervoltClock => depth.holds_clock().then_some(self.card.limits.highest_clock),
            Stage::UndervoltQuiet => {
                depth.holds_clock().then(|| self.clock_to_hold(&depth, &tried)).flatten()
            }
            _ => None,
        };
        let cap = match stage {
            Stage::UndervoltClock => self.needs_no_deeper(&tried, depth.step()),
            _ => None,
        };
        let start = match stage {
            Stage::Balanced => {
                (self.known_depth(stage, &depth) * self.plan.balanced.share_percent / 100.0) as i32
            }
            _ => 0,
        };
        let worth = if stage == Stage::UndervoltQuiet { POWER_BY_VOLTAGE } else { SCORE_BY_CLOCK };
        let depths = (depth.step()..=depth.deepest()).step_by(depth.step() as usize);
        let barred = self.barred_from_depth(depths, |at| depth.write(&base, at, top));
        let walk = Walk {
            depth,
            plan: &self.plan,
            tried,
            start,
            cap,
            barred,
            taken_up_after: self.taken_up_after,
            worth,
        };
        Some(Strategy { walk, base, top })
    }

    /// Powered, with the voltage at its ceiling.
    fn voltage_up(&self) -> Settings {
        let mut settings = self.powered_settings();
        if let Some(offer) = self.card.offer(SettingKind::VoltageOffset) {
            settings.set(SettingKind::VoltageOffset, Some(offer.maximum));
        }
        settings
    }

    /// How deep another strategy of this climb came, else how deep cards mostly come, mV.
    fn known_depth(&self, except: Stage, depth: &Depth) -> f64 {
        let others = [Stage::UndervoltQuiet, Stage::UndervoltClock]
            .into_iter()
            .filter(|stage| *stage != except);
        let known = others
            .filter(|stage| self.stages.contains(stage) && self.has_begun(*stage))
            .find_map(|stage| Some(self.strategy(stage)?.walk.kept()));
        known.map_or_else(|| depth.belief().band(0.0).0, f64::from)
    }

    /// The depth from which on the clock line is flat, or the card gets slower.
    fn needs_no_deeper(&self, tried: &[Walked<'_>], step: i32) -> Option<i32> {
        let below = self.plan.undervolt_clock.flat_below_percent / 100.0;
        let flat = tried
            .iter()
            .filter(|trial| trial.record.verdict() == Verdict::Clean)
            .filter(|trial| held_by_power(trial.record) < below)
            .map(|trial| trial.depth)
            .min();
        let slow = tried
            .iter()
            .filter(|trial| trial.record.verdict() == Verdict::Slower)
            .map(|trial| trial.depth - step)
            .min();
        [flat, slow].into_iter().flatten().min()
    }

    /// The clock at which the score is what is to be held: the average of stock at first, then set
    /// right by what the first runs scored, and by those that measured what is kept.
    fn clock_to_hold(&self, depth: &Depth, tried: &[Walked<'_>]) -> Option<Mhz> {
        let less = &self.plan.undervolt_quiet;
        if less.hold_mhz > 0.0 {
            return Some(depth.top(Mhz(less.hold_mhz)));
        }
        let baseline = self.baseline()?;
        let begin = baseline.average_clock.value();
        let wanted = less.hold_percent - less.tolerance_percent * AIM;
        let needed = baseline.score * wanted / 100.0;
        let slope = SCORE_BY_CLOCK * baseline.score / begin;
        let begin = begin + (needed - baseline.score) / slope;
        // The clock that each run says would have been right.
        let right = |trial: &Walked<'_>| {
            let score = trial.record.score?;
            Some(trial.top.value() + (needed - score) / slope)
        };
        let counts = |trial: &&Walked<'_>| !trial.is_fault() && trial.proves();
        let settled = |trial: &&Walked<'_>| trial.record.purpose == Purpose::Settle;
        let told: Vec<f64> = tried
            .iter()
            .filter(counts)
            .rev()
            .filter(|trial| !settled(trial))
            .filter_map(right)
            .take(TELLING_RUNS)
            .collect();
        let long: Vec<f64> =
            tried.iter().filter(counts).filter(settled).filter_map(right).collect();
        let clock = match (mean(&long), mean(&told)) {
            (Some(long), _) => {
                // Once measured, it is moved only where it has to be, or where much is to be had.
                let newest = tried.iter().rfind(|trial| counts(trial) && settled(trial))?;
                let percent = newest.record.score? / baseline.score * 100.0;
                let least = less.hold_percent - less.tolerance_percent;
                let is_right = (least..=least + less.tolerance_percent).contains(&percent);
                let corrected = tried.iter().filter(settled).count() > MOST_CORRECTIONS;
                match is_right || corrected {
                    true => newest.top.value(),
                    false if percent < least => long.max(newest.top.value() + depth.clock_step()),
                    false => long.min(newest.top.value() - depth.clock_step()),
                }
            }
            (None, Some(told)) => told,
            (None, None) => begin,
        };
        Some(depth.top(Mhz(clock)))
    }

    /// What a strategy wants next; `None` when it is over.
    pub(in crate::climb) fn next_of_strategy(&self, stage: Stage) -> Option<Next> {
        if self.is_over(stage) {
            return None;
        }
        if stage == Stage::MaxClock
            && let Some(next) = self.next_of_highest()
        {
            return Some(next);
        }
        let strategy = self.strategy(stage)?;
        let (asked, purpose, seconds, reason) = match strategy.walk.next(false) {
            WalkStep::Kept(depth) => {
                if let Some(stuck) = self.stuck_in_vain(stage, "runs", " to keep what is known") {
                    return Some(stuck);
                }
                self.measure(stage, &strategy, depth)?
            }
            WalkStep::Stuck(why) => return Some(Next::Stuck(why)),
            WalkStep::Try { depth, purpose, seconds, reason } => {
                (strategy.settings(depth), purpose, seconds, reason)
            }
        };
        let held = strategy.top.filter(|_| stage == Stage::UndervoltQuiet);
        let held = held.map_or(String::new(), |top| format!(" The clock is held at {top}."));
        let reason = format!("{reason}{held}");
        Some(Next::Trial(Box::new(self.proposal(stage, purpose, asked, seconds, reason))))
    }

    /// The run that measures what is to be kept, and one with a little more limit where dips are
    /// left and the plan gives it.
    fn measure(
        &self,
        stage: Stage,
        strategy: &Strategy<'_>,
        depth: i32,
    ) -> Option<(Settings, Purpose, Seconds, String)> {
        let settings = strategy.settings(depth);
        if depth == 0 && stage != Stage::Balanced {
            return None;
        }
        let wanted = Seconds(self.plan.voltage.settle_seconds);
        let length = wanted.in_words();
        let shown = strategy.walk.depth.show(depth);
        if !self.has_settled(stage, &settings) {
            let purpose = self.plan.margin.purpose();
            let reason = format!(
                "{shown} is as deep as is sure enough for {purpose}; {length} measure what it brings."
            );
            return Some((settings, Purpose::Settle, wanted, reason));
        }
        let (other, why) = self.with_other_limit(stage, &settings)?;
        if self.has_settled(stage, &other) {
            return None;
        }
        let limit = other.show(SettingKind::PowerLimit);
        let reason = format!("At {shown} {why}: {length} with a limit of {limit}.");
        Some((other, Purpose::Settle, wanted, reason))
    }

    /// The same settings with another power limit, and why that should be measured, too.
    fn with_other_limit(
        &self,
        stage: Stage,
        settings: &Settings,
    ) -> Option<(Settings, &'static str)> {
        let more = self.with_more_limit(stage, settings);
        let less = || self.with_less_limit(stage, settings);
        more.map(|more| (more, "power still makes dips"))
            .or_else(|| less().map(|less| (less, "it draws as much as at stock, or more")))
    }

    /// The same settings with a power limit one step lower, where a cooler card draws no less than at
    /// stock, so far as can be told: it comes closer to its limit than a ragged clock did.
    fn with_less_limit(&self, stage: Stage, settings: &Settings) -> Option<Settings> {
        if stage != Stage::UndervoltClock || self.plan.undervolt_clock.more_power_percent > 0.0 {
            return None;
        }
        let now = self.measured(settings)?.power?;
        let stock = self.measured_baseline()?.power?;
        let offer = self.card.offer(SettingKind::PowerLimit)?;
        let limit = offer.bin(settings.get(offer.kind).or(offer.stock)? - offer.step);
        let draws_less = now.value() + TOLD_APART < stock.value();
        (!draws_less).then_some(Settings { power_limit: Some(Watt(limit)), ..*settings })
    }

    /// Whether settings were measured, however that ended.
    fn has_settled(&self, stage: Stage, settings: &Settings) -> bool {
        self.counted_of(stage).any(|trial| {
            trial.purpose == Purpose::Settle
                && trial.asked == *settings
                && trial.verdict().meaning() != Meaning::ProvesNothing
        })
    }

    /// The same settings with the little more power limit that the plan gives a cooler card whose
    /// clock line still dips.
    fn with_more_limit(&self, stage: Stage, settings: &Settings) -> Option<Settings> {
        let UndervoltClockPlan { flat_below_percent, more_power_percent } =
            self.plan.undervolt_clock;
        let dips = self.measured(settings)?.held_by_power * 100.0 >= flat_below_percent;
        if stage != Stage::UndervoltClock || more_power_percent <= 0.0 || !dips {
            return None;
        }
        let offer = self.card.offer(SettingKind::PowerLimit)?;
        let limit = offer.bin(offer.stock? * (1.0 + more_power_percent / 100.0));
        Some(Settings { power_limit: Some(Watt(limit)), ..*settings })
    }

    /// The trials of the highest clock at full voltage.
    fn tried_at_full_voltage(&self, axis: &Axis) -> Vec<Tried<'_>> {
        let full = self.voltage_up();
        self.counted_of(Stage::MaxClock)
            .filter(|trial| trial.held().voltage_offset == full.voltage_offset)
            .map(|record| Tried { value: record.value_on(axis), record })
            .collect()
    }

    fn search_at_full_voltage<'a>(&'a self, axis: &'a Axis, tried: &'a [Tried<'a>]) -> Search<'a> {
        let fine = axis.in_bins(self.plan.core.fine_step_mhz);
        let slow = tried
            .iter()
            .filter(|trial| matches!(trial.verdict(), Verdict::Slower | Verdict::Throttled))
            .map(|trial| trial.value - fine)
            .min();
        Search {
            axis,
            plan: &self.plan,
            tried,
            cap: slow,
            slope: SCORE_BY_CLOCK / axis.clock,
            barred: self.barred_from(axis, &self.voltage_up()),
            taken_up_after: self.taken_up_after,
            is_followed: true,
        }
    }

    /// The highest clock at full voltage, as far as is known.
    fn highest_found(&self) -> MhzOffset {
        let Some(axis) = self.axis(Domain::Core) else { return MhzOffset::STOCK };
        let tried = self.tried_at_full_voltage(&axis);
        self.search_at_full_voltage(&axis, &tried).next(true).kept().unwrap_or_default()
    }

    /// The search for the highest clock; `None` once it is found, and the voltage can go down.
    fn next_of_highest(&self) -> Option<Next> {
        let axis = self.axis(Domain::Core)?;
        let tried = self.tried_at_full_voltage(&axis);
        match self.search_at_full_voltage(&axis, &tried).next(false) {
            SearchStep::Kept(_) => None,
            SearchStep::Stuck(why) => Some(Next::Stuck(why)),
            SearchStep::Try { value, purpose, seconds, reason } => {
                let mut asked = self.voltage_up();
                axis.write(&mut asked, value);
                let reason = format!("Voltage at its ceiling. {reason}");
                let proposal = self.proposal(Stage::MaxClock, purpose, asked, seconds, reason);
                Some(Next::Trial(Box::new(proposal)))
            }
        }
    }

    /// The settings a strategy comes to, as far as is known; none where it gains nothing.
    pub(in crate::climb) fn kept_of_strategy(&self, stage: Stage) -> Option<Settings> {
        if self.is_skipped(stage) || !self.has_begun(stage) {
            return None;
        }
        let strategy = self.strategy(stage)?;
        let depth = strategy.walk.kept();
        let raised =
            self.axis(Domain::Core).map_or(MhzOffset::STOCK, |axis| axis.read(&strategy.base));
        let is_something = depth > 0
            || (matches!(stage, Stage::MaxClock | Stage::Balanced) && raised > MhzOffset::STOCK);
        let settings = is_something.then(|| strategy.settings(depth))?;
        let other = self.with_other_limit(stage, &settings).map(|(other, _)| other);
        Some(other.filter(|other| self.measured(other).is_some()).unwrap_or(settings))
    }

    /// What a strategy comes to; `None` before its first trial.
    #[must_use]
    pub fn strategy_report(&self, stage: Stage) -> Option<StrategyReport> {
        if !stage.is_undervolting() || !self.has_begun(stage) {
            return None;
        }
        let strategy = self.strategy(stage)?;
        let depth = strategy.walk.kept();
        let settings = self.kept_of_strategy(stage);
        let measured = settings.and_then(|settings| self.measured(&settings));
        let stock = self.measured_baseline()?;
        let gain = measured.map(|at| gain_percent(at.score, stock.score));
        let power = measured.and_then(|at| at.power).zip(stock.power);
        let saved = power.map(|(at, stock)| (1.0 - at.value() / stock.value()) * 100.0);
        let chance =
            strategy.walk.belief().chance_to_hold(f64::from(depth), self.plan.margin.hours());
        let sentence = match (settings, measured) {
            (None, _) => "No voltage can be taken off as far as is known.".to_owned(),
            (Some(_), None) => format!(
                "{} is what the trials point to; no run has measured it.",
                strategy.walk.depth.show(depth)
            ),
            (Some(settings), Some(at)) => self.in_a_sentence(&settings, &at, &stock),
        };
        Some(StrategyReport {
            stage,
            settings,
            depth,
            measured,
            gain_percent: gain,
            saved_percent: saved,
            chance,
            sentence,
        })
    }

    /// What settings brought against stock, in a sentence.
    fn in_a_sentence(&self, settings: &Settings, at: &Measured, stock: &Measured) -> String {
        let fan = SettingKind::Fan.label();
        let moved: Vec<String> = settings
            .moved_from_stock(&self.card)
            .into_iter()
            .filter(|text| !text.starts_with(fan))
            .collect();
        let mut parts = vec![format!("score {:+.1} %", gain_percent(at.score, stock.score))];
        if let (Some(now), Some(before)) = (at.power, stock.power) {
            parts.push(format!("{:.0} W instead of {:.0} W", now.value(), before.value()));
        }
        if let (Some(now), Some(before)) = (at.clock, stock.clock) {
            parts.push(format!("{:.0} MHz on average after {:.0}", now.value(), before.value()));
        }
        if let (Some(now), Some(before)) = (at.hot_spot, stock.hot_spot) {
            parts.push(format!("hot spot {:.0} °C after {:.0}", now.value(), before.value()));
        }
        format!("{}: {}.", moved.join(", "), parts.join(", "))
    }

    /// The walk down of a strategy, before the trial that is `next`; none for another stage.
    #[must_use]
    pub fn descent(&self, stage: Stage, next: &Next) -> Option<Descent> {
        if !stage.is_undervolting() || !self.stages.contains(&stage) {
            return None;
        }
        let strategy = self.strategy(stage)?;
        let proposed = match next {
            Next::Trial(proposal) if proposal.request.stage == stage => {
                strategy.walk.depth.read(&proposal.request.asked).map(|(depth, _)| depth)
            }
            _ => None,
        };
        let base = self.baseline().map(|baseline| baseline.score);
        Some(strategy.walk.descent(base, proposed))
    }

    /// By how much what a strategy keeps stays above the middle of where its edge is believed.
    pub(in crate::climb) fn depth_in_hand(&self, stage: Stage) -> MillivoltOffset {
        let Some(strategy) = self.strategy(stage) else { return MillivoltOffset::STOCK };
        let middle = strategy.walk.belief().band(0.0).0;
        let hand = middle - f64::from(strategy.walk.kept());
        MillivoltOffset(hand.max(0.0).round() as i32)
    }

    /// What is believed of how deep a strategy may go, in mV off.
    pub(in crate::climb) fn belief_of_strategy(&self, stage: Stage) -> Option<EdgeBelief> {
        Some(self.strategy(stage)?.walk.belief())
    }

    /// Chance that settings a strategy keeps stand the margin's span, 0 to 1.
    pub(in crate::climb) fn chance_of_strategy(&self, stage: Stage, margin: Margin) -> Option<f64> {
        let strategy = self.strategy(stage)?;
        let depth = f64::from(strategy.walk.kept());
        Some(strategy.walk.belief().chance_to_hold(depth, margin.hours()))
    }
}

/// The scale of a strategy on a card.
pub(in crate::climb) fn depth_on(
    card: &CardDescription,
    stage: Stage,
    fine: i32,
    most: i32,
) -> Option<Depth> {
    match stage {
        Stage::MaxClock => Depth::from_ceiling(card, fine, most),
        Stage::UndervoltClock | Stage::UndervoltQuiet | Stage::Balanced => {
            Depth::from_stock(card, fine, most)
        }
        _ => None,
    }
}

/// Share of the loaded time in which power held the clock back, 0 to 1.
fn held_by_power(trial: &TrialRecord) -> f64 {
    let seen = &trial.seen;
    let idle = seen.limiter_share(Limiter::Load) + seen.limiter_share(Limiter::FrameCap);
    seen.limiter_share(Limiter::Power) / (1.0 - idle).max(0.05)
}

fn measured(runs: &[&TrialRecord]) -> Option<Measured> {
    let average = |of: &dyn Fn(&TrialRecord) -> Option<f64>| {
        mean(&runs.iter().filter_map(|run| of(run)).collect::<Vec<_>>())
    };
    Some(Measured {
        runs: runs.len(),
        score: average(&|run| run.score)?,
        power: average(&|run| run.seen.average_power.map(Watt::value)).map(Watt),
        clock: average(&|run| run.seen.average_clock().map(Mhz::value)).map(Mhz),
        hot_spot: runs
            .iter()
            .filter_map(|run| run.seen.hot_spot_max)
            .max_by(|a, b| a.value().total_cmp(&b.value())),
        flatness: average(&|run| run.seen.clock_line.as_ref().map(|line| line.flatness.value()))
            .map(Percent),
        held_by_power: average(&|run| Some(held_by_power(run))).unwrap_or(0.0),
    })
}
