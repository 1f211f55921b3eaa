//! One climb on one card: how it is begun, taken up again, and told what the user wants. How its
//! trials are carried out is in [`carry_out`](crate::carry_out).

use std::sync::Arc;

use tracing::warn;
use yard_step_card::{Card, Clock, SignOfLife};
use yard_step_core::{
    CardDescription, Climb, ClimbEvent, Directive, EVERYDAY, Fault, Limiter, Machine, Margin,
    Meaning, Next, Plan, Policy, Seconds, Seen, Settings, Stage, StageOrder, TrialRecord, Verdict,
    attribute, in_short, starting_from,
};
use yard_step_ledger::{ClimbEntry, ClimbState, Event, Intent, Ledger, Measured, TrialDetail};
use yard_step_scenes::SizedScene;

use crate::card_keeper::CardKeeper;
use crate::error::EngineError;
use crate::first_sight::first_sight;
use crate::held_card::HeldCard;
use crate::load::{Load, Loads};
use crate::lock::CardLock;
use crate::profiles::at_start;
use crate::restart::Restart;
use crate::rig::Rig;
use crate::trial::Run;
use crate::view::{ByLoad, RunView, SpoiltPicture};

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
    /// Its load could not begin: it proves nothing.
    NotBegun,
    /// Yard Step was ended in it, and the machine was not started since: it proves nothing.
    Ended,
}

/// Carries a climb out. When it is dropped, however that comes about, the card is put back to the
/// last kept settings, or to stock.
pub struct Engine {
    /// The card, the cards in step, and the way back for each.
    pub(crate) cards: CardKeeper,
    pub(crate) load: Box<dyn Load>,
    pub(crate) loads: Loads,
    pub(crate) ledger: Ledger,
    pub(crate) climb: Climb,
    pub(crate) climb_id: i64,
    /// The run of the machine in which each trial was made.
    pub(crate) boots: Vec<String>,
    pub(crate) ended: bool,
    /// Why the card was not put to the profile in use at the start.
    pub(crate) told_at_start: Option<String>,
    /// A trial that has its intent in the ledger and no outcome yet.
    pub(crate) begun: Option<Intent>,
    /// Why the machine should be restarted, if it should.
    pub(crate) restart: Option<Restart>,
    /// What the user said of the machine.
    pub(crate) machine: Machine,
    /// Whether the power limit may be raised beyond what the supply bears for sure.
    over_supply: bool,
    /// Trials there were when the climb was taken up again.
    pub(crate) resumed_after: usize,
}

impl Engine {
    /// Begins a new climb.
    ///
    /// # Errors
    /// The climb cannot be laid out on this card, its load is unknown, or the ledger fails.
    pub fn begin(
        rig: impl Into<Rig>,
        ledger: Ledger,
        plan: Plan,
        stages: &[Stage],
    ) -> Result<Self, EngineError> {
        let rig = rig.into();
        let climb = Climb::new(rig.card.description().clone(), plan, stages)?;
        let mut engine = Self::on(rig, ledger, climb)?;
        engine.tell_of_supply();
        engine.climb_id = engine.ledger.begin_climb(
            engine.cards.card().description(),
            engine.climb.plan(),
            engine.climb.stages(),
        )?;
        engine.learn()?;
        if let Some(text) = engine.remember()? {
            engine.tell_at_start(text);
        }
        engine.tell_of_checks()?;
        Ok(engine)
    }

    /// Takes a climb up again. A trial without an outcome gets one first, as `unfinished` says;
    /// its words are answered beside the engine.
    ///
    /// # Errors
    /// The climb cannot be laid out on this card, its load is unknown, or the ledger fails.
    pub fn resume(
        rig: impl Into<Rig>,
        ledger: Ledger,
        entry: ClimbEntry,
        unfinished: Unfinished,
    ) -> Result<(Self, Option<String>), EngineError> {
        let climb = entry.lay_out()?;
        let mut engine = Self::on(rig.into(), ledger, climb)?;
        let told = engine.take_up(entry, unfinished)?;
        engine.tell_of_checks()?;
        Ok((engine, told))
    }

    fn on(rig: Rig, ledger: Ledger, climb: Climb) -> Result<Self, EngineError> {
        let Rig { mut card, loads, guard, lock } = rig;
        for name in climb.plan().loads().into_iter().filter(|name| *name != EVERYDAY) {
            loads.know(name)?;
        }
        let load = loads.choose(climb.plan().full_load(), card.as_ref())?;
        let (machine, factory) = first_sight(&ledger, card.as_mut())?;
        let (kept, told_at_start) = at_start(&ledger, card.description())?;
        let told = card.told();
        let told_at_start =
            told.into_iter().chain(told_at_start).reduce(|all, more| format!("{all} {more}"));
        let mut held = HeldCard::new(card, factory, (guard, lock));
        held.set_chosen_fan(ledger.air_notes(held.card().description())?.chosen);
        held.set_kept(kept.as_ref());
        let mut engine = Self {
            cards: CardKeeper::new(held),
            load,
            loads,
            ledger,
            climb,
            climb_id: 0,
            boots: Vec::new(),
            ended: false,
            told_at_start,
            begun: None,
            restart: None,
            machine,
            over_supply: false,
            resumed_after: 0,
        };
        engine.give_signs_of_life();
        engine.note_start(false)?;
        // Whatever a process that died may have left on the card. One that is down or gone is found
        // before anything is tried on it.
        let way_back = engine.cards.way_back();
        if engine.cards.card_mut().taken().is_ok_and(|held| held != way_back)
            && let Err(error) = engine.cards.put_back()
        {
            engine.tell_at_start(EngineError::from(error).to_string());
        }
        Ok(engine)
    }

    /// Has those who hold the cards by themselves hear that their controller is alive while the ledger is waited for.
    pub(crate) fn give_signs_of_life(&mut self) {
        let others = self.cards.in_step().iter().map(|other| other.held().card());
        let cards = std::iter::once(self.cards.card()).chain(others);
        let signs: Vec<SignOfLife> = cards.filter_map(Card::sign_of_life).collect();
        let all = (!signs.is_empty())
            .then(|| -> SignOfLife { Arc::new(move || signs.iter().for_each(|sign| sign())) });
        self.ledger = self.ledger.clone().with_meanwhile(all);
    }

    /// Tells whoever holds the card what it may be put to at the start of the machine: the profile in use, if it is proven.
    /// `renew` forgets how the last start went.
    pub(crate) fn note_start(&mut self, renew: bool) -> Result<(), EngineError> {
        let (start, _) = at_start(&self.ledger, self.cards.card().description())?;
        if let Err(error) = self.cards.card_mut().set_start(start.as_ref(), renew) {
            // What it was told before holds: the keeper itself checks it against the driver.
            warn!("what the card starts with was not noted: {error}");
        }
        Ok(())
    }

    /// Takes a climb up as it is in the ledger: after a start of the program, and after a restart
    /// of the machine alike.
    fn take_up(
        &mut self,
        entry: ClimbEntry,
        unfinished: Unfinished,
    ) -> Result<Option<String>, EngineError> {
        self.climb = entry.lay_out()?;
        self.climb_id = entry.id;
        self.boots = entry.trials.iter().map(|trial| trial.boot.clone()).collect();
        self.ended = entry.state == ClimbState::Ended;
        self.resumed_after = entry.trials.len();
        self.begun = None;
        let told = match entry.unfinished {
            Some(intent) => {
                let path = self.ledger.path();
                let is_noted = |lock: &CardLock| lock.is_unrecorded(path, intent.id);
                let unfinished = match self.cards.lock().is_some_and(is_noted) {
                    true => Unfinished::NotRecorded,
                    // A machine that was not started since did not go down.
                    false if self.clock() == Clock::Wall && self.is_of_this_boot(&intent) => {
                        Unfinished::Ended
                    }
                    false => unfinished,
                };
                let told = self.close_unfinished(&intent, unfinished)?;
                self.cards.lock().into_iter().for_each(CardLock::forget_unrecorded);
                Some(told)
            }
            None => None,
        };
        self.climb.handle(ClimbEvent::TakenUp);
        self.heed_deadline();
        self.tell_of_supply();
        self.restart = self.needs_restart();
        let more = self.remember()?.into_iter().chain(self.heed_change()?);
        Ok(told.into_iter().chain(more).reduce(|told, more| format!("{told} {more}")))
    }

    /// Tells the climb whether the supply bears a raised limit, as far as the user has said what it is.
    pub(crate) fn tell_of_supply(&mut self) {
        let cards = std::iter::once(self.cards.card())
            .chain(self.cards.in_step().iter().map(|other| other.held().card()))
            .map(|card| card.description());
        let headroom = self.machine.headroom(&cards.collect::<Vec<_>>());
        let short = headroom.filter(|headroom| !headroom.is_enough() && !self.over_supply);
        self.climb.handle(ClimbEvent::Supply(short));
    }

    /// Lets the climb raise the power limit though the supply is short: the user has said so.
    pub fn go_over_supply(&mut self) {
        self.over_supply = true;
        self.tell_of_supply();
    }

    /// Something to be said to whoever has begun or taken up the climb.
    fn tell_at_start(&mut self, text: String) {
        self.told_at_start = Some(match self.told_at_start.take() {
            Some(told) => format!("{told} {text}"),
            None => text,
        });
    }

    /// Says of which profile in use a check is due.
    fn tell_of_checks(&mut self) -> Result<(), EngineError> {
        for text in self.checks_due()? {
            self.tell_at_start(text);
        }
        Ok(())
    }

    /// Tells a climb that begins what earlier ones have shown of its kind of card, and notes that with it.
    fn learn(&mut self) -> Result<(), EngineError> {
        if self.climb.plan().scene == EVERYDAY {
            return Ok(());
        }
        let experience = self.ledger.experience(self.cards.card().description())?;
        self.ledger.set_climb_experience(self.climb_id, &experience)?;
        self.climb.handle(ClimbEvent::Learnt(Box::new(experience)));
        Ok(())
    }

    /// Tells the climb what took the machine down in others: settings as bold need an explicit yes
    /// then, whichever climb that was. Kept settings as bold are no longer gone back to; that is
    /// answered in words.
    pub(crate) fn remember(&mut self) -> Result<Option<String>, EngineError> {
        let downed = self.ledger.downed(self.cards.card().description(), self.climb_id)?;
        self.climb.handle(ClimbEvent::Remembered(downed));
        // What took the machine down is no longer gone back to.
        if let Some(kept) = self.cards.kept()
            && let Some(risk) = self.climb.risk_of(&kept)
        {
            self.cards.set_kept(None);
            let risk = yard_step_words::risk(&risk);
            return Ok(Some(format!("The card goes back to stock from now on. {risk}")));
        }
        Ok(None)
    }

    /// Whether a trial was begun in the present run of the machine.
    fn is_of_this_boot(&mut self, intent: &Intent) -> bool {
        let boot = self.cards.card_mut().boot();
        !boot.is_empty() && boot == intent.boot
    }

    /// Why the machine should be restarted, if it should.
    #[must_use]
    pub fn restart_wanted(&self) -> Option<Restart> {
        self.restart
    }

    /// Looks whether the present run of the machine is one in which the driver reset the card.
    pub(crate) fn needs_restart(&mut self) -> Option<Restart> {
        let boot = self.cards.card_mut().boot();
        self.reset_in(&boot).map(Restart::AfterReset)
    }

    /// The last trial of a run of the machine in which the driver reset the card.
    pub(crate) fn reset_in(&self, boot: &str) -> Option<u32> {
        let trials = self.climb.trials().iter().zip(&self.boots).rev();
        let mut same = trials.take_while(|(_, made_in)| !boot.is_empty() && *made_in == boot);
        same.find(|(trial, _)| trial.judged == Verdict::DriverReset).map(|(trial, _)| trial.number)
    }

    /// Restarts the machine and takes the climb up again, as after any start: a trial that has no
    /// outcome is one the machine went down in. Returns what there is to say.
    ///
    /// # Errors
    /// The machine does not come up, or the ledger fails.
    pub fn restart_machine(&mut self) -> Result<Vec<String>, EngineError> {
        self.end_load();
        if self.clock() == Clock::Wall {
            return self.look_for_it_again();
        }
        for other in self.cards.in_step_mut() {
            other.held_mut().card_mut().restart_machine();
        }
        if !self.cards.card_mut().restart_machine() {
            let why = match self.cards.card_mut().taken() {
                Err(error) => error.to_string(),
                Ok(_) => "Yard Step cannot restart it".into(),
            };
            return Err(EngineError::NoRestart(why));
        }
        if let Some(room) = self.machine.room {
            self.cards.card_mut().set_room(room);
        }
        let mut told = vec!["The machine was restarted.".to_owned()];
        told.extend(self.cards.card_mut().told());
        let entry = self.ledger.climb(self.climb_id)?;
        told.extend(self.take_up(entry, Unfinished::MachineDown)?);
        if let Err(error) = self.cards.put_back() {
            told.push(EngineError::from(error).to_string());
        }
        Ok(told)
    }

    /// A machine that nobody but the user can restart: whether its card is there again.
    fn look_for_it_again(&mut self) -> Result<Vec<String>, EngineError> {
        let wanted = self.restart.unwrap_or(Restart::Down);
        if matches!(wanted, Restart::AfterReset(_)) || self.look_for_card().is_err() {
            return Err(EngineError::RestartYourself(wanted));
        }
        self.restart = self.needs_restart();
        self.cards.put_back()?;
        Ok(vec!["The card answers again, and is back where it belongs.".to_owned()])
    }

    pub(crate) fn close_unfinished(
        &mut self,
        intent: &Intent,
        unfinished: Unfinished,
    ) -> Result<String, EngineError> {
        let samples = self.ledger.trace(intent.id, |_| Limiter::Unknown)?;
        let seconds = Seconds(samples.seconds().max(intent.lived.value()));
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
            Unfinished::Ended => (
                Verdict::Void,
                "Yard Step was ended in it, and the machine has not been started since: it proves \
                 nothing.",
                Fault::STOPPED,
            ),
            Unfinished::NotBegun => {
                (Verdict::Void, "Its load could not begin: it proves nothing.", Fault::STOPPED)
            }
            Unfinished::NotRecorded => (
                Verdict::Void,
                "Its outcome could not be written down: it proves nothing.",
                Fault::STOPPED,
            ),
        };
        let what = in_short(&intent.asked, self.cards.card().description());
        let told = format!("Trial {} ({what}): {judged}. {reason}", intent.number);
        let row = intent.id;
        let record = TrialRecord {
            seen: Seen { seconds, ..Seen::default() },
            seconds,
            faults: vec![Fault::at(seconds, kind)],
            ..intent.judged(judged, reason.into())
        };
        let nothing_more = Measured { first: samples.len(), ..Measured::default() };
        self.ledger.end_trial(row, &record, nothing_more, Vec::new())?;
        self.boots.push(intent.boot.clone());
        self.climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        Ok(told)
    }

    /// Writes down whether the climb is open or ended, where that has changed.
    pub(crate) fn note_state(&mut self) -> Result<(), EngineError> {
        if self.climb.plan().scene == EVERYDAY {
            return Ok(());
        }
        let ended = matches!(self.climb.next(), Next::Ended(_));
        if ended == self.ended { Ok(()) } else { self.write_state(ended) }
    }

    /// Writes down how far the climb has come, and which stages the user ended.
    fn write_state(&mut self, ended: bool) -> Result<(), EngineError> {
        let state = if ended { ClimbState::Ended } else { ClimbState::Open };
        self.ledger.set_climb_state(self.climb_id, state, self.climb.directives())?;
        self.ended = ended;
        Ok(())
    }

    /// Tells the climb that the user wants something else next, `steps` steps from what is proposed,
    /// on the scale of the stage. Returns the value, as it is shown, or `None` where there is nothing
    /// to nudge.
    pub fn nudge(&mut self, steps: i32) -> Option<String> {
        let nudge = self.climb.nudged_by(steps)?;
        let shown = nudge.shown.clone();
        self.climb.handle(ClimbEvent::Nudged(Some(Box::new(nudge))));
        Some(shown)
    }

    /// Leaves the next step to the plan again.
    pub fn drop_nudge(&mut self) {
        self.climb.handle(ClimbEvent::Nudged(None));
    }

    /// Tells the climb that the user wants these settings tried next; returns what had to be
    /// changed to keep them inside the card's ranges.
    pub fn wish(&mut self, settings: &Settings) -> Vec<String> {
        let clamped = settings.clamped(self.cards.card().description());
        self.climb.handle(ClimbEvent::Wished(Some(Box::new(clamped.settings))));
        clamped.notes
    }

    /// Ends, skips or repeats a stage.
    ///
    /// # Errors
    /// The climb cannot do without the stage, has no such stage, or the ledger fails.
    pub fn direct(&mut self, stage: Stage, order: StageOrder) -> Result<(), EngineError> {
        let cannot = |why: &str| Err(EngineError::NothingToDo(why.to_owned()));
        if !self.climb.stages().contains(&stage) {
            return cannot("The climb has no such stage.");
        }
        if stage == Stage::Baseline {
            match order {
                StageOrder::End if self.climb.baseline_runs() > 0 => {}
                StageOrder::Repeat => {}
                StageOrder::End => {
                    return cannot(
                        "The baseline cannot be ended before one of its runs counts: there would \
                         be nothing to compare with.",
                    );
                }
                StageOrder::Skip => {
                    return cannot(
                        "The baseline cannot be skipped: every other stage compares with it.",
                    );
                }
            }
        }
        let after = self.climb.trials().len() as u32;
        self.climb.handle(ClimbEvent::Directed(Directive { stage, order, after }));
        self.write_state(matches!(self.climb.next(), Next::Ended(_)))
    }

    /// Swaps core and memory in the order of the stages; returns the new order.
    ///
    /// # Errors
    /// The climb has not both, one of them has begun, or the ledger fails.
    pub fn swap_core_and_memory(&mut self) -> Result<Vec<Stage>, EngineError> {
        let mut stages = self.climb.stages().to_vec();
        let places = [Stage::Core, Stage::Memory]
            .map(|wanted| stages.iter().position(|stage| *stage == wanted));
        let [Some(core), Some(memory)] = places else {
            let why = "The climb does not have both core and memory.";
            return Err(EngineError::NothingToDo(why.into()));
        };
        let has_begun = |trial: &TrialRecord| trial.stage.domain().is_some();
        if self.climb.trials().iter().any(has_begun) {
            let why = "Their order stays as it is once one of them has begun.";
            return Err(EngineError::NothingToDo(why.into()));
        }
        stages.swap(core, memory);
        self.ledger.set_climb_stages(self.climb_id, &stages)?;
        self.climb.handle(ClimbEvent::Reordered(stages.clone()));
        Ok(stages)
    }

    /// Adds a stage to the climb, after those it has.
    ///
    /// # Errors
    /// It has it already, the card does not offer what it moves, it builds on a stage that is not
    /// there, or the ledger fails.
    pub fn add_stage(&mut self, stage: Stage) -> Result<(), EngineError> {
        let stages = self.climb.with_stage(stage)?;
        if stages.len() == self.climb.stages().len() {
            let why = format!("The climb has the stage {stage} already: repeat it instead.");
            return Err(EngineError::NothingToDo(why));
        }
        self.ledger.set_climb_stages(self.climb_id, &stages)?;
        self.climb.handle(ClimbEvent::Reordered(stages));
        self.note_state()
    }

    /// Goes on by another policy, or with another margin.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn replan(&mut self, policy: Policy, margin: Margin) -> Result<(), EngineError> {
        self.plan_anew(Plan { policy, margin, ..self.climb.plan().clone() })
    }

    /// Writes a changed plan down and goes on by it.
    pub(crate) fn plan_anew(&mut self, plan: Plan) -> Result<(), EngineError> {
        self.ledger.set_climb_plan(self.climb_id, &plan)?;
        self.climb.handle(ClimbEvent::Planned(Box::new(plan)));
        self.note_state()
    }

    /// Has the searches that are still to come start from settings; says from what.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn start_from(&mut self, settings: &Settings) -> Result<String, EngineError> {
        let card = self.cards.card().description();
        let plan = starting_from(self.climb.plan().clone(), settings, card);
        let from = yard_step_words::starts(&plan, card);
        self.plan_anew(plan)?;
        Ok(match from.is_empty() {
            true => {
                "Nothing in these settings goes beyond stock: the climb starts from stock.".into()
            }
            false => format!(
                "The climb starts from {} and approaches it from below. Finished stages stay as they are.",
                from.join(", ")
            ),
        })
    }

    /// The same from the settings of the trial in a row of the ledger.
    ///
    /// # Errors
    /// It is gone, it is another card's, or the ledger fails.
    pub fn start_from_trial(&mut self, row: i64) -> Result<String, EngineError> {
        let intent = self.own_detail(row)?.intent;
        self.start_from(&intent.asked)
    }

    /// Asks which one it was in a trial, core or memory; `None` takes the question back.
    ///
    /// # Errors
    /// There is no such trial, or it did not fail.
    pub fn ask_which(&mut self, trial: Option<u32>) -> Result<(), EngineError> {
        if let Some(number) = trial {
            let found = self.climb.trials().iter().find(|trial| trial.number == number);
            let failed = found.is_some_and(|t| t.verdict().meaning() == Meaning::TooMuch);
            if !failed {
                let why = format!(
                    "Trial {number} did not fail. Mark it first if you saw it fail, then ask."
                );
                return Err(EngineError::NothingToDo(why));
            }
        }
        let leaving_out = self.climb.is_leaving_out();
        self.ledger.set_climb_questions(self.climb_id, trial, leaving_out)?;
        self.climb.handle(ClimbEvent::Asked(trial));
        Ok(())
    }

    /// Measures what each setting brings by leaving out one after another.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn leave_one_out(&mut self, wanted: bool) -> Result<(), EngineError> {
        let isolating = self.climb.culprits().map(|(trial, _)| trial);
        self.ledger.set_climb_questions(self.climb_id, isolating, wanted)?;
        self.climb.handle(ClimbEvent::LeaveOut(wanted));
        self.note_state()
    }

    /// Notes the user's verdict on a trial of this climb or another one, or takes it back.
    ///
    /// # Errors
    /// There is no such trial, or the ledger fails.
    pub fn mark(
        &mut self,
        climb: i64,
        trial: u32,
        verdict: Option<Verdict>,
    ) -> Result<(), EngineError> {
        let row = self.row_of(climb, trial)?;
        self.ledger.mark_trial(climb, trial, verdict)?;
        let text = match verdict {
            Some(verdict) => format!("Trial {trial} marked as {verdict} by hand."),
            None => format!("The mark on trial {trial} was taken back."),
        };
        let mark = Event { trial: Some(row), at: Seconds(0.0), kind: "mark".into(), text };
        self.ledger.add_event(climb, &mark)?;
        if climb != self.climb_id {
            // Of what took the machine down there, the user may think otherwise now.
            return self.remember().map(drop);
        }
        self.climb.handle(ClimbEvent::Marked { trial, verdict });
        self.note_state()
    }

    /// Row of a trial that has its verdict.
    pub(crate) fn row_of(&self, climb: i64, number: u32) -> Result<i64, EngineError> {
        self.ledger.row_of(climb, number)?.ok_or_else(|| {
            let place =
                if climb == self.climb_id { "this climb".into() } else { format!("climb {climb}") };
            EngineError::NothingToDo(format!("There is no trial {number} in {place}."))
        })
    }

    /// A run of this climb or another one as it is in the ledger.
    ///
    /// # Errors
    /// There is no such trial, or the ledger fails.
    pub fn recorded_run(&self, climb: i64, number: u32) -> Result<RunView, EngineError> {
        let row = self.row_of(climb, number)?;
        let TrialDetail { card, record: Some(record), .. } = self.detail(row)? else {
            return Err(EngineError::NothingToDo(format!("Trial {number} has no outcome yet.")));
        };
        let held = record.taken.unwrap_or(record.asked);
        let trace = self.ledger.trace(row, |sample| attribute(sample, &held, &card.limits))?;
        let mut events = self.ledger.events(climb)?;
        events.retain(|event| event.trial == Some(row));
        let intent = Intent::of_record(row, climb, &record);
        let spoilt = self.ledger.spoilt_frames(row)?;
        let view = Run::replay(intent, &card, &record, trace, &events);
        // Of the pictures, only the spoilt ones are kept.
        let scene: Option<SizedScene> = view.scene.parse().ok();
        let newest = scene.zip(spoilt.last());
        let picture = newest.and_then(|(scene, frame)| SpoiltPicture::of(scene, frame));
        let picture = picture.map(|pictures| pictures.drawn);
        let title = if climb == self.climb_id {
            view.title
        } else {
            format!("{} of climb {climb}, {}", view.title, card.name)
        };
        let by_load = (climb == self.climb_id)
            .then(|| ByLoad { settings: held, gains: self.climb.gains(&held) });
        Ok(RunView { title, spoilt: Arc::new(spoilt), picture, by_load, ..view })
    }

    /// A trial of this card.
    pub(crate) fn own_detail(&self, row: i64) -> Result<TrialDetail, EngineError> {
        let detail = self.detail(row)?;
        if detail.card.key() == self.cards.card().description().key() {
            return Ok(detail);
        }
        let line = &detail.line;
        Err(EngineError::NothingToDo(format!(
            "Trial {} of climb {} ran on {}, unit {}. Choose that card first, with c.",
            line.number, line.climb, line.card, line.serial
        )))
    }

    fn detail(&self, row: i64) -> Result<TrialDetail, EngineError> {
        self.ledger
            .trial(row)?
            .ok_or_else(|| EngineError::NothingToDo("That trial is no longer there.".into()))
    }

    /// Tries the settings of a trial again next; returns what there is to say about it.
    ///
    /// # Errors
    /// The trial ran on another card, or the ledger fails.
    pub fn repeat(&mut self, row: i64) -> Result<Vec<String>, EngineError> {
        let TrialDetail { line, intent, .. } = self.own_detail(row)?;
        let mut told = vec![format!(
            "Next: {} once more, as in trial {} of climb {}.",
            line.what, line.number, line.climb
        )];
        told.extend(self.wish(&intent.asked));
        let present = &self.climb.plan().scene;
        if *present != intent.scene {
            told.push(format!("It ran under {}; this climb runs {present}.", intent.scene));
        }
        Ok(told)
    }

    /// Begins another climb on the same card by the same plan; one that has no outcome is given up.
    pub(crate) fn begin_anew(&mut self) -> Result<(), EngineError> {
        self.close_begun()?;
        if !self.ended {
            self.ledger.set_climb_state(
                self.climb_id,
                ClimbState::GivenUp,
                self.climb.directives(),
            )?;
        }
        let (card, plan) = (self.cards.card().description().clone(), self.climb.plan().clone());
        let stages = self.climb.stages().to_vec();
        self.climb_id = self.ledger.begin_climb(&card, &plan, &stages)?;
        self.climb = Climb::new(card, plan, &stages)?;
        self.boots.clear();
        self.ended = false;
        self.tell_of_supply();
        self.learn()?;
        self.remember().map(drop)
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
        self.cards.card().description()
    }

    pub(crate) fn ledger(&self) -> &Ledger {
        &self.ledger
    }
}
