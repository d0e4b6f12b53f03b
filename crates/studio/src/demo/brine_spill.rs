//! *Brine spill*: a jar of brine is knocked over on the cobbles.

use super::{File, assets, quay, set};
use glam::Vec3;
use shot::{
    Camera, Collision, Copies, Element, ElementKind, Moves, Shape, Shot,
    finish::{Finish, FinishOperation},
    look::Look,
    motion::{Channel, Key},
    particles::{Emission, EmissionDomain, EmissionSchedule, Liquid, ParticleBody, Particles, Source, Start},
};
use std::f32::consts::FRAC_PI_2;

/// The jar: outside up, over the lip, and down inside.
const JAR: [(f32, f32); 17] = [
    (0.0, 0.0),
    (0.082, 0.0),
    (0.094, 0.012),
    (0.1, 0.06),
    (0.1, 0.14),
    (0.09, 0.178),
    (0.07, 0.198),
    (0.067, 0.226),
    (0.072, 0.233),
    (0.064, 0.237),
    (0.055, 0.228),
    (0.055, 0.198),
    (0.074, 0.17),
    (0.086, 0.14),
    (0.086, 0.06),
    (0.078, 0.018),
    (0.0, 0.014),
];
/// The brine in it.
const BRINE: [(f32, f32); 7] = [
    (0.0, 0.0145),
    (0.077, 0.019),
    (0.0855, 0.06),
    (0.0855, 0.14),
    (0.073, 0.168),
    (0.06, 0.182),
    (0.0, 0.182),
];
/// Height of the cobbles' tops, m.
const GROUND: f32 = 0.05;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Brine spill");
    shot.about = "A jar of brine is knocked over: the liquid runs out between the cobbles.".to_owned();
    shot.timing.last = 72;
    shot.physics.substeps = 4;
    cobbles(&mut shot);
    shot.add(jar());
    let brine = shot.add(brine());
    let mesh = FinishOperation::ParticleMesh {
        radius: 0.6,
        reach: 2.2,
        edge: 0.5,
        passes: 5,
        anisotropy: 3.0,
        film: 0.8,
        together: false,
    };
    let finish = Finish { element: Some(brine), ..Finish::new(mesh) };
    shot.add(Element::new("Surface of the brine", ElementKind::Finish(finish)));
    let camera = Camera {
        focal_length_mm: 50.0,
        f_stop: Some(5.6),
        focus_distance_m: 1.2,
        exposure: 0.15,
        ..Camera::default()
    };
    let camera = Element::new("Cobble camera", ElementKind::Camera(camera))
        .at(0.5, 0.5, 1.04)
        .turned(-0.38, 0.26, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 2.0 });
    set::rim(&mut shot, Vec3::new(-1.6, 1.5, -1.8), 9.0, Vec3::new(0.6, 0.78, 1.0));
    let mut files = set::files();
    files.push(("jar", "jar.obj", assets::lathed(&JAR)));
    files.push(("brine", "brine.obj", assets::lathed(&BRINE)));
    files.push(("granite", "granite.png", assets::granite()));
    (shot, files)
}

/// Rows of cobbles with joints between them.
fn cobbles(shot: &mut Shot) {
    let stone = Look {
        image: Some("granite".to_owned()),
        albedo: Vec3::splat(0.4),
        roughness: 0.42,
        variation: 0.35,
        ..Look::default()
    };
    let copies = |count: [u32; 3]| Copies {
        count,
        spacing_m: Vec3::new(0.148, 0.1, 0.118),
        position_jitter_m: 0.003,
        orientation_jitter_rad: 0.015,
        seed: 11,
    };
    let shape = Shape::Box { size_m: Vec3::new(0.136, 0.1, 0.106), edge_m: 0.012 };
    let mut rows = quay::still("Cobbles", shape, stone.clone()).at(0.3, GROUND - 0.05, 0.0);
    rows.as_solid_mut().expect("a solid").copies = Some(copies([13, 1, 13]));
    shot.add(rows);
    let mortar = Look { albedo: Vec3::splat(0.09), roughness: 0.9, ..Look::default() };
    shot.add(quay::still("Mortar", Shape::cuboid(2.0, 0.06, 1.6), mortar).at(0.3, GROUND - 0.045, 0.0));
}

/// The jar, which tips over its edge toward +x.
fn jar() -> Element {
    let mut jar = Element::solid("Jar", Shape::Mesh { asset: "jar".to_owned(), scale: 1.0 }, Moves::Animated);
    let solid = jar.as_solid_mut().expect("a solid");
    solid.body.collision = Collision::Exact;
    solid.look = Look { albedo: Vec3::new(0.17, 0.07, 0.035), roughness: 0.2, ..Look::default() };
    let channel = |value: &dyn Fn(f32) -> f32| {
        let keys = (0..=20).map(|i| {
            let part = i as f32 / 20.0;
            // It falls faster and faster, and settles on its side.
            let angle = FRAC_PI_2 * part.powf(1.9);
            Key::new(10.0 + 16.0 * f64::from(part), value(angle))
        });
        Channel { keys: keys.collect(), ..Channel::default() }
    };
    // About the edge at radius 0.1.
    let (from, radius) = (-0.12, 0.1);
    jar.at(from, GROUND, 0.0)
        .keyed("placement.position_m[0]", channel(&|angle| from + radius * (1.0 - angle.cos())))
        .keyed("placement.position_m[1]", channel(&|angle| GROUND + radius * angle.sin()))
        .keyed("placement.orientation_rad[2]", channel(&|angle| -angle))
}

fn brine() -> Element {
    let shape = Shape::Mesh { asset: "brine".to_owned(), scale: 1.0 };
    let brine = Particles {
        liquid: Some(Liquid { spacing_m: 0.007, density_kg_m3: 1_150.0, ..Liquid::default() }),
        source: Source::Shape { shape, domain: EmissionDomain::Surface },
        emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
        start: Start { speed_m_s: 0.0, spread_rad: 0.0, lifespan_s: None, ..Start::default() },
        body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
        look: Look {
            albedo: Vec3::new(0.88, 0.96, 0.8),
            roughness: 0.02,
            transmission: 1.0,
            refractive_index: 1.34,
            ..Look::default()
        },
        ..Particles::default()
    };
    Element::new("Brine", ElementKind::Particles(brine)).at(-0.12, GROUND, 0.0)
}
