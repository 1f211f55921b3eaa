//! Loads: what keeps a card busy while it is watched.
//!
//! ```text
//!   dyn Load ──┬── InlineLoad   a scene in this process, on a card in this process
//!              ├── ChildLoad    a scene in a child process, which may die, hang or talk nonsense
//!              ├── OutsideLoad  a program of the user's own
//!              ├── ManualLoad   whatever the user runs; the user says what was seen
//!              └── EverydayLoad the same all day, and nobody says anything
//! ```
//!
//! The engine asks a load to work for a tenth of a second at a time and is told which frames were
//! checked. Whatever a load does, the worst that comes of it is the end of a trial.

mod child;
mod contract;
mod inline;
mod kin;
mod manual;
#[cfg_attr(not(feature = "gpu"), path = "no_gpu.rs")]
mod on_gpu;
mod outside;
mod process;
pub mod protocol;
mod serve;
mod speech;

pub use contract::Load;
pub use kin::Kin;
pub use manual::ManualLoad;
pub use outside::{FailureRule, FigureRule, OutsideSpec, SpecError};
pub use serve::serve;
pub use speech::{GpuPlaces, Level};

use std::path::PathBuf;

use child::ChildLoad;
use inline::InlineLoad;
use manual::EverydayLoad;
use outside::OutsideLoad;
use thiserror::Error;
use yard_step_card::Card;
use yard_step_core::{EVERYDAY, Plan};
use yard_step_scenes::{Scene, SizedScene, UnknownScene};

/// A name that no load has.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "{scene}; your own loads: {}; or \"{manual}\": you run something and say what you saw",
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
        name.parse::<SizedScene>().map(drop).map_err(|scene| UnknownLoad {
            scene,
            own: self.outside.iter().map(|spec| spec.name.clone()).collect(),
        })
    }

    /// The names of all loads: the scenes, the user's own, and the manual one.
    #[must_use]
    pub fn names(&self) -> Vec<String> {
        let scenes = Scene::ALL.into_iter().map(|scene| scene.name().to_owned());
        let own = self.outside.iter().map(|spec| spec.name.clone());
        scenes.chain(own).chain([ManualLoad::NAME.to_owned()]).collect()
    }

    /// The same, with scenes of a size of their own that a plan names, each behind the usual one.
    pub(crate) fn names_for(&self, plan: &Plan) -> Vec<String> {
        let mut names = self.names();
        for name in plan.loads().into_iter().filter(|name| name.contains('@')) {
            let Ok(scene) = name.parse::<SizedScene>() else { continue };
            let is_of_it = |known: &String| {
                known.parse::<SizedScene>().is_ok_and(|known| known.scene() == scene.scene())
            };
            let behind = names.iter().rposition(is_of_it).map_or(names.len(), |at| at + 1);
            names.insert(behind, name.to_owned());
        }
        names
    }

    /// The load of that name, for a card. A scene runs in a process of its own where the card can
    /// be reached from there.
    ///
    /// # Errors
    /// There is none of that name; the known ones are listed.
    pub fn choose(&self, name: &str, card: &dyn Card) -> Result<Box<dyn Load>, UnknownLoad> {
        match name {
            ManualLoad::NAME => return Ok(Box::new(ManualLoad)),
            EVERYDAY => return Ok(Box::new(EverydayLoad::default())),
            _ => {}
        }
        if let Some(spec) = self.outside.iter().find(|spec| spec.name == name) {
            return Ok(Box::new(OutsideLoad::new(spec.clone())));
        }
        self.know(name)?;
        let scene: SizedScene =
            name.parse().map_err(|scene| UnknownLoad { scene, own: Vec::new() })?;
        Ok(match (&self.launcher, card.draws_at()) {
            (Some(program), Some(_)) => Box::new(ChildLoad::new(program.clone(), scene)),
            _ => Box::new(InlineLoad::new(scene)),
        })
    }
}
