//! The text of each scene's shader.

use yard_step_scenes::Scene;

const PARAMS: &str = include_str!("wgsl/params.wgsl");
const COMMON: &str = include_str!("wgsl/common.wgsl");
const MAIN: &str = include_str!("wgsl/main.wgsl");

/// The shader of patterns over the memory.
pub(crate) fn shader_of_memory() -> String {
    [PARAMS, include_str!("wgsl/memory.wgsl")].concat()
}

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
    Some([PARAMS, COMMON, picture, MAIN].concat())
}
