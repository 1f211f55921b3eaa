//! One trial: what is collected while it runs, and who may stop it.

use std::sync::Arc;

use yard_step_core::{
    CardDescription, Channel, Ending, Fault, Judgement, LimiterShares, Mhz, Sample, Seconds,
    SettingKind, Settings, TrialRecord, Watch,
};
use yard_step_ledger::Intent;
use yard_step_scenes::{SceneRun, WORK_PER_FRAME};

use crate::view::{Picture, RunView, Strips};

/// Time between two samples.
pub const TICK: Seconds = Seconds(0.1);
/// Samples in a row without a reading that make a sensor lost: one second.
const LOST_AFTER: u32 = 10;
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
        RunView { picture: Some(self.picture()), ..self.run.view() }
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
    strips: Strips,
    sample: Sample,
    card: CardDescription,
    silent: u32,
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
            strips: Strips::new(),
            sample: Sample::default(),
            card: card.clone(),
            silent: 0,
        }
    }

    /// A run as it was, from its record and its samples.
    pub(crate) fn replay(
        intent: Intent,
        card: &CardDescription,
        record: &TrialRecord,
        samples: &[Sample],
    ) -> RunView {
        let mut run = Self::new(intent, card, record.taken);
        for sample in samples {
            run.take_sample(*sample);
        }
        RunView {
            seen: record.seen.clone(),
            score: record.score,
            faults: record.faults.clone(),
            judgement: Some(Judgement { verdict: record.verdict(), reason: record.reason.clone() }),
            ..run.view()
        }
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
        self.strips.push(&sample, LimiterShares::of(limiter));
        self.pending.push(sample);
        self.sample = sample;
    }

    /// What must end the run at once, whoever runs it: the ceiling, or a sensor that fell silent.
    pub(crate) fn alarm(&mut self) -> Option<Ending> {
        let ceiling = self.card.limits.temperature_ceiling;
        let temperature = self.sample.core_temperature.or(self.sample.hot_spot);
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
            target: Mhz(limits.highest_clock.value()) + held.core_offset.unwrap_or_default(),
            power_limit: held.get(SettingKind::PowerLimit).unwrap_or(limits.power_limit.value()),
            temperature_target: held
                .get(SettingKind::TemperatureTarget)
                .unwrap_or(limits.temperature_target.value()),
            at: self.sample.at,
            planned: self.intent.planned,
            warm_up: self.intent.warm_up,
            sample: self.sample,
            strips: self.strips.clone(),
            notes: Vec::new(),
            faults: self.faults.clone(),
            picture: None,
            judgement: None,
        }
    }
}
