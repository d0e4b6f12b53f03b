//! Thick liquid that sticks to walls.

use super::{G, WALL, bare, filling, plate, simulated};
use crate::Experiment;
use glam::Vec3;
use shot::{Shape, particles::Liquid};
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
