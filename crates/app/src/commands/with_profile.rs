//! `yard-step with-profile`: a profile for as long as a program runs.

use std::process::{Child, Command, ExitStatus};
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;

use clap::Args;
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use std::os::unix::process::ExitStatusExt;
use yard_step_core::Seconds;
use yard_step_engine::{Harm, ProfileRun};

use crate::commands::attended::{Attended, attend_to, or_needs_yes};
use crate::commands::profile::view;
use crate::failure::Failure;
use crate::options::{CardOptions, DataDirOption};
use crate::output::note;

/// Time between two looks at program and card.
const LOOK: Duration = Duration::from_millis(100);

#[derive(Debug, Args)]
pub(crate) struct WithProfileOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Apply it though settings no bolder took the machine down
    #[arg(long)]
    pub yes: bool,
    /// Name of the profile
    pub name: String,
    /// The program, with its arguments
    #[arg(required = true, last = true, value_name = "PROGRAM")]
    pub program: Vec<String>,
}

pub(crate) fn with_profile(
    data_dir: &DataDirOption,
    options: &WithProfileOptions,
) -> Result<(), Failure> {
    // The terminal sends its signals to the program as well; it is for that to end.
    let Attended { rig, card, ledger, stop, lock } = attend_to(data_dir, &options.card)?;
    let view = view(&ledger, &card, &options.name)?;
    let run = ProfileRun::begin(rig, &ledger, &view.profile, options.yes)
        .map_err(|error| or_needs_yes(error, "apply"))?;
    let doubt = match view.proof.is_proven() {
        true => String::new(),
        false => format!(" It is {}.", view.proof.label()),
    };
    let program = &options.program[0];
    note(&format!(
        "{} holds profile \"{}\" ({}) while {program} runs.{doubt}",
        card.name, options.name, view.what
    ));
    let status = attend(run, &options.program, &stop);
    drop(lock);
    match status?.code_of_shell() {
        0 => Ok(()),
        code => Err(Failure::Ended(code)),
    }
}

/// Runs the program while the card holds the profile, and puts the card back.
fn attend(
    mut run: ProfileRun,
    program: &[String],
    stop: &AtomicBool,
) -> Result<ExitStatus, Failure> {
    let started = Command::new(&program[0]).args(&program[1..]).spawn();
    let mut child = match started {
        Ok(child) => child,
        Err(error) => {
            run.end()?;
            return Err(Failure::failed(format!("{} cannot be started: {error}", program[0])));
        }
    };
    let ended = wait(&mut run, &mut child, stop);
    let back = run.end();
    let (status, harm) = ended?;
    match (harm, back) {
        (_, Err(error)) => return Err(error.into()),
        (Some(Harm::Ceiling(at)), Ok(())) => {
            note(&format!("The card reached {at} and was put back while {} still ran.", program[0]))
        }
        (Some(Harm::Lost(lost)), Ok(())) => {
            note(&format!("The card {} and was put back.", what_it_did(lost)));
        }
        (None, Ok(())) => note("The card is back."),
    }
    Ok(status)
}

/// Waits for the program; says why the card was let go before, if it was.
fn wait(
    run: &mut ProfileRun,
    child: &mut Child,
    stop: &AtomicBool,
) -> Result<(ExitStatus, Option<Harm>), Failure> {
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok((status, None));
        }
        if stop.swap(false, Ordering::Relaxed) {
            // A program that has gone already needs none.
            let _ = kill(Pid::from_raw(child.id() as i32), Signal::SIGTERM);
        }
        if let Some(harm) = run.pass(Seconds(LOOK.as_secs_f64()))? {
            return Ok((child.wait()?, Some(harm)));
        }
        thread::sleep(LOOK);
    }
}

const fn what_it_did(lost: yard_step_card::LoadLost) -> &'static str {
    use yard_step_card::LoadLost;
    match lost {
        LoadLost::Died | LoadLost::Hung => "dropped the program",
        LoadLost::DriverReset => "was reset by its driver",
        LoadLost::MachineDown | LoadLost::Gone => "is gone",
        LoadLost::KeeperGone => "was let go by its keeper",
        LoadLost::SettingsChanged => "was changed by another program",
    }
}

/// How a program ended, as a shell tells it.
trait CodeOfShell {
    /// Its exit code; of one that a signal ended, 128 and the signal's number.
    fn code_of_shell(&self) -> u8;
}

impl CodeOfShell for ExitStatus {
    fn code_of_shell(&self) -> u8 {
        let code = self.code().or_else(|| self.signal().map(|signal| 128 + signal)).unwrap_or(1);
        u8::try_from(code).unwrap_or(1)
    }
}
