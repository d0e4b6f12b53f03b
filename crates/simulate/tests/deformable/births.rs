//! Particles born on cloths by maps and by measured quantities, along seams, and those that stick to what deforms.

use super::{assert_goes_on_from_every_frame, pin, places, run, shot, without_gravity};
use frames::Frame;
use glam::Vec3;
use shot::curve::Curve;
use shot::map::{LayerSource, Map};
use shot::particles::{
    ContactOutcome, Emission, EmissionDomain, EmissionMap, EmissionSchedule, MapSource, Particles, Source,
    Start,
};
use shot::{Cloth, Element, ElementKind, Id, Moves, PinnedPart, Shape, Shot, Side, SurfaceQuantity};

fn still(source: Source, count: u32, map: Option<MapSource>) -> Particles {
    let map = map.map(|source| EmissionMap { source, inverted: false, uniform_births: false });
    let mut particles = Particles {
        source,
        emission: Emission { schedule: EmissionSchedule::Burst { count }, map, ..Emission::default() },
        start: Start { speed_m_s: 0.0, inherited_velocity: 0.0, size_variation: 0.0, ..Start::default() },
        ..Particles::default()
    };
    particles.start.lifespan_s = None;
    particles.contact.enabled = false;
    particles
}

fn add(shot: &mut Shot, particles: Particles) -> Id {
    shot.add(Element::new("Motes", ElementKind::Particles(particles)))
}

/// A sheet of 1 m that hangs from its left side, with the maps `rising` to the right and `seam` about a curve along x.
fn hanging(shot: &mut Shot) -> (Id, Id) {
    let strokes_m = vec![vec![Vec3::new(-0.4, 0.0, 0.1), Vec3::new(0.4, 0.0, 0.1)]];
    let curve = Curve::Strokes { strokes_m, lettering: None };
    let curve = shot.add(Element::new("Seam", ElementKind::Curve(curve)).at(0.0, 2.0, 0.0));
    let mut element = Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Free).at(0.0, 2.0, 0.0);
    let solid = element.as_solid_mut().unwrap();
    let pins = vec![pin(PinnedPart::Side(Side::Left))];
    solid.cloth = Some(Cloth { edge_m: 0.1, pins, ..Cloth::default() });
    solid.maps = vec![Map::of("rising", LayerSource::Side { side: Side::Right })];
    (shot.add(element), curve)
}

fn surface(solid: Id) -> Source {
    Source::Solid { solid, domain: EmissionDomain::Surface }
}

/// Distance of a point from the mesh of an element.
fn distance(frame: &Frame, id: Id, point: Vec3) -> f32 {
    let bvh = geometry::Bvh::build(&places(frame, id), frame.meshes[&id].topology.triangles());
    bvh.nearest(point, f32::INFINITY).unwrap().0.distance(point)
}

#[test]
fn a_map_of_the_cloth_says_how_likely_births_are() {
    let mut shot = shot(0.2);
    without_gravity(&mut shot);
    let (sheet, _) = hanging(&mut shot);
    let motes =
        add(&mut shot, still(surface(sheet), 4_000, Some(MapSource::Map { map: "rising".to_owned() })));
    let mut first = None;
    run(&shot, |frame| {
        let born = frame.particles_of(motes);
        if !born.is_empty() && first.is_none() {
            first = Some((born.positions.clone(), born.weights.clone()));
        }
    });
    let (positions, weights) = first.unwrap();
    // Births rise linearly with x, so their mean lies two thirds of the way.
    let mean = positions.iter().map(|p| p.x + 0.5).sum::<f32>() / positions.len() as f32;
    assert!((mean - 2.0 / 3.0).abs() < 0.015, "{mean}");
    assert!(weights.is_empty() || positions.iter().zip(&weights).all(|(p, w)| (p.x + 0.5 - w).abs() < 1e-3));
}

/// A sheet falls on a box under its middle: births by pressure are over the box.
#[test]
fn particles_are_born_where_a_measured_quantity_is() {
    let mut shot = shot(1.0);
    shot.add(Element::solid("Box", Shape::cuboid(0.4, 0.4, 0.4), Moves::Still));
    let mut element = Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Free).at(0.0, 0.26, 0.0);
    element.as_solid_mut().unwrap().cloth = Some(Cloth { edge_m: 0.05, ..Cloth::default() });
    let sheet = shot.add(element);
    let by = MapSource::Quantity { quantity: SurfaceQuantity::Pressure, from: 4.0, to: 12.0 };
    let mut of = still(surface(sheet), 500, Some(by));
    of.emission.from_frame = Some(shot.timing.first + 6);
    of.emission.schedule = EmissionSchedule::Rate { per_s: 800.0 };
    of.start.lifespan_s = Some(0.02);
    let motes = add(&mut shot, of);
    let reads = shot.systems().into_iter().find(|of| of.elements.contains(&motes)).unwrap().reads;
    assert_eq!(reads.len(), 2, "they read the cloth");
    // Where the corners fold, the sheet presses on itself. Births that are spread evenly would be over the box by 27 %.
    let (mut seen, mut over) = (0, 0);
    run(&shot, |frame| {
        let positions = &frame.particles_of(motes).positions;
        seen += positions.len();
        over += positions.iter().filter(|p| p.x.abs().max(p.z.abs()) < 0.26).count();
    });
    assert!(seen > 100 && 3 * over > 2 * seen, "{over} of {seen}");
    shot.timing.last = shot.timing.first + 12;
    assert_goes_on_from_every_frame(&shot);
}

#[test]
fn a_quantity_that_is_nowhere_gives_no_births() {
    let mut shot = shot(0.5);
    let (sheet, _) = hanging(&mut shot);
    let by = MapSource::Quantity { quantity: SurfaceQuantity::Pressure, from: 1.0, to: 2.0 };
    let motes = add(&mut shot, still(surface(sheet), 100, Some(by)));
    assert_eq!(run(&shot, |_| ()).particles_of(motes).len(), 0);
}

#[test]
fn beads_along_a_seam_come_from_all_starts_and_stay_on_the_cloth() {
    let mut shot = shot(1.5);
    let (sheet, curve) = hanging(&mut shot);
    let mut of = still(Source::Seam { solid: sheet, curve, starts: 2, lift: 0.0 }, 40, None);
    of.emission.schedule = EmissionSchedule::Total { count: 40 };
    of.emission.to_frame = Some(shot.timing.first + 24);
    of.start.size_m = 0.01;
    let beads = add(&mut shot, of);
    let mut counts = Vec::new();
    let last = run(&shot, |frame| {
        let positions = &frame.particles_of(beads).positions;
        counts.push(positions.len());
        for p in positions {
            assert!(distance(frame, sheet, *p) < 1e-4, "{p} in frame {}", frame.number);
        }
    });
    assert!(counts[12] > 15 && counts[12] < 25, "{counts:?}");
    assert_eq!(counts.last(), Some(&40));
    // The sheet hangs down, and the beads with it, one after the other along it.
    let mut down = last.particles_of(beads).positions.clone();
    down.sort_by(|a, b| a.y.total_cmp(&b.y));
    assert!(down[0].y < 1.3, "{down:?}");
    let gaps: Vec<f32> = down.windows(2).map(|pair| pair[1].distance(pair[0])).collect();
    assert!(gaps.iter().all(|gap| (0.018..0.022).contains(gap)), "{gaps:?}");
    shot.timing.last = shot.timing.first + 12;
    assert_goes_on_from_every_frame(&shot);
}

#[test]
fn a_lifted_bead_keeps_its_distance_on_rigid_solids_too() {
    let mut shot = shot(0.5);
    without_gravity(&mut shot);
    let (_, curve) = hanging(&mut shot);
    let block = Element::solid("Block", Shape::cuboid(1.0, 0.2, 1.0), Moves::Animated).at(0.0, 1.9, 0.0);
    let spin = shot::motion::Channel::expression("0.1 * (frame - 1)");
    let block = shot.add(block.keyed("placement.orientation_rad[1]", spin));
    let mut of = still(Source::Seam { solid: block, curve, starts: 1, lift: 2.0 }, 10, None);
    of.start.size_m = 0.02;
    let beads = add(&mut shot, of);
    run(&shot, |frame| {
        for p in &frame.particles_of(beads).positions {
            assert!((p.y - 2.02).abs() < 1e-4, "{p}");
            let from_axis = (p.x * p.x + p.z * p.z).sqrt();
            assert!((0.099..0.42).contains(&from_axis), "{p}");
        }
    });
}

#[test]
fn what_sticks_to_a_cloth_follows_its_surface() {
    let mut shot = shot(2.0);
    let (sheet, _) = hanging(&mut shot);
    let shape = Shape::cuboid(0.3, 0.02, 0.3);
    let mut of = still(Source::Shape { shape, domain: EmissionDomain::Volume }, 60, None);
    (of.contact.enabled, of.contact.outcome) = (true, ContactOutcome::Stick);
    let motes = shot.add(Element::new("Motes", ElementKind::Particles(of)).at(-0.2, 2.06, 0.0));
    let last = run(&shot, |_| ());
    let positions = &last.particles_of(motes).positions;
    let on = positions.iter().filter(|p| distance(&last, sheet, **p) < 0.02).count();
    let moved = positions.iter().filter(|p| p.y < 1.95).count();
    assert!(on > 40 && moved > 20, "{on} on the sheet, {moved} carried down, of {}", positions.len());
}
