//! What the stages found.

use yard_step_core::{Gain, PowerReport, RoundEntry, RoundReport, StrategyReport};

use crate::text::capitalised;

/// What more power alone brought, in a sentence.
#[must_use]
pub fn power(report: &PowerReport) -> String {
    let faster = match report.gain {
        Gain::Clear => format!("{:+.1} % score", report.gain_percent),
        Gain::NotThere => "no measurable score".into(),
        Gain::Open => format!("{:+.1} % score (not clear of the noise)", report.gain_percent),
    };
    let power = report.power.map_or(String::new(), |w| format!(", {:+.0} W", w.value()));
    let hotter = report.hotter.map_or(String::new(), |k| format!(", {:+.1} K", k.value()));
    let clock = report.clock.value();
    let flatness = report.flatness.value();
    format!(
        "More power alone brought {faster}: the clock {} by {:.0} MHz and became {} by {:.0} \
         points{power}{hotter}.",
        if clock < 0.0 { "fell" } else { "rose" },
        clock.abs(),
        if flatness < 0.0 { "less steady" } else { "steadier" },
        flatness.abs(),
    )
}

/// What a stage that compares a few settings came to, in a sentence or two.
#[must_use]
pub fn round(report: &RoundReport) -> String {
    let tried: Vec<String> = report.tried.iter().map(entry).collect();
    let tried = tried.join("; ");
    match (&report.best, report.settings) {
        (None, _) => "Nothing is known yet.".into(),
        (Some((what, gain)), Some(_)) => {
            format!("{} brings {gain:+.1} %. {}.", capitalised(what), capitalised(&tried))
        }
        (Some(_), None) => {
            format!("Nothing is clearly better than {}. {}.", report.base, capitalised(&tried))
        }
    }
}

fn entry(one: &RoundEntry) -> String {
    match (one.gain_percent, one.throttles) {
        (None, _) => format!("{} does not hold", one.what),
        (Some(gain), false) => format!("{} {gain:+.1} %", one.what),
        (Some(gain), true) => {
            format!("{} {gain:+.1} %, its lowest clock makes it throttle", one.what)
        }
    }
}

/// What a strategy of undervolting came to, in a sentence.
#[must_use]
pub fn strategy(report: &StrategyReport) -> String {
    let stock = &report.stock;
    let (Some(_), Some(now)) = (report.settings, &report.measured) else {
        return match report.settings {
            None => "No safe undervolt known yet.".into(),
            Some(_) => format!("The trials point to {}; no run has measured it.", report.at),
        };
    };
    let mut parts = vec![format!("score {:+.1} %", report.gain_percent.unwrap_or_default())];
    if let (Some(now), Some(before)) = (now.power, stock.power) {
        parts.push(format!("{:.0} W instead of {:.0} W", now.value(), before.value()));
    }
    if let (Some(now), Some(before)) = (now.clock, stock.clock) {
        parts.push(format!("{:.0} MHz on average after {:.0}", now.value(), before.value()));
    }
    if let (Some(now), Some(before)) = (now.hot_spot, stock.hot_spot) {
        parts.push(format!("hot spot {:.0} °C after {:.0}", now.value(), before.value()));
    }
    let found = format!("{}: {}.", capitalised(&report.moved.join(", ")), parts.join(", "));
    match report.passed_over {
        None => found,
        Some(less) => {
            format!(
                "{found} That is {less:.1} % less score than what was kept before it, which stays."
            )
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Celsius, Measured, Mhz, Percent, Settings, Stage, Watt};

    fn a_power_report(gain: Gain, clock: f64, flatness: f64) -> PowerReport {
        PowerReport {
            limit: Some((Watt(220.0), Watt(286.0))),
            target: None,
            gain_percent: 2.34,
            gain,
            clock: Mhz(clock),
            flatness: Percent(flatness),
            power: Some(Watt(41.0)),
            hotter: Some(Celsius(5.2)),
        }
    }

    #[rstest]
    #[case(
        a_power_report(Gain::Clear, 60.0, 12.0),
        "More power alone brought +2.3 % score: the clock rose by 60 MHz and became steadier by 12 points, +41 W, +5.2 K."
    )]
    #[case(
        a_power_report(Gain::Open, -8.0, -3.0),
        "More power alone brought +2.3 % score (not clear of the noise): the clock fell by 8 MHz and became less steady by 3 points, +41 W, +5.2 K."
    )]
    #[case(
        PowerReport { power: None, hotter: None, ..a_power_report(Gain::NotThere, 0.0, 0.0) },
        "More power alone brought no measurable score: the clock rose by 0 MHz and became steadier by 0 points."
    )]
    fn what_more_power_brought_is_told_with_its_direction(
        #[case] report: PowerReport,
        #[case] told: &str,
    ) {
        assert_eq!(power(&report), told);
    }

    fn an_entry(what: &str, gain_percent: Option<f64>, throttles: bool) -> RoundEntry {
        RoundEntry { what: what.into(), gain_percent, throttles }
    }

    #[rstest]
    #[case(None, None, "Nothing is known yet.")]
    #[case(
        Some(("level 2".into(), 1.2)),
        Some(Settings::default()),
        "Level 2 brings +1.2 %. Level 2 +1.2 %; level 3 does not hold; level 1 -0.4 %, its lowest clock makes it throttle."
    )]
    #[case(
        Some(("level 2".into(), 0.1)),
        None,
        "Nothing is clearly better than level 0. Level 2 +1.2 %; level 3 does not hold; level 1 -0.4 %, its lowest clock makes it throttle."
    )]
    fn a_round_tells_how_each_fared(
        #[case] best: Option<(String, f64)>,
        #[case] settings: Option<Settings>,
        #[case] told: &str,
    ) {
        let report = RoundReport {
            stage: Stage::Timing,
            settings,
            sections: vec![],
            base: "level 0".into(),
            best,
            tried: vec![
                an_entry("level 2", Some(1.2), false),
                an_entry("level 3", None, false),
                an_entry("level 1", Some(-0.4), true),
            ],
        };
        assert_eq!(round(&report), told);
    }

    fn measured(power: Option<Watt>, clock: f64) -> Measured {
        Measured {
            runs: 2,
            score: 1_000.0,
            power,
            clock: Some(Mhz(clock)),
            hot_spot: Some(Celsius(80.0)),
            flatness: None,
            held_by_power: 0.2,
        }
    }

    #[rstest]
    #[case(None, None, "No safe undervolt known yet.")]
    #[case(Some(Settings::default()), None, "The trials point to −50 mV; no run has measured it.")]
    #[case(
        Some(Settings::default()),
        Some(measured(Some(Watt(180.0)), 1_950.0)),
        "Voltage −50 mV: score +3.2 %, 180 W instead of 220 W, 1950 MHz on average after 1900, hot spot 80 °C after 80."
    )]
    #[case(
        Some(Settings::default()),
        Some(measured(None, 1_950.0)),
        "Voltage −50 mV: score +3.2 %, 1950 MHz on average after 1900, hot spot 80 °C after 80."
    )]
    fn a_strategy_tells_what_was_measured_and_nothing_else(
        #[case] settings: Option<Settings>,
        #[case] now: Option<Measured>,
        #[case] told: &str,
    ) {
        let report = StrategyReport {
            stage: Stage::UndervoltClock,
            settings,
            depth: 50,
            measured: now,
            gain_percent: Some(3.2),
            saved_percent: None,
            chance: 0.99,
            at: "−50 mV".into(),
            moved: vec!["voltage −50 mV".into()],
            stock: measured(Some(Watt(220.0)), 1_900.0),
            passed_over: None,
        };
        assert_eq!(strategy(&report), told);
    }
}
