//! The memory of a card as its user tells of it, where the card does not state it: the kernel's files tell the clock of
//! the memory controller, but neither the kind of the memory nor the width of its bus.

use serde::{Deserialize, Serialize};

/// Widths of a memory bus that are believed, bits.
pub const BUS_BITS: (u32, u32) = (16, 8_192);

/// Kinds of memory for which the kernel documents how many transfers there are in a clock of the controller.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::IntoStaticStr,
    strum::EnumString,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "UPPERCASE", ascii_case_insensitive)]
pub enum MemoryKind {
    /// Graphics memory of the fifth generation.
    Gddr5,
    /// Graphics memory of the sixth generation.
    Gddr6,
    /// Stacked memory of any generation.
    Hbm,
}

impl MemoryKind {
    /// All of them, in the order of their declaration.
    pub const ALL: [Self; 3] = [Self::Gddr5, Self::Gddr6, Self::Hbm];

    /// Its name.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// Transfers on each data pin in one clock of the memory controller: the product of the two factors in the kernel's
    /// documentation of `pp_od_clk_voltage`.
    #[must_use]
    pub const fn transfers_per_clock(self) -> u32 {
        match self {
            Self::Gddr5 => 4,
            Self::Gddr6 => 2 * 8,
            Self::Hbm => 2,
        }
    }
}

/// What the user said of the memory of one card.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CardMemory {
    /// Key of the card.
    pub card: String,
    /// Its kind.
    pub kind: MemoryKind,
    /// Data pins of the whole bus.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bus_bits: Option<u32>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::card::description::CardDescription;
    use crate::card::memory_rate::MemoryWiring;
    use crate::fixtures;
    use crate::machine::supply::Machine;
    use crate::units::{GigabytesPerSecond, MegaTransfers, Mhz};
    use rstest::rstest;

    fn silent() -> CardDescription {
        CardDescription {
            memory_type: "of a kind not stated".into(),
            memory_gib: 8,
            memory_wiring: MemoryWiring::default(),
            ..fixtures::card()
        }
    }

    // The figures of the two examples in the kernel's documentation, and one of our own.
    #[rstest]
    #[case(MemoryKind::Gddr5, 1_750.0, 128, 7_000.0, 112.0)]
    #[case(MemoryKind::Gddr6, 875.0, 256, 14_000.0, 448.0)]
    #[case(MemoryKind::Hbm, 900.0, 2_048, 1_800.0, 460.8)]
    fn a_clock_of_the_controller_becomes_a_rate_as_the_kernel_documents(
        #[case] kind: MemoryKind,
        #[case] clock: f64,
        #[case] bits: u32,
        #[case] rate: f64,
        #[case] bandwidth: f64,
    ) {
        let card = silent();
        let said = CardMemory { card: card.key(), kind, bus_bits: Some(bits) };
        let machine = Machine { memories: vec![said], ..Machine::default() };
        let (told, wiring) = machine.memory_of(&card);
        assert_eq!(told, format!("8 GiB {}", kind.label()));
        assert_eq!(wiring.effective(Mhz(clock)), Some(MegaTransfers(rate)));
        assert_eq!(wiring.bandwidth(Mhz(clock)), Some(GigabytesPerSecond(bandwidth)));
    }

    #[test]
    fn what_nobody_said_stays_unknown() {
        let (told, wiring) = Machine::default().memory_of(&silent());
        assert_eq!(told, "8 GiB of a kind not stated");
        assert_eq!((wiring.effective(Mhz(900.0)), wiring.bandwidth(Mhz(900.0))), (None, None));
        let said = CardMemory { card: silent().key(), kind: MemoryKind::Hbm, bus_bits: None };
        let (_, wiring) =
            Machine { memories: vec![said], ..Machine::default() }.memory_of(&silent());
        assert_eq!(wiring.effective(Mhz(900.0)), Some(MegaTransfers(1_800.0)));
        assert_eq!(wiring.bandwidth(Mhz(900.0)), None, "nobody said how wide the bus is");
    }

    #[test]
    fn what_a_card_states_itself_is_not_overruled() {
        let card = fixtures::card();
        let said = CardMemory { card: card.key(), kind: MemoryKind::Hbm, bus_bits: Some(64) };
        let machine = Machine { memories: vec![said], ..Machine::default() };
        assert_eq!(machine.memory_of(&card).1, card.memory_wiring);
    }
}
