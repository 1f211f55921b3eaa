//! Fans: what is known of a card's heat and noise, and how its fan is driven when nothing is tried on it.

use yard_step_core::{
    AirNotes, CardDescription, Celsius, Drawing, Heard, HeatModel, HeatRun, Machine, NoiseModel,
    NoiseNote, Percent, Settings,
};
use yard_step_ledger::Ledger;

use crate::engine::Engine;
use crate::error::EngineError;
use crate::view::AirView;

impl AirView {
    /// What the ledger knows of a card's fan. Runs at `settings`, the fan aside, tell what its loads draw, if there are any.
    pub(crate) fn of(
        ledger: &Ledger,
        card: &CardDescription,
        machine: &Machine,
        settings: &Settings,
    ) -> Result<Self, EngineError> {
        let notes = ledger.air_notes(card)?;
        let mut runs = ledger.heat_runs(card)?;
        // The newest count for what loads draw: of a search, that is whatever was tried last.
        let without_fan = Settings { fan: None, ..*settings };
        runs.sort_by_key(|run: &HeatRun| run.settings == without_fan);
        let heat = HeatModel::of(&runs, card);
        let noise = noise_of(&notes, machine);
        let ambient = machine.room.unwrap_or_default().ambient;
        let wish = heat.as_ref().and_then(|heat| notes.wish.on(heat, card, ambient));
        let drawing = heat.as_ref().map(|heat| Drawing { card, heat, noise: &noise });
        let drawn = drawing.zip(wish).and_then(|(drawing, wish)| drawing.draw(&wish));
        Ok(Self { notes, heat, noise, wish, drawn })
    }

    /// Temperature of the room that is reckoned with.
    #[must_use]
    pub fn room(&self, machine: &Machine) -> Celsius {
        self.wish.map_or(machine.room.unwrap_or_default().ambient, |wish| wish.room)
    }
}

/// How loud a fan is by what was noted of it, and of the machine.
fn noise_of(notes: &AirNotes, machine: &Machine) -> NoiseModel {
    let mut all = notes.noise.clone();
    let has_full = all.iter().any(|note| note.speed.value() >= 99.5);
    if let Some(level) = machine.full_fan.filter(|_| !has_full) {
        all.push(NoiseNote { speed: Percent(100.0), heard: Heard::Measured(level) });
    }
    NoiseModel::of(&all)
}

impl Engine {
    /// What is known of the card's fan.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn air(&self) -> Result<AirView, EngineError> {
        AirView::of(&self.ledger, self.description(), &self.machine, &self.cards.way_back())
    }

    /// Writes down what the user says of the fan, and has it driven as he chose from now on. A profile in use goes on with
    /// the fan that was kept with it. Answers what becomes of that, where there is something to say.
    ///
    /// # Errors
    /// A wish that cannot be, the ledger fails, or the card does not take the fan.
    pub fn set_air(&mut self, notes: &AirNotes) -> Result<Option<String>, EngineError> {
        notes
            .wish
            .check()
            .map_err(|error| EngineError::NothingToDo(format!("Not noted: {error}.")))?;
        let card = self.description().clone();
        let before = self.ledger.air_notes(&card)?;
        let mut notes = notes.clone();
        let asked = Settings { fan: notes.chosen, ..Settings::stock(&card) };
        let clamped = asked.clamped(&card);
        notes.chosen = notes.chosen.and(clamped.settings.fan);
        self.ledger.set_air_notes(&card, &notes)?;
        if notes.chosen == before.chosen {
            return Ok(None);
        }
        self.cards.set_chosen_fan(notes.chosen);
        self.cards.arm()?;
        self.cards.put_back()?;
        let mut told = match (self.cards.kept(), notes.chosen) {
            (Some(_), _) => {
                "Noted. The profile in use keeps its own fan; what is kept from now on gets this one."
                    .to_owned()
            }
            (None, Some(_)) => "The fan is driven so from now on, and after each start.".to_owned(),
            (None, None) => "The card drives its fan by itself again.".to_owned(),
        };
        let driver = notes.chosen.and_then(|fan| yard_step_words::who_drives(&fan, card.fan));
        if let Some(driver) = driver {
            told += &format!(" {driver}");
        }
        for note in clamped.notes {
            told += &format!(" Note: {note}.");
        }
        Ok(Some(told))
    }
}
