//! The text of each scene's shader.

use yard_step_scenes::Scene;

const COMMON: &str = include_str!("wgsl/common.wgsl");
const MAIN: &str = include_str!("wgsl/main.wgsl");
/// Patterns over the memory.
pub(crate) const MEMORY: &str = include_str!("wgsl/memory.wgsl");

/// The shader of a scene; none of a medley, which is made of the others.
pub(crate) fn shader_of(scene: Scene) -> Option<String> {
    let picture = match scene {
        Scene::Kiln => include_str!("wgsl/kiln.wgsl"),
        Scene::Sluice => include_str!("wgsl/sluice.wgsl"),
        Scene::Loom => include_str!("wgsl/loom.wgsl"),
        Scene::Lantern => include_str!("wgsl/lantern.wgsl"),
        Scene::Doldrums => include_str!("wgsl/doldrums.wgsl"),
        Scene::Squall => include_str!("wgsl/squall.wgsl"),
        Scene::Medley => return None,
    };
    Some([COMMON, picture, MAIN].concat())
}
