//! The figures of a study.

use serde::Serialize;
use yard_step_card::CardChoice;
use yard_step_core::Policy;

use crate::climbing::Climbed;
use crate::distinct;
use crate::truth::{Look, Truth};

/// One policy on one card.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Row {
    /// Kind of the card.
    pub kind: String,
    /// Its seed.
    pub seed: u64,
    /// Policy climbed by.
    pub policy: Policy,
    /// Climbs on its kind of card that this one had learnt from.
    pub earlier: usize,
    /// Trials made.
    pub trials: usize,
    /// Time under load, minutes.
    pub minutes: f64,
    /// Trials that took the machine down.
    pub machine_downs: usize,
    /// Trials in which the driver reset the card.
    pub driver_resets: usize,
    /// Core clock kept, MHz from stock.
    pub core_mhz: i32,
    /// Memory clock kept, MHz from stock.
    pub memory_mhz: i32,
    /// Core clock of the true best; none where nothing holds.
    pub best_core_mhz: Option<i32>,
    /// Memory clock of the true best.
    pub best_memory_mhz: Option<i32>,
    /// Score at what was kept, without the scatter of runs.
    pub score: f64,
    /// Score of the true best.
    pub best_score: Option<f64>,
    /// By how much the kept score is below the true best, in percent of it.
    pub gap_percent: Option<f64>,
    /// True chance of a day at what was kept, 0 to 1.
    pub chance: f64,
    /// Whether that is at least 99 %.
    pub holds: bool,
    /// Chance of a day that the climb itself claimed, where it claimed one.
    pub claimed: Option<f64>,
    /// Share of the ranges told of what was left that held it, 0 to 1; none where none was told.
    pub ranges_held: Option<f64>,
    /// Whether the climb could not go on.
    pub stuck: bool,
}

impl Row {
    pub(crate) fn new(
        kind: &CardChoice,
        seed: u64,
        policy: Policy,
        climbed: &Climbed,
        kept: Look,
        truth: Option<Truth>,
    ) -> Self {
        let score = kept.score;
        let outcome = &climbed.outcome;
        Self {
            kind: kind.to_string().replace("standin:", ""),
            seed,
            policy,
            earlier: 0,
            trials: outcome.trials,
            minutes: outcome.test_seconds.value() / 60.0,
            machine_downs: climbed.machine_downs,
            driver_resets: climbed.driver_resets,
            core_mhz: outcome.pair.core.0,
            memory_mhz: outcome.pair.memory.0,
            best_core_mhz: truth.map(|truth| truth.pair.core.0),
            best_memory_mhz: truth.map(|truth| truth.pair.memory.0),
            score,
            best_score: truth.map(|truth| truth.score),
            gap_percent: truth.map(|truth| (1.0 - score / truth.score) * 100.0),
            chance: kept.chance,
            holds: kept.holds(),
            claimed: outcome.claim.map(|claim| claim.in_all()),
            ranges_held: climbed.ranges_held(),
            stuck: climbed.stuck.is_some(),
        }
    }
}

/// How much the climbs of a summary had learnt from others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Learnt {
    /// Nothing: each was the first on its kind of card.
    Nothing,
    /// From three others at least.
    FromThree,
}

impl Learnt {
    fn fits(self, earlier: usize) -> bool {
        match self {
            Self::Nothing => earlier == 0,
            Self::FromThree => earlier >= 3,
        }
    }
}

/// One policy over many cards.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Summary {
    /// The policy.
    pub policy: Policy,
    /// The kind of cards; none for all of them.
    pub kind: Option<String>,
    /// How much the climbs had learnt; none for all of them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub learnt: Option<Learnt>,
    /// Cards.
    pub cards: usize,
    /// Share of kept settings that do not hold a day with 99 %, in percent of the cards that hold at stock.
    pub not_holding_percent: f64,
    /// Cards that do not even hold at stock.
    pub never_holding: usize,
    /// Mean of the chances of a day that the climbs claimed, in percent; none where none claimed any.
    pub claimed_percent: Option<f64>,
    /// Mean of the true chances of those, in percent.
    pub true_percent: Option<f64>,
    /// Gap to the true best score in percent: median of those that hold or not.
    pub gap_median_percent: f64,
    /// The gap that nine of ten do not exceed.
    pub gap_ninth_percent: f64,
    /// Median of how far the kept core clock is below that of the true best, MHz.
    pub core_gap_mhz: f64,
    /// Share of the ranges told of what was left that held it, in percent; none where none was told.
    pub ranges_held_percent: Option<f64>,
    /// Mean number of trials.
    pub trials: f64,
    /// Mean time under load, minutes.
    pub minutes: f64,
    /// Machine downs, all cards together.
    pub machine_downs: usize,
    /// Driver resets, all cards together.
    pub driver_resets: usize,
    /// Climbs that could not go on.
    pub stuck: usize,
}

impl Summary {
    fn of(policy: Policy, kind: Option<&str>, rows: &[&Row]) -> Self {
        let count = rows.len().max(1) as f64;
        let of_claims = |of: fn(f64, f64) -> f64| {
            let claims = rows.iter().filter_map(|row| Some(of(row.claimed?, row.chance) * 100.0));
            yard_step_core::statistics::mean(&claims.collect::<Vec<_>>())
        };
        let mean = |of: fn(&Row) -> f64| rows.iter().map(|row| of(row)).sum::<f64>() / count;
        let quantile = |share: f64, of: fn(&Row) -> Option<f64>| {
            let values: Vec<f64> = rows.iter().filter_map(|row| of(row)).collect();
            yard_step_core::statistics::quantile(&values, share).unwrap_or_default()
        };
        Self {
            policy,
            kind: kind.map(str::to_owned),
            learnt: None,
            cards: rows.len(),
            not_holding_percent: {
                let able: Vec<_> = rows.iter().filter(|row| row.best_score.is_some()).collect();
                let failed = able.iter().filter(|row| !row.holds).count();
                failed as f64 / able.len().max(1) as f64 * 100.0
            },
            never_holding: rows.iter().filter(|row| row.best_score.is_none()).count(),
            claimed_percent: of_claims(|claimed, _| claimed),
            true_percent: of_claims(|_, chance| chance),
            gap_median_percent: quantile(0.5, |row| row.gap_percent),
            gap_ninth_percent: quantile(0.9, |row| row.gap_percent),
            core_gap_mhz: quantile(0.5, |row| Some(f64::from(row.best_core_mhz? - row.core_mhz))),
            ranges_held_percent: {
                let held = rows.iter().filter_map(|row| Some(row.ranges_held? * 100.0));
                yard_step_core::statistics::mean(&held.collect::<Vec<_>>())
            },
            trials: mean(|row| row.trials as f64),
            minutes: mean(|row| row.minutes),
            machine_downs: rows.iter().map(|row| row.machine_downs).sum(),
            driver_resets: rows.iter().map(|row| row.driver_resets).sum(),
            stuck: rows.iter().filter(|row| row.stuck).count(),
        }
    }
}

/// Each policy over all cards, then, where climbs learnt from others, over those that had learnt nothing and those
/// that had learnt from three at least, then over each kind.
#[must_use]
pub fn summaries(rows: &[Row]) -> Vec<Summary> {
    let kinds = distinct(rows.iter().map(|row| row.kind.as_str()));
    let mut all = Vec::new();
    let learnt = rows.iter().any(|row| row.earlier > 0);
    let groups = learnt.then_some([Learnt::Nothing, Learnt::FromThree]).into_iter().flatten();
    let whole = std::iter::once((None, None)).chain(groups.map(|group| (None, Some(group))));
    for (kind, learnt) in whole.chain(kinds.into_iter().map(|kind| (Some(kind), None))) {
        for policy in Policy::ALL {
            let of: Vec<&Row> = rows
                .iter()
                .filter(|row| row.policy == policy && kind.is_none_or(|kind| row.kind == kind))
                .filter(|row| learnt.is_none_or(|learnt| learnt.fits(row.earlier)))
                .collect();
            if !of.is_empty() {
                all.push(Summary { learnt, ..Summary::of(policy, kind, &of) });
            }
        }
    }
    all
}

/// What is true of the climbs that claimed a chance in one tenth.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Reliability {
    /// Lower end of the tenth, percent.
    pub from_percent: f64,
    /// Its upper end.
    pub to_percent: f64,
    /// Climbs that claimed a chance in it.
    pub climbs: usize,
    /// Mean true chance of what they kept, percent.
    pub true_percent: f64,
}

/// Claimed against true chances of one policy, in tenths, where told of climbs that had learnt so much only; those that nobody claimed are left out.
#[must_use]
pub fn reliability(rows: &[Row], policy: Policy, learnt: Option<Learnt>) -> Vec<Reliability> {
    let tenth = |claimed: f64| ((claimed * 10.0) as usize).min(9);
    let of_tenth = |place: usize| {
        let true_chances: Vec<f64> = rows
            .iter()
            .filter(|row| learnt.is_none_or(|learnt| learnt.fits(row.earlier)))
            .filter(|row| row.policy == policy && row.claimed.is_some_and(|c| tenth(c) == place))
            .map(|row| row.chance * 100.0)
            .collect();
        Some(Reliability {
            from_percent: place as f64 * 10.0,
            to_percent: place as f64 * 10.0 + 10.0,
            climbs: true_chances.len(),
            true_percent: yard_step_core::statistics::mean(&true_chances)?,
        })
    };
    (0..10).filter_map(of_tenth).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn row(policy: Policy, kind: &str, seed: u64) -> Row {
        Row {
            kind: kind.into(),
            seed,
            policy,
            earlier: 0,
            trials: 20,
            minutes: 100.0,
            machine_downs: 0,
            driver_resets: 0,
            core_mhz: 90,
            memory_mhz: 100,
            best_core_mhz: Some(105),
            best_memory_mhz: Some(110),
            score: 990.0,
            best_score: Some(1_000.0),
            gap_percent: Some(1.0),
            chance: 0.995,
            holds: true,
            claimed: Some(0.992),
            ranges_held: None,
            stuck: false,
        }
    }

    fn many() -> Vec<Row> {
        (0..10)
            .map(|seed| Row {
                gap_percent: Some(seed as f64 / 10.0),
                holds: seed != 3,
                machine_downs: usize::from(seed < 2),
                driver_resets: 1,
                stuck: seed == 9,
                trials: 10 + seed as usize,
                minutes: 60.0 + seed as f64,
                ..row(Policy::Bayesian, if seed < 4 { "tarn-310" } else { "bracken-208" }, seed)
            })
            .collect()
    }

    #[test]
    fn a_summary_is_over_all_cards_and_then_over_each_kind() {
        let all = summaries(&many());
        let kinds: Vec<Option<&str>> = all.iter().map(|one| one.kind.as_deref()).collect();
        assert_eq!(kinds, [None, Some("bracken-208"), Some("tarn-310")]);
        let whole = &all[0];
        assert_eq!((whole.cards, whole.machine_downs, whole.driver_resets), (10, 2, 10));
        assert_eq!((whole.stuck, whole.trials, whole.minutes), (1, 14.5, 64.5));
        assert!((whole.not_holding_percent - 10.0).abs() < 1e-9);
        assert!((all[2].not_holding_percent - 25.0).abs() < 1e-9, "one of four");
        assert_eq!((all[1].cards, all[2].cards), (6, 4));
        assert_eq!(whole.core_gap_mhz, 15.0);
    }

    #[test]
    fn the_gap_is_told_by_its_middle_and_by_what_nine_of_ten_do_not_exceed() {
        let whole = &summaries(&many())[0];
        assert!((whole.gap_median_percent - 0.45).abs() < 1e-9, "{whole:?}");
        assert!((whole.gap_ninth_percent - 0.81).abs() < 1e-9, "{whole:?}");
        // What holds nowhere has no gap, and does not count as one of zero.
        let mut rows = many();
        rows.iter_mut().skip(1).for_each(|row| row.gap_percent = None);
        rows[0].gap_percent = Some(2.0);
        assert_eq!(summaries(&rows)[0].gap_median_percent, 2.0);
    }

    #[test]
    fn policies_are_told_one_by_one_and_those_that_were_not_run_are_left_out() {
        let rows = [row(Policy::FixedStep, "tarn-310", 1), row(Policy::Bayesian, "tarn-310", 1)];
        let told: Vec<Policy> = summaries(&rows)
            .into_iter()
            .filter(|one| one.kind.is_none())
            .map(|one| one.policy)
            .collect();
        assert_eq!(told, [Policy::FixedStep, Policy::Bayesian]);
        assert!(summaries(&[]).is_empty());
    }

    #[rstest]
    #[case("kind,seed,policy,earlier,trials,minutes", 0)]
    #[case("tarn-310,7,bayesian,0,20,100.0", 1)]
    fn rows_are_written_with_a_header(#[case] begins: &str, #[case] line: usize) {
        let mut text = Vec::new();
        crate::write_csv(&[row(Policy::Bayesian, "tarn-310", 7)], &mut text).unwrap();
        let text = String::from_utf8(text).unwrap();
        assert!(text.lines().nth(line).unwrap().starts_with(begins), "{text}");
        assert_eq!(text.lines().count(), 2);
    }
}
