//! A fan as it is drawn: every move can be undone, and what stands can always be asked for.

use crate::air::fan::{Fan, FanControl, FanCurve, FanTarget, MOST_FAN_POINTS, MOST_HYSTERESIS};
use crate::card::description::{CardDescription, SettingKind};
use crate::moves::Moves;
use crate::units::{Celsius, Percent};

/// Least distance of two points, K.
const APART: f64 = 1.0;
/// Coolest and hottest place of a point, °C.
const COOLEST: f64 = 20.0;
const HOTTEST: f64 = 110.0;
/// Core temperature below which a fan that is told to stop does at first, °C.
const USUAL_STOP: f64 = 45.0;

/// How a fan can be driven.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumCount, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum FanMode {
    /// By the card.
    Automatic,
    /// At one speed.
    Fixed,
    /// Along a curve.
    Curve,
    /// Towards a temperature.
    Target,
}

impl FanMode {
    /// All of them.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] =
        [Self::Automatic, Self::Fixed, Self::Curve, Self::Target];

    /// The mode of a fan.
    #[must_use]
    pub const fn of(fan: &Fan) -> Self {
        match fan {
            Fan::Automatic => Self::Automatic,
            Fan::Fixed(_) => Self::Fixed,
            Fan::Curve(_) => Self::Curve,
            Fan::Target(_) => Self::Target,
        }
    }

    /// The word.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }
}

/// A fan that is drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct FanSketch {
    moves: Moves<Fan>,
    control: FanControl,
    /// Speeds the card takes, percent.
    speeds: (f64, f64),
}

impl FanSketch {
    /// Begins with `fan` on a card; none where the card's fan cannot be set.
    #[must_use]
    pub fn new(card: &CardDescription, fan: Fan) -> Option<Self> {
        let offer = card.offer(SettingKind::Fan)?;
        let speeds = (offer.minimum, offer.maximum);
        Some(Self { moves: Moves::new(fan), control: card.fan, speeds })
    }

    /// The fan as it stands.
    #[must_use]
    pub const fn fan(&self) -> Fan {
        *self.moves.now()
    }

    /// The curve, where it is one.
    #[must_use]
    pub const fn curve(&self) -> Option<FanCurve> {
        match self.fan() {
            Fan::Curve(curve) => Some(curve),
            _ => None,
        }
    }

    /// The modes that can be chosen on this card.
    pub fn modes(&self) -> impl Iterator<Item = FanMode> + use<> {
        let has_target = matches!(self.control, FanControl::Target { .. });
        FanMode::ALL.into_iter().filter(move |mode| *mode != FanMode::Target || has_target)
    }

    /// Takes another fan, as one move; whether it is another.
    pub fn set(&mut self, fan: Fan) -> bool {
        self.moves.make(fan)
    }

    /// Undoes the last move; whether there was one.
    pub fn undo(&mut self) -> bool {
        self.moves.undo()
    }

    /// Makes the move again that was undone; whether there was one.
    pub fn redo(&mut self) -> bool {
        self.moves.redo()
    }

    /// Drives the fan in the next way that the card offers, as near as that comes to what was.
    pub fn next_mode(&mut self) -> bool {
        let modes: Vec<FanMode> = self.modes().collect();
        let at = modes.iter().position(|mode| *mode == FanMode::of(&self.fan())).unwrap_or(0);
        let (least, most) = self.speeds;
        let middle = Percent(f64::midpoint(least, most).round());
        let fan = match modes.get((at + 1) % modes.len().max(1)) {
            Some(FanMode::Fixed) => Fan::Fixed(middle),
            Some(FanMode::Curve) => self.usual_curve().map_or(Fan::Automatic, Fan::Curve),
            Some(FanMode::Target) => self.usual_target(),
            Some(FanMode::Automatic) | None => Fan::Automatic,
        };
        self.set(fan)
    }

    /// A curve to begin with: quiet when it is cool, all there is before it is too hot.
    fn usual_curve(&self) -> Option<FanCurve> {
        let (least, most) = self.speeds;
        let share = |share: f64| (least + (most - least) * share).round();
        let points = [(45.0, least), (65.0, share(0.3)), (75.0, share(0.6)), (85.0, most)];
        FanCurve::new(&points).ok()?.with_hysteresis(3.0).ok()
    }

    fn usual_target(&self) -> Fan {
        let (lowest, highest) = match self.control {
            FanControl::Target { lowest, highest } => (lowest, highest),
            FanControl::Curve | FanControl::Speed => (60.0, 80.0),
        };
        let core = Celsius(f64::midpoint(lowest, highest).round());
        Fan::Target(FanTarget { core, least: Percent(self.speeds.0) })
    }

    /// Moves a point by so many K and percent, between its neighbours; a fixed speed and a target are moved in the same
    /// way. Whether it moved.
    pub fn shift(&mut self, point: usize, kelvin: f64, percent: f64) -> bool {
        match self.fan() {
            Fan::Automatic => false,
            Fan::Fixed(speed) => {
                let speed = self.within(speed.value() + percent);
                self.set(Fan::Fixed(Percent(speed)))
            }
            Fan::Target(target) => {
                let least = Percent(self.within(target.least.value() + percent));
                let core = self.core_within(target.core.value() + kelvin);
                self.set(Fan::Target(FanTarget { core, least }))
            }
            Fan::Curve(curve) => match curve.points().get(point) {
                Some((at, speed)) => self.place(point, at + kelvin, speed + percent),
                None => false,
            },
        }
    }

    fn within(&self, speed: f64) -> f64 {
        speed.round().clamp(self.speeds.0, self.speeds.1)
    }

    fn core_within(&self, at: f64) -> Celsius {
        match self.control {
            FanControl::Target { lowest, highest } => Celsius(at.round().clamp(lowest, highest)),
            FanControl::Curve | FanControl::Speed => Celsius(at.round()),
        }
    }

    /// Puts a point of the curve somewhere, as far as its neighbours let it; whether it moved.
    pub fn place(&mut self, point: usize, at: f64, speed: f64) -> bool {
        let Some(curve) = self.curve() else { return false };
        let mut points = curve.points().to_vec();
        if point >= points.len() || !at.is_finite() || !speed.is_finite() {
            return false;
        }
        let before = point.checked_sub(1).and_then(|before| points.get(before)).copied();
        let after = points.get(point + 1).copied();
        let low = before.map_or(COOLEST, |(at, _)| at + APART);
        let high = after.map_or(HOTTEST, |(at, _)| at - APART);
        if low > high {
            return false;
        }
        let slowest = before.map_or(self.speeds.0, |(_, speed)| speed);
        let fastest = after.map_or(self.speeds.1, |(_, speed)| speed);
        points[point] = (
            at.round().clamp(low, high),
            self.within(speed).clamp(slowest.min(fastest), fastest.max(slowest)),
        );
        self.with_points(&curve, &points)
    }

    /// Adds a point behind another one, half way to the next; its place, if there was room.
    pub fn add(&mut self, behind: usize) -> Option<usize> {
        let curve = self.curve()?;
        let mut points = curve.points().to_vec();
        let from = *points.get(behind)?;
        if points.len() >= MOST_FAN_POINTS {
            return None;
        }
        let to = points.get(behind + 1).copied().unwrap_or((from.0 + 10.0, self.speeds.1));
        let at = f64::midpoint(from.0, to.0).round();
        if at - from.0 < APART || (points.len() > behind + 1 && to.0 - at < APART) || at > HOTTEST {
            return None;
        }
        points.insert(behind + 1, (at, f64::midpoint(from.1, to.1).round()));
        self.with_points(&curve, &points).then_some(behind + 1)
    }

    /// Takes a point away; the last one stays. Whether it is gone.
    pub fn remove(&mut self, point: usize) -> bool {
        let Some(curve) = self.curve() else { return false };
        let mut points = curve.points().to_vec();
        if points.len() < 2 || point >= points.len() {
            return false;
        }
        points.remove(point);
        self.with_points(&curve, &points)
    }

    fn with_points(&mut self, curve: &FanCurve, points: &[(f64, f64)]) -> bool {
        let Ok(fresh) = FanCurve::new(points).and_then(|c| c.with_hysteresis(curve.hysteresis()))
        else {
            return false;
        };
        let fresh = match curve.stops_below() {
            Some(stop) => fresh.stopping_below(stop.value()),
            None => Ok(fresh),
        };
        fresh.is_ok_and(|fresh| self.set(Fan::Curve(fresh)))
    }

    /// Has the fan of a curve stand still when it is cool, or never; whether that changed.
    pub fn toggle_stop(&mut self) -> bool {
        let Some(curve) = self.curve() else { return false };
        let other = match curve.stops_below() {
            Some(_) => Some(curve.without_stop()),
            None => curve.stopping_below(USUAL_STOP).ok(),
        };
        other.is_some_and(|curve| self.set(Fan::Curve(curve)))
    }

    /// Another hysteresis, by so many K; whether that changed.
    pub fn shift_hysteresis(&mut self, kelvin: f64) -> bool {
        let Some(curve) = self.curve() else { return false };
        let wanted = (curve.hysteresis() + kelvin).clamp(0.0, MOST_HYSTERESIS);
        curve.with_hysteresis(wanted).is_ok_and(|curve| self.set(Fan::Curve(curve)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::card;
    use proptest::prelude::{prop_assert, proptest};
    use rstest::{fixture, rstest};

    fn drawn(points: &[(f64, f64)]) -> FanSketch {
        FanSketch::new(&card(), Fan::Curve(FanCurve::new(points).unwrap())).unwrap()
    }

    #[fixture]
    fn sketch() -> FanSketch {
        drawn(&[(50.0, 30.0), (70.0, 50.0), (85.0, 100.0)])
    }

    fn points(sketch: &FanSketch) -> Vec<(f64, f64)> {
        sketch.curve().unwrap().points().to_vec()
    }

    #[rstest]
    #[case::freely(1, 60.0, 60.0, (60.0, 60.0))]
    #[case::not_past_the_one_before(1, 30.0, 60.0, (51.0, 60.0))]
    #[case::not_past_the_one_after(1, 99.0, 60.0, (84.0, 60.0))]
    #[case::not_slower_than_the_one_before(1, 60.0, 10.0, (60.0, 30.0))]
    #[case::not_faster_than_the_card(2, 85.0, 130.0, (85.0, 100.0))]
    #[case::not_slower_than_the_card(0, 50.0, 5.0, (50.0, 30.0))]
    fn a_point_goes_where_its_neighbours_and_the_card_let_it(
        mut sketch: FanSketch,
        #[case] point: usize,
        #[case] at: f64,
        #[case] speed: f64,
        #[case] stands: (f64, f64),
    ) {
        sketch.place(point, at, speed);
        assert_eq!(points(&sketch)[point], stands);
    }

    #[rstest]
    fn points_are_added_and_removed_and_every_move_can_be_undone(mut sketch: FanSketch) {
        let before = points(&sketch);
        assert_eq!(sketch.add(0), Some(1));
        assert_eq!(points(&sketch)[1], (60.0, 40.0));
        assert!(sketch.remove(0) && sketch.toggle_stop() && sketch.shift_hysteresis(4.0));
        let curve = sketch.curve().unwrap();
        assert_eq!((curve.stops_below(), curve.hysteresis()), (Some(Celsius(45.0)), 4.0));
        for _ in 0..4 {
            assert!(sketch.undo());
        }
        assert_eq!(points(&sketch), before);
        assert!(!sketch.undo() && sketch.redo());
        assert_eq!(points(&sketch).len(), 4);
    }

    #[test]
    fn the_last_point_stays_and_no_more_fit_than_there_is_room_for() {
        let mut one = drawn(&[(60.0, 50.0)]);
        assert!(!one.remove(0));
        for _ in 0..20 {
            one.add(0);
        }
        assert!(points(&one).len() <= MOST_FAN_POINTS);
    }

    #[rstest]
    #[case::a_curve_card(FanControl::Curve, &["automatic", "fixed", "curve"])]
    #[case::a_target_card(FanControl::Target { lowest: 60.0, highest: 85.0 }, &["automatic", "fixed", "curve", "target"])]
    #[case::a_speed_card(FanControl::Speed, &["automatic", "fixed", "curve"])]
    fn the_card_decides_how_its_fan_can_be_driven(
        #[case] control: FanControl,
        #[case] modes: &[&str],
    ) {
        let mut card = card();
        card.fan = control;
        let mut sketch = FanSketch::new(&card, Fan::Automatic).unwrap();
        let offered: Vec<&str> = sketch.modes().map(FanMode::label).collect();
        assert_eq!(offered, modes);
        for mode in modes.iter().skip(1).chain([&modes[0]]) {
            sketch.next_mode();
            assert_eq!(FanMode::of(&sketch.fan()).label(), *mode);
        }
    }

    proptest! {
        #[test]
        fn whatever_is_done_what_stands_is_a_curve_of_the_card(
            moves in proptest::collection::vec((0_u8..6, 0_usize..9, -60.0..160.0, -60.0..160.0), 0..60)
        ) {
            let mut sketch = drawn(&[(50.0, 30.0), (70.0, 50.0), (85.0, 100.0)]);
            for (what, point, at, speed) in moves {
                let _ = match what {
                    0 => sketch.place(point, at, speed),
                    1 => sketch.shift(point, at / 10.0, speed / 10.0),
                    2 => sketch.add(point).is_some(),
                    3 => sketch.remove(point),
                    4 => sketch.undo(),
                    _ => sketch.toggle_stop(),
                };
                let curve = sketch.curve().unwrap();
                prop_assert!(FanCurve::new(curve.points()).is_ok());
                prop_assert!(curve.points().iter().all(|(_, s)| (30.0..=100.0).contains(s)));
            }
        }
    }
}
