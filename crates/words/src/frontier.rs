//! Work against what it costs.

use yard_step_core::{Cost, Energy, Frontier, LEAST_LONG_RUN};

/// What more or less energy comes to, such as "+27 Wh an hour, +30 kWh a year, +9.00 EUR a year".
#[must_use]
pub fn energy(energy: &Energy) -> String {
    let Energy { an_hour, a_year, cost } = energy;
    let cost = cost.as_ref().map_or(String::new(), |(cost, unit)| {
        let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
        format!(", {cost:+.2}{unit} a year")
    });
    format!("{an_hour:+.0} Wh an hour, {a_year:+.0} kWh a year{cost}")
}

/// What there is to say of a frontier, in a sentence or two.
#[must_use]
pub fn frontier(frontier: &Frontier) -> String {
    let unit = frontier.cost.unit();
    let Some((first, last)) = frontier.ends() else {
        return "Nothing that held was measured yet.".into();
    };
    if frontier.frontier.len() == 1 {
        return format!(
            "One point beats all others: {}, {:.0} {unit}. More work for more {} was not found.",
            first.what,
            first.cost,
            frontier.cost.what()
        );
    }
    let Some(knee) = frontier.knee.and_then(|knee| frontier.point(knee)) else {
        let inner = frontier.frontier.iter().skip(1).filter_map(|place| frontier.point(*place));
        let unproven = inner.take(frontier.frontier.len() - 2).any(|point| point.is_unproven());
        if unproven {
            return format!(
                "No knee is recommended: what lies between {:.0} and {:.0} {unit} ran for less than {} or failed.",
                first.cost,
                last.cost,
                LEAST_LONG_RUN.in_words()
            );
        }
        return format!(
            "There is no knee: work rises evenly from {:.0} to {:.0} {unit}, {:.2} % for each.",
            first.cost,
            last.cost,
            first.slope_to(last)
        );
    };
    format!(
        "The knee is {}, {:.0} {unit}: below it each {unit} less costs {:.2} % of the work, above it \
         each {unit} more brings {:.2} %.",
        knee.what,
        knee.cost,
        first.slope_to(knee),
        knee.slope_to(last)
    )
}

/// Work and cost of a point against stock; none without stock, and for stock itself.
#[must_use]
pub fn beside_stock(frontier: &Frontier, place: usize) -> Option<String> {
    let beside = frontier.beside_stock(place)?;
    let what = frontier.cost.what();
    let cost = match frontier.cost {
        // Watts have a zero; degrees and decibels do not.
        Cost::Watts => format!(
            "{:+.1} % {what}, {:+.1} % work per watt",
            beside.cost_percent, beside.per_cost_percent
        ),
        Cost::Degrees => format!("{:+.0} K {what}", beside.cost),
        Cost::Decibels => format!("{:+.1} dB {what}", beside.cost),
    };
    Some(format!("{:+.1} % work at {cost} against stock", beside.work_percent))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{FrontierPoint, Seconds, Settings};

    fn point(what: &str, score: f64, cost: f64) -> FrontierPoint {
        FrontierPoint {
            settings: Settings::default(),
            what: what.into(),
            newest: (1, 1),
            runs: 1,
            seconds: LEAST_LONG_RUN,
            score,
            cost,
            failed: None,
            is_stock: what == "stock",
            is_on_frontier: true,
            error: 2.0,
            is_dominated: false,
        }
    }

    /// The frontier of points that are all on it.
    fn of(cost: Cost, points: Vec<FrontierPoint>, knee: Option<usize>) -> Frontier {
        let stock = points.iter().position(|point| point.is_stock);
        Frontier { cost, frontier: (0..points.len()).collect(), points, knee, stock }
    }

    fn three() -> Vec<FrontierPoint> {
        vec![
            point("−60 mV", 900.0, 150.0),
            point("−30 mV", 980.0, 170.0),
            point("stock", 1_000.0, 200.0),
        ]
    }

    #[rstest]
    #[case(vec![], None, "Nothing that held was measured yet.")]
    #[case(
        vec![point("stock", 1_000.0, 200.0)],
        None,
        "One point beats all others: stock, 200 W. More work for more board power was not found."
    )]
    #[case(
        three(),
        None,
        "There is no knee: work rises evenly from 150 to 200 W, 0.22 % for each."
    )]
    #[case(
        vec![
            three().remove(0),
            FrontierPoint { seconds: Seconds(180.0), ..three().remove(1) },
            three().remove(2),
        ],
        None,
        "No knee is recommended: what lies between 150 and 200 W ran for less than 10 min or failed."
    )]
    #[case(
        three(),
        Some(1),
        "The knee is −30 mV, 170 W: below it each W less costs 0.44 % of the work, above it each W more brings 0.07 %."
    )]
    fn a_frontier_is_told_by_its_knee_or_its_ends(
        #[case] points: Vec<FrontierPoint>,
        #[case] knee: Option<usize>,
        #[case] told: &str,
    ) {
        assert_eq!(frontier(&of(Cost::Watts, points, knee)), told);
    }

    #[rstest]
    #[case(Cost::Watts, "-2.0 % work at -15.0 % board power, +15.3 % work per watt against stock")]
    #[case(Cost::Degrees, "-2.0 % work at -30 K hot spot against stock")]
    #[case(Cost::Decibels, "-2.0 % work at -30.0 dB fan noise against stock")]
    fn a_point_is_held_against_stock_in_the_unit_that_makes_sense(
        #[case] cost: Cost,
        #[case] told: &str,
    ) {
        let frontier = of(cost, three(), None);
        assert_eq!(beside_stock(&frontier, 1).as_deref(), Some(told));
        assert_eq!(beside_stock(&frontier, 2), None, "stock itself");
        assert_eq!(beside_stock(&of(cost, three()[..2].to_vec(), None), 1), None, "no stock");
    }
}
