//! A load that has attached itself to a card: its frames come in, and go back drawn.

use std::collections::VecDeque;
use std::io::{self, BufRead, BufReader, ErrorKind, Write};
use std::os::unix::net::UnixStream;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use yard_step_core::{Demand, Frame, Seconds, Workload};

use super::wire::{
    DRAWN, HAND_IN, HANDED_IN, LOST, MOST_AHEAD, MOST_PIXELS, OTHERWISE, PIXELS, RIGHT,
    take_demand, take_side,
};
use crate::lines::is_a_pause;
use crate::{Card, LoadLost, Work};

/// How long a load may keep the card waiting for work before it counts as hung.
const NO_WORK: Duration = Duration::from_secs(2);
/// How long the rest of a step waits for the next frame, to begin it with what that asks for.
const SOON: Duration = Duration::from_millis(200);

/// Has a card work for a span of time on the frames of the load that is attached, where one is; how many it finished.
///
/// # Errors
/// The card dropped the load, or the load does not move.
pub(super) fn work(
    attached: &mut Option<Attached>,
    card: &mut dyn Card,
    span: Seconds,
    hurried: &AtomicUsize,
) -> Result<Option<u64>, LoadLost> {
    let result = match attached {
        None => card.run(span, Work::Elsewhere).map(|ran| ran.frames),
        Some(load) => load.work(card, span, hurried),
    };
    if attached.as_ref().is_some_and(|load| load.has_left) {
        *attached = None;
    }
    result
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
pub(super) struct Attached {
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
    /// A load at the other end of a stream, which is told that it is attached.
    ///
    /// # Errors
    /// It is gone already.
    pub(super) fn new(mut stream: UnixStream) -> io::Result<Self> {
        stream.set_read_timeout(Some(Duration::from_millis(20)))?;
        // Nobody has to wait for a load that does not read what it asked for.
        stream.set_write_timeout(Some(NO_WORK))?;
        stream.write_all(&[1])?;
        Ok(Self {
            stream: BufReader::new(stream),
            answers: Vec::new(),
            frame: HandedIn::default(),
            ahead: VecDeque::new(),
            is_handed_in: false,
            stalled: false,
            has_left: false,
            frames: 0,
        })
    }

    /// Whether a frame is handed in, or comes within `patience`.
    pub(super) fn has_work(&mut self, patience: Duration, hurried: &AtomicUsize) -> bool {
        self.look_for_work(patience, hurried);
        self.is_handed_in
    }

    /// Whether it has ended as a program does that is done.
    pub(super) fn has_left(&self) -> bool {
        self.has_left
    }

    /// Whether it does not move any more.
    pub(super) fn is_stalled(&self) -> bool {
        self.stalled
    }

    fn work(
        &mut self,
        card: &mut dyn Card,
        span: Seconds,
        hurried: &AtomicUsize,
    ) -> Result<Option<u64>, LoadLost> {
        self.frames = 0;
        if !self.wait_for_work(hurried) {
            if self.has_left {
                return card.run(span, Work::Elsewhere).map(|ran| ran.frames);
            }
            return Err(LoadLost::Hung);
        }
        let mut working = Working { load: self, hurried };
        let ran = card.run(span, Work::Here(&mut working));
        self.send();
        match ran {
            Err(LoadLost::Died) => self.tell_of_the_loss(),
            // It waits for its frame, and nobody tells it why.
            Err(LoadLost::Hung) => self.stalled = true,
            _ => {}
        }
        match ran {
            Ok(_) if self.stalled => Err(LoadLost::Hung),
            Ok(_) => Ok(Some(self.frames)),
            Err(lost) => Err(lost),
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
    pub(super) fn tell_of_the_loss(&mut self) {
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
