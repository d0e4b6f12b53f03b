//! *Honey glaze*: thick glaze folds onto a turning dumpling, clings to it and is carried round.

use super::{File, assets, quay, set};
use glam::Vec3;
use shot::{
    Camera, Collision, Element, ElementKind, Id, Moves, Shape, Shot,
    finish::{Finish, FinishOperation},
    light::AreaLight,
    look::Look,
    motion::Channel,
    particles::{
        Action, Emission, EmissionDomain, EmissionSchedule, Liquid, ParticleBody, ParticleEvent, Particles,
        Source, Start, Trigger,
    },
    region::{Profile, Region, Volume},
};
use std::f32::consts::{PI, TAU};

/// Height of the plate's top, m.
const PLATE: f32 = 0.1;
/// Place of the spout's mouth, m.
const MOUTH: Vec3 = Vec3::new(0.022, 0.252, 0.012);
/// Last frame.
const LAST: u32 = 132;

/// The plate: outside up, over the rim, and in.
const DISH: [(f32, f32); 8] = [
    (0.0, 0.0),
    (0.06, 0.0),
    (0.066, 0.008),
    (0.105, 0.016),
    (0.107, 0.02),
    (0.1, 0.02),
    (0.072, 0.013),
    (0.0, 0.012),
];
/// The spout, from its mouth up.
const SPOUT: [(f32, f32); 8] = [
    (0.0, 0.05),
    (0.0088, 0.048),
    (0.0088, 0.0),
    (0.0104, 0.0),
    (0.0108, 0.03),
    (0.018, 0.07),
    (0.02, 0.2),
    (0.0, 0.205),
];

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Honey glaze");
    shot.about =
        "Thick glaze folds onto a dumpling that turns, clings to it and is carried round.".to_owned();
    shot.timing.last = LAST;
    shot.physics.substeps = 2;
    let wood = Look {
        image: Some("deal".to_owned()),
        albedo: Vec3::new(0.62, 0.46, 0.3),
        roughness: 0.5,
        ..Look::default()
    };
    shot.add(quay::still("Board", Shape::Box { size_m: Vec3::new(0.9, 0.05, 0.5), edge_m: 0.006 }, wood).at(
        0.1,
        PLATE - 0.037,
        -0.02,
    ));
    let glazed = Look { albedo: Vec3::new(0.09, 0.16, 0.2), roughness: 0.16, ..Look::default() };
    shot.add(turning("Plate", "dish", 1.0, glazed, PLATE - 0.012));
    let dough = Look { albedo: Vec3::new(0.93, 0.85, 0.7), roughness: 0.45, ..Look::default() };
    shot.add(turning("Dumpling", "fine dumpling", 1.0, dough, PLATE));
    let brass =
        Look { albedo: Vec3::new(0.86, 0.6, 0.28), metalness: 1.0, roughness: 0.24, ..Look::default() };
    let spout = Shape::Mesh { asset: "spout".to_owned(), scale: 1.0 };
    let mut spout = quay::still("Spout", spout, brass).at(MOUTH.x, MOUTH.y - 0.004, MOUTH.z);
    spout.as_solid_mut().expect("a solid").body.collision = Collision::Exact;
    shot.add(spout);
    let below = Volume::Box { size_m: Vec3::new(0.4, 0.03, 0.4) };
    let below = Region { volume: below, edge_m: 0.0, profile: Profile::default(), inverted: false };
    let drops = shot.add(Element::new("Drops", ElementKind::Region(below)).at(0.0, PLATE, 0.0));
    let glaze = shot.add(glaze(drops));
    let mesh = FinishOperation::ParticleMesh {
        radius: 0.7,
        reach: 2.4,
        edge: 0.5,
        passes: 6,
        anisotropy: 3.0,
        film: 0.8,
        together: false,
    };
    let finish = Finish { element: Some(glaze), ..Finish::new(mesh) };
    shot.add(Element::new("Surface of the glaze", ElementKind::Finish(finish)));
    let camera = Camera {
        focal_length_mm: 70.0,
        f_stop: Some(4.0),
        focus_distance_m: 0.52,
        exposure: 0.1,
        ..Camera::default()
    };
    let camera =
        Element::new("Board camera", ElementKind::Camera(camera)).at(0.22, 0.2, 0.5).turned(-0.08, 0.4, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 2.0 });
    let light =
        AreaLight { size_m: glam::Vec2::new(0.5, 0.3), radiance: 16.0, colour: Vec3::new(1.0, 0.86, 0.7) };
    shot.add(
        Element::new("Lamp over the board", ElementKind::AreaLight(light))
            .at(-0.5, 0.7, -0.5)
            .turned(-0.62, 0.0, -0.62),
    );
    let mut files = set::files();
    files.push(("fine dumpling", "fine-dumpling.obj", assets::dumpling(126)));
    files.push(("dish", "dish.obj", assets::lathed(&DISH)));
    files.push(("spout", "spout.obj", assets::lathed(&SPOUT)));
    (shot, files)
}

/// What turns about the vertical through the origin, one and a half times in the shot.
fn turning(name: &str, mesh: &str, scale: f32, look: Look, height: f32) -> Element {
    let mut element = Element::solid(name, Shape::Mesh { asset: mesh.to_owned(), scale }, Moves::Animated);
    let solid = element.as_solid_mut().expect("a solid");
    solid.body.collision = Collision::Exact;
    solid.look = look;
    let turn = Channel::keyed([(1.0, 0.0f32), (f64::from(LAST), 1.5 * TAU)]);
    element.at(0.0, height, 0.0).keyed("placement.orientation_rad[1]", turn)
}

/// The glaze; what drips from the dumpling ends before it comes to the plate.
fn glaze(drops: Id) -> Element {
    let glaze = Particles {
        liquid: Some(Liquid {
            spacing_m: 0.0015,
            density_kg_m3: 1_380.0,
            viscosity_pa_s: 60.0,
            wall_friction: 1.0,
            ..Liquid::default()
        }),
        source: Source::Shape { shape: Shape::plane(0.0135, 0.0135), domain: EmissionDomain::Surface },
        emission: Emission { schedule: EmissionSchedule::Jet {}, to_frame: Some(112), ..Emission::default() },
        start: Start {
            speed_m_s: 0.16,
            speed_variation: 0.0,
            spread_rad: 0.0,
            lifespan_s: None,
            ..Start::default()
        },
        body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
        events: vec![ParticleEvent {
            trigger: Trigger::Region { region: drops },
            action: Action::Die {},
            probability: 1.0,
        }],
        look: Look {
            albedo: Vec3::new(0.98, 0.66, 0.2),
            roughness: 0.04,
            transmission: 0.85,
            refractive_index: 1.48,
            ..Look::default()
        },
        ..Particles::default()
    };
    Element::new("Glaze", ElementKind::Particles(glaze)).at(MOUTH.x, MOUTH.y, MOUTH.z).turned(PI, 0.0, 0.0)
}
