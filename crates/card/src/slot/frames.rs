//! A slot for loads alone: the card itself is reached in another way, as a mounted one is through its files.

use std::io::{self, BufReader, ErrorKind};
use std::os::unix::net::{UnixListener, UnixStream};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use yard_step_core::Seconds;

use super::SlotAddress;
use super::attached::{Attached, work};
use super::wire::{MOST_REQUEST, Request};
use crate::lines::read_line;
use crate::runtime_dir::check_peer;
use crate::{Card, LoadLost, Ran};

/// Time between two looks whether it is to end.
const LOOK: Duration = Duration::from_millis(50);
/// How long a load may take to say what it wants.
const SAYS: Duration = Duration::from_secs(2);

/// How long the next frame is waited for.
const SOON: Duration = Duration::from_millis(20);
/// Nobody is in a hurry.
static NOBODY: AtomicUsize = AtomicUsize::new(0);

/// A place where loads attach themselves.
pub struct FrameSlot {
    address: SlotAddress,
    inside: Arc<Inside>,
}

#[derive(Default)]
struct Inside {
    load: Mutex<Option<Attached>>,
    ends: AtomicBool,
}

impl FrameSlot {
    /// Listens for loads at an address.
    ///
    /// # Errors
    /// Another process has it.
    pub fn open(address: SlotAddress) -> io::Result<Self> {
        let listener = address.listen()?;
        listener.set_nonblocking(true)?;
        let inside = Arc::new(Inside::default());
        let own = Arc::clone(&inside);
        thread::spawn(move || own.listen(&listener));
        Ok(Self { address, inside })
    }

    /// Has a card work for a span of time on what is attached; it idles where nothing is.
    ///
    /// # Errors
    /// The card dropped the load, or the load does not move.
    pub fn work(&self, card: &mut dyn Card, span: Seconds) -> Result<Ran, LoadLost> {
        let mut load = self.inside.load.lock().unwrap_or_else(PoisonError::into_inner);
        // Nobody is kept waiting by a load that has no work: whether it hangs is for others to judge.
        let has_work = load.as_mut().is_some_and(|load| load.has_work(SOON, &NOBODY));
        if !has_work {
            load.take_if(|load| load.has_left());
            card.idle(span);
            return Ok(Ran::default());
        }
        match work(&mut load, card, span, &NOBODY) {
            Ok(frames) => Ok(Ran { frames }),
            Err(lost) => {
                // Whatever became of the card, this load does not get it back.
                if let Some(mut load) = load.take() {
                    load.tell_of_the_loss();
                }
                Err(lost)
            }
        }
    }
}

impl Inside {
    fn listen(&self, listener: &UnixListener) {
        while !self.ends.load(Ordering::SeqCst) {
            match listener.accept() {
                // Whoever breaks off has nobody left to tell.
                Ok((stream, _)) => drop(self.receive(stream)),
                Err(error) if error.kind() == ErrorKind::WouldBlock => thread::sleep(LOOK),
                Err(_) => return,
            }
        }
    }

    fn receive(&self, stream: UnixStream) -> io::Result<()> {
        check_peer(&stream)?;
        stream.set_nonblocking(false)?;
        stream.set_read_timeout(Some(SAYS))?;
        let mut line = Vec::new();
        let mut reader = BufReader::new(stream.try_clone()?);
        let said = read_line(&mut reader, &mut line, MOST_REQUEST)?;
        if said && matches!(serde_json::from_slice(&line), Ok(Request::Draw)) {
            let attached = Attached::new(stream)?;
            *self.load.lock().unwrap_or_else(PoisonError::into_inner) = Some(attached);
        }
        Ok(())
    }
}

impl Drop for FrameSlot {
    fn drop(&mut self) {
        self.inside.ends.store(true, Ordering::SeqCst);
        self.address.withdraw();
    }
}
