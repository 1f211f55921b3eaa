//! A stand-in behind its socket, with the host on a thread of the test.

#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::io::{BufRead, BufReader, ErrorKind, Read, Write};
use std::os::unix::net::{UnixListener, UnixStream};
use std::thread::{self, JoinHandle};
use std::time::Duration;

use rstest::rstest;
use tempfile::TempDir;
use yard_step_card::slot::{
    Device, DeviceError, Drawn, FaultsOnRequest, SlotAddress, SlotCard, serve,
};
use yard_step_card::{
    Card, CardChoice, CardError, FaultInjection, LoadLost, Mishaps, RuntimeDir, StandIn, Work,
};
use yard_step_core::{Demand, Frame, MhzOffset, Percent, Seconds, Settings, Workload};

fn card() -> StandIn {
    let choice: CardChoice = "standin:tarn-310".parse().unwrap();
    let mut card = choice.open(7, 0).unwrap();
    card.set_mishaps(Mishaps::NONE);
    card
}

/// A slot of its own, in a directory that lives as long as the test.
struct Hosted {
    address: SlotAddress,
    host: JoinHandle<()>,
    dir: TempDir,
}

fn hosted() -> Hosted {
    hosted_with(FaultsOnRequest::Allowed)
}

fn hosted_with(faults: FaultsOnRequest) -> Hosted {
    let dir = tempfile::tempdir().unwrap();
    let runtime = RuntimeDir::at(&dir.path().join("run")).unwrap();
    let address = SlotAddress::of(&runtime, "standin:tarn-310#7");
    let place = address.clone();
    let host = thread::spawn(move || serve(&place, card(), faults, None).unwrap());
    while SlotCard::open(address.clone(), None).is_err() {
        thread::sleep(Duration::from_millis(1));
    }
    Hosted { address, host, dir }
}

fn open(address: &SlotAddress) -> SlotCard {
    SlotCard::open(address.clone(), None).unwrap()
}

fn offset(mhz: i32) -> Settings {
    Settings { core_offset: Some(MhzOffset(mhz)), ..Settings::default() }
}

/// Hands a frame in and waits for it.
fn draw(device: &mut Device, demand: &Demand) -> Result<Drawn, DeviceError> {
    device.hand_in(demand, (4, 2));
    device.drawn(|| Frame { width: 4, height: 2, pixels: (0..8).collect() })
}

#[test]
fn a_host_that_goes_as_one_comes_is_replaced_by_the_next() {
    let dir = tempfile::tempdir().unwrap();
    let runtime = RuntimeDir::at(&dir.path().join("run")).unwrap();
    let address = SlotAddress::of(&runtime, "standin:tarn-310#7");
    let path = address.to_string();
    let going = UnixListener::bind(&path).unwrap();
    let gone = thread::spawn(move || {
        let (stream, _) = going.accept().unwrap();
        std::fs::remove_file(&path).unwrap();
        drop((stream, going));
    });
    let place = address.clone();
    let power = Box::new(move || {
        let place = place.clone();
        thread::spawn(move || serve(&place, card(), FaultsOnRequest::Refused, None));
        Ok(())
    });
    let reached = SlotCard::open(address, Some(power)).unwrap();
    assert_eq!(reached.description(), card().description());
    gone.join().unwrap();
}

#[test]
fn through_the_socket_a_card_is_what_it_is_without_it() {
    let Hosted { address, dir: _dir, .. } = hosted();
    let (mut near, mut far) = (card(), open(&address));
    assert_eq!(near.description(), far.description());
    let cards: [&mut dyn Card; 2] = [&mut near, &mut far];
    let found = cards.map(|card| {
        card.apply(&offset(90)).unwrap();
        card.idle(Seconds(3.0));
        for _ in 0..50 {
            card.run(Seconds(0.1), Work::Elsewhere).unwrap();
        }
        (card.taken().unwrap(), card.sample().unwrap(), card.boot())
    });
    assert_eq!(found[0], found[1]);
}

/// What frame `number` of a load asks for that jumps between almost nothing and everything.
fn jumping(number: u64) -> Demand {
    let load = if number.is_multiple_of(3) { Percent(30.0) } else { Percent(99.0) };
    Demand { load, work_per_frame: 20.0 + (number % 5) as f64, ..Demand::default() }
}

/// A load in this process that jumps, and notes when each frame was finished.
#[derive(Default)]
struct Jumping {
    times: Vec<f64>,
}

impl Workload for Jumping {
    fn demand(&self) -> Demand {
        jumping(self.times.len() as u64)
    }
    fn size(&self) -> (usize, usize) {
        (4, 2)
    }
    fn draw(&mut self, canvas: &mut Frame) {
        *canvas = Frame::black(4, 2);
    }
    fn present(&mut self, _: Option<&Frame>, at: Seconds) {
        self.times.push(at.value());
    }
}

#[test]
fn a_load_in_another_place_takes_as_long_for_each_frame_as_one_in_this_place() {
    let mut here = Jumping::default();
    let mut near = card();
    near.apply(&offset(0)).unwrap();
    for _ in 0..100 {
        near.run(Seconds(0.1), Work::Here(&mut here)).unwrap();
    }
    let Hosted { address, host, dir: _dir } = hosted();
    let mut far = open(&address);
    far.apply(&offset(0)).unwrap();
    let mut device = Device::attach(&address).unwrap();
    let load = thread::spawn(move || {
        let mut times = Vec::new();
        while let Ok(drawn) = draw(&mut device, &jumping(times.len() as u64)) {
            times.push(drawn.at.value());
        }
        times
    });
    for _ in 0..100 {
        far.run(Seconds(0.1), Work::Elsewhere).unwrap();
    }
    far.leave();
    drop(far);
    host.join().unwrap();
    assert_eq!(load.join().unwrap(), here.times);
}

#[test]
fn a_load_in_another_place_is_given_its_frames_as_the_card_comes_to_them() {
    let Hosted { address, dir: _dir, .. } = hosted();
    let mut card = open(&address);
    let mut device = Device::attach(&address).unwrap();
    let load = thread::spawn(move || {
        let mut times = Vec::new();
        for _ in 0..30 {
            let drawn = draw(&mut device, &Demand::default()).unwrap();
            assert_eq!(drawn.otherwise, None);
            times.push(drawn.at.value());
        }
        times
    });
    let (mut frames, mut seconds) = (0, 0.0);
    while frames < 28 {
        frames += card.run(Seconds(0.1), Work::Elsewhere).unwrap().frames.unwrap();
        seconds += 0.1;
    }
    // It ends after its thirtieth frame, as a program does that is done; the card takes the next one.
    while card.run(Seconds(0.1), Work::Elsewhere).unwrap().frames != Some(0) {}
    let times = load.join().unwrap();
    let mut next = Device::attach(&address).unwrap();
    let running = thread::spawn(move || card.run(Seconds(0.2), Work::Elsewhere));
    draw(&mut next, &Demand::default()).unwrap();
    drop(next);
    assert!(running.join().unwrap().is_ok());
    assert!(times.windows(2).all(|pair| pair[0] < pair[1]), "{times:?}");
    assert!((times[27] - seconds).abs() < 0.2, "{} in {seconds} s", times[27]);
}

#[test]
fn a_frame_drawn_otherwise_crosses_whole_among_those_handed_in_before_it() {
    let Hosted { address, dir: _dir, .. } = hosted();
    let mut card = open(&address);
    card.apply(&offset(150)).unwrap();
    let mut device = Device::attach(&address).unwrap();
    let load = thread::spawn(move || {
        let right = |number: u32| Frame { width: 64, height: 36, pixels: vec![number; 64 * 36] };
        let mut wrong = Vec::new();
        (0..8).for_each(|_| device.hand_in(&Demand::default(), (64, 36)));
        for number in 0.. {
            device.hand_in(&Demand::default(), (64, 36));
            match device.drawn(|| right(number)) {
                Ok(Drawn { otherwise: Some(frame), .. }) => {
                    let pixels = frame.pixels.iter().filter(|pixel| **pixel != number).count();
                    wrong.push((number, pixels));
                }
                Ok(_) => {}
                Err(_) => break,
            }
        }
        wrong
    });
    while card.run(Seconds(0.1), Work::Elsewhere).is_ok() {}
    card.restart_machine();
    let wrong = load.join().unwrap();
    assert!(wrong.iter().any(|(_, pixels)| (1..64 * 36).contains(pixels)), "{wrong:?}");
}

#[test]
fn a_load_that_ends_with_frames_handed_in_has_left_and_does_not_hang() {
    let Hosted { address, dir: _dir, .. } = hosted();
    let mut card = open(&address);
    for _ in 0..3 {
        let mut device = Device::attach(&address).unwrap();
        let load = thread::spawn(move || {
            (0..24).for_each(|_| device.hand_in(&Demand::default(), (4, 2)));
            device.drawn(|| Frame::black(4, 2)).unwrap();
        });
        while card.run(Seconds(0.1), Work::Elsewhere).unwrap().frames == Some(0) {}
        load.join().unwrap();
        // Whether the card still draws what it was handed or not, the next load finds it at work.
        for _ in 0..20 {
            card.run(Seconds(0.1), Work::Elsewhere).unwrap();
        }
    }
}

#[test]
fn a_load_that_gives_no_work_is_found_and_whoever_wants_the_card_back_does_not_wait_for_it() {
    let Hosted { address, dir: _dir, .. } = hosted();
    let (mut card, mut other) = (open(&address), open(&address));
    card.apply(&offset(90)).unwrap();
    let _device = Device::attach(&address).unwrap();
    let running = thread::spawn(move || card.run(Seconds(0.1), Work::Elsewhere));
    thread::sleep(Duration::from_millis(100));
    other.apply(&Settings::default()).unwrap();
    assert_eq!(running.join().unwrap(), Err(LoadLost::Hung));
    assert_eq!(other.taken().unwrap().core_offset, Some(MhzOffset(0)));
}

#[test]
fn a_card_that_loses_the_load_tells_it_so() {
    let Hosted { address, dir: _dir, .. } = hosted();
    let mut card = open(&address);
    let mut device = Device::attach(&address).unwrap();
    let load = thread::spawn(move || {
        loop {
            if let Err(error) = draw(&mut device, &Demand::default()) {
                return error;
            }
        }
    });
    // Far past any edge, something graver than an artifact comes soon.
    card.apply(&offset(285)).unwrap();
    let lost = loop {
        match card.run(Seconds(0.1), Work::Elsewhere) {
            Ok(_) => {}
            Err(lost) => break lost,
        }
    };
    if lost == LoadLost::Died {
        assert!(matches!(load.join().unwrap(), DeviceError::Lost));
    } else {
        assert!(matches!(lost, LoadLost::DriverReset | LoadLost::MachineDown | LoadLost::Hung));
    }
}

#[test]
fn a_card_that_does_not_answer_is_told_from_one_that_is_gone() {
    let Hosted { address, host, dir: _dir } = hosted();
    let mut card = open(&address);
    open(&address).inject_fault(FaultInjection::ApplyHangs).unwrap();
    let error = card.apply(&offset(30)).unwrap_err();
    assert!(matches!(error, CardError::NoAnswer { doing: "hold settings", .. }), "{error}");
    assert!(card.restart_machine(), "a restart cures it");
    card.apply(&offset(30)).unwrap();
    open(&address).inject_fault(FaultInjection::MachineDown).unwrap();
    assert_eq!(card.sample(), Err(CardError::MachineDown));
    assert!(card.restart_machine());
    open(&address).inject_fault(FaultInjection::Vanishes).unwrap();
    host.join().unwrap();
    assert!(matches!(card.sample(), Err(CardError::Gone { .. })));
    assert!(!card.restart_machine(), "nobody switches this machine on again");
}

#[test]
fn a_machine_that_was_left_in_order_is_switched_off_at_once() {
    let Hosted { address, host, dir: _dir } = hosted();
    let mut card = open(&address);
    let beside = open(&address);
    card.leave();
    drop((card, beside));
    host.join().unwrap();
    assert!(SlotCard::open(address, None).is_err());
}

#[test]
fn a_slot_started_for_normal_use_injects_no_faults() {
    let Hosted { address, dir: _dir, .. } = hosted_with(FaultsOnRequest::Refused);
    let mut card = open(&address);
    let error = card.inject_fault(FaultInjection::MachineDown).unwrap_err();
    assert!(matches!(error, CardError::Refused { .. }), "{error}");
    assert!(card.sample().is_ok(), "the card is as before");
}

#[test]
fn a_second_host_does_not_take_the_place_of_the_first_but_that_of_a_dead_one() {
    let Hosted { address, host, dir: _dir } = hosted();
    let error = address.listen().unwrap_err();
    assert_eq!(error.kind(), ErrorKind::AddrInUse);
    assert!(error.to_string().contains("another process listens"), "{error}");
    let mut card = open(&address);
    card.leave();
    drop(card);
    host.join().unwrap();
    // What a host that was killed leaves behind: a socket without a listener.
    drop(address.listen().unwrap());
    assert!(address.listen().is_ok());
}

#[rstest]
#[case::endless(&[b'x'; 70_000], None)]
#[case::no_json(b"what a day\n", Some("refused"))]
#[case::far_too_long(b"{\"ask\":\"run\",\"seconds\":1e300}\n", Some("0 to 3600 s"))]
#[case::negative(b"{\"ask\":\"idle\",\"seconds\":-1}\n", Some("0 to 3600 s"))]
fn what_no_client_of_ours_says_is_refused_or_cut_off(
    #[case] said: &[u8],
    #[case] told: Option<&str>,
) {
    let Hosted { address, dir: _dir, .. } = hosted();
    let mut stream = UnixStream::connect(address.to_string()).unwrap();
    stream.write_all(said).unwrap();
    let mut answer = String::new();
    // Cut off, the connection ends; refused, an answer comes.
    let read = BufReader::new(stream).read_line(&mut answer);
    match told {
        Some(told) => assert!(answer.contains("refused") && answer.contains(told), "{answer}"),
        None => assert!(read.is_err() || answer.is_empty(), "{answer}"),
    }
    assert!(open(&address).taken().is_ok(), "others are served all the same");
}

/// A frame of so many pixels each way, handed in.
fn handed_in(side: u32) -> Vec<u8> {
    [&[4], side.to_le_bytes().as_slice(), &side.to_le_bytes(), &[0; 48]].concat()
}

#[rstest]
#[case::larger_than_any_screen(&handed_in(16_000))]
#[case::pixels_that_nobody_asked_for(&[2, 0, 0, 0, 0])]
#[case::no_word_of_a_load(&[77])]
#[case::broken_off(&handed_in(2)[..30])]
fn what_no_load_says_ends_it(#[case] said: &[u8]) {
    let Hosted { address, dir: _dir, .. } = hosted();
    let mut card = open(&address);
    let mut stream = UnixStream::connect(address.to_string()).unwrap();
    stream.write_all(b"{\"ask\":\"draw\"}\n").unwrap();
    stream.read_exact(&mut [0]).unwrap();
    stream.write_all(said).unwrap();
    assert_eq!(card.run(Seconds(0.1), Work::Elsewhere), Err(LoadLost::Hung));
}
