//! A soak inside a climb: what ran of it, what it came to so far, and what runs next.
//!
//! ```text
//!   Soak: settings, loads, goal ─► runs ─► Soaked: hours by kind, faults, chances ─► next run | end
//!                                    └─ a fault ─► a step back on the axis it points to, and on
//! ```
//!
//! It comes before all stages, as a question of the user's does, and its runs are trials of the climb: a soak that was
//! interrupted goes on like one.

use crate::card::settings::Settings;
use crate::climb::culprits::Culprits;
use crate::climb::stages::together::hint;
use crate::climb::{Climb, Next, Purpose, Reason, Stage, Stuck, TrialRecord, in_short};
use crate::judge::verdict::{Meaning, Verdict};
use crate::load::artifact::Domain;
use crate::measure::monitor::SectionSeen;
use crate::proof::assurance::Assurance;
use crate::proof::check::CheckRun;
use crate::proof::exposure::{Exposure, ProofRun};
use crate::proof::soak::{OnFault, Soak, SoakLoad, SoakStep};
use crate::units::{Celsius, Mhz, Seconds};

/// Failures after which the steps back grow no more.
const MOST_DOUBLINGS: u32 = 4;

/// A run of a soak.
#[derive(Debug, Clone, PartialEq)]
pub struct SoakRun {
    /// Its trial.
    pub trial: u32,
    /// Its place among the soak's loads; none for a load that it has no longer.
    pub place: Option<usize>,
    /// Time from the beginning of the soak, rests and runs that prove nothing included.
    pub began: Seconds,
    /// How long it ran.
    pub seconds: Seconds,
    /// How it ended.
    pub verdict: Verdict,
    /// Highest hot spot, or core temperature where there is none.
    pub hottest: Option<Celsius>,
}

/// A fault in a soak, and what came of it.
#[derive(Debug, Clone, PartialEq)]
pub struct SoakFault {
    /// The trial that failed.
    pub trial: u32,
    /// Under which load.
    pub load: String,
    /// How.
    pub verdict: Verdict,
    /// When, from the beginning of the run.
    pub at: Seconds,
    /// The frame that was wrong, where one was seen.
    pub frame: Option<u64>,
    /// Average core clock of the run.
    pub clock: Option<Mhz>,
    /// Where the card ran in each section of the load.
    pub sections: Vec<SectionSeen>,
    /// Highest core temperature.
    pub temperature: Option<Celsius>,
    /// Which clock it points to; none where nothing tells.
    pub domain: Option<Domain>,
    /// The settings that failed, and those the soak went on with.
    pub settings: (Settings, Settings),
    /// What the settings went to, in words; empty where there was nothing left to take off.
    pub back_to: String,
}

/// Why a soak is over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SoakEnd {
    /// It reached its goal.
    Reached,
    /// It failed, and was to end then.
    Failed,
    /// It failed until nothing was left that lies beyond stock.
    AtStock,
    /// The user ended it.
    Ended,
}

/// What a soak came to so far.
#[derive(Debug, Clone, PartialEq)]
pub struct Soaked {
    /// What is proven.
    pub soak: Soak,
    /// The settings that run: the soak's with its reserve, or milder ones after faults.
    pub at: Settings,
    /// The settings that stand so far: what runs, without the reserve.
    pub stands: Settings,
    /// What stands behind those.
    pub assurance: Assurance,
    /// Every run, in order.
    pub runs: Vec<SoakRun>,
    /// How often each load has run and told something.
    pub counts: Vec<usize>,
    /// The faults, in order.
    pub faults: Vec<SoakFault>,
    /// Time spent, rests included.
    pub spent: Seconds,
    /// Why it is over; none while it goes on.
    pub end: Option<SoakEnd>,
}

impl Soaked {
    /// Whether every run since it began was without a fault.
    #[must_use]
    pub fn is_clean(&self) -> bool {
        self.faults.is_empty()
    }
}

impl Climb {
    /// What the user wants proven.
    #[must_use]
    pub fn soak(&self) -> Option<&Soak> {
        self.soak.as_deref()
    }

    /// What the soak came to so far; none where there is none.
    #[must_use]
    pub fn soaked(&self) -> Option<Soaked> {
        let soak = self.soak.as_deref()?;
        let begun_at = self.with_reserve(soak.settings, soak.reserve);
        let mut so_far = SoFar {
            climb: self,
            soak,
            at: begun_at,
            exposure: soak.before,
            runs: Vec::new(),
            counts: vec![0; soak.loads.len()],
            faults: Vec::new(),
            spent: Seconds(0.0),
            end: None,
        };
        for trial in self.soak_trials(soak) {
            so_far.take(trial);
        }
        so_far.leave_what_is_barred();
        let reserve = if begun_at == soak.settings { 0 } else { soak.reserve };
        let stands = match so_far.at == begun_at {
            true => soak.settings,
            false if reserve == 0 => so_far.at,
            false => self.milder(so_far.at, None, reserve.into()),
        };
        let assurance = self.assurance_of(so_far.exposure, soak).with_reserve(reserve);
        if so_far.end.is_none() && soak.is_reached(&assurance, so_far.spent, &so_far.counts) {
            so_far.end = Some(SoakEnd::Reached);
        }
        if soak.ended && so_far.end.is_none() {
            so_far.end = Some(SoakEnd::Ended);
        }
        let SoFar { at, runs, counts, faults, spent, end, .. } = so_far;
        Some(Soaked { soak: soak.clone(), at, stands, assurance, runs, counts, faults, spent, end })
    }

    /// Settings made bolder by a reserve, as far as the card takes it.
    #[must_use]
    pub fn with_reserve(&self, settings: Settings, reserve: u8) -> Settings {
        self.bolder(settings, reserve.into())
    }

    fn soak_trials<'a>(&'a self, soak: &Soak) -> impl DoubleEndedIterator<Item = &'a TrialRecord> {
        let after = soak.after;
        self.trials_of(Stage::Proof).filter(move |trial| trial.number > after)
    }

    fn assurance_of(&self, exposure: Exposure, soak: &Soak) -> Assurance {
        self.experience.assurance(exposure, &soak.shares(), soak.claim)
    }

    /// The runs of the soak, as a check holds them against those of another time; only what told something.
    #[must_use]
    pub fn check_runs(&self) -> Vec<CheckRun> {
        let Some(soak) = self.soak.as_deref() else { return Vec::new() };
        let told = self
            .soak_trials(soak)
            .filter(|trial| trial.verdict().meaning() != Meaning::ProvesNothing);
        told.map(|trial| CheckRun {
            load: trial.scene.clone(),
            is_cold: trial.purpose == Purpose::ColdStart,
            verdict: trial.verdict(),
            score: trial.score,
            core: trial.seen.core_temperature_max,
            room: trial.room.map(|room| room.ambient),
        })
        .collect()
    }

    /// The soak's next run; none where there is no soak, or it is over.
    pub(in crate::climb) fn next_soaked(&self) -> Option<Next> {
        let soaked = self.soaked()?;
        if soaked.end.is_some() {
            return None;
        }
        if let Some(asked) = self.next_asked_within(&soaked.soak) {
            return Some(asked);
        }
        let in_vain = self.soak_trials(&soaked.soak).rev();
        let in_vain = in_vain
            .take_while(|run| run.number as usize > self.taken_up_after)
            .filter(|run| !run.was_stopped())
            .take_while(|run| run.verdict().meaning() == Meaning::ProvesNothing);
        let in_vain: Vec<&TrialRecord> = in_vain.collect();
        if in_vain.len() > self.plan.rules.retries as usize {
            let last = in_vain.first().map(|run| run.reason.clone()).unwrap_or_default();
            return Some(Next::Stuck(Stuck::InVain { runs: in_vain.len(), at: None, last }));
        }
        let step = soaked.soak.next(&soaked.assurance, soaked.spent, &soaked.counts)?;
        Some(Next::Trial(Box::new(self.soak_proposal(&soaked, step)?)))
    }

    /// The run that the user's question about a fault of the soak needs next. Nobody may be there: what needs a yes, and what
    /// told nothing again and again, is left until the soak is over.
    fn next_asked_within(&self, soak: &Soak) -> Option<Next> {
        let failed = self.asked_about().filter(|failed| failed.number > soak.after)?;
        let proposal = self.next_of_culprits(failed, Stage::Own)?;
        let asked = &proposal.request.asked;
        let in_vain = self.trials.iter().filter(|trial| {
            trial.number > failed.number
                && trial.purpose == Purpose::Isolate
                && trial.asked == *asked
                && trial.verdict().meaning() == Meaning::ProvesNothing
        });
        let is_left = in_vain.count() > self.plan.rules.retries as usize
            || self.risk_of(asked).or_else(|| self.supply_risk_of(asked)).is_some();
        (!is_left).then(|| Next::Trial(Box::new(proposal)))
    }

    fn soak_proposal(&self, soaked: &Soaked, step: SoakStep) -> Option<crate::climb::Proposal> {
        let load = soaked.soak.loads.get(step.place)?;
        let purpose = if load.is_cold() { Purpose::ColdStart } else { Purpose::Soak };
        let newest = soaked.faults.last();
        let reason = Reason::Soak {
            of: soaked.soak.of.clone(),
            load: load.load.clone(),
            length: step.length,
            rest: step.rest,
            why: step.why,
            after: newest.map(|fault| (fault.trial, fault.load.clone(), fault.verdict)),
        };
        if let Some(settings) = load.settings {
            // Figures are of a warm card.
            let stage = Stage::Proof;
            let proposal = self.proposal(stage, purpose, settings, step.length, reason);
            return Some(proposal.under(&load.load));
        }
        // All of a run counts: faults come in its first seconds, too.
        let none = Seconds(0.0);
        let mut proposal =
            self.proposal_after(none, Stage::Proof, purpose, soaked.at, step.length, reason);
        proposal.request.warm_up_bounds = (none, none);
        proposal.request.rest = step.rest;
        Some(proposal.under(&load.load))
    }
}

/// A soak that is read off its trials.
struct SoFar<'a> {
    climb: &'a Climb,
    soak: &'a Soak,
    at: Settings,
    exposure: Exposure,
    runs: Vec<SoakRun>,
    counts: Vec<usize>,
    faults: Vec<SoakFault>,
    spent: Seconds,
    end: Option<SoakEnd>,
}

impl SoFar<'_> {
    fn take(&mut self, trial: &TrialRecord) {
        let is_cold = trial.purpose == Purpose::ColdStart;
        let is_it = |(_, load): &(usize, &SoakLoad)| {
            load.load == trial.scene
                && load.is_cold() == is_cold
                && load.settings.is_none_or(|settings| settings == trial.asked)
        };
        // Of the same thing twice, the one that has run least.
        let all = self.soak.loads.iter().enumerate().filter(is_it).map(|(place, _)| place);
        let place = all.min_by_key(|place| self.counts.get(*place).copied());
        self.runs.push(SoakRun {
            trial: trial.number,
            place,
            began: self.spent,
            seconds: trial.seconds,
            verdict: trial.verdict(),
            hottest: trial.seen.hot_spot_max.or(trial.seen.core_temperature_max),
        });
        let rest = if is_cold { self.soak.rest_before_cold() } else { Seconds(0.0) };
        self.spent = self.spent + trial.seconds + rest;
        let verdict = trial.verdict();
        if verdict.meaning() == Meaning::ProvesNothing {
            return;
        }
        if let Some(count) = place.and_then(|place| self.counts.get_mut(place)) {
            *count += 1;
        }
        if self.soak.is_measurement() {
            return;
        }
        let held = trial.held();
        // Milder settings than those that stand say nothing of them; a mark may have brought that about.
        if held != self.at && !held.is_at_least_as_bold_as(&self.at, &self.climb.card) {
            return;
        }
        self.exposure.add(&ProofRun {
            load: &trial.scene,
            mean_load: trial.seen.load,
            is_cold,
            seconds: trial.seconds,
            failed: verdict.is_fault(),
        });
        if verdict.is_fault() && self.end.is_none() {
            self.step_back(trial);
        }
    }

    fn step_back(&mut self, trial: &TrialRecord) {
        // Where nothing in the run tells, runs that were made to find out may.
        let hinted = hint(trial);
        let found = hinted.is_none().then(|| self.climb.culprits_of(trial));
        let found = found.filter(|culprits| culprits.next.is_none() && !culprits.found.is_empty());
        let domain = hinted.or_else(|| found.as_ref().and_then(Culprits::domain));
        let from = self.at;
        let steps = 1 << (self.faults.len() as u32).min(MOST_DOUBLINGS);
        let to = match (self.soak.on_fault, &found) {
            (OnFault::Stop, _) => from,
            (OnFault::StepBack, Some(culprits)) => self.climb.milder_in(from, culprits, steps),
            (OnFault::StepBack, None) => self.climb.milder(from, domain, steps),
        };
        let beyond = |settings: &Settings| self.climb.goes_beyond_stock(settings);
        match self.soak.on_fault {
            OnFault::Stop => self.end = Some(SoakEnd::Failed),
            OnFault::StepBack if !beyond(&from) || !beyond(&to) => {
                self.end = Some(SoakEnd::AtStock);
            }
            OnFault::StepBack => {
                self.exposure = self.exposure.stepped_back(f64::from(steps));
            }
        }
        let line = trial.seen.clock_line.as_ref();
        let fault = trial.faults.first();
        self.faults.push(SoakFault {
            trial: trial.number,
            load: trial.scene.clone(),
            verdict: trial.verdict(),
            at: fault.map_or(trial.seconds, |fault| fault.at),
            frame: fault.and_then(|fault| fault.frame),
            clock: line.map(|line| line.average),
            sections: trial.seen.sections.clone(),
            temperature: trial.seen.core_temperature_max,
            domain,
            settings: (from, to),
            back_to: if to == from { String::new() } else { in_short(&to, &self.climb.card) },
        });
        if self.end.is_none() {
            self.at = to;
        }
    }

    /// What took the machine down, in this climb or another one, is left without being tried again.
    fn leave_what_is_barred(&mut self) {
        if self.faults.is_empty() {
            return;
        }
        let mut steps = 1;
        while self.end.is_none()
            && self.climb.is_barred(&self.at)
            && self.climb.goes_beyond_stock(&self.at)
        {
            self.at = self.climb.milder(self.at, None, steps);
            self.exposure = self.exposure.stepped_back(f64::from(steps));
            steps *= 2;
        }
        if !self.climb.goes_beyond_stock(&self.at) {
            self.end = Some(SoakEnd::AtStock);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::climb::whole_climbs::{CARD, Imagined, card};
    use crate::climb::{ClimbEvent, Stage};
    use crate::judge::verdict::Fault;
    use crate::plan::{Margin, Plan};
    use crate::proof::kind::LoadKind;
    use crate::proof::soak::Goal;
    use crate::units::MhzOffset;
    use rstest::rstest;

    fn soak(core: i32, goal: Goal, on_fault: OnFault) -> Soak {
        Soak {
            settings: Settings { core_offset: Some(MhzOffset(core)), ..Settings::stock(&card()) },
            of: "profile \"dome\"".into(),
            loads: Soak::usual_loads(),
            goal,
            on_fault,
            reserve: 0,
            after: 0,
            before: Exposure::default(),
            claim: Some((Margin::Daily, 0.998)),
            ended: false,
            check: None,
        }
    }

    fn begun(soak: Soak) -> Climb {
        let mut climb = Climb::new(card(), Plan::default(), &Stage::USUAL).unwrap();
        climb.handle(ClimbEvent::Soak(Some(Box::new(soak))));
        climb
    }

    /// Makes runs on an imagined card whose core edge is lower under one load, until the soak is over.
    fn run(climb: &mut Climb, weak: (&str, i32)) {
        for _ in 0..500 {
            if climb.soaked().unwrap().end.is_some() {
                return;
            }
            let Next::Trial(proposal) = climb.next() else { panic!("{:?}", climb.next()) };
            let request = &proposal.request;
            assert_eq!(request.stage, Stage::Proof);
            assert_eq!(request.rest > Seconds(0.0), request.purpose == Purpose::ColdStart);
            let core = if request.load == weak.0 { weak.1 } else { CARD.core };
            let record = Imagined { core, ..CARD }.run(climb, request);
            climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        }
        panic!("no end");
    }

    #[test]
    fn a_night_without_a_fault_ends_at_its_time_and_the_climb_goes_on() {
        let mut climb = begun(soak(90, Goal::Hours(8.0), OnFault::StepBack));
        run(&mut climb, ("none", 0));
        let soaked = climb.soaked().unwrap();
        assert_eq!((soaked.end, soaked.is_clean()), (Some(SoakEnd::Reached), true));
        assert!((7.9..=8.02).contains(&(soaked.spent.value() / 3_600.0)), "{:?}", soaked.spent);
        assert!(soaked.counts.iter().all(|count| *count > 0));
        let Next::Trial(next) = climb.next() else { panic!() };
        assert_eq!(next.request.stage, Stage::Baseline, "the soak is no stage");
        // The same trials bring the climb to the same place.
        let mut again = begun(soak(90, Goal::Hours(8.0), OnFault::StepBack));
        for trial in climb.trials() {
            again.handle(ClimbEvent::TrialEnded(Box::new(trial.clone())));
        }
        assert_eq!(again.soaked(), climb.soaked());
    }

    #[test]
    fn after_a_fault_it_goes_on_a_step_lower_with_the_hours_it_has() {
        let mut climb = begun(soak(120, Goal::Hours(8.0), OnFault::StepBack));
        run(&mut climb, ("doldrums", 100));
        let soaked = climb.soaked().unwrap();
        assert_eq!(soaked.end, Some(SoakEnd::Reached));
        let first = soaked.faults.first().unwrap();
        assert_eq!((first.load.as_str(), first.verdict), ("doldrums", Verdict::LoadDied));
        assert!(soaked.at.core_offset.unwrap().0 < 100, "{:?}", soaked.at.core_offset);
        assert_eq!(soaked.stands, soaked.at, "there is no reserve");
        assert_eq!(soaked.assurance.exposure().faults.iter().sum::<f64>(), 0.0);
        assert!(soaked.assurance.exposure().near[LoadKind::Light.place()] > 0.0);
        // What ran before the fault, at bolder settings, still counts.
        let before = soaked.runs.iter().take_while(|run| run.verdict == Verdict::Clean);
        let heat = before.filter(|run| run.place == Some(0)).count();
        assert!(heat > 0);
        let all: f64 = soaked.runs.iter().map(|run| run.seconds.value()).sum();
        assert!((soaked.assurance.exposure().total().value() - all).abs() < 1.0);
        let light = soaked.runs.iter().filter(|run| run.place == Some(4)).count();
        assert!(light > 1 + soaked.faults.len(), "it comes back to what failed: {light}");
    }

    /// A soak of settings of which only the memory's fail, and these.
    fn with_memory_too_far() -> (Climb, Settings) {
        let settings = Settings {
            core_offset: Some(MhzOffset(90)),
            memory_offset: Some(MhzOffset(CARD.memory + 60)),
            ..Settings::stock(&card())
        };
        (begun(Soak { settings, ..soak(0, Goal::Hours(8.0), OnFault::StepBack) }), settings)
    }

    #[test]
    fn a_question_about_a_fault_is_answered_at_once_and_only_the_culprit_steps_back() {
        let (mut climb, settings) = with_memory_too_far();
        let failed = CARD.step(&mut climb);
        assert!(failed.verdict().is_fault(), "{}", failed.reason);
        let both = climb.soaked().unwrap().at;
        assert!(both.core_offset < settings.core_offset, "nothing told which it was");
        climb.handle(ClimbEvent::Asked(Some(failed.number)));
        for _ in 0..2 {
            assert_eq!(CARD.step(&mut climb).purpose, Purpose::Isolate);
        }
        let soaked = climb.soaked().unwrap();
        assert_eq!(soaked.faults[0].domain, Some(Domain::Memory));
        assert_eq!(soaked.at.core_offset, settings.core_offset, "the core is acquitted");
        assert!(soaked.at.memory_offset < settings.memory_offset);
        let Next::Trial(next) = climb.next() else { panic!() };
        assert_eq!((next.request.stage, next.request.asked), (Stage::Proof, soaked.at));
        assert_eq!(soaked.runs.len(), 1, "the runs that found out are none of the soak");
    }

    #[test]
    fn a_question_whose_runs_tell_nothing_does_not_hold_the_soak_up() {
        let (mut climb, _) = with_memory_too_far();
        let failed = CARD.step(&mut climb);
        climb.handle(ClimbEvent::Asked(Some(failed.number)));
        let retries = climb.plan().rules.retries;
        for _ in 0..=retries {
            let Next::Trial(proposal) = climb.next() else { panic!() };
            assert_eq!(proposal.request.purpose, Purpose::Isolate);
            let mut record = CARD.run(&climb, &proposal.request);
            record.judged = Verdict::Void;
            climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        }
        let Next::Trial(next) = climb.next() else { panic!() };
        assert_eq!(next.request.stage, Stage::Proof);
    }

    #[test]
    fn a_measurement_runs_each_of_the_settings_as_listed_and_steps_nowhere() {
        let at = |core| Settings { core_offset: Some(MhzOffset(core)), ..Settings::stock(&card()) };
        let cell =
            |load: &str, core| SoakLoad { settings: Some(at(core)), ..SoakLoad::new(load, 1.0) };
        let loads = vec![cell("kiln", 0), cell("kiln", 60), cell("loom", 200), cell("kiln", 0)];
        let mut climb = begun(Soak { loads, ..soak(0, Goal::Once, OnFault::Stop) });
        let mut asked = Vec::new();
        while let (Next::Trial(proposal), None) = (climb.next(), climb.soaked().unwrap().end) {
            assert!(proposal.request.warm_up > Seconds(0.0), "figures are of a warm card");
            asked.push((
                proposal.request.load.clone(),
                proposal.request.asked.core_offset.unwrap().0,
            ));
            let record = CARD.run(&climb, &proposal.request);
            climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        }
        let wanted = [("kiln", 0), ("kiln", 60), ("loom", 200), ("kiln", 0)];
        assert_eq!(asked, wanted.map(|(load, core)| (load.to_owned(), core)));
        let soaked = climb.soaked().unwrap();
        assert_eq!((soaked.end, soaked.faults.len()), (Some(SoakEnd::Reached), 0));
        assert_eq!(
            soaked.assurance.exposure().total(),
            Seconds(0.0),
            "it proves nothing of its own"
        );
    }

    #[test]
    fn with_a_reserve_bolder_settings_run_than_are_proven() {
        let reserved =
            |core| Soak { reserve: 2, ..soak(core, Goal::Hours(8.0), OnFault::StepBack) };
        let mut climb = begun(reserved(60));
        run(&mut climb, ("none", 0));
        let soaked = climb.soaked().unwrap();
        assert_eq!(soaked.at.core_offset, Some(MhzOffset(90)));
        assert_eq!(soaked.stands, soaked.soak.settings);
        // What does not hold at its reserve stands that much lower.
        let mut climb = begun(reserved(105));
        run(&mut climb, ("none", 0));
        let soaked = climb.soaked().unwrap();
        assert!(!soaked.is_clean() && soaked.at.core_offset < Some(MhzOffset(130)));
        let below = soaked.at.core_offset.unwrap().0 - soaked.stands.core_offset.unwrap().0;
        assert_eq!(below, 30, "{:?}", soaked.stands);
    }

    #[rstest]
    #[case(OnFault::Stop, 90, SoakEnd::Failed)]
    #[case(OnFault::StepBack, 0, SoakEnd::AtStock)]
    fn it_ends_where_it_is_told_to_or_nothing_is_left(
        #[case] on_fault: OnFault,
        #[case] edge: i32,
        #[case] end: SoakEnd,
    ) {
        let mut climb = begun(soak(120, Goal::Hours(8.0), on_fault));
        run(&mut climb, ("kiln", edge));
        let soaked = climb.soaked().unwrap();
        assert_eq!(soaked.end, Some(end));
        assert!(soaked.assurance.chances(Margin::Daily.span()).believed < 0.9);
    }

    #[test]
    fn what_took_the_machine_down_is_left_without_another_try() {
        let mut climb = begun(soak(120, Goal::Hours(8.0), OnFault::StepBack));
        let Next::Trial(proposal) = climb.next() else { panic!() };
        let mut record = CARD.run(&climb, &proposal.request);
        record.judged = Verdict::MachineDown;
        record.faults = vec![Fault::at(Seconds(40.0), "machine down")];
        let asked = record.asked;
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        let Next::Trial(next) = climb.next() else { panic!() };
        assert_eq!(next.risk, None, "nobody is there to say yes at night");
        assert!(next.request.asked.core_offset < asked.core_offset);
        // A mark takes that back.
        climb.handle(ClimbEvent::Marked { trial: 1, verdict: Some(Verdict::Void) });
        let Next::Trial(next) = climb.next() else { panic!() };
        assert_eq!(next.request.asked.core_offset, asked.core_offset);
    }

    #[test]
    fn runs_that_prove_nothing_end_in_a_question() {
        let mut climb = begun(soak(90, Goal::Once, OnFault::StepBack));
        for _ in 0..5 {
            let Next::Trial(proposal) = climb.next() else { panic!("{:?}", climb.next()) };
            let record = proposal.request.judged(
                climb.trials().len() as u32 + 1,
                Verdict::Void,
                "Busy.".into(),
            );
            climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        }
        assert!(matches!(climb.next(), Next::Stuck(Stuck::InVain { runs: 5, .. })));
        climb.handle(ClimbEvent::TakenUp);
        assert!(matches!(climb.next(), Next::Trial(_)));
        let ended = Soak { ended: true, ..soak(90, Goal::Once, OnFault::StepBack) };
        climb.handle(ClimbEvent::Soak(Some(Box::new(ended))));
        assert_eq!(climb.soaked().unwrap().end, Some(SoakEnd::Ended));
        let Next::Trial(next) = climb.next() else { panic!() };
        assert_eq!(next.request.stage, Stage::Baseline);
    }
}
