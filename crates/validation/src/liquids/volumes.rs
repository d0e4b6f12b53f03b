//! The volume that liquid keeps, of the mesh of its surface.

use super::{WALL, bare, filling, mesh_of, plate, simulated_with, vessel, walls, water, with_mesh};
use crate::Experiment;
use frames::Particles;
use geometry::{Meshes, ParticleSurface, SurfaceParticles, mass_properties};
use glam::Vec3;
use shot::{Element, Id, Moves, Shape, Shot, motion::Channel, particles::Liquid};
use std::f32::consts::{PI, TAU};
use std::ops::Range;

/// Volume of the surface mesh of particles, m³.
fn mesh_volume(particles: &Particles, spacing_m: f32) -> f64 {
    let surface = ParticleSurface {
        size_m: spacing_m,
        radius_m: 0.6 * spacing_m,
        reach_m: 2.2 * spacing_m,
        cell_m: 0.75 * spacing_m,
        anisotropy: 3.0,
        film_m: 0.8 * spacing_m,
    };
    let Particles { positions, velocities, .. } = particles;
    let mesh = surface.of(&SurfaceParticles { positions, velocities, values: &[] }).expect("it is near");
    let mesh = mesh_of(mesh.positions, mesh.triangles);
    f64::from(mass_properties(&mesh).expect("it is closed").volume)
}

/// The volume of a liquid by time in seconds, in every fourth frame, over its mean in the first of two spans of time; and the mean of
/// the second.
fn kept(
    shot: &Shot,
    meshes: &Meshes,
    (liquid, spacing_m): (Id, f32),
    [first, second]: [Range<f64>; 2],
) -> (Vec<(f64, f64)>, f64) {
    let (mut curve, mut number) = (Vec::new(), 0);
    simulated_with(shot, meshes, |frame| {
        if number % 4 == 0 {
            curve.push((frame.time_s, mesh_volume(&frame.particles[&liquid], spacing_m)));
        }
        number += 1;
    });
    let mean = |curve: &[(f64, f64)], span: Range<f64>| {
        let within = curve.iter().filter(|(time, _)| span.contains(time));
        within.clone().map(|(_, volume)| volume).sum::<f64>() / within.count() as f64
    };
    let before = mean(&curve, first);
    curve.iter_mut().for_each(|(_, volume)| *volume /= before);
    let after = mean(&curve, second);
    (curve, after)
}

/// That a volume is kept.
fn experiment(key: &'static str, statement: &str, (curve, measured): (Vec<(f64, f64)>, f64)) -> Experiment {
    let end = curve.last().map_or(0.0, |(time, _)| *time);
    Experiment {
        key,
        statement: statement.to_owned(),
        formula: "V = const",
        expected: 1.0,
        measured,
        tolerance: 0.01,
        unit: "",
        axes: ("time, s", "V / V₀"),
        reference: vec![(0.0, 1.0), (end, 1.0)],
        curve,
    }
}

/// The volume of water over ten seconds in which it sloshes.
pub fn sloshing_volume() -> Experiment {
    let (spacing, room) = (0.01, Vec3::new(0.4, 0.4, 0.2));
    let mut shot = bare(24.0, 12.0);
    walls(&mut shot, room, WALL);
    plate(&mut shot, Vec3::new(0.0, -WALL, 0.0), Vec3::new(room.x, 0.0, room.z));
    let push = Channel::expression("if(time > 1 && time < 1.5, 1, 0)");
    shot.add(Element::gravity(Vec3::X).keyed("kind.force.strength", push));
    let id = water(&mut shot, Vec3::new(room.x, 0.2, room.z), spacing);
    // Over a period of the waves each.
    let statement = "volume of the surface mesh of sloshing water after 10 s, over that at first";
    let kept = kept(&shot, &Meshes::default(), (id, spacing), [2.0..2.7, 11.3..12.0]);
    experiment("sloshing-volume", statement, kept)
}

/// The volume of thick liquid that a drum turns a hundred times.
pub fn drum_volume() -> Experiment {
    let (spacing_m, turns_s, radius, wide) = (0.006f32, 2.0f32, 0.1, 0.05);
    let mut shot = bare(24.0, 101.0 / turns_s);
    let mut meshes = Meshes::default();
    let shape = with_mesh(&mut shot, &mut meshes, "drum", vessel(radius, wide));
    let turn = Channel::expression(&format!("{} * time", turns_s * TAU));
    let drum = Element::solid("Drum", shape, Moves::Animated).turned(0.5 * PI, 0.0, 0.0);
    shot.add(drum.keyed("placement.orientation_rad[2]", turn));
    let of = Liquid { spacing_m, viscosity_pa_s: 2.0, wall_friction: 1.0, ..Liquid::default() };
    let id = shot.add(filling(of, Shape::cuboid(0.14, 0.07, wide)).at(0.0, -0.025, 0.0));
    let statement = "volume of the surface mesh of thick liquid in a drum in the last five of 100 turns, over the first five";
    experiment("drum-volume", statement, kept(&shot, &meshes, (id, spacing_m), [0.0..2.5, 48.0..50.5]))
}
