//! The host of a slot: one stand-in, and whoever comes to it through the socket.

use std::collections::VecDeque;
use std::io::{self, BufRead, BufReader, ErrorKind, Write};
use std::os::fd::AsFd;
use std::os::unix::net::{UnixListener, UnixStream};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use tracing::{debug, info};
use yard_step_core::{Demand, Frame, Seconds, Workload};

use super::SlotAddress;
use super::wire::{
    DRAWN, HAND_IN, HANDED_IN, LOST, MOST_AHEAD, MOST_PIXELS, MOST_REQUEST, MOST_SPAN, OTHERWISE,
    PIXELS, RIGHT, Reply, Request, read_line, take_demand, take_side,
};
use crate::runtime_dir::check_peer;
use crate::{Card, FaultInjection, LoadLost, StandIn, Work};

/// How long a slot without visitors stays, so that a restarted program finds the card as it was.
pub const LINGER: Duration = Duration::from_secs(2);
/// How long the first visitor is waited for.
const FIRST_VISITOR: Duration = Duration::from_secs(10);
/// Time between two looks whether the machine is to be switched off. A visitor is let in at once.
const LOOK: Duration = Duration::from_millis(50);
/// How long a visitor is listened to before the host looks whether the card is still there.
const LISTENS: Duration = Duration::from_millis(200);
/// How long a load may keep the card waiting for work before it counts as hung.
const NO_WORK: Duration = Duration::from_secs(2);
/// How long the rest of a step waits for the next frame, to begin it with what that asks for.
const SOON: Duration = Duration::from_millis(200);

/// Most visitors at a time: an engine, a guard, a load, and a few that look on.
const MOST_VISITORS: usize = 32;

/// Whether visitors may make a stand-in go wrong on purpose.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum FaultsOnRequest {
    /// They may not: they are refused.
    #[default]
    Refused,
    /// They may: for tests and rehearsals.
    Allowed,
}

/// Serves a stand-in at `address` to all who come, until nobody has been there for [`LINGER`], or it
/// vanished.
///
/// # Errors
/// Another process has the address, or the socket fails.
pub fn serve(address: &SlotAddress, card: StandIn, faults: FaultsOnRequest) -> io::Result<()> {
    let listener = address.listen()?;
    listener.set_nonblocking(true)?;
    info!("hosts {}", card.description().key());
    let host = Host {
        faults,
        slot: Mutex::new(Slot { card, load: None }),
        visitors: AtomicUsize::new(0),
        hurried: AtomicUsize::new(0),
        vanished: AtomicBool::new(false),
        left: AtomicBool::new(false),
    };
    let mut listener = Some(listener);
    let mut until = Instant::now() + FIRST_VISITOR;
    thread::scope(|scope| {
        loop {
            if host.left.load(Ordering::SeqCst) {
                // Whoever comes now finds nobody, and switches another machine on.
                withdraw(address, &mut listener);
            }
            match listener.as_ref().map(UnixListener::accept) {
                // A visitor who may not come in, or finds no room, sees the connection closed.
                Some(Ok((stream, _))) if check_peer(&stream).is_err() => {}
                Some(Ok(_)) if host.visitors.load(Ordering::SeqCst) >= MOST_VISITORS => {}
                Some(Ok((stream, _))) => {
                    debug!("somebody came");
                    host.visitors.fetch_add(1, Ordering::SeqCst);
                    let host = &host;
                    scope.spawn(move || {
                        // A visitor who breaks off has nobody left to tell.
                        let _ = host.receive(stream);
                        host.visitors.fetch_sub(1, Ordering::SeqCst);
                    });
                }
                Some(Err(error)) if error.kind() != ErrorKind::WouldBlock => return Err(error),
                Some(Err(_)) => listener.iter().for_each(wait_for_visitor),
                None => thread::sleep(LOOK),
            }
            if host.vanished.load(Ordering::SeqCst) {
                info!("the card has vanished");
                withdraw(address, &mut listener);
                return Ok(());
            }
            if host.visitors.load(Ordering::SeqCst) > 0 {
                until = until.max(Instant::now() + LINGER);
            } else if listener.is_none() || Instant::now() > until {
                info!("nobody is left: the machine is switched off");
                withdraw(address, &mut listener);
                return Ok(());
            }
        }
    })
}

/// Waits until somebody comes, but no longer than until the next look.
fn wait_for_visitor(listener: &UnixListener) {
    let mut watched = [PollFd::new(listener.as_fd(), PollFlags::POLLIN)];
    let most = PollTimeout::try_from(LOOK).unwrap_or(PollTimeout::ZERO);
    // Where it cannot be waited for, it is looked for at once.
    let _ = poll(&mut watched, most);
}

/// Gives the address up, in this order: while the listener stands, no other host takes it.
fn withdraw(address: &SlotAddress, listener: &mut Option<UnixListener>) {
    if listener.is_some() {
        address.withdraw();
        *listener = None;
    }
}

struct Host {
    faults: FaultsOnRequest,
    slot: Mutex<Slot>,
    visitors: AtomicUsize,
    /// Visitors who want the card to hold settings and cannot wait for a load that does not move.
    hurried: AtomicUsize,
    vanished: AtomicBool,
    /// Whether its controller has left in order.
    left: AtomicBool,
}

struct Slot {
    card: StandIn,
    load: Option<Attached>,
}

impl Host {
    fn slot(&self) -> MutexGuard<'_, Slot> {
        self.slot.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn receive(&self, stream: UnixStream) -> io::Result<()> {
        stream.set_nonblocking(false)?;
        // Looks up now and then, so that nobody is kept when the card vanishes.
        stream.set_read_timeout(Some(LISTENS))?;
        let mut reader = BufReader::new(stream.try_clone()?);
        let mut writer = stream;
        let mut line = Vec::new();
        loop {
            if self.vanished.load(Ordering::SeqCst) {
                return Ok(());
            }
            match read_line(&mut reader, &mut line, MOST_REQUEST) {
                Ok(true) => {}
                Ok(false) => return Ok(()),
                Err(error) if is_a_pause(&error) => continue,
                Err(error) => return Err(error),
            }
            let reply = match serde_json::from_slice(&line) {
                Ok(Request::Draw) => return self.attach(writer),
                Ok(request) => match self.answer(request) {
                    Some(reply) => reply,
                    None => {
                        line.clear();
                        continue;
                    }
                },
                Err(error) => Reply::Refused { why: error.to_string() },
            };
            line.clear();
            let mut text = serde_json::to_vec(&reply)?;
            text.push(b'\n');
            writer.write_all(&text)?;
        }
    }

    fn attach(&self, mut stream: UnixStream) -> io::Result<()> {
        stream.set_read_timeout(Some(Duration::from_millis(20)))?;
        // Nobody has to wait for a load that does not read what it asked for.
        stream.set_write_timeout(Some(NO_WORK))?;
        let mut slot = self.slot();
        stream.write_all(&[1])?;
        slot.load = Some(Attached::new(stream));
        Ok(())
    }

    /// Does what is asked; no answer at all where that is the fault.
    fn answer(&self, request: Request) -> Option<Reply> {
        let hurried = matches!(request, Request::Apply { .. });
        if hurried {
            self.hurried.fetch_add(1, Ordering::SeqCst);
        }
        let mut slot = self.slot();
        if hurried {
            self.hurried.fetch_sub(1, Ordering::SeqCst);
        }
        let down = |_| Reply::MachineDown;
        if let Request::Run { seconds } | Request::Idle { seconds } = request
            && !(0.0..=MOST_SPAN).contains(&seconds)
        {
            let why = format!("a span must be 0 to {MOST_SPAN} s, and was {seconds} s");
            return Some(Reply::Refused { why });
        }
        Some(match request {
            Request::Describe => {
                Reply::Described { card: Box::new(slot.card.description().clone()) }
            }
            Request::Apply { .. } if slot.card.injected_fault() == FaultInjection::ApplyHangs => {
                return None;
            }
            Request::Apply { settings } => {
                debug!("is asked to hold {settings:?}");
                slot.card.apply(&settings).map_or_else(down, |()| Reply::Done)
            }
            Request::Taken => slot
                .card
                .taken()
                .map_or_else(down, |settings| Reply::Holds { settings: Box::new(settings) }),
            Request::TurnFan { percent } => {
                slot.card.turn_fan(percent).map_or_else(down, |()| Reply::Done)
            }
            Request::Sample => slot
                .card
                .sample()
                .map_or_else(down, |sample| Reply::Sensed { sample: Box::new(sample) }),
            Request::Run { seconds } => slot.run(seconds, &self.hurried),
            Request::Idle { seconds } => {
                slot.forget_the_dead();
                slot.card.idle(Seconds(seconds));
                Reply::Done
            }
            Request::Room { room } => {
                slot.card.set_room(room);
                Reply::Done
            }
            Request::Restart => {
                // No program survives the restart of its machine.
                slot.load = None;
                slot.card.restart_machine();
                Reply::Done
            }
            Request::Leave => {
                self.left.store(true, Ordering::SeqCst);
                Reply::Done
            }
            Request::Boot => Reply::Booted { boot: slot.card.boot() },
            Request::FaultInjection { .. } if self.faults == FaultsOnRequest::Refused => {
                Reply::Refused {
                    why: "faults are injected only into a slot started for that".into(),
                }
            }
            Request::FaultInjection { fault } => {
                slot.card.inject_fault(fault);
                self.vanished.store(fault == FaultInjection::Vanishes, Ordering::SeqCst);
                Reply::Done
            }
            Request::Draw => Reply::Refused { why: "that is said first".into() },
        })
    }
}

impl Slot {
    fn run(&mut self, seconds: f64, hurried: &AtomicUsize) -> Reply {
        let result = match &mut self.load {
            None => self.card.run(Seconds(seconds), Work::Elsewhere).map(|ran| ran.frames),
            Some(load) => {
                load.frames = 0;
                if load.wait_for_work(hurried) {
                    let mut working = Working { load, hurried };
                    let ran = self.card.run(Seconds(seconds), Work::Here(&mut working));
                    load.send();
                    match ran {
                        Err(LoadLost::Died) => load.tell_of_the_loss(),
                        // It waits for its frame, and nobody tells it why.
                        Err(LoadLost::Hung) => load.stalled = true,
                        _ => {}
                    }
                    match ran {
                        Ok(_) if load.stalled => Err(LoadLost::Hung),
                        Ok(_) => Ok(Some(load.frames)),
                        Err(lost) => Err(lost),
                    }
                } else if load.has_left {
                    self.card.run(Seconds(seconds), Work::Elsewhere).map(|ran| ran.frames)
                } else {
                    Err(LoadLost::Hung)
                }
            }
        };
        if self.load.as_ref().is_some_and(|load| load.has_left) {
            self.load = None;
        }
        let sample = self.card.sample();
        match (result, sample) {
            (Ok(frames), Ok(sample)) => Reply::Ran { frames, sample: Box::new(sample) },
            (Ok(_), Err(_)) => Reply::MachineDown,
            (Err(how), _) => Reply::Lost { how },
        }
    }

    fn forget_the_dead(&mut self) {
        if self.load.as_ref().is_some_and(|load| load.stalled) {
            self.load = None;
        }
    }
}

/// A frame as it is handed in.
#[derive(Debug, Clone, Copy, Default)]
struct HandedIn {
    demand: Demand,
    size: (usize, usize),
}

/// What a load says.
enum Word {
    Frame(HandedIn),
    /// The pixels follow that it was asked for.
    Pixels,
}

/// A load that has attached itself, with the frame it has handed in.
struct Attached {
    stream: BufReader<UnixStream>,
    /// Answers that are not sent yet: they go out together, before anything is waited for.
    answers: Vec<u8>,
    /// The frame that waits to be drawn, or was drawn last.
    frame: HandedIn,
    /// Frames handed in after it.
    ahead: VecDeque<HandedIn>,
    /// Whether a frame waits to be drawn.
    is_handed_in: bool,
    /// Whether it does not move, or broke off in the middle of a frame.
    stalled: bool,
    /// Whether it has ended between two frames, as a program does that is done: why, its process tells.
    has_left: bool,
    /// Frames drawn in the present span.
    frames: u64,
}

impl Attached {
    fn new(stream: UnixStream) -> Self {
        Self {
            stream: BufReader::new(stream),
            answers: Vec::new(),
            frame: HandedIn::default(),
            ahead: VecDeque::new(),
            is_handed_in: false,
            stalled: false,
            has_left: false,
            frames: 0,
        }
    }

    /// Waits until a frame is handed in; whether one is.
    fn wait_for_work(&mut self, hurried: &AtomicUsize) -> bool {
        self.look_for_work(NO_WORK, hurried);
        self.stalled |= !self.is_handed_in && !self.has_left;
        self.is_handed_in
    }

    /// Takes the next frame in if it comes within `patience`: what it asks for counts from its
    /// beginning, not from the next time somebody waits for it. That none comes is no failure yet; one
    /// that breaks off is.
    fn look_for_work(&mut self, patience: Duration, hurried: &AtomicUsize) {
        if self.is_handed_in || self.stalled || self.has_left {
            return;
        }
        match self.read_frame(patience, hurried) {
            Ok(came) => self.is_handed_in = came,
            Err(error) => self.broke_off(&error),
        }
    }

    /// Takes the next frame; whether one came, its first byte within `patience`.
    fn read_frame(&mut self, patience: Duration, hurried: &AtomicUsize) -> io::Result<bool> {
        if let Some(frame) = self.ahead.pop_front() {
            self.frame = frame;
            return Ok(true);
        }
        match self.read_word(patience, hurried)? {
            None => Ok(false),
            Some(Word::Frame(frame)) => {
                self.frame = frame;
                Ok(true)
            }
            Some(Word::Pixels) => Err(io::Error::other("nobody asked for pixels")),
        }
    }

    /// What the load says next; none where its first byte does not come within `patience`.
    fn read_word(&mut self, patience: Duration, hurried: &AtomicUsize) -> io::Result<Option<Word>> {
        if self.stream.buffer().is_empty() {
            self.send();
        }
        let mut kind = [0];
        if !read_within(&mut self.stream, &mut kind, patience, hurried)? {
            return Ok(None);
        }
        match kind {
            [HAND_IN] => {
                let mut head = [0; HANDED_IN];
                let whole = read_within(&mut self.stream, &mut head, NO_WORK, hurried)?;
                whole.then_some(()).ok_or(ErrorKind::UnexpectedEof)?;
                let size = (take_side(&head), take_side(&head[4..]));
                if size.0.saturating_mul(size.1) > MOST_PIXELS {
                    return Err(io::Error::other("no frame is that large"));
                }
                Ok(Some(Word::Frame(HandedIn { demand: take_demand(&head[8..]), size })))
            }
            [PIXELS] => Ok(Some(Word::Pixels)),
            _ => Err(io::Error::other("no load says that")),
        }
    }

    /// Asks for the pixels of the frame that waits to be drawn. Where they do not come, it is drawn no more.
    fn read_pixels(&mut self, canvas: &mut Frame, hurried: &AtomicUsize) {
        self.answer(PIXELS, Seconds(0.0), &[]);
        self.send();
        (canvas.width, canvas.height) = self.frame.size;
        canvas.pixels.resize(canvas.width * canvas.height, 0);
        match self.await_pixels(&mut canvas.pixels, hurried) {
            Ok(came) => self.stalled |= !came,
            Err(error) => self.broke_off(&error),
        }
        self.is_handed_in &= !self.stalled;
    }

    /// Reads pixels, and before them what was handed in meanwhile; whether they came.
    fn await_pixels(&mut self, pixels: &mut [u32], hurried: &AtomicUsize) -> io::Result<bool> {
        loop {
            match self.read_word(NO_WORK, hurried)? {
                Some(Word::Frame(frame)) if self.ahead.len() < MOST_AHEAD => {
                    self.ahead.push_back(frame);
                }
                Some(Word::Pixels) => {
                    let bytes = bytemuck::cast_slice_mut(pixels);
                    return read_within(&mut self.stream, bytes, NO_WORK, hurried);
                }
                _ => return Ok(false),
            }
        }
    }

    fn hand_back(&mut self, drawn: Option<&Frame>, at: Seconds) {
        match drawn {
            None => self.answer(RIGHT, at, &[]),
            Some(frame) => self.answer(OTHERWISE, at, &frame.pixels),
        }
        self.is_handed_in = false;
        self.frames += 1;
    }

    fn answer(&mut self, status: u8, at: Seconds, pixels: &[u32]) {
        self.answers.push(status);
        self.answers.extend(at.value().to_le_bytes());
        self.answers.extend_from_slice(bytemuck::cast_slice(pixels));
    }

    /// Sends the answers kept.
    fn send(&mut self) {
        if let Err(error) = self.stream.get_mut().write_all(&self.answers) {
            self.broke_off(&error);
        }
        self.answers.clear();
    }

    /// A load that is not there any more has left, with whatever it had handed in; any other hangs.
    fn broke_off(&mut self, error: &io::Error) {
        if is_an_end(error) {
            (self.has_left, self.is_handed_in) = (true, false);
            self.ahead.clear();
        } else {
            self.stalled = true;
        }
    }

    /// A load that has gone needs not be told.
    fn tell_of_the_loss(&mut self) {
        let _ = self.stream.get_mut().write_all(&[LOST; DRAWN]);
        self.stalled = true;
    }
}

/// The kind of error of a load that ended before the first byte of a frame.
const LEFT: ErrorKind = ErrorKind::NotConnected;

/// Fills a buffer, its first byte within `patience`; false where not even that came, an error where it
/// broke off after it, [`LEFT`] where the other side ended before it.
fn read_within(
    stream: &mut impl BufRead,
    buffer: &mut [u8],
    patience: Duration,
    hurried: &AtomicUsize,
) -> io::Result<bool> {
    let began = Instant::now();
    let mut there = 0;
    while there < buffer.len() {
        let patience = if there == 0 { patience } else { NO_WORK };
        let cause = match stream.read(&mut buffer[there..]) {
            Ok(0) if there == 0 => return Err(LEFT.into()),
            Ok(0) => ErrorKind::UnexpectedEof.into(),
            Ok(count) => {
                there += count;
                continue;
            }
            Err(error) if is_a_pause(&error) => {
                if began.elapsed() <= patience && hurried.load(Ordering::SeqCst) == 0 {
                    continue;
                }
                error
            }
            Err(error) => error,
        };
        return if there == 0 { Ok(false) } else { Err(cause) };
    }
    Ok(true)
}

/// A load at work, as the card sees it.
struct Working<'a> {
    load: &'a mut Attached,
    hurried: &'a AtomicUsize,
}

impl Workload for Working<'_> {
    fn demand(&self) -> Demand {
        self.load.frame.demand
    }

    fn size(&self) -> (usize, usize) {
        self.load.frame.size
    }

    fn draw(&mut self, canvas: &mut Frame) {
        if self.load.wait_for_work(self.hurried) {
            self.load.read_pixels(canvas, self.hurried);
        }
    }

    fn present(&mut self, drawn: Option<&Frame>, at: Seconds) {
        if self.load.wait_for_work(self.hurried) {
            self.load.hand_back(drawn, at);
            self.load.look_for_work(SOON, self.hurried);
        }
    }
}

/// Whether the other side has closed the connection between two words.
fn is_an_end(error: &io::Error) -> bool {
    matches!(error.kind(), LEFT | ErrorKind::BrokenPipe | ErrorKind::ConnectionReset)
}

fn is_a_pause(error: &io::Error) -> bool {
    matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut | ErrorKind::Interrupted)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    #[test]
    fn work_that_does_not_come_is_waited_for_until_somebody_is_in_a_hurry() {
        let (card, mut load) = UnixStream::pair().unwrap();
        card.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
        let mut card = BufReader::new(card);
        let hurried = AtomicUsize::new(1);
        let mut head = [0; 2];
        let came = read_within(&mut card, &mut head, Duration::MAX, &hurried);
        assert!(!came.unwrap(), "with all the time in the world");
        load.write_all(&[1, 2]).unwrap();
        assert!(read_within(&mut card, &mut head, Duration::MAX, &hurried).unwrap());
        assert_eq!(head, [1, 2], "what is there is taken even so");
        load.write_all(&[3]).unwrap();
        let broke_off = read_within(&mut card, &mut head, Duration::MAX, &hurried);
        assert!(is_a_pause(&broke_off.unwrap_err()), "in the middle of a frame");
    }
}
