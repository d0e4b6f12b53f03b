//! A bake that was stopped at any frame and resumed is the whole one, byte for
//! byte, also after changes that leave the frames before them as they are.

mod random;

use frames::{RunFolder, encode};
use geometry::Meshes;
use glam::Vec3;
use random::{Draw, random_shot};
use rstest::rstest;
use shot::{
    Copies, Element, ElementKind, Moves, Shape, Shot, SystemId,
    fingerprint::system_fingerprints,
    force::{Force, ForceKind},
    motion::Channel,
    particles::{Emission, EmissionDomain, EmissionSchedule, Particles, Source, Start},
};
use simulate::{Bake, Outcome, Simulation, bake};
use std::ops::ControlFlow;

/// All frames of a shot, and the state after each.
fn whole(shot: &Shot) -> Vec<(Vec<u8>, Vec<u8>)> {
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let mut frames = Vec::new();
    loop {
        let frame = if frames.is_empty() { simulation.write() } else { simulation.advance().unwrap() };
        frames.push((encode(&frame), simulation.save()));
        if simulation.frame() == shot.timing.last {
            return frames;
        }
    }
}

/// Goes on from the state at one place in the list for `count` frames, with the bytes of those.
fn resumed_holds(shot: &Shot, frames: &[(Vec<u8>, Vec<u8>)], at: usize, count: usize) {
    let mut simulation = Simulation::restored(shot, &Meshes::default(), &frames[at].1).unwrap();
    for (i, (bytes, _)) in frames.iter().enumerate().skip(at + 1).take(count) {
        let frame = simulation.advance().unwrap();
        assert!(encode(&frame) == *bytes, "{}: cut at {at}, differs at {i}", shot.name);
    }
}

#[rstest]
fn a_random_shot_cut_at_every_frame_goes_on_with_the_same_bytes(
    #[values(1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)] seed: u64,
) {
    let shot = random_shot(seed);
    let frames = whole(&shot);
    for at in 0..frames.len() - 1 {
        resumed_holds(&shot, &frames, at, 3);
    }
}

/// Bakes into a folder, after so many frames no more.
fn baked(shot: &Shot, run: &RunFolder, stop: Option<u32>) -> Outcome {
    let frames = shot.timing.frames();
    let mut left = stop.unwrap_or(u32::MAX);
    let job = Bake {
        shot,
        meshes: &Meshes::default(),
        run,
        revision: 0,
        frames,
        systems: None,
        initial_state: None,
    };
    bake(&job, |_| {
        left -= 1;
        if left == 0 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })
    .unwrap()
}

fn bytes(run: &RunFolder) -> Vec<Vec<u8>> {
    run.headers().into_keys().map(|number| encode(&run.read(number).unwrap())).collect()
}

/// What was baked before a change and after it against the changed shot baked in one go.
fn change_holds(before: &Shot, after: &Shot, stop: Option<u32>) {
    let dir = tempfile::tempdir().unwrap();
    let parts = RunFolder::create(dir.path().join("parts")).unwrap();
    baked(before, &parts, stop);
    baked(after, &parts, None);
    let whole = RunFolder::create(dir.path().join("whole")).unwrap();
    baked(after, &whole, None);
    let (parts, whole) = (bytes(&parts), bytes(&whole));
    let differs = parts.iter().zip(&whole).position(|(a, b)| a != b);
    assert!(parts.len() == whole.len() && differs.is_none(), "{}: {differs:?}", after.name);
}

#[rstest]
fn a_random_shot_changed_on_the_way_is_the_changed_one(
    #[values(21, 22, 23, 24, 25, 26, 27, 28, 29, 30)] seed: u64,
) {
    let before = random_shot(seed);
    let mut draw = Draw(seed + 1000);
    for _ in 0..3 {
        let mut after = before.clone();
        random::change(&mut after, &mut draw);
        let stop = draw.whole(1, before.timing.last as usize) as u32;
        change_holds(&before, &after, Some(stop));
    }
}

/// A bake of a shot that goes round, stopped at any frame, goes on with the same bytes: births of
/// a round have the numbers of the first, whatever was born before the cut.
#[rstest]
fn a_shot_that_goes_round_is_the_same_wherever_it_is_cut(#[values(41, 44)] seed: u64) {
    let mut draw = Draw(seed);
    let mut shot = random_shot(seed);
    shot.channels.clear();
    shot.timing.loop_frames = Some(draw.whole(3, 9) as u32);
    random::key_late_in_the_round(&mut shot, &mut draw);
    let mut dust = dust(Some(shot.timing.first + 1));
    dust.as_particles_mut().unwrap().emission.evenly_spaced = true;
    shot.add(dust);
    for stop in 1..shot.timing.count() {
        change_holds(&shot, &shot, Some(stop));
    }
}

fn drifting() -> Shot {
    let mut shot = Shot::empty("Drifting");
    shot.elements.clear();
    shot.camera = None;
    shot.timing.last = 40;
    shot.add(Element::solid("Ball", Shape::sphere(0.1), Moves::Free));
    shot.add(Element::solid("Deck", Shape::plane(4.0, 4.0), Moves::Still).at(0.0, -2.0, 0.0));
    let mut push = Force::new(ForceKind::Pull { force_n: 30.0 });
    push.to_frame = Some(30);
    shot.add(Element::new("Push", ElementKind::Force(push)).turned(0.0, 0.0, 1.5));
    shot
}

#[test]
fn a_force_that_ends_earlier_than_it_did_leaves_no_push_behind() {
    let before = drifting();
    let mut after = before.clone();
    let ElementKind::Force(force) = &mut after.named_mut("Push").unwrap().kind else { panic!("a force") };
    force.to_frame = Some(16);
    change_holds(&before, &after, None);
    change_holds(&before, &after, Some(16));
}

fn dust(from_frame: Option<u32>) -> Element {
    let particles = Particles {
        source: Source::Shape { shape: Shape::sphere(0.2), domain: EmissionDomain::Surface },
        emission: Emission {
            schedule: EmissionSchedule::Rate { per_s: 120.0 },
            from_frame,
            ..Emission::default()
        },
        start: Start { speed_m_s: 1.0, inherited_velocity: 1.0, ..Start::default() },
        ..Particles::default()
    };
    let moving = Channel::keyed([(1.0, 0.0f32), (40.0, 8.0)]);
    Element::new("Dust", ElementKind::Particles(particles)).keyed("placement.position_m[0]", moving)
}

/// Particles that begin after a checkpoint, or go before they began.
#[rstest]
#[case(8)]
#[case(9)]
#[case(16)]
#[case(21)]
fn particles_that_begin_later_leave_the_frames_before_as_they_are(#[case] from: u32) {
    let before = drifting();
    let mut after = before.clone();
    after.add(dust(Some(from)));
    change_holds(&before, &after, None);
    change_holds(&after, &before, Some(from - 1));
    let mut another = after.clone();
    another.add(dust(Some(from + 6)));
    change_holds(&after, &another, None);
}

#[test]
fn a_spin_that_is_keyed_later_leaves_the_frames_before_as_they_are() {
    let mut before = drifting();
    before.add(dust(None));
    let mut after = before.clone();
    let dust = after.named_mut("Dust").unwrap();
    dust.channels.insert(
        "kind.particles.start.angular_speed_rad_s".to_owned(),
        Channel::keyed([(1.0, 0.0f32), (20.0, 0.0), (24.0, 9.0)]),
    );
    change_holds(&before, &after, None);
    change_holds(&after, &before, Some(30));
}

#[test]
fn a_shape_that_is_keyed_later_does_so_too() {
    let mut before = drifting();
    before.add(dust(None));
    let mut after = before.clone();
    let ball = after.named_mut("Ball").unwrap();
    ball.channels
        .insert("kind.solid.shape.sphere.radius_m".to_owned(), Channel::keyed([(20.0, 0.1f32), (30.0, 0.2)]));
    change_holds(&before, &after, None);
}

#[test]
fn a_state_that_cannot_be_read_means_an_earlier_one() {
    let mut shot = drifting();
    shot.add(dust(None));
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    baked(&shot, &run, Some(30));
    let prints = &system_fingerprints(&shot)[0];
    let system = prints.system;
    let at = *run.checkpoint_numbers(system).last().unwrap();
    let print = prints.list[at as usize - 1].unwrap();
    let state = run.checkpoint(system, at, print).unwrap();
    for broken in [&state[..state.len() / 2], &[][..], &[0xff; 300][..]] {
        run.write_checkpoint(system, at, print, |out| out.write_all(broken)).unwrap();
        baked(&shot, &run, None);
        let whole = RunFolder::create(dir.path().join(format!("whole-{}", broken.len()))).unwrap();
        baked(&shot, &whole, None);
        assert!(bytes(&run) == bytes(&whole));
        std::fs::remove_file(run.path().join("frames/solids/00040.brframe")).unwrap();
    }
}

#[test]
fn first_frame_0_is_baked_and_stays_fresh() {
    let mut shot = drifting();
    (shot.timing.first, shot.timing.last) = (0, 12);
    shot.add(dust(None));
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    baked(&shot, &run, Some(5));
    baked(&shot, &run, None);
    assert_eq!(simulate::fresh(&shot, &run), [true; 13]);
    assert_eq!(baked(&shot, &run, None), Outcome::Done(0));
    std::fs::remove_file(run.path().join("frames/solids/00000.brframe")).unwrap();
    assert_eq!(baked(&shot, &run, None), Outcome::Done(1));
}

#[test]
fn two_bakes_do_not_write_into_one_folder() {
    let shot = drifting();
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    let lock = run.lock().unwrap();
    let job = Bake {
        shot: &shot,
        meshes: &Meshes::default(),
        run: &run,
        revision: 0,
        frames: 1..=9,
        systems: None,
        initial_state: None,
    };
    let error = bake(&job, |_| ControlFlow::Continue(())).unwrap_err().to_string();
    assert!(error.contains("another bake is writing"), "{error}");
    drop(lock);
    assert_eq!(bake(&job, |_| ControlFlow::Continue(())).unwrap(), Outcome::Done(9));
}

/// Frames that were damaged are found and computed again, those beside them not.
#[test]
fn damaged_frames_are_computed_again() {
    let shot = drifting();
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    baked(&shot, &run, None);
    let whole = bytes(&run);
    let file = |number: u32| run.path().join(format!("frames/solids/{number:05}.brframe"));
    let mut changed = std::fs::read(file(7)).unwrap();
    changed[60] ^= 4;
    std::fs::write(file(7), changed).unwrap();
    let short = std::fs::read(file(20)).unwrap();
    std::fs::write(file(20), &short[..short.len() - 9]).unwrap();
    std::fs::write(file(30), b"").unwrap();
    assert_eq!(baked(&shot, &run, None), Outcome::Done(3));
    assert!(bytes(&run) == whole);
}

/// Particles that become solids before the first frame are there as solids.
#[test]
fn solids_that_come_of_particles_in_the_preroll_stay_and_settle() {
    let mut shot = Shot::empty("Preroll");
    shot.timing.last = 20;
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    let mut chips = Element::solid("Chips", Shape::cuboid(0.06, 0.06, 0.06), Moves::Free);
    chips.as_solid_mut().unwrap().from_particles = Some(40);
    let chips = shot.add(chips);
    let staged = shot.add(Element::solid("Staged", Shape::sphere(0.2), Moves::Free).at(0.0, 3.0, 2.0));
    let grid = Source::Grid { count: [8, 1, 5], spacing_m: Vec3::splat(0.2) };
    let births =
        Emission { schedule: EmissionSchedule::Burst { count: 40 }, preroll_s: 2.0, ..Emission::default() };
    let start = Start {
        speed_m_s: 0.0,
        lifespan_s: None,
        size_m: 0.06,
        size_variation: 0.0,
        spread_rad: 0.0,
        ..Start::default()
    };
    let mut particles = Particles { source: grid, emission: births, start, ..Particles::default() };
    particles.events = vec![shot::particles::ParticleEvent {
        trigger: shot::particles::Trigger::Age { age_s: 0.25 },
        action: shot::particles::Action::Solid { solid: chips },
        probability: 1.0,
    }];
    shot.add(Element::new("Flakes", ElementKind::Particles(particles)).at(0.0, 1.0, 0.0));
    let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
    let first = simulation.write();
    assert_eq!(first.bodies[&chips].len(), 40);
    // They have fallen for longer than it takes; what is staged has not moved.
    assert!(
        first.bodies[&chips].positions.iter().all(|position| position.y < 0.1),
        "{:?}",
        first.bodies[&chips].positions
    );
    assert_eq!(first.bodies[&staged].positions[0], Vec3::new(0.0, 3.0, 2.0));
    let frames = whole(&shot);
    for at in [0, 1, 7] {
        resumed_holds(&shot, &frames, at, 4);
    }
    let later = simulation.advance().unwrap();
    assert!(later.bodies[&staged].velocities[0].y < -0.1);
}

/// A preroll is computed once: a resumed bake goes on from the first frame's state.
#[test]
fn the_preroll_is_not_computed_again_to_add_a_frame() {
    let mut shot = drifting();
    shot.timing.last = 6;
    let mut early = dust(None);
    early.as_particles_mut().unwrap().emission.preroll_s = 5.0;
    shot.add(early);
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    baked(&shot, &run, Some(1));
    assert_eq!(run.checkpoint_numbers(SystemId::Solids), [1]);
    baked(&shot, &run, None);
    shot.timing.last = 7;
    baked(&shot, &run, None);
    let whole = RunFolder::create(dir.path().join("whole")).unwrap();
    baked(&shot, &whole, None);
    assert!(bytes(&run) == bytes(&whole));
}

/// Many copies and forces at once, the state of each solver beside the other.
#[test]
fn a_pile_in_the_wind_cut_anywhere_goes_on_with_the_same_bytes() {
    let mut shot = Shot::empty("Pile");
    shot.timing.last = 30;
    shot.add(Element::solid("Deck", Shape::plane(8.0, 8.0), Moves::Still));
    let mut crates = Element::solid("Crates", Shape::cuboid(0.3, 0.3, 0.3), Moves::Free).at(0.0, 0.4, 0.0);
    crates.as_solid_mut().unwrap().copies = Some(Copies {
        count: [4, 3, 4],
        spacing_m: Vec3::splat(0.33),
        position_jitter_m: 0.02,
        orientation_jitter_rad: 0.2,
        seed: 5,
    });
    shot.add(crates);
    let mut wind = Force::new(ForceKind::Wind(Default::default()));
    (wind.from_frame, wind.to_frame) = (Some(8), Some(19));
    shot.add(Element::new("Gust", ElementKind::Force(wind)).turned(0.0, 0.0, 1.4));
    let frames = whole(&shot);
    for at in 0..frames.len() - 1 {
        resumed_holds(&shot, &frames, at, 2);
    }
}

/// A number is spread over all frames: with more of them each comes later.
#[test]
fn a_longer_shot_spreads_a_number_anew() {
    let mut before = drifting();
    let mut few = dust(None);
    few.as_particles_mut().unwrap().emission.schedule = EmissionSchedule::Total { count: 40 };
    before.add(few);
    let mut after = before.clone();
    after.timing.last += 6;
    change_holds(&before, &after, None);
}
