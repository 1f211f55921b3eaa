//! How heavy a frame is to be on a card: found once, and kept, since scores under other work cannot be compared.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yard_step_scenes::{FrameSize, Scene};

use crate::canvas::{Canvas, FrameOrder};
use crate::{GpuAdapter, GpuError};

/// How long a frame of `kiln` is to keep the card busy, nanoseconds: long enough that what lies between two frames is
/// nothing beside it.
const FRAME: f64 = 16e6;
/// Most rounds.
const MOST: u32 = 1 << 16;
/// Frames that are measured, of which the quickest counts.
const FRAMES: usize = 3;

/// How heavy a frame is on one card.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Calibration {
    /// Name of the card, as its driver tells it.
    pub card: String,
    /// Release of the driver.
    pub driver: String,
    /// How often each pixel of a frame of `kiln` is worked out.
    pub rounds: u32,
}

impl Calibration {
    /// The calibration of a card that is kept in a directory; measured, and kept there, where there is none.
    ///
    /// # Errors
    /// The card fails while it is measured. One that cannot be kept is used all the same.
    pub fn of(card: &GpuAdapter, directory: Option<&Path>) -> Result<Self, GpuError> {
        let path = directory.map(|directory| directory.join(file_of(card)));
        if let Some(kept) = path.as_deref().and_then(|path| read(path, card)) {
            return Ok(kept);
        }
        let rounds = measured(card)?;
        let (name, driver) = (card.name().to_owned(), card.driver().to_owned());
        let calibration = Self { card: name, driver, rounds };
        if let Some(path) = path
            && let Err(error) = write(&path, &calibration)
        {
            tracing::warn!("the calibration is not kept: {}: {error}", path.display());
        }
        Ok(calibration)
    }

    /// Rounds of a frame: what is not there for heat is lighter, and a calm frame next to nothing.
    #[must_use]
    pub fn rounds_of(&self, scene: Scene, number: u64) -> u32 {
        let (shown, _) = scene.shown(number);
        let percent = match shown {
            _ if scene.is_calm(number) => 1,
            Scene::Kiln | Scene::Squall | Scene::Medley => 100,
            Scene::Loom | Scene::Lantern => 60,
            Scene::Sluice => 20,
            Scene::Doldrums => 25,
        };
        (self.rounds.saturating_mul(percent) / 100).max(1)
    }
}

fn file_of(card: &GpuAdapter) -> PathBuf {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
    let name: String = card.name().chars().map(plain).take(64).collect();
    PathBuf::from(format!("gpu-{name}.toml"))
}

fn read(path: &Path, card: &GpuAdapter) -> Option<Calibration> {
    let text = fs::read_to_string(path).ok().filter(|text| text.len() < 4_096)?;
    let kept: Calibration = toml::from_str(&text).ok()?;
    // Another driver may need another time for the same work: a baseline is taken anew under it anyway.
    let is_of_it = kept.card == card.name() && kept.driver == card.driver();
    (is_of_it && (1..=MOST).contains(&kept.rounds)).then_some(kept)
}

fn write(path: &Path, calibration: &Calibration) -> io::Result<()> {
    if let Some(directory) = path.parent() {
        fs::create_dir_all(directory)?;
    }
    let text = toml::to_string(calibration).map_err(io::Error::other)?;
    fs::write(path, text)
}

/// Doubles the work until a frame is long enough to be measured, and works out how much it takes.
fn measured(card: &GpuAdapter) -> Result<u32, GpuError> {
    let mut canvas = Canvas::new(card.clone(), FrameSize::USUAL)?;
    let mut rounds = 1;
    loop {
        let mut least = f64::MAX;
        for number in 0..FRAMES {
            let began = std::time::Instant::now();
            let (scene, size) = (Scene::Kiln, FrameSize::USUAL);
            let number = number as u64;
            canvas.begin(FrameOrder { scene, number, size, rounds, turns_memory: false })?;
            let counts = canvas.finish()?;
            let wall = began.elapsed().as_nanos() as f64;
            least = least.min(counts.nanoseconds.map_or(wall, |busy| busy as f64));
        }
        if least >= FRAME / 4.0 || rounds >= MOST {
            return Ok(((f64::from(rounds) * FRAME / least) as u32).clamp(1, MOST));
        }
        rounds *= 2;
    }
}
