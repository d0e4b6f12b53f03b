//! *Sail reveal*: a fish is stitched into a hanging sail as one watches: the seam grows from four places at once, holds the
//! sail and lets the cloth within billow.

use super::{File, quay, set};
use glam::Vec3;
use shot::{
    Camera, Cloth, Element, ElementKind, Moves, Pin, PinnedPart, Shape, Shot, Side,
    curve::Curve,
    force::{Force, ForceKind, Wind},
    light::AreaLight,
    look::Look,
    map::{LayerSource, Map, ScaledByMap, ScaledQuantity},
    motion::Channel,
    particles::{Emission, EmissionSchedule, Particles, Source, Start},
};

/// Middle of the sail, m.
const SAIL: Vec3 = Vec3::new(0.0, 1.55, -0.8);

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Sail reveal");
    shot.about = "A mark is stitched into a sail: a curve grows from four places and pins the cloth, beads are sewn on as it comes, and the breeze fills it.".to_owned();
    shot.timing.last = 120;
    let fish = Curve::Strokes { strokes_m: fish(), lettering: None };
    let seam = shot.add(Element::new("Seam", ElementKind::Curve(fish)).at(SAIL.x, SAIL.y, SAIL.z));
    let sail = shot.add(sail(seam));
    shot.add(Element::new("Beads", ElementKind::Particles(beads(sail, seam))));
    let wood =
        Look { image: Some("deal".to_owned()), albedo: Vec3::splat(0.45), roughness: 0.6, ..Look::default() };
    let yard = Shape::Cylinder { radius_m: 0.035, height_m: 2.7 };
    shot.add(quay::still("Yard", yard, wood.clone()).at(0.0, 2.5, -0.8).turned(
        0.0,
        0.0,
        std::f32::consts::FRAC_PI_2,
    ));
    for (name, x) in [("Left post", -1.28), ("Right post", 1.28)] {
        let post = Shape::Cylinder { radius_m: 0.05, height_m: 2.62 };
        shot.add(quay::still(name, post, wood.clone()).at(x, 1.31, -0.86));
    }
    let breath =
        Wind { speed_m_s: 2.2, gust: 0.6, gust_s: 0.9, eddy: 0.5, eddy_m: 0.6, seed: 4, ..Wind::default() };
    let breath = Element::new("Evening breath", ElementKind::Force(Force::new(ForceKind::Wind(breath))));
    shot.add(breath.at(0.0, 1.6, -3.0).turned(std::f32::consts::FRAC_PI_2, 0.0, 0.0));

    let camera = Camera {
        focal_length_mm: 40.0,
        f_stop: Some(5.6),
        focus_distance_m: 3.1,
        exposure: 0.0,
        ..Camera::default()
    };
    let camera =
        Element::new("Sail camera", ElementKind::Camera(camera)).at(0.62, 1.62, 2.25).turned(-0.02, 0.2, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::moorings(&mut shot, set::Lamps { glow: 1.6 });
    // Light that grazes the sail draws its folds.
    let grazing =
        AreaLight { size_m: glam::Vec2::new(0.5, 1.6), radiance: 34.0, colour: Vec3::new(1.0, 0.78, 0.55) };
    let grazing = Element::new("Grazing light", ElementKind::AreaLight(grazing));
    shot.add(grazing.at(-2.3, 1.7, -0.25).turned(0.0, 0.0, std::f32::consts::FRAC_PI_2));
    (shot, set::files())
}

/// The outline of a fish with its tail, and its eye.
fn fish() -> Vec<Vec<Vec3>> {
    let (length, height) = (0.62, 0.27);
    let back = |s: f32| {
        // From the mouth along the back to the tail.
        let x = -length + 1.55 * length * s;
        Vec3::new(x, height * (std::f32::consts::PI * s.powf(0.8)).sin(), 0.0)
    };
    let mut outline: Vec<Vec3> = (0..=24).map(|i| back(i as f32 / 24.0)).collect();
    let tail = outline[24].x;
    outline.extend([(0.26, 0.2), (0.2, 0.0), (0.26, -0.2)].map(|(x, y)| Vec3::new(tail + x, y, 0.0)));
    outline.extend((0..=24).rev().map(|i| back(i as f32 / 24.0) * Vec3::new(1.0, -1.0, 1.0)));
    let eye = (0..=12).map(|i| {
        let (sin, cos) = (std::f32::consts::TAU * i as f32 / 12.0).sin_cos();
        Vec3::new(-0.4 + 0.035 * cos, 0.05 + 0.035 * sin, 0.0)
    });
    vec![outline, eye.collect()]
}

/// Glass beads that are sewn on with the seam as it grows.
fn beads(sail: shot::Id, seam: shot::Id) -> Particles {
    let source = Source::Seam { solid: sail, curve: seam, starts: 4, lift: 0.7 };
    let emission = Emission {
        schedule: EmissionSchedule::Total { count: 104 },
        from_frame: Some(8),
        to_frame: Some(72),
        ..Emission::default()
    };
    let start =
        Start { lifespan_s: None, speed_m_s: 0.0, size_m: 0.022, size_variation: 0.12, ..Start::default() };
    let look = Look { albedo: Vec3::new(0.75, 0.28, 0.06), roughness: 0.12, ..Look::default() };
    let mut beads = Particles { source, emission, start, look, ..Particles::default() };
    beads.contact.enabled = false;
    beads
}

/// A sail that hangs from its yard, with a map of the seam that grows.
fn sail(seam: shot::Id) -> Element {
    let stitches = LayerSource::Curve { curve: seam, width_m: 0.014, edge_m: 0.0, grown: 0.0, starts: 4 };
    let fuller =
        ScaledByMap { quantity: ScaledQuantity::RestLength, map: "within".to_owned(), at_0: 1.0, at_1: 1.0 };
    let cloth = Cloth {
        edge_m: 0.024,
        mass_kg_m2: 0.22,
        bend_n_m: 6e-5,
        thickness_m: 0.003,
        pins: vec![
            Pin::hard(PinnedPart::Side(Side::Back)),
            Pin::hard(PinnedPart::Corners(Side::Front)),
            Pin::hard(PinnedPart::Map("stitches".to_owned())),
        ],
        scaled: vec![fuller],
        ..Cloth::default()
    };
    let mut sail = Element::solid("Sail", Shape::plane(2.3, 1.8), Moves::Free);
    let solid = sail.as_solid_mut().expect("a solid");
    solid.cloth = Some(cloth);
    let within = LayerSource::Inside { curve: seam, edge_m: 0.02 };
    solid.maps = vec![Map::of("stitches", stitches), Map::of("within", within)];
    solid.look = Look { albedo: Vec3::new(0.46, 0.4, 0.31), roughness: 0.85, ..Look::default() };
    let grows = Channel::keyed([(1.0, 0.0f32), (8.0, 0.0), (72.0, 1.0), (120.0, 1.0)]);
    let fills = Channel::keyed([(1.0, 1.0f32), (40.0, 1.0), (84.0, 1.22), (120.0, 1.22)]);
    // Its back side, −z at rest, is up.
    sail.at(SAIL.x, SAIL.y, SAIL.z)
        .turned(std::f32::consts::FRAC_PI_2, 0.0, 0.0)
        .keyed("kind.solid.maps.0.layers.0.source.curve.grown", grows)
        .keyed("kind.solid.cloth.scaled.0.at_1", fills)
}
