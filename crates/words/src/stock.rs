//! What the card does at stock, and what would bring it to its advertised clock.

use yard_step_core::{Limiter, StockReport};

/// What the card reaches of what is advertised, and what holds it back.
#[must_use]
pub fn stock(report: &StockReport) -> String {
    let held = report.limiter.map_or(String::new(), |(limiter, share)| match limiter {
        Limiter::Power => format!(", {:.0} % of the time power-limited", share * 100.0),
        other => format!(", limited by {} {:.0} % of the time", other.label(), share * 100.0),
    });
    let cure =
        cure(report).map_or(String::new(), |cure| format!(" What would close the gap: {cure}."));
    format!(
        "Advertised {}, reached {} under {}{held}.{cure}",
        report.advertised, report.reached, report.load
    )
}

/// What would bring it to its advertised clock; none where nothing is known that would.
fn cure(report: &StockReport) -> Option<String> {
    let said = |amount: String, measured| {
        format!("{amount} ({})", if measured { "measured" } else { "estimated" })
    };
    cures(report, said, ", or ")
}

/// The same for a narrow place: `≈` is before what was estimated.
#[must_use]
pub fn cure_in_short(report: &StockReport) -> Option<String> {
    let said = |amount: String, measured| if measured { amount } else { format!("≈ {amount}") };
    cures(report, said, ", ")
}

/// Each cure, as `said` has it of an amount and of whether it was measured; none where there is none.
fn cures(
    report: &StockReport,
    said: impl Fn(String, bool) -> String,
    between: &str,
) -> Option<String> {
    let watts = report.more_power;
    let watts = watts.map(|cure| said(format!("{:.0} W more", cure.amount.value()), cure.measured));
    let volts = report.less_voltage;
    let volts =
        volts.map(|cure| said(format!("{:.0} mV less", cure.amount.value()), cure.measured));
    let all: Vec<String> = [watts, volts].into_iter().flatten().collect();
    (!all.is_empty()).then(|| all.join(between))
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_core::{Cure, Mhz, Millivolt, Watt};

    #[test]
    fn a_report_names_clocks_load_limiter_and_both_cures() {
        let mut report = StockReport {
            load: "kiln".into(),
            advertised: Mhz(2_085.0),
            reached: Mhz(1_964.0),
            limiter: Some((Limiter::Power, 0.96)),
            more_power: Some(Cure { amount: Watt(31.4), measured: true }),
            less_voltage: Some(Cure { amount: Millivolt(45.0), measured: false }),
        };
        assert_eq!(
            stock(&report),
            "Advertised 2085 MHz, reached 1964 MHz under kiln, 96 % of the time power-limited. What would close the \
             gap: 31 W more (measured), or 45 mV less (estimated)."
        );
        assert_eq!(cure_in_short(&report).unwrap(), "31 W more, ≈ 45 mV less");
        (report.more_power, report.less_voltage) = (None, None);
        report.limiter = Some((Limiter::Heat, 0.5));
        assert_eq!(
            stock(&report),
            "Advertised 2085 MHz, reached 1964 MHz under kiln, limited by heat 50 % of the time."
        );
    }
}
