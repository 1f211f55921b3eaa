//! `yard-step report`: the chart of a climb as a file.

use std::path::PathBuf;

use clap::Args;
use yard_step_ledger::{ClimbEntry, Ledger, LedgerError};
use yard_step_report::{KeptRun, draw_svg};

use crate::failure::Failure;
use crate::opening::open_ledger;
use crate::options::DataDirOption;
use crate::output::{ChartKind, Overwrite, Target, note};

#[derive(Debug, Args)]
pub(crate) struct ReportOptions {
    /// Number of the climb
    #[arg(long, value_name = "ID", allow_negative_numbers = true)]
    pub climb: i64,
    /// File to write, ending in .svg or .pdf; - is standard output
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
    #[command(flatten)]
    pub overwrite: Overwrite,
}

pub(crate) fn report(data_dir: &DataDirOption, options: &ReportOptions) -> Result<(), Failure> {
    let kind = ChartKind::of(&options.out).map_err(Failure::usage)?;
    let target = Target::new(&options.out, options.overwrite)?;
    let (ledger, told) = open_ledger(&data_dir.resolve()?)?;
    if let Some(line) = told {
        note(&line);
    }
    let entry = ledger.climb(options.climb).map_err(unknown)?;
    let svg = draw_svg(&entry, kept_run(&ledger, &entry)?.as_ref())?;
    target.write(&kind.bytes(&svg)?)?;
    target.say(&format!("The report of climb {} is in {}.", entry.id, target.shown()))
}

/// A number that no climb has is a usage error.
fn unknown(error: LedgerError) -> Failure {
    match error {
        LedgerError::NoClimb { .. } => Failure::usage(error),
        other => other.into(),
    }
}

/// The run that shows what is kept or, before there is an outcome, the newest one.
fn kept_run(ledger: &Ledger, entry: &ClimbEntry) -> Result<Option<KeptRun>, Failure> {
    let kept = yard_step_report::kept_trial(entry)?;
    let found = entry.trials.iter().find(|trial| Some(trial.record.number) == kept);
    let Some(trial) = found else { return Ok(None) };
    Ok(Some(KeptRun { number: trial.record.number, samples: ledger.samples(trial.id)? }))
}
