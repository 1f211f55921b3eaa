//! The cards of one machine, and how another of them is taken up.

use std::sync::Arc;

use yard_step_core::CardDescription;

use crate::engine::Engine;
use crate::error::EngineError;
use crate::rig::Rig;
use crate::view::RackCard;

/// Opens the cards of a rack.
pub trait Opener: Send {
    /// The climb on a card: its unfinished one, or a new one; with what there is to say about it.
    ///
    /// # Errors
    /// Card or ledger cannot be opened, or no climb can be laid out on it.
    fn climb(&mut self, card: &CardDescription) -> Result<(Engine, Vec<String>), EngineError>;

    /// The bare card, to be held in step.
    ///
    /// # Errors
    /// It cannot be opened.
    fn card(&mut self, card: &CardDescription) -> Result<Rig, EngineError>;
}

/// The cards of one machine.
pub struct Rack {
    cards: Vec<Arc<CardDescription>>,
    present: usize,
    opener: Box<dyn Opener>,
}

impl Rack {
    /// A rack of `cards`, of which `present` is climbed on.
    #[must_use]
    pub fn new(cards: Vec<CardDescription>, present: usize, opener: Box<dyn Opener>) -> Self {
        Self { cards: cards.into_iter().map(Arc::new).collect(), present, opener }
    }

    pub(crate) fn cards(&self) -> Vec<&CardDescription> {
        self.cards.iter().map(Arc::as_ref).collect()
    }

    pub(crate) fn present(&self) -> usize {
        self.present
    }

    pub(crate) fn view(&self, in_step: &[String]) -> Vec<RackCard> {
        let shown = |card: &Arc<CardDescription>| RackCard {
            card: Arc::clone(card),
            in_step: in_step.contains(&card.key()),
        };
        self.cards.iter().map(shown).collect()
    }

    /// Takes another card up.
    pub(crate) fn choose(&mut self, index: usize) -> Result<(Engine, Vec<String>), EngineError> {
        let opened = self.opener.climb(self.named(index)?.as_ref())?;
        self.present = index;
        Ok(opened)
    }

    pub(crate) fn bare(&mut self, index: usize) -> Result<Rig, EngineError> {
        let card = self.named(index)?;
        self.opener.card(&card)
    }

    pub(crate) fn named(&self, index: usize) -> Result<Arc<CardDescription>, EngineError> {
        let found = self.cards.get(index).cloned();
        found.ok_or_else(|| EngineError::Rack(format!("There is no card {}.", index + 1)))
    }
}
