//! Liquid in shots.

mod basin;
mod clinging;
mod floats;
mod gels;
mod mixtures;
mod same_bytes;
mod sheets;
mod sources;
mod spray;
mod step;
mod tank;
mod tension;
mod walls;

use glam::Vec3;
use shot::{
    Element, ElementKind, Id, Moves, Shape, Shot,
    particles::{
        ContactResponse, Emission, EmissionDomain, EmissionSchedule, Liquid, ParticleBody, Particles, Source,
        Start,
    },
};
use simulate::Simulation;

/// A shot with gravity alone.
fn bare(last: u32) -> Shot {
    let mut shot = Shot::empty("Test");
    shot.elements.clear();
    shot.camera = None;
    shot.timing.last = last;
    shot.add(Element::gravity(Vec3::new(0.0, -9.81, 0.0)));
    shot
}

/// A liquid that comes as a schedule has it from a shape.
fn liquid(liquid: Liquid, shape: Shape, schedule: EmissionSchedule) -> Particles {
    Particles {
        liquid: Some(liquid),
        source: Source::Shape { shape, domain: EmissionDomain::Surface },
        emission: Emission { schedule, ..Emission::default() },
        start: Start {
            spread_rad: 0.0,
            speed_m_s: 0.0,
            speed_variation: 0.0,
            lifespan_s: None,
            lifespan_variation: 0.0,
            ..Start::default()
        },
        body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
        contact: ContactResponse::default(),
        ..Particles::default()
    }
}

fn element(name: &str, particles: Particles) -> Element {
    Element::new(name, ElementKind::Particles(particles))
}

/// A basin of five still plates whose inside is so wide, from the origin up.
fn basin(shot: &mut Shot, inside: Vec3) {
    let wall = 0.1;
    let mut plate = |name: &str, size: Vec3, at: Vec3| {
        let cuboid = Shape::cuboid(size.x, size.y, size.z);
        shot.add(Element::solid(name, cuboid, Moves::Still).at(at.x, at.y, at.z));
    };
    let half = 0.5 * (inside + wall);
    let (x, y, z) = (inside.x + 2.0 * wall, inside.y, inside.z + 2.0 * wall);
    plate("Floor", Vec3::new(x, wall, z), Vec3::new(0.0, -0.5 * wall, 0.0));
    for side in [-1.0, 1.0] {
        plate("End", Vec3::new(wall, y, z), Vec3::new(side * half.x, 0.5 * y, 0.0));
        plate("Side", Vec3::new(inside.x, y, wall), Vec3::new(0.0, 0.5 * y, side * half.z));
    }
}
