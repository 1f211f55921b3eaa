//! The card keeper: the cards an engine works on, and the way back for each of them.
//!
//! ```text
//!   CardKeeper ──┬── HeldCard          the card climbed on: card, guard, lock, factory, way back
//!                └── InStep ── HeldCard    a card held in step, the same
//! ```
//!
//! *Put back* means: asked, read back, and found equal in the card's own steps. Anything less is an
//! error that names the card. When a held card is let go and is not back, its lock is released and
//! its guard takes over, which goes on trying; a guard is relieved only by a card that is back.

use std::fmt;

use yard_step_card::Card;
use yard_step_core::{Seconds, Settings};

use crate::error::EngineError;
use crate::guard::Guard;
use crate::in_step::InStep;
use crate::lock::CardLock;

/// How often a card that takes something else is asked again.
const ATTEMPTS: u32 = 5;

/// A card that could not be put back.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{card} was not put back: {cause}")]
pub struct NotBack {
    /// Key of the card.
    pub card: String,
    /// Why, as the card or its answer tells it.
    pub cause: String,
}

/// Asks for settings until the card is seen to hold them.
pub(crate) fn restore(card: &mut dyn Card, settings: &Settings) -> Result<(), NotBack> {
    let failed = |card: &dyn Card, cause: String| NotBack { card: card.description().key(), cause };
    let mut held = None;
    for _ in 0..ATTEMPTS {
        match card.apply(settings).and_then(|()| card.taken()) {
            Ok(taken) if is_held(card, settings, &taken) => return Ok(()),
            Ok(taken) => held = Some(taken),
            Err(error) => return Err(failed(card, error.to_string())),
        }
    }
    let differences = held.map(|held| settings.differences(&held, card.description()));
    let words = differences.unwrap_or_default().iter().map(ToString::to_string).collect::<Vec<_>>();
    Err(failed(card, format!("asked {ATTEMPTS} times. {}.", words.join("; "))))
}

/// Whether a card that says it holds `taken` holds `settings`, in its own steps.
pub(crate) fn is_held(card: &dyn Card, settings: &Settings, taken: &Settings) -> bool {
    settings.differences(taken, card.description()).iter().all(|difference| difference.rounded)
}

/// One card with what brings it back: its guard, its lock, and where it goes.
pub(crate) struct HeldCard {
    card: Box<dyn Card>,
    guard: Option<Guard>,
    lock: Option<CardLock>,
    /// Its factory state, as it was copied at first sight.
    factory: Settings,
    /// Where it goes when nothing is tried on it; the factory state where that is none.
    kept: Option<Settings>,
    /// Whether it was let go.
    is_left: bool,
}

impl HeldCard {
    pub(crate) fn new(
        card: Box<dyn Card>,
        factory: Settings,
        (guard, lock): (Option<Guard>, Option<CardLock>),
    ) -> Self {
        Self { card, guard, lock, factory, kept: None, is_left: false }
    }

    pub(crate) fn card(&self) -> &dyn Card {
        self.card.as_ref()
    }

    pub(crate) fn card_mut(&mut self) -> &mut dyn Card {
        self.card.as_mut()
    }

    pub(crate) fn way_back(&self) -> Settings {
        self.kept.unwrap_or(self.factory)
    }

    /// Sets where the card goes, brought inside its ranges, and tells its guard.
    pub(crate) fn set_kept(&mut self, kept: Option<&Settings>) {
        self.kept = kept.map(|kept| kept.clamped(self.card.description()).settings);
        let way_back = self.way_back();
        if let Some(guard) = &mut self.guard {
            guard.set_way_back(&way_back);
        }
        if let Some(lock) = &mut self.lock {
            lock.say_guarded();
        }
    }

    /// Sees to it that its guard stands and knows the way back; tells if a new one had to be set.
    pub(crate) fn arm(&mut self) -> Result<Option<String>, EngineError> {
        let way_back = self.way_back();
        let Some(guard) = &mut self.guard else { return Ok(None) };
        let told = guard.see_to_it().map_err(EngineError::NoGuard)?;
        guard.set_way_back(&way_back);
        Ok(told)
    }

    /// Tells the guard which load runs on the card; none once it has ended.
    pub(crate) fn set_load(&mut self, group: Option<u32>) {
        if let Some(guard) = &mut self.guard {
            guard.set_load(group);
        }
    }

    pub(crate) fn lock(&self) -> Option<&CardLock> {
        self.lock.as_ref()
    }

    pub(crate) fn restore(&mut self, settings: &Settings) -> Result<(), NotBack> {
        restore(self.card.as_mut(), settings)
    }

    pub(crate) fn to_stock(&mut self) -> Result<(), NotBack> {
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
        let back = self.put_back();
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
        other.held_mut().set_kept(self.own.kept.as_ref());
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
        self.own.kept
    }

    /// Sets where all cards go when nothing is tried on them; the factory state for none.
    pub(crate) fn set_kept(&mut self, kept: Option<Settings>) {
        self.own.set_kept(kept.as_ref());
        self.in_step.iter_mut().for_each(|other| other.held_mut().set_kept(kept.as_ref()));
    }

    /// Sees to it that somebody would put each card back; tells if a new guard had to be set.
    pub(crate) fn arm(&mut self) -> Result<Option<String>, EngineError> {
        for other in &mut self.in_step {
            other.held_mut().arm()?;
        }
        self.own.arm()
    }

    /// Tells the guard which load runs on the card climbed on.
    pub(crate) fn set_load(&mut self, group: Option<u32>) {
        self.own.set_load(group);
    }

    /// Puts every card to its factory state.
    pub(crate) fn to_stock(&mut self) -> Result<(), NotBack> {
        self.each(HeldCard::to_stock)
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
            cause: format!("{} {}: {}", all.cause, next.card, next.cause),
        }))
    }
}

impl fmt::Debug for CardKeeper {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "CardKeeper of {}", self.card().description().key())
    }
}
