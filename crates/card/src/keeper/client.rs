//! A real card as the engine and the guard have it: its files are read here, and written by the keeper.

use std::io::{self, BufReader, ErrorKind};
use std::os::unix::net::UnixStream;
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use nix::unistd::geteuid;
use yard_step_core::{
    Absent, CardDescription, Limiter, Percent, Sample, Seconds, SettingKind, Settings, WantedLimits,
};

use super::peers::Peer;
use super::wire::{MOST_REPLY, Reply, Request};
use super::{KeptAddress, SOFTWARE, locked};
use crate::kernel::{CardFiles, Events, RESET, boot_id, look_at};
use crate::lines::{exchange, is_late};
use crate::slot::SlotAddress;
use crate::{
    Card, CardError, CeilingRecord, Clock, DrawsAt, LoadLost, Ran, Reach, SignOfLife, Work,
};

/// How long an answer is waited for: the keeper waits for files that a reset has taken away.
const ANSWER: Duration = Duration::from_secs(6);
/// Time after which the keeper is told that its controller is alive.
const SIGN_OF_LIFE: Duration = Duration::from_millis(200);
/// Time between two looks whether the card still holds what it took.
const LOOK: Duration = Duration::from_secs(1);
/// How far time may lag before it is not made up any more.
const MOST_LAG: Duration = Duration::from_millis(100);
/// What is said of a real card beforehand.
const TIME_AND_END: &str = "This is a real card: its minutes are those of the clock on the wall. Closing the terminal, like \
    quitting, ends the run and puts the card back.";
/// A file of a mounted stand-in that tells where loads reach it; no real card has it.
const FRAMES: &str = "stand_in_slot";

/// The line to the keeper, shared with whoever gives signs of life while the card's owner waits for something else.
#[derive(Default)]
struct Line(Arc<Mutex<Option<Spoken>>>);

/// An open line, and when something was last said on it.
struct Spoken {
    stream: BufReader<UnixStream>,
    at: Instant,
}

impl Line {
    fn is_open(&self) -> bool {
        locked(&self.0).is_some()
    }

    fn open(&self, stream: BufReader<UnixStream>) {
        *locked(&self.0) = Some(Spoken { stream, at: Instant::now() });
    }

    fn close(&self) {
        locked(&self.0).take();
    }

    /// Whether the keeper has heard nothing on it for a while.
    fn is_due(&self) -> bool {
        locked(&self.0).as_ref().is_some_and(Spoken::is_due)
    }

    /// Asks the keeper; none where the line is closed.
    fn ask(&self, request: &Request) -> Option<io::Result<Reply>> {
        locked(&self.0).as_mut().map(|spoken| spoken.ask(request))
    }

    /// Tells the keeper that its controller is alive, if it has heard nothing for a while. Where it does not take that, the
    /// line is closed, which shows when the card is asked next.
    fn sign_of_life(&self) -> SignOfLife {
        // The card alone keeps the line open.
        let line = Arc::downgrade(&self.0);
        Arc::new(move || {
            let Some(line) = line.upgrade() else { return };
            let mut line = locked(&line);
            let answered = line.as_mut().filter(|spoken| spoken.is_due());
            let answered = answered.map(|spoken| spoken.ask(&Request::Alive));
            if answered.is_some_and(|answered| !matches!(answered, Ok(Reply::Done))) {
                line.take();
            }
        })
    }
}

impl Spoken {
    fn is_due(&self) -> bool {
        self.at.elapsed() >= SIGN_OF_LIFE
    }

    fn ask(&mut self, request: &Request) -> io::Result<Reply> {
        let answered = exchange(&mut self.stream, request, (ANSWER, MOST_REPLY));
        self.at = Instant::now();
        answered
    }
}

/// A real card, read here and written by its keeper.
pub struct KeptCard {
    address: KeptAddress,
    files: CardFiles,
    line: Line,
    description: CardDescription,
    controls: bool,
    events: Events,
    /// Why there is no keeper, where there is none.
    no_keeper: Option<String>,
    refused: Vec<String>,
    told: Vec<String>,
    way_back: Option<Settings>,
    /// Whether the keeper was reached anew since the card was asked last: it was put back meanwhile.
    was_let_go: bool,
    /// What was set on the card after it was asked last, as its files tell it.
    state: Option<String>,
    /// When the card was last looked at.
    looked: Instant,
    /// Until when the time that was asked for has passed.
    due: Instant,
}

impl KeptCard {
    /// Opens a card, to control it or only to look at it. Without a keeper it can be looked at only, and says why.
    ///
    /// # Errors
    /// There is no such card, or another process controls it.
    pub fn open(address: &KeptAddress, controls: bool) -> Result<Self, CardError> {
        let card = look_at(&address.sysfs, &address.card)?;
        let now = Instant::now();
        let files = CardFiles::at_factory(&address.sysfs, card);
        let events = Events::of(&address.sysfs, files.device(), &address.card);
        let mut kept = Self {
            address: address.clone(),
            description: files.description().clone(),
            files,
            line: Line::default(),
            controls,
            events,
            no_keeper: None,
            refused: Vec::new(),
            told: Vec::new(),
            way_back: None,
            was_let_go: false,
            state: None,
            looked: now,
            due: now,
        };
        match kept.call_keeper() {
            Ok(()) => Ok(kept),
            Err(CardError::NoKeeper { why }) => {
                kept.description = look_only(&kept.description, &why);
                kept.told = vec![format!(
                    "Nothing can be changed on this card: {why}. Run \"sudo yard-step keeper\" in another \
                     terminal, and open Yard Step again. Sensors, loads and the baseline need none."
                )];
                kept.no_keeper = Some(why);
                Ok(kept)
            }
            Err(error) => Err(error),
        }
    }

    /// The same card, if there is a keeper that holds it.
    ///
    /// # Errors
    /// There is none: the card can be looked at, and not be put back.
    pub(crate) fn held(self) -> Result<Self, CardError> {
        match &self.no_keeper {
            Some(why) => Err(CardError::NoKeeper { why: why.clone() }),
            None => Ok(self),
        }
    }

    /// Reaches the keeper and opens the card there.
    fn call_keeper(&mut self) -> Result<(), CardError> {
        let stream = connect(&self.address).map_err(|error| self.no_keeper_for(&error))?;
        let mut line = BufReader::new(stream);
        let card = self.address.card.clone();
        let request = Request::Open { card, controls: self.controls };
        match exchange(&mut line, &request, (ANSWER, MOST_REPLY)) {
            Ok(Reply::Opened { factory, told }) => {
                self.told = told;
                self.told.push(TIME_AND_END.to_owned());
                self.description = factory.description.clone();
                // The card may hold a profile now; the keeper saw it before.
                self.files.take_factory(*factory);
            }
            Ok(Reply::Refused { why }) => return Err(CardError::Refused { why }),
            Ok(Reply::Gone { why }) => return Err(CardError::Gone { cause: why }),
            Ok(other) => return Err(unexpected(&other)),
            Err(error) => return Err(self.no_keeper_for(&error)),
        }
        self.line.open(line);
        if let Some(way_back) = self.way_back {
            self.ask(&Request::WayBack { settings: Box::new(way_back) })?;
        }
        Ok(())
    }

    fn no_keeper_for(&self, error: &io::Error) -> CardError {
        let socket = self.address.keeper.display();
        let why = match error.kind() {
            ErrorKind::NotFound | ErrorKind::ConnectionRefused => {
                format!("no keeper answers at {socket}")
            }
            _ => format!("the keeper at {socket} cannot be reached: {error}"),
        };
        CardError::NoKeeper { why }
    }

    /// Asks the keeper, which is reached anew where it was gone.
    fn ask(&mut self, request: &Request) -> Result<Reply, CardError> {
        if let Some(why) = &self.no_keeper {
            return Err(CardError::NoKeeper { why: why.clone() });
        }
        if !self.line.is_open() {
            self.call_keeper()?;
            self.was_let_go = true;
        }
        let Some(answered) = self.line.ask(request) else { return Err(unexpected(&Reply::Done)) };
        match answered {
            Ok(Reply::Refused { why }) => Err(CardError::Refused { why }),
            Ok(Reply::Gone { why }) => Err(CardError::Gone { cause: why }),
            Ok(Reply::NotControlled { why }) => {
                self.line.close();
                Err(CardError::NoKeeper { why })
            }
            Ok(reply) => Ok(reply),
            Err(error) if is_late(&error) => {
                // A late answer to this would be taken for the answer to the next.
                self.line.close();
                let waited = Seconds(ANSWER.as_secs_f64());
                Err(CardError::NoAnswer { doing: request.doing(), waited })
            }
            Err(error) => {
                self.line.close();
                let why = format!("the keeper is gone ({error})");
                Err(CardError::NoKeeper { why })
            }
        }
    }

    /// Tells the keeper now and then that its controller is alive.
    fn live(&mut self) -> Result<(), CardError> {
        if !self.controls || !self.line.is_due() {
            return Ok(());
        }
        self.ask(&Request::Alive).map(drop)
    }

    /// Waits until a span has passed since the last one.
    fn wait(&mut self, span: Seconds) {
        let now = Instant::now();
        if self.due + MOST_LAG < now {
            self.due = now;
        }
        self.due += Duration::from_secs_f64(span.value().max(0.0));
        // A long span is waited for in pieces, so that the keeper hears of it.
        while let Some(left) = self.due.checked_duration_since(Instant::now()) {
            thread::sleep(left.min(SIGN_OF_LIFE));
            // That the keeper is gone shows when it is asked for something.
            let _ = self.live();
        }
    }

    /// What has become of a card whose files have gone: in a reset they come back.
    fn wait_for_files(&mut self) -> LoadLost {
        let until = Instant::now() + RESET;
        while Instant::now() < until {
            self.files.look_again();
            let _ = self.live();
            if self.files.is_there() {
                return LoadLost::DriverReset;
            }
        }
        LoadLost::Gone
    }

    /// What has become of the card while it worked.
    fn look(&mut self) -> Result<(), LoadLost> {
        let announced = self.events.newest();
        if !self.files.is_there() {
            return Err(self.wait_for_files());
        }
        if announced.is_some() {
            return Err(LoadLost::DriverReset);
        }
        if self.controls && self.no_keeper.is_none() {
            self.live().map_err(|_| LoadLost::KeeperGone)?;
            if !self.line.is_open() || self.was_let_go {
                return Err(LoadLost::KeeperGone);
            }
        }
        if self.looked.elapsed() < LOOK {
            return Ok(());
        }
        self.looked = Instant::now();
        let Some(state) = &self.state else { return Ok(()) };
        if self.files.state().ok().as_ref() == Some(state) {
            return Ok(());
        }
        let stock = Settings::stock(&self.description);
        let now = self.files.taken().map_err(|_| LoadLost::Gone)?;
        // A driver that was reset holds what it has from the factory.
        Err(match now.is_but_for_fan(&stock) {
            true => LoadLost::DriverReset,
            false => LoadLost::SettingsChanged,
        })
    }
}

/// The description of a card that nobody may write to.
fn look_only(card: &CardDescription, why: &str) -> CardDescription {
    let mut card = card.clone();
    let offered: Vec<SettingKind> = card.offered().collect();
    let why = format!("run \"sudo yard-step keeper\" first: {why}");
    card.absent_settings.extend(offered.into_iter().map(|what| Absent { what, why: why.clone() }));
    (card.offers, card.curve) = (Vec::new(), None);
    card
}

fn connect(address: &KeptAddress) -> io::Result<UnixStream> {
    let stream = UnixStream::connect(&address.keeper)?;
    // Nobody but root, or this user, may say that it keeps a card.
    let peer = Peer::of(&stream)?.user;
    if !peer.is_root() && peer != geteuid() {
        let text = format!("it runs as user {peer}, not as root");
        return Err(io::Error::new(ErrorKind::PermissionDenied, text));
    }
    stream.set_write_timeout(Some(ANSWER))?;
    Ok(stream)
}

fn unexpected(reply: &Reply) -> CardError {
    CardError::Gone { cause: format!("something else answered: {reply:?}") }
}

impl Card for KeptCard {
    fn description(&self) -> &CardDescription {
        &self.description
    }

    fn apply(&mut self, settings: &Settings) -> Result<(), CardError> {
        self.state = None;
        // What was announced before has nothing to do with what comes.
        self.events.newest();
        if self.no_keeper.is_some() {
            // What it does not offer is not asked for: there is nothing to be written.
            return Ok(());
        }
        match self.ask(&Request::Apply { settings: Box::new(*settings) })? {
            Reply::Applied { refused } => {
                (self.refused, self.was_let_go) = (refused, false);
                Ok(())
            }
            other => Err(unexpected(&other)),
        }
    }

    fn refused(&mut self) -> Vec<String> {
        std::mem::take(&mut self.refused)
    }

    fn taken(&mut self) -> Result<Settings, CardError> {
        if self.no_keeper.is_some() {
            return Ok(Settings::default());
        }
        match self.ask(&Request::Taken)? {
            Reply::Holds { settings } => {
                let settings = settings.with_unwritten_fan(&self.description);
                self.state = self.files.state().ok();
                Ok(settings)
            }
            other => Err(unexpected(&other)),
        }
    }

    fn factory(&mut self) -> Option<Settings> {
        self.no_keeper.is_none().then(|| Settings::stock(&self.description))
    }

    fn turn_fan(&mut self, speed: Percent) -> Result<(), CardError> {
        self.ask(&Request::TurnFan { percent: speed }).map(drop)
    }

    fn sample(&mut self) -> Result<Sample, CardError> {
        // That the keeper is gone shows when it is asked for something.
        let _ = self.live();
        Ok(self.files.sample())
    }

    /// The load works by itself.
    fn run(&mut self, span: Seconds, _: Work<'_>) -> Result<Ran, LoadLost> {
        self.wait(span);
        self.look().map(|()| Ran::default())
    }

    fn idle(&mut self, span: Seconds) {
        self.wait(span);
    }

    fn restart_machine(&mut self) -> bool {
        false
    }

    fn boot(&mut self) -> String {
        boot_id()
    }

    fn leave(&mut self) {
        // A keeper that is gone has put the card back, or its successor does.
        if self.controls && self.line.is_open() {
            let _ = self.ask(&Request::Leave);
        }
    }

    fn hold_way_back(&mut self, settings: &Settings) -> Result<(), CardError> {
        if self.no_keeper.is_some() || self.way_back == Some(*settings) {
            return Ok(());
        }
        self.ask(&Request::WayBack { settings: Box::new(*settings) })?;
        self.way_back = Some(*settings);
        Ok(())
    }

    fn set_start(&mut self, settings: Option<&Settings>, renew: bool) -> Result<(), CardError> {
        if self.no_keeper.is_some() {
            return Ok(());
        }
        let settings = settings.map(|settings| Box::new(*settings));
        self.ask(&Request::Start { settings, renew }).map(drop)
    }

    fn ceiling(&mut self) -> Result<CeilingRecord, CardError> {
        match self.ask(&Request::Ceiling)? {
            Reply::Ceiling { record } => Ok(*record),
            other => Err(unexpected(&other)),
        }
    }

    fn want_limits(&mut self, wanted: Option<&WantedLimits>) -> Result<(), CardError> {
        let wanted = wanted.map(|wanted| Box::new(wanted.clone()));
        self.ask(&Request::WantLimits { wanted }).map(drop)
    }

    fn renew_makers_limits(&mut self) -> Result<(), CardError> {
        self.ask(&Request::RenewLimits).map(drop)
    }

    fn told(&mut self) -> Vec<String> {
        std::mem::take(&mut self.told)
    }

    fn system_log(&mut self, since: Seconds) -> Vec<String> {
        match self.ask(&Request::Log { seconds: since.value() }) {
            Ok(Reply::Logged { lines }) => lines,
            _ => Vec::new(),
        }
    }

    fn limiter(&self) -> Option<Limiter> {
        self.files.limiter()
    }

    fn sign_of_life(&self) -> Option<SignOfLife> {
        self.controls.then(|| self.line.sign_of_life())
    }

    fn draws_at(&self) -> Option<DrawsAt> {
        let slot = self.files.path_in(FRAMES).map(SlotAddress::from);
        Some(match slot.filter(|_| !self.address.in_software) {
            Some(slot) => DrawsAt::Slot(slot),
            None if self.address.in_software => DrawsAt::Gpu(SOFTWARE.to_owned()),
            None => DrawsAt::Gpu(self.address.card.clone()),
        })
    }

    fn reach(&self) -> Option<Reach> {
        self.no_keeper.is_none().then(|| Reach::Kept(self.address.clone()))
    }

    fn clock(&self) -> Clock {
        Clock::Wall
    }
}
