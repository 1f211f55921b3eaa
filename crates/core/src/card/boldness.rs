//! Which of two sets of settings asks more of a card.
//!
//! What took the machine down once may do so again, and so may anything that asks at least as much.
//! *At least as bold as* is the one order by which plan, manual trials, profiles and imports tell:
//!
//! | domain | bolder is |
//! |---|---|
//! | core | more clock at the same voltage, at any point of the V/F curve (clock offset, curve and voltage offset taken together); a higher lowest or highest clock; without a curve, a higher offset or less voltage |
//! | memory | a higher clock, a faster timing level, less voltage on the memory's side |
//! | power | a higher power limit or temperature target |
//!
//! Settings are at least as bold as others when they are so on every axis of each domain in which
//! the others go beyond stock. Where the others do so in core or memory, power is left out of it:
//! less power makes the same clocks no safer. A fan and a frame cap make nothing bolder or milder.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::shape::{CurveKind, CurveOffer, VfCurve};
use crate::units::Millivolt;

/// MHz by which two clocks on a curve may differ and still be the same.
const SAME_CLOCK: f64 = 0.5;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Domain {
    Core,
    Memory,
    Power,
}

/// In which direction a setting asks more of the card.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Bolder {
    Higher(Domain),
    Lower(Domain),
    /// As a part of the V/F curve.
    Curve,
    /// In neither.
    Never,
}

const fn bolder(kind: SettingKind, has_curve: bool) -> Bolder {
    match kind {
        SettingKind::Curve => Bolder::Curve,
        SettingKind::CoreOffset | SettingKind::VoltageOffset if has_curve => Bolder::Curve,
        SettingKind::CoreOffset | SettingKind::ClockMinimum | SettingKind::ClockMaximum => {
            Bolder::Higher(Domain::Core)
        }
        SettingKind::VoltageOffset => Bolder::Lower(Domain::Core),
        SettingKind::MemoryOffset | SettingKind::MemoryTiming => Bolder::Higher(Domain::Memory),
        SettingKind::MemoryVoltage => Bolder::Lower(Domain::Memory),
        SettingKind::PowerLimit | SettingKind::TemperatureTarget => Bolder::Higher(Domain::Power),
        SettingKind::Fan | SettingKind::FrameCap => Bolder::Never,
    }
}

impl Settings {
    /// Whether these settings are at least as bold as `other`, as the [module](self) says. Nothing
    /// is at least as bold as settings that go nowhere beyond stock.
    #[must_use]
    pub fn is_at_least_as_bold_as(&self, other: &Self, card: &CardDescription) -> bool {
        let stock = Self::stock(card);
        let beyond = |domain| other.goes_beyond(&stock, domain, card);
        let clocks: Vec<Domain> =
            [Domain::Core, Domain::Memory].into_iter().filter(|domain| beyond(*domain)).collect();
        match clocks.is_empty() {
            false => clocks.into_iter().all(|domain| self.covers(other, domain, card)),
            true => beyond(Domain::Power) && self.covers(other, Domain::Power, card),
        }
    }

    /// Whether these settings are bolder than `stock` somewhere in a domain.
    fn goes_beyond(&self, stock: &Self, domain: Domain, card: &CardDescription) -> bool {
        let by_number = numbers(card, domain)
            .any(|(kind, sign)| weight(self, kind, sign, card) > weight(stock, kind, sign, card));
        by_number || (domain == Domain::Core && curve_goes_beyond(self, card))
    }

    /// Whether these settings ask at least as much as `other` on every axis of a domain.
    fn covers(&self, other: &Self, domain: Domain, card: &CardDescription) -> bool {
        let by_number = numbers(card, domain)
            .all(|(kind, sign)| weight(self, kind, sign, card) >= weight(other, kind, sign, card));
        by_number && (domain != Domain::Core || curve_covers(self, other, card))
    }
}

/// The settings of a domain that are compared as numbers, with the sign that makes more bolder.
fn numbers(card: &CardDescription, domain: Domain) -> impl Iterator<Item = (SettingKind, f64)> {
    let has_curve = card.curve.is_some();
    SettingKind::ALL.into_iter().filter_map(move |kind| match bolder(kind, has_curve) {
        Bolder::Higher(of) if of == domain => Some((kind, 1.0)),
        Bolder::Lower(of) if of == domain => Some((kind, -1.0)),
        _ => None,
    })
}

/// How much a setting asks, or its stock value where it is left open: more is bolder. Where there is
/// neither, a highest clock bounds nothing, and anything else asks for nothing.
fn weight(settings: &Settings, kind: SettingKind, sign: f64, card: &CardDescription) -> f64 {
    let stock = || card.offer(kind).and_then(|offer| offer.stock);
    match settings.get(kind).or_else(stock) {
        Some(value) => value * sign,
        None if kind == SettingKind::ClockMaximum => f64::INFINITY,
        None => f64::NEG_INFINITY,
    }
}

/// A curve as the card drives it: offsets of clock and voltage included.
struct Driven {
    curve: VfCurve,
    mhz: f64,
    millivolt: f64,
}

impl Driven {
    fn of(settings: &Settings, offer: &CurveOffer) -> Self {
        Self {
            curve: settings.curve.unwrap_or(offer.factory),
            mhz: settings.get(SettingKind::CoreOffset).unwrap_or(0.0),
            millivolt: settings.get(SettingKind::VoltageOffset).unwrap_or(0.0),
        }
    }

    fn points(&self) -> impl Iterator<Item = (f64, f64)> + '_ {
        let of = |point: &crate::shape::VfPoint| {
            (f64::from(point.millivolt) + self.millivolt, f64::from(point.mhz) + self.mhz)
        };
        self.curve.points().iter().map(of)
    }

    /// Clock at a voltage that the chip really has.
    fn clock_at(&self, millivolt: f64) -> f64 {
        self.curve.clock_at(Millivolt(millivolt - self.millivolt)).value() + self.mhz
    }
}

fn curve_goes_beyond(settings: &Settings, card: &CardDescription) -> bool {
    let Some(offer) = card.curve else { return false };
    let (own, stock) = (Driven::of(settings, &offer), Driven::of(&Settings::stock(card), &offer));
    match offer.kind {
        CurveKind::Points => own.points().any(|(at, mhz)| mhz > stock.clock_at(at) + SAME_CLOCK),
        CurveKind::States => {
            own.points().zip(stock.points()).any(|(own, stock)| own.1 > stock.1 || own.0 < stock.0)
        }
    }
}

/// Whether, wherever `other` asks more than stock, `own` asks at least as much.
fn curve_covers(own: &Settings, other: &Settings, card: &CardDescription) -> bool {
    let Some(offer) = card.curve else { return true };
    let [own, other, stock] =
        [own, other, &Settings::stock(card)].map(|settings| Driven::of(settings, &offer));
    match offer.kind {
        CurveKind::Points => other
            .points()
            .filter(|(at, mhz)| *mhz > stock.clock_at(*at) + SAME_CLOCK)
            .all(|(at, mhz)| own.clock_at(at) >= mhz - SAME_CLOCK),
        CurveKind::States => own
            .points()
            .zip(other.points())
            .zip(stock.points())
            .filter(|((_, other), stock)| other.1 > stock.1 || other.0 < stock.0)
            .all(|((own, other), _)| own.1 >= other.1 && own.0 <= other.0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::air::fan::Fan;
    use crate::card::description::{Offer, Reading};
    use crate::fixtures::card as plain;
    use crate::shape::Span;
    use crate::units::{Mhz, MhzOffset, MillivoltOffset, Percent, Watt};
    use proptest::prelude::{Strategy, prop_assert, prop_assert_eq, proptest};
    use rstest::rstest;

    fn offer(kind: SettingKind, minimum: f64, maximum: f64, stock: Option<f64>) -> Offer {
        Offer {
            kind,
            reading: Reading::Absolute,
            minimum,
            maximum,
            step: 5.0,
            stock,
            makers_maximum: None,
        }
    }

    /// A card with a clock window and offsets, but no curve.
    fn windowed() -> CardDescription {
        let mut card = plain();
        card.offers.extend([
            offer(SettingKind::ClockMinimum, 500.0, 3_000.0, Some(500.0)),
            offer(SettingKind::ClockMaximum, 500.0, 3_000.0, Some(2_600.0)),
            offer(SettingKind::VoltageOffset, -200.0, 100.0, Some(0.0)),
            offer(SettingKind::MemoryOffset, -500.0, 1_500.0, Some(0.0)),
            offer(SettingKind::MemoryVoltage, 1_200.0, 1_400.0, Some(1_350.0)),
            offer(SettingKind::MemoryTiming, 0.0, 3.0, Some(0.0)),
        ]);
        card
    }

    fn curved() -> CardDescription {
        let points: Vec<(u16, u16)> =
            (0..15).map(|step| (700 + step * 25, 1_305 + step * 45)).collect();
        let factory = VfCurve::new(&points).unwrap();
        let curve = CurveOffer {
            kind: CurveKind::Points,
            factory,
            clocks: Span { lowest: 900, highest: 2_505, step: 15 },
            voltages: Span { lowest: 700, highest: 1_050, step: 25 },
        };
        CardDescription { curve: Some(curve), ..windowed() }
    }

    type Change = fn(&mut Settings);

    fn set(card: &CardDescription, changes: &[Change]) -> Settings {
        let mut settings = Settings::stock(card);
        changes.iter().for_each(|change| change(&mut settings));
        settings
    }

    const CORE_150: Change = |s| s.core_offset = Some(MhzOffset(150));
    const CORE_135: Change = |s| s.core_offset = Some(MhzOffset(135));
    const CORE_165: Change = |s| s.core_offset = Some(MhzOffset(165));
    const MEMORY_300: Change = |s| s.memory_offset = Some(MhzOffset(300));
    const MEMORY_DOWN: Change = |s| s.memory_offset = Some(MhzOffset(-50));
    const OFF_100: Change = |s| s.voltage_offset = Some(MillivoltOffset(-100));
    const OFF_120: Change = |s| s.voltage_offset = Some(MillivoltOffset(-120));
    const OFF_80: Change = |s| s.voltage_offset = Some(MillivoltOffset(-80));
    const MORE_VOLTAGE: Change = |s| s.voltage_offset = Some(MillivoltOffset(50));
    const FAN_FULL: Change = |s| s.fan = Some(Fan::Fixed(Percent(100.0)));
    const LESS_POWER: Change = |s| s.power_limit = Some(Watt(150.0));
    const MORE_POWER: Change = |s| s.power_limit = Some(Watt(280.0));
    const MOST_POWER: Change = |s| s.power_limit = Some(Watt(286.0));
    const TOP_2700: Change = |s| s.clock_maximum = Some(Mhz(2_700.0));
    const TOP_2650: Change = |s| s.clock_maximum = Some(Mhz(2_650.0));
    const BOTTOM_2000: Change = |s| s.clock_minimum = Some(Mhz(2_000.0));
    const TIMING_1: Change = |s| s.memory_timing = Some(1);
    const TIMING_2: Change = |s| s.memory_timing = Some(2);
    const LESS_MEMORY_VOLTAGE: Change = |s| s.memory_voltage = Some(Millivolt(1_300.0));

    #[rstest]
    #[case::same(&[CORE_150], &[CORE_150], true)]
    #[case::higher(&[CORE_165], &[CORE_150], true)]
    #[case::lower(&[CORE_135], &[CORE_150], false)]
    #[case::another_fan(&[CORE_150, FAN_FULL], &[CORE_150], true)]
    #[case::less_power(&[CORE_150, LESS_POWER], &[CORE_150], true)]
    #[case::memory_beside_it(&[CORE_150, MEMORY_DOWN], &[CORE_150], true)]
    #[case::deeper(&[OFF_120], &[OFF_100], true)]
    #[case::not_as_deep(&[OFF_80], &[OFF_100], false)]
    #[case::deeper_at_more_clock(&[OFF_120, CORE_150], &[OFF_100], true)]
    #[case::deeper_at_less_clock(&[OFF_120, |s| s.core_offset = Some(MhzOffset(-150))], &[OFF_100], false)]
    #[case::more_voltage(&[CORE_150, MORE_VOLTAGE], &[CORE_150], false)]
    #[case::less_voltage(&[CORE_150, OFF_80], &[CORE_150, MORE_VOLTAGE], true)]
    #[case::one_of_two(&[CORE_165], &[CORE_150, MEMORY_300], false)]
    #[case::the_other_of_two(&[MEMORY_300], &[CORE_150, MEMORY_300], false)]
    #[case::both_of_two(&[CORE_165, MEMORY_300], &[CORE_150, MEMORY_300], true)]
    #[case::window_up(&[TOP_2700], &[TOP_2650], true)]
    #[case::window_down(&[TOP_2650], &[TOP_2700], false)]
    #[case::window_bottom(&[TOP_2700, BOTTOM_2000], &[TOP_2700], true)]
    #[case::window_without_bottom(&[TOP_2700], &[TOP_2700, BOTTOM_2000], false)]
    #[case::faster_timing(&[TIMING_2], &[TIMING_1], true)]
    #[case::slower_timing(&[TIMING_1], &[TIMING_2], false)]
    #[case::memory_voltage(&[MEMORY_300, LESS_MEMORY_VOLTAGE], &[MEMORY_300], true)]
    #[case::power_alone(&[MOST_POWER], &[MORE_POWER], true)]
    #[case::less_power_alone(&[LESS_POWER], &[MORE_POWER], false)]
    #[case::power_beside_clocks(&[CORE_150], &[CORE_150, MORE_POWER], true)]
    #[case::stock(&[CORE_150], &[], false)]
    #[case::a_fan_alone(&[FAN_FULL], &[FAN_FULL], false)]
    fn one_order_tells_what_is_at_least_as_bold(
        #[case] own: &[Change],
        #[case] other: &[Change],
        #[case] expected: bool,
    ) {
        let card = windowed();
        let (own, other) = (set(&card, own), set(&card, other));
        assert_eq!(own.is_at_least_as_bold_as(&other, &card), expected);
    }

    /// An undervolt by the curve, by so many millivolts.
    fn by_curve(millivolt: f64) -> Settings {
        let card = curved();
        let offer = card.curve.unwrap();
        let curve = offer.undervolted(millivolt, Mhz(1_935.0));
        Settings { curve: Some(curve), ..Settings::stock(&card) }
    }

    #[rstest]
    #[case::deeper_by_curve(by_curve(100.0), by_curve(75.0), true)]
    #[case::not_as_deep_by_curve(by_curve(50.0), by_curve(75.0), false)]
    #[case::by_offset_after_curve(set(&curved(), &[OFF_100]), by_curve(100.0), true)]
    #[case::by_less_offset_after_curve(set(&curved(), &[OFF_80]), by_curve(100.0), false)]
    #[case::clock_after_voltage(set(&curved(), &[|s| s.core_offset = Some(MhzOffset(240))]), set(&curved(), &[OFF_100]), true)]
    #[case::clock_offset_on_a_curve(set(&curved(), &[CORE_165]), set(&curved(), &[CORE_150]), true)]
    #[case::clock_offset_with_voltage(set(&curved(), &[CORE_165, MORE_VOLTAGE]), set(&curved(), &[CORE_150]), false)]
    fn curve_and_offsets_are_weighed_together(
        #[case] own: Settings,
        #[case] other: Settings,
        #[case] expected: bool,
    ) {
        assert_eq!(own.is_at_least_as_bold_as(&other, &curved()), expected);
    }

    #[rstest]
    #[case::clock_up(3, 0, 45, true)]
    #[case::voltage_down(3, -30, 0, true)]
    #[case::clock_down(3, 0, -45, false)]
    #[case::another_state(1, -30, 0, false)]
    fn states_are_compared_one_by_one(
        #[case] state: usize,
        #[case] millivolt: i32,
        #[case] mhz: i32,
        #[case] expected: bool,
    ) {
        // Six states, one of them moved by so many mV and MHz.
        let states = |moved: (usize, i32, i32)| {
            let points: Vec<(u16, u16)> = (0..6)
                .map(|at| {
                    let (mv, mhz) = if at == moved.0 { (moved.1, moved.2) } else { (0, 0) };
                    ((750 + at as i32 * 60 + mv) as u16, (600 + at as i32 * 220 + mhz) as u16)
                })
                .collect();
            VfCurve::new(&points).unwrap()
        };
        let curve = CurveOffer {
            kind: CurveKind::States,
            factory: states((0, 0, 0)),
            clocks: Span { lowest: 300, highest: 2_505, step: 5 },
            voltages: Span { lowest: 700, highest: 1_150, step: 5 },
        };
        let card = CardDescription { curve: Some(curve), ..windowed() };
        let with = |moved| Settings { curve: Some(states(moved)), ..Settings::stock(&card) };
        let downed = with((3, -25, 20));
        assert!(downed.is_at_least_as_bold_as(&downed, &card));
        let own = if state == 3 { (3, millivolt - 25, mhz + 20) } else { (state, millivolt, mhz) };
        assert_eq!(with(own).is_at_least_as_bold_as(&downed, &card), expected);
    }

    fn any_settings() -> impl Strategy<Value = Settings> {
        let core = -10..20_i32;
        let memory = -5..15_i32;
        let volts = -20..10_i32;
        (core, memory, volts, 0..4_u8, 0..2_u8).prop_map(|(core, memory, volts, timing, fan)| {
            Settings {
                core_offset: Some(MhzOffset(core * 15)),
                memory_offset: Some(MhzOffset(memory * 100)),
                voltage_offset: Some(MillivoltOffset(volts * 10)),
                memory_timing: Some(timing),
                fan: (fan == 1).then_some(Fan::Fixed(Percent(70.0))),
                ..Settings::stock(&curved())
            }
        })
    }

    proptest! {
        #[test]
        fn it_is_transitive_and_blind_to_fan_and_power(
            a in any_settings(), b in any_settings(), c in any_settings(), curve in 0..2_u8,
        ) {
            let card = if curve == 1 { curved() } else { windowed() };
            let bold = |one: &Settings, other: &Settings| one.is_at_least_as_bold_as(other, &card);
            if bold(&a, &b) && bold(&b, &c) {
                prop_assert!(bold(&a, &c), "{a:?} {b:?} {c:?}");
            }
            let milder_power = Settings { power_limit: Some(Watt(120.0)), fan: None, ..a };
            prop_assert_eq!(bold(&a, &b), bold(&milder_power, &b));
            let raised = Settings { core_offset: a.core_offset.map(|v| v + MhzOffset(15)), ..a };
            if bold(&a, &b) {
                prop_assert!(bold(&raised, &b), "more clock makes nothing milder");
            }
        }
    }
}
