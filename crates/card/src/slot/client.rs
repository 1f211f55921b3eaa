//! A card in a slot, as the engine and the guard see it.

use std::io::{self, BufReader, ErrorKind};
use std::os::unix::net::UnixStream;
use std::thread;
use std::time::{Duration, Instant};

use yard_step_core::{CardDescription, Percent, Room, Sample, Seconds, Settings, WantedLimits};

use super::SlotAddress;
use super::wire::{MOST_REPLY, Reply, Request};
use crate::lines::{exchange, is_late};
use crate::{Card, CardError, CeilingRecord, DrawsAt, FaultInjection, LoadLost, Ran, Reach, Work};

/// Starts the process that hosts the slot.
pub type Power = Box<dyn Fn() -> io::Result<()> + Send>;

/// How long an answer is waited for; working may take longer, by as long as the host waits for a
/// load that does not move.
const ANSWER: Duration = Duration::from_secs(2);
const WORK_ANSWER: Duration = Duration::from_secs(8);
/// How long a host may take to come up.
const COMES_UP: Duration = Duration::from_secs(5);
/// Time between two tries to reach it.
const BETWEEN_TRIES: Duration = Duration::from_millis(2);

/// A stand-in in a process of its own.
pub struct SlotCard {
    address: SlotAddress,
    line: Option<BufReader<UnixStream>>,
    power: Option<Power>,
    description: CardDescription,
    /// What there is to say of it as it was found.
    told: Vec<String>,
    /// What the sensors read at the end of the last span of work.
    sensed: Option<Sample>,
}

impl SlotCard {
    /// Reaches the card in a slot. Where there is none, `power` switches the machine on.
    ///
    /// # Errors
    /// There is no card, or it does not answer.
    pub fn open(address: SlotAddress, power: Option<Power>) -> Result<Self, CardError> {
        let (line, (description, told)) = reach(&address, power.as_ref())?;
        Ok(Self { address, line: Some(line), power, description, told, sensed: None })
    }

    /// Makes something go wrong with the stand-in, to rehearse it.
    ///
    /// # Errors
    /// The card is gone or does not answer.
    pub fn inject_fault(&mut self, fault: FaultInjection) -> Result<(), CardError> {
        self.ask(&Request::FaultInjection { fault }).map(drop)
    }

    fn ask(&mut self, request: &Request) -> Result<Reply, CardError> {
        let wait = match request {
            Request::Run { .. } | Request::Idle { .. } | Request::Restart => WORK_ANSWER,
            _ => ANSWER,
        };
        let Some(line) = &mut self.line else {
            return Err(CardError::Gone { cause: "it did not answer an earlier request".into() });
        };
        let answered = match ask(line, request, wait) {
            Ok(Reply::Refused { why }) => return Err(CardError::Refused { why }),
            answered => answered,
        };
        if !matches!(answered, Ok(_) | Err(CardError::MachineDown)) {
            // A late answer to this would be taken for the answer to the next.
            self.line = None;
        }
        answered
    }
}

/// What a card is, and what there is to say of it.
type Found = (CardDescription, Vec<String>);

/// Reaches the host, having it started where it is not there, and asks what card it is.
fn reach(
    address: &SlotAddress,
    power: Option<&Power>,
) -> Result<(BufReader<UnixStream>, Found), CardError> {
    let until = Instant::now() + COMES_UP;
    loop {
        let mut line = BufReader::new(connect_or_start(address, power)?);
        match ask(&mut line, &Request::Describe, ANSWER) {
            Ok(Reply::Described { card, told }) => return Ok((line, (*card, told))),
            Ok(other) => return Err(unexpected(&other)),
            // A host on its way out still lets visitors in, and leaves them without a word: the next
            // one takes its place.
            Err(CardError::Gone { .. }) if power.is_some() && Instant::now() < until => {
                thread::sleep(BETWEEN_TRIES);
            }
            Err(error) => return Err(error),
        }
    }
}

fn connect_or_start(address: &SlotAddress, power: Option<&Power>) -> Result<UnixStream, CardError> {
    let gone = |error: io::Error| CardError::Gone { cause: error.to_string() };
    match (address.connect(), power) {
        (Ok(stream), _) => Ok(stream),
        (Err(error), None) => Err(gone(error)),
        // Somebody else's socket: switching a machine on beside it would not help.
        (Err(error), _) if error.kind() == ErrorKind::PermissionDenied => Err(gone(error)),
        (Err(_), Some(power)) => {
            power().map_err(gone)?;
            wait_for_host(address).map_err(gone)
        }
    }
}

fn wait_for_host(address: &SlotAddress) -> io::Result<UnixStream> {
    let until = Instant::now() + COMES_UP;
    loop {
        match address.connect() {
            Ok(stream) => return Ok(stream),
            Err(error) if Instant::now() > until => return Err(error),
            Err(_) => thread::sleep(BETWEEN_TRIES),
        }
    }
}

fn ask(
    line: &mut BufReader<UnixStream>,
    request: &Request,
    wait: Duration,
) -> Result<Reply, CardError> {
    match exchange(line, request, (wait, MOST_REPLY)) {
        Ok(Reply::MachineDown) => Err(CardError::MachineDown),
        Ok(reply) => Ok(reply),
        Err(error) if is_late(&error) => {
            let waited = Seconds(wait.as_secs_f64());
            Err(CardError::NoAnswer { doing: request.doing(), waited })
        }
        Err(error) => Err(CardError::Gone { cause: error.to_string() }),
    }
}

fn unexpected(reply: &Reply) -> CardError {
    CardError::Gone { cause: format!("something else answered: {reply:?}") }
}

impl Card for SlotCard {
    fn description(&self) -> &CardDescription {
        &self.description
    }

    fn apply(&mut self, settings: &Settings) -> Result<(), CardError> {
        self.sensed = None;
        self.ask(&Request::Apply { settings: Box::new(*settings) }).map(drop)
    }

    fn taken(&mut self) -> Result<Settings, CardError> {
        match self.ask(&Request::Taken)? {
            Reply::Holds { settings } => Ok(settings.with_unwritten_fan(&self.description)),
            other => Err(unexpected(&other)),
        }
    }

    fn turn_fan(&mut self, speed: Percent) -> Result<(), CardError> {
        self.ask(&Request::TurnFan { percent: speed }).map(drop)
    }

    fn sample(&mut self) -> Result<Sample, CardError> {
        if let Some(sample) = self.sensed.take() {
            return Ok(sample);
        }
        match self.ask(&Request::Sample)? {
            Reply::Sensed { sample } => Ok(*sample),
            other => Err(unexpected(&other)),
        }
    }

    /// The load has attached itself to the slot: one in this process cannot be called from there.
    fn run(&mut self, span: Seconds, _: Work<'_>) -> Result<Ran, LoadLost> {
        self.sensed = None;
        match self.ask(&Request::Run { seconds: span.value() }) {
            Ok(Reply::Ran { frames, sample }) => {
                self.sensed = Some(*sample);
                Ok(Ran { frames })
            }
            Ok(Reply::Lost { how }) => Err(how),
            Err(CardError::MachineDown) => Err(LoadLost::MachineDown),
            Ok(_) | Err(_) => Err(LoadLost::Gone),
        }
    }

    fn idle(&mut self, span: Seconds) {
        self.sensed = None;
        // That the card is gone shows when it is asked for something.
        let _ = self.ask(&Request::Idle { seconds: span.value() });
    }

    fn set_room(&mut self, room: Room) {
        let _ = self.ask(&Request::Room { room });
    }

    fn restart_machine(&mut self) -> bool {
        self.sensed = None;
        // The old line may still owe an answer.
        self.line = reach(&self.address, self.power.as_ref()).ok().map(|(line, _)| line);
        let is_restarted = self.ask(&Request::Restart).is_ok();
        // It may have come up with other limits.
        if let Ok(Reply::Described { card, told }) = self.ask(&Request::Describe) {
            (self.description, self.told) = (*card, told);
        }
        is_restarted
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

    fn told(&mut self) -> Vec<String> {
        std::mem::take(&mut self.told)
    }

    fn boot(&mut self) -> String {
        match self.ask(&Request::Boot) {
            Ok(Reply::Booted { boot }) => boot,
            _ => String::new(),
        }
    }

    fn leave(&mut self) {
        // A machine that is gone needs not be switched off.
        let _ = self.ask(&Request::Leave);
    }

    fn draws_at(&self) -> Option<DrawsAt> {
        Some(DrawsAt::Slot(self.address.clone()))
    }

    fn reach(&self) -> Option<Reach> {
        Some(Reach::Slot(self.address.path().to_owned()))
    }
}
