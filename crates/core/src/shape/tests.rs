use proptest::prelude::*;
use rstest::rstest;

use crate::shape::*;
use crate::units::Percent;

fn points() -> CurveOffer {
    let all: Vec<(u16, u16)> =
        (0..39).map(|i| (700 + 10 * i, 1305 + (30 * i - i * i / 4) / 15 * 15)).collect();
    CurveOffer {
        kind: CurveKind::Points,
        factory: VfCurve::new(&all).unwrap(),
        clocks: Span { lowest: 705, highest: 2_505, step: 15 },
        voltages: Span { lowest: 700, highest: 1_080, step: 10 },
    }
}

fn states() -> CurveOffer {
    let all = [
        (750, 720),
        (800, 910),
        (850, 1060),
        (900, 1180),
        (950, 1285),
        (1000, 1370),
        (1070, 1450),
        (1125, 1500),
    ];
    CurveOffer {
        kind: CurveKind::States,
        factory: VfCurve::new(&all).unwrap(),
        clocks: Span { lowest: 300, highest: 1_750, step: 5 },
        voltages: Span { lowest: 700, highest: 1_200, step: 5 },
    }
}

fn offers() -> impl Strategy<Value = CurveOffer> {
    prop_oneof![Just(points()), Just(states())]
}

/// A move on a sketch, as it comes from keys and mouse.
#[derive(Debug, Clone)]
enum Move {
    Raise(usize, i32),
    Clock(usize, f64),
    Voltage(usize, f64),
    Pin(usize, f64),
    Flatten(usize),
    Shift(f64),
    Smooth(usize),
    Below,
    ScaleClocks(f64),
    ScaleVoltages(f64),
    Undo,
    Redo,
}

fn moves() -> impl Strategy<Value = Move> {
    let point = 0_usize..45;
    prop_oneof![
        (point.clone(), -30_i32..30).prop_map(|(p, b)| Move::Raise(p, b)),
        (point.clone(), 0.0..4_000.0).prop_map(|(p, c)| Move::Clock(p, c)),
        (point.clone(), 0.0..2_000.0).prop_map(|(p, v)| Move::Voltage(p, v)),
        (point.clone(), 0.0..4_000.0).prop_map(|(p, c)| Move::Pin(p, c)),
        point.clone().prop_map(Move::Flatten),
        (-900.0..900.0).prop_map(Move::Shift),
        point.prop_map(Move::Smooth),
        Just(Move::Below),
        (20.0..300.0).prop_map(Move::ScaleClocks),
        (20.0..300.0).prop_map(Move::ScaleVoltages),
        Just(Move::Undo),
        Just(Move::Redo),
    ]
}

fn make(sketch: &mut Sketch, made: &Move) {
    match *made {
        Move::Raise(p, bins) => drop(sketch.raise(p, bins)),
        Move::Clock(p, mhz) => drop(sketch.set_clock(p, mhz)),
        Move::Voltage(p, mv) => drop(sketch.set_voltage(p, mv)),
        Move::Pin(p, mhz) => drop(sketch.pin(p, mhz)),
        Move::Flatten(p) => drop(sketch.flatten_right(p)),
        Move::Shift(mhz) => drop(sketch.shift_all(mhz)),
        Move::Smooth(p) => drop(sketch.smooth_left(p)),
        Move::Below => drop(sketch.smooth_states()),
        Move::ScaleClocks(by) => drop(sketch.scale_clocks(Percent(by))),
        Move::ScaleVoltages(by) => drop(sketch.scale_voltages(Percent(by))),
        Move::Undo => drop(sketch.undo()),
        Move::Redo => drop(sketch.redo()),
    }
}

/// A curve of any kind of offer: rising, anywhere.
fn any_curve(offer: &CurveOffer) -> impl Strategy<Value = VfCurve> + use<> {
    let count = offer.factory.points().len();
    (proptest::collection::vec((1_u16..60, 0_u16..200), count), 300_u16..900).prop_map(
        |(steps, first)| {
            let (mut millivolt, mut mhz) = (first, 200);
            let points: Vec<(u16, u16)> = steps
                .into_iter()
                .map(|(up, faster)| {
                    (millivolt, mhz) = (millivolt + up, mhz + faster);
                    (millivolt, mhz)
                })
                .collect();
            VfCurve::new(&points).unwrap()
        },
    )
}

proptest! {
    #[test]
    fn every_move_stays_in_range_and_on_a_bin(
        offer in offers(), made in proptest::collection::vec(moves(), 1..40)
    ) {
        let mut sketch = Sketch::new(offer, &offer.factory);
        for one in &made {
            make(&mut sketch, one);
            for (point, factory) in sketch.points().iter().zip(offer.factory.points()) {
                prop_assert!(offer.clocks.contains(point.1), "{one:?}: {point:?}");
                let moved = point.1 != factory.mhz;
                prop_assert!(!moved || (point.1 - offer.clocks.lowest) % offer.clocks.step == 0);
                match offer.kind {
                    CurveKind::Points => prop_assert_eq!(point.0, factory.millivolt),
                    CurveKind::States => prop_assert!(offer.voltages.contains(point.0), "{one:?}"),
                }
            }
        }
    }

    #[test]
    fn undoing_all_moves_brings_the_beginning_back_and_redoing_them_the_end(
        offer in offers(), made in proptest::collection::vec(moves(), 1..40)
    ) {
        let mut sketch = Sketch::new(offer, &offer.factory);
        made.iter().for_each(|one| make(&mut sketch, one));
        let end = sketch.points().to_vec();
        let mut count = 0;
        while sketch.undo() {
            count += 1;
        }
        prop_assert!(sketch.is_factory());
        for _ in 0..count {
            prop_assert!(sketch.redo());
        }
        // What was undone among the moves themselves stays to be redone.
        if !made.iter().any(|one| matches!(one, Move::Undo)) {
            prop_assert_eq!(sketch.points(), &end[..]);
            prop_assert!(!sketch.redo());
        }
    }

    #[test]
    fn pinning_a_point_and_smoothing_left_of_it_always_makes_a_rising_curve(
        offer in offers(), point in 0_usize..39, mhz in 0.0..4_000.0,
        before in proptest::collection::vec(0.0..4_000.0, 0..6)
    ) {
        let mut sketch = Sketch::new(offer, &offer.factory);
        let point = point.min(sketch.points().len() - 1);
        for (at, clock) in before.into_iter().enumerate() {
            sketch.set_clock(at * 7 % offer.factory.points().len(), clock);
        }
        sketch.pin(point, mhz);
        let pinned = sketch.points()[point];
        let was = sketch.points().to_vec();
        let changes = sketch.smooth_left(point);
        let curve = sketch.curve();
        prop_assert!(curve.is_ok(), "{curve:?}");
        prop_assert_eq!(sketch.points()[point], pinned, "the point itself stays");
        for (at, (from, to)) in was.iter().zip(sketch.points()).enumerate() {
            let told = changes.iter().find(|change| change.point == at);
            prop_assert_eq!(told.map(|c| (c.from, c.to)), (from != to).then_some((*from, *to)));
        }
        prop_assert!(sketch.smooth_left(point).is_empty(), "smoothed once is smoothed");
    }

    #[test]
    fn smoothing_the_states_below_the_top_always_makes_a_rising_curve(
        clocks in proptest::collection::vec(300.0..1_750.0, 8),
        millivolt in 740.0_f64..1_200.0
    ) {
        let mut sketch = Sketch::new(states(), &states().factory);
        for (at, clock) in clocks.into_iter().enumerate() {
            sketch.set_clock(at, clock);
        }
        sketch.set_voltage(7, millivolt);
        let top = sketch.points()[7];
        sketch.smooth_states();
        let curve = sketch.curve();
        prop_assert!(curve.is_ok(), "{curve:?}");
        prop_assert_eq!(sketch.points()[7], top);
    }

    #[test]
    fn what_a_card_holds_is_rising_in_range_and_held_as_it_is_when_written_again(
        (offer, asked) in offers().prop_flat_map(|offer| (Just(offer), any_curve(&offer)))
    ) {
        let held = offer.hold(&asked);
        prop_assert!(offer.contains(&held));
        prop_assert_eq!(offer.hold(&held), held);
        prop_assert!(offer.is_rounding(&held, &held));
        let inside = offer.within(&asked);
        prop_assert!(offer.contains(&inside));
    }

    #[test]
    fn a_curve_is_read_back_as_it_was_written(offer in offers(), by in 0.0..150.0, top in 900.0..2_400.0) {
        let curve = offer.undervolted(by, Mhz(top));
        let text = serde_json::to_string(&curve).unwrap();
        prop_assert_eq!(serde_json::from_str::<VfCurve>(&text).unwrap(), curve);
        prop_assert_eq!(offer.hold(&curve), curve, "an undervolted curve lies on the card's bins");
        prop_assert!(f64::from(curve.last().mhz) <= top + f64::from(offer.clocks.step) / 2.0);
    }

    #[test]
    fn a_clock_is_reached_at_the_voltage_that_is_said_to_reach_it(
        (offer, asked) in offers().prop_flat_map(|offer| (Just(offer), any_curve(&offer))),
        share in 0.0..1.0
    ) {
        let _ = offer;
        let (low, high) = (f64::from(asked.first().mhz), f64::from(asked.last().mhz));
        let clock = low + (high - low) * share;
        let volt = asked.voltage_for(Mhz(clock)).unwrap();
        prop_assert!((asked.clock_at(volt).value() - clock).abs() < 1e-6);
    }
}

#[rstest]
#[case(&[(700, 1300)], "2 to 40 points")]
#[case(&[(700, 1300), (700, 1400)], "700 mV come after 700 mV")]
#[case(&[(700, 1300), (710, 1200)], "falls from 1300 MHz to 1200 MHz at 710 mV")]
fn what_is_no_curve_is_refused_with_the_place(#[case] points: &[(u16, u16)], #[case] part: &str) {
    let refused = VfCurve::new(points).unwrap_err().to_string();
    assert!(refused.contains(part), "{refused}");
}

#[test]
fn an_undervolt_needs_less_voltage_for_each_clock_by_what_was_said() {
    let offer = points();
    let curve = offer.undervolted(50.0, Mhz(2_040.0));
    for clock in [1_500.0, 1_700.0, 1_900.0] {
        let (before, after) =
            (offer.factory.voltage_for(Mhz(clock)), curve.voltage_for(Mhz(clock)));
        let saved = before.unwrap().value() - after.unwrap().value();
        assert!((saved - 50.0).abs() < 9.0, "{clock}: {saved}");
    }
    assert_eq!(curve.last().mhz, 2_040);
    assert!(curve.flat_from().millivolt < 1_030);
}

#[test]
fn undervolted_states_keep_their_clocks_and_lose_their_voltage() {
    let curve = states().undervolted(60.0, Mhz(1_500.0));
    assert_eq!(curve.points()[7], VfPoint { millivolt: 1_065, mhz: 1_500 });
    assert_eq!(curve.points()[3], VfPoint { millivolt: 840, mhz: 1_180 });
    // Held to a lower clock, the states above it need no more voltage than that.
    let lower = states().undervolted(60.0, Mhz(1_370.0));
    assert_eq!(lower.last().mhz, 1_370);
    assert!(lower.points()[5].millivolt <= 940 && lower.last().millivolt <= 960, "{lower:?}");
}

#[test]
fn a_lifted_point_bends_the_curve_left_of_it_and_says_where() {
    let mut sketch = Sketch::new(points(), &points().factory);
    sketch.pin(20, 2_010.0);
    assert_eq!(sketch.points()[20], (900, 2_010));
    assert_eq!(sketch.points()[38], (1_080, 2_010));
    let changes = sketch.smooth_left(20);
    assert!(changes.len() > 12, "{changes:?}");
    assert!(changes.iter().all(|change| change.to.1 > change.from.1));
    let steepest = sketch.points().windows(2).map(|p| p[1].1 - p[0].1).max().unwrap();
    assert!(steepest <= 60, "{steepest}: no cliff is left");
    assert!(sketch.undo() && sketch.undo() && sketch.is_factory());
    assert!(!sketch.undo());
}
