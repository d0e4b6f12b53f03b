//! Sheets do not pass through themselves or each other: checked by an exact test of edges against triangles.

use super::crossings::crossings;
use super::{assert_goes_on_from_every_frame, run};
use frames::Frame;
use glam::Vec3;
use rstest::rstest;
use shot::{Cloth, Copies, Element, Id, Moves, Pin, PinnedPart, Shape, Shot, Side};

/// A shot with a deck.
fn shot(seconds: f32) -> Shot {
    let mut shot = super::shot(seconds);
    shot.add(Element::solid("Deck", Shape::plane(40.0, 40.0), Moves::Still));
    shot
}

fn sheet(shot: &mut Shot, size: [f32; 2], height: f32, cloth: Cloth) -> Id {
    let mut element =
        Element::solid("Sheet", Shape::plane(size[0], size[1]), Moves::Free).at(0.0, height, 0.0);
    element.as_solid_mut().unwrap().cloth = Some(cloth);
    shot.add(element)
}

fn holds(shot: &Shot, id: Id, after: impl Fn(&Frame)) {
    let last = run(shot, |frame| {
        // A flat sheet in one plane cannot be told from one that crosses itself.
        if frame.number == shot.timing.first {
            return;
        }
        assert_eq!(crossings(frame, &[id]), 0, "crossings in frame {}", frame.number);
    });
    after(&last);
}

#[rstest]
fn a_hanging_sheet_that_is_let_go_folds_onto_itself(#[values(0.004, 0.01)] thickness_m: f32) {
    let mut shot = shot(1.5);
    let pins = vec![Pin { holds: false, ..Pin::hard(PinnedPart::Side(Side::Left)) }];
    let id =
        sheet(&mut shot, [1.0, 0.4], 0.8, Cloth { edge_m: 0.025, thickness_m, pins, ..Cloth::default() });
    shot.named_mut("Sheet").unwrap().placement.orientation_rad = Vec3::new(0.0, 0.3, 1.5);
    holds(&shot, id, |frame| {
        let highest = frame.meshes[&id].positions.iter().map(|p| p.y).fold(f32::MIN, f32::max);
        let centre = frame.bodies[&id].positions[0].y;
        assert!(highest + centre < 0.5, "{}", highest + centre);
    });
}

/// Sheets of 1 cm that fall on each other.
fn pile(count: u32, seconds: f32) -> (Shot, Id) {
    let mut shot = shot(seconds);
    let cloth = Cloth { edge_m: 0.05, thickness_m: 0.01, ..Cloth::default() };
    let id = sheet(&mut shot, [0.4, 0.4], 0.1, cloth);
    shot.named_mut("Sheet").unwrap().as_solid_mut().unwrap().copies = Some(Copies {
        count: [1, count, 1],
        spacing_m: Vec3::new(0.0, 0.06, 0.0),
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.1,
        seed: 3,
    });
    (shot, id)
}

#[test]
fn sheets_that_fall_on_each_other_lie_in_a_pile_of_their_thickness() {
    let (shot, id) = pile(6, 2.0);
    holds(&shot, id, |frame| {
        // The middles of sheets of 1 cm on each other: 1, 2, … 6 cm.
        let middle = frame.bodies[&id].positions[0].y;
        assert!((middle - 0.035).abs() < 0.005, "{middle}");
    });
}

#[test]
fn a_pile_that_goes_on_from_any_frame_has_the_same_bytes() {
    let (shot, _) = pile(3, 0.6);
    assert_goes_on_from_every_frame(&shot);
}
