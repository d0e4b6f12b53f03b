//! Sheets that tear: where they are weak, at the stretch that they bear, and as one bake or many.

use super::{assert_goes_on_from_every_frame, pin, places, run, shot, without_gravity};
use frames::Frame;
use geometry::{Mesh, Meshes, primitive};
use glam::Vec3;
use shot::map::{LayerSource, Map};
use shot::motion::Channel;
use shot::region::{Region, Volume};
use shot::{Cloth, Element, ElementKind, Id, Moves, Pin, PinnedPart, Shape, Shot, Side};
use simulate::Simulation;
use std::sync::Arc;

const EDGE_M: f32 = 0.1;

/// A sheet between a still side and a bar that draws it out by 0.5 m, weak along x = 0.
fn drawn(seconds: f32) -> (Shot, Id) {
    let mut shot = shot(seconds);
    without_gravity(&mut shot);
    let line = Region::new(Volume::Box { size_m: Vec3::new(0.5 * EDGE_M, 2.0, 12.0) });
    let line = shot.add(Element::new("Line", ElementKind::Region(line)).at(0.0, 1.0, 0.0));
    let bar = Element::solid("Bar", Shape::cuboid(0.1, 0.1, 1.0), Moves::Animated).at(2.0, 3.0, 0.0);
    let bar = bar.keyed("placement.position_m[0]", Channel::expression("2 + 0.5 * min(1, (frame - 1) / 24)"));
    let bar = shot.add(bar);
    let mut sheet = Element::solid("Sheet", Shape::plane(1.0, 0.8), Moves::Free).at(0.0, 1.0, 0.0);
    let solid = sheet.as_solid_mut().unwrap();
    solid.cloth = Some(Cloth {
        edge_m: EDGE_M,
        tear_strain: Some(0.15),
        tear_map: Some("weak".to_owned()),
        drag: 0.0,
        lift: 0.0,
        damping_s: 0.01,
        pins: vec![
            pin(PinnedPart::Side(Side::Left)),
            Pin { to: Some(bar), ..pin(PinnedPart::Side(Side::Right)) },
        ],
        ..Cloth::default()
    });
    solid.maps = vec![Map::of("weak", LayerSource::Region { region: line })];
    let id = shot.add(sheet);
    (shot, id)
}

/// Lengths of all edges, m.
fn edges(frame: &Frame, id: Id) -> Vec<f32> {
    let at = places(frame, id);
    let triangles = frame.meshes[&id].topology.triangles().to_vec();
    let of = |[a, b, c]: [u32; 3]| [(a, b), (b, c), (c, a)];
    triangles.into_iter().flat_map(of).map(|(a, b)| at[a as usize].distance(at[b as usize])).collect()
}

#[test]
fn a_sheet_parts_where_it_is_weak_and_both_parts_stay_whole() {
    let (shot, id) = drawn(2.5);
    let mut counts = Vec::new();
    let last = run(&shot, |frame| counts.push(frame.meshes[&id].positions.len()));
    assert!(counts[1] == counts[0] && counts.is_sorted(), "{counts:?}");
    // The nine points of the line are two each.
    assert_eq!(*counts.last().unwrap(), counts[0] + 9);
    let at = places(&last, id);
    let (left, right): (Vec<Vec3>, Vec<Vec3>) = at.iter().partition(|p| p.x < 0.25);
    let (end, start) = (
        left.iter().map(|p| p.x).fold(f32::NEG_INFINITY, f32::max),
        right.iter().map(|p| p.x).fold(f32::INFINITY, f32::min),
    );
    assert!(start - end > 0.3, "the parts are {} m apart", start - end);
    assert!(edges(&last, id).iter().all(|length| *length < 1.7 * EDGE_M), "no edge spans the tear");
}

#[test]
fn a_torn_sheet_goes_on_from_every_frame() {
    let (shot, _) = drawn(1.2);
    assert_goes_on_from_every_frame(&shot);
}

#[test]
fn copies_tear_each_for_itself_and_those_that_do_not_are_whole() {
    let (mut shot, id) = drawn(2.0);
    let solid = shot.named_mut("Sheet").unwrap().as_solid_mut().unwrap();
    let copy = |z: f32| shot::PlacedCopy {
        position_m: Vec3::new(0.0, 0.0, z),
        orientation_rad: Vec3::ZERO,
        size: 1.0,
    };
    solid.placed = vec![copy(-2.0), copy(2.0)];
    // The map of the first copy is that of all.
    let mut counts = Vec::new();
    run(&shot, |frame| counts.push(frame.meshes[&id].positions.len()));
    assert_eq!(*counts.last().unwrap(), counts[0] + 18);
    shot.timing.last = shot.timing.first + 26;
    assert_goes_on_from_every_frame(&shot);
}

/// A strip with round notches on both sides that leave a neck: over such wide notches the stress in the neck is even within
/// some per cent, so that it tears at about the limit times E t times the width of the neck.
#[test]
fn a_necked_strip_tears_at_its_stated_load() {
    let (length, width, neck, radius) = (1.6f32, 0.4f32, 0.24f32, 1.0f32);
    let mut mesh =
        Mesh::refined(&Shape::plane(length, width), primitive::plane(length, width), 0.02, 100_000).unwrap();
    // The sides are drawn in to the arcs.
    let depth = 0.5 * (width - neck);
    for p in &mut mesh.positions {
        let half = (radius - (radius * radius - p.x * p.x).max(0.0).sqrt()).min(depth);
        p.z *= (neck + 2.0 * half) / width;
    }
    let mut meshes = Meshes::default();
    meshes.by_name.insert("strip".to_owned(), Arc::new(mesh));
    let (strain, stiffness) = (0.1f32, 1_000.0f32);
    let mut shot = shot(6.0);
    without_gravity(&mut shot);
    let bar = Element::solid("Bar", Shape::cuboid(0.1, 0.1, 1.0), Moves::Animated).at(2.0, 3.0, 0.0);
    let bar = bar.keyed("placement.position_m[0]", Channel::expression("2 + 0.2 * (frame - 1) / 144"));
    let bar = shot.add(bar);
    let shape = Shape::Mesh { asset: "strip".to_owned(), scale: 1.0 };
    let mut strip = Element::solid("Strip", shape, Moves::Free);
    strip.as_solid_mut().unwrap().cloth = Some(Cloth {
        edge_m: 0.04,
        warp_n_m: stiffness,
        weft_n_m: stiffness,
        poisson_ratio: 0.0,
        shear_n_m: 0.5 * stiffness,
        tear_strain: Some(strain),
        drag: 0.0,
        lift: 0.0,
        damping_s: 0.02,
        pins: vec![
            pin(PinnedPart::Side(Side::Left)),
            Pin { to: Some(bar), ..pin(PinnedPart::Side(Side::Right)) },
        ],
        ..Cloth::default()
    });
    let id = shot.add(strip);
    let mut simulation = Simulation::new(&shot, &meshes).unwrap();
    let first = simulation.write();
    let (rest, count) = (places(&first, id), first.meshes[&id].positions.len());
    // The load by the stretch of the straight part near an end.
    let load = |frame: &Frame| {
        let at = places(frame, id);
        let near: Vec<usize> = (0..rest.len()).filter(|i| (0.6..0.75).contains(&rest[*i].x.abs())).collect();
        let stretch = |i: usize, k: usize| {
            let (before, after) = (rest[k].x - rest[i].x, at[k].x - at[i].x);
            after / before - 1.0
        };
        let pairs = near.iter().flat_map(|&i| {
            let along = |k: &&usize| {
                let d = rest[**k] - rest[i];
                d.x > 0.05 && d.x < 0.12 && d.z.abs() < 1e-3
            };
            near.iter().filter(along).map(move |&k| (i, k)).collect::<Vec<_>>()
        });
        let stretches: Vec<f32> = pairs.map(|(i, k)| stretch(i, k)).collect();
        let e = stretches.iter().sum::<f32>() / stretches.len() as f32;
        // The second Piola–Kirchhoff stress C E, as a force on the width at rest.
        stiffness * (e + 0.5 * e * e) * (1.0 + e) * width
    };
    let mut at_tear = None;
    let mut before = load(&first);
    while simulation.write().number < shot.timing.last {
        let frame = simulation.advance().unwrap();
        if frame.meshes[&id].positions.len() > count {
            at_tear = Some(before);
            break;
        }
        before = load(&frame);
    }
    let stated = stiffness * (strain + 0.5 * strain * strain) * (1.0 + strain) * neck;
    let found = at_tear.expect("it tears");
    assert!((found / stated - 1.0).abs() < 0.1, "{found} N for {stated} N");
}
