//! The terminal interface.
//!
//! ```text
//!   keys, mouse ──┐
//!   signals ──────┼──► one channel ──► State: a command, or another look ──► draw(snapshot)
//!   engine ───────┘
//! ```
//!
//! The loop blocks on one channel and draws a [snapshot](yard_step_engine::Snapshot) when something
//! has come in. Nothing is computed here that is not a place on the screen.

pub mod action;
#[doc(hidden)]
pub mod fixtures;
pub mod screen;
pub mod state;
pub mod theme;
mod views;
mod widgets;

use std::io::{self, Write, stdout};
use std::panic;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;
use std::time::{Duration, Instant};

use ratatui::Terminal;
use ratatui::backend::CrosstermBackend;
use ratatui::crossterm::event::{DisableMouseCapture, EnableMouseCapture, Event};
use ratatui::crossterm::terminal::{
    EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode,
};
use ratatui::crossterm::{cursor, event, execute};
use ratatui::layout::Rect;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use yard_step_engine::{Engine, Pace, Rack, Session};

use action::View;
use state::{Outcome, State};
use theme::{Depth, Theme};

/// Least time between two frames.
const FRAME: Duration = Duration::from_millis(16);

/// Set by a panic on any thread.
static PANICKED: AtomicBool = AtomicBool::new(false);

/// Whether the terminal is ours to give back.
static TAKEN: AtomicBool = AtomicBool::new(false);

enum Happening {
    Terminal(Event),
    /// The engine has something new to show.
    Changed,
    /// Somebody wants the program to end.
    Signal,
    /// The terminal gives no events any more.
    Lost(io::Error),
}

/// Runs the interface on an engine until the user leaves. The terminal is restored on every way
/// out, panics included.
///
/// # Errors
/// The terminal cannot be set up, drawn on, or read.
pub(crate) fn run(engine: Engine, rack: Rack, pace: Pace, told: Vec<String>) -> io::Result<()> {
    let first = if engine.climb().trials().is_empty() { View::Survey } else { View::Climb };
    let (happenings, inbox) = channel();
    watch_signals(happenings.clone())?;
    let screen = Screen::enter()?;
    watch_terminal(happenings.clone());
    let session = Session::start(engine, rack, pace, told, move || {
        // Nobody listening any more means that the program ends.
        let _ = happenings.send(Happening::Changed);
    });
    let result = keep_drawing(&session, &inbox, State::new(first));
    // The terminal is given back before the card is: nobody should look at a dead screen.
    drop(screen);
    drop(session);
    result
}

fn keep_drawing(
    session: &Session,
    inbox: &Receiver<Happening>,
    mut state: State,
) -> io::Result<()> {
    let theme = Theme::new(Depth::of_environment());
    let mut terminal = Terminal::new(CrosstermBackend::new(stdout()))?;
    loop {
        let snapshot = session.snapshot();
        let began = Instant::now();
        let area: Rect = terminal
            .draw(|frame| {
                let area = frame.area();
                screen::draw(frame.buffer_mut(), area, theme, &snapshot, &state);
            })?
            .area;
        let mut happening = inbox.recv().ok();
        // Take in all that has come in the meantime, then draw once.
        while let Some(now) = happening {
            match now {
                Happening::Terminal(event) => {
                    match state.handle(&event, &session.snapshot(), area) {
                        Outcome::Nothing => {}
                        Outcome::Send(command) => drop(session.command(command)),
                        Outcome::Quit => return Ok(()),
                    }
                }
                // A panic anywhere has given the terminal back already: nothing may be drawn.
                Happening::Changed if PANICKED.load(Ordering::SeqCst) => {
                    return Err(io::Error::other("a part of Yard Step failed, as told above"));
                }
                Happening::Changed => {}
                Happening::Signal => return Ok(()),
                Happening::Lost(error) => return Err(error),
            }
            happening = inbox.recv_timeout(FRAME.saturating_sub(began.elapsed())).ok();
        }
    }
}

fn watch_terminal(happenings: Sender<Happening>) {
    thread::spawn(move || {
        loop {
            let happening = match event::read() {
                Ok(event) => Happening::Terminal(event),
                Err(error) => Happening::Lost(error),
            };
            let last = matches!(happening, Happening::Lost(_));
            if happenings.send(happening).is_err() || last {
                return;
            }
        }
    });
}

fn watch_signals(happenings: Sender<Happening>) -> io::Result<()> {
    let mut signals = Signals::new([SIGHUP, SIGINT, SIGTERM])?;
    thread::spawn(move || {
        for _ in signals.forever() {
            if happenings.send(Happening::Signal).is_err() {
                return;
            }
        }
    });
    Ok(())
}

/// The terminal while it is ours; given back when this is dropped.
struct Screen;

impl Screen {
    fn enter() -> io::Result<Self> {
        let before = panic::take_hook();
        panic::set_hook(Box::new(move |info| {
            PANICKED.store(true, Ordering::SeqCst);
            give_back();
            before(info);
        }));
        let screen = Self;
        TAKEN.store(true, Ordering::SeqCst);
        enable_raw_mode()?;
        execute!(stdout(), EnterAlternateScreen, EnableMouseCapture, cursor::Hide)?;
        Ok(screen)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        give_back();
    }
}

/// Restores the terminal as far as it is still there, once: a second time would move the cursor
/// over what was told since.
fn give_back() {
    if !TAKEN.swap(false, Ordering::SeqCst) {
        return;
    }
    let _ = execute!(stdout(), DisableMouseCapture, LeaveAlternateScreen, cursor::Show);
    let _ = disable_raw_mode();
    let _ = stdout().flush();
}
