//! The limits that a card's maker has written down for the driver, and how far they may be moved.
//!
//! ```text
//!   table:  what the maker wrote: fields with unit and value, a checksum, and whose card it is for
//!   bounds: how far a field may be moved on this machine, and what sets that bound
//!   change: one field moved, or a whole table taken; refused beyond the bounds
//!   file:   a real card's table as the kernel gives it: bytes, of which a part is known
//! ```

pub(crate) mod bounds;
pub(crate) mod change;
pub(crate) mod error;
pub(crate) mod field;
pub(crate) mod file;
pub(crate) mod reach;
pub(crate) mod table;
