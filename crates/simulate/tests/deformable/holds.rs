//! What pins hold: by springs, by maps, by a place, by the centre of mass, and to other solids.

use super::{assert_goes_on_from_every_frame, even_pull, pin, places, run, shot, without_gravity};
use frames::Frame;
use glam::Vec3;
use rstest::rstest;
use shot::curve::Curve;
use shot::map::{LayerSource, Map};
use shot::motion::Channel;
use shot::{Cloth, Element, ElementKind, Id, Moves, Pin, PinSpring, PinnedPart, Shape, Shot, Side, Soft};
use std::f32::consts::TAU;

fn sheet(shot: &mut Shot, cloth: Cloth, maps: Vec<Map>) -> Id {
    let mut element = Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Free).at(0.0, 2.0, 0.0);
    let solid = element.as_solid_mut().unwrap();
    (solid.cloth, solid.maps) = (Some(cloth), maps);
    shot.add(element)
}

/// From 0 at frame 1 to 1 at frame 13.
fn rising() -> Channel {
    Channel::expression("min(1, (frame - 1) / 12)")
}

fn mean(list: &[Vec3]) -> Vec3 {
    list.iter().sum::<Vec3>() / list.len() as f32
}

/// Springs at all points let a body sag by g / (2π f)², whatever its resolution and stiffness.
#[rstest]
#[case(0.2, 3.0, 15_000.0)]
#[case(0.1, 2.0, 400_000.0)]
fn springs_let_a_body_sag_by_their_frequency(
    #[case] cell_m: f32,
    #[case] frequency_hz: f32,
    #[case] youngs: f32,
) {
    let mut shot = shot(3.0);
    let spring = PinSpring { frequency_hz, damping_ratio: 0.5 };
    let soft = Soft {
        cell_m,
        edge_m: 0.2,
        youngs_modulus_pa: youngs,
        drag: 0.0,
        pins: vec![Pin { spring: Some(spring), ..pin(PinnedPart::Whole {}) }],
        ..Soft::default()
    };
    let mut element = Element::solid("Block", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free).at(3.0, 5.0, -2.0);
    element.as_solid_mut().unwrap().soft = Some(soft);
    let id = shot.add(element);
    let last = run(&shot, |_| ());
    let sag = 5.0 - mean(&places(&last, id)).y;
    let expected = 9.81 / (TAU * frequency_hz).powi(2);
    assert!((sag / expected - 1.0).abs() < 0.02, "{sag} for {expected}");
}

#[test]
fn a_centre_is_held_and_the_body_stays_soft() {
    let mut shot = shot(2.0);
    let cloth = Cloth { edge_m: 0.05, pins: vec![pin(PinnedPart::Centre {})], ..Cloth::default() };
    let id = sheet(&mut shot, cloth, Vec::new());
    let last = run(&shot, |_| ());
    let all = places(&last, id);
    assert!(mean(&all).distance(Vec3::Y * 2.0) < 0.01, "{}", mean(&all));
    let low = all.iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
    let high = all.iter().map(|p| p.y).fold(f32::NEG_INFINITY, f32::max);
    assert!(high - low < 0.2, "a sheet held by its centre falls as one: {low} {high}");
}

#[test]
fn a_pin_at_a_place_holds_what_is_around_it() {
    let mut shot = shot(1.0);
    let at = PinnedPart::Point { position_m: Vec3::new(0.2, 0.0, 0.1), radius_m: 0.101 };
    let id = sheet(&mut shot, Cloth { edge_m: 0.05, pins: vec![pin(at)], ..Cloth::default() }, Vec::new());
    let start = run(&shot, |_| ());
    let held = |p: &Vec3| (p.y - 2.0).abs() < 1e-4;
    let all = places(&start, id);
    let count = all.iter().filter(|p| held(p)).count();
    // Of points 0.05 m apart 13 lie within a circle of two of those.
    assert_eq!(count, 13);
}

fn carried(shot: &mut Shot) -> Id {
    let rail = Element::solid("Rail", Shape::cuboid(0.1, 0.1, 1.0), Moves::Animated).at(0.0, 4.0, 0.0);
    let rail = shot.add(rail.keyed("placement.position_m[0]", rising()));
    let held = Pin { to: Some(rail), ..pin(PinnedPart::Side(Side::Left)) };
    sheet(shot, Cloth { edge_m: 0.1, pins: vec![held], ..Cloth::default() }, Vec::new())
}

#[test]
fn a_pin_to_a_solid_goes_with_it() {
    let mut shot = shot(1.0);
    let id = carried(&mut shot);
    run(&shot, |frame| {
        let carried = ((frame.number as f32 - 1.0) / 12.0).min(1.0);
        let held = places(frame, id)
            .iter()
            .filter(|p| p.distance(Vec3::new(carried - 0.5, 2.0, p.z)) < 1e-3)
            .count();
        assert_eq!(held, 11, "frame {}", frame.number);
    });
    assert_goes_on_from_every_frame(&shot);
}

/// A curve that grows over a falling sheet from two starts at once and holds what it reaches.
fn stitched(shot: &mut Shot) -> Id {
    let points_m = vec![Vec3::new(-0.5, 0.0, 0.0), Vec3::new(0.5, 0.0, 0.0)];
    let curve = Curve::Points { points_m, closed: false, smooth: false };
    let curve = shot.add(Element::new("Line", ElementKind::Curve(curve)).at(0.0, 2.0, 0.0));
    let source = LayerSource::Curve { curve, width_m: 0.06, edge_m: 0.0, grown: 0.0, starts: 2 };
    let pins = vec![pin(PinnedPart::Map("stitches".to_owned()))];
    let id = sheet(shot, Cloth { edge_m: 0.05, pins, ..Cloth::default() }, vec![Map::of("stitches", source)]);
    let element = shot.elements.iter_mut().find(|element| element.id == id).unwrap();
    element.channels.insert("kind.solid.maps.0.layers.0.source.curve.grown".to_owned(), rising());
    id
}

#[test]
fn a_growing_curve_pins_more_and_more() {
    let mut shot = shot(1.0);
    let id = stitched(&mut shot);
    let mut before: Option<Frame> = None;
    let mut counts = Vec::new();
    run(&shot, |frame| {
        if let Some(before) = &before {
            let (a, b) = (places(before, id), places(frame, id));
            counts.push(a.iter().zip(&b).filter(|(a, b)| a.distance(**b) < 1e-6).count());
        }
        before = Some(frame.clone());
    });
    assert!(counts[2] > 3 && counts[2] < counts[8] && counts[8] < counts[14], "{counts:?}");
    // Three rows of 21 points.
    assert_eq!(*counts.last().unwrap(), 63, "{counts:?}");
    assert_goes_on_from_every_frame(&shot);
}

/// A spring weighted by a map pulls where the map is strong.
#[test]
fn springs_are_as_strong_as_their_map() {
    let mut shot = shot(2.0);
    let spring = PinSpring { frequency_hz: 3.0, damping_ratio: 1.0 };
    let by_map = Pin { spring: Some(spring), ..pin(PinnedPart::Map("side".to_owned())) };
    // Too weak against stretch and shear to hold itself.
    let cloth = Cloth {
        edge_m: 0.1,
        warp_n_m: 0.1,
        weft_n_m: 0.1,
        shear_n_m: 0.0,
        pins: vec![by_map],
        ..Cloth::default()
    };
    without_gravity(&mut shot);
    let map = Map::of("side", LayerSource::Side { side: Side::Right });
    let id = sheet(&mut shot, cloth, vec![map]);
    let push = Vec3::new(0.0, -1.0, 0.0);
    shot.add(even_pull(push));
    let last = run(&shot, |_| ());
    for p in places(&last, id).iter().filter(|p| p.x > 0.05) {
        let weight = p.x + 0.5;
        let expected = 1.0 / (weight * (TAU * 3.0).powi(2));
        assert!(((2.0 - p.y) / expected - 1.0).abs() < 0.1, "{p}: {expected}");
    }
}

/// A region without keys of its own that an animated solid carries over a sheet.
#[test]
fn a_map_of_a_region_follows_what_carries_the_region() {
    let mut shot = shot(1.0);
    let rail = Element::solid("Rail", Shape::cuboid(0.1, 0.1, 1.0), Moves::Animated).at(0.0, 4.0, 0.0);
    let rail = shot.add(rail.keyed("placement.position_m[0]", rising()));
    let volume = shot::region::Volume::Box { size_m: Vec3::new(0.3, 10.0, 2.0) };
    let mut region = Element::new("Sweep", ElementKind::Region(shot::region::Region::new(volume)));
    region.attached = Some(shot::Attached { to: rail, along: None, facing: false });
    region.placement.position_m = Vec3::new(-0.5, 0.0, 0.0);
    let region = shot.add(region);
    let pins = vec![pin(PinnedPart::Map("swept".to_owned()))];
    let map = Map::of("swept", LayerSource::Region { region });
    let id = sheet(&mut shot, Cloth { edge_m: 0.1, pins, ..Cloth::default() }, vec![map]);
    let mut before: Option<Frame> = None;
    // Where the points that stay are in the sheet at rest: what is not held hangs by then.
    let (mut held_at, mut rest) = (Vec::new(), Vec::new());
    run(&shot, |frame| {
        if let Some(before) = &before {
            let (a, b) = (places(before, id), places(frame, id));
            let stays = |i: &usize| a[*i].distance(b[*i]) < 1e-6;
            let held: Vec<Vec3> = (0..a.len()).filter(stays).map(|i| rest[i]).collect();
            held_at.push((held.len(), if held.is_empty() { 0.0 } else { mean(&held).x }));
        }
        if rest.is_empty() {
            rest = places(frame, id);
        }
        before = Some(frame.clone());
    });
    let (early, late) = (held_at[1], held_at[14]);
    assert!(early.0 > 0 && late.0 > 0 && late.1 > early.1 + 0.5, "{held_at:?}");
    assert_goes_on_from_every_frame(&shot);
}
