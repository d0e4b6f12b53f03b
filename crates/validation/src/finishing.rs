//! Finished frames against mechanics: between the frames that were computed.

use crate::Experiment;
use crate::solids::{body, frames as computed, shot};
use frames::finish::{FinishContext, SharedFrames, finished};
use frames::{Bodies, Frame, Frames, Parts, RunError, decode, encode};
use glam::{Quat, Vec3};
use shot::{
    Element, ElementKind, Id, Moves, Shape, Shot,
    fingerprint::Fingerprint,
    finish::{Finish, FinishOperation},
    motion::Channel,
};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::sync::Arc;

const G: f64 = 9.81;

/// Frames in memory, as exact as they are on disk.
pub(crate) struct Stored(Vec<Frame>);

impl Stored {
    pub(crate) fn new(frames: Vec<Frame>) -> Self {
        Self(frames.iter().map(|frame| decode(&encode(frame)).expect("a frame")).collect())
    }
}

impl Frames for Stored {
    fn range(&self) -> RangeInclusive<u32> {
        self.0[0].number..=self.0[0].number + self.0.len() as u32 - 1
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        Some(Fingerprint([number as u8; 16]))
    }

    fn read(&self, number: u32, _: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        *frame = self.0[(number - self.0[0].number) as usize].clone();
        Ok(())
    }
}

/// The frames of a shot, slowed `times` times.
fn slowed(shot: &Shot, frames: Vec<Frame>, times: u32) -> SharedFrames {
    let stored = Stored::new(frames);
    let (first, last) = (*stored.range().start(), *stored.range().end());
    let count = (last - first) * times + 1;
    let mut shot = shot.clone();
    let retime = FinishOperation::Retime { frames: count, run_frame: 1.0 };
    let mut step = Element::new("Retime", ElementKind::Finish(Finish::new(retime)));
    let line = [(f64::from(first), first as f32), (f64::from(first + count - 1), last as f32)];
    step.channels.insert("kind.finish.operation.retime.run_frame".to_owned(), Channel::keyed(line));
    shot.add(step);
    let context = FinishContext::new(&shot, BTreeMap::new()).expect("no faults");
    finished(Arc::new(stored), &Arc::new(context)).0
}

/// Each frame's number and last bodies.
pub(crate) fn every(frames: &SharedFrames) -> impl Iterator<Item = (u32, Bodies)> + '_ {
    frames.range().map(|number| {
        let bodies = frames.frame(number).expect("it is there").bodies;
        (number, bodies.into_values().last().expect("a body"))
    })
}

/// One body on a known path, at the frames of a shot.
pub(crate) fn on_path(shot: &mut Shot, path: impl Fn(f32) -> (Vec3, Vec3, Quat, Vec3)) -> Vec<Frame> {
    let id: Id = shot.add(body("Ball", Shape::sphere(0.1), Moves::Free, 0.5, 0.0));
    let frame = |number| {
        let seconds = shot.timing.seconds(number);
        let mut frame = Frame::new(number, seconds);
        let mut bodies = Bodies::default();
        let (position, velocity, orientation, spin) = path(seconds as f32);
        bodies.push(position, orientation, velocity, spin);
        frame.bodies.insert(id, bodies);
        frame
    };
    shot.timing.frames().map(frame).collect()
}

/// A fall slowed eightfold follows the parabola between the frames.
pub fn retimed_fall() -> Experiment {
    let height = 20.0;
    let mut shot = shot(2.0);
    let exact = |t: f64| height - 0.5 * G * t * t;
    let frames = on_path(&mut shot, |t| {
        let (y, v) = (exact(f64::from(t)) as f32, -9.81 * t);
        (Vec3::Y * y, Vec3::Y * v, Quat::IDENTITY, Vec3::ZERO)
    });
    let slow = slowed(&shot, frames, 8);
    let seconds = |number: u32| f64::from(number - 1) / 8.0 / f64::from(shot.timing.fps);
    let curve: Vec<_> =
        every(&slow).map(|(number, bodies)| (seconds(number), f64::from(bodies.positions[0].y))).collect();
    let reference: Vec<_> = curve.iter().map(|(t, _)| (*t, exact(*t))).collect();
    let worst = curve.iter().zip(&reference).map(|(a, b)| (a.1 - b.1).abs()).fold(0.0, f64::max);
    Experiment {
        key: "retimed-fall",
        statement: "A fall from 20 m slowed eightfold is a parabola between its frames; measured is the \
                    largest difference over the height."
            .to_owned(),
        formula: "h − g t² / 2",
        expected: 0.0,
        measured: worst / height,
        tolerance: 1e-5,
        unit: "",
        axes: ("s", "m"),
        curve,
        reference,
    }
}

/// Bouncing balls slowed eightfold go no deeper into the ground than in the computed frames.
pub fn slowed_bounce() -> Experiment {
    let (radius, mut worst, mut curve, mut reference) = (0.1, 0.0f64, Vec::new(), Vec::new());
    for (fps, height, restitution) in [(24.0, 1.0, 0.8), (30.0, 2.3, 0.5), (60.0, 0.7, 0.6), (24.0, 4.0, 0.0)]
    {
        let mut shot = shot(2.0);
        shot.timing.fps = fps;
        shot.timing.last = shot.timing.first + (2.0 * fps) as u32;
        shot.add(body("Ground", Shape::plane(10.0, 10.0), Moves::Still, 0.5, restitution));
        shot.add(body("Ball", Shape::sphere(radius), Moves::Free, 0.5, restitution).at(0.0, height, 0.0));
        let frames = computed(&shot);
        let lowest = |heights: &mut dyn Iterator<Item = f32>| {
            heights.map(|y| f64::from(y - radius)).fold(f64::INFINITY, f64::min).min(0.0)
        };
        let ball = |frame: &Frame| frame.bodies.values().last().expect("a body").positions[0].y;
        let before = lowest(&mut frames.iter().map(ball));
        let at_frames: Vec<_> = frames.iter().map(|frame| (frame.time_s, f64::from(ball(frame)))).collect();
        let slow = slowed(&shot, frames, 8);
        let heights: Vec<f32> = every(&slow).map(|(_, bodies)| bodies.positions[0].y).collect();
        worst = worst.max(before - lowest(&mut heights.iter().copied()));
        if curve.is_empty() {
            let at = |(i, y): (usize, &f32)| (i as f64 / 8.0 / f64::from(fps), f64::from(*y));
            curve = heights.iter().enumerate().map(at).collect();
            reference = at_frames;
        }
    }
    Experiment {
        key: "slowed-bounce",
        statement: "Balls that fall and bounce, slowed eightfold, go no deeper into the ground than in the \
                    computed frames; measured is the greatest depth beyond, of four drops at 24, 30 and 60 fps."
            .to_owned(),
        formula: "0",
        expected: 0.0,
        measured: 1e3 * worst,
        // Twice the error of a stored position.
        tolerance: 0.1,
        unit: "mm",
        axes: ("s", "m"),
        curve,
        reference,
    }
}

/// A body that makes 2.4 turns a frame has made as many of them between two frames as it should.
pub fn retimed_spin() -> Experiment {
    let mut shot = shot(0.5);
    let rate = 2.4 * std::f32::consts::TAU * shot.timing.fps;
    let axis = Vec3::new(1.0, 2.0, -0.5).normalize();
    let frames =
        on_path(&mut shot, |t| (Vec3::ZERO, Vec3::ZERO, Quat::from_axis_angle(axis, rate * t), axis * rate));
    let slow = slowed(&shot, frames, 8);
    let off = |(number, bodies): (u32, Bodies)| {
        let seconds = (number - 1) as f32 / 8.0 / shot.timing.fps;
        let exact = Quat::from_axis_angle(axis, rate * seconds);
        (
            f64::from(seconds),
            2.0 * f64::from((bodies.orientations[0] * exact.inverse()).xyz().length()).asin(),
        )
    };
    let curve: Vec<(f64, f64)> = every(&slow).map(off).collect();
    let reference = curve.iter().map(|(t, _)| (*t, 0.0)).collect();
    Experiment {
        key: "retimed-spin",
        statement: "A body that makes 2.4 turns a frame, slowed eightfold, keeps its whole turns between \
                    frames; measured is the largest angle off."
            .to_owned(),
        formula: "ω t",
        expected: 0.0,
        measured: curve.iter().map(|(_, angle)| *angle).fold(0.0, f64::max),
        // A few errors of a stored orientation, and single precision of the exact angle.
        tolerance: 0.01,
        unit: "rad",
        axes: ("s", "rad"),
        curve,
        reference,
    }
}

/// All of them.
pub fn all() -> Vec<Experiment> {
    vec![retimed_fall(), slowed_bounce(), retimed_spin()]
}
