//! The next move of somebody who tunes while the load runs: clock and voltage in turns.
//!
//! ```text
//!   the clock line is flat ──► a step more clock ──► it dips for want of power
//!            ▲                                                │
//!            └──────── the dip is gone ◄── 10 mV less ◄────────┘
//! ```

use crate::card::settings::Settings;
use crate::climb::search::depth::Depth;
use crate::climb::{Climb, TrialRecord};
use crate::load::artifact::Domain;
use crate::measure::limiter::Limiter;

/// Share of the loaded time held back by power from which on more clock brings nothing.
const HELD_BACK: f64 = 0.2;
/// The same of heat.
const TOO_WARM: f64 = 0.05;
/// Voltage taken off at a time, mV.
const LESS_MV: i32 = 10;

/// A move that would help now.
#[derive(Debug, Clone, PartialEq)]
pub struct Suggestion {
    /// What it is.
    pub kind: SuggestedMove,
    /// The settings it leads to.
    pub settings: Settings,
}

/// What a suggested move does, and why.
#[derive(Debug, Clone, PartialEq)]
pub enum SuggestedMove {
    /// Less voltage: power holds the clock back.
    LessVoltage {
        /// What it leads to, as it is shown.
        to: String,
        /// Share of the loaded time held back by power, 0 to 1.
        held_back: f64,
        /// Dips of the clock line.
        dips: usize,
    },
    /// More clock: nothing holds it back.
    MoreClock {
        /// What it leads to, as it is shown.
        to: String,
    },
}

impl Climb {
    /// The next move after what was seen in `trial`; none where heat comes first, where nothing is left to
    /// move, or where the move would be as bold as what took the machine down.
    #[must_use]
    pub fn suggestion(&self, trial: &TrialRecord) -> Option<Suggestion> {
        let seen = &trial.seen;
        seen.clock_line.as_ref()?;
        let held = trial.held();
        let dips = seen.clock_line.as_ref().map_or(0, |line| line.dips.len());
        let held_back = seen.limiter_share(Limiter::Power);
        if seen.limiter_share(Limiter::Heat) > TOO_WARM {
            return None;
        }
        let suggestion = if held_back > HELD_BACK {
            let (settings, to) = self.less_voltage(&held)?;
            Suggestion { kind: SuggestedMove::LessVoltage { to, held_back, dips }, settings }
        } else {
            let (settings, to) = self.more_clock(&held)?;
            Suggestion { kind: SuggestedMove::MoreClock { to }, settings }
        };
        (!self.is_barred(&suggestion.settings)).then_some(suggestion)
    }

    fn less_voltage(&self, held: &Settings) -> Option<(Settings, String)> {
        let voltage = &self.plan.voltage;
        let depth = Depth::from_stock(&self.card, voltage.fine_step_mv, voltage.most_off_mv)?;
        let (at, top) = depth.read(held)?;
        let wanted = (at + LESS_MV.max(depth.step())).min(depth.deepest());
        let top = depth.holds_clock().then_some(top);
        (wanted > at).then(|| (depth.write(held, wanted, top), depth.show(wanted)))
    }

    fn more_clock(&self, held: &Settings) -> Option<(Settings, String)> {
        let axis = self.axis(Domain::Core)?;
        let at = axis.read(held);
        let wanted = axis.bin(f64::from((at + axis.fine_step(&self.plan)).0));
        let mut settings = *held;
        axis.write(&mut settings, wanted);
        (wanted > at).then(|| (settings, axis.show(wanted)))
    }
}
