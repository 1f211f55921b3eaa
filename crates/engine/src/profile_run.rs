//! A card put to a profile for as long as a program runs, and back when that ends.

use yard_step_card::{LoadLost, Work};
use yard_step_core::{Celsius, Profile, Seconds};
use yard_step_ledger::Ledger;

use crate::apply::apply_whole;
use crate::error::EngineError;
use crate::first_sight::first_sight;
use crate::held_card::HeldCard;
use crate::profiles::{at_start, needs_no_limits, needs_no_yes};
use crate::rig::Rig;

/// Why a card must not stay at a profile any longer.
#[derive(Debug, Clone, PartialEq)]
pub enum Harm {
    /// The card reached the temperature at which a load is stopped.
    Ceiling(Celsius),
    /// The card dropped what ran on it.
    Lost(LoadLost),
}

/// A card that holds a profile while a program runs. When it is dropped, however that comes about, the card
/// is put back to the profile in use, or to stock.
pub struct ProfileRun {
    held: HeldCard,
}

impl ProfileRun {
    /// Puts a card to a profile. Its guard knows the way back before.
    ///
    /// # Errors
    /// The profile is as bold as what took the machine down and `yes` is not said, there is no guard, the
    /// card does not take it, or the ledger fails.
    pub fn begin(
        rig: Rig,
        ledger: &Ledger,
        profile: &Profile,
        yes: bool,
    ) -> Result<Self, EngineError> {
        let Rig { mut card, guard, lock, .. } = rig;
        let (_, factory) = first_sight(ledger, card.as_mut())?;
        let description = card.description().clone();
        needs_no_limits(&description, profile)?;
        needs_no_yes(ledger, &description, &profile.settings, yes)?;
        let (kept, _) = at_start(ledger, &description)?;
        let mut held = HeldCard::new(card, factory, (guard, lock));
        held.set_kept(kept.as_ref());
        held.arm()?;
        let settings = profile.settings.clamped(&description).settings;
        let applied = apply_whole(held.card_mut(), &settings);
        if let Some(error) = applied.failed {
            return Err(EngineError::ProfileNotTaken(error.to_string()));
        }
        if applied.is_refused() {
            return Err(EngineError::ProfileNotTaken(applied.told.join(" ")));
        }
        Ok(Self { held })
    }

    /// Lets time pass while the program uses the card; why the card must go back, if it must.
    ///
    /// # Errors
    /// There is no guard any more, and none can be started.
    pub fn pass(&mut self, span: Seconds) -> Result<Option<Harm>, EngineError> {
        if let Err(lost) = self.held.card_mut().run(span, Work::Elsewhere) {
            return Ok(Some(Harm::Lost(lost)));
        }
        self.held.arm()?;
        let ceiling = self.held.card().description().limits.stops_at();
        let temperature = self.held.card_mut().sample().ok().and_then(|now| now.chip_temperature());
        Ok(temperature.filter(|now| *now >= ceiling).map(Harm::Ceiling))
    }

    /// Puts the card back; a guard goes on trying where that fails.
    ///
    /// # Errors
    /// The card was not seen to be back.
    pub fn end(mut self) -> Result<(), EngineError> {
        Ok(self.held.leave()?)
    }
}
