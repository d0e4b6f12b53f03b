//! Meshes: what cannot be used is said, what is computed from one is right.

use geometry::{Mesh, MeshError, Meshes, mass_properties, primitive};
use glam::{Mat3, Quat, Vec2, Vec3};
use rstest::rstest;
use shot::{Element, Moves, Shape, Shot, Weight};
use std::f32::consts::PI;
use std::sync::Arc;

fn triangle(positions: [Vec3; 3]) -> Mesh {
    Mesh { positions: positions.to_vec(), triangles: vec![[0, 1, 2]], ..Mesh::default() }
}

#[rstest]
#[case(Mesh::default(), MeshError::NoFaces)]
#[case(triangle([Vec3::ZERO, Vec3::X, Vec3::X * 2.0]), MeshError::NoFaces)]
#[case(triangle([Vec3::ZERO, Vec3::X, Vec3::new(0.0, f32::NAN, 0.0)]), MeshError::NotFinite { vertex: 2 })]
#[case(triangle([Vec3::ZERO, Vec3::INFINITY, Vec3::Y]), MeshError::NotFinite { vertex: 1 })]
#[case(
    Mesh { triangles: vec![[0, 1, 2], [0, 3, 1]], ..triangle([Vec3::ZERO, Vec3::X, Vec3::Y]) },
    MeshError::BadIndex { face: 1, vertex: 3, vertices: 3 }
)]
fn a_mesh_that_cannot_be_used_says_why(#[case] mesh: Mesh, #[case] error: MeshError) {
    assert_eq!(mesh.check(), Err(error));
}

#[test]
fn a_flat_face_among_others_is_no_fault() {
    let mut mesh = triangle([Vec3::ZERO, Vec3::X, Vec3::Y]);
    mesh.triangles.push([0, 0, 1]);
    assert_eq!(mesh.check(), Ok(()));
}

/// A unit cube of eight shared vertices, without normals.
fn bare_cube() -> Mesh {
    let corner = |i: u32| Vec3::new((i & 1) as f32, (i >> 1 & 1) as f32, (i >> 2 & 1) as f32);
    let quads = [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]];
    Mesh {
        positions: (0..8).map(corner).collect(),
        triangles: quads.iter().flat_map(|&[a, b, c, d]| [[a, b, c], [a, c, d]]).collect(),
        ..Mesh::default()
    }
}

#[test]
fn edges_sharper_than_the_crease_are_split_and_flatter_ones_shared() {
    let sharp = bare_cube().with_normals(0.5);
    assert_eq!(sharp.positions.len(), 24);
    for (position, normal) in sharp.positions.iter().zip(&sharp.normals) {
        // An outside face's normal is an axis that points away from the middle.
        assert_eq!(normal.abs().max_element(), 1.0);
        assert!((*position - Vec3::splat(0.5)).dot(*normal) > 0.0);
    }
    let smooth = bare_cube().with_normals(PI);
    assert_eq!(smooth.positions.len(), 8);
    for (position, normal) in smooth.positions.iter().zip(&smooth.normals) {
        let outward = (*position - Vec3::splat(0.5)).normalize();
        assert!((*normal - outward).length() < 1e-5, "{normal} at {position}");
    }
}

#[test]
fn a_mesh_is_closed_until_a_face_is_taken_away_or_turned() {
    let mut mesh = bare_cube();
    assert!(mesh.is_closed());
    mesh.triangles[3].swap(0, 1);
    assert!(!mesh.is_closed());
    mesh.triangles.remove(3);
    assert!(!mesh.is_closed());
}

#[test]
fn splitting_vertices_leaves_a_mesh_closed() {
    assert!(bare_cube().with_normals(0.5).is_closed());
}

#[rstest]
#[case(2.0)]
#[case(0.01)]
fn scaling_scales_the_volume_by_its_cube_and_the_inertia_by_its_fifth_power(#[case] scale: f32) {
    let at = |scale: f32| mass_properties(&bare_cube().scaled(scale)).unwrap();
    let (one, scaled) = (at(1.0), at(scale));
    assert!((scaled.volume / (one.volume * scale.powi(3)) - 1.0).abs() < 1e-4);
    assert!((scaled.inertia.x_axis.x / (one.inertia.x_axis.x * scale.powi(5)) - 1.0).abs() < 1e-4);
}

#[test]
fn a_turned_body_has_its_inertia_turned() {
    let mesh = primitive::cuboid(Vec3::new(1.0, 2.0, 3.0), 0.0);
    let orientation = Quat::from_axis_angle(Vec3::new(1.0, 2.0, -1.0).normalize(), 0.8);
    let mut turned = mesh.clone();
    turned.positions.iter_mut().for_each(|p| *p = orientation * *p);
    let (before, after) = (mass_properties(&mesh).unwrap(), mass_properties(&turned).unwrap());
    let rotation = Mat3::from_quat(orientation);
    let expected = rotation * before.inertia * rotation.transpose();
    assert!((after.inertia - expected).to_cols_array().iter().all(|d| d.abs() < 1e-3));
}

#[test]
fn an_open_mesh_weighs_as_its_box() {
    let mut open = bare_cube();
    open.triangles.truncate(10);
    let mut meshes = Meshes::default();
    meshes.by_name.insert("open".to_owned(), Arc::new(open));
    let mass = meshes.mass(&Shape::Mesh { asset: "open".to_owned(), scale: 2.0 }).unwrap();
    assert!((mass.volume - 8.0).abs() < 1e-5);
    assert!((mass.centre - Vec3::ONE).length() < 1e-5);
}

#[rstest]
#[case(Weight::DensityKgM3(600.0), 600.0 * 4.0 / 3.0 * PI * 0.008)]
#[case(Weight::MassKg(2.5), 2.5)]
fn a_body_weighs_its_density_times_its_volume_or_what_is_said(#[case] weight: Weight, #[case] kg: f32) {
    let mass = Meshes::default().mass_kg(&Shape::sphere(0.2), weight).unwrap();
    assert!((mass / kg - 1.0).abs() < 1e-5);
}

#[rstest]
#[case(Shape::cuboid(1.0, 0.2, 3.0), 0.2)]
#[case(Shape::sphere(0.2), 0.4)]
#[case(Shape::Capsule { radius_m: 0.1, length_m: 0.5 }, 0.2)]
#[case(Shape::Cone { radius_m: 0.4, height_m: 0.3 }, 0.3)]
#[case(Shape::Torus { major_radius_m: 0.4, minor_radius_m: 0.05 }, 0.1)]
#[case(Shape::Mesh { asset: "cube".to_owned(), scale: 0.5 }, 0.5)]
fn the_smallest_dimension_sets_margins(#[case] shape: Shape, #[case] size: f32) {
    let mut meshes = Meshes::default();
    meshes.by_name.insert("cube".to_owned(), Arc::new(bare_cube()));
    assert!((meshes.smallest_m(&shape).unwrap() - size).abs() < 1e-6);
}

#[test]
fn a_mesh_that_is_not_there_is_named() {
    let error = Meshes::default().mesh(&Shape::Mesh { asset: "boat".to_owned(), scale: 1.0 }).unwrap_err();
    assert!(error.to_string().contains("boat"), "{error}");
}

#[test]
fn a_shot_needs_each_mesh_once() {
    let mut shot = Shot::empty("Meshes");
    for name in ["boat", "crate", "boat"] {
        shot.add(Element::solid(name, Shape::Mesh { asset: name.to_owned(), scale: 1.0 }, Moves::Free));
    }
    assert_eq!(Meshes::needed(&shot), ["boat", "crate"]);
}

#[rstest]
#[case(primitive::capsule(0.2, 0.6, primitive::AROUND), PI * 0.04 * 0.6 + 4.0 / 3.0 * PI * 0.008)]
#[case(primitive::cone(0.3, 0.9, primitive::AROUND), PI * 0.09 * 0.9 / 3.0)]
#[case(primitive::torus(0.5, 0.1, primitive::AROUND), 2.0 * PI * PI * 0.5 * 0.01)]
#[case(primitive::cuboid(Vec3::new(1.0, 2.0, 3.0), 0.0), 6.0)]
fn a_shape_is_near_to_its_closed_form_in_volume_and_area(#[case] mesh: Mesh, #[case] volume: f32) {
    assert!((mass_properties(&mesh).unwrap().volume / volume - 1.0).abs() < 0.03);
    assert!(mesh.uvs.iter().all(|uv| uv.cmpge(Vec2::ZERO).all()));
    // The sum of the area vectors of a closed surface is nothing.
    let areas: Vec3 = mesh
        .triangles
        .iter()
        .map(|t| {
            let [a, b, c] = t.map(|v| mesh.positions[v as usize]);
            (b - a).cross(c - a) * 0.5
        })
        .sum();
    assert!(areas.length() < 1e-4, "{areas}");
}

#[rstest]
#[case(1, 60_000, 1.0)]
#[case(60, 60_000, 0.34)]
#[case(50_000, 60_000, 0.063)]
fn many_copies_of_a_round_shape_have_fewer_triangles(
    #[case] copies: usize,
    #[case] triangles: usize,
    #[case] fraction: f64,
) {
    let meshes = Meshes::default();
    let shape = Shape::Capsule { radius_m: 0.1, length_m: 0.2 };
    let (full, few) = (meshes.mesh(&shape).unwrap(), meshes.mesh_for(&shape, copies, triangles).unwrap());
    let found = few.triangles.len() as f64 / full.triangles.len() as f64;
    assert!((found - fraction).abs() < 0.01, "{found}");
    assert!(few.is_closed());
}

#[test]
fn a_fan_of_many_faces_gets_its_normals_without_comparing_all_of_them() {
    // A flat disc below, a steep cone above, on one middle vertex each.
    let n = 200_000u32;
    let rim = |i: u32| {
        let (sin, cos) = (std::f32::consts::TAU * i as f32 / n as f32).sin_cos();
        Vec3::new(sin, 0.0, cos)
    };
    let fan = |tip: Vec3| Mesh {
        positions: (0..n).map(rim).chain([tip]).collect(),
        triangles: (0..n).map(|i| [i, (i + 1) % n, n]).collect(),
        ..Mesh::default()
    };
    let disc = fan(Vec3::ZERO).with_normals(0.6);
    assert!(disc.normals.iter().all(|normal| normal.distance(Vec3::Y) < 1e-3));
    let cone = fan(Vec3::Y * 2.0).with_normals(0.6);
    for [a, _, tip] in cone.triangles.iter().step_by(997) {
        // At the tip a face's normal is the mean of those near it, which leans its way.
        let [rim, tip] = [cone.normals[*a as usize], cone.normals[*tip as usize]];
        assert!(rim.angle_between(tip) < 0.3, "{rim} {tip}");
    }
}
