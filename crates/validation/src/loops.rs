//! Loops, reversed and blended frames against what they are made of.

use crate::Experiment;
use crate::finishing::{Stored, every, on_path};
use frames::finish::{FinishContext, SharedFrames, best_loops, finished, seam};
use frames::{Frame, Frames, encode};
use glam::{Quat, Vec3};
use shot::{
    Element, ElementKind, Shot,
    fingerprint::Fingerprint,
    finish::{Finish, FinishOperation},
};
use std::collections::BTreeMap;
use std::f32::consts::TAU;
use std::sync::Arc;

/// An empty shot of so many seconds at 24 frames a second.
fn shot(seconds: f32) -> Shot {
    let mut shot = Shot::empty("Loop");
    (shot.timing.fps, shot.timing.last) = (24.0, shot.timing.first + (24.0 * seconds) as u32);
    shot
}

/// A body that swings once a second, and rises so many metres a second.
fn swing(shot: &mut Shot, rise_m_s: f32) -> Vec<Frame> {
    on_path(shot, |t| {
        let (s, c) = (TAU * t).sin_cos();
        let velocity = Vec3::new(TAU * c, rise_m_s, 0.0);
        (Vec3::new(s, rise_m_s * t, 0.0), velocity, Quat::from_rotation_z(t), Vec3::Z)
    })
}

/// The frames of a shot after some steps.
fn after(shot: &Shot, frames: Vec<Frame>, steps: &[FinishOperation]) -> SharedFrames {
    let mut shot = shot.clone();
    for (order, operation) in (0..).zip(steps) {
        let step = Finish { order, ..Finish::new(operation.clone()) };
        shot.add(Element::new("Step", ElementKind::Finish(step)));
    }
    let context = FinishContext::new(&shot, BTreeMap::new()).expect("no faults");
    finished(Arc::new(Stored::new(frames)), &Arc::new(context)).0
}

/// A frame's bytes without its number, time and fingerprint.
fn content(frames: &dyn Frames, number: u32) -> Vec<u8> {
    let mut frame = frames.frame(number).expect("it is there");
    (frame.number, frame.time_s, frame.fingerprint) = (0, 0.0, Fingerprint::default());
    encode(&frame)
}

fn heights(frames: &SharedFrames) -> Vec<(f64, f64)> {
    every(frames).map(|(number, bodies)| (f64::from(number), f64::from(bodies.positions[0].x))).collect()
}

/// A run that is reversed twice is the run.
pub fn reversed_twice() -> Experiment {
    let mut shot = shot(2.0);
    let frames = swing(&mut shot, 0.3);
    let plain = after(&shot, frames.clone(), &[]);
    let twice = after(&shot, frames, &[FinishOperation::Reverse {}, FinishOperation::Reverse {}]);
    let other = plain.range().filter(|&number| content(&*twice, number) != content(&*plain, number)).count();
    Experiment {
        key: "reversed-twice",
        statement: "A run that is reversed twice has the bytes of the run; measured is the number of frames \
                    that differ."
            .to_owned(),
        formula: "0",
        expected: 0.0,
        measured: other as f64,
        tolerance: 0.0,
        unit: "",
        axes: ("frame", "m"),
        curve: heights(&twice),
        reference: heights(&plain),
    }
}

/// The frame after the last of a blended loop is its first.
pub fn blended_loop() -> Experiment {
    let mut shot = shot(2.5);
    let frames = swing(&mut shot, 1.0);
    let plain = after(&shot, frames.clone(), &[]);
    let mut other = 0;
    let mut curve = Vec::new();
    for (count, overlap) in [(30, 10), (24, 12), (17, 3), (31, 1)] {
        let step = FinishOperation::Loop { frames: count, from_frame: 21, overlap, first_stands: false };
        let looped = after(&shot, frames.clone(), &[step]);
        let after_last = looped.at(i64::from(count) + 1);
        other += usize::from(content(&*looped, after_last) != content(&*plain, 21));
        if curve.is_empty() {
            let twice = (1..=2 * i64::from(count)).map(|number| (number, looped.at(number)));
            let height = |at| looped.frame(at).expect("it is there").bodies.into_values().next();
            curve = twice
                .map(|(number, at)| (number as f64, f64::from(height(at).expect("a body").positions[0].y)))
                .collect();
        }
    }
    let reference = (21..=50).map(|number| (f64::from(number - 20), f64::from(number - 1) / 24.0)).collect();
    Experiment {
        key: "blended-loop",
        statement: "The frame after the last of a blended loop has the bytes of its first; measured is the \
                    number of loops, of four lengths and overlaps, for which it has not."
            .to_owned(),
        formula: "0",
        expected: 0.0,
        measured: other as f64,
        tolerance: 0.0,
        unit: "",
        axes: ("frame", "m"),
        curve,
        reference,
    }
}

/// The seam figure of a picked pair is its jump over the mean motion.
pub fn seam_figure() -> Experiment {
    let (period, rises) = (24, [0.02f32, 0.05, 0.1, 0.2, 0.4]);
    let (mut curve, mut reference) = (Vec::new(), Vec::new());
    for rise in rises {
        let mut shot = shot(2.5);
        let stored = Stored::new(swing(&mut shot, rise));
        let best = best_loops(&stored, 12..=48, 1).expect("frames are there")[0];
        let figure = seam(&stored, best.from_frame, period).expect("frames are there").expect("bodies stay");
        // The jump is the rise of a period; the mean motion is the mean chord from a frame to the next.
        let step = f64::from(TAU) / f64::from(period);
        let rise_a_frame = f64::from(rise) / f64::from(shot.timing.fps);
        let chord = |i: u32| {
            let x = |i: u32| (step * f64::from(i)).sin();
            (x(i + 1) - x(i)).hypot(rise_a_frame)
        };
        let mean = (0..period).map(chord).sum::<f64>() / f64::from(period);
        curve.push((f64::from(rise), f64::from(figure.position)));
        reference.push((f64::from(rise), f64::from(rise) / mean));
    }
    let off = |(a, b): (&(f64, f64), &(f64, f64))| (a.1 / b.1 - 1.0).abs();
    Experiment {
        key: "seam-figure",
        statement:
            "The seam figure of the pair that is picked in a swing that rises is the rise of a period \
                    over the mean motion; measured is the largest part by which it is off, of five speeds."
                .to_owned(),
        formula: "|Δx| / mean |xₙ₊₁ − xₙ|",
        expected: 0.0,
        measured: curve.iter().zip(&reference).map(off).fold(0.0, f64::max),
        tolerance: 0.01,
        unit: "",
        axes: ("m/s", "jump over mean motion"),
        curve,
        reference,
    }
}

/// All of them.
pub fn all() -> Vec<Experiment> {
    vec![reversed_twice(), blended_loop(), seam_figure()]
}
