//! *Fender squeeze*: a hull rolls against the pier and squeezes two rubber fenders between planks and timber.

use super::{File, quay, set};
use glam::Vec3;
use shot::{
    Camera, Copies, Element, ElementKind, Moves, Pin, PinSpring, PinnedPart, Shape, Shot, Side, Soft,
    look::Look, motion::Channel,
};

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Fender squeeze");
    shot.about =
        "Rubber fenders between a rolling hull and the pier: they bulge, and let go again.".to_owned();
    shot.timing.last = 96;
    shot.add(fenders());
    let tarred = Look {
        image: Some("deal".to_owned()),
        albedo: Vec3::new(0.2, 0.17, 0.15),
        roughness: 0.55,
        ..Look::default()
    };
    let mut wall =
        quay::still("Pier wall", Shape::cuboid(2.8, 0.9, 0.16), tarred.clone()).at(0.0, 0.46, -0.55);
    wall.as_solid_mut().expect("a solid").body.friction = 0.7;
    shot.add(wall);
    let rail = Shape::Cylinder { radius_m: 0.03, height_m: 2.8 };
    shot.add(quay::still("Rail", rail, tarred).at(0.0, 1.06, -0.5).turned(
        0.0,
        0.0,
        std::f32::consts::FRAC_PI_2,
    ));
    shot.add(hull());

    let camera = Camera {
        focal_length_mm: 33.0,
        f_stop: Some(4.0),
        focus_distance_m: 1.8,
        exposure: 0.35,
        ..Camera::default()
    };
    let camera = Element::new("Fender camera", ElementKind::Camera(camera))
        .at(1.5, 1.8, -0.22)
        .turned(-0.68, 1.5, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::moorings(&mut shot, set::Lamps { glow: 1.8 });
    set::rim(&mut shot, Vec3::new(-3.2, 2.6, 1.6), 8.0, Vec3::new(0.62, 0.8, 1.0));
    (shot, set::files())
}

/// Two fenders that hang from the rail.
fn fenders() -> Element {
    let shape = Shape::Capsule { radius_m: 0.13, length_m: 0.36 };
    let mut fenders = Element::solid("Fenders", shape, Moves::Free);
    let solid = fenders.as_solid_mut().expect("a solid");
    let held = Pin {
        spring: Some(PinSpring { frequency_hz: 6.0, damping_ratio: 0.5 }),
        ..Pin::hard(PinnedPart::Side(Side::Top))
    };
    solid.soft = Some(Soft {
        cell_m: 0.04,
        edge_m: 0.03,
        density_kg_m3: 320.0,
        youngs_modulus_pa: 60_000.0,
        poisson_ratio: 0.42,
        damping_s: 0.01,
        thickness_m: 0.002,
        pins: vec![held],
        ..Soft::default()
    });
    solid.copies = Some(Copies {
        count: [2, 1, 1],
        spacing_m: Vec3::new(0.78, 1.0, 1.0),
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 1,
    });
    solid.body.friction = 0.8;
    solid.look =
        Look { albedo: Vec3::new(0.72, 0.18, 0.06), roughness: 0.36, variation: 0.12, ..Look::default() };
    fenders.at(0.0, 0.62, -0.33)
}

/// The side of a hull that comes and goes with the swell.
fn hull() -> Element {
    let mut hull = Element::solid("Hull", Shape::cuboid(3.4, 0.7, 0.24), Moves::Animated);
    let solid = hull.as_solid_mut().expect("a solid");
    solid.body.friction = 0.5;
    solid.look = Look {
        image: Some("deal".to_owned()),
        albedo: Vec3::new(0.16, 0.34, 0.36),
        roughness: 0.42,
        ..Look::default()
    };
    let way =
        Channel::expression("0.06 - 0.16 * sin(6.2832 * (frame - 1) / 48) ^ 2 * min(1, (frame - 1) / 12)");
    let heave = Channel::expression("0.5 + 0.05 * sin(6.2832 * (frame - 1) / 64)");
    let roll = Channel::expression("0.1 * sin(6.2832 * (frame - 7) / 48)");
    hull.at(0.0, 0.5, 0.06)
        .keyed("placement.position_m[2]", way)
        .keyed("placement.position_m[1]", heave)
        .keyed("placement.orientation_rad[0]", roll)
}
