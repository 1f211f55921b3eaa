//! Carrying a trial out, from its intent to its outcome.

use tracing::{info, warn};
use yard_step_card::CardError;
use yard_step_core::{
    Alarm, CheckedFrame, ClimbEvent, Difference, Ending, Fault, InStepRecord, Judgement, Meaning,
    Next, Proposal, Purpose, Sample, Seconds, Settings, Stage, TrialRecord, TrialRequest, Verdict,
    in_short,
};
use yard_step_ledger::{Intent, Pending};

use crate::apply::apply_whole;
use crate::ending::{ending_of_error, wants_a_look};
use crate::engine::{Engine, Unfinished};
use crate::error::EngineError;
use crate::in_step::{InStep, look_while_held};
use crate::lock::CardLock;
use crate::logging::set_log_trial;
use crate::overseer::{LiveRun, Overseer, Steer};
use crate::restart::Restart;
use crate::trial::{Run, TICK, judgement_of};
use crate::view::{MarkKind, RunView};

/// What one step of an unattended climb was.
#[derive(Debug)]
pub enum Step {
    /// A trial that came to its end.
    Ran(Box<RunView>),
    /// A trial that took the machine down.
    WentDown {
        /// Which one.
        trial: u32,
    },
    /// The restart of the machine, with what there is to say about it.
    Restarted(Vec<String>),
}

/// What to do where nobody may write to a card.
const START_KEEPER: &str = "Run \"sudo yard-step keeper\" in another terminal.";
/// How long before a run the system's log is read from, where it failed.
const LOGGED_BEFORE: Seconds = Seconds(5.0);
/// Longest run of a load that only the user ends.
const A_DAY: Seconds = Seconds(86_400.0);
/// Average background load up to which a run of a soak counts, percent.
const SOAK_BACKGROUND: f64 = 15.0;
/// Samples collected before they are written down: a minute of them.
const SAMPLES_AT_ONCE: usize = 600;

impl Engine {
    /// Carries out what the climb proposes and tells what came of it. `yes` is the explicit yes
    /// that a risky trial needs.
    ///
    /// # Errors
    /// There is nothing to carry out, a yes is needed, or ledger or card fail; the card has been
    /// put back then.
    pub fn carry_out(
        &mut self,
        yes: bool,
        overseer: &mut dyn Overseer,
    ) -> Result<RunView, EngineError> {
        self.is_card_there()?;
        self.close_begun()?;
        let mut yes = yes;
        if yes && matches!(self.climb.next(), Next::Stuck(_)) {
            // The user says to try again, which is no yes to whatever that may risk.
            self.climb.handle(ClimbEvent::TakenUp);
            yes = false;
        }
        let proposal = match self.climb.next() {
            Next::Trial(proposal) => proposal,
            Next::Ended(outcome) => {
                return Err(EngineError::NothingToDo(yard_step_words::outcome(&outcome)));
            }
            Next::Stuck(why) => {
                return Err(EngineError::NothingToDo(yard_step_words::stuck(&why)));
            }
        };
        if let Some(risk) = proposal.risk.as_ref().filter(|_| !yes) {
            return Err(EngineError::NeedsYes(risk.clone()));
        }
        let result = self.trial(&proposal, overseer);
        let result = result.map_err(|error| self.put_back_after(error));
        set_log_trial(None);
        if let (Err(EngineError::LoadNotBegun { .. }), Some(intent)) = (&result, &self.begun) {
            let intent = intent.clone();
            self.close_unfinished(&intent, Unfinished::NotBegun)?;
            self.begun = None;
            // A load cannot begin on a card that is gone.
            self.is_card_there()?;
        }
        result
    }

    /// Ends the load and puts the card back after a failure; tells of it where that fails too.
    pub(crate) fn put_back_after(&mut self, error: EngineError) -> EngineError {
        self.end_load();
        if let (EngineError::Ledger(_), Some(intent), Some(lock)) =
            (&error, &self.begun, self.cards.lock())
        {
            lock.note_unrecorded(self.ledger.path(), intent.id);
        }
        // A machine that is down has no card to be put back; the restart sees to that.
        if matches!(error, EngineError::MachineDown { .. }) {
            return error;
        }
        match self.cards.put_back() {
            Ok(()) => error,
            Err(not_back) => EngineError::FailedAndNotBack { error: Box::new(error), not_back },
        }
    }

    /// One step of a climb that nobody attends: the next trial or, where that is wanted first, the
    /// restart of the machine.
    ///
    /// # Errors
    /// As [`carry_out`](Self::carry_out) and [`restart_machine`](Self::restart_machine).
    pub fn step_unattended(&mut self, overseer: &mut dyn Overseer) -> Result<Step, EngineError> {
        if self.restart.is_some() {
            return self.restart_machine().map(Step::Restarted);
        }
        match self.carry_out(false, overseer) {
            Ok(run) => Ok(Step::Ran(Box::new(run))),
            Err(EngineError::MachineDown { trial }) => Ok(Step::WentDown { trial }),
            // Found before anything was tried: the settings had no part in it.
            Err(EngineError::IsDown) => self.restart_machine().map(Step::Restarted),
            Err(error) => Err(error),
        }
    }

    /// Makes sure that there is a card to try something on: one that went while nothing ran says
    /// nothing about the settings that are to be tried next.
    pub(crate) fn is_card_there(&mut self) -> Result<(), EngineError> {
        match self.restart {
            Some(Restart::Down | Restart::CardGone) => return Err(EngineError::IsDown),
            Some(Restart::AfterReset(_)) | None => {}
        }
        match self.look_for_card() {
            Ok(_) => Ok(()),
            Err(error @ CardError::NoKeeper { .. }) => Err(EngineError::NothingToDo(format!(
                "Nothing can be tried: {error}. {START_KEEPER}"
            ))),
            Err(_) => Err(EngineError::IsDown),
        }
    }

    /// Settings the card holds; without an answer, the machine should be restarted.
    pub(crate) fn look_for_card(&mut self) -> Result<Settings, CardError> {
        let held = self.cards.card_mut().taken();
        // Without its keeper a card is there all the same.
        if let Err(error) = &held
            && !matches!(error, CardError::NoKeeper { .. })
        {
            let is_down = *error == CardError::MachineDown;
            self.restart = Some(if is_down { Restart::Down } else { Restart::CardGone });
        }
        held
    }

    /// Gives a trial its outcome in whose middle the ledger failed. If it still does, so does this,
    /// in its words.
    pub(crate) fn close_begun(&mut self) -> Result<(), EngineError> {
        if let Some(intent) = self.begun.clone() {
            self.close_unfinished(&intent, Unfinished::NotRecorded)?;
            self.begun = None;
            self.cards.lock().into_iter().for_each(CardLock::forget_unrecorded);
        }
        Ok(())
    }

    fn trial(
        &mut self,
        proposal: &Proposal,
        overseer: &mut dyn Overseer,
    ) -> Result<RunView, EngineError> {
        let card = self.cards.card().description().clone();
        self.take_load(&proposal.request.load)?;
        let request = &self.as_the_load_wants(&proposal.request);
        let clamped = request.asked.clamped(&card);
        let guard_told = self.cards.arm()?;
        let intent = self.write_intent(request, clamped.settings)?;
        set_log_trial(Some(format!("trial {} of climb {}", intent.number, intent.climb)));
        info!("is on disk; asks for {}", in_short(&intent.asked, &card));
        // From here on, and not before, the card may be touched.
        let applied = apply_whole(self.cards.card_mut(), &intent.asked);
        let mut told = clamped.notes;
        told.extend(applied.told.clone());
        told.extend(guard_told);
        let mut beside = true;
        for other in self.cards.in_step_mut() {
            beside &= other.begin(&intent);
        }
        let mut run = Run::new(intent, &card, applied.taken, self.load.expected());
        run.begin(&told);
        let ending = match &applied.failed {
            Some(error) => ending_of_error(error),
            None if applied.is_refused() => Ending::NotBegun,
            // Its own part is in order, but the cards in step cannot follow.
            None if !beside => Ending::Stopped,
            None => match self.rest(&mut run, request.rest, overseer)? {
                Some(ending) => ending,
                None => self
                    .begin_load(&mut run)
                    .and_then(|()| self.watch(&mut run, request.warm_up_bounds, overseer))?,
            },
        };
        self.end_load();
        if ending == Ending::MachineDown
            || self.cards.in_step().iter().any(InStep::took_machine_down)
        {
            // Whoever works on a machine goes down with it, and writes nothing down any more.
            warn!("took the machine down");
            self.restart = Some(Restart::Down);
            return Err(EngineError::MachineDown { trial: run.intent.number });
        }
        let end = run.sample().at;
        if matches!(ending, Ending::DriverReset | Ending::LoadDied(_) | Ending::CardGone(_)) {
            for line in self.cards.card_mut().system_log(end + LOGGED_BEFORE) {
                run.mark(end, MarkKind::Fault, format!("Kernel: {line}"));
            }
        }
        let record = self.judged(&run, &ending, &applied.differences);
        info!("is {}: {}", record.judged, record.reason);
        let wants_a_look =
            wants_a_look(&ending) || self.cards.in_step().iter().any(InStep::wants_a_look);
        let back = match record.judged.meaning() {
            _ if wants_a_look => self.cards.put_back(),
            Meaning::Holds => Ok(()),
            Meaning::TooMuch | Meaning::ProvesNothing => self.cards.put_to_stock(),
        };
        if let Err(error) = back {
            run.mark(end, MarkKind::Fault, EngineError::from(error).to_string());
        }
        // What was applied without a hitch is no news, nor is a card that came to be warm.
        let news = run.marks.iter().skip(1).filter(|mark| mark.kind != MarkKind::Note);
        let notes = news.map(|mark| mark.text.clone()).collect();
        self.write_end(&mut run, &record)?;
        self.begun = None;
        let live = LiveRun { run: &run, in_step: self.cards.in_step(), is_at_work: false };
        let mut view = live.view().ended(&record);
        (view.notes, view.wants_a_look) = (notes, wants_a_look);
        self.boots.push(run.intent.boot.clone());
        self.climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        self.restart = match ending {
            Ending::CardGone(_) => Some(Restart::CardGone),
            _ => self.needs_restart(),
        };
        self.note_state()?;
        Ok(view)
    }

    /// Makes the load of that name the one that runs next, on every card.
    fn take_load(&mut self, name: &str) -> Result<(), EngineError> {
        if self.load.name() == name {
            return Ok(());
        }
        self.load = self.loads.choose(name, self.cards.card())?;
        self.cards.set_load(None);
        for other in self.cards.in_step_mut() {
            let load = self.loads.choose(name, other.held().card())?;
            other.take_load(load);
        }
        Ok(())
    }

    /// The request as the load wants it: what only the user sees is measured by the user, so that all of its run
    /// counts.
    fn as_the_load_wants(&self, request: &TrialRequest) -> TrialRequest {
        if !self.load.is_manual() {
            return request.clone();
        }
        let none = Seconds(0.0);
        TrialRequest {
            seconds: request.seconds - request.warm_up,
            warm_up: none,
            warm_up_bounds: (none, none),
            ..request.clone()
        }
    }

    /// Writes down what is about to be done.
    pub(crate) fn write_intent(
        &mut self,
        request: &TrialRequest,
        asked: Settings,
    ) -> Result<Intent, EngineError> {
        let boot = self.cards.card_mut().boot();
        let mut intent = Intent {
            id: 0,
            climb: self.climb_id,
            number: self.climb.trials().len() as u32 + 1,
            stage: request.stage,
            purpose: request.purpose,
            asked,
            scene: self.load.name().into(),
            planned: request.seconds,
            warm_up: request.warm_up,
            room: self.machine.room,
            driver: Some(self.cards.card().description().driver.clone()),
            since_reset: self.reset_in(&boot),
            boot,
            lived: Seconds(0.0),
        };
        intent.id = self.ledger.begin_trial(&intent)?;
        self.begun = Some(intent.clone());
        Ok(intent)
    }

    /// Lets the cards idle at what they hold before the load begins; what ends the run already, if anything does.
    fn rest(
        &mut self,
        run: &mut Run,
        rest: Seconds,
        overseer: &mut dyn Overseer,
    ) -> Result<Option<Ending>, EngineError> {
        let ticks = (rest.value() / TICK.value()).round() as u64;
        if ticks > 0 {
            let text = format!("Idle for {}, to begin cold.", rest.in_words());
            run.mark(Seconds(0.0), MarkKind::Note, text);
        }
        for tick in 0..ticks {
            self.cards.idle(TICK);
            // Once a second is often enough to see whether the card is there, and the guard.
            if tick.is_multiple_of(10) {
                if let Err(error) = self.cards.card_mut().taken() {
                    let ending = ending_of_error(&error);
                    return Ok(Some(ended_by(ending, Seconds(0.0), run)));
                }
                if let Some(text) = self.cards.arm()? {
                    run.mark(Seconds(0.0), MarkKind::Restart, text);
                }
                run.resting = Some(Seconds(rest.value() - tick as f64 * TICK.value()));
            }
            loop {
                let live = LiveRun { run, in_step: self.cards.in_step(), is_at_work: false };
                match overseer.tick(&live) {
                    Steer::GoOn => break,
                    Steer::Hold => {}
                    // Nothing was run of which anything could be told.
                    Steer::Stop | Steer::Told { .. } => {
                        run.faults.push(Fault::at(Seconds(0.0), Fault::STOPPED));
                        return Ok(Some(Ending::Stopped));
                    }
                }
            }
        }
        run.resting = None;
        Ok(None)
    }

    /// Runs the load and watches until something ends it.
    fn watch(
        &mut self,
        run: &mut Run,
        warm_up_bounds: (Seconds, Seconds),
        overseer: &mut dyn Overseer,
    ) -> Result<Ending, EngineError> {
        let grace = self.climb.plan().artifact_grace();
        let alarms = self.alarms();
        let known_plateau = self.climb.known_plateau(self.load.name());
        let mut checked = Vec::new();
        let mut tick = 0_u64;
        let ticks = |span: Seconds| (span.value() / TICK.value()).round();
        while (tick as f64) < ticks(self.lasts_at_most(run)) {
            tick += 1;
            let at = Seconds(tick as f64 / 10.0);
            if let Some(ending) = self.work_a_tick(run, at, (grace, &alarms), &mut checked)? {
                return Ok(ending);
            }
            checked.clear();
            if !self.load.is_at_work() {
                tick -= 1;
            }
            if !self.cards.in_step_mut().iter_mut().all(|other| other.tick(at, grace, &alarms)) {
                return Ok(Ending::Finished);
            }
            // Once a second is often enough to look where the heat is going, and after the guard.
            if tick.is_multiple_of(10) {
                if at < run.intent.warm_up {
                    run.steer_warm_up(at, warm_up_bounds, known_plateau);
                    let warm_up = run.intent.warm_up;
                    self.cards
                        .in_step_mut()
                        .iter_mut()
                        .for_each(|other| other.set_warm_up(warm_up));
                }
                if let Some(text) = self.cards.arm()? {
                    run.mark(at, MarkKind::Restart, text);
                }
            }
            loop {
                let is_at_work = self.load.is_at_work();
                let live = LiveRun { run, in_step: self.cards.in_step(), is_at_work };
                match overseer.tick(&live) {
                    Steer::GoOn => break,
                    Steer::Hold => {
                        if let Some(ending) = self.look_while_held(run) {
                            return Ok(ending);
                        }
                    }
                    Steer::Stop => {
                        run.faults.push(Fault::at(at, Fault::STOPPED));
                        return Ok(Ending::Stopped);
                    }
                    Steer::Told { verdict, told } => {
                        run.told = told;
                        let how = self.load.how_told(verdict);
                        return Ok(ended_by(Ending::Told { verdict, how }, at, run));
                    }
                }
            }
        }
        Ok(Ending::Finished)
    }

    /// How long a run may last. What only the user sees ends when the user says so, and what runs whole when it
    /// has come to its end; or else after a day.
    fn lasts_at_most(&self, run: &Run) -> Seconds {
        let is_open = self.load.is_manual() || self.load.runs_whole();
        if is_open { A_DAY } else { run.intent.planned }
    }

    /// Lets the load work for a tick and takes in what came of it: frames, which stay in `checked`, and a
    /// sample. Returns what ends the run, if anything does.
    pub(crate) fn work_a_tick(
        &mut self,
        run: &mut Run,
        at: Seconds,
        (grace, alarms): (Seconds, &[Alarm]),
        checked: &mut Vec<CheckedFrame>,
    ) -> Result<Option<Ending>, EngineError> {
        let ended = self.load.work(self.cards.card_mut(), TICK, checked).err();
        run.take_frames(at, checked.iter().cloned());
        run.told = self.load.told();
        let ended = match ended {
            Some(Ending::Finished) if self.load.runs_whole() => self.end_pass(run, at),
            ended => ended,
        };
        if let Some(ending) = ended {
            return Ok(Some(ended_by(ending, at, run)));
        }
        if !self.load.is_at_work() {
            return Ok(None);
        }
        match self.cards.card_mut().sample() {
            Ok(sample) => {
                let told = self.cards.card().limiter();
                run.take_sample(Sample { at, ..sample.without_nonsense() }, told);
            }
            Err(error) => return Ok(Some(ended_by(ending_of_error(&error), at, run))),
        }
        self.write_down(run)?;
        if let Some(ending) = run.alarm() {
            run.faults.push(Fault::at(at, fault_name(&ending)));
            return Ok(Some(ending));
        }
        if let Some(raised) = run.alarms_raised(alarms) {
            return Ok(Some(Ending::Alarm(raised)));
        }
        Ok(run.has_seen_enough(grace).then_some(Ending::Finished))
    }

    /// A load that runs whole has come to its end: it begins again while the trial has time, in a free run always.
    fn end_pass(&mut self, run: &mut Run, at: Seconds) -> Option<Ending> {
        run.end_pass(at);
        if run.intent.purpose != Purpose::Segment && at >= run.intent.planned {
            return Some(Ending::Finished);
        }
        let begun = self.load.begin(self.cards.card_mut());
        self.cards.set_load(self.load.kin());
        begun.err().map(Ending::LoadDied)
    }

    /// Watches while a run is held still: its card, the cards in step and the loads.
    pub(crate) fn look_while_held(&mut self, run: &mut Run) -> Option<Ending> {
        let at = run.sample().at;
        let mut checked = Vec::new();
        let load = self.load.look_while_held(&mut checked).err();
        run.take_frames(at, checked.into_iter());
        let alarms = self.alarms();
        let ending = load.or_else(|| look_while_held(run, self.cards.card_mut(), &alarms));
        match ending {
            Some(Ending::Alarm(raised)) => return Some(Ending::Alarm(raised)),
            Some(ending) => return Some(ended_by(ending, at, run)),
            None => {}
        }
        let others = self.cards.in_step_mut().iter_mut();
        let mut go_on = true;
        for other in others {
            // every card is looked at, whatever the one before it said
            go_on &= other.look_while_held(&alarms);
        }
        (!go_on).then_some(Ending::Finished)
    }

    /// Starts the loads, and lets the guard know which to end with the engine.
    pub(crate) fn begin_load(&mut self, run: &mut Run) -> Result<(), EngineError> {
        let trial = run.intent.number;
        let failed = |cause| EngineError::LoadNotBegun { trial, cause };
        self.load.begin(self.cards.card_mut()).map_err(failed)?;
        for other in self.cards.in_step_mut() {
            other.begin_load().map_err(failed)?;
        }
        self.cards.set_load(self.load.kin());
        Ok(())
    }

    /// Ends the loads. The guard knows those that rest; whoever has the numbers of the others later is nobody it
    /// should know.
    pub(crate) fn end_load(&mut self) {
        self.load.end();
        self.cards.set_load(self.load.kin());
        self.cards.in_step_mut().iter_mut().for_each(InStep::end_load);
    }

    /// Writes down what was measured, a minute of it at a time, and that the trial is alive. The disk is not waited for: the
    /// card is under load, and is watched meanwhile.
    fn write_down(&mut self, run: &mut Run) -> Result<(), EngineError> {
        match run.writing.as_ref().map(Pending::ended) {
            Some(None) => return Ok(()),
            Some(Some(ended)) => {
                run.writing = None;
                ended?;
            }
            None => {}
        }
        if run.pending.len() >= SAMPLES_AT_ONCE {
            let measured = run.take_measured();
            run.writing = Some(self.ledger.add_measured(run.intent.id, measured));
        } else if run.is_due_to_show_life() {
            run.writing = Some(self.ledger.sign_of_life(run.intent.id, run.sample().at));
        }
        Ok(())
    }

    /// Writes down the outcome of a run with what is not written yet.
    pub(crate) fn write_end(&self, run: &mut Run, record: &TrialRecord) -> Result<(), EngineError> {
        run.writing.take().map_or(Ok(()), Pending::wait)?;
        let row = run.intent.id;
        let events = run.marks.iter().map(|mark| mark.event(row)).collect();
        let rest = run.take_measured();
        Ok(self.ledger.end_trial(row, record, rest, events)?)
    }

    /// The outcome of a run. The graver verdict counts where cards are held in step.
    pub(crate) fn judged(
        &mut self,
        run: &Run,
        ending: &Ending,
        differences: &[Difference],
    ) -> TrialRecord {
        let seen = run.seen();
        let card = self.cards.card().description();
        let soak = self.climb.soak().filter(|_| run.intent.stage == Stage::Proof);
        // What other programs take from the card spoils a score, and no soak: nobody closes them at night.
        let mut plan = self.climb.plan().clone();
        if soak.is_some_and(|soak| soak.check.is_none()) {
            plan.rules.most_background_percent =
                SOAK_BACKGROUND.max(plan.rules.most_background_percent);
        }
        let plan = &plan;
        let reference = self.climb.reference(&run.intent.scene);
        let own = judgement_of(run, ending, differences, &seen, reference, plan, card);
        let climb = &self.climb;
        let in_step: Vec<InStepRecord> = self
            .cards
            .in_step_mut()
            .iter_mut()
            .filter_map(|other| other.judged(ending, climb))
            .collect();
        let gravest = in_step.iter().min_by_key(|other| other.judged);
        let Judgement { verdict, reason } = match gravest.filter(|g| g.judged < own.verdict) {
            Some(other) => Judgement {
                verdict: other.judged,
                reason: format!("{}, held in step: {}", other.card, other.reason),
            },
            None => own,
        };
        TrialRecord {
            taken: run.taken,
            seconds: seen.seconds,
            seen,
            score: run.score(),
            faults: run.faults.clone(),
            in_step,
            ..run.intent.judged(verdict, reason)
        }
    }
}

pub(crate) fn ended_by(ending: Ending, at: Seconds, run: &mut Run) -> Ending {
    let is_well = matches!(ending, Ending::Finished | Ending::Told { verdict: Verdict::Clean, .. });
    if !is_well {
        run.faults.push(Fault::at(at, fault_name(&ending)));
    }
    ending
}

fn fault_name(ending: &Ending) -> &'static str {
    match ending {
        Ending::LoadDied(_) => Verdict::LoadDied.label(),
        Ending::DriverReset => Verdict::DriverReset.label(),
        Ending::MachineDown => Verdict::MachineDown.label(),
        Ending::CardGone(_) => "card gone",
        Ending::SensorLost(_) => "sensor lost",
        Ending::SensorsFrozen => "sensors frozen",
        Ending::Told { verdict, .. } => verdict.label(),
        _ => "temperature ceiling",
    }
}
