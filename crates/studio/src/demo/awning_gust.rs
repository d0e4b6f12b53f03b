//! *Awning gust*: a squall gets under a striped awning; its two ropes give way, and it streams from
//! its beam like a flag.

use super::{File, quay, set};
use glam::Vec3;
use shot::{
    Camera, Cloth, Element, ElementKind, Moves, Pin, PinnedPart, Shape, Shot, Side,
    force::{Force, ForceKind, Wind},
    look::Look,
    motion::Channel,
};
use std::f32::consts::FRAC_PI_2;

/// Frame at which the ropes give way.
const ROPES_GIVE_WAY: f64 = 44.0;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Awning gust");
    shot.about =
        "Canvas in a squall: held at a beam and by two ropes, which give way at frame 44.".to_owned();
    shot.timing.last = 108;
    shot.add(quay::crates("Crates", [2, 2, 2]).at(0.35, 0.1805, -0.9).turned(0.0, 0.2, 0.0));
    shot.add(awning());
    let wood = |albedo: f32| Look {
        image: Some("deal".to_owned()),
        albedo: Vec3::splat(albedo),
        roughness: 0.65,
        ..Look::default()
    };
    let beam = Shape::Cylinder { radius_m: 0.04, height_m: 2.3 };
    shot.add(quay::still("Beam", beam, wood(0.4)).at(-1.45, 2.3, -0.6).turned(FRAC_PI_2, 0.0, 0.0));
    for (name, x, z, height_m) in [
        ("Front beam post", -1.45, 0.45, 2.34),
        ("Back beam post", -1.45, -1.65, 2.34),
        ("Front rope post", 1.28, 0.36, 2.1),
        ("Back rope post", 1.28, -1.56, 2.1),
    ] {
        let post = Shape::Cylinder { radius_m: 0.045, height_m };
        shot.add(quay::still(name, post, wood(0.42)).at(x, 0.5 * height_m, z));
    }

    let wind =
        Wind { speed_m_s: 13.0, gust: 0.5, gust_s: 0.5, eddy: 0.3, eddy_m: 1.2, seed: 7, ..Wind::default() };
    let squall = Element::new("Squall", ElementKind::Force(Force::new(ForceKind::Wind(wind))));
    let speed = quay::keys([(1.0, 2.0), (20.0, 4.0), (40.0, 13.0), (108.0, 11.0)]);
    shot.add(
        squall
            .at(-2.6, 1.2, 0.4)
            .turned(0.0, 0.12, FRAC_PI_2 + 0.2)
            .keyed("kind.force.kind.wind.speed_m_s", speed),
    );

    let camera = Camera {
        focal_length_mm: 34.0,
        f_stop: Some(5.6),
        focus_distance_m: 5.9,
        exposure: 0.35,
        ..Camera::default()
    };
    let camera =
        Element::new("Pier camera", ElementKind::Camera(camera)).at(0.55, 2.6, 5.0).turned(-0.12, 0.07, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::moorings(&mut shot, set::Lamps { glow: 1.6 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 9.0, Vec3::new(0.55, 0.75, 1.0));
    (shot, set::files())
}

/// The awning, held along its left side and at the corners of its right.
fn awning() -> Element {
    let pin = Pin::hard;
    let pins = vec![pin(PinnedPart::Side(Side::Left)), pin(PinnedPart::Corners(Side::Right))];
    let cloth = Cloth { edge_m: 0.06, pins, ..Cloth::default() };
    let mut awning = Element::solid("Awning", Shape::plane(2.7, 1.9), Moves::Free);
    let solid = awning.as_solid_mut().expect("a solid");
    solid.cloth = Some(cloth);
    solid.look = Look {
        image: Some("stripes".to_owned()),
        albedo: Vec3::splat(0.95),
        roughness: 0.85,
        ..Look::default()
    };
    let holds = Channel::keyed([(1.0, true), (ROPES_GIVE_WAY, false)]);
    awning.at(-0.1, 2.2, -0.6).turned(0.0, 0.0, -0.08).keyed("kind.solid.cloth.pins.1.holds", holds)
}
