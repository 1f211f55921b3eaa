//! Changes of a limit table: each is checked before it is written.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::ceiling::bounds::{BoundBy, SafetyCeilings, bounds, current_for};
use crate::ceiling::error::TableError;
use crate::ceiling::field::LimitField;
use crate::ceiling::table::{LimitTable, TableOwner};
use crate::text::printable;

/// Longest reason, characters.
pub const LONGEST_REASON: usize = 80;

/// What a field is to be.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum LimitWish {
    /// A value in the unit of the field.
    To(f64),
    /// So many percent above the maker's value, or below it.
    ByPercent(f64),
}

/// A table that somebody wants the driver to read in place of the maker's.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct WantedLimits {
    /// The whole table.
    pub table: LimitTable,
    /// Why, in the user's words; empty where nothing was said.
    pub reason: String,
}

impl WantedLimits {
    /// The override of a user, for a release of the driver, at a time in seconds since 1970. The reason is made printable.
    #[must_use]
    pub fn by(self, user: &str, driver: &str, at: i64) -> LimitOverride {
        let reason = printable(&self.reason).chars().take(LONGEST_REASON).collect();
        let (driver, by) = (driver.to_owned(), user.to_owned());
        LimitOverride { table: self.table, driver, reason, by, at }
    }
}

/// A table that the driver is to read in place of the maker's.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LimitOverride {
    /// The whole table.
    pub table: LimitTable,
    /// Release of the driver that it was written for.
    pub driver: String,
    /// Why, in the user's words; empty where nothing was said.
    #[serde(default)]
    pub reason: String,
    /// The user who wrote it; empty where that is not known.
    #[serde(default)]
    pub by: String,
    /// When it was written, seconds since 1970.
    pub at: i64,
}

/// Why a change is not made.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum ChangeError {
    /// The card's table has no such field.
    #[error("the table of this card has no field {}; it has: {}", .field.name(), .known.iter().map(|field| field.name()).collect::<Vec<_>>().join(", "))]
    NoField {
        /// The field that was asked for.
        field: LimitField,
        /// Those that there are.
        known: Vec<LimitField>,
    },
    /// A value lies outside its bounds.
    #[error("{} of {value:.0} {}: it must be {lowest:.0} to {highest:.0} {}{}", .field.label(), .field.unit(), .field.unit(), by_what(.by))]
    Beyond {
        /// The field.
        field: LimitField,
        /// The value that was asked for.
        value: f64,
        /// Its lowest value.
        lowest: f64,
        /// Its highest value.
        highest: f64,
        /// What sets the highest.
        by: BoundBy,
    },
    /// The table is none of this card.
    #[error(transparent)]
    Table(#[from] TableError),
}

fn by_what(by: &BoundBy) -> String {
    match by {
        BoundBy::Share(share) => format!(", {share} above the maker's at most"),
        BoundBy::Supply(left) => format!(", since the power supply has {left} left for this card"),
        BoundBy::Connectors(rating) => {
            format!(", since the card's power connectors are rated for {rating}")
        }
    }
}

/// A table with one field moved, whole units.
///
/// # Errors
/// There is no such field, or the value lies outside its [bounds].
pub fn moved(
    table: &LimitTable,
    makers: &LimitTable,
    (field, wish): (LimitField, LimitWish),
    safety: &SafetyCeilings,
) -> Result<LimitTable, ChangeError> {
    let Some(of_maker) = makers.value(field) else {
        let known = makers.fields.iter().map(|value| value.field).collect();
        return Err(ChangeError::NoField { field, known });
    };
    let value = match wish {
        LimitWish::To(value) => value,
        LimitWish::ByPercent(percent) => of_maker * (1.0 + percent / 100.0),
    };
    let moved = table.with(field, value.round());
    check_bounds(&moved, makers, safety)?;
    Ok(moved)
}

/// Checks a whole table that came from elsewhere: for this card, with its fields, within the bounds.
///
/// # Errors
/// One of these is not so.
pub fn check_table(
    table: &LimitTable,
    makers: &LimitTable,
    card: &TableOwner,
    safety: &SafetyCeilings,
) -> Result<(), ChangeError> {
    table.check_for(card)?;
    table.check_against(makers)?;
    check_bounds(table, makers, safety)
}

fn check_bounds(
    table: &LimitTable,
    makers: &LimitTable,
    safety: &SafetyCeilings,
) -> Result<(), ChangeError> {
    for limit in &table.fields {
        let (field, value) = (limit.field, limit.value);
        let Some(known) = bounds(field, makers, safety) else { continue };
        // Half a unit is what rounding to whole units may add.
        let is_within = value >= known.lowest - 0.5 && value <= known.highest + 0.5;
        if !(value.is_finite() && is_within) {
            let (lowest, highest, by) = (known.lowest, known.highest, known.by);
            return Err(ChangeError::Beyond { field, value, lowest, highest, by });
        }
    }
    Ok(())
}

/// The current limit that a table's power limit needs, A, where the table has less; none where it is enough.
#[must_use]
pub fn current_that_is_short(table: &LimitTable, makers: &LimitTable) -> Option<f64> {
    let needed = current_for(table.value(LimitField::PowerLimit)?, makers)?;
    (table.value(LimitField::CurrentLimit)? + 0.5 < needed).then_some(needed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::limit_table;
    use crate::units::Watt;
    use rstest::rstest;

    fn makers() -> LimitTable {
        limit_table(&[(LimitField::PowerLimit, 270.0), (LimitField::CurrentLimit, 242.0)])
    }

    #[rstest]
    #[case(LimitWish::ByPercent(15.0), 311.0)]
    #[case(LimitWish::To(300.0), 300.0)]
    #[case(LimitWish::ByPercent(-10.0), 243.0)]
    #[case(LimitWish::ByPercent(20.0), 324.0)]
    fn a_field_is_moved(#[case] wish: LimitWish, #[case] value: f64) {
        let wish = (LimitField::PowerLimit, wish);
        let moved = moved(&makers(), &makers(), wish, &SafetyCeilings::default()).unwrap();
        assert_eq!(moved.value(LimitField::PowerLimit), Some(value));
        assert_eq!(moved.value(LimitField::CurrentLimit), Some(242.0), "the rest stays");
    }

    #[rstest]
    #[case(
        LimitField::PowerLimit,
        LimitWish::ByPercent(21.0),
        "power limit of 327 W: it must be 135 to 324 W, 20 %"
    )]
    #[case(LimitField::PowerLimit, LimitWish::To(f64::NAN), "power limit of NaN W")]
    #[case(LimitField::PowerLimit, LimitWish::To(10.0), "it must be 135 to 324 W")]
    #[case(
        LimitField::CoreClock,
        LimitWish::To(10.0),
        "has no field core-clock; it has: power-limit, current-limit"
    )]
    fn what_lies_beyond_is_refused(
        #[case] field: LimitField,
        #[case] wish: LimitWish,
        #[case] told: &str,
    ) {
        let refused = moved(&makers(), &makers(), (field, wish), &SafetyCeilings::default());
        let error = refused.unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[test]
    fn a_short_supply_is_named() {
        let safety = SafetyCeilings { supply: Some(Watt(288.0)), ..SafetyCeilings::default() };
        let wish = (LimitField::PowerLimit, LimitWish::ByPercent(15.0));
        let error = moved(&makers(), &makers(), wish, &safety).unwrap_err().to_string();
        assert!(error.contains("since the power supply has 288 W left"), "{error}");
    }

    #[test]
    fn a_table_from_elsewhere_is_checked_whole() {
        let (safety, owner) = (SafetyCeilings::default(), makers().card);
        let raised = makers().with(LimitField::PowerLimit, 300.0);
        assert_eq!(check_table(&raised, &makers(), &owner, &safety), Ok(()));
        let beyond = makers().with(LimitField::PowerLimit, 400.0);
        assert!(check_table(&beyond, &makers(), &owner, &safety).is_err());
        let other = TableOwner { kind: "standin:other".into(), ..owner };
        assert!(check_table(&raised, &makers(), &other, &safety).is_err());
    }

    #[test]
    fn a_current_that_does_not_follow_is_told() {
        let raised = makers().with(LimitField::PowerLimit, 300.0);
        let needed = current_that_is_short(&raised, &makers()).unwrap();
        assert!((needed - 268.9).abs() < 0.1, "{needed}");
        let followed = raised.with(LimitField::CurrentLimit, needed.round());
        assert_eq!(current_that_is_short(&followed, &makers()), None);
        assert_eq!(current_that_is_short(&makers(), &makers()), None);
    }
}
