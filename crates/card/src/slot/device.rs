//! A load's side of the socket: frames in, frames out.

use std::io::{self, Read, Write};
use std::net::Shutdown;
use std::os::unix::net::UnixStream;

use thiserror::Error;
use yard_step_core::{Demand, Frame, Seconds};

use super::SlotAddress;
use super::wire::{DRAWN, Request, put_demand};

/// Why a frame was not drawn.
#[derive(Debug, Error)]
pub enum DeviceError {
    /// The card dropped the load.
    #[error("device lost")]
    Lost,
    /// The card is not there.
    #[error("cannot reach the card: {0}")]
    Unreachable(#[from] io::Error),
}

/// A card, as far as a load that draws on it goes.
pub struct Device {
    stream: UnixStream,
    bytes: Vec<u8>,
}

/// Lets a [`Device`] go from another thread.
#[derive(Debug)]
pub struct Release(UnixStream);

impl Release {
    /// Lets it go.
    pub fn now(self) {
        // One that is closed already is let go.
        let _ = self.0.shutdown(Shutdown::Both);
    }
}

impl Device {
    /// Attaches a load to the card in a slot. It takes the place of one that was attached before.
    ///
    /// # Errors
    /// There is no such slot.
    pub fn attach(address: &SlotAddress) -> Result<Self, DeviceError> {
        let mut stream = address.connect()?;
        let mut line = serde_json::to_vec(&Request::Draw).map_err(io::Error::from)?;
        line.push(b'\n');
        stream.write_all(&line)?;
        let mut attached = [0];
        stream.read_exact(&mut attached)?;
        Ok(Self { stream, bytes: Vec::new() })
    }

    /// A handle by which another thread lets the device go: whoever waits for a frame then gets
    /// [`DeviceError::Unreachable`].
    ///
    /// # Errors
    /// The system has no room for another handle.
    pub fn release(&self) -> io::Result<Release> {
        self.stream.try_clone().map(Release)
    }

    /// Has the card draw `frame`, which comes back as it was drawn; returns when it was finished,
    /// since the load was begun. Waits as long as the card takes.
    ///
    /// # Errors
    /// The device is lost, or the card gone.
    pub fn draw(&mut self, demand: &Demand, frame: &mut Frame) -> Result<Seconds, DeviceError> {
        self.bytes.clear();
        self.bytes.extend((frame.width as u32).to_le_bytes());
        self.bytes.extend((frame.height as u32).to_le_bytes());
        put_demand(&mut self.bytes, demand);
        self.bytes.extend_from_slice(bytemuck::cast_slice(&frame.pixels));
        self.stream.write_all(&self.bytes)?;
        let mut head = [0; DRAWN];
        self.stream.read_exact(&mut head)?;
        let [status, at @ ..] = head;
        if status != 0 {
            return Err(DeviceError::Lost);
        }
        self.stream.read_exact(bytemuck::cast_slice_mut(&mut frame.pixels))?;
        Ok(Seconds(f64::from_le_bytes(at)))
    }
}
