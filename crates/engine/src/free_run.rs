//! A free run: a load that goes on while settings are changed.
//!
//! ```text
//!   begin ──► segment 1 ──change──► segment 2 ──change──► segment 3 ──fault──► back to segment 2
//!               │                      │                     │
//!               └──────── a trial in the ledger each, its intent on disk first ─────────┘
//! ```
//!
//! Each change ends a segment and begins the next. A segment is a trial like any other: whatever the ledger,
//! the guard, the search and the profiles do with trials holds for it, too.

use tracing::{info, warn};
use yard_step_core::{
    Advice, Alarm, AlarmRaised, CheckedFrame, ClimbEvent, Ending, Fault, Meaning, Purpose, Risk,
    Sample, Seconds, SettingKind, Settings, Stage, Suggestion, Told, Trace, TrialRecord,
    TrialRequest, Verdict, alarm, in_short,
};
use yard_step_scenes::Scene;

use crate::apply::{Applied, apply_live, apply_whole};
use crate::carry_out::ended_by;
use crate::ending::{ending_of_error, wants_a_look};
use crate::engine::{Engine, Unfinished};
use crate::error::EngineError;
use crate::free_view::{FreeEnd, FreeView, SegmentView, Series, changes};
use crate::in_step::look_while_held;
use crate::logging::set_log_trial;
use crate::restart::Restart;
use crate::trial::Run;
use crate::view::{Mark, MarkKind, RunView};

/// Part at the beginning of a segment that does not count: the card comes to its new place.
const SETTLE: Seconds = Seconds(3.0);
/// A shorter segment proves nothing, whatever was seen in it.
const LEAST: Seconds = Seconds(10.0);
/// After this long a segment is ended and the next begins with the same settings.
const LONGEST: Seconds = Seconds(3_600.0);

/// Somebody who drives a free run. Called after every sample.
pub trait Driver {
    /// Looks at the run, waits as long as the pace wants, and says how to go on.
    fn tick(&mut self, free: &FreeRun<'_>) -> Hand;
}

/// How a free run is to go on.
#[derive(Debug, Clone, PartialEq)]
pub enum Hand {
    /// As it is.
    GoOn,
    /// Held still: nothing is run, but card, sensors and load are watched.
    Hold,
    /// To its end.
    Stop,
    /// To its end; somebody who watched says what was seen, and the figures that the program gave.
    Told {
        /// What was seen.
        verdict: Verdict,
        /// The figures.
        told: Told,
    },
    /// Under other settings.
    Apply {
        /// The settings.
        settings: Box<Settings>,
        /// The explicit yes that risky ones need.
        yes: bool,
    },
}

/// What a free run is begun with.
#[derive(Debug, Clone, PartialEq)]
pub struct FreeStart {
    /// The load; none for that of the climb.
    pub load: Option<String>,
    /// The settings; none for those of the newest trial that held, or stock.
    pub settings: Option<Settings>,
    /// The explicit yes that risky ones need.
    pub yes: bool,
}

/// A free run that is going on.
pub struct FreeRun<'a> {
    run: &'a Run,
    course: &'a Course,
    trials: &'a [TrialRecord],
}

impl FreeRun<'_> {
    /// Number of the present segment among the trials of the climb.
    #[must_use]
    pub fn number(&self) -> u32 {
        self.run.intent.number
    }

    /// The trials of the climb, the segments that are over among them.
    #[must_use]
    pub fn trials(&self) -> &[TrialRecord] {
        self.trials
    }

    /// Settings the card took, and what its sensors say.
    pub(crate) fn card_now(&self) -> (Option<Settings>, Option<Sample>) {
        (self.run.taken, Some(self.run.sample()))
    }

    /// The present segment as a run. This copies its series: once a drawn frame is often enough.
    #[must_use]
    pub fn segment(&self) -> RunView {
        RunView { picture: self.run.picture(), ..self.run.view() }
    }

    /// The alarms that what is read now sets off, the gravest first.
    #[must_use]
    pub fn alarms(&self, alarms: &[Alarm]) -> Vec<AlarmRaised> {
        alarm::raised(alarms, &self.run.watch.moment(&self.run.sample()))
    }

    /// All there is to see of the free run.
    #[must_use]
    pub fn view(&self) -> FreeView {
        self.course.view(Some(self.run))
    }
}

/// What is remembered from one segment to the next.
struct Course {
    load: String,
    /// Everything measured, over all segments.
    trace: Trace,
    /// Time of all segments that have ended.
    before: Seconds,
    /// When the settings were changed.
    changes: Vec<Seconds>,
    segments: Vec<SegmentView>,
    /// The readings of the segment before the present one, and of the present one.
    series: [Series; 2],
    advice: Vec<Advice>,
    suggestion: Option<Suggestion>,
    /// Settings that need an explicit yes, and why.
    asks: Option<(Settings, Risk)>,
    /// What there is to say of the newest change.
    told: Vec<String>,
    /// Why the segment that has just ended does not count, unless it was just short.
    void: Option<String>,
}

impl Course {
    fn view(&self, run: Option<&Run>) -> FreeView {
        let mut segments = self.segments.clone();
        let before = self.segments.last().map(|segment| segment.asked);
        segments.extend(run.map(|run| segment_of_run(run, before.as_ref())));
        FreeView {
            load: self.load.clone(),
            at: Seconds(self.before.value() + run.map_or(0.0, |run| run.sample().at.value())),
            trace: self.trace.clone(),
            changes: self.changes.clone(),
            comparison: changes(&self.series[0], &self.series[1]),
            segments,
            advice: self.advice.clone(),
            suggestion: self.suggestion.clone(),
            asks: self.asks.clone(),
            told: self.told.clone(),
            ended: None,
        }
    }
}

/// How a segment came to its end.
enum Ended {
    /// Other settings were asked for.
    Changed(Box<Settings>),
    /// The load ended, or was ended.
    By(Ending),
}

impl Engine {
    /// Runs a load until somebody stops it or something goes wrong, under settings that change while it
    /// runs. After a fault the card goes back to the newest segment that held.
    ///
    /// # Errors
    /// There is no such load, cards are held in step, a yes is needed, or ledger or card fail; the card has
    /// been put back then.
    pub fn free_run(
        &mut self,
        start: FreeStart,
        driver: &mut dyn Driver,
    ) -> Result<FreeView, EngineError> {
        self.is_card_there()?;
        self.close_begun()?;
        if !self.cards.in_step().is_empty() {
            return Err(EngineError::FreeInStep);
        }
        let first = start.settings.unwrap_or_else(|| self.start_of_free_run());
        let first = first.clamped(self.description()).settings;
        if let Some(risk) = self.risk(&first).filter(|_| !start.yes) {
            return Err(EngineError::NeedsYes(risk));
        }
        let name = start.load.unwrap_or_else(|| self.climb.plan().scene.clone());
        let load = self.loads.choose(&name, self.cards.card())?;
        let of_climb = std::mem::replace(&mut self.load, load);
        let result = self.drive(&name, first, driver);
        self.end_load();
        self.load = of_climb;
        let result = result.map_err(|error| self.put_back_after(error));
        set_log_trial(None);
        if let (Err(EngineError::LoadNotBegun { .. }), Some(intent)) = (&result, &self.begun) {
            let intent = intent.clone();
            self.close_unfinished(&intent, Unfinished::NotBegun)?;
            self.begun = None;
        }
        result
    }

    /// What a free run begins with: the newest trial that held, or stock with the fan as trials have it.
    fn start_of_free_run(&self) -> Settings {
        let mut trials = self.climb.trials().iter().rev();
        let held = trials.find(|trial| trial.verdict().meaning() == Meaning::Holds);
        held.map_or_else(|| self.climb.held_settings(), TrialRecord::held)
    }

    /// Why settings need an explicit yes, if they do.
    fn risk(&self, settings: &Settings) -> Option<Risk> {
        self.climb.risk_of(settings).or_else(|| self.climb.supply_risk_of(settings))
    }

    fn drive(
        &mut self,
        load: &str,
        first: Settings,
        driver: &mut dyn Driver,
    ) -> Result<FreeView, EngineError> {
        let mut course = Course {
            load: load.to_owned(),
            trace: Trace::new(),
            before: Seconds(0.0),
            changes: Vec::new(),
            segments: Vec::new(),
            series: Default::default(),
            advice: Vec::new(),
            suggestion: None,
            asks: None,
            told: Vec::new(),
            void: None,
        };
        let mut asked = first;
        let mut held: Option<(u32, Settings)> = None;
        loop {
            let (mut run, applied) = self.begin_segment(asked, &mut course)?;
            let ended = match &applied.failed {
                Some(error) => Ended::By(ending_of_error(error)),
                None if applied.is_refused() && course.segments.is_empty() => {
                    Ended::By(Ending::NotBegun)
                }
                None => {
                    if course.segments.is_empty() {
                        self.begin_load(&mut run)?;
                    }
                    self.watch_segment(&mut run, &mut course, driver)?
                }
            };
            let (ending, next) = match ended {
                Ended::Changed(settings) if run.sample().at < LEAST => {
                    (Ending::Stopped, Some(settings))
                }
                Ended::Changed(settings) => (Ending::Finished, Some(settings)),
                Ended::By(ending) => (ending, None),
            };
            if ending == Ending::MachineDown {
                warn!("took the machine down");
                self.restart = Some(Restart::Down);
                return Err(EngineError::MachineDown { trial: run.intent.number });
            }
            let record = self.end_segment(&mut run, &ending, &applied, &mut course)?;
            if record.verdict().meaning() == Meaning::Holds {
                held = Some((record.number, record.held()));
            }
            match next {
                Some(settings) => {
                    course.changes.push(course.before);
                    asked = *settings;
                }
                None => return self.end_free_run(&course, &record, &ending, held),
            }
        }
    }

    /// Writes a segment's intent down and applies it: under the running load, but for the first.
    fn begin_segment(
        &mut self,
        asked: Settings,
        course: &mut Course,
    ) -> Result<(Run, Applied), EngineError> {
        let card = self.cards.card().description().clone();
        let clamped = asked.clamped(&card);
        let guard_told = self.cards.arm()?;
        let request = TrialRequest {
            stage: Stage::Own,
            purpose: Purpose::Segment,
            asked: clamped.settings,
            load: self.load.name().to_owned(),
            seconds: LONGEST,
            warm_up: SETTLE,
            warm_up_bounds: (SETTLE, SETTLE),
            rest: Seconds(0.0),
        };
        let intent = self.write_intent(&request, clamped.settings)?;
        set_log_trial(Some(format!("trial {} of climb {}", intent.number, intent.climb)));
        info!("is on disk; asks under load for {}", in_short(&intent.asked, &card));
        // From here on, and not before, the card may be touched.
        let applied = match course.segments.is_empty() {
            true => apply_whole(self.cards.card_mut(), &intent.asked),
            false => apply_live(self.cards.card_mut(), &intent.asked),
        };
        course.told = course.void.take().into_iter().chain(clamped.notes).collect();
        course.told.extend(applied.told.clone());
        course.told.extend(guard_told);
        course.series = [std::mem::take(&mut course.series[1]), Series::default()];
        (course.advice, course.suggestion) = (Vec::new(), None);
        let mut run = Run::new(intent, &card, applied.taken, self.load.expected());
        if !course.segments.is_empty() {
            self.load.forget();
            if self.load.runs_whole() {
                run.has_begun_in_a_pass();
            }
        }
        run.begin(&course.told);
        Ok((run, applied))
    }

    fn watch_segment(
        &mut self,
        run: &mut Run,
        course: &mut Course,
        driver: &mut dyn Driver,
    ) -> Result<Ended, EngineError> {
        let grace = self.climb.plan().artifact_grace();
        let alarms = self.alarms();
        let scene: Option<Scene> = self.load.name().parse().ok();
        let mut checked: Vec<CheckedFrame> = Vec::new();
        let mut section = 0;
        let mut tick = 0_u64;
        loop {
            tick += 1;
            let at = Seconds(tick as f64 / 10.0);
            checked.clear();
            let ending = self.work_a_tick(run, at, (grace, &alarms), &mut checked)?;
            let weigh =
                |frame: &CheckedFrame| scene.map_or(1.0, |scene| scene.weight(frame.number));
            let work = (!checked.is_empty()).then(|| checked.iter().map(weigh).sum());
            section = checked.last().map_or(section, |frame| frame.section);
            course.take(run, at, section, work);
            if let Some(ending) = ending {
                return Ok(Ended::By(ending));
            }
            if at >= LONGEST {
                return Ok(Ended::Changed(Box::new(run.intent.asked)));
            }
            // Once a second is often enough to look what would help, and after the guard.
            if tick.is_multiple_of(10) {
                if at > SETTLE {
                    self.look_what_helps(run, course);
                }
                if let Some(text) = self.cards.arm()? {
                    run.mark(at, MarkKind::Restart, text);
                }
            }
            if let Some(ended) = self.ask_driver(run, course, driver) {
                return Ok(ended);
            }
        }
    }

    /// Asks the driver how to go on, as long as it holds the run still; what ends the segment, if anything.
    fn ask_driver(
        &mut self,
        run: &mut Run,
        course: &mut Course,
        driver: &mut dyn Driver,
    ) -> Option<Ended> {
        loop {
            match driver.tick(&FreeRun { run, course, trials: self.climb.trials() }) {
                Hand::GoOn => return None,
                Hand::Stop => return Some(Ended::By(Ending::Stopped)),
                Hand::Told { verdict, told } => {
                    run.told = told;
                    let how = self.load.how_told(verdict);
                    let at = run.sample().at;
                    return Some(Ended::By(ended_by(Ending::Told { verdict, how }, at, run)));
                }
                Hand::Hold => {
                    let at = run.sample().at;
                    let mut checked = Vec::new();
                    let load = self.load.look_while_held(&mut checked).err();
                    run.take_frames(at, checked.into_iter());
                    let alarms = self.alarms();
                    let ending =
                        load.or_else(|| look_while_held(run, self.cards.card_mut(), &alarms));
                    if let Some(ending) = ending {
                        return Some(Ended::By(ended_by(ending, at, run)));
                    }
                }
                Hand::Apply { settings, yes } => {
                    course.asks = None;
                    let wanted = settings.clamped(self.description());
                    match self.risk(&wanted.settings).filter(|_| !yes) {
                        Some(risk) => course.asks = Some((*settings, risk)),
                        // Asked for what it was asked for already: nothing changes.
                        None if wanted.settings == run.intent.asked => course.told = wanted.notes,
                        None => return Some(Ended::Changed(settings)),
                    }
                }
            }
        }
    }

    /// Works out what would help now, from what was seen in the segment so far.
    fn look_what_helps(&self, run: &Run, course: &mut Course) {
        let seen = run.watch.seen();
        let record = TrialRecord {
            taken: run.taken,
            seconds: seen.seconds,
            seen,
            ..run.intent.judged(Verdict::Clean, String::new())
        };
        course.advice = self.climb.advice(&record);
        course.suggestion = self.climb.suggestion(&record);
    }

    /// Gives a segment its verdict and writes it down.
    fn end_segment(
        &mut self,
        run: &mut Run,
        ending: &Ending,
        applied: &Applied,
        course: &mut Course,
    ) -> Result<TrialRecord, EngineError> {
        // Somebody who stops the load has seen enough of the last segment; a short one proves nothing.
        let judged_as = match ending {
            Ending::Stopped if run.sample().at >= LEAST => &Ending::Finished,
            other => other,
        };
        if *judged_as == Ending::Stopped {
            run.faults.push(Fault::at(run.sample().at, Fault::STOPPED));
        }
        let record = self.judged(run, judged_as, &applied.differences);
        info!("is {}: {}", record.judged, record.reason);
        self.write_end(run, &record)?;
        self.begun = None;
        course.before = course.before + run.sample().at;
        let earlier = course.segments.last().map(|segment| segment.asked);
        course.segments.push(segment_of_record(run, &record, earlier.as_ref()));
        course.void = (record.verdict() == Verdict::Void && !record.was_stopped()).then(|| {
            format!("Segment {} does not count. {}", course.segments.len(), record.reason)
        });
        self.boots.push(run.intent.boot.clone());
        self.climb.handle(ClimbEvent::TrialEnded(Box::new(record.clone())));
        Ok(record)
    }

    /// Ends the load and, after a fault, puts the card to the newest segment that held.
    fn end_free_run(
        &mut self,
        course: &Course,
        last: &TrialRecord,
        ending: &Ending,
        held: Option<(u32, Settings)>,
    ) -> Result<FreeView, EngineError> {
        self.end_load();
        self.restart = match ending {
            Ending::CardGone(_) => Some(Restart::CardGone),
            _ => self.needs_restart(),
        };
        let held = held.filter(|(_, settings)| self.risk(settings).is_none());
        let back_to = match held {
            _ if wants_a_look(ending) || is_safety_stop(ending) => {
                self.cards.put_back()?;
                None
            }
            _ if last.verdict().meaning() == Meaning::Holds => None,
            Some((segment, settings)) if self.restart != Some(Restart::CardGone) => {
                self.step_back(segment, &settings, last.seconds)?.then_some((segment, settings))
            }
            _ => {
                self.cards.put_to_stock()?;
                None
            }
        };
        self.note_state()?;
        let mut view = course.view(None);
        view.ended = Some(FreeEnd {
            verdict: last.verdict(),
            reason: last.reason.clone(),
            trial: last.number,
            back_to,
        });
        Ok(view)
    }
}

impl Engine {
    /// Puts the card to the settings of a segment that held; to stock where it does not take them. Whether it
    /// took them.
    fn step_back(
        &mut self,
        segment: u32,
        settings: &Settings,
        at: Seconds,
    ) -> Result<bool, EngineError> {
        if let Some(row) = self.ledger.row_of(self.climb_id, segment)? {
            let text = format!("Back to the settings of trial {segment}.");
            let mark = Mark { at, kind: MarkKind::Applied, text };
            self.ledger.add_event(self.climb_id, &mark.event(row))?;
        }
        let applied = apply_whole(self.cards.card_mut(), settings);
        let is_taken = applied.failed.is_none() && !applied.is_refused();
        if !is_taken {
            self.cards.put_to_stock()?;
        }
        Ok(is_taken)
    }
}

impl Course {
    /// Takes in a tick of the present segment; `work` is what the frames of the tick come to.
    fn take(&mut self, run: &Run, at: Seconds, section: usize, work: Option<f64>) {
        let sample = run.sample();
        let over_all = Seconds(self.before.value() + at.value());
        self.trace.push(&Sample { at: over_all, ..sample }, run.limiter());
        if at > SETTLE {
            self.series[1].take(over_all, &sample, section, work);
        }
    }
}

/// Whether a run ended to keep the card from harm: whatever it held, it goes back.
fn is_safety_stop(ending: &Ending) -> bool {
    matches!(ending, Ending::Ceiling | Ending::SensorLost(_) | Ending::SensorsFrozen)
}

/// The present segment; `before` is what was asked for in the one before.
fn segment_of_run(run: &Run, before: Option<&Settings>) -> SegmentView {
    let asked = run.intent.asked;
    let changed = match before {
        None => asked.moved_but_fan(run.card()),
        Some(before) => SettingKind::ALL
            .into_iter()
            .filter(|kind| asked.show(*kind) != before.show(*kind))
            .map(|kind| format!("{} {}", kind.label(), asked.show(kind)))
            .collect(),
    };
    SegmentView {
        number: run.intent.number,
        changed,
        asked,
        taken: run.taken,
        seconds: run.sample().at,
        seen: run.watch.glance(),
        score: run.score(),
        verdict: None,
    }
}

/// A segment that has ended.
fn segment_of_record(run: &Run, record: &TrialRecord, before: Option<&Settings>) -> SegmentView {
    SegmentView {
        seen: record.seen.clone(),
        score: record.score,
        verdict: Some(record.verdict()),
        ..segment_of_run(run, before)
    }
}
