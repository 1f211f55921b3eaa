//! The machine around the card, as far as its user tells of it: room, power supply, alarms.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::card::description::{CardDescription, SettingKind};
use crate::card::memory_rate::MemoryWiring;
use crate::judge::alarm::Alarm;
use crate::machine::changes::{CardChange, LONGEST_CHANGE, MOST_CHANGES};
use crate::machine::connectors::{CardConnectors, RATINGS};
use crate::machine::memory::{BUS_BITS, CardMemory};
use crate::machine::room::Room;
use crate::units::{Decibel, Percent, Watt};

/// What the user said of the machine. What was never said is `None`, not a guess.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Machine {
    /// The room.
    pub room: Option<Room>,
    /// Rated power of the supply.
    #[serde(rename = "supply_w")]
    pub supply: Option<Watt>,
    /// Most that the rest of the machine draws, all cards left out.
    #[serde(rename = "rest_w")]
    pub rest: Option<Watt>,
    /// Noise of the card at full fan, as its user measured it where they sit, dB(A).
    #[serde(rename = "full_fan_db")]
    pub full_fan: Option<Decibel>,
    /// Alarms.
    pub alarms: Vec<Alarm>,
    /// What was changed around the cards, in the order in which it was said.
    pub changes: Vec<CardChange>,
    /// The memory of cards that do not state it themselves, one entry a card.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub memories: Vec<CardMemory>,
    /// What the power connectors of cards are rated for, one entry a card.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub connectors: Vec<CardConnectors>,
}

/// A fact about the machine that cannot be.
#[derive(Debug, Clone, PartialEq, Error)]
#[error("{what} of {value} {unit}: it must be {lowest} to {highest} {unit}")]
pub struct MachineError {
    what: &'static str,
    value: f64,
    lowest: f64,
    highest: f64,
    unit: &'static str,
}

impl Machine {
    /// Checks every number.
    ///
    /// # Errors
    /// A number outside what a room, a supply or an alarm can have; too many changes, or a description too long.
    pub fn check(&self) -> Result<(), MachineError> {
        let check = |what, value: Option<f64>, (lowest, highest), unit| match value {
            Some(value) if !(lowest..=highest).contains(&value) => {
                Err(MachineError { what, value, lowest, highest, unit })
            }
            _ => Ok(()),
        };
        let ambient = self.room.map(|room| room.ambient.value());
        check("a room temperature", ambient, (-20.0, 60.0), "°C")?;
        check("a power supply", self.supply.map(Watt::value), (100.0, 5_000.0), "W")?;
        check("a rest of the machine", self.rest.map(Watt::value), (0.0, 4_000.0), "W")?;
        check("a noise at full fan", self.full_fan.map(Decibel::value), (10.0, 120.0), "dB")?;
        let longest = self.changes.iter().map(|change| change.what.chars().count()).max();
        let (count, longest) = (self.changes.len(), longest.unwrap_or(1));
        check("a list of changes", Some(count as f64), (0.0, MOST_CHANGES as f64), "entries")?;
        check("a change", Some(longest as f64), (1.0, LONGEST_CHANGE as f64), "characters")?;
        for bits in self.memories.iter().filter_map(|memory| memory.bus_bits) {
            let range = (f64::from(BUS_BITS.0), f64::from(BUS_BITS.1));
            check("a memory bus", Some(f64::from(bits)), range, "bits")?;
        }
        for CardConnectors { rating, .. } in &self.connectors {
            check("a rating of connectors", Some(rating.value()), RATINGS, "W")?;
        }
        for alarm in &self.alarms {
            check("an alarm threshold", Some(alarm.above), alarm.on.range(), alarm.on.unit())?;
        }
        Ok(())
    }

    /// What the user said of a card's memory.
    #[must_use]
    pub fn said_memory(&self, card: &str) -> Option<&CardMemory> {
        self.memories.iter().find(|memory| memory.card == card)
    }

    /// What the power connectors of a card and its slot are rated for together, as the user said.
    #[must_use]
    pub fn rated_connectors(&self, card: &str) -> Option<Watt> {
        self.connectors.iter().find(|said| said.card == card).map(|said| said.rating)
    }

    /// Size and kind of a card's memory, and its wiring: as the card states them, or else as the user said.
    #[must_use]
    pub fn memory_of(&self, card: &CardDescription) -> (String, MemoryWiring) {
        let said = self.said_memory(&card.key()).filter(|_| !card.states_memory());
        let (kind, wiring) = match said {
            Some(CardMemory { kind, bus_bits, .. }) => {
                let bus_bits = bus_bits.unwrap_or_default();
                let wiring =
                    MemoryWiring { transfers_per_clock: kind.transfers_per_clock(), bus_bits };
                (kind.label(), wiring)
            }
            None => (card.memory_type.as_str(), card.memory_wiring),
        };
        (format!("{} GiB {kind}", card.memory_gib), wiring)
    }

    /// What the supply leaves for one card's power limit, with a tenth of its rating in reserve and a quarter for transients;
    /// none until supply and rest are known. Other cards count with the rest.
    #[must_use]
    pub fn left_for_card(&self) -> Option<Watt> {
        let usable = self.supply?.value() * (1.0 - LEAST_MARGIN / 100.0) - self.rest?.value();
        Some(Watt((usable / TRANSIENT_FACTOR).max(0.0)))
    }

    /// What the supply has left over in the worst case; none until supply and rest are known, and where
    /// a card states no power limit.
    #[must_use]
    pub fn headroom(&self, cards: &[&CardDescription]) -> Option<SupplyHeadroom> {
        let (supply, rest) = (self.supply?, self.rest?);
        let limits: Option<Vec<Watt>> = cards.iter().map(|card| highest_power(card)).collect();
        let highest: f64 = limits?.into_iter().map(Watt::value).sum();
        let worst = rest.value() + highest * TRANSIENT_FACTOR;
        Some(SupplyHeadroom {
            supply,
            sustained: Watt(rest.value() + highest),
            worst: Watt(worst),
            margin: Percent((supply.value() - worst) / supply.value() * 100.0),
        })
    }
}

/// Cards draw more than their limit for moments that a regulator is too slow to stop. Power
/// supplies bear short excursions themselves; this is what is to be added for those that last
/// longer. An assumption, on the careful side.
const TRANSIENT_FACTOR: f64 = 1.25;
/// Below this share of its rating left over, a supply is called short.
const LEAST_MARGIN: f64 = 10.0;

/// What a power supply has left over.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SupplyHeadroom {
    /// Its rating.
    pub supply: Watt,
    /// Rest of the machine and the cards at their highest limits.
    pub sustained: Watt,
    /// The same with a quarter more for the cards' transients.
    pub worst: Watt,
    /// Rating less worst case, in percent of the rating; negative where it is too small.
    pub margin: Percent,
}

impl SupplyHeadroom {
    /// Whether at least a tenth of the rating is left.
    #[must_use]
    pub fn is_enough(&self) -> bool {
        self.margin.value() >= LEAST_MARGIN
    }
}

/// Highest power limit a card may be set to; its stock limit where it offers none.
fn highest_power(card: &CardDescription) -> Option<Watt> {
    let offered = card.offer(SettingKind::PowerLimit).map(|offer| Watt(offer.maximum));
    offered.or(card.limits.power_limit)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::card;
    use crate::judge::alarm::{AlarmAct, AlarmOn};
    use crate::machine::room::Case;
    use crate::units::Celsius;
    use rstest::rstest;

    fn machine(supply: f64, rest: f64) -> Machine {
        Machine { supply: Some(Watt(supply)), rest: Some(Watt(rest)), ..Machine::default() }
    }

    #[rstest]
    #[case(750.0, 180.0, 28.33, true)]
    #[case(600.0, 180.0, 10.42, true)]
    #[case(590.0, 180.0, 8.90, false)]
    #[case(450.0, 180.0, -19.44, false)]
    fn the_worst_case_counts_the_raised_limit_and_its_transients(
        #[case] supply: f64,
        #[case] rest: f64,
        #[case] margin: f64,
        #[case] enough: bool,
    ) {
        let headroom = machine(supply, rest).headroom(&[&card()]).unwrap();
        assert_eq!((headroom.sustained, headroom.worst), (Watt(466.0), Watt(537.5)));
        assert!((headroom.margin.value() - margin).abs() < 0.01, "{:?}", headroom.margin);
        assert_eq!(headroom.is_enough(), enough);
    }

    #[test]
    fn every_card_in_the_machine_counts_and_unknowns_prove_nothing() {
        let two = machine(900.0, 180.0).headroom(&[&card(), &card()]).unwrap();
        assert_eq!(two.sustained, Watt(752.0));
        let unknown = Machine { rest: None, ..machine(900.0, 0.0) };
        assert_eq!(unknown.headroom(&[&card()]), None);
    }

    #[test]
    fn nothing_is_said_of_the_supply_where_a_card_states_no_limit() {
        let mut silent = card();
        silent.limits.power_limit = None;
        silent.offers.retain(|offer| offer.kind != SettingKind::PowerLimit);
        assert_eq!(machine(900.0, 180.0).headroom(&[&card(), &silent]), None);
    }

    #[rstest]
    #[case(|m: &mut Machine| m.supply = Some(Watt(20.0)), "a power supply of 20 W")]
    #[case(|m: &mut Machine| m.rest = Some(Watt(-1.0)), "a rest of the machine of -1 W")]
    #[case(|m: &mut Machine| m.room = Some(Room { ambient: Celsius(99.0), case: Case::Open }), "99 °C")]
    #[case(
        |m: &mut Machine| m.alarms.push(Alarm { on: AlarmOn::HotSpot, above: f64::NAN, act: AlarmAct::Stop }),
        "an alarm threshold of NaN °C: it must be 20 to 120 °C"
    )]
    fn what_cannot_be_is_refused_by_name(
        #[case] change: impl Fn(&mut Machine),
        #[case] told: &str,
    ) {
        let mut machine = machine(700.0, 150.0);
        assert_eq!(machine.check(), Ok(()));
        change(&mut machine);
        let error = machine.check().unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }
}
