//! Surfaces of finished meshes against published limits.

use crate::Experiment;
use geometry::{
    Mesh, Smoothing, Topology, mass_properties, primitive,
    subdivision::{Creases, Scheme, Subdivision},
};
use glam::Vec3;

/// The corner of a cube, refined by Catmull and Clark, goes to its published limit.
pub fn cube_limit() -> Experiment {
    let cube = primitive::cuboid(Vec3::splat(2.0), 0.0);
    let topology = Topology::of(&cube);
    let limit = Vec3::splat(0.5);
    let mut curve = Vec::new();
    let mut measured = 0.0;
    for levels in 1..=6 {
        let creases = Creases::default();
        let refined = Subdivision::new(&topology, &cube.positions, Scheme::CatmullClark, levels, &creases)
            .expect("a cube can be refined");
        let positions = refined.apply(&cube.positions);
        let corner = positions.iter().copied().max_by(|a, b| a.min_element().total_cmp(&b.min_element()));
        measured = f64::from(corner.expect("there are vertices").x);
        curve.push((f64::from(levels), measured));
    }
    Experiment {
        key: "cube-limit",
        statement:
            "The corner of a cube of ±1, refined by Catmull and Clark, goes to ±1/2 with each level (M. \
                    Halstead, M. Kass and T. DeRose, 1993); measured is its coordinate after six levels."
                .to_owned(),
        formula: "(n² S + 4 Σ E + Σ F) / (n (n + 5))",
        expected: f64::from(limit.x),
        measured,
        // A vertex comes closer to its limit by a factor of over two a level.
        tolerance: 2e-3,
        unit: "m",
        axes: ("levels", "m"),
        reference: curve.iter().map(|(level, _)| (*level, 0.5)).collect(),
        curve,
    }
}

/// A closed surface keeps its volume through twenty passes of smoothing.
pub fn smoothed_volume() -> Experiment {
    let mut mesh = primitive::torus(1.0, 0.3, 64);
    // Roughness of 3 %, the same for vertices at one place.
    for p in &mut mesh.positions {
        let wave = (37.0 * p.x).sin() * (41.0 * p.y).cos() * (43.0 * p.z).sin();
        *p *= 1.0 + 0.03 * wave;
    }
    let volume = |positions: Vec<Vec3>| {
        let mesh = Mesh { positions, ..mesh.clone() };
        f64::from(mass_properties(&mesh).expect("it is closed").volume)
    };
    let before = volume(mesh.positions.clone());
    let smoothing = Smoothing::new(&Topology::of(&mesh), &mesh.positions);
    let ratio = |passes: u32| volume(smoothing.apply(&mesh.positions, passes)) / before;
    let curve: Vec<(f64, f64)> = (0..=20).map(|passes| (f64::from(passes), ratio(passes))).collect();
    Experiment {
        key: "smoothed-volume",
        statement:
            "A rough ring keeps its volume through twenty passes of smoothing; measured is the volume \
                    against that before."
                .to_owned(),
        formula: "V / V₀ = 1",
        expected: 1.0,
        measured: ratio(20),
        tolerance: 5e-3,
        unit: "",
        axes: ("passes", "V / V₀"),
        reference: curve.iter().map(|(passes, _)| (*passes, 1.0)).collect(),
        curve,
    }
}

/// Creased edges of a box stay on the straight lines that they were on.
pub fn creased_edges() -> Experiment {
    let size = Vec3::new(2.0, 3.0, 1.0);
    let cube = primitive::cuboid(size, 0.0);
    let topology = Topology::of(&cube);
    let creases = Creases { angle_rad: Some(1.0), ..Creases::default() };
    let mut curve = Vec::new();
    let mut worst = 0.0f64;
    for scheme in [Scheme::CatmullClark, Scheme::Loop] {
        for levels in 1..=5 {
            let refined = Subdivision::new(&topology, &cube.positions, scheme, levels, &creases)
                .expect("a box can be refined");
            let positions = refined.apply(&cube.positions);
            // The distance of the nearest vertex to points of one edge: there are vertices at each of
            // the parts into which it is cut.
            let parts = 1 << levels;
            let on_edge = (0..=parts).map(|i| {
                let along = i as f32 / parts as f32 - 0.5;
                let point = Vec3::new(0.5 * size.x, along * size.y, 0.5 * size.z);
                positions.iter().map(|p| f64::from(p.distance(point))).fold(f64::INFINITY, f64::min)
            });
            let off = on_edge.fold(0.0, f64::max);
            worst = worst.max(off);
            curve.push((curve.len() as f64, off));
        }
    }
    Experiment {
        key: "creased-edges",
        statement: "Edges of a box that are creased stay where they are, refined by Catmull and Clark or by \
                    Loop; measured is the largest distance of a vertex to its point of the edge, of five levels each."
            .to_owned(),
        formula: "0",
        expected: 0.0,
        measured: worst,
        tolerance: 1e-6,
        unit: "m",
        axes: ("mesh", "m"),
        reference: curve.iter().map(|(mesh, _)| (*mesh, 0.0)).collect(),
        curve,
    }
}

/// All of them.
pub fn all() -> Vec<Experiment> {
    vec![cube_limit(), creased_edges(), smoothed_volume()]
}
