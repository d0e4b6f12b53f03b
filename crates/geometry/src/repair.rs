//! Meshes without what a surface cannot have: faces without an area, and edges with more than two faces.

use crate::weld::sides;
use crate::{FaceGroup, Mesh, Weld, faces_at_edges, parts_by_edges};
use std::collections::HashMap;

/// Faces are flat below this double area, as a part of their longest side squared.
const LEAST_AREA: f32 = 1e-6;

impl Mesh {
    /// Whether a face has an area.
    pub fn has_area(&self, face: &[u32; 3]) -> bool {
        let [a, b, c] = face.map(|v| self.positions[v as usize]);
        let longest = (b - a).length_squared().max((c - a).length_squared());
        (b - a).cross(c - a).length() > LEAST_AREA * longest
    }

    /// The same mesh without faces that have no area, and with at most two faces at each edge: of the parts that meet at an edge with
    /// more, the smaller are left out. All vertices stay.
    #[must_use]
    pub fn repaired(self) -> Self {
        let mut kept: Vec<u32> = (0..self.triangles.len() as u32).collect();
        kept.retain(|face| self.has_area(&self.triangles[*face as usize]));
        let welded = Weld::new(&self.positions).faces(&self.triangles);
        // Each round leaves a part out, or ends.
        loop {
            let faces: Vec<[u32; 3]> = kept.iter().map(|face| welded[*face as usize]).collect();
            let crowded: HashMap<[u32; 2], u32> =
                faces_at_edges(&faces).into_iter().filter(|(_, count)| *count > 2).collect();
            if crowded.is_empty() {
                break;
            }
            let parts = parts_by_edges(&faces, |side| !crowded.contains_key(side));
            let mut areas = vec![0.0f64; faces.len()];
            for (part, face) in parts.iter().zip(&kept) {
                let [a, b, c] = self.triangles[*face as usize].map(|v| self.positions[v as usize].as_dvec3());
                areas[*part as usize] += (b - a).cross(c - a).length();
            }
            let concerned =
                faces.iter().zip(&parts).filter(|(face, _)| sides(face).any(|s| crowded.contains_key(&s)));
            let mut concerned: Vec<u32> = concerned.map(|(_, part)| *part).collect();
            concerned.sort_unstable();
            concerned.dedup();
            if let [only] = concerned[..] {
                // One part meets itself: its faces beyond the second at an edge go.
                let mut seen: HashMap<[u32; 2], u32> = HashMap::new();
                let mut each = faces.iter().zip(&parts);
                kept.retain(|_| {
                    let (face, part) = each.next().expect("as many as are kept");
                    let crowded_sides = sides(face).filter(|side| crowded.contains_key(side));
                    let mut beyond = false;
                    for side in crowded_sides {
                        let count = seen.entry(side).or_default();
                        *count += 1;
                        beyond |= *count > 2;
                    }
                    *part != only || !beyond
                });
                continue;
            }
            let size = |part: &u32| areas[*part as usize];
            let smallest =
                concerned.iter().copied().min_by(|a, b| size(a).total_cmp(&size(b)).then(a.cmp(b)));
            let mut of = parts.iter();
            kept.retain(|_| of.next().copied() != smallest);
        }
        self.with_faces(&kept)
    }

    /// The same mesh with these of its faces alone, in their order.
    fn with_faces(self, kept: &[u32]) -> Self {
        if kept.len() == self.triangles.len() {
            return self;
        }
        let mut number = vec![None; self.triangles.len()];
        (0..).zip(kept).for_each(|(new, old)| number[*old as usize] = Some(new));
        let group = |group: &FaceGroup| FaceGroup {
            name: group.name.clone(),
            faces: group.faces.iter().filter_map(|face| number[*face as usize]).collect(),
        };
        Self {
            groups: self.groups.iter().map(group).filter(|group| !group.faces.is_empty()).collect(),
            triangles: kept.iter().map(|face| self.triangles[*face as usize]).collect(),
            ..self
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;
    use glam::Vec3;

    fn crowded(mesh: &Mesh) -> usize {
        let faces = Weld::new(&mesh.positions).faces(&mesh.triangles);
        faces_at_edges(&faces).values().filter(|count| **count > 2).count()
    }

    fn with(mut mesh: Mesh, corners: [Vec3; 4]) -> Mesh {
        let first = mesh.positions.len() as u32;
        mesh.positions.extend(corners);
        mesh.normals.extend([Vec3::Y; 4]);
        mesh.uvs.extend([glam::Vec2::ZERO; 4]);
        mesh.triangles.extend([[first, first + 1, first + 2], [first, first + 2, first + 3]]);
        mesh
    }

    #[test]
    fn a_wall_within_a_box_and_a_fin_on_it_are_left_out() {
        let mesh = primitive::cuboid(Vec3::ONE, 0.0);
        let at = |x: f32, y: f32, z: f32| Vec3::new(x, y, z);
        // From the lower back edge to the upper front one, through the box.
        let wall = [at(-0.5, -0.5, -0.5), at(0.5, -0.5, -0.5), at(0.5, 0.5, 0.5), at(-0.5, 0.5, 0.5)];
        let fin = [at(-0.5, 0.5, -0.5), at(0.5, 0.5, -0.5), at(0.5, 0.7, -0.7), at(-0.5, 0.7, -0.7)];
        let whole = with(with(mesh.clone(), wall), fin);
        assert!(crowded(&whole) >= 3);
        let repaired = whole.repaired();
        assert_eq!(crowded(&repaired), 0);
        assert_eq!(repaired.triangles, mesh.triangles);
        assert!(repaired.is_closed());
    }

    #[test]
    fn faces_without_an_area_are_left_out_and_groups_follow() {
        let mut mesh = primitive::plane(1.0, 1.0);
        let faces = mesh.triangles.clone();
        mesh.triangles.insert(0, [0, 1, 1]);
        mesh.groups = vec![
            FaceGroup { name: "flat".to_owned(), faces: vec![0] },
            FaceGroup { name: "last".to_owned(), faces: vec![faces.len() as u32] },
        ];
        let repaired = mesh.repaired();
        assert_eq!(repaired.triangles, faces);
        assert_eq!(repaired.groups.len(), 1);
        assert_eq!(repaired.groups[0].faces, [faces.len() as u32 - 1]);
    }

    #[test]
    fn a_part_that_meets_itself_keeps_two_faces_at_the_edge() {
        // Three faces around one edge, joined beyond it.
        let at = |x: f32, y: f32, z: f32| Vec3::new(x, y, z);
        let positions =
            vec![at(0., 0., 0.), at(1., 0., 0.), at(0.5, 1., 0.), at(0.5, 0., 1.), at(0.5, -1., 0.)];
        let triangles = vec![[0, 1, 2], [1, 0, 3], [0, 1, 4], [0, 2, 3], [0, 3, 4]];
        let mesh = Mesh { positions, triangles, ..Mesh::default() };
        assert_eq!(crowded(&mesh), 2);
        assert_eq!(crowded(&mesh.repaired()), 0);
    }
}
