//! The pier that Saltmarket's shots have in common.

use super::{File, assets};
use glam::Vec3;
use shot::{
    Copies, Element, ElementKind, Moves, Shape, Shot, Weight,
    light::{Sky, SkySource},
    look::Look,
    motion::Channel,
};

/// A shot with gravity, the pier's deck and the tide around it.
pub(super) fn pier(name: &str) -> Shot {
    let mut shot = Shot::empty(name);
    shot.elements.retain(|element| element.as_force().is_some());
    let mut deck = Element::solid("Pier deck", Shape::plane(14.0, 14.0), Moves::Still);
    let solid = deck.as_solid_mut().expect("a solid");
    solid.look = Look {
        albedo: Vec3::splat(0.9),
        image: Some("planks".to_owned()),
        image_repeat: 7.0,
        roughness: 0.42,
        ..Look::default()
    };
    solid.body.friction = 0.7;
    shot.add(deck);

    // Well below the deck, out to the horizon.
    tide(&mut shot, 0.45);
    shot
}

/// The tide: a wide sheet with waves that drifts past, `speed_m_s` in x.
fn tide(shot: &mut Shot, speed_m_s: f32) {
    let mut tide = Element::solid("Tide", Shape::plane(190.0, 190.0), Moves::Animated).at(0.0, -1.6, 0.0);
    let solid = tide.as_solid_mut().expect("a solid");
    solid.look = Look {
        albedo: Vec3::new(0.010, 0.026, 0.032),
        roughness: 0.07,
        normal_image: Some("waves".to_owned()),
        normal_strength: 0.85,
        image_repeat: 34.0,
        ..Look::default()
    };
    let seconds = 6.0;
    let mut drift = Channel::keyed([(1.0, 0.0f32), (1.0 + 24.0 * f64::from(seconds), speed_m_s * seconds)]);
    drift.keys.iter_mut().for_each(|key| key.interpolation = shot::motion::Interpolation::Linear);
    drift.after = shot::motion::Outside::Continue;
    shot.add(tide.keyed("placement.position_m[0]", drift));
}

/// A solid that stays where it is.
pub(super) fn still(name: &str, shape: Shape, look: Look) -> Element {
    let mut element = Element::solid(name, shape, Moves::Still);
    element.as_solid_mut().expect("a solid").look = look;
    element
}

/// The moon and the sky of a night over the tide.
pub(super) fn night(shot: &mut Shot) {
    let source = SkySource::Gradient {
        zenith: Vec3::new(0.016, 0.026, 0.06),
        horizon: Vec3::new(0.13, 0.12, 0.17),
        ground: Vec3::new(0.006, 0.007, 0.01),
    };
    shot.add(Element::new("Night sky", ElementKind::Sky(Sky { strength: 1.0, source })));
    let moon = shot::light::Sun { irradiance: 0.3, colour: Vec3::new(0.7, 0.82, 1.0), angle_rad: 0.01 };
    shot.add(Element::new("Moon", ElementKind::Sun(moon)).at(-2.0, 4.0, 1.0).turned(0.4, 0.0, 0.5));
}

/// The low evening sun and its sky.
pub(super) fn evening(shot: &mut Shot) {
    let sun = shot::light::Sun { irradiance: 5.2, colour: Vec3::new(1.0, 0.72, 0.46), angle_rad: 0.03 };
    shot.add(Element::new("Evening sun", ElementKind::Sun(sun)).at(-3.0, 2.2, 2.4).turned(0.62, 0.0, 0.98));
    let source = SkySource::Gradient {
        zenith: Vec3::new(0.16, 0.25, 0.42),
        horizon: Vec3::new(0.92, 0.66, 0.47),
        ground: Vec3::new(0.05, 0.055, 0.06),
    };
    shot.add(Element::new("Dusk sky", ElementKind::Sky(Sky { strength: 0.85, source })));
}

/// Fish crates, `count` of them, standing on their place.
pub(super) fn crates(name: &str, count: [u32; 3]) -> Element {
    let shape = Shape::Mesh { asset: "fish crate".to_owned(), scale: 1.0 };
    let mut crates = Element::solid(name, shape, Moves::Free);
    let solid = crates.as_solid_mut().expect("a solid");
    solid.copies = Some(Copies {
        count,
        spacing_m: Vec3::new(0.542, 0.3602, 0.462),
        position_jitter_m: 0.011,
        orientation_jitter_rad: 0.045,
        seed: 12,
    });
    solid.look = Look {
        image: Some("deal".to_owned()),
        albedo: Vec3::splat(0.95),
        variation: 0.38,
        roughness: 0.6,
        ..Look::default()
    };
    solid.body.weight = Weight::MassKg(3.4);
    solid.body.collision = shot::Collision::Box;
    solid.body.friction = 0.45;
    solid.body.restitution = 0.12;
    crates
}

/// Glass net floats.
pub(super) fn floats(name: &str, count: [u32; 3], mass_kg: f32) -> Element {
    let mut floats = Element::solid(name, Shape::sphere(0.115), Moves::Free);
    let solid = floats.as_solid_mut().expect("a solid");
    solid.copies = Some(Copies {
        count,
        spacing_m: Vec3::new(0.29, 0.25, 0.3),
        position_jitter_m: 0.02,
        orientation_jitter_rad: 0.0,
        seed: 4,
    });
    solid.look = Look {
        albedo: Vec3::new(0.50, 0.88, 0.78),
        roughness: 0.02,
        transmission: 0.97,
        refractive_index: 1.5,
        variation: 0.25,
        ..Look::default()
    };
    solid.body.weight = Weight::MassKg(mass_kg);
    solid.body.friction = 0.35;
    solid.body.restitution = 0.45;
    floats
}

/// Keys of one number.
pub(super) fn keys<const N: usize>(keys: [(f64, f32); N]) -> Channel {
    Channel::keyed(keys)
}

/// The files of the pier and the crates.
pub(super) fn files() -> Vec<File> {
    vec![
        ("planks", "planks.png", assets::planks()),
        ("deal", "deal.png", assets::deal()),
        ("fish crate", "fish-crate.obj", assets::fish_crate()),
    ]
}
