//! Settle: back down to what one wants to live with. After the search, fan, power limit and voltage go down step by step,
//! that first which gives most for the score it costs, as far as a permitted loss allows; then the temperature target
//! follows. Each step is measured, and what they come to is proven as it is, with its own fan.
//!
//! ```text
//!   what was found ─► one step of each ─► on with the best ─► ... ─► nothing fits any more ─► clocks back for the heat ─► proof
//! ```
//!
//! A slower fan leaves the card hotter, and a hot chip holds less clock. So the clocks go back as far as that may take,
//! and what that costs counts as lost.

use crate::air::fan::Fan;
use crate::air::heat::{HeatModel, HeatRun};
use crate::air::noise::NoiseModel;
use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::climb::search::depth::Depth;
use crate::climb::search::scale::Scale;
use crate::climb::stages::rules::{NudgeBy, SCORE_BY_MEMORY, StageRules, ToGo};
use crate::climb::stages::together::hint;
use crate::climb::{Claim, Climb, Next, Pair, Purpose, Reason, Shown, Stage, TrialRecord};
use crate::judge::verdict::Meaning;
use crate::load::artifact::Domain;
use crate::statistics::mean;
use crate::units::{Celsius, Decibel, Mhz, MhzOffset, Percent, Seconds, Watt};

/// What is lowered, in the order in which a first step of each is measured.
const LOWERED: [SettingKind; 3] =
    [SettingKind::Fan, SettingKind::PowerLimit, SettingKind::VoltageOffset];
/// Share of its clock by which an edge may lie lower for each K of the chip. Assumption: chips lose a third of a thousandth,
/// and this is more.
const EDGE_BY_HEAT: f64 = 0.000_5;
/// What counts as much as a decibel less: so many K cooler, or percent of the power less. Assumption.
const LIKE_A_DECIBEL: f64 = 8.0;
/// A step that loses less than this is taken to lose this much: less is not seen in a run, shares of the score.
const LEAST_LOSS: f64 = 0.001;
/// How often the step of a setting is halved after one that cost too much.
const fn halvings(kind: SettingKind) -> u32 {
    match kind {
        SettingKind::Fan => 3,
        _ => 2,
    }
}
/// The core stays so far below the temperature at which a card drops its clock at stock, K.
const BELOW_TARGET: f64 = 3.0;
/// The temperature target goes to so many K above the plateau.
const ABOVE_PLATEAU: f64 = 5.0;
/// Steps of the walk that are looked at: far more than it takes.
const MOST_STEPS: usize = 200;
/// Trials that the stage usually takes.
const USUAL_TRIALS: f64 = 12.0;
/// Failures of the proof after which the steps back grow no more.
const MOST_DOUBLINGS: u32 = 6;

/// The stage.
pub(in crate::climb) struct Settle;

impl StageRules for Settle {
    fn missing(&self, card: &CardDescription) -> Option<&'static str> {
        let can_lower = LOWERED.iter().any(|kind| card.offer(*kind).is_some());
        (!can_lower).then_some("fan, power limit or voltage")
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        if climb.is_over(Stage::Settle) {
            return None;
        }
        let walk = climb.settle_walk();
        let (settings, purpose, seconds, reason) = match walk.wants {
            Wants::Nothing => return None,
            Wants::Run(settings, reason) => {
                (settings, Purpose::Step, climb.plan.settle.seconds, reason)
            }
            Wants::Proof(settings, reason) => {
                (settings, Purpose::Confirm, climb.plan.settle.proof_seconds, reason)
            }
        };
        if let Some(stuck) = climb.stuck_in_vain(Stage::Settle) {
            return Some(stuck);
        }
        let measured = Seconds(seconds);
        Some(Next::Trial(Box::new(climb.proposal(
            Stage::Settle,
            purpose,
            settings,
            measured,
            reason,
        ))))
    }

    fn found(&self, climb: &Climb) -> Option<Settings> {
        if !climb.counts(Stage::Settle) {
            return None;
        }
        climb.settle_walk().proven
    }

    fn gives_score_up(&self) -> bool {
        true
    }

    fn long_run(&self, climb: &Climb) -> f64 {
        climb.plan.settle.proof_seconds
    }

    fn claim(&self, climb: &Climb, pair: Pair) -> Option<Claim> {
        let (stage, before) = climb.kept_until(Stage::Settle);
        let walk = climb.settle_walk();
        let claim = climb.claim_by(stage, climb.pair_of(&before))?;
        // As if the clocks were higher by what the heat takes from their edges.
        let hotter = walk.proven.map_or(0.0, |proven| climb.hotter_than_found(&proven, &before));
        let chance = climb.chance_when_hotter(pair, hotter).unwrap_or(claim.chance);
        Some(Claim { chance: chance.min(claim.chance), ..claim })
    }

    fn to_go(&self, climb: &Climb, done: f64) -> ToGo {
        ToGo { trials: (USUAL_TRIALS - done).max(1.0), seconds: climb.plan.settle.seconds }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        Some(NudgeBy::Setting(SettingKind::Fan))
    }
}

/// What a step down cost and gained.
#[derive(Debug, Clone, PartialEq)]
pub struct SettleStep {
    /// What was lowered.
    pub kind: SettingKind,
    /// From where.
    pub from: Shown,
    /// To where.
    pub to: Shown,
    /// Score that it lost, percent; of a frame cap, frame rate.
    pub lost_percent: f64,
    /// By how much quieter the fan is.
    pub quieter: Decibel,
    /// By how much cooler the core is, K; negative where it is hotter.
    pub cooler: f64,
    /// Power saved.
    pub saved: Watt,
    /// Whether it was kept; else it cost too much, or did not hold.
    pub kept: bool,
}

/// What settling comes to.
#[derive(Debug, Clone, PartialEq)]
pub struct SettleReport {
    /// What it began with.
    pub before: Settings,
    /// Every step that was measured, in order.
    pub steps: Vec<SettleStep>,
    /// Loss that is permitted, percent.
    pub permitted_percent: f64,
    /// What the kept steps lose together, with what goes back for the heat, percent.
    pub lost_percent: f64,
    /// By how much quieter the fan is than before.
    pub quieter: Decibel,
    /// By how much cooler the core is than before, K; negative where it is hotter.
    pub cooler: f64,
    /// Power saved against before.
    pub saved: Watt,
    /// By how much the clocks went back for the heat.
    pub clocks_back: Pair,
    /// What it keeps, once that is proven.
    pub settings: Option<Settings>,
}

/// What the walk wants next.
enum Wants {
    /// A step measured.
    Run(Settings, Reason),
    /// What it came to proven.
    Proof(Settings, Reason),
    /// Nothing more.
    Nothing,
}

/// How far it has come.
struct Walk {
    wants: Wants,
    /// What was proven.
    proven: Option<Settings>,
    report: SettleReport,
}

/// What the runs at some settings show.
#[derive(Debug, Clone, Copy)]
struct Measured {
    /// Average clock, MHz; or, under a frame cap, the frame rate.
    pace: f64,
    fan: Percent,
    core: Celsius,
    power: Watt,
}

impl Measured {
    /// What is gained from one to another, in decibels or what counts as much.
    fn relief_to(&self, other: &Self) -> f64 {
        let quieter = NoiseModel::quieter(self.fan, other.fan).value();
        let cooler = (self.core - other.core).value().max(0.0);
        let saved = (1.0 - other.power.value() / self.power.value().max(1.0)) * 100.0;
        quieter + (cooler + saved) / LIKE_A_DECIBEL
    }
}

/// How a step may fare.
enum Fate {
    /// It was not run yet.
    Open,
    /// It failed, or was not taken.
    Fails,
    /// It held.
    Holds(Measured),
}

/// One of the settings that go down.
#[derive(Debug, Clone, Copy)]
struct Lowering {
    kind: SettingKind,
    halvings: u32,
    /// What its last step gave for its loss; none before its first.
    worth: Option<f64>,
}

impl Climb {
    /// What settling comes to so far; none before its first trial.
    #[must_use]
    pub fn settle_report(&self) -> Option<SettleReport> {
        self.has_begun(Stage::Settle).then(|| self.settle_walk().report)
    }

    /// Goes through the steps that were run, to what is wanted next.
    fn settle_walk(&self) -> Walk {
        let base = self.settings_before(Stage::Settle);
        let permitted = self.plan.settle.loss_percent;
        let mut report = SettleReport {
            before: base,
            steps: Vec::new(),
            permitted_percent: permitted,
            lost_percent: 0.0,
            quieter: Decibel(0.0),
            cooler: 0.0,
            saved: Watt(0.0),
            clocks_back: Pair::default(),
            settings: None,
        };
        let before = match self.settle_fate(&base) {
            Fate::Holds(before) => before,
            Fate::Open => {
                let wants = Wants::Run(base, Reason::SettleFrom);
                return Walk { wants, proven: None, report };
            }
            // What does not hold as it was found is not lived with either.
            Fate::Fails => return Walk { wants: Wants::Nothing, proven: None, report },
        };
        let (mut at, mut now) = (base, before);
        let first = |kind: &SettingKind| Lowering { kind: *kind, halvings: 0, worth: None };
        let mut open: Vec<Lowering> = LOWERED.iter().map(first).collect();
        for _ in 0..MOST_STEPS {
            open.retain(|one| self.lowered(&at, one).is_some());
            // One step of each first, then that which gave most.
            let unknown = open.iter().position(|one| one.worth.is_none());
            let is_first = unknown.is_some();
            let best = (0..open.len()).max_by(|a, b| {
                let worth = |place: usize| open[place].worth.unwrap_or_default();
                worth(*a).total_cmp(&worth(*b))
            });
            let Some(place) = unknown.or(best) else { break };
            let lowering = open[place];
            let Some(lower) = self.lowered(&at, &lowering) else { break };
            let then = match self.settle_fate(&lower) {
                Fate::Holds(then) => then,
                Fate::Open if self.will_be_too_hot(&now, &lower) => {
                    match lowering.halvings < halvings(lowering.kind) {
                        true => open[place].halvings += 1,
                        false => drop(open.remove(place)),
                    }
                    continue;
                }
                Fate::Fails => {
                    open.remove(place);
                    continue;
                }
                Fate::Open => {
                    let reason = Reason::SettleStep {
                        what: lowering.kind,
                        from: at.show(lowering.kind),
                        to: lower.show(lowering.kind),
                        lost_percent: report.lost_percent,
                        permitted_percent: permitted,
                    };
                    return Walk { wants: Wants::Run(lower, reason), proven: None, report };
                }
            };
            let lost = self.settle_loss(&before, &then, &lower);
            let kept = lost * 100.0 <= permitted && !self.is_too_hot(then.core);
            let step = (lost * 100.0 - report.lost_percent) / 100.0;
            let worth = now.relief_to(&then) / step.max(LEAST_LOSS);
            open[place].worth = Some(worth);
            if is_first {
                continue;
            }
            report.steps.push(SettleStep {
                kind: lowering.kind,
                from: at.show(lowering.kind),
                to: lower.show(lowering.kind),
                lost_percent: step * 100.0,
                quieter: NoiseModel::quieter(now.fan, then.fan),
                cooler: (now.core - then.core).value(),
                saved: now.power - then.power,
                kept,
            });
            match kept {
                true => (at, now, report.lost_percent) = (lower, then, lost * 100.0),
                false if lowering.halvings < halvings(lowering.kind) => open[place].halvings += 1,
                false => drop(open.remove(place)),
            }
        }
        report.quieter = NoiseModel::quieter(before.fan, now.fan);
        (report.cooler, report.saved) =
            ((before.core - now.core).value(), before.power - now.power);
        report.clocks_back = self.clocks_back(&at, (now.core - before.core).value());
        self.settle_proof(&at, &now, report)
    }

    /// The last of it: the clocks back for the heat, the temperature target down to it, and all of it proven.
    fn settle_proof(&self, at: &Settings, now: &Measured, mut report: SettleReport) -> Walk {
        if report.steps.iter().all(|step| !step.kept) {
            return Walk { wants: Wants::Nothing, proven: None, report };
        }
        let mut settled = self.with_clocks_back(at, report.clocks_back);
        self.lower_target(&mut settled, now.core);
        let hotter = -report.cooler;
        for failures in 0..MOST_STEPS {
            let runs = self.runs_at(&settled);
            let failed = runs.iter().rev().find(|run| run.verdict().is_fault()).copied();
            let refused = self.in_vain_at(&settled) > self.plan.rules.retries as usize;
            match failed {
                _ if refused => return Walk { wants: Wants::Nothing, proven: None, report },
                Some(failed) => {
                    let steps = 1 << (failures as u32).min(MOST_DOUBLINGS);
                    let milder = self.milder(settled, hint(failed), steps);
                    let milder = Settings { fan: settled.fan, ..milder };
                    if milder == settled {
                        return Walk { wants: Wants::Nothing, proven: None, report };
                    }
                    settled = milder;
                }
                None if self.is_barred(&settled) => {
                    let steps = 1 << (failures as u32).min(MOST_DOUBLINGS);
                    settled = Settings { fan: settled.fan, ..self.milder(settled, None, steps) };
                }
                None => break,
            }
        }
        let long = self.plan.settle.proof_seconds;
        let is_proof = |run: &&TrialRecord| {
            run.verdict().meaning() == Meaning::Holds && run.seconds.value() >= long
        };
        if self.runs_at(&settled).iter().any(is_proof) {
            report.settings = Some(settled);
            return Walk { wants: Wants::Nothing, proven: Some(settled), report };
        }
        let reason = Reason::SettleProof {
            at: settled.moved_from_stock(&self.card).join(", "),
            hotter,
            length: Seconds(long),
        };
        Walk { wants: Wants::Proof(settled, reason), proven: None, report }
    }

    /// What runs at these settings show, under the load of the searches.
    fn settle_fate(&self, settings: &Settings) -> Fate {
        let runs: Vec<&TrialRecord> = self
            .runs_at(settings)
            .into_iter()
            .filter(|run| run.scene == self.plan.scene)
            .filter(|run| run.verdict().meaning() != Meaning::ProvesNothing)
            .collect();
        let refused = self.in_vain_at(settings) > self.plan.rules.retries as usize;
        if refused || self.is_barred(settings) || runs.iter().any(|run| run.verdict().is_fault()) {
            return Fate::Fails;
        }
        let capped = settings.frame_cap.is_some();
        let of = |value: &dyn Fn(&TrialRecord) -> Option<f64>| {
            mean(&runs.iter().filter_map(|run| value(run)).collect::<Vec<_>>())
        };
        let pace = of(&|run| match capped {
            true => run.seen.frame_rate,
            false => run.seen.effective_clock.or(run.seen.average_clock()).map(Mhz::value),
        });
        let heat =
            of(&|run| run.seen.plateau.or(run.seen.core_temperature_max).map(Celsius::value));
        let (fan, power) = (
            of(&|run| run.seen.fan.map(Percent::value)),
            of(&|run| run.seen.average_power.map(Watt::value)),
        );
        match pace.zip(heat) {
            Some((pace, heat)) => Fate::Holds(Measured {
                pace,
                core: Celsius(heat),
                // A card that does not tell its fan or its watts is not judged by them.
                fan: Percent(fan.unwrap_or(100.0)),
                power: Watt(power.unwrap_or_default()),
            }),
            None => Fate::Open,
        }
    }

    /// What is lost of the score at most, in shares: what the runs show of the clock, and what the clocks go back for the
    /// heat. Work follows the clock or falls behind it. Under a frame cap, what is lost of the frame rate.
    fn settle_loss(&self, before: &Measured, then: &Measured, at: &Settings) -> f64 {
        let slower = (1.0 - then.pace / before.pace.max(1e-9)).max(0.0);
        if at.frame_cap.is_some() {
            return slower;
        }
        let back = self.clocks_back(at, (then.core - before.core).value());
        let share =
            |domain| self.axis(domain).map_or(0.0, |axis| f64::from(back.get(domain)) / axis.clock);
        slower + share(Domain::Core) + SCORE_BY_MEMORY * share(Domain::Memory)
    }

    /// Whether a core is hotter than one wants to live with.
    fn is_too_hot(&self, core: Celsius) -> bool {
        let limits = &self.card.limits;
        let target = limits.temperature_target.unwrap_or(limits.stops_at() - Celsius(BELOW_TARGET));
        core > target - Celsius(BELOW_TARGET)
    }

    /// Whether runs so far foretell that a slower fan leaves the core too hot, by more than what is not known of it.
    fn will_be_too_hot(&self, from: &Measured, lower: &Settings) -> bool {
        let Some(Fan::Fixed(speed)) = lower.fan else { return false };
        let runs: Vec<HeatRun> = self.trials.iter().filter_map(TrialRecord::heat_run).collect();
        let Some(heat) = HeatModel::of(&runs, &self.card) else { return false };
        let room = Celsius(0.0);
        let (then, now) =
            (heat.plateau(from.power, speed, room), heat.plateau(from.power, from.fan, room));
        self.is_too_hot(from.core + Celsius(then.value - now.value - then.error))
    }

    /// The next lower value of one of the settings, with what goes with it; none where there is none.
    fn lowered(&self, at: &Settings, lowering: &Lowering) -> Option<Settings> {
        let plan = &self.plan.settle;
        let share = 1.0 / f64::from(1_u32 << lowering.halvings);
        let offer = self.card.offer(lowering.kind)?;
        let mut lower = *at;
        match lowering.kind {
            SettingKind::Fan => {
                // A fan that is not held at a speed is nobody's to lower here.
                let Some(Fan::Fixed(speed)) = at.fan else { return None };
                let slower = offer.bin(speed.value() - plan.fan_step_percent * share);
                lower.fan = Some(Fan::Fixed(Percent(slower)));
            }
            SettingKind::PowerLimit => {
                let held = at.get(lowering.kind).or(offer.stock)?;
                let step = plan.power_step_percent / 100.0 * offer.stock.unwrap_or(held) * share;
                lower.set(lowering.kind, Some(offer.bin(held - step)));
            }
            SettingKind::VoltageOffset => self.lower_voltage(&mut lower, share)?,
            _ => return None,
        }
        (lower.show(lowering.kind) != at.show(lowering.kind)).then_some(lower)
    }

    /// Less voltage, and as much less clock as the curve takes for it: no nearer to the edge. `None` where the clock has
    /// nothing to give.
    fn lower_voltage(&self, settings: &mut Settings, share: f64) -> Option<()> {
        let offer = self.card.offer(SettingKind::VoltageOffset)?;
        // Where a window bounds the clock, the card runs below its upper end as soon as power is short, and no step of
        // that keeps it from the edge.
        let axis = self.axis(Domain::Core).filter(|axis| axis.kind() == SettingKind::CoreOffset)?;
        let depth = Depth::from_stock(&self.card, 1, i32::MAX)?;
        let held = settings.get(SettingKind::VoltageOffset).or(offer.stock)?;
        let lower = offer.bin(held - self.plan.settle.voltage_step_mv * share);
        let per_mhz = depth.size() / axis.clock;
        let less = axis.bin_up((held - lower) / per_mhz);
        let clock = axis.read(settings) - less;
        if clock < MhzOffset::STOCK {
            return None;
        }
        settings.set(SettingKind::VoltageOffset, Some(lower));
        axis.write(settings, clock);
        Some(())
    }

    /// By how much the clocks must go back on a card that is hotter by so many K, to stay as far from their edges; what
    /// the search is so sure of that it holds all the same needs not. A clock that came back to stock goes below it where
    /// its edge is believed that near; one that was never raised stays there, since nothing is known of its edge.
    fn clocks_back(&self, at: &Settings, hotter: f64) -> Pair {
        let mut back = Pair::default();
        for domain in [Domain::Core, Domain::Memory] {
            let Some(axis) = self.axis(domain) else { continue };
            let held = axis.read(at);
            let lower_by = EDGE_BY_HEAT * axis.clock * hotter.max(0.0);
            let all = axis.bin_up(lower_by);
            let was_raised =
                self.trials.iter().any(|run| axis.read(&run.held()) > MhzOffset::STOCK);
            let less = match self.sure_of(domain).filter(|_| was_raised) {
                Some(sure) => axis.bin_up(f64::from(held) + lower_by - sure).min(all),
                None if held > MhzOffset::STOCK => all.min(held),
                None => MhzOffset::STOCK,
            };
            back.set(domain, less);
        }
        back
    }

    /// The highest value of a clock that the search is sure enough of, MHz from stock; none where something else than the
    /// clocks was searched for last, so that there is no such belief.
    fn sure_of(&self, domain: Domain) -> Option<f64> {
        let joint = self.joint().filter(|_| self.kept_until(Stage::Settle).0.is_none())?;
        let margin = self.plan.margin;
        Some(joint.get(domain).holds_to(margin.hours(), margin.faults(), margin.confidence()))
    }

    fn with_clocks_back(&self, at: &Settings, back: Pair) -> Settings {
        let mut settings = *at;
        for domain in [Domain::Core, Domain::Memory] {
            if let Some(axis) = self.axis(domain).filter(|_| back.get(domain) > MhzOffset::STOCK) {
                let clock = axis.read(&settings) - back.get(domain);
                axis.write(&mut settings, clock);
            }
        }
        settings
    }

    /// Brings the temperature target down to a little above the plateau: a card that becomes hotter than it ever did
    /// slows down.
    fn lower_target(&self, settings: &mut Settings, plateau: Celsius) {
        let kind = SettingKind::TemperatureTarget;
        let Some(offer) = self.card.offer(kind) else { return };
        let Some(held) = settings.get(kind).or(offer.stock) else { return };
        let lower = offer.bin((plateau.value() + ABOVE_PLATEAU).ceil());
        if lower < held {
            settings.set(kind, Some(lower));
        }
    }

    /// By how many K the core is hotter at some settings than at others, by their runs.
    fn hotter_than_found(&self, at: &Settings, before: &Settings) -> f64 {
        match (self.settle_fate(at), self.settle_fate(before)) {
            (Fate::Holds(at), Fate::Holds(before)) => (at.core - before.core).value(),
            _ => 0.0,
        }
    }

    /// Chance that a place on the map holds when the chip is hotter by so many K than the search found it; none where
    /// nothing is believed of both clocks.
    fn chance_when_hotter(&self, pair: Pair, hotter: f64) -> Option<f64> {
        self.kept_until(Stage::Settle).0.is_none().then_some(())?;
        let joint = self.joint()?;
        let hours = self.plan.margin.hours();
        let of = |domain: Domain| {
            let lower_by =
                self.axis(domain).map_or(0.0, |a| EDGE_BY_HEAT * a.clock) * hotter.max(0.0);
            joint.get(domain).chance_to_hold(f64::from(pair.get(domain)) + lower_by, hours)
        };
        Some(of(Domain::Core) * of(Domain::Memory))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::climb::ClimbEvent;
    use crate::climb::whole_climbs::card;
    use crate::fixtures::seen;
    use crate::judge::verdict::Verdict;
    use crate::measure::clock_line::ClockLine;
    use crate::measure::monitor::Seen;
    use crate::plan::Plan;
    use rstest::rstest;

    /// A card whose clock falls with its heat, and with less power; with a frame cap it draws what the cap takes.
    #[derive(Clone, Copy)]
    struct Warm {
        /// Core temperature at full fan, °C.
        cool: f64,
        /// Clock lost for each K.
        by_heat: f64,
        /// Highest core offset that holds, less a tenth of a MHz for each K above `cool`.
        edge: f64,
        /// Power limit below which the clock falls, W.
        needs: f64,
    }

    const WARM: Warm = Warm { cool: 60.0, by_heat: 1.0, edge: 130.0, needs: 200.0 };

    impl Warm {
        fn run(self, climb: &Climb, request: &crate::climb::TrialRequest) -> TrialRecord {
            let asked = request.asked;
            let Some(Fan::Fixed(fan)) = asked.fan else { panic!("{asked:?}") };
            let core = asked.core_offset.map_or(0.0, |offset| f64::from(offset.0));
            let limit = asked.power_limit.map_or(220.0, Watt::value);
            let heat = self.cool + (100.0 - fan.value()) * 0.3;
            let short = (self.needs - limit).max(0.0) * 2.0;
            let clock = 2_000.0 + core - self.by_heat * (heat - self.cool) - short;
            let fails = core > self.edge - 0.1 * (heat - self.cool);
            let verdict = if fails { Verdict::LoadDied } else { Verdict::Clean };
            let rate = asked.frame_cap.map_or(f64::INFINITY, f64::from).min(clock / 20.0);
            TrialRecord {
                taken: Some(asked),
                seen: Seen {
                    clock_line: Some(ClockLine { average: Mhz(clock), ..ClockLine::default() }),
                    effective_clock: Some(Mhz(clock)),
                    average_power: Some(Watt(limit.min(self.needs) * rate.min(100.0) / 100.0)),
                    plateau: Some(Celsius(heat)),
                    core_temperature_max: Some(Celsius(heat)),
                    fan: Some(fan),
                    frame_rate: Some(rate),
                    ..seen()
                },
                seconds: if fails { Seconds(30.0) } else { request.seconds },
                score: (!fails).then_some(clock / 2.0),
                ..request.judged(climb.trials().len() as u32 + 1, verdict, "so".into())
            }
        }

        /// A climb to its end.
        fn climb(self, plan: Plan) -> Climb {
            self.climb_of(plan, &[Stage::Baseline, Stage::Power, Stage::Core, Stage::Settle])
        }

        fn climb_of(self, plan: Plan, stages: &[Stage]) -> Climb {
            let mut climb = Climb::new(card(), plan, stages).unwrap();
            for _ in 0..150 {
                let Next::Trial(proposal) = climb.next() else { return climb };
                let record = self.run(&climb, &proposal.request);
                climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
            }
            panic!("not after 150 trials: {:?}", climb.next());
        }
    }

    fn kept_fan(climb: &Climb) -> f64 {
        match climb.outcome().settings.fan {
            Some(Fan::Fixed(speed)) => speed.value(),
            other => panic!("{other:?}"),
        }
    }

    #[rstest]
    #[case::a_little(0.9)]
    #[case::more(1.5)]
    fn no_more_is_lost_than_is_permitted_and_what_is_kept_was_proven(#[case] permitted: f64) {
        let mut plan = Plan::default();
        plan.settle.loss_percent = permitted;
        let climb = WARM.climb(plan.clone());
        let (report, outcome) = (climb.settle_report().unwrap(), climb.outcome());
        assert_eq!(outcome.stage, Some(Stage::Settle));
        assert_eq!(report.settings, Some(outcome.settings));
        assert!(report.lost_percent <= permitted && report.lost_percent > 0.0, "{report:?}");
        assert!(report.quieter.value() > 1.0 && kept_fan(&climb) < 100.0);
        assert!(outcome.confirmed, "a run of {} s proves it", plan.settle.proof_seconds);
        let proof = climb.trials().last().unwrap();
        assert_eq!((proof.purpose, proof.held()), (Purpose::Confirm, outcome.settings));
        assert!(proof.seconds.value() >= plan.settle.proof_seconds);
    }

    #[test]
    fn more_may_be_lost_for_more_silence() {
        let of = |permitted: f64| {
            let mut plan = Plan::default();
            plan.settle.loss_percent = permitted;
            kept_fan(&WARM.climb(plan))
        };
        assert!(of(2.0) < of(1.0) && of(1.0) < of(0.3), "{} {} {}", of(0.3), of(1.0), of(2.0));
    }

    #[test]
    fn power_that_the_card_does_not_need_is_given_up_for_nothing() {
        let climb = WARM.climb(Plan::default());
        let limit = climb.outcome().settings.power_limit.unwrap().value();
        assert!((195.0..220.0).contains(&limit), "{limit} W: it needs 200");
    }

    #[test]
    fn a_core_that_would_become_too_hot_ends_the_fan_s_way_down() {
        let hot = Warm { cool: 72.0, by_heat: 0.0, ..WARM };
        let climb = hot.climb(Plan::default());
        let hottest = climb.settle_report().unwrap().cooler;
        assert!(hot.cool - hottest <= 80.0, "the target at stock is 83 °C: {hottest} K");
        assert!(kept_fan(&climb) > 70.0);
    }

    #[test]
    fn a_clock_that_was_never_raised_stays_at_stock() {
        let mild = Warm { by_heat: 0.2, ..WARM };
        let climb = mild.climb_of(Plan::default(), &[Stage::Baseline, Stage::Settle]);
        let (report, outcome) = (climb.settle_report().unwrap(), climb.outcome());
        assert!(report.quieter.value() > 1.0 && kept_fan(&climb) < 100.0, "{report:?}");
        assert_eq!(report.clocks_back, Pair::default());
        assert_eq!(outcome.settings.core_offset, Settings::stock(&card()).core_offset);
    }

    #[test]
    fn clocks_go_back_for_the_heat_and_what_fails_all_the_same_goes_back_further() {
        let cool = WARM.climb(Plan::default());
        let back = cool.settle_report().unwrap().clocks_back.core;
        let found = cool.settle_report().unwrap().before.core_offset.unwrap();
        let kept = cool.outcome().settings.core_offset.unwrap();
        assert_eq!(kept, found - back);
        // Here heat costs hardly any clock, so the fan becomes slower.
        let fragile = Warm { by_heat: 0.2, ..WARM };
        let climb = fragile.climb(Plan::default());
        let outcome = climb.outcome();
        let fails = climb
            .trials()
            .iter()
            .any(|trial| trial.held() == outcome.settings && trial.verdict() == Verdict::LoadDied);
        assert!(!fails, "{outcome:?}");
    }

    #[test]
    fn under_a_frame_cap_the_rate_is_the_goal_and_the_least_power_that_sustains_it_is_kept() {
        let mut plan = Plan::default();
        plan.hold.frame_cap_fps = Some(60);
        let stages = [Stage::Baseline, Stage::Settle];
        let mut card = card();
        card.offers.push(crate::card::description::Offer {
            kind: SettingKind::FrameCap,
            reading: crate::card::description::Reading::Absolute,
            minimum: 5.0,
            maximum: 240.0,
            step: 1.0,
            stock: None,
            makers_maximum: None,
        });
        let mut climb = Climb::new(card, plan, &stages).unwrap();
        while let Next::Trial(proposal) = climb.next() {
            assert_eq!(proposal.request.asked.frame_cap, Some(60));
            let record = WARM.run(&climb, &proposal.request);
            climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        }
        let report = climb.settle_report().unwrap();
        assert_eq!(report.before.frame_cap, Some(60));
        assert!(report.saved.value() > 20.0 && report.lost_percent <= 1.0, "{report:?}");
    }

    #[test]
    fn a_stage_that_was_skipped_or_found_nothing_lower_leaves_what_was_found() {
        let mut plan = Plan::default();
        plan.settle.loss_percent = 0.0;
        let hot = Warm { cool: 81.0, needs: 400.0, ..WARM };
        let climb = hot.climb(plan);
        assert_ne!(climb.outcome().stage, Some(Stage::Settle));
        assert_eq!(kept_fan(&climb), 100.0);
    }
}
