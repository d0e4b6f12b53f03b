//! Particles against closed forms, and what must hold of them.

mod births;
mod breaking;
mod contact;
mod events;
mod exchange;
mod maps;
mod same_bytes;
mod steering;
mod travel;

use glam::{Quat, Vec3};
use rstest::rstest;
use shot::{
    Element, ElementKind, Id, Moves, Shape, Shot, Weight,
    force::{Force, ForceKind},
    particles::{
        Action, ContactOutcome, ContactResponse, Emission, EmissionDomain, EmissionMap, EmissionSchedule,
        Form, MapSource, ParticleBody, ParticleEvent, Particles, Source, Split, Start, Steering, ToParticles,
        Trigger,
    },
};
use simulate::Simulation;

/// A shot without gravity, camera and light.
fn bare(last: u32) -> Shot {
    let mut shot = Shot::empty("Test");
    shot.elements.clear();
    shot.camera = None;
    shot.timing.last = last;
    shot
}

/// Particles that are all there at the first frame, alike, at rest unless told.
fn alike(number: u32) -> Particles {
    Particles {
        emission: Emission { schedule: EmissionSchedule::Burst { count: number }, ..Emission::default() },
        start: Start {
            spread_rad: 0.0,
            speed_m_s: 0.0,
            speed_variation: 0.0,
            lifespan_s: None,
            lifespan_variation: 0.0,
            size_variation: 0.0,
            ..Start::default()
        },
        ..Particles::default()
    }
}

fn set(name: &str, particles: Particles) -> Element {
    Element::new(name, ElementKind::Particles(particles))
}

fn gravity() -> Element {
    Element::gravity(Vec3::new(0.0, -9.81, 0.0))
}

/// The particles of an element after so many frames.
fn after(shot: &Shot, id: Id, frames: u32) -> frames::Particles {
    let mut simulation = Simulation::new(shot, &Default::default()).unwrap();
    let mut frame = simulation.write();
    for _ in 0..frames {
        frame = simulation.advance().unwrap();
    }
    frame.particles.remove(&id).unwrap_or_default()
}

fn plate(thick: f32) -> Element {
    Element::solid("Plate", Shape::cuboid(6.0, thick, 6.0), Moves::Still)
}

fn bytes(shot: &Shot, threads: usize) -> Vec<Vec<u8>> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
    pool.install(|| {
        let mut simulation = Simulation::new(shot, &Default::default()).unwrap();
        (0..25).map(|_| frames::encode(&simulation.advance().unwrap())).collect()
    })
}
