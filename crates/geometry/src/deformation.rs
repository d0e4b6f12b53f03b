//! How a mesh is deformed against its shape at rest: quantities by vertex.

use crate::Topology;
use glam::Vec3;
use shot::SurfaceQuantity;

/// A quantity of a deformed mesh at each vertex, the mean of the faces around weighted by area at rest; `rest` and `now` are
/// the positions of all vertices, m. None: positions alone do not tell.
pub fn deformation(
    quantity: SurfaceQuantity,
    topology: &Topology,
    rest: &[Vec3],
    now: &[Vec3],
) -> Option<Vec<f32>> {
    Some(match quantity {
        SurfaceQuantity::Stretch => {
            by_faces(topology, rest, |a, b| (principal_stretches(a, b)[0] - 1.0).max(0.0), now)
        }
        SurfaceQuantity::Compression => {
            by_faces(topology, rest, |a, b| (1.0 - principal_stretches(a, b)[1]).max(0.0), now)
        }
        SurfaceQuantity::Bend => {
            let (before, after) = (curvatures(topology, rest), curvatures(topology, now));
            before.iter().zip(after).map(|(before, after)| (after - before).abs()).collect()
        }
        SurfaceQuantity::Speed | SurfaceQuantity::Contact | SurfaceQuantity::Pressure => return None,
    })
}

/// At each vertex, the fraction of the surface around where a value is above 0: twice the mean over the faces around.
pub fn part_above_zero(topology: &Topology, positions: &[Vec3], values: &[f32]) -> Vec<f32> {
    let above: Vec<f32> = values.iter().map(|value| f32::from(*value > 0.0)).collect();
    let once = face_means(topology, positions, |v| above[v as usize]);
    face_means(topology, positions, |v| once[v as usize])
}

/// At each vertex, how hollow the surface is: the mean curvature of a hollow times a radius, m, 0–1. With `both_sides` a
/// bulge is a hollow too.
pub fn crevices(topology: &Topology, positions: &[Vec3], radius_m: f32, both_sides: bool) -> Vec<f32> {
    let hollow = |of: f32| (if both_sides { of.abs() } else { of } * radius_m).clamp(0.0, 1.0);
    curvatures(topology, positions).into_iter().map(hollow).collect()
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
    face_means(topology, at, at_group)
}

/// At each vertex, the mean of the faces around weighted by area; a face has the mean of its corners.
fn face_means(topology: &Topology, at: &[Vec3], of: impl Fn(u32) -> f32) -> Vec<f32> {
    let smooth = topology.smooth();
    let mut means = vec![(0.0f32, 0.0f32); smooth.len()];
    for face in topology.triangles() {
        let [a, b, c] = face.map(|v| at[v as usize]);
        let area = (b - a).cross(c - a).length();
        let mean = face.iter().map(|v| of(*v)).sum::<f32>() / 3.0;
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
        let of = |quantity| deformation(quantity, &topology, &rest, &now).unwrap();
        let (stretch, compression) = (of(SurfaceQuantity::Stretch), of(SurfaceQuantity::Compression));
        assert!(stretch.iter().all(|value| (value - 0.2).abs() < 1e-3));
        assert!(compression.iter().all(|value| (value - 0.1).abs() < 1e-3));
        assert!(of(SurfaceQuantity::Bend).iter().all(|value| *value < 1e-2));
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
        let bend = deformation(SurfaceQuantity::Bend, &topology, &rest, &now).unwrap();
        let inner = rest.iter().zip(&bend).filter(|(p, _)| p.x.abs() < 0.4 && p.z.abs() < 0.4);
        for (p, value) in inner {
            assert!((value - 0.5 / radius).abs() < 0.05 / radius, "{value} at {p}");
        }
    }

    #[test]
    fn a_touched_half_is_whole_within_and_half_at_its_edge() {
        let (topology, rest) = sheet();
        let pressure: Vec<f32> = rest.iter().map(|p| if p.x > -1e-4 { 300.0 } else { 0.0 }).collect();
        let part = part_above_zero(&topology, &rest, &pressure);
        for (p, part) in rest.iter().zip(part) {
            match p.x {
                x if x > 0.11 => assert_eq!(part, 1.0),
                x if x < -0.16 => assert_eq!(part, 0.0),
                _ => assert!((0.0..=1.0).contains(&part)),
            }
        }
    }

    #[test]
    fn the_inside_of_a_ring_is_hollow_and_the_outside_is_not() {
        let mesh = primitive::torus(1.0, 0.2, 64);
        let topology = Topology::of(&mesh);
        // Across the hole of the ring it bends inward at 1 / 0.8 m, around its tube outward at 1 / 0.2 m.
        assert!(crevices(&topology, &mesh.positions, 1.0, false).iter().all(|of| *of == 0.0));
        // Seen from within all of it is hollow: half of 1 / 0.2 less or more 1 / 0.8 or 1 / 1.2.
        let turned =
            Mesh { triangles: mesh.triangles.iter().map(|[a, b, c]| [*a, *c, *b]).collect(), ..mesh };
        let topology = Topology::of(&turned);
        let of = crevices(&topology, &turned.positions, 0.1, false);
        assert!(of.iter().all(|of| (0.15..0.32).contains(of)));
    }
}
