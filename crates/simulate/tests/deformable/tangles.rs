//! Surfaces that cross at the start come apart, and those that do not never cross: checked by an exact test of edges against
//! triangles.

use super::crossings::crossings;
use super::{assert_goes_on_from_every_frame, pin, run, shot, without_gravity};
use glam::Vec3;
use rstest::rstest;
use shot::motion::Channel;
use shot::{Cloth, Copies, Element, Id, Moves, Pin, PinnedPart, Shape, Shot, Side, Soft};
use std::f32::consts::{PI, TAU};

fn sheet(shot: &mut Shot, size: [f32; 2], cloth: Cloth, place: impl Fn(Element) -> Element) -> Id {
    let mut element = Element::solid("Sheet", Shape::plane(size[0], size[1]), Moves::Free);
    element.as_solid_mut().unwrap().cloth = Some(cloth);
    shot.add(place(element))
}

/// Crossings in each frame.
fn counts(shot: &Shot, ids: &[Id]) -> Vec<usize> {
    let mut counts = Vec::new();
    run(shot, |frame| counts.push(crossings(frame, ids)));
    counts
}

/// A short sheet stands in the middle of a lying one.
fn crossed(seconds: f32) -> (Shot, [Id; 2]) {
    let mut shot = shot(seconds);
    without_gravity(&mut shot);
    let cloth = Cloth { edge_m: 0.05, ..Cloth::default() };
    let lying = sheet(&mut shot, [1.0, 1.0], cloth.clone(), |of| of);
    let standing = sheet(&mut shot, [0.4, 0.4], cloth, |of| of.at(0.01, 0.11, 0.013).turned(0.0, 0.0, 1.4));
    (shot, [lying, standing])
}

#[test]
fn sheets_that_cross_at_the_start_come_apart_and_stay_so() {
    let (shot, ids) = crossed(3.0);
    let counts = counts(&shot, &ids);
    assert!(counts[0] > 5, "{counts:?}");
    let free = counts.iter().position(|count| *count == 0).unwrap_or_else(|| panic!("{counts:?}"));
    assert!(counts[free..].iter().all(|count| *count == 0), "{counts:?}");
}

#[test]
fn a_sheet_that_begins_within_a_soft_body_comes_out_of_it() {
    let mut shot = shot(3.0);
    without_gravity(&mut shot);
    let mut ball = Element::solid("Ball", Shape::Sphere { radius_m: 0.15 }, Moves::Free);
    ball.as_solid_mut().unwrap().soft = Some(Soft { cell_m: 0.06, edge_m: 0.05, ..Soft::default() });
    let ball = shot.add(ball.at(0.0, 0.1, 0.0));
    let cloth = Cloth { edge_m: 0.05, ..Cloth::default() };
    let sheet = sheet(&mut shot, [0.8, 0.8], cloth, |of| of);
    let counts = counts(&shot, &[ball, sheet]);
    assert!(counts[0] > 5, "{counts:?}");
    assert_eq!(counts.last(), Some(&0), "{counts:?}");
}

#[test]
fn a_tangled_shot_goes_on_from_any_frame_with_the_same_bytes() {
    assert_goes_on_from_every_frame(&crossed(0.6).0);
}

/// A strip held at both ends, one of which is turned some times, and then let go.
#[rstest]
fn a_sheet_twisted_and_released_never_crosses_itself(
    #[values((4.0, 0.025), (4.6, 0.03))] (turned, edge_m): (f32, f32),
) {
    let mut shot = shot(4.0);
    without_gravity(&mut shot);
    let turner = Element::solid("Turner", Shape::cuboid(0.02, 0.02, 0.02), Moves::Animated);
    let turns = Channel::expression(&format!("{turned} * 2 * pi * min(1, (frame - 1) / 72)"));
    let turner = turner.at(0.5, 0.0, 0.0).keyed("placement.orientation_rad[0]", turns);
    let draws = Channel::expression("0.5 - 0.12 * min(1, (frame - 1) / 72)");
    let turner = shot.add(turner.keyed("placement.position_m[0]", draws));
    let held = Pin { to: Some(turner), ..pin(PinnedPart::Side(Side::Right)) };
    let cloth = Cloth { edge_m, pins: vec![pin(PinnedPart::Side(Side::Left)), held], ..Cloth::default() };
    let id = sheet(&mut shot, [1.0, 0.3], cloth, |of| {
        of.keyed("kind.solid.cloth.pins.0.holds", Channel::expression("frame < 80"))
            .keyed("kind.solid.cloth.pins.1.holds", Channel::expression("frame < 80"))
    });
    // The two long sides, from end to end.
    let mut sides: Vec<[usize; 2]> = Vec::new();
    let mut turns = 0.0f32;
    run(&shot, |frame| {
        assert_eq!(crossings(frame, &[id]), 0, "crossings in frame {}", frame.number);
        let at = &frame.meshes[&id].positions;
        if frame.number == shot.timing.first {
            let side = |z: f32| {
                let mut found: Vec<usize> = (0..at.len()).filter(|i| (at[*i].z - z).abs() < 1e-4).collect();
                found.sort_by(|a, b| at[*a].x.total_cmp(&at[*b].x));
                found
            };
            sides = side(-0.15).into_iter().zip(side(0.15)).map(|(a, b)| [a, b]).collect();
        }
        if frame.number == 76 {
            let across: Vec<f32> =
                sides.iter().map(|[a, b]| (at[*b].y - at[*a].y).atan2(at[*b].z - at[*a].z)).collect();
            let wrapped = |angle: f32| (angle + 3.0 * PI).rem_euclid(TAU) - PI;
            turns = across.windows(2).map(|pair| wrapped(pair[1] - pair[0])).sum::<f32>().abs() / TAU;
        }
    });
    assert!((turns - turned).abs() < 0.05, "{turns}");
}

#[test]
fn twenty_sheets_that_fall_on_each_other_never_cross() {
    let mut shot = shot(3.0);
    shot.add(Element::solid("Deck", Shape::plane(40.0, 40.0), Moves::Still));
    let cloth = Cloth { edge_m: 0.05, thickness_m: 0.01, ..Cloth::default() };
    let id = sheet(&mut shot, [0.4, 0.4], cloth, |of| of.at(0.0, 0.9, 0.0));
    shot.named_mut("Sheet").unwrap().as_solid_mut().unwrap().copies = Some(Copies {
        count: [1, 20, 1],
        spacing_m: Vec3::new(0.0, 0.08, 0.0),
        position_jitter_m: 0.03,
        orientation_jitter_rad: 0.4,
        seed: 5,
    });
    let counts = counts(&shot, &[id]);
    assert!(counts.iter().all(|count| *count == 0), "{counts:?}");
}
