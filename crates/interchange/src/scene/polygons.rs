//! Polygons whose corners, vertices and faces have values, as triangles.

use crate::MAX_FACES;
use crate::samples::{GroupedMesh, MAX_GROUPS};
use geometry::{FaceGroup, Mesh, brightness};
use glam::{DMat4, DVec3, Vec2, Vec3};
use std::collections::HashMap;

/// The thing that a value belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Domain {
    /// All of the mesh.
    Mesh,
    /// A face.
    Face,
    /// A vertex.
    Vertex,
    /// A corner of a face.
    Corner,
}

/// Values on a domain.
#[derive(Clone, Debug)]
pub(crate) struct DomainValues<T> {
    values: Vec<T>,
    /// The value of each thing; none: they are in order.
    indices: Option<Vec<u32>>,
    domain: Domain,
}

impl<T: Copy> DomainValues<T> {
    /// Values with the indices of those that each thing has.
    pub fn new(values: Vec<T>, indices: Option<Vec<u32>>, domain: Domain) -> Self {
        Self { values, indices, domain }
    }

    /// As [`Self::new`], with the domain that fits the number of values.
    pub fn fitting(values: Vec<T>, indices: Option<Vec<u32>>, of: &Polygons) -> Option<Self> {
        let count = indices.as_ref().map_or(values.len(), Vec::len);
        let domains = [
            (of.corners.len(), Domain::Corner),
            (of.points.len(), Domain::Vertex),
            (of.counts.len(), Domain::Face),
            (1, Domain::Mesh),
        ];
        let (_, domain) = domains.into_iter().find(|(things, _)| *things == count)?;
        Some(Self { values, indices, domain })
    }

    fn at(&self, face: usize, corner: usize, vertex: usize) -> Option<T> {
        let thing = match self.domain {
            Domain::Mesh => 0,
            Domain::Face => face,
            Domain::Vertex => vertex,
            Domain::Corner => corner,
        };
        let index = match &self.indices {
            Some(indices) => *indices.get(thing)? as usize,
            None => thing,
        };
        self.values.get(index).copied()
    }
}

/// A mesh of polygons.
#[derive(Clone, Debug, Default)]
pub(crate) struct Polygons {
    /// Number of corners of each face.
    pub counts: Vec<u32>,
    /// The vertices of the corners, face by face.
    pub corners: Vec<u32>,
    /// Vertex positions.
    pub points: Vec<Vec3>,
    /// Velocities of the vertices in units a frame; empty: not known.
    pub velocities: Vec<Vec3>,
    /// Texture coordinates.
    pub uvs: Option<DomainValues<Vec2>>,
    /// Normals.
    pub normals: Option<DomainValues<Vec3>>,
    /// Colours, linear.
    pub colours: Option<DomainValues<Vec3>>,
    /// Names of groups, with the faces of each.
    pub groups: Vec<(String, Vec<u32>)>,
    /// Whether the corners of a face are in clockwise order, seen from outside.
    pub clockwise: bool,
}

impl Polygons {
    /// An icosahedron at each point, with its diameter: particles as a mesh.
    pub fn of_points(points: &[Vec3], widths: &[f32], velocities: &[Vec3]) -> Result<Self, String> {
        let ball = geometry::primitive::icosahedron();
        if points.len().saturating_mul(ball.triangles.len()) > MAX_FACES {
            return Err(format!("has {} points; at most {}", points.len(), MAX_FACES / ball.triangles.len()));
        }
        let mut polygons = Self::default();
        for (i, centre) in points.iter().enumerate() {
            let width = widths.get(i).or(widths.first()).copied().unwrap_or(0.01);
            let base = polygons.points.len() as u32;
            polygons.points.extend(ball.positions.iter().map(|p| *centre + *p * (width / 2.0)));
            polygons.corners.extend(ball.triangles.iter().flatten().map(|v| base + v));
            if velocities.len() == points.len() {
                polygons.velocities.extend(ball.positions.iter().map(|_| velocities[i]));
            }
        }
        polygons.counts = vec![3; polygons.corners.len() / 3];
        Ok(polygons)
    }

    /// The triangles. Vertices whose corners have several values are split.
    ///
    /// # Errors
    /// A sentence on numbers that do not fit each other.
    pub fn triangulated(&self) -> Result<GroupedMesh, String> {
        let total: u64 = self.counts.iter().map(|count| u64::from(*count)).sum();
        if total != self.corners.len() as u64 {
            return Err(format!("has faces with {total} corners, but names {}", self.corners.len()));
        }
        if total.saturating_sub(2 * self.counts.len() as u64) > MAX_FACES as u64 {
            return Err(format!("has {total} corners of faces; at most {MAX_FACES} triangles"));
        }
        let mut of = GroupedMesh::default();
        let mut first_triangle = Vec::with_capacity(self.counts.len() + 1);
        let mut made: HashMap<(u32, [u32; 8]), u32> = HashMap::new();
        let moving = self.velocities.len() == self.points.len();
        let mut start = 0;
        for (face, &count) in self.counts.iter().enumerate() {
            first_triangle.push(of.mesh.triangles.len() as u32);
            let count = count as usize;
            let mut ring = Vec::with_capacity(count);
            for corner in start..start + count {
                let vertex = self.corners[corner];
                let position = *self.points.get(vertex as usize).ok_or_else(|| {
                    format!("has a face that names vertex {vertex}, but there are {}", self.points.len())
                })?;
                let at = |values: &Option<DomainValues<Vec3>>| {
                    values.as_ref().and_then(|values| values.at(face, corner, vertex as usize))
                };
                let uv = self.uvs.as_ref().and_then(|uvs| uvs.at(face, corner, vertex as usize));
                let (uv, normal) = (uv.unwrap_or_default(), at(&self.normals).unwrap_or_default());
                let colour = at(&self.colours).unwrap_or(Vec3::ONE);
                let key = [uv.x, uv.y, normal.x, normal.y, normal.z, colour.x, colour.y, colour.z];
                ring.push(*made.entry((vertex, key.map(f32::to_bits))).or_insert_with(|| {
                    of.mesh.positions.push(position);
                    of.mesh.uvs.push(uv);
                    of.mesh.normals.push(normal.normalize_or_zero());
                    if self.colours.is_some() {
                        of.colours.push(colour);
                        of.mesh.weights.push(brightness(colour));
                    }
                    if moving {
                        of.velocities.push(self.velocities[vertex as usize]);
                    }
                    of.mesh.positions.len() as u32 - 1
                }));
            }
            start += count;
            for i in 1..count.saturating_sub(1) {
                let [a, b, c] = [ring[0], ring[i], ring[i + 1]];
                of.mesh.triangles.push(if self.clockwise { [a, c, b] } else { [a, b, c] });
            }
        }
        first_triangle.push(of.mesh.triangles.len() as u32);
        if self.normals.is_none() {
            of.mesh.normals.clear();
        }
        if self.uvs.is_none() {
            of.mesh.uvs.fill(Vec2::ZERO);
        }
        for (name, faces) in self.groups.iter().take(MAX_GROUPS) {
            let range = |face: &u32| {
                let face = *face as usize;
                first_triangle.get(face).zip(first_triangle.get(face + 1)).map(|(from, to)| *from..*to)
            };
            of.groups.push((name.clone(), faces.iter().filter_map(range).flatten().collect()));
        }
        Ok(of)
    }
}

impl GroupedMesh {
    /// Adds another mesh, moved by a matrix.
    ///
    /// # Errors
    /// A sentence if there are too many triangles.
    pub fn append(&mut self, other: Self, matrix: &DMat4) -> Result<(), String> {
        if self.mesh.triangles.len() + other.mesh.triangles.len() > MAX_FACES {
            return Err(format!("has more than {MAX_FACES} faces"));
        }
        let (vertices, faces) = (self.mesh.positions.len(), self.mesh.triangles.len() as u32);
        let point = |p: &Vec3| matrix.transform_point3(p.as_dvec3()).as_vec3();
        let vector = |v: &Vec3| matrix.transform_vector3(v.as_dvec3()).as_vec3();
        self.mesh.positions.extend(other.mesh.positions.iter().map(point));
        let count = self.mesh.positions.len();
        // Values that only some parts have are those of none elsewhere.
        let has = |ours: usize, theirs: usize| vertices == ours && count - vertices == theirs;
        if has(self.velocities.len(), other.velocities.len()) {
            self.velocities.extend(other.velocities.iter().map(vector));
        } else {
            self.velocities.clear();
        }
        if has(self.mesh.normals.len(), other.mesh.normals.len()) {
            let normals = matrix.inverse().transpose();
            let turned =
                |n: &Vec3| normals.transform_vector3(n.as_dvec3()).normalize_or(DVec3::ZERO).as_vec3();
            self.mesh.normals.extend(other.mesh.normals.iter().map(turned));
        } else {
            self.mesh.normals.clear();
        }
        self.mesh.uvs.extend(other.mesh.uvs);
        self.mesh.uvs.resize(count, Vec2::ZERO);
        if !self.colours.is_empty() || !other.colours.is_empty() {
            self.colours.resize(vertices, Vec3::ONE);
            self.colours.extend(other.colours);
            self.colours.resize(count, Vec3::ONE);
            self.mesh.weights = self.colours.iter().map(|colour| brightness(*colour)).collect();
        }
        let mirrored = matrix.determinant() < 0.0;
        self.mesh.triangles.extend(other.mesh.triangles.iter().map(|t| {
            let [a, b, c] = t.map(|v| v + vertices as u32);
            if mirrored { [a, c, b] } else { [a, b, c] }
        }));
        for (name, list) in other.groups {
            let list = list.into_iter().map(|face| face + faces);
            match self.groups.iter().position(|(known, _)| *known == name) {
                Some(at) => self.groups[at].1.extend(list),
                None if self.groups.len() < MAX_GROUPS => self.groups.push((name, list.collect())),
                None => {}
            }
        }
        Ok(())
    }

    /// All faces as a group.
    pub fn grouped(mut self, name: &str) -> Self {
        let all = (0..self.mesh.triangles.len() as u32).collect();
        self.groups.insert(0, (name.chars().take(80).collect(), all));
        self
    }
}

/// The mesh with its groups.
impl From<GroupedMesh> for Mesh {
    fn from(of: GroupedMesh) -> Self {
        let groups = of.groups.into_iter().map(|(name, faces)| FaceGroup { name, faces }).collect();
        Self { groups, ..of.mesh }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two squares side by side, that share an edge.
    fn squares() -> Polygons {
        Polygons {
            counts: vec![4, 4],
            corners: vec![0, 1, 4, 3, 1, 2, 5, 4],
            points: (0..6).map(|i| Vec3::new((i % 3) as f32, 0.0, -(i / 3) as f32)).collect(),
            ..Polygons::default()
        }
    }

    #[test]
    fn vertices_are_split_where_their_corners_differ() {
        let plain = squares().triangulated().unwrap();
        assert_eq!((plain.mesh.positions.len(), plain.mesh.triangles.len()), (6, 4));
        let uvs = (0..8).map(|i| Vec2::new(i as f32, 0.0)).collect();
        let uvs = Some(DomainValues::new(uvs, None, Domain::Corner));
        let split = Polygons { uvs, ..squares() }.triangulated().unwrap();
        assert_eq!(split.mesh.positions.len(), 8);
        let by_face = DomainValues::new(vec![Vec3::X, Vec3::Y], None, Domain::Face);
        let colours = Polygons { colours: Some(by_face), ..squares() }.triangulated().unwrap();
        assert_eq!(
            (colours.mesh.positions.len(), colours.colours[0], colours.colours[7]),
            (8, Vec3::X, Vec3::Y)
        );
    }

    #[test]
    fn groups_and_clockwise_corners_come_along_and_a_mirror_turns_faces_over() {
        let groups = vec![("right".to_owned(), vec![1])];
        let of = Polygons { groups, clockwise: true, ..squares() }.triangulated().unwrap();
        assert_eq!(of.groups, [("right".to_owned(), vec![2, 3])]);
        let up = |of: &GroupedMesh| {
            let [a, b, c] = of.mesh.triangles[0].map(|v| of.mesh.positions[v as usize]);
            (b - a).cross(c - a).y
        };
        assert!(up(&of) < 0.0);
        let mut mirrored = GroupedMesh::default();
        mirrored.append(of, &DMat4::from_scale(DVec3::new(-1.0, 1.0, 1.0))).unwrap();
        assert!(up(&mirrored) < 0.0, "seen from the same side as before");
        assert_eq!(mirrored.mesh.positions[1].x, -1.0);
    }

    #[test]
    fn a_particle_is_a_closed_round_mesh_of_its_width() {
        let of = Polygons::of_points(&[Vec3::Y], &[0.5], &[]).unwrap();
        assert_eq!((of.points.len(), of.counts.len()), (12, 20));
        assert!(of.points.iter().all(|p| (p.distance(Vec3::Y) - 0.25).abs() < 1e-6));
        let mesh = of.triangulated().unwrap().mesh;
        let volume: f32 = mesh
            .triangles
            .iter()
            .map(|t| t.map(|v| mesh.positions[v as usize] - Vec3::Y))
            .map(|[a, b, c]| a.dot(b.cross(c)) / 6.0)
            .sum();
        // That of the icosahedron of circumradius 1 is 2.536150.
        assert!((volume - 2.536_15 * 0.25f32.powi(3)).abs() < 1e-5, "{volume}");
    }
}
