//! Bodies at the first frame.

use glam::Vec3;
use shot::{Copies, Element, Moves, Shape, Shot};
use simulate::solids::{drop_to_rest, separate, start_overlaps};

fn two(x: f32, y: f32) -> Shot {
    let mut shot = Shot::empty("Two");
    shot.add(Element::solid("Deck", Shape::plane(8.0, 8.0), Moves::Still));
    shot.add(Element::solid("A", Shape::cuboid(1.0, 1.0, 1.0), Moves::Free).at(0.0, 0.5, 0.0));
    shot.add(Element::solid("B", Shape::cuboid(1.0, 1.0, 1.0), Moves::Free).at(x, y, 0.0));
    shot
}

#[test]
fn overlapping_boxes_are_found_with_their_depth() {
    let shot = two(0.9, 0.5);
    let meshes = Default::default();
    let found = start_overlaps(&shot, &meshes).unwrap();
    assert_eq!(found.len(), 1);
    assert!((found[0].depth_m - 0.1).abs() < 1e-3, "{found:?}");
}

#[test]
fn boxes_side_by_side_do_not_count() {
    let shot = two(1.0, 0.5);
    assert!(start_overlaps(&shot, &Default::default()).unwrap().is_empty());
}

#[test]
fn separating_parts_elements_and_spreads_copies() {
    let mut shot = two(0.9, 0.4);
    let mut pile = Element::solid("Pile", Shape::sphere(0.2), Moves::Free).at(0.0, 3.0, 0.0);
    pile.as_solid_mut().unwrap().copies = Some(Copies {
        count: [3, 3, 3],
        spacing_m: Vec3::splat(0.38),
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 0,
    });
    shot.add(pile);
    let meshes = Default::default();
    for position in separate(&shot, &meshes).unwrap() {
        let element = shot.elements.iter_mut().find(|e| e.id == position.element).unwrap();
        element.shift(position.shift_m);
        if let Some(copies) = element.as_solid_mut().and_then(|solid| solid.copies.as_mut()) {
            copies.spacing_m *= position.spread;
        }
    }
    let left = start_overlaps(&shot, &meshes).unwrap();
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn a_box_dropped_to_rest_stands_on_what_is_below_it() {
    let shot = two(0.3, 6.0);
    let b = shot.named("B").unwrap().id;
    let start = shot.named("B").unwrap().placement.position_m;
    let position = start + drop_to_rest(&shot, &Default::default(), b).unwrap().unwrap();
    assert!((position - Vec3::new(0.3, 1.5, 0.0)).length() < 2e-3, "{position}");
}

#[test]
fn nothing_below_is_said() {
    let shot = two(20.0, 6.0);
    let b = shot.named("B").unwrap().id;
    assert_eq!(drop_to_rest(&shot, &Default::default(), b).unwrap(), None);
}
