//! Slivers of a mesh turned into better triangles.
//!
//! The edge between two triangles in nearly one plane goes the other way where the two angles opposite to it sum to much more
//! than half a turn (B. Delaunay, *Sur la sphère vide*, 1934; C. Lawson, *Software for C¹ surface interpolation*, 1977). Only
//! clearly bad edges are turned, so that a mesh that is well made stays as it is.

use crate::Mesh;
use glam::Vec3;
use std::collections::{BTreeMap, BTreeSet};
use std::f32::consts::PI;

/// Sum of the opposite angles from which an edge is turned, rad.
const TURNED_FROM: f32 = PI * 1.15;
/// Cosine of the greatest angle between the two triangles.
const FLAT: f32 = 0.985;
/// Most passes over all edges.
const PASSES: u32 = 12;

impl Mesh {
    /// The same surface without slivers where turning edges takes them away: the vertices stay, and the number of triangles.
    #[must_use]
    pub fn without_slivers(mut self) -> Self {
        for _ in 0..PASSES {
            if !self.turn_edges() {
                break;
            }
        }
        self
    }

    /// Turns edges once; whether any was.
    fn turn_edges(&mut self) -> bool {
        let mut beside: BTreeMap<[u32; 2], Vec<u32>> = BTreeMap::new();
        for (face, [a, b, c]) in (0..).zip(&self.triangles) {
            for [p, q] in [[*a, *b], [*b, *c], [*c, *a]] {
                beside.entry([p.min(q), p.max(q)]).or_default().push(face);
            }
        }
        let mut touched = vec![false; self.triangles.len()];
        let mut made = BTreeSet::new();
        for faces in beside.values() {
            let [one, two] = faces[..] else { continue };
            if touched[one as usize] || touched[two as usize] {
                continue;
            }
            let Some(turned) = self.turned(self.triangles[one as usize], self.triangles[two as usize]) else {
                continue;
            };
            let [_, c, d] = turned[0];
            // An edge has two triangles at most.
            let edge = [c.min(d), c.max(d)];
            if beside.contains_key(&edge) || !made.insert(edge) {
                continue;
            }
            (self.triangles[one as usize], self.triangles[two as usize]) = (turned[0], turned[1]);
            (touched[one as usize], touched[two as usize]) = (true, true);
        }
        !made.is_empty()
    }

    /// Two triangles that share an edge with that edge turned, as [p, d, c] and [q, c, d] for its ends p and q and the corners c and d opposite to it;
    /// none: it is better as it is.
    fn turned(&self, one: [u32; 3], two: [u32; 3]) -> Option<[[u32; 3]; 2]> {
        let corner = (0..3).find(|i| !two.contains(&one[*i]))?;
        let (c, p, q) = (one[corner], one[(corner + 1) % 3], one[(corner + 2) % 3]);
        let d = *two.iter().find(|v| !one.contains(v))?;
        // The second runs along the edge the other way.
        let at_d = two.iter().position(|v| *v == d)?;
        if [two[(at_d + 1) % 3], two[(at_d + 2) % 3]] != [q, p] {
            return None;
        }
        let place = |v: u32| self.positions[v as usize];
        let normal = |[a, b, c]: [u32; 3]| (place(b) - place(a)).cross(place(c) - place(a));
        let angle = |at: u32| {
            let (a, b): (Vec3, Vec3) = (place(p) - place(at), place(q) - place(at));
            a.cross(b).length().atan2(a.dot(b))
        };
        if angle(c) + angle(d) < TURNED_FROM {
            return None;
        }
        let (before, other) = (normal(one).try_normalize()?, normal(two).try_normalize()?);
        let turned = [[p, d, c], [q, c, d]];
        let flat = |of: [u32; 3]| normal(of).try_normalize().is_some_and(|n| n.dot(before) > FLAT);
        (before.dot(other) > FLAT && turned.into_iter().all(flat)).then_some(turned)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;

    /// Height over longest side of the worst triangle.
    fn worst(mesh: &Mesh) -> f32 {
        let of = |t: &[u32; 3]| {
            let [a, b, c] = t.map(|v| mesh.positions[v as usize]);
            let longest = a.distance(b).max(b.distance(c)).max(c.distance(a));
            (b - a).cross(c - a).length() / (longest * longest)
        };
        mesh.triangles.iter().map(of).fold(f32::INFINITY, f32::min)
    }

    #[test]
    fn a_sliver_beside_a_good_triangle_is_turned() {
        let mesh = Mesh {
            positions: vec![Vec3::ZERO, Vec3::X, Vec3::new(0.5, 0.0, -0.9), Vec3::new(0.5, 0.0, 0.01)],
            triangles: vec![[0, 1, 2], [1, 0, 3]],
            ..Mesh::default()
        };
        let area = mesh.area();
        let turned = mesh.clone().without_slivers();
        assert!(worst(&mesh) < 0.02 && worst(&turned) > 0.3, "{:?}", turned.triangles);
        assert!((turned.area() - area).abs() < 1e-6);
        for t in &turned.triangles {
            let [a, b, c] = t.map(|v| turned.positions[v as usize]);
            assert!((b - a).cross(c - a).y > 0.0, "it faces as before");
        }
    }

    #[test]
    fn a_square_drawn_out_to_a_disc_has_no_slivers_left() {
        // With an odd number of squares each corner is cut off by a diagonal.
        let shape = shot::Shape::plane(2.0, 2.0);
        let mut mesh = Mesh::refined(&shape, primitive::plane(2.0, 2.0), 2.0 / 21.0, 10_000).unwrap();
        for p in &mut mesh.positions {
            let reach = p.x.abs().max(p.z.abs());
            *p = p.normalize_or_zero() * reach;
        }
        let turned = mesh.clone().without_slivers();
        assert!(
            worst(&mesh) < 0.06 && worst(&turned) > 2.0 * worst(&mesh),
            "{} {}",
            worst(&mesh),
            worst(&turned)
        );
        assert_eq!(turned.triangles.len(), mesh.triangles.len());
        assert!((turned.area() / mesh.area() - 1.0).abs() < 1e-4);
    }

    #[test]
    fn a_well_made_mesh_and_sharp_edges_stay_as_they_are() {
        let shape = shot::Shape::plane(2.0, 1.0);
        let grid = Mesh::refined(&shape, primitive::plane(2.0, 1.0), 0.1, 10_000).unwrap();
        assert_eq!(grid.clone().without_slivers(), grid);
        let thin = primitive::cuboid(Vec3::new(1.0, 0.01, 1.0), 0.0);
        assert_eq!(thin.clone().without_slivers(), thin);
    }
}
