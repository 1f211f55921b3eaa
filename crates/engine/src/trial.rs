//! One trial: what is collected while it runs, and who may stop it.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

use yard_step_core::{
    Alarm, AlarmAct, AlarmRaised, CardDescription, Celsius, Channel, CheckedFrame, Difference,
    Ending, Evidence, Expected, Fault, Judgement, Limiter, Plan, Reference, Sample, Seconds, Seen,
    SettingKind, Settings, Stage, Told, Trace, TrialRecord, WARM_WITHIN, Watch, Watt, alarm,
    asks_more_clock, in_short, judge, top_of,
};
use yard_step_ledger::{Event, Intent, Measured, Pending};
use yard_step_scenes::{PASS_FRAMES, Scene, SizedScene, reference};

use crate::view::{Mark, MarkKind, Picture, RunView, SpoiltPicture};

/// Time between two samples.
pub const TICK: Seconds = Seconds(0.1);
/// Samples in a row without a reading that make a sensor lost: one second.
const LOST_AFTER: u32 = 10;
/// Samples in a row that are the same to the last digit and make a sensor frozen: ten seconds.
const FROZEN_AFTER: u32 = 100;
/// Sensors that must go on telling while a load runs.
const WATCHED: [Channel; 4] =
    [Channel::CoreTemperature, Channel::HotSpot, Channel::BoardPower, Channel::CoreClock];
/// Those of them that never stand still under load; a clock may.
const MAY_FREEZE: [usize; 3] = [0, 1, 2];
/// Spoilt frames of one run that are kept.
const MOST_SPOILT: usize = 500;
/// A warm-up that is about to end is made this much longer while the card is still cold: more than
/// the second from one look to the next.
const TWO_LOOKS: Seconds = Seconds(2.0);
/// Faults of one run that are kept one by one.
const MOST_FAULTS: usize = 200;

/// What is collected of a run.
pub(crate) struct Run {
    pub(crate) intent: Intent,
    pub(crate) taken: Option<Settings>,
    pub(crate) watch: Watch,
    pub(crate) faults: Vec<Fault>,
    /// Samples not yet in the ledger.
    pub(crate) pending: Vec<Sample>,
    /// What the ledger is writing of it.
    pub(crate) writing: Option<Pending<()>>,
    /// Place of the first pending one among all.
    pub(crate) written: usize,
    /// What happened at which time, in words.
    pub(crate) marks: Vec<Mark>,
    trace: Trace,
    sample: Sample,
    /// What limited the clock in it.
    limiter: Limiter,
    card: CardDescription,
    silent: u32,
    /// For how many samples in a row each of the watched sensors said the same.
    same: [u32; WATCHED.len()],
    /// What the run looks like when all is well.
    expected: Expected,
    /// The scene, where it is one of ours.
    scene: Option<SizedScene>,
    /// What the load has told of its run, or the user for it; of a load that runs whole, what the present
    /// pass has told.
    pub(crate) told: Told,
    /// The passes through a load that runs whole: when each began, and what it told.
    passes: Vec<(Seconds, Told)>,
    /// When the present one began; none where it began under other settings.
    pass_began: Option<Seconds>,
    /// Number of the newest frame.
    newest: Option<u64>,
    /// When each frame of the last second was finished.
    recent: VecDeque<Seconds>,
    /// Spoilt frames, the first [`MOST_SPOILT`] of them.
    spoilt: Arc<Vec<CheckedFrame>>,
    /// How many of them are in the ledger.
    spoilt_written: usize,
    /// When it last showed that it lives, on the card's clock and on ours.
    showed_life: (Seconds, Instant),
    /// Alarms that have gone off already.
    raised: Vec<Alarm>,
    /// How long the card still idles before its load begins.
    pub(crate) resting: Option<Seconds>,
}

impl Run {
    pub(crate) fn new(
        intent: Intent,
        card: &CardDescription,
        taken: Option<Settings>,
        expected: Expected,
    ) -> Self {
        let held = taken.unwrap_or(intent.asked);
        Self {
            watch: Watch::new(card.limits, held, intent.warm_up),
            scene: intent.scene.parse().ok(),
            intent,
            taken,
            faults: Vec::new(),
            pending: Vec::new(),
            writing: None,
            written: 0,
            marks: Vec::new(),
            trace: Trace::new(),
            sample: Sample::default(),
            limiter: Limiter::Unknown,
            card: card.clone(),
            silent: 0,
            same: [0; WATCHED.len()],
            expected,
            told: Told::default(),
            passes: Vec::new(),
            pass_began: Some(Seconds(0.0)),
            newest: None,
            recent: VecDeque::new(),
            spoilt: Arc::default(),
            spoilt_written: 0,
            showed_life: (Seconds(0.0), Instant::now()),
            raised: Vec::new(),
            resting: None,
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
        let mut run = Self::new(intent, card, record.taken, Expected::default());
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

    pub(crate) fn card(&self) -> &CardDescription {
        &self.card
    }

    pub(crate) fn limiter(&self) -> Limiter {
        self.limiter
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
                self.mark(at, MarkKind::Note, "The card is warm: the measurement begins.".into());
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
        let raised = alarm::raised(alarms, &self.watch.moment(&self.sample));
        for one in &raised {
            if !self.raised.contains(&one.alarm) {
                self.raised.push(one.alarm);
                let at = self.sample.at;
                self.mark(at, MarkKind::Alarm, format!("Alarm: {one}."));
            }
        }
        raised.into_iter().find(|one| one.alarm.act != AlarmAct::Warn)
    }

    pub(crate) fn take_frames(&mut self, at: Seconds, frames: impl Iterator<Item = CheckedFrame>) {
        for frame in frames {
            self.recent.push_back(at);
            let work = self.scene.map_or(1.0, |scene| scene.weight(frame.number));
            self.watch.frame(at, &frame, work);
            self.newest = Some(frame.number);
            if frame.wrong_pixels == 0 {
                continue;
            }
            if self.faults.len() < MOST_FAULTS {
                self.faults.push(Fault {
                    at,
                    kind: "artifacts".into(),
                    frame: Some(frame.number),
                    wrong_pixels: Some(frame.wrong_pixels),
                });
            }
            if self.spoilt.len() < MOST_SPOILT {
                Arc::make_mut(&mut self.spoilt).push(CheckedFrame { at, ..frame });
            }
        }
    }

    /// Frames in the second before `now`, where a card does not tell its frame rate; none where no frame is told of.
    fn frame_rate(&mut self, now: Seconds) -> Option<f64> {
        while self.recent.front().is_some_and(|at| (now - *at).value() >= 1.0) {
            self.recent.pop_front();
        }
        (self.newest.is_some() && now.value() >= 1.0).then_some(self.recent.len() as f64)
    }

    /// What was measured and is not in the ledger yet; it is taken to be there from now on.
    pub(crate) fn take_measured(&mut self) -> Measured {
        let samples = std::mem::take(&mut self.pending);
        let measured = Measured {
            first: self.written,
            spoilt: self.spoilt[self.spoilt_written..].to_vec(),
            samples,
        };
        self.written += measured.samples.len();
        self.spoilt_written = self.spoilt.len();
        measured
    }

    /// Whether the ledger should be told that the run is alive: every few seconds of the card's
    /// time, but not more often than a disk likes to be written to.
    pub(crate) fn is_due_to_show_life(&mut self) -> bool {
        const EVERY: f64 = 5.0;
        const BETWEEN: Duration = Duration::from_millis(100);
        let (at, on_the_wall) = self.showed_life;
        let is_due = (self.sample.at - at).value() >= EVERY && on_the_wall.elapsed() >= BETWEEN;
        if is_due {
            self.showed_life = (self.sample.at, Instant::now());
        }
        is_due
    }

    /// The newest picture of the scene. A spoilt frame stays for a while: at sixty times the pace
    /// nobody would see it.
    pub(crate) fn picture(&self) -> Option<Picture> {
        const STAYS: u64 = 120;
        let (scene, newest) = (self.scene?, self.newest.unwrap_or(0));
        match self.spoilt.last().filter(|spoilt| newest < spoilt.number + STAYS) {
            Some(spoilt) => Some(SpoiltPicture::of(scene, spoilt)?.drawn),
            None => Some(Picture::of(newest, reference(scene, newest))),
        }
    }

    /// Takes in what the sensors say, and what limits the clock where the card tells that itself.
    pub(crate) fn take_sample(&mut self, sample: Sample, told: Option<Limiter>) {
        let rate = sample.frame_rate.or_else(|| self.frame_rate(sample.at));
        let sample = Sample { frame_rate: rate, ..sample };
        for (channel, same) in WATCHED.into_iter().zip(&mut self.same) {
            // Whole degrees, watts and megahertz may well stay the same for long.
            let now = sample.get(channel).filter(|value| value.fract() != 0.0);
            let is_same = now.is_some() && now == self.sample.get(channel);
            *same = if is_same { *same + 1 } else { 0 };
        }
        let limiter = self.watch.sample_limited(&sample, told);
        self.trace.push(&sample, limiter);
        self.pending.push(sample);
        (self.sample, self.limiter) = (sample, limiter);
    }

    /// Takes in what the sensors say while the run is held still: it belongs to no measurement.
    pub(crate) fn glance(&mut self, sample: Sample) {
        self.sample = Sample { at: self.sample.at, ..sample };
    }

    /// What must end the run at once, whoever runs it: the ceiling, or a sensor that fell silent.
    pub(crate) fn alarm(&mut self) -> Option<Ending> {
        let ceiling = self.card.limits.stops_at();
        let temperature = self.sample.chip_temperature();
        if temperature.is_some_and(|now| now >= ceiling) {
            return Some(Ending::Ceiling);
        }
        if MAY_FREEZE.into_iter().any(|index| self.same[index] >= FROZEN_AFTER) {
            return Some(Ending::SensorsFrozen);
        }
        let silent = WATCHED
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

    /// What the run looks like when all is well: of a scene of ours, with the load that the frames
    /// which were measured should have been.
    fn expected(&self) -> Expected {
        let measured = self.watch.measured_frames();
        let frames = self.newest.map(|newest| newest + 1 - measured.min(newest + 1)..newest + 1);
        match self.scene.zip(frames).filter(|_| measured > 0) {
            Some((scene, frames)) if self.expected.load.is_some() => {
                Expected { load: Some(scene.load_of(frames)), ..self.expected }
            }
            _ => self.expected,
        }
    }

    pub(crate) fn score(&self) -> Option<f64> {
        let by_frames = || {
            let scene = self.scene?;
            // Less of a medley would be the score of some of its scenes.
            if scene.scene() == Scene::Medley && !self.watch.has_measured(PASS_FRAMES) {
                return None;
            }
            self.watch.score(PASS_FRAMES)
        };
        self.told().score().or_else(by_frames)
    }

    /// Notes that a load that runs whole has come to its end.
    pub(crate) fn end_pass(&mut self, at: Seconds) {
        let told = std::mem::take(&mut self.told);
        self.passes.extend(self.pass_began.map(|began| (began, told)));
        self.pass_began = Some(at);
    }

    /// Notes that the present pass began under other settings.
    pub(crate) fn has_begun_in_a_pass(&mut self) {
        self.pass_began = None;
    }

    /// What was told of the run: of a load that runs whole the median of its passes, without those that
    /// began on a cold card unless there is no other.
    fn told(&self) -> Told {
        if self.passes.is_empty() {
            return self.pass_began.map_or_else(Told::default, |_| self.told.clone());
        }
        let is_warm = |pass: &&(Seconds, Told)| pass.0 >= self.intent.warm_up;
        let any_is_warm = self.passes.iter().any(|pass| is_warm(&pass));
        let counted = self.passes.iter().filter(|pass| is_warm(pass) || !any_is_warm);
        Told::median(&counted.map(|(_, told)| told.clone()).collect::<Vec<_>>())
    }

    /// What was observed, what was told of it included.
    pub(crate) fn seen(&self) -> Seen {
        self.with_told(self.watch.seen())
    }

    fn with_told(&self, seen: Seen) -> Seen {
        let told = self.told();
        Seen {
            frame_rate: told.average_fps.or(seen.frame_rate),
            frame_rate_low: told.low_fps.or(seen.frame_rate_low),
            told,
            ..seen
        }
    }

    pub(crate) fn view(&self) -> RunView {
        let limits = &self.card.limits;
        let held = self.taken.unwrap_or(self.intent.asked);
        RunView {
            climb: self.intent.climb,
            title: format!("trial {}", self.intent.number),
            number: self.intent.number,
            stage: self.intent.stage,
            purpose: self.intent.purpose,
            scene: self.intent.scene.clone(),
            what: in_short(&self.intent.asked, &self.card),
            asked: self.intent.asked,
            taken: self.taken,
            seen: self.with_told(self.watch.glance()),
            score: self.score(),
            target: top_of(&self.card, &held),
            power_limit: held.get(SettingKind::PowerLimit).or(limits.power_limit.map(Watt::value)),
            temperature_target: held
                .get(SettingKind::TemperatureTarget)
                .or(limits.temperature_target.map(Celsius::value)),
            at: self.sample.at,
            resting: self.resting,
            planned: self.intent.planned,
            warm_up: self.intent.warm_up,
            sample: self.sample,
            trace: self.trace.clone(),
            room: self.intent.room,
            plateau: self.is_warming().then(|| self.watch.plateau()).flatten(),
            temperature_ceiling: limits.stops_at().value(),
            marks: self.marks.clone(),
            in_step: Vec::new(),
            notes: Vec::new(),
            faults: self.faults.clone(),
            spoilt: Arc::clone(&self.spoilt),
            picture: None,
            wants_a_look: false,
            judgement: None,
            by_load: None,
        }
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
        more_clock_asked: asks_more_clock(&intent.asked, card),
        most_background: plan.most_background(),
        // A cold card flatters what all else is compared with.
        most_warming: (intent.stage == Stage::Baseline).then(|| plan.most_warming()),
        clock_bin: card.limits.clock_bin,
        expected: run.expected(),
        since_reset: intent.since_reset,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_card::{Card, CardChoice};
    use yard_step_core::{TrialRequest, Verdict};

    fn record() -> TrialRecord {
        let none = Seconds(0.0);
        let request = TrialRequest {
            stage: Stage::Baseline,
            purpose: yard_step_core::Purpose::Baseline,
            asked: Settings::default(),
            load: "smithy".into(),
            seconds: none,
            warm_up: none,
            warm_up_bounds: (none, none),
            rest: none,
        };
        request.judged(1, Verdict::Clean, String::new())
    }

    /// A run whose passes end at these times with these scores, 10 s of it warm-up.
    fn ran(passes: &[(f64, f64)]) -> Run {
        let card = CardChoice::all()[0].open(5, 0).unwrap();
        let intent = Intent { warm_up: Seconds(10.0), ..Intent::of_record(0, 1, &record()) };
        let mut run = Run::new(intent, card.description(), None, Expected::default());
        for (at, score) in passes {
            run.told = Told { score: Some(*score), ..Told::default() };
            run.end_pass(Seconds(*at));
        }
        run
    }

    #[rstest]
    #[case::the_load_died(None, None, Some(2), "load died in \"loom\"")]
    #[case::a_frame_says_more(
        Some(730),
        Some(9),
        Some(2),
        "9 wrong pixels in frame 730 in \"lantern\""
    )]
    #[case::it_is_not_known(None, None, None, "load died")]
    fn a_fault_is_marked_with_the_section_of_its_load(
        #[case] frame: Option<u64>,
        #[case] wrong_pixels: Option<u64>,
        #[case] last_section: Option<usize>,
        #[case] marked: &str,
    ) {
        let (kind, at) = ("load died".to_owned(), Seconds(3.0));
        let mut record = TrialRecord { scene: "medley".into(), ..record() };
        record.faults = vec![Fault { at, kind, frame, wrong_pixels }];
        record.seen.last_section = last_section;
        let marks = ran(&[]).view().ended(&record).marks;
        let texts: Vec<&str> = marks.iter().map(|mark| mark.text.as_str()).collect();
        assert_eq!(texts, [marked]);
    }

    #[rstest]
    #[case::those_that_began_cold_do_not_count(&[(6.0, 900.0), (12.0, 800.0), (18.0, 50.0), (24.0, 60.0)], 55.0)]
    #[case::one_that_began_as_the_warm_up_ended(&[(10.0, 900.0), (18.0, 50.0)], 50.0)]
    #[case::unless_there_is_no_other(&[(40.0, 900.0)], 900.0)]
    fn the_median_of_the_passes_counts(#[case] passes: &[(f64, f64)], #[case] score: f64) {
        assert_eq!(ran(passes).score(), Some(score));
    }

    #[test]
    fn a_pass_that_began_under_other_settings_says_nothing() {
        let mut run = ran(&[]);
        run.has_begun_in_a_pass();
        run.told = Told { score: Some(900.0), ..Told::default() };
        assert_eq!(run.score(), None);
        run.end_pass(Seconds(12.0));
        run.told = Told { score: Some(50.0), ..Told::default() };
        run.end_pass(Seconds(18.0));
        assert_eq!(run.score(), Some(50.0));
    }
}
