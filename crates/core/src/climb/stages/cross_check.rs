//! Cross-check: what the stages before it found, run under each of the other loads of the plan. Where one fails,
//! it is found out [which setting](crate::climb::culprits) it was; that goes back a step, the next time two, then four, and only
//! what has not held there yet runs again.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::climb::stages::rules::{NudgeBy, StageRules, ToGo};
use crate::climb::stages::together::hint;
use crate::climb::{Claim, Climb, Culprits, Next, Pair, Purpose, Reason, Stage, TrialRecord};
use crate::judge::verdict::Meaning;
use crate::load::artifact::Domain;
use crate::units::{MhzOffset, MillivoltOffset, Seconds};

/// Failures after which the steps back grow no more.
const MOST_DOUBLINGS: u32 = 6;
/// Share of its way to the factory's that a curve goes back by in a step.
const CURVE_STEP: f64 = 0.1;

/// The stage.
pub(in crate::climb) struct CrossCheck;

impl StageRules for CrossCheck {
    fn missing(&self, _card: &CardDescription) -> Option<&'static str> {
        None
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        if climb.is_over(Stage::CrossCheck) {
            return None;
        }
        let Checked { at, failed, asked } = climb.cross_checked()?;
        let load = climb.left_to_cross_check(&at).into_iter().next();
        if asked.is_none() && load.is_none() {
            return None;
        }
        if let Some(stuck) = climb.stuck_in_vain(Stage::CrossCheck) {
            return Some(stuck);
        }
        if let Some(asked) = asked {
            let proposal = climb.next_of_culprits(asked, Stage::CrossCheck)?;
            return Some(Next::Trial(Box::new(proposal)));
        }
        let load = load?;
        let length = Seconds(climb.plan.cross_check.seconds);
        let reason = Reason::CrossCheck {
            at: at.moved_but_fan(&climb.card).join(", "),
            load: load.to_owned(),
            length,
            after: failed.map(|trial| (trial.number, trial.scene.clone(), trial.verdict())),
        };
        let proposal = climb.proposal(Stage::CrossCheck, Purpose::Confirm, at, length, reason);
        Some(Next::Trial(Box::new(proposal.under(load))))
    }

    fn found(&self, climb: &Climb) -> Option<Settings> {
        let checked = climb.cross_checked()?;
        checked.failed.map(|_| checked.at)
    }

    fn is_confirmed(&self, climb: &Climb, _at_kept: &[&TrialRecord]) -> bool {
        // What it comes to is milder than what those before it confirmed.
        let (stage, settings) = climb.kept_until(Stage::CrossCheck);
        climb.is_confirmed_by(stage, &climb.clean_at(&settings))
    }

    fn claim(&self, climb: &Climb, pair: Pair) -> Option<Claim> {
        climb.claim_by(climb.kept_until(Stage::CrossCheck).0, pair)
    }

    fn to_go(&self, climb: &Climb, _done: f64) -> ToGo {
        let checked = climb.cross_checked();
        let left = checked.map(|checked| climb.left_to_cross_check(&checked.at).len());
        let loads = climb.plan.cross_check.loads.len();
        ToGo { trials: left.unwrap_or(loads) as f64, seconds: climb.plan.cross_check.seconds }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        None
    }
}

/// How far the cross-check has come.
struct Checked<'a> {
    /// The settings that stand so far.
    at: Settings,
    /// The newest run that failed.
    failed: Option<&'a TrialRecord>,
    /// The run that failed of which it is not known yet which setting it was.
    asked: Option<&'a TrialRecord>,
}

impl Climb {
    /// What the stages before came to, as far as the runs under the other loads let it stand; none where nothing was found,
    /// or where no load cross-checks.
    fn cross_checked(&self) -> Option<Checked<'_>> {
        let goes = self.stages.contains(&Stage::CrossCheck) && !self.is_skipped(Stage::CrossCheck);
        if !goes || self.plan.cross_check.loads.is_empty() {
            return None;
        }
        let mut at = self.kept_until(Stage::CrossCheck).1;
        let (mut failed, mut failures) = (None, 0);
        let runs = self.counted_of(Stage::CrossCheck);
        let runs = runs.filter(|trial| trial.purpose != Purpose::Isolate);
        for trial in runs.filter(|trial| trial.verdict().meaning() == Meaning::TooMuch) {
            let held = trial.held();
            if at != held && !at.is_at_least_as_bold_as(&held, &self.card) {
                continue;
            }
            let steps = 1 << failures.min(MOST_DOUBLINGS);
            (failed, failures) = (Some(trial), failures + 1);
            at = match hint(trial) {
                Some(domain) => self.milder(at, Some(domain), steps),
                None => {
                    let culprits = self.culprits_of(trial);
                    if culprits.next.is_some() {
                        return Some(Checked { at, failed, asked: Some(trial) });
                    }
                    self.milder_in(at, &culprits, steps)
                }
            };
        }
        while self.is_barred(&at) && self.goes_beyond_stock(&at) {
            at = self.milder(at, None, 1 << failures.min(MOST_DOUBLINGS));
            failures += 1;
        }
        self.goes_beyond_stock(&at).then_some(Checked { at, failed, asked: None })
    }

    /// Settings made milder in those that a failure hangs on.
    pub(in crate::climb) fn milder_in(
        &self,
        from: Settings,
        culprits: &Culprits,
        steps: i32,
    ) -> Settings {
        let is_only = |kind| culprits.found.iter().flatten().all(|found| *found == kind);
        let settings = if is_only(SettingKind::MemoryTiming) {
            self.put_back(from, &[SettingKind::MemoryTiming])
        } else if is_only(SettingKind::PowerLimit) {
            self.with_limits_at_stock(from)
        } else {
            from
        };
        match settings == from {
            true => self.milder(from, culprits.domain(), steps),
            false => settings,
        }
    }

    pub(in crate::climb) fn goes_beyond_stock(&self, settings: &Settings) -> bool {
        !settings.moved_but_fan(&self.card).is_empty()
    }

    /// The loads under which settings, or bolder ones, have not held yet, in their order.
    fn left_to_cross_check(&self, at: &Settings) -> Vec<&str> {
        let holds = |trial: &TrialRecord| {
            let held = trial.held();
            trial.verdict().meaning() == Meaning::Holds
                && trial.purpose != Purpose::Isolate
                && !trial.was_stopped()
                && (held == *at || held.is_at_least_as_bold_as(at, &self.card))
        };
        let loads = self.plan.cross_check.loads.iter().map(String::as_str);
        loads
            .filter(|load| {
                let mut runs = self.counted_of(Stage::CrossCheck);
                !runs.any(|trial| trial.scene == *load && holds(trial))
            })
            .collect()
    }

    /// Whether settings held under every load that cross-checks, or none does.
    pub(in crate::climb) fn is_cross_checked(&self, at: &Settings) -> bool {
        !self.stages.contains(&Stage::CrossCheck)
            || self.is_skipped(Stage::CrossCheck)
            || !self.goes_beyond_stock(at)
            || self.left_to_cross_check(at).is_empty()
    }

    /// Settings made milder by so many steps: in the clocks and voltages of a domain, or of both where nothing tells
    /// which of them failed. What has no step left goes to stock.
    pub(in crate::climb) fn milder(
        &self,
        from: Settings,
        domain: Option<Domain>,
        steps: i32,
    ) -> Settings {
        let mut settings = from;
        let domains = [Domain::Core, Domain::Memory].into_iter();
        for of in domains.filter(|of| domain.is_none_or(|domain| domain == *of)) {
            if let Some(axis) = self.axis(of) {
                let value = axis.read(&settings);
                if value > MhzOffset::STOCK {
                    let step = axis.fine_step(&self.plan).0.max(1) * steps;
                    axis.write(&mut settings, MhzOffset(value.0 - step).max(MhzOffset::STOCK));
                }
            }
            if of == Domain::Core {
                self.give_voltage_back(&mut settings, steps);
            } else if settings == from && settings.memory_timing.is_some_and(|level| level > 0) {
                settings.copy(SettingKind::MemoryTiming, &Settings::stock(&self.card));
            }
        }
        match (settings == from, domain) {
            (false, _) => settings,
            (true, Some(_)) => self.milder(from, None, steps),
            (true, None) => self.held_settings(),
        }
    }

    /// Settings made bolder by so many steps: in the clocks that are raised and the voltage that is lowered, as far as the card
    /// takes it. A curve stays as it is.
    pub(in crate::climb) fn bolder(&self, from: Settings, steps: i32) -> Settings {
        let mut settings = from;
        for domain in [Domain::Core, Domain::Memory] {
            let Some(axis) = self.axis(domain) else { continue };
            let value = axis.read(&settings);
            if value > MhzOffset::STOCK {
                let step = axis.fine_step(&self.plan).0.max(1) * steps;
                axis.write(&mut settings, MhzOffset(value.0 + step).min(axis.highest()));
            }
        }
        if let (Some(off), Some(offer)) =
            (settings.voltage_offset, self.card.offer(SettingKind::VoltageOffset))
            && off < MillivoltOffset::STOCK
        {
            let lower = f64::from(off.0 - self.plan.voltage.fine_step_mv * steps);
            settings.set(SettingKind::VoltageOffset, Some(offer.bin(lower.max(offer.minimum))));
        }
        settings
    }

    /// Gives the core so many steps of the voltage back that was taken off.
    fn give_voltage_back(&self, settings: &mut Settings, steps: i32) {
        if let Some(off) = settings.voltage_offset.filter(|off| *off < MillivoltOffset::STOCK) {
            let back = off.0 + self.plan.voltage.fine_step_mv * steps;
            let offer = self.card.offer(SettingKind::VoltageOffset);
            let back = offer.map_or(0.0, |offer| offer.bin(f64::from(back.min(0))));
            settings.set(SettingKind::VoltageOffset, Some(back));
        }
        if let (Some(curve), Some(offer)) = (settings.curve, self.card.curve) {
            let share = 1.0 - (CURVE_STEP * f64::from(steps)).min(1.0);
            settings.curve = offer.between(&curve, share);
        }
    }
}
