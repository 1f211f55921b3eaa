//! The engine on its thread: commands in, snapshots out.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use rstest::{fixture, rstest};
use tempfile::TempDir;
use yard_step_card::{Card, CardChoice, Mishaps, StandIn};
use yard_step_core::{
    CardChange, CardDescription, Case, Celsius, CheckAnswer, Goal, Machine, MhzOffset, OnFault,
    Plan, Prerequisite, Purpose, Risk, Room, Settings, SoakLoad, Stage, Standing, TrialRecord,
    Verdict, Watt,
};
use yard_step_engine::{
    Activity, Command, Engine, EngineError, FreeStart, KeepWhat, KeepWish, KeptFan, NextView,
    Opener, Pace, Rack, Restart, Rig, Session, Snapshot, SoakWhat, SoakWish, Unfinished,
};
use yard_step_ledger::{ClimbEntry, ClimbState, DataDir, Ledger};

/// Far longer than anything here takes.
const PATIENCE: Duration = Duration::from_secs(60);

struct Desk {
    session: Session,
    changes: Receiver<()>,
    ledger: Ledger,
    _dir: TempDir,
}

impl Desk {
    /// Waits for a snapshot that is as wanted; one comes with every change.
    fn until(&self, what: &str, wanted: impl Fn(&Snapshot) -> bool) -> Arc<Snapshot> {
        let began = Instant::now();
        loop {
            let snapshot = self.session.snapshot();
            if wanted(&snapshot) {
                return snapshot;
            }
            // A waiting engine changes something four times a second, so silence alone is no sign.
            let left = PATIENCE.saturating_sub(began.elapsed());
            let changed = self.changes.recv_timeout(left);
            assert!(changed.is_ok(), "never came to be: {what}; {:?}", snapshot.notices);
            assert!(!left.is_zero(), "never came to be: {what}; {:?}", snapshot.notices);
        }
    }

    fn send(&self, command: Command) {
        assert!(self.session.command(command), "nobody takes commands");
    }

    fn trials(&self, count: usize) -> Arc<Snapshot> {
        self.until("so many trials", |s| {
            s.climb.trials.len() == count && s.runs.activity == Activity::Waiting
        })
    }

    fn with_baseline(self) -> Self {
        for count in 1..=3 {
            self.send(Command::Try { yes: false });
            self.trials(count);
        }
        self
    }
}

fn plan() -> Plan {
    Plan::from_toml(
        "scene = \"lantern\"\npolicy = \"fixed-step\"\n\
         [baseline]\nseconds = 30\nwarm_up_seconds = 60\n\
         [core]\nseconds = 30\nwarm_up_seconds = 5\nconfirm_seconds = 60\nsettle_seconds = 30\n\
         [rules]\nmost_warming_k = 50",
    )
    .unwrap()
}

/// Opens the cards of a rack, on a ledger.
struct Bay {
    ledger: Ledger,
}

fn unit(seed: u64) -> StandIn {
    let mut card = CardChoice::all()[0].open(seed, 0).unwrap();
    card.set_mishaps(Mishaps::NONE);
    card
}

impl Opener for Bay {
    fn climb(&mut self, card: &CardDescription) -> Result<(Engine, Vec<String>), EngineError> {
        let stages = [Stage::Baseline, Stage::Core];
        let card = Box::new(unit(card.serial.parse().unwrap()));
        let engine = Engine::begin(card, self.ledger.clone(), plan(), &stages)?;
        Ok((engine, vec!["Another card.".into()]))
    }

    fn card(&mut self, card: &CardDescription) -> Result<Rig, EngineError> {
        Ok(Box::new(unit(card.serial.parse().unwrap())).into())
    }
}

fn desk_at(pace: Pace) -> Desk {
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
    let cards = [5, 6].map(|seed| unit(seed).description().clone());
    let stages = [Stage::Baseline, Stage::Core];
    let engine = Engine::begin(Box::new(unit(5)), ledger.clone(), plan(), &stages).unwrap();
    let rack = Rack::new(cards.to_vec(), 0, Box::new(Bay { ledger: ledger.clone() }));
    let (ring, changes) = channel();
    let session = Session::start(engine, rack, pace, vec!["Welcome.".into()], move || {
        let _ = ring.send(());
    });
    Desk { session, changes, ledger, _dir: dir }
}

#[fixture]
fn desk() -> Desk {
    desk_at(Pace::Max)
}

fn next_offset(snapshot: &Snapshot) -> Option<MhzOffset> {
    match &snapshot.climb.next {
        NextView::Trial { asked, .. } => asked.core_offset,
        NextView::Ended(_) | NextView::Stuck(_) => None,
    }
}

#[rstest]
fn the_first_snapshot_shows_the_card_as_it_is(desk: Desk) {
    let snapshot = desk.session.snapshot();
    assert_eq!(snapshot.notices, ["Welcome."]);
    assert_eq!(snapshot.machine.held.unwrap().core_offset, Some(MhzOffset::STOCK));
    assert!(
        snapshot.machine.sensors.is_some()
            && snapshot.runs.newest.is_none()
            && snapshot.climb.trials.is_empty()
    );
    assert!(matches!(snapshot.climb.next, NextView::Trial { purpose: Purpose::Baseline, .. }));
    let machine = &snapshot.machine;
    assert!(machine.air.is_some() && machine.rack.len() == 2);
}

#[rstest]
fn one_try_is_one_trial_and_its_run_stays_in_view(desk: Desk) {
    desk.send(Command::Try { yes: false });
    let snapshot = desk.trials(1);
    let run = snapshot.runs.newest.as_ref().unwrap();
    assert_eq!(run.judgement.as_ref().unwrap().verdict, Verdict::Clean);
    assert!(run.picture.is_some() && run.trace.len() > 100);
    assert!(snapshot.notices.last().unwrap().starts_with("Trial 1: clean."));
    assert_eq!(snapshot.climb.under_load, run.seen.seconds);
}

#[rstest]
fn auto_climb_goes_to_the_outcome_and_turns_itself_off(desk: Desk) {
    let is_over = |s: &Snapshot| matches!(s.climb.next, NextView::Ended(_));
    let snapshot = loop {
        desk.send(Command::ToggleAuto);
        let snapshot = desk.until("the outcome, or the machine down", |s| {
            (is_over(s) || s.machine.restart == Some(Restart::Down))
                && s.runs.activity == Activity::Waiting
        });
        if is_over(&snapshot) {
            break snapshot;
        }
        // It goes no further by itself.
        assert!(!snapshot.runs.auto);
        desk.send(Command::Restart);
        let up = desk.until("the restart", |s| s.machine.restart.is_none());
        assert_eq!(up.climb.trials.last().unwrap().verdict(), Verdict::MachineDown);
    };
    assert!(!snapshot.runs.auto);
    let NextView::Ended(outcome) = &snapshot.climb.next else { panic!() };
    assert!(outcome.confirmed && outcome.settings.core_offset.unwrap() > MhzOffset::STOCK);
    assert_eq!(desk.ledger.climb(snapshot.climb.number).unwrap().state, ClimbState::Ended);
    assert_eq!(snapshot.climb.outlook.climb.trials, (0, 0));
}

#[test]
fn a_paused_run_stands_still_and_a_stopped_one_ends() {
    let desk = desk_at(Pace::Ten);
    desk.send(Command::Try { yes: false });
    desk.until("a running trial", |s| {
        s.runs.newest.as_ref().is_some_and(|run| run.at.value() > 0.5)
    });
    desk.send(Command::TogglePause);
    let paused = desk.until("the pause", |s| s.runs.activity == Activity::Paused);
    // Commands are still taken, and time has not moved when the next snapshot comes.
    desk.send(Command::NextPace);
    let later = desk.until("the next pace", |s| s.runs.pace == Some(Pace::Sixty));
    assert_eq!(later.runs.newest.as_ref().unwrap().at, paused.runs.newest.as_ref().unwrap().at);
    desk.send(Command::Try { yes: false });
    desk.until("the refusal", |s| s.answer.as_deref() == Some("A trial is running already."));
    desk.send(Command::Stop);
    let ended = desk.trials(1);
    assert_eq!(ended.climb.trials[0].verdict(), Verdict::Void);
    assert!(ended.climb.trials[0].was_stopped());
}

#[rstest]
fn a_nudge_moves_the_next_value_and_is_dropped_again(desk: Desk) {
    desk.send(Command::Nudge(1));
    desk.until("the refusal", |s| s.notices.iter().any(|n| n.contains("before the baseline")));
    let desk = desk.with_baseline();
    assert_eq!(next_offset(&desk.session.snapshot()), Some(MhzOffset(60)));
    desk.send(Command::Nudge(1));
    desk.send(Command::Nudge(1));
    desk.until("two steps up", |s| next_offset(s) == Some(MhzOffset(90)));
    desk.send(Command::DropNudge);
    desk.until("the plan's own value", |s| next_offset(s) == Some(MhzOffset(60)));
}

#[test]
fn what_is_wished_while_a_trial_runs_is_done_after_its_verdict() {
    let desk = desk_at(Pace::Max).with_baseline();
    desk.send(Command::NextPace);
    desk.until("the slowest pace", |s| s.runs.pace == Some(Pace::Real));
    desk.send(Command::Try { yes: false });
    desk.until("a running trial", |s| {
        s.runs.activity == Activity::Running && s.runs.newest.is_some()
    });
    desk.send(Command::Nudge(2));
    let told = desk.until("the answer", |s| s.answer.is_some());
    assert!(told.answer.as_ref().unwrap().contains("as soon as this trial has its verdict"));
    desk.send(Command::Stop);
    let after = desk.trials(4);
    assert!(after.climb.trials[3].was_stopped());
    desk.until("the wish", |s| next_offset(s) == Some(MhzOffset(90)));
    desk.send(Command::Try { yes: false });
    desk.until("the next run", |s| s.runs.activity == Activity::Running && s.runs.newest.is_some());
    desk.send(Command::BackToStock);
    let stock = desk.until("stock", |s| {
        s.answer.as_ref().is_some_and(|a| a.starts_with("The card is at stock"))
    });
    assert_eq!(stock.climb.trials.len(), 5);
    assert_eq!(stock.machine.held.unwrap().core_offset, Some(MhzOffset::STOCK));
}

#[rstest]
fn a_mark_changes_what_comes_next_and_is_in_the_ledger(desk: Desk) {
    let desk = desk.with_baseline();
    desk.send(Command::Try { yes: false });
    desk.trials(4);
    desk.send(Command::Mark { climb: 1, trial: 4, verdict: Some(Verdict::Artifacts) });
    let marked = desk.until("a step back", |s| next_offset(s) == Some(MhzOffset(15)));
    assert_eq!(marked.climb.trials[3].verdict(), Verdict::Artifacts);
    let events = desk.ledger.events(marked.climb.number).unwrap();
    assert!(events.iter().any(|event| event.text == "Trial 4 marked as artifacts by hand."));
    desk.send(Command::Mark { climb: 1, trial: 4, verdict: None });
    desk.until("the step up", |s| next_offset(s) == Some(MhzOffset(120)));
}

#[rstest]
fn earlier_trials_are_looked_at_one_by_one_and_the_present_comes_back(desk: Desk) {
    let desk = desk.with_baseline();
    let looked = |s: &Snapshot| s.runs.looked_at.as_ref().map(|run| run.number);
    for (by, number) in [(-1, Some(3)), (-1, Some(2)), (-1, Some(1)), (-1, Some(1)), (1, Some(2))] {
        desk.send(Command::LookBeside(by));
        desk.until("the trial beside", |s| looked(s) == number);
    }
    let shown = desk.session.snapshot();
    let run = shown.runs.looked_at.as_ref().unwrap();
    assert!(run.picture.is_none(), "pictures are not recorded");
    assert_eq!(run.judgement.as_ref().unwrap().verdict, Verdict::Clean);
    assert!(!run.trace.is_empty(), "but its samples are");
    desk.send(Command::LookBeside(1));
    desk.send(Command::LookBeside(1));
    desk.until("the present", |s| looked(s).is_none());
    desk.send(Command::Look(Some(99)));
    desk.until("the refusal", |s| {
        s.notices.iter().any(|notice| notice == "There is no trial 99 in this climb.")
    });
}

#[rstest]
fn a_trial_of_another_climb_is_looked_into_marked_and_its_settings_tried_again(desk: Desk) {
    let desk = desk.with_baseline();
    desk.send(Command::Wish(Box::new(Settings {
        core_offset: Some(MhzOffset(45)),
        ..Settings::default()
    })));
    desk.send(Command::Try { yes: false });
    desk.trials(4);
    desk.send(Command::NewClimb);
    desk.until("another climb", |s| s.climb.number == 2);
    desk.send(Command::LookInto { climb: 1, trial: 4 });
    let looked = desk.until("the old trial", |s| s.runs.looked_at.is_some());
    let run = looked.runs.looked_at.clone().unwrap();
    assert_eq!(run.title, "trial 4 of climb 1, Tarn 310");
    assert_eq!((looked.looked_here(), looked.baseline_for(&run)), (None, None));
    for (by, number) in [(-1, 3), (-1, 2), (1, 3), (1, 4)] {
        desk.send(Command::LookBeside(by));
        desk.until("the trial beside", |s| s.runs.looked_at.as_ref().unwrap().number == number);
    }
    desk.send(Command::LookBeside(1));
    desk.until("the refusal", |s| {
        s.notices.iter().any(|notice| notice == "There is no trial 5 in climb 1.")
    });
    desk.send(Command::Mark { climb: 1, trial: 4, verdict: Some(Verdict::Artifacts) });
    let verdict = |s: &Snapshot| s.runs.looked_at.as_ref()?.judgement.as_ref().map(|j| j.verdict);
    desk.until("the mark", |s| verdict(s) == Some(Verdict::Artifacts));
    assert_eq!(desk.ledger.climb(1).unwrap().trials[3].record.verdict(), Verdict::Artifacts);
    let row = desk.ledger.row_of(1, 4).unwrap().unwrap();
    desk.send(Command::Repeat(row));
    let told = desk.until("the wish", |s| next_offset(s) == Some(MhzOffset(45)));
    let told = told.answer.as_ref().unwrap();
    assert!(told.starts_with("Next: core +45 MHz once more, as in trial 4 of climb 1."), "{told}");
}

#[rstest]
fn the_settings_of_another_card_are_not_tried_on_this_one(desk: Desk) {
    let desk = desk.with_baseline();
    let row = desk.ledger.row_of(1, 1).unwrap().unwrap();
    desk.send(Command::Choose(1));
    desk.until("the other card", |s| s.climb.number == 2);
    desk.send(Command::Repeat(row));
    let refusal = "Trial 1 of climb 1 ran on Tarn 310, unit 5. Choose that card first, with c.";
    desk.until("the refusal", |s| s.notices.iter().any(|notice| notice == refusal));
}

fn keep_outcome(name: &str) -> Command {
    let (name, purpose) = (name.to_owned(), String::new());
    Command::Keep(Box::new(KeepWish {
        name,
        purpose,
        margin: None,
        what: KeepWhat::Outcome,
        fan: KeptFan::AsSearched,
    }))
}

#[rstest]
fn ending_the_stage_keeping_and_going_back_to_stock(desk: Desk) {
    let desk = desk.with_baseline();
    desk.send(keep_outcome("early"));
    desk.until("the refusal", |s| s.notices.iter().any(|n| n.contains("nothing to keep")));
    desk.send(Command::Try { yes: false });
    desk.trials(4);
    desk.send(Command::EndStage);
    desk.until("the end", |s| matches!(s.climb.next, NextView::Ended(_)));
    desk.send(keep_outcome("by day"));
    let kept = desk.until("the profile", |s| !s.machine.profiles.is_empty());
    assert_eq!(kept.machine.profiles[0].profile.settings.core_offset, Some(MhzOffset(45)));
    assert_eq!(kept.machine.held.unwrap().core_offset, Some(MhzOffset(45)));
    desk.send(Command::BackToStock);
    let stock =
        desk.until("stock", |s| s.notices.iter().any(|n| n.starts_with("The card is at stock")));
    assert_eq!(stock.machine.held.unwrap().core_offset, Some(MhzOffset::STOCK));
}

#[rstest]
fn a_baseline_without_a_run_that_counts_cannot_be_ended(desk: Desk) {
    desk.send(Command::EndStage);
    let refused = desk.until("the refusal", |s| s.answer.is_some());
    assert!(refused.answer.as_ref().unwrap().contains("nothing to compare with"));
    assert!(matches!(refused.climb.next, NextView::Trial { .. }));
}

#[rstest]
fn a_new_climb_begins_empty_and_the_old_one_is_history(desk: Desk) {
    let desk = desk.with_baseline();
    let old = desk.session.snapshot().climb.number;
    desk.send(Command::NewClimb);
    let new = desk.until("the new climb", |s| s.climb.number != old);
    assert!(
        new.climb.trials.is_empty() && new.climb.baseline.is_none() && new.runs.newest.is_none()
    );
    let summary = new.climb.history.iter().find(|climb| climb.id == old).unwrap();
    assert_eq!((summary.state, summary.trials), ("given up", 3));
}

#[rstest]
fn a_trial_that_could_not_be_written_down_stays_with_its_own_climb(desk: Desk) {
    let desk = desk.with_baseline();
    let old = desk.session.snapshot().climb.number;
    let path = DataDir::new(desk._dir.path()).ledger();
    let other = rusqlite::Connection::open(path).unwrap();
    other.execute_batch("ALTER TABLE samples RENAME TO hidden").unwrap();
    desk.send(Command::Try { yes: false });
    desk.until("the failure", |s| s.answer.is_some());
    other.execute_batch("ALTER TABLE hidden RENAME TO samples").unwrap();
    desk.send(Command::NewClimb);
    desk.until("the new climb", |s| s.climb.number != old);
    desk.send(Command::Try { yes: false });
    let new = desk.trials(1);
    assert_eq!(new.climb.trials[0].number, 1);
    let entry = desk.ledger.climb(old).unwrap();
    assert_eq!((entry.trials.len(), entry.unfinished), (4, None));
    assert_eq!(entry.trials[3].record.verdict(), Verdict::Void);
}

#[test]
fn a_waiting_card_cools_down_in_view() {
    let desk = desk_at(Pace::Max);
    desk.send(Command::Try { yes: false });
    let hot = desk.trials(1);
    let temperature = |s: &Snapshot| s.machine.sensors.unwrap().core_temperature.unwrap().value();
    desk.until("a cooler card", |s| temperature(s) < temperature(&hot) - 5.0);
}

#[test]
fn leaving_in_the_middle_keeps_the_trial_as_stopped() {
    let desk = desk_at(Pace::Ten);
    desk.send(Command::Try { yes: false });
    desk.until("a running trial", |s| s.runs.newest.is_some());
    let Desk { session, ledger, _dir, .. } = desk;
    drop(session);
    let entry = ledger.climbs().unwrap().pop().unwrap();
    assert!(entry.unfinished.is_none(), "it was ended in order");
    assert!(entry.trials[0].record.was_stopped());
    assert_eq!(entry.state, ClimbState::Open);
}

#[test]
fn after_leaving_nothing_begins_that_still_waited() {
    let desk = desk_at(Pace::Sixty);
    desk.send(Command::Try { yes: false });
    desk.until("a running trial", |s| s.runs.newest.is_some());
    // Both wait for the verdict; the first is what runs when the user leaves.
    desk.send(free(None));
    desk.send(free(None));
    desk.send(Command::Stop);
    desk.until("a free run", |s| s.runs.free.is_some());
    let Desk { session, ledger, _dir, .. } = desk;
    session.end().unwrap();
    let entry = ledger.climbs().unwrap().pop().unwrap();
    let loads: Vec<&str> = entry.trials.iter().map(|t| t.record.scene.as_str()).collect();
    assert_eq!(loads, ["lantern", "kiln"]);
}

#[test]
fn a_soak_that_is_ended_while_it_runs_stops_and_the_climb_waits() {
    let desk = desk_at(Pace::Sixty);
    let loads = vec![SoakLoad::new("lantern", 1.0)];
    desk.send(Command::Prove(Box::new(SoakWish {
        what: SoakWhat::Held,
        loads,
        goal: Goal::Hours(8.0),
        on_fault: OnFault::StepBack,
        reserve: 0,
    })));
    desk.until("its first run", |s| s.runs.activity == Activity::Running);
    desk.send(Command::EndSoak);
    let ended = desk.until("its end", |s| {
        s.answer.as_ref().is_some_and(|answer| answer.contains("The soak is ended"))
    });
    assert_eq!((ended.runs.activity, ended.runs.auto), (Activity::Waiting, false));
    assert!(ended.climb.trials.iter().all(|trial| trial.was_stopped()));
    let Desk { session, ledger, _dir, .. } = desk;
    session.end().unwrap();
    assert_eq!(ledger.climbs().unwrap()[0].trials.len(), 1, "and nothing else began");
}

#[rstest]
fn what_is_said_of_the_machine_is_noted_and_changes_the_list_of_prerequisites(desk: Desk) {
    let standing = |snapshot: &Snapshot, what: &str| {
        let found = snapshot.machine.prerequisites.iter().find(|line| line.label() == what);
        found.map(Prerequisite::standing)
    };
    let open = desk.until("a list", |s| !s.machine.prerequisites.is_empty());
    assert_eq!(standing(&open, "room"), Some(Standing::Open));
    assert_eq!(standing(&open, "factory state"), Some(Standing::Met));
    let room = Room { ambient: Celsius(27.0), case: Case::Closed };
    let machine = Machine {
        room: Some(room),
        supply: Some(Watt(500.0)),
        rest: Some(Watt(200.0)),
        full_fan: None,
        alarms: vec![],
        changes: vec![],
        memories: Vec::new(),
        connectors: vec![],
    };
    desk.send(Command::SetMachine(Box::new(machine.clone())));
    let told = desk.until("the room", |s| standing(s, "room") == Some(Standing::Met));
    assert_eq!(standing(&told, "power supply"), Some(Standing::Concern), "two cards on 500 W");
    assert_eq!(desk.ledger.machine().unwrap(), machine);
    desk.send(Command::SetMachine(Box::new(Machine {
        supply: Some(Watt(1.0)),
        ..machine.clone()
    })));
    desk.until("a refusal", |s| {
        s.answer.as_ref().is_some_and(|answer| answer.contains("a power supply of 1 W"))
    });
    assert_eq!(desk.ledger.machine().unwrap(), machine, "what cannot be is not noted");
    desk.send(Command::Try { yes: false });
    assert_eq!(desk.trials(1).climb.trials[0].room, Some(room));
}

#[rstest]
fn another_card_of_the_rack_is_taken_up_with_a_climb_of_its_own(desk: Desk) {
    desk.send(Command::Try { yes: false });
    let first = desk.trials(1);
    assert_eq!((first.machine.rack.len(), first.machine.present), (2, 0));
    desk.send(Command::Choose(1));
    let other = desk.until("the other card", |s| s.machine.present == 1);
    assert_eq!((other.machine.card.serial.as_str(), other.climb.trials.len()), ("6", 0));
    assert_ne!(other.climb, first.climb);
    assert!(other.machine.air.is_some());
    assert!(other.runs.newest.is_none() && other.notices.iter().any(|n| n == "Another card."));
    desk.send(Command::Choose(7));
    desk.until("a refusal", |s| s.answer.as_deref() == Some("There is no card 8."));
}

#[rstest]
fn two_cards_in_step_keep_their_own_read_back_and_verdict(desk: Desk) {
    desk.send(Command::ToggleInStep(1));
    desk.until("in step", |s| s.machine.rack.get(1).is_some_and(|card| card.in_step));
    desk.send(Command::Try { yes: false });
    let snapshot = desk.trials(1);
    let [other] = &snapshot.climb.trials[0].in_step[..] else { panic!("{:?}", snapshot.notices) };
    assert!(other.card.ends_with("#6") && other.judged == Verdict::Clean, "{other:?}");
    assert_eq!(other.taken, snapshot.climb.trials[0].taken);
    assert_ne!(other.score, snapshot.climb.trials[0].score, "another unit");
    assert_eq!(snapshot.runs.newest.as_ref().unwrap().in_step[0].verdict, Some(Verdict::Clean));
    let written = desk.ledger.climb(snapshot.climb.number).unwrap();
    assert_eq!(written.trials[0].record.in_step, snapshot.climb.trials[0].in_step);
    desk.send(Command::ToggleInStep(0));
    desk.until("a refusal", |s| {
        s.answer.as_ref().is_some_and(|answer| answer.contains("two different cards of one kind"))
    });
    desk.send(Command::ToggleInStep(1));
    desk.until("let go", |s| s.machine.rack.get(1).is_some_and(|card| !card.in_step));
    desk.send(Command::Try { yes: false });
    assert!(desk.trials(2).climb.trials[1].in_step.is_empty());
}

#[rstest]
fn a_card_in_step_that_is_chosen_to_be_climbed_on_is_let_go_first(desk: Desk) {
    desk.send(Command::ToggleInStep(1));
    desk.until("in step", |s| s.machine.rack.get(1).is_some_and(|card| card.in_step));
    desk.send(Command::Choose(1));
    let chosen = desk.until("the other card", |s| s.machine.present == 1);
    assert!(chosen.machine.rack.iter().all(|card| !card.in_step));
}

#[rstest]
fn a_recorded_trial_is_laid_over_the_one_shown(desk: Desk) {
    let desk = desk.with_baseline();
    desk.send(Command::LayOver(Some(1)));
    let laid = desk.until("the other trial", |s| s.runs.laid_over.is_some());
    let over = laid.runs.laid_over.as_ref().unwrap();
    let shown = laid.runs.newest.as_ref().unwrap();
    assert_eq!((over.number, shown.number), (1, 3));
    assert_ne!(over.trace, shown.trace);
    assert_eq!(over.trace.len(), over.seen.seconds.value() as usize * 10);
    desk.send(Command::LayOver(None));
    desk.until("no other trial", |s| s.runs.laid_over.is_none());
}

#[rstest]
fn settings_of_ones_own_are_tried_as_a_whole_and_shown_asked_and_taken(desk: Desk) {
    let desk = desk.with_baseline();
    let asked = Settings {
        memory_offset: Some(MhzOffset(33)),
        power_limit: Some(Watt(400.0)),
        ..Settings::stock(&unit(5).description().clone())
    };
    desk.send(Command::Wish(Box::new(asked)));
    let wished = desk
        .until("the wish", |s| matches!(&s.climb.next, NextView::Trial { stage: Stage::Own, .. }));
    assert!(wished.answer.as_ref().unwrap().contains("power limit 400 W is outside"));
    desk.send(Command::Try { yes: false });
    let snapshot = desk.trials(4);
    let own = &snapshot.climb.trials[3];
    assert_eq!((own.stage, own.asked.power_limit), (Stage::Own, Some(Watt(283.0))));
    assert_eq!(own.taken.unwrap().memory_offset, Some(MhzOffset(30)), "in the card's bins");
    let run = snapshot.runs.newest.as_ref().unwrap();
    assert!(run.notes.iter().any(|n| n.contains("asked +33 MHz, rounded to +30 MHz")));
    let again = desk.ledger.climb(snapshot.climb.number).unwrap();
    assert_eq!(again.trials[3].record.stage, Stage::Own);
    assert!(matches!(&snapshot.climb.next, NextView::Trial { stage: Stage::Core, .. }));
}

#[rstest]
fn what_took_the_machine_down_in_an_earlier_climb_needs_a_yes_when_it_is_repeated(desk: Desk) {
    let desk = desk.with_baseline();
    desk.send(Command::Try { yes: false });
    desk.trials(4);
    desk.send(Command::NewClimb);
    desk.until("another climb", |s| s.climb.number == 2);
    let risk = |s: &Snapshot| match &s.climb.next {
        NextView::Trial { risk, .. } => risk.clone(),
        _ => None,
    };
    let row = desk.ledger.row_of(1, 4).unwrap().unwrap();
    desk.send(Command::Repeat(row));
    let harmless = desk.until("the wish", |s| next_offset(s) == Some(MhzOffset(60)));
    assert_eq!(risk(&harmless), None);
    desk.send(Command::Mark { climb: 1, trial: 4, verdict: Some(Verdict::MachineDown) });
    let snapshot = desk.until("the risk", |s| risk(s).is_some());
    let Some(Risk::MachineDown { trial, is_same, .. }) = risk(&snapshot) else { panic!() };
    assert_eq!((trial, is_same), (4, true));
    desk.send(Command::Try { yes: false });
    desk.until("the question", |s| {
        s.answer.as_ref().is_some_and(|a| a.contains("took the machine down"))
    });
    assert!(desk.session.snapshot().climb.trials.is_empty(), "nothing was tried");
    desk.send(Command::Try { yes: true });
    desk.trials(1);
}

/// A desk whose climb was ended and kept as "by day".
fn kept(desk: Desk) -> Desk {
    let desk = desk.with_baseline();
    desk.send(Command::Try { yes: false });
    desk.trials(4);
    desk.send(Command::EndStage);
    desk.until("the end", |s| matches!(s.climb.next, NextView::Ended(_)));
    desk.send(keep_outcome("by day"));
    desk.until("the profile", |s| !s.machine.profiles.is_empty());
    desk
}

#[rstest]
fn profiles_are_switched_tried_again_and_deleted(desk: Desk) {
    let desk = kept(desk);
    let what = KeepWhat::Trial { climb: 1, trial: 1 };
    let wish = KeepWish {
        name: "plain".into(),
        purpose: "as it came".into(),
        margin: Some(yard_step_core::Margin::Daily),
        what,
        fan: KeptFan::AsSearched,
    };
    desk.send(Command::Keep(Box::new(wish)));
    let two = desk.until("both", |s| s.machine.profiles.len() == 2);
    assert_eq!(two.machine.profiles[0].profile.purpose, "as it came");
    assert!(two.machine.profiles[1].profile.in_use, "what came of a trial does not take its place");
    desk.send(Command::UseProfile { name: "plain".into(), yes: false });
    let used = desk.until("the switch", |s| {
        s.machine.profiles.iter().any(|p| p.profile.name == "plain" && p.profile.in_use)
    });
    assert_eq!(used.machine.held.unwrap().core_offset, Some(MhzOffset::STOCK));
    assert!(used.answer.as_ref().unwrap().contains("starts at stock until it is proven"));

    desk.send(Command::CheckProfile("plain".into()));
    let ran = desk.until("the check", |s| {
        s.answer.as_ref().is_some_and(|answer| answer.contains("First check"))
    });
    assert!(!ran.runs.auto && !ran.is_soaking());
    let check: Vec<&TrialRecord> =
        ran.climb.trials.iter().filter(|trial| trial.stage == Stage::Proof).collect();
    assert_eq!(check.len(), 5);
    assert!(check.iter().all(|trial| trial.asked.core_offset == Some(MhzOffset::STOCK)));
    let view = ran.machine.profiles.iter().find(|p| p.profile.name == "plain").unwrap();
    assert_eq!(view.backing.runs, 8, "the baseline and the check: {:?}", view.backing);
    let of = ran.machine.candidates.iter().find(|of| of.name == "profile \"plain\"").unwrap();
    assert!(matches!(of.checked, Some((_, CheckAnswer::First))), "{of:?}");
    desk.send(Command::CheckProfile("plain".into()));
    desk.until("the second check", |s| {
        s.answer.as_ref().is_some_and(|answer| answer.contains("The same as at its first check"))
    });

    desk.send(Command::DropProfile("plain".into()));
    let left = desk.until("one profile", |s| s.machine.profiles.len() == 1);
    assert_eq!(left.machine.profiles[0].profile.name, "by day");
    desk.send(Command::UseProfile { name: "plain".into(), yes: false });
    desk.until("the refusal", |s| s.answer.as_ref().is_some_and(|a| a.contains("no profile")));
}

#[rstest]
fn another_stage_goes_on_an_ended_climb_and_what_the_card_lacks_is_told(desk: Desk) {
    let desk = kept(desk);
    let snapshot = desk.session.snapshot();
    let why = |stage| {
        let other = snapshot.climb.other_stages.iter().find(|(other, _)| *other == stage);
        other.and_then(|(_, why)| why.clone())
    };
    assert_eq!(why(Stage::UndervoltClock), None);
    assert!(why(Stage::Window).unwrap().to_string().contains("does not offer"));
    assert!(why(Stage::Together).unwrap().to_string().contains("name both before it"));
    desk.send(Command::AddStage(Stage::Window));
    desk.until("the refusal", |s| {
        s.answer.as_ref().is_some_and(|answer| answer.contains("lowest and highest clock"))
    });
    desk.send(Command::AddStage(Stage::UndervoltClock));
    let added = desk.until("the stage", |s| s.climb.stages.contains(&Stage::UndervoltClock));
    assert!(
        matches!(&added.climb.next, NextView::Trial { stage: Stage::UndervoltClock, .. }),
        "{:?}",
        added.climb.next
    );
    assert_eq!(added.climb.descents.len(), 1);
    assert_eq!(desk.ledger.climb(1).unwrap().state, ClimbState::Open);
    assert_eq!(desk.ledger.climb(1).unwrap().stages.last(), Some(&Stage::UndervoltClock));
    desk.send(Command::AddStage(Stage::UndervoltClock));
    desk.until("no second one", |s| s.answer.as_ref().is_some_and(|a| a.contains("already")));
}

fn free(settings: Option<Settings>) -> Command {
    let load = Some("kiln".into());
    Command::FreeRun(Box::new(FreeStart { load, settings, yes: false }))
}

fn apply(settings: Settings) -> Command {
    Command::Apply { settings: Box::new(settings), yes: false }
}

#[test]
fn a_free_run_is_driven_by_commands_and_everything_else_waits_for_its_end() {
    let desk = desk_at(Pace::Sixty);
    let stock = desk.session.snapshot().climb.plan.clone();
    assert_eq!(stock.scene, "lantern", "the free run has a load of its own");
    let first = desk.until("a card", |s| s.machine.held.is_some());
    let held = first.machine.held.unwrap();
    let faster = Settings { core_offset: Some(MhzOffset(30)), ..held };
    desk.send(apply(faster));
    desk.until("a refusal", |s| s.answer.as_deref() == Some("No free run is going on."));

    desk.send(free(Some(held)));
    let running = |s: &Snapshot, segments: usize, least: f64| {
        s.runs.free.as_ref().is_some_and(|free| {
            free.segments.len() == segments
                && free.segments.last().is_some_and(|last| last.seconds.value() > least)
        })
    };
    let now = desk.until("a segment", |s| running(s, 1, 15.0));
    assert_eq!(now.runs.activity, Activity::Running);
    assert_eq!(now.runs.newest.as_ref().unwrap().scene, "kiln");
    // By the command of the settings, and by that of Shape.
    desk.send(apply(faster));
    desk.until("another segment", |s| running(s, 2, 15.0));
    let shaped = Settings { core_offset: Some(MhzOffset(15)), ..held };
    desk.send(Command::Wish(Box::new(shaped)));
    let third = desk.until("a third", |s| running(s, 3, 15.0));
    assert_eq!(third.runs.free.as_ref().unwrap().segments[2].taken, Some(shaped));
    assert_eq!(third.climb.trials.len(), 2, "those that are over are trials already");
    desk.send(Command::Try { yes: false });
    desk.until("an answer", |s| s.answer.as_deref() == Some("A trial is running already."));
    desk.send(Command::Replan(yard_step_core::Policy::Bisection, yard_step_core::Margin::Gift));
    desk.until("an answer", |s| {
        s.answer.as_deref() == Some("That is done as soon as the free run ends.")
    });

    desk.send(Command::ToggleLeaveOut);
    desk.send(Command::Stop);
    let ended = desk.until("its end", |s| {
        s.runs.activity == Activity::Waiting
            && s.runs.free.as_ref().is_some_and(|free| free.ended.is_some())
            && s.answer.as_ref().is_some_and(|answer| answer.contains("left out"))
    });
    assert_eq!(ended.climb.plan.policy, yard_step_core::Policy::Bisection);
    // What was asked for meanwhile is answered, all of it.
    let answer = ended.answer.as_ref().unwrap();
    assert!(answer.starts_with("The climb now uses bisection"), "{answer}");
    assert!(
        answer.ends_with("After all stages, runs with one setting left out follow."),
        "{answer}"
    );
    assert_eq!(ended.climb.trials.len(), 3);
    assert!(ended.climb.trials.iter().all(|trial| trial.purpose == Purpose::Segment));
    // The next trial takes its place.
    desk.send(Command::Try { yes: false });
    let trial = desk.until("a trial", |s| s.climb.trials.len() == 4);
    assert_eq!(trial.climb.trials[3].stage, Stage::Baseline);
    assert_eq!(trial.climb.trials[3].scene, "lantern", "the climb has its own load back");
    desk.until("no free run", |s| s.runs.free.is_none());
}

#[test]
fn something_changed_around_the_card_has_the_baseline_taken_again_now_and_after_a_restart() {
    let desk = desk_at(Pace::Max).with_baseline();
    let before = desk.until("a step", |s| s.climb.stage == Stage::Core);
    let key = before.machine.card.key();
    let change = |card: &str, at| CardChange { card: card.into(), what: "new paste".into(), at };
    let with = |change| Machine { changes: vec![change], ..Machine::default() };
    let of_another = with(change("standin:quern-540#1", i64::MAX));
    desk.send(Command::SetMachine(Box::new(of_another)));
    let same = desk.until("noted", |s| s.answer.is_some());
    assert_eq!(same.climb.stage, Stage::Core, "another card's change is none of this one");
    desk.send(Command::SetMachine(Box::new(with(change(&key, i64::MAX)))));
    let again = desk.until("the baseline", |s| s.climb.stage == Stage::Baseline);
    assert!(again.answer.as_ref().unwrap().contains("new paste. The baseline is taken again."));
    assert_eq!(again.climb.trials.len(), 3, "what was made stays");
    let entry = desk.ledger.climb(again.climb.number).unwrap();
    desk.session.end().unwrap();
    // Noted elsewhere while nothing ran: found at the next start.
    let kept = ClimbEntry { directives: Vec::new(), ..entry };
    desk.ledger.set_climb_state(kept.id, kept.state, &[]).unwrap();
    let (engine, told) =
        Engine::resume(Box::new(unit(5)), desk.ledger.clone(), kept, Unfinished::Void).unwrap();
    assert!(told.unwrap().contains("The baseline is taken again."));
    assert_eq!(engine.climb().stage(), Stage::Baseline);
}

#[test]
fn a_segment_becomes_where_the_climb_starts_and_stays_so_after_a_restart() {
    let desk = desk_at(Pace::Max).with_baseline();
    let held = desk.session.snapshot().machine.held.unwrap();
    let faster = Settings { core_offset: Some(MhzOffset(150)), ..held };
    desk.send(free(Some(Settings { core_offset: Some(MhzOffset(30)), ..held })));
    desk.until("a free run", |s| s.runs.free.as_ref().is_some_and(|free| free.at.value() > 12.0));
    desk.send(Command::StartFrom(Box::new(faster)));
    desk.send(Command::Stop);
    let told = desk.until("an answer", |s| {
        s.answer.as_deref().is_some_and(|text| text.contains("starts from core +150 MHz"))
    });
    assert_eq!(told.climb.plan.core.start_mhz, Some(150));
    let next = desk.until("a step", |s| s.climb.stage == Stage::Core);
    let NextView::Trial { asked, .. } = &next.climb.next else { panic!() };
    let first = asked.core_offset.unwrap();
    assert!(MhzOffset(0) < first && first < MhzOffset(150), "approached from below: {first:?}");
    let stored = desk.ledger.climb(told.climb.number).unwrap();
    assert_eq!(stored.plan.core.start_mhz, Some(150));
    desk.send(Command::StartFrom(Box::new(held)));
    let stock = desk.until("stock again", |s| s.climb.plan.core.start_mhz.is_none());
    assert!(stock.answer.as_ref().unwrap().contains("the climb starts from stock"));
}

#[test]
fn a_segment_becomes_the_next_trial_and_stock_ends_a_free_run() {
    let desk = desk_at(Pace::Max).with_baseline();
    let held = desk.session.snapshot().machine.held.unwrap();
    let faster = Settings { core_offset: Some(MhzOffset(30)), ..held };
    let is_there = |s: &Snapshot| s.runs.free.as_ref().is_some_and(|free| free.at.value() > 12.0);
    desk.send(free(Some(faster)));
    desk.until("a free run", is_there);
    desk.send(Command::TryInstead(Box::new(faster)));
    let next = desk.until("a trial to come", |s| {
        s.runs.activity == Activity::Waiting
            && matches!(&s.climb.next, NextView::Trial { purpose: Purpose::Own, .. })
    });
    let NextView::Trial { asked, .. } = &next.climb.next else { panic!() };
    assert_eq!(**asked, faster);

    desk.send(free(Some(faster)));
    desk.until("a free run", |s| s.runs.activity == Activity::Running && is_there(s));
    desk.send(Command::BackToStock);
    let back = desk.until("stock", |s| {
        s.runs.activity == Activity::Waiting
            && s.answer.as_deref().is_some_and(|answer| answer.starts_with("The card is at stock"))
    });
    assert!(back.runs.free.as_ref().is_some_and(|free| free.ended.is_some()));
}

#[test]
fn a_free_run_that_may_not_begin_says_how_its_settings_can_be_applied() {
    let desk = desk_at(Pace::Max);
    let held = desk.until("a card", |s| s.machine.held.is_some()).machine.held.unwrap();
    let bold = Settings { core_offset: Some(MhzOffset(30)), ..held };
    desk.send(free(Some(bold)));
    desk.until("a free run", |s| s.runs.free.as_ref().is_some_and(|free| free.at.value() > 12.0));
    desk.send(Command::Stop);
    desk.until("its end", |s| s.runs.activity == Activity::Waiting);
    desk.send(Command::Mark { climb: 1, trial: 1, verdict: Some(Verdict::MachineDown) });
    desk.until("the mark", |s| s.climb.trials[0].verdict() == Verdict::MachineDown);
    desk.send(free(Some(bold)));
    let refused = desk.until("a refusal", |s| {
        s.answer.as_deref().is_some_and(|answer| answer.contains("Begin with milder settings"))
    });
    assert_eq!((refused.climb.trials.len(), refused.runs.free.is_none()), (1, true));
    // As it says: from milder ones, with a yes.
    desk.send(free(Some(held)));
    let is_on = |s: &Snapshot| s.runs.free.as_ref().is_some_and(|free| free.ended.is_none());
    desk.until("a free run", |s| is_on(s) && s.runs.activity == Activity::Running);
    desk.send(apply(bold));
    desk.until("a question", |s| s.runs.free.as_ref().is_some_and(|free| free.asks.is_some()));
    desk.send(Command::Apply { settings: Box::new(bold), yes: true });
    desk.until("the change", |s| {
        s.runs.free.as_ref().is_some_and(|free| free.segments.last().unwrap().taken == Some(bold))
    });
}

/// How long a change takes from the command to the card, and from there to what is drawn. It is printed,
/// not held against a bound: `cargo test -p yard-step-engine --test sessions reaches -- --nocapture`.
#[test]
fn a_change_reaches_the_card_and_the_screen_at_the_cards_own_pace() {
    let desk = desk_at(Pace::Real);
    let held = desk.until("a card", |s| s.machine.held.is_some()).machine.held.unwrap();
    desk.send(free(Some(held)));
    desk.until("a free run", |s| s.runs.free.as_ref().is_some_and(|free| free.at.value() > 0.3));
    let mut slowest = Duration::ZERO;
    for mhz in [15, 30, 15, 30] {
        let settings = Settings { core_offset: Some(MhzOffset(mhz)), ..held };
        let began = Instant::now();
        desk.send(apply(settings));
        desk.until("the change", |s| {
            let free = s.runs.free.as_ref();
            free.and_then(|free| free.segments.last())
                .is_some_and(|now| now.taken == Some(settings))
        });
        slowest = slowest.max(began.elapsed());
    }
    println!("from command to a snapshot of what the card took: at most {slowest:?}");
    desk.send(Command::Stop);
    let ended = desk.until("its end", |s| s.runs.activity == Activity::Waiting);
    assert_eq!(ended.climb.trials.len(), 5, "each change made a segment");
}
