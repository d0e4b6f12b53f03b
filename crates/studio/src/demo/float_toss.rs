//! *Float toss*: a float is thrown, hangs in the air for a while, and settles
//! in a basket.

use super::{File, assets, quay, set};
use glam::Vec3;
use shot::{Aim, Camera, Element, ElementKind, Moves, Shape, Shot, look::Look, motion::Interpolation};

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Float toss");
    shot.about =
        "A throw slowed at its height: a keyed time scale, and a camera that follows late.".to_owned();
    let mut basket =
        Element::solid("Basket", Shape::Mesh { asset: "basket".to_owned(), scale: 1.0 }, Moves::Still)
            .at(1.1, 0.0, 0.0);
    let solid = basket.as_solid_mut().expect("a solid");
    solid.look = Look { albedo: Vec3::new(0.42, 0.26, 0.13), roughness: 0.75, ..Look::default() };
    solid.body.friction = 0.9;
    solid.body.restitution = 0.1;
    shot.add(basket);
    shot.add(quay::crates("Crates", [1, 2, 1]).at(2.3, 0.1805, -0.9).turned(0.0, -0.35, 0.0));

    let mut float = quay::floats("Float", [1, 1, 1], 0.35).at(-1.9, 0.9, 0.0);
    let solid = float.as_solid_mut().expect("a solid");
    solid.copies = None;
    solid.body.restitution = 0.25;
    solid.body.friction = 0.6;
    // 3.0 m in 0.85 s, to the basket's mouth.
    solid.body.launch_velocity = Some(Vec3::new(3.5, 3.8, 0.0));
    solid.body.launch_angular_velocity = Some(Vec3::new(2.0, 1.0, -9.0));
    let float = shot.add(float);

    // A quarter of the speed while it rises, then as it is.
    let mut slow = quay::keys([(1.0, 1.0), (6.0, 0.22), (44.0, 0.22), (60.0, 1.0)]);
    slow.keys.iter_mut().for_each(|key| key.interpolation = Interpolation::Ease);
    shot.channels.insert("physics.time_scale".to_owned(), slow);

    let camera = Camera {
        focal_length_mm: 35.0,
        f_stop: Some(2.8),
        focus_distance_m: 3.7,
        exposure: 0.35,
        ..Camera::default()
    };
    let mut camera = Element::new("Pier camera", ElementKind::Camera(camera)).at(0.3, 1.2, 3.7);
    camera.aim = Some(Aim { target: float, damping_s: 0.35 });
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 1.6 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 9.0, Vec3::new(0.55, 0.75, 1.0));
    let mut files = set::files();
    files.push(("basket", "basket.obj", assets::basket()));
    (shot, files)
}
