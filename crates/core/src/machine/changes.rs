//! What was changed around a card: a new cooler, new paste, a firmware switch, another case. Runs before and
//! after it are not compared.

use serde::{Deserialize, Serialize};

/// Longest description of a change, characters.
pub const LONGEST_CHANGE: usize = 60;
/// Changes that are kept of a machine.
pub const MOST_CHANGES: usize = 200;

/// A change around a card.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CardChange {
    /// Key of the card.
    pub card: String,
    /// What was changed, in the user's words.
    pub what: String,
    /// When, seconds since 1970.
    pub at: i64,
}

/// The newest change around a card.
#[must_use]
pub fn last_change<'a>(changes: &'a [CardChange], card: &str) -> Option<&'a CardChange> {
    changes.iter().filter(|change| change.card == card).max_by_key(|change| change.at)
}

/// From and until when the surroundings of a card were what they were at a time: seconds since 1970, the second
/// not included.
#[must_use]
pub fn unchanged_around(changes: &[CardChange], card: &str, at: i64) -> (i64, i64) {
    let of_card = || changes.iter().filter(|change| change.card == card).map(|change| change.at);
    let from = of_card().filter(|change| *change <= at).max().unwrap_or(i64::MIN);
    let until = of_card().filter(|change| *change > at).min().unwrap_or(i64::MAX);
    (from, until)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn changes() -> Vec<CardChange> {
        let change =
            |card: &str, what: &str, at| CardChange { card: card.into(), what: what.into(), at };
        vec![change("a", "cooler", 100), change("b", "case", 150), change("a", "paste", 200)]
    }

    #[rstest]
    #[case(99, (i64::MIN, 100))]
    #[case(100, (100, 200))]
    #[case(160, (100, 200))]
    #[case(500, (200, i64::MAX))]
    fn a_change_separates_what_came_before_from_what_came_after(
        #[case] at: i64,
        #[case] span: (i64, i64),
    ) {
        assert_eq!(unchanged_around(&changes(), "a", at), span);
    }

    #[test]
    fn the_newest_change_of_a_card_counts() {
        assert_eq!(last_change(&changes(), "a").unwrap().what, "paste");
        assert_eq!(last_change(&changes(), "c"), None);
    }
}
