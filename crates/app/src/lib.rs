//! The command line and the terminal interface of Yard Step.
//!
//! ```text
//!   arguments ──► cli ──► commands ──► demo, open ──► tui: snapshots drawn, commands sent
//!                             ├──► climb         without the interface, to its outcome
//!                             ├──► cards, report, simulate, study, pass, machine, import, …
//!                             └──► slot, guard, load: processes that the others start
//! ```

mod cli;
mod commands;
mod config;
mod exchange;
mod failure;
mod input;
mod logging;
mod metrics;
mod opening;
mod options;
mod output;
mod publisher;
mod rig;
mod soaking;
mod start;
mod status;
pub mod tui;

use std::process::ExitCode;

use clap::Parser;

/// Runs the program with the process' arguments and returns its exit code: 0 done, 1 failed,
/// 2 used wrongly, 130 interrupted.
#[must_use]
pub fn run() -> ExitCode {
    let arguments = cli::Arguments::parse();
    if let Err(failure) = logging::begin(arguments.log.as_deref(), arguments.command.process()) {
        return failure.tell();
    }
    let result = match arguments.command {
        cli::Command::Demo(options) => commands::demo(&arguments.data_dir, &options),
        cli::Command::Open(options) => commands::open(&arguments.data_dir, &options),
        cli::Command::Climb(options) => commands::climb(&arguments.data_dir, &options),
        cli::Command::Cards(options) => commands::cards(&options),
        cli::Command::Ceiling(options) => commands::ceiling(&arguments.data_dir, &options),
        cli::Command::Report(options) => commands::report(&arguments.data_dir, &options),
        cli::Command::Simulate(options) => commands::simulate(&options),
        cli::Command::Pass(options) => commands::pass(&options),
        cli::Command::Study(options) => commands::study(&options),
        cli::Command::Learnt(options) => commands::learnt(&arguments.data_dir, &options),
        cli::Command::Machine(options) => commands::machine(&arguments.data_dir, &options),
        cli::Command::Import(options) => commands::import(&options),
        cli::Command::Profile(options) => commands::profile(&arguments.data_dir, &options),
        cli::Command::Prove(options) => commands::prove(&arguments.data_dir, &options),
        cli::Command::Weigh(options) => commands::weigh(&arguments.data_dir, &options),
        cli::Command::Status(options) => commands::status(&options),
        cli::Command::Watch(options) => commands::watch(&arguments.data_dir, &options),
        cli::Command::WithProfile(options) => commands::with_profile(&arguments.data_dir, &options),
        cli::Command::Slot(options) => commands::slot(&options),
        cli::Command::Guard(options) => commands::guard(&options),
        cli::Command::Keeper(options) => commands::keeper(&options),
        cli::Command::Load(options) => commands::load(&options),
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.tell(),
    }
}
