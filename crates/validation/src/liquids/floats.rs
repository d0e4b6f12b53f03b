//! Free bodies in liquid.

use super::{G, WALL, bare, filling, plate, simulated, walls, water};
use crate::Experiment;
use glam::Vec3;
use shot::{Element, Moves, Shape, Weight, particles::Liquid};
use std::f64::consts::{PI, TAU};

/// A free body of a density.
fn free(name: &str, shape: Shape, density_kg_m3: f32) -> Element {
    let mut body = Element::solid(name, shape, Moves::Free);
    body.as_solid_mut().expect("a solid").body.weight = Weight::DensityKgM3(density_kg_m3);
    body
}

/// The draught of a block that floats, once it has come to rest.
pub fn draught() -> Experiment {
    let (spacing, room, deep) = (0.005f32, Vec3::new(0.32, 0.4, 0.32), 0.15f32);
    let (size, density) = (Vec3::new(0.16, 0.1, 0.16), 600.0f32);
    let mut shot = bare(24.0, 4.0);
    walls(&mut shot, room, WALL);
    plate(&mut shot, Vec3::new(0.0, -WALL, 0.0), Vec3::new(room.x, 0.0, room.z));
    water(&mut shot, Vec3::new(room.x, deep, room.z), spacing);
    let block = free("Block", Shape::cuboid(size.x, size.y, size.z), density);
    let id = shot.add(block.at(0.5 * room.x, deep + 0.5 * size.y + 0.005, 0.5 * room.z));
    let expected = f64::from(size.y * density / 1_000.0);
    // The level rises by what the block displaces.
    let level = f64::from(deep) + f64::from(size.x * size.z) * expected / f64::from(room.x * room.z);
    let curve: Vec<(f64, f64)> = simulated(&shot)
        .iter()
        .map(|frame| {
            let bottom = f64::from(frame.bodies[&id].positions[0].y - 0.5 * size.y);
            (frame.time_s, level - bottom)
        })
        .collect();
    let late = &curve[curve.len() / 2..];
    Experiment {
        key: "draught",
        statement: "draught of a floating block of 600 kg/m³, 10 cells high".to_owned(),
        formula: "h ρ / ρ₀",
        expected,
        measured: late.iter().map(|(_, draught)| draught).sum::<f64>() / late.len() as f64,
        tolerance: 0.02,
        unit: "m",
        axes: ("time, s", "draught, m"),
        reference: vec![(0.0, expected), (4.0, expected)],
        curve,
    }
}

/// Added mass of a half-immersed ball that heaves, over the mass of the liquid that it displaces, by ω² a / g: A. Hulme, *The wave
/// forces acting on a floating hemisphere undergoing forced periodic oscillations*, 1982.
const ADDED_MASS: [(f64, f64); 6] =
    [(0.7, 0.4999), (0.8, 0.4698), (0.9, 0.4464), (1.0, 0.4284), (1.2, 0.4047), (1.4, 0.3924)];

/// The period of a half-immersed ball that bobs.
pub fn bobbing() -> Experiment {
    let (spacing, radius) = (0.005f32, 0.05f32);
    let (room, deep) = (Vec3::new(0.5, 0.4, 0.5), 0.15f32);
    let mass = |kr: f64| super::at(&ADDED_MASS, kr);
    // ω² a / g = 3 / 2 / (1 + μ).
    let mut kr = 1.0;
    (0..20).for_each(|_| kr = 1.5 / (1.0 + mass(kr)));
    let expected = TAU / (kr * G / f64::from(radius)).sqrt();
    // The first swing: waves that come back from the walls reach the ball after it. Its way depends on where particles happen to lie: the
    // mean of balls that begin a part of a cell apart.
    let seconds = 0.75 * expected as f32;
    let each =
        [0.0f32, 0.34, 0.68].map(|part| bobbed(radius, (room, deep), spacing, 2.0 * spacing * part, seconds));
    let mean = |(i, (time, _)): (usize, &(f64, f64))| {
        (*time, each.iter().map(|heights| heights[i].1).sum::<f64>() / each.len() as f64)
    };
    let heights: Vec<(f64, f64)> = each[0].iter().enumerate().map(mean).collect();
    let lowest = (1..heights.len() - 1).min_by(|a, b| heights[*a].1.total_cmp(&heights[*b].1));
    let lowest = lowest.expect("it moves");
    let [a, b, c] = [heights[lowest - 1], heights[lowest], heights[lowest + 1]];
    let swing_s = b.0 + 0.5 * (b.0 - a.0) * (a.1 - c.1) / (a.1 - 2.0 * b.1 + c.1);
    Experiment {
        key: "bobbing",
        statement:
            "period of a half-immersed ball, 10 cells wide, that bobs, by its first swing: with the added mass of Hulme (1982)"
                .to_owned(),
        formula: "ω² a / g = 3/2 / (1 + μ(ω² a / g))",
        expected,
        measured: 2.0 * swing_s,
        tolerance: 0.05,
        unit: "s",
        axes: ("time, s", "height, m"),
        reference: vec![(0.0, f64::from(deep)), (0.75 * expected, f64::from(deep))],
        curve: heights,
    }
}

/// Heights of a ball by time, which is lifted by a fifth of its radius above where it floats half immersed, and `offset` from the middle
/// of a room.
fn bobbed(
    radius: f32,
    (room, deep): (Vec3, f32),
    spacing: f32,
    offset: f32,
    seconds: f32,
) -> Vec<(f64, f64)> {
    let mut shot = bare(96.0, seconds);
    shot.physics.substeps = 1;
    walls(&mut shot, room, WALL);
    plate(&mut shot, Vec3::new(0.0, -WALL, 0.0), Vec3::new(room.x, 0.0, room.z));
    water(&mut shot, Vec3::new(room.x, deep, room.z), spacing);
    let ball = free("Ball", Shape::sphere(radius), 500.0);
    let id = shot.add(ball.at(0.5 * room.x + offset, deep + 0.2 * radius, 0.5 * room.z - 0.6 * offset));
    let height = |frame: &frames::Frame| (frame.time_s, f64::from(frame.bodies[&id].positions[0].y));
    simulated(&shot).iter().map(height).collect()
}

/// A ball in a block of thick liquid that clings to it, without weight, which is thrown: what both lose and gain.
pub fn momentum() -> Experiment {
    let cases = [
        (200.0, 2_000.0, Vec3::ZERO, Vec3::X),
        (200.0, 8_000.0, Vec3::new(3.21, -1.77, 0.43), Vec3::new(-0.6, 0.5, 0.3)),
        (2_000.0, 200.0, Vec3::new(0.013, 0.005, 0.0), Vec3::new(0.0, 2.0, 1.0)),
    ];
    let ratios = cases.map(|(viscosity, density, at, way)| kept_momentum(viscosity, density, at, way));
    let worst = ratios
        .into_iter()
        .fold(1.0, |worst: f64, ratio| if (ratio - 1.0).abs() > (worst - 1.0).abs() { ratio } else { worst });
    Experiment {
        key: "clinging-momentum",
        statement: "momentum of a ball that is thrown within a block of clinging liquid, and of the liquid, over that at first: the worst \
                    of three"
            .to_owned(),
        formula: "Σ m v = m₀ v₀",
        expected: 1.0,
        measured: worst,
        tolerance: 0.01,
        unit: "",
        axes: ("case", "momentum, of the exact one"),
        curve: ratios.into_iter().enumerate().map(|(i, ratio)| (i as f64, ratio)).collect(),
        reference: vec![(0.0, 1.0), (2.0, 1.0)],
    }
}

/// Momentum after a second over that at first, along it.
fn kept_momentum(viscosity_pa_s: f32, density_kg_m3: f32, at: Vec3, way: Vec3) -> f64 {
    let mut shot = bare(24.0, 1.0);
    shot.elements.clear();
    let of = Liquid { spacing_m: 0.0125, viscosity_pa_s, wall_friction: 1.0, ..Liquid::default() };
    let mass = 1_000.0 * of.particle_volume_m3();
    let liquid = shot.add(filling(of, Shape::cuboid(0.2, 0.2, 0.2)).at(at.x, at.y, at.z));
    let radius = 0.05f32;
    let mut ball = free("Ball", Shape::sphere(radius), density_kg_m3).at(at.x, at.y, at.z);
    ball.as_solid_mut().expect("a solid").body.launch_velocity = Some(way);
    let id = shot.add(ball);
    let frames = simulated(&shot);
    let frame = &frames[frames.len() - 1];
    let particles = &frame.particles[&liquid];
    let ball_mass = density_kg_m3 * 4.0 / 3.0 * PI as f32 * radius.powi(3);
    let expected = ball_mass * way;
    let measured =
        particles.velocities.iter().sum::<Vec3>() * mass + ball_mass * frame.bodies[&id].velocities[0];
    f64::from(measured.dot(expected) / expected.length_squared())
}
