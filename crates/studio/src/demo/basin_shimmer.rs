//! *Basin shimmer*: a stretched sheet shaken by eddies reads as the water of a stone basin, and loops over 84 frames.

use super::{File, assets, quay, set};
use glam::Vec3;
use shot::{
    Camera, Cloth, Element, ElementKind, Moves, Pin, PinSpring, PinnedPart, Shape, Shot,
    finish::{Finish, FinishOperation, SubdivisionScheme},
    force::{Force, ForceKind, Turbulence},
    look::Look,
    map::{LayerSource, Map},
};

/// Frames of the loop, and those blended into it.
const ROUND: u32 = 84;
const BLENDED: u32 = 24;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Basin shimmer");
    shot.about =
        "A sheet shaken by eddies as water in a basin: already moving at frame 1, and round after 84."
            .to_owned();
    shot.timing.last = ROUND + BLENDED;
    let water = shot.add(water());
    let eddies = Turbulence { speed_m_s: 2.6, size_m: 0.42, loop_s: Some(3.5), ..Turbulence::default() };
    let mut eddies = Force::new(ForceKind::Turbulence(eddies));
    eddies.only = vec![shot::force::ElementFilter::Element(water)];
    shot.add(Element::new("Eddies", ElementKind::Force(eddies)).at(0.0, 1.2, 0.0));
    let round = FinishOperation::Loop {
        frames: ROUND,
        from_frame: BLENDED + 1,
        overlap: BLENDED,
        first_stands: false,
    };
    let fine = FinishOperation::Subdivide {
        scheme: SubdivisionScheme::Loop,
        levels: 1,
        crease_angle_rad: None,
        crease_group: None,
        crease_map: None,
    };
    for (order, name, operation) in [(0, "Goes round", round), (1, "Smooth", fine)] {
        let finish = Finish { element: Some(water), order, ..Finish::new(operation) };
        shot.add(Element::new(name, ElementKind::Finish(finish)));
    }
    let stone = Look {
        image: Some("granite".to_owned()),
        albedo: Vec3::splat(0.7),
        roughness: 0.5,
        ..Look::default()
    };
    for (name, size, at) in [
        ("Front wall", Vec3::new(2.4, 0.5, 0.2), Vec3::new(0.0, 0.25, 0.9)),
        ("Back wall", Vec3::new(2.4, 0.5, 0.2), Vec3::new(0.0, 0.25, -0.9)),
        ("Left wall", Vec3::new(0.2, 0.5, 1.6), Vec3::new(-1.1, 0.25, 0.0)),
        ("Right wall", Vec3::new(0.2, 0.5, 1.6), Vec3::new(1.1, 0.25, 0.0)),
        ("Floor", Vec3::new(2.0, 0.06, 1.6), Vec3::new(0.0, 0.04, 0.0)),
    ] {
        shot.add(
            quay::still(name, Shape::cuboid(size.x, size.y, size.z), stone.clone()).at(at.x, at.y, at.z),
        );
    }
    let camera = Camera {
        focal_length_mm: 40.0,
        f_stop: Some(5.6),
        focus_distance_m: 2.6,
        exposure: 0.3,
        ..Camera::default()
    };
    let camera =
        Element::new("Basin camera", ElementKind::Camera(camera)).at(1.0, 1.35, 2.6).turned(-0.36, 0.34, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 2.2 });
    let mut files = set::files();
    files.push(("granite", "granite.png", assets::granite()));
    (shot, files)
}

/// A sheet under tension, drawn back to its level.
fn water() -> Element {
    let level = Pin {
        spring: Some(PinSpring { frequency_hz: 1.1, damping_ratio: 0.06 }),
        ..Pin::hard(PinnedPart::Whole {})
    };
    let cloth = Cloth {
        edge_m: 0.05,
        mass_kg_m2: 1.0,
        warp_n_m: 20.0,
        weft_n_m: 20.0,
        shear_n_m: 8.0,
        poisson_ratio: 0.3,
        bend_n_m: 1e-4,
        damping_s: 0.002,
        rest_length: 0.94,
        drag: 2.0,
        lift: 2.0,
        preroll_s: 3.0,
        pins: vec![Pin::hard(PinnedPart::Map("rim".to_owned())), level],
        ..Cloth::default()
    };
    let mut water = Element::solid("Water", Shape::plane(2.0, 1.6), Moves::Free);
    let solid = water.as_solid_mut().expect("a solid");
    solid.cloth = Some(cloth);
    solid.maps = vec![Map::of("rim", LayerSource::Border { width_m: 0.02 })];
    solid.look = Look {
        albedo: Vec3::new(0.05, 0.16, 0.17),
        roughness: 0.04,
        refractive_index: 1.5,
        ..Look::default()
    };
    water.at(0.0, 0.4, 0.0)
}
