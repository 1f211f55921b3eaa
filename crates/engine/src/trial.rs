//! One trial: what is collected while it runs, and who may stop it.

use std::sync::Arc;

use yard_step_card::LoadLost;
use yard_step_core::{
    Alarm, AlarmAct, AlarmRaised, CardDescription, CardLimits, Celsius, Channel, Difference,
    Ending, Evidence, Fault, Judgement, Mhz, MhzOffset, Plan, Reference, Sample, Seconds, Seen,
    SettingKind, Settings, Stage, Trace, TrialRecord, WARM_WITHIN, Watch, alarm, judge,
};
use yard_step_ledger::{Event, Intent};
use yard_step_scenes::{SceneRun, WORK_PER_FRAME};

use crate::in_step::InStep;
use crate::view::{Mark, MarkKind, Picture, RunView};

/// Time between two samples.
pub const TICK: Seconds = Seconds(0.1);
/// Samples in a row without a reading that make a sensor lost: one second.
const LOST_AFTER: u32 = 10;
/// A warm-up that is about to end is made this much longer while the card is still cold: more than
/// the second from one look to the next.
const TWO_LOOKS: Seconds = Seconds(2.0);
/// Faults of one run that are kept one by one.
const MOST_FAULTS: usize = 200;

/// How a run is to go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Steer {
    /// As planned.
    GoOn,
    /// Not any further.
    Stop,
}

/// Somebody who watches a run, sets its pace and may stop it. Called after every sample.
pub trait Overseer {
    /// Looks at the run, waits as long as the pace wants, and says how to go on.
    fn tick(&mut self, live: &LiveRun<'_>) -> Steer;
}

/// Nobody watching: as fast as possible, to the end.
impl Overseer for () {
    fn tick(&mut self, _: &LiveRun<'_>) -> Steer {
        Steer::GoOn
    }
}

/// A run that is going on.
pub struct LiveRun<'a> {
    pub(crate) run: &'a Run,
    pub(crate) scene: &'a SceneRun,
    pub(crate) in_step: &'a [InStep],
}

impl LiveRun<'_> {
    /// Time since the run began.
    #[must_use]
    pub fn at(&self) -> Seconds {
        self.run.sample.at
    }

    /// Length of the run in all.
    #[must_use]
    pub fn planned(&self) -> Seconds {
        self.run.intent.planned
    }

    /// All there is to see of it. This copies its series: once a drawn frame is often enough.
    #[must_use]
    pub fn view(&self) -> RunView {
        let in_step = self.in_step.iter().map(InStep::view).collect();
        RunView { picture: Some(self.picture()), in_step, ..self.run.view() }
    }

    fn picture(&self) -> Picture {
        let spoilt = self.scene.latest_spoilt();
        // A spoilt frame stays in view for a while: at sixty times the pace nobody would see it.
        const STAYS: u64 = 120;
        match spoilt.filter(|spoilt| self.scene.frames_drawn() < spoilt.number + STAYS) {
            Some(spoilt) => Picture {
                number: spoilt.number,
                frame: Arc::clone(&spoilt.drawn),
                wrong: spoilt.check.places.clone(),
                wrong_pixels: spoilt.check.wrong_pixels,
            },
            None => Picture {
                number: self.scene.frames_drawn().saturating_sub(1),
                frame: Arc::new(self.scene.latest().clone()),
                wrong: Vec::new(),
                wrong_pixels: 0,
            },
        }
    }
}

/// What is collected of a run.
pub(crate) struct Run {
    pub(crate) intent: Intent,
    pub(crate) taken: Option<Settings>,
    pub(crate) watch: Watch,
    pub(crate) faults: Vec<Fault>,
    /// Samples not yet in the ledger.
    pub(crate) pending: Vec<Sample>,
    /// Place of the first pending one among all.
    pub(crate) written: usize,
    /// What happened at which time, in words.
    pub(crate) marks: Vec<Mark>,
    trace: Trace,
    sample: Sample,
    card: CardDescription,
    silent: u32,
    /// Alarms that have gone off already.
    told: Vec<Alarm>,
}

impl Run {
    pub(crate) fn new(intent: Intent, card: &CardDescription, taken: Option<Settings>) -> Self {
        let held = taken.unwrap_or(intent.asked);
        Self {
            watch: Watch::new(card.limits, held, intent.warm_up),
            intent,
            taken,
            faults: Vec::new(),
            pending: Vec::new(),
            written: 0,
            marks: Vec::new(),
            trace: Trace::new(),
            sample: Sample::default(),
            card: card.clone(),
            silent: 0,
            told: Vec::new(),
        }
    }

    /// A run as it was, from its record, its samples and its events.
    pub(crate) fn replay(
        intent: Intent,
        card: &CardDescription,
        record: &TrialRecord,
        trace: Trace,
        events: &[Event],
    ) -> RunView {
        let mut run = Self::new(intent, card, record.taken);
        run.sample = trace.at(trace.seconds()).map(|(sample, _)| sample).unwrap_or_default();
        run.marks = events.iter().map(Mark::of_event).collect();
        run.trace = trace;
        RunView { faults: record.faults.clone(), ..run.view() }.ended(record)
    }

    /// Marks what was applied, and what there is to say about that.
    pub(crate) fn begin(&mut self, told: &[String]) {
        let moved = self.intent.asked.moved_from_stock(&self.card);
        let what = if moved.is_empty() { "stock settings".into() } else { moved.join(", ") };
        self.mark(Seconds(0.0), MarkKind::Applied, format!("Applied: {what}."));
        for text in told {
            self.mark(Seconds(0.0), MarkKind::Applied, text.clone());
        }
    }

    pub(crate) fn sample(&self) -> Sample {
        self.sample
    }

    /// Ends the warm-up once the card is warm, and makes it longer as long as it is not, inside its
    /// bounds.
    pub(crate) fn steer_warm_up(
        &mut self,
        at: Seconds,
        (least, most): (Seconds, Seconds),
        known: Option<Celsius>,
    ) {
        if self.is_warm(known) {
            if at >= least {
                self.set_warm_up(at);
                self.mark(at, MarkKind::Note, "The card is warm: from here on it counts.".into());
            }
        } else if at + TWO_LOOKS > self.intent.warm_up {
            self.set_warm_up(Seconds((at + TWO_LOOKS).value().min(most.value())));
        }
    }

    /// Whether the card is as warm as this load makes it: near the plateau known from earlier runs,
    /// or near the one it is foreseen to reach. A card that tells no temperature counts as warm.
    fn is_warm(&self, known: Option<Celsius>) -> bool {
        let Some(now) = self.sample.chip_temperature() else { return true };
        known.is_some_and(|plateau| (plateau - now).value().abs() <= WARM_WITHIN)
            || self.watch.plateau().is_some_and(|plateau| plateau.is_reached())
    }

    /// Whether what is measured does not count yet. Only then is the plateau worth a fit each time
    /// the run is looked at.
    fn is_warming(&self) -> bool {
        self.sample.at < self.intent.warm_up
    }

    /// Sets the warm-up; the measured part stays as long as it is.
    pub(crate) fn set_warm_up(&mut self, warm_up: Seconds) {
        let longer = warm_up - self.intent.warm_up;
        self.intent.warm_up = warm_up;
        self.intent.planned = self.intent.planned + longer;
        self.watch.set_warm_up(warm_up);
    }

    pub(crate) fn mark(&mut self, at: Seconds, kind: MarkKind, text: String) {
        self.marks.push(Mark { at, kind, text });
    }

    /// The user's alarms that this sample sets off for the first time, the gravest first.
    pub(crate) fn alarms_raised(&mut self, alarms: &[Alarm]) -> Option<AlarmRaised> {
        let raised = alarm::raised(alarms, &self.sample, self.watch.wrong_frames());
        for one in &raised {
            if !self.told.contains(&one.alarm) {
                self.told.push(one.alarm);
                let at = self.sample.at;
                self.mark(at, MarkKind::Alarm, format!("Alarm: {one}."));
            }
        }
        raised.into_iter().find(|one| one.alarm.act != AlarmAct::Warn)
    }

    pub(crate) fn take_frames(&mut self, at: Seconds, checked: impl Iterator<Item = (u64, u64)>) {
        for (frame, wrong) in checked {
            self.watch.frame(at, wrong);
            if wrong > 0 && self.faults.len() < MOST_FAULTS {
                self.faults.push(Fault {
                    at,
                    kind: "artifacts".into(),
                    frame: Some(frame),
                    wrong_pixels: Some(wrong),
                });
            }
        }
    }

    pub(crate) fn take_sample(&mut self, sample: Sample) {
        let limiter = self.watch.sample(&sample);
        self.trace.push(&sample, limiter);
        self.pending.push(sample);
        self.sample = sample;
    }

    /// What must end the run at once, whoever runs it: the ceiling, or a sensor that fell silent.
    pub(crate) fn alarm(&mut self) -> Option<Ending> {
        let ceiling = self.card.limits.temperature_ceiling;
        let temperature = self.sample.chip_temperature();
        if temperature.is_some_and(|now| now >= ceiling) {
            return Some(Ending::Ceiling);
        }
        let watched =
            [Channel::CoreTemperature, Channel::HotSpot, Channel::BoardPower, Channel::CoreClock];
        let silent = watched
            .into_iter()
            .find(|channel| self.card.senses(*channel) && self.sample.get(*channel).is_none());
        self.silent = if silent.is_some() { self.silent + 1 } else { 0 };
        silent.filter(|_| self.silent >= LOST_AFTER).map(Ending::SensorLost)
    }

    /// Whether enough wrong frames were seen.
    pub(crate) fn has_seen_enough(&self, grace: Seconds) -> bool {
        let first = self.faults.iter().find(|fault| fault.frame.is_some());
        first.is_some_and(|fault| self.sample.at.value() >= fault.at.value() + grace.value())
    }

    pub(crate) fn score(&self) -> Option<f64> {
        self.watch.score(WORK_PER_FRAME)
    }

    pub(crate) fn view(&self) -> RunView {
        let limits = &self.card.limits;
        let held = self.taken.unwrap_or(self.intent.asked);
        RunView {
            number: self.intent.number,
            stage: self.intent.stage,
            purpose: self.intent.purpose,
            scene: self.intent.scene.clone(),
            asked: self.intent.asked,
            taken: self.taken,
            seen: self.watch.glance(),
            score: self.score(),
            target: target(limits, &held),
            power_limit: held.get(SettingKind::PowerLimit).unwrap_or(limits.power_limit.value()),
            temperature_target: held
                .get(SettingKind::TemperatureTarget)
                .unwrap_or(limits.temperature_target.value()),
            at: self.sample.at,
            planned: self.intent.planned,
            warm_up: self.intent.warm_up,
            sample: self.sample,
            trace: self.trace.clone(),
            room: self.intent.room,
            plateau: self.is_warming().then(|| self.watch.plateau()).flatten(),
            temperature_ceiling: limits.temperature_ceiling.value(),
            marks: self.marks.clone(),
            in_step: Vec::new(),
            notes: Vec::new(),
            faults: self.faults.clone(),
            picture: None,
            wants_a_look: false,
            judgement: None,
        }
    }
}

/// Highest clock the card may reach under its settings.
fn target(limits: &CardLimits, held: &Settings) -> Mhz {
    let top = held.clock_maximum.unwrap_or(limits.highest_clock);
    Mhz(top.value()) + held.core_offset.unwrap_or_default()
}

/// How a run ends whose load the card has dropped.
pub(crate) const fn ending_of(lost: LoadLost) -> Ending {
    match lost {
        LoadLost::Died => Ending::LoadDied,
        LoadLost::DriverReset => Ending::DriverReset,
        LoadLost::MachineDown => Ending::MachineDown,
    }
}

/// Judges a run by the rules of a plan.
pub(crate) fn judgement_of(
    run: &Run,
    ending: &Ending,
    differences: &[Difference],
    seen: &Seen,
    reference: Option<Reference>,
    plan: &Plan,
    card: &CardDescription,
) -> Judgement {
    let intent = &run.intent;
    judge(&Evidence {
        ending,
        differences,
        seen,
        score: run.score(),
        reference,
        more_clock_asked: intent.asked.core_offset.unwrap_or_default() > MhzOffset::STOCK,
        most_background: plan.most_background(),
        // A cold card flatters what all else is compared with.
        most_warming: (intent.stage == Stage::Baseline).then(|| plan.most_warming()),
        clock_bin: card.limits.clock_bin,
    })
}
