//! The three numbers a memory rate is told in, kept apart.

use serde::{Deserialize, Serialize};

use crate::units::{GigabytesPerSecond, MegaTransfers, Mhz};

/// How a card's memory is wired: what turns its actual clock into a rate.
///
/// ```
/// use yard_step_core::{GigabytesPerSecond, MegaTransfers, MemoryWiring, Mhz};
///
/// let wiring = MemoryWiring { transfers_per_clock: 8, bus_bits: 256 };
/// assert_eq!(wiring.effective(Mhz(1_750.0)), MegaTransfers(14_000.0));
/// assert_eq!(wiring.bandwidth(Mhz(1_750.0)), GigabytesPerSecond(448.0));
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct MemoryWiring {
    /// Transfers on each data pin in one actual clock.
    pub transfers_per_clock: u32,
    /// Data pins of the whole bus.
    pub bus_bits: u32,
}

impl MemoryWiring {
    /// Effective rate: actual clock times transfers per clock.
    #[must_use]
    pub fn effective(self, actual: Mhz) -> MegaTransfers {
        MegaTransfers(actual.value() * f64::from(self.transfers_per_clock))
    }

    /// Bandwidth: effective rate times bus width, eight bits to a byte.
    #[must_use]
    pub fn bandwidth(self, actual: Mhz) -> GigabytesPerSecond {
        GigabytesPerSecond(self.effective(actual).value() * f64::from(self.bus_bits) / 8_000.0)
    }
}
