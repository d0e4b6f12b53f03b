//! *Crate tumble*: a swinging mooring block knocks over fish crates and glass
//! net floats on a pier, in low evening sun.

use super::{File, assets, quay, set};
use glam::{Vec2, Vec3};
use shot::{
    Camera, Element, ElementKind, Moves, Shape, Shot, Wake, Weight, light::AreaLight, look::Look,
    motion::Channel,
};

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Crate tumble");
    shot.about = "A swung block is let go at frame 24: keys hand over to physics.".to_owned();
    shot.add(quay::crates("Crate stack", [3, 3, 2]).at(0.35, 0.1805, 0.0).turned(0.0, 0.16, 0.0));
    shot.add(quay::floats("Net floats", [4, 1, 2], 0.9).at(0.25, 1.1985, 0.0));
    shot.add(block());

    let mut post = Element::solid("Bollard", Shape::Cylinder { radius_m: 0.17, height_m: 0.7 }, Moves::Still)
        .at(-1.55, 0.35, -1.35);
    let solid = post.as_solid_mut().expect("a solid");
    solid.look =
        Look { albedo: Vec3::new(0.05, 0.055, 0.06), metalness: 0.7, roughness: 0.38, ..Look::default() };
    shot.add(post);
    let mut cap = Element::solid(
        "Bollard cap",
        Shape::Torus { major_radius_m: 0.15, minor_radius_m: 0.06 },
        Moves::Still,
    )
    .at(-1.55, 0.7, -1.35);
    let solid = cap.as_solid_mut().expect("a solid");
    solid.look =
        Look { albedo: Vec3::new(0.05, 0.055, 0.06), metalness: 0.7, roughness: 0.32, ..Look::default() };
    shot.add(cap);

    let camera = Camera {
        focal_length_mm: 42.0,
        f_stop: Some(4.0),
        focus_distance_m: 5.3,
        exposure: 0.35,
        ..Camera::default()
    };
    // Looks at the middle of the stack from the seaward end of the pier.
    let camera =
        Element::new("Pier camera", ElementKind::Camera(camera)).at(2.0, 1.8, 5.1).turned(-0.155, 0.175, 0.0);
    shot.camera = Some(shot.add(camera));

    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 1.6 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 9.0, Vec3::new(0.55, 0.75, 1.0));
    let lamp = AreaLight { size_m: Vec2::new(1.2, 0.5), radiance: 7.0, colour: Vec3::new(0.62, 0.82, 1.0) };
    shot.add(
        Element::new("Stall lamp", ElementKind::AreaLight(lamp)).at(4.6, 3.4, -0.6).turned(-0.2, 0.0, -0.85),
    );

    let mut files = set::files();
    files.push(("granite", "granite.png", assets::granite()));
    (shot, files)
}

/// The mooring block: swings on an arc by its keys, then flies on by itself.
fn block() -> Element {
    let block = Element::solid(
        "Mooring block",
        Shape::Box { size_m: Vec3::new(0.5, 0.5, 0.5), edge_m: 0.035 },
        Moves::Animated,
    );
    let (pivot, length) = (Vec3::new(-1.5, 4.1, 0.05), 3.35f32);
    let swing = |angle: f32| pivot + Vec3::new(angle.sin(), -angle.cos(), 0.0) * length;
    // A pendulum let fall from 54°, keyed every other frame to where it is
    // after that time: θ(t) = θ₀ cos(√(g/l) t).
    let angle = |frame: f64| -0.94 * ((9.81f32 / length).sqrt() * (frame as f32 - 1.0) / 24.0).cos();
    let frames: Vec<f64> = (0..=14).map(|i| 1.0 + 2.0 * f64::from(i)).collect();
    let keys = |value: &dyn Fn(f32) -> Vec3| {
        Channel::keyed(frames.iter().map(|&frame| (frame, value(angle(frame)))))
    };
    let mut block = block
        .keyed("placement.position_m", keys(&swing))
        .keyed("placement.orientation_rad", keys(&|angle| Vec3::new(0.0, 0.3, angle)));
    let solid = block.as_solid_mut().expect("a solid");
    solid.body.wake = Some(Wake::Frame(24));
    solid.body.weight = Weight::DensityKgM3(1_900.0);
    solid.body.friction = 0.6;
    solid.body.restitution = 0.15;
    solid.look = Look {
        albedo: Vec3::splat(0.9),
        image: Some("granite".to_owned()),
        roughness: 0.7,
        ..Look::default()
    };
    block
}
