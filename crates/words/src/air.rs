//! Fan curves, and what they cost.

use yard_step_core::{DecidedBy, DrawnCurve, Fan, FanControl, Idle, Lost, Settled, WhenIdle, Wish};

/// What a curve that was drawn for a budget gives and costs, in two sentences; in a third, what was asked of an idle fan.
#[must_use]
pub fn drawn_curve(drawn: &DrawnCurve, wish: &Wish) -> String {
    let DrawnCurve { settled, summer, idle, quieter, decided_by, .. } = drawn;
    let why = match decided_by {
        DecidedBy::Clock => "slower, it would lose more than you allow",
        DecidedBy::Ceiling => "slower, it would come too near its temperature limit",
        DecidedBy::LeastSpeed => "the fan goes no slower",
        DecidedBy::Budget => "the noise budget allows no more, and that loses more than you allow",
        DecidedBy::CeilingOverBudget => {
            "over the noise budget, or the card would come too near its temperature limit"
        }
    };
    format!(
        "In a room of {} the fan runs at {} and the core settles at {}: {why}. That is {}, {:.1} dB \
         quieter than full speed, and costs {}; in a room of {} it costs {}, with the fan at {} and the core at {}.{}",
        wish.room,
        settled.fan,
        plateau(settled),
        settled.noise,
        quieter.value(),
        lost(&settled.lost),
        summer.room,
        lost(&summer.lost),
        summer.fan,
        plateau(summer),
        idle_fan(idle, wish.when_idle),
    )
}

/// What an idle fan does, where something was asked of it.
fn idle_fan(idle: &Idle, asked: WhenIdle) -> String {
    let Idle { fan, noise, is_inaudible } = idle;
    match (asked, is_inaudible) {
        (WhenIdle::Slowest, _) => String::new(),
        _ if fan.value() < 1.0 => " The fan stops when the card is idle.".into(),
        (_, true) => format!(" At {fan}, when the card is idle, the fan cannot be heard."),
        (_, false) => format!(" At {fan}, when the card is idle, the fan can be heard ({noise})."),
    }
}

/// Where a card settles, with its error.
fn plateau(settled: &Settled) -> String {
    format!("{:.0} ± {:.0} °C", settled.plateau.value, settled.plateau.error.max(1.0))
}

fn lost(lost: &Lost) -> String {
    match lost.clock.value() {
        mhz if mhz < 0.5 => "no clock".into(),
        mhz => format!("{mhz:.0} MHz (at most {:.1} % of the score)", lost.percent.value()),
    }
}

/// Who drives a fan, where that is not the card alone.
#[must_use]
pub fn who_drives(fan: &Fan, control: FanControl) -> Option<&'static str> {
    match (fan, control) {
        (Fan::Curve(_), FanControl::Speed) => Some(
            "This card holds a speed and no curve: Yard Step drives the fan while it runs, and leaves it automatic when it ends.",
        ),
        (Fan::Curve(_), FanControl::Target { .. }) => Some(
            "This card holds a target and no curve: Yard Step drives the fan while it runs, and leaves it automatic when it ends.",
        ),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{
        Celsius, Decibel, FanCurve, Keep, Mhz, Percent, Watt, statistics::Uncertain,
    };

    fn settled(room: f64, at: f64, fan: f64, mhz: f64) -> Settled {
        Settled {
            room: Celsius(room),
            plateau: Uncertain { value: at, error: 1.2 },
            fan: Percent(fan),
            noise: Decibel(38.2),
            lost: Lost { clock: Mhz(mhz), percent: Percent(mhz / 20.0) },
        }
    }

    fn drawn(decided_by: DecidedBy) -> (DrawnCurve, Wish) {
        let drawn = DrawnCurve {
            curve: FanCurve::new(&[(60.0, 62.0)]).unwrap(),
            settled: settled(22.0, 71.0, 62.0, 6.0),
            summer: settled(30.0, 77.0, 70.0, 0.0),
            idle: Idle { fan: Percent(30.0), noise: Decibel(31.5), is_inaudible: true },
            quieter: Decibel(10.4),
            decided_by,
            keeps: true,
        };
        let wish = Wish {
            room: Celsius(22.0),
            power: Watt(250.0),
            clock: Mhz(2_000.0),
            keep: Keep::Clock,
            reserve: 4.0,
            most_noise: None,
            when_idle: WhenIdle::default(),
        };
        (drawn, wish)
    }

    #[test]
    fn a_curve_is_explained_in_two_sentences() {
        let (drawn, wish) = drawn(DecidedBy::Clock);
        assert_eq!(
            drawn_curve(&drawn, &wish),
            "In a room of 22 °C the fan runs at 62 % and the core settles at 71 ± 1 °C: slower, it would lose \
             more than you allow. That is 38.2 dB, 10.4 dB quieter than full speed, and costs 6 MHz (at most 0.3 % of \
             the score); in a room of 30 °C it costs no clock, with the fan at 70 % and the core at 77 ± 1 °C."
        );
    }

    #[rstest]
    #[case(DecidedBy::Ceiling, "temperature limit")]
    #[case(DecidedBy::LeastSpeed, "goes no slower")]
    #[case(DecidedBy::Budget, "allows no more")]
    #[case(DecidedBy::CeilingOverBudget, "over the noise budget")]
    fn what_decided_is_said(#[case] decided_by: DecidedBy, #[case] part: &str) {
        let (drawn, wish) = drawn(decided_by);
        assert!(drawn_curve(&drawn, &wish).contains(part));
    }

    #[rstest]
    #[case(WhenIdle::Slowest, 30.0, true, "")]
    #[case(
        WhenIdle::Inaudible,
        30.0,
        true,
        " At 30 %, when the card is idle, the fan cannot be heard."
    )]
    #[case(
        WhenIdle::Inaudible,
        30.0,
        false,
        " At 30 %, when the card is idle, the fan can be heard (31.5 dB)."
    )]
    #[case(WhenIdle::Stopped, 0.0, true, " The fan stops when the card is idle.")]
    fn an_idle_fan_is_told_where_it_was_asked_for(
        #[case] asked: WhenIdle,
        #[case] fan: f64,
        #[case] is_inaudible: bool,
        #[case] told: &str,
    ) {
        let idle = Idle { fan: Percent(fan), noise: Decibel(31.5), is_inaudible };
        assert_eq!(idle_fan(&idle, asked), told);
    }

    #[test]
    fn it_is_said_who_drives_a_curve_that_the_card_does_not_hold() {
        let curve = Fan::Curve(FanCurve::new(&[(60.0, 62.0)]).unwrap());
        assert_eq!(who_drives(&curve, FanControl::Curve), None);
        assert!(who_drives(&curve, FanControl::Speed).unwrap().contains("a speed and no curve"));
        assert_eq!(who_drives(&Fan::Automatic, FanControl::Speed), None);
    }
}
