//! A stand-in in a process of its own: the slot it sits in.
//!
//! ```text
//!   engine ── SlotCard ──┐                            ┌── StandIn (virtual clock)
//!   guard  ── SlotCard ──┼── socket ── host: one lock ┤
//!   load   ── Device ────┘                            └── frames of the load, spoilt or not
//! ```
//!
//! A real card outlives the programs that use it, and so does this one: whatever becomes of the
//! engine, the card goes on holding its settings until somebody puts it back. Its virtual clock
//! moves only when the engine says so; a load that has attached itself is given frames to draw as
//! the card comes to them, and waits in between, as it would for a driver.
//!
//! The socket lies in the abstract namespace of the system (`unix(7)`): it needs no file, and is
//! gone with the process that holds it.

mod client;
mod device;
mod host;
mod wire;

pub use client::{Power, SlotCard};
pub use device::{Device, DeviceError};
pub use host::{LINGER, serve};

use std::fmt;
use std::io;
use std::os::linux::net::SocketAddrExt;
use std::os::unix::net::{SocketAddr, UnixListener, UnixStream};
use std::path::Path;

/// Where a slot is reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SlotAddress(String);

impl SlotAddress {
    /// The slot of the card `key` in the machine whose records lie in `directory`.
    #[must_use]
    pub fn of(directory: &Path, key: &str) -> Self {
        // FNV-1a, 64 bit (RFC 9923): names in this namespace are at most 107 bytes long.
        let place = directory.as_os_str().as_encoded_bytes();
        let digest = place.iter().fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| {
            (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3)
        });
        Self(format!("yard-step/{digest:016x}/{key}"))
    }

    fn resolve(&self) -> io::Result<SocketAddr> {
        SocketAddr::from_abstract_name(self.0.as_bytes())
    }

    /// Takes the address for a host.
    ///
    /// # Errors
    /// Another host has it.
    pub fn listen(&self) -> io::Result<UnixListener> {
        UnixListener::bind_addr(&self.resolve()?)
    }

    fn connect(&self) -> io::Result<UnixStream> {
        UnixStream::connect_addr(&self.resolve()?)
    }
}

impl From<String> for SlotAddress {
    fn from(address: String) -> Self {
        Self(address)
    }
}

impl fmt::Display for SlotAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}
