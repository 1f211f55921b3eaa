//! Setting a card up: its slot, its lock, its guard and its loads, all processes of this program.
//!
//! ```text
//!   yard-step open ──┬──► yard-step slot    the stand-in; stays a moment when all have left
//!                    ├──► yard-step guard   puts the card back when `open` is gone
//!                    └──► yard-step load    a scene, for as long as a trial takes
//! ```

use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::{env, io, thread};

use yard_step_card::slot::SlotAddress;
use yard_step_card::{Card, CardAddress, CeilingStore, RuntimeDir, connect, connect_hosted};
use yard_step_engine::load::OutsideSpec;
use yard_step_engine::{CardLock, Guard, Loads, Post, Rig, pass_log_on};
use yard_step_ledger::DataDir;

use crate::failure::Failure;

/// Set in the environment, it lets a test make stand-ins go wrong.
const INJECT_FAULTS: &str = "YARD_STEP_INJECT_FAULTS";

/// A card as it is worked on: under lock and guard, a stand-in in a process of its own. Tells of an owner
/// who died with it.
pub(crate) fn rig(
    dir: &DataDir,
    address: &CardAddress,
    outside: &[OutsideSpec],
) -> Result<(Rig, Option<String>), Failure> {
    // One controller per card and machine, whatever the data directory.
    let runtime = RuntimeDir::of_user()?;
    let key = address.to_string();
    let (lock, told) = CardLock::take(runtime.path(), &key)?;
    let program = env::current_exe().map_err(|error| {
        Failure::failed(format!("the path of this program is unknown: {error}"))
    })?;
    let ceiling = ceiling_of(dir, address);
    let host = (program.clone(), address.clone());
    let card = connect_hosted(address, &runtime, move |socket| {
        start_host(&host.0, &host.1, socket, &ceiling)
    })?;
    // One that no other process can write to is not written to here either.
    let post = card.reach().map(|card| Post {
        program: program.clone(),
        card,
        lock: CardLock::path(runtime.path(), &key),
        log: dir.path().join("guard.log"),
    });
    let guard = post.map(Guard::start).transpose();
    let guard =
        guard.map_err(|error| Failure::failed(format!("the guard cannot be started: {error}")))?;
    let loads = Loads { launcher: Some(program), outside: outside.to_vec() };
    Ok((Rig { card, loads, guard, lock: Some(lock) }, told))
}

/// What the machine of a stand-in keeps of the card's limit table.
pub(crate) fn ceiling_of(dir: &DataDir, address: &CardAddress) -> CeilingStore {
    CeilingStore::of(&dir.path().join("ceiling"), &address.to_string())
}

/// What a card is, without taking it: a stand-in with the limits that its machine has.
pub(crate) fn look_at(dir: &DataDir, address: &CardAddress) -> Result<Box<dyn Card>, Failure> {
    let mut card = connect(address)?;
    let Some(tables) = card.description().limit_tables.clone() else { return Ok(card) };
    let driver = card.description().driver.clone();
    let record = ceiling_of(dir, address).read(&tables.makers.card).map_err(Failure::failed)?;
    let wanted = record.and_then(|record| record.wanted).filter(|wanted| wanted.driver == driver);
    if let (Some(wanted), Some(simulation)) = (wanted, card.simulation()) {
        simulation.start_with_limits(wanted.table);
    }
    Ok(card)
}

/// Starts the process that holds a stand-in.
fn start_host(
    program: &Path,
    address: &CardAddress,
    socket: &SlotAddress,
    ceiling: &CeilingStore,
) -> io::Result<()> {
    let mut host = Command::new(program);
    pass_log_on(&mut host);
    let (driver, course) = address.driver_and_course();
    host.args(["slot", "--card", &address.to_string()])
        .args(["--driver", &driver.to_string(), "--course", &course.to_string()])
        .args(["--address", &socket.to_string()])
        .arg("--ceiling")
        .arg(ceiling.path());
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
}
