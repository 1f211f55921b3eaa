//! What the card is put to outside its trials, and what stands around it: the factory state and
//! kept settings it goes back to, cards held in step with it, and the machine it sits in.

use yard_step_card::Clock;
use yard_step_core::{
    Alarm, CardDescription, Facts, HeatModel, Machine, Prerequisite, ProfileInUse, SafetyCeilings,
    Sample, Seconds, Settings, Stage, StageOrder, WantedLimits, alarms_with_limits, check_table,
    last_change, prerequisites,
};
use yard_step_ledger::{Ledger, LedgerError};

use crate::engine::Engine;
use crate::error::EngineError;
use crate::first_sight::first_sight;
use crate::held_card::HeldCard;
use crate::in_step::InStep;
use crate::profiles::ProfileView;
use crate::rig::Rig;
use crate::view::CeilingView;

/// The most power that what stands around a card can bear, as far as it is known.
///
/// # Errors
/// The ledger cannot be read.
pub fn safety_ceilings(
    ledger: &Ledger,
    machine: &Machine,
    card: &CardDescription,
) -> Result<SafetyCeilings, LedgerError> {
    let heat = HeatModel::of(&ledger.heat_runs(card)?, card);
    Ok(SafetyCeilings::of(machine, card, heat.as_ref()))
}

impl Engine {
    /// Puts every card to its factory state, as it was copied at first sight.
    ///
    /// # Errors
    /// A card was not seen to hold it.
    pub fn put_to_stock(&mut self) -> Result<(), EngineError> {
        Ok(self.cards.put_to_stock()?)
    }

    /// Puts every card to the last kept settings, or to its factory state.
    ///
    /// # Errors
    /// A card was not seen to hold them.
    pub fn put_back(&mut self) -> Result<(), EngineError> {
        Ok(self.cards.put_back()?)
    }

    /// Ends the load, puts every card back and lets it go. A guard goes on trying with a card that
    /// is not back;
    ///
    /// # Errors
    /// A card was not seen to be back.
    pub fn leave(&mut self) -> Result<(), EngineError> {
        self.end_load();
        // Where the ledger still fails, the note beside the lock tells the next start.
        let _ = self.close_begun();
        // What was proven meanwhile counts from the next start of the machine on; what was said before does otherwise.
        let _ = self.note_start(false);
        Ok(self.cards.leave()?)
    }

    /// Whether two cards can be held in step: two of one kind, and not the same twice.
    ///
    /// # Errors
    /// They are of different kinds, or the same.
    pub fn check_alike(one: &CardDescription, other: &CardDescription) -> Result<(), EngineError> {
        if one.name == other.name && one.key() != other.key() {
            return Ok(());
        }
        Err(EngineError::NotAlike {
            one: format!("{} {}", one.name, one.serial),
            other: format!("{} {}", other.name, other.serial),
        })
    }

    /// Holds another card of the same kind in step from the next trial on.
    ///
    /// # Errors
    /// It is of another kind, or the ledger fails.
    pub fn hold_in_step(&mut self, rig: impl Into<Rig>) -> Result<(), EngineError> {
        let Rig { mut card, guard, lock, .. } = rig.into();
        Self::check_alike(self.cards.card().description(), card.description())?;
        let (_, factory) = first_sight(&self.ledger, card.as_mut())?;
        let load = self.loads.choose(self.load.name(), card.as_ref())?;
        let held = HeldCard::new(card, factory, (guard, lock));
        self.cards.add_in_step(InStep::new(held, load))?;
        self.give_signs_of_life();
        self.tell_of_supply();
        Ok(())
    }

    /// Lets a card held in step go, at stock; whether there was one of that key.
    ///
    /// # Errors
    /// It was not seen to be at stock; its guard goes on trying.
    pub fn let_go(&mut self, key: &str) -> Result<bool, EngineError> {
        let Some(mut other) = self.cards.take_out_of_step(key) else { return Ok(false) };
        self.give_signs_of_life();
        other.held_mut().set_kept(None);
        other.held_mut().leave()?;
        Ok(true)
    }

    /// Keys of the cards held in step.
    #[must_use]
    pub fn held_in_step(&self) -> Vec<String> {
        let key = |other: &InStep| other.held().card().description().key();
        self.cards.in_step().iter().map(key).collect()
    }

    /// What the user said of the machine.
    #[must_use]
    pub fn machine(&self) -> &Machine {
        &self.machine
    }

    /// Writes down what the user says of the machine. It holds from the next trial on. Answers what comes of it
    /// besides.
    ///
    /// # Errors
    /// A number that cannot be, or the ledger fails.
    pub fn set_machine(&mut self, machine: Machine) -> Result<Option<String>, EngineError> {
        machine.check()?;
        self.ledger.set_machine(&machine)?;
        if let Some(room) = machine.room {
            self.cards.card_mut().set_room(room);
            let others = self.cards.in_step_mut().iter_mut();
            others.for_each(|other| other.held_mut().card_mut().set_room(room));
        }
        self.machine = machine;
        self.tell_of_supply();
        self.heed_change()
    }

    /// The alarms that are heeded: the user's, and those that go with limits beyond the maker's.
    pub(crate) fn alarms(&self) -> Vec<Alarm> {
        alarms_with_limits(&self.machine.alarms, self.cards.card().description())
    }

    /// What is known of the card's limit table; none where it cannot be read.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn ceiling(&mut self) -> Result<Option<CeilingView>, EngineError> {
        let Ok(record) = self.cards.card_mut().ceiling() else { return Ok(None) };
        Ok(Some(CeilingView { record, safety: self.safety_ceilings()? }))
    }

    fn safety_ceilings(&self) -> Result<SafetyCeilings, EngineError> {
        let card = self.cards.card().description();
        Ok(safety_ceilings(&self.ledger, &self.machine, card)?)
    }

    /// Has the card's driver read a limit table at its next start; none is the maker's. Answers what comes of it.
    ///
    /// # Errors
    /// The table lies outside its bounds on this machine, or cannot be written.
    pub fn want_limits(
        &mut self,
        wanted: Option<&WantedLimits>,
    ) -> Result<&'static str, EngineError> {
        let refused = |why: String| EngineError::NothingToDo(why);
        let card = self.cards.card().description();
        let Some(tables) = &card.limit_tables else {
            return Err(refused("The limit table of this card cannot be read.".into()));
        };
        if let Some(WantedLimits { table, .. }) = wanted {
            let safety = self.safety_ceilings()?;
            check_table(table, &tables.makers, &tables.makers.card, &safety)
                .map_err(|error| refused(error.to_string()))?;
        }
        let written = self.cards.card_mut().want_limits(wanted);
        written.map_err(|error| refused(error.to_string()))?;
        Ok(match self.cards.card().clock() {
            Clock::Wall => "Noted. The keeper loads these limits at the next start of the machine.",
            Clock::Virtual => {
                "Noted. The driver reads these limits at its next start: close Yard Step, and open it again."
            }
        })
    }

    /// Has the baseline of an unfinished climb taken again where something was changed around the card since, and
    /// says so.
    pub(crate) fn heed_change(&mut self) -> Result<Option<String>, EngineError> {
        let key = self.cards.card().description().key();
        let Some(change) = last_change(&self.machine.changes, &key).cloned() else {
            return Ok(None);
        };
        if self.ended || !self.climb.has_begun(Stage::Baseline) {
            return Ok(None);
        }
        let trials = self.ledger.climb(self.climb_id)?.trials;
        let newest = trials.iter().rev().find(|trial| trial.record.stage == Stage::Baseline);
        if newest.is_none_or(|newest| newest.began >= change.at) {
            return Ok(None);
        }
        self.direct(Stage::Baseline, StageOrder::Repeat)?;
        Ok(Some(format!(
            "Something changed around the card since the last baseline run: {}. The baseline is taken again.",
            change.what
        )))
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
        prerequisites(Facts {
            card: self.cards.card().description(),
            cards,
            machine: &self.machine,
            // No climb is begun or taken up before that is done.
            factory_copied: true,
            idle,
            unfinished_climb: is_waiting.then_some(self.climb_id),
            profile: profiles.iter().find(|view| view.profile.in_use).map(|view| ProfileInUse {
                name: view.profile.name.clone(),
                proof: view.proof,
                backing: view.backing.clone(),
            }),
        })
    }

    /// By which clock the card works.
    #[must_use]
    pub fn clock(&self) -> Clock {
        self.cards.card().clock()
    }

    /// Lets time pass on the card without a load.
    pub fn idle(&mut self, span: Seconds) {
        self.cards.idle(span);
    }

    /// Settings the card holds and what its sensors say now; none while the machine is down.
    pub fn card_now(&mut self) -> (Option<Settings>, Option<Sample>) {
        // That it is gone is noticed here, too.
        let held = self.look_for_card();
        (held.ok(), self.cards.card_mut().sample().ok())
    }

    /// Takes the profile in use out of use, and puts the card to its factory state, where it stays
    /// after the next start too.
    ///
    /// # Errors
    /// The ledger fails, or a card is not seen to be at stock.
    pub fn back_to_stock(&mut self) -> Result<(), EngineError> {
        let card = self.cards.card().description().clone();
        self.ledger.use_profile(&card, None)?;
        let mut notes = self.ledger.air_notes(&card)?;
        if notes.chosen.take().is_some() {
            self.ledger.set_air_notes(&card, &notes)?;
        }
        self.cards.set_chosen_fan(None);
        self.cards.set_kept(None);
        self.cards.arm()?;
        self.cards.put_back()?;
        self.note_start(true)
    }
}

impl Drop for Engine {
    fn drop(&mut self) {
        // The load goes first; the cards are put back as they are dropped.
        self.end_load();
    }
}
