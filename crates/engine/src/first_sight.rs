//! The first sight of a card.

use yard_step_card::Card;
use yard_step_core::{Machine, Settings};
use yard_step_ledger::Ledger;

use crate::error::EngineError;

/// Notes a card, with its factory state the first time; returns what is known of the machine, and
/// that state. The card is told of the room it stands in.
pub(crate) fn first_sight(
    ledger: &Ledger,
    card: &mut dyn Card,
) -> Result<(Machine, Settings), EngineError> {
    let stock = Settings::stock(card.description());
    let factory = card.factory();
    ledger.note_card(card.description(), factory.as_ref())?;
    let machine = ledger.machine()?;
    if let Some(room) = machine.room {
        card.set_room(room);
    }
    let factory = ledger.factory(card.description())?.unwrap_or(stock);
    Ok((machine, factory))
}
