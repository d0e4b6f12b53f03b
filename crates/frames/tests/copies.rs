//! One finished run on many copies, each at a time of its own.

use frames::finish::{FinishContext, SharedFrames, StepResult, finished};
use frames::{Bodies, Frame, Frames, MeshState, Particles, Parts, RunError};
use geometry::{Mesh, Topology};
use glam::{Quat, Vec3};
use rstest::rstest;
use shot::finish::{Finish, FinishOperation};
use shot::{Copies, Element, ElementKind, Id, Moves, Shape, Shot, fingerprint::Fingerprint};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::sync::Arc;

const LAST: u32 = 24;
const FPS: f32 = 24.0;
const CENTRE: Vec3 = Vec3::new(0.1, -0.2, 0.05);

/// A body that travels and spins, a mesh of its own that waves, and two particles, of which one is
/// born at frame 5; frame 20 is missing in one that is computed in part.
struct Travelling {
    element: Id,
    topology: Arc<Topology>,
    waves: bool,
    missing: Option<u32>,
    bodies: usize,
    /// Particles that are born at frame 5 besides.
    burst: u32,
}

fn orientation(t: f32) -> Quat {
    Quat::from_rotation_z(0.7 * t)
}

/// The centre of mass goes along a parabola.
fn centre(t: f32) -> Vec3 {
    Vec3::new(2.0 * t, 1.0 - 3.0 * t * t, 0.5 * t)
}

fn place(t: f32) -> Vec3 {
    centre(t) - orientation(t) * CENTRE
}

fn wave(x: Vec3, t: f32) -> Vec3 {
    x + Vec3::new(0.0, 0.1 * (3.0 * t + x.x).sin(), 0.0)
}

fn grid_mesh() -> Mesh {
    geometry::primitive::torus(0.5, 0.1, 32)
}

impl Frames for Travelling {
    fn range(&self) -> RangeInclusive<u32> {
        1..=LAST
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        (self.missing != Some(number)).then_some(Fingerprint([number as u8; 16]))
    }

    fn read(&self, number: u32, _: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        let t = (number - 1) as f32 / FPS;
        *frame = Frame::new(number, f64::from(t));
        frame.fingerprint = self.fingerprint(number).ok_or(RunError::Missing { frame: number })?;
        let mut bodies = Bodies::default();
        for i in 0..self.bodies {
            let at = place(t) + Vec3::Y * i as f32;
            bodies.push(at, orientation(t), Vec3::new(2.0, -6.0 * t, 0.5), 0.7 * Vec3::Z);
        }
        frame.bodies.insert(self.element, bodies);
        if self.waves {
            let rest = grid_mesh().positions;
            let velocity = |x: &Vec3| Vec3::new(0.0, 0.3 * (3.0 * t + x.x).cos(), 0.0);
            let mesh = MeshState {
                topology: self.topology.clone(),
                positions: rest.iter().map(|x| wave(*x, t)).collect(),
                velocities: rest.iter().map(velocity).collect(),
                attributes: Vec::new(),
            };
            frame.meshes.insert(self.element, mesh);
        }
        let mut ids: Vec<u32> = if number < 5 { vec![3] } else { vec![3, 8] };
        ids.extend((0..if number < 5 { 0 } else { self.burst }).map(|i| 9 + i));
        let of = |id: &u32| Vec3::new(*id as f32, t, 0.0);
        let particles = Particles {
            positions: ids.iter().map(of).collect(),
            velocities: ids.iter().map(|_| Vec3::Y).collect(),
            sizes: ids.iter().map(|_| 0.1).collect(),
            ages: ids.iter().map(|_| t).collect(),
            lifespans: ids.iter().map(|_| 9.0).collect(),
            ids,
            ..Particles::default()
        };
        frame.particles.insert(Id(77), particles);
        Ok(())
    }
}

fn row(count: u32, spacing: Vec3) -> Copies {
    Copies {
        count: [count, 1, 1],
        spacing_m: spacing,
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 1,
    }
}

struct Setting {
    shot: Shot,
    element: Id,
    source: Travelling,
}

fn setting(waves: bool) -> Setting {
    let mut shot = Shot::empty("S");
    (shot.timing.fps, shot.timing.last) = (FPS, LAST);
    let element = shot.add(Element::solid("Kite", Shape::sphere(0.1), Moves::Free));
    let topology = Arc::new(Topology::of(&grid_mesh()));
    Setting {
        shot,
        element,
        source: Travelling { element, topology, waves, missing: None, bodies: 1, burst: 0 },
    }
}

impl Setting {
    fn step(&mut self, of: Option<Id>, operation: FinishOperation) -> &mut Self {
        let order = self.shot.elements.len() as u32;
        let finish = Finish { order, element: of, ..Finish::new(operation) };
        self.shot.add(Element::new("Step", ElementKind::Finish(finish)));
        self
    }

    fn results(self) -> (SharedFrames, Vec<StepResult>) {
        assert_eq!(self.shot.faults(), []);
        let centres = BTreeMap::from([(self.element, CENTRE)]);
        let context = Arc::new(FinishContext::new(&self.shot, centres).unwrap());
        finished(Arc::new(self.source), &context)
    }
}

fn copies(grid: Copies, delay_frames: i32, delay_jitter_frames: u32) -> FinishOperation {
    FinishOperation::Copies { grid, delay_frames, delay_jitter_frames, size_variation: 0.0 }
}

#[test]
fn each_copy_shows_the_frames_later_and_stands_before_the_first() {
    let mut of = setting(false);
    let element = of.element;
    of.step(None, copies(row(3, Vec3::X), 4, 0));
    let (frames, _) = of.results();
    for number in 1..=LAST {
        let frame = frames.frame(number).unwrap();
        let bodies = &frame.bodies[&element];
        assert_eq!(bodies.len(), 3);
        for copy in 0..3usize {
            let t = (number as f32 - 1.0 - 4.0 * copy as f32) / FPS;
            let expected = place(t.max(0.0)) + Vec3::X * (copy as f32 - 1.0);
            assert!(bodies.positions[copy].distance(expected) < 1e-5, "{number} {copy}");
            let speed = if t < 0.0 { 0.0 } else { 2.0 };
            assert_eq!(bodies.velocities[copy].x, speed, "{number} {copy}");
        }
        let particles = &frame.particles[&Id(77)];
        assert!(particles.ids.is_sorted_by(|a, b| a < b), "{:?}", particles.ids);
        let born = (0..3).filter(|copy| number >= 5 + 4 * copy).count();
        assert_eq!(particles.len(), 3 + born);
        assert_eq!(particles.ids[..3], [9, 10, 11]);
    }
}

/// Of a loop, each copy is somewhere in its round, and none stands.
#[rstest]
#[case::in_turn(5, 0)]
#[case::backwards(-7, 0)]
#[case::at_random(0, 9)]
fn copies_of_a_loop_go_round(#[case] delay: i32, #[case] jitter: u32) {
    let mut of = setting(false);
    let element = of.element;
    let grid = row(6, Vec3::X);
    let delays: Vec<i64> = grid.delays(delay, jitter).collect();
    of.step(None, FinishOperation::Loop { frames: 10, from_frame: 4, overlap: 0, first_stands: false });
    of.step(None, copies(grid, delay, jitter));
    let (frames, _) = of.results();
    assert!(frames.repeats());
    let first = *frames.range().start();
    for number in frames.range() {
        let bodies = &frames.frame(number).unwrap().bodies[&element];
        for (copy, late) in delays.iter().enumerate() {
            let within = (i64::from(number) - i64::from(first) - late).rem_euclid(10) as f32;
            let t = (3.0 + within) / FPS;
            let expected = place(t) + Vec3::X * (copy as f32 - 2.5);
            assert!(bodies.positions[copy].distance(expected) < 1e-5, "{number} {copy}");
            assert!(bodies.velocities[copy].length() > 1.0);
        }
    }
}

/// The copies of a mesh are one mesh in the world's coordinates, whose velocities are the change
/// of its positions: also where the body spins and the grid's spacing is keyed.
#[test]
fn copies_of_a_mesh_carry_their_velocities() {
    let mut of = setting(true);
    let element = of.element;
    let grid = Copies { count: [2, 1, 2], orientation_jitter_rad: 1.0, ..row(2, Vec3::ONE) };
    of.step(Some(element), copies(grid, 3, 0));
    let spacing = shot::motion::Channel::keyed([(1.0, 1.0f32), (f64::from(LAST), 3.0)]);
    let step = of.shot.elements.last_mut().unwrap();
    step.channels.insert("kind.finish.operation.copies.grid.spacing_m[0]".to_owned(), spacing);
    let (frames, _) = of.results();
    let vertices = grid_mesh().positions.len();
    let at = |number: u32| frames.frame(number).unwrap().meshes.remove(&element).unwrap();
    for number in 12..LAST {
        let (before, now, after) = (at(number - 1), at(number), at(number + 1));
        assert_eq!(now.positions.len(), 4 * vertices);
        assert_eq!(now.topology.triangles().len(), 4 * grid_mesh().triangles.len());
        assert_eq!(now.topology.hash(), before.topology.hash());
        for v in 0..now.positions.len() {
            let change = (after.positions[v] - before.positions[v]) * (FPS / 2.0);
            // A central difference errs by h²/6 of the third derivative, which is below 6 m/s³ here.
            assert!(
                now.velocities[v].distance(change) < 2e-3,
                "{number} {v}: {} {change}",
                now.velocities[v]
            );
        }
    }
    // A part of one element is read alone.
    let mut frame = Frame::default();
    frames.read(3, &Parts::Element(element), &mut frame).unwrap();
    assert_eq!(frame.bodies[&element].positions, [Vec3::ZERO]);
}

/// The copies are placed and turned about the element's position.
#[test]
fn copies_are_turned_about_the_element() {
    let mut of = setting(false);
    let element = of.element;
    let about = Vec3::new(5.0, 0.0, -3.0);
    of.shot.elements.iter_mut().find(|e| e.id == element).unwrap().placement.position_m = about;
    of.step(Some(element), copies(Copies { orientation_jitter_rad: 3.0, ..row(5, Vec3::ZERO) }, 0, 0));
    let (frames, _) = of.results();
    let bodies = &frames.frame(9).unwrap().bodies[&element];
    let away = place(8.0 / FPS).distance(about);
    assert!(bodies.positions.iter().all(|x| (x.distance(about) - away).abs() < 1e-5));
    assert!(bodies.positions.windows(2).all(|pair| pair[0].distance(pair[1]) > 0.01));
}

/// A copy of another size is larger about the element, with its speed.
#[test]
fn copies_may_differ_in_size() {
    let mut of = setting(false);
    let element = of.element;
    let grid = row(4, Vec3::ZERO);
    let sizes: Vec<f32> = grid.sizes(0.5).collect();
    let operation =
        FinishOperation::Copies { grid, delay_frames: 0, delay_jitter_frames: 0, size_variation: 0.5 };
    of.step(Some(element), operation);
    let (frames, _) = of.results();
    let bodies = &frames.frame(9).unwrap().bodies[&element];
    assert_eq!(bodies.scales, sizes);
    for (copy, size) in sizes.iter().enumerate() {
        assert!(bodies.positions[copy].distance(*size * place(8.0 / FPS)) < 1e-5);
        assert!((bodies.velocities[copy].x - 2.0 * size).abs() < 1e-5);
    }
}

/// Particles that are born later are bounded too: whole copies are left out before anything is made.
#[test]
fn later_frames_hold_no_more_than_a_frame_may() {
    let mut of = setting(false);
    of.source.burst = 1_500_000;
    of.step(None, copies(row(40, Vec3::X), 0, 0));
    let (frames, results) = of.results();
    assert_eq!(results[0].problem, None);
    // One particle at first; from frame 5 on 1,500,002, of which five copies are at most 8,000,000.
    assert_eq!(frames.frame(4).unwrap().particles[&Id(77)].len(), 40);
    assert_eq!(frames.frame(5).unwrap().particles[&Id(77)].len(), 5 * 1_500_002);
}

#[test]
fn a_copy_without_its_frame_is_missing() {
    let mut of = setting(false);
    of.source.missing = Some(20);
    of.step(None, copies(row(2, Vec3::X), 3, 0));
    let (frames, _) = of.results();
    let missing: Vec<u32> = frames.range().filter(|n| frames.fingerprint(*n).is_none()).collect();
    assert_eq!(missing, [20, 23]);
    assert!(matches!(frames.frame(23), Err(RunError::Missing { frame: 20 })));
}

#[rstest]
#[case::bodies(false, 60, 1_000, "would give 60000 bodies of an element; at most 50000")]
#[case::vertices(true, 1, 50_000, "vertices of an element; at most 8000000")]
fn too_many_copies_are_told(
    #[case] waves: bool,
    #[case] bodies: usize,
    #[case] count: u32,
    #[case] words: &str,
) {
    let mut of = setting(waves);
    of.source.bodies = bodies;
    of.step(None, copies(row(count, Vec3::X), 0, 0));
    let (frames, results) = of.results();
    let problem = results[0].problem.as_deref().unwrap_or_default();
    assert!(problem.contains(words), "{problem:?}");
    // The frames go through as they were.
    assert!(frames.frame(1).is_ok());
}
