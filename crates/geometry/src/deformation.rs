//! How a mesh is deformed against its shape at rest: quantities by vertex.

use crate::Topology;
use glam::Vec3;

/// A quantity of a deformed mesh.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Deformation {
    /// The greatest principal strain, where it pulls; no unit.
    Stretch,
    /// The least principal strain, where it presses, as a positive number; no unit.
    Compression,
    /// The mean curvature, without that at rest, 1/m.
    Bend,
}

impl Deformation {
    /// All of them, with their names in files and addresses.
    pub const ALL: [(&'static str, Self); 3] =
        [("stretch", Self::Stretch), ("compression", Self::Compression), ("bend", Self::Bend)];

    /// The value at each vertex, means of the faces around weighted by area at rest; `rest` and `now` are the positions of
    /// all vertices, m.
    pub fn measure(self, topology: &Topology, rest: &[Vec3], now: &[Vec3]) -> Vec<f32> {
        match self {
            Self::Stretch => {
                by_faces(topology, rest, |a, b| (principal_stretches(a, b)[0] - 1.0).max(0.0), now)
            }
            Self::Compression => {
                by_faces(topology, rest, |a, b| (1.0 - principal_stretches(a, b)[1]).max(0.0), now)
            }
            Self::Bend => {
                let (before, after) = (curvatures(topology, rest), curvatures(topology, now));
                before.iter().zip(after).map(|(before, after)| (after - before).abs()).collect()
            }
        }
    }
}

/// Edges of a triangle from its first corner.
type Edges = [Vec3; 2];

/// Vertices at one place count as one.
fn by_faces(topology: &Topology, rest: &[Vec3], of: impl Fn(Edges, Edges) -> f32, now: &[Vec3]) -> Vec<f32> {
    let edges = |list: &[Vec3], [a, b, c]: [u32; 3]| {
        let [a, b, c] = [a, b, c].map(|v| list[v as usize]);
        [b - a, c - a]
    };
    let smooth = topology.smooth();
    let mut sums = vec![(0.0f32, 0.0f32); smooth.len()];
    for triangle in topology.triangles() {
        let before = edges(rest, *triangle);
        let area = before[0].cross(before[1]).length();
        if area > 0.0 {
            let value = of(before, edges(now, *triangle));
            for v in triangle {
                let (sum, weight) = &mut sums[smooth[*v as usize] as usize];
                (*sum, *weight) = (*sum + area * value, *weight + area);
            }
        }
    }
    let mean = |group: &u32| {
        let (sum, weight) = sums[*group as usize];
        if weight > 0.0 { sum / weight } else { 0.0 }
    };
    smooth.iter().map(mean).collect()
}

/// The singular values of the map between two triangles, the greater first.
fn principal_stretches(rest: Edges, now: Edges) -> [f32; 2] {
    // The map in a frame of the triangle at rest.
    let length = rest[0].length();
    let first = rest[0] / length;
    let (x, y) = (rest[1].dot(first), rest[0].cross(rest[1]).length() / length);
    let (u, v) = (now[0] / length, (now[1] - now[0] * (x / length)) / y);
    let (a, b, c) = (u.length_squared(), u.dot(v), v.length_squared());
    let (mean, half) = (0.5 * (a + c), 0.5 * (a - c));
    let radius = (half * half + b * b).sqrt();
    [(mean + radius).sqrt(), (mean - radius).max(0.0).sqrt()]
}

/// The mean curvature at each vertex by the angles between faces (D. Cohen-Steiner and J.-M. Morvan, *Restricted Delaunay
/// triangulations and normal cycle*, 2003), 1/m.
pub(crate) fn curvatures(topology: &Topology, at: &[Vec3]) -> Vec<f32> {
    use std::collections::HashMap;
    let smooth = topology.smooth();
    let place = |v: u32| at[v as usize];
    let mut edges: HashMap<[u32; 2], Vec3> = HashMap::new();
    let mut sums = vec![(0.0f32, 0.0f32); smooth.len()];
    for &[a, b, c] in topology.triangles() {
        let across = (place(b) - place(a)).cross(place(c) - place(a));
        let (normal, area) = (across.normalize_or_zero(), 0.5 * across.length());
        for (from, to) in [(a, b), (b, c), (c, a)] {
            let [one, two] = [from, to].map(|v| smooth[v as usize]);
            sums[one as usize].1 += area / 3.0;
            match edges.remove(&[one.min(two), one.max(two)]) {
                None => {
                    edges.insert([one.min(two), one.max(two)], normal);
                }
                Some(other) => {
                    let edge = place(to) - place(from);
                    let angle = other.angle_between(normal);
                    let side = other.cross(normal).dot(edge).signum();
                    for group in [one, two] {
                        sums[group as usize].0 += 0.25 * side * angle * edge.length();
                    }
                }
            }
        }
    }
    let at_group = |v: u32| {
        let (sum, area) = sums[smooth[v as usize] as usize];
        if area > 0.0 && sum.is_finite() { sum / area } else { 0.0 }
    };
    // The areas around vertices of more and of fewer faces differ: means over the faces even that out.
    let mut means = vec![(0.0f32, 0.0f32); smooth.len()];
    for face in topology.triangles() {
        let [a, b, c] = face.map(|v| at[v as usize]);
        let area = (b - a).cross(c - a).length();
        let mean = face.iter().map(|v| at_group(*v)).sum::<f32>() / 3.0;
        for v in face {
            let (sum, weight) = &mut means[smooth[*v as usize] as usize];
            (*sum, *weight) = (*sum + area * mean, *weight + area);
        }
    }
    let mean = |group: &u32| {
        let (sum, weight) = means[*group as usize];
        if weight > 0.0 { sum / weight } else { 0.0 }
    };
    smooth.iter().map(mean).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mesh, primitive};
    use shot::Shape;

    fn sheet() -> (Topology, Vec<Vec3>) {
        let mesh = Mesh::refined(&Shape::plane(1.0, 1.0), primitive::plane(1.0, 1.0), 0.05, 10_000).unwrap();
        (Topology::of(&mesh), mesh.positions)
    }

    #[test]
    fn a_pulled_and_turned_sheet_stretches_along_and_is_pressed_across() {
        let (topology, rest) = sheet();
        let turn = glam::Quat::from_rotation_z(0.7);
        let now: Vec<Vec3> =
            rest.iter().map(|p| turn * Vec3::new(1.2 * p.x, p.y, 0.9 * p.z) + Vec3::Y).collect();
        let stretch = Deformation::Stretch.measure(&topology, &rest, &now);
        let compression = Deformation::Compression.measure(&topology, &rest, &now);
        assert!(stretch.iter().all(|value| (value - 0.2).abs() < 1e-3));
        assert!(compression.iter().all(|value| (value - 0.1).abs() < 1e-3));
        assert!(Deformation::Bend.measure(&topology, &rest, &now).iter().all(|value| *value < 1e-2));
    }

    #[test]
    fn a_rolled_sheet_has_half_the_curvature_of_its_radius() {
        let (topology, rest) = sheet();
        let radius = 0.4f32;
        let roll = |p: &Vec3| {
            let angle = p.x / radius;
            Vec3::new(radius * angle.sin(), radius * (1.0 - angle.cos()), p.z)
        };
        let now: Vec<Vec3> = rest.iter().map(roll).collect();
        let bend = Deformation::Bend.measure(&topology, &rest, &now);
        let inner = rest.iter().zip(&bend).filter(|(p, _)| p.x.abs() < 0.4 && p.z.abs() < 0.4);
        for (p, value) in inner {
            assert!((value - 0.5 / radius).abs() < 0.05 / radius, "{value} at {p}");
        }
    }
}
