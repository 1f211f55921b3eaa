//! The command line and the terminal interface of Yard Step.
//!
//! ```text
//!   arguments ──► cli ──► demo, open ──► tui: snapshots drawn, commands sent
//!                    ├──► climb         headless, to its outcome
//!                    ├──► cards, report, simulate, study, pass, machine, import, profile, weigh
//!                    └──► slot, guard, load: processes that the others start
//! ```

mod cards;
mod cli;
mod config;
mod demo;
mod failure;
mod headless;
mod import;
mod input;
mod machine;
mod open;
mod output;
mod pass;
mod profile;
mod report;
mod rig;
mod simulate;
mod study;
pub mod tui;
mod weigh;

use std::process::ExitCode;

use clap::Parser;

/// Runs the program with the process' arguments and answers with its exit code: 0 done, 1 failed,
/// 2 used wrongly, 130 interrupted.
#[must_use]
pub fn run() -> ExitCode {
    let arguments = cli::Arguments::parse();
    let result = match arguments.command {
        cli::Command::Demo(options) => demo::demo(&arguments.data_dir, &options),
        cli::Command::Open(options) => open::open(&arguments.data_dir, &options),
        cli::Command::Climb(options) => headless::climb(&arguments.data_dir, &options),
        cli::Command::Cards(options) => cards::cards(&options),
        cli::Command::Report(options) => report::report(&arguments.data_dir, &options),
        cli::Command::Simulate(options) => simulate::simulate(&options),
        cli::Command::Pass(options) => pass::pass(&options),
        cli::Command::Study(options) => study::study(&options),
        cli::Command::Machine(options) => machine::machine(&arguments.data_dir, &options),
        cli::Command::Import(options) => import::import(&options),
        cli::Command::Profile(options) => profile::profile(&arguments.data_dir, &options),
        cli::Command::Weigh(options) => weigh::weigh(&arguments.data_dir, &options),
        cli::Command::Slot(options) => rig::slot(&options),
        cli::Command::Guard(options) => rig::guard(&options),
        cli::Command::Load(options) => rig::load(&options),
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.tell(),
    }
}
