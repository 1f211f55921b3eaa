//! `yard-step`: the command line.

use std::process::ExitCode;

fn main() -> ExitCode {
    yard_step::run()
}
