//! *Quay flags*: a gate opens, two barrels roll through it into a pile of fish
//! crates, and flags above keep their own motion, each later than the one before. Flag and gate
//! come from files.

use super::{File, moving, quay, set};
use glam::Vec3;
use shot::{
    BeyondEnd, Camera, Copies, Element, ElementKind, FileAnimation, Moves, Shape, Shot, Wake, Weight,
    finish::{Finish, FinishOperation},
    look::Look,
    motion::Channel,
};

/// Frame at which the barrels are let go.
const LET_GO: u32 = 30;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Quay flags");
    shot.about =
        "A gate and flags that files move, each flag at its own time; two barrels that keys roll are let go at frame 30.".to_owned();
    shot.timing.last = 120;
    shot.add(quay::crates("Crate pile", [2, 4, 2]).at(0.85, 0.1805, -0.4).turned(0.0, 0.22, 0.0));
    shot.add(quay::floats("Net floats", [3, 1, 2], 0.9).at(0.8, 1.56, -0.4));

    shot.add(
        moved_by_file("Gate", "gate", Moves::Animated, wood(0.62), BeyondEnd::Hold).at(-2.05, 0.02, -1.15),
    );
    shot.add(moved_by_file("Flag", "flag", Moves::Animated, cloth(), BeyondEnd::Repeat).at(1.79, 3.3, -2.4));
    for (name, at, height_m) in [
        ("Flag pole", Vec3::new(1.75, 1.75, -2.4), 3.5),
        ("Hinge post", Vec3::new(-2.12, 0.75, -1.18), 1.5),
        ("Latch post", Vec3::new(-2.12, 0.7, 0.68), 1.4),
    ] {
        let radius_m = if height_m > 2.0 { 0.035 } else { 0.075 };
        let post = Element::solid(name, Shape::Cylinder { radius_m, height_m }, Moves::Still);
        shot.add(looking(post, wood(0.4)).at(at.x, at.y, at.z));
    }
    let flag = shot.named("Flag").expect("was added").id;
    shot.named_mut("Flag pole").and_then(Element::as_solid_mut).expect("a solid").copies = Some(row());
    // The flag goes round in its file, so that one at another time never stands.
    let round =
        FinishOperation::Loop { frames: moving::FLAG_ROUND, from_frame: 1, overlap: 0, first_stands: false };
    let copies = FinishOperation::Copies {
        grid: row(),
        delay_frames: 17,
        delay_jitter_frames: 0,
        size_variation: 0.0,
    };
    for (order, name, operation) in [(0, "Flag goes round", round), (1, "Row of flags", copies)] {
        let finish = Finish { element: Some(flag), order, ..Finish::new(operation) };
        shot.add(Element::new(name, ElementKind::Finish(finish)));
    }
    // The first is let through as the gate stands open, the second behind it.
    for (name, ahead, z) in [("Barrel", 0.0, -0.56), ("Second barrel", -1.0, -0.66)] {
        shot.add(barrel(name, ahead, z));
    }

    let camera = Camera {
        focal_length_mm: 33.0,
        f_stop: Some(4.0),
        focus_distance_m: 5.6,
        exposure: 0.35,
        ..Camera::default()
    };
    let camera =
        Element::new("Pier camera", ElementKind::Camera(camera)).at(0.95, 1.3, 5.7).turned(0.03, 0.03, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 1.6 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 9.0, Vec3::new(0.55, 0.75, 1.0));
    let mut files = set::files();
    files.push(("flag", "flag.zip", moving::flag()));
    files.push(("gate", "gate.zip", moving::gate()));
    (shot, files)
}

/// Places of the flags along the pier.
fn row() -> Copies {
    Copies {
        count: [3, 1, 1],
        spacing_m: Vec3::new(2.4, 0.0, 0.0),
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 0,
    }
}

fn wood(albedo: f32) -> Look {
    Look { image: Some("deal".to_owned()), albedo: Vec3::splat(albedo), roughness: 0.65, ..Look::default() }
}

fn cloth() -> Look {
    Look { image: Some("stripes".to_owned()), albedo: Vec3::splat(0.95), roughness: 0.85, ..Look::default() }
}

fn looking(mut element: Element, look: Look) -> Element {
    element.as_solid_mut().expect("a solid").look = look;
    element
}

/// A solid whose mesh a file moves, from the first frame on.
fn moved_by_file(name: &str, asset: &str, moves: Moves, look: Look, after: BeyondEnd) -> Element {
    let mut element = Element::solid(name, Shape::Mesh { asset: asset.to_owned(), scale: 1.0 }, moves);
    let solid = element.as_solid_mut().expect("a solid");
    solid.animation = Some(FileAnimation { rate: moving::FPS, after, ..FileAnimation::default() });
    solid.body.friction = 0.5;
    looking(element, look)
}

/// A barrel on its side that rolls towards +x without slipping, faster and faster.
fn barrel(name: &str, ahead: f32, z: f32) -> Element {
    const RADIUS: f32 = 0.25;
    const START: f32 = -5.5;
    let shape = Shape::Cylinder { radius_m: RADIUS, height_m: 0.72 };
    let mut barrel = looking(Element::solid(name, shape, Moves::Animated), wood(0.5));
    // From rest at 5.2 m/s²: let go at 6.3 m/s.
    let rolled = |frame: f64| {
        let t = (frame as f32 - 1.0) / moving::FPS;
        2.6 * t * t
    };
    let x = |frame: f64| START + ahead + rolled(frame);
    let frames = || (0..=15).map(|i| 1.0 + 2.0 * f64::from(i));
    let solid = barrel.as_solid_mut().expect("a solid");
    solid.body.wake = Some(Wake::Frame(LET_GO));
    solid.body.weight = Weight::MassKg(52.0);
    (solid.body.friction, solid.body.restitution) = (0.5, 0.2);
    let lying = std::f32::consts::FRAC_PI_2;
    barrel
        .at(START + ahead, RADIUS, z)
        .turned(lying, 0.0, 0.0)
        .keyed("placement.position_m[0]", Channel::keyed(frames().map(|frame| (frame, x(frame)))))
        .keyed(
            "placement.orientation_rad",
            Channel::keyed(frames().map(|frame| (frame, Vec3::new(lying, 0.0, -rolled(frame) / RADIUS)))),
        )
}
