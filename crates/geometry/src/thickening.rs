//! A sheet given thickness: a surface on each side, and walls along its borders.

use crate::topology::{Attribute, Domain, Topology};
use crate::weld::{Weld, numbered};
use glam::{Vec3, Vec4};
use std::collections::HashMap;
use std::sync::Arc;

/// At a fold the two sides go at most this much further out than half the thickness.
const MOST_MITRE: f32 = 2.0;

/// A sheet that is thickened.
#[derive(Debug)]
pub struct Thickening {
    topology: Arc<Topology>,
    /// For each vertex of the thick sheet, the vertex it comes from, and its side: 1 or −1.
    from: Vec<(u32, f32)>,
    weld: Weld,
    triangles: Vec<[u32; 3]>,
    /// The points of each triangle.
    faces: Vec<[u32; 3]>,
}

impl Thickening {
    /// For the faces of a mesh; `positions` tell which vertices are at one point. The
    /// outer side keeps the order of the vertices, the inner one follows, then the walls.
    pub fn new(topology: &Topology, positions: &[Vec3]) -> Self {
        let weld = Weld::new(positions);
        let (n, outer) = (positions.len() as u32, topology.triangles());
        let mut triangles = outer.to_vec();
        triangles.extend(outer.iter().map(|&[a, b, c]| [n + a, n + c, n + b]));
        let mut from: Vec<(u32, f32)> = (0..n).map(|v| (v, 1.0)).chain((0..n).map(|v| (v, -1.0))).collect();
        let most = topology.smooth().iter().max().map_or(0, |most| most + 1);
        let mut smooth: Vec<u32> = topology.smooth().to_vec();
        smooth.extend(topology.smooth().iter().map(|group| most + group));
        let mut next_group = 2 * most;
        let mut rows: Vec<u32> = (0..outer.len() as u32).chain(0..outer.len() as u32).collect();
        // Walls: a group runs along a border, so that it is smooth where the border is.
        let mut groups: HashMap<(u32, bool), u32> = HashMap::new();
        for ([a, b], face) in borders(outer, &weld) {
            let first = from.len() as u32;
            for (v, side) in [(a, 1.0), (b, 1.0), (b, -1.0), (a, -1.0)] {
                from.push((v, side));
                let group = *groups.entry((weld.point_of[v as usize], side > 0.0)).or_insert_with(|| {
                    next_group += 1;
                    next_group - 1
                });
                smooth.push(group);
            }
            // From outside, the border runs the other way round.
            triangles.push([first + 1, first, first + 3]);
            triangles.push([first + 1, first + 3, first + 2]);
            rows.extend([face, face]);
        }
        let vertices: Vec<u32> = from.iter().map(|(v, _)| *v).collect();
        let attribute = |attribute: &Attribute| Attribute {
            name: attribute.name.clone(),
            domain: attribute.domain,
            values: crate::subdivision::picked(
                &attribute.values,
                if attribute.domain == Domain::Vertex { &vertices } else { &rows },
            ),
        };
        let attributes = topology.attributes().iter().map(attribute).collect();
        let smooth = numbered(&smooth);
        let thick = Topology::new(triangles, smooth, attributes).expect("a thick sheet is sound");
        let (triangles, faces) = (outer.to_vec(), weld.faces(outer));
        Self { topology: Arc::new(thick), from, weld, triangles, faces }
    }

    /// The faces of the thick sheet with their attributes.
    pub fn topology(&self) -> &Arc<Topology> {
        &self.topology
    }

    /// Positions on the thick sheet, m: each side half of `thickness_m` away, both moved by
    /// `offset`, −1 to 1, of that half along the normals.
    pub fn apply(&self, positions: &[Vec3], thickness_m: f32, offset: f32) -> Vec<Vec3> {
        let normals = self.mitred(positions);
        let half = 0.5 * thickness_m;
        let moved = |&(v, side): &(u32, f32)| {
            positions[v as usize]
                + normals[self.weld.point_of[v as usize] as usize] * (half * (side + offset))
        };
        self.from.iter().map(moved).collect()
    }

    /// Vectors by vertex, such as velocities, as they are on both sides.
    pub fn carried(&self, vectors: &[Vec3]) -> Vec<Vec3> {
        self.from.iter().map(|&(v, _)| vectors[v as usize]).collect()
    }

    /// For each point the vector that is 1 m from all faces around it, as far as there is one.
    fn mitred(&self, positions: &[Vec3]) -> Vec<Vec3> {
        // The weighted sum of the faces' normals, and of the weights.
        let mut sums = vec![Vec4::ZERO; self.weld.len()];
        for (t, points) in self.triangles.iter().zip(&self.faces) {
            let [a, b, c] = t.map(|v| positions[v as usize]);
            let [ab, bc, ca] = [b - a, c - b, a - c];
            let normal = ab.cross(bc);
            let length = normal.length();
            if length <= 0.0 {
                continue;
            }
            let normal = (normal / length).extend(1.0);
            let [x, y, z] = [ab, bc, ca].map(|edge| edge.length_squared());
            // By sin θ over the lengths of both edges, so that the cut of a quad does not count
            // (N. Max, *Weights for computing vertex normals from facet normals*, 1999).
            for (&point, product) in points.iter().zip([x * z, x * y, y * z]) {
                sums[point as usize] += normal * (length / product);
            }
        }
        let mitred = |sum: &Vec4| {
            let (normal, length) = sum.truncate().normalize_and_length();
            // The mean cosine between the normal and those of the faces.
            let cosine = if sum.w > 0.0 { length / sum.w } else { 1.0 };
            normal * (1.0 / cosine.max(1e-3)).min(MOST_MITRE)
        };
        sums.iter().map(mitred).collect()
    }
}

/// The edges along which there is one face, in its direction, with that face.
fn borders(triangles: &[[u32; 3]], weld: &Weld) -> Vec<([u32; 2], u32)> {
    let mut edges: HashMap<[u32; 2], (i32, [u32; 2], u32)> = HashMap::with_capacity(triangles.len() * 3 / 2);
    for (face, t) in triangles.iter().enumerate() {
        for k in 0..3 {
            let ends = [t[k], t[(k + 1) % 3]];
            let [a, b] = ends.map(|v| weld.point_of[v as usize]);
            let edge = edges.entry([a.min(b), a.max(b)]).or_insert((0, ends, face as u32));
            edge.0 += 1;
        }
    }
    let mut borders: Vec<([u32; 2], u32)> =
        edges.into_values().filter(|(count, ..)| *count == 1).map(|(_, ends, face)| (ends, face)).collect();
    borders.sort_unstable_by_key(|(ends, face)| (*face, *ends));
    borders
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{mass_properties, primitive};

    fn volume(thickening: &Thickening, positions: &[Vec3]) -> f32 {
        mass_properties(&thickening.topology().mesh_at(positions.to_vec())).unwrap().volume
    }

    #[test]
    fn a_sheet_becomes_a_closed_box() {
        let mesh = primitive::plane(2.0, 1.0);
        let thickening = Thickening::new(&Topology::of(&mesh), &mesh.positions);
        let positions = thickening.apply(&mesh.positions, 0.1, 0.0);
        let volume = volume(&thickening, &positions);
        assert!((volume - 0.2).abs() < 1e-6, "{volume}");
        let (low, high) = positions.iter().fold((f32::MAX, f32::MIN), |(a, b), p| (a.min(p.y), b.max(p.y)));
        assert!((low + 0.05).abs() < 1e-6 && (high - 0.05).abs() < 1e-6);
        // All of it on one side.
        let above = thickening.apply(&mesh.positions, 0.1, 1.0);
        assert!(above.iter().all(|p| p.y > -1e-6));
        let normals = thickening.topology().normals(&positions);
        for t in thickening.topology().triangles() {
            let [a, b, c] = t.map(|v| positions[v as usize]);
            let normal = (b - a).cross(c - a).normalize();
            assert!(normals[t[0] as usize].dot(normal) > 0.6, "walls have normals of their own");
        }
    }

    #[test]
    fn a_fold_keeps_its_thickness() {
        // Two level squares that meet at a right angle.
        let positions = vec![
            Vec3::new(0.0, 0.0, 0.0),
            Vec3::new(0.0, 0.0, 1.0),
            Vec3::new(1.0, 0.0, 1.0),
            Vec3::new(1.0, 0.0, 0.0),
            Vec3::new(0.0, 1.0, 0.0),
            Vec3::new(0.0, 1.0, 1.0),
        ];
        let triangles = vec![[0, 1, 2], [0, 2, 3], [4, 5, 1], [4, 1, 0]];
        let topology = Topology::new(triangles, vec![0, 1, 2, 3, 4, 5], Vec::new()).unwrap();
        let thickening = Thickening::new(&topology, &positions);
        let thick = thickening.apply(&positions, 0.2, 0.0);
        // The inner edge of the fold is at a mitre: half the thickness from both squares.
        assert!(thick[0].distance(Vec3::new(0.1, 0.1, 0.0)) < 1e-5, "{}", thick[0]);
        let volume = volume(&thickening, &thick);
        assert!((volume - 0.4).abs() < 1e-5, "{volume}");
    }

    #[test]
    fn a_closed_surface_gets_an_inner_one_and_no_walls() {
        let mesh = primitive::sphere(1.0, 24);
        let topology = Topology::of(&mesh);
        let thickening = Thickening::new(&topology, &mesh.positions);
        assert_eq!(thickening.topology().triangles().len(), 2 * topology.triangles().len());
        assert_eq!(thickening.topology().uvs().len(), 2 * mesh.uvs.len());
    }
}
