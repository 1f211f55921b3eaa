//! What a stage came to, in words.

use yard_step_core::{CardDescription, Gain, MhzOffset, figure_in_words, in_short};
use yard_step_engine::{EdgeFound, Found};

/// What a stage came to, in a sentence or two.
pub(crate) fn in_words(found: &Found, card: &CardDescription) -> String {
    match found {
        Found::Baseline(baseline) if baseline.by_clock => format!(
            "The load has no figures: average clock {}, noise {:.2} %.",
            baseline.average_clock,
            baseline.noise.value()
        ),
        Found::Baseline(baseline) => {
            let score = figure_in_words(baseline.score);
            format!("Score {score}, noise {:.2} %.", baseline.noise.value())
        }
        Found::Power(report) => yard_step_words::power(report),
        Found::Edge(edge) => edge_in_words(edge),
        Found::Together(settings, claim) => {
            let claim =
                claim.map_or(String::new(), |claim| format!(" {}", yard_step_words::claim(&claim)));
            format!("{}.{claim}", in_short(settings, card))
        }
        Found::Undervolt(report) => yard_step_words::strategy(report),
        Found::Settled(report) => yard_step_words::settled(report),
        Found::Round(report, names) => {
            format!("{}{}", yard_step_words::round(report), where_it_pays(&report.sections, names))
        }
    }
}

fn edge_in_words(edge: &EdgeFound) -> String {
    let gain = edge.gain.filter(|_| edge.kept != MhzOffset::STOCK);
    let gain = gain.map_or(String::new(), |(gain, error, known)| {
        let sure = match known {
            Gain::Clear => "",
            Gain::NotThere => ", no gain",
            Gain::Open => ", not clear of the noise",
        };
        format!(" ({:+.1} ± {:.1} %{sure})", gain * 100.0, error * 100.0)
    });
    let show = |value| edge.axis.show(value);
    let band = edge.band.map_or(String::new(), |(low, high)| {
        format!(", edge between {} and {} (90 %)", show(low), show(high))
    });
    let slower = yard_step_words::stable_yet_slower(&edge.slower);
    let slower = slower.map_or(String::new(), |why| format!(" {why}"));
    let at_stock = edge.at_stock.as_ref().map(yard_step_words::at_stock);
    let at_stock = at_stock.map_or(String::new(), |why| format!(" {why}"));
    format!("{}{gain}{band}.{at_stock}{slower}", show(edge.kept))
}

/// For which sections of the load a round pays, the most first, where they are told apart.
fn where_it_pays(sections: &[(usize, f64)], names: &[&str]) -> String {
    /// A smaller difference of a section is not told.
    const LEAST: f64 = 0.2;
    let mut named: Vec<(&str, f64)> = sections
        .iter()
        .filter_map(|(section, gain)| Some((*names.get(*section)?, *gain)))
        .filter(|(_, gain)| gain.abs() >= LEAST)
        .collect();
    named.sort_by(|a, b| b.1.total_cmp(&a.1));
    let told = |pays: bool| {
        let of = named.iter().filter(|(_, gain)| (*gain > 0.0) == pays);
        of.map(|(name, gain)| format!("{name} {gain:+.1} %")).collect::<Vec<_>>().join(", ")
    };
    match (told(true).as_str(), told(false).as_str()) {
        ("", "") => String::new(),
        (pays, "") => format!(" It pays in {pays}."),
        ("", costs) => format!(" It costs in {costs}."),
        (pays, costs) => format!(" It pays in {pays}; it costs in {costs}."),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::card;
    use rstest::rstest;
    use yard_step_core::{AtStock, Axis, Domain, Margin};
    use yard_step_scenes::Scene;

    #[rstest]
    #[case(&[(0, 1.24), (1, -3.0), (2, 0.61), (3, 0.1)], " It pays in kiln +1.2 %, loom +0.6 %; it costs in sluice -3.0 %.")]
    #[case(&[(0, 0.5)], " It pays in kiln +0.5 %.")]
    #[case(&[(1, -0.5)], " It costs in sluice -0.5 %.")]
    #[case(&[(1, 0.05)], "")]
    #[case(&[(99, 5.0)], "")]
    fn for_which_scenes_a_round_pays_is_told(
        #[case] sections: &[(usize, f64)],
        #[case] told: &str,
    ) {
        assert_eq!(where_it_pays(sections, Scene::Medley.sections()), told);
    }

    #[test]
    fn a_clock_that_stays_at_stock_has_no_gain_but_a_reason() {
        let margin = Margin::Daily;
        let at_stock = AtStock::NotSure {
            held: None,
            failed: Some("+15 MHz".into()),
            margin,
            by_price: false,
        };
        let edge = EdgeFound {
            axis: Axis::of(&card(), Domain::Core).unwrap(),
            kept: MhzOffset::STOCK,
            gain: Some((0.0, 0.0, Gain::NotThere)),
            band: None,
            slower: Vec::new(),
            at_stock: Some(at_stock),
        };
        let told = "±0 MHz. +15 MHz failed, but no clock above stock is sure to stand 24 h.";
        assert_eq!(edge_in_words(&edge), told);
    }

    #[rstest]
    #[case(Some((0.021, 0.002, Gain::Clear)), "+60 MHz (+2.1 ± 0.2 %), edge between +45 MHz and +90 MHz (90 %).")]
    #[case(Some((0.001, 0.002, Gain::NotThere)), "+60 MHz (+0.1 ± 0.2 %, no gain), edge between")]
    #[case(Some((0.004, 0.003, Gain::Open)), "+60 MHz (+0.4 ± 0.3 %, not clear of the noise), edge")]
    #[case(None, "+60 MHz, edge between +45 MHz and +90 MHz (90 %).")]
    fn an_edge_is_told_with_its_gain_and_its_band(
        #[case] gain: Option<(f64, f64, Gain)>,
        #[case] told: &str,
    ) {
        let edge = EdgeFound {
            axis: Axis::of(&card(), Domain::Core).unwrap(),
            kept: MhzOffset(60),
            gain,
            band: Some((MhzOffset(45), MhzOffset(90))),
            slower: Vec::new(),
            at_stock: None,
        };
        assert!(edge_in_words(&edge).starts_with(told), "{}", edge_in_words(&edge));
    }
}
