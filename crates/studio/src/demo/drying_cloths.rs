//! *Drying cloths*: one looped run of a cloth on a line, shown two hundred times, each at a time of its own.

use super::{File, quay, set};
use glam::Vec3;
use shot::{
    Camera, Cloth, Copies, Element, ElementKind, Moves, Pin, PinnedPart, Shape, Shot, Side,
    finish::{Finish, FinishOperation},
    force::{Force, ForceKind, Wind},
    look::Look,
};

/// Frames of the loop, and those blended into it.
const ROUND: u32 = 72;
const BLENDED: u32 = 20;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Drying cloths");
    shot.about =
        "One cloth in a breeze, looped over 72 frames and hung on ten lines two hundred times, each at its own time."
            .to_owned();
    shot.timing.last = ROUND + BLENDED;
    let cloth = shot.add(cloth());
    let breeze =
        Wind { speed_m_s: 1.5, gust: 0.5, gust_s: 0.8, eddy: 0.6, eddy_m: 0.5, seed: 11, ..Wind::default() };
    let breeze = Element::new("Breeze", ElementKind::Force(Force::new(ForceKind::Wind(breeze))));
    shot.add(breeze.at(-4.8, 2.0, 3.0).turned(std::f32::consts::FRAC_PI_2, 2.6, 0.0));
    let round = FinishOperation::Loop {
        frames: ROUND,
        from_frame: BLENDED + 1,
        overlap: BLENDED,
        first_stands: false,
    };
    let hung = FinishOperation::Copies {
        grid: lines(),
        delay_frames: 29,
        delay_jitter_frames: 9,
        size_variation: 0.0,
    };
    for (order, name, operation) in [(0, "Goes round", round), (1, "On all lines", hung)] {
        let finish = Finish { element: Some(cloth), order, ..Finish::new(operation) };
        shot.add(Element::new(name, ElementKind::Finish(finish)));
    }
    let wood =
        Look { image: Some("deal".to_owned()), albedo: Vec3::splat(0.4), roughness: 0.7, ..Look::default() };
    let spread = Vec3::new(9.9, 1.0, 1.15);
    let post = quay::still("Posts", Shape::Cylinder { radius_m: 0.045, height_m: 2.2 }, wood);
    shot.add(in_rows(post, [2, 1, 10], spread).at(0.0, 1.1, 0.0));
    let hemp = Look { albedo: Vec3::new(0.5, 0.4, 0.26), roughness: 0.9, ..Look::default() };
    let line = quay::still("Lines", Shape::Cylinder { radius_m: 0.008, height_m: 9.9 }, hemp);
    shot.add(in_rows(line, [1, 1, 10], spread).at(0.0, 2.05, 0.0).turned(0.0, 0.0, 0.0));
    if let Some(line) = shot.named_mut("Lines") {
        line.placement.orientation_rad = Vec3::new(0.0, 0.0, std::f32::consts::FRAC_PI_2);
    }

    let camera = Camera {
        focal_length_mm: 31.0,
        f_stop: Some(8.0),
        focus_distance_m: 6.0,
        exposure: 0.05,
        ..Camera::default()
    };
    let camera =
        Element::new("Line camera", ElementKind::Camera(camera)).at(2.6, 3.5, 8.6).turned(-0.27, 0.3, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::moorings(&mut shot, set::Lamps { glow: 1.5 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 9.0, Vec3::new(0.55, 0.75, 1.0));
    (shot, set::files())
}

fn in_rows(mut element: Element, count: [u32; 3], spacing_m: Vec3) -> Element {
    element.as_solid_mut().expect("a solid").copies =
        Some(Copies { count, spacing_m, position_jitter_m: 0.0, orientation_jitter_rad: 0.0, seed: 1 });
    element
}

/// Where the cloths hang.
fn lines() -> Copies {
    Copies {
        count: [20, 1, 10],
        spacing_m: Vec3::new(0.49, 1.0, 1.15),
        position_jitter_m: 0.02,
        orientation_jitter_rad: 0.05,
        seed: 3,
    }
}

/// A cloth of 0.42 × 0.7 m that hangs by its upper side.
fn cloth() -> Element {
    let linen = Cloth {
        edge_m: 0.045,
        mass_kg_m2: 0.14,
        bend_n_m: 8e-6,
        thickness_m: 0.003,
        preroll_s: 1.5,
        pins: vec![Pin::hard(PinnedPart::Side(Side::Back))],
        ..Cloth::default()
    };
    let mut cloth = Element::solid("Cloth", Shape::plane(0.42, 0.7), Moves::Free);
    let solid = cloth.as_solid_mut().expect("a solid");
    solid.cloth = Some(linen);
    solid.look =
        Look { albedo: Vec3::new(0.66, 0.6, 0.5), roughness: 0.85, variation: 0.25, ..Look::default() };
    cloth.at(0.0, 1.69, 0.0).turned(std::f32::consts::FRAC_PI_2, 0.0, 0.0)
}
