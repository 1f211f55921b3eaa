//! Profiles are kept, used, found again with every run at their settings, and shared as files.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use rstest::{fixture, rstest};
use tempfile::TempDir;
use yard_step_card::{Card, CardChoice};
use yard_step_core::{
    AirNotes, Backing, CardDescription, Celsius, Fan, FanTarget, Heard, Loudness, Margin,
    MhzOffset, NoiseNote, Origin, Percent, Plan, Profile, Purpose, Seconds, Seen, Settings, Stage,
    TrialRecord, Verdict, VfCurve, Watt,
};
use yard_step_ledger::{DataDir, Intent, Ledger, Measured, ProfileDocument};

struct Desk {
    _dir: TempDir,
    ledger: Ledger,
    card: CardDescription,
    climb: i64,
}

#[fixture]
fn desk() -> Desk {
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
    let card = CardChoice::all()[0].open(3, 0).unwrap().description().clone();
    ledger.note_card(&card, Some(&Settings::stock(&card))).unwrap();
    let climb = ledger.begin_climb(&card, &Plan::default(), &[Stage::Baseline]).unwrap();
    Desk { _dir: dir, ledger, card, climb }
}

impl Desk {
    fn profile(&self, offset: i32) -> Profile {
        Profile {
            purpose: "dome shows".into(),
            margin: Some(Margin::Daily),
            claimed: Some(0.991),
            confirmed: true,
            climb: Some(self.climb),
            trial: Some(4),
            driver: Some("1.0".into()),
            ..Profile::new("summer", self.shaped(offset), Origin::Climb)
        }
    }

    fn shaped(&self, offset: i32) -> Settings {
        let mut points: Vec<(u16, u16)> = self.card.curve.unwrap().factory.into();
        points.iter_mut().rev().take(9).for_each(|point| point.1 = 2_130);
        Settings {
            core_offset: Some(MhzOffset(offset)),
            curve: Some(VfCurve::new(&points).unwrap()),
            ..Settings::stock(&self.card)
        }
    }

    fn run(&self, number: u32, asked: Settings, judged: Verdict) {
        let seen = Seen { average_power: Some(Watt(190.0)), ..Seen::default() };
        self.run_that_saw(number, asked, judged, seen);
    }

    fn run_that_saw(&self, number: u32, asked: Settings, judged: Verdict, seen: Seen) {
        let record = TrialRecord {
            number,
            stage: Stage::Own,
            purpose: Purpose::Own,
            asked,
            taken: Some(asked),
            seen,
            scene: "medley".into(),
            seconds: Seconds(600.0),
            judged,
            reason: "Something.".into(),
            marked: None,
            score: Some(1_000.0),
            faults: vec![],
            room: None,
            in_step: vec![],
            since_reset: None,
        };
        let intent = Intent {
            driver: Some(self.card.driver.clone()),
            ..Intent::of_record(0, self.climb, &record)
        };
        let row = self.ledger.begin_trial(&intent).unwrap();
        self.ledger.end_trial(row, &record, Measured::default(), vec![]).unwrap();
    }

    fn only(&self) -> Profile {
        let mut saved = self.ledger.profiles(&self.card).unwrap();
        assert_eq!(saved.len(), 1, "{saved:?}");
        saved.remove(0)
    }
}

#[rstest]
fn a_profile_is_kept_whole_and_replaced_by_name(desk: Desk) {
    desk.ledger.keep(&desk.card, &desk.profile(60)).unwrap();
    desk.ledger.keep(&desk.card, &desk.profile(75)).unwrap();
    let saved = desk.only();
    assert!(saved.kept > 1_700_000_000);
    // An automatic fan is what an unnamed fan means.
    let settings = saved.settings.with_unwritten_fan(&desk.card);
    assert_eq!(Profile { kept: 0, kept_after: 0, settings, ..saved }, desk.profile(75));
}

#[rstest]
fn what_stands_behind_settings_is_every_run_at_them_whatever_the_fan_did(desk: Desk) {
    let settings = desk.shaped(60);
    desk.run(1, settings, Verdict::Clean);
    desk.run(2, Settings { fan: Some(Fan::Fixed(Percent(100.0))), ..settings }, Verdict::Clean);
    desk.run(3, desk.shaped(75), Verdict::Artifacts);
    desk.run(4, Settings { curve: None, ..settings }, Verdict::DriverReset);
    let target = FanTarget { core: Celsius(70.0), least: Percent(30.0) };
    desk.run(5, Settings { fan: Some(Fan::Target(target)), ..settings }, Verdict::Clean);
    let runs = desk.ledger.runs_at(&desk.card, &settings).unwrap();
    let numbers: Vec<u32> = runs.iter().map(|run| run.trial).collect();
    assert_eq!(numbers, [1, 2, 5]);
    assert_eq!(runs[0].power, Some(Watt(190.0)));
    assert_eq!(runs[1].fan, Some(Fan::Fixed(Percent(100.0))));
    let profile = Profile { settings, ..desk.profile(60) };
    let backing = Backing::of(&profile, &runs, &desk.card.driver, None);
    assert_eq!((backing.runs, backing.clean, backing.failed), (3, Seconds(1_800.0), None));
    assert_eq!(backing.cooler, 0, "a faster fan, but as hot as with its own");
    let elsewhere = CardDescription { serial: "4".into(), ..desk.card.clone() };
    assert!(desk.ledger.runs_at(&elsewhere, &settings).unwrap().is_empty());
}

#[rstest]
fn what_is_said_of_a_fan_is_kept_for_each_card(desk: Desk) {
    assert_eq!(desk.ledger.air_notes(&desk.card).unwrap(), AirNotes::default());
    let mut notes = AirNotes { chosen: Some(Fan::Fixed(Percent(45.0))), ..AirNotes::default() };
    notes.note(NoiseNote { speed: Percent(45.0), heard: Heard::Judged(Loudness::Silent) });
    desk.ledger.set_air_notes(&desk.card, &notes).unwrap();
    assert_eq!(desk.ledger.air_notes(&desk.card).unwrap(), notes);
    let elsewhere = CardDescription { serial: "4".into(), ..desk.card.clone() };
    assert_eq!(desk.ledger.air_notes(&elsewhere).unwrap(), AirNotes::default());
}

#[rstest]
fn runs_that_were_long_enough_tell_of_heat_in_their_order(desk: Desk) {
    desk.run(1, desk.shaped(60), Verdict::Clean);
    let hot = |fan: f64, plateau: f64| Seen {
        average_power: Some(Watt(190.0)),
        fan: Some(Percent(fan)),
        plateau: Some(Celsius(plateau)),
        ..Seen::default()
    };
    desk.run_that_saw(2, desk.shaped(60), Verdict::Clean, hot(100.0, 61.0));
    desk.run_that_saw(3, desk.shaped(60), Verdict::LoadDied, hot(60.0, 70.0));
    let runs = desk.ledger.heat_runs(&desk.card).unwrap();
    let plateaus: Vec<f64> = runs.iter().map(|run| run.plateau.value()).collect();
    assert_eq!(plateaus, [61.0, 70.0], "too short a run tells nothing");
    assert_eq!((runs[1].fan, runs[1].settings.fan), (Percent(60.0), None));
    let elsewhere = CardDescription { serial: "4".into(), ..desk.card.clone() };
    assert!(desk.ledger.heat_runs(&elsewhere).unwrap().is_empty());
}

#[rstest]
fn a_verdict_by_hand_counts_in_what_stands_behind_settings(desk: Desk) {
    let settings = desk.shaped(60);
    desk.run(1, settings, Verdict::Clean);
    desk.ledger.mark_trial(desk.climb, 1, Some(Verdict::Artifacts)).unwrap();
    let runs = desk.ledger.runs_at(&desk.card, &settings).unwrap();
    let backing = Backing::of(&desk.profile(60), &runs, &desk.card.driver, None);
    assert_eq!(backing.failed, Some((desk.climb, 1, Verdict::Artifacts)));
}

#[rstest]
fn one_profile_of_a_card_is_in_use(desk: Desk) {
    for name in ["summer", "winter"] {
        let profile = Profile { name: name.into(), in_use: true, ..desk.profile(60) };
        desk.ledger.keep(&desk.card, &profile).unwrap();
    }
    let in_use = || -> Vec<String> {
        let profiles = desk.ledger.profiles(&desk.card).unwrap();
        profiles.into_iter().filter(|profile| profile.in_use).map(|p| p.name).collect()
    };
    assert_eq!(in_use(), ["winter"]);
    assert!(desk.ledger.use_profile(&desk.card, Some("summer")).unwrap());
    assert!(!desk.ledger.use_profile(&desk.card, Some("spring")).unwrap());
    assert_eq!(in_use(), ["summer"], "one that is not there changes nothing");
    assert!(desk.ledger.use_profile(&desk.card, None).unwrap());
    assert_eq!(in_use(), Vec::<String>::new());
    assert!(desk.ledger.drop_profile(&desk.card, "summer").unwrap());
    assert!(!desk.ledger.drop_profile(&desk.card, "summer").unwrap());
    assert_eq!(desk.only().name, "winter");
}

#[rstest]
fn a_document_gives_back_what_was_written(desk: Desk) {
    let profile = desk.profile(60);
    let document = ProfileDocument::of(&desk.card, &profile, &Backing::default(), "None.".into());
    let text = document.to_json().unwrap();
    assert!(text.contains("\"format\": \"yard-step-profile\""), "{text}");
    assert!(text.contains("\"vf_curve\""), "{text}");
    let read = ProfileDocument::from_json(&text).unwrap();
    let settings = read.settings.with_unwritten_fan(&desk.card);
    assert!(text.contains("\"evidence\""), "told to others, {text}");
    assert_eq!(read.evidence, None, "and believed by nobody");
    assert_eq!(
        ProfileDocument { settings, ..read },
        ProfileDocument { evidence: None, ..document }
    );
}

#[rstest]
#[case("core +60", "it is not JSON")]
#[case("{\"format\": \"yard-step-climb\", \"version\": 1}", "that of a profile is")]
#[case("[1, 2]", "that of a profile is")]
#[case(
    "{\"format\": \"yard-step-profile\", \"version\": 7}",
    "a profile of version 7, and this Yard Step knows version 1"
)]
#[case("{\"format\": \"yard-step-profile\", \"version\": 1}", "missing field `name`")]
#[case(
    "{\"format\": \"yard-step-profile\", \"version\": 1, \"name\": \"a\", \"card\": {\"id\": \"x\", \
     \"serial\": \"1\", \"name\": \"X\"}, \"settings\": {\"turbo\": 1}}",
    "unknown field `turbo`"
)]
#[case(
    "{\"format\": \"yard-step-profile\", \"version\": 1, \"name\": \"a\", \"card\": {\"id\": \"x\", \
     \"serial\": \"1\", \"name\": \"X\"}, \"settings\": {\"vf_curve\": [[900, 2000], [950, 1900]]}}",
    "falls from 2000 MHz to 1900 MHz"
)]
fn what_is_no_profile_is_told(#[case] text: &str, #[case] part: &str) {
    let error = ProfileDocument::from_json(text).unwrap_err().to_string();
    assert!(error.contains(part), "{error}");
}

#[rstest]
fn what_is_weighed_is_every_run_with_an_outcome_that_was_not_deleted(desk: Desk) {
    desk.run(1, desk.shaped(60), Verdict::Clean);
    desk.run(2, desk.shaped(75), Verdict::Artifacts);
    desk.run(3, desk.shaped(90), Verdict::Clean);
    let row = desk.ledger.row_of(desk.climb, 3).unwrap().unwrap();
    desk.ledger.remove_trial(row).unwrap();
    let runs = desk.ledger.weighed(&desk.card).unwrap();
    let seen: Vec<_> = runs.iter().map(|run| (run.trial, run.verdict)).collect();
    assert_eq!(seen, [(1, Verdict::Clean), (2, Verdict::Artifacts)]);
    let first = &runs[0];
    assert_eq!(
        (first.score, first.watts, first.hot_spot),
        (Some(1_000.0), Some(Watt(190.0)), None)
    );
    assert_eq!(first.asked.curve, desk.shaped(60).curve);
    desk.ledger.remove_climb(desk.climb).unwrap_err();
    let elsewhere = CardDescription { serial: "4".into(), ..desk.card.clone() };
    assert_eq!(desk.ledger.weighed(&elsewhere).unwrap(), []);
}

#[rstest]
fn a_dated_climb_has_its_trials_one_after_the_other_and_its_profiles_at_its_end(desk: Desk) {
    for number in 1..=3 {
        desk.run(number, desk.shaped(15), Verdict::Clean);
    }
    desk.ledger.keep(&desk.card, &desk.profile(15)).unwrap();
    desk.ledger.date_climb(desk.climb, 1_000_000).unwrap();
    assert_eq!(desk.ledger.climb(desk.climb).unwrap().began, 1_000_000);
    let began: Vec<i64> = (1..=3)
        .map(|number| {
            let row = desk.ledger.row_of(desk.climb, number).unwrap().unwrap();
            desk.ledger.trial(row).unwrap().unwrap().line.began
        })
        .collect();
    assert_eq!(began, [1_000_000, 1_000_620, 1_001_240]);
}
