//! A scene in a child process.

use std::path::PathBuf;
use std::process::Command;
use std::time::{Duration, Instant};

use yard_step_card::{Card, Clock, DrawsAt, LoadLost, Work};
use yard_step_core::{CheckedFrame, Ending, Expected, Seconds};
use yard_step_scenes::SizedScene;

use super::contract::{Load, ending_of, expected_of};
use super::kin::Kin;
use super::process::{Process, Said, in_words};
use super::protocol::{FromLoad, Reason, ToLoad, VERSION};

/// How long a load may be silent: it owes a heartbeat twice a second.
const SILENCE: Duration = Duration::from_secs(2);
/// How long it may take to say hello.
pub(super) const HELLO: Duration = Duration::from_secs(5);
/// The same where it draws on a graphics card: its shaders are compiled, and the first time its work is measured.
const GPU_HELLO: Duration = Duration::from_secs(60);
/// How long a hello is waited for before the card is looked at.
const BETWEEN_LOOKS: Duration = Duration::from_millis(200);
/// Time within which a driver's reset shows in the card's files, or is announced.
const RESET_SHOWS: Seconds = Seconds(0.5);
/// How long the last words of one that the card has dropped are waited for.
const LAST_WORDS: Duration = Duration::from_millis(400);
/// How long its end is waited for, once it has closed its output.
const ENDS: Duration = Duration::from_secs(1);

/// How long a load that is told to rest may take to say that it does.
const RESTS: Duration = Duration::from_millis(500);

/// The process of a scene lives on between two runs, and keeps the references it has drawn.
pub(super) struct ChildLoad {
    program: PathBuf,
    scene: SizedScene,
    name: String,
    child: Option<Child>,
}

struct Child {
    process: Process,
    /// Where it draws.
    draws_at: DrawsAt,
    state: State,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    Runs,
    /// Something has ended its run, and nobody knows what it is good for now.
    Lost,
    /// It waits for its next run.
    Rests,
}

impl ChildLoad {
    pub(super) fn new(program: PathBuf, scene: SizedScene) -> Self {
        Self { program, scene, name: scene.name(), child: None }
    }

    /// A process at the beginning of a run: the one that rests, or another where that is gone or would draw
    /// on another card.
    fn started(&mut self, draws_at: &DrawsAt, card: &mut dyn Card) -> Result<Process, String> {
        if let Some(mut child) = self.child.take()
            && child.draws_at == *draws_at
            && child.wakes(card)
        {
            return Ok(child.process);
        }
        let mut command = Command::new(&self.program);
        command.args(["load", "--scene", &self.name]);
        match draws_at {
            DrawsAt::Slot(slot) => command.args(["--slot", &slot.to_string()]),
            DrawsAt::Gpu(address) => command.args(["--gpu", address]),
        };
        let mut process = Process::start(&mut command)?;
        let patience = match draws_at {
            DrawsAt::Slot(_) => HELLO,
            DrawsAt::Gpu(_) => GPU_HELLO,
        };
        await_hello(&mut process, patience, card)?;
        Ok(process)
    }

    /// Remembers that the run was ended by something.
    fn lost(&mut self, ended: Ending) -> Ending {
        if let Some(child) = &mut self.child {
            child.state = State::Lost;
        }
        ended
    }
}

impl Child {
    /// The process, while its run goes on.
    fn running(child: &mut Option<Self>) -> Option<&mut Process> {
        child.as_mut().filter(|child| child.state == State::Runs).map(|child| &mut child.process)
    }

    fn wakes(&mut self, card: &mut dyn Card) -> bool {
        self.process.listen_anew();
        self.state == State::Rests
            && self.process.say(&line_of(ToLoad::Begin))
            && await_hello(&mut self.process, HELLO, card).is_ok()
    }

    /// Has it rest; whether it does. What it has still to say of the run that is over is not needed any more.
    fn goes_to_rest(&mut self) -> bool {
        self.process.listen_anew();
        let until = Instant::now() + RESTS;
        if !self.process.say(&line_of(ToLoad::Rest)) {
            return false;
        }
        while Instant::now() < until {
            match next_message(&mut self.process, RESTS) {
                Ok(Some(FromLoad::Resting)) => return true,
                Ok(Some(FromLoad::Bye { .. } | FromLoad::Hello { .. })) | Err(_) => return false,
                Ok(_) => {}
            }
        }
        false
    }
}

/// The next thing a load said in the protocol's words.
pub(super) fn next_message(
    process: &mut Process,
    wait: Duration,
) -> Result<Option<FromLoad>, Ending> {
    match process.next(wait) {
        Err(()) => Err(Ending::LoadDied(in_words(process.exit(ENDS)))),
        Ok(None) if process.silent_for() > SILENCE => Err(Ending::LoadDied(format!(
            "hung, without a sign of life for {} s,",
            SILENCE.as_secs()
        ))),
        Ok(None) => Ok(None),
        Ok(Some(Said::Nonsense(what))) => Err(nonsense(&what)),
        Ok(Some(Said::Line(line))) => match serde_json::from_str(&line) {
            Ok(message) => Ok(Some(message)),
            Err(_) => Err(nonsense(&shortened(&line))),
        },
    }
}

/// How a load dies that says what nobody can understand.
pub(super) fn nonsense(what: &str) -> Ending {
    Ending::LoadDied(format!("sent {what} and was ended"))
}

fn shortened(line: &str) -> String {
    const MOST: usize = 40;
    let clean: String = line.chars().filter(|c| !c.is_control()).take(MOST).collect();
    let more = if line.chars().count() > MOST { " ..." } else { "" };
    format!("\"{clean}\"{more}")
}

/// Waits for a load's hello.
pub(super) fn await_hello(
    process: &mut Process,
    patience: Duration,
    card: &mut dyn Card,
) -> Result<(), String> {
    let until = Instant::now() + patience;
    let ended = |ending| match ending {
        Ending::LoadDied(how) => format!("the load {how} before it said hello"),
        other => format!("{other:?}"),
    };
    let said = loop {
        // Nothing is expected of it before its hello, not even a sign of life.
        process.listen_anew();
        match next_message(process, BETWEEN_LOOKS).map_err(ended)? {
            None if Instant::now() < until => drop(card.sample()),
            said => break said,
        }
    };
    match said {
        Some(FromLoad::Hello { protocol: VERSION, .. }) => Ok(()),
        Some(FromLoad::Hello { protocol, .. }) => Err(format!(
            "the load speaks version {protocol} of the protocol, and this Yard Step version \
             {VERSION}"
        )),
        Some(FromLoad::Bye { why: Some(why), .. }) => Err(why),
        Some(_) => Err("the load did not say hello first".into()),
        None => Err(format!("the load did not say hello within {} s", patience.as_secs())),
    }
}

/// The line that tells a load something.
pub(super) fn line_of(word: ToLoad) -> Vec<u8> {
    let mut line = serde_json::to_vec(&word).unwrap_or_default();
    line.push(b'\n');
    line
}

impl Load for ChildLoad {
    fn name(&self) -> &str {
        &self.name
    }

    fn expected(&self) -> Expected {
        expected_of(self.scene)
    }

    fn begin(&mut self, card: &mut dyn Card) -> Result<(), String> {
        self.end();
        let draws_at = card.draws_at().ok_or("this card cannot be reached by another process")?;
        let process = self.started(&draws_at, card)?;
        self.child = Some(Child { process, draws_at, state: State::Runs });
        Ok(())
    }

    fn work(
        &mut self,
        card: &mut dyn Card,
        span: Seconds,
        checked: &mut Vec<CheckedFrame>,
    ) -> Result<(), Ending> {
        let Some(process) = Child::running(&mut self.child) else {
            return Err(Ending::LoadDied("was not started".into()));
        };
        let ran = card.run(span, Work::Elsewhere);
        // Only now: nothing is expected of a load whose run is held still.
        process.listen_anew();
        let mut owed = ran.map_or(0, |ran| ran.frames.unwrap_or(0));
        // What a load that was dropped has to say comes a moment later.
        let dropped = matches!(ran, Err(LoadLost::Died | LoadLost::Hung));
        let until = Instant::now() + if dropped { LAST_WORDS } else { Duration::ZERO };
        let died = loop {
            let waits = owed > 0 || Instant::now() < until;
            let wait = if waits { Duration::from_millis(50) } else { Duration::ZERO };
            match next_message(process, wait) {
                Err(ending) => break Some(ending),
                Ok(None) if !waits => break None,
                Ok(None | Some(FromLoad::Heartbeat { .. } | FromLoad::Score(_))) => {}
                Ok(Some(FromLoad::Frame(line))) => match line.checked(span) {
                    Ok(frame) => {
                        checked.push(frame);
                        owed = owed.saturating_sub(1);
                    }
                    Err(what) => break Some(nonsense(&what)),
                },
                Ok(Some(FromLoad::Bye { reason: Reason::DeviceLost, .. })) => {
                    break Some(Ending::LoadDied("lost its device".into()));
                }
                Ok(Some(FromLoad::Bye { .. } | FromLoad::Hello { .. } | FromLoad::Resting)) => {
                    break Some(Ending::LoadDied("ended though nobody had told it to".into()));
                }
            }
        };
        // A load that lost its device may be the first to notice that the driver has reset the card.
        let ran = match (ran, &died) {
            (Ok(_), Some(_)) if card.clock() == Clock::Wall => {
                card.run(RESET_SHOWS, Work::Elsewhere)
            }
            (ran, _) => ran,
        };
        let ended = match (ran, died) {
            (Ok(_), None) => return Ok(()),
            (Ok(_), Some(died)) => died,
            // Where both have something to say, the load knows best how it died itself.
            (Err(LoadLost::Died | LoadLost::Hung), Some(died)) => died,
            (Err(lost), _) => ending_of(lost, "hung and was ended"),
        };
        Err(self.lost(ended))
    }

    /// It waits for its next frame, but must be there and not lose its device.
    fn look_while_held(&mut self, _: &mut Vec<CheckedFrame>) -> Result<(), Ending> {
        let Some(process) = Child::running(&mut self.child) else { return Ok(()) };
        let ended = loop {
            match next_message(process, Duration::ZERO) {
                Ok(None) => return Ok(()),
                Ok(Some(FromLoad::Heartbeat { .. } | FromLoad::Score(_))) => {}
                Ok(Some(FromLoad::Bye { reason: Reason::DeviceLost, .. })) => {
                    break Ending::LoadDied("lost its device".into());
                }
                Ok(Some(_)) => break nonsense("it went on though it was held still"),
                Err(ended) => break ended,
            }
        };
        Err(self.lost(ended))
    }

    /// After a run that went well it rests; after any other the next one has a process of its own.
    fn end(&mut self) {
        let Some(mut child) = self.child.take() else { return };
        let rests = match child.state {
            State::Runs => child.goes_to_rest(),
            State::Lost => false,
            State::Rests => true,
        };
        if rests {
            self.child = Some(Child { state: State::Rests, ..child });
        } else {
            child.process.stop(&line_of(ToLoad::Stop));
        }
    }

    fn kin(&self) -> Option<&Kin> {
        self.child.as_ref().map(|child| child.process.kin())
    }
}
