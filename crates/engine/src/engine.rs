//! One climb on one card, carried out trial by trial.

use yard_step_card::{Card, LoadLost};
use yard_step_core::{
    AlarmAct, CardDescription, Climb, ClimbEvent, Difference, Ending, Fault, InStepRecord,
    Judgement, Limiter, Machine, Meaning, MhzOffset, Next, Plan, Proposal, Sample, Seconds, Seen,
    Settings, Stage, TrialRecord, TrialRequest, Verdict, attribute,
};
use yard_step_ledger::{ClimbEntry, ClimbState, Event, Intent, Ledger};
use yard_step_scenes::SceneRun;

use crate::apply::apply_whole;
use crate::error::EngineError;
use crate::holding::{first_sight, last_kept};
use crate::in_step::InStep;
use crate::trial::{LiveRun, Overseer, Run, Steer, TICK, ending_of, judgement_of};
use crate::view::{Mark, MarkKind, RunView};

/// Samples collected before they are written down: a minute of them.
const SAMPLES_AT_ONCE: usize = 600;

/// What to make of a trial that has no outcome.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Unfinished {
    /// The machine went down in it: its settings are never applied again without a yes.
    #[default]
    MachineDown,
    /// The user knows that only the program was ended: the trial proves nothing.
    Void,
    /// It ran, but its outcome could not be written down: it proves nothing.
    NotRecorded,
}

/// Carries a climb out. When it is dropped, however that comes about, the card is put back to the
/// last kept settings, or to stock.
pub struct Engine {
    pub(crate) card: Box<dyn Card>,
    pub(crate) scene: SceneRun,
    pub(crate) ledger: Ledger,
    pub(crate) climb: Climb,
    pub(crate) climb_id: i64,
    pub(crate) rows: Vec<i64>,
    pub(crate) ended_stages: Vec<Stage>,
    pub(crate) ended: bool,
    pub(crate) kept: Option<Settings>,
    /// A trial that has its intent in the ledger and no outcome yet.
    pub(crate) begun: Option<Intent>,
    /// What the user said of the machine.
    pub(crate) machine: Machine,
    /// The factory state, as it was copied at first sight.
    pub(crate) factory: Settings,
    /// Cards of the same kind that do the same.
    pub(crate) in_step: Vec<InStep>,
    /// Trials there were when the climb was taken up again.
    pub(crate) resumed_after: usize,
}

impl Engine {
    /// Begins a new climb.
    ///
    /// # Errors
    /// The climb cannot be laid out on this card, or the ledger fails.
    pub fn begin(
        mut card: Box<dyn Card>,
        ledger: Ledger,
        plan: Plan,
        stages: &[Stage],
    ) -> Result<Self, EngineError> {
        let climb = Climb::new(card.description().clone(), plan, stages)?;
        let scene = SceneRun::new(climb.plan().scene.parse()?);
        let (machine, factory) = first_sight(&ledger, card.as_mut())?;
        let climb_id = ledger.begin_climb(card.description(), climb.plan(), climb.stages())?;
        let kept = last_kept(&ledger, card.description())?;
        Ok(Self {
            card,
            scene,
            ledger,
            climb,
            climb_id,
            rows: Vec::new(),
            ended_stages: Vec::new(),
            ended: false,
            kept,
            begun: None,
            machine,
            factory,
            in_step: Vec::new(),
            resumed_after: 0,
        })
    }

    /// Takes a climb up again. A trial without an outcome gets one first, as `unfinished` says;
    /// its words are answered beside the engine.
    ///
    /// # Errors
    /// The climb cannot be laid out on this card, or the ledger fails.
    pub fn resume(
        mut card: Box<dyn Card>,
        ledger: Ledger,
        entry: ClimbEntry,
        unfinished: Unfinished,
    ) -> Result<(Self, Option<String>), EngineError> {
        let climb = entry.lay_out()?;
        let scene = SceneRun::new(climb.plan().scene.parse()?);
        let rows: Vec<i64> = entry.trials.iter().map(|trial| trial.id).collect();
        let (machine, factory) = first_sight(&ledger, card.as_mut())?;
        let kept = last_kept(&ledger, card.description())?;
        let mut engine = Self {
            card,
            scene,
            ledger,
            climb,
            climb_id: entry.id,
            resumed_after: rows.len(),
            rows,
            machine,
            factory,
            in_step: Vec::new(),
            ended_stages: entry.ended_stages,
            ended: entry.state == ClimbState::Ended,
            kept,
            begun: None,
        };
        let told = match entry.unfinished {
            Some(intent) => Some(engine.close_unfinished(&intent, unfinished)?),
            None => None,
        };
        Ok((engine, told))
    }

    fn close_unfinished(
        &mut self,
        intent: &Intent,
        unfinished: Unfinished,
    ) -> Result<String, EngineError> {
        let samples = self.ledger.trace(intent.id, |_| Limiter::Unknown)?;
        let seconds = Seconds(samples.seconds());
        let (judged, reason, kind) = match unfinished {
            Unfinished::MachineDown => (
                Verdict::MachineDown,
                "It has no outcome: the machine went down, or Yard Step was ended. It is taken as \
                 machine down until you mark it otherwise.",
                Verdict::MachineDown.label(),
            ),
            Unfinished::Void => (
                Verdict::Void,
                "It has no outcome, and only Yard Step was ended: it proves nothing.",
                Fault::STOPPED,
            ),
            Unfinished::NotRecorded => (
                Verdict::Void,
                "Its outcome could not be written down: it proves nothing.",
                Fault::STOPPED,
            ),
        };
        let offset = intent.asked.core_offset.unwrap_or_default();
        let told = format!("Trial {} at {offset}: {judged}. {reason}", intent.number);
        let row = intent.id;
        let record = TrialRecord {
            seen: Seen { seconds, ..Seen::default() },
            seconds,
            faults: vec![Fault::at(seconds, kind)],
            ..intent.judged(judged, reason.into())
        };
        self.ledger.end_trial(row, &record, samples.len(), Vec::new(), Vec::new())?;
        self.rows.push(row);
        self.climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        Ok(told)
    }

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
        self.close_begun()?;
        let proposal = match self.climb.next() {
            Next::Trial(proposal) => proposal,
            Next::Ended(outcome) => return Err(EngineError::NothingToDo(outcome.sentence)),
            Next::Stuck(why) => return Err(EngineError::NothingToDo(why)),
        };
        if let Some(risk) = proposal.risk.as_ref().filter(|_| !yes) {
            return Err(EngineError::NeedsYes(risk.clone()));
        }
        let result = self.trial(&proposal, overseer);
        if result.is_err() {
            self.put_back();
        }
        result
    }

    /// Gives a trial its outcome in whose middle the ledger failed. If it still does, so does this,
    /// in its words.
    fn close_begun(&mut self) -> Result<(), EngineError> {
        if let Some(intent) = self.begun.clone() {
            self.close_unfinished(&intent, Unfinished::NotRecorded)?;
            self.begun = None;
        }
        Ok(())
    }

    fn trial(
        &mut self,
        proposal: &Proposal,
        overseer: &mut dyn Overseer,
    ) -> Result<RunView, EngineError> {
        let card = self.card.description().clone();
        let request = &proposal.request;
        let clamped = request.asked.clamped(&card);
        let intent = self.write_intent(request, clamped.settings)?;
        // From here on, and not before, the card may be touched.
        let row = intent.id;
        let applied = apply_whole(self.card.as_mut(), &intent.asked);
        let told: Vec<String> = clamped.notes.into_iter().chain(applied.told.clone()).collect();
        let mut beside = true;
        for other in &mut self.in_step {
            beside &= other.begin(&intent);
        }
        let mut run = Run::new(intent, &card, applied.taken);
        run.begin(&told);
        let ending = match applied.taken {
            None => Ending::MachineDown,
            Some(_) if applied.is_refused() => Ending::NotBegun,
            // Its own part is in order, but the cards in step cannot follow.
            Some(_) if !beside => Ending::Stopped,
            Some(_) => self.watch(&mut run, request.warm_up_bounds, overseer)?,
        };
        let end = run.sample().at;
        run.marks.extend(self.after(&ending).map(|text| Mark {
            at: end,
            kind: MarkKind::Restart,
            text,
        }));
        let record = self.judged(&run, &ending, &applied.differences);
        self.restart_together(&ending, &record);
        let wants_a_look = wants_a_look(&ending) || self.in_step.iter().any(InStep::wants_a_look);
        let is_back = match record.judged.meaning() {
            _ if wants_a_look => self.put_back(),
            Meaning::Holds => true,
            Meaning::TooMuch | Meaning::ProvesNothing => self.to_stock(),
        };
        if !is_back {
            run.mark(end, MarkKind::Fault, EngineError::DoesNotGoBack.to_string());
        }
        let events = run.marks.iter().map(|mark| mark.event(row)).collect();
        // What was applied without a hitch is no news, nor is a card that came to be warm.
        let news = run.marks.iter().skip(1).filter(|mark| mark.kind != MarkKind::Note);
        let notes = news.map(|mark| mark.text.clone()).collect();
        let pending = std::mem::take(&mut run.pending);
        self.ledger.end_trial(row, &record, run.written, pending, events)?;
        self.begun = None;
        let live = LiveRun { run: &run, scene: &self.scene, in_step: &self.in_step };
        let mut view = live.view().ended(&record);
        (view.notes, view.wants_a_look) = (notes, wants_a_look);
        self.rows.push(row);
        self.climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        self.note_state()?;
        Ok(view)
    }

    /// Writes down what is about to be done.
    fn write_intent(
        &mut self,
        request: &TrialRequest,
        asked: Settings,
    ) -> Result<Intent, EngineError> {
        let mut intent = Intent {
            id: 0,
            climb: self.climb_id,
            number: self.climb.trials().len() as u32 + 1,
            stage: request.stage,
            purpose: request.purpose,
            asked,
            scene: self.scene.scene().name().into(),
            planned: request.seconds,
            warm_up: request.warm_up,
            room: self.machine.room,
        };
        intent.id = self.ledger.begin_trial(&intent)?;
        self.begun = Some(intent.clone());
        Ok(intent)
    }

    /// Runs the load and watches until something ends it.
    fn watch(
        &mut self,
        run: &mut Run,
        warm_up_bounds: (Seconds, Seconds),
        overseer: &mut dyn Overseer,
    ) -> Result<Ending, EngineError> {
        self.scene.rewind();
        let grace = self.climb.plan().artifact_grace();
        let known_plateau = self.climb.known_plateau();
        let mut tick = 0_u64;
        while (tick as f64) < (run.intent.planned.value() / TICK.value()).round() {
            tick += 1;
            let at = Seconds(tick as f64 / 10.0);
            let lost = self.card.run(TICK, &mut self.scene).err();
            run.take_frames(at, self.scene.take_checked());
            if let Some(lost) = lost {
                return Ok(ended_by(lost, at, run));
            }
            let Ok(sample) = self.card.sample() else {
                return Ok(ended_by(LoadLost::MachineDown, at, run));
            };
            run.take_sample(Sample { at, ..sample });
            if run.pending.len() >= SAMPLES_AT_ONCE {
                let samples = std::mem::take(&mut run.pending);
                let (first, count) = (run.written, samples.len());
                self.ledger.add_samples(run.intent.id, first, samples)?;
                run.written += count;
            }
            if let Some(ending) = run.alarm() {
                run.faults.push(Fault::at(at, alarm_name(&ending)));
                return Ok(ending);
            }
            if let Some(raised) = run.alarms_raised(&self.machine.alarms) {
                return Ok(Ending::Alarm(raised));
            }
            if run.has_seen_enough(grace) {
                return Ok(Ending::Finished);
            }
            if !self.in_step.iter_mut().all(|other| other.tick(at, grace, &self.machine.alarms)) {
                return Ok(Ending::Finished);
            }
            // Once a second is often enough to look where the heat is going.
            if at < run.intent.warm_up && tick.is_multiple_of(10) {
                run.steer_warm_up(at, warm_up_bounds, known_plateau);
                let warm_up = run.intent.warm_up;
                self.in_step.iter_mut().for_each(|other| other.set_warm_up(warm_up));
            }
            let live = LiveRun { run, scene: &self.scene, in_step: &self.in_step };
            if overseer.tick(&live) == Steer::Stop {
                run.faults.push(Fault::at(at, Fault::STOPPED));
                return Ok(Ending::Stopped);
            }
        }
        Ok(Ending::Finished)
    }

    /// What must be done after a run that took driver or machine down; tells what was done.
    fn after(&mut self, ending: &Ending) -> Option<String> {
        let what = match ending {
            Ending::DriverReset => "Boost is odd after a driver reset",
            Ending::MachineDown => "The machine went down",
            _ => return None,
        };
        self.card.restart_machine().then(|| format!("{what}: the machine was restarted."))
    }

    /// Cards in step sit in one machine: where one took it down, it is restarted for all.
    fn restart_together(&mut self, ending: &Ending, record: &TrialRecord) {
        if *ending == Ending::MachineDown {
            for other in &mut self.in_step {
                other.card_mut().restart_machine();
            }
        } else if record.in_step.iter().any(|other| other.judged == Verdict::MachineDown) {
            self.card.restart_machine();
        }
    }

    /// The outcome of a run. The graver verdict counts where cards are held in step.
    fn judged(&mut self, run: &Run, ending: &Ending, differences: &[Difference]) -> TrialRecord {
        let seen = run.watch.seen();
        let (plan, card) = (self.climb.plan(), self.card.description());
        let reference = self.climb.reference();
        let own = judgement_of(run, ending, differences, &seen, reference, plan, card);
        let climb = &self.climb;
        let in_step: Vec<InStepRecord> =
            self.in_step.iter_mut().filter_map(|other| other.judged(ending, climb)).collect();
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

    /// Writes down whether the climb is open or ended, where that has changed.
    fn note_state(&mut self) -> Result<(), EngineError> {
        let ended = matches!(self.climb.next(), Next::Ended(_));
        if ended == self.ended { Ok(()) } else { self.write_state(ended) }
    }

    /// Writes down how far the climb has come, and which stages the user ended.
    fn write_state(&mut self, ended: bool) -> Result<(), EngineError> {
        let state = if ended { ClimbState::Ended } else { ClimbState::Open };
        self.ledger.set_climb_state(self.climb_id, state, &self.ended_stages)?;
        self.ended = ended;
        Ok(())
    }

    /// Tells the climb that the user wants another value next, `steps` fine steps from the one
    /// proposed. Answers the value, or `None` where there is nothing to nudge.
    pub fn nudge(&mut self, steps: i32) -> Option<MhzOffset> {
        let value = self.climb.nudged_by(steps)?;
        self.climb.handle(ClimbEvent::Nudged(Some(value)));
        Some(value)
    }

    /// Leaves the next step to the plan again.
    pub fn drop_nudge(&mut self) {
        self.climb.handle(ClimbEvent::Nudged(None));
    }

    /// Tells the climb that the user wants these settings tried next; answers what had to be
    /// changed to keep them inside the card's ranges.
    pub fn wish(&mut self, settings: &Settings) -> Vec<String> {
        let clamped = settings.clamped(self.card.description());
        self.climb.handle(ClimbEvent::Wished(Some(Box::new(clamped.settings))));
        clamped.notes
    }

    /// Ends the present stage with what is known; answers which one that was.
    ///
    /// # Errors
    /// Nothing is known yet that the climb could go by, or the ledger fails.
    pub fn end_stage(&mut self) -> Result<Stage, EngineError> {
        let stage = self.climb.stage();
        if stage == Stage::Baseline && self.climb.baseline_runs() == 0 {
            return Err(EngineError::NothingToDo(
                "The baseline cannot be ended before one of its runs counts: there would be \
                 nothing to compare with."
                    .into(),
            ));
        }
        if !self.ended_stages.contains(&stage) {
            self.ended_stages.push(stage);
        }
        self.climb.handle(ClimbEvent::StageEnded(stage));
        self.write_state(matches!(self.climb.next(), Next::Ended(_)))?;
        Ok(stage)
    }

    /// Notes the user's verdict on a trial, or takes it back.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn mark(&mut self, trial: u32, verdict: Option<Verdict>) -> Result<(), EngineError> {
        self.ledger.mark_trial(self.climb_id, trial, verdict)?;
        let text = match verdict {
            Some(verdict) => format!("Trial {trial} marked as {verdict} by hand."),
            None => format!("The mark on trial {trial} was taken back."),
        };
        let row = self.rows.get((trial as usize).saturating_sub(1)).copied();
        let mark = Event { trial: row, at: Seconds(0.0), kind: "mark".into(), text };
        self.ledger.add_event(self.climb_id, &mark)?;
        self.climb.handle(ClimbEvent::Marked { trial, verdict });
        self.note_state()
    }

    /// A run of this climb as it is in the ledger.
    ///
    /// # Errors
    /// There is no such trial, or the ledger fails.
    pub fn recorded_run(&self, number: u32) -> Result<RunView, EngineError> {
        let found = self.climb.trials().iter().zip(&self.rows).find(|(t, _)| t.number == number);
        let Some((record, row)) = found else {
            return Err(EngineError::NothingToDo(format!("There is no trial {number}.")));
        };
        let limits = self.card.description().limits;
        let held = record.taken.unwrap_or(record.asked);
        let trace = self.ledger.trace(*row, |sample| attribute(sample, &held, &limits))?;
        let mut events = self.ledger.events(self.climb_id)?;
        events.retain(|event| event.trial == Some(*row));
        let intent = Intent {
            id: *row,
            climb: self.climb_id,
            number,
            stage: record.stage,
            purpose: record.purpose,
            asked: record.asked,
            scene: record.scene.clone(),
            planned: record.seconds,
            warm_up: Seconds(0.0),
            room: record.room,
        };
        Ok(Run::replay(intent, self.card.description(), record, trace, &events))
    }

    /// Begins another climb on the same card by the same plan; one that has no outcome is given up.
    pub(crate) fn begin_anew(&mut self) -> Result<(), EngineError> {
        self.close_begun()?;
        if !self.ended {
            self.ledger.set_climb_state(self.climb_id, ClimbState::GivenUp, &self.ended_stages)?;
        }
        let (card, plan) = (self.card.description().clone(), self.climb.plan().clone());
        let stages = self.climb.stages().to_vec();
        self.climb_id = self.ledger.begin_climb(&card, &plan, &stages)?;
        self.climb = Climb::new(card, plan, &stages)?;
        self.rows.clear();
        self.ended_stages.clear();
        self.ended = false;
        Ok(())
    }

    /// The climb.
    #[must_use]
    pub fn climb(&self) -> &Climb {
        &self.climb
    }

    /// Number of the climb in the ledger.
    #[must_use]
    pub fn climb_id(&self) -> i64 {
        self.climb_id
    }

    /// The card.
    #[must_use]
    pub fn description(&self) -> &CardDescription {
        self.card.description()
    }

    pub(crate) fn ledger(&self) -> &Ledger {
        &self.ledger
    }
}

/// Whether a run ended so that nothing should go on before the user has had a look.
pub(crate) fn wants_a_look(ending: &Ending) -> bool {
    matches!(ending, Ending::Alarm(raised) if raised.alarm.act == AlarmAct::PutBack)
}

fn ended_by(lost: LoadLost, at: Seconds, run: &mut Run) -> Ending {
    let verdict = match lost {
        LoadLost::Died => Verdict::LoadDied,
        LoadLost::DriverReset => Verdict::DriverReset,
        LoadLost::MachineDown => Verdict::MachineDown,
    };
    run.faults.push(Fault::at(at, verdict.label()));
    ending_of(lost)
}

fn alarm_name(ending: &Ending) -> &'static str {
    match ending {
        Ending::SensorLost(_) => "sensor lost",
        _ => "temperature ceiling",
    }
}
