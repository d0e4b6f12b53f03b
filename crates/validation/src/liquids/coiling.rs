//! A rope of thick liquid that coils on a plate.

use super::{at, bare, filling, lathed, plate, simulated_with, with_mesh};
use crate::Experiment;
use frames::Particles;
use geometry::Meshes;
use glam::{Vec2, Vec3};
use shot::{Element, Moves, Shape, motion::Channel, particles::Liquid};
use std::f64::consts::TAU;

/// Radius of the hole, m.
const HOLE: f32 = 0.012;
/// Height of the hole over the plate, m.
const FALL: f32 = 0.2;
/// Speed in the hole, m/s.
const SPEED: f32 = 0.05;
/// Kinematic viscosity, m²/s.
const VISCOSITY: f32 = 0.523;
/// Radius of the syringe over the hole, m.
const SYRINGE: f32 = 0.018;
/// Height of the cone between both, m: the rope is not to touch the syringe below the hole.
const CONE: f32 = 0.012;
/// Thickness of its wall, m.
const THICK: f32 = 0.004;
/// Frames a second, each of one step.
const FPS: f32 = 20.0;
/// Distance of particles, m.
const SPACING: f32 = 0.001;
/// Duration, s: two turns after the rope has been stirred.
const SECONDS: f32 = 4.0;
/// Time in which gravity leans and turns, so that the rope begins to coil at once and does not fold first, s.
const STIRRED_S: f32 = 1.0;
/// Angular velocities, rad/s, of the coil of a thin rope from this hole that falls so far, m: N. Ribe, *Coiling of viscous jets*, 2004,
/// with g = 9.81 m/s². By `crates/validation/references/coiling_rope.py`.
const RIBE: [(f64, f64); 5] = [(0.14, 3.625), (0.15, 3.875), (0.16, 4.128), (0.18, 4.620), (0.20, 5.079)];

/// How far a rope turns that coils where its own weight bends it, over how far theory has it turn from the same height over the pile.
pub fn coiling() -> Experiment {
    let mut shot = bare(FPS, SECONDS);
    shot.physics.substeps = 1;
    let Some(gravity) = shot.elements.first_mut() else { unreachable!() };
    let amount = format!("0.4 * max(0, min(1, 4 * ({STIRRED_S} - time)))");
    for (axis, part) in [(0, "cos"), (2, "sin")] {
        let way = Channel::expression(&format!("{amount} * {part}(4 * time)"));
        *gravity = gravity.clone().keyed(&format!("kind.force.kind.gravity.acceleration[{axis}]"), way);
    }
    let mut meshes = Meshes::default();
    let bore = SPEED * (HOLE / SYRINGE).powi(2);
    let stroke = bore * SECONDS + 0.006;
    let profile = [
        (HOLE, 0.0),
        (SYRINGE + THICK, CONE),
        (SYRINGE + THICK, THICK + CONE + 2.0 * stroke),
        (SYRINGE, THICK + CONE + 2.0 * stroke),
        (SYRINGE, THICK + CONE),
        (HOLE, THICK),
    ];
    let syringe = with_mesh(&mut shot, &mut meshes, "syringe", lathed(&profile));
    shot.add(Element::solid("Syringe", syringe, Moves::Still).at(0.0, FALL, 0.0));
    // Wider than the room, so that nothing comes past it.
    let piston = Shape::Cylinder { radius_m: SYRINGE + 0.5 * THICK, height_m: stroke };
    let middle = FALL + THICK + CONE + 1.5 * stroke;
    let way = Channel::expression(&format!("{middle} - {bore} * time"));
    let piston = Element::solid("Piston", piston, Moves::Animated).at(0.0, middle, 0.0);
    shot.add(piston.keyed("placement.position_m[1]", way));
    plate(&mut shot, Vec3::new(-0.1, -0.03, -0.1), Vec3::new(0.1, 0.0, 0.1));
    let top = FALL + THICK + CONE + stroke;
    let within = [
        (0.0, 0.015),
        (0.7 * HOLE, 0.015),
        (HOLE, FALL),
        (HOLE, FALL + THICK),
        (SYRINGE, FALL + THICK + CONE),
        (SYRINGE, top),
        (0.0, top),
    ];
    let within = with_mesh(&mut shot, &mut meshes, "within", lathed(&within));
    let of = Liquid {
        spacing_m: SPACING,
        viscosity_pa_s: 1_000.0 * VISCOSITY,
        wall_friction: 1.0,
        ..Liquid::default()
    };
    let id = shot.add(filling(of, within));
    let (mut angles, mut expected) = (Vec::<(f64, f64)>::new(), Vec::<(f64, f64)>::new());
    simulated_with(&shot, &meshes, |frame| {
        let particles = &frame.particles[&id];
        let middle = centre(particles, 0.35 * FALL, 0.35 * FALL + 4.0 * SPACING);
        let turns = angles.last().map_or(0.0, |(_, angle)| angle / TAU);
        let angle = f64::from(middle.y.atan2(middle.x)) / TAU;
        angles.push((frame.time_s, TAU * (angle + (turns - angle).round())));
        let fall = f64::from(FALL - pile(particles));
        let turned = at(&RIBE, fall.max(RIBE[0].0)) / f64::from(FPS);
        let before = expected.last().map_or(0.0, |(_, angle)| *angle);
        expected.push((frame.time_s, before + turned));
    });
    // Counted from when the rope is left alone, in the sense in which it was stirred.
    let from = angles.partition_point(|(time, _)| *time < f64::from(STIRRED_S));
    let since = |angles: &[(f64, f64)]| -> Vec<(f64, f64)> {
        angles[from..].iter().map(|(time, angle)| (*time, angle - angles[from].1)).collect()
    };
    let (curve, reference) = (since(&angles), since(&expected));
    Experiment {
        key: "coiling",
        statement: "turns of a coiling rope of 12 cells in the hole and 9 at the pile, over those of Ribe (2004), gravitational regime"
            .to_owned(),
        formula: "∫ Ω(a₀, U₀, ν, H) dt over two turns, H from the hole to the top of the pile",
        expected: 1.0,
        measured: curve[curve.len() - 1].1 / reference[reference.len() - 1].1,
        tolerance: 0.2,
        unit: "",
        axes: ("time, s", "angle, rad"),
        curve,
        reference,
    }
}

/// Height up to which the rope lies, m: there it sinks at less than half of the speed in the hole.
fn pile(particles: &Particles) -> f32 {
    const LAYER: f32 = 4.0 * SPACING;
    let (mut sums, mut counts) = ([0.0f32; (FALL / LAYER) as usize], [0.0f32; (FALL / LAYER) as usize]);
    for (at, velocity) in particles.positions.iter().zip(&particles.velocities) {
        if let Some(sum) = sums.get_mut((at.y / LAYER) as usize) {
            *sum -= velocity.y;
            counts[(at.y / LAYER) as usize] += 1.0;
        }
    }
    let lies = sums.iter().zip(&counts).take_while(|(sum, count)| **sum < 0.5 * SPEED * **count);
    LAYER * lies.count() as f32
}

/// Centre of the particles between two heights, along x and z.
fn centre(particles: &Particles, low: f32, high: f32) -> Vec2 {
    let within = particles.positions.iter().filter(|at| (low..high).contains(&at.y));
    let (sum, count) =
        within.fold((Vec2::ZERO, 0.0f32), |(sum, count), at| (sum + Vec2::new(at.x, at.z), count + 1.0));
    sum / count.max(1.0)
}
