//! *Lantern parade*: paper lanterns hang over the water until their leader
//! sets out; then they drift after it. There is no gravity.

use super::{File, quay, set};
use glam::Vec3;
use shot::{
    Camera, Copies, Element, ElementKind, Moves, Shape, Shot, Weight,
    force::{Attract, Force, ForceKind, Push, Turbulence},
    look::Look,
    motion::{Channel, Interpolation},
};

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Lantern parade");
    shot.about = "A swarm led by hand: an attractor performed while the shot plays.".to_owned();
    shot.timing.last = 144;
    if let Some(gravity) = shot.named_mut("Gravity")
        && let ElementKind::Force(force) = &mut gravity.kind
    {
        force.enabled = false;
    }
    let shape = Shape::Capsule { radius_m: 0.085, length_m: 0.1 };
    let mut lanterns = Element::solid("Lanterns", shape, Moves::Free).at(-0.6, 0.9, -1.2);
    let solid = lanterns.as_solid_mut().expect("a solid");
    solid.copies = Some(Copies {
        count: [10, 4, 6],
        spacing_m: Vec3::new(0.42, 0.42, 0.42),
        position_jitter_m: 0.09,
        orientation_jitter_rad: 0.6,
        seed: 21,
    });
    solid.body.weight = Weight::MassKg(0.04);
    solid.body.restitution = 0.4;
    solid.body.friction = 0.2;
    solid.look = Look {
        albedo: Vec3::new(0.85, 0.42, 0.16),
        emission: Vec3::new(0.2, 0.075, 0.018),
        variation: 0.5,
        roughness: 0.7,
        ..Look::default()
    };
    shot.add(lanterns);

    // A way drawn by hand, as a performance leaves it.
    let way = [
        (1.0, [-3.4, 1.2, 0.6]),
        (24.0, [-3.2, 1.5, 0.4]),
        (42.0, [-2.0, 2.2, 1.2]),
        (60.0, [0.2, 1.3, 1.6]),
        (80.0, [2.2, 1.9, 0.4]),
        (100.0, [1.2, 2.6, -1.6]),
        (122.0, [-1.4, 1.6, -1.0]),
        (144.0, [-2.4, 1.3, 0.8]),
    ];
    let mut way = Channel::keyed(way.map(|(frame, position)| (frame, Vec3::from(position))));
    way.keys.iter_mut().for_each(|key| key.interpolation = Interpolation::Smooth);
    let attract = Attract { acceleration: 1.5, power: 0.0, near_m: 5.0, ..Attract::default() };
    let leader = Element::new("Parade leader", ElementKind::Force(Force::new(ForceKind::Attract(attract))));
    // Held at nothing until it sets out.
    let mut strength = quay::keys([(1.0, 0.0), (24.0, 1.0)]);
    strength.keys[0].interpolation = Interpolation::Hold;
    let leader = leader.keyed("placement.position_m", way).keyed("kind.force.strength", strength);
    shot.add(leader.at(-3.4, 1.2, 0.6));
    let air = Turbulence {
        speed_m_s: 1.6,
        size_m: 1.4,
        octaves: 2,
        change_s: 3.0,
        seed: 3,
        push: Push::default(),
        ..Turbulence::default()
    };
    shot.add(
        Element::new("Night air", ElementKind::Force(Force::new(ForceKind::Turbulence(air))))
            .at(0.0, 1.5, 0.0),
    );

    let camera = Camera { focal_length_mm: 27.0, focus_distance_m: 6.0, exposure: 0.0, ..Camera::default() };
    let camera =
        Element::new("Pier camera", ElementKind::Camera(camera)).at(1.4, 1.5, 5.8).turned(-0.02, 0.22, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::night(&mut shot);
    // A full moon, so that the deck is seen below the lanterns.
    for element in &mut shot.elements {
        match &mut element.kind {
            ElementKind::Sky(sky) => sky.strength = 2.0,
            ElementKind::Sun(moon) => moon.irradiance = 1.1,
            _ => {}
        }
    }
    set::moorings(&mut shot, set::Lamps { glow: 2.4 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 4.0, Vec3::new(0.45, 0.62, 1.0));
    (shot, set::files())
}
