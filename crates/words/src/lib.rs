//! What the core knows of a climb, in sentences: the only place where these are written.
//!
//! ```text
//!   core ── Reason, Stuck, Risk, Outcome, Claim, Advice, reports ──► words ──► interface, report, errors
//! ```

mod advice;
mod air;
mod at_stock;
mod by_load;
mod ceiling;
mod compare;
mod culprits;
mod drift;
mod experience;
mod fault_places;
mod frontier;
mod outcome;
mod prerequisite;
mod proof;
mod reason;
mod reports;
mod risk;
mod settle;
mod sight;
mod soak;
mod start;
mod stock;
mod suggestion;
mod text;

pub use advice::{advice, stable_yet_slower};
pub use air::{drawn_curve, who_drives};
pub use at_stock::{at_stock, stay_at_stock};
pub use by_load::{by_load, gain};
pub use ceiling::{
    limit_bound, limit_changes, limit_field, limit_warnings, limits_in_force, limits_pending,
    needs_limits, what_is_opaque,
};
pub use compare::finding;
pub use culprits::culprits;
pub use drift::drift;
pub use experience::{expected_e_fold, expected_edge, learnt_from};
pub use fault_places::fault_places;
pub use frontier::{beside_stock, energy, frontier};
pub use outcome::{claim, conditions, kept_claim, margin_claim, no_claim, outcome, surprise};
pub use prerequisite::prerequisite;
pub use proof::{origin, proof};
pub use reason::{reason, stuck};
pub use reports::{power, round, strategy};
pub use risk::risk;
pub use settle::{kept_fan, settle_steps, settled};
pub use sight::sight;
pub use soak::{
    believed, check, check_due, percent, soak_begun, soak_fault, soaked, span_name, to_raise,
};
pub use start::starts;
pub use stock::{cure_in_short, stock};
pub use suggestion::suggestion;
