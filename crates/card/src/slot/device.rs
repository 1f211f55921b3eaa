//! A load's side of the socket: frames in, frames out.

use std::io::{self, BufReader, Read, Write};
use std::net::Shutdown;
use std::os::unix::net::UnixStream;

use thiserror::Error;
use yard_step_core::{Demand, Frame, Seconds};

use super::SlotAddress;
use super::wire::{DRAWN, HAND_IN, OTHERWISE, PIXELS, RIGHT, Request, put_demand};

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

/// A frame that a card has drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct Drawn {
    /// When it was finished, since the load was begun.
    pub at: Seconds,
    /// The frame, where it is not as an unfailing card draws it or may not be.
    pub otherwise: Option<Frame>,
}

/// A card, as far as a load that draws on it goes.
pub struct Device {
    stream: BufReader<UnixStream>,
    /// Frames that are not handed in yet: they go out together, before anything is waited for.
    handed: Vec<u8>,
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
        Ok(Self { stream: BufReader::new(stream), handed: Vec::new() })
    }

    /// A handle by which another thread lets the device go: whoever waits for a frame then gets
    /// [`DeviceError::Unreachable`].
    ///
    /// # Errors
    /// The system has no room for another handle.
    pub fn release(&self) -> io::Result<Release> {
        self.stream.get_ref().try_clone().map(Release)
    }

    /// Hands in a frame of `width` and `height` to be drawn after those handed in before: at most 64 may wait.
    /// It goes out when [`drawn`](Self::drawn) has to wait.
    pub fn hand_in(&mut self, demand: &Demand, (width, height): (usize, usize)) {
        self.handed.push(HAND_IN);
        self.handed.extend((width as u32).to_le_bytes());
        self.handed.extend((height as u32).to_le_bytes());
        put_demand(&mut self.handed, demand);
    }

    /// Whether [`drawn`](Self::drawn) has to wait for the card.
    #[must_use]
    pub fn has_to_wait(&self) -> bool {
        self.stream.buffer().is_empty()
    }

    /// Has the card draw the first of the frames handed in, and waits as long as it takes. Where the card
    /// is about to draw it otherwise, `draw` has to draw it as an unfailing card would.
    ///
    /// # Errors
    /// The device is lost, or the card gone.
    pub fn drawn(&mut self, draw: impl FnOnce() -> Frame) -> Result<Drawn, DeviceError> {
        match self.answer()? {
            (RIGHT, at) => Ok(Drawn { at, otherwise: None }),
            (PIXELS, _) => {
                let mut frame = draw();
                self.stream.get_mut().write_all(&[PIXELS])?;
                self.stream.get_mut().write_all(bytemuck::cast_slice(&frame.pixels))?;
                let (OTHERWISE, at) = self.answer()? else { return Err(DeviceError::Lost) };
                self.stream.read_exact(bytemuck::cast_slice_mut(&mut frame.pixels))?;
                Ok(Drawn { at, otherwise: Some(frame) })
            }
            _ => Err(DeviceError::Lost),
        }
    }

    fn answer(&mut self) -> io::Result<(u8, Seconds)> {
        if self.has_to_wait() {
            self.stream.get_mut().write_all(&self.handed)?;
            self.handed.clear();
        }
        let mut head = [0; DRAWN];
        self.stream.read_exact(&mut head)?;
        let [status, at @ ..] = head;
        Ok((status, Seconds(f64::from_le_bytes(at))))
    }
}
