//! Rounds of runs whose shots go round.

use frames::finish::Rounds;
use frames::{Bodies, Frame, RunFolder, RunFrames};
use glam::{Quat, Vec3};
use shot::{Id, fingerprint::Fingerprint};
use std::f32::consts::TAU;
use tempfile::TempDir;

const BALL: Id = Id(5);
const LENGTH: u32 = 12;

/// A ball that goes round, `late` of the radius off at first, by half of that with every round.
fn run(late: f32, frames: u32) -> (TempDir, RunFolder) {
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    for number in 1..=frames {
        write(&run, number, late);
    }
    (dir, run)
}

fn write(run: &RunFolder, number: u32, late: f32) {
    let round = ((number - 1) / LENGTH) as f32;
    let angle = TAU * (number - 1) as f32 / LENGTH as f32;
    let (sin, cos) = angle.sin_cos();
    let rate = TAU / (LENGTH as f32 / 24.0);
    let mut bodies = Bodies::default();
    let position = Vec3::new(cos, sin, late * 0.5f32.powf(round));
    bodies.push(position, Quat::IDENTITY, Vec3::new(-sin, cos, 0.0) * rate, Vec3::ZERO);
    let mut frame = Frame::new(number, f64::from(number - 1) / 24.0);
    frame.fingerprint = Fingerprint([number as u8; 16]);
    frame.bodies.insert(BALL, bodies);
    run.write(&frame).unwrap();
}

#[test]
fn a_state_that_comes_nearer_closes_in_the_first_round_that_meets_it() {
    let (_dir, run) = run(0.1, 80);
    let source = RunFrames::new(run, 1..=80);
    let rounds = Rounds::default().of(&source, 1, LENGTH).unwrap();
    // From round k to the next the ball moves by 0.05 / 2^k m; a frame's motion is 2 sin(π / 12) m.
    let motion = 2.0 * (TAU / 24.0).sin();
    for (k, round) in rounds.iter().enumerate() {
        assert_eq!(round.from_frame, 1 + LENGTH * k as u32);
        let expected = 0.05 / 2f32.powi(k as i32) / motion;
        let seam = round.seam.unwrap();
        // The height of the ball changes with each round too, a little more motion; places are
        // as exact as frames on disk are.
        let exact = 5e-3 * expected + 2.0 * frames::POSITION_ERROR_M / motion;
        assert!((seam.position - expected).abs() < exact, "round {k}: {seam:?} for {expected}");
        assert!(seam.velocity < 1e-3);
        assert_eq!(round.closes(), k == rounds.len() - 1);
        // A tenth of a frame's motion is the bound of what is told as away.
        assert_eq!(round.unreturned.is_empty(), expected < 0.1, "round {k}");
    }
    // 0.05 / 2^k over 0.518 m is 1 % and less from k = 4 on.
    assert_eq!(rounds.len(), 5);
}

#[test]
fn rounds_are_told_as_far_as_frames_are_there() {
    let (_dir, run) = run(10.0, 30);
    let rounds =
        |last: u32| Rounds::default().of(&RunFrames::new(run.clone(), 1..=last), 1, LENGTH).unwrap().len();
    // A round needs the frame after its last.
    assert_eq!([12, 13, 24, 25, 80].map(rounds), [0, 1, 1, 2, 2]);
    assert!(Rounds::default().of(&RunFrames::new(run.clone(), 1..=30), 1, 29).unwrap().len() == 1);
    assert!(Rounds::default().of(&RunFrames::new(run.clone(), 1..=30), 1, 30).unwrap().is_empty());
}

#[test]
fn a_round_is_looked_at_once_and_anew_when_its_frames_change() {
    let (_dir, run) = run(10.0, 14);
    let known = Rounds::default();
    let source = RunFrames::new(run.clone(), 1..=14);
    let first = known.of(&source, 1, LENGTH).unwrap();
    // The frames between the ends are not read again: without them the answer is the same.
    std::fs::remove_file(run.path().join("frames/00005.brframe")).unwrap();
    assert_eq!(known.of(&source, 1, LENGTH).unwrap(), first);
    assert!(Rounds::default().of(&source, 1, LENGTH).is_err());
    write(&run, 5, 10.0);
    let mut frame = run.read(13).unwrap();
    frame.fingerprint = Fingerprint([99; 16]);
    frame.bodies.get_mut(&BALL).unwrap().positions[0] = run.read(1).unwrap().bodies[&BALL].positions[0];
    run.write(&frame).unwrap();
    let now = known.of(&source, 1, LENGTH).unwrap();
    assert!(now != first && now[0].closes(), "{now:?}");
}

#[test]
fn a_round_with_other_particles_at_its_end_has_no_seam_and_does_not_close() {
    let (_dir, run) = run(0.0, 14);
    let mut frame = run.read(13).unwrap();
    let again = frame.bodies[&BALL].clone();
    frame.bodies.insert(Id(6), again);
    run.write(&frame).unwrap();
    let rounds = Rounds::default().of(&RunFrames::new(run, 1..=14), 1, LENGTH).unwrap();
    assert!(rounds[0].seam.is_none() && !rounds[0].closes());
}
