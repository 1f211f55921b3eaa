//! `yard-step report`: the chart of a climb as a file.

use std::fs;

use yard_step_ledger::{ClimbEntry, Ledger};
use yard_step_report::{KeptRun, draw_svg};

use crate::cli::{DataDirOption, ReportOptions};
use crate::failure::Failure;
use crate::files::ChartKind;
use crate::open::open_ledger;

pub(crate) fn report(data_dir: &DataDirOption, options: &ReportOptions) -> Result<(), Failure> {
    let kind = ChartKind::of(&options.out).map_err(Failure::usage)?;
    let (ledger, told) = open_ledger(&data_dir.resolve()?)?;
    if let Some(line) = told {
        eprintln!("{line}");
    }
    let entry = ledger.climb(options.climb)?;
    let svg = draw_svg(&entry, kept_run(&ledger, &entry)?.as_ref())?;
    fs::write(&options.out, kind.bytes(&svg)?).map_err(|error| {
        Failure::failed(format!(
            "cannot write {}: {error}. Name another file with --out.",
            options.out.display()
        ))
    })?;
    crate::cards::print(&format!("Climb {} is drawn in {}.\n", entry.id, options.out.display()))
}

/// The run that shows what is kept or, before there is an outcome, the newest one.
fn kept_run(ledger: &Ledger, entry: &ClimbEntry) -> Result<Option<KeptRun>, Failure> {
    let kept = yard_step_report::kept_trial(entry)?;
    let found = entry.trials.iter().find(|trial| Some(trial.record.number) == kept);
    let Some(trial) = found else { return Ok(None) };
    Ok(Some(KeptRun { number: trial.record.number, samples: ledger.samples(trial.id)? }))
}
