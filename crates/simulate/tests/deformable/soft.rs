//! Soft bodies: they fall, bounce, squash, are held, meet others, and go on from a saved state as if they had never stopped.

use super::crossings::crossings;
use super::{assert_goes_on_from_every_frame, pin, places, run, shot};
use frames::Frame;
use geometry::Meshes;
use glam::Vec3;
use rstest::rstest;
use shot::{Cloth, Element, Id, Moves, PinnedPart, Shape, Shot, Side, Soft};
use simulate::Simulation;

fn soft(shot: &mut Shot, name: &str, shape: Shape, at: Vec3, soft: Soft) -> Id {
    let mut element = Element::solid(name, shape, Moves::Free).at(at.x, at.y, at.z);
    element.as_solid_mut().unwrap().soft = Some(soft);
    shot.add(element)
}

fn height(frame: &Frame, id: Id) -> (f32, f32) {
    places(frame, id)
        .iter()
        .fold((f32::INFINITY, f32::NEG_INFINITY), |(low, high), p| (low.min(p.y), high.max(p.y)))
}

#[test]
fn a_free_ball_falls_as_the_formula_has_it_and_stays_round() {
    let mut shot = shot(1.0);
    let id = soft(&mut shot, "Ball", Shape::sphere(0.25), Vec3::Y * 10.0, Soft::default());
    let mut first = 0.0;
    let last = run(&shot, |frame| {
        let (low, high) = height(frame, id);
        first = if frame.number == shot.timing.first { high - low } else { first };
    });
    let (low, high) = height(&last, id);
    assert!((0.5 * (low + high) - (10.0 - 0.5 * 9.81)).abs() < 0.03, "{low} {high}");
    assert!((high - low - first).abs() < 1e-4, "{} and {first}", high - low);
}

#[test]
fn a_dropped_ball_squashes_bounces_and_never_sinks_in() {
    let mut shot = shot(2.0);
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    let id = soft(&mut shot, "Ball", Shape::sphere(0.25), Vec3::Y * 1.0, Soft::default());
    let mut heights: Vec<(f32, f32)> = Vec::new();
    run(&shot, |frame| heights.push(height(frame, id)));
    let lowest = heights.iter().map(|(low, _)| *low).fold(f32::INFINITY, f32::min);
    assert!(lowest > -0.002, "{lowest}");
    let flattest = heights.iter().map(|(low, high)| high - low).fold(f32::INFINITY, f32::min);
    assert!((0.25..0.45).contains(&flattest), "squashed to {flattest}");
    let at = heights.iter().position(|(low, high)| high - low == flattest).unwrap();
    let bounced = heights[at..].iter().map(|(low, _)| *low).fold(0.0, f32::max);
    assert!(bounced > 0.15, "bounced to {bounced}");
}

#[rstest]
#[case(0.0)]
#[case(0.3)]
#[case(0.45)]
fn a_block_under_its_weight_is_pressed_as_the_formula_has_it(#[case] poisson_ratio: f32) {
    let mut shot = shot(3.0);
    let (density, modulus, length) = (1_000.0f32, 200_000.0f32, 0.8f32);
    let id = soft(
        &mut shot,
        "Bar",
        Shape::cuboid(0.16, length, 0.16),
        Vec3::ZERO,
        Soft {
            cell_m: 0.04,
            edge_m: 0.08,
            density_kg_m3: density,
            youngs_modulus_pa: modulus,
            poisson_ratio,
            damping_s: 0.05,
            pins: vec![pin(PinnedPart::Side(Side::Top))],
            ..Soft::default()
        },
    );
    let last = run(&shot, |_| ());
    let (low, high) = height(&last, id);
    // Hung by its top: ρ g L² / (2 E).
    let expected = density * 9.81 * length * length / (2.0 * modulus);
    let stretch = high - low - length;
    assert!((stretch / expected - 1.0).abs() < 0.06, "{stretch} for {expected}");
}

#[test]
fn balls_and_cloth_lie_on_each_other_and_do_not_cross() {
    let mut shot = shot(2.0);
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    let of = Soft { cell_m: 0.08, edge_m: 0.08, ..Soft::default() };
    let low = soft(&mut shot, "Low", Shape::sphere(0.2), Vec3::new(0.0, 0.21, 0.0), of.clone());
    let high = soft(&mut shot, "High", Shape::cuboid(0.3, 0.2, 0.3), Vec3::new(0.02, 0.6, 0.0), of);
    let mut sheet = Element::solid("Sheet", Shape::plane(0.9, 0.9), Moves::Free).at(0.0, 0.85, 0.0);
    sheet.as_solid_mut().unwrap().cloth = Some(Cloth { edge_m: 0.05, ..Cloth::default() });
    let sheet = shot.add(sheet);
    run(&shot, |frame| {
        assert_eq!(crossings(frame, &[low, high, sheet]), 0, "crossings in frame {}", frame.number);
        let centre = frame.bodies[&low].positions[0];
        // No point of the others is deep in the ball, which stays about round.
        for p in [high, sheet].iter().flat_map(|id| places(frame, *id)) {
            assert!(p.distance(centre) > 0.08, "{p} in the ball at {centre}, frame {}", frame.number);
            assert!(p.y > -0.003, "{p} below the deck");
        }
    });
}

#[test]
fn a_run_that_goes_on_from_any_frame_has_the_same_bytes() {
    let mut shot = shot(0.8);
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    let of = Soft { cell_m: 0.1, edge_m: 0.1, ..Soft::default() };
    soft(&mut shot, "Ball", Shape::sphere(0.2), Vec3::new(0.0, 0.4, 0.0), of.clone());
    soft(&mut shot, "Block", Shape::cuboid(0.3, 0.3, 0.3), Vec3::new(0.1, 0.85, 0.0), of);
    assert_goes_on_from_every_frame(&shot);
}

#[test]
fn an_open_mesh_is_refused_with_what_to_do() {
    let mut shot = shot(0.5);
    soft(&mut shot, "Awning", Shape::plane(1.0, 1.0), Vec3::Y, Soft::default());
    let error = Simulation::new(&shot, &Meshes::default()).err().unwrap().to_string();
    assert!(error.contains("Awning") && error.contains("make it cloth"), "{error}");
}

#[test]
fn a_body_of_too_many_cells_is_refused_before_it_is_made() {
    let mut shot = shot(0.5);
    let of = Soft { cell_m: 0.001, ..Soft::default() };
    soft(&mut shot, "Float", Shape::sphere(5.0), Vec3::Y, of);
    let error = Simulation::new(&shot, &Meshes::default()).err().unwrap().to_string();
    assert!(error.contains("Float") && error.contains("longer cells"), "{error}");
}

/// What is put down on a plane starts exactly on it.
#[test]
fn what_begins_on_a_plane_stays_above_it() {
    let mut shot = shot(1.0);
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    let block = soft(&mut shot, "Block", Shape::cuboid(0.4, 0.4, 0.4), Vec3::Y * 0.2, Soft::default());
    let mut sheet = Element::solid("Sheet", Shape::plane(0.5, 0.5), Moves::Free).at(1.0, 0.0, 0.0);
    sheet.as_solid_mut().unwrap().cloth = Some(Cloth { edge_m: 0.05, ..Cloth::default() });
    let sheet = shot.add(sheet);
    let last = run(&shot, |_| ());
    for id in [block, sheet] {
        assert!(height(&last, id).0 > 0.0, "{:?}", height(&last, id));
    }
    assert!(height(&last, block).1 > 0.35);
}

/// Copies of different sizes that are placed one by one behave as bodies of those sizes.
#[test]
fn placed_copies_fall_and_rest_by_their_own_size() {
    let mut shot = shot(3.0);
    shot.add(Element::solid("Ground", Shape::plane(9.0, 9.0), Moves::Still));
    let mut element = Element::solid("Floats", Shape::sphere(0.1), Moves::Free).at(0.0, 0.5, 0.0);
    let solid = element.as_solid_mut().unwrap();
    let material =
        Soft { cell_m: 0.05, edge_m: 0.05, youngs_modulus_pa: 60_000.0, damping_s: 0.05, ..Soft::default() };
    solid.soft = Some(material);
    let copy = |x: f32, size: f32| shot::PlacedCopy {
        position_m: Vec3::new(x, 0.0, 0.0),
        orientation_rad: Vec3::new(0.3, x, 0.0),
        size,
    };
    solid.placed = vec![copy(-0.6, 0.5), copy(0.0, 1.0), copy(0.7, 2.0)];
    let id = shot.add(element);
    let last = run(&shot, |_| ());
    let all = places(&last, id);
    let one = all.len() / 3;
    for (copy, radius) in all.chunks(one).zip([0.05, 0.1, 0.2]) {
        let middle = copy.iter().sum::<Vec3>() / one as f32;
        // It rests on the ground, flattened a little by its weight.
        assert!((0.85..1.08).contains(&(middle.y / radius)), "{} of {radius}", middle.y);
    }
    shot.timing.last = shot.timing.first + 12;
    assert_goes_on_from_every_frame(&shot);
}
