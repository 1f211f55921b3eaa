//! The stages of a climb, a file each: what a stage requires of a card and of the stages before it,
//! what it proposes next, what it found, and what is left of it.
//!
//! | file | stages | how |
//! |---|---|---|
//! | `baseline` | baseline | runs at stock |
//! | `power` | power | the highest limits |
//! | `edge` | core, memory | the [search](crate::climb::search) along one clock |
//! | `together` | together | both clocks |
//! | `ladder` | ladder | the same search along both clocks in a fixed ratio |
//! | `max_clock` | max-clock, memory-voltage | the voltage up, the search along its clock, and the search down in voltage |
//! | `undervolt_clock`, `undervolt_quiet`, `balanced` | the same | the search down in voltage, which they share (`undervolt`) |
//! | `alternate` | alternate | a search along clock and voltage by turns |
//! | `window`, `timing`, `memory_for_core`, `air` | the same | a few settings in turn, the best is kept (`round`) |
//! | `settle` | settle | fan, power limit and voltage down as far as a permitted loss allows |
//! | `cross_check` | cross-check | what was found, under other loads |
//! | `own` | own, proof | the user's settings and soaks, beside every plan |
//!
//! A stage joins by its variant of [`Stage`](crate::climb::Stage), its file, and its line in [`Stage::rules`]; what
//! is missing, the compiler names. `order` holds what the user said of the stages.
//!
//! Everything is read off the trials made, so that a resumed climb, a trial marked by the user or one of
//! the user's own in between need no special care.

mod air;
mod alternate;
mod balanced;
pub(in crate::climb) mod baseline;
mod cross_check;
pub(in crate::climb) mod edge;
mod ladder;
mod max_clock;
mod memory_for_core;
pub(in crate::climb) mod order;
mod own;
pub(in crate::climb) mod power;
pub(in crate::climb) mod round;
pub(in crate::climb) mod rules;
pub(in crate::climb) mod settle;
#[cfg(test)]
pub(in crate::climb) mod tests;
mod timing;
pub(in crate::climb) mod together;
pub(in crate::climb) mod undervolt;
mod undervolt_clock;
mod undervolt_quiet;
mod window;

use crate::climb::Stage;
use crate::climb::stages::max_clock::MaxClock;
use crate::climb::stages::round::Rounds;
use crate::climb::stages::rules::StageRules;
use crate::climb::stages::undervolt::Undervolt;
use crate::load::artifact::Domain;

impl Stage {
    /// What the stage has to say.
    pub(in crate::climb) fn rules(self) -> &'static dyn StageRules {
        match self {
            Stage::Baseline => &baseline::BaselineRuns,
            Stage::Power => &power::Power,
            Stage::Core => &edge::Edge { stage: Stage::Core, domain: Domain::Core },
            Stage::Memory => &edge::Edge { stage: Stage::Memory, domain: Domain::Memory },
            Stage::Together => &together::Together,
            Stage::Ladder => &ladder::Ladder,
            Stage::MaxClock => &Undervolt {
                stage: Stage::MaxClock,
                by: &MaxClock { stage: Stage::MaxClock, domain: Domain::Core },
            },
            Stage::MemoryVoltage => &Undervolt {
                stage: Stage::MemoryVoltage,
                by: &MaxClock { stage: Stage::MemoryVoltage, domain: Domain::Memory },
            },
            Stage::UndervoltClock => {
                &Undervolt { stage: Stage::UndervoltClock, by: &undervolt_clock::UndervoltClock }
            }
            Stage::UndervoltQuiet => {
                &Undervolt { stage: Stage::UndervoltQuiet, by: &undervolt_quiet::UndervoltQuiet }
            }
            Stage::Balanced => &Undervolt { stage: Stage::Balanced, by: &balanced::Balanced },
            Stage::Alternate => &alternate::Alternate,
            Stage::Window => &Rounds { stage: Stage::Window, of: &window::Window },
            Stage::Timing => &Rounds { stage: Stage::Timing, of: &timing::Timing },
            Stage::MemoryForCore => {
                &Rounds { stage: Stage::MemoryForCore, of: &memory_for_core::MemoryForCore }
            }
            Stage::Air => &Rounds { stage: Stage::Air, of: &air::Air },
            Stage::Settle => &settle::Settle,
            Stage::CrossCheck => &cross_check::CrossCheck,
            Stage::Own | Stage::Proof => &own::Own,
        }
    }

    /// Whether a stage searches down in voltage.
    #[must_use]
    pub fn is_undervolting(self) -> bool {
        self.rules().strategy().is_some()
    }

    /// Whether a stage tries a few settings and keeps the best.
    #[must_use]
    pub fn is_round(self) -> bool {
        self.rules().round().is_some()
    }
}
