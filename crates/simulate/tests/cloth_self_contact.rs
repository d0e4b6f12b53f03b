//! Sheets do not pass through themselves or each other: checked by an exact test of edges against triangles.

use frames::{Frame, encode};
use geometry::{Bounds, Bvh, Meshes};
use glam::{DVec3, Vec3};
use rstest::rstest;
use shot::{Cloth, Copies, Element, Id, Moves, Pin, PinnedPart, Shape, Shot, Side};
use simulate::Simulation;

/// Number of pairs of an edge and a triangle that cross.
fn crossings(frame: &Frame, id: Id) -> usize {
    let mesh = &frame.meshes[&id];
    let triangles: Vec<[u32; 3]> = mesh.topology.triangles().to_vec();
    let tree = Bvh::build(&mesh.positions, &triangles);
    let at = |p: u32| mesh.positions[p as usize].as_dvec3();
    let mut count = 0;
    for [a, b, c] in &triangles {
        for [p, q] in [[*a, *b], [*b, *c], [*c, *a]] {
            if p > q {
                continue;
            }
            let ends = [p, q].map(|p| mesh.positions[p as usize]);
            let bounds = ends.iter().fold(Bounds::EMPTY, |bounds, p| bounds.with(*p));
            tree.overlapping(&bounds, |t| {
                let corners = triangles[t as usize];
                let shared = corners.iter().any(|corner| ends.contains(&mesh.positions[*corner as usize]));
                count += usize::from(!shared && crosses(at(p), at(q), corners.map(at)));
            });
        }
    }
    count
}

fn crosses(p: DVec3, q: DVec3, [a, b, c]: [DVec3; 3]) -> bool {
    let volume = |a: DVec3, b: DVec3, c: DVec3, d: DVec3| (b - a).cross(c - a).dot(d - a);
    if volume(a, b, c, p) * volume(a, b, c, q) >= 0.0 {
        return false;
    }
    let turns = [volume(p, q, a, b), volume(p, q, b, c), volume(p, q, c, a)];
    turns.iter().all(|t| *t > 0.0) || turns.iter().all(|t| *t < 0.0)
}

fn shot(seconds: f32) -> Shot {
    let mut shot = Shot::empty("Cloth");
    shot.timing.last = shot.timing.first + (seconds * shot.timing.fps) as u32;
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
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let mut last = None;
    for _ in shot.timing.first..shot.timing.last {
        let frame = simulation.advance().unwrap();
        assert_eq!(crossings(&frame, id), 0, "crossings in frame {}", frame.number);
        last = Some(frame);
    }
    after(&last.unwrap());
}

#[rstest]
fn a_hanging_sheet_that_is_let_go_folds_onto_itself(#[values(0.004, 0.01)] thickness_m: f32) {
    let mut shot = shot(1.5);
    let pins = vec![Pin { part: PinnedPart::Side(Side::Left), holds: false }];
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
    let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
    let (mut states, mut frames) = (Vec::new(), Vec::new());
    for _ in shot.timing.first..shot.timing.last {
        states.push(simulation.save());
        frames.push(encode(&simulation.advance().unwrap()));
    }
    for (i, state) in states.iter().enumerate() {
        let mut resumed = Simulation::restored(&shot, &Meshes::default(), state).unwrap();
        for frame in &frames[i..] {
            assert!(encode(&resumed.advance().unwrap()) == *frame, "resumed at {i}");
        }
    }
}
