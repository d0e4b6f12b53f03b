//! *Net drop*: a net let go above stacked crates and glass floats falls over them and slides.

use super::{File, assets, quay, set};
use glam::Vec3;
use shot::{
    Camera, Cloth, Element, ElementKind, Moves, Pin, PinnedPart, Shape, Shot, Side, cloth_materials,
    look::Look, motion::Channel,
};

/// Frames at which its two sides are let go.
const FIRST_SIDE: f64 = 10.0;
const SECOND_SIDE: f64 = 26.0;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Net drop");
    shot.about =
        "A net is let go side by side, falls over crates and glass floats, and slides off.".to_owned();
    shot.timing.last = 110;
    shot.add(quay::crates("Crates", [2, 2, 1]).at(0.0, 0.1805, -0.5).turned(0.0, 0.25, 0.0));
    shot.add(quay::floats("Net floats", [2, 1, 1], 0.9).at(0.08, 0.85, -0.5));
    shot.add(net());
    let wood = Look {
        image: Some("deal".to_owned()),
        albedo: Vec3::splat(0.42),
        roughness: 0.65,
        ..Look::default()
    };
    for (name, x) in [("Left boom", -1.22), ("Right boom", 1.22)] {
        let boom = Shape::Cylinder { radius_m: 0.03, height_m: 2.2 };
        shot.add(quay::still(name, boom, wood.clone()).at(x, 1.76, -0.5).turned(
            std::f32::consts::FRAC_PI_2,
            0.0,
            0.0,
        ));
    }
    let camera = Camera {
        focal_length_mm: 36.0,
        f_stop: Some(5.6),
        focus_distance_m: 4.1,
        exposure: 0.35,
        ..Camera::default()
    };
    let camera =
        Element::new("Quay camera", ElementKind::Camera(camera)).at(1.3, 1.7, 3.1).turned(-0.2, 0.34, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 1.8 });
    set::rim(&mut shot, Vec3::new(-4.5, 3.4, -2.6), 9.0, Vec3::new(0.6, 0.78, 1.0));
    let mut files = set::files();
    files.push(("net", "net.obj", assets::net()));
    (shot, files)
}

/// The net, held along two sides.
fn net() -> Element {
    let netting =
        cloth_materials().into_iter().find(|(name, _)| *name == "netting").expect("is a material").1;
    let pin = Pin::hard;
    let cloth = Cloth {
        edge_m: 0.04,
        pins: vec![pin(PinnedPart::Side(Side::Left)), pin(PinnedPart::Side(Side::Right))],
        ..netting
    };
    let mut net = Element::solid("Net", Shape::Mesh { asset: "net".to_owned(), scale: 1.0 }, Moves::Free);
    let solid = net.as_solid_mut().expect("a solid");
    solid.cloth = Some(cloth);
    solid.body.friction = 0.35;
    solid.look = Look { albedo: Vec3::new(0.55, 0.34, 0.1), roughness: 0.85, ..Look::default() };
    let lets_go = |frame: f64| Channel::keyed([(1.0, true), (frame, false)]);
    net.at(0.0, 1.7, -0.5)
        .keyed("kind.solid.cloth.pins.0.holds", lets_go(FIRST_SIDE))
        .keyed("kind.solid.cloth.pins.1.holds", lets_go(SECOND_SIDE))
}
