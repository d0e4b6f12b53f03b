//! What stays the same of a mesh while its vertices move: its faces, and the
//! attributes that come with them.

mod neighbours;
mod strips;
mod traversal;

pub use strips::into_strips;
pub use traversal::{Prediction, Traversal};

use crate::{FaceGroup, Mesh, Weld};
use glam::{Vec2, Vec3};
use shot::fingerprint::Fingerprint;
use std::collections::HashMap;
use std::sync::OnceLock;

/// The element of a mesh that an attribute has a value for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Domain {
    /// One value a vertex.
    Vertex = 0,
    /// One value a face.
    Face = 1,
}

/// The values of an attribute.
#[derive(Clone, Debug, PartialEq)]
pub enum AttributeValues {
    /// Numbers.
    Scalars(Vec<f32>),
    /// Pairs of numbers, such as UVs.
    Pairs(Vec<Vec2>),
    /// Vectors or colours.
    Vectors(Vec<Vec3>),
    /// Membership of a group: 1 for members, else 0.
    Flags(Vec<u8>),
}

impl AttributeValues {
    /// Number of values.
    pub fn len(&self) -> usize {
        match self {
            Self::Scalars(values) => values.len(),
            Self::Pairs(values) => values.len(),
            Self::Vectors(values) => values.len(),
            Self::Flags(values) => values.len(),
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// A named value for each vertex or face.
#[derive(Clone, Debug, PartialEq)]
pub struct Attribute {
    /// Name.
    pub name: String,
    /// What it has a value for.
    pub domain: Domain,
    /// The values.
    pub values: AttributeValues,
}

/// Name of the attribute that holds UVs: pairs, by vertex.
pub const UV: &str = "uv";
/// Name of the attribute that holds the brightness of vertex colours, 0–1: scalars, by vertex.
pub const WEIGHT: &str = "weight";

/// The faces of a mesh, how its normals are shared, and its constant attributes.
#[derive(Debug)]
pub struct Topology {
    vertices: usize,
    triangles: Vec<[u32; 3]>,
    /// Group of each vertex, below `smooth_groups`: vertices of a group have one normal.
    smooth: Vec<u32>,
    smooth_groups: usize,
    attributes: Vec<Attribute>,
    hash: Fingerprint,
    traversal: OnceLock<Traversal>,
}

impl PartialEq for Topology {
    fn eq(&self, other: &Self) -> bool {
        self.hash == other.hash
    }
}

impl Topology {
    /// Of faces over `smooth.len()` vertices. `smooth` gives the group of each
    /// vertex, groups being numbered in the order in which they appear.
    ///
    /// None if a face names a vertex that is not there, the groups are not
    /// numbered so, or an attribute has not one value for each of its domain.
    pub fn new(triangles: Vec<[u32; 3]>, smooth: Vec<u32>, attributes: Vec<Attribute>) -> Option<Self> {
        let vertices = smooth.len();
        let mut groups = 0;
        for &group in &smooth {
            if group > groups {
                return None;
            }
            groups = groups.max(group + 1);
        }
        let sound = triangles.iter().flatten().all(|&v| (v as usize) < vertices)
            && attributes.iter().all(|attribute| {
                let of = match attribute.domain {
                    Domain::Vertex => vertices,
                    Domain::Face => triangles.len(),
                };
                attribute.values.len() == of
            });
        if !sound {
            return None;
        }
        let hash = hash(&triangles, &smooth, &attributes);
        let smooth_groups = groups as usize;
        Some(Self {
            vertices,
            triangles,
            smooth,
            smooth_groups,
            attributes,
            hash,
            traversal: OnceLock::new(),
        })
    }

    /// The topology of a mesh with normals: vertices at one place with one
    /// normal share it from then on.
    pub fn of(mesh: &Mesh) -> Self {
        Self::of_points(mesh, &Weld::new(&mesh.positions).point_of)
    }

    /// As [`Topology::of`], with the point that each vertex is at: vertices at one place may be at different points, where a mesh
    /// is cut open.
    pub fn of_points(mesh: &Mesh, point_of: &[u32]) -> Self {
        let mut groups: HashMap<[u32; 4], u32> = HashMap::new();
        let bits = |v: Vec3| (v + Vec3::ZERO).to_array().map(f32::to_bits);
        let group = |v: usize| {
            let n = bits(mesh.normals.get(v).copied().unwrap_or_default());
            let next = groups.len() as u32;
            *groups.entry([point_of[v], n[0], n[1], n[2]]).or_insert(next)
        };
        let smooth = (0..mesh.positions.len()).map(group).collect();
        let by_vertex =
            |name: &str, values| Attribute { name: name.to_owned(), domain: Domain::Vertex, values };
        let mut attributes = Vec::new();
        if mesh.uvs.len() == mesh.positions.len() {
            attributes.push(by_vertex(UV, AttributeValues::Pairs(mesh.uvs.clone())));
        }
        if mesh.weights.len() == mesh.positions.len() {
            attributes.push(by_vertex(WEIGHT, AttributeValues::Scalars(mesh.weights.clone())));
        }
        Self::new(mesh.triangles.clone(), smooth, attributes).expect("a checked mesh is sound")
    }

    /// Several topologies as one: vertices, faces and groups follow each other in the order given.
    /// Attributes stay that all of them have, for the same domain and of the same kind.
    pub fn joined(parts: &[&Self]) -> Self {
        let (mut triangles, mut smooth) = (Vec::new(), Vec::new());
        let (mut vertices, mut groups) = (0, 0);
        for part in parts {
            triangles.extend(part.triangles.iter().map(|t| t.map(|v| v + vertices)));
            smooth.extend(part.smooth.iter().map(|group| group + groups));
            vertices += part.vertices as u32;
            groups += part.smooth_groups as u32;
        }
        let lists: Vec<&[Attribute]> = parts.iter().map(|part| &*part.attributes).collect();
        Self::new(triangles, smooth, joined_attributes(&lists)).expect("sound parts are sound together")
    }

    /// Number of vertices.
    pub fn vertices(&self) -> usize {
        self.vertices
    }

    /// Vertices of each face, counter-clockwise from outside.
    pub fn triangles(&self) -> &[[u32; 3]] {
        &self.triangles
    }

    /// The group of each vertex; vertices of a group have one normal.
    pub fn smooth(&self) -> &[u32] {
        &self.smooth
    }

    /// The constant attributes.
    pub fn attributes(&self) -> &[Attribute] {
        &self.attributes
    }

    /// An attribute by its name.
    pub fn attribute(&self, name: &str) -> Option<&Attribute> {
        self.attributes.iter().find(|attribute| attribute.name == name)
    }

    /// UVs, one a vertex; empty if it has none.
    pub fn uvs(&self) -> &[Vec2] {
        match self.attribute(UV).map(|uv| &uv.values) {
            Some(AttributeValues::Pairs(uvs)) => uvs,
            _ => &[],
        }
    }

    /// Changes when a face, a shared normal or an attribute does.
    pub fn hash(&self) -> Fingerprint {
        self.hash
    }

    /// The order in which vertices are predicted from each other.
    pub fn traversal(&self) -> &Traversal {
        self.traversal.get_or_init(|| Traversal::new(self))
    }

    /// Unit normals of the vertices at their present positions: means of the
    /// faces around, weighted by area (H. Gouraud, 1971).
    pub fn normals(&self, positions: &[Vec3]) -> Vec<Vec3> {
        let mut sums = vec![Vec3::ZERO; self.smooth_groups];
        for t in &self.triangles {
            let [a, b, c] = t.map(|v| positions[v as usize]);
            let normal = (b - a).cross(c - a);
            t.iter().for_each(|&v| sums[self.smooth[v as usize] as usize] += normal);
        }
        sums.iter_mut().for_each(|sum| *sum = sum.try_normalize().unwrap_or(Vec3::Y));
        self.smooth.iter().map(|&group| sums[group as usize]).collect()
    }

    /// The mesh with its vertices at `positions`, one for each.
    pub fn mesh_at(&self, positions: Vec<Vec3>) -> Mesh {
        let weights = match self.attribute(WEIGHT).map(|weight| &weight.values) {
            Some(AttributeValues::Scalars(weights)) => weights.clone(),
            _ => Vec::new(),
        };
        let group = |of: &Attribute| match &of.values {
            AttributeValues::Flags(flags) if of.domain == Domain::Face => {
                let faces = (0..).zip(flags).filter(|(_, flag)| **flag != 0).map(|(face, _)| face).collect();
                Some(FaceGroup { name: of.name.clone(), faces })
            }
            _ => None,
        };
        Mesh {
            groups: self.attributes.iter().filter_map(group).collect(),
            normals: self.normals(&positions),
            uvs: if self.uvs().is_empty() { vec![Vec2::ZERO; self.vertices] } else { self.uvs().to_vec() },
            weights,
            triangles: self.triangles.clone(),
            positions,
        }
    }
}

/// The attributes of meshes that follow each other: those that all of them have, for the same
/// domain and of the same kind.
pub fn joined_attributes(lists: &[&[Attribute]]) -> Vec<Attribute> {
    let Some((first, others)) = lists.split_first() else { return Vec::new() };
    let joined = first.iter().filter_map(|attribute| {
        let mut joined = attribute.clone();
        for other in others {
            let same = |of: &&Attribute| of.name == attribute.name && of.domain == attribute.domain;
            match (&mut joined.values, &other.iter().find(same)?.values) {
                (AttributeValues::Scalars(all), AttributeValues::Scalars(more)) => all.extend(more),
                (AttributeValues::Pairs(all), AttributeValues::Pairs(more)) => all.extend(more),
                (AttributeValues::Vectors(all), AttributeValues::Vectors(more)) => all.extend(more),
                (AttributeValues::Flags(all), AttributeValues::Flags(more)) => all.extend(more),
                _ => return None,
            }
        }
        Some(joined)
    });
    joined.collect()
}

/// BLAKE3 of the faces, the groups and the attributes: topologies of a million faces are hashed
/// at every change, and SHA-256 takes longer than their subdivision.
fn hash(triangles: &[[u32; 3]], smooth: &[u32], attributes: &[Attribute]) -> Fingerprint {
    let mut hash = blake3::Hasher::new();
    let mut list = |values: &mut dyn Iterator<Item = u32>, count: usize| {
        hash.update(&(count as u64).to_le_bytes());
        let mut buffer = [0u8; 16 * 1024];
        loop {
            let mut length = 0;
            for (four, value) in buffer.chunks_exact_mut(4).zip(&mut *values) {
                four.copy_from_slice(&value.to_le_bytes());
                length += 4;
            }
            hash.update(&buffer[..length]);
            if length < buffer.len() {
                break;
            }
        }
    };
    list(&mut triangles.iter().flatten().copied(), triangles.len());
    list(&mut smooth.iter().copied(), smooth.len());
    for Attribute { name, domain, values } in attributes {
        list(&mut name.bytes().map(u32::from), name.len());
        let count = values.len() << 1 | *domain as usize;
        match values {
            AttributeValues::Scalars(values) => list(&mut values.iter().map(|v| v.to_bits()), count),
            AttributeValues::Pairs(values) => {
                list(&mut values.iter().flat_map(|v| v.to_array()).map(f32::to_bits), count);
            }
            AttributeValues::Vectors(values) => {
                list(&mut values.iter().flat_map(|v| v.to_array()).map(f32::to_bits), count);
            }
            AttributeValues::Flags(values) => list(&mut values.iter().map(|&v| u32::from(v)), count),
        }
    }
    Fingerprint(*hash.finalize().as_bytes().first_chunk().expect("16 of 32 bytes"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;

    #[test]
    fn normals_of_a_rest_shape_are_those_it_came_with() {
        for mesh in [primitive::torus(1.0, 0.3, primitive::AROUND), primitive::cuboid(Vec3::ONE, 0.0)] {
            let topology = Topology::of(&mesh);
            for (now, then) in topology.normals(&mesh.positions).iter().zip(&mesh.normals) {
                assert!(now.dot(*then) > 0.99, "{now} {then}");
            }
            let back = topology.mesh_at(mesh.positions.clone());
            assert_eq!((&back.triangles, &back.uvs), (&mesh.triangles, &mesh.uvs));
        }
    }

    #[test]
    fn the_hash_is_that_of_faces_and_attributes() {
        let mesh = primitive::cuboid(Vec3::ONE, 0.0);
        let of = |change: &dyn Fn(&mut Mesh)| {
            let mut mesh = mesh.clone();
            change(&mut mesh);
            Topology::of(&mesh).hash()
        };
        let as_it_is = of(&|_| {});
        assert_eq!(as_it_is, of(&|mesh| mesh.positions.iter_mut().for_each(|p| *p *= 2.0)));
        assert_ne!(as_it_is, of(&|mesh| mesh.triangles[0].rotate_left(1)));
        assert_ne!(as_it_is, of(&|mesh| mesh.uvs[3].x = 0.77));
    }

    #[test]
    fn unsound_topologies_are_refused() {
        assert!(Topology::new(vec![[0, 1, 3]], vec![0, 1, 2], Vec::new()).is_none());
        assert!(Topology::new(vec![[0, 1, 2]], vec![0, 2, 1], Vec::new()).is_none());
        let short = Attribute {
            name: "sail".to_owned(),
            domain: Domain::Face,
            values: AttributeValues::Flags(Vec::new()),
        };
        assert!(Topology::new(vec![[0, 1, 2]], vec![0, 1, 2], vec![short]).is_none());
    }
}
