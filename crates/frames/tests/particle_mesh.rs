//! The finishing step that makes a mesh of particles.

use frames::finish::{FinishContext, SharedFrames, StepResult, finished};
use frames::{Frame, Particles, RunFolder, RunFrames};
use geometry::{Meshes, mass_properties};
use glam::Vec3;
use shot::finish::{Finish, FinishOperation};
use shot::motion::Channel;
use shot::{Element, ElementKind, Id, Moves, Shape, Shot, fingerprint::Fingerprint};
use std::collections::BTreeMap;
use std::sync::Arc;

const LAST: u32 = 4;
const SPACING: f32 = 0.1;

/// A run of a ball of liquid that falls, and of grains beside it.
struct Baked {
    _dir: tempfile::TempDir,
    run: RunFolder,
    shot: Shot,
    ball: Id,
    grains: Id,
}

fn particles(positions: Vec<Vec3>, velocity: Vec3) -> Particles {
    let n = positions.len();
    Particles {
        ids: (0..n as u32).collect(),
        positions,
        velocities: vec![velocity; n],
        sizes: vec![SPACING; n],
        ages: vec![0.0; n],
        lifespans: vec![f32::INFINITY; n],
        ..Particles::default()
    }
}

fn baked() -> Baked {
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    let mut shot = Shot::empty("S");
    shot.timing.last = LAST;
    let set = |name: &str| Element::new(name, ElementKind::Particles(shot::particles::Particles::default()));
    let (ball, grains) = (shot.add(set("Ball")), shot.add(set("Grains")));
    let inside = geometry::fill(&geometry::primitive::sphere(1.0, 48), SPACING);
    for number in 1..=LAST {
        let mut frame = Frame::new(number, shot.timing.seconds(number));
        frame.fingerprint = Fingerprint([number as u8; 16]);
        let down = Vec3::NEG_Y * number as f32;
        frame
            .particles
            .insert(ball, particles(inside.iter().map(|x| *x + down).collect(), Vec3::NEG_Y * 24.0));
        frame.particles.insert(grains, particles(vec![Vec3::X * 5.0], Vec3::ZERO));
        run.write(&frame).unwrap();
    }
    Baked { _dir: dir, run, shot, ball, grains }
}

const MESH: FinishOperation = surface(0.6, 2.0, 0.5, 0);

const fn surface(radius: f32, reach: f32, edge: f32, passes: u32) -> FinishOperation {
    let (anisotropy, film, together) = (1.0, 0.0, false);
    FinishOperation::ParticleMesh { radius, reach, edge, passes, anisotropy, film, together }
}

impl Baked {
    fn finished(&self, steps: impl IntoIterator<Item = Element>) -> (SharedFrames, Vec<StepResult>) {
        let mut shot = self.shot.clone();
        steps.into_iter().for_each(|step| {
            shot.add(step);
        });
        let frames: SharedFrames = Arc::new(RunFrames::of(self.run.clone(), &shot));
        assert_eq!(shot.faults(), []);
        let context = FinishContext::new(&shot, BTreeMap::new()).unwrap();
        finished(frames, &Arc::new(context.with_meshes(Meshes::default())))
    }

    fn step(&self, element: Option<Id>, operation: FinishOperation) -> Element {
        Element::new("Mesh", ElementKind::Finish(Finish { element, ..Finish::new(operation) }))
    }
}

#[test]
fn a_ball_of_particles_has_a_closed_surface_at_its_radius_that_moves_with_it() {
    let baked = baked();
    let (frames, steps) = baked.finished([baked.step(Some(baked.ball), MESH)]);
    assert_eq!(steps[0].problem, None);
    for number in [1, LAST] {
        let frame = frames.frame(number).unwrap();
        assert!(!frame.particles.contains_key(&baked.ball) && frame.particles.contains_key(&baked.grains));
        let state = &frame.meshes[&baked.ball];
        let mesh = state.mesh();
        assert!(mesh.is_closed());
        let mass = mass_properties(&mesh).unwrap();
        let exact = 4.0 / 3.0 * std::f32::consts::PI;
        assert!((mass.volume / exact - 1.0).abs() < 0.1, "{} of {exact}", mass.volume);
        assert!((mass.centre + Vec3::Y * number as f32).length() < 0.02, "{}", mass.centre);
        assert!(state.velocities.iter().all(|v| v.distance(Vec3::NEG_Y * 24.0) < 1e-3));
    }
}

#[test]
fn a_surface_takes_six_bytes_a_vertex_with_its_faces_at_a_hundredth_of_the_spacing() {
    const FINE: f32 = 0.0026;
    let baked = baked();
    let (frame, number) = (baked.run.read(1).unwrap(), 1);
    let drop = geometry::fill(&geometry::primitive::sphere(0.04, 48), FINE);
    let turning = drop.iter().map(|x| Vec3::new(0.3, 5.0, -2.0).cross(*x) + Vec3::NEG_Y).collect();
    let sizes = vec![FINE; drop.len()];
    let drop = Particles { velocities: turning, sizes, ..particles(drop, Vec3::ZERO) };
    baked.run.write(&Frame { particles: [(baked.ball, drop)].into(), ..frame }).unwrap();
    let (frames, _) = baked.finished([baked.step(Some(baked.ball), surface(0.6, 2.0, 0.5, 4))]);
    let finished = frames.frame(number).unwrap();
    let (bytes, mesh) = (frames::encode(&finished), &finished.meshes[&baked.ball]);
    let each = bytes.len() as f32 / mesh.positions.len() as f32;
    assert!(mesh.positions.len() > 10_000 && each < 6.0, "{each} of {}", mesh.positions.len());
    let back = frames::decode(&bytes).unwrap().meshes[&baked.ball].clone();
    assert!(back.topology == mesh.topology && back.attributes == mesh.attributes);
    let pairs = back.positions.iter().zip(&mesh.positions);
    let furthest = pairs.map(|(a, b)| (*a - *b).abs().max_element()).fold(0.0, f32::max);
    assert!(furthest <= 0.01 * FINE, "{furthest}");
}

#[test]
fn smoothing_keeps_its_volume_and_finer_edges_give_more_vertices() {
    let baked = baked();
    let of = |edge: f32, passes: u32| {
        let operation = surface(0.6, 1.5, edge, passes);
        let (frames, _) = baked.finished([baked.step(Some(baked.ball), operation)]);
        let mesh = frames.frame(1).unwrap().meshes[&baked.ball].mesh();
        (mesh.positions.len(), mass_properties(&mesh).unwrap().volume)
    };
    let (coarse, plain) = of(1.0, 0);
    let (fine, _) = of(0.5, 0);
    let (same, smooth) = of(1.0, 10);
    assert!(fine > 3 * coarse && same == coarse, "{coarse} {fine} {same}");
    assert!((smooth / plain - 1.0).abs() < 0.03, "{smooth} of {plain}");
}

#[test]
fn of_the_whole_shot_all_particles_get_a_surface_and_a_keyed_radius_grows() {
    let baked = baked();
    let radius = Channel::keyed([(1.0, 0.5f32), (f64::from(LAST), 1.5)]);
    let step = baked.step(None, MESH).keyed("kind.finish.operation.particle_mesh.radius", radius);
    let (frames, _) = baked.finished([step]);
    let volume = |number: u32| {
        let frame = frames.frame(number).unwrap();
        assert_eq!((frame.particles.len(), frame.meshes.len()), (0, 2));
        mass_properties(&frame.meshes[&baked.grains].mesh()).unwrap().volume
    };
    assert!(volume(LAST) > 10.0 * volume(1));
}

#[test]
fn what_has_no_particles_is_told_of_and_other_numbers_are_other_frames() {
    let baked = baked();
    let mut shot = baked.shot.clone();
    let stone = shot.add(Element::solid("Stone", Shape::sphere(0.1), Moves::Still));
    let with_stone = Baked { shot, ..baked };
    let (_, steps) = with_stone.finished([with_stone.step(Some(stone), MESH)]);
    assert_eq!(steps[0].problem.as_deref(), Some("makes a mesh of particles, and Stone has none"));
    let print = |radius: f32| {
        let operation = surface(radius, 2.0, 0.5, 0);
        let (frames, _) = with_stone.finished([with_stone.step(None, operation)]);
        frames.fingerprint(2)
    };
    assert!(print(0.6) == print(0.6) && print(0.6) != print(0.7));
}

#[test]
fn together_all_liquids_have_one_surface_with_the_share_of_each() {
    let mut baked = baked();
    let stuff = shot::particles::Liquid::default();
    for name in ["Ball", "Grains"] {
        baked.shot.named_mut(name).unwrap().as_particles_mut().unwrap().liquid = Some(stuff.clone());
    }
    let FinishOperation::ParticleMesh { radius, reach, edge, passes, anisotropy, film, .. } = MESH else {
        panic!("it is one")
    };
    let together =
        FinishOperation::ParticleMesh { radius, reach, edge, passes, anisotropy, film, together: true };
    let (frames, _) = baked.finished([baked.step(None, together)]);
    let frame = frames.frame(1).unwrap();
    assert_eq!((frame.meshes.len(), frame.particles.len()), (1, 0));
    let mesh = &frame.meshes[&baked.ball];
    let share = |id: Id| mesh.scalars(&frames::finish::share_of(id)).unwrap();
    // The drop at x = 5 is all of one, the ball all of the other.
    for (at, (ball, grains)) in mesh.positions.iter().zip(share(baked.ball).iter().zip(share(baked.grains))) {
        let expected = if at.x > 3.0 { (0.0, 1.0) } else { (1.0, 0.0) };
        assert!((ball - expected.0).abs() < 1e-4 && (grains - expected.1).abs() < 1e-4, "{ball} {grains}");
    }
}
