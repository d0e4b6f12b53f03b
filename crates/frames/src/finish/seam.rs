//! Seams: how nearly one frame of a run is the same as another.

use crate::{Frame, Frames, Parts, RunError};
use glam::Vec3;
use shot::Id;
use std::ops::RangeInclusive;

/// How far the frame that would follow the last of a loop is from its first.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Seam {
    /// Mean distance of what moves, as a fraction of its mean motion from a frame to the next.
    pub position: f32,
    /// Mean difference of velocity, as a fraction of the mean speed.
    pub velocity: f32,
}

/// Two frames that are alike: a loop begins at one and has so many frames.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LoopPair {
    /// First frame of the loop.
    pub from_frame: u32,
    /// Number of frames.
    pub frames: u32,
    /// The seam without blending.
    pub seam: Seam,
}

/// Points looked at in each frame, at most.
const POINTS: usize = 256;
/// Frames looked at, at most; of longer runs every second, third… one.
const FRAMES: usize = 1024;

/// The positions and velocities of a frame's bodies, particles and vertices, of many only some.
struct Sample {
    number: u32,
    positions: Vec<Vec3>,
    velocities: Vec<Vec3>,
}

impl Sample {
    fn new(frame: &Frame) -> Self {
        let mut all: Vec<(Vec3, Vec3)> = Vec::new();
        for bodies in frame.bodies.values() {
            all.extend(bodies.positions.iter().copied().zip(bodies.velocities.iter().copied()));
        }
        for particles in frame.particles.values() {
            all.extend(particles.positions.iter().copied().zip(particles.velocities.iter().copied()));
        }
        for mesh in frame.meshes.values() {
            all.extend(mesh.positions.iter().copied().zip(mesh.velocities.iter().copied()));
        }
        let step = all.len().div_ceil(POINTS).max(1);
        let (positions, velocities) = all.into_iter().step_by(step).unzip();
        Self { number: frame.number, positions, velocities }
    }

    /// Mean distances in position and velocity; none if they have not the same points.
    fn distance(&self, other: &Self) -> Option<(f32, f32)> {
        let n = self.positions.len();
        if n == 0 || n != other.positions.len() {
            return None;
        }
        let mean = |a: &[Vec3], b: &[Vec3]| {
            a.iter().zip(b).map(|(a, b)| f64::from(a.distance(*b))).sum::<f64>() / n as f64
        };
        let positions = mean(&self.positions, &other.positions);
        Some((positions as f32, mean(&self.velocities, &other.velocities) as f32))
    }
}

/// Mean motion from a frame to the next, and mean speed, over samples in order.
fn motion(samples: &[Sample]) -> (f32, f32) {
    let (mut moved, mut speed, mut count) = (0.0f64, 0.0f64, 0u32);
    for pair in samples.windows(2) {
        let frames = (pair[1].number - pair[0].number) as f32;
        if let Some((distance, _)) = pair[0].distance(&pair[1]) {
            moved += f64::from(distance / frames);
            let speeds: f64 = pair[0].velocities.iter().map(|v| f64::from(v.length())).sum();
            speed += speeds / pair[0].velocities.len() as f64;
            count += 1;
        }
    }
    let n = f64::from(count.max(1));
    ((moved / n) as f32, (speed / n) as f32)
}

fn figure((position, velocity): (f32, f32), (moved, speed): (f32, f32)) -> Seam {
    let share = |of: f32, whole: f32| if of == 0.0 { 0.0 } else { of / whole.max(f32::MIN_POSITIVE) };
    Seam { position: share(position, moved), velocity: share(velocity, speed) }
}

fn sample(frames: &dyn Frames, numbers: impl Iterator<Item = u32>) -> Result<Vec<Sample>, RunError> {
    let mut frame = Frame::default();
    let read = |number| {
        frames.read(number, &Parts::All, &mut frame)?;
        Ok(Sample { number, ..Sample::new(&frame) })
    };
    numbers.map(read).collect()
}

/// The seam of a loop of `frames` frames from `from_frame` on: the frame after
/// its last against its first. None if the two have not the same points.
///
/// # Errors
/// [`RunError`] if a frame is missing.
pub fn seam(source: &dyn Frames, from_frame: u32, frames: u32) -> Result<Option<Seam>, RunError> {
    seam_of(source, from_frame, frames, FRAMES)
}

/// As [`seam`], with the mean motion of `looked_at` frames at most.
pub(super) fn seam_of(
    source: &dyn Frames,
    from_frame: u32,
    frames: u32,
    looked_at: usize,
) -> Result<Option<Seam>, RunError> {
    let step = (frames as usize).div_ceil(looked_at) as u32;
    let mut samples = sample(source, (from_frame..from_frame + frames).step_by(step as usize))?;
    let next = sample(source, std::iter::once(source.at(i64::from(from_frame + frames))))?;
    let distance = samples[0].distance(&next[0]);
    // The step to the frame after the last is part of the motion.
    samples.extend(next.into_iter().map(|next| Sample { number: from_frame + frames, ..next }));
    Ok(distance.map(|distance| figure(distance, motion(&samples))))
}

/// The elements that are not back where they began when a loop of `frames`
/// frames ends: further away than a tenth of their own way from a frame to the
/// next, and than frames are exact, or with other bodies or particles.
///
/// # Errors
/// [`RunError`] if a frame is missing.
pub fn unreturned(source: &dyn Frames, from_frame: u32, frames: u32) -> Result<Vec<Id>, RunError> {
    let first = source.frame(from_frame)?;
    let second = source.frame(source.at(i64::from(from_frame) + 1))?;
    let next = source.frame(source.at(i64::from(from_frame + frames)))?;
    let mut ids: Vec<Id> = Vec::new();
    let far = |a: &[Vec3], on: &[Vec3], b: &[Vec3]| {
        let mean =
            |b: &[Vec3]| a.iter().zip(b).map(|(a, b)| a.distance(*b)).sum::<f32>() / a.len().max(1) as f32;
        a.len() != b.len() || mean(b) > (0.1 * mean(on)).max(4.0 * crate::POSITION_ERROR_M)
    };
    for (id, bodies) in &first.bodies {
        let of = |frame: &Frame| frame.bodies.get(id).map(|b| b.positions.clone()).unwrap_or_default();
        if far(&bodies.positions, &of(&second), &of(&next)) {
            ids.push(*id);
        }
    }
    for id in first.particles.keys().chain(next.particles.keys()) {
        let of = |frame: &Frame| frame.particles.get(id).map(|b| b.positions.clone()).unwrap_or_default();
        if far(&of(&first), &of(&second), &of(&next)) && !ids.contains(id) {
            ids.push(*id);
        }
    }
    for (id, mesh) in &first.meshes {
        let of = |frame: &Frame| frame.meshes.get(id).map(|m| m.positions.clone()).unwrap_or_default();
        if far(&mesh.positions, &of(&second), &of(&next)) && !ids.contains(id) {
            ids.push(*id);
        }
    }
    Ok(ids)
}

/// The pairs of frames that are most alike in position and velocity, the best
/// first: loops of a length in `lengths`. Pairs next to a better one are left out.
///
/// # Errors
/// [`RunError`] if a frame is missing.
pub fn best_loops(
    source: &dyn Frames,
    lengths: RangeInclusive<u32>,
    count: usize,
) -> Result<Vec<LoopPair>, RunError> {
    let range = source.range();
    let step = range.clone().count().div_ceil(FRAMES).max(1);
    // A run may be computed in part.
    let there = range.step_by(step).filter(|number| source.fingerprint(*number).is_some());
    let samples = sample(source, there)?;
    let motion = motion(&samples);
    let mut pairs = Vec::new();
    for (i, from) in samples.iter().enumerate() {
        for to in &samples[i + 1..] {
            let frames = to.number - from.number;
            if !lengths.contains(&frames) {
                continue;
            }
            if let Some(distance) = from.distance(to) {
                let seam = figure(distance, motion);
                pairs.push(LoopPair { from_frame: from.number, frames, seam });
            }
        }
    }
    pairs.sort_by(|a, b| {
        let sum = |pair: &LoopPair| pair.seam.position + pair.seam.velocity;
        sum(a).total_cmp(&sum(b)).then(b.frames.cmp(&a.frames)).then(a.from_frame.cmp(&b.from_frame))
    });
    let mut best: Vec<LoopPair> = Vec::new();
    for pair in pairs {
        let near = |other: &LoopPair| {
            pair.from_frame.abs_diff(other.from_frame) < 4 && pair.frames.abs_diff(other.frames) < 4
        };
        if best.len() < count && !best.iter().any(near) {
            best.push(pair);
        }
    }
    Ok(best)
}
