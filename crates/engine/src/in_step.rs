//! Cards of the same kind that do whatever the card climbed on does, each with its own read-back
//! and its own verdict.

use yard_step_card::Card;
use yard_step_core::{
    Alarm, Climb, Ending, InStepRecord, MhzOffset, Plan, Reference, Sample, Seconds, Settings,
    Stage, Verdict, statistics,
};
use yard_step_ledger::Intent;
use yard_step_scenes::{Scene, SceneRun};

use crate::apply::{Applied, apply_whole};
use crate::engine::wants_a_look;
use crate::trial::{Run, TICK, ending_of, judgement_of};
use crate::view::InStepView;

/// A card held in step.
pub(crate) struct InStep {
    card: Box<dyn Card>,
    scene: SceneRun,
    current: Option<(Run, Applied)>,
    ending: Option<Ending>,
    /// Its factory state, as it was copied at first sight.
    factory: Settings,
}

impl InStep {
    pub(crate) fn new(card: Box<dyn Card>, factory: Settings, scene: Scene) -> Self {
        Self { card, scene: SceneRun::new(scene), current: None, ending: None, factory }
    }

    pub(crate) fn card(&self) -> &dyn Card {
        self.card.as_ref()
    }

    pub(crate) fn card_mut(&mut self) -> &mut dyn Card {
        self.card.as_mut()
    }

    /// Applies what the other card was asked for and gets ready to run. Whether it was taken.
    pub(crate) fn begin(&mut self, intent: &Intent) -> bool {
        let clamped = intent.asked.clamped(self.card.description());
        let applied = apply_whole(self.card.as_mut(), &clamped.settings);
        let run = Run::new(intent.clone(), self.card.description(), applied.taken);
        self.scene.rewind();
        self.ending = match applied.taken {
            None => Some(Ending::MachineDown),
            Some(_) if applied.is_refused() => Some(Ending::NotBegun),
            Some(_) => None,
        };
        self.current = Some((run, applied));
        self.ending.is_none()
    }

    /// Runs one tick; whether it goes on.
    pub(crate) fn tick(&mut self, at: Seconds, grace: Seconds, alarms: &[Alarm]) -> bool {
        let Some((run, _)) = &mut self.current else { return true };
        if self.ending.is_some() {
            return false;
        }
        let lost = self.card.run(TICK, &mut self.scene).err();
        run.take_frames(at, self.scene.take_checked());
        self.ending = match (lost, self.card.sample()) {
            (Some(lost), _) => Some(ending_of(lost)),
            (None, Err(_)) => Some(Ending::MachineDown),
            (None, Ok(sample)) => {
                run.take_sample(Sample { at, ..sample });
                run.alarm()
                    .or_else(|| run.alarms_raised(alarms).map(Ending::Alarm))
                    .or_else(|| run.has_seen_enough(grace).then_some(Ending::Finished))
            }
        };
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
        let key = self.card.description().key();
        let reference = reference(climb, &key);
        let card = self.card.description();
        let seen = run.watch.seen();
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
        if matches!(ending, Ending::DriverReset | Ending::MachineDown) {
            self.card.restart_machine();
        }
        Some(record)
    }

    /// Whether an alarm on it wants the user to have a look.
    pub(crate) fn wants_a_look(&self) -> bool {
        self.ending.as_ref().is_some_and(wants_a_look)
    }

    /// What there is to see of it now.
    pub(crate) fn view(&self) -> InStepView {
        let card = self.card.description();
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

    /// Puts it to settings, or to its factory state.
    pub(crate) fn put_to(&mut self, settings: Option<&Settings>) {
        let clamped = settings.map(|settings| settings.clamped(self.card.description()).settings);
        crate::holding::restore(self.card.as_mut(), &clamped.unwrap_or(self.factory));
    }
}

/// What a card in step is compared with: its own part in the baseline runs that counted.
fn reference(climb: &Climb, key: &str) -> Option<Reference> {
    climb.reference()?;
    let plan: &Plan = climb.plan();
    let runs: Vec<&InStepRecord> = climb
        .trials()
        .iter()
        .filter(|trial| trial.stage == Stage::Baseline && trial.verdict() == Verdict::Clean)
        .filter(|trial| trial.offset() == MhzOffset::STOCK)
        .flat_map(|trial| &trial.in_step)
        .filter(|record| record.card == key)
        .collect();
    let scores: Vec<f64> = runs.iter().filter_map(|run| run.score).collect();
    let clocks: Vec<f64> =
        runs.iter().filter_map(|run| run.seen.average_clock()).map(|clock| clock.value()).collect();
    Some(Reference {
        score: statistics::median(&scores)?,
        average_clock: yard_step_core::Mhz(statistics::mean(&clocks)?),
        tolerance: yard_step_core::Percent(plan.rules.slower_tolerance_percent),
    })
}
