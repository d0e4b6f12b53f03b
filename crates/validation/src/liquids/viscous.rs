//! Thick liquid that sticks to walls.

use super::{G, WALL, bare, filling, plate, simulated, simulated_with, vessel, with_mesh};
use crate::Experiment;
use geometry::Meshes;
use glam::Vec3;
use shot::{Element, Moves, Shape, Weight, particles::Liquid};
use std::f64::consts::PI;

/// The speed of a viscous flow in a square duct, in units of g w² / ν, at places from −½ to ½: J. Boussinesq, 1868, as a series.
fn duct_profile(y: f64, z: f64) -> f64 {
    let term = |n: f64| {
        let sign = if n as u64 % 4 == 1 { 1.0 } else { -1.0 };
        let part = 1.0 - (n * PI * z).cosh() / (0.5 * n * PI).cosh();
        4.0 / (PI * n).powi(3) * sign * part * (n * PI * y).cos()
    };
    (0..20).map(|i| term(f64::from(2 * i + 1))).sum()
}

/// Thick liquid falls through a square duct under its own weight, ten cells wide: the profile of its speed.
pub fn duct() -> Experiment {
    let (spacing, width, tall) = (0.005f32, 0.1f32, 0.4f32);
    let viscosity = 10.0f32;
    let mut shot = bare(48.0, 0.3);
    let half = 0.5 * width;
    for [low, high] in [[-half - WALL, -half], [half, half + WALL]] {
        plate(&mut shot, Vec3::new(low, -1.0, -half - WALL), Vec3::new(high, 1.0, half + WALL));
        plate(&mut shot, Vec3::new(-half, -1.0, low), Vec3::new(half, 1.0, high));
    }
    let of =
        Liquid { spacing_m: spacing, viscosity_pa_s: viscosity, wall_friction: 1.0, ..Liquid::default() };
    let id = shot.add(filling(of, Shape::cuboid(width, tall, width)));
    let frames = simulated(&shot);
    let of = &frames[frames.len() - 1].particles[&id];
    let centre = of.positions.iter().map(|at| at.y).sum::<f32>() / of.len() as f32;
    let scale = G * f64::from(width).powi(2) / (f64::from(viscosity) / 1_000.0);
    // Along the middle, in bins of a cell: the mean of the speeds beside that of the closed form at the same places.
    let bins = 10;
    let mut sums = vec![(0.0f64, 0.0f64, 0.0f64, 0.0f64); bins];
    let middle =
        of.positions.iter().zip(&of.velocities).filter(|(at, _)| (at.y - centre).abs() < 0.25 * tall);
    for (at, v) in middle {
        let [y, z] = [at.x, at.z].map(|x| f64::from(x / width));
        if z.abs() < 0.1 {
            let bin = (((y + 0.5) * bins as f64) as usize).min(bins - 1);
            let sum = &mut sums[bin];
            *sum = (sum.0 + 1.0, sum.1 + y, sum.2 - f64::from(v.y), sum.3 + scale * duct_profile(y, z));
        }
    }
    let means = sums.iter().filter(|sum| sum.0 > 0.0).map(|(n, y, v, exact)| (y / n, v / n, exact / n));
    let fastest = scale * duct_profile(0.0, 0.0);
    let worst = means.clone().map(|(_, v, exact)| (v - exact).abs() / fastest).fold(0.0, f64::max);
    Experiment {
        key: "duct",
        statement: "profile of thick liquid in a square duct 10 cells wide, against Boussinesq (1868): the worst difference over the \
                    speed in the middle"
            .to_owned(),
        formula: "ν ∇²v = −g",
        expected: 0.0,
        measured: worst,
        tolerance: 0.03,
        unit: "",
        axes: ("place, widths", "speed, m/s"),
        curve: means.clone().map(|(y, v, _)| (y, v)).collect(),
        reference: means.map(|(y, _, exact)| (y, exact)).collect(),
    }
}

/// A ball sinks along the axis of a cylinder in thick liquid.
pub fn sinking_ball() -> Experiment {
    let (ball, cylinder, tall) = (0.03f32, 0.075f32, 0.3);
    let (viscosity_pa_s, heavier) = (50.0f32, 1_500.0f32);
    let stokes = 2.0 / 9.0 * f64::from(heavier) * G * f64::from(ball).powi(2) / f64::from(viscosity_pa_s);
    // W. Haberman and R. Sayre, 1958: for a ball of 0.4 times the radius of the cylinder the drag is 3.596 times that of Stokes.
    let expected = stokes / 3.596;
    let mut shot = bare(24.0, 0.25);
    let mut meshes = Meshes::default();
    let shape = with_mesh(&mut shot, &mut meshes, "vessel", vessel(cylinder, tall + 0.06));
    shot.add(Element::solid("Vessel", shape, Moves::Still).at(0.0, 0.03, 0.0));
    let of = Liquid { spacing_m: 0.0025, viscosity_pa_s, wall_friction: 1.0, ..Liquid::default() };
    shot.add(filling(of, Shape::Cylinder { radius_m: cylinder, height_m: tall }));
    let mut sphere = Element::solid("Ball", Shape::sphere(ball), Moves::Free).at(0.0, 0.011, 0.0);
    sphere.as_solid_mut().expect("a solid").body.weight = Weight::DensityKgM3(1_000.0 + heavier);
    let id = shot.add(sphere);
    let mut curve = Vec::new();
    simulated_with(&shot, &meshes, |frame| {
        curve.push((frame.time_s, -f64::from(frame.bodies[&id].velocities[0].y)));
    });
    let late = &curve[curve.len() / 3..];
    Experiment {
        key: "sinking-ball",
        statement: "a ball, 12 cells wide, sinks in a cylinder of 2.5 times its width: Stokes' law with the wall correction of \
                    Haberman and Sayre (1958)"
            .to_owned(),
        formula: "v = 2/9 Δρ g a² / (μ K)",
        expected,
        measured: late.iter().map(|(_, v)| v).sum::<f64>() / late.len() as f64,
        tolerance: 0.1,
        unit: "m/s",
        axes: ("time, s", "speed, m/s"),
        reference: vec![(0.0, expected), (0.25, expected)],
        curve,
    }
}
