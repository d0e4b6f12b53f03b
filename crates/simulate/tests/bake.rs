//! Baking: the same bytes however it went, and only what is stale is computed.

use frames::RunFolder;
use geometry::Meshes;
use glam::Vec3;
use rstest::rstest;
use shot::particles::{Emission, EmissionDomain, EmissionSchedule, Liquid, Particles, Source, Start};
use shot::{
    Collision, Copies, Element, ElementKind, Moves, Shape, Shot, Wake,
    force::{Force, ForceKind},
    motion::Channel,
};
use simulate::{Bake, BakeError, Cancel, Outcome, Simulation, bake, bake_until, fresh};
use std::ops::ControlFlow;
use tempfile::TempDir;

fn tumble() -> Shot {
    let mut shot = Shot::empty("Tumble");
    shot.timing.last = 48;
    shot.add(Element::solid("Deck", Shape::plane(8.0, 8.0), Moves::Still));
    let mut crates = Element::solid("Crates", Shape::cuboid(0.4, 0.3, 0.5), Moves::Free).at(0.0, 0.16, 0.0);
    crates.as_solid_mut().unwrap().copies = Some(Copies {
        count: [3, 4, 2],
        spacing_m: Vec3::new(0.42, 0.31, 0.52),
        position_jitter_m: 0.01,
        orientation_jitter_rad: 0.05,
        seed: 3,
    });
    shot.add(crates);
    let mut block = Element::solid("Block", Shape::cuboid(0.6, 0.6, 0.6), Moves::Animated);
    let keys = [(1.0, -2.5), (20.0, -0.6), (40.0, 1.0)].map(|(frame, x)| (frame, Vec3::new(x, 0.8, 0.0)));
    block.channels.insert("placement.position_m".to_owned(), Channel::keyed(keys));
    block.as_solid_mut().unwrap().body.wake = Some(Wake::Frame(16));
    shot.add(block);
    let mut ring =
        Element::solid("Ring", Shape::Torus { major_radius_m: 0.3, minor_radius_m: 0.06 }, Moves::Free)
            .at(1.5, 1.0, 0.2);
    ring.as_solid_mut().unwrap().body.collision = Collision::Exact;
    shot.add(ring);
    shot
}

fn folder() -> (TempDir, RunFolder) {
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    (dir, run)
}

fn bake_into(shot: &Shot, run: &RunFolder, stop_after: Option<u32>) -> Result<Outcome, BakeError> {
    let job = Bake {
        shot,
        meshes: &Default::default(),
        run,
        revision: 1,
        frames: 1..=shot.timing.last,
        initial_state: None,
        systems: None,
    };
    let mut count = 0;
    bake(&job, |_| {
        count += 1;
        if stop_after.is_some_and(|stop| count >= stop) {
            ControlFlow::Break(())
        } else {
            ControlFlow::Continue(())
        }
    })
}

fn bytes(run: &RunFolder) -> Vec<(String, Vec<u8>)> {
    let mut files: Vec<_> = std::fs::read_dir(run.path().join("frames/solids"))
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .chain([run.path().join("run.json")])
        .map(|path| (path.file_name().unwrap().to_str().unwrap().to_owned(), std::fs::read(&path).unwrap()))
        .collect();
    files.sort();
    files
}

#[rstest]
#[case(&[1])]
#[case(&[7, 9, 1])]
#[case(&[24])]
#[case(&[30, 1, 1, 1])]
fn a_bake_stopped_and_resumed_has_the_same_bytes(#[case] stops: &[u32]) {
    let shot = tumble();
    let (_a, whole) = folder();
    assert_eq!(bake_into(&shot, &whole, None).unwrap(), Outcome::Done(48));
    let (_b, parts) = folder();
    for &stop in stops {
        assert_eq!(bake_into(&shot, &parts, Some(stop)).unwrap(), Outcome::Stopped);
    }
    assert!(matches!(bake_into(&shot, &parts, None).unwrap(), Outcome::Done(_)));
    assert!(bytes(&whole) == bytes(&parts));
}

/// A block of 42,875 particles of liquid that falls: more than are saved beside the next frame.
fn falling_block() -> Shot {
    let mut shot = Shot::empty("Block");
    shot.timing.last = 5;
    let edge_m = 0.35;
    let block = Particles {
        liquid: Some(Liquid { spacing_m: 0.01, ..Liquid::default() }),
        source: Source::Shape {
            shape: Shape::cuboid(edge_m, edge_m, edge_m),
            domain: EmissionDomain::Surface,
        },
        emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
        start: Start { speed_m_s: 0.0, speed_variation: 0.0, lifespan_s: None, ..Start::default() },
        ..Particles::default()
    };
    shot.add(Element::new("Block", ElementKind::Particles(block)).at(0.0, 1.0, 0.0));
    shot
}

#[test]
fn a_large_state_that_is_written_by_itself_is_gone_on_from() {
    let shot = falling_block();
    let (_a, whole) = folder();
    bake_into(&shot, &whole, None).unwrap();
    let last = whole.read(5).unwrap();
    assert!(last.particles.values().all(|of| of.len() > 40_000));
    let meshes = Meshes::default();
    let (_b, in_parts) = folder();
    for frames in [1..=2, 3..=4, 5..=5] {
        let job = Bake {
            shot: &shot,
            meshes: &meshes,
            run: &in_parts,
            revision: 1,
            frames,
            initial_state: None,
            systems: None,
        };
        let outcome = bake(&job, |_| ControlFlow::Continue(())).unwrap();
        assert!(matches!(outcome, Outcome::Done(1..=2)), "nothing is computed again: {outcome:?}");
    }
    assert_eq!(whole.read(5).unwrap(), in_parts.read(5).unwrap());
}

#[test]
fn a_state_has_the_same_bytes_whichever_way_it_is_written() {
    for shot in [falling_block(), tumble()] {
        let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
        for _ in 0..2 {
            simulation.go_on().unwrap();
        }
        for saved in simulation.snapshot() {
            let mut bytes = Vec::new();
            simulation.write_state(saved.system(), &mut bytes).unwrap();
            assert!(!bytes.is_empty() && bytes == saved.bytes());
        }
    }
}

#[test]
fn a_fresh_run_is_not_computed_again() {
    let shot = tumble();
    let (_dir, run) = folder();
    bake_into(&shot, &run, None).unwrap();
    assert_eq!(bake_into(&shot, &run, None).unwrap(), Outcome::Done(0));
}

#[test]
fn a_later_key_leaves_earlier_frames_fresh_and_their_bytes_alone() {
    let mut shot = tumble();
    let (_dir, run) = folder();
    bake_into(&shot, &run, None).unwrap();
    let before = bytes(&run);
    shot.named_mut("Block").unwrap().as_solid_mut().unwrap().body.wake = Some(Wake::Frame(30));
    let freshness = fresh(&shot, &run);
    assert!(freshness[..16].iter().all(|fresh| *fresh) && freshness[16..].iter().all(|fresh| !fresh));
    assert_eq!(bake_into(&shot, &run, None).unwrap(), Outcome::Done(32));
    let after = bytes(&run);
    assert!(before[..16] == after[..16]);
    let (_other, whole) = folder();
    bake_into(&shot, &whole, None).unwrap();
    assert!(bytes(&whole) == after);
}

#[test]
fn undoing_a_change_finds_the_frames_fresh_that_were_not_overwritten() {
    let shot = tumble();
    let (_dir, run) = folder();
    bake_into(&shot, &run, None).unwrap();
    let mut changed = tumble();
    changed.named_mut("Crates").unwrap().as_solid_mut().unwrap().body.friction = 0.9;
    assert!(fresh(&changed, &run).iter().all(|fresh| !fresh));
    bake_into(&changed, &run, Some(10)).unwrap();
    let freshness = fresh(&shot, &run);
    assert!(freshness[..10].iter().all(|fresh| !fresh) && freshness[12..].iter().all(|fresh| *fresh));
}

#[test]
fn a_blow_up_names_the_frame_and_the_element_and_keeps_the_frames_before() {
    let mut shot = tumble();
    let kind = ForceKind::Gravity { acceleration: Vec3::new(1_000.0, 1_000.0, 0.0) };
    shot.named_mut("Gravity").unwrap().kind = ElementKind::Force(Force::new(kind));
    shot.timing.last = 96;
    let (_dir, run) = folder();
    let Err(BakeError::BlowUp(error)) = bake_into(&shot, &run, None) else { panic!("it must blow up") };
    assert!(error.to_string().contains("Crates") || error.to_string().contains("Ring"), "{error}");
    assert!(error.to_string().contains("over 2000 m/s"), "{error}");
    assert_eq!(run.headers().into_keys().collect::<Vec<_>>(), (1..error.frame).collect::<Vec<_>>());
}

#[test]
fn a_body_let_go_flies_on_as_its_keys_moved_it() {
    let mut shot = tumble();
    shot.elements.retain(|element| !["Crates", "Ring"].contains(&element.name.as_str()));
    let (_dir, run) = folder();
    bake_into(&shot, &run, None).unwrap();
    let block = shot.named("Block").unwrap().id;
    let velocity = run.read(17).unwrap().bodies[&block].velocities[0];
    // 1.9 m in 19 frames at 24 frames a second, and a frame of gravity.
    assert!((velocity.x - 2.4).abs() < 0.01, "{velocity}");
    assert!((velocity.y + 9.81 / 24.0).abs() < 0.06, "{velocity}");
}

/// A bake ends within a frame, and before the first one; a second one goes on from there.
#[rstest]
#[case(0.0, 20)]
#[case(10.0, 5)]
fn a_bake_is_cancelled_within_a_frame_and_in_the_preroll(#[case] preroll_s: f32, #[case] substeps: u64) {
    use shot::{
        ElementKind,
        particles::{Emission, EmissionSchedule, Particles},
    };
    let mut shot = shot::Shot::empty("Cancelled");
    let emission =
        Emission { schedule: EmissionSchedule::Rate { per_s: 20.0 }, preroll_s, ..Emission::default() };
    let dust = ElementKind::Particles(Particles { emission, ..Particles::default() });
    shot.add(shot::Element::new("Dust", dust));
    shot.timing.last = 4;
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    let meshes = Meshes::default();
    let frames = shot.timing.frames();
    let job = Bake {
        shot: &shot,
        meshes: &meshes,
        run: &run,
        revision: 1,
        frames,
        systems: None,
        initial_state: None,
    };
    let asked = std::sync::Arc::new(std::sync::atomic::AtomicU64::new(0));
    let count = asked.clone();
    // Asked before each of the eight substeps of a frame.
    let cancel = Cancel::when(move || count.fetch_add(1, std::sync::atomic::Ordering::Relaxed) >= substeps);
    let outcome = bake_until(&job, &cancel, |_| ControlFlow::Continue(())).unwrap();
    assert_eq!(outcome, Outcome::Stopped);
    // It is asked once more where the end is noticed, and no substep goes on after that.
    assert!(asked.load(std::sync::atomic::Ordering::Relaxed) <= substeps + 1);
    let whole = |run: &RunFolder| -> usize { fresh(&shot, run).iter().filter(|fresh| **fresh).count() };
    assert_eq!(whole(&run), if preroll_s > 0.0 { 0 } else { 3 });
    bake(&job, |_| ControlFlow::Continue(())).unwrap();
    assert_eq!(whole(&run), 4);
}
