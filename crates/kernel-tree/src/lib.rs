//! A stand-in card as the kernel's device files: what a program that tunes real cards reads and writes, with a simulated
//! card behind it.
//!
//! ```text
//!   reads, writes ──► mount (FUSE) ──► Device: files ⇄ settings and sensors ──► Card (a stand-in)
//! ```
//!
//! The device behaves as the kernel does: the table takes edits until they are committed, values out of range are refused,
//! the card rounds in silence, and files vanish for a while during a reset.

mod device;
mod limits;
mod mount;

pub use device::{Device, File, Layout, Unsuited};
pub use mount::{Mounted, mount};
