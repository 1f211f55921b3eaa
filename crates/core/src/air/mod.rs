//! Fans, heat and noise: how a fan is driven, how warm that leaves a card, how loud it is, and the quietest way between.
//!
//! ```text
//!   runs ──► heat   plateau by power, fan and room ──┐
//!                                                    ├──► budget ──► fan curve, and what it costs
//!   notes ─► noise  level by fan speed ──────────────┘
//! ```

pub(crate) mod budget;
pub(crate) mod fan;
pub(crate) mod heat;
pub(crate) mod noise;
pub(crate) mod notes;
pub(crate) mod sketch;
