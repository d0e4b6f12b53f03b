//! Shots that begin from a frame of a run.

use frames::{Frame, RunFolder, encode};
use geometry::Meshes;
use glam::Vec3;
use shot::{
    Asset, AssetKind, Cloth, Copies, Element, ElementKind, Id, InitialState, Moves, Shape, Shot, Soft,
    particles::{Emission, EmissionSchedule, Particles, Start},
};
use simulate::{Bake, Simulation, bake, fresh};
use std::ops::ControlFlow;

/// Crates that fall onto a deck, one that flies, and dust that drifts from the start.
fn shot() -> (Shot, [Id; 3]) {
    let mut shot = Shot::empty("Settled");
    shot.timing.last = 40;
    shot.add(Element::solid("Deck", Shape::plane(8.0, 8.0), Moves::Still));
    let mut crates = Element::solid("Crates", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free).at(0.0, 0.5, 0.0);
    crates.as_solid_mut().unwrap().copies = Some(Copies {
        count: [2, 3, 2],
        spacing_m: Vec3::splat(0.45),
        position_jitter_m: 0.02,
        orientation_jitter_rad: 0.1,
        seed: 1,
    });
    let crates = shot.add(crates);
    let mut ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Free).at(3.0, 4.0, 0.0);
    ball.as_solid_mut().unwrap().body.launch_velocity = Some(Vec3::new(0.0, 3.0, 1.0));
    ball.as_solid_mut().unwrap().body.launch_angular_velocity = Some(Vec3::X * 4.0);
    let ball = shot.add(ball);
    let particles = Particles {
        emission: Emission {
            schedule: EmissionSchedule::Burst { count: 50 },
            preroll_s: 0.5,
            ..Emission::default()
        },
        start: Start { lifespan_s: Some(1.0), ..Start::default() },
        ..Particles::default()
    };
    let dust = shot.add(Element::new("Dust", ElementKind::Particles(particles)).at(-3.0, 2.0, 0.0));
    (shot, [crates, ball, dust])
}

/// The shot as it begins from a frame.
fn begun(shot: &Shot, frame: &Frame, velocities: bool) -> Shot {
    let mut begun = shot.clone();
    let sha256 = format!("{:064x}", crc(&encode(frame)));
    let asset = Asset { kind: AssetKind::Frame, file: format!("assets/{sha256}.brframe"), sha256 };
    begun.assets.insert("frame".to_owned(), asset);
    begun.initial_state = Some(InitialState { asset: "frame".to_owned(), velocities });
    assert_eq!(begun.faults(), []);
    begun
}

/// A number that stands for bytes.
fn crc(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0xcbf2_9ce4_8422_2325, |h, b| (h ^ u64::from(*b)).wrapping_mul(0x100_0000_01b3))
}

fn first(shot: &Shot, frame: &Frame) -> Frame {
    let systems: Vec<_> = shot.systems().iter().map(|system| system.id).collect();
    Simulation::of(shot, &Meshes::default(), &systems, Some(frame)).unwrap().write()
}

fn at(shot: &Shot, number: u32) -> Frame {
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    (1..number - 1).for_each(|_| simulation.go_on().unwrap());
    simulation.advance().unwrap()
}

#[test]
fn bodies_and_particles_are_where_they_were_with_or_without_their_velocities() {
    let (shot, [crates, ball, dust]) = shot();
    let frame = at(&shot, 12);
    let moving = first(&begun(&shot, &frame, true), &frame);
    let resting = first(&begun(&shot, &frame, false), &frame);
    for begun in [&moving, &resting] {
        assert_eq!(begun.number, 1);
        for id in [crates, ball] {
            assert_eq!(begun.bodies[&id].positions, frame.bodies[&id].positions);
        }
        let (now, then) = (&begun.particles[&dust], &frame.particles[&dust]);
        assert_eq!((&now.ids, &now.positions), (&then.ids, &then.positions));
        assert!(now.ages.iter().zip(&then.ages).all(|(a, b)| (a - b).abs() < 1e-5));
        assert!(now.lifespans.iter().zip(&then.lifespans).all(|(a, b)| (a - b).abs() < 1e-5));
    }
    assert_eq!(moving.bodies[&ball].velocities, frame.bodies[&ball].velocities);
    assert_eq!(moving.bodies[&ball].angular_velocities, frame.bodies[&ball].angular_velocities);
    assert_eq!(moving.particles[&dust].velocities, frame.particles[&dust].velocities);
    assert!(resting.bodies[&crates].velocities.iter().all(|v| *v == Vec3::ZERO));
    assert!(resting.particles[&dust].velocities.iter().all(|v| *v == Vec3::ZERO));
}

/// With its velocity a flying ball goes on along its parabola.
#[test]
fn a_flight_goes_on_by_the_formula() {
    let (shot, [_, ball, _]) = shot();
    let frame = at(&shot, 12);
    let begun = begun(&shot, &frame, true);
    let systems: Vec<_> = begun.systems().iter().map(|system| system.id).collect();
    let mut simulation = Simulation::of(&begun, &Meshes::default(), &systems, Some(&frame)).unwrap();
    let later = (0..10).map(|_| simulation.advance().unwrap()).last().unwrap();
    let seconds = 21.0 / 24.0;
    let expected = Vec3::new(3.0, 4.0, 0.0) + Vec3::new(0.0, 3.0, 1.0) * seconds
        - Vec3::Y * (0.5 * 9.81 * seconds * seconds);
    assert!(later.bodies[&ball].positions[0].distance(expected) < 1e-4);
}

/// What has come to rest stays there: nothing bursts apart or sinks.
#[test]
fn a_settled_stack_stays_settled() {
    let (mut shot, [crates, ..]) = shot();
    shot.timing.last = 200;
    let frame = at(&shot, 190);
    let begun = begun(&shot, &frame, false);
    let systems: Vec<_> = begun.systems().iter().map(|system| system.id).collect();
    let mut simulation = Simulation::of(&begun, &Meshes::default(), &systems, Some(&frame)).unwrap();
    let later = (0..48).map(|_| simulation.advance().unwrap()).last().unwrap();
    let moved = later.bodies[&crates].positions.iter().zip(&frame.bodies[&crates].positions);
    let most = moved.map(|(a, b)| a.distance(*b)).fold(0.0, f32::max);
    assert!(most < 2e-3, "{most} m");
}

#[test]
fn a_burst_that_is_in_the_frame_does_not_come_again_and_ids_go_on() {
    let (mut shot, [.., dust]) = shot();
    let frame = at(&shot, 4);
    assert_eq!(frame.particles[&dust].len(), 50);
    let mut later = first(&begun(&shot, &frame, true), &frame);
    assert_eq!(later.particles[&dust].len(), 50);
    // A rate goes on from the first frame, without its preroll.
    shot.named_mut("Dust").unwrap().as_particles_mut().unwrap().emission.schedule =
        EmissionSchedule::Rate { per_s: 240.0 };
    let begun = begun(&shot, &frame, true);
    let systems: Vec<_> = begun.systems().iter().map(|system| system.id).collect();
    let mut simulation = Simulation::of(&begun, &Meshes::default(), &systems, Some(&frame)).unwrap();
    assert_eq!(simulation.write().particles[&dust].len(), 50);
    later = simulation.advance().unwrap();
    let ids = &later.particles[&dust].ids;
    assert_eq!(ids.len(), 60);
    assert!(ids.windows(2).all(|pair| pair[0] < pair[1]));
}

#[test]
fn a_bake_that_begins_from_a_frame_is_cut_and_resumed_and_stale_with_it() {
    let (shot, _) = shot();
    let frame = at(&shot, 12);
    let begun = begun(&shot, &frame, true);
    let dir = tempfile::tempdir().unwrap();
    let baked = |name: &str, cut: Option<u32>| {
        let run = RunFolder::create(dir.path().join(name)).unwrap();
        for stop in cut.into_iter().chain([u32::MAX]) {
            let job = Bake {
                shot: &begun,
                meshes: &Meshes::default(),
                run: &run,
                revision: 0,
                frames: begun.timing.frames(),
                systems: None,
                initial_state: Some(&frame),
            };
            let mut left = stop;
            bake(&job, |_| {
                left -= 1;
                if left == 0 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            })
            .unwrap();
        }
        run
    };
    let whole = baked("whole", None);
    let bytes = |run: &RunFolder| -> Vec<Vec<u8>> {
        begun.timing.frames().map(|number| encode(&run.read(number).unwrap())).collect()
    };
    for cut in [1, 7, 20] {
        assert!(bytes(&baked(&format!("cut {cut}"), Some(cut))) == bytes(&whole), "cut after {cut}");
    }
    assert!(fresh(&begun, &whole).iter().all(|fresh| *fresh));
    assert!(fresh(&shot, &whole).iter().all(|fresh| !fresh));
    let mut other = begun.clone();
    other.initial_state.as_mut().unwrap().velocities = false;
    assert!(fresh(&other, &whole).iter().all(|fresh| !fresh));
}

/// Bodies that are not in the frame, or are more than in it, begin as they are placed.
#[test]
fn what_the_frame_does_not_have_begins_as_placed() {
    let (mut shot, [crates, ball, _]) = shot();
    let frame = at(&shot, 12);
    shot.named_mut("Crates").unwrap().as_solid_mut().unwrap().copies.as_mut().unwrap().count = [2, 3, 3];
    let added = shot.add(Element::solid("New", Shape::sphere(0.1), Moves::Free).at(-1.0, 5.0, 0.0));
    let begun = first(&begun(&shot, &frame, true), &frame);
    assert_eq!(begun.bodies[&crates].len(), 18);
    assert_eq!(begun.bodies[&added].positions[0], Vec3::new(-1.0, 5.0, 0.0));
    assert_eq!(begun.bodies[&ball].positions, frame.bodies[&ball].positions);
}

#[test]
fn cloth_and_soft_bodies_are_as_they_were_with_or_without_their_velocities() {
    let mut shot = Shot::empty("Squashed");
    shot.timing.last = 20;
    shot.add(Element::solid("Deck", Shape::plane(8.0, 8.0), Moves::Still));
    let mut ball = Element::solid("Ball", Shape::sphere(0.25), Moves::Free).at(0.0, 0.5, 0.0);
    ball.as_solid_mut().unwrap().soft = Some(Soft::default());
    ball.as_solid_mut().unwrap().body.launch_velocity = Some(Vec3::new(0.5, -1.0, 0.0));
    let ball = shot.add(ball);
    let mut sheet = Element::solid("Sheet", Shape::plane(0.8, 0.8), Moves::Free).at(2.0, 0.3, 0.0);
    sheet.as_solid_mut().unwrap().cloth = Some(Cloth { edge_m: 0.1, ..Cloth::default() });
    let sheet = shot.add(sheet);
    let frame = at(&shot, 9);
    for velocities in [true, false] {
        let begun = first(&begun(&shot, &frame, velocities), &frame);
        for id in [ball, sheet] {
            let place =
                |frame: &Frame, i: usize| frame.bodies[&id].positions[0] + frame.meshes[&id].positions[i];
            let speed =
                |frame: &Frame, i: usize| frame.bodies[&id].velocities[0] + frame.meshes[&id].velocities[i];
            for i in 0..frame.meshes[&id].positions.len() {
                let off = place(&begun, i).distance(place(&frame, i));
                assert!(off < 2e-3, "{id:?} {i}: {off} m");
                let wanted = if velocities { speed(&frame, i) } else { Vec3::ZERO };
                let off = speed(&begun, i).distance(wanted);
                assert!(off < 0.1, "{id:?} {i}: {off} m/s");
            }
        }
    }
}
