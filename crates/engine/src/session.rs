//! The engine on a thread of its own: commands in, snapshots out.

use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use yard_step_card::Clock;
use yard_step_core::{
    AirNotes, Alarm, Machine, Margin, Next, Policy, Seconds, Settings, Stage, StageOrder, Told,
    Verdict, WantedLimits, alarm, alarms_with_limits, in_short,
};

use crate::engine::Engine;
use crate::error::EngineError;
use crate::free_run::{Driver, FreeRun, FreeStart, Hand};
use crate::keeping::{KeepWish, KeptFan};
use crate::load::{ManualLoad, OutsideSpec};
use crate::overseer::{LiveRun, Overseer, Steer};
use crate::pace::{Pace, Pacer};
use crate::proving::SoakWish;
use crate::rack::Rack;
use crate::restart::Restart;
use crate::roles::LoadRoles;
use crate::snapshot::{fill, first_snapshot, last_run, lists};
use crate::view::{Activity, RunView, Snapshot};

/// Least time between two snapshots of a running trial.
const BETWEEN_SNAPSHOTS: Duration = Duration::from_millis(40);
/// Time between two looks at the sensors of a waiting card.
const WAITING_TICK: Duration = Duration::from_millis(250);
/// Time between two looks at a card whose run is held still.
const HELD_TICK: Duration = Duration::from_millis(100);
/// Notices kept.
const MOST_NOTICES: usize = 50;

/// What the user wants.
#[derive(Debug, Clone, PartialEq)]
pub enum Command {
    /// Carry out the next step; `yes` where it needs an explicit one.
    Try {
        /// The explicit yes.
        yes: bool,
    },
    /// Take every next step without being asked, or stop doing so.
    ToggleAuto,
    /// Move the next value by so many fine steps.
    Nudge(i32),
    /// Leave the next step to the plan again.
    DropNudge,
    /// Try settings of the user's own next.
    Wish(Box<Settings>),
    /// Begin a free run: a load that goes on while settings are changed.
    FreeRun(Box<FreeStart>),
    /// In a free run, go on under other settings; `yes` where they need an explicit one.
    Apply {
        /// The settings.
        settings: Box<Settings>,
        /// The explicit yes.
        yes: bool,
    },
    /// End the free run and try these settings next.
    TryInstead(Box<Settings>),
    /// Pause the running trial, or let it go on.
    TogglePause,
    /// Stop the running trial.
    Stop,
    /// End the present stage with what is known.
    EndStage,
    /// End, skip or repeat a stage.
    Direct(Stage, StageOrder),
    /// Swap core and memory in the order of the stages.
    SwapStages,
    /// Add a stage after those there are.
    AddStage(Stage),
    /// Go on by another policy, or with another margin.
    Replan(Policy, Margin),
    /// Have the searches that are still to come start from settings.
    StartFrom(Box<Settings>),
    /// The same from those of the trial in this row of the ledger.
    StartFromTrial(i64),
    /// Change what the loads of the climb are for.
    SetLoads(LoadRoles),
    /// Add a load of the user's own.
    AddLoad(Box<OutsideSpec>),
    /// Ask which one it was in a trial, core or memory; or no longer.
    AskWhich(Option<u32>),
    /// Measure what each setting brings, or stop doing so.
    ToggleLeaveOut,
    /// Put the card to its factory settings.
    BackToStock,
    /// Keep settings as a profile.
    Keep(Box<KeepWish>),
    /// Put the card to a profile; `yes` where it needs an explicit one.
    UseProfile {
        /// Its name.
        name: String,
        /// The explicit yes.
        yes: bool,
    },
    /// Delete a profile.
    DropProfile(String),
    /// Prove settings under many loads before anything else goes on.
    Prove(Box<SoakWish>),
    /// Measure settings side by side, each under its load, in this order.
    Measure(Vec<(Settings, String)>),
    /// End the soak with what is known.
    EndSoak,
    /// Check whether a profile is still what it was: a short fixed programme.
    CheckProfile(String),
    /// Note a verdict of the user on a trial, or take it back.
    Mark {
        /// Its climb.
        climb: i64,
        /// The trial.
        trial: u32,
        /// The verdict.
        verdict: Option<Verdict>,
    },
    /// Look at a recorded trial, or no longer.
    Look(Option<u32>),
    /// Look at a trial of any climb.
    LookInto {
        /// The climb.
        climb: i64,
        /// The trial.
        trial: u32,
    },
    /// Try the settings of the trial in this row of the ledger next.
    Repeat(i64),
    /// Profiles or earlier climbs have changed: read them again.
    ReadLists,
    /// Look at the trial so many after (or before) the one looked at; after the last comes the
    /// present.
    LookBeside(i32),
    /// Lay a recorded trial over the one shown, or no longer.
    LayOver(Option<u32>),
    /// Note what the user says of the machine.
    SetMachine(Box<Machine>),
    /// Have the card's driver read this limit table at its next start; none is the maker's.
    WantLimits(Option<Box<WantedLimits>>),
    /// Note what the user says of the card's fan.
    SetAir(Box<AirNotes>),
    /// Take another card of the rack up.
    Choose(usize),
    /// Hold a card of the rack in step with the present one, or let it go.
    ToggleInStep(usize),
    /// Restart the machine.
    Restart,
    /// Say how the present run went, and end it with that: for a load that only the user sees.
    Say {
        /// What was seen.
        verdict: Verdict,
        /// The figures that the program gave.
        told: Told,
    },
    /// Change to the next pace of the virtual clock.
    NextPace,
    /// Begin another climb on the same card.
    NewClimb,
    /// Put the card back and end.
    Quit,
}

/// A running engine. Dropping it stops the trial, puts the card back and waits for the end.
pub struct Session {
    commands: Sender<Command>,
    snapshot: Arc<Mutex<Arc<Snapshot>>>,
    thread: Option<JoinHandle<Result<(), EngineError>>>,
}

impl Session {
    /// Starts the engine on its own thread. `greeting` are first notices; `changed` is called
    /// after every new snapshot.
    #[must_use]
    pub fn start(
        mut engine: Engine,
        rack: Rack,
        pace: Pace,
        greeting: Vec<String>,
        changed: impl Fn() + Send + Sync + 'static,
    ) -> Self {
        let (commands, orders) = channel();
        let changed: Arc<dyn Fn() + Send + Sync> = Arc::new(changed);
        let bell = Bell(Arc::clone(&changed));
        let now = engine.card_now();
        let pace = Some(pace).filter(|_| engine.clock() == Clock::Virtual);
        let mut first = first_snapshot(&engine, pace, greeting);
        (first.machine.held, first.machine.sensors) = now;
        let snapshot = Arc::new(Mutex::new(Arc::new(first.clone())));
        let desk = Desk {
            orders,
            shared: Arc::clone(&snapshot),
            changed,
            state: first,
            pacer: pacer(pace),
            last: Instant::now(),
            quitting: false,
            later: Vec::new(),
            is_free: false,
        };
        let mut work = Work { engine, rack, desk };
        // Before anybody sees it: what is not read yet cannot be told from what is not there.
        work.read_card();
        work.look_around();
        work.desk.publish();
        let thread = thread::spawn(move || {
            let _rings_at_the_end = bell;
            work.run()
        });
        Self { commands, snapshot, thread: Some(thread) }
    }

    /// Gives a command; whether anybody was there to take it.
    pub fn command(&self, command: Command) -> bool {
        self.commands.send(command).is_ok()
    }

    /// The newest snapshot.
    #[must_use]
    pub fn snapshot(&self) -> Arc<Snapshot> {
        Arc::clone(&self.snapshot.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Session {
    /// Stops the trial, puts the cards back and waits for the end.
    ///
    /// # Errors
    /// A card was not seen to be back.
    pub fn end(mut self) -> Result<(), EngineError> {
        self.join()
    }

    fn join(&mut self) -> Result<(), EngineError> {
        let _ = self.commands.send(Command::Quit);
        // A panic of the engine's thread was told as it came, and has put the cards back already.
        self.thread.take().map_or(Ok(()), |thread| thread.join().unwrap_or(Ok(())))
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        // Whoever wants to know how it ended asks for the end.
        let _ = self.join();
    }
}

/// Gives notice when the engine's thread ends, however it does, so that nobody waits for it in vain.
struct Bell(Arc<dyn Fn() + Send + Sync>);

impl Drop for Bell {
    fn drop(&mut self) {
        (self.0)();
    }
}

/// A card that works by the clock on the wall waits by itself.
fn pacer(pace: Option<Pace>) -> Pacer {
    Pacer::new(pace.unwrap_or(Pace::Max), Instant::now())
}

/// What is published, and the orders that come in while a trial runs.
struct Desk {
    orders: Receiver<Command>,
    shared: Arc<Mutex<Arc<Snapshot>>>,
    changed: Arc<dyn Fn() + Send + Sync>,
    state: Snapshot,
    pacer: Pacer,
    last: Instant,
    quitting: bool,
    /// Commands that came while a trial ran and wait for its verdict.
    later: Vec<Command>,
    /// Whether what runs is a free run.
    is_free: bool,
}

/// What an order, or its absence, means for what runs.
enum Turn {
    GoOn,
    Hold,
    Stop,
    Told { verdict: Verdict, told: Told },
    Apply { settings: Box<Settings>, yes: bool },
}

impl Desk {
    fn publish(&mut self) {
        let snapshot = Arc::new(self.state.clone());
        *self.shared.lock().unwrap_or_else(PoisonError::into_inner) = snapshot;
        (self.changed)();
        self.last = Instant::now();
    }

    fn tell(&mut self, notice: impl Into<String>) {
        self.state.notices.push(notice.into());
        let surplus = self.state.notices.len().saturating_sub(MOST_NOTICES);
        self.state.notices.drain(..surplus);
    }

    /// Answers a command: beside the verdict, after what was answered already, and among the notices.
    fn answer(&mut self, text: impl Into<String>) {
        let text = text.into();
        self.state.answer = Some(match self.state.answer.take() {
            Some(before) => format!("{before} {text}"),
            None => text.clone(),
        });
        self.tell(text);
    }

    fn set_pace(&mut self, pace: Option<Pace>) {
        self.state.runs.pace = pace;
        self.pacer = pacer(pace);
    }

    fn next_pace(&mut self) {
        match self.state.runs.pace {
            Some(pace) => self.set_pace(Some(pace.next())),
            None => self.answer("This card works by the clock on the wall: it has no pace."),
        }
    }

    /// Takes an order that comes while a trial or a free run goes on.
    fn order(&mut self, command: Command) -> Turn {
        self.state.answer = None;
        match command {
            Command::Stop => {
                self.state.runs.auto = false;
                return Turn::Stop;
            }
            Command::Quit => {
                self.quitting = true;
                return Turn::Stop;
            }
            Command::BackToStock => {
                self.state.runs.auto = false;
                self.later.push(Command::BackToStock);
                return Turn::Stop;
            }
            Command::EndSoak if !self.is_free => {
                self.state.runs.auto = false;
                self.later.push(Command::EndSoak);
                return Turn::Stop;
            }
            Command::Apply { settings, yes } if self.is_free => {
                return Turn::Apply { settings, yes };
            }
            Command::Wish(settings) if self.is_free => {
                return Turn::Apply { settings, yes: false };
            }
            Command::TryInstead(settings) if self.is_free => {
                self.later.push(Command::Wish(settings));
                return Turn::Stop;
            }
            Command::Apply { .. } => self.answer("Settings change at once in a free run only."),
            Command::Say { verdict, told } if self.state.runs.is_manual => {
                return Turn::Told { verdict, told };
            }
            Command::Say { .. } => {
                self.answer("This load is judged by its frames: mark the trial afterwards.")
            }
            Command::ToggleAuto => self.state.runs.auto = !self.state.runs.auto,
            Command::NextPace => self.next_pace(),
            Command::TogglePause => {
                let paused = self.state.runs.activity == Activity::Paused;
                self.state.runs.activity =
                    if paused { Activity::Running } else { Activity::Paused };
            }
            Command::Try { .. } => self.answer("A trial is running already."),
            other => {
                self.answer(match self.is_free {
                    true => "That is done as soon as the free run ends.",
                    false => "That is done as soon as this trial has its verdict.",
                });
                self.later.push(other);
            }
        }
        self.publish();
        Turn::GoOn
    }

    /// Waits as long as the pace wants, or until an order comes that concerns what runs.
    fn turn(&mut self) -> Turn {
        // The order to leave comes once, and nothing may run on after it.
        if self.quitting {
            return Turn::Stop;
        }
        let mut wait = self.pacer.wait(crate::trial::TICK, Instant::now());
        loop {
            let paused = self.state.runs.activity == Activity::Paused;
            let order = self.orders.recv_timeout(if paused { HELD_TICK } else { wait });
            match order {
                Ok(command) => match self.order(command) {
                    Turn::GoOn => wait = Duration::ZERO,
                    ended => return ended,
                },
                Err(RecvTimeoutError::Timeout) if paused => return Turn::Hold,
                Err(RecvTimeoutError::Timeout) => return Turn::GoOn,
                Err(RecvTimeoutError::Disconnected) => {
                    self.quitting = true;
                    return Turn::Stop;
                }
            }
        }
    }
}

impl Driver for Desk {
    fn tick(&mut self, free: &FreeRun<'_>) -> Hand {
        let shown = self.state.runs.newest.as_ref().map(|run| run.number);
        // A change is shown at once.
        if shown != Some(free.number()) {
            self.state.climb.trials = Arc::new(free.trials().to_vec());
        }
        if shown != Some(free.number()) || self.last.elapsed() >= BETWEEN_SNAPSHOTS {
            self.state.runs.newest = Some(Arc::new(free.segment()));
            self.state.runs.free = Some(Arc::new(free.view()));
            (self.state.machine.held, self.state.machine.sensors) = free.card_now();
            self.state.machine.alarms = free.alarms(&self.heeded());
            self.publish();
        }
        match self.turn() {
            Turn::GoOn => Hand::GoOn,
            Turn::Hold => Hand::Hold,
            Turn::Stop => Hand::Stop,
            Turn::Told { verdict, told } => Hand::Told { verdict, told },
            Turn::Apply { settings, yes } => Hand::Apply { settings, yes },
        }
    }
}

impl Desk {
    /// The alarms that are heeded on the present card.
    fn heeded(&self) -> Vec<Alarm> {
        alarms_with_limits(&self.state.machine.said.alarms, &self.state.machine.card)
    }
}

impl Overseer for Desk {
    fn tick(&mut self, live: &LiveRun<'_>) -> Steer {
        if self.last.elapsed() >= BETWEEN_SNAPSHOTS {
            self.state.runs.newest = Some(Arc::new(live.view()));
            self.state.machine.alarms = live.alarms(&self.heeded());
            self.publish();
        }
        match self.turn() {
            Turn::GoOn => Steer::GoOn,
            Turn::Hold => Steer::Hold,
            Turn::Stop => Steer::Stop,
            Turn::Told { verdict, told } => Steer::Told { verdict, told },
            // Settings change in a free run only.
            Turn::Apply { .. } => Steer::GoOn,
        }
    }
}

struct Work {
    engine: Engine,
    rack: Rack,
    desk: Desk,
}

impl Work {
    fn run(mut self) -> Result<(), EngineError> {
        while !self.desk.quitting {
            self.catch_up();
            if self.desk.state.runs.auto {
                // Who is not asked before each trial needs not be asked for a restart either,
                // unless the machine went down: what did that is for the user to look at.
                if let Some(Restart::AfterReset(_)) = self.engine.restart_wanted() {
                    self.command(Command::Restart);
                }
                self.try_next(false);
                while !self.desk.quitting
                    && let Ok(command) = self.desk.orders.try_recv()
                {
                    self.command(command);
                }
                continue;
            }
            match self.desk.orders.recv_timeout(WAITING_TICK) {
                Ok(command) => self.command(command),
                Err(RecvTimeoutError::Timeout) => self.wait_a_little(),
                Err(RecvTimeoutError::Disconnected) => break,
            }
        }
        let left = self.engine.leave();
        self.desk.state.runs.activity = Activity::Gone;
        self.desk.publish();
        left
    }

    /// Does what was asked for while a run went on, and says of all of it what came of it. If the user left
    /// meanwhile, the rest is dropped.
    fn catch_up(&mut self) {
        let later = std::mem::take(&mut self.desk.later);
        if !later.is_empty() {
            self.desk.state.answer = None;
        }
        for command in later {
            // Whoever left during one of them waits for none of the others.
            if self.desk.quitting {
                break;
            }
            self.carry_out(command);
        }
    }

    /// A waiting card cools down and shows its sensors.
    fn wait_a_little(&mut self) {
        // For a card that works by the clock on the wall it has passed already.
        if let Some(pace) = self.desk.state.runs.pace {
            let factor = pace.factor().unwrap_or(60.0);
            self.engine.idle(Seconds(WAITING_TICK.as_secs_f64() * factor));
        }
        (self.desk.state.machine.held, self.desk.state.machine.sensors) = self.engine.card_now();
        self.desk.state.machine.restart = self.engine.restart_wanted();
        self.look_around();
        self.desk.publish();
    }

    /// Looks again at what should be in order before the first change.
    fn look_around(&mut self) {
        let state = &mut self.desk.state;
        state.machine.said = Arc::new(self.engine.machine().clone());
        let now = state.machine.sensors.as_ref();
        let alarms = self.engine.alarms();
        state.machine.alarms = now
            .map_or_else(Vec::new, |now| alarm::raised(&alarms, &yard_step_core::Moment::of(now)));
        state.machine.rack = Arc::new(self.rack.view(&self.engine.held_in_step()));
        state.machine.present = self.rack.present();
        let (idle, profiles) = (state.machine.sensors.as_ref(), &state.machine.profiles);
        let found = self.engine.prerequisites(&self.rack.cards(), idle, profiles);
        state.machine.prerequisites = Arc::new(found);
    }

    fn command(&mut self, command: Command) {
        self.desk.state.answer = None;
        self.carry_out(command);
    }

    fn carry_out(&mut self, command: Command) {
        let done = match command {
            Command::Try { yes } => {
                self.try_next(yes);
                Ok(())
            }
            Command::ToggleAuto => {
                self.desk.state.runs.auto = !self.desk.state.runs.auto;
                Ok(())
            }
            Command::NextPace => {
                self.desk.next_pace();
                Ok(())
            }
            Command::Nudge(steps) => {
                self.nudge(steps);
                Ok(())
            }
            Command::DropNudge => {
                self.engine.drop_nudge();
                Ok(())
            }
            Command::Wish(settings) | Command::TryInstead(settings) => {
                let notes = self.engine.wish(&settings);
                for note in notes {
                    self.desk.answer(note);
                }
                Ok(())
            }
            Command::FreeRun(start) => {
                self.free_run(*start);
                Ok(())
            }
            Command::Apply { .. } => {
                self.desk.answer("No free run is going on.");
                Ok(())
            }
            Command::Restart => self.restart(),
            Command::TogglePause | Command::Stop | Command::Say { .. } => {
                self.desk.answer("No trial is running.");
                Ok(())
            }
            Command::BackToStock => {
                let back = self.engine.back_to_stock();
                self.read_lists();
                self.read_air();
                back.map(|()| {
                    self.desk.answer("The card is at stock, and no profile is in use any more.");
                })
            }
            Command::Quit => {
                self.desk.quitting = true;
                Ok(())
            }
            Command::EndStage => {
                let stage = self.engine.climb().stage();
                self.direct(stage, StageOrder::End)
            }
            Command::Direct(stage, order) => self.direct(stage, order),
            Command::SwapStages => self.engine.swap_core_and_memory().map(|stages| {
                let names: Vec<&str> = stages.iter().map(|stage| stage.label()).collect();
                self.desk.answer(format!("The stages now come as {}.", names.join(", ")));
            }),
            Command::AddStage(stage) => self.engine.add_stage(stage).map(|()| {
                self.desk.answer(format!("Stage {stage} comes after the others now."));
            }),
            Command::Replan(policy, margin) => self.engine.replan(policy, margin).map(|()| {
                self.desk.answer(format!(
                    "The climb now uses {policy}: {}; for {}, which {}.",
                    policy.how(),
                    margin.purpose(),
                    yard_step_words::margin_claim(margin)
                ));
            }),
            Command::StartFrom(settings) => {
                self.engine.start_from(&settings).map(|told| self.desk.answer(told))
            }
            Command::StartFromTrial(row) => {
                self.engine.start_from_trial(row).map(|told| self.desk.answer(told))
            }
            Command::SetLoads(roles) => self.engine.set_loads(&roles).map(|()| {
                self.desk.answer(match roles.cross_checks.as_slice() {
                    [] => format!("The climb runs {} alone.", roles.steps),
                    loads => format!(
                        "The climb steps under {}; what it finds is cross-checked under {}.",
                        roles.steps,
                        loads.join(", ")
                    ),
                });
            }),
            Command::AddLoad(spec) => {
                let name = spec.name.clone();
                self.engine.add_load(*spec).map(|()| {
                    self.desk.answer(format!(
                        "Load {name} can be run now, and is in the configuration."
                    ));
                })
            }
            Command::AskWhich(trial) => self.engine.ask_which(trial).map(|()| {
                self.desk.answer(which_told(&self.engine, trial));
            }),
            Command::ToggleLeaveOut => {
                let wanted = !self.engine.climb().is_leaving_out();
                self.engine.leave_one_out(wanted).map(|()| {
                    self.desk.answer(if wanted {
                        "After all stages, runs with one setting left out follow."
                    } else {
                        "Contributions that were not measured stay estimated."
                    });
                })
            }
            Command::Keep(wish) => self.keep(&wish),
            Command::UseProfile { name, yes } => self.use_profile(&name, yes),
            Command::DropProfile(name) => self.drop_profile(&name),
            Command::Prove(wish) => self.engine.begin_soak(&wish).map(|told| self.soak_begun(told)),
            Command::Measure(cells) => {
                self.engine.begin_measuring(&cells).map(|told| self.soak_begun(told))
            }
            Command::CheckProfile(name) => {
                self.engine.check_profile(&name).map(|told| self.soak_begun(told))
            }
            Command::EndSoak => self.engine.end_soak().map(|()| {
                // The climb that it was part of does not go on by itself.
                self.desk.state.runs.auto = false;
                self.read_profiles();
                self.desk.answer("The soak is ended. Its runs stay as evidence.");
            }),
            Command::Mark { climb, trial, verdict } => self.mark(climb, trial, verdict),
            Command::Look(number) => self.look(number),
            Command::LookInto { climb, trial } => self.look_into(climb, trial),
            Command::LookBeside(by) => self.look_beside(by),
            Command::Repeat(row) => self.engine.repeat(row).map(|told| {
                self.desk.answer(told.join(" "));
            }),
            Command::ReadLists => {
                self.read_lists();
                Ok(())
            }
            Command::LayOver(number) => self.lay_over(number),
            Command::SetMachine(machine) => self.engine.set_machine(*machine).map(|told| {
                let noted = "Noted. It holds from the next trial on.".to_owned();
                let told = told.map(|told| format!("{noted} {told}"));
                self.read_air();
                self.read_ceiling();
                self.desk.answer(told.unwrap_or(noted));
            }),
            Command::WantLimits(wanted) => self.engine.want_limits(wanted.as_deref()).map(|told| {
                self.read_ceiling();
                self.desk.answer(told.to_owned());
            }),
            Command::SetAir(notes) => self.engine.set_air(&notes).map(|told| {
                self.read_air();
                self.desk.answer(told.unwrap_or_else(|| "Noted.".into()));
            }),
            Command::Choose(index) => self.choose(index),
            Command::ToggleInStep(index) => self.toggle_in_step(index),
            Command::NewClimb => self.engine.begin_anew().map(|()| {
                self.read_lists();
                self.desk.state.runs.newest = None;
                self.desk.state.runs.looked_at = None;
                self.desk.state.runs.laid_over = None;
                self.desk.answer(format!("Climb {} begins.", self.engine.climb_id()));
            }),
        };
        if let Err(error) = done {
            self.desk.answer(error.to_string());
        }
        self.refresh();
        self.look_around();
        self.desk.publish();
    }

    fn choose(&mut self, index: usize) -> Result<(), EngineError> {
        if index == self.rack.present() {
            return Ok(());
        }
        // One card has one controller: it cannot be climbed on and be held in step at once.
        let key = self.rack.named(index)?.key();
        self.engine.let_go(&key)?;
        let (engine, told) = self.rack.choose(index)?;
        let left = std::mem::replace(&mut self.engine, engine).leave();
        let now = self.engine.card_now();
        let state = &mut self.desk.state;
        let notices = std::mem::take(&mut state.notices);
        *state = first_snapshot(&self.engine, state.runs.pace, notices);
        (state.machine.held, state.machine.sensors) = now;
        self.read_card();
        let card = self.engine.description();
        let name =
            format!("{}, unit {}: climb {}.", card.name, card.serial, self.engine.climb_id());
        for text in told {
            self.desk.tell(text);
        }
        match left {
            Ok(()) => self.desk.answer(name),
            Err(error) => self.desk.answer(format!("{name} {error}")),
        }
        Ok(())
    }

    fn toggle_in_step(&mut self, index: usize) -> Result<(), EngineError> {
        let card = self.rack.named(index)?;
        let name = format!("{}, unit {}", card.name, card.serial);
        if index == self.rack.present() {
            return Err(EngineError::NotAlike { one: name.clone(), other: name });
        }
        if self.engine.let_go(&card.key())? {
            self.desk.answer(format!("{name} is no longer held in step, and at stock."));
            return Ok(());
        }
        let other = self.rack.bare(index)?;
        self.engine.hold_in_step(other)?;
        self.desk.answer(format!("{name} is held in step from the next trial on."));
        Ok(())
    }

    fn lay_over(&mut self, number: Option<u32>) -> Result<(), EngineError> {
        self.desk.state.runs.laid_over = self.recorded(number)?;
        Ok(())
    }

    fn recorded(&self, number: Option<u32>) -> Result<Option<Arc<RunView>>, EngineError> {
        let climb = self.engine.climb_id();
        number.map(|number| self.engine.recorded_run(climb, number).map(Arc::new)).transpose()
    }

    fn try_next(&mut self, yes: bool) {
        self.desk.state.runs.activity = Activity::Running;
        self.desk.state.runs.looked_at = None;
        self.desk.state.runs.newest = None;
        self.desk.state.runs.free = None;
        self.desk.set_pace(self.desk.state.runs.pace);
        let was_soaking = self.engine.is_soaking();
        match self.engine.carry_out(yes, &mut self.desk) {
            Ok(view) => {
                for note in &view.notes {
                    self.desk.tell(format!("Trial {}: {note}", view.number));
                }
                if let Some(judgement) = &view.judgement {
                    let text = format!(
                        "Trial {}: {}. {}",
                        view.number, judgement.verdict, judgement.reason
                    );
                    self.desk.tell(text);
                }
                if view.wants_a_look {
                    self.desk.state.runs.auto = false;
                    self.desk.state.answer = None;
                    self.desk.answer("An alarm put the card back: have a look before going on.");
                }
                self.desk.state.runs.newest = Some(Arc::new(view));
            }
            Err(error) => {
                self.desk.state.runs.auto = false;
                self.desk.tell(error.to_string());
                // That the machine is down is said in the place of the next step.
                if !matches!(error, EngineError::MachineDown { .. } | EngineError::IsDown) {
                    self.desk.state.answer = Some(error.to_string());
                }
            }
        }
        self.desk.state.runs.activity = Activity::Waiting;
        self.read_air();
        // What was run may stand behind a profile, or against it.
        if !self.desk.state.machine.profiles.is_empty() {
            self.read_profiles();
        }
        self.tell_of_soak(was_soaking);
        if !matches!(self.engine.climb().next(), Next::Trial(_)) {
            self.desk.state.runs.auto = false;
        }
        self.refresh();
        self.look_around();
        self.desk.publish();
    }

    fn free_run(&mut self, start: FreeStart) {
        let runs = &mut self.desk.state.runs;
        (runs.activity, runs.auto) = (Activity::Running, false);
        (runs.looked_at, runs.newest, runs.free) = (None, None, None);
        let of_climb = runs.is_manual;
        runs.is_manual = start.load.as_deref().map_or(of_climb, |load| load == ManualLoad::NAME);
        self.desk.set_pace(self.desk.state.runs.pace);
        self.desk.is_free = true;
        let ended = self.engine.free_run(start, &mut self.desk);
        self.desk.is_free = false;
        let runs = &mut self.desk.state.runs;
        (runs.activity, runs.is_manual) = (Activity::Waiting, of_climb);
        match ended {
            Ok(view) => {
                runs.newest = last_run(&self.engine);
                runs.free = Some(Arc::new(view));
            }
            Err(EngineError::NeedsYes(risk)) => {
                runs.free = None;
                self.desk.answer(format!(
                    "{} Begin with milder settings: what needs a yes can be applied while the load runs.",
                    yard_step_words::risk(&risk)
                ));
            }
            Err(error) => {
                runs.free = None;
                self.desk.answer(error.to_string());
            }
        }
        self.read_air();
        if !self.desk.state.machine.profiles.is_empty() {
            self.read_profiles();
        }
    }

    /// A soak goes on by itself from its beginning: all that it needs was asked before.
    fn soak_begun(&mut self, mut told: Vec<String>) {
        self.desk.state.runs.auto = true;
        told.extend(
            self.engine.climb().soaked().map(|soaked| yard_step_words::soak_begun(&soaked)),
        );
        self.desk.answer(told.join(" "));
    }

    /// Says what a soak or a check came to, once it is over; what comes after it is not begun by itself.
    fn tell_of_soak(&mut self, was_soaking: bool) {
        if !was_soaking || self.engine.is_soaking() {
            return;
        }
        match self.engine.measure_on() {
            Ok(true) => {
                self.desk.tell("Not every difference is clear yet: those are measured once more.");
                return self.read_profiles();
            }
            Ok(false) => {}
            Err(error) => self.desk.answer(error.to_string()),
        }
        self.desk.state.runs.auto = false;
        if let Some(soaked) = self.engine.climb().soaked() {
            self.desk.answer(yard_step_words::soaked(&soaked));
        }
        match self.engine.note_check() {
            Ok(Some(answer)) => self.desk.answer(yard_step_words::check(&answer)),
            Ok(None) => {}
            Err(error) => self.desk.answer(error.to_string()),
        }
        self.read_profiles();
    }

    fn restart(&mut self) -> Result<(), EngineError> {
        let told = self.engine.restart_machine()?;
        self.desk.state.runs.newest = last_run(&self.engine);
        for text in told {
            self.desk.answer(text);
        }
        Ok(())
    }

    fn nudge(&mut self, steps: i32) {
        if self.engine.nudge(steps).is_none() {
            self.desk.answer("There is nothing to nudge before the baseline is complete.");
        }
    }

    fn direct(&mut self, stage: Stage, order: StageOrder) -> Result<(), EngineError> {
        self.engine.direct(stage, order)?;
        self.desk.answer(match order {
            StageOrder::End => format!("Stage {stage} was ended with what is known."),
            StageOrder::Skip => {
                format!("Stage {stage} is skipped: what it would move stays at stock.")
            }
            StageOrder::Repeat => format!(
                "Stage {stage} begins again; its earlier trials stay in the ledger and teach it \
                 nothing."
            ),
        });
        Ok(())
    }

    fn keep(&mut self, wish: &KeepWish) -> Result<(), EngineError> {
        let name = &wish.name;
        let kept = self.engine.keep(wish);
        // A profile is saved even where the card does not take it.
        self.read_lists();
        let profile = kept?;
        let what = in_short(&profile.settings, self.engine.description());
        self.desk.answer(format!("Kept as profile \"{name}\": {what}."));
        // A search runs with a fan of its own.
        let hold = self.engine.climb().plan().hold.fan();
        let searched = Settings { fan: Some(hold), ..profile.settings };
        if wish.fan == KeptFan::Chosen
            && profile.climb.is_some()
            && let Some(text) = yard_step_words::kept_fan(&profile.settings, &searched)
        {
            self.desk.answer(text);
        }
        Ok(())
    }

    fn use_profile(&mut self, name: &str, yes: bool) -> Result<(), EngineError> {
        let used = self.engine.use_profile(name, yes);
        self.read_lists();
        let used = used?;
        let at_start = match used.proof.is_proven() {
            true => "It is proven and is applied at every start.".to_owned(),
            false => format!(
                "It is {}, so the card starts at stock until it is proven. {}",
                used.proof.label(),
                used.why()
            ),
        };
        self.desk.answer(format!("The card holds profile \"{name}\". {at_start}"));
        Ok(())
    }

    fn drop_profile(&mut self, name: &str) -> Result<(), EngineError> {
        let dropped = self.engine.drop_profile(name);
        self.read_lists();
        dropped?;
        self.desk.answer(format!("Profile \"{name}\" is deleted; its trials stay."));
        Ok(())
    }

    fn mark(
        &mut self,
        climb: i64,
        trial: u32,
        verdict: Option<Verdict>,
    ) -> Result<(), EngineError> {
        self.engine.mark(climb, trial, verdict)?;
        let own = climb == self.engine.climb_id();
        let place = if own { String::new() } else { format!(" of climb {climb}") };
        self.desk.answer(match verdict {
            Some(verdict) => {
                format!("Trial {trial}{place} is marked {verdict}; the climb uses that.")
            }
            None => format!("Trial {trial}{place} has its own verdict again."),
        });
        if !own {
            // What an earlier climb came to may be another now.
            self.read_lists();
        }
        let looked = self.desk.state.runs.looked_at.as_ref();
        if looked.is_some_and(|view| (view.climb, view.number) == (climb, trial)) {
            return self.look_into(climb, trial);
        }
        Ok(())
    }

    /// Looks at the trial `by` after the one looked at; the present lies after the last one, as far
    /// as the climb is the present one.
    fn look_beside(&mut self, by: i32) -> Result<(), EngineError> {
        let looked =
            self.desk.state.runs.looked_at.as_ref().map(|run| (run.climb, run.number as i32));
        if let Some((climb, number)) = looked.filter(|(climb, _)| *climb != self.engine.climb_id())
        {
            return self.look_into(climb, (number + by).max(1) as u32);
        }
        let last = self.engine.climb().trials().len() as i32;
        let wanted = (looked.map_or(last + 1, |(_, number)| number) + by).max(1);
        self.look((wanted <= last).then_some(wanted as u32))
    }

    fn look_into(&mut self, climb: i64, trial: u32) -> Result<(), EngineError> {
        self.desk.state.runs.looked_at = Some(Arc::new(self.engine.recorded_run(climb, trial)?));
        Ok(())
    }

    fn look(&mut self, number: Option<u32>) -> Result<(), EngineError> {
        self.desk.state.runs.looked_at = self.recorded(number)?;
        Ok(())
    }

    /// Brings everything in the snapshot up to date that a trial or a command may have changed.
    fn refresh(&mut self) {
        let (held, sensors) = self.engine.card_now();
        let state = &mut self.desk.state;
        (state.machine.held, state.machine.sensors) = (held, sensors);
        fill(state, &self.engine);
    }

    /// Reads all that is known of a card beside its climb, when it is taken up.
    fn read_card(&mut self) {
        self.read_lists();
        self.read_air();
        self.read_ceiling();
    }

    /// Reads what is known of the fan, which changes with every run and with what the user says.
    fn read_air(&mut self) {
        match self.engine.air() {
            Ok(air) => self.desk.state.machine.air = Some(Arc::new(air)),
            Err(error) => self.desk.tell(error.to_string()),
        }
    }

    fn read_ceiling(&mut self) {
        match self.engine.ceiling() {
            Ok(ceiling) => self.desk.state.machine.ceiling = ceiling.map(Arc::new),
            Err(error) => self.desk.tell(error.to_string()),
        }
    }

    fn read_profiles(&mut self) {
        match self.engine.profiles() {
            Ok(profiles) => self.desk.state.machine.profiles = profiles,
            Err(error) => self.desk.tell(error.to_string()),
        }
        self.read_candidates();
    }

    /// Reads what stands behind everything that can be proven.
    fn read_candidates(&mut self) {
        match self.engine.candidates(&self.desk.state.machine.profiles) {
            Ok(candidates) => self.desk.state.machine.candidates = Arc::new(candidates),
            Err(error) => self.desk.tell(error.to_string()),
        }
    }

    /// Reads profiles and earlier climbs, which change only when something is kept or begun anew.
    fn read_lists(&mut self) {
        let state = &mut self.desk.state;
        match lists(&self.engine) {
            Ok((profiles, history, older)) => {
                (state.machine.profiles, state.climb.history, state.climb.older_climbs) =
                    (profiles, history, older);
            }
            Err(error) => self.desk.tell(error.to_string()),
        }
        self.read_candidates();
    }
}

/// What is said to somebody who asked which one it was.
fn which_told(engine: &Engine, trial: Option<u32>) -> String {
    let Some(number) = trial else { return "The question is withdrawn.".into() };
    let known = engine.climb().culprits();
    match known.and_then(|(_, culprits)| yard_step_words::culprits(&culprits)) {
        Some(it) => format!("In trial {number} it was {it}."),
        None => format!(
            "Which setting was it in trial {number}? The next runs put one half of them back to stock, then the other."
        ),
    }
}
