//! *Broth pour*: broth out of a kettle into a bowl, with herbs that float on it.

use super::{File, assets, quay, set};
use glam::Vec3;
use shot::{
    Camera, Collision, Copies, Element, ElementKind, Id, Moves, Shape, Shot, Weight,
    finish::{Finish, FinishOperation},
    light::AreaLight,
    look::Look,
    motion::{Channel, Key},
    particles::{
        Appearance, Carried, Emission, EmissionDomain, EmissionSchedule, Form, InstanceChoice,
        InstanceOrientation, Liquid, ParticleBody, Particles, Source, Start,
    },
};

/// The bowl, round its foot, up its outside and down its inside.
const BOWL: [(f32, f32); 12] = [
    (0.0, 0.0),
    (0.048, 0.0),
    (0.052, 0.006),
    (0.078, 0.018),
    (0.1, 0.046),
    (0.112, 0.084),
    (0.107, 0.087),
    (0.104, 0.082),
    (0.093, 0.05),
    (0.072, 0.026),
    (0.045, 0.015),
    (0.0, 0.013),
];
/// The kettle, the same way.
const KETTLE: [(f32, f32); 17] = [
    (0.0, 0.0),
    (0.058, 0.0),
    (0.078, 0.012),
    (0.088, 0.05),
    (0.084, 0.092),
    (0.06, 0.124),
    (0.036, 0.142),
    (0.032, 0.166),
    (0.04, 0.186),
    (0.033, 0.187),
    (0.025, 0.166),
    (0.029, 0.138),
    (0.054, 0.117),
    (0.077, 0.09),
    (0.081, 0.05),
    (0.073, 0.018),
    (0.0, 0.0075),
];
/// The broth in it.
const BROTH: [(f32, f32); 7] = [
    (0.0, 0.008),
    (0.072, 0.0185),
    (0.0805, 0.05),
    (0.0765, 0.09),
    (0.0535, 0.1165),
    (0.045, 0.121),
    (0.0, 0.121),
];
const SPACING: f32 = 0.0026;
const LAST: u32 = 96;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Broth pour");
    shot.about = "Broth is poured from a kettle into a bowl: herbs and slices float on it.".to_owned();
    shot.timing.last = LAST;
    shot.physics.substeps = 4;
    counter(&mut shot);
    let bowl = Look { albedo: Vec3::new(0.1, 0.2, 0.24), roughness: 0.14, variation: 0.1, ..Look::default() };
    let mut bowl = quay::still("Bowl", mesh("bowl"), bowl);
    bowl.as_solid_mut().expect("a solid").body.collision = Collision::Exact;
    shot.add(bowl);
    shot.add(kettle());
    slices(&mut shot);
    let fill = Source::Shape { shape: mesh("broth"), domain: EmissionDomain::Surface };
    shot.add(broth("Broth", fill).at(FROM.x, FROM.y, FROM.z));
    let served = shot.add(broth("Broth in the bowl", Source::Pool {}).at(0.0, 0.034, 0.0));
    let surface = FinishOperation::ParticleMesh {
        radius: 0.75,
        reach: 2.4,
        edge: 0.5,
        passes: 8,
        anisotropy: 3.0,
        film: 0.8,
        together: true,
    };
    shot.add(Element::new("Surface of the broth", ElementKind::Finish(Finish::new(surface))));
    herbs(&mut shot, served);
    let camera = Camera {
        focal_length_mm: 62.0,
        f_stop: Some(4.0),
        focus_distance_m: 0.67,
        exposure: 0.2,
        ..Camera::default()
    };
    let camera = Element::new("Counter camera", ElementKind::Camera(camera))
        .at(0.22, 0.36, 0.58)
        .turned(-0.42, 0.38, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 2.0 });
    let lamp =
        AreaLight { size_m: glam::Vec2::new(0.5, 0.3), radiance: 14.0, colour: Vec3::new(1.0, 0.84, 0.66) };
    let lamp = Element::new("Lamp over the counter", ElementKind::AreaLight(lamp));
    shot.add(lamp.at(-0.5, 0.75, -0.45).turned(-0.62, 0.0, -0.62));
    let mut files = set::files();
    files.push(("bowl", "bowl.obj", assets::lathed(&BOWL)));
    files.push(("kettle", "kettle.obj", assets::lathed(&KETTLE)));
    files.push(("broth", "broth.obj", assets::lathed(&BROTH)));
    (shot, files)
}

fn mesh(asset: &str) -> Shape {
    Shape::Mesh { asset: asset.to_owned(), scale: 1.0 }
}

fn counter(shot: &mut Shot) {
    let wood =
        Look { image: Some("deal".to_owned()), albedo: Vec3::splat(0.5), roughness: 0.5, ..Look::default() };
    let board = Shape::Box { size_m: Vec3::new(1.2, 0.05, 0.6), edge_m: 0.006 };
    shot.add(quay::still("Counter", board, wood).at(0.0, -0.026, 0.0));
}

/// Where the kettle stands at first, and where its lip is while it pours.
const FROM: Vec3 = Vec3::new(-0.3, 0.12, 0.0);
const LIP: Vec3 = Vec3::new(-0.062, 0.185, 0.0);
/// Height of the lip above the kettle's foot, m.
const TALL: f32 = 0.186;
/// How far it is tilted, rad.
const TILT: f32 = 1.95;

/// The kettle, which is swung to the bowl and tilted toward +x.
fn kettle() -> Element {
    let mut kettle = Element::solid("Kettle", mesh("kettle"), Moves::Animated);
    let solid = kettle.as_solid_mut().expect("a solid");
    solid.body.collision = Collision::Exact;
    solid.look =
        Look { albedo: Vec3::new(0.55, 0.3, 0.16), metalness: 1.0, roughness: 0.26, ..Look::default() };
    let smooth = |part: f32| part * part * (3.0 - 2.0 * part);
    // The lip goes from where it stands to where it pours as the kettle tilts.
    let pose = |part: f32| {
        let angle = TILT * smooth(part);
        let lip = (FROM + TALL * Vec3::Y).lerp(LIP, smooth((1.4 * part).min(1.0)));
        (lip - TALL * Vec3::new(angle.sin(), angle.cos(), 0.0), angle)
    };
    let channel = |value: &dyn Fn(f32) -> f32| {
        let keys = (0..=24).map(|i| {
            let part = i as f32 / 24.0;
            Key::new(4.0 + 62.0 * f64::from(part), value(part))
        });
        Channel { keys: keys.collect(), ..Channel::default() }
    };
    kettle
        .at(FROM.x, FROM.y, FROM.z)
        .keyed("placement.position_m[0]", channel(&|part| pose(part).0.x))
        .keyed("placement.position_m[1]", channel(&|part| pose(part).0.y))
        .keyed("placement.orientation_rad[2]", channel(&|part| -pose(part).1))
}

fn broth(name: &str, source: Source) -> Element {
    let broth = Particles {
        liquid: Some(Liquid {
            spacing_m: SPACING,
            density_kg_m3: 1_010.0,
            viscosity_pa_s: 0.002,
            ..Liquid::default()
        }),
        source,
        emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
        start: Start { speed_m_s: 0.0, spread_rad: 0.0, lifespan_s: None, ..Start::default() },
        body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
        look: Look {
            albedo: Vec3::new(0.99, 0.82, 0.5),
            roughness: 0.03,
            transmission: 0.92,
            refractive_index: 1.34,
            ..Look::default()
        },
        ..Particles::default()
    };
    Element::new(name, ElementKind::Particles(broth))
}

/// Slices of a root that float in the bowl, as bodies.
fn slices(shot: &mut Shot) {
    let mut slices =
        Element::solid("Slices", Shape::Cylinder { radius_m: 0.013, height_m: 0.006 }, Moves::Free);
    let solid = slices.as_solid_mut().expect("a solid");
    solid.copies = Some(Copies {
        count: [2, 1, 2],
        spacing_m: Vec3::new(0.044, 0.03, 0.048),
        position_jitter_m: 0.004,
        orientation_jitter_rad: 0.12,
        seed: 9,
    });
    solid.look =
        Look { albedo: Vec3::new(0.9, 0.42, 0.1), roughness: 0.4, variation: 0.25, ..Look::default() };
    solid.body.weight = Weight::DensityKgM3(700.0);
    solid.body.friction = 0.3;
    shot.add(slices.at(0.0, 0.042, 0.0));
}

/// Leaves that the broth carries at its surface.
fn herbs(shot: &mut Shot, broth: Id) {
    let green = Look { albedo: Vec3::new(0.1, 0.3, 0.06), roughness: 0.5, variation: 0.4, ..Look::default() };
    let leaf = Shape::Box { size_m: Vec3::new(0.009, 0.0012, 0.005), edge_m: 0.0005 };
    // The leaf that the herbs are instances of lies on the counter, beside the bowl.
    let leaf = shot.add(quay::still("Leaf", leaf, green).at(0.16, 0.0008, 0.09).turned(0.0, 0.7, 0.0));
    let herbs = Particles {
        source: Source::Shape { shape: Shape::plane(0.11, 0.11), domain: EmissionDomain::Surface },
        carried: Some(Carried { rise_speed_m_s: 0.06, ..Carried::by(broth) }),
        emission: Emission { schedule: EmissionSchedule::Burst { count: 90 }, ..Emission::default() },
        start: Start {
            speed_m_s: 0.0,
            lifespan_s: None,
            size_m: 0.009,
            size_variation: 0.35,
            orientation_variation: 0.12,
            ..Start::default()
        },
        appearance: Appearance {
            form: Form::Instance {
                solids: vec![leaf],
                choice: InstanceChoice::Random,
                orientation: InstanceOrientation::Free,
            },
            ..Appearance::default()
        },
        ..Particles::default()
    };
    shot.add(Element::new("Herbs", ElementKind::Particles(herbs)).at(0.0, 0.036, 0.0));
}
