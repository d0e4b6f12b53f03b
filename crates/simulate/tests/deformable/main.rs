//! Cloth and soft bodies: how they hang, drape, bounce, meet each other and push solids.

mod births;
mod cloth;
mod crossings;
mod holds;
mod materials;
mod particles;
mod push;
mod self_contact;
mod soft;
mod tangles;
mod tearing;

use frames::{Frame, encode};
use geometry::Meshes;
use glam::Vec3;
use shot::force::{Force, ForceKind};
use shot::{Element, ElementKind, Id, Pin, PinnedPart, Shot};
use simulate::Simulation;

/// A shot of so many seconds.
fn shot(seconds: f32) -> Shot {
    let mut shot = Shot::empty("Deformable");
    shot.timing.last = shot.timing.first + (seconds * shot.timing.fps) as u32;
    shot
}

fn pin(part: PinnedPart) -> Pin {
    Pin::hard(part)
}

/// A pull on each mass, m/s².
fn even_pull(acceleration: Vec3) -> Element {
    Element::new("Even pull", ElementKind::Force(Force::new(ForceKind::Gravity { acceleration })))
}

/// What takes speed off, by 0.1 N s/m.
fn still_air() -> Element {
    let drag = ForceKind::Drag { linear_n_s_m: 0.1, density_kg_m3: 0.0 };
    Element::new("Still air", ElementKind::Force(Force::new(drag)))
}

/// Takes the forces out of a shot.
fn without_gravity(shot: &mut Shot) {
    shot.elements.retain(|element| element.as_force().is_none());
}

/// Shows each frame to `see`, and gives the last.
fn run(shot: &Shot, mut see: impl FnMut(&Frame)) -> Frame {
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let mut frame = simulation.write();
    see(&frame);
    while frame.number < shot.timing.last {
        frame = simulation.advance().unwrap();
        see(&frame);
    }
    frame
}

/// Positions of the vertices in space.
fn places(frame: &Frame, id: Id) -> Vec<Vec3> {
    let (bodies, mesh) = (&frame.bodies[&id], &frame.meshes[&id]);
    mesh.positions.iter().map(|p| bodies.positions[0] + bodies.orientations[0] * *p).collect()
}

/// Goes on from the state at each frame, and compares the bytes of all frames after it.
fn assert_goes_on_from_every_frame(shot: &Shot) {
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let (mut states, mut frames) = (Vec::new(), Vec::new());
    for _ in shot.timing.first..shot.timing.last {
        states.push(simulation.save());
        frames.push(encode(&simulation.advance().unwrap()));
    }
    for (i, state) in states.iter().enumerate() {
        let mut resumed = Simulation::restored(shot, &Meshes::default(), state).unwrap();
        for frame in &frames[i..] {
            assert!(encode(&resumed.advance().unwrap()) == *frame, "resumed at {i}");
        }
    }
}
