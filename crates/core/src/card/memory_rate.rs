//! The three numbers a memory rate is told in, kept apart.

use serde::{Deserialize, Serialize};

use crate::units::{GigabytesPerSecond, MegaTransfers, Mhz};

/// How a card's memory is wired: what turns its actual clock into a rate.
///
/// ```
/// use yard_step_core::{GigabytesPerSecond, MegaTransfers, MemoryWiring, Mhz};
///
/// let wiring = MemoryWiring { transfers_per_clock: 8, bus_bits: 256 };
/// assert_eq!(wiring.effective(Mhz(1_750.0)), Some(MegaTransfers(14_000.0)));
/// assert_eq!(wiring.bandwidth(Mhz(1_750.0)), Some(GigabytesPerSecond(448.0)));
/// assert_eq!(MemoryWiring::default().effective(Mhz(1_750.0)), None);
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct MemoryWiring {
    /// Transfers on each data pin in one actual clock; 0 where it is not known.
    pub transfers_per_clock: u32,
    /// Data pins of the whole bus; 0 where it is not known.
    pub bus_bits: u32,
}

impl MemoryWiring {
    /// Effective rate: actual clock times transfers per clock; none where those are not known.
    #[must_use]
    pub fn effective(self, actual: Mhz) -> Option<MegaTransfers> {
        let rate = actual.value() * f64::from(self.transfers_per_clock);
        (self.transfers_per_clock > 0).then_some(MegaTransfers(rate))
    }

    /// Bandwidth: effective rate times bus width, eight bits to a byte; none where one of them is not known.
    #[must_use]
    pub fn bandwidth(self, actual: Mhz) -> Option<GigabytesPerSecond> {
        let rate = self.effective(actual)?.value() * f64::from(self.bus_bits) / 8_000.0;
        (self.bus_bits > 0).then_some(GigabytesPerSecond(rate))
    }
}
