//! "I play, you watch": the user runs what they like, and says what was seen.

use yard_step_card::{Card, Work};
use yard_step_core::{CheckedFrame, Ending, Expected, Seconds};

use super::contract::{Load, ending_of};

/// A load that only the user sees.
pub struct ManualLoad;

impl ManualLoad {
    /// Its name in plans and in the ledger.
    pub const NAME: &'static str = "manual";
}

impl Load for ManualLoad {
    fn name(&self) -> &str {
        Self::NAME
    }

    fn expected(&self) -> Expected {
        Expected { load: None, frames_are_checked: false }
    }

    fn begin(&mut self, _: &dyn Card) -> Result<(), String> {
        Ok(())
    }

    fn work(
        &mut self,
        card: &mut dyn Card,
        span: Seconds,
        _: &mut Vec<CheckedFrame>,
    ) -> Result<(), Ending> {
        let ran = card.run(span, Work::Elsewhere);
        ran.map(drop).map_err(|lost| ending_of(lost, "hung"))
    }

    fn end(&mut self) {}

    fn is_manual(&self) -> bool {
        true
    }
}
