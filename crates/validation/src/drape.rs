//! How fabrics drape: Cusick's test. A disc of cloth lies on a smaller round table; the drape coefficient is the part of the ring
//! around the table that the shadow of the hanging disc covers.
//!
//! G. E. Cusick, *The dependence of fabric drape on bending and shear stiffness* (1965) found over many fabrics
//! D = 35.6 c − 3.61 c² − 2.59 A + 0.0461 A² + 17 per cent, with the bending length c in cm and the angle A in degrees at which
//! the fabric begins to buckle in shear. The ranges that are expected are those of A from 5° to 28°, where D is least, and of a
//! coated fabric, which hardly shears, of A up to 5°.

use crate::Experiment;
use crate::cloth::{run, shot, still_air};
use frames::Frame;
use geometry::{Mesh, Meshes};
use glam::{Vec2, Vec3};
use shot::{Asset, AssetKind, Cloth, Element, Moves, Shape, cloth_materials};
use std::f32::consts::{PI, TAU};
use std::sync::Arc;

/// Radii of the disc and of the table, m.
const DISC_M: f32 = 0.15;
const TABLE_M: f32 = 0.09;
/// Least and greatest angle of shear of woven fabrics, °, and of coated ones, which hardly shear.
const WOVEN: [f64; 2] = [5.0, 28.0];
const COATED: [f64; 2] = [0.0, 5.0];

/// Rings of the disc's mesh.
const RINGS: u32 = 16;

/// An even mesh of a disc: rings of 6, 12, 18 … points around the middle.
fn disc() -> Mesh {
    let first = |ring: u32| if ring == 0 { 0 } else { 1 + 3 * ring * (ring - 1) };
    let point = |ring: u32, i: u32| first(ring) + if ring == 0 { 0 } else { i % (6 * ring) };
    let mut mesh = Mesh::default();
    for ring in 0..=RINGS {
        for i in 0..(6 * ring).max(1) {
            let (sin, cos) = (TAU * i as f32 / (6 * ring).max(1) as f32).sin_cos();
            mesh.positions.push(DISC_M * ring as f32 / RINGS as f32 * Vec3::new(cos, 0.0, -sin));
        }
    }
    for ring in 1..=RINGS {
        for sextant in 0..6 {
            let (outer, inner) = (sextant * ring, sextant * (ring - 1));
            for j in 0..ring {
                let [a, b, c] =
                    [point(ring, outer + j), point(ring, outer + j + 1), point(ring - 1, inner + j)];
                mesh.triangles.push([a, b, c]);
                if j + 1 < ring {
                    mesh.triangles.push([b, point(ring - 1, inner + j + 1), c]);
                }
            }
        }
    }
    mesh.normals = vec![Vec3::Y; mesh.positions.len()];
    mesh.uvs = mesh.positions.iter().map(|p| Vec2::new(p.x, -p.z)).collect();
    mesh
}

/// Area of the shadow of a mesh under light from above, m².
fn shadow(frame: &Frame, id: shot::Id) -> f32 {
    const CELL: f32 = 0.001;
    let (mesh, middle) = (&frame.meshes[&id], frame.bodies[&id].positions[0]);
    let mut covered = std::collections::HashSet::new();
    for triangle in mesh.topology.triangles() {
        let [a, b, c] = triangle.map(|v| {
            let p = middle + mesh.positions[v as usize];
            Vec2::new(p.x, p.z) / CELL
        });
        let (low, high) = (a.min(b).min(c).floor(), a.max(b).max(c).ceil());
        let area = (b - a).perp_dot(c - a);
        for i in low.x as i32..=high.x as i32 {
            for k in low.y as i32..=high.y as i32 {
                let p = Vec2::new(i as f32 + 0.5, k as f32 + 0.5);
                let sides = [(a, b), (b, c), (c, a)].map(|(from, to)| (to - from).perp_dot(p - from) * area);
                if sides.iter().all(|side| *side >= 0.0) {
                    covered.insert((i, k));
                }
            }
        }
    }
    covered.len() as f32 * CELL * CELL
}

/// The drape coefficient of a material, 0–1, and how it came down to that.
fn drape(material: &Cloth) -> (f64, Vec<(f64, f64)>) {
    // Longer than those of the disc, which stays as it is.
    const EDGE_M: f32 = 0.012;
    let mut shot = shot(2.5);
    let asset = Asset { kind: AssetKind::Mesh, file: "assets/disc.obj".to_owned(), sha256: "0".to_owned() };
    shot.assets.insert("disc".to_owned(), asset);
    let mut meshes = Meshes::default();
    meshes.by_name.insert("disc".to_owned(), Arc::new(disc()));
    let table = Shape::Cylinder { radius_m: TABLE_M, height_m: 0.3 };
    shot.add(Element::solid("Table", table, Moves::Still).at(0.0, 0.15, 0.0));
    let thickness_m = material.thickness_m.min(0.003);
    let mut element = Element::solid(
        "Disc",
        Shape::Mesh { asset: "disc".to_owned(), scale: 1.0 },
        Moves::Free,
    )
    .at(0.0, 0.3 + 1.05 * thickness_m, 0.0);
    let solid = element.as_solid_mut().expect("a solid");
    solid.body.friction = 0.5;
    solid.cloth = Some(Cloth { edge_m: EDGE_M, thickness_m, ..material.clone() });
    let id = shot.add(element);
    shot.add(still_air(3.0, material.mass_kg_m2 * PI * DISC_M * DISC_M));
    let ring = PI * (DISC_M * DISC_M - TABLE_M * TABLE_M);
    let mut curve = Vec::new();
    run(&shot, &meshes, |frame| {
        let covered = (shadow(frame, id) - PI * TABLE_M * TABLE_M) / ring;
        curve.push((frame.time_s, 100.0 * f64::from(covered)));
    });
    // The mean over the last half second, in which it may still sway.
    let last = &curve[curve.len() - 12..];
    (last.iter().map(|of| of.1).sum::<f64>() / last.len() as f64, curve)
}

/// The range of Cusick's fabrics of a bending length, %, least first.
fn published(material: &Cloth, angles: [f64; 2]) -> [f64; 2] {
    let length_cm = 100.0 * (f64::from(material.bend_n_m) / (f64::from(material.mass_kg_m2) * 9.81)).cbrt();
    let [most, least] =
        angles.map(|a| 35.6 * length_cm - 3.61 * length_cm * length_cm - 2.59 * a + 0.0461 * a * a + 17.0);
    [least, most]
}

/// The drape coefficient of a named fabric is within the range of fabrics of its bending length.
pub fn drape_coefficient(name: &str) -> Experiment {
    let materials = cloth_materials();
    let (_, material) = materials.iter().find(|(of, _)| *of == name).expect("a fabric of that name");
    let [least, most] = published(material, if name == "oilcloth" { COATED } else { WOVEN });
    let (measured, curve) = drape(material);
    let key = match name {
        "canvas" => "drape-canvas",
        "silk" => "drape-silk",
        "wool" => "drape-wool",
        "netting" => "drape-netting",
        _ => "drape-oilcloth",
    };
    let expected = 0.5 * (least + most);
    Experiment {
        key,
        statement: format!(
            "The drape coefficient of {name} is within {least:.0}–{most:.0} %, the range of fabrics of its bending length."
        ),
        formula: "35.6 c − 3.61 c² − 2.59 A + 0.0461 A² + 17, A from 5° to 28°, coated to 5° (Cusick 1965)",
        expected,
        measured,
        tolerance: 0.5 * (most - least) / expected,
        unit: "%",
        axes: ("s", "%"),
        reference: vec![(0.0, least), (2.5, least), (2.5, most), (0.0, most)],
        curve,
    }
}

/// All of them.
pub fn all() -> Vec<Experiment> {
    ["canvas", "silk", "wool", "netting", "oilcloth"].map(drape_coefficient).to_vec()
}
