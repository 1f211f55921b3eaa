//! `yard-step study --proof`: what is stated of soaked settings, on many stand-ins of all families.

use std::fmt::Write as _;

use yard_step_core::Plan;
use yard_step_study::{ProofRow, ProofStudy, ProofSummary, proof_summary};

use super::{Document, Files, StudyOptions, families_of, kinds_of, with_progress};
use crate::failure::Failure;

pub(super) fn study_proof(
    options: &StudyOptions,
    plan: Plan,
    files: &Files,
) -> Result<(), Failure> {
    let is_of_policies = options.svg.is_some()
        || options.learn > 1
        || options.flatter != 1.0
        || options.start_above.is_some();
    if is_of_policies {
        return Err(Failure::usage(
            "--svg, --flatter, --start-above and --learn belong to the study of policies: omit them with --proof",
        ));
    }
    let named = match options.physics.is_empty() {
        true => vec!["all".to_owned()],
        false => options.physics.clone(),
    };
    let study = ProofStudy {
        first_seed: options.first_seed,
        cards: options.cards as usize,
        kinds: kinds_of(options),
        families: families_of(&named)?,
        plan,
        reserve: options.reserve,
        threads: std::thread::available_parallelism().map_or(1, usize::from),
    };
    let rows = with_progress(study.cards, |done| study.run(done))?;
    let summary = proof_summary(&rows);
    let of = (study.first_seed, &study.plan);
    let table = [summary.clone()];
    files.write(&Document::new("yard-step-study-of-proof", of, &table, &rows))?;
    files.say(&told(&study, &summary, &rows))
}

/// The tables, and what their columns mean.
fn told(study: &ProofStudy, of: &ProofSummary, rows: &[ProofRow]) -> String {
    let mut text = format!(
        "{} cards from seed {} on, over {} families: a climb, a night of soak, and a soak until a day is proven.\n\n",
        study.cards,
        study.first_seed,
        study.families.len()
    );
    let _ = writeln!(
        text,
        "called proven for daily use: {} of {}, after {:.0} h (median); not holding a day: {}\n\
         after a night: {:.1} % stated, {:.1} % true\n\
         faults that only menus or load changes provoke, found within a night: {} of {}\n",
        of.proven,
        of.cards,
        of.hours_median,
        of.not_holding,
        of.night_percent.0,
        of.night_percent.1,
        of.weak.1,
        of.weak.0,
    );
    text += "stated          soaks   stated     true\n";
    for tenth in &of.tenths {
        let _ = writeln!(
            text,
            "{:>3.0} to {:>3.0} %  {:>8}  {:>5.1} %  {:>5.1} %",
            tenth.from_percent,
            tenth.to_percent,
            tenth.soaks,
            tenth.stated_percent,
            tenth.true_percent
        );
    }
    text += "\nfamily            cards  proven  not holding  night: stated    true\n";
    for (name, _) in &study.families {
        let own: Vec<ProofRow> = rows.iter().filter(|row| row.family == *name).cloned().collect();
        if own.is_empty() {
            continue;
        }
        let summary = proof_summary(&own);
        let _ = writeln!(
            text,
            "{name:<16}  {:>5}  {:>6}  {:>11}  {:>11.1} %  {:>5.1} %",
            summary.cards,
            summary.proven,
            summary.not_holding,
            summary.night_percent.0,
            summary.night_percent.1
        );
    }
    text += "\nstated: the chance of a day made of the soak's loads, before a soak, after a night and when proven.\n\
             true: the same by the stand-ins' truth, at the settings that stand after the soak.\n\
             not holding: of those called proven for daily use (99 % stated), those whose true chance of a day is below 99 %.\n";
    text
}
