//! Drives the fan of a card that holds a speed but no curve: the curve is followed here, speed by speed, whenever time
//! passes for the card.
//!
//! ```text
//!   asked: curve ──► FanDriver ── speed at the core's temperature ──► card
//!   taken: curve ◄──     └──── is that the speed the card holds? ◄────┘
//! ```
//!
//! Once nobody drives it, such a fan stays at the last speed. So whoever lets the card go puts it back to automatic: see
//! [`left_alone`](FanDriver::left_alone).

use std::convert::Infallible;

use yard_step_core::{
    CardDescription, CurveFollower, Fan, FanCurve, Limiter, Percent, Room, Sample, Seconds,
    SettingKind, Settings, WantedLimits,
};

use crate::{
    Card, CardError, CeilingRecord, Clock, DrawsAt, LoadLost, Ran, Reach, SignOfLife, Simulation,
    Work,
};

/// Time between two looks at the temperature, s.
const EVERY: f64 = 1.0;
/// Speed where the card does not tell its temperature, percent.
const BLIND: f64 = 100.0;

/// A card whose fan follows a curve, whether the card can do that by itself or not.
pub struct FanDriver {
    card: Box<dyn Card>,
    /// The curve that is followed here; none where the card does what was asked by itself.
    curve: Option<FanCurve>,
    follower: CurveFollower,
    /// Speed that the card was asked for last.
    speed: Percent,
    /// Time until the next look, s.
    due: f64,
}

impl FanDriver {
    /// Drives the fan of `card`, as far as that needs it.
    #[must_use]
    pub fn new(card: Box<dyn Card>) -> Self {
        Self {
            card,
            curve: None,
            follower: CurveFollower::default(),
            speed: Percent(BLIND),
            due: 0.0,
        }
    }

    /// Settings for a card that nobody drives the fan of any more: automatic in place of a curve that it cannot hold.
    #[must_use]
    pub fn left_alone(settings: &Settings, card: &CardDescription) -> Settings {
        match card.fan.left_to_drive(settings.fan) {
            Some(_) => Settings { fan: Some(Fan::Automatic), ..*settings },
            None => *settings,
        }
    }

    /// The speed that the curve has now, in steps of the card.
    fn speed_now(&mut self, curve: &FanCurve) -> Percent {
        let temperature = self.card.sample().ok().and_then(|sample| sample.chip_temperature());
        let wanted = match temperature {
            Some(at) => self.follower.next(curve, at),
            None => Percent(BLIND),
        };
        let offer = self.card.description().offer(SettingKind::Fan);
        Percent(offer.map_or(wanted.value(), |offer| offer.bin(wanted.value())))
    }

    /// Looks at the temperature and turns the fan.
    fn drive(&mut self, passed: f64) {
        let Some(curve) = self.curve else { return };
        self.due -= passed;
        if self.due > 0.0 {
            return;
        }
        self.due = EVERY;
        let speed = self.speed_now(&curve);
        // One that did not arrive shows when the settings are read back, and is said again here.
        if speed != self.speed && self.card.turn_fan(speed).is_ok() {
            self.speed = speed;
        }
    }

    /// Does something for a span of time, in stretches between two looks.
    fn in_stretches<E>(
        &mut self,
        span: Seconds,
        mut pass: impl FnMut(&mut dyn Card, Seconds) -> Result<(), E>,
    ) -> Result<(), E> {
        if self.curve.is_none() {
            return pass(self.card.as_mut(), span);
        }
        let mut left = span.value();
        while left > 1e-9 {
            let stretch = left.min(EVERY);
            pass(self.card.as_mut(), Seconds(stretch))?;
            self.drive(stretch);
            left -= stretch;
        }
        Ok(())
    }
}

impl Card for FanDriver {
    fn description(&self) -> &CardDescription {
        self.card.description()
    }

    fn apply(&mut self, settings: &Settings) -> Result<(), CardError> {
        let driven = self.card.description().fan.left_to_drive(settings.fan);
        if driven != self.curve {
            (self.curve, self.follower, self.due) = (driven, CurveFollower::default(), EVERY);
        }
        let Some(curve) = driven else { return self.card.apply(settings) };
        self.speed = self.speed_now(&curve);
        self.card.apply(&Settings { fan: Some(Fan::Fixed(self.speed)), ..*settings })
    }

    fn taken(&mut self) -> Result<Settings, CardError> {
        let taken = self.card.taken()?;
        Ok(match self.curve {
            Some(curve) if taken.fan == Some(Fan::Fixed(self.speed)) => {
                Settings { fan: Some(Fan::Curve(curve)), ..taken }
            }
            _ => taken,
        })
    }

    fn ceiling(&mut self) -> Result<CeilingRecord, CardError> {
        self.card.ceiling()
    }

    fn renew_makers_limits(&mut self) -> Result<(), CardError> {
        self.card.renew_makers_limits()
    }

    fn want_limits(&mut self, wanted: Option<&WantedLimits>) -> Result<(), CardError> {
        self.card.want_limits(wanted)
    }

    fn factory(&mut self) -> Option<Settings> {
        self.card.factory()
    }

    fn turn_fan(&mut self, speed: Percent) -> Result<(), CardError> {
        self.curve = None;
        self.card.turn_fan(speed)
    }

    fn sample(&mut self) -> Result<Sample, CardError> {
        self.card.sample()
    }

    fn run(&mut self, span: Seconds, work: Work<'_>) -> Result<Ran, LoadLost> {
        let mut frames: Option<u64> = None;
        let mut add = |ran: Ran| {
            if let Some(more) = ran.frames {
                frames = Some(frames.unwrap_or_default() + more);
            }
        };
        let ran = match work {
            Work::Here(load) => self.in_stretches(span, |card, span| {
                card.run(span, Work::Here(&mut *load)).map(&mut add)
            }),
            Work::Elsewhere => {
                self.in_stretches(span, |card, span| card.run(span, Work::Elsewhere).map(&mut add))
            }
        };
        if ran == Err(LoadLost::DriverReset) || ran == Err(LoadLost::MachineDown) {
            // The driver has its own idea of the fan again.
            self.curve = None;
        }
        ran.map(|()| Ran { frames })
    }

    fn idle(&mut self, span: Seconds) {
        let Ok(()) = self.in_stretches(span, |card, span| {
            card.idle(span);
            Ok::<(), Infallible>(())
        });
    }

    fn set_room(&mut self, room: Room) {
        self.card.set_room(room);
    }

    fn restart_machine(&mut self) -> bool {
        self.curve = None;
        self.card.restart_machine()
    }

    fn boot(&mut self) -> String {
        self.card.boot()
    }

    fn leave(&mut self) {
        self.card.leave();
    }

    fn limiter(&self) -> Option<Limiter> {
        self.card.limiter()
    }

    fn refused(&mut self) -> Vec<String> {
        self.card.refused()
    }

    fn sign_of_life(&self) -> Option<SignOfLife> {
        self.card.sign_of_life()
    }

    fn hold_way_back(&mut self, settings: &Settings) -> Result<(), CardError> {
        self.card.hold_way_back(settings)
    }

    fn set_start(&mut self, settings: Option<&Settings>, renew: bool) -> Result<(), CardError> {
        self.card.set_start(settings, renew)
    }

    fn told(&mut self) -> Vec<String> {
        self.card.told()
    }

    fn system_log(&mut self, since: Seconds) -> Vec<String> {
        self.card.system_log(since)
    }

    fn draws_at(&self) -> Option<DrawsAt> {
        self.card.draws_at()
    }

    fn reach(&self) -> Option<Reach> {
        self.card.reach()
    }

    fn clock(&self) -> Clock {
        self.card.clock()
    }

    fn simulation(&mut self) -> Option<&mut dyn Simulation> {
        self.card.simulation()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::CardChoice;
    use crate::standin::Unknown;
    use rstest::rstest;
    use yard_step_core::{Celsius, FanTarget};

    fn card(kind: &str) -> FanDriver {
        let choice: CardChoice = format!("standin:{kind}").parse().unwrap();
        let mut card = choice.open(1, 0).unwrap();
        card.without_mishaps();
        FanDriver::new(Box::new(card))
    }

    fn curve() -> FanCurve {
        FanCurve::new(&[(35.0, 30.0), (75.0, 70.0)]).unwrap().with_hysteresis(2.0).unwrap()
    }

    #[rstest]
    #[case::holds_a_curve("tarn-310")]
    #[case::holds_a_target("quern-540")]
    #[case::holds_a_speed("bracken-208")]
    fn the_fan_follows_its_curve_on_every_kind_of_card(#[case] kind: &str) {
        let mut card = card(kind);
        let asked = Settings { fan: Some(Fan::Curve(curve())), ..Settings::default() };
        card.apply(&asked).unwrap();
        for _ in 0..3_000 {
            card.run(Seconds(0.1), Work::Here(&mut Unknown)).unwrap();
        }
        let now = card.sample().unwrap();
        let (at, speed) = (now.core_temperature.unwrap(), now.fan.unwrap().value());
        let wanted = curve().speed_at(at).value();
        assert!((speed - wanted).abs() < 3.0, "{kind}: {speed} at {at}, wanted {wanted}");
        assert!(at > Celsius(45.0), "it did warm: {at}");
        let taken = card.taken().unwrap();
        assert_eq!(taken.fan, Some(Fan::Curve(curve())), "read back as it was asked");
        assert!(asked.differences(&taken, card.description()).is_empty());
        card.idle(Seconds(600.0));
        assert!(card.sample().unwrap().fan.unwrap().value() < speed, "slower when it has cooled");
    }

    #[test]
    fn a_speed_that_somebody_else_set_is_seen() {
        let mut card = card("bracken-208");
        card.apply(&Settings { fan: Some(Fan::Curve(curve())), ..Settings::default() }).unwrap();
        card.card.turn_fan(Percent(77.0)).unwrap();
        assert_eq!(card.taken().unwrap().fan, Some(Fan::Fixed(Percent(77.0))));
    }

    #[rstest]
    #[case("tarn-310", false)]
    #[case("quern-540", true)]
    #[case("bracken-208", true)]
    fn left_alone_a_fan_that_needs_a_driver_is_automatic(#[case] kind: &str, #[case] is_so: bool) {
        let card = card(kind);
        let asked = Settings { fan: Some(Fan::Curve(curve())), ..Settings::default() };
        let left = FanDriver::left_alone(&asked, card.description());
        assert_eq!(left.fan == Some(Fan::Automatic), is_so);
    }

    #[test]
    fn a_card_that_regulates_its_fan_keeps_to_its_target() {
        let mut card = card("quern-540");
        let target = FanTarget { core: Celsius(80.0), least: Percent(25.0) };
        card.apply(&Settings { fan: Some(Fan::Target(target)), ..Settings::default() }).unwrap();
        for _ in 0..9_000 {
            card.run(Seconds(0.1), Work::Here(&mut Unknown)).unwrap();
        }
        let now = card.sample().unwrap();
        assert!((now.core_temperature.unwrap().value() - 80.0).abs() < 2.0, "{now:?}");
        assert!(now.fan.unwrap().value() > 26.0 && now.fan.unwrap().value() < 99.0);
    }
}
