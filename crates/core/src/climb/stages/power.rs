//! The power stage: the power limit, and the temperature target where there is one, go to their highest.
//! What the raised limits alone bring is measured.

use crate::card::description::{CardDescription, Offer, SettingKind};
use crate::card::settings::Settings;
use crate::ceiling::reach::makers_maximum;
use crate::climb::search::score::{Gain, decide, scatter};
use crate::climb::stages::rules::{NudgeBy, StageRules, ToGo};
use crate::climb::{Climb, Next, Purpose, Reason, Risk, Stage, TrialRecord};
use crate::judge::verdict::{Meaning, Verdict};
use crate::statistics::mean;
use crate::units::{Celsius, Mhz, Percent, Seconds, Watt};

/// What more power alone brought. Differences are of the means of the runs, raised less baseline.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PowerReport {
    /// Board power limit at stock and raised.
    pub limit: Option<(Watt, Watt)>,
    /// Temperature target at stock and raised.
    pub target: Option<(Celsius, Celsius)>,
    /// Gain of score.
    pub gain_percent: f64,
    /// Whether that gain is clear of the noise.
    pub gain: Gain,
    /// By how much the average clock rose.
    pub clock: Mhz,
    /// By how much the clock line became flatter.
    pub flatness: Percent,
    /// By how much more power is drawn on average.
    pub power: Option<Watt>,
    /// By how much hotter the hot spot becomes.
    pub hotter: Option<Celsius>,
}

/// The offers that the stage raises.
pub(in crate::climb) const RAISED: [SettingKind; 2] =
    [SettingKind::PowerLimit, SettingKind::TemperatureTarget];

/// Step between two power limits beyond the maker's, as a share of the maker's highest.
const RUNG: f64 = 0.04;
/// Most of them.
const MOST_RUNGS: usize = 16;

/// The stage.
pub(in crate::climb) struct Power;

impl StageRules for Power {
    fn missing(&self, card: &CardDescription) -> Option<&'static str> {
        let mut offers = RAISED.iter().filter_map(|kind| card.offer(*kind));
        let can_raise = offers.any(|offer| raised(offer, offer.maximum, 1.0).is_some());
        (!can_raise).then_some("power limit above stock")
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        climb.next_of_power()
    }

    fn to_go(&self, climb: &Climb, _done: f64) -> ToGo {
        let wanted = f64::from(climb.plan.power.runs);
        let left = |load| (wanted - climb.power_runs(load).len() as f64).max(0.0);
        let rungs = climb.rungs_to_try().len() as f64;
        let trials = rungs + climb.power_loads().into_iter().map(left).sum::<f64>();
        ToGo { trials, seconds: climb.plan.power.seconds }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        Some(NudgeBy::Setting(SettingKind::PowerLimit))
    }
}

impl Climb {
    /// Which share of the way from stock to the highest limit is tried now, from 1 down.
    fn power_share(&self) -> f64 {
        let failed = self.power_shares_that_failed();
        if failed > self.plan.power.halvings { 0.0 } else { 0.5_f64.powi(failed as i32) }
    }

    fn power_shares_that_failed(&self) -> u32 {
        let mut failed = 0;
        while failed <= self.plan.power.halvings {
            let settings = self.raised_settings(0.5_f64.powi(failed as i32));
            let fails = |trial: &TrialRecord| {
                trial.verdict().meaning() == Meaning::TooMuch
                    && RAISED.iter().all(|kind| trial.asked.get(*kind) == settings.get(*kind))
            };
            if !self.trials_of(Stage::Power).any(fails) && !self.is_barred(&settings) {
                break;
            }
            failed += 1;
        }
        failed
    }

    fn raised_settings(&self, share: f64) -> Settings {
        self.with_limits(|offer| raised(offer, self.highest_to_try(offer), share))
    }

    /// Stock, with what is held, and with what is wanted of every limit that the power stage raises.
    fn with_limits(&self, wanted: impl Fn(&Offer) -> Option<f64>) -> Settings {
        let mut settings = self.held_settings();
        for kind in RAISED {
            let value = self.card.offer(kind).and_then(&wanted);
            if value.is_some() {
                settings.set(kind, value);
            }
        }
        settings
    }

    /// Power limits from the maker's highest on, where the limits in force reach beyond it: each is run once, before the next.
    fn rungs_beyond_makers(&self) -> Vec<f64> {
        let kind = SettingKind::PowerLimit;
        let (Some(makers), Some(offer)) = (makers_maximum(&self.card, kind), self.card.offer(kind))
        else {
            return Vec::new();
        };
        let rung = |number: usize| offer.bin(makers * (1.0 + RUNG * number as f64));
        let below = |rung: &f64| *rung < offer.maximum - offer.step / 2.0;
        (0..MOST_RUNGS).map(rung).take_while(below).collect()
    }

    /// The settings of a rung.
    fn at_rung(&self, rung: f64) -> Settings {
        self.with_limits(|offer| match offer.kind {
            SettingKind::PowerLimit => Some(rung),
            _ => raised(offer, offer.maximum, 1.0),
        })
    }

    /// What became of a rung: whether it held; none before it was run.
    fn rung_held(&self, rung: f64) -> Option<bool> {
        let settings = self.at_rung(rung);
        if self.is_barred(&settings) {
            return Some(false);
        }
        let at =
            |trial: &&TrialRecord| RAISED.iter().all(|k| trial.asked.get(*k) == settings.get(*k));
        let verdicts = self.trials_of(Stage::Power).filter(at).map(TrialRecord::verdict);
        let meanings: Vec<Meaning> = verdicts.map(Verdict::meaning).collect();
        match meanings.contains(&Meaning::TooMuch) {
            true => Some(false),
            false => meanings.contains(&Meaning::Holds).then_some(true),
        }
    }

    /// Rungs that are still to be run, the lowest first; none once one has failed.
    fn rungs_to_try(&self) -> Vec<f64> {
        let mut rungs = self.rungs_beyond_makers();
        if rungs.iter().any(|rung| self.rung_held(*rung) == Some(false)) {
            return Vec::new();
        }
        rungs.retain(|rung| self.rung_held(*rung).is_none());
        rungs
    }

    /// The highest value of an offer that is tried: the rung below the first that failed, where one has.
    fn highest_to_try(&self, offer: &Offer) -> f64 {
        if offer.kind != SettingKind::PowerLimit {
            return offer.maximum;
        }
        let rungs = self.rungs_beyond_makers();
        match rungs.iter().position(|rung| self.rung_held(*rung) == Some(false)) {
            None => offer.maximum,
            Some(failed) => rungs[failed.saturating_sub(1)],
        }
    }

    /// Stock, with what is held, and with every limit the power stage raises at its highest.
    #[must_use]
    pub fn raised_to_the_top(&self) -> Settings {
        self.raised_settings(1.0)
    }

    /// The loads under which the raised limits are run: that which decides whether they stay, and that of the
    /// searches, whose trials are compared with it.
    fn power_loads(&self) -> Vec<&str> {
        let mut loads = vec![self.plan.full_load(), self.plan.scene.as_str()];
        loads.dedup();
        loads
    }

    /// Clean runs under a load at the limit that is kept or tried.
    pub(in crate::climb) fn power_runs(&self, load: &str) -> Vec<&TrialRecord> {
        let settings = self.raised_settings(self.power_share());
        self.trials_of(Stage::Power)
            .filter(|trial| trial.scene == load)
            .filter(|trial| trial.verdict() == Verdict::Clean && self.figure(trial).is_some())
            .filter(|trial| RAISED.iter().all(|k| trial.asked.get(*k) == settings.get(*k)))
            .collect()
    }

    /// Stock, with what is held, and with the power the card has been given.
    #[must_use]
    pub fn powered_settings(&self) -> Settings {
        *self.known.powered.get_or_init(|| {
            if self.is_power_raised() {
                self.raised_settings(self.power_share())
            } else {
                self.held_settings()
            }
        })
    }

    /// Whether the raised limit stays: it held, and it was not proven to bring less.
    fn is_power_raised(&self) -> bool {
        self.stages.contains(&Stage::Power)
            && !self.is_skipped(Stage::Power)
            && self.power_share() > 0.0
            && self.power_gain(self.plan.full_load()).is_some_and(|(gain, _)| gain > -0.005)
    }

    /// Why settings may be too much for the power supply: they ask for more than the stock limit, and
    /// nothing with as much has run in this climb.
    pub fn supply_risk_of(&self, asked: &Settings) -> Option<Risk> {
        let headroom = self.supply?;
        let offer = self.card.offer(SettingKind::PowerLimit)?;
        let limit = asked.get(offer.kind).filter(|limit| *limit > offer.stock.unwrap_or(0.0))?;
        let mut ran = self.trials.iter().filter(|trial| trial.seen.load.is_some());
        let is_known = ran.any(|trial| {
            trial.verdict() != Verdict::MachineDown
                && trial.held().get(offer.kind).is_some_and(|held| held >= limit)
        });
        (!is_known).then(|| Risk::Supply { limit: offer.show(limit), headroom })
    }

    /// Gain of the raised limit under a load, in shares of the score, and its standard error.
    pub(in crate::climb) fn power_gain(&self, load: &str) -> Option<(f64, f64)> {
        self.has_baseline(load).then_some(())?;
        let of = |runs: &[&TrialRecord]| -> Vec<f64> {
            runs.iter().filter_map(|run| self.figure(run)).collect()
        };
        let scores = of(&self.power_runs(load));
        let base = of(&self.counted_baseline_runs(load).collect::<Vec<_>>());
        let gain = mean(&scores)? / mean(&base)?.max(1e-9) - 1.0;
        let runs = 1.0 / scores.len() as f64 + 1.0 / base.len() as f64;
        Some((gain, scatter(&base) * runs.sqrt()))
    }

    /// What more power alone brought, once a run at the raised limit counts.
    #[must_use]
    pub fn power_report(&self) -> Option<PowerReport> {
        let load = self.plan.full_load();
        let runs = self.power_runs(load);
        let baseline = self.baseline_under(load)?;
        let before: Vec<&TrialRecord> = self.counted_baseline_runs(load).collect();
        let (gain, error) = self.power_gain(load)?;
        let rules = &self.plan.score;
        let of = |runs: &[&TrialRecord], read: fn(&TrialRecord) -> Option<f64>| {
            mean(&runs.iter().filter_map(|run| read(run)).collect::<Vec<_>>())
        };
        let apart =
            |read: fn(&TrialRecord) -> Option<f64>| Some(of(&runs, read)? - of(&before, read)?);
        let settings = self.raised_settings(self.power_share());
        let limits = |kind| {
            let offer = self.card.offer(kind)?;
            let (stock, now) = (offer.stock?, settings.get(kind)?);
            (now > stock).then_some((stock, now))
        };
        Some(PowerReport {
            limit: limits(SettingKind::PowerLimit).map(|(a, b)| (Watt(a), Watt(b))),
            target: limits(SettingKind::TemperatureTarget).map(|(a, b)| (Celsius(a), Celsius(b))),
            gain_percent: gain * 100.0,
            gain: decide(
                gain,
                error,
                rules.least_gain_percent / 100.0,
                rules.false_alarm_percent / 100.0,
            ),
            clock: Mhz(of(&runs, |r| r.seen.average_clock().map(Mhz::value)).unwrap_or_default()
                - baseline.average_clock.value()),
            flatness: Percent(
                apart(|r| r.seen.clock_line.as_ref().map(|line| line.flatness.value()))
                    .unwrap_or_default(),
            ),
            power: apart(|r| r.seen.average_power.map(Watt::value)).map(Watt),
            hotter: apart(|r| r.seen.hot_spot_max.map(Celsius::value)).map(Celsius),
        })
    }

    /// A run at a power limit beyond the maker's, or at the maker's own before it.
    fn next_rung(&self, rung: f64) -> Option<Next> {
        let offer = self.card.offer(SettingKind::PowerLimit)?;
        let reason = Reason::BeyondMakers {
            limit: offer.show(rung),
            makers: offer.show(makers_maximum(&self.card, offer.kind)?),
            highest: offer.show(offer.maximum),
        };
        let measured = Seconds(self.plan.power.seconds);
        let asked = self.at_rung(rung);
        let proposal = self.proposal(Stage::Power, Purpose::Step, asked, measured, reason);
        Some(Next::Trial(Box::new(proposal.under(self.plan.full_load()))))
    }

    /// What the power stage wants next; `None` when it is over.
    fn next_of_power(&self) -> Option<Next> {
        if self.is_over(Stage::Power) || Power.missing(&self.card).is_some() {
            return None;
        }
        let share = self.power_share();
        let wanted = self.plan.power.runs as usize;
        let mut loads = self.power_loads().into_iter();
        let load = loads.find(|load| self.power_runs(load).len() < wanted);
        let load = load.filter(|_| share > 0.0)?;
        if let Some(stuck) = self.stuck_in_vain(Stage::Power) {
            return Some(stuck);
        }
        if let Some(stuck) = self.stuck_without_score(Stage::Power, load, self.plan.power.seconds) {
            return Some(stuck);
        }
        if let Some(rung) = self.rungs_to_try().first().copied().filter(|_| share >= 1.0) {
            return self.next_rung(rung);
        }
        let asked = self.raised_settings(share);
        let limits: Vec<String> = RAISED
            .into_iter()
            .filter(|kind| asked.get(*kind) != self.held_settings().get(*kind))
            .filter_map(|kind| {
                let offer = self.card.offer(kind)?;
                Some(format!("{} {}", kind.label(), offer.show(asked.get(kind)?)))
            })
            .collect();
        let reason = Reason::LimitsRaised {
            limits,
            done: self.power_runs(load).len(),
            runs: self.plan.power.runs,
            is_halved: share < 1.0,
            load: self.plan.has_many_loads().then(|| load.to_owned()),
        };
        let measured = Seconds(self.plan.power.seconds);
        let proposal = self.proposal(Stage::Power, Purpose::Step, asked, measured, reason);
        Some(Next::Trial(Box::new(proposal.under(load))))
    }
}

/// A limit some share of the way from stock to the highest; none where it cannot go up.
fn raised(offer: &Offer, highest: f64, share: f64) -> Option<f64> {
    let stock = offer.stock?;
    (highest > stock).then(|| offer.bin(stock + (highest - stock) * share))
}
