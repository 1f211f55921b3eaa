//! Putting a card to settings and making sure of it: asked, read back, and found equal in the card's
//! own steps. Anything less is an error that names the card.

use yard_step_core::Settings;

use crate::Card;

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
///
/// # Errors
/// It does not hold them, or does not answer.
pub fn restore(card: &mut dyn Card, settings: &Settings) -> Result<(), NotBack> {
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
    Err(failed(card, format!("asked {ATTEMPTS} times: {}", words.join("; "))))
}

/// Whether a card that says it holds `taken` holds `settings`, in its own steps.
pub fn is_held(card: &dyn Card, settings: &Settings, taken: &Settings) -> bool {
    settings.differences(taken, card.description()).iter().all(|difference| difference.rounded)
}
