//! What settling gave and cost.

use yard_step_core::{Fan, MhzOffset, SettingKind, Settings, SettleReport, SettleStep};

/// What settling came to, in a sentence or two.
#[must_use]
pub fn settled(report: &SettleReport) -> String {
    if report.steps.is_empty() {
        return "Nothing was lowered yet.".into();
    }
    if report.steps.iter().all(|step| !step.kept) {
        return format!(
            "Nothing is lowered: every step costs more than {:.1} %, or leaves the core too hot.",
            report.permitted_percent
        );
    }
    let proof = if report.settings.is_some() { "" } else { " It is not proven yet." };
    let back = [("core", report.clocks_back.core), ("memory", report.clocks_back.memory)];
    let back: Vec<String> = back
        .into_iter()
        .filter(|(_, by)| *by > MhzOffset::STOCK)
        .map(|(clock, by)| format!("{clock} {} MHz", by.0))
        .collect();
    let back = match back.is_empty() {
        true => String::new(),
        false => format!(" For the heat, clocks went back: {}.", back.join(", ")),
    };
    format!(
        "{}, for {:.1} % of the {} at most ({:.1} % permitted).{back}{proof}",
        gained(report.quieter.value(), report.cooler, report.saved.value()),
        report.lost_percent,
        if report.before.frame_cap.is_some() { "frame rate" } else { "score" },
        report.permitted_percent,
    )
}

/// Each step that was measured, a line each.
#[must_use]
pub fn settle_steps(report: &SettleReport) -> Vec<String> {
    report.steps.iter().map(step).collect()
}

fn step(step: &SettleStep) -> String {
    let SettleStep { kind, from, to, lost_percent, quieter, cooler, saved, kept } = step;
    let gained = match kind {
        SettingKind::Fan => gained(quieter.value(), *cooler, saved.value()),
        _ => gained(0.0, *cooler, saved.value()),
    };
    let verdict = if *kept { "kept" } else { "not kept" };
    format!("{} {from} → {to}: {gained}, {lost_percent:+.1} % lost, {verdict}", kind.label())
}

/// What a profile's fan means for its proof, where its settings ran with another one.
#[must_use]
pub fn kept_fan(kept: &Settings, ran: &Settings) -> Option<String> {
    let automatic = |settings: &Settings| settings.fan.unwrap_or(Fan::Automatic);
    (automatic(kept) != automatic(ran)).then(|| {
        format!(
            "Its fan: {}. It ran with {}, so runs with its own fan must prove it.",
            kept.show(SettingKind::Fan),
            ran.show(SettingKind::Fan)
        )
    })
}

/// Decibels, degrees and watts gained, those that are worth a word.
fn gained(quieter: f64, cooler: f64, saved: f64) -> String {
    let mut all = Vec::new();
    if quieter.abs() >= 0.05 {
        all.push(format!(
            "{:.1} dB {}",
            quieter.abs(),
            if quieter > 0.0 { "quieter" } else { "louder" }
        ));
    }
    if cooler.abs() >= 0.5 {
        all.push(format!(
            "{:.0} K {}",
            cooler.abs(),
            if cooler > 0.0 { "cooler" } else { "hotter" }
        ));
    }
    if saved.abs() >= 0.5 {
        all.push(format!("{:.0} W {}", saved.abs(), if saved > 0.0 { "less" } else { "more" }));
    }
    if all.is_empty() { "nothing gained".into() } else { all.join(", ") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Decibel, Pair, Percent, Watt};

    fn report(kept: bool) -> SettleReport {
        SettleReport {
            before: Settings::default(),
            steps: vec![SettleStep {
                kind: SettingKind::Fan,
                from: "100 %".into(),
                to: "60 %".into(),
                lost_percent: 0.6,
                quieter: Decibel(11.1),
                cooler: -8.0,
                saved: Watt(5.4),
                kept,
            }],
            permitted_percent: 1.0,
            lost_percent: 0.9,
            quieter: Decibel(11.1),
            cooler: -8.0,
            saved: Watt(5.4),
            clocks_back: Pair { core: MhzOffset(15), memory: MhzOffset(0) },
            settings: Some(Settings::default()),
        }
    }

    #[test]
    fn what_was_gained_stands_before_what_it_costs() {
        assert_eq!(
            settled(&report(true)),
            "11.1 dB quieter, 8 K hotter, 5 W less, for 0.9 % of the score at most (1.0 % permitted). \
             For the heat, clocks went back: core 15 MHz."
        );
        assert_eq!(
            settle_steps(&report(true)),
            ["fan 100 % → 60 %: 11.1 dB quieter, 8 K hotter, 5 W less, +0.6 % lost, kept"]
        );
    }

    #[test]
    fn a_fan_other_than_that_of_its_runs_is_said() {
        let at = |fan| Settings { fan: Some(fan), ..Settings::default() };
        let full = at(Fan::Fixed(Percent(100.0)));
        assert_eq!(
            kept_fan(&at(Fan::Automatic), &full).unwrap(),
            "Its fan: automatic. It ran with 100 %, so runs with its own fan must prove it."
        );
        assert_eq!(kept_fan(&full, &full), None);
        assert_eq!(kept_fan(&at(Fan::Automatic), &Settings::default()), None);
    }

    #[rstest]
    #[case::nothing_kept(report(false), "Nothing is lowered: every step costs more than 1.0 %")]
    #[case::not_proven(SettleReport { settings: None, ..report(true) }, "not proven yet")]
    #[case::capped(SettleReport { before: Settings { frame_cap: Some(60), ..Settings::default() }, ..report(true) }, "0.9 % of the frame rate")]
    #[case::not_begun(SettleReport { steps: vec![], ..report(true) }, "Nothing was lowered yet")]
    fn what_is_missing_is_said(#[case] report: SettleReport, #[case] told: &str) {
        assert!(settled(&report).contains(told), "{}", settled(&report));
    }
}
