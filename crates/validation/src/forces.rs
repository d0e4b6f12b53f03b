//! Forces on bodies, time and waking against mechanics.

use crate::Experiment;
use crate::solids::{body, frames, path, shot};
use glam::Vec3;
use shot::{
    Element, ElementKind, Moves, Shape, Shot, Wake, Weight,
    force::{Attract, Force, ForceKind, Turbulence},
    motion::Channel,
};
use std::f64::consts::TAU;

const G: f64 = 9.81;

fn force(name: &str, kind: ForceKind) -> Element {
    Element::new(name, ElementKind::Force(Force::new(kind)))
}

fn without_gravity(seconds: f32) -> Shot {
    let mut shot = shot(seconds);
    shot.elements.retain(|element| element.as_force().is_none());
    shot
}

fn ball(name: &str, kg: f32) -> Element {
    let mut ball = body(name, Shape::sphere(0.2), Moves::Free, 0.5, 0.0);
    ball.as_solid_mut().expect("a solid").body.weight = Weight::MassKg(kg);
    ball
}

/// A falling ball in air reaches its terminal velocity along a hyperbolic tangent.
pub fn terminal_velocity() -> Experiment {
    let mut shot = shot(6.0);
    shot.physics.world_m = 1_000.0;
    shot.add(force("Air", ForceKind::Drag { linear_n_s_m: 0.0, density_kg_m3: 1.2 }));
    let id = shot.add(ball("Ball", 0.5).at(0.0, 100.0, 0.0));
    // C = 0.47, A = π r².
    let k = 0.5 * 1.2 * 0.47 * std::f64::consts::PI * 0.2 * 0.2;
    let terminal = (0.5 * G / k).sqrt();
    let curve: Vec<_> =
        frames(&shot).iter().map(|f| (f.time_s, -f64::from(f.bodies[&id].velocities[0].y))).collect();
    let reference: Vec<_> = curve.iter().map(|(t, _)| (*t, terminal * (G * t / terminal).tanh())).collect();
    Experiment {
        key: "terminal-velocity",
        statement: "A ball falling in air reaches its terminal velocity.".to_owned(),
        formula: "√(2 m g / ρ C A)",
        expected: terminal,
        measured: curve.last().expect("frames").1,
        tolerance: 0.01,
        unit: "m/s",
        axes: ("s", "m/s"),
        curve,
        reference,
    }
}

/// The way to it: the largest difference from the hyperbolic tangent.
pub fn approach() -> Experiment {
    let fall = terminal_velocity();
    let worst = fall.curve.iter().zip(&fall.reference).map(|(a, b)| (a.1 - b.1).abs()).fold(0.0, f64::max);
    Experiment {
        key: "approach",
        statement: "On the way its speed is v tanh(g t / v); measured is the largest difference over v."
            .to_owned(),
        formula: "0",
        expected: 0.0,
        measured: worst / fall.expected,
        tolerance: 0.01,
        unit: "",
        ..fall
    }
}

/// A body circles an attractor of power −2 ten times.
pub fn orbit() -> Experiment {
    // a = k / r² at r = 2 with k = 8: v = 2, a turn takes 2π.
    let orientation = TAU as f32;
    let mut shot = without_gravity(10.0 * orientation);
    let attract = Attract { acceleration: 8.0, power: -2.0, near_m: 0.001, ..Attract::default() };
    shot.add(force("Sun", ForceKind::Attract(attract)));
    let mut planet = ball("Planet", 3.0).at(2.0, 0.0, 0.0);
    planet.as_solid_mut().expect("a solid").body.launch_velocity = Some(Vec3::new(0.0, 0.3, 2.0));
    let id = shot.add(planet);
    let energy = |position: Vec3, velocity: Vec3| {
        0.5 * f64::from(velocity.length_squared()) - 8.0 / f64::from(position.length())
    };
    let curve: Vec<_> = frames(&shot)
        .iter()
        .map(|f| (f.time_s, energy(f.bodies[&id].positions[0], f.bodies[&id].velocities[0])))
        .collect();
    let expected = curve[0].1;
    let worst =
        curve.iter().map(|p| p.1).max_by(|a, b| (a - expected).abs().total_cmp(&(b - expected).abs()));
    Experiment {
        key: "orbit",
        statement: "A body that circles an attractor of power −2 keeps its energy over ten turns; measured is the worst."
            .to_owned(),
        formula: "v²/2 − k/r",
        expected,
        measured: worst.expect("frames"),
        tolerance: 0.005,
        unit: "J/kg",
        axes: ("s", "J/kg"),
        reference: vec![(0.0, expected), (curve.last().expect("frames").0, expected)],
        curve,
    }
}

/// A thrown ball in an eddying wind goes the same way in slow motion.
pub fn slow_motion() -> Experiment {
    let of = |scale: f32, seconds: f32| {
        let mut shot = shot(seconds);
        shot.physics.time_scale = scale;
        let eddies = Turbulence { speed_m_s: 4.0, ..Turbulence::default() };
        shot.add(force("Eddies", ForceKind::Turbulence(eddies)));
        let mut thrown = ball("Ball", 0.3);
        thrown.as_solid_mut().expect("a solid").body.launch_velocity = Some(Vec3::new(3.0, 6.0, 1.0));
        shot.add(thrown);
        path(&shot, "Ball")
    };
    let (real, slow) = (of(1.0, 1.0), of(1.0 / 3.0, 3.0));
    let way: f64 = real.windows(2).map(|pair| f64::from(pair[0].1.distance(pair[1].1))).sum();
    // Every third frame of the slow one is a frame of the real one.
    let worst = real
        .iter()
        .zip(slow.iter().step_by(3))
        .map(|(a, b)| f64::from(a.1.distance(b.1)))
        .fold(0.0, f64::max);
    Experiment {
        key: "slow-motion",
        statement: "A third of the speed leaves the way of a thrown ball as it is; measured is the largest distance over the way's length."
            .to_owned(),
        formula: "0",
        expected: 0.0,
        measured: worst / way,
        tolerance: 0.005,
        unit: "",
        axes: ("m", "m"),
        curve: slow.iter().map(|(_, p)| (f64::from(p.x), f64::from(p.y))).collect(),
        reference: real.iter().map(|(_, p)| (f64::from(p.x), f64::from(p.y))).collect(),
    }
}

/// A waiting ball is woken by one that hits it.
pub fn wake() -> Experiment {
    let mut shot = without_gravity(1.0);
    let mut thrown = ball("Thrown", 1.0).at(-1.0, 0.0, 0.0);
    thrown.as_solid_mut().expect("a solid").body.launch_velocity = Some(Vec3::new(4.0, 0.0, 0.0));
    shot.add(thrown);
    let mut waiting = ball("Waiting", 3.0);
    waiting.as_solid_mut().expect("a solid").body.wake = Some(Wake::Touch { impulse_n_s: 0.5 });
    shot.add(waiting);
    let curve: Vec<_> = frames(&shot).iter().map(|f| (f.time_s, f.measured.momentum[0])).collect();
    Experiment {
        key: "wake",
        statement: "A body woken by a touch takes up the momentum that the touch gave.".to_owned(),
        formula: "m v",
        expected: 4.0,
        measured: curve.last().expect("frames").1,
        tolerance: 0.001,
        unit: "kg m/s",
        axes: ("s", "kg m/s"),
        reference: vec![(0.0, 4.0), (1.0, 4.0)],
        curve,
    }
}

/// A keyed pull of a force that rises linearly gives a body the momentum under its curve.
pub fn keyed_pull() -> Experiment {
    let mut shot = without_gravity(2.0);
    let last = f64::from(shot.timing.last);
    let keys = Channel::keyed([(1.0, 0.0f32), (last, 10.0)]);
    // Along −y: unturned, downwards.
    shot.add(force("Pull", ForceKind::Pull { force_n: 0.0 }).keyed("kind.force.kind.pull.force_n", keys));
    let id = shot.add(ball("Ball", 2.0));
    let curve: Vec<_> =
        frames(&shot).iter().map(|f| (f.time_s, -2.0 * f64::from(f.bodies[&id].velocities[0].y))).collect();
    Experiment {
        key: "keyed-pull",
        statement: "A pull keyed to rise linearly to F gives the momentum F t / 2.".to_owned(),
        formula: "F t / 2",
        expected: 10.0,
        measured: curve.last().expect("frames").1,
        tolerance: 0.01,
        unit: "kg m/s",
        axes: ("s", "kg m/s"),
        reference: (0..=20).map(|i| f64::from(i) * 0.1).map(|t| (t, 2.5 * t * t)).collect(),
        curve,
    }
}

/// All experiments with forces.
pub fn all() -> Vec<Experiment> {
    vec![terminal_velocity(), approach(), orbit(), slow_motion(), wake(), keyed_pull()]
}
