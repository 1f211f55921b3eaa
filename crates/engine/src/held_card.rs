//! One card with what brings it back: its guard, its lock, and where it goes.
//!
//! When a held card is let go and is not back, its lock is released and its guard takes over, which
//! goes on trying; a guard is relieved only by a card that is back.

use tracing::{error, info, warn};
use yard_step_card::{Card, FanDriver, NotBack, restore};
use yard_step_core::{Fan, Settings};

use crate::error::EngineError;
use crate::guard::Guard;
use crate::load::Kin;
use crate::lock::CardLock;

/// One card with what brings it back: its guard, its lock, and where it goes.
pub(crate) struct HeldCard {
    card: Box<dyn Card>,
    guard: Option<Guard>,
    lock: Option<CardLock>,
    /// Its factory state, as it was copied at first sight.
    factory: Settings,
    /// Where it goes when nothing is tried on it; the factory state where that is none.
    kept: Option<Settings>,
    /// How its fan is driven in the factory state, where the user chose.
    chosen_fan: Option<Fan>,
    /// Whether it was let go.
    is_left: bool,
}

impl HeldCard {
    pub(crate) fn new(
        card: Box<dyn Card>,
        factory: Settings,
        (guard, lock): (Option<Guard>, Option<CardLock>),
    ) -> Self {
        let card = Box::new(FanDriver::new(card));
        Self { card, guard, lock, factory, kept: None, chosen_fan: None, is_left: false }
    }

    pub(crate) fn card(&self) -> &dyn Card {
        self.card.as_ref()
    }

    pub(crate) fn card_mut(&mut self) -> &mut dyn Card {
        self.card.as_mut()
    }

    /// Where it goes, where that is not its factory state.
    pub(crate) fn kept(&self) -> Option<Settings> {
        self.kept
    }

    pub(crate) fn way_back(&self) -> Settings {
        let chosen = Settings { fan: self.chosen_fan.or(self.factory.fan), ..self.factory };
        self.kept.unwrap_or(chosen)
    }

    /// Sets how its fan is driven as long as no settings are kept; [`set_kept`](Self::set_kept) tells the guard.
    pub(crate) fn set_chosen_fan(&mut self, fan: Option<Fan>) {
        self.chosen_fan = fan;
    }

    /// Sets where the card goes, brought inside its ranges, and tells its guard.
    pub(crate) fn set_kept(&mut self, kept: Option<&Settings>) {
        self.kept = kept.map(|kept| kept.clamped(self.card.description()).settings);
        let way_back = self.way_back();
        self.tell_way_back(&way_back);
        if let Some(lock) = &mut self.lock {
            lock.say_guarded();
        }
    }

    /// Tells the guard, and whoever holds the card by itself, where it goes.
    fn tell_way_back(&mut self, way_back: &Settings) {
        if let Some(guard) = &mut self.guard {
            guard.set_way_back(way_back);
        }
        // Whoever cannot be told is asked for the settings themselves, and says so then.
        if let Err(error) = self.card.hold_way_back(way_back) {
            warn!("the way back was not noted: {error}");
        }
    }

    /// Sees to it that its guard stands and knows the way back; tells if a new one had to be set.
    pub(crate) fn arm(&mut self) -> Result<Option<String>, EngineError> {
        let way_back = self.way_back();
        let told = match &mut self.guard {
            Some(guard) => guard.see_to_it().map_err(EngineError::NoGuard)?,
            None => None,
        };
        self.tell_way_back(&way_back);
        Ok(told)
    }

    /// Tells the guard which load runs on the card; none once it has ended.
    pub(crate) fn set_load(&mut self, load: Option<&Kin>) {
        if let Some(guard) = &mut self.guard {
            guard.set_load(load);
        }
    }

    pub(crate) fn lock(&self) -> Option<&CardLock> {
        self.lock.as_ref()
    }

    pub(crate) fn restore(&mut self, settings: &Settings) -> Result<(), NotBack> {
        let back = restore(self.card.as_mut(), settings);
        let card = self.card.description().key();
        match &back {
            Ok(()) => info!("{card} was put back, and read back as asked"),
            Err(not_back) => error!("{card} was not put back: {}", not_back.cause),
        }
        back
    }

    pub(crate) fn put_to_stock(&mut self) -> Result<(), NotBack> {
        let factory = self.factory;
        self.restore(&factory)
    }

    pub(crate) fn put_back(&mut self) -> Result<(), NotBack> {
        let way_back = self.way_back();
        self.restore(&way_back)
    }

    /// Puts the card back and lets it go. One that is not back is handed over: the lock goes first,
    /// so that the guard can take it, and the guard is not relieved.
    pub(crate) fn leave(&mut self) -> Result<(), NotBack> {
        if self.is_left {
            return Ok(());
        }
        self.is_left = true;
        // Nobody drives its fan from now on.
        let left = FanDriver::left_alone(&self.way_back(), self.card.description());
        let back = self.restore(&left);
        match &back {
            Ok(()) => {
                if let Some(guard) = self.guard.take() {
                    guard.relieve();
                }
                self.card.leave();
                self.lock = None;
            }
            Err(_) => {
                self.lock = None;
                if let Some(guard) = self.guard.take() {
                    guard.hand_over();
                }
            }
        }
        back
    }
}

impl Drop for HeldCard {
    fn drop(&mut self) {
        // What fails here is in the hands of the guard, whose log tells of it.
        let _ = self.leave();
    }
}
