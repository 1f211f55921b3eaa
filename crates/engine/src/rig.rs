//! A card with all that is needed to work on it.

use yard_step_card::Card;

use crate::guard::Guard;
use crate::load::Loads;
use crate::lock::CardLock;

/// A card, the loads that can be run on it, the guard that holds the way back, and the lock that
/// keeps others off it.
pub struct Rig {
    /// The card.
    pub card: Box<dyn Card>,
    /// What can be run on it.
    pub loads: Loads,
    /// The process that puts it back when this one is gone; none for a card that goes with it.
    pub guard: Option<Guard>,
    /// Makes this process its only controller.
    pub lock: Option<CardLock>,
}

impl From<Box<dyn Card>> for Rig {
    /// A card in this process: it needs neither guard nor lock, and scenes run beside it.
    fn from(card: Box<dyn Card>) -> Self {
        Self { card, loads: Loads::default(), guard: None, lock: None }
    }
}

impl<C: Card + 'static> From<Box<C>> for Rig {
    fn from(card: Box<C>) -> Self {
        let card: Box<dyn Card> = card;
        card.into()
    }
}
