//! The ledger gives back what it was told, also after it was closed in the middle.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::sync::Arc;

use rstest::{fixture, rstest};
use tempfile::TempDir;
use yard_step_card::{Card, CardChoice};
use yard_step_core::{
    Alarm, AlarmAct, AlarmOn, Artifact, ArtifactKind, CardConnectors, CardDescription, CardMemory,
    Case, Celsius, Channel, CheckedFrame, Decibel, Directive, Domain, Experience, Fan, Fault,
    Frame, InStepRecord, LimitField, Limiter, Machine, MemoryKind, Mhz, MhzOffset, Patch,
    PixelArea, Plan, Policy, Purpose, Room, Sample, Seconds, Seen, SettingKind, Settings, Stage,
    StageOrder, TrialRecord, Verdict, Watt,
};
use yard_step_ledger::{
    ClimbState, DataDir, DiskFailure, Event, Filter, Intent, Ledger, LedgerError, Measured, Order,
};

struct Desk {
    _dir: TempDir,
    data: DataDir,
    ledger: Ledger,
    card: CardDescription,
    climb: i64,
}

#[fixture]
fn desk() -> Desk {
    let dir = tempfile::tempdir().unwrap();
    let data = DataDir::new(dir.path());
    let ledger = Ledger::open(&data).unwrap().ledger;
    let card = CardChoice::all()[0].open(3, 0).unwrap().description().clone();
    assert!(ledger.note_card(&card, Some(&Settings::stock(&card))).unwrap(), "new at first sight");
    assert!(!ledger.note_card(&card, Some(&Settings::default())).unwrap(), "known at second");
    let stages = [Stage::Baseline, Stage::Core];
    let climb = ledger.begin_climb(&card, &Plan::default(), &stages).unwrap();
    Desk { _dir: dir, data, ledger, card, climb }
}

fn intent(climb: i64, number: u32) -> Intent {
    Intent {
        driver: Some("1.0".into()),
        id: 0,
        climb,
        number,
        stage: Stage::Core,
        purpose: Purpose::Step,
        asked: Settings { core_offset: Some(MhzOffset(60)), ..Settings::default() },
        scene: "lantern".into(),
        planned: Seconds(200.0),
        warm_up: Seconds(20.0),
        room: Some(Room { ambient: Celsius(26.0), case: Case::Closed }),
        boot: "3-1".into(),
        since_reset: Some(1),
        lived: Seconds(0.0),
    }
}

fn measured(first: usize, samples: Vec<Sample>) -> Measured {
    Measured { first, samples, spoilt: Vec::new() }
}

fn record_of(intent: &Intent) -> TrialRecord {
    TrialRecord {
        number: intent.number,
        stage: intent.stage,
        purpose: intent.purpose,
        asked: intent.asked,
        taken: Some(intent.asked),
        seen: Seen { frames: 4_000, wrong_frames: 1, wrong_pixels: 9, ..Seen::default() },
        scene: intent.scene.clone(),
        seconds: Seconds(123.4),
        judged: Verdict::Artifacts,
        reason: "9 wrong pixels in 1 of 4000 frames, the first after 2 min.".into(),
        marked: None,
        score: Some(1_012.5),
        faults: vec![Fault {
            at: Seconds(120.0),
            kind: "artifacts".into(),
            frame: Some(2_400),
            wrong_pixels: Some(9),
        }],
        room: intent.room,
        in_step: vec![InStepRecord {
            card: "standin:tarn-310#4".into(),
            taken: None,
            seen: Seen::default(),
            judged: Verdict::Clean,
            reason: "Nothing.".into(),
            score: Some(998.0),
        }],
        since_reset: intent.since_reset,
    }
}

fn samples(count: usize) -> Vec<Sample> {
    (0..count)
        .map(|i| Sample {
            at: Seconds(i as f64),
            core_clock: (i % 7 != 0).then_some(Mhz(2_000.0 + i as f64)),
            ..Sample::default()
        })
        .collect()
}

#[rstest]
fn a_trial_comes_back_as_it_went_in(desk: Desk) {
    let intent = intent(desk.climb, 1);
    let row = desk.ledger.begin_trial(&intent).unwrap();
    desk.ledger.add_measured(row, measured(0, samples(1_300))).wait().unwrap();
    let event = Event {
        trial: Some(row),
        at: Seconds(1.0),
        kind: "applied".into(),
        text: "core clock offset +60 MHz".into(),
    };
    let last = samples(1_305)[1_300..].to_vec();
    desk.ledger
        .end_trial(row, &record_of(&intent), measured(1_300, last), vec![event.clone()])
        .unwrap();

    let again = Ledger::open(&desk.data).unwrap().ledger;
    let entry = again.climb(desk.climb).unwrap();
    assert_eq!(entry.trials.len(), 1);
    assert_eq!(entry.trials[0].record, record_of(&intent));
    assert_eq!((entry.card, entry.plan), (desk.card, Plan::default()));
    assert_eq!(entry.stages, [Stage::Baseline, Stage::Core]);
    assert!(entry.unfinished.is_none());
    assert_eq!(again.samples(row).unwrap(), samples(1_305));
    assert_eq!(again.events(desk.climb).unwrap(), [event]);
}

#[rstest]
fn a_trial_without_an_outcome_is_found_and_no_ended_one_is_lost(desk: Desk) {
    let first = intent(desk.climb, 1);
    let row = desk.ledger.begin_trial(&first).unwrap();
    desk.ledger.end_trial(row, &record_of(&first), Measured::default(), vec![]).unwrap();
    let second = intent(desk.climb, 2);
    let row = desk.ledger.begin_trial(&second).unwrap();
    desk.ledger.add_measured(row, measured(0, samples(600))).wait().unwrap();

    let entry = Ledger::open(&desk.data).unwrap().ledger.open_climb(&desk.card).unwrap().unwrap();
    assert_eq!(entry.trials.len(), 1);
    assert_eq!(entry.unfinished, Some(Intent { id: row, ..second }));
}

#[rstest]
fn an_outcome_is_written_whole_or_not_at_all(desk: Desk) {
    let intent = intent(desk.climb, 1);
    let row = desk.ledger.begin_trial(&intent).unwrap();
    desk.ledger.add_measured(row, measured(0, samples(10))).wait().unwrap();
    // A block at the same place is refused, and the verdict with it.
    let refused = desk.ledger.end_trial(row, &record_of(&intent), measured(0, samples(10)), vec![]);
    assert!(matches!(refused, Err(LedgerError::Statement { .. })), "{refused:?}");
    let entry = desk.ledger.climb(desk.climb).unwrap();
    assert!(entry.trials.is_empty());
    assert_eq!(entry.unfinished.map(|intent| intent.id), Some(row));
}

#[rstest]
fn marks_and_states_are_remembered(desk: Desk) {
    let intent = intent(desk.climb, 1);
    let row = desk.ledger.begin_trial(&intent).unwrap();
    desk.ledger.end_trial(row, &record_of(&intent), Measured::default(), vec![]).unwrap();
    desk.ledger.mark_trial(desk.climb, 1, Some(Verdict::Clean)).unwrap();
    let entry = desk.ledger.climb(desk.climb).unwrap();
    assert_eq!(entry.trials[0].record.verdict(), Verdict::Clean);
    assert_eq!(entry.trials[0].record.judged, Verdict::Artifacts);

    let ended = Directive { stage: Stage::Core, order: StageOrder::Skip, after: 1 };
    desk.ledger.set_climb_state(desk.climb, ClimbState::Ended, &[ended]).unwrap();
    let entry = desk.ledger.climb(desk.climb).unwrap();
    assert_eq!((entry.state, entry.directives), (ClimbState::Ended, vec![ended]));
    assert!(desk.ledger.open_climb(&desk.card).unwrap().is_none());
}

#[rstest]
fn questions_of_the_user_outlive_the_process(desk: Desk) {
    let entry = desk.ledger.climb(desk.climb).unwrap();
    assert_eq!((entry.isolating, entry.leaving_out), (None, false));
    let row = desk.ledger.begin_trial(&intent(desk.climb, 1)).unwrap();
    let record = record_of(&intent(desk.climb, 1));
    desk.ledger.end_trial(row, &record, Measured::default(), vec![]).unwrap();
    desk.ledger.set_climb_questions(desk.climb, Some(1), true).unwrap();
    let entry = Ledger::open(&desk.data).unwrap().ledger.climb(desk.climb).unwrap();
    assert_eq!((entry.isolating, entry.leaving_out), (Some(1), true));
    let climb = entry.lay_out().unwrap();
    assert_eq!(climb.culprits().map(|(trial, _)| trial), Some(1));
    assert!(climb.is_leaving_out());
}

#[rstest]
fn a_climb_that_is_not_there_is_told_with_those_that_are(desk: Desk) {
    let error = desk.ledger.climb(77).unwrap_err().to_string();
    assert_eq!(error, "there is no climb 77 in the ledger; there are: 1");
}

#[rstest]
fn samples_come_back_as_a_trace_with_their_limiters(desk: Desk) {
    let row = desk.ledger.begin_trial(&intent(desk.climb, 1)).unwrap();
    desk.ledger.add_measured(row, measured(0, samples(1_300))).wait().unwrap();
    let limiter = |sample: &Sample| match sample.core_clock {
        Some(_) => Limiter::Power,
        None => Limiter::Unknown,
    };
    let trace = desk.ledger.trace(row, limiter).unwrap();
    assert_eq!(trace.len(), 1_300);
    assert!(trace.samples(0.0, 1e9).eq(desk.ledger.samples(row).unwrap()));
    assert_eq!(trace.over(Channel::CoreClock, 600.0, 601.0).unwrap().lowest, 2_601.0);
    assert_eq!(trace.at(700.0).unwrap().1, Limiter::Unknown, "a gap at every seventh");
    assert!(desk.ledger.trace(row + 1, limiter).unwrap().is_empty());
}

#[rstest]
fn the_factory_state_is_copied_once_and_the_description_kept_up_to_date(desk: Desk) {
    let updated = CardDescription { driver: "2.0".into(), ..desk.card.clone() };
    let changed = Settings { power_limit: Some(Watt(150.0)), ..Settings::stock(&updated) };
    assert!(!desk.ledger.note_card(&updated, Some(&changed)).unwrap());
    assert_eq!(desk.ledger.factory(&updated).unwrap(), Some(Settings::stock(&desk.card)));
    assert_eq!(desk.ledger.climb(desk.climb).unwrap().card.driver, "2.0");
    let stranger = CardDescription { serial: "99".into(), ..desk.card.clone() };
    assert_eq!(desk.ledger.factory(&stranger).unwrap(), None);
    // A card that could only be looked at at first sight: it is copied as soon as it can be told, and then stays.
    assert!(desk.ledger.note_card(&stranger, None).unwrap());
    assert_eq!(desk.ledger.factory(&stranger).unwrap(), None);
    assert!(!desk.ledger.note_card(&stranger, Some(&changed)).unwrap());
    let copied = Settings { fan: Some(Fan::Automatic), ..changed };
    assert_eq!(desk.ledger.factory(&stranger).unwrap(), Some(copied));
    desk.ledger.note_card(&stranger, Some(&Settings::stock(&stranger))).unwrap();
    desk.ledger.note_card(&stranger, None).unwrap();
    assert_eq!(desk.ledger.factory(&stranger).unwrap(), Some(copied));
}

#[rstest]
fn a_climb_keeps_the_ranges_of_the_limits_that_it_was_begun_under(desk: Desk) {
    let mut card = CardChoice::all()[0].open(7, 0).unwrap();
    let makers = card.makers_limits();
    card.override_limits(Some(makers.with(LimitField::PowerLimit, 320.0)));
    card.load_limits();
    let raised = card.description().clone();
    card.override_limits(None);
    card.load_limits();
    let of_maker = card.description().clone();
    let ledger = &desk.ledger;
    ledger.note_card(&raised, None).unwrap();
    let climb = ledger.begin_climb(&raised, &Plan::default(), &[Stage::Baseline]).unwrap();
    let highest = || {
        let card = ledger.climb(climb).unwrap().card;
        card.offer(SettingKind::PowerLimit).unwrap().maximum
    };
    assert_eq!(highest(), 320.0);
    ledger.note_card(&of_maker, None).unwrap();
    assert_eq!(highest(), 320.0, "the card has other limits now, and the climb has its own");
    let updated = CardDescription { driver: "9.0".into(), ..raised };
    ledger.note_card(&updated, None).unwrap();
    assert_eq!(ledger.climb(climb).unwrap().card.driver, "9.0", "the rest is as it is now");
}

#[rstest]
fn facts_of_the_machine_outlive_the_process(desk: Desk) {
    assert_eq!(desk.ledger.machine().unwrap(), Machine::default());
    let machine = Machine {
        room: Some(Room { ambient: Celsius(24.5), case: Case::Open }),
        supply: Some(Watt(650.0)),
        rest: None,
        full_fan: Some(Decibel(44.5)),
        alarms: vec![Alarm { on: AlarmOn::HotSpot, above: 95.0, act: AlarmAct::PutBack }],
        changes: vec![],
        connectors: vec![CardConnectors { card: "b".into(), rating: Watt(300.0) }],
        memories: vec![CardMemory {
            card: "standin:heron#3".into(),
            kind: MemoryKind::Gddr6,
            bus_bits: Some(256),
        }],
    };
    desk.ledger.set_machine(&machine).unwrap();
    desk.ledger.set_machine(&machine).unwrap();
    drop(desk.ledger);
    let again = Ledger::open(&desk.data).unwrap().ledger;
    assert_eq!(again.machine().unwrap(), machine);
}

/// A ledger as the first version wrote it, with a climb of one trial.
fn first_version(data: &DataDir) {
    let connection = rusqlite::Connection::open(data.ledger()).unwrap();
    connection.execute_batch(include_str!("first_version.sql")).unwrap();
    connection.pragma_update(None, "user_version", 1).unwrap();
}

#[test]
fn a_ledger_of_the_first_version_is_read_and_goes_on() {
    let dir = tempfile::tempdir().unwrap();
    let data = DataDir::new(dir.path());
    first_version(&data);
    let ledger = Ledger::open(&data).unwrap().ledger;
    let entry = ledger.climb(1).unwrap();
    assert_eq!((entry.card.name.as_str(), entry.card.driver.as_str()), ("Tarn 310", ""));
    let record = &entry.trials[0].record;
    assert_eq!((record.judged, record.score), (Verdict::Clean, Some(1_010.5)));
    assert_eq!((record.room, record.in_step.len()), (None, 0));
    assert_eq!(record.asked.core_offset, Some(MhzOffset(60)));
    let profile = ledger.profiles(&entry.card).unwrap().remove(0);
    assert_eq!((profile.driver, profile.in_use), (None, true), "the card was put to the newest");
    assert_eq!(ledger.machine().unwrap(), Machine::default());
    entry.lay_out().unwrap();
    let line = ledger.lines(&[entry.trials[0].id]).unwrap().remove(0);
    assert_eq!((line.power, line.hot_spot), (Some(Watt(216.0)), Some(Celsius(78.0))));
    let search = Filter { search: "core=60 clean".parse().unwrap(), ..Filter::default() };
    assert_eq!(ledger.find(&search, Order::default()).unwrap(), [entry.trials[0].id]);
    let row = ledger.begin_trial(&intent(1, 2)).unwrap();
    ledger.end_trial(row, &record_of(&intent(1, 2)), measured(0, samples(3)), vec![]).unwrap();
    assert!(ledger.climb(1).unwrap().trials[1].record.room.is_some());
}

#[rstest]
fn spoilt_frames_come_back_with_their_pixels(desk: Desk) {
    let row = desk.ledger.begin_trial(&intent(desk.climb, 1)).unwrap();
    let reference = Frame::black(16, 9);
    let frame = |number: u64, wrong: usize| {
        let mut drawn = reference.clone();
        drawn.pixels[..wrong].fill(0x00ff_0080);
        CheckedFrame {
            number,
            at: Seconds(number as f64 / 20.0),
            section: 0,
            wrong_pixels: wrong as u64,
            artifacts: vec![Artifact {
                kind: ArtifactKind::Streak,
                area: PixelArea { x: 0, y: 0, width: wrong as u32, height: 1 },
                pixels: wrong as u64,
                first_frame: number,
                last_frame: number,
                frames: 1,
                hint: Domain::Core,
            }],
            patch: Patch::between(&drawn, &reference).map(Arc::new),
        }
    };
    let frames = [frame(40, 5), frame(41, 7), frame(90, 16)];
    let first = Measured { spoilt: frames[..2].to_vec(), ..Measured::default() };
    desk.ledger.add_measured(row, first).wait().unwrap();
    let rest = Measured { spoilt: frames[2..].to_vec(), ..Measured::default() };
    desk.ledger.end_trial(row, &record_of(&intent(desk.climb, 1)), rest, vec![]).unwrap();
    assert_eq!(desk.ledger.spoilt_frames(row).unwrap(), frames);
    assert!(desk.ledger.spoilt_frames(row + 1).unwrap().is_empty());
}

#[rstest]
fn a_trial_that_never_ended_tells_how_long_it_is_known_to_have_lived(desk: Desk) {
    let row = desk.ledger.begin_trial(&intent(desk.climb, 1)).unwrap();
    desk.ledger.sign_of_life(row, Seconds(35.0)).wait().unwrap();
    desk.ledger.sign_of_life(row, Seconds(40.0)).wait().unwrap();
    let unfinished = desk.ledger.climb(desk.climb).unwrap().unfinished.unwrap();
    assert_eq!(unfinished.lived, Seconds(40.0));
}

#[rstest]
#[case::full(DiskFailure::Full, "disk is full")]
#[case::read_only(DiskFailure::ReadOnly, "readonly")]
fn a_disk_that_fails_in_the_middle_leaves_nothing_half_there(
    desk: Desk,
    #[case] failure: DiskFailure,
    #[case] cause: &str,
) {
    let row = desk.ledger.begin_trial(&intent(desk.climb, 1)).unwrap();
    desk.ledger.add_measured(row, measured(0, samples(600))).wait().unwrap();
    desk.ledger.rehearse(failure).unwrap();
    let record = record_of(&intent(desk.climb, 1));
    let error = desk
        .ledger
        .end_trial(row, &record, measured(600, samples(60_000)), vec![])
        .unwrap_err()
        .to_string();
    assert!(error.contains(cause) && error.contains("recorded so far is safe"), "{error}");
    desk.ledger.rehearse(DiskFailure::None).unwrap();
    let entry = desk.ledger.climb(desk.climb).unwrap();
    assert!(entry.trials.is_empty() && entry.unfinished.is_some());
    assert_eq!(desk.ledger.samples(row).unwrap().len(), 600);
    desk.ledger.end_trial(row, &record, measured(600, samples(10)), vec![]).unwrap();
    assert_eq!(desk.ledger.samples(row).unwrap().len(), 610);
}

#[rstest]
fn stages_and_verdicts_of_an_earlier_version_are_found_under_their_present_names(desk: Desk) {
    let Desk { _dir, ledger, climb, data: place, .. } = desk;
    let row = ledger.begin_trial(&intent(climb, 1)).unwrap();
    let record = intent(climb, 1).judged(Verdict::Slower, "Something.".into());
    ledger.end_trial(row, &record, Measured::default(), vec![]).unwrap();
    drop(ledger);
    let earlier = rusqlite::Connection::open(place.ledger()).unwrap();
    earlier
        .execute_batch(
            "ALTER TABLE trial DROP COLUMN driver; ALTER TABLE climb DROP COLUMN experience;
             ALTER TABLE climb DROP COLUMN begun_on;
             PRAGMA user_version = 5;
             UPDATE trial SET stage = 'cooler', verdict = 'held back', marked = 'held back';
             UPDATE climb SET stages = 'baseline,cooler,feed', plan = replace(plan,
                 'policy = \"bayesian\"', 'policy = \"believing\"');",
        )
        .unwrap();
    drop(earlier);
    let ledger = Ledger::open(&place).unwrap().ledger;
    let entry = ledger.climb(climb).unwrap();
    assert_eq!(entry.stages, [Stage::Baseline, Stage::UndervoltClock, Stage::MemoryForCore]);
    assert_eq!(entry.plan.policy, Policy::Bayesian);
    let trial = &entry.trials[0].record;
    assert_eq!((trial.stage, trial.judged), (Stage::UndervoltClock, Verdict::Throttled));
    assert_eq!(trial.marked, Some(Verdict::Throttled));
}

/// A climb with a clean trial of the core in it.
fn one_more_climb(ledger: &Ledger, card: &CardDescription) -> i64 {
    ledger.note_card(card, Some(&Settings::stock(card))).unwrap();
    let stages = [Stage::Baseline, Stage::Core];
    let climb = ledger.begin_climb(card, &Plan::default(), &stages).unwrap();
    let begun = Intent { stage: Stage::Core, ..intent(climb, 1) };
    let row = ledger.begin_trial(&begun).unwrap();
    let record =
        TrialRecord { seconds: Seconds(600.0), ..begun.judged(Verdict::Clean, "Clean.".into()) };
    ledger.end_trial(row, &record, Measured::default(), vec![]).unwrap();
    climb
}

#[rstest]
fn what_climbs_teach_goes_with_the_next_one_and_can_be_forgotten(desk: Desk) {
    let Desk { _dir, ledger, data, card, .. } = desk;
    let other = CardDescription { name: "Another kind".into(), id: "other".into(), ..card.clone() };
    assert_eq!(ledger.experience(&card).unwrap(), Experience::default(), "no trial, no lesson");
    one_more_climb(&ledger, &card);
    let second = one_more_climb(&ledger, &card);
    one_more_climb(&ledger, &other);
    let learnt = ledger.experience(&card).unwrap();
    assert_eq!((learnt.climbs, learnt.others), (2, 1));
    assert_eq!(ledger.climb(second).unwrap().experience, Experience::default());
    ledger.set_climb_experience(second, &learnt).unwrap();
    assert!(ledger.forget(Some(&card.name)).unwrap());
    let kinds: Vec<_> = ledger.experiences().unwrap().into_iter().map(|known| known.kind).collect();
    assert_eq!(kinds, ["Another kind"]);
    let after = ledger.experience(&card).unwrap();
    assert_eq!((after.climbs, after.others), (0, 1));
    drop(ledger);
    let ledger = Ledger::open(&data).unwrap().ledger;
    let entry = ledger.climb(second).unwrap();
    assert_eq!(entry.experience, learnt, "it keeps what it was told");
    assert_eq!(entry.lay_out().unwrap().experience(), &learnt);
    one_more_climb(&ledger, &card);
    assert_eq!(ledger.experience(&card).unwrap().climbs, 1, "of those since");
    assert!(ledger.forget(None).unwrap());
    assert!(ledger.experiences().unwrap().is_empty());
    assert!(!ledger.forget(None).unwrap(), "nothing is left");
}
