//! Loads: what keeps a card busy while it is watched.
//!
//! ```text
//!   dyn Load ──┬── InlineLoad   a scene in this process, on a card in this process
//!              ├── ChildLoad    a scene in a child process, which may die, hang or talk nonsense
//!              ├── OutsideLoad  a program of the user's own
//!              └── ManualLoad   whatever the user runs; the user says what was seen
//! ```
//!
//! The engine asks a load to work for a tenth of a second at a time and is told which frames were
//! checked. Whatever a load does, the worst that comes of it is the end of a trial.

mod child;
mod inline;
mod manual;
mod outside;
mod process;
pub mod protocol;
mod serve;

pub use manual::ManualLoad;
pub use outside::{FailureRule, OutsideSpec, SpecError};
pub use serve::{Level, serve};

use std::path::PathBuf;

use thiserror::Error;
use yard_step_card::{Card, LoadLost};
use yard_step_core::{CheckedFrame, Ending, Expected, Seconds};
use yard_step_scenes::{Scene, UnknownScene};

use child::ChildLoad;
use inline::InlineLoad;
use outside::OutsideLoad;

/// A load as the engine sees it.
pub trait Load: Send {
    /// Its name in the ledger.
    fn name(&self) -> &str;

    /// What a run of it looks like when all is well.
    fn expected(&self) -> Expected;

    /// Starts it from its beginning.
    ///
    /// # Errors
    /// It cannot be started; why, and the way out.
    fn begin(&mut self, card: &dyn Card) -> Result<(), String>;

    /// Lets it work on the card for a span of time; frames that were checked are added to
    /// `checked`.
    ///
    /// # Errors
    /// Something ended the run.
    fn work(
        &mut self,
        card: &mut dyn Card,
        span: Seconds,
        checked: &mut Vec<CheckedFrame>,
    ) -> Result<(), Ending>;

    /// Looks after it while its run is held still.
    ///
    /// # Errors
    /// Something ended the run.
    fn look_while_held(&mut self, checked: &mut Vec<CheckedFrame>) -> Result<(), Ending> {
        let _ = checked;
        Ok(())
    }

    /// Ends it, if it still runs.
    fn end(&mut self);

    /// What it says its score is; none for a load that is scored by its frames.
    fn score(&self) -> Option<f64> {
        None
    }

    /// Number of its process group, where it has one.
    fn process(&self) -> Option<u32> {
        None
    }

    /// Whether only the user can say how it went.
    fn is_manual(&self) -> bool {
        false
    }
}

/// A name that no load has.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "{scene}; loads of your own: {}; or \"{manual}\", where you run what you like and say what you saw",
    if .own.is_empty() { "none".to_owned() } else { .own.join(", ") },
    manual = ManualLoad::NAME
)]
pub struct UnknownLoad {
    scene: UnknownScene,
    own: Vec<String>,
}

/// The loads there are.
#[derive(Debug, Clone, Default)]
pub struct Loads {
    /// The program that runs scenes in a process of their own; none runs them in this process.
    pub launcher: Option<PathBuf>,
    /// Programs of the user's own.
    pub outside: Vec<OutsideSpec>,
}

impl Loads {
    /// Whether there is a load of that name.
    ///
    /// # Errors
    /// There is none; the known ones are listed.
    pub fn know(&self, name: &str) -> Result<(), UnknownLoad> {
        if name == ManualLoad::NAME || self.outside.iter().any(|spec| spec.name == name) {
            return Ok(());
        }
        name.parse::<Scene>().map(drop).map_err(|scene| UnknownLoad {
            scene,
            own: self.outside.iter().map(|spec| spec.name.clone()).collect(),
        })
    }

    /// The load of that name, for a card. A scene runs in a process of its own where the card can
    /// be reached from there.
    ///
    /// # Errors
    /// There is none of that name; the known ones are listed.
    pub fn choose(&self, name: &str, card: &dyn Card) -> Result<Box<dyn Load>, UnknownLoad> {
        if name == ManualLoad::NAME {
            return Ok(Box::new(ManualLoad));
        }
        if let Some(spec) = self.outside.iter().find(|spec| spec.name == name) {
            return Ok(Box::new(OutsideLoad::new(spec.clone())));
        }
        self.know(name)?;
        let scene: Scene = name.parse().map_err(|scene| UnknownLoad { scene, own: Vec::new() })?;
        Ok(match (&self.launcher, card.address()) {
            (Some(program), Some(_)) => Box::new(ChildLoad::new(program.clone(), scene)),
            _ => Box::new(InlineLoad::new(scene)),
        })
    }
}

/// What a run of a scene looks like when all is well.
fn expected_of(scene: Scene) -> Expected {
    Expected { load: Some(scene.mean_load()), frames_are_checked: true }
}

/// How a run ends whose load the card has dropped, where the card itself says so.
pub(crate) fn ending_of(lost: LoadLost, hung: &str) -> Ending {
    match lost {
        LoadLost::Died => Ending::LoadDied("lost its device".into()),
        LoadLost::Hung => Ending::LoadDied(hung.to_owned()),
        LoadLost::DriverReset => Ending::DriverReset,
        LoadLost::MachineDown => Ending::MachineDown,
        LoadLost::Gone => Ending::CardGone("the card was gone or did not answer".into()),
    }
}
