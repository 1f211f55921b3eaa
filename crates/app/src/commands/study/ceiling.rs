//! `yard-step study --ceiling`: what limits above the maker's bring on many stand-ins.

use std::fmt::Write as _;

use yard_step_core::Plan;
use yard_step_study::{CeilingStudy, CeilingSummary, ceiling_summaries};

use super::{Document, Files, StudyOptions, belongs_to_policies, kinds_of, with_progress};
use crate::failure::Failure;

pub(super) fn study_ceiling(
    options: &StudyOptions,
    mut plan: Plan,
    raise_percent: f64,
    files: &Files,
) -> Result<(), Failure> {
    belongs_to_policies(options, "--ceiling")?;
    if options.load.is_none() {
        // The load that power holds back.
        plan.scene = "kiln".into();
    }
    let study = CeilingStudy {
        first_seed: options.first_seed,
        cards: options.cards as usize,
        kinds: kinds_of(options),
        plan,
        raise_percent,
        threads: std::thread::available_parallelism().map_or(1, usize::from),
    };
    let rows = with_progress(study.cards, |done| study.run(done))?;
    let table = ceiling_summaries(&rows);
    let of = (study.first_seed, &study.plan);
    files.write(&Document::new("yard-step-study-of-ceiling", of, &table, &rows))?;
    files.say(&told(&study, &table))
}

/// The table, and what its columns mean.
fn told(study: &CeilingStudy, table: &[CeilingSummary]) -> String {
    let mut text = format!(
        "{} cards from seed {} on, under {}: baseline, power and core, with the maker's limits and with power and current {} % higher.\n\n",
        study.cards, study.first_seed, study.plan.scene, study.raise_percent
    );
    text += "kind         cards  power-limited   gained   watts  hotter  not holding  machine downs in 100 h\n";
    for row in table {
        let _ = writeln!(
            text,
            "{:<11}  {:>5}  {:>13}  {:>+5.2} %  {:>+4.0} W  {:>+4.1} K  {:>4}, {:>4}   {:>9.1}, {:>9.1}",
            row.kind.as_deref().unwrap_or("all"),
            row.cards.0,
            row.cards.1,
            row.gained_percent,
            row.watts,
            row.hotter_k,
            row.not_holding.0,
            row.not_holding.1,
            row.downs_per_100_hours.0,
            row.downs_per_100_hours.1,
        );
    }
    text += "\npower-limited: power holds the clock back for a fifth of the time or more at the maker's highest limit; all columns after it are of \
             these.\ngained, watts, hotter: at what is kept, raised less the maker's, medians.\nnot holding, machine downs: with the maker's limits, \
             with the raised ones.\n";
    text
}
