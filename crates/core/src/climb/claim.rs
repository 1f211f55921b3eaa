//! What is claimed of settings.

use crate::plan::Margin;
use crate::units::{MhzOffset, MillivoltOffset, Seconds};

/// What is claimed of settings: how likely they stand a span of time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Claim {
    /// What they are kept for.
    pub margin: Margin,
    /// The span.
    pub span: Seconds,
    /// Chance that no fault comes in it, 0 to 1, all that is believed of the edges weighed.
    pub chance: f64,
    /// By how much the core stays below the middle of where its edge is believed.
    pub below_core: MhzOffset,
    /// By how much the memory stays below the middle of where its edge is believed.
    pub below_memory: MhzOffset,
    /// By how much the voltage stays above the middle of where its edge is believed.
    pub below_depth: MillivoltOffset,
}
