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

pub mod app;
mod attention;
#[cfg(any(test, feature = "fixtures"))]
pub mod fixtures;
pub mod keys;
pub mod overlays;
pub mod theme;
pub mod views;
mod widgets;

use std::io::{self, Write, stdout};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::{Duration, Instant};
use std::{panic, thread};

use app::outcome::Outcome;
use app::screen;
use app::state::State;
use attention::{Attention, ring, takes_notifications};
use keys::action::View;
use ratatui::Terminal;
use ratatui::backend::CrosstermBackend;
use ratatui::crossterm::event::{
    DisableFocusChange, DisableMouseCapture, EnableFocusChange, EnableMouseCapture, Event,
};
use ratatui::crossterm::terminal::{
    EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode,
};
use ratatui::crossterm::{cursor, event, execute};
use ratatui::layout::Rect;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use theme::{Depth, Theme};
use views::ledger::browser::{Answer, Browser};
use views::trace::state::Imported;
use yard_step_core::{CheckedFrame, Trace, printable};
use yard_step_engine::load::OutsideSpec;
use yard_step_engine::{Command, Engine, Pace, Rack, Session, SpoiltPicture};
use yard_step_ledger::Ledger;
use yard_step_report::{ImportedTrace, Meaning, png_of};
use yard_step_scenes::SizedScene;

use crate::config;
use crate::exchange::chart::write_chart;
use crate::exchange::page::write_page;
use crate::metrics::Page;
use crate::output::write_new;
use crate::publisher::Publisher;
use crate::status::Status;

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
    /// A file was written, or could not be.
    Told(String),
    /// How far the reading of a file has come.
    Reading(String),
    /// A file was not read.
    NotImported(String),
    /// The browser of the ledger answers.
    Browsed(Answer),
    /// A trace made elsewhere was read.
    Imported(Box<Imported>),
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
pub(crate) fn run(
    engine: Engine,
    rack: Rack,
    ledger: Ledger,
    pace: Pace,
    told: Vec<String>,
    page: Option<Page>,
    config: Option<PathBuf>,
) -> io::Result<()> {
    let first = if engine.climb().trials().is_empty() { View::Survey } else { View::Climb };
    let (happenings, inbox) = channel();
    watch_signals(happenings.clone())?;
    let answers = happenings.clone();
    let of_pages = ledger.clone();
    let browser = Browser::start(ledger, move |answer| {
        let _ = answers.send(Happening::Browsed(answer));
    })
    .map_err(io::Error::other)?;
    let screen = Screen::enter()?;
    watch_terminal(happenings.clone());
    let sender = happenings.clone();
    let session = Session::start(engine, rack, pace, told, move || {
        // Nobody listening any more means that the program ends.
        let _ = sender.send(Happening::Changed);
    });
    let result = keep_drawing(
        (&session, &browser, &of_pages),
        &inbox,
        &happenings,
        State::new(first),
        (page, config),
    );
    // The terminal is given back before the card is: nobody should look at a dead screen.
    drop(screen);
    let left = session.end().map_err(io::Error::other);
    result.and(left)
}

fn keep_drawing(
    (session, browser, of_pages): (&Session, &Browser, &Ledger),
    inbox: &Receiver<Happening>,
    happenings: &Sender<Happening>,
    mut state: State,
    (page, config): (Option<Page>, Option<PathBuf>),
) -> io::Result<()> {
    let theme = Theme::new(Depth::of_environment());
    let mut terminal = Terminal::new(CrosstermBackend::new(stdout()))?;
    let mut cancelled = Arc::new(AtomicBool::new(false));
    let mut publisher = Publisher::new(page);
    let mut attention = Attention::default();
    let notify = takes_notifications(std::env::var("TERM").ok().as_deref());
    loop {
        let snapshot = session.snapshot();
        publisher.publish(|| Status::of_snapshot(&snapshot));
        if state.view == View::Ledger
            && let Some(ask) = state.ledger.wants(&snapshot)
        {
            browser.ask(ask);
        }
        if state.view == View::Weigh
            && let Some(card) = state.weigh.wants(&snapshot)
        {
            browser.weigh(card);
        }
        if let Some(text) = attention.call(&snapshot) {
            ring(&mut stdout(), &text, notify)?;
        }
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
                    match &event {
                        Event::FocusGained => attention.is_in_front(true),
                        Event::FocusLost => attention.is_in_front(false),
                        _ => {}
                    }
                    match state.handle(&event, &session.snapshot(), area) {
                        Outcome::Nothing => {}
                        Outcome::Send(command) => drop(session.command(command)),
                        Outcome::Export { trace, window, path } => {
                            let done = move || Happening::Told(export(&trace, window, &path));
                            aside(happenings.clone(), done);
                        }
                        Outcome::ExportPicture { scene, frame, title, path } => {
                            aside(happenings.clone(), move || {
                                Happening::Told(export_picture(scene, &frame, &title, &path))
                            });
                        }
                        Outcome::AddLoad(spec) => match add_load(config.as_deref(), &spec) {
                            Ok(()) => drop(session.command(Command::AddLoad(spec))),
                            Err(why) => state.told(why),
                        },
                        Outcome::Change(change) => browser.change(change),
                        Outcome::ExportChart { what, svg, path } => {
                            aside(happenings.clone(), move || {
                                let done = write_chart(&what, &svg, &path);
                                Happening::Told(done.unwrap_or_else(|why| why))
                            });
                        }
                        Outcome::ExportPage { card, wish, path } => {
                            let ledger = of_pages.clone();
                            aside(happenings.clone(), move || {
                                let done = write_page(&ledger, &card, &wish, &path);
                                Happening::Told(done.unwrap_or_else(|why| why))
                            });
                        }
                        Outcome::Import(path) => {
                            cancelled = Arc::new(AtomicBool::new(false));
                            let (progress, cancel) = (happenings.clone(), Arc::clone(&cancelled));
                            aside(happenings.clone(), move || import(&path, &progress, &cancel));
                        }
                        Outcome::CancelImport => cancelled.store(true, Ordering::SeqCst),
                        Outcome::Quit => return Ok(()),
                    }
                }
                // A panic anywhere has given the terminal back already: nothing may be drawn.
                Happening::Changed if PANICKED.load(Ordering::SeqCst) => {
                    return Err(io::Error::other("a part of Yard Step failed, as told above"));
                }
                Happening::Changed => {}
                Happening::Told(text) => state.told(text),
                Happening::Reading(text) => state.reads(text),
                Happening::NotImported(why) => state.has_read(Some(why)),
                Happening::Browsed(Answer::Found(found)) => state.ledger.take(found),
                Happening::Browsed(Answer::Weighed(runs)) => state.weigh.take(runs),
                Happening::Browsed(Answer::Done(done)) => {
                    if state.done(done) {
                        session.command(Command::ReadLists);
                    }
                }
                Happening::Imported(imported) => {
                    state.has_read(None);
                    state.trace.import(*imported);
                }
                Happening::Signal => return Ok(()),
                Happening::Lost(error) => return Err(error),
            }
            happening = inbox.recv_timeout(FRAME.saturating_sub(began.elapsed())).ok();
        }
    }
}

/// Writes a load to the configuration.
fn add_load(path: Option<&Path>, spec: &OutsideSpec) -> Result<(), String> {
    let path =
        path.ok_or("This user has no home directory: name a configuration with --config.")?;
    config::add(path, spec).map_err(|failure| failure.text().to_owned())
}

/// Does what takes a while on a thread of its own, so that the screen goes on.
fn aside(happenings: Sender<Happening>, work: impl FnOnce() -> Happening + Send + 'static) {
    thread::spawn(move || {
        // Nobody listening any more means that the program ends.
        let _ = happenings.send(work());
    });
}

fn export(trace: &Trace, window: (f64, f64), path: &Path) -> String {
    let written = crate::exchange::trace::rows(trace, window)
        .map_err(|failure| failure.text().to_owned())
        .and_then(|(bytes, count)| write_new(path, &bytes).map(|()| count));
    match written {
        Ok(count) => format!("{count} samples are in {}.", path.display()),
        Err(why) => why,
    }
}

/// Writes a spoilt frame, its reference and their difference side by side.
fn export_picture(scene: SizedScene, frame: &CheckedFrame, title: &str, path: &Path) -> String {
    let Some(pictures) = SpoiltPicture::of(scene, frame) else {
        return "The pixels of this frame are not known.".into();
    };
    let sides = [&pictures.drawn, &pictures.reference, &pictures.difference];
    let frames = sides.map(|picture| picture.frame.as_ref());
    let texts = [
        ("Title", title.to_owned()),
        ("Description", "drawn, expected, difference (brightened)".into()),
    ];
    // Only a new file: nothing that is there is written over.
    let bytes = png_of(&frames, &texts).map_err(|error| error.to_string());
    match bytes.and_then(|bytes| write_new(path, &bytes)) {
        Ok(()) => format!("The picture is in {}.", path.display()),
        Err(why) => why,
    }
}

fn import(path: &Path, progress: &Sender<Happening>, cancelled: &AtomicBool) -> Happening {
    let name = printable(&path.file_name().unwrap_or_default().to_string_lossy());
    let mut last = None;
    let mut go_on = |share: f64| {
        let percent = (share * 100.0) as u32;
        if last != Some(percent) {
            last = Some(percent);
            let text = format!("Reading {name}: {percent} %. Esc cancels.");
            // Nobody listening any more means that the program ends.
            let _ = progress.send(Happening::Reading(text));
        }
        !cancelled.load(Ordering::SeqCst)
    };
    match crate::exchange::trace::read(path, &mut go_on) {
        Ok(imported) => Happening::Imported(Box::new(Imported {
            name,
            told: told_of(&imported),
            trace: imported.trace,
        })),
        Err(failure) => Happening::NotImported(failure.text().to_owned()),
    }
}

/// What there is to say about how a file was read: columns and rows that were left out.
fn told_of(imported: &ImportedTrace) -> Vec<String> {
    let mut told = vec![match imported.left_out {
        0 => "Every row was read.".to_owned(),
        1 => "1 row was left out.".to_owned(),
        count => format!("{count} rows were left out."),
    }];
    for column in &imported.columns {
        if let Meaning::LeftOut(why) = &column.meaning {
            told.push(format!("Column \"{}\" left out: {why}.", column.header));
        }
    }
    told.extend(imported.problems.iter().map(|row| format!("Line {}: {}.", row.line, row.cause)));
    told
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
        execute!(
            stdout(),
            EnterAlternateScreen,
            EnableMouseCapture,
            EnableFocusChange,
            cursor::Hide
        )?;
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
    let _ = execute!(
        stdout(),
        DisableFocusChange,
        DisableMouseCapture,
        LeaveAlternateScreen,
        cursor::Show
    );
    let _ = disable_raw_mode();
    let _ = stdout().flush();
}
