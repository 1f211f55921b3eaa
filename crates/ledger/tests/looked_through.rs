//! The ledger is looked through: found, put in order, noted, flagged, deleted and brought back.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use rstest::{fixture, rstest};
use tempfile::TempDir;
use yard_step_card::{Card, CardChoice};
use yard_step_core::{
    CardChange, CardDescription, Celsius, Machine, MhzOffset, Origin, Plan, Profile, Purpose,
    Sample, Seconds, Seen, Settings, Stage, TrialRecord, Verdict, Watt,
};
use yard_step_ledger::{
    ClimbState, DataDir, Emptied, Filter, Intent, Ledger, LedgerError, Measured, Order, SortBy,
};

struct Desk {
    _dir: TempDir,
    ledger: Ledger,
    cards: Vec<CardDescription>,
}

/// What the trials of the desk's climbs were: climb, stage, core offset, verdict, score, watts.
const TRIALS: [(i64, Stage, i32, Verdict, f64, f64); 8] = [
    (1, Stage::Baseline, 0, Verdict::Clean, 1_000.0, 200.0),
    (1, Stage::Baseline, 0, Verdict::Clean, 1_002.0, 201.0),
    (1, Stage::Baseline, 0, Verdict::Void, 500.0, 140.0),
    (1, Stage::Core, 60, Verdict::Clean, 1_031.0, 210.0),
    (1, Stage::Core, 120, Verdict::DriverReset, 1_060.0, 220.0),
    (2, Stage::Baseline, 0, Verdict::Clean, 2_000.0, 300.0),
    (2, Stage::Own, 15, Verdict::Slower, 1_900.0, 310.0),
    (2, Stage::Core, 30, Verdict::Clean, 2_100.0, 320.0),
];

fn record(intent: &Intent, verdict: Verdict, score: f64, watts: f64) -> TrialRecord {
    TrialRecord {
        score: Some(score),
        seconds: intent.planned,
        seen: Seen {
            average_power: Some(Watt(watts)),
            hot_spot_max: Some(Celsius(watts / 3.0)),
            ..Seen::default()
        },
        ..intent.judged(verdict, format!("It was {verdict} at 100 % of everything."))
    }
}

/// Two climbs, on a Tarn and on a Quern.
#[fixture]
fn desk() -> Desk {
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
    let choices = CardChoice::all();
    let cards: Vec<CardDescription> =
        [0, 2].map(|kind: usize| choices[kind].open(3, 0).unwrap().description().clone()).into();
    for card in &cards {
        ledger.note_card(card, Some(&Settings::stock(card))).unwrap();
        ledger.begin_climb(card, &Plan::default(), &Stage::USUAL).unwrap();
    }
    for (climb, stage, offset, verdict, score, watts) in TRIALS {
        let number = ledger.climb(climb).unwrap().trials.len() as u32 + 1;
        let intent = Intent {
            driver: None,
            id: 0,
            climb,
            number,
            stage,
            purpose: Purpose::Step,
            asked: Settings { core_offset: Some(MhzOffset(offset)), ..Settings::default() },
            scene: if stage == Stage::Own { "kiln".into() } else { "lantern".into() },
            planned: Seconds(60.0 * f64::from(number)),
            warm_up: Seconds(20.0),
            room: None,
            boot: "3-1".into(),
            since_reset: None,
            lived: Seconds(0.0),
        };
        let row = ledger.begin_trial(&intent).unwrap();
        let samples = vec![Sample { at: Seconds(0.1), ..Sample::default() }];
        let measured = Measured { samples, ..Measured::default() };
        let record = record(&intent, verdict, score, watts);
        ledger.end_trial(row, &record, measured, Vec::new()).unwrap();
    }
    Desk { _dir: dir, ledger, cards }
}

impl Desk {
    fn found(&self, filter: &Filter, order: Order) -> Vec<i64> {
        self.ledger.find(filter, order).unwrap()
    }

    /// What a search line finds, in the order of the climbs.
    fn search(&self, line: &str) -> Vec<i64> {
        let filter = Filter { search: line.parse().unwrap(), ..Filter::default() };
        self.found(&filter, Order { by: SortBy::Climb, descending: false })
    }
}

#[rstest]
#[case("", &[1, 2, 3, 4, 5, 6, 7, 8])]
#[case("clean", &[1, 2, 4, 6, 8])]
#[case("DRIVER reset", &[5])]
#[case("tarn", &[1, 2, 3, 4, 5])]
#[case("quern kiln", &[7])]
#[case("100 %", &[1, 2, 3, 4, 5, 6, 7, 8])]
#[case("10_", &[])]
#[case("score>=1031", &[4, 5, 6, 7, 8])]
#[case("core>0 power<300", &[4, 5])]
#[case("hot-spot>100", &[7, 8])]
#[case("climb=2 trial=1", &[6])]
#[case("minutes<=2", &[1, 2, 6, 7])]
#[case("gain>2.9 gain<5", &[4])]
#[case("gain>=5", &[5, 8])]
#[case("nothing-like-it", &[])]
fn a_search_line_finds(desk: Desk, #[case] line: &str, #[case] rows: &[i64]) {
    assert_eq!(desk.search(line), rows);
}

#[rstest]
#[case(Filter { climb: Some(2), ..Filter::default() }, &[6, 7, 8])]
#[case(Filter { stage: Some(Stage::Core), ..Filter::default() }, &[4, 5, 8])]
#[case(Filter { verdict: Some(Verdict::Void), ..Filter::default() }, &[3])]
#[case(Filter { load: Some("kiln".into()), ..Filter::default() }, &[7])]
#[case(Filter { flagged: true, ..Filter::default() }, &[])]
#[case(Filter { removed: true, ..Filter::default() }, &[])]
#[case(Filter { climb: Some(1), stage: Some(Stage::Own), ..Filter::default() }, &[])]
fn a_filter_lets_through_what_it_says(desk: Desk, #[case] filter: Filter, #[case] rows: &[i64]) {
    assert_eq!(desk.found(&filter, Order { by: SortBy::Climb, descending: false }), rows);
}

#[rstest]
fn a_filter_names_one_card(desk: Desk) {
    let filter = Filter { card: Some(desk.cards[1].key()), ..Filter::default() };
    assert_eq!(desk.found(&filter, Order::default()), [8, 7, 6], "the newest first");
    assert_eq!(desk.ledger.choices().unwrap().cards.len(), 2);
}

#[rstest]
#[case(SortBy::Time, &[8, 7, 6, 5, 4, 3, 2, 1])]
#[case(SortBy::Score, &[8, 6, 7, 5, 4, 2, 1, 3])]
// Of a load that never ran at stock, no gain is known.
#[case(SortBy::Gain, &[5, 8, 4, 2, 6, 1, 3, 7])]
#[case(SortBy::Core, &[5, 4, 8, 7, 6, 3, 2, 1])]
#[case(SortBy::Power, &[8, 7, 6, 5, 4, 2, 1, 3])]
#[case(SortBy::HotSpot, &[8, 7, 6, 5, 4, 2, 1, 3])]
#[case(SortBy::Length, &[5, 4, 8, 3, 7, 2, 6, 1])]
#[case(SortBy::Verdict, &[5, 3, 7, 8, 6, 4, 2, 1])]
#[case(SortBy::Memory, &[8, 7, 6, 5, 4, 3, 2, 1])]
fn trials_are_put_in_order(desk: Desk, #[case] by: SortBy, #[case] rows: &[i64]) {
    assert_eq!(desk.found(&Filter::default(), Order { by, descending: true }), rows);
    let mut rising = desk.found(&Filter::default(), Order { by, descending: false });
    if by == SortBy::Gain {
        assert_eq!(rising.last(), Some(&7), "what has no figure stays last");
    }
    rising.sort_unstable();
    assert_eq!(rising, [1, 2, 3, 4, 5, 6, 7, 8]);
}

#[rstest]
fn a_line_shows_what_was_asked_and_what_it_came_to(desk: Desk) {
    desk.ledger.mark_trial(2, 3, Some(Verdict::Artifacts)).unwrap();
    let lines = desk.ledger.lines(&[4, 8, 7, 99]).unwrap();
    assert_eq!(lines.len(), 3, "a row that is not there is left out");
    let [core, marked, own] = &lines[..] else { panic!() };
    assert_eq!((core.climb, core.number, core.what.as_str()), (1, 4, "core +60 MHz"));
    assert_eq!((core.power, core.hot_spot), (Some(Watt(210.0)), Some(Celsius(70.0))));
    assert!((core.gain_percent.unwrap() - (1_031.0 / 1_001.0 - 1.0) * 100.0).abs() < 1e-9);
    assert_eq!((marked.verdict, marked.by_hand), (Some(Verdict::Artifacts), true));
    assert_eq!((own.gain_percent, own.by_hand), (None, false));
    assert_eq!(desk.search("artifacts"), [8], "what the user says counts");
    assert_eq!(desk.search("clean core=60"), [4]);
}

/// What ran before a change around the card is not held against what ran after it.
#[rstest]
fn a_change_around_the_card_separates_the_baselines(desk: Desk) {
    let path = DataDir::new(desk._dir.path()).ledger();
    let beside = rusqlite::Connection::open(path).unwrap();
    // The first baseline run of climb 1 was made long before the others.
    beside.execute("UPDATE trial SET began = 1000 WHERE id = 1", []).unwrap();
    let gain = || desk.ledger.lines(&[4]).unwrap()[0].gain_percent.unwrap();
    let percent = |base: f64| (1_031.0 / base - 1.0) * 100.0;
    assert!((gain() - percent(1_001.0)).abs() < 1e-9);
    let change =
        |card: &CardDescription, at| CardChange { card: card.key(), what: "paste".into(), at };
    let of_another = Machine { changes: vec![change(&desk.cards[1], 2_000)], ..Machine::default() };
    desk.ledger.set_machine(&of_another).unwrap();
    assert!((gain() - percent(1_001.0)).abs() < 1e-9, "it was another card");
    let machine = Machine { changes: vec![change(&desk.cards[0], 2_000)], ..Machine::default() };
    desk.ledger.set_machine(&machine).unwrap();
    assert!((gain() - percent(1_002.0)).abs() < 1e-9, "{}", gain());
    assert_eq!(desk.ledger.trial(4).unwrap().unwrap().baseline, [1_002.0]);
    let sorted = Order { by: SortBy::Gain, descending: false };
    assert!(desk.found(&Filter::default(), sorted).contains(&4));
}

#[rstest]
fn a_trial_is_told_as_a_whole_with_the_noise_it_is_held_against(desk: Desk) {
    let detail = desk.ledger.trial(4).unwrap().unwrap();
    let record = desk.ledger.climb(1).unwrap().trials[3].record.clone();
    assert_eq!((detail.record, detail.baseline), (Some(record), vec![1_000.0, 1_002.0]));
    assert_eq!(detail.card.key(), desk.cards[0].key());
    assert!(desk.ledger.trial(99).unwrap().is_none());
    let unfinished = Intent { number: 9, ..detail.intent };
    let row = desk.ledger.begin_trial(&unfinished).unwrap();
    let begun = desk.ledger.trial(row).unwrap().unwrap();
    assert_eq!((begun.record, begun.line.verdict, begun.line.seconds), (None, None, None));
}

#[rstest]
fn notes_and_flags_stay_and_are_found(desk: Desk) {
    desk.ledger.note_trial(5, "the fan rattled, 100% sure").unwrap();
    desk.ledger.flag_trial(5, true).unwrap();
    desk.ledger.note_climb(2, "summer").unwrap();
    assert_eq!(desk.search("rattled 100%"), [5]);
    assert_eq!(desk.search("summer"), [6, 7, 8]);
    let flagged = Filter { flagged: true, ..Filter::default() };
    assert_eq!(desk.found(&flagged, Order::default()), [5]);
    let line = desk.ledger.lines(&[5]).unwrap().remove(0);
    assert_eq!((line.note.as_str(), line.flagged), ("the fan rattled, 100% sure", true));
    assert_eq!(desk.ledger.climb_lines(false).unwrap()[0].note, "summer");
    desk.ledger.flag_trial(5, false).unwrap();
    desk.ledger.note_trial(5, "").unwrap();
    assert!(desk.found(&flagged, Order::default()).is_empty() && desk.search("rattled").is_empty());
}

#[rstest]
fn a_deleted_trial_is_hidden_until_it_is_brought_back_and_its_climb_goes_by_it(desk: Desk) {
    desk.ledger.remove_trial(4).unwrap();
    assert_eq!(desk.search("climb=1"), [1, 2, 3, 5]);
    let removed = Filter { removed: true, ..Filter::default() };
    assert_eq!(desk.found(&removed, Order::default()), [4]);
    let choices = desk.ledger.choices().unwrap();
    assert_eq!((choices.trials, choices.removed), (7, 1));
    assert_eq!(desk.ledger.climb(1).unwrap().trials.len(), 5);
    desk.ledger.restore_trial(4).unwrap();
    assert_eq!(desk.search("climb=1").len(), 5);
    assert!(desk.found(&removed, Order::default()).is_empty());
}

#[rstest]
fn a_deleted_climb_takes_its_trials_along_and_brings_them_back(desk: Desk) {
    let open = desk.ledger.remove_climb(1).unwrap_err().to_string();
    assert!(open.starts_with("climb 1, which is open cannot be deleted."), "{open}");
    desk.ledger.set_climb_state(1, ClimbState::Ended, &[]).unwrap();
    desk.ledger.remove_climb(1).unwrap();
    assert_eq!(desk.search(""), [6, 7, 8]);
    assert_eq!(desk.ledger.climbs().unwrap().len(), 1);
    assert_eq!(desk.ledger.climbs_on(&desk.cards[0]).unwrap(), [0_i64; 0]);
    assert_eq!(desk.ledger.climb_lines(true).unwrap()[0].id, 1);
    desk.ledger.restore_climb(1).unwrap();
    assert_eq!(desk.search("").len(), 8);
    let stages = [Stage::Baseline, Stage::Core];
    let newest = desk.ledger.begin_climb(&desk.cards[0], &Plan::default(), &stages).unwrap();
    assert_eq!(desk.ledger.climbs_on(&desk.cards[0]).unwrap(), [newest, 1]);
}

#[rstest]
fn a_climb_in_a_line_counts_its_trials_and_failures(desk: Desk) {
    let profile =
        Profile { climb: Some(1), ..Profile::new("quiet", Settings::default(), Origin::Climb) };
    desk.ledger.keep(&desk.cards[0], &profile).unwrap();
    let lines = desk.ledger.climb_lines(false).unwrap();
    let ids: Vec<i64> = lines.iter().map(|line| line.id).collect();
    assert_eq!(ids, [2, 1], "the newest first");
    let first = &lines[1];
    assert_eq!((first.trials, first.failed, first.profiles.as_str()), (5, 1, "quiet"));
    assert_eq!((first.under_load, first.state), (Seconds(900.0), ClimbState::Open));
}

#[rstest]
fn what_has_no_outcome_yet_is_not_deleted(desk: Desk) {
    let detail = desk.ledger.trial(8).unwrap().unwrap();
    let row = desk.ledger.begin_trial(&Intent { number: 4, ..detail.intent }).unwrap();
    let refused = desk.ledger.remove_trial(row);
    assert!(matches!(refused, Err(LedgerError::InUse { .. })), "{refused:?}");
    assert_eq!(desk.search("climb=2"), [6, 7, 8, row]);
}

#[rstest]
fn what_is_emptied_is_gone_but_no_climb_loses_a_verdict_it_rests_on(desk: Desk) {
    desk.ledger.set_climb_state(2, ClimbState::GivenUp, &[]).unwrap();
    desk.ledger.remove_climb(2).unwrap();
    desk.ledger.remove_trial(4).unwrap();
    let emptied = desk.ledger.empty_removed().unwrap();
    assert_eq!(emptied, Emptied { climbs: 1, trials: 1 });
    assert!(matches!(desk.ledger.climb(2), Err(LedgerError::NoClimb { .. })));
    assert_eq!(desk.ledger.climb(1).unwrap().trials[3].record.judged, Verdict::Clean);
    assert!(desk.ledger.samples(4).unwrap().is_empty());
    assert_eq!(desk.ledger.samples(5).unwrap().len(), 1, "the others keep theirs");
    let removed = Filter { removed: true, ..Filter::default() };
    assert!(desk.found(&removed, Order::default()).is_empty(), "nothing left to bring back");
    assert_eq!(desk.search(""), [1, 2, 3, 5]);
    assert_eq!(desk.ledger.empty_removed().unwrap(), Emptied::default());
}

#[rstest]
fn a_reader_sees_what_is_written_and_writes_nothing(desk: Desk) {
    let reader = desk.ledger.reader().unwrap();
    desk.ledger.flag_trial(2, true).unwrap();
    let flagged = Filter { flagged: true, ..Filter::default() };
    assert_eq!(reader.find(&flagged, Order::default()).unwrap(), [2]);
    let refused = reader.flag_trial(2, false).unwrap_err().to_string();
    assert!(refused.contains("readonly"), "{refused}");
}
