//! One set of settings, applied as a whole and read back.

use yard_step_card::{Card, CardError};
use yard_step_core::{Difference, Seconds, Settings};

/// Time a card is given to take its settings.
const SETTLE: Seconds = Seconds(1.0);

/// What came of asking a card for settings.
pub(crate) struct Applied {
    /// What the card says it holds; none where it does not answer.
    pub(crate) taken: Option<Settings>,
    /// Why it does not.
    pub(crate) failed: Option<CardError>,
    /// Where that is not what was asked.
    pub(crate) differences: Vec<Difference>,
    /// In words, what had to be asked twice and what was not taken in the end.
    pub(crate) told: Vec<String>,
}

impl Applied {
    /// Whether something was refused, rather than rounded.
    pub(crate) fn is_refused(&self) -> bool {
        self.differences.iter().any(|difference| !difference.rounded)
    }
}

/// Asks for `asked`, lets the card settle, reads back, and asks once more if something was not taken.
pub(crate) fn apply_whole(card: &mut dyn Card, asked: &Settings) -> Applied {
    apply(card, asked, |card| card.idle(SETTLE))
}

/// The same under a running load, which goes on: nothing waits for the card to settle.
pub(crate) fn apply_live(card: &mut dyn Card, asked: &Settings) -> Applied {
    apply(card, asked, |_| ())
}

fn apply(card: &mut dyn Card, asked: &Settings, settle: fn(&mut dyn Card)) -> Applied {
    let mut applied = apply_once(card, asked, settle);
    if applied.is_refused() {
        let first = names(&applied.differences);
        applied = apply_once(card, asked, settle);
        if !applied.is_refused() {
            applied.told.push(format!("Asked twice until taken: {first}."));
        }
    }
    applied.told.extend(applied.differences.iter().map(ToString::to_string));
    applied
}

fn apply_once(card: &mut dyn Card, asked: &Settings, settle: fn(&mut dyn Card)) -> Applied {
    let taken = card.apply(asked).and_then(|()| {
        settle(card);
        card.taken()
    });
    let told = card.refused();
    let differences = taken.as_ref().map(|taken| asked.differences(taken, card.description()));
    Applied {
        differences: differences.unwrap_or_default(),
        failed: taken.as_ref().err().cloned(),
        taken: taken.ok(),
        told,
    }
}

fn names(differences: &[Difference]) -> String {
    let refused = differences.iter().filter(|difference| !difference.rounded);
    refused.map(|difference| difference.kind.label()).collect::<Vec<_>>().join(", ")
}
