//! A place on the map of core against memory.

use crate::load::artifact::Domain;
use crate::units::MhzOffset;

/// A value for the core and one for the memory, MHz from stock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Pair {
    /// Core.
    pub core: MhzOffset,
    /// Memory.
    pub memory: MhzOffset,
}

impl Pair {
    /// The value of one domain.
    #[must_use]
    pub const fn get(self, domain: Domain) -> MhzOffset {
        match domain {
            Domain::Core => self.core,
            Domain::Memory => self.memory,
        }
    }

    pub(in crate::climb) fn set(&mut self, domain: Domain, value: MhzOffset) {
        match domain {
            Domain::Core => self.core = value,
            Domain::Memory => self.memory = value,
        }
    }
}
