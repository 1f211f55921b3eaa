//! The keeper and its clients on a mounted card: what is refused, who controls it, and when it goes back.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::fs;
use std::io::Write;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::thread;
use std::time::{Duration, Instant};

use common::{LONG, PATIENCE, Place, until};
use kernel_tree::Layout;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use yard_step_card::keeper::{KeptCard, SILENCE, put_back_all};
use yard_step_card::{Card, CardError, LoadLost, Reach, Work, connect_to_held};
use yard_step_core::{
    Fan, FanCurve, MhzOffset, Percent, Seconds, SettingKind, Settings, VfCurve, Watt,
};

/// Stock but for these.
fn with(card: &KeptCard, core: i32, limit: f64) -> Settings {
    Settings {
        core_offset: Some(MhzOffset(core)),
        power_limit: Some(Watt(limit)),
        ..Settings::stock(card.description())
    }
}

#[test]
fn what_is_asked_is_in_the_files_and_what_lies_outside_the_ranges_is_refused() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    let asked = with(&card, 45, 250.0);
    card.apply(&asked).unwrap();
    assert_eq!(card.taken().unwrap(), asked);
    let state = place.state();
    assert!(state.contains("OD_SCLK_OFFSET:\n45Mhz") && state.contains("250000000"), "{state}");
    for outside in [with(&card, 9_000, 250.0), with(&card, 45, 5_000.0)] {
        let error = card.apply(&outside).unwrap_err();
        assert!(matches!(error, CardError::Refused { .. }), "{error}");
        assert_eq!(place.state(), state, "nothing was written");
    }
    card.leave();
    assert!(place.is_at_factory(), "{}", place.state());
}

#[test]
fn a_card_is_not_touched_while_its_record_cannot_be_written() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    let in_the_way = place.record().with_extension("new");
    fs::create_dir(&in_the_way).unwrap();
    let asked = with(&card, 45, 250.0);
    for _ in 0..2 {
        // The second refusal is as good as the first one: nothing is taken as written that was not.
        let error = card.apply(&asked).unwrap_err().to_string();
        assert!(error.contains("cannot write its record"), "{error}");
        assert!(place.is_at_factory(), "{}", place.state());
    }
    fs::remove_dir(&in_the_way).unwrap();
    card.apply(&asked).unwrap();
    assert_eq!(card.taken().unwrap(), asked);
}

#[test]
fn a_card_has_one_controller_and_others_may_look() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    card.apply(&with(&card, 45, 250.0)).unwrap();
    let error = place.open(true).err().unwrap().to_string();
    let own = format!("process {}", std::process::id());
    assert!(error.contains(&own) && error.contains("one controller"), "{error}");
    let mut looker = place.open(false).unwrap();
    assert_eq!(looker.taken().unwrap(), card.taken().unwrap());
    assert!(looker.apply(&with(&card, 30, 250.0)).is_err(), "it may look, and no more");
    assert_eq!(card.taken().unwrap().core_offset, Some(MhzOffset(45)));
    drop(looker);
    drop(card);
    until("the card is back", || place.is_at_factory());
    until("the keeper says so", || place.told("its controller is gone"));
}

#[test]
fn a_controller_that_falls_silent_loses_the_card_within_a_second_of_it() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    let asked = with(&card, 45, 250.0);
    card.apply(&asked).unwrap();
    // Time that passes for it is heard of.
    card.idle(Seconds(1.5 * SILENCE.as_secs_f64()));
    assert_eq!(card.taken().unwrap(), asked);
    until("the card is back", || place.is_at_factory());
    until("the keeper says so", || place.told("was silent for 2 s"));
    let stock = Settings::stock(card.description());
    for _ in 0..2 {
        // The first look is by the connection that was let go, the second one by another.
        assert_eq!(card.taken().unwrap(), stock);
        let lost = card.run(Seconds(0.3), Work::Elsewhere);
        assert_eq!(lost, Err(LoadLost::KeeperGone), "whatever it has seen since");
    }
    card.apply(&asked).unwrap();
    assert_eq!(card.taken().unwrap(), asked, "it may begin anew");
}

#[test]
fn a_controller_that_waits_for_something_else_keeps_the_card_as_long_as_it_says_so() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    assert!(place.open(false).unwrap().sign_of_life().is_none(), "whoever looks holds nothing");
    let asked = with(&card, 45, 250.0);
    card.apply(&asked).unwrap();
    let sign = card.sign_of_life().unwrap();
    let until_silent = Instant::now() + SILENCE.mul_f64(1.5);
    while Instant::now() < until_silent {
        sign();
        thread::sleep(Duration::from_millis(50));
    }
    assert_eq!(card.taken().unwrap(), asked);
    until("the card is back", || place.is_at_factory());
    // Nothing is to be held any more, and the card says so.
    sign();
    assert_eq!(card.run(Seconds(0.3), Work::Elsewhere), Err(LoadLost::KeeperGone));
    card.apply(&asked).unwrap();
    drop(card);
    until("the keeper says so", || place.told("its controller is gone"));
    sign();
    until("the card is back", || place.is_at_factory());
}

#[test]
fn a_keeper_that_is_told_to_stop_puts_the_card_back() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    card.apply(&with(&card, 45, 250.0)).unwrap();
    assert!(place.stop(), "all is back");
    assert!(place.is_at_factory());
    let error = card.apply(&with(&card, 45, 250.0)).unwrap_err();
    assert!(matches!(error, CardError::NoKeeper { .. }), "{error}");
    assert!(place.is_at_factory());
}

#[test]
fn what_a_keeper_that_was_killed_has_left_is_put_back_by_the_next_or_told() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    card.apply(&with(&card, 45, 250.0)).unwrap();
    // What the records are at this instant, a keeper that is killed leaves.
    let records = place.dir.path().join("records");
    let left: Vec<(PathBuf, Vec<u8>)> = fs::read_dir(&records)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .filter(|path| path.is_file())
        .map(|path| (path.clone(), fs::read(&path).unwrap()))
        .collect();
    drop(card);
    place.stop();
    let killed = || left.iter().for_each(|(path, bytes)| fs::write(path, bytes).unwrap());
    let tuned = |place: &Place| {
        for (name, text) in [
            ("power_dpm_force_performance_level", "manual\n"),
            ("pp_od_clk_voltage", "s 45\n"),
            ("pp_od_clk_voltage", "c\n"),
        ] {
            fs::write(place.file(name), text).unwrap();
        }
        assert!(!place.is_at_factory());
    };
    killed();
    tuned(&place);
    place.start("a");
    assert!(place.is_at_factory(), "before anything else");
    place.stop();
    killed();
    tuned(&place);
    let places = place.places("a");
    assert!(put_back_all(&places, &|_| ()).unwrap());
    assert!(place.is_at_factory());
    // The card is gone: that is no success.
    killed();
    fs::write(place.file("reset"), "1\n").unwrap();
    let is_record = |path: &PathBuf| path.extension().is_some_and(|end| end == "json");
    let record = left.iter().map(|(path, _)| path).find(|path| is_record(path)).unwrap();
    let elsewhere = fs::read_to_string(record).unwrap().replace("card0", "card9");
    fs::write(record, elsewhere).unwrap();
    assert!(!put_back_all(&places, &|_| ()).unwrap());
}

#[test]
fn a_curve_or_an_offset_however_small_is_read_back_and_goes_back_byte_for_byte() {
    let mut random = ChaCha8Rng::seed_from_u64(21);
    for (card, layout) in
        [("standin:bracken-208#7", Layout::Levels), ("standin:tarn-310#7", Layout::Curve)]
    {
        let mut place = Place::of(card, layout);
        place.start("a run");
        let mut card = place.open(true).unwrap();
        let stock = Settings::stock(card.description());
        let factory = card.description().curve.unwrap().factory;
        let table = |place: &Place| fs::read_to_string(place.file("pp_od_clk_voltage")).unwrap();
        let factory_table = table(&place);
        for round in 0..40 {
            let mut points: Vec<(u16, u16)> =
                factory.points().iter().map(|point| (point.millivolt, point.mhz)).collect();
            // One point or all, by less or more than what counts as rounding.
            let by = random.random_range(-35..=35_i16);
            let only = random.random_range(0..points.len() * 2);
            for (at, point) in points.iter_mut().enumerate() {
                if only >= factory.points().len() || at == only {
                    point.1 = point.1.saturating_add_signed(by);
                }
            }
            let asked = match round % 4 {
                0 if stock.core_offset.is_some() => {
                    Settings { core_offset: Some(MhzOffset(by.into())), ..stock }
                }
                _ => match VfCurve::new(&points) {
                    Ok(curve) => Settings { curve: Some(curve), ..stock },
                    Err(_) => continue,
                },
            };
            card.apply(&asked).unwrap();
            let is_changed = table(&place) != factory_table;
            let taken = card.taken().unwrap();
            if asked.curve.is_some() {
                assert_eq!(taken.curve.is_some(), is_changed, "{layout:?} {asked:?}");
                assert_eq!(taken.core_offset, stock.core_offset);
            } else {
                assert_eq!(taken.curve, None, "{layout:?} {by}");
            }
            card.apply(&stock).unwrap();
            assert_eq!(place.state(), place.factory, "{layout:?} {asked:?}");
        }
    }
}

#[test]
fn a_curve_is_followed_by_the_keeper_and_the_fan_is_automatic_afterwards() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    let curve = FanCurve::new(&[(20.0, 66.0), (90.0, 67.0)]).unwrap();
    let asked = Settings { fan: Some(Fan::Curve(curve)), ..with(&card, 0, 250.0) };
    card.apply(&asked).unwrap();
    assert_eq!(card.taken().unwrap().fan, asked.fan);
    let is_set = |place: &Place| {
        let text = fs::read_to_string(place.file("gpu_od/fan_ctrl/fan_curve")).unwrap();
        text.contains("0: 25C 66%\n")
    };
    assert!(is_set(&place), "one speed, from the curve");
    card.hold_way_back(&asked).unwrap();
    drop(card);
    thread::sleep(Duration::from_millis(200));
    assert!(is_set(&place), "it is the way back, and the keeper goes on driving it");
    assert!(place.stop());
    assert!(!is_set(&place), "nobody drives it any more");
}

#[test]
fn a_reset_of_the_driver_and_another_programs_settings_end_the_run() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    let asked = with(&card, 45, 250.0);
    let run = |card: &mut KeptCard| {
        let began = Instant::now();
        loop {
            if let Err(lost) = card.run(Seconds(0.1), Work::Elsewhere) {
                return lost;
            }
            assert!(began.elapsed() < PATIENCE, "the run went on");
        }
    };
    card.apply(&asked).unwrap();
    card.taken().unwrap();
    fs::write(place.file("pp_od_clk_voltage"), "s 60\n").unwrap();
    fs::write(place.file("pp_od_clk_voltage"), "c\n").unwrap();
    assert_eq!(run(&mut card), LoadLost::SettingsChanged);
    card.apply(&asked).unwrap();
    card.taken().unwrap();
    fs::write(place.file("reset"), "1\n").unwrap();
    assert_eq!(run(&mut card), LoadLost::DriverReset);
    assert_eq!(card.taken().unwrap(), Settings::stock(card.description()), "waited for");
    card.apply(&asked).unwrap();
    assert_eq!(card.taken().unwrap(), asked);
}

#[test]
fn what_a_card_holds_for_somebody_is_not_taken_for_its_factory_state_by_the_next() {
    for (card, layout) in
        [("standin:tarn-310#7", Layout::Offset), ("standin:bracken-208#7", Layout::Levels)]
    {
        let mut place = Place::of(card, layout);
        assert_eq!(place.open(true).unwrap().factory(), None, "without a keeper it is not known");
        place.start("a run");
        let mut first = place.open(true).unwrap();
        let (limit, stock) = (Watt(170.0), Settings::stock(first.description()));
        let kept =
            Settings { power_limit: Some(limit), core_offset: Some(MhzOffset(-30)), ..stock };
        first.hold_way_back(&kept).unwrap();
        first.apply(&kept).unwrap();
        let held = first.taken().unwrap();
        assert_eq!(held.power_limit, Some(limit));
        first.leave();
        drop(first);
        let mut second = place.open(true).unwrap();
        assert_eq!(second.taken().unwrap(), held, "it is held on");
        assert_eq!(second.factory(), Some(stock), "and is no factory state");
        // Nor does a reset of the driver look like another program's work to the second one.
        second.apply(&held).unwrap();
        second.taken().unwrap();
        let cap = fs::read_to_string(place.file("hwmon/hwmon0/power1_cap_default")).unwrap();
        fs::write(place.file("hwmon/hwmon0/power1_cap"), cap).unwrap();
        fs::write(place.file("pp_od_clk_voltage"), "r").unwrap();
        thread::sleep(Duration::from_millis(1_100));
        let ended = second.run(Seconds(0.1), Work::Elsewhere);
        assert_eq!(ended, Err(LoadLost::DriverReset), "{layout:?}");
    }
}

#[test]
fn without_a_keeper_a_card_is_looked_at_and_says_how_it_could_be_changed() {
    let place = Place::new();
    let mut card = place.open(true).unwrap();
    let described = card.description();
    assert!(described.offers.is_empty() && described.curve.is_none());
    let why = described.why_not_offered(SettingKind::CoreOffset);
    assert!(why.starts_with("run \"sudo yard-step keeper\" first: no keeper answers"), "{why}");
    assert!(card.sample().unwrap().core_temperature.is_some());
    assert!(card.run(Seconds(0.1), Work::Elsewhere).is_ok(), "a load runs at stock");
    assert!(card.reach().is_none(), "nobody has to put it back");
    // A guard that finds no keeper goes on trying, and does not say that the card is back.
    let reach = Reach::Kept(place.address());
    let error = connect_to_held(&reach).err().unwrap();
    assert!(matches!(error, CardError::NoKeeper { .. }), "{error}");
}

#[test]
fn a_profile_is_applied_at_the_start_unless_card_driver_or_last_start_speak_against_it() {
    let mut place = Place::new();
    place.start("a");
    let mut card = place.open(true).unwrap();
    let profile = Settings { fan: Some(Fan::Fixed(Percent(60.0))), ..with(&card, 45, 250.0) };
    card.set_start(Some(&profile), true).unwrap();
    drop(card);
    assert!(place.stop() && place.is_at_factory());
    let kernel_starts = |place: &Place| {
        fs::write(place.file("reset"), "1\n").unwrap();
        until("the card is there", || place.is_at_factory());
    };
    // The machine goes down before it has borne it: the keeper of that run says no more.
    let keeper = place.keeper_in("b");
    keeper.start_cards(LONG);
    assert!(place.state().contains("45Mhz"), "{}", place.state());
    drop(keeper);
    kernel_starts(&place);
    place.start("c");
    assert!(place.is_at_factory(), "no boot loop");
    let mut card = place.open(true).unwrap();
    let told = card.told().join(" ");
    assert!(told.contains("the last start with its profile did not end cleanly"), "{told}");
    // Used again, it gets another chance, and this time an orderly end.
    card.set_start(Some(&profile), true).unwrap();
    drop(card);
    place.stop();
    for boot in ["d", "e"] {
        place.start(boot);
        assert!(place.state().contains("45Mhz"), "{boot}: {}", place.state());
        place.stop();
        kernel_starts(&place);
    }
    let record = place.record();
    // Noted under another driver, or for a card that lay in its place before.
    let good = fs::read_to_string(&record).unwrap();
    for (boot, key, why) in [
        ("f", "driver", "proven under another one, and the driver is now"),
        ("g", "card", "proven on another card in its place"),
    ] {
        let mut value: serde_json::Value = serde_json::from_str(&good).unwrap();
        value["start"][key] = "another one".into();
        fs::write(&record, value.to_string()).unwrap();
        place.start(boot);
        assert!(place.is_at_factory());
        let told = place.open(true).unwrap().told().join(" ");
        assert!(told.contains(why), "{told}");
        place.stop();
    }
}

/// A text with bytes changed, taken away, doubled or put in.
fn mutilated(text: &[u8], random: &mut ChaCha8Rng) -> Vec<u8> {
    let mut text = text.to_vec();
    for _ in 0..random.random_range(1..8) {
        let at = random.random_range(0..=text.len());
        match random.random_range(0..5) {
            0 => text.truncate(at),
            1 => text.insert(at, random.random()),
            2 => text.splice(at.., std::iter::empty()).for_each(drop),
            3 if at < text.len() => text[at] = random.random(),
            _ => text.extend_from_within(at..),
        }
    }
    text
}

#[test]
fn whatever_is_said_to_a_keeper_the_card_stays_where_it_is() {
    let mut place = Place::new();
    place.start("a run");
    let mut random = ChaCha8Rng::seed_from_u64(19);
    // None of these, whole, moves the card; some may be whole after all.
    let said: [&[u8]; 6] = [
        br#"{"ask":"open","card":"0000:03:00.0","controls":false}"#,
        br#"{"ask":"open","card":"../../../etc","controls":true}"#,
        br#"{"ask":"taken"}"#,
        br#"{"ask":"apply","settings":{"core_offset_mhz":99999}}"#,
        br#"{"ask":"start","settings":null,"renew":true}"#,
        br#"{"ask":"log","seconds":1e300}"#,
    ];
    for round in 0..400 {
        let mut line = UnixStream::connect(place.dir.path().join("keeper.sock")).unwrap();
        for _ in 0..4 {
            let line_of = said[random.random_range(0..said.len())];
            let bytes = [mutilated(line_of, &mut random).as_slice(), b"\n"].concat();
            // One who talks nonsense may be cut off at any time.
            if line.write_all(&bytes).is_err() {
                break;
            }
        }
        assert!(place.is_at_factory(), "round {round}: {}", place.state());
    }
    let endless = vec![b'x'; 1 << 20];
    let mut line = UnixStream::connect(place.dir.path().join("keeper.sock")).unwrap();
    assert!(line.write_all(&endless).and_then(|()| line.write_all(&endless)).is_err(), "cut off");
    until("room for one more", || place.open(true).is_ok_and(|mut card| card.taken().is_ok()));
    assert!(place.stop() && place.is_at_factory());
}

#[test]
fn a_record_that_is_none_harms_nothing() {
    let mut place = Place::new();
    place.start("a run");
    let mut card = place.open(true).unwrap();
    let tuned = with(&card, 45, 250.0);
    card.set_start(Some(&tuned), true).unwrap();
    drop(card);
    assert!(place.stop());
    let record = place.dir.path().join("records/0000_03_00_0.json");
    let good = fs::read(&record).unwrap();
    let mut random = ChaCha8Rng::seed_from_u64(20);
    for round in 0..200 {
        fs::write(&record, mutilated(&good, &mut random)).unwrap();
        let places = place.places("a run");
        // Of this run of the machine: nothing is away, or it is not understood.
        put_back_all(&places, &|_| {}).unwrap();
        assert!(place.is_at_factory(), "round {round}: {}", place.state());
    }
    fs::remove_file(&record).unwrap();
    fs::create_dir(&record).unwrap();
    place.start("another run");
    let told = place.open(true).map(drop).unwrap_err().to_string();
    assert!(told.contains("the factory state cannot be written down"), "{told}");
    assert!(place.is_at_factory());
}
