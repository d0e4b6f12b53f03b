//! Surface tension and wetting.

use super::{bare, filling, mesh_of, plate, simulated_with, with_mesh};
use crate::Experiment;
use geometry::{Meshes, primitive};
use glam::Vec3;
use shot::{Shape, particles::Liquid};
use std::f64::consts::TAU;

/// How much longer particles lie along x than across, as a part of the square of their radius.
fn elongation(positions: &[Vec3]) -> f64 {
    let n = positions.len() as f32;
    let centre = positions.iter().sum::<Vec3>() / n;
    let squares = positions.iter().map(|x| (*x - centre) * (*x - centre)).sum::<Vec3>() / n;
    f64::from((squares.x - 0.5 * (squares.y + squares.z)) / squares.element_sum())
}

/// A drop that is let go a little longer than wide rings.
pub fn ringing_drop() -> Experiment {
    let (radius, sigma, density, longer) = (0.3f32, 0.5f32, 800.0f32, 1.08f32);
    let period = TAU / (8.0 * f64::from(sigma) / (f64::from(density) * f64::from(radius).powi(3))).sqrt();
    let mut shot = bare(24.0, 1.4 * period as f32);
    shot.elements.clear();
    shot.physics.substeps = 1;
    let mut meshes = Meshes::default();
    let sphere = primitive::sphere(radius, 96);
    let stretch = Vec3::new(longer, longer.sqrt().recip(), longer.sqrt().recip());
    let mesh = mesh_of(sphere.positions.iter().map(|at| *at * stretch).collect(), sphere.triangles);
    let shape = with_mesh(&mut shot, &mut meshes, "drop", mesh);
    let of = Liquid {
        spacing_m: radius / 18.0,
        density_kg_m3: density,
        viscosity_pa_s: 0.0,
        surface_tension_n_m: sigma,
        ..Liquid::default()
    };
    let id = shot.add(filling(of, shape).at(0.111, -0.063, 0.034));
    let mut curve = Vec::new();
    simulated_with(&shot, &meshes, |frame| {
        curve.push((frame.time_s, elongation(&frame.particles[&id].positions)));
    });
    let zero =
        |pair: &[(f64, f64)]| pair[0].0 + (pair[1].0 - pair[0].0) * pair[0].1 / (pair[0].1 - pair[1].1);
    let crossings: Vec<f64> =
        curve.windows(2).filter(|pair| (pair[0].1 > 0.0) != (pair[1].1 > 0.0)).map(zero).collect();
    let first = curve[0].1;
    Experiment {
        key: "ringing-drop",
        statement:
            "period of a drop of 9 cells' radius that rings without gravity, against Rayleigh (1879) and Lamb"
                .to_owned(),
        formula: "ω² = 8 σ / (ρ R³)",
        expected: period,
        measured: crossings.get(2).map_or(f64::NAN, |third| third - crossings[0]),
        tolerance: 0.05,
        unit: "s",
        axes: ("time, s", "elongation"),
        reference: curve.iter().map(|(t, _)| (*t, first * (TAU * t / period).cos())).collect(),
        curve,
    }
}

/// A small drop on a plate without gravity is the cap of a sphere that meets the plate at the wetting angle.
pub fn sessile_drop() -> Experiment {
    let (sigma, radius, angle) = (0.072f32, 0.01f32, 60.0f32.to_radians());
    let spacing = radius / 12.0;
    let mut shot = bare(24.0, 1.5);
    shot.elements.clear();
    plate(&mut shot, Vec3::new(-0.1, -0.02, -0.1), Vec3::new(0.1, 0.0, 0.1));
    // A cylinder at first.
    let of = Liquid {
        spacing_m: spacing,
        viscosity_pa_s: 0.05,
        surface_tension_n_m: sigma,
        wetting_angle_rad: angle,
        ..Liquid::default()
    };
    let cylinder = Shape::Cylinder { radius_m: radius, height_m: 0.6 * radius };
    let id = shot.add(filling(of, cylinder).at(0.0, 0.3 * radius, 0.0));
    let mut volume = 0.0;
    let mut curve = Vec::new();
    simulated_with(&shot, &Meshes::default(), |frame| {
        let positions = &frame.particles[&id].positions;
        volume = positions.len() as f64 * f64::from(spacing).powi(3);
        curve.push((frame.time_s, f64::from(height(positions, 0.25 * radius, radius))));
    });
    let cos = f64::from(angle.cos());
    let sphere = (3.0 * volume / (std::f64::consts::PI * (1.0 - cos).powi(2) * (2.0 + cos))).cbrt();
    let expected = sphere * (1.0 - cos);
    Experiment {
        key: "sessile-drop",
        statement:
            "height of a drop that has come to rest on a plate without gravity, with a wetting angle of 60°"
                .to_owned(),
        formula: "R (1 − cos θ), V = π R³ (1 − cos θ)² (2 + cos θ) / 3",
        expected,
        measured: curve[curve.len() - 1].1,
        tolerance: 0.05,
        unit: "m",
        axes: ("time, s", "height, m"),
        reference: vec![(0.0, expected), (curve[curve.len() - 1].0, expected)],
        curve,
    }
}

/// The top of a drop on a plate at y 0 from the column in its middle: twice the mean height, which is lower than the top by that of
/// a sphere of about `radius`.
fn height(positions: &[Vec3], within: f32, radius: f32) -> f32 {
    let centre = positions.iter().sum::<Vec3>() / positions.len() as f32;
    let near = |x: &&Vec3| ((x.x - centre.x).powi(2) + (x.z - centre.z).powi(2)).sqrt() < within;
    let column: Vec<f32> = positions.iter().filter(near).map(|x| x.y).collect();
    2.0 * column.iter().sum::<f32>() / column.len().max(1) as f32 + within.powi(2) / (4.0 * 1.5 * radius)
}
