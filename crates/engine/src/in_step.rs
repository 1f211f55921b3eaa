//! Cards of the same kind that do whatever the card climbed on does, each with its own read-back
//! and its own verdict.

use yard_step_card::Card;
use yard_step_core::{
    Alarm, Climb, Ending, InStepRecord, Plan, Reference, Sample, Seconds, Stage, Verdict,
    statistics,
};
use yard_step_ledger::Intent;

use crate::apply::{Applied, apply_whole};
use crate::ending::{ending_of_error, wants_a_look};
use crate::held_card::HeldCard;
use crate::load::Load;
use crate::trial::{Run, TICK, judgement_of};
use crate::view::InStepView;

/// A card held in step.
pub(crate) struct InStep {
    held: HeldCard,
    load: Box<dyn Load>,
    current: Option<(Run, Applied)>,
    ending: Option<Ending>,
}

impl InStep {
    pub(crate) fn new(held: HeldCard, load: Box<dyn Load>) -> Self {
        Self { held, load, current: None, ending: None }
    }

    pub(crate) fn held(&self) -> &HeldCard {
        &self.held
    }

    pub(crate) fn held_mut(&mut self) -> &mut HeldCard {
        &mut self.held
    }

    /// Applies what the other card was asked for and gets ready to run. Whether it was taken.
    pub(crate) fn begin(&mut self, intent: &Intent) -> bool {
        let clamped = intent.asked.clamped(self.held.card().description());
        let applied = apply_whole(self.held.card_mut(), &clamped.settings);
        let expected = self.load.expected();
        let run = Run::new(intent.clone(), self.held.card().description(), applied.taken, expected);
        self.ending = match &applied.failed {
            Some(error) => Some(ending_of_error(error)),
            None if applied.is_refused() => Some(Ending::NotBegun),
            None => None,
        };
        self.current = Some((run, applied));
        self.ending.is_none()
    }

    /// Has another load run on it from its next trial on.
    pub(crate) fn take_load(&mut self, load: Box<dyn Load>) {
        self.load = load;
        self.held.set_load(None);
    }

    /// Starts its load.
    pub(crate) fn begin_load(&mut self) -> Result<(), String> {
        self.load.begin(self.held.card_mut())?;
        self.held.set_load(self.load.kin());
        Ok(())
    }

    /// Ends its load.
    pub(crate) fn end_load(&mut self) {
        self.load.end();
        self.held.set_load(self.load.kin());
    }

    /// Whether it took the machine down, which all cards share.
    pub(crate) fn took_machine_down(&self) -> bool {
        self.ending == Some(Ending::MachineDown)
    }

    /// Runs one tick; whether it goes on.
    pub(crate) fn tick(&mut self, at: Seconds, grace: Seconds, alarms: &[Alarm]) -> bool {
        let Some((run, _)) = &mut self.current else { return true };
        if self.ending.is_some() {
            return false;
        }
        let mut checked = Vec::new();
        let mut ended = self.load.work(self.held.card_mut(), TICK, &mut checked).err();
        run.take_frames(at, checked.into_iter());
        run.told = self.load.told();
        // It goes on for as long as the load of the other card does.
        if ended == Some(Ending::Finished) && self.load.runs_whole() {
            run.end_pass(at);
            ended = self.load.begin(self.held.card_mut()).err().map(Ending::LoadDied);
            self.held.set_load(self.load.kin());
        }
        self.ending = match (ended, self.held.card_mut().sample()) {
            (Some(ending), _) => Some(ending),
            (None, Err(error)) => Some(ending_of_error(&error)),
            (None, Ok(sample)) => {
                let told = self.held.card().limiter();
                run.take_sample(Sample { at, ..sample.without_nonsense() }, told);
                run.alarm()
                    .or_else(|| run.alarms_raised(alarms).map(Ending::Alarm))
                    .or_else(|| run.has_seen_enough(grace).then_some(Ending::Finished))
            }
        };
        self.ending.is_none()
    }

    /// The run that goes on on it.
    pub(crate) fn run(&self) -> Option<&Run> {
        self.current.as_ref().map(|(run, _)| run)
    }

    /// Looks after it while the run is held still; whether it can go on.
    pub(crate) fn look_while_held(&mut self, alarms: &[Alarm]) -> bool {
        let Some((run, _)) = &mut self.current else { return true };
        if self.ending.is_none() {
            let load = self.load.look_while_held(&mut Vec::new()).err();
            self.ending = load.or_else(|| look_while_held(run, self.held.card_mut(), alarms));
        }
        self.ending.is_none()
    }

    /// Its warm-up is that of the other card.
    pub(crate) fn set_warm_up(&mut self, warm_up: Seconds) {
        if let Some((run, _)) = &mut self.current {
            run.set_warm_up(warm_up);
        }
    }

    /// Its own verdict on the trial that has ended.
    pub(crate) fn judged(&mut self, ended: &Ending, climb: &Climb) -> Option<InStepRecord> {
        let (run, applied) = self.current.as_ref()?;
        let ending = self.ending.as_ref().unwrap_or(match ended {
            Ending::Stopped | Ending::Alarm(_) => ended,
            _ => &Ending::Finished,
        });
        let key = self.held.card().description().key();
        let reference = reference(climb, &key, &run.intent.scene);
        let card = self.held.card().description();
        let seen = run.seen();
        let judgement =
            judgement_of(run, ending, &applied.differences, &seen, reference, climb.plan(), card);
        let record = InStepRecord {
            card: key,
            taken: applied.taken,
            score: run.score(),
            judged: judgement.verdict,
            reason: judgement.reason,
            seen,
        };
        Some(record)
    }

    /// Whether an alarm on it wants the user to have a look.
    pub(crate) fn wants_a_look(&self) -> bool {
        self.ending.as_ref().is_some_and(wants_a_look)
    }

    /// What there is to see of it now.
    pub(crate) fn view(&self) -> InStepView {
        let card = self.held.card().description();
        let run = self.current.as_ref().map(|(run, _)| run);
        InStepView {
            card: card.key(),
            serial: card.serial.clone(),
            taken: run.and_then(|run| run.taken),
            sample: run.map(Run::sample),
            wrong_frames: run.map_or(0, |run| run.watch.wrong_frames()),
            score: run.and_then(Run::score),
            verdict: None,
            reason: String::new(),
        }
    }
}

impl Drop for InStep {
    fn drop(&mut self) {
        // The load goes first; the card is put back as it is dropped.
        self.end_load();
    }
}

/// What must end a run that is held still, by what its card says now.
pub(crate) fn look_while_held(
    run: &mut Run,
    card: &mut dyn Card,
    alarms: &[Alarm],
) -> Option<Ending> {
    match card.sample() {
        Err(error) => Some(ending_of_error(&error)),
        Ok(sample) => {
            run.glance(sample.without_nonsense());
            run.alarm().or_else(|| run.alarms_raised(alarms).map(Ending::Alarm))
        }
    }
}

/// What a card in step is compared with: its own part in the baseline runs that counted.
fn reference(climb: &Climb, key: &str, load: &str) -> Option<Reference> {
    climb.reference(load)?;
    let plan: &Plan = climb.plan();
    let runs: Vec<&InStepRecord> = climb
        .trials()
        .iter()
        .filter(|trial| trial.stage == Stage::Baseline && trial.scene == load)
        .filter(|trial| trial.verdict() == Verdict::Clean)
        .flat_map(|trial| &trial.in_step)
        .filter(|record| record.card == key)
        .collect();
    let scores: Vec<f64> = runs.iter().filter_map(|run| run.score).collect();
    let clocks: Vec<f64> =
        runs.iter().filter_map(|run| run.seen.average_clock()).map(|clock| clock.value()).collect();
    Some(Reference {
        score: Some(statistics::median(&scores)?),
        average_clock: yard_step_core::Mhz(statistics::mean(&clocks)?),
        tolerance: yard_step_core::Percent(plan.rules.slower_tolerance_percent),
    })
}
