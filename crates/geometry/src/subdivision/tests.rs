use super::*;
use crate::{Mesh, primitive};
use glam::Vec2;
use rstest::rstest;
use std::collections::HashMap;

fn refined(mesh: &Mesh, scheme: Scheme, levels: u32, creases: &Creases) -> (Subdivision, Vec<Vec3>) {
    let topology = Topology::of(mesh);
    let subdivision = Subdivision::new(&topology, &mesh.positions, scheme, levels, creases).unwrap();
    let positions = subdivision.apply(&mesh.positions);
    (subdivision, positions)
}

/// A level sheet of quads with UVs.
fn sheet(x: f32, z: f32, nx: u32, nz: u32) -> Mesh {
    let mut mesh = Mesh::default();
    for (j, i) in (0..=nz).flat_map(|j| (0..=nx).map(move |i| (j, i))) {
        let uv = Vec2::new(i as f32 / nx as f32, j as f32 / nz as f32);
        mesh.positions.push(Vec3::new((uv.x - 0.5) * x, 0.0, (uv.y - 0.5) * z));
        mesh.uvs.push(uv);
    }
    for (j, i) in (0..nz).flat_map(|j| (0..nx).map(move |i| (j, i))) {
        let at = |di: u32, dj: u32| (j + dj) * (nx + 1) + i + di;
        mesh.triangles.push([at(0, 0), at(0, 1), at(1, 1)]);
        mesh.triangles.push([at(0, 0), at(1, 1), at(1, 0)]);
    }
    mesh.normals = vec![Vec3::Y; mesh.positions.len()];
    mesh
}

fn cube() -> Mesh {
    primitive::cuboid(Vec3::splat(2.0), 0.0)
}

/// The place that a vertex of a mesh of quads goes to in the limit (M. Halstead, M. Kass and
/// T. DeRose, *Efficient, fair interpolation using Catmull–Clark surfaces*, 1993):
/// (n² S + 4 Σ E + Σ F) / (n (n + 5)).
fn limit(topology: &Topology, positions: &[Vec3], vertex: usize) -> Vec3 {
    let key = |p: Vec3| (p * 1e6).round().as_ivec3();
    let at = positions[vertex];
    let (mut edges, mut faces) = (HashMap::new(), Vec::new());
    for quad in topology.triangles().chunks(2) {
        let quad = [quad[0][0], quad[0][1], quad[0][2], quad[1][2]].map(|v| positions[v as usize]);
        if let Some(i) = quad.iter().position(|p| key(*p) == key(at)) {
            for k in [1, 3] {
                edges.insert(key(quad[(i + k) % 4]), quad[(i + k) % 4]);
            }
            faces.push(quad[(i + 2) % 4]);
        }
    }
    let n = edges.len() as f32;
    let sum = edges.values().copied().sum::<Vec3>() * 4.0 + faces.iter().copied().sum::<Vec3>();
    (at * (n * n) + sum) / (n * (n + 5.0))
}

#[test]
fn a_cube_goes_to_its_published_limit() {
    // A corner of the cube of ±1 goes to ±1/2.
    for levels in 1..=4 {
        let (subdivision, positions) = refined(&cube(), Scheme::CatmullClark, levels, &Creases::default());
        let least = |v: &usize| positions[*v].min_element();
        let corner = (0..positions.len()).max_by(|a, b| least(a).total_cmp(&least(b))).unwrap();
        let place = limit(subdivision.topology(), &positions, corner);
        assert!((place - Vec3::splat(0.5)).length() < 1e-6, "level {levels}: {place}");
        assert_eq!(subdivision.topology().triangles().len(), 12 * 4usize.pow(levels));
    }
    // And the surface comes closer to it with each level.
    let off = |levels| {
        let (_, positions) = refined(&cube(), Scheme::CatmullClark, levels, &Creases::default());
        positions.iter().map(|p| p.distance(Vec3::splat(0.5))).fold(f32::MAX, f32::min)
    };
    assert!(off(3) > 2.0 * off(4) && off(4) > 2.0 * off(5) && off(5) < 2e-3, "{} {}", off(4), off(5));
}

#[test]
fn one_level_of_a_cube_is_as_computed_by_hand() {
    let (_, positions) = refined(&cube(), Scheme::CatmullClark, 1, &Creases::default());
    let has = |x: f32, y: f32, z: f32| positions.iter().any(|p| p.distance(Vec3::new(x, y, z)) < 1e-6);
    // Faces' middles, edges' (their ends and two faces), corners' (Q + 2 R + 0 S) / 3.
    assert!(has(1.0, 0.0, 0.0) && has(0.75, 0.75, 0.0));
    let corner = (1.0 / 3.0 + 2.0 * 2.0 / 3.0) / 3.0;
    assert!(has(corner, corner, corner));
}

#[rstest]
#[case(Scheme::CatmullClark)]
#[case(Scheme::Loop)]
fn creased_edges_stay_sharp(#[case] scheme: Scheme) {
    let creases = Creases { angle_rad: Some(0.6), ..Creases::default() };
    let (subdivision, positions) = refined(&cube(), scheme, 3, &creases);
    // Each face stays a flat square with its corners.
    assert!(positions.iter().all(|p| (p.abs().max_element() - 1.0).abs() < 1e-6));
    for corner in 0..8 {
        let at = Vec3::from([0, 1, 2].map(|axis| if corner >> axis & 1 == 0 { -1.0 } else { 1.0 }));
        assert!(positions.iter().any(|p| p.distance(at) < 1e-6));
    }
    // Normals are those of the faces on both sides.
    let topology = subdivision.topology();
    let normals = topology.normals(&positions);
    for t in topology.triangles() {
        let [a, b, c] = t.map(|v| positions[v as usize]);
        let normal = (b - a).cross(c - a).normalize();
        assert!(t.iter().all(|&v| normals[v as usize].dot(normal) > 1.0 - 1e-6));
    }
}

#[test]
fn an_edge_is_sharp_for_as_many_levels_as_its_map_says() {
    let mut mesh = cube();
    mesh.weights = vec![0.0; mesh.positions.len()];
    let widest = |mesh: &Mesh| {
        let creases = Creases { map: Some(crate::topology::WEIGHT.to_owned()), ..Creases::default() };
        let (_, positions) = refined(mesh, Scheme::CatmullClark, 4, &creases);
        positions.iter().map(|p| p.length()).fold(0.0, f32::max)
    };
    let mut sizes = Vec::new();
    for weight in [0.0f32, 0.1, 0.25, 0.5, 1.0] {
        mesh.weights.fill(weight);
        sizes.push(widest(&mesh));
    }
    assert!(sizes.windows(2).all(|pair| pair[0] < pair[1] - 1e-3), "{sizes:?}");
    assert!((sizes[4] - 3f32.sqrt()).abs() < 1e-6, "sharp on all levels: the corners stay");
}

#[test]
fn a_group_has_a_sharp_border() {
    let mesh = cube();
    let plain = Topology::of(&mesh);
    let top = |t: &[u32; 3]| u8::from(t.iter().all(|&v| mesh.positions[v as usize].y > 0.0));
    let lid = Attribute {
        name: "lid".to_owned(),
        domain: Domain::Face,
        values: AttributeValues::Flags(plain.triangles().iter().map(top).collect()),
    };
    let topology = Topology::new(plain.triangles().to_vec(), plain.smooth().to_vec(), vec![lid]).unwrap();
    let creases = Creases { group: Some("lid".to_owned()), ..Creases::default() };
    let of = Subdivision::new(&topology, &mesh.positions, Scheme::CatmullClark, 3, &creases).unwrap();
    let positions = of.apply(&mesh.positions);
    // The rim of the lid is a curve in its plane; the lid is flat, what is below is round.
    let Some(AttributeValues::Flags(lid)) = of.topology().attribute("lid").map(|a| a.values.clone()) else {
        panic!("groups are carried on")
    };
    for (t, is_lid) in of.topology().triangles().iter().zip(lid) {
        if is_lid == 1 {
            assert!(t.iter().all(|&v| (positions[v as usize].y - 1.0).abs() < 1e-6));
        }
    }
    assert!(positions.iter().all(|p| p.y > -0.99));
    let unknown = Creases { group: Some("rim".to_owned()), ..Creases::default() };
    let error = Subdivision::new(&topology, &mesh.positions, Scheme::Loop, 1, &unknown).unwrap_err();
    assert!(error.contains("rim"), "{error}");
}

#[rstest]
#[case(Scheme::CatmullClark)]
#[case(Scheme::Loop)]
fn a_flat_sheet_stays_flat_and_keeps_its_corners_and_uvs(#[case] scheme: Scheme) {
    let mesh = sheet(4.0, 2.0, 6, 5);
    let (subdivision, positions) = refined(&mesh, scheme, 2, &Creases::default());
    let topology = subdivision.topology();
    for (p, uv) in positions.iter().zip(topology.uvs()) {
        assert!(p.y.abs() < 1e-6);
        let inside = uv.cmpge(Vec2::ZERO).all() && uv.cmple(Vec2::ONE).all();
        assert!(inside);
    }
    for (x, z) in [(-2.0, -1.0), (2.0, -1.0), (-2.0, 1.0), (2.0, 1.0)] {
        assert!(positions.iter().any(|p| p.distance(Vec3::new(x, 0.0, z)) < 1e-6), "{x} {z}");
    }
    // Inside, where the grid is even, so are UVs: the texture does not swim.
    let error = |p: &Vec3, uv: &Vec2| {
        let expected = Vec2::new(p.x / 4.0 + 0.5, p.z / 2.0 + 0.5);
        (*uv - expected).abs().max_element()
    };
    let inner = positions.iter().zip(topology.uvs()).filter(|(p, _)| p.x.abs() < 1.0 && p.z.abs() < 0.3);
    assert!(inner.map(|(p, uv)| error(p, uv)).fold(0.0, f32::max) < 1e-5);
}

#[rstest]
#[case(Scheme::CatmullClark)]
#[case(Scheme::Loop)]
fn a_closed_surface_with_seams_stays_closed_and_normals_go_round_them(#[case] scheme: Scheme) {
    let mesh = primitive::torus(1.0, 0.3, 12);
    let (subdivision, positions) = refined(&mesh, scheme, 2, &Creases::default());
    let topology = subdivision.topology();
    let key = |v: u32| (positions[v as usize] * 1e5).round().as_ivec3();
    let mut edges: HashMap<_, i32> = HashMap::new();
    for t in topology.triangles() {
        for k in 0..3 {
            let (a, b) = (key(t[k]), key(t[(k + 1) % 3]));
            let (ends, side) = if a.to_array() < b.to_array() { ((a, b), 1) } else { ((b, a), -1) };
            *edges.entry(ends).or_default() += side;
        }
    }
    assert!(edges.values().all(|sum| *sum == 0), "each edge has a face on either side");
    let normals = topology.normals(&positions);
    let mut at: HashMap<_, Vec3> = HashMap::new();
    for (v, normal) in normals.iter().enumerate() {
        let first = *at.entry(key(v as u32)).or_insert(*normal);
        assert!(first.dot(*normal) > 1.0 - 1e-4, "no crease at a seam of UVs");
    }
}

/// A later frame is the same sums: a mesh that is moved is moved after refining too.
#[rstest]
#[case(Scheme::CatmullClark)]
#[case(Scheme::Loop)]
fn later_frames_take_the_same_weights(#[case] scheme: Scheme) {
    let mesh = primitive::torus(1.0, 0.3, 12);
    let (subdivision, positions) = refined(&mesh, scheme, 2, &Creases::default());
    let turn = glam::Quat::from_rotation_z(0.7);
    let moved: Vec<Vec3> = mesh.positions.iter().map(|p| turn * *p + Vec3::new(3.0, 1.0, 2.0)).collect();
    for (a, b) in subdivision.apply(&moved).iter().zip(&positions) {
        assert!(a.distance(turn * *b + Vec3::new(3.0, 1.0, 2.0)) < 1e-5);
    }
}

/// A vertex that no face has stays where it is.
#[rstest]
#[case(Scheme::CatmullClark)]
#[case(Scheme::Loop)]
fn a_vertex_without_a_face_stays(#[case] scheme: Scheme) {
    let mut mesh = cube();
    let apart = Vec3::new(5.0, 6.0, 7.0);
    mesh.positions.push(apart);
    mesh.normals.push(Vec3::Y);
    mesh.uvs.push(Vec2::ZERO);
    let (_, positions) = refined(&mesh, scheme, 3, &Creases::default());
    assert!(positions.iter().all(|p| p.is_finite()));
    assert!(positions.contains(&apart));
}

#[test]
fn too_many_faces_are_refused_before_anything_is_made() {
    let mesh = primitive::sphere(1.0, 64);
    let topology = Topology::of(&mesh);
    let error =
        Subdivision::new(&topology, &mesh.positions, Scheme::Loop, 12, &Creases::default()).unwrap_err();
    assert!(error.contains("at most 8000000"), "{error}");
}
