//! How far a field of a limit table may be moved on this machine.

use crate::air::heat::HeatModel;
use crate::card::description::CardDescription;
use crate::ceiling::field::LimitField;
use crate::ceiling::reach::CORE_BELOW;
use crate::ceiling::table::LimitTable;
use crate::machine::supply::Machine;
use crate::units::{Celsius, Percent, Watt};

/// Share of the maker's value below which no field is lowered.
const LOWEST_SHARE: f64 = 0.5;
/// Fewest runs from which it is foretold how hot more power makes a card.
const LEAST_RUNS: usize = 2;
/// Highest power that is looked at, W.
const HIGHEST_POWER: f64 = 5_000.0;

/// What sets a bound.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum BoundBy {
    /// A share above the maker's value, for what this field is about: see [`beyond_makers`].
    Share(Percent),
    /// What the power supply has left for this card.
    Supply(Watt),
    /// What the power connectors of the card and its slot are rated for.
    Connectors(Watt),
}

/// The most power that what stands around a card can bear, as far as it is known. By default, none of it is.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct SafetyCeilings {
    /// What the power supply has left for the card.
    pub supply: Option<Watt>,
    /// What its power connectors and the slot are rated for.
    pub connectors: Option<Watt>,
    /// What its cooler is expected to keep below the temperature at which a load beyond the maker's limits is stopped, at full fan
    /// in this room, and that temperature. It is foretold from short runs, so it is told and bounds nothing: the alarms do.
    pub cooler: Option<(Watt, Celsius)>,
}

impl SafetyCeilings {
    /// Those of a card in a machine. `heat` is what was measured of its cooler.
    #[must_use]
    pub fn of(machine: &Machine, card: &CardDescription, heat: Option<&HeatModel>) -> Self {
        let room = machine.room.unwrap_or_default().ambient;
        let hottest = Celsius(card.limits.stops_at().value() - CORE_BELOW);
        Self {
            supply: machine.left_for_card(),
            connectors: machine.rated_connectors(&card.key()),
            cooler: heat
                .filter(|heat| heat.runs >= LEAST_RUNS)
                .map(|heat| (power_up_to(hottest, heat, room), hottest)),
        }
    }

    /// What bounds the power, the most and by what.
    fn of_power(&self) -> impl Iterator<Item = (f64, BoundBy)> {
        let supply = self.supply.map(|left| (left.value(), BoundBy::Supply(left)));
        let connectors =
            self.connectors.map(|rating| (rating.value(), BoundBy::Connectors(rating)));
        [supply, connectors].into_iter().flatten()
    }

    /// What the cooler is expected to bear, where a table allows more than that and more than the maker's.
    #[must_use]
    pub fn too_hot(&self, table: &LimitTable, makers: &LimitTable) -> Option<(Watt, Celsius)> {
        let value = |table: &LimitTable| table.value(LimitField::PowerLimit);
        let (now, of_maker) = (value(table)?, value(makers)?);
        self.cooler.filter(|(most, _)| now > most.value() && now > of_maker)
    }
}

/// Highest power at which the core is expected to stay below a temperature at full fan.
fn power_up_to(hottest: Celsius, heat: &HeatModel, room: Celsius) -> Watt {
    let is_cool =
        |watts: f64| heat.plateau(Watt(watts), Percent(100.0), room).value <= hottest.value();
    // By halves: hotter with more power.
    let (mut low, mut high) = (0.0, HIGHEST_POWER);
    for _ in 0..20 {
        let middle = f64::midpoint(low, high);
        if is_cool(middle) { low = middle } else { high = middle }
    }
    Watt(low)
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

/// The bounds of a field that the maker's table has; none where it has no such field. The maker's own value is never beyond
/// them.
#[must_use]
pub fn bounds(field: LimitField, makers: &LimitTable, safety: &SafetyCeilings) -> Option<Bounds> {
    let value = makers.value(field)?;
    let share = beyond_makers(field);
    let by_share = (value * (1.0 + share.value() / 100.0), BoundBy::Share(share));
    let of_power = safety.of_power().filter(|_| field == LimitField::PowerLimit);
    let (highest, by) =
        of_power.fold(by_share, |least, next| if next.0 < least.0 { next } else { least });
    Some(Bounds { lowest: value * LOWEST_SHARE, highest: highest.max(value), by })
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
    use crate::air::heat::HeatRun;
    use crate::card::settings::Settings;
    use crate::fixtures::{self, limit_table};
    use crate::machine::connectors::CardConnectors;
    use crate::machine::room::{Case, Room};
    use rstest::rstest;

    fn makers() -> LimitTable {
        limit_table(&[
            (LimitField::PowerLimit, 300.0),
            (LimitField::CurrentLimit, 270.0),
            (LimitField::VoltageCeiling, 1_100.0),
        ])
    }

    fn with_supply(supply: f64, rest: f64) -> SafetyCeilings {
        let (supply, rest) = (Some(Watt(supply)), Some(Watt(rest)));
        let machine = Machine { supply, rest, ..Machine::default() };
        SafetyCeilings::of(&machine, &fixtures::card(), None)
    }

    #[rstest]
    #[case(LimitField::PowerLimit, 360.0)]
    #[case(LimitField::CurrentLimit, 324.0)]
    #[case(LimitField::VoltageCeiling, 1_133.0)]
    fn a_field_may_be_raised_by_its_share(#[case] field: LimitField, #[case] highest: f64) {
        let bounds = bounds(field, &makers(), &SafetyCeilings::default()).unwrap();
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
        let safety = with_supply(supply, rest);
        let found = bounds(LimitField::PowerLimit, &makers(), &safety).unwrap();
        assert!((found.highest - highest).abs() < 1e-9, "{found:?}");
        assert_eq!(matches!(found.by, BoundBy::Supply(_)), is_by_supply);
        let current = bounds(LimitField::CurrentLimit, &makers(), &safety).unwrap();
        assert!(matches!(current.by, BoundBy::Share(_)));
    }

    #[test]
    fn connectors_bound_the_power_of_their_own_card() {
        let card = fixtures::card();
        let said = |card: String| CardConnectors { card, rating: Watt(340.0) };
        let of = |connectors| {
            let machine = Machine { connectors: vec![connectors], ..Machine::default() };
            let safety = SafetyCeilings::of(&machine, &card, None);
            bounds(LimitField::PowerLimit, &makers(), &safety).unwrap()
        };
        let own = of(said(card.key()));
        assert_eq!((own.highest, own.by), (340.0, BoundBy::Connectors(Watt(340.0))));
        assert_eq!(of(said("another".into())).by, BoundBy::Share(Percent(20.0)));
    }

    #[test]
    fn what_a_cooler_bears_is_told_by_what_was_measured_of_it() {
        let card = fixtures::card();
        // 0.2 K/W at full fan in a room of 25 °C.
        let run = |power: f64| HeatRun {
            load: "kiln".into(),
            settings: Settings { power_limit: Some(Watt(power)), ..Settings::default() },
            fan: Percent(100.0),
            power: Watt(power),
            plateau: Celsius(25.0 + 0.2 * power),
            settles_in: None,
            clock: None,
            room: Some(Room { ambient: Celsius(25.0), case: Case::Closed }),
        };
        let machine = Machine { room: run(1.0).room, ..Machine::default() };
        let runs: Vec<HeatRun> = [180.0, 220.0, 260.0, 300.0].map(run).to_vec();
        let heat = HeatModel::of(&runs, &card).unwrap();
        let safety = SafetyCeilings::of(&machine, &card, Some(&heat));
        let (most, at) = safety.cooler.unwrap();
        assert_eq!(at, Celsius(card.limits.stops_at().value() - CORE_BELOW));
        let expected = (at.value() - 25.0) / 0.2;
        assert!((most.value() - expected).abs() < 0.1 * expected, "{most}");
        let most = most.value();
        let is_too_hot = |makers: f64, value: f64| {
            let of = |value| limit_table(&[(LimitField::PowerLimit, value)]);
            safety.too_hot(&of(value), &of(makers)).is_some()
        };
        assert!(is_too_hot(most - 20.0, most + 10.0));
        assert!(!is_too_hot(most - 20.0, most - 10.0), "it bears that");
        assert!(!is_too_hot(most + 20.0, most + 10.0), "it is less than the maker's");
        let limit = bounds(LimitField::PowerLimit, &makers(), &safety).unwrap();
        assert_eq!(limit.by, BoundBy::Share(Percent(20.0)), "it bounds nothing");
        // A hotter room leaves less.
        let hot = Machine {
            room: Some(Room { ambient: Celsius(40.0), case: Case::Closed }),
            ..Machine::default()
        };
        let in_heat = SafetyCeilings::of(&hot, &card, Some(&heat)).cooler.unwrap().0;
        assert!(most - in_heat.value() > 50.0, "{most}, {in_heat}");
        let one = HeatModel::of(&runs[..1], &card).unwrap();
        assert_eq!(
            SafetyCeilings::of(&machine, &card, Some(&one)).cooler,
            None,
            "one run tells little"
        );
    }

    #[test]
    fn the_current_follows_the_power() {
        assert_eq!(current_for(345.0, &makers()), Some(310.5));
        let none = bounds(LimitField::CoreClock, &makers(), &SafetyCeilings::default());
        assert_eq!(none, None);
    }
}
