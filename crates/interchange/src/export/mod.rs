//! Meshes of a shot's frames as files for other tools.

mod alembic;
#[cfg(test)]
pub(crate) mod fixture;
mod gltf;
mod obj;
mod scene;
mod usd;

pub use alembic::write_alembic;
pub use gltf::{ExportError, write_glb};
pub use obj::write_obj;
pub use scene::{
    ExportScene, LightKind, MeshSamples, PointSample, Samples, SceneCamera, SceneInstances, SceneLight,
    SceneMesh, ScenePoints, ScenePose,
};
pub use usd::{UsdForm, write_usd};

use geometry::Mesh;
use glam::{Quat, Vec3};
use std::sync::Arc;

/// A mesh where its bodies stand at one frame.
#[derive(Clone, Debug)]
pub struct PlacedMesh {
    /// Name of the element.
    pub name: String,
    /// The mesh against a body, m.
    pub mesh: Arc<Mesh>,
    /// Whether the mesh is another one in every frame.
    pub deforms: bool,
    /// Position (m), orientation and scale of each body; 0 for one that is gone.
    pub bodies: Vec<(Vec3, Quat, f32)>,
}

/// The name of a body: that of its element, with a number where there are several.
fn body_name(of: &PlacedMesh, body: usize) -> String {
    if of.bodies.len() == 1 { of.name.clone() } else { format!("{} {}", of.name, body + 1) }
}
