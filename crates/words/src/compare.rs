//! Two trials side by side.

use yard_step_core::compare::Finding;

use crate::text::against_chance;

/// What two trials come to side by side, in a sentence or two.
#[must_use]
pub fn finding(finding: &Finding) -> String {
    match finding {
        Finding::TwoCards => "Two cards: what one reaches says little about the other.".into(),
        Finding::TwoLoads { one, other } => format!(
            "Their loads differ, {one} and {other}: scores of different loads are not comparable."
        ),
        Finding::ProvesNothing { is_second, verdict } => {
            let which = if *is_second { "second" } else { "first" };
            format!("The {which} is {verdict}: it proves nothing.")
        }
        Finding::NoScore => "One of the trials has no score.".into(),
        Finding::Scores { gain_percent, by_chance, room_differs, fans_differ } => {
            let chance = match by_chance {
                None => "how much of it is chance is unknown without two runs at stock".to_owned(),
                Some(bound) => against_chance(*gain_percent, bound.value()),
            };
            format!(
                "The second is {:.1} % {}: {chance}.{}{}",
                gain_percent.abs(),
                if *gain_percent < 0.0 { "slower" } else { "faster" },
                if *room_differs { " The room differed." } else { "" },
                if *fans_differ { " The fans ran at different speeds." } else { "" }
            )
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Percent, Verdict};

    fn scores(gain_percent: f64, by_chance: Option<f64>, differs: (bool, bool)) -> Finding {
        let by_chance = by_chance.map(Percent);
        let (room_differs, fans_differ) = differs;
        Finding::Scores { gain_percent, by_chance, room_differs, fans_differ }
    }

    #[rstest]
    #[case(Finding::TwoCards, "Two cards: what one reaches says little about the other.")]
    #[case(
        Finding::TwoLoads { one: "kiln".into(), other: "loom".into() },
        "Their loads differ, kiln and loom: scores of different loads are not comparable."
    )]
    #[case(
        Finding::ProvesNothing { is_second: false, verdict: Verdict::Void },
        "The first is void: it proves nothing."
    )]
    #[case(
        Finding::ProvesNothing { is_second: true, verdict: Verdict::NotTaken },
        "The second is not taken: it proves nothing."
    )]
    #[case(Finding::NoScore, "One of the trials has no score.")]
    #[case(
        scores(2.0, Some(0.6), (false, false)),
        "The second is 2.0 % faster: more than chance (±0.6 %)."
    )]
    #[case(
        scores(-2.0, Some(6.1), (true, false)),
        "The second is 2.0 % slower: no more than chance (±6.1 %). The room differed."
    )]
    #[case(
        scores(-2.0, None, (true, true)),
        "The second is 2.0 % slower: how much of it is chance is unknown without two runs at stock. The room differed. The fans ran at different speeds."
    )]
    fn a_finding_claims_no_more_than_can_be_compared(#[case] of: Finding, #[case] told: &str) {
        assert_eq!(finding(&of), told);
    }
}
