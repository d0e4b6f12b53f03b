//! Systems go stale one by one, and what is called fresh is what a full bake gives.

mod random;

use frames::{Frame, RunFolder, encode};
use geometry::Meshes;
use glam::Vec3;
use random::{Draw, random_shot};
use shot::{
    Copies, Element, ElementKind, Id, Moves, Shape, Shot, SystemId,
    force::{ElementFilter, Force, ForceKind},
    particles::{ContactResponse, EmissionSchedule, Particles, Start},
};
use simulate::{Bake, Outcome, bake, fresh, fresh_systems};
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::os::unix::fs::MetadataExt;
use tempfile::TempDir;

fn folder() -> (TempDir, RunFolder) {
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    (dir, run)
}

fn baked(shot: &Shot, run: &RunFolder, systems: Option<&[SystemId]>) -> Outcome {
    let frames = shot.timing.frames();
    let job =
        Bake { shot, meshes: &Meshes::default(), run, revision: 0, frames, systems, initial_state: None };
    bake(&job, |_| ControlFlow::Continue(())).unwrap()
}

/// A frame's part of a system, as bytes; none: it is not there.
fn part(run: &RunFolder, system: SystemId, number: u32) -> Option<Vec<u8>> {
    run.headers_of(system).get(&number)?;
    let mut frame = Frame::default();
    run.read_parts(number, &[system], &frames::Parts::All, &mut frame).unwrap();
    // The fingerprint of a whole frame of one system.
    Some(encode(&frame))
}

/// Crates that fall, and sparks that push nothing.
fn tumble() -> (Shot, Id) {
    let mut shot = Shot::empty("Tumble");
    shot.timing.last = 30;
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    let mut crates = Element::solid("Crates", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free).at(0.0, 1.5, 0.0);
    crates.as_solid_mut().unwrap().copies = Some(Copies {
        count: [2, 3, 2],
        spacing_m: Vec3::splat(0.5),
        position_jitter_m: 0.02,
        orientation_jitter_rad: 0.1,
        seed: 1,
    });
    shot.add(crates);
    let sparks = shot.add(sparks("Sparks"));
    (shot, sparks)
}

fn sparks(name: &str) -> Element {
    let contact = ContactResponse { push: false, ..ContactResponse::default() };
    let start = Start { speed_m_s: 4.0, spread_rad: 1.0, ..Start::default() };
    Element::new(name, ElementKind::Particles(Particles { contact, start, ..Particles::default() }))
        .at(0.2, 0.5, 0.0)
}

/// The inode of each file of a system: a file that is written anew has another.
fn files(run: &RunFolder, system: &str) -> BTreeMap<String, u64> {
    let entries = std::fs::read_dir(run.path().join("frames").join(system)).into_iter().flatten().flatten();
    entries.map(|e| (e.file_name().into_string().unwrap(), e.metadata().unwrap().ino())).collect()
}

#[test]
fn sparks_that_are_added_to_a_baked_tumble_leave_it_fresh() {
    let (shot, sparks) = tumble();
    let without = shot.without(&[sparks]);
    let (_dir, run) = folder();
    baked(&without, &run, None);
    let solids = files(&run, "solids");
    let states = fresh_systems(&shot, &run);
    assert_eq!(states[0].system, SystemId::Solids);
    assert!(states[0].fresh.iter().all(|fresh| *fresh));
    assert!(states[1].fresh.iter().skip(1).all(|fresh| !fresh));
    assert_eq!(baked(&shot, &run, None), Outcome::Done(29));
    assert_eq!(files(&run, "solids"), solids, "the solids are not written again");
    let (_dir, whole) = folder();
    baked(&shot, &whole, None);
    for number in 1..=30 {
        assert!(encode(&run.read(number).unwrap()) == encode(&whole.read(number).unwrap()));
    }
    // Without them again, all is as it was, and nothing of them is left.
    assert!(fresh(&without, &run).iter().all(|fresh| *fresh));
    assert_eq!(baked(&without, &run, None), Outcome::Done(0));
    assert_eq!(run.systems(), [SystemId::Solids]);
}

#[test]
fn particles_that_read_the_solids_are_stale_with_them_and_not_the_other_way_round() {
    let (mut shot, id) = tumble();
    let (_dir, run) = folder();
    baked(&shot, &run, None);
    let stale = |shot: &Shot| -> Vec<bool> {
        fresh_systems(shot, &run).iter().map(|system| !system.fresh[20]).collect()
    };
    let before = shot.clone();
    shot.named_mut("Sparks").unwrap().as_particles_mut().unwrap().start.speed_m_s = 5.0;
    assert_eq!(stale(&shot), [false, true]);
    let mut shot = before.clone();
    shot.named_mut("Crates").unwrap().as_solid_mut().unwrap().body.friction = 0.1;
    assert_eq!(stale(&shot), [true, true]);
    // Another set has nothing to do with the first.
    let mut shot = before.clone();
    shot.add(sparks("Embers"));
    assert_eq!(stale(&shot), [false, false, true]);
    // A force on the sparks alone is no concern of the solids.
    let mut shot = before.clone();
    let mut wind = Force::new(ForceKind::Pull { force_n: 0.1 });
    wind.only.push(ElementFilter::Element(id));
    shot.add(Element::new("Draught", ElementKind::Force(wind)));
    assert_eq!(stale(&shot), [false, true]);
    baked(&shot, &run, None);
    let (_dir, whole) = folder();
    baked(&shot, &whole, None);
    assert!(part(&run, SystemId::Solids, 30) == part(&whole, SystemId::Solids, 30));
}

#[test]
fn one_system_is_computed_alone_while_the_others_hold() {
    let (mut shot, sparks) = tumble();
    let (_dir, run) = folder();
    baked(&shot, &run, Some(&[SystemId::Solids]));
    assert_eq!(run.systems(), [SystemId::Solids]);
    baked(&shot, &run, None);
    let held = files(&run, &SystemId::Particles(sparks).to_string());
    shot.named_mut("Crates").unwrap().as_solid_mut().unwrap().body.restitution = 0.7;
    assert_eq!(baked(&shot, &run, Some(&[SystemId::Solids])), Outcome::Done(30));
    assert_eq!(files(&run, &SystemId::Particles(sparks).to_string()), held);
    assert!(!fresh(&shot, &run)[20]);
    // One that reads others brings those along.
    shot.named_mut("Crates").unwrap().as_solid_mut().unwrap().body.restitution = 0.2;
    baked(&shot, &run, Some(&[SystemId::Particles(sparks)]));
    assert!(fresh(&shot, &run).iter().all(|fresh| *fresh));
}

#[test]
fn nothing_is_computed_or_read_before_a_system_begins() {
    let (mut shot, sparks) = tumble();
    let system = SystemId::Particles(sparks);
    let (_dir, run) = folder();
    baked(&shot, &run, None);
    shot.named_mut("Sparks").unwrap().as_particles_mut().unwrap().emission.from_frame = Some(20);
    assert!(fresh(&shot, &run).iter().skip(1).all(|fresh| !fresh), "they were there before");
    assert_eq!(baked(&shot, &run, None), Outcome::Done(10));
    assert_eq!(run.headers_of(system).into_keys().collect::<Vec<_>>(), (21..=30).collect::<Vec<_>>());
    assert!(fresh(&shot, &run).iter().all(|fresh| *fresh));
}

/// Bakes a shot, changes it, and compares with a full bake of the changed one: what is called
/// fresh before and after the change is baked is what that gives, in every system. Returns how
/// many parts were called stale, and how many of these come out the same.
fn compare_with_full_bake(before: &Shot, after: &Shot) -> (u32, u32) {
    let (mut called_stale, mut same) = (0, 0);
    let ((_a, run), (_b, whole)) = (folder(), folder());
    baked(before, &run, None);
    baked(after, &whole, None);
    for state in fresh_systems(after, &run) {
        for (number, is_fresh) in after.timing.frames().zip(&state.fresh) {
            let [has, wanted] = [&run, &whole].map(|run| part(run, state.system, number));
            if *is_fresh {
                assert!(has == wanted, "{}: {} at frame {number}", after.name, state.system);
            } else if let (Some(has), Some(wanted)) = (has, wanted) {
                let plain = |bytes: &[u8]| {
                    let mut frame = frames::decode(bytes).unwrap();
                    frame.fingerprint = shot::fingerprint::Fingerprint::default();
                    frame
                };
                called_stale += 1;
                same += u32::from(plain(&has) == plain(&wanted));
            }
        }
    }
    baked(after, &run, None);
    for number in after.timing.frames() {
        let [a, b] = [&run, &whole].map(|run| encode(&run.read(number).unwrap()));
        assert!(a == b, "{}: frame {number} after the change", after.name);
    }
    (called_stale, same)
}

/// Over random changes to random shots; what is called stale and comes out the same is counted.
#[test]
fn frames_called_fresh_are_those_of_a_full_bake() {
    let (mut called_stale, mut same) = (0, 0);
    for seed in 100..124 {
        let before = random_shot(seed);
        let mut draw = Draw(seed + 5000);
        let mut after = before.clone();
        random::change(&mut after, &mut draw);
        let (stale, of_these) = compare_with_full_bake(&before, &after);
        (called_stale, same) = (called_stale + stale, same + of_these);
    }
    println!("{same} of {called_stale} parts called stale come out the same");
    assert!(5 * same <= 2 * called_stale, "{same} of {called_stale} are called stale for nothing");
}

/// In a shot that goes round a key acts before its frame too: by the way to it from the last key of
/// the round before, and by the length of a pattern's course in a whole round.
#[test]
fn frames_called_fresh_are_those_of_a_full_bake_in_shots_that_go_round() {
    for seed in 300..324 {
        let mut draw = Draw(seed + 9000);
        let mut before = random_shot(seed);
        before.channels.clear();
        let count = before.timing.count() as usize;
        before.timing.loop_frames = Some(draw.whole(6, count) as u32);
        assert_eq!(before.faults(), []);
        let mut after = before.clone();
        if draw.whole(0, 1) == 0 {
            random::change(&mut after, &mut draw);
        } else {
            random::key_late_in_the_round(&mut after, &mut draw);
        }
        compare_with_full_bake(&before, &after);
    }
}

/// A preroll of one set is no concern of another.
#[test]
fn a_set_with_a_preroll_leaves_the_others_as_they_are() {
    let (mut shot, sparks) = tumble();
    let of = shot.named_mut("Sparks").unwrap().as_particles_mut().unwrap();
    of.emission.schedule = EmissionSchedule::Burst { count: 30 };
    let mut early = self::sparks("Embers");
    early.as_particles_mut().unwrap().emission.preroll_s = 0.5;
    let mut with = shot.clone();
    with.add(early);
    let ((_a, alone), (_b, both)) = (folder(), folder());
    baked(&shot, &alone, None);
    baked(&with, &both, None);
    for number in 1..=30 {
        for system in [SystemId::Solids, SystemId::Particles(sparks)] {
            assert!(part(&alone, system, number) == part(&both, system, number), "{system} at {number}");
        }
    }
}

/// A burst at a frame is there at that frame, which is stale without it.
#[test]
fn a_burst_comes_at_its_frame() {
    let (mut shot, sparks) = tumble();
    let of = shot.named_mut("Sparks").unwrap().as_particles_mut().unwrap();
    of.emission.schedule = EmissionSchedule::Burst { count: 30 };
    of.emission.from_frame = Some(9);
    let (_dir, run) = folder();
    baked(&shot, &run, None);
    assert_eq!(run.headers_of(SystemId::Particles(sparks)).into_keys().next(), Some(9));
    assert_eq!(run.read(9).unwrap().particles[&sparks].len(), 30);
}
