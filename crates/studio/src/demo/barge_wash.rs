//! *Barge wash*: the bow wave of a barge moves crates along a quay wall.

use super::{File, assets, quay, set};
use glam::Vec3;
use shot::{
    Camera, Collision, Element, ElementKind, Moves, Shape, Shot, Weight,
    finish::{Finish, FinishOperation},
    look::Look,
    motion::{Channel, Interpolation},
    particles::{
        Carried, ContactResponse, Emission, EmissionSchedule, Liquid, ParticleBody, Particles, Source, Start,
    },
};

/// Half the length of the basin, its floor, and where the faces of the quay and of the side toward the camera are, m.
const HALF: f32 = 7.0;
const FLOOR: f32 = -1.1;
const QUAY: f32 = -2.2;
const NEAR: f32 = 3.2;
const LAST: u32 = 108;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = Shot::empty("Barge wash");
    shot.elements.retain(|element| element.as_force().is_some());
    shot.about = "A barge passes: its bow wave lifts the crates that float along the quay.".to_owned();
    shot.timing.last = LAST;
    shot.physics.substeps = 3;
    basin(&mut shot);
    barge(&mut shot);
    let mut crates = quay::crates("Crates", [6, 1, 1]).at(-0.3, 0.06, QUAY + 0.55);
    let solid = crates.as_solid_mut().expect("a solid");
    solid.body.weight = Weight::MassKg(26.0);
    solid.copies.as_mut().expect("crates have copies").spacing_m.x = 1.15;
    shot.add(crates);
    let water = shot.add(water());
    let mesh = FinishOperation::ParticleMesh {
        radius: 0.7,
        reach: 2.2,
        edge: 0.6,
        passes: 6,
        anisotropy: 3.0,
        film: 0.8,
        together: false,
    };
    let finish = Finish { element: Some(water), ..Finish::new(mesh) };
    shot.add(Element::new("Surface of the water", ElementKind::Finish(finish)));
    shot.add(spray(water));
    let camera = Camera { focal_length_mm: 38.0, exposure: 0.25, ..Camera::default() };
    let camera =
        Element::new("Quay camera", ElementKind::Camera(camera)).at(4.6, 1.55, 2.5).turned(-0.24, 0.92, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::far_shore(&mut shot, set::Lamps { glow: 2.0 });
    let mut files = set::files();
    files.push(("granite", "granite.png", assets::granite()));
    (shot, files)
}

/// The quay, the basin's floor, and walls that are not in the picture.
fn basin(shot: &mut Shot) {
    let stone = Look {
        image: Some("granite".to_owned()),
        albedo: Vec3::splat(0.42),
        roughness: 0.55,
        image_repeat: 3.0,
        ..Look::default()
    };
    let length = 2.0 * HALF + 2.0;
    let wall = |name: &str, size: Vec3, look: &Look| {
        quay::still(name, Shape::cuboid(size.x, size.y, size.z), look.clone())
    };
    let height = 0.75 - FLOOR;
    let middle = 0.5 * (0.75 + FLOOR);
    shot.add(wall("Quay wall", Vec3::new(length, height, 1.2), &stone).at(0.0, middle, QUAY - 0.6));
    let coping = Shape::Box { size_m: Vec3::new(1.38, 0.16, 0.5), edge_m: 0.02 };
    let mut coping = quay::still("Coping", coping, Look { variation: 0.25, ..stone.clone() });
    coping.as_solid_mut().expect("a solid").copies = Some(shot::Copies {
        count: [11, 1, 1],
        spacing_m: Vec3::new(1.4, 1.0, 1.0),
        position_jitter_m: 0.004,
        orientation_jitter_rad: 0.004,
        seed: 3,
    });
    shot.add(coping.at(0.0, 0.83, QUAY - 0.22));
    let mud = Look { albedo: Vec3::new(0.03, 0.045, 0.04), roughness: 0.9, ..Look::default() };
    let across = NEAR - QUAY;
    let floor = wall("Basin floor", Vec3::new(length, 0.4, across + 2.0), &mud);
    shot.add(floor.at(0.0, FLOOR - 0.2, 0.5 * (NEAR + QUAY)));
    let mut hidden = |name: &str, size: Vec3, at: Vec3| {
        let mut side = wall(name, size, &stone).at(at.x, at.y, at.z);
        side.hidden = true;
        shot.add(side);
    };
    let side = 0.5 * (1.5 + FLOOR);
    hidden("Near side", Vec3::new(length, 1.5 - FLOOR, 0.5), Vec3::new(0.0, side, NEAR + 0.25));
    for (name, x) in [("Left end", -HALF - 0.25), ("Right end", HALF + 0.25)] {
        hidden(name, Vec3::new(0.5, 1.5 - FLOOR, across), Vec3::new(x, side, 0.5 * (NEAR + QUAY)));
    }
}

/// A blunt barge with a deck house that comes past.
fn barge(shot: &mut Shot) {
    let tar = Look { albedo: Vec3::new(0.05, 0.05, 0.055), roughness: 0.35, ..Look::default() };
    let hull = Shape::Box { size_m: Vec3::new(3.4, 1.0, 1.5), edge_m: 0.18 };
    let mut hull = Element::solid("Barge", hull, Moves::Animated);
    let solid = hull.as_solid_mut().expect("a solid");
    solid.look = tar;
    solid.body.collision = Collision::Box;
    let mut way = Channel::keyed([(1.0, -4.9f32), (10.0, -4.75), (24.0, -3.6), (f64::from(LAST), 5.2)]);
    way.keys[2].interpolation = Interpolation::Linear;
    let barge = shot.add(hull.at(-4.9, 0.08, 0.35).keyed("placement.position_m[0]", way));
    let painted = Look { albedo: Vec3::new(0.32, 0.07, 0.045), roughness: 0.4, ..Look::default() };
    let mut part = |name: &str, size: Vec3, at: Vec3, look: Look| {
        let mut part =
            quay::still(name, Shape::Box { size_m: size, edge_m: 0.03 }, look).at(at.x, at.y, at.z);
        part.as_solid_mut().expect("a solid").body.moves = Moves::Animated;
        part.attached = Some(shot::Attached { to: barge, along: None, facing: false });
        shot.add(part);
    };
    part("Rubbing strake", Vec3::new(3.46, 0.12, 1.58), Vec3::new(0.0, 0.42, 0.0), painted);
    let house = Look { albedo: Vec3::new(0.5, 0.46, 0.36), roughness: 0.6, ..Look::default() };
    part("Deck house", Vec3::new(0.8, 0.55, 0.95), Vec3::new(-1.0, 0.75, 0.0), house);
}

fn water() -> Element {
    let water = Particles {
        liquid: Some(Liquid { spacing_m: 0.085, ..Liquid::default() }),
        source: Source::Pool {},
        emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
        start: Start { speed_m_s: 0.0, spread_rad: 0.0, lifespan_s: None, ..Start::default() },
        body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
        look: Look {
            albedo: Vec3::new(0.62, 0.86, 0.84),
            roughness: 0.03,
            transmission: 0.9,
            refractive_index: 1.33,
            ..Look::default()
        },
        ..Particles::default()
    };
    Element::new("Water", ElementKind::Particles(water)).at(4.5, 0.0, 1.8)
}

/// Spray off the bow, and foam that stays behind.
fn spray(water: shot::Id) -> Element {
    let spray = Particles {
        source: Source::Liquid {
            liquid: water,
            by_speed_m3_s: 0.0,
            by_curvature_m3_s: 80_000.0,
            by_trapped_air_m3_s: 90_000.0,
            least_speed_m_s: 1.0,
            full_speed_m_s: 3.5,
        },
        carried: Some(Carried::by(water)),
        emission: Emission { schedule: EmissionSchedule::Released {}, ..Emission::default() },
        start: Start {
            speed_m_s: 0.0,
            inherited_velocity: 1.0,
            lifespan_s: Some(1.6),
            lifespan_variation: 0.6,
            size_m: 0.013,
            size_variation: 0.6,
            ..Start::default()
        },
        contact: ContactResponse { push: false, restitution: 0.0, ..ContactResponse::default() },
        look: Look { albedo: Vec3::new(0.92, 0.95, 0.94), roughness: 0.7, ..Look::default() },
        ..Particles::default()
    };
    Element::new("Spray", ElementKind::Particles(spray))
}
