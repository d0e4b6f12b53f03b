//! Scenes of meshes that may move, in files of several formats.

mod polygons;

use crate::model::{Material, Model, Part};
use crate::samples::{GroupedMesh, ImportedSequence, Samples};
use crate::{ImportError, MAX_FACES};
use frames::MAX_SAMPLES;
use glam::{DMat3, DMat4, Quat, Vec3};
pub(crate) use polygons::{Domain, DomainValues, Polygons};
use std::sync::Arc;

/// A mesh of a scene where it stands at a moment.
pub(crate) struct PlacedPolygons {
    /// Its name.
    pub name: String,
    /// From its own space to metres, y up.
    pub matrix: DMat4,
    /// The mesh.
    pub polygons: Arc<Polygons>,
    /// Its look, by place in [`SceneFile::materials`].
    pub material: Option<usize>,
}

/// Most vertices and corners of faces of all meshes at one moment, together.
const MAX_ROOM: usize = 4 * MAX_FACES;
/// Most meshes and transforms of a file, each counted at every moment.
const MAX_VISITS: usize = 20_000_000;

/// The room that is left for meshes at a moment: a small file may name the same large values
/// for any number of meshes.
pub(crate) struct Room(usize);

impl Room {
    pub fn new() -> Self {
        Self(MAX_ROOM)
    }

    /// Takes the room of a mesh.
    ///
    /// # Errors
    /// A sentence if there is not so much left.
    pub fn take(&mut self, of: &Polygons) -> Result<(), String> {
        let left = self.0.checked_sub(of.points.len() + of.corners.len());
        self.0 = left.ok_or_else(|| format!("has more than {MAX_ROOM} vertices and corners of faces"))?;
        Ok(())
    }
}

/// Bounds the moments of a file by its meshes and transforms, all of which are looked at in each.
///
/// # Errors
/// A sentence if there are too many.
pub(crate) fn check_moments(moments: usize, nodes: usize) -> Result<(), String> {
    if moments.saturating_mul(nodes) > MAX_VISITS {
        return Err(format!(
            "has {moments} moments with {nodes} meshes and transforms; bring in fewer of either"
        ));
    }
    Ok(())
}

/// A file with a scene that may change with time.
pub(crate) trait SceneFile {
    /// The moments of all its samples, in frames, rising; at least one.
    fn moments(&self) -> &[f64];

    /// Frames a second.
    fn rate(&self) -> f64;

    /// The meshes at a moment, in frames.
    ///
    /// # Errors
    /// A sentence on what is wrong, with the name of the mesh.
    fn meshes(&mut self, moment: f64) -> Result<Vec<PlacedPolygons>, String>;

    /// The looks that the meshes name.
    fn materials(&self) -> Vec<Material> {
        Vec::new()
    }

    /// A sentence for each thing that was left out.
    fn notices(&self) -> Vec<String>;
}

/// The meshes of a scene at its first moment.
pub(crate) fn read_model(name: &str, scene: &mut dyn SceneFile) -> Result<Model, ImportError> {
    let fail = |message: String| ImportError::file(name, message);
    let first = scene.moments()[0];
    let (mut parts, mut faces) = (Vec::new(), 0);
    for placed in scene.meshes(first).map_err(fail)? {
        let within = |message: String| fail(format!("{}: {message}", placed.name));
        let (position, orientation, scale, linear) = placement(&placed.matrix);
        let mut own = GroupedMesh::default();
        own.append(placed.polygons.triangulated().map_err(within)?, &DMat4::from_mat3(linear))
            .map_err(within)?;
        faces += own.mesh.triangles.len();
        if faces > MAX_FACES {
            return Err(fail(format!("has more than {MAX_FACES} faces")));
        }
        let (mesh, material) = (own.mesh, placed.material);
        if !mesh.triangles.is_empty() {
            parts.push(Part { name: placed.name, mesh, position, orientation, scale, material });
        }
    }
    if parts.is_empty() {
        return Err(fail("holds no meshes".to_owned()));
    }
    Ok(Model { parts, materials: scene.materials(), images: Vec::new(), notices: scene.notices() })
}

/// A matrix as position, orientation and even scale, with the rest of its linear
/// part: the identity, unless the matrix mirrors, shears or scales unevenly.
fn placement(matrix: &DMat4) -> (Vec3, Quat, f32, DMat3) {
    let linear = DMat3::from_mat4(*matrix);
    let position = matrix.w_axis.truncate().as_vec3();
    let scale = linear.determinant().cbrt();
    let turn = linear * (1.0 / scale);
    if scale > 1e-9 && (turn.transpose() * turn).abs_diff_eq(DMat3::IDENTITY, 1e-4) {
        let orientation = glam::DQuat::from_mat3(&turn).normalize().as_quat();
        return (position, orientation, scale as f32, DMat3::IDENTITY);
    }
    (position, Quat::IDENTITY, 1.0, linear)
}

/// The scene at all its moments, as one mesh.
pub(crate) fn read_sequence(name: &str, scene: &mut dyn SceneFile) -> Result<ImportedSequence, ImportError> {
    let fail = |message: String| ImportError::file(name, message);
    let moments = scene.moments().to_vec();
    if moments.len() > MAX_SAMPLES {
        return Err(fail(format!("has {} moments with samples; at most {MAX_SAMPLES}", moments.len())));
    }
    let mut samples = Samples::new(name);
    for &moment in &moments {
        let at = |message: String| fail(format!("frame {moment}: {message}"));
        let list = scene.meshes(moment).map_err(at)?;
        let several = list.len() > 1;
        let mut whole = GroupedMesh::default();
        for placed in list {
            let within = |message: String| at(format!("{}: {message}", placed.name));
            let mesh = placed.polygons.triangulated().map_err(within)?;
            // Each mesh of the file is a group.
            let mesh = if several { mesh.grouped(&placed.name) } else { mesh };
            whole.append(mesh, &placed.matrix).map_err(within)?;
        }
        // Normals are those of the faces, which turn as the vertices move.
        whole.mesh.normals.clear();
        samples.push(moment - moments[0], whole).map_err(at)?;
    }
    samples.finish(scene.rate() as f32, scene.notices())
}
