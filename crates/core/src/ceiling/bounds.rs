//! How far a field of a limit table may be moved on this machine.

use crate::ceiling::field::LimitField;
use crate::ceiling::table::LimitTable;
use crate::machine::supply::Machine;
use crate::units::{Percent, Watt};

/// Share of the maker's value below which no field is lowered.
const LOWEST_SHARE: f64 = 0.5;

/// What sets a bound.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum BoundBy {
    /// A share above the maker's value, for what this field is about: see [`beyond_makers`].
    Share(Percent),
    /// What the power supply has left for this card.
    Supply(Watt),
}

/// Between which values a field may lie.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bounds {
    /// Lowest value.
    pub lowest: f64,
    /// Highest value: the safety ceiling.
    pub highest: f64,
    /// What sets the highest.
    pub by: BoundBy,
}

/// How far a field may be raised above the maker's value at most, percent. Power and current heat the regulator and the
/// connector with the square of the current: a fifth more current is 44 % more heat there. A voltage ages the chip
/// exponentially, so it has the least room. These are assumptions on the careful side, not figures of a card.
#[must_use]
pub const fn beyond_makers(field: LimitField) -> Percent {
    Percent(match field {
        LimitField::PowerLimit | LimitField::CurrentLimit => 20.0,
        LimitField::VoltageCeiling => 3.0,
        LimitField::CoreClock | LimitField::MemoryClock => 15.0,
    })
}

/// The bounds of a field that the maker's table has; none where it has no such field.
#[must_use]
pub fn bounds(field: LimitField, makers: &LimitTable, machine: &Machine) -> Option<Bounds> {
    let value = makers.value(field)?;
    let share = beyond_makers(field);
    let highest = value * (1.0 + share.value() / 100.0);
    let by_share = Bounds { lowest: value * LOWEST_SHARE, highest, by: BoundBy::Share(share) };
    let left = machine.left_for_card().filter(|_| field == LimitField::PowerLimit);
    Some(match left {
        // The maker's own value is never beyond the bounds.
        Some(left) if left.value() < highest => {
            Bounds { highest: left.value().max(value), by: BoundBy::Supply(left), ..by_share }
        }
        _ => by_share,
    })
}

/// The current that a power needs, A, by what the maker has written for both; none where the table lacks one of them.
#[must_use]
pub fn current_for(power: f64, makers: &LimitTable) -> Option<f64> {
    let (watts, amperes) =
        (makers.value(LimitField::PowerLimit)?, makers.value(LimitField::CurrentLimit)?);
    (watts > 0.0).then(|| power / watts * amperes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::limit_table;
    use rstest::rstest;

    fn makers() -> LimitTable {
        limit_table(&[
            (LimitField::PowerLimit, 300.0),
            (LimitField::CurrentLimit, 270.0),
            (LimitField::VoltageCeiling, 1_100.0),
        ])
    }

    fn with_supply(supply: f64, rest: f64) -> Machine {
        Machine { supply: Some(Watt(supply)), rest: Some(Watt(rest)), ..Machine::default() }
    }

    #[rstest]
    #[case(LimitField::PowerLimit, 360.0)]
    #[case(LimitField::CurrentLimit, 324.0)]
    #[case(LimitField::VoltageCeiling, 1_133.0)]
    fn a_field_may_be_raised_by_its_share(#[case] field: LimitField, #[case] highest: f64) {
        let bounds = bounds(field, &makers(), &Machine::default()).unwrap();
        assert!((bounds.highest - highest).abs() < 1e-9, "{bounds:?}");
    }

    #[rstest]
    // 0.9 · 750 W less 260 W, and a quarter more for the transients: 332 W.
    #[case(750.0, 260.0, 332.0, true)]
    #[case(1_600.0, 150.0, 360.0, false)]
    // What the maker allows stays allowed; the supply is complained of elsewhere.
    #[case(400.0, 200.0, 300.0, true)]
    fn a_power_supply_bounds_the_power(
        #[case] supply: f64,
        #[case] rest: f64,
        #[case] highest: f64,
        #[case] is_by_supply: bool,
    ) {
        let machine = with_supply(supply, rest);
        let found = bounds(LimitField::PowerLimit, &makers(), &machine).unwrap();
        assert!((found.highest - highest).abs() < 1e-9, "{found:?}");
        assert_eq!(matches!(found.by, BoundBy::Supply(_)), is_by_supply);
        let current = bounds(LimitField::CurrentLimit, &makers(), &machine).unwrap();
        assert!(matches!(current.by, BoundBy::Share(_)));
    }

    #[test]
    fn the_current_follows_the_power() {
        assert_eq!(current_for(345.0, &makers()), Some(310.5));
        assert_eq!(bounds(LimitField::CoreClock, &makers(), &Machine::default()), None);
    }
}
