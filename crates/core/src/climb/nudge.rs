//! A nudge: the next trial a few steps away from what the plan proposes, on the scale of the stage.
//!
//! | stage | a step up |
//! |---|---|
//! | core, memory, together | a fine step of clock |
//! | ladder | a fine step of core clock, and the memory with it |
//! | power | a fiftieth of the stock power limit |
//! | the voltage stages | a fine step of millivolts |
//! | window | a fine step of the highest clock |
//! | timing | a level |
//! | memory for core | a fine step of memory clock |

use crate::card::description::{Offer, SettingKind};
use crate::card::settings::Settings;
use crate::climb::stages::rules::NudgeBy;
use crate::climb::{Climb, Domain, Next, Proposal, Purpose, Reason, Stage};
use crate::units::{MhzOffset, Seconds};

/// Share of the stock power limit that one step moves.
const POWER_SHARE: f64 = 0.02;

/// What the user wants tried instead of what was proposed.
#[derive(Debug, Clone, PartialEq)]
pub struct Nudge {
    /// Stage that learns from it.
    pub stage: Stage,
    /// Settings to be tried.
    pub settings: Settings,
    /// The value that was moved, as it is shown.
    pub shown: String,
}

impl Climb {
    /// What `steps` steps from what is now proposed (or from the outcome) would be, in the card's
    /// bins and inside its ranges. `None` before there is a baseline, or where the stage moves
    /// nothing by steps.
    #[must_use]
    pub fn nudged_by(&self, steps: i32) -> Option<Nudge> {
        self.baseline()?;
        let stage = self.stage();
        let proposed = match self.next() {
            Next::Trial(proposal) => Some(proposal.request.asked),
            Next::Ended(_) | Next::Stuck(_) => None,
        };
        match (stage.rules().nudge_by(), proposed) {
            (Some(NudgeBy::Setting(kind)), proposed) => {
                self.nudged_offer(stage, proposed?, kind, steps)
            }
            (Some(NudgeBy::Rungs), proposed) => self.nudged_rung(&proposed?, steps),
            (Some(NudgeBy::Turns), proposed) => self.nudged_turn(&proposed?, steps),
            (Some(NudgeBy::Depth), Some(proposed)) => self.nudged_depth(stage, proposed, steps),
            (Some(NudgeBy::Clock(domain)), proposed) => {
                self.nudged_clock(stage, domain, proposed, steps)
            }
            (Some(NudgeBy::Depth) | None, proposed) => {
                self.nudged_clock(stage, Domain::Core, proposed, steps)
            }
        }
    }

    /// A clock up or down, of `domain` where the card offers it.
    fn nudged_clock(
        &self,
        stage: Stage,
        domain: Domain,
        proposed: Option<Settings>,
        steps: i32,
    ) -> Option<Nudge> {
        if !self.stages.iter().any(|stage| stage.domain().is_some()) {
            return None;
        }
        let axis = self.axis(domain).or_else(|| self.axis(domain.other()))?;
        let mut settings = match (stage, proposed) {
            // The other one stays where the stage has it.
            (Stage::Together, Some(proposed)) => proposed,
            (Stage::Together, None) => self.settings_of(self.kept_together()),
            _ => self.powered_settings(),
        };
        let from = match self.next() {
            Next::Ended(outcome) => axis.read(&outcome.settings),
            Next::Stuck(_) => self.trials.last().map_or(MhzOffset::STOCK, |t| t.value_on(&axis)),
            Next::Trial(proposal) => axis.read(&proposal.request.asked),
        };
        let fine = axis.fine_step(&self.plan);
        let wanted = f64::from(from.0) + f64::from(fine.0) * f64::from(steps);
        let value = axis.bin(wanted);
        axis.write(&mut settings, value);
        let stage = match stage {
            Stage::Core | Stage::Memory | Stage::Together => stage,
            _ => Stage::Core,
        };
        Some(Nudge { stage, settings, shown: axis.show(value) })
    }

    /// Millivolts up or down: up is the safe side.
    fn nudged_depth(&self, stage: Stage, proposed: Settings, steps: i32) -> Option<Nudge> {
        let depth = self.depth_of(stage)?;
        let (at, top) = depth.read(&proposed)?;
        let wanted = at.saturating_sub(steps.saturating_mul(depth.step()));
        let wanted = wanted.clamp(0, depth.deepest());
        let top = depth.holds_clock().then_some(top);
        let settings = depth.write(&proposed, wanted, top);
        Some(Nudge { stage, settings, shown: depth.show(wanted) })
    }

    fn nudged_offer(
        &self,
        stage: Stage,
        proposed: Settings,
        kind: SettingKind,
        steps: i32,
    ) -> Option<Nudge> {
        let offer = self.card.offer(kind)?;
        let from = proposed.get(kind).or(offer.stock)?;
        let value = offer.bin(from + self.nudge_step(offer) * f64::from(steps));
        let mut settings = proposed;
        settings.set(kind, Some(value));
        Some(Nudge { stage, settings, shown: offer.show(value) })
    }

    /// The fine step of a domain, MHz; the offer's own step where the card has no such axis.
    fn fine_step_of(&self, domain: Domain, offer: &Offer) -> f64 {
        self.axis(domain).map_or(offer.step, |axis| axis.fine_step(&self.plan).into())
    }

    /// A step of an offer, in its own unit.
    fn nudge_step(&self, offer: &Offer) -> f64 {
        let wanted = match offer.kind {
            SettingKind::PowerLimit => offer.stock.unwrap_or(offer.maximum) * POWER_SHARE,
            SettingKind::ClockMaximum => self.fine_step_of(Domain::Core, offer),
            SettingKind::MemoryOffset => self.fine_step_of(Domain::Memory, offer),
            _ => offer.step,
        };
        (wanted / offer.step).round().max(1.0) * offer.step
    }

    /// A trial of the user's own: the stage goes on with what it tells.
    pub(in crate::climb) fn nudged_proposal(&self, nudge: &Nudge) -> Proposal {
        let reason = Reason::YourNudge { to: nudge.shown.clone() };
        let measured = Seconds(self.plan.core.seconds);
        self.proposal(nudge.stage, Purpose::Own, nudge.settings, measured, reason)
    }
}
