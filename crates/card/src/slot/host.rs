//! The host of a slot: one stand-in, and whoever comes to it through the socket.

use std::io::{self, BufReader, ErrorKind};
use std::os::unix::net::{UnixListener, UnixStream};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use tracing::{debug, info};
use yard_step_core::{Seconds, WantedLimits};

use super::SlotAddress;
use super::attached::{Attached, work};
use super::wire::{MOST_REQUEST, MOST_SPAN, Reply, Request};
use crate::lines::{is_a_pause, read_line, send, wait_for_visitor};
use crate::runtime_dir::check_peer;
use crate::users::this_user;
use crate::{Card, CeilingRecord, CeilingStore, FaultInjection, StandIn};

/// How long a slot without visitors stays, so that a restarted program finds the card as it was.
pub const LINGER: Duration = Duration::from_secs(2);
/// How long the first visitor is waited for.
const FIRST_VISITOR: Duration = Duration::from_secs(10);
/// Time between two looks whether the machine is to be switched off. A visitor is let in at once.
const LOOK: Duration = Duration::from_millis(50);
/// How long a visitor is listened to before the host looks whether the card is still there.
const LISTENS: Duration = Duration::from_millis(200);
/// Time that a machine must run with an override of its limits before the start counts as clean, s.
const BEARS_AFTER: f64 = 60.0;
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
pub fn serve(
    address: &SlotAddress,
    card: StandIn,
    faults: FaultsOnRequest,
    ceiling: Option<CeilingStore>,
) -> io::Result<()> {
    let listener = address.listen()?;
    listener.set_nonblocking(true)?;
    info!("hosts {}", card.description().key());
    let host = Host {
        faults,
        slot: Mutex::new(Slot::started(card, ceiling)),
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
                    until = Instant::now() + LINGER;
                    let host = &host;
                    scope.spawn(move || {
                        // A visitor who breaks off has nobody left to tell.
                        let _ = host.receive(stream);
                        host.visitors.fetch_sub(1, Ordering::SeqCst);
                    });
                }
                Some(Err(error)) if error.kind() != ErrorKind::WouldBlock => return Err(error),
                Some(Err(_)) => listener.iter().for_each(|at| wait_for_visitor(at, LOOK)),
                None => thread::sleep(LOOK),
            }
            if host.vanished.load(Ordering::SeqCst) {
                info!("the card has vanished");
                withdraw(address, &mut listener);
                return Ok(());
            }
            if host.visitors.load(Ordering::SeqCst) > 0 {
                until = Instant::now() + LINGER;
            } else if listener.is_none() || Instant::now() > until {
                info!("nobody is left: the machine is switched off");
                withdraw(address, &mut listener);
                host.slot().note_borne();
                return Ok(());
            }
        }
    })
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
    /// Where its machine keeps what its driver is to read.
    ceiling: Option<CeilingStore>,
    /// What there is to say of the start of its machine.
    told: Vec<String>,
    /// Seconds of the card's time until the machine has borne the limits that it was started with; none once it has.
    bears_after: Option<f64>,
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
            send(&mut writer, &reply)?;
        }
    }

    fn attach(&self, stream: UnixStream) -> io::Result<()> {
        let mut slot = self.slot();
        slot.load = Some(Attached::new(stream)?);
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
                let card = Box::new(slot.card.description().clone());
                Reply::Described { card, told: slot.told.clone() }
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
                slot.pass(seconds);
                Reply::Done
            }
            Request::Room { room } => {
                slot.card.set_room(room);
                Reply::Done
            }
            Request::Restart => {
                // No program survives the restart of its machine.
                slot.load = None;
                slot.read_limits();
                slot.card.restart_machine();
                Reply::Done
            }
            Request::Leave => {
                slot.note_borne();
                self.left.store(true, Ordering::SeqCst);
                Reply::Done
            }
            Request::Ceiling => match slot.ceiling() {
                Ok(record) => Reply::Ceiling { record: Box::new(record) },
                Err(why) => Reply::Refused { why },
            },
            Request::WantLimits { wanted } => {
                match slot.want_limits(wanted.map(|wanted| *wanted)) {
                    Ok(()) => Reply::Done,
                    Err(why) => Reply::Refused { why },
                }
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
    /// A machine that is switched on: its driver reads the limits that it is to read.
    fn started(card: StandIn, ceiling: Option<CeilingStore>) -> Self {
        let mut slot = Self { card, load: None, ceiling, told: Vec::new(), bears_after: None };
        slot.read_limits();
        slot.card.load_limits();
        slot
    }

    /// Has the driver read its limits at the start that follows. It is noted beforehand that this is tried.
    fn read_limits(&mut self) {
        let Some(store) = &self.ceiling else { return };
        let makers = self.card.makers_limits();
        let (table, told) = match store.begin_start(&makers, &self.card.driver_release()) {
            Ok(read) => read,
            Err(error) => (None, Some(format!("The maker's limits are in force: {error}"))),
        };
        self.bears_after = table.is_some().then_some(BEARS_AFTER);
        self.told = told.into_iter().collect();
        self.card.override_limits(table);
    }

    /// Where its machine keeps its limits.
    fn ceiling_store(&self) -> Result<&CeilingStore, String> {
        self.ceiling.as_ref().ok_or_else(|| "its machine keeps no limit table".into())
    }

    /// What is known of its limit table.
    fn ceiling(&self) -> Result<CeilingRecord, String> {
        let known = self.ceiling_store()?.change(&self.card.makers_limits(), |_| ());
        known.map(|(record, ())| record).map_err(|error| error.to_string())
    }

    /// Has the driver read a table at its next start; none is the maker's.
    fn want_limits(&self, wanted: Option<WantedLimits>) -> Result<(), String> {
        let (makers, driver) = (self.card.makers_limits(), self.card.driver_release());
        let wanted = wanted.map(|wanted| (wanted, driver.as_str(), this_user()));
        self.ceiling_store()?.want(&makers, wanted).map_err(|error| error.to_string())
    }

    /// Notes that the machine has borne its limits, if it is up.
    fn note_borne(&mut self) {
        if self.bears_after.is_none() || self.card.taken().is_err() {
            return;
        }
        self.bears_after = None;
        let makers = self.card.makers_limits();
        // Where this cannot be written, the next start is with the maker's limits, and says why.
        let noted = self.ceiling.as_ref().map(|store| store.note_borne(&makers));
        if let Some(Err(error)) = noted {
            info!("could not note that the machine came up with its limits: {error}");
        }
    }

    /// Time passes for the machine.
    fn pass(&mut self, seconds: f64) {
        self.bears_after = self.bears_after.map(|left| left - seconds);
        if self.bears_after.is_some_and(|left| left <= 0.0) {
            self.note_borne();
        }
    }

    fn run(&mut self, seconds: f64, hurried: &AtomicUsize) -> Reply {
        let result = work(&mut self.load, &mut self.card, Seconds(seconds), hurried);
        self.pass(seconds);
        let sample = self.card.sample();
        match (result, sample) {
            (Ok(frames), Ok(sample)) => Reply::Ran { frames, sample: Box::new(sample) },
            (Ok(_), Err(_)) => Reply::MachineDown,
            (Err(how), _) => Reply::Lost { how },
        }
    }

    fn forget_the_dead(&mut self) {
        if self.load.as_ref().is_some_and(Attached::is_stalled) {
            self.load = None;
        }
    }
}
