//! A film on the outside of a turning drum.

use super::{G, bare, filling, lathed_by, plate, simulated_with, with_mesh};
use crate::Experiment;
use geometry::Meshes;
use glam::Vec3;
use shot::{
    Element, ElementKind, Moves, Shape,
    motion::Channel,
    particles::{Liquid, LiquidQuantity, LiquidWeight, ScaledLiquid},
    region::{Region, Volume},
};
use std::f32::consts::{PI, TAU};

/// Distance of particles, m.
const SPACING: f32 = 0.001;
/// Radius of the drum, m.
const DRUM: f32 = 0.048;
/// Its angular velocity, 1/s.
const TURN: f32 = 2.0;
/// The greatest mean thickness of the film that it holds, m.
const GREATEST: f32 = 0.006;
/// Kinematic viscosity by which that is the greatest, m²/s: H. Moffatt, *Behaviour of a viscous film on the outer surface of a rotating
/// cylinder*, 1977, h = 0.7047 √(ν ω a / g).
const VISCOSITY: f32 = (GREATEST / 0.7047) * (GREATEST / 0.7047) * G as f32 / (TURN * DRUM);
/// Surface tension, N/m: without it waves of any length would grow under the drum, which the theory leaves out. With it those shorter than
/// 2 π √(σ / (ρ g)), 6 cm, do not. It turns the surface by σ h / (ρ g a³), under a hundredth, of what weight does.
const SURFACE_TENSION: f32 = 1.0;
/// Half the width of the film between two plates along which it slips, so that it is the same along the axis, m.
const HALF_WIDTH: f32 = 0.01;

/// Thickness of the steady film of a load at an angle from where the drum rises, m: with η in units of √(ν ω a / g) and the flux q,
/// η − η³ cos θ / 3 = q.
fn steady(load: f64) -> impl Fn(f32) -> f32 {
    let thickness = |flux: f64, angle: f64| {
        let step = |eta: f64| {
            let cubed = angle.cos() * eta.powi(3) / 3.0;
            eta - (eta - cubed - flux) / (1.0 - angle.cos() * eta * eta).max(1e-3)
        };
        (0..50).fold(flux, |eta, _| step(eta))
    };
    let mean = move |flux: f64| {
        (0..360).map(|degrees| thickness(flux, f64::from(degrees).to_radians())).sum::<f64>() / 360.0
    };
    let (mut low, mut high) = (0.0, 2.0 / 3.0);
    for _ in 0..40 {
        let middle = 0.5 * (low + high);
        if mean(middle) < load * 0.7047 { low = middle } else { high = middle }
    }
    move |angle: f32| (thickness(low, f64::from(angle)) / 0.7047) as f32 * GREATEST
}

/// Times in turns, and the mean thickness of the film over the greatest.
fn loads(thickness: impl Fn(f32) -> f32, turns: f32) -> Vec<(f64, f64)> {
    let mut shot = bare(24.0, turns * TAU / TURN);
    shot.physics.substeps = 1;
    let mut meshes = Meshes::default();
    let drum = Shape::Cylinder { radius_m: DRUM, height_m: 4.0 * HALF_WIDTH };
    let drum = Element::solid("Drum", drum, Moves::Animated).turned(0.5 * PI, 0.0, 0.0);
    shot.add(drum.keyed("placement.orientation_rad[2]", Channel::expression(&format!("{TURN} * time"))));
    let (wide, far) = (2.0 * DRUM, 0.02);
    for side in [-1.0, 1.0] {
        let [low, high] = [HALF_WIDTH, HALF_WIDTH + far].map(|z| side * z);
        plate(&mut shot, Vec3::new(-wide, -3.0 * DRUM, low.min(high)), Vec3::new(wide, wide, low.max(high)));
    }
    // Within a cell of the plates nothing sticks.
    let volume = Volume::Box { size_m: Vec3::new(2.0 * wide, 4.0 * wide, 2.0 * HALF_WIDTH - 4.0 * SPACING) };
    let inner = Region { volume, edge_m: 0.0, profile: Default::default(), inverted: true };
    let by =
        LiquidWeight::Region { region: shot.add(Element::new("Beside plates", ElementKind::Region(inner))) };
    let ring = |angle: f32| {
        // As much liquid as a film of that thickness on a flat wall.
        let outer = (DRUM * DRUM + 2.0 * DRUM * thickness(angle)).sqrt();
        vec![(DRUM, -HALF_WIDTH), (outer, -HALF_WIDTH), (outer, HALF_WIDTH), (DRUM, HALF_WIDTH)]
    };
    let ring = with_mesh(&mut shot, &mut meshes, "ring", lathed_by(ring));
    let of = Liquid {
        spacing_m: SPACING,
        viscosity_pa_s: 1_000.0 * VISCOSITY,
        wall_friction: 1.0,
        surface_tension_n_m: SURFACE_TENSION,
        scaled: vec![ScaledLiquid { quantity: LiquidQuantity::WallFriction, by, at_0: 1.0, at_1: 0.0 }],
        ..Liquid::default()
    };
    let id = shot.add(filling(of, ring).turned(0.5 * PI, 0.0, 0.0));
    let mut curve = Vec::new();
    simulated_with(&shot, &meshes, |frame| {
        let held = |at: &&Vec3| at.truncate().length() < DRUM + 3.0 * GREATEST;
        let volume = frame.particles[&id].positions.iter().filter(held).count() as f32 * SPACING.powi(3);
        let load = volume / (2.0 * HALF_WIDTH * TAU * DRUM) / GREATEST;
        curve.push((frame.time_s * f64::from(TURN / TAU), f64::from(load)));
    });
    curve
}

/// The part of a film lighter than the heaviest that a turning drum holds which is left after a turn.
pub fn film_held() -> Experiment {
    const LOAD: f64 = 0.85;
    let loads = loads(steady(LOAD), 1.0);
    let curve: Vec<(f64, f64)> = loads.iter().map(|(turn, load)| (*turn, load / loads[0].1)).collect();
    Experiment {
        key: "film-held",
        statement: "part of a film of 2.5 cells that a turning drum still has after a turn, with 0.85 of the greatest load of Moffatt (1977)"
            .to_owned(),
        formula: "h < 0.7047 √(ν ω a / g) holds",
        expected: 1.0,
        measured: curve[curve.len() - 1].1,
        tolerance: 0.02,
        unit: "",
        axes: ("turn", "part of the film left"),
        reference: curve.iter().map(|(turn, _)| (*turn, 1.0)).collect(),
        curve,
    }
}

/// The load that is left of a film heavier than the heaviest that a turning drum holds.
pub fn film_dripped() -> Experiment {
    let curve = loads(|_| 1.3 * GREATEST, 2.0);
    Experiment {
        key: "film-dripped",
        statement: "load that a turning drum still has after two turns, of 1.3 times the greatest load of Moffatt (1977) at first, over the greatest"
            .to_owned(),
        formula: "h = 0.7047 √(ν ω a / g)",
        expected: 1.0,
        measured: curve[curve.len() - 1].1,
        tolerance: 0.15,
        unit: "",
        axes: ("turn", "load over the greatest"),
        reference: curve.iter().map(|(turn, _)| (*turn, 1.0)).collect(),
        curve,
    }
}
