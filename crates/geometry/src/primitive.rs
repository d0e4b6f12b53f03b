//! Simple shapes as meshes, centred on the origin.

use crate::Mesh;
use glam::{Vec2, Vec3};
use shot::{Shape, UvLayout};
use std::collections::HashMap;
use std::f32::consts::{PI, TAU};

/// Sides of a full turn, unless fewer will do.
pub const AROUND: usize = 48;

/// A box of full size `size` whose edges are rounded by `edge`.
pub fn cuboid(size: Vec3, edge: f32) -> Mesh {
    let mut mesh = Mesh::default();
    let half = size * 0.5;
    let core = half - Vec3::splat(edge);
    let steps = if edge > 0.0 { 3 } else { 0 };
    for (axis, sign) in (0..3).flat_map(|axis| [(axis, 1.0), (axis, -1.0)]) {
        let (u, v) = ((axis + 1) % 3, (axis + 2) % 3);
        // Lines of the face: the rounded strips at either side, the flat part between.
        let lines = |i: usize| -> Vec<(f32, f32)> {
            let bend = |step: usize| (PI * 0.25 * step as f32 / steps.max(1) as f32).tan();
            let mut lines: Vec<_> = (0..steps).rev().map(|s| (-core[i], -bend(s + 1))).collect();
            lines.extend([(-core[i], 0.0), (core[i], 0.0)]);
            lines.extend((0..steps).map(|s| (core[i], bend(s + 1))));
            lines
        };
        let (us, vs) = (lines(u), lines(v));
        let base = mesh.positions.len() as u32;
        for &(cv, bv) in &vs {
            for &(cu, bu) in &us {
                let mut centre = Vec3::ZERO;
                (centre[axis], centre[u], centre[v]) = (sign * core[axis], cu, cv);
                let mut normal = Vec3::ZERO;
                (normal[axis], normal[u], normal[v]) = (sign, bu, bv);
                let normal = normal.normalize();
                let position = centre + normal * edge;
                mesh.positions.push(position);
                mesh.normals.push(normal);
                let (mut s, mut t) = (position[u] / size[u] + 0.5, position[v] / size[v] + 0.5);
                // Keep the image upright on the four upright faces.
                match axis {
                    0 => (s, t) = (0.5 - sign * (t - 0.5), s),
                    1 => (s, t) = (t, 1.0 - s),
                    _ => s = 0.5 + sign * (s - 0.5),
                }
                mesh.uvs.push(Vec2::new(s, t).clamp(Vec2::ZERO, Vec2::ONE));
            }
        }
        let row = us.len() as u32;
        grid(&mut mesh, base, row, vs.len() as u32, sign < 0.0);
    }
    mesh
}

/// Two triangles for each cell of a grid of vertices.
fn grid(mesh: &mut Mesh, base: u32, row: u32, rows: u32, flip: bool) {
    for (y, x) in (0..rows - 1).flat_map(|y| (0..row - 1).map(move |x| (y, x))) {
        let a = base + y * row + x;
        for [p, q, r] in [[a, a + 1, a + row + 1], [a, a + row + 1, a + row]] {
            let [i, j, k] = [p, q, r].map(|v| mesh.positions[v as usize]);
            if (j - i).cross(k - i).length_squared() > 0.0 {
                mesh.triangles.push(if flip { [p, r, q] } else { [p, q, r] });
            }
        }
    }
}

/// A surface swept round y by a profile of (radius, height, normal) from
/// bottom to top; profile points with two normals are given twice.
fn swept(profile: &[(Vec2, Vec2)], around: usize) -> Mesh {
    let mut mesh = Mesh::default();
    let length: f32 = profile.windows(2).map(|w| w[0].0.distance(w[1].0)).sum();
    let mut along = 0.0;
    for (i, (point, normal)) in profile.iter().enumerate() {
        if i > 0 {
            along += profile[i - 1].0.distance(*point);
        }
        for k in 0..=around {
            // The last column repeats the first exactly, so that the mesh closes.
            let (sin, cos) = (TAU * (k % around) as f32 / around as f32).sin_cos();
            mesh.positions.push(Vec3::new(point.x * cos, point.y, -point.x * sin));
            mesh.normals.push(Vec3::new(normal.x * cos, normal.y, -normal.x * sin));
            mesh.uvs.push(Vec2::new(k as f32 / around as f32, (along / length).min(1.0)));
        }
    }
    grid(&mut mesh, 0, around as u32 + 1, profile.len() as u32, false);
    mesh
}

/// Points and normals of an arc from angle `from` to `to` above the horizon.
fn arc(centre: f32, radius: f32, from: f32, to: f32, steps: usize) -> impl Iterator<Item = (Vec2, Vec2)> {
    (0..=steps).map(move |i| {
        let angle = from + (to - from) * i as f32 / steps as f32;
        let mut normal = Vec2::new(angle.cos(), angle.sin());
        if (angle.abs() - PI * 0.5).abs() < 1e-5 {
            normal = Vec2::new(0.0, angle.signum());
        }
        (Vec2::new(0.0, centre) + normal * radius, normal)
    })
}

/// A sphere of `around` sides, a multiple of four, as of all below.
pub fn sphere(radius: f32, around: usize) -> Mesh {
    swept(&arc(0.0, radius, -PI * 0.5, PI * 0.5, around / 2).collect::<Vec<_>>(), around)
}

/// The icosahedron about a sphere of radius 1: 20 triangles, without normals.
pub fn icosahedron() -> Mesh {
    let long = (1.0 + 5f32.sqrt()) / 2.0;
    let corners = (0..12).map(|i| {
        let (a, b) = (if i & 1 == 0 { 1.0 } else { -1.0 }, if i & 2 == 0 { long } else { -long });
        let corner = [Vec3::new(0.0, a, b), Vec3::new(a, b, 0.0), Vec3::new(b, 0.0, a)][i / 4];
        corner.normalize()
    });
    let positions: Vec<Vec3> = corners.collect();
    // Faces are the triples of corners that are neighbours of each other.
    let edge = 2.0 / (1.0 + long * long).sqrt();
    let near = |a: usize, b: usize| (positions[a].distance(positions[b]) - edge).abs() < 1e-3;
    let mut triangles = Vec::new();
    for a in 0..12 {
        for b in (a + 1)..12 {
            for c in (b + 1)..12 {
                if near(a, b) && near(b, c) && near(a, c) {
                    let [p, q, r] = [a, b, c].map(|i| positions[i]);
                    let outward = (q - p).cross(r - p).dot(p) > 0.0;
                    triangles.push(if outward { [a, b, c] } else { [a, c, b] }.map(|i| i as u32));
                }
            }
        }
    }
    Mesh { positions, triangles, ..Mesh::default() }
}

/// Points of a profile with their normals.
type Profile = Vec<(Vec2, Vec2)>;

/// A cylinder along y with half balls at its ends.
pub fn capsule(radius: f32, length: f32, around: usize) -> Mesh {
    swept(&capsule_profile(radius, length, around), around)
}

fn capsule_profile(radius: f32, length: f32, around: usize) -> Profile {
    let half = length * 0.5;
    let lower = arc(-half, radius, -PI * 0.5, 0.0, around / 4);
    lower.chain(arc(half, radius, 0.0, PI * 0.5, around / 4)).collect()
}

/// A cylinder along y.
pub fn cylinder(radius: f32, height: f32, around: usize) -> Mesh {
    swept(&cylinder_profile(radius, height), around)
}

fn cylinder_profile(radius: f32, height: f32) -> Profile {
    let half = height * 0.5;
    let p = |x, y, nx, ny| (Vec2::new(x, y), Vec2::new(nx, ny));
    vec![
        p(0.0, -half, 0.0, -1.0),
        p(radius, -half, 0.0, -1.0),
        p(radius, -half, 1.0, 0.0),
        p(radius, half, 1.0, 0.0),
        p(radius, half, 0.0, 1.0),
        p(0.0, half, 0.0, 1.0),
    ]
}

/// A cone along y, its tip up.
pub fn cone(radius: f32, height: f32, around: usize) -> Mesh {
    swept(&cone_profile(radius, height), around)
}

fn cone_profile(radius: f32, height: f32) -> Profile {
    let half = height * 0.5;
    let side = Vec2::new(height, radius).normalize();
    let down = Vec2::NEG_Y;
    vec![
        (Vec2::new(0.0, -half), down),
        (Vec2::new(radius, -half), down),
        (Vec2::new(radius, -half), side),
        (Vec2::new(0.0, half), side),
    ]
}

/// A ring round y.
pub fn torus(ring: f32, tube: f32, around: usize) -> Mesh {
    swept(&torus_profile(ring, tube, around / 2), around)
}

fn torus_profile(ring: f32, tube: f32, steps: usize) -> Profile {
    let of = |i: usize| {
        let angle = TAU * (i % steps) as f32 / steps as f32;
        let normal = Vec2::new(angle.cos(), angle.sin());
        (Vec2::new(ring, 0.0) + normal * tube, normal)
    };
    (0..=steps).map(of).collect()
}

/// A profile whose straight parts are cut into pieces of at most `edge_m`.
fn cut(profile: &[(Vec2, Vec2)], edge_m: f32) -> Profile {
    let mut points = vec![profile[0]];
    for pair in profile.windows(2) {
        let [(a, m), (b, n)] = [pair[0], pair[1]];
        let parts = if m == n { (a.distance(b) / edge_m).ceil().max(1.0) as usize } else { 1 };
        points.extend((1..=parts).map(|i| (a.lerp(b, i as f32 / parts as f32), n)));
    }
    points
}

/// A round shape with edges of about `edge_m` wherever they are, for what deforms; none: the shape is not round.
pub fn even(shape: &Shape, edge_m: f32) -> Option<Mesh> {
    /// Sides of a turn of a radius, a multiple of four.
    fn sides(radius: f32, edge_m: f32) -> usize {
        ((TAU * radius / edge_m / 4.0).round() as usize * 4).clamp(12, 2_000)
    }
    let by_profile = |profile: Profile, around: usize| swept(&cut(&profile, edge_m), around);
    Some(match *shape {
        Shape::Sphere { radius_m } => geodesic_sphere(radius_m, edge_m),
        Shape::Capsule { radius_m, length_m } => {
            let around = sides(radius_m, edge_m);
            by_profile(capsule_profile(radius_m, length_m, around), around)
        }
        Shape::Cylinder { radius_m, height_m } => {
            by_profile(cylinder_profile(radius_m, height_m), sides(radius_m, edge_m))
        }
        Shape::Cone { radius_m, height_m } => {
            by_profile(cone_profile(radius_m, height_m), sides(radius_m, edge_m))
        }
        Shape::Torus { major_radius_m, minor_radius_m } => {
            let profile = torus_profile(major_radius_m, minor_radius_m, sides(minor_radius_m, edge_m));
            by_profile(profile, sides(major_radius_m + minor_radius_m, edge_m))
        }
        Shape::Box { .. } | Shape::Plane { .. } | Shape::Mesh { .. } => return None,
    })
}

/// A sphere of triangles that are all about alike: those of an icosahedron cut into rows. Its UVs are those of [`sphere`], with
/// vertices of their own along the seam.
fn geodesic_sphere(radius: f32, edge_m: f32) -> Mesh {
    // Sides of the icosahedron are 1.05 radii long, and longer on the sphere.
    let rows = ((1.12 * radius / edge_m).round() as usize).clamp(1, 500);
    let base = icosahedron();
    let mut mesh = Mesh::default();
    // Points of a face are weighted sums of its corners: shared along edges by corners and weights.
    let mut known: HashMap<[(u32, usize); 3], u32> = HashMap::new();
    for &corners in &base.triangles {
        let mut at = |i: usize, j: usize| {
            let mut key = [(corners[0], rows - i - j), (corners[1], i), (corners[2], j)];
            key.iter_mut().filter(|(_, weight)| *weight == 0).for_each(|of| of.0 = u32::MAX);
            key.sort_unstable();
            *known.entry(key).or_insert_with(|| {
                let of = |(corner, weight): &(u32, usize)| match weight {
                    0 => Vec3::ZERO,
                    _ => base.positions[*corner as usize] * *weight as f32,
                };
                let normal = key.iter().map(of).sum::<Vec3>().normalize();
                mesh.positions.push(normal * radius);
                mesh.normals.push(normal);
                mesh.positions.len() as u32 - 1
            })
        };
        let mut faces = Vec::new();
        for i in 0..rows {
            for j in 0..rows - i {
                faces.push([at(i, j), at(i + 1, j), at(i, j + 1)]);
                if i + j + 1 < rows {
                    faces.push([at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)]);
                }
            }
        }
        mesh.triangles.extend(faces);
    }
    mesh.uvs = vec![Vec2::ZERO; mesh.positions.len()];
    crate::uv::laid(mesh, UvLayout::Sphere)
}

/// A rectangle that faces up.
pub fn plane(x: f32, z: f32) -> Mesh {
    let corner = |u: f32, v: f32| Vec3::new((u - 0.5) * x, 0.0, (0.5 - v) * z);
    let uvs = [[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]];
    Mesh {
        positions: uvs.map(|[u, v]| corner(u, v)).to_vec(),
        normals: vec![Vec3::Y; 4],
        uvs: uvs.map(Vec2::from).to_vec(),
        triangles: vec![[0, 1, 2], [0, 2, 3]],
        ..Mesh::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::mass_properties;
    use rstest::rstest;

    #[rstest]
    #[case(cuboid(Vec3::new(1.0, 2.0, 3.0), 0.0), 6.0, 1e-5)]
    #[case(cuboid(Vec3::ONE, 0.1), 1.0, 0.06)]
    #[case(sphere(0.5, AROUND), PI / 6.0, 0.02)]
    #[case(capsule(0.5, 1.0, AROUND), PI / 6.0 + PI / 4.0, 0.02)]
    #[case(cylinder(0.5, 2.0, AROUND), PI / 2.0, 0.01)]
    #[case(cone(1.0, 3.0, AROUND), PI, 0.01)]
    #[case(torus(1.0, 0.25, AROUND), 2.0 * PI * PI / 16.0, 0.02)]
    fn a_primitive_is_closed_faces_outward_and_has_its_volume(
        #[case] mesh: Mesh,
        #[case] volume: f32,
        #[case] tolerance: f32,
    ) {
        mesh.check().unwrap();
        assert!(mesh.is_closed());
        let found = mass_properties(&mesh).unwrap().volume;
        assert!((found / volume - 1.0).abs() < tolerance, "{found} for {volume}");
        for t in &mesh.triangles {
            let [a, b, c] = t.map(|v| mesh.positions[v as usize]);
            let face = (b - a).cross(c - a).normalize();
            for v in t {
                let normal = mesh.normals[*v as usize];
                assert!((normal.length() - 1.0).abs() < 1e-4);
                assert!(normal.dot(face) > 0.5, "{normal} against {face}");
            }
        }
        assert!(mesh.uvs.iter().all(|uv| uv.cmpge(Vec2::ZERO).all() && uv.cmple(Vec2::ONE).all()));
    }

    #[test]
    fn a_plane_faces_up() {
        let mesh = plane(2.0, 4.0);
        let [a, b, c] = mesh.triangles[0].map(|v| mesh.positions[v as usize]);
        assert!((b - a).cross(c - a).y > 0.0);
        assert!(!mesh.is_closed());
    }

    #[rstest]
    #[case(Shape::sphere(0.5), 0.1, PI / 6.0, 1.5)]
    #[case(Shape::sphere(0.088), 0.02, 0.002_854, 1.5)]
    #[case(Shape::Capsule { radius_m: 0.13, length_m: 0.36 }, 0.02, 0.028_32, 12.0)]
    #[case(Shape::Cylinder { radius_m: 0.5, height_m: 2.0 }, 0.05, PI / 2.0, 70.0)]
    #[case(Shape::Cone { radius_m: 1.0, height_m: 3.0 }, 0.1, PI, 70.0)]
    #[case(Shape::Torus { major_radius_m: 1.0, minor_radius_m: 0.25 }, 0.05, PI * PI / 8.0, 2.5)]
    fn even_meshes_are_closed_and_have_the_edges_wanted(
        #[case] shape: Shape,
        #[case] edge_m: f32,
        #[case] volume: f32,
        #[case] uneven: f32,
    ) {
        let mesh = even(&shape, edge_m).unwrap();
        assert!(mesh.is_closed());
        let found = mass_properties(&mesh).unwrap().volume;
        assert!((found / volume - 1.0).abs() < 0.04, "{found} of {volume}");
        assert_eq!((mesh.normals.len(), mesh.uvs.len()), (mesh.positions.len(), mesh.positions.len()));
        let at = |v: u32| mesh.positions[v as usize];
        let lengths: Vec<f32> = mesh
            .triangles
            .iter()
            .flat_map(|[a, b, c]| [at(*a).distance(at(*b)), at(*b).distance(at(*c)), at(*c).distance(at(*a))])
            .collect();
        let (short, long) =
            lengths.iter().fold((f32::INFINITY, 0.0f32), |(s, l), length| (s.min(*length), l.max(*length)));
        let mean = lengths.iter().sum::<f32>() / lengths.len() as f32;
        assert!((0.6..1.5).contains(&(mean / edge_m)), "{mean} for {edge_m}");
        assert!(long / short < uneven, "{short} to {long}");
        // Images keep together: no triangle goes back across the whole image.
        let uv = |v: u32| mesh.uvs[v as usize];
        assert!(mesh.triangles.iter().all(|t| t.iter().all(|a| (uv(*a).x - uv(t[0]).x).abs() < 0.5)));
    }
}
