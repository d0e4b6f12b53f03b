//! A triangle mesh.

use crate::Bounds;
use crate::weld::Weld;
use glam::{Vec2, Vec3};
use std::collections::{BTreeMap, HashMap};
use thiserror::Error;

/// A triangle mesh with a normal and a UV at every vertex. Vertices are split
/// where the normal or the UV jumps.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Mesh {
    /// Vertex positions in metres.
    pub positions: Vec<Vec3>,
    /// Unit normals, one a vertex.
    pub normals: Vec<Vec3>,
    /// UVs, one a vertex.
    pub uvs: Vec<Vec2>,
    /// Brightness 0–1 of the colours that the vertices came with; empty if they have none.
    pub weights: Vec<f32>,
    /// Vertex indices, counter-clockwise from outside.
    pub triangles: Vec<[u32; 3]>,
    /// Named groups of faces that the mesh came with.
    pub groups: Vec<FaceGroup>,
}

/// Faces of a mesh with a name.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FaceGroup {
    /// Its name.
    pub name: String,
    /// Indices of its triangles.
    pub faces: Vec<u32>,
}

/// Why a mesh cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum MeshError {
    /// There is no face with an area.
    #[error("the mesh has no faces with an area")]
    NoFaces,
    /// A face names a vertex that is not there.
    #[error("face {face} names vertex {vertex}, but there are {vertices}")]
    BadIndex {
        /// Index of the face.
        face: usize,
        /// The vertex it names.
        vertex: u32,
        /// The number of vertices.
        vertices: usize,
    },
    /// A coordinate is not a finite number.
    #[error("vertex {vertex} is not finite")]
    NotFinite {
        /// Index of the vertex.
        vertex: usize,
    },
}

/// Most faces around a vertex that are compared one with another.
const MAX_AROUND: usize = 256;
/// Directions that the faces around a vertex of more are gathered in, along each
/// of the three axes.
const DIRECTIONS: f32 = 11.0;

/// The faces around a vertex, as (face, angle), those of about one direction
/// as one: the cost of comparing all pairs grows with their square. What stands
/// for several is added to `faces`.
fn gathered(corners: &[(usize, f32)], faces: &mut Vec<Vec3>) -> Vec<(usize, f32)> {
    let mut sums: BTreeMap<[i8; 3], Vec3> = BTreeMap::new();
    for &(face, angle) in corners {
        let cell = (faces[face] * (0.5 * DIRECTIONS)).round().to_array().map(|v| v as i8);
        *sums.entry(cell).or_default() += faces[face] * angle;
    }
    let mut gathered = Vec::new();
    for sum in sums.into_values() {
        faces.push(sum.normalize_or_zero());
        gathered.push((faces.len() - 1, sum.length()));
    }
    gathered
}

impl Mesh {
    /// Area of all faces, m².
    pub fn area(&self) -> f32 {
        let corner = |v: u32| self.positions[v as usize];
        let twice = |[a, b, c]: [u32; 3]| (corner(b) - corner(a)).cross(corner(c) - corner(a)).length();
        0.5 * self.triangles.iter().copied().map(twice).sum::<f32>()
    }

    /// The first thing that keeps this mesh from being used.
    ///
    /// # Errors
    /// [`MeshError`] names the face or vertex.
    pub fn check(&self) -> Result<(), MeshError> {
        let vertices = self.positions.len();
        if let Some(vertex) = self.positions.iter().position(|p| !p.is_finite()) {
            return Err(MeshError::NotFinite { vertex });
        }
        for (face, triangle) in self.triangles.iter().enumerate() {
            if let Some(&vertex) = triangle.iter().find(|&&v| v as usize >= vertices) {
                return Err(MeshError::BadIndex { face, vertex, vertices });
            }
        }
        let has_area = |t: &[u32; 3]| {
            let [a, b, c] = t.map(|v| self.positions[v as usize]);
            (b - a).cross(c - a).length() > 0.0
        };
        if self.triangles.iter().any(has_area) { Ok(()) } else { Err(MeshError::NoFaces) }
    }

    /// The box around all vertices.
    pub fn bounds(&self) -> Bounds {
        self.positions.iter().fold(Bounds::EMPTY, |bounds, &p| bounds.with(p))
    }

    /// The mesh scaled about its origin.
    pub fn scaled(mut self, scale: f32) -> Self {
        self.positions.iter_mut().for_each(|p| *p *= scale);
        self
    }

    /// Sets normals from the faces: shared across edges flatter than
    /// `crease_rad`, weighted by the corner's angle (G. Thürmer and
    /// C. Wüthrich, *Computing vertex normals from polygonal facets*, 1998).
    pub fn with_normals(self, crease_rad: f32) -> Self {
        let face_normal = |t: &[u32; 3]| {
            let [a, b, c] = t.map(|v| self.positions[v as usize]);
            (b - a).cross(c - a).normalize_or_zero()
        };
        let mut faces: Vec<Vec3> = self.triangles.iter().map(face_normal).collect();
        let mut around: HashMap<[u32; 3], Vec<(usize, f32)>> = HashMap::new();
        let position = |v: u32| self.positions[v as usize].to_array().map(f32::to_bits);
        for (face, t) in self.triangles.iter().enumerate() {
            for corner in 0..3 {
                let [a, b, c] = [0, 1, 2].map(|i| self.positions[t[(corner + i) % 3] as usize]);
                // Exact for narrow corners too, where a cosine is 1 within rounding.
                let angle = (b - a).cross(c - a).length().atan2((b - a).dot(c - a));
                around
                    .entry(position(t[corner]))
                    .or_default()
                    .push((face, if angle.is_finite() { angle } else { 0.0 }));
            }
        }
        for corners in around.values_mut().filter(|corners| corners.len() > MAX_AROUND) {
            *corners = gathered(corners, &mut faces);
        }
        let least = crease_rad.cos();
        let mut out = Mesh { groups: self.groups.clone(), ..Mesh::default() };
        let mut made: HashMap<(u32, [u32; 3]), u32> = HashMap::new();
        for (face, t) in self.triangles.iter().enumerate() {
            out.triangles.push(t.map(|v| {
                let sum: Vec3 = around[&position(v)]
                    .iter()
                    .filter(|(other, _)| faces[*other].dot(faces[face]) >= least)
                    .map(|&(other, angle)| faces[other] * angle)
                    .sum();
                let normal = sum.try_normalize().unwrap_or(Vec3::Y);
                *made.entry((v, normal.to_array().map(f32::to_bits))).or_insert_with(|| {
                    out.positions.push(self.positions[v as usize]);
                    out.uvs.push(self.uvs.get(v as usize).copied().unwrap_or_default());
                    out.normals.push(normal);
                    out.weights.extend(self.weights.get(v as usize));
                    out.positions.len() as u32 - 1
                })
            }));
        }
        out
    }

    /// Whether every edge is shared by two faces that run it in opposite
    /// directions, vertices at one place counting as one.
    pub fn is_closed(&self) -> bool {
        is_closed(&self.positions, &self.triangles)
    }
}

/// Unit normal of a triangle, on the side its vertices turn left about.
pub(crate) fn face_normal(positions: &[Vec3], triangle: &[u32; 3]) -> Vec3 {
    let [a, b, c] = triangle.map(|v| positions[v as usize]);
    (b - a).cross(c - a).normalize_or_zero()
}

/// As [`Mesh::is_closed`], of triangles between positions.
pub(crate) fn is_closed(positions: &[Vec3], triangles: &[[u32; 3]]) -> bool {
    let mut edges: HashMap<(u32, u32), i32> = HashMap::new();
    for v in Weld::new(positions).faces(triangles) {
        for i in 0..3 {
            let (a, b) = (v[i], v[(i + 1) % 3]);
            if a != b {
                *edges.entry((a.min(b), a.max(b))).or_default() += if a < b { 1 } else { -1 };
            }
        }
    }
    !edges.is_empty() && edges.values().all(|&sum| sum == 0)
}
