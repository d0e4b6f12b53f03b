//! The frames of a shot as a scene for other tools: the data that each format writes.

use geometry::Mesh;
use glam::{Quat, Vec3};
use std::collections::BTreeSet;
use std::sync::Arc;

/// Values by frame.
pub type Samples<T> = Vec<(f64, T)>;
/// Position, m, orientation and scale.
pub type ScenePose = (Vec3, Quat, f32);
/// Meshes by frame, with the velocities of their vertices, m/s, or none.
pub type MeshSamples = Samples<(Arc<Mesh>, Vec<Vec3>)>;

/// A range of frames. Units are metres, y is up.
#[derive(Default)]
pub struct ExportScene {
    /// Frames a second.
    pub fps: f32,
    /// First frame.
    pub first: u32,
    /// Last frame.
    pub last: u32,
    /// Solids of one body.
    pub meshes: Vec<SceneMesh>,
    /// Solids of several bodies.
    pub instances: Vec<SceneInstances>,
    /// Sets of particles.
    pub points: Vec<ScenePoints>,
    /// Cameras.
    pub cameras: Vec<SceneCamera>,
    /// Lights.
    pub lights: Vec<SceneLight>,
}

/// A solid of one body.
pub struct SceneMesh {
    /// Its name.
    pub name: String,
    /// Where it stands.
    pub poses: Samples<ScenePose>,
    /// Its mesh, one where it does not change its shape; with the velocities of its vertices, m/s, or none.
    pub meshes: MeshSamples,
}

/// Copies of one mesh.
pub struct SceneInstances {
    /// Its name.
    pub name: String,
    /// The mesh, one where it does not change its shape; with the velocities of its vertices, m/s, or none.
    pub meshes: MeshSamples,
    /// Poses of all, velocities, m/s, and angular velocities, rad/s. One that is gone has scale 0.
    pub samples: Samples<(Vec<ScenePose>, Vec<Vec3>, Vec<Vec3>)>,
}

/// Ids, positions, m, velocities, m/s, and diameters, m.
pub type PointSample = (Vec<u32>, Vec<Vec3>, Vec<Vec3>, Vec<f32>);

/// Particles.
pub struct ScenePoints {
    /// Its name.
    pub name: String,
    /// Of each frame.
    pub samples: Samples<PointSample>,
}

/// A camera, which looks along −z.
pub struct SceneCamera {
    /// Its name.
    pub name: String,
    /// Where it stands.
    pub poses: Samples<ScenePose>,
    /// Focal length, mm, f-number (0: all is sharp) and distance of focus, m.
    pub lens: Samples<[f32; 3]>,
    /// Width and height of the sensor, mm.
    pub aperture_mm: [f32; 2],
}

/// The kind of a light.
pub enum LightKind {
    /// Far away, with its angle, rad.
    Distant(f32),
    /// A rectangle, m.
    Rectangle([f32; 2]),
    /// All around.
    Dome,
}

/// A light that shines along −y of its pose.
pub struct SceneLight {
    /// Its name.
    pub name: String,
    /// Its kind.
    pub kind: LightKind,
    /// Where it stands.
    pub poses: Samples<ScenePose>,
    /// Colour and strength.
    pub light: Samples<(Vec3, f32)>,
}

/// Names that no two things of a file have, of letters, digits and underscores.
#[derive(Default)]
pub(super) struct UniqueNames(BTreeSet<String>);

impl UniqueNames {
    /// A name like the one wanted.
    pub fn take(&mut self, name: &str) -> String {
        let mut plain: String =
            name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
        if !plain.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') {
            plain.insert(0, '_');
        }
        let mut free = plain.clone();
        let mut count = 2;
        while !self.0.insert(free.clone()) {
            free = format!("{plain}_{count}");
            count += 1;
        }
        free
    }
}
