//! The card keeper: the cards an engine works on, and the way back for each of them.
//!
//! ```text
//!   CardKeeper ──┬── HeldCard              the card climbed on: card, guard, lock, factory, way back
//!                └── InStep ── HeldCard    a card held in step, the same
//! ```

use std::fmt;

use yard_step_card::{Card, NotBack};
use yard_step_core::{Fan, Seconds, Settings};

use crate::error::EngineError;
use crate::held_card::HeldCard;
use crate::in_step::InStep;
use crate::load::Kin;
use crate::lock::CardLock;

/// The card climbed on and the cards held in step with it.
pub(crate) struct CardKeeper {
    own: HeldCard,
    in_step: Vec<InStep>,
}

impl CardKeeper {
    pub(crate) fn new(own: HeldCard) -> Self {
        Self { own, in_step: Vec::new() }
    }

    pub(crate) fn card(&self) -> &dyn Card {
        self.own.card()
    }

    pub(crate) fn card_mut(&mut self) -> &mut dyn Card {
        self.own.card_mut()
    }

    /// The lock of the card climbed on; none for a card that lives in this process.
    pub(crate) fn lock(&self) -> Option<&CardLock> {
        self.own.lock()
    }

    pub(crate) fn in_step(&self) -> &[InStep] {
        &self.in_step
    }

    pub(crate) fn in_step_mut(&mut self) -> &mut [InStep] {
        &mut self.in_step
    }

    /// Takes another card into step, put to where this one goes.
    pub(crate) fn add_in_step(&mut self, mut other: InStep) -> Result<(), NotBack> {
        other.held_mut().set_kept(self.own.kept().as_ref());
        other.held_mut().put_back()?;
        self.in_step.push(other);
        Ok(())
    }

    /// Takes a card out of step; `None` where there is none of that key.
    pub(crate) fn take_out_of_step(&mut self, key: &str) -> Option<InStep> {
        let of_key = |one: &InStep| one.held().card().description().key() == key;
        let place = self.in_step.iter().position(of_key)?;
        Some(self.in_step.remove(place))
    }

    /// Where the card climbed on goes when nothing is tried on it.
    pub(crate) fn way_back(&self) -> Settings {
        self.own.way_back()
    }

    /// The settings the cards go back to, where those are not the factory's.
    pub(crate) fn kept(&self) -> Option<Settings> {
        self.own.kept()
    }

    /// Sets where all cards go when nothing is tried on them; the factory state for none.
    pub(crate) fn set_kept(&mut self, kept: Option<Settings>) {
        self.own.set_kept(kept.as_ref());
        self.in_step.iter_mut().for_each(|other| other.held_mut().set_kept(kept.as_ref()));
    }

    /// Sets how the fan of the card climbed on is driven as long as no settings are kept.
    pub(crate) fn set_chosen_fan(&mut self, fan: Option<Fan>) {
        self.own.set_chosen_fan(fan);
        self.own.set_kept(self.own.kept().as_ref());
    }

    /// Sees to it that somebody would put each card back; tells if a new guard had to be set.
    pub(crate) fn arm(&mut self) -> Result<Option<String>, EngineError> {
        for other in &mut self.in_step {
            other.held_mut().arm()?;
        }
        self.own.arm()
    }

    /// Tells the guard which load runs on the card climbed on.
    pub(crate) fn set_load(&mut self, load: Option<&Kin>) {
        self.own.set_load(load);
    }

    /// Puts every card to its factory state.
    pub(crate) fn put_to_stock(&mut self) -> Result<(), NotBack> {
        self.each(HeldCard::put_to_stock)
    }

    /// Puts every card to its last kept settings, or to its factory state.
    pub(crate) fn put_back(&mut self) -> Result<(), NotBack> {
        self.each(HeldCard::put_back)
    }

    /// Puts every card back and lets it go; the guards of those that are not back go on.
    pub(crate) fn leave(&mut self) -> Result<(), NotBack> {
        self.each(HeldCard::leave)
    }

    /// Lets time pass on every card without a load.
    pub(crate) fn idle(&mut self, span: Seconds) {
        self.own.card_mut().idle(span);
        self.in_step.iter_mut().for_each(|other| other.held_mut().card_mut().idle(span));
    }

    /// Does the same with every card, whatever becomes of the others; all that failed in one error.
    fn each(&mut self, act: impl Fn(&mut HeldCard) -> Result<(), NotBack>) -> Result<(), NotBack> {
        let held =
            std::iter::once(&mut self.own).chain(self.in_step.iter_mut().map(InStep::held_mut));
        let failed: Vec<NotBack> = held.filter_map(|held| act(held).err()).collect();
        let mut failed = failed.into_iter();
        let Some(first) = failed.next() else { return Ok(()) };
        Err(failed.fold(first, |all, next| NotBack {
            card: format!("{} and {}", all.card, next.card),
            cause: format!("{}; {}: {}", all.cause, next.card, next.cause),
        }))
    }
}

impl fmt::Debug for CardKeeper {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "CardKeeper of {}", self.card().description().key())
    }
}
