//! Meshes that a file moves against mechanics.

use crate::Experiment;
use crate::solids::{body, shot};
use frames::Frame;
use geometry::{MeshSample, MeshSequence, Meshes, Topology, primitive};
use glam::{Quat, Vec3};
use shot::{
    Asset, AssetKind, Element, ElementKind, FileAnimation, Id, Moves, Shape, Shot,
    particles::{Emission, EmissionSchedule, Particles, Source, Start},
};
use simulate::Simulation;
use std::sync::Arc;

/// Frames a second of the file.
const RATE: f32 = 30.0;

/// A shot without gravity, with a square sheet that a file moves along its normal
/// at `u` m/s, turned about z, and stretched meanwhile.
fn with_sheet(u: f32, turn: f32, bounce: f32) -> (Shot, Meshes) {
    let mesh = primitive::plane(3.0, 3.0);
    let topology = Arc::new(Topology::of(&mesh));
    let sample = |i: u32| {
        let t = i as f32 / RATE;
        let place = |p: &Vec3| *p * (1.0 + 0.1 * t) + Vec3::Y * (u * t);
        let positions = mesh.positions.iter().map(place).collect();
        MeshSample { frame: f64::from(i), topology: topology.clone(), positions, velocities: Vec::new() }
    };
    let sequence = MeshSequence::new((0..90).map(sample).collect(), RATE).expect("samples that rise");
    let mut shot = shot(1.2);
    shot.elements.retain(|element| element.as_force().is_none());
    let mut meshes = Meshes::default();
    meshes.by_name.insert("sheet".to_owned(), sequence.rest().clone());
    meshes.sequences.insert("sheet".to_owned(), Arc::new(sequence));
    let (kind, file) = (AssetKind::MeshSequence, "assets/sheet.brmeshes".to_owned());
    shot.assets.insert("sheet".to_owned(), Asset { kind, file, sha256: "5e".to_owned() });
    let shape = Shape::Mesh { asset: "sheet".to_owned(), scale: 1.0 };
    let mut sheet = body("Sheet", shape, Moves::Animated, 0.0, bounce).turned(0.0, 0.0, turn);
    sheet.as_solid_mut().expect("a solid").animation =
        Some(FileAnimation { rate: RATE, ..FileAnimation::default() });
    shot.add(sheet);
    (shot, meshes)
}

fn last(shot: &Shot, meshes: &Meshes) -> Frame {
    let mut simulation = Simulation::new(shot, meshes).expect("the shot can be prepared");
    let mut frame = simulation.write();
    while simulation.frame() < shot.timing.last {
        frame = simulation.advance().expect("the shot stays within bounds");
    }
    frame
}

/// Speeds of the sheet and towards it, m/s, and turns of the sheet, rad.
const CASES: [(f32, f32, f32); 6] =
    [(1.0, 2.0, 0.0), (3.0, 0.5, 0.7), (-0.5, 2.0, 1.9), (0.3, 12.0, 2.6), (6.0, 6.0, -0.4), (0.0, 3.0, 3.0)];

fn experiment(
    key: &'static str,
    statement: String,
    formula: &'static str,
    leaves: impl Fn(f32, f32, f32) -> f64,
    exact: impl Fn(f32, f32) -> f32,
) -> Experiment {
    let results: Vec<(f64, f64, f64)> = CASES
        .iter()
        .map(|&(u, v, turn)| (f64::from(u + v), leaves(u, v, turn), f64::from(exact(u, v))))
        .collect();
    let worst = results.iter().map(|(_, got, exact)| (got / exact - 1.0).abs()).fold(0.0, f64::max);
    let mut results = results;
    results.sort_by(|a, b| a.0.total_cmp(&b.0));
    Experiment {
        key,
        statement,
        formula,
        expected: 0.0,
        measured: worst,
        tolerance: 0.01,
        unit: "",
        axes: ("closing speed (m/s)", "leaves at (m/s)"),
        curve: results.iter().map(|r| (r.0, r.1)).collect(),
        reference: results.iter().map(|r| (r.0, r.2)).collect(),
    }
}

/// Particles that lose nothing bounce off a sheet that a file moves.
pub fn mesh_bounce() -> Experiment {
    let leaves = |u: f32, v: f32, turn: f32| {
        let (mut shot, meshes) = with_sheet(u, turn, 1.0);
        let mut particles = Particles {
            source: Source::Point {},
            emission: Emission { schedule: EmissionSchedule::Burst { count: 1 }, ..Emission::default() },
            start: Start {
                spread_rad: 0.0,
                speed_m_s: v,
                speed_variation: 0.0,
                lifespan_s: None,
                size_variation: 0.0,
                ..Start::default()
            },
            ..Particles::default()
        };
        particles.contact.enabled = true;
        (particles.contact.restitution, particles.contact.friction) = (1.0, 0.0);
        let rotation = Quat::from_rotation_z(turn);
        let at = rotation * Vec3::new(0.13, 0.6 * (u + v), 0.21);
        let dust = Element::new("Dust", ElementKind::Particles(particles)).at(at.x, at.y, at.z);
        let dust: Id = shot.add(dust.turned(0.0, 0.0, turn + std::f32::consts::PI));
        let frame = last(&shot, &meshes);
        f64::from((rotation.inverse() * frame.particles_of(dust).velocities[0]).y)
    };
    experiment(
        "mesh-bounce",
        "Particles that lose nothing bounce off a sheet that a file moves at u towards their v; measured is the \
         largest part by which a speed is off, of six speeds and turns."
            .to_owned(),
        "2 u + v",
        leaves,
        |u, v| 2.0 * u + v,
    )
}

/// Balls rebound from a sheet that a file moves.
pub fn mesh_rebound() -> Experiment {
    let leaves = |u: f32, v: f32, turn: f32| {
        let (mut shot, meshes) = with_sheet(u, turn, 0.6);
        let rotation = Quat::from_rotation_z(turn);
        let at = rotation * Vec3::new(0.13, 0.15 + 0.6 * (u + v), 0.21);
        let mut ball = body("Ball", Shape::sphere(0.15), Moves::Free, 0.0, 0.6).at(at.x, at.y, at.z);
        ball.as_solid_mut().expect("a solid").body.launch_velocity = Some(rotation * Vec3::NEG_Y * v);
        let ball = shot.add(ball);
        f64::from((rotation.inverse() * last(&shot, &meshes).bodies[&ball].velocities[0]).y)
    };
    experiment(
        "mesh-rebound",
        "Balls rebound from a sheet that a file moves at u towards their v, with restitution e = 0.6; measured is \
         the largest part by which a speed is off, of six speeds and turns."
            .to_owned(),
        "u + e (u + v)",
        leaves,
        |u, v| u + 0.6 * (u + v),
    )
}

/// All experiments of this chapter.
pub fn all() -> Vec<Experiment> {
    vec![mesh_bounce(), mesh_rebound()]
}
