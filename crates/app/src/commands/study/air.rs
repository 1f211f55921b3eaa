//! `yard-step study --air`: heat, noise and livable settings on many stand-ins.

use std::fmt::Write as _;

use yard_step_core::Plan;
use yard_step_study::{AirStudy, AirSummary, air_summaries};

use super::{Document, Files, StudyOptions, families_of, kinds_of, with_progress};
use crate::failure::Failure;

pub(super) fn study_air(options: &StudyOptions, plan: Plan, files: &Files) -> Result<(), Failure> {
    let is_of_policies = options.svg.is_some()
        || options.learn > 1
        || options.flatter != 1.0
        || options.start_above.is_some()
        || options.physics.len() > 1;
    if is_of_policies {
        return Err(Failure::usage(
            "--svg, --flatter, --start-above, --learn and several families belong to the study of policies: omit them with --air",
        ));
    }
    let study = AirStudy {
        first_seed: options.first_seed,
        cards: options.cards as usize,
        kinds: kinds_of(options),
        family: families_of(&options.physics)?.into_iter().next().map(|(_, family)| family),
        plan,
        threads: std::thread::available_parallelism().map_or(1, usize::from),
    };
    let rows = with_progress(study.cards, |done| study.run(done))?;
    let table = air_summaries(&rows);
    let of = (study.first_seed, &study.plan);
    files.write(&Document::new("yard-step-study-of-air", of, &table, &rows))?;
    files.say(&told(&study, &table))
}

/// The table, and what its columns mean.
fn told(study: &AirStudy, table: &[AirSummary]) -> String {
    let mut text = format!(
        "{} cards from seed {} on, scene {}: a climb, then settle with at most {} % of the score lost.\n\n",
        study.cards, study.first_seed, study.plan.scene, study.plan.settle.loss_percent
    );
    text += "kind         plateau  in budget  clock kept  loss told  at +8 K  quieter  score lost, nine of ten  \
             power saved  not holding  not settled  minutes\n";
    for row in table {
        let of = |(count, all): (usize, usize)| format!("{count} of {all}");
        let kind = row.kind.as_deref().unwrap_or("all");
        let _ = writeln!(
            text,
            "{kind:<11}  {:>5.1} %  {:>9}  {:>10}  {:>9}  {:>7}  {:>4.1} dB  {:>9.2} %  {:>9.2} %  {:>9.1} %  {:>11}  {:>11}  {:>7.0}",
            row.plateaus_right * 100.0,
            of(row.in_budget),
            of(row.clock_kept),
            of((row.loss_told.0, row.cards)),
            of((row.loss_told.1, row.cards)),
            row.quieter_db,
            row.lost_percent.0,
            row.lost_percent.1,
            row.saved_percent,
            of(row.not_holding),
            row.not_settled,
            row.minutes,
        );
    }
    text += "\nplateau: core temperatures at fan speeds that the climb did not run, foretold within 2 K.\n\
             in budget, clock kept: under a fan curve drawn for a noise budget, of the cards of which that was said, those \
             whose noise stays in it, and whose clock stays within one bin.\nloss told, at +8 K: cards whose loss of clock \
             under that curve was told within one bin or 0.5 % of the clock, in the stated room and in one that is 8 K warmer.\n\
             quieter, score lost, power saved: what settling gives and costs against what the search found, medians.\n\
             not holding: settled settings whose true chance of a day with their own fan is below 99 %, of \
             the cards on which what the search found holds.\n";
    text
}
