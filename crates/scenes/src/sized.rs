//! A scene at one of the sizes it can be drawn in.
//!
//! More pixels are more work for the card, and more of it is memory traffic; geometry stays what it is. Runs of different sizes
//! are runs of different loads: each has a name, a baseline and scores of its own.

use std::fmt;
use std::ops::Deref;
use std::str::FromStr;

use yard_step_core::{Demand, Frame};

use crate::pass::FrameSize;
use crate::scene::{Scene, UnknownScene};

/// Share of a frame's work that does not grow with its pixels.
const GEOMETRY: f64 = 0.25;
/// How memory's share grows with the pixels: as a power of them.
const TRAFFIC: f64 = 0.25;
/// Most of a frame's work that is memory's.
const MOST_MEMORY: f64 = 0.9;

/// A scene at a size. It is written `kiln` at the usual size, and else `kiln@192x108`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct SizedScene {
    scene: Scene,
    size: FrameSize,
}

impl SizedScene {
    /// Its name as a load.
    #[must_use]
    pub fn name(self) -> String {
        self.to_string()
    }

    /// The scene.
    #[must_use]
    pub const fn scene(self) -> Scene {
        self.scene
    }

    /// Its size.
    #[must_use]
    pub const fn size(self) -> FrameSize {
        self.size
    }

    /// The scene at the next size; after the largest comes the smallest.
    #[must_use]
    pub fn at_next_size(self) -> Self {
        let next = (self.size.place() + 1) % FrameSize::ALL.len();
        Self { size: FrameSize::ALL[next], ..self }
    }

    /// Work of a frame, against one of the usual size.
    fn work(self) -> f64 {
        GEOMETRY + (1.0 - GEOMETRY) * self.size.pixels()
    }

    /// What frame `number` asks of a card.
    #[must_use]
    pub fn demand(self, number: u64) -> Demand {
        let demand = self.scene.demand(number);
        if self.size == FrameSize::USUAL {
            return demand;
        }
        let memory_share = demand.memory_share * self.size.pixels().powf(TRAFFIC);
        Demand {
            work_per_frame: demand.work_per_frame * self.work(),
            memory_share: memory_share.min(MOST_MEMORY.max(demand.memory_share)),
            ..demand
        }
    }

    /// Work units that frame `number` stands for in a score. See [`Scene::weight`].
    #[must_use]
    pub fn weight(self, number: u64) -> f64 {
        self.scene.weight(number) * self.work()
    }

    /// Work units in one frame, on average over a pass.
    #[must_use]
    pub fn work_per_frame(self) -> f64 {
        self.scene.work_per_frame() * self.work()
    }

    /// Frame `number`, as an unfailing card draws it.
    pub(crate) fn drawn(self, number: u64) -> Frame {
        let mut frame = Frame::black(self.size.width, self.size.height);
        self.scene.draw(number, &mut frame);
        frame
    }
}

/// What does not depend on the size is the scene's.
impl Deref for SizedScene {
    type Target = Scene;

    fn deref(&self) -> &Scene {
        &self.scene
    }
}

impl From<Scene> for SizedScene {
    fn from(scene: Scene) -> Self {
        Self { scene, size: FrameSize::USUAL }
    }
}

impl fmt::Display for SizedScene {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.size {
            FrameSize::USUAL => f.write_str(self.scene.name()),
            size => write!(f, "{}@{size}", self.scene.name()),
        }
    }
}

impl FromStr for SizedScene {
    type Err = UnknownScene;

    fn from_str(name: &str) -> Result<Self, UnknownScene> {
        let Some((scene, size)) = name.split_once('@') else {
            return Ok(name.parse::<Scene>()?.into());
        };
        let found = FrameSize::ALL.into_iter().find(|known| known.to_string() == size);
        match found {
            // One way to write each of them.
            Some(size) if size != FrameSize::USUAL => {
                let scene = scene.parse().map_err(|_| UnknownScene::named(name))?;
                Ok(Self { scene, size })
            }
            _ => Err(UnknownScene::named(name)),
        }
    }
}

/// The names of the sections of a load; none of one that is not a scene.
#[must_use]
pub fn sections_of(load: &str) -> &'static [&'static str] {
    load.parse::<SizedScene>().map_or(&[], |scene| scene.scene.sections())
}

/// The name of the section of a load in which its frame `number` comes; none of a load that is not a scene.
#[must_use]
pub fn section_of(load: &str, number: u64) -> Option<&'static str> {
    let scene = load.parse::<SizedScene>().ok()?.scene;
    scene.sections().get(scene.section(number)).copied()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_name_is_read_as_it_is_written_and_sizes_come_round() {
        let mut scene = SizedScene::from(Scene::Kiln);
        for name in ["kiln", "kiln@160x90", "kiln@192x108", "kiln@96x54", "kiln"] {
            assert_eq!(scene.to_string(), name);
            assert_eq!(name.parse(), Ok(scene));
            scene = scene.at_next_size();
        }
    }

    #[rstest]
    #[case("kiln@")]
    #[case("kiln@128x72")]
    #[case("kiln@1x1")]
    #[case("kiln@192X108")]
    #[case("hearth@192x108")]
    #[case("@192x108")]
    fn no_other_name_is_a_scene(#[case] name: &str) {
        let told = name.parse::<SizedScene>().unwrap_err().to_string();
        assert!(told.contains(&format!("there is no scene \"{name}\"")), "{told}");
        assert!(told.contains("kiln") && told.contains("@96x54"), "{told}");
    }

    #[test]
    fn more_pixels_are_more_work_more_traffic_and_another_picture() {
        let demand = |name: &str| name.parse::<SizedScene>().unwrap().demand(7);
        let [small, usual, large] = ["loom@96x54", "loom", "loom@192x108"].map(demand);
        assert_eq!(usual, Scene::Loom.demand(7));
        assert!(small.work_per_frame < usual.work_per_frame);
        // A quarter stays, three quarters grow with the pixels, of which there are 2.25 times as many.
        assert!((large.work_per_frame / usual.work_per_frame - (0.25 + 0.75 * 2.25)).abs() < 1e-9);
        assert!(small.memory_share < usual.memory_share && usual.memory_share < large.memory_share);
        let frame = "loom@192x108".parse::<SizedScene>().unwrap().drawn(7);
        assert_eq!((frame.width, frame.height, frame.pixels.len()), (192, 108, 192 * 108));
    }
}
