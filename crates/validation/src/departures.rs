//! Where the simulation is known to depart from what mechanics says, and by how
//! much: no experiments that hold, but figures that are told.

use glam::{DVec3, Vec3};
use shot::{Element, Id, Moves, Shape, Shot, Weight, motion::Channel};
use simulate::Simulation;

/// A known departure.
pub struct Departure {
    /// What should hold.
    pub statement: &'static str,
    /// The expected value, and the one measured.
    pub expected: f64,
    /// The one measured.
    pub measured: f64,
    /// Unit of both.
    pub unit: &'static str,
    /// Why it is so.
    pub why: &'static str,
}

fn bare(fps: f32, frames: u32) -> Shot {
    let mut shot = Shot::empty("Departure");
    shot.elements.clear();
    shot.camera = None;
    shot.timing = shot::Timing::new(fps, 1, frames);
    shot
}

fn with(mut element: Element, change: impl FnOnce(&mut shot::Body)) -> Element {
    change(&mut element.as_solid_mut().expect("a solid").body);
    element
}

fn last(shot: &Shot) -> frames::Frame {
    let mut simulation = Simulation::new(shot, &Default::default()).expect("prepared");
    let mut frame = simulation.write();
    while simulation.frame() < shot.timing.last {
        frame = simulation.advance().expect("no blow-up");
    }
    frame
}

/// Kinetic energy that is left when a ball hits four that touch each other, all
/// fully elastic.
fn cradle() -> Departure {
    let mut shot = bare(24.0, 25);
    for i in 0..5 {
        let x = if i == 0 { -1.0 } else { 0.2 * i as f32 };
        let ball = Element::solid(&format!("Ball {i}"), Shape::sphere(0.1), Moves::Free).at(x, 0.0, 0.0);
        shot.add(with(ball, |body| {
            (body.friction, body.restitution, body.weight) = (0.0, 1.0, Weight::MassKg(1.0));
            body.launch_velocity = (i == 0).then_some(Vec3::X * 2.0);
        }));
    }
    Departure {
        statement: "A ball that hits a row of four touching ones loses no energy",
        expected: 2.0,
        measured: last(&shot).measured.kinetic_j,
        unit: "J",
        why: "contacts are solved one after the other within a step, without the order of the waves in the row",
    }
}

/// Angular momentum after an off-centre hit.
fn off_centre() -> Departure {
    let mut shot = bare(24.0, 25);
    let rod = Element::solid("Rod", Shape::cuboid(0.1, 2.0, 0.1), Moves::Free);
    let rod = shot.add(with(rod, |body| (body.weight, body.friction) = (Weight::MassKg(3.0), 0.0)));
    let ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Free).at(-1.0, 0.7, 0.0);
    let ball = shot.add(with(ball, |body| {
        (body.weight, body.friction) = (Weight::MassKg(1.0), 0.0);
        body.launch_velocity = Some(Vec3::X * 4.0);
    }));
    let frame = last(&shot);
    let of = |id: Id, mass: f64, inertia: f64| {
        let bodies = &frame.bodies[&id];
        let moment = bodies.positions[0].as_dvec3().cross(bodies.velocities[0].as_dvec3() * mass);
        moment + DVec3::Z * (f64::from(bodies.angular_velocities[0].z) * inertia)
    };
    let whole = of(rod, 3.0, 3.0 * 4.01 / 12.0) + of(ball, 1.0, 0.4 * 0.01);
    Departure {
        statement: "An off-centre hit keeps angular momentum about the origin",
        expected: -2.8,
        measured: whole.z,
        unit: "kg m²/s",
        why: "the library measures a contact's arms at the start of a step, and the bodies move on within it",
    }
}

/// How far a box creeps outwards on a turntable in a second.
fn turntable() -> Departure {
    let mut shot = bare(24.0, 73);
    shot.add(Element::gravity(Vec3::new(0.0, -9.81, 0.0)));
    let rough = |body: &mut shot::Body| (body.friction, body.restitution) = (0.8, 0.0);
    let table = Element::solid("Table", Shape::Cylinder { radius_m: 3.0, height_m: 0.2 }, Moves::Animated);
    let table = with(table.at(0.0, -0.1, 0.0), rough);
    shot.add(table.keyed("placement.orientation_rad[1]", Channel::expression("time")));
    let cube = Element::solid("Box", Shape::cuboid(0.2, 0.1, 0.2), Moves::Free).at(1.0, 0.05, 0.0);
    let id = shot.add(with(cube, |body| {
        rough(body);
        body.launch_velocity = Some(Vec3::NEG_Z);
        body.launch_angular_velocity = Some(Vec3::Y);
    }));
    let at = last(&shot).bodies[&id].positions[0];
    Departure {
        statement: "A box on a turntable (1 rad/s, 1 m from the axis) creeps outwards in a second by",
        expected: 0.0,
        measured: f64::from((at.x.hypot(at.z) - 1.0) / 3.0 * 1e3),
        unit: "mm",
        why: "friction is solved along straight pieces; the creep falls with the number of substeps",
    }
}

/// The greatest speed of a particle of water that should be at rest.
fn still_water() -> Departure {
    Departure {
        statement: "No particle of a still tank, in cells of 1 cm, is faster than 5 mm/s after 1 s",
        expected: 5.0,
        measured: crate::liquids::fastest_at_rest(),
        unit: "mm/s",
        why: "the surface still settles: its fastest particles rise and sink together, as a wave that the uneven first fill leaves",
    }
}

/// All known departures.
pub fn all() -> Vec<Departure> {
    vec![cradle(), off_centre(), turntable(), still_water()]
}
