//! The quietest fan curve that keeps a card's clock, and what a noise budget costs.
//!
//! ```text
//!  speed ▲                           ╱  all there is, before the target or the ceiling
//!        │                          ╱
//!        │             ┌───────────┘
//!      n ┤  ┄┄┄┄┄┄┄┄┄┄╱│           │     n: the lowest speed whose plateau keeps the clock
//!        │        ╱    │  reserve  │
//!  least ┤───────╱     │           │
//!        └─────────────┴───────────┴──────► core temperature
//!            idle      plateau
//! ```

use serde::{Deserialize, Serialize};

use crate::air::fan::{FanCurve, FanCurveError};
use crate::air::heat::HeatModel;
use crate::air::noise::NoiseModel;
use crate::card::description::{CardDescription, SettingKind};
use crate::statistics::Uncertain;
use crate::units::{Celsius, Decibel, Mhz, Percent, Watt};

/// Width of the rise from the least speed to that of the plateau, K.
const RISE: f64 = 22.0;
/// The plateau's own speed holds from so many K below it on, so that it does not swing about it.
const LEVEL: f64 = 3.0;
/// From the end of the reserve to full speed, K.
const TO_FULL: f64 = 10.0;
/// Full speed is reached at the temperature target, and so far below the temperature at which the load is stopped, K.
const BELOW_CEILING: f64 = 4.0;
/// Core temperature below which a fan that may stop does, °C: an idle card stays below it, a busy one does not.
const STOPS_BELOW: f64 = 45.0;
/// Hysteresis of the curve, K: without one a fan hunts.
const HYSTERESIS: f64 = 3.0;
/// Share of a bin that may be lost where the clock is to be kept: a whole one would be crossed half of the time.
const OF_A_BIN: f64 = 0.6;
/// By how much warmer the room is for which it is told what is lost, K: summer.
pub const SUMMER: f64 = 8.0;

/// What is to be kept at least.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Keep {
    /// The clock, within one bin of that at the highest speed.
    Clock,
    /// The score, but for so many percent.
    ScoreBut(Percent),
}

/// What the fan is to do while the card has nothing to do.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    Serialize,
    Deserialize,
    strum::EnumCount,
    strum::VariantNames,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "lowercase")]
pub enum WhenIdle {
    /// Turn as slowly as it can.
    #[default]
    Slowest,
    /// Not be heard: stand still where the slowest speed is.
    Inaudible,
    /// Stand still.
    Stopped,
}

impl WhenIdle {
    /// All of them, the loudest first.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] =
        [Self::Slowest, Self::Inaudible, Self::Stopped];
}

/// What a curve is to be drawn for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Wish {
    /// Temperature of the room.
    pub room: Celsius,
    /// Board power of the hottest load.
    pub power: Watt,
    /// Average clock under it.
    pub clock: Mhz,
    /// What is to be kept.
    pub keep: Keep,
    /// By how much the card may be hotter than foreseen before the fan becomes louder, K.
    pub reserve: f64,
    /// The most that may be heard under load; none for as little as keeps what is to be kept.
    pub most_noise: Option<Decibel>,
    /// What the fan is to do while the card has nothing to do.
    pub when_idle: WhenIdle,
}

/// What decided the speed at the plateau.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DecidedBy {
    /// Slower, more of the clock than wished would be lost.
    Clock,
    /// Slower, the card would come too near the temperature at which the load is stopped.
    Ceiling,
    /// The fan goes no slower.
    LeastSpeed,
    /// Faster would be louder than the budget, though it takes more to keep what was wished.
    Budget,
    /// The budget asks for less than what keeps the card from its ceiling: it is not kept.
    CeilingOverBudget,
}

/// What warmth costs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Lost {
    /// Clock lost against the highest fan speed in the same room.
    pub clock: Mhz,
    /// The score that goes with it at most, percent: work follows the clock or falls behind it.
    pub percent: Percent,
}

/// Where a card settles in a room.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Settled {
    /// Temperature of the room.
    pub room: Celsius,
    /// Core temperature, °C, with its standard error, K.
    pub plateau: Uncertain,
    /// Fan speed.
    pub fan: Percent,
    /// All that is heard.
    pub noise: Decibel,
    /// What is lost against the highest speed, in the room the wish was made for.
    pub lost: Lost,
}

/// What the fan does while the card has nothing to do.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Idle {
    /// Fan speed; 0 % where it stands still.
    pub fan: Percent,
    /// All that is heard.
    pub noise: Decibel,
    /// Whether the fan is masked by the background.
    pub is_inaudible: bool,
}

/// A curve that was drawn for a wish.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DrawnCurve {
    /// The curve.
    pub curve: FanCurve,
    /// Where the card settles in the room wished for.
    pub settled: Settled,
    /// The same in a room that is [`SUMMER`] K warmer.
    pub summer: Settled,
    /// What the fan does while the card has nothing to do.
    pub idle: Idle,
    /// By how much quieter the fan is than at its highest speed.
    pub quieter: Decibel,
    /// What decided the speed.
    pub decided_by: DecidedBy,
    /// Whether what was to be kept is kept.
    pub keeps: bool,
}

impl DrawnCurve {
    /// Whether what is heard stays in the budget, where there is one.
    #[must_use]
    pub fn is_in_budget(&self) -> bool {
        self.decided_by != DecidedBy::CeilingOverBudget
    }
}

/// Draws curves for a card.
#[derive(Debug, Clone, Copy)]
pub struct Drawing<'a> {
    /// The card.
    pub card: &'a CardDescription,
    /// Its cooler.
    pub heat: &'a HeatModel,
    /// Its noise.
    pub noise: &'a NoiseModel,
}

impl Drawing<'_> {
    /// The quietest curve for a wish; none for a card without a fan that can be set.
    #[must_use]
    pub fn draw(&self, wish: &Wish) -> Option<DrawnCurve> {
        let offer = self.card.offer(SettingKind::Fan)?;
        let (least, most) = (offer.minimum, offer.maximum);
        let (fan, decided_by, keeps) = self.speed_for(wish, (least, most));
        let curve = self.curve_for(wish, fan, (least, most)).ok()?;
        Some(DrawnCurve {
            curve,
            settled: self.settled(wish, &curve, wish.room),
            summer: self.settled(wish, &curve, wish.room + Celsius(SUMMER)),
            idle: self.idle(&curve, wish.room),
            quieter: NoiseModel::quieter(Percent(most), fan),
            decided_by,
            keeps,
        })
    }

    /// What a curve comes to in a room, by what was learnt so far.
    #[must_use]
    pub fn settled(&self, wish: &Wish, curve: &FanCurve, room: Celsius) -> Settled {
        let (plateau, fan) = self.heat.plateau_under(wish.power, room, |at| curve.speed_at(at));
        let (noise, lost) = (self.noise.at(fan), self.lost(wish, plateau.value));
        Settled { room, plateau, fan, noise, lost }
    }

    /// What the fan does under a curve while the card is hardly warmer than the room.
    fn idle(&self, curve: &FanCurve, room: Celsius) -> Idle {
        let fan = curve.speed_at(room);
        let is_inaudible = fan <= self.noise.inaudible_up_to();
        Idle { fan, noise: self.noise.at(fan), is_inaudible }
    }

    /// What is lost at a core temperature, °C, against the highest fan speed.
    #[must_use]
    pub fn lost(&self, wish: &Wish, at: f64) -> Lost {
        let most = self.card.offer(SettingKind::Fan).map_or(100.0, |offer| offer.maximum);
        let coolest = self.heat.plateau(wish.power, Percent(most), wish.room).value;
        let clock = self.heat.clock_by_heat.value.max(0.0) * (at - coolest).max(0.0);
        let percent = Percent(clock / wish.clock.value().max(1.0) * 100.0);
        Lost { clock: Mhz(clock), percent }
    }

    /// The core temperature that a plateau must stay below.
    fn highest_plateau(&self) -> f64 {
        let limits = &self.card.limits;
        let stop = limits.stops_at().value() - BELOW_CEILING;
        limits.temperature_target.map_or(stop, |target| target.value().min(stop))
    }

    /// The speed for a wish, what decided it, and whether it keeps what is to be kept.
    fn speed_for(&self, wish: &Wish, (least, most): (f64, f64)) -> (Percent, DecidedBy, bool) {
        let plateau = |speed: f64| self.heat.plateau(wish.power, Percent(speed), wish.room);
        let allowed = match wish.keep {
            Keep::Clock => self.card.limits.clock_bin.value() * OF_A_BIN,
            Keep::ScoreBut(percent) => percent.value() / 100.0 * wish.clock.value(),
        };
        // What is not known of the clock counts against it.
        let by_heat = self.heat.clock_by_heat;
        let slope = (by_heat.value + by_heat.error).max(0.0);
        let coolest = plateau(most).value;
        let keeps = |speed: f64| slope * (plateau(speed).value - coolest) <= allowed;
        let is_cool = |speed: f64| {
            let at = plateau(speed);
            at.value + at.error.max(wish.reserve) <= self.highest_plateau()
        };
        let slowest = |fits: &dyn Fn(f64) -> bool| {
            let speeds = (least.ceil() as i32..=most.floor() as i32).map(f64::from);
            speeds.into_iter().find(|speed| fits(*speed)).unwrap_or(most)
        };
        let (for_clock, for_ceiling) = (slowest(&keeps), slowest(&is_cool));
        let speed = for_clock.max(for_ceiling);
        let decided_by = match (speed > least, for_ceiling > for_clock) {
            (false, _) => DecidedBy::LeastSpeed,
            (true, true) => DecidedBy::Ceiling,
            (true, false) => DecidedBy::Clock,
        };
        let Some(level) = wish.most_noise else { return (Percent(speed), decided_by, true) };
        let loudest = self.noise.speed_for(level).map_or(0.0, Percent::value);
        if loudest >= speed {
            (Percent(speed), decided_by, true)
        } else if loudest.max(least) >= for_ceiling && loudest >= least {
            (Percent(loudest), DecidedBy::Budget, false)
        } else {
            let speed = for_ceiling.max(least);
            (Percent(speed), DecidedBy::CeilingOverBudget, speed >= for_clock)
        }
    }

    fn curve_for(
        &self,
        wish: &Wish,
        fan: Percent,
        (least, most): (f64, f64),
    ) -> Result<FanCurve, FanCurveError> {
        let plateau = self.heat.plateau(wish.power, fan, wish.room).value.round();
        let highest = self.highest_plateau();
        let level_until = (plateau + wish.reserve).round().min(highest - 2.0);
        let full = (level_until + TO_FULL).min(highest).max(level_until + 1.0);
        let level_from = (plateau - LEVEL).min(level_until - 1.0);
        let rises_from = (level_from - RISE).max(wish.room.value().max(10.0)).min(level_from - 1.0);
        let mut points = vec![(rises_from, least), (level_from, fan.value())];
        points.extend([(level_until, fan.value()), (full, most)]);
        let curve = FanCurve::new(&points)?.with_hysteresis(HYSTERESIS)?;
        let stops = match wish.when_idle {
            WhenIdle::Slowest => false,
            WhenIdle::Inaudible => !self.idle(&curve, wish.room).is_inaudible,
            WhenIdle::Stopped => true,
        };
        match stops {
            true => curve.stopping_below(STOPS_BELOW.min(level_from)),
            false => Ok(curve),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::air::heat::HeatRun;
    use crate::air::noise::{Heard, Loudness, NoiseNote};
    use crate::card::settings::Settings;
    use crate::fixtures::card;
    use rstest::{fixture, rstest};

    fn model() -> HeatModel {
        let runs = [(100.0, 60.0), (70.0, 67.0), (45.0, 77.0)].map(|(fan, plateau)| HeatRun {
            load: "medley".into(),
            settings: Settings::default(),
            fan: Percent(fan),
            power: Watt(250.0),
            plateau: Celsius(plateau),
            settles_in: None,
            clock: Some(Mhz(2_000.0 - 2.0 * (plateau - 60.0))),
            room: Some(crate::Room::default()),
        });
        HeatModel::of(&runs, &card()).unwrap()
    }

    #[fixture]
    fn wish() -> Wish {
        Wish {
            room: Celsius(22.0),
            power: Watt(250.0),
            clock: Mhz(2_000.0),
            keep: Keep::Clock,
            reserve: 4.0,
            most_noise: None,
            when_idle: WhenIdle::Slowest,
        }
    }

    fn drawn(wish: &Wish) -> DrawnCurve {
        let (card, heat, noise) = (card(), model(), NoiseModel::of(&[]));
        Drawing { card: &card, heat: &heat, noise: &noise }.draw(wish).unwrap()
    }

    #[rstest]
    fn the_quietest_curve_keeps_the_clock_within_a_bin_and_no_more(wish: Wish) {
        let quiet = drawn(&wish);
        let bin = card().limits.clock_bin.value();
        assert!(
            quiet.settled.lost.clock.value() <= bin && quiet.settled.lost.clock.value() > bin / 3.0
        );
        assert_eq!(quiet.decided_by, DecidedBy::Clock);
        assert!(quiet.quieter.value() > 2.0 && quiet.settled.fan.value() < 90.0, "{quiet:?}");
        let half = drawn(&Wish { keep: Keep::ScoreBut(Percent(1.5)), ..wish });
        assert!(half.settled.fan < quiet.settled.fan && half.settled.lost.percent.value() <= 1.5);
    }

    #[rstest]
    fn the_card_settles_where_the_curve_was_drawn_for(wish: Wish) {
        let quiet = drawn(&wish);
        let at = Celsius(quiet.settled.plateau.value);
        assert_eq!(quiet.curve.speed_at(at), quiet.settled.fan);
        assert_eq!(quiet.curve.speed_at(at + Celsius(wish.reserve - 1.0)), quiet.settled.fan);
        let target = card().limits.temperature_target.unwrap();
        let at_target = quiet.curve.speed_at(target);
        assert_eq!(at_target, Percent(100.0), "before the clock gives way to heat");
        let summer = quiet.summer;
        assert!(summer.plateau.value > at.value() && summer.lost.clock > quiet.settled.lost.clock);
        assert!(summer.fan >= quiet.settled.fan);
    }

    #[rstest]
    fn a_budget_that_is_too_small_costs_clock_and_says_so(wish: Wish) {
        let quiet = drawn(&wish);
        let level = quiet.settled.noise - Decibel(4.0);
        let strict = drawn(&Wish { most_noise: Some(level), ..wish });
        assert_eq!(strict.decided_by, DecidedBy::Budget);
        assert!(strict.settled.noise <= level && strict.is_in_budget());
        assert!(!strict.keeps);
        assert!(strict.settled.lost.clock > quiet.settled.lost.clock);
        let wide = drawn(&Wish { most_noise: Some(Decibel(70.0)), ..wish });
        assert_eq!(wide.settled.fan, quiet.settled.fan, "no louder than it must be");
    }

    #[rstest]
    fn no_budget_lets_a_card_come_near_its_ceiling(wish: Wish) {
        let hot = Wish { power: Watt(310.0), room: Celsius(30.0), ..wish };
        let level = Some(Decibel(31.0));
        let drawn = drawn(&Wish { most_noise: level, ..hot });
        assert_eq!(drawn.decided_by, DecidedBy::CeilingOverBudget);
        assert!(!drawn.is_in_budget() && drawn.settled.noise > Decibel(31.0));
        assert!(drawn.settled.plateau.value < 84.0, "{drawn:?}");
    }

    #[rstest]
    fn a_fan_may_stand_still_when_there_is_nothing_to_do(wish: Wish) {
        let idle = drawn(&Wish { when_idle: WhenIdle::Stopped, ..wish });
        assert_eq!(idle.curve.speed_at(Celsius(38.0)), Percent(0.0));
        assert_eq!((idle.idle.fan, idle.idle.is_inaudible), (Percent(0.0), true));
        assert!(
            idle.curve.speed_at(Celsius(55.0)).value() >= 30.0 && idle.curve.hysteresis() > 0.0
        );
    }

    #[rstest]
    #[case::the_slowest_speed_is_not_heard(Loudness::Silent, 30.0)]
    #[case::the_slowest_speed_is_heard(Loudness::Loud, 0.0)]
    fn an_idle_fan_that_is_not_to_be_heard_stops_only_where_it_would_be(
        wish: Wish,
        #[case] at_its_slowest: Loudness,
        #[case] idles_at: f64,
    ) {
        let note = NoiseNote::new(Percent(30.0), Heard::Judged(at_its_slowest)).unwrap();
        let (card, heat, noise) = (card(), model(), NoiseModel::of(&[note]));
        let drawing = Drawing { card: &card, heat: &heat, noise: &noise };
        let quiet = drawing.draw(&Wish { when_idle: WhenIdle::Inaudible, ..wish }).unwrap();
        assert_eq!((quiet.idle.fan, quiet.idle.is_inaudible), (Percent(idles_at), true));
        let slowest = drawing.draw(&wish).unwrap().idle;
        assert_eq!((slowest.fan, slowest.is_inaudible), (Percent(30.0), idles_at > 0.0));
    }
}
