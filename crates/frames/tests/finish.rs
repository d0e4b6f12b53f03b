//! Finishing steps on runs of known frames.

use frames::finish::{FinishContext, SharedFrames, StepResult, best_loops, finished, seam};
use frames::{Bodies, Frame, Frames, Particles, RunFolder, RunFrames, encode};
use glam::{Quat, Vec3};
use proptest::prelude::*;
use rstest::rstest;
use shot::finish::{Finish, FinishOperation};
use shot::motion::Channel;
use shot::{Element, ElementKind, Id, Moves, Shape, Shot, fingerprint::Fingerprint};
use std::collections::BTreeMap;
use std::sync::Arc;

const RUN_FRAME: &str = "kind.finish.operation.retime.run_frame";

/// A run in a temporary folder, and its shot: a ball on a given path, and a
/// particle that moves along z at 1 m/s.
struct Baked {
    _dir: tempfile::TempDir,
    run: RunFolder,
    shot: Shot,
    ball: Id,
    dust: Id,
}

fn baked(last: u32, fps: f32, path: impl Fn(f32) -> (Vec3, Vec3)) -> Baked {
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    let mut shot = Shot::empty("S");
    (shot.timing.fps, shot.timing.last) = (fps, last);
    let ball = shot.add(Element::solid("Ball", Shape::sphere(0.1), Moves::Free));
    let dust = Id(77);
    for number in 1..=last {
        let seconds = shot.timing.seconds(number) as f32;
        let mut frame = Frame::new(number, shot.timing.seconds(number));
        frame.fingerprint = Fingerprint([number as u8; 16]);
        let (position, velocity) = path(seconds);
        let mut bodies = Bodies::default();
        bodies.push(position, Quat::from_rotation_y(seconds), velocity, Vec3::Y);
        frame.bodies.insert(ball, bodies);
        let particles = Particles {
            ids: vec![3],
            positions: vec![Vec3::Z * seconds],
            velocities: vec![Vec3::Z],
            sizes: vec![0.1],
            ages: vec![seconds],
            lifespans: vec![f32::INFINITY],
            ..Particles::default()
        };
        frame.particles.insert(dust, particles);
        run.write(&frame).unwrap();
    }
    Baked { _dir: dir, run, shot, ball, dust }
}

impl Baked {
    fn step(&mut self, operation: FinishOperation) -> Id {
        let order = self.shot.elements.len() as u32;
        self.shot.add(Element::new("Step", ElementKind::Finish(Finish { order, ..Finish::new(operation) })))
    }

    fn retime(&mut self, frames: u32, keys: [(f64, f32); 2]) {
        let id = self.step(FinishOperation::Retime { frames, run_frame: 1.0 });
        let element = self.shot.elements.iter_mut().find(|element| element.id == id).unwrap();
        element.channels.insert(RUN_FRAME.to_owned(), Channel::keyed(keys));
    }

    fn results(&self) -> (SharedFrames, Vec<StepResult>) {
        assert_eq!(self.shot.faults(), []);
        let context = Arc::new(FinishContext::new(&self.shot, BTreeMap::new()).unwrap());
        let source = Arc::new(RunFrames::of(self.run.clone(), &self.shot));
        finished(source, &context)
    }

    fn frames(&self) -> SharedFrames {
        let (frames, results) = self.results();
        assert!(results.iter().all(|result| result.problem.is_none()), "{results:?}");
        frames
    }

    fn ball(&self, frames: &dyn Frames, number: u32) -> (Vec3, Vec3) {
        let frame = frames.frame(number).unwrap();
        (frame.bodies[&self.ball].positions[0], frame.bodies[&self.ball].velocities[0])
    }
}

fn fall(seconds: f32) -> (Vec3, Vec3) {
    let g = Vec3::new(0.0, -9.81, 0.0);
    (Vec3::new(0.0, 20.0, 0.0) + 0.5 * g * seconds * seconds, g * seconds)
}

/// A frame's bytes without its number, time and fingerprint.
fn content(mut frame: Frame) -> Vec<u8> {
    (frame.number, frame.time_s, frame.fingerprint) = (0, 0.0, Fingerprint::default());
    encode(&frame)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    /// Slowed by any factor, a falling ball is where the formula has it, within 1e-5 of its height.
    #[test]
    fn a_slowed_fall_is_where_the_formula_has_it(factor in 1.3f32..9.0, fps in 12f32..60.0) {
        let mut baked = baked(20, fps, fall);
        let frames = (19.0 * factor) as u32;
        baked.retime(frames + 1, [(1.0, 1.0), (f64::from(frames) + 1.0, 20.0)]);
        let finished = baked.frames();
        prop_assert_eq!(finished.range(), 1..=frames + 1);
        for number in finished.range() {
            let seconds = 19.0 * (number - 1) as f32 / frames as f32 / fps;
            let (position, velocity) = baked.ball(&*finished, number);
            prop_assert!((position.y - fall(seconds).0.y).abs() <= 1e-5 * 20.0, "{number}: {position}");
            // Velocities are those of the slowed motion.
            let rate = 19.0 / frames as f32;
            prop_assert!((velocity.y - rate * fall(seconds).1.y).abs() < 0.02);
        }
    }
}

#[test]
fn reverse_of_reverse_is_the_same_bytes() {
    let mut baked = baked(9, 24.0, fall);
    baked.step(FinishOperation::Reverse {});
    let once = baked.frames();
    assert_eq!(baked.ball(&*once, 1).0, baked.run.read(9).unwrap().bodies[&baked.ball].positions[0]);
    assert!(baked.ball(&*once, 3).1.y > 0.0);
    baked.step(FinishOperation::Reverse {});
    let twice = baked.frames();
    for number in 1..=9 {
        assert_eq!(content(twice.frame(number).unwrap()), content(baked.run.read(number).unwrap()));
    }
}

#[test]
fn a_straight_line_of_slope_one_changes_no_bytes() {
    let mut baked = baked(9, 24.0, fall);
    baked.retime(9, [(0.0, 0.0), (10.0, 10.0)]);
    let finished = baked.frames();
    for number in 2..=8 {
        assert_eq!(encode(&finished.frame(number).unwrap()), encode(&baked.run.read(number).unwrap()));
    }
}

#[test]
fn a_falling_line_goes_backwards() {
    let mut baked = baked(9, 24.0, fall);
    baked.retime(9, [(1.0, 9.0), (9.0, 1.0)]);
    let finished = baked.frames();
    let run = baked.run.read(7).unwrap();
    assert_eq!(
        baked.ball(&*finished, 3),
        (run.bodies[&baked.ball].positions[0], -run.bodies[&baked.ball].velocities[0])
    );
}

#[test]
fn trim_begins_at_the_first_frame_and_shift_holds_the_ends() {
    let mut baked = baked(9, 24.0, fall);
    baked.step(FinishOperation::Trim { from_frame: 3, to_frame: 6 });
    let trimmed = baked.frames();
    assert_eq!(trimmed.range(), 1..=4);
    assert_eq!(content(trimmed.frame(2).unwrap()), content(baked.run.read(4).unwrap()));
    baked.step(FinishOperation::Shift { frames: 2 });
    let shifted = baked.frames();
    let shown: Vec<Vec<u8>> = (1..=4).map(|number| content(shifted.frame(number).unwrap())).collect();
    let run = |number| content(baked.run.read(number).unwrap());
    assert_eq!(shown, [run(3), run(3), run(3), run(4)]);
}

#[test]
fn a_step_of_one_element_leaves_the_others() {
    let mut baked = baked(9, 24.0, fall);
    let id = baked.step(FinishOperation::Reverse {});
    let ball = baked.ball;
    if let ElementKind::Finish(finish) =
        &mut baked.shot.elements.iter_mut().find(|e| e.id == id).unwrap().kind
    {
        finish.element = Some(ball);
    }
    let finished = baked.frames();
    let (frame, run) = (finished.frame(2).unwrap(), |number| baked.run.read(number).unwrap());
    assert_eq!(frame.bodies[&ball].positions, run(8).bodies[&ball].positions);
    assert_eq!(frame.particles[&baked.dust], run(2).particles[&baked.dust]);
}

/// A swing of 24 frames: the loop of exactly one period.
fn swing(seconds: f32) -> (Vec3, Vec3) {
    let (s, c) = (std::f32::consts::TAU * seconds).sin_cos();
    (Vec3::X * s, Vec3::X * std::f32::consts::TAU * c)
}

#[test]
fn the_frame_after_a_loops_last_is_its_first() {
    let mut baked =
        baked(60, 24.0, |seconds| (swing(seconds).0 + Vec3::Y * seconds, swing(seconds).1 + Vec3::Y));
    baked.step(FinishOperation::Loop { frames: 30, from_frame: 21, overlap: 10, first_stands: false });
    let looped = baked.frames();
    assert_eq!((looped.range(), looped.repeats()), (1..=30, true));
    let bytes = |number: i64| content(looped.frame(looped.at(number)).unwrap());
    assert_eq!(bytes(31), bytes(1));
    assert_eq!(bytes(1), content(baked.run.read(21).unwrap()));
    // The blend begins after 20 frames as they were, and no step is much longer than the others.
    assert_eq!(bytes(20), content(baked.run.read(40).unwrap()));
    let place = |number: i64| baked.ball(&*looped, looped.at(number)).0;
    let steps: Vec<f32> = (1..=30).map(|number| place(number).distance(place(number + 1))).collect();
    assert!(steps.iter().all(|step| *step < 0.45), "{steps:?}");
}

#[rstest]
#[case(70, 1, 0, "needs frames 1–70; there are 1–60; the longest loop from there has 60 frames")]
#[case(30, 5, 8, "needs frames 0–34; there are 1–60")]
fn a_loop_longer_than_the_run_offers_the_longest(
    #[case] frames: u32,
    #[case] from_frame: u32,
    #[case] overlap: u32,
    #[case] message: &str,
) {
    let mut baked = baked(60, 24.0, swing);
    baked.step(FinishOperation::Loop { frames, from_frame, overlap, first_stands: false });
    let (finished, results) = baked.results();
    let problem = results[0].problem.as_deref().unwrap_or_default();
    assert!(problem.starts_with(message), "{problem}");
    // The unfinished frames are shown.
    assert_eq!(finished.frame(7).unwrap(), baked.run.read(7).unwrap());
}

#[test]
fn a_switched_off_step_does_nothing() {
    let mut baked = baked(9, 24.0, fall);
    let id = baked.step(FinishOperation::Reverse {});
    if let ElementKind::Finish(finish) =
        &mut baked.shot.elements.iter_mut().find(|e| e.id == id).unwrap().kind
    {
        finish.enabled = false;
    }
    assert_eq!(baked.frames().frame(2).unwrap(), baked.run.read(2).unwrap());
}

#[test]
fn place_moves_turns_and_scales_with_velocities() {
    let mut baked = baked(9, 24.0, fall);
    let id = baked.step(FinishOperation::Place { scale: 2.0, about: None });
    let element = baked.shot.elements.iter_mut().find(|e| e.id == id).unwrap();
    element.placement.position_m = Vec3::new(1.0, 0.0, 0.0);
    element.placement.orientation_rad = Vec3::new(0.0, 0.0, std::f32::consts::FRAC_PI_2);
    let placed = baked.frames();
    let run = baked.run.read(5).unwrap();
    let (from, speed) = (run.bodies[&baked.ball].positions[0], run.bodies[&baked.ball].velocities[0]);
    let (position, velocity) = baked.ball(&*placed, 5);
    // y becomes −x.
    assert!(position.distance(Vec3::new(1.0 - 2.0 * from.y, 0.0, 0.0)) < 1e-4);
    assert!(velocity.distance(Vec3::new(-2.0 * speed.y, 0.0, 0.0)) < 1e-4);
    assert_eq!(placed.frame(5).unwrap().bodies[&baked.ball].scales, [2.0]);
}

#[test]
fn keys_of_a_place_are_part_of_the_velocities() {
    let mut baked = baked(9, 24.0, |_| (Vec3::ZERO, Vec3::ZERO));
    let id = baked.step(FinishOperation::Place { scale: 1.0, about: None });
    let element = baked.shot.elements.iter_mut().find(|e| e.id == id).unwrap();
    let keys = Channel::keyed([(1.0, 0.0f32), (9.0, 4.0)]);
    element.channels.insert("placement.position_m[0]".to_owned(), keys);
    let (position, velocity) = baked.ball(&*baked.frames(), 5);
    assert!(
        (position.x - 2.0).abs() < 1e-4 && (velocity.x - 0.5 * 24.0).abs() < 1e-3,
        "{position} {velocity}"
    );
}

#[test]
fn the_best_loop_of_a_swing_is_its_period_and_its_seam_is_right() {
    let baked = baked(60, 24.0, |seconds| {
        // The swing drifts by 2 % of its mean motion in a period.
        let (position, velocity) = swing(seconds);
        (position + Vec3::Y * (0.02 * 4.0 / 24.0) * seconds, velocity)
    });
    let mut shot = baked.shot.clone();
    shot.elements.retain(|e| e.as_finish().is_none());
    let source = RunFrames::new(baked.run.clone(), 1..=60);
    // Only the ball: the particle moves on for ever.
    for number in 1..=60 {
        let mut frame = baked.run.read(number).unwrap();
        frame.particles.clear();
        baked.run.write(&frame).unwrap();
    }
    let best = best_loops(&source, 12..=48, 3).unwrap();
    assert_eq!(best[0].frames, 24, "{best:?}");
    let figure = seam(&source, best[0].from_frame, 24).unwrap().unwrap();
    // Distance over a period: 0.02 · 4 / 24 m; mean motion from a frame to the next: about 4 / 24 m.
    let moved: f32 = (1..60)
        .map(|n| {
            let place = |n| baked.run.read(n).unwrap().bodies[&baked.ball].positions[0];
            place(n).distance(place(n + 1))
        })
        .sum::<f32>()
        / 59.0;
    assert!(
        (figure.position - 0.02 * 4.0 / 24.0 / moved).abs() < 0.01 * figure.position + 1e-3,
        "{figure:?}"
    );
    assert!(figure.velocity < 1e-3);
}

#[test]
fn a_missing_frame_is_named() {
    let mut baked = baked(9, 24.0, fall);
    baked.retime(17, [(1.0, 1.0), (17.0, 9.0)]);
    std::fs::remove_file(baked.run.path().join("frames/00005.brframe")).unwrap();
    let finished = baked.frames();
    assert_eq!(finished.fingerprint(8), None);
    assert!(finished.fingerprint(1).is_some());
    assert_eq!(finished.frame(9).unwrap_err().to_string(), "frame 5 is not computed");
}

/// A kept run of the same ball, 1 m higher.
fn with_kept(baked: &Baked, other: &Baked) -> (SharedFrames, Vec<StepResult>) {
    let kept: SharedFrames = Arc::new(RunFrames::of(other.run.clone(), &other.shot));
    let context = FinishContext::new(&baked.shot, BTreeMap::new()).unwrap();
    let context = Arc::new(context.with_kept(BTreeMap::from([(2, kept)])));
    let source = Arc::new(RunFrames::of(baked.run.clone(), &baked.shot));
    finished(source, &context)
}

#[test]
fn blend_weights_of_0_and_1_give_the_bytes_of_the_runs() {
    let (mut one, other) = (baked(9, 24.0, fall), baked(9, 24.0, |s| (fall(s).0 + Vec3::Y, fall(s).1)));
    let id = one.step(FinishOperation::Blend { run: 2, weight: 0.0 });
    let element = one.shot.elements.iter_mut().find(|e| e.id == id).unwrap();
    let keys = Channel::keyed([(3.0, 0.0f32), (7.0, 1.0)]);
    element.channels.insert("kind.finish.operation.blend.weight".to_owned(), keys);
    let (blended, results) = with_kept(&one, &other);
    assert_eq!(results[0].problem, None);
    assert_eq!(encode(&blended.frame(2).unwrap()), encode(&one.run.read(2).unwrap()));
    assert_eq!(content(blended.frame(8).unwrap()), content(other.run.read(8).unwrap()));
    let half = one.ball(&*blended, 5).0.y - one.run.read(5).unwrap().bodies[&one.ball].positions[0].y;
    assert!((half - 0.5).abs() < 1e-4, "{half}");
}

#[test]
fn joined_runs_follow_each_other() {
    let (mut one, other) = (baked(9, 24.0, fall), baked(5, 24.0, fall));
    one.step(FinishOperation::Join { run: 2 });
    let (joined, _) = with_kept(&one, &other);
    assert_eq!(joined.range(), 1..=14);
    assert_eq!(content(joined.frame(9).unwrap()), content(one.run.read(9).unwrap()));
    assert_eq!(content(joined.frame(10).unwrap()), content(other.run.read(1).unwrap()));
    assert_eq!(content(joined.frame(14).unwrap()), content(other.run.read(5).unwrap()));
}

#[test]
fn a_kept_run_that_is_gone_is_named() {
    let mut baked = baked(9, 24.0, fall);
    baked.step(FinishOperation::Join { run: 7 });
    let (frames, results) = baked.results();
    assert_eq!(results[0].problem.as_deref(), Some("needs kept run 7, which is not there"));
    assert_eq!(frames.range(), 1..=9);
}

#[test]
fn smoothing_leaves_steady_motion_and_evens_out_the_rest() {
    // A steady drift, with a shake of 5 cm from frame to frame.
    let shaken = |seconds: f32| {
        let even = ((seconds * 24.0).round() as u32).is_multiple_of(2);
        let shake = if even { 0.05 } else { -0.05 };
        (Vec3::new(seconds, shake, 0.0), Vec3::X)
    };
    let mut baked = baked(40, 24.0, shaken);
    baked.step(FinishOperation::Smooth { radius: 4.0 });
    let smooth = baked.frames();
    for number in 6..=34 {
        let (position, velocity) = baked.ball(&*smooth, number);
        let seconds = (number - 1) as f32 / 24.0;
        assert!((position.x - seconds).abs() < 1e-4 && position.y.abs() < 0.003, "{number}: {position}");
        assert!((velocity - Vec3::X).length() < 2e-3);
        let dust = &smooth.frame(number).unwrap().particles[&baked.dust];
        assert!((dust.positions[0].z - seconds).abs() < 1e-3);
    }
    // The first frame has nothing before it and stays.
    assert_eq!(encode(&smooth.frame(1).unwrap()), encode(&baked.run.read(1).unwrap()));
}

/// Steps upon steps ask for the same frames again and again: each is made a few times, not exponentially often.
#[test]
fn many_steps_are_bounded_in_number_frames_and_time() {
    let mut baked = baked(30, 24.0, fall);
    for _ in 0..18 {
        baked.retime(30, [(1.0, 1.25), (30.0, 29.75)]);
    }
    let start = std::time::Instant::now();
    let (finished, results) = baked.results();
    assert!(finished.range().all(|number| finished.fingerprint(number).is_some()));
    assert!(finished.frame(15).is_ok());
    assert!(start.elapsed().as_secs() < 20, "{:?}", start.elapsed());
    let problems: Vec<_> = results.iter().filter_map(|result| result.problem.as_deref()).collect();
    assert_eq!(problems, ["comes after 16 others; so many are taken"; 2]);
}

#[test]
fn a_step_that_would_give_too_many_frames_is_not_taken() {
    let mut baked = baked(9, 24.0, fall);
    baked.step(FinishOperation::Loop { frames: 9, from_frame: 1, overlap: 0, first_stands: false });
    baked.step(FinishOperation::Trim { from_frame: 1, to_frame: 1_000_000 });
    let (frames, results) = baked.results();
    assert_eq!(results[1].problem.as_deref(), Some("would give 1000000 frames; at most 10000"));
    assert_eq!(frames.range(), 1..=9);
}

#[test]
fn only_one_smoothing_is_taken() {
    let mut baked = baked(9, 24.0, fall);
    baked.step(FinishOperation::Smooth { radius: 2.0 });
    baked.step(FinishOperation::Smooth { radius: 2.0 });
    let problem = baked.results().1[1].problem.clone();
    assert_eq!(problem.as_deref(), Some("comes after another smoothing; give that one more frames"));
}
