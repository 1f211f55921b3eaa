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
//! The socket lies in the [runtime directory](crate::RuntimeDir), which no other user can enter; both
//! ends check that the other one runs as the same user. Every message is bounded.

mod attached;
mod client;
mod device;
mod frames;
mod host;
mod wire;

pub use client::{Power, SlotCard};
pub use device::{Device, DeviceError, Drawn, Release};
pub use frames::FrameSlot;
pub use host::{FaultsOnRequest, LINGER, serve};

use std::fmt;
use std::fs;
use std::io;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};

use crate::runtime_dir::{RuntimeDir, check_peer, file_name};

/// Where a slot is reached: the path of its socket.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SlotAddress(PathBuf);

impl SlotAddress {
    /// The slot of the card `key` on this machine.
    #[must_use]
    pub fn of(directory: &RuntimeDir, key: &str) -> Self {
        Self(directory.path().join(format!("{}.sock", file_name(key))))
    }

    /// The slot behind the socket at this path.
    #[must_use]
    pub fn at(path: &Path) -> Self {
        Self(path.to_owned())
    }

    /// The path of its socket.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.0
    }

    /// Takes the address for a host. The socket that one who died has left is replaced.
    ///
    /// # Errors
    /// Another process has it, or the socket cannot be made.
    pub fn listen(&self) -> io::Result<UnixListener> {
        if UnixStream::connect(&self.0).is_ok() {
            let text = format!("another process listens at {self} already");
            return Err(io::Error::new(io::ErrorKind::AddrInUse, text));
        }
        // Made beside it and moved there whole: nobody sees a socket without its listener.
        let fresh = self.0.with_extension(format!("{}.new", std::process::id()));
        let named = |error: io::Error| io::Error::new(error.kind(), format!("{self}: {error}"));
        let listener = UnixListener::bind(&fresh).map_err(named)?;
        fs::rename(&fresh, &self.0).map_err(named)?;
        Ok(listener)
    }

    /// Takes the socket away, while its listener still stands.
    fn withdraw(&self) {
        // One that stays behind is replaced by the next host.
        let _ = fs::remove_file(&self.0);
    }

    fn connect(&self) -> io::Result<UnixStream> {
        let stream = UnixStream::connect(&self.0)?;
        check_peer(&stream)
            .map_err(|error| io::Error::new(error.kind(), format!("{self}: {error}")))?;
        Ok(stream)
    }
}

impl From<String> for SlotAddress {
    fn from(address: String) -> Self {
        Self(address.into())
    }
}

impl fmt::Display for SlotAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.display().fmt(f)
    }
}
