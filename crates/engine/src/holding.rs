//! What the card is put to outside its trials, and what stands around it: the factory state and
//! kept settings it goes back to, cards held in step with it, and the machine it sits in.

use yard_step_card::Card;
use yard_step_core::{
    CardDescription, Facts, Machine, Prerequisite, Sample, Seconds, Settings, prerequisites,
};
use yard_step_ledger::Ledger;

use crate::engine::Engine;
use crate::error::EngineError;
use crate::guard::Guard;
use crate::in_step::InStep;
use crate::keeping::ProfileView;
use crate::rig::Rig;

impl Engine {
    /// Puts the card to its factory state, as it was copied at first sight; whether it holds it.
    pub fn to_stock(&mut self) -> bool {
        let factory = self.factory;
        self.restore(&factory)
    }

    /// Puts the card to the last kept settings, or to stock; whether it holds them.
    pub fn put_back(&mut self) -> bool {
        let settings = self.way_back();
        self.restore(&settings)
    }

    /// The last kept settings, or the factory state.
    pub(crate) fn way_back(&self) -> Settings {
        self.kept.unwrap_or(self.factory)
    }

    pub(crate) fn restore(&mut self, settings: &Settings) -> bool {
        let wanted = (*settings != self.factory).then_some(settings);
        self.in_step.iter_mut().for_each(|other| other.put_to(wanted));
        restore(self.card.as_mut(), settings)
    }

    /// Holds another card of the same kind in step from the next trial on.
    ///
    /// # Errors
    /// It is of another kind, or the ledger fails.
    pub fn hold_in_step(&mut self, rig: impl Into<Rig>) -> Result<(), EngineError> {
        let Rig { mut card, guard, lock, .. } = rig.into();
        let (one, other) = (self.card.description(), card.description());
        if one.name != other.name || one.key() == other.key() {
            return Err(EngineError::NotAlike {
                one: format!("{} {}", one.name, one.serial),
                other: format!("{} {}", other.name, other.serial),
            });
        }
        let (_, factory) = first_sight(&self.ledger, card.as_mut())?;
        let load = self.loads.choose(&self.climb.plan().scene, card.as_ref())?;
        self.in_step.push(InStep::new(card, factory, load, (guard, lock)));
        Ok(())
    }

    /// Lets a card held in step go, at stock; whether there was one of that key.
    pub fn let_go(&mut self, key: &str) -> bool {
        let place = self.in_step.iter().position(|one| one.card().description().key() == key);
        let Some(place) = place else { return false };
        let mut other = self.in_step.remove(place);
        other.put_to(None);
        other.relieve();
        true
    }

    /// Keys of the cards held in step.
    #[must_use]
    pub fn held_in_step(&self) -> Vec<String> {
        self.in_step.iter().map(|other| other.card().description().key()).collect()
    }

    /// What the user said of the machine.
    #[must_use]
    pub fn machine(&self) -> &Machine {
        &self.machine
    }

    /// Writes down what the user says of the machine. It holds from the next trial on.
    ///
    /// # Errors
    /// A number that cannot be, or the ledger fails.
    pub fn set_machine(&mut self, machine: Machine) -> Result<(), EngineError> {
        machine.check()?;
        self.ledger.set_machine(&machine)?;
        if let Some(room) = machine.room {
            self.card.set_room(room);
            self.in_step.iter_mut().for_each(|other| other.card_mut().set_room(room));
        }
        self.machine = machine;
        Ok(())
    }

    /// What should be looked at before the first change. `cards` are all of the machine, `now` is
    /// the card's newest sample, `profiles` its profiles.
    #[must_use]
    pub fn prerequisites(
        &self,
        cards: &[&CardDescription],
        now: Option<&Sample>,
        profiles: &[ProfileView],
    ) -> Vec<Prerequisite> {
        // Under a load of its own, the card tells nothing of others.
        let idle = now.filter(|sample| sample.load.is_none_or(|load| load.value() < 1.0));
        let is_waiting = self.resumed_after > 0
            && self.resumed_after == self.climb.trials().len()
            && !self.ended;
        prerequisites(&Facts {
            card: self.card.description(),
            cards,
            machine: &self.machine,
            // No climb is begun or taken up before that is done.
            factory_copied: true,
            idle,
            unfinished_climb: is_waiting.then_some(self.climb_id),
            profile: profiles
                .iter()
                .find(|view| view.profile.in_use)
                .map(|view| (view.profile.name.as_str(), &view.proof)),
        })
    }

    /// Lets time pass on the card without a load.
    pub fn idle(&mut self, span: Seconds) {
        self.card.idle(span);
        self.in_step.iter_mut().for_each(|other| other.card_mut().idle(span));
    }

    /// Settings the card holds and what its sensors say now; none while the machine is down.
    pub fn card_now(&mut self) -> (Option<Settings>, Option<Sample>) {
        // That it is gone is noticed here, too.
        let held = self.look_for_card();
        (held.ok(), self.card.sample().ok())
    }

    /// Forgets the kept settings for the rest of this session and puts the card to stock.
    pub(crate) fn back_to_stock(&mut self) -> Result<(), EngineError> {
        self.kept = None;
        self.set_guard()?;
        if self.to_stock() { Ok(()) } else { Err(EngineError::DoesNotGoBack) }
    }
}

impl Drop for Engine {
    fn drop(&mut self) {
        self.end_load();
        // A guard that is not relieved tries for itself.
        if self.put_back() {
            self.guard.iter_mut().for_each(Guard::relieve);
            self.in_step.iter_mut().for_each(InStep::relieve);
            self.card.leave();
        }
    }
}

/// Notes a card, with its factory state the first time; answers what is known of the machine, and
/// that state. The card is told of the room it stands in.
pub(crate) fn first_sight(
    ledger: &Ledger,
    card: &mut dyn Card,
) -> Result<(Machine, Settings), EngineError> {
    let stock = Settings::stock(card.description());
    let held = card.taken().unwrap_or(stock);
    ledger.note_card(card.description(), &held)?;
    let machine = ledger.machine()?;
    if let Some(room) = machine.room {
        card.set_room(room);
    }
    let factory = ledger.factory(card.description())?.unwrap_or(stock);
    Ok((machine, factory))
}

/// Asks for settings, again where they are not taken, and answers whether they are held in the end.
pub(crate) fn restore(card: &mut dyn Card, settings: &Settings) -> bool {
    for _ in 0..5 {
        if card.apply(settings).is_err() {
            // The machine is down: a card comes back from that at stock by itself.
            return true;
        }
        let held = card.taken().ok();
        let description = card.description();
        if held.is_some_and(|t| settings.differences(&t, description).iter().all(|d| d.rounded)) {
            return true;
        }
    }
    false
}
