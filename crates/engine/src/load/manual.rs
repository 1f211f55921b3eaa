//! "I play, you watch": the user runs what they like, and says what was seen. And everyday use, of which nobody says
//! anything.

use yard_step_card::{Card, Work};
use yard_step_core::{CheckedFrame, EVERYDAY, Ending, Expected, Percent, Seconds, Verdict};

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

    fn begin(&mut self, _: &mut dyn Card) -> Result<(), String> {
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

/// A card with less to do than this is idle.
const BUSY_FROM: Percent = Percent(20.0);

/// What the user's own programs do with a card all day.
#[derive(Default)]
pub(crate) struct EverydayLoad {
    is_busy: bool,
}

impl Load for EverydayLoad {
    fn name(&self) -> &str {
        EVERYDAY
    }

    fn expected(&self) -> Expected {
        ManualLoad.expected()
    }

    fn begin(&mut self, card: &mut dyn Card) -> Result<(), String> {
        ManualLoad.begin(card)
    }

    fn work(
        &mut self,
        card: &mut dyn Card,
        span: Seconds,
        checked: &mut Vec<CheckedFrame>,
    ) -> Result<(), Ending> {
        ManualLoad.work(card, span, checked)?;
        let load = card.sample().ok().and_then(|sample| sample.load);
        // A card that does not tell counts as busy: its hours are those of the program that was named.
        self.is_busy = load.is_none_or(|load| load.value() >= BUSY_FROM.value());
        Ok(())
    }

    fn end(&mut self) {}

    fn is_at_work(&self) -> bool {
        self.is_busy
    }

    fn how_told(&self, _: Verdict) -> String {
        "Everyday use without a fault for".into()
    }

    fn is_manual(&self) -> bool {
        true
    }
}
