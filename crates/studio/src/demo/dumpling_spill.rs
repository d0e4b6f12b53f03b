//! *Dumpling spill*: a steamer's tray tips, and soft dumplings tumble down wet steps.

use super::{File, assets, quay, set};
use glam::Vec3;
use shot::{Camera, Copies, Element, ElementKind, Moves, Shape, Shot, Soft, look::Look, motion::Channel};

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Dumpling spill");
    shot.about =
        "Nine soft dumplings: a tray tips at frame 10 and they tumble down the quay's steps.".to_owned();
    shot.timing.last = 96;
    shot.add(dumplings());
    shot.add(tray());
    let stone = Look {
        image: Some("granite".to_owned()),
        albedo: Vec3::splat(0.75),
        roughness: 0.38,
        image_repeat: 1.5,
        ..Look::default()
    };
    for (i, (name, height)) in
        [("Top step", 0.54), ("Middle step", 0.36), ("Low step", 0.18)].into_iter().enumerate()
    {
        let shape = Shape::cuboid(0.46, height, 1.9);
        let mut step = quay::still(name, shape, stone.clone()).at(-0.66 + 0.46 * i as f32, 0.5 * height, 0.0);
        step.as_solid_mut().expect("a solid").body.friction = 0.6;
        shot.add(step);
    }
    let bamboo = Look {
        image: Some("deal".to_owned()),
        albedo: Vec3::new(0.78, 0.6, 0.36),
        roughness: 0.6,
        ..Look::default()
    };
    let steamer = Shape::Torus { major_radius_m: 0.27, minor_radius_m: 0.045 };
    let rings = Copies {
        count: [1, 3, 1],
        spacing_m: Vec3::new(0.0, 0.085, 0.0),
        position_jitter_m: 0.008,
        orientation_jitter_rad: 0.2,
        seed: 3,
    };
    let mut steamer = quay::still("Steamer rings", steamer, bamboo).at(-0.68, 0.585, -0.62);
    steamer.as_solid_mut().expect("a solid").copies = Some(rings);
    shot.add(steamer);

    let camera = Camera {
        focal_length_mm: 42.0,
        f_stop: Some(4.0),
        focus_distance_m: 2.1,
        exposure: 0.1,
        ..Camera::default()
    };
    let camera =
        Element::new("Step camera", ElementKind::Camera(camera)).at(1.5, 1.0, 1.62).turned(-0.27, 0.83, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 2.0 });
    set::rim(&mut shot, Vec3::new(3.6, 2.8, -2.6), 7.0, Vec3::new(0.6, 0.78, 1.0));
    let mut files = set::files();
    files.push(("dumpling", "dumpling.obj", assets::dumpling(42)));
    files.push(("granite", "granite.png", assets::granite()));
    (shot, files)
}

/// Dumplings on the tray.
fn dumplings() -> Element {
    let shape = Shape::Mesh { asset: "dumpling".to_owned(), scale: 1.45 };
    let mut dumplings = Element::solid("Dumplings", shape, Moves::Free);
    let solid = dumplings.as_solid_mut().expect("a solid");
    solid.soft = Some(Soft {
        cell_m: 0.034,
        edge_m: 0.028,
        density_kg_m3: 650.0,
        youngs_modulus_pa: 9_000.0,
        poisson_ratio: 0.4,
        damping_s: 0.006,
        thickness_m: 0.0015,
        ..Soft::default()
    });
    solid.copies = Some(Copies {
        count: [3, 1, 3],
        spacing_m: Vec3::new(0.195, 0.15, 0.2),
        position_jitter_m: 0.006,
        orientation_jitter_rad: 0.6,
        seed: 5,
    });
    solid.body.friction = 0.35;
    solid.look =
        Look { albedo: Vec3::new(0.93, 0.86, 0.72), roughness: 0.34, variation: 0.08, ..Look::default() };
    dumplings.at(-0.67, 0.584, 0.14)
}

/// The tray that tips over its front edge.
fn tray() -> Element {
    let mut tray = Element::solid("Tray", Shape::cuboid(0.64, 0.02, 0.66), Moves::Animated);
    let solid = tray.as_solid_mut().expect("a solid");
    solid.body.friction = 0.3;
    solid.look = Look {
        image: Some("deal".to_owned()),
        albedo: Vec3::new(0.85, 0.66, 0.4),
        roughness: 0.55,
        ..Look::default()
    };
    let tilt = Channel::keyed([(1.0, 0.0f32), (10.0, 0.0), (30.0, -0.62), (96.0, -0.62)]);
    let lift = Channel::keyed([(1.0, 0.57f32), (10.0, 0.57), (30.0, 0.77), (96.0, 0.77)]);
    tray.at(-0.67, 0.57, 0.14)
        .keyed("placement.orientation_rad[2]", tilt)
        .keyed("placement.position_m[1]", lift)
}
