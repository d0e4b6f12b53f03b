//! Surface tension and wetting against closed forms, without a shot.

use super::tank::Tank;
use super::{EmissionSchedule, Liquid, Shape, Simulation, bare, element, liquid};
use geometry::{Meshes, fill, primitive};
use glam::{Mat3, Vec3};
use rstest::rstest;
use shot::{Asset, AssetKind};
use simulate::liquid::{LiquidParticles, Material, Properties, Rheologies, Rheology, StillBodyCache, flow};
use std::f32::consts::{PI, TAU};
use std::sync::Arc;

const SPACE: Tank = Tank { min: Vec3::splat(-10.0), max: Vec3::splat(10.0) };

struct Drop {
    positions: Vec<Vec3>,
    velocities: Vec<Vec3>,
    gradients: Vec<Mat3>,
    still: StillBodyCache,
    spacing_m: f32,
    properties: Properties,
    viscosity_pa_s: f32,
}

impl Drop {
    fn new(positions: Vec<Vec3>, spacing_m: f32, properties: Properties) -> Self {
        let n = positions.len();
        Self {
            positions,
            velocities: vec![Vec3::ZERO; n],
            gradients: vec![Mat3::ZERO; n],
            still: StillBodyCache::default(),
            spacing_m,
            properties,
            viscosity_pa_s: 0.0,
        }
    }

    /// A step in which waves of the surface are resolved.
    fn step_of_tension(&self) -> f32 {
        let Properties { density_kg_m3, surface_tension_n_m, .. } = self.properties;
        0.7 * (density_kg_m3 * (2.0 * self.spacing_m).powi(3) / (4.0 * PI * surface_tension_n_m)).sqrt()
    }

    fn step(&mut self, tank: &Tank, gravity: Vec3, dt: f32) {
        self.velocities.iter_mut().for_each(|v| *v += gravity * dt);
        let rheology = Rheology { viscosity_pa_s: self.viscosity_pa_s, ..Rheology::default() };
        let material = Material {
            spacing_m: self.spacing_m,
            rheologies: Rheologies::Same(rheology),
            properties: self.properties,
            each: &[],
        };
        let columns = LiquidParticles {
            positions: &self.positions,
            velocities: &mut self.velocities,
            gradients: &mut self.gradients,
            deformations: &mut [],
        };
        let flow = flow(columns, &material, dt, tank, &mut self.still, false).unwrap();
        for (x, way) in self.positions.iter_mut().zip(flow.displacements) {
            *x = (*x + way).clamp(tank.min + 1e-6, tank.max - 1e-6);
        }
    }
}

/// How much longer particles lie along an axis than across, as a part of the square of their radius.
fn elongation(positions: &[Vec3], axis: Vec3) -> f32 {
    let n = positions.len() as f32;
    let centre = positions.iter().sum::<Vec3>() / n;
    let squares = positions.iter().map(|x| (*x - centre) * (*x - centre)).sum::<Vec3>() / n;
    let along = squares.dot(axis);
    (along - 0.5 * (squares.element_sum() - along)) / squares.element_sum()
}

/// Rayleigh, *On the capillary phenomena of jets*, 1879: ω² = 8 σ / (ρ R³) of the lowest mode.
#[test]
fn a_drop_rings_at_the_frequency_of_rayleigh() {
    let (radius, sigma, density) = (0.3f32, 0.5f32, 800.0f32);
    let spacing = radius / 18.0;
    let longer = 1.08f32;
    let shape = |x: Vec3| Vec3::new(x.x * longer, x.y / longer.sqrt(), x.z / longer.sqrt());
    let ball = fill(&primitive::sphere(radius, 96), spacing);
    let centre = Vec3::new(0.37, -0.21, 0.113) * radius;
    let positions = ball.into_iter().map(|x| centre + shape(x)).collect();
    let properties =
        Properties { density_kg_m3: density, surface_tension_n_m: sigma, ..Properties::default() };
    let mut drop = Drop::new(positions, spacing, properties);
    let period = TAU / (8.0 * sigma / (density * radius.powi(3))).sqrt();
    let dt = drop.step_of_tension();
    let mut crossings = Vec::new();
    let (mut time, mut before) = (0.0, elongation(&drop.positions, Vec3::X));
    while crossings.len() < 3 && time < 2.0 * period {
        drop.step(&SPACE, Vec3::ZERO, dt);
        time += dt;
        let now = elongation(&drop.positions, Vec3::X);
        if (now > 0.0) != (before > 0.0) {
            crossings.push(time - dt * now / (now - before));
        }
        before = now;
    }
    let measured = crossings[2] - crossings[0];
    assert!((measured / period - 1.0).abs() < 0.05, "{measured} s, {period} s");
}

/// A drop so thick that it does not ring becomes round at the rate 20 σ / (19 μ R): H. Lamb, *Hydrodynamics*, 1932, § 355, without inertia.
/// One or two steps of a frame are enough, where waves of water would ask for 29 and 49.
#[rstest]
#[case(0.03, 0.5, 40.0, 0.92)]
#[case(0.011, 0.07, 8.0, 1.1)]
fn a_thick_drop_becomes_round_at_the_rate_of_lamb(
    #[case] radius: f32,
    #[case] surface_tension_n_m: f32,
    #[case] viscosity_pa_s: f32,
    #[case] longer: f32,
) {
    let rate = 20.0 * surface_tension_n_m / (19.0 * viscosity_pa_s * radius);
    let frames = (0.7 / rate * 24.0) as u32;
    let mut shot = bare(frames);
    shot.elements.clear();
    shot.physics.substeps = 1;
    // An ellipsoid with the volume of the ball.
    let mut ellipsoid = primitive::sphere(radius, 96);
    let stretch = Vec3::new(longer.sqrt().recip(), longer, longer.sqrt().recip());
    ellipsoid.positions.iter_mut().for_each(|x| *x *= stretch);
    let mut meshes = Meshes::default();
    meshes.by_name.insert("drop".to_owned(), Arc::new(ellipsoid));
    let asset = Asset { kind: AssetKind::Mesh, file: "assets/drop.obj".to_owned(), sha256: "5e".to_owned() };
    shot.assets.insert("drop".to_owned(), asset);
    let of = Liquid { spacing_m: radius / 20.0, viscosity_pa_s, surface_tension_n_m, ..Liquid::default() };
    let shape = Shape::Mesh { asset: "drop".to_owned(), scale: 1.0 };
    let id = shot.add(element("Drop", liquid(of, shape, EmissionSchedule::Fill {})));
    let mut simulation = Simulation::new(&shot, &meshes).unwrap();
    let mut curve = Vec::new();
    for _ in 0..frames {
        let frame = simulation.advance().unwrap();
        assert!(frame.measured.liquids[&id].steps <= 2);
        curve.push((frame.time_s as f32, elongation(&frame.particles[&id].positions, Vec3::Y)));
    }
    let (first, last) = (curve[curve.len() / 3], curve[curve.len() - 1]);
    let measured = (first.1 / last.1).ln() / (last.0 - first.0);
    assert!((measured / rate - 1.0).abs() < 0.1, "{measured} of {rate} 1/s: {curve:?}");
}

/// A round drop stays still: currents by errors of the curvature are slow against √(σ / (ρ R)).
#[test]
fn a_round_drop_stays_still() {
    let (radius, sigma, density) = (0.02, 0.072, 1_000.0f32);
    let spacing = radius / 16.0;
    let properties = Properties { surface_tension_n_m: sigma, ..Properties::default() };
    let mut drop = Drop::new(fill(&primitive::sphere(radius, 96), spacing), spacing, properties);
    let dt = drop.step_of_tension();
    for _ in 0..200 {
        drop.step(&SPACE, Vec3::ZERO, dt);
    }
    let squares = drop.velocities.iter().map(|v| v.length_squared()).sum::<f32>();
    let rms = (squares / drop.velocities.len() as f32).sqrt();
    let scale = (sigma / (density * radius)).sqrt();
    assert!(rms < 0.05 * scale, "{rms} of {scale}");
}

/// A small drop on a plate without gravity is the cap of a sphere that meets the plate at the wetting angle: its height is
/// R (1 − cos θ), with the volume π R³ (1 − cos θ)² (2 + cos θ) / 3.
#[rstest]
#[case(60.0f32, 0.05)]
#[case(120.0, 0.1)]
fn a_drop_on_a_plate_is_a_cap_with_the_wetting_angle(#[case] degrees: f32, #[case] tolerance: f32) {
    let (sigma, radius) = (0.072, 0.01f32);
    let spacing = radius / 12.0;
    let angle = degrees.to_radians();
    let properties =
        Properties { surface_tension_n_m: sigma, wetting_angle_rad: angle, ..Properties::default() };
    let floor = Tank { min: Vec3::new(-1.0, 0.0, -1.0), max: Vec3::splat(1.0) };
    // Half of a ball at first.
    let ball = fill(&primitive::sphere(radius, 96), spacing);
    let half: Vec<Vec3> = ball.into_iter().filter(|x| x.y > 0.0).collect();
    let volume = half.len() as f32 * spacing.powi(3);
    let mut drop = Drop::new(half, spacing, properties);
    drop.viscosity_pa_s = 0.05;
    let dt = drop.step_of_tension();
    for _ in 0..600 {
        drop.step(&floor, Vec3::ZERO, dt);
    }
    let cos = angle.cos();
    let sphere = (3.0 * volume / (PI * (1.0 - cos).powi(2) * (2.0 + cos))).cbrt();
    let height = sphere * (1.0 - cos);
    // Of a column in the middle: twice the mean height, which is lower than the top by that of the sphere.
    let centre = drop.positions.iter().sum::<Vec3>() / drop.positions.len() as f32;
    let near = |x: &&Vec3| ((x.x - centre.x).powi(2) + (x.z - centre.z).powi(2)).sqrt() < 0.25 * radius;
    let column: Vec<f32> = drop.positions.iter().filter(near).map(|x| x.y).collect();
    let lower = (0.25 * radius).powi(2) / (4.0 * sphere);
    let measured = 2.0 * column.iter().sum::<f32>() / column.len() as f32 + lower;
    assert!((measured / height - 1.0).abs() < tolerance, "{measured} of {height}");
}
