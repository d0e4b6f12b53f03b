//! The content of a mesh file: parts, their placements and their looks.

use crate::samples::MAX_GROUPS;
use geometry::{FaceGroup, Mesh};
use glam::{Quat, Vec3};
use shot::look::{Look, LookImage};

/// The meshes of a file with their looks.
#[derive(Clone, Debug, Default)]
pub struct Model {
    /// The parts, each of one look.
    pub parts: Vec<Part>,
    /// The looks that parts name.
    pub materials: Vec<Material>,
    /// The images that looks name, each once.
    pub images: Vec<ImageFile>,
    /// A sentence for each thing that was left out.
    pub notices: Vec<String>,
}

/// A mesh of one look.
#[derive(Clone, Debug)]
pub struct Part {
    /// Name in the file.
    pub name: String,
    /// The mesh, about its own origin.
    pub mesh: Mesh,
    /// Position of its origin, in the file's units.
    pub position: Vec3,
    /// How it is turned.
    pub orientation: Quat,
    /// How large it is shown.
    pub scale: f32,
    /// Its look, by place in [`Model::materials`].
    pub material: Option<usize>,
}

/// A look of a file.
#[derive(Clone, Debug)]
pub struct Material {
    /// Name in the file.
    pub name: String,
    /// The look without its images.
    pub look: Look,
    /// Its images, by place in [`Model::images`].
    pub images: Vec<(LookImage, usize)>,
}

/// An image as the bytes of a file.
#[derive(Clone, Debug)]
pub struct ImageFile {
    /// A name for it, without an extension.
    pub name: String,
    /// `png` or `jpg`.
    pub extension: &'static str,
    /// The file.
    pub bytes: Vec<u8>,
}

impl Model {
    /// All parts where they stand, as one mesh.
    #[must_use]
    pub fn merged(self) -> Mesh {
        let mut whole = Mesh::default();
        let several = self.parts.len() > 1;
        for Part { name, mesh, position, orientation, scale, .. } in self.parts {
            let (base, first) = (whole.positions.len(), whole.triangles.len() as u32);
            if several {
                add_group(&mut whole.groups, name, first..first + mesh.triangles.len() as u32);
            }
            for group in mesh.groups {
                add_group(&mut whole.groups, group.name, group.faces.iter().map(|face| first + face));
            }
            whole.positions.extend(mesh.positions.iter().map(|p| position + orientation * (*p * scale)));
            let count = whole.positions.len();
            if mesh.normals.len() == mesh.positions.len() {
                whole.normals.resize(base, Vec3::ZERO);
                whole.normals.extend(mesh.normals.iter().map(|n| orientation * *n));
            }
            whole.uvs.resize(base, glam::Vec2::ZERO);
            whole.uvs.extend(mesh.uvs);
            whole.uvs.resize(count, glam::Vec2::ZERO);
            // Parts without weights count as 1.
            if !mesh.weights.is_empty() {
                whole.weights.resize(base, 1.0);
                whole.weights.extend(mesh.weights);
            }
            if !whole.weights.is_empty() {
                whole.weights.resize(count, 1.0);
            }
            let moved = |t: &[u32; 3]| t.map(|v| v.saturating_add(base as u32));
            whole.triangles.extend(mesh.triangles.iter().map(moved));
        }
        whole
    }
}

/// Adds faces to the group of a name.
fn add_group(groups: &mut Vec<FaceGroup>, name: String, faces: impl Iterator<Item = u32>) {
    match groups.iter().position(|group| group.name == name) {
        Some(place) => groups[place].faces.extend(faces),
        None if groups.len() < MAX_GROUPS => groups.push(FaceGroup { name, faces: faces.collect() }),
        None => {}
    }
}

impl From<Mesh> for Model {
    fn from(mesh: Mesh) -> Self {
        let (position, orientation) = (Vec3::ZERO, Quat::IDENTITY);
        let part = Part { name: "Mesh".to_owned(), mesh, position, orientation, scale: 1.0, material: None };
        Self { parts: vec![part], ..Self::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(name: &str, groups: &[(&str, u32)]) -> Part {
        let group = |(name, face): &(&str, u32)| FaceGroup { name: (*name).to_owned(), faces: vec![*face] };
        let mesh = Mesh {
            positions: vec![Vec3::ZERO, Vec3::X, Vec3::Y, Vec3::ONE],
            triangles: vec![[0, 1, 2], [1, 3, 2]],
            groups: groups.iter().map(group).collect(),
            ..Mesh::default()
        };
        let (position, orientation) = (Vec3::ZERO, Quat::IDENTITY);
        Part { name: name.to_owned(), mesh, position, orientation, scale: 1.0, material: None }
    }

    #[test]
    fn parts_of_a_file_are_groups_of_the_mesh_that_they_become() {
        let parts = vec![part("Hull", &[("Rim", 1)]), part("Sail", &[("Rim", 0)])];
        let merged = Model { parts, ..Model::default() }.merged();
        let groups: Vec<(&str, &[u32])> =
            merged.groups.iter().map(|group| (group.name.as_str(), &group.faces[..])).collect();
        assert_eq!(groups, [("Hull", &[0, 1][..]), ("Rim", &[1, 2]), ("Sail", &[2, 3])]);
        // One part alone is no group.
        let alone = Model { parts: vec![part("Hull", &[])], ..Model::default() }.merged();
        assert_eq!(alone.groups, []);
    }
}
