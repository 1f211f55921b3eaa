//! Setting a card up: its slot, its lock, its guard and its loads, all processes of this program.
//!
//! ```text
//!   yard-step open ──┬──► yard-step slot    the stand-in; stays a moment when all have left
//!                    ├──► yard-step guard   puts the card back when `open` is gone
//!                    └──► yard-step load    a scene, for as long as a trial takes
//! ```

use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::{env, thread};

use yard_step_card::slot::{Power, SlotAddress, SlotCard};
use yard_step_card::{CardName, RuntimeDir};
use yard_step_engine::load::OutsideSpec;
use yard_step_engine::{CardLock, Guard, Loads, Post, Rig, pass_log_on};
use yard_step_ledger::DataDir;

use crate::failure::Failure;

/// Set in the environment, it has the stand-ins go wrong when a test asks them to.
const INJECT_FAULTS: &str = "YARD_STEP_INJECT_FAULTS";

/// A card as it is worked on: in a slot of its own, under lock and guard. `course` is as in
/// [`CardName::open`]. Tells of an owner who died with it.
pub(crate) fn rig(
    dir: &DataDir,
    name: &CardName,
    course: u64,
    outside: &[OutsideSpec],
) -> Result<(Rig, Option<String>), Failure> {
    // One controller per card and machine, whatever the data directory.
    let runtime = RuntimeDir::of_user()?;
    let (lock, told) = CardLock::take(runtime.path(), &name.to_string())?;
    let program = env::current_exe()
        .map_err(|error| Failure::failed(format!("this program cannot find itself: {error}")))?;
    let address = SlotAddress::of(&runtime, &name.to_string());
    let power = power(program.clone(), name.clone(), course, address.clone());
    let card = Box::new(SlotCard::open(address.clone(), Some(power))?);
    let guard = Guard::start(Post {
        program: program.clone(),
        slot: address.to_string(),
        lock: CardLock::path(runtime.path(), &name.to_string()),
        log: dir.path().join("guard.log"),
    })
    .map_err(|error| Failure::failed(format!("the guard cannot be started: {error}")))?;
    let loads = Loads { launcher: Some(program), outside: outside.to_vec() };
    Ok((Rig { card, loads, guard: Some(guard), lock: Some(lock) }, told))
}

/// Switches the machine on in which a stand-in sits.
fn power(program: PathBuf, name: CardName, course: u64, address: SlotAddress) -> Power {
    Box::new(move || {
        let mut host = Command::new(&program);
        pass_log_on(&mut host);
        host.args(["slot", "--card", &name.to_string()])
            .args(["--driver", &name.driver.to_string(), "--course", &course.to_string()])
            .args(["--address", &address.to_string()]);
        if env::var_os(INJECT_FAULTS).is_some() {
            host.arg("--inject-faults");
        }
        let mut host = host
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()?;
        // Whoever has ended must be waited for by somebody.
        thread::spawn(move || host.wait());
        Ok(())
    })
}
