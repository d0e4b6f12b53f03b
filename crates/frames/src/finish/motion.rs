//! A frame between two: bodies and particles at a moment for which no frame was computed.
//!
//! A path between two frames is the cubic through both positions with both
//! velocities (Hermite). A contact between two frames changes the velocity at
//! once, and a cubic would bend through what was touched. Where the solver noted
//! an impact, the path goes through its states; else, where the velocities do
//! not agree with a smooth motion, the path is split: a parabola on from the
//! first frame and one back from the second, at the moment at which they meet.

use super::{FinishContext, mesh};
use crate::{Bodies, Frame, Impact, Particles};
use glam::{Quat, Vec3};
use rayon::prelude::*;
use shot::Id;
use std::f32::consts::TAU;

/// A moment between the second and the third of four frames.
pub(super) struct Moment<'a> {
    /// The frame before the two, the two, and the one after; at an end of the
    /// run the outer one is the same as the inner one.
    pub frames: [&'a Frame; 4],
    /// Seconds of the world's time from each frame to the next.
    pub seconds: [f32; 3],
    /// The part of the time between the two that has passed, 0–1.
    pub fraction: f32,
    /// Factor of all velocities: how fast the frames pass, negative for backwards.
    pub rate: f32,
    pub context: &'a FinishContext,
}

/// Path differences below this are not looked at, m: frames are not more exact.
const NEGLIGIBLE_M: f32 = 1.5e-4;
/// Speed below which a body counts as at rest, m/s.
const RESTS_M_S: f32 = 0.02;

/// A path between two frames.
struct Path {
    position: Vec3,
    velocity: Vec3,
    /// Seconds after the first frame at which the velocity changes at once; none: it does not.
    split_s: Option<f32>,
}

/// Position and velocity.
type State = (Vec3, Vec3);

/// The ends of a path, the accelerations outside of it, and gravity.
struct Ends {
    states: [State; 2],
    /// None: at an end of the run, or where there is a contact.
    outside: [Option<Vec3>; 2],
    gravity: Vec3,
    seconds: f32,
}

/// How far the motion from one state to another is from one under a constant
/// acceleration, m, and the bound above which there was a contact.
fn misfit((x, u): State, (y, v): State, gravity: Vec3, dt: f32) -> (f32, f32) {
    let misfit = (y - x - 0.5 * (u + v) * dt).length();
    let excess = ((v - u) / dt - gravity).length() * dt * dt;
    (misfit, 0.05 * excess + NEGLIGIBLE_M)
}

/// Mean acceleration from one state to another; none if there was a contact.
fn acceleration(from: State, to: State, gravity: Vec3, dt: f32) -> Option<Vec3> {
    let (misfit, bound) = misfit(from, to, gravity, dt);
    (misfit <= bound).then(|| (to.1 - from.1) / dt)
}

impl Ends {
    fn at(&self, fraction: f32) -> Path {
        let dt = self.seconds;
        let [(from, start), (to, end)] = self.states;
        let moved = to - from;
        let acceleration = (end - start) / dt;
        let [before, after] = self.outside.map(|a| a.unwrap_or(self.gravity));
        let slack = 2.0 * NEGLIGIBLE_M / (dt * dt);
        let alike = (acceleration - 0.5 * (before + after)).length()
            <= 0.5 * (after - before).length() + 0.2 * before.length().max(after.length()) + slack;
        let (misfit, bound) = misfit(self.states[0], self.states[1], self.gravity, dt);
        if (!alike || misfit > bound)
            && let Some(path) = self.split(fraction * dt, moved, before, after)
        {
            return path;
        }
        let s = fraction;
        let position = from + (s * s * (3.0 - 2.0 * s)) * moved + (s * (1.0 - s) * (1.0 - s) * dt) * start
            - (s * s * (1.0 - s) * dt) * end;
        let velocity = (6.0 * s * (1.0 - s) / dt) * moved
            + ((1.0 - s) * (1.0 - 3.0 * s)) * start
            + (s * (3.0 * s - 2.0)) * end;
        Path { position, velocity, split_s: None }
    }

    /// The path of two parabolas, if they meet between the frames.
    fn split(&self, passed: f32, moved: Vec3, before: Vec3, after: Vec3) -> Option<Path> {
        let dt = self.seconds;
        let [(from, start), (to, end)] = self.states;
        let split = meeting_s(start, end, moved, [before, after], dt)?;
        let rest = dt - split;
        let forth = start * split + 0.5 * before * split * split;
        let back = moved - end * rest + 0.5 * after * rest * rest;
        // The gap across the change of velocity is closed from both sides.
        let gap = back - forth;
        Some(if passed < split {
            let part = passed / split;
            Path {
                position: from + start * passed + 0.5 * before * passed * passed + 0.5 * part * part * gap,
                velocity: start + before * passed,
                split_s: Some(split),
            }
        } else {
            let left = dt - passed;
            let part = if rest > 0.0 { left / rest } else { 0.0 };
            Path {
                position: to - end * left + 0.5 * after * left * left - 0.5 * part * part * gap,
                velocity: end - after * left,
                split_s: Some(split),
            }
        })
    }
}

/// Seconds after the first frame at which the parabolas on from it and back
/// from the second are level along the change of velocity.
fn meeting_s(start: Vec3, end: Vec3, moved: Vec3, [a, b]: [Vec3; 2], dt: f32) -> Option<f32> {
    let along = (end - start - 0.5 * (a + b) * dt).try_normalize()?;
    let [start, end, moved, a, b] = [start, end, moved, a, b].map(|v| v.dot(along));
    // c0 + c1 s + c2 s² = 0
    let c0 = -(moved - end * dt + 0.5 * b * dt * dt);
    let c1 = start - end + b * dt;
    let c2 = 0.5 * (a - b);
    let inside =
        |s: f32| (s.is_finite() && (-1e-4 * dt..=dt * 1.0001).contains(&s)).then(|| s.clamp(0.0, dt));
    if c2.abs() * dt <= 1e-6 * c1.abs() {
        return inside(-c0 / c1);
    }
    let root = (c1 * c1 - 4.0 * c2 * c0).max(0.0).sqrt();
    // The stable pair of roots.
    let q = -0.5 * (c1 + c1.signum() * root);
    inside(c0 / q).or_else(|| inside(q / c2))
}

/// The rotation vector from one orientation to another: the short way, or with
/// as many whole turns as the angular velocity says.
fn rotation(from: Quat, to: Quat, angular_velocity: Vec3, seconds: f32) -> Vec3 {
    let turn = to * from.inverse();
    let turn = if turn.w < 0.0 { -turn } else { turn };
    let short = turn.to_scaled_axis();
    let expected = angular_velocity * seconds;
    if expected.length() < 0.4 * TAU {
        return short;
    }
    let axis = short.try_normalize().filter(|_| short.length() > 1e-3).unwrap_or(expected.normalize());
    let turns = ((expected.dot(axis) - short.dot(axis)) / TAU).round();
    short + axis * (turns * TAU)
}

fn turned(from: Quat, rotation: Vec3, part: f32) -> Quat {
    (Quat::from_scaled_axis(rotation * part) * from).normalize()
}

impl Moment<'_> {
    /// The frame at the moment, in the memory of another; its number, time and
    /// fingerprint are those of the first of the two.
    pub fn frame(&self, mut spare: Frame) -> Frame {
        let [_, a, b, _] = self.frames;
        let nearer = if self.fraction < 0.5 { a } else { b };
        let mut frame = Frame {
            number: a.number,
            time_s: a.time_s,
            fingerprint: a.fingerprint,
            revision: a.revision,
            measured: nearer.measured.clone(),
            ..Frame::default()
        };
        for (id, bodies) in &a.bodies {
            let between = match b.bodies.get(id) {
                Some(next) if next.len() == bodies.len() => self.bodies(*id, bodies, next),
                // Bodies that come from particles are there from the next frame on.
                _ => bodies.clone(),
            };
            frame.bodies.insert(*id, between);
        }
        for (id, mesh) in &a.meshes {
            let between = match b.meshes.get(id) {
                Some(next) => mesh::between(mesh, next, self.seconds[1], self.fraction, self.rate),
                None => mesh.clone(),
            };
            frame.meshes.insert(*id, between);
        }
        let none = Particles::default();
        let ids: std::collections::BTreeSet<Id> =
            a.particles.keys().chain(b.particles.keys()).copied().collect();
        for id in ids {
            let [w, x, y, z] = self.frames.map(|frame| frame.particles.get(&id).unwrap_or(&none));
            let room = spare.particles.remove(&id).unwrap_or_default();
            frame.particles.insert(id, self.particles(id, [w, x, y, z], room));
        }
        frame
    }

    /// The accelerations before and after the two frames, where the motion is smooth.
    fn outside(
        &self,
        [before, after]: [Option<State>; 2],
        [a, b]: [State; 2],
        gravity: Vec3,
    ) -> [Option<Vec3>; 2] {
        let [first, _, last] = self.seconds;
        let is_first = self.frames[0].number == self.frames[1].number;
        let is_last = self.frames[2].number == self.frames[3].number;
        [
            before.filter(|_| !is_first && first > 0.0).and_then(|x| acceleration(x, a, gravity, first)),
            // At the end of the run, what rests is taken to stay at rest.
            if is_last && b.1.length() < RESTS_M_S {
                Some(Vec3::ZERO)
            } else {
                after.filter(|_| !is_last && last > 0.0).and_then(|x| acceleration(b, x, gravity, last))
            },
        ]
    }

    /// The path of a body that the solver had in known states before and after an impact.
    fn through(
        &self,
        impact: &Impact,
        [a, b]: [State; 2],
        outside: [Option<Vec3>; 2],
        gravity: Vec3,
    ) -> Path {
        let (dt, s, [start, end]) = (self.seconds[1], self.fraction, impact.span);
        let [x, y] = [0, 1].map(|k| (impact.centres[k], impact.velocities[k]));
        let ends = |states, outside, part: f32| Ends { states, outside, gravity, seconds: part * dt };
        if s < start {
            ends([a, x], [outside[0], None], start).at(s / start)
        } else if s > end {
            ends([y, b], [None, outside[1]], 1.0 - end).at((s - end) / (1.0 - end))
        } else {
            let part = (s - start) / (end - start).max(f32::MIN_POSITIVE);
            Path { position: x.0.lerp(y.0, part), velocity: x.1.lerp(y.1, part), split_s: None }
        }
    }

    /// Orientation and angular velocity on the way through an impact.
    fn turned_by(&self, impact: &Impact, [from, to]: [Quat; 2], [first, last]: [Vec3; 2]) -> (Quat, Vec3) {
        let (dt, s, start) = (self.seconds[1], self.fraction, impact.span[0]);
        if s < start {
            let rotation = rotation(from, impact.orientation, first, start * dt);
            (turned(from, rotation, s / start), first)
        } else {
            let rest = 1.0 - start;
            let rotation = rotation(impact.orientation, to, last, rest * dt);
            (turned(impact.orientation, rotation, (s - start) / rest.max(f32::MIN_POSITIVE)), last)
        }
    }

    fn bodies(&self, id: Id, a: &Bodies, b: &Bodies) -> Bodies {
        let (centre, gravity, dt) = (self.context.centre(id), self.context.gravity(id), self.seconds[1]);
        let mut out = Bodies::default();
        let scale = |bodies: &Bodies, i: usize| bodies.scales.get(i).copied().unwrap_or(1.0);
        for i in 0..a.len() {
            // A body that is gone in one of the frames stays where it was until then.
            if scale(a, i) == 0.0 || scale(b, i) == 0.0 || dt <= 0.0 {
                out.push(
                    a.positions[i],
                    a.orientations[i],
                    self.rate * a.velocities[i],
                    self.rate * a.angular_velocities[i],
                );
                continue;
            }
            let state = |bodies: &Bodies| {
                let offset = bodies.orientations[i] * (centre * scale(bodies, i));
                (bodies.positions[i] + offset, bodies.velocities[i])
            };
            let states = [state(a), state(b)];
            let of = |frame: &Frame| frame.bodies.get(&id).filter(|of| i < of.len()).map(state);
            let outside = self.outside([of(self.frames[0]), of(self.frames[3])], states, gravity);
            let (from, to) = (a.orientations[i], b.orientations[i]);
            let impact = b.impacts.binary_search_by_key(&(i as u32), |impact| impact.body);
            if let Ok(at) = impact {
                let impact = &b.impacts[at];
                let path = self.through(impact, states, outside, gravity);
                let spins = [a.angular_velocities[i], b.angular_velocities[i]];
                let (orientation, spin) = self.turned_by(impact, [from, to], spins);
                let offset = orientation * (centre * scale(a, i));
                out.push(path.position - offset, orientation, self.rate * path.velocity, self.rate * spin);
                continue;
            }
            let ends = Ends { states, outside, gravity, seconds: dt };
            let path = ends.at(self.fraction);
            let spins = [a.angular_velocities[i], b.angular_velocities[i]];
            let (orientation, spin) = match path.split_s {
                None => {
                    let rotation = rotation(from, to, 0.5 * (spins[0] + spins[1]), dt);
                    (turned(from, rotation, self.fraction), rotation / dt)
                }
                Some(split) => {
                    // On from the first and back from the second, and half way
                    // between the two where they meet.
                    let (forth, rest) = (turned(from, spins[0], split), dt - split);
                    let middle = forth.slerp(turned(to, spins[1], -rest), 0.5);
                    let passed = self.fraction * dt;
                    if passed < split {
                        let rotation = rotation(from, middle, spins[0], split);
                        (turned(from, rotation, passed / split), spins[0])
                    } else {
                        let rotation = rotation(middle, to, spins[1], rest);
                        (turned(middle, rotation, (passed - split) / rest.max(f32::MIN_POSITIVE)), spins[1])
                    }
                }
            };
            let offset = orientation * (centre * scale(a, i));
            out.push(path.position - offset, orientation, self.rate * path.velocity, self.rate * spin);
        }
        if !a.scales.is_empty() {
            out.scales = (0..a.len())
                .map(|i| match (scale(a, i), scale(b, i)) {
                    (a, b) if a > 0.0 && b > 0.0 => a + (b - a) * self.fraction,
                    (a, _) => a,
                })
                .collect();
        }
        out
    }

    fn particles(&self, id: Id, [before, a, b, after]: [&Particles; 4], mut out: Particles) -> Particles {
        let (gravity, dt) = (self.context.gravity(id), self.seconds[1]);
        let passed = self.fraction * dt;
        let pairs = matched(a, b, |i| a.ages[i] + passed < a.lifespans[i], |k| b.ages[k] >= dt - passed);
        let outer = [places(&pairs, a, before), places(&pairs, a, after)];
        let n = pairs.len();
        out.make_room(
            n,
            [
                !a.orientations.is_empty() || !b.orientations.is_empty(),
                !a.weights.is_empty() || !b.weights.is_empty(),
                !a.uvs.is_empty() || !b.uvs.is_empty(),
                !a.pressures.is_empty() || !b.pressures.is_empty(),
            ],
        );
        let of = |(i, k): (u32, u32)| -> [Option<usize>; 2] {
            [i, k].map(|at| (at != NONE).then_some(at as usize))
        };
        (
            out.ids.par_iter_mut(),
            out.positions.par_iter_mut(),
            out.velocities.par_iter_mut(),
            out.sizes.par_iter_mut(),
            out.ages.par_iter_mut(),
            out.lifespans.par_iter_mut(),
        )
            .into_par_iter()
            .enumerate()
            .with_min_len(4096)
            .for_each(
                |(at, (number, position, velocity, size, age, lifespan))| match of(pairs[at]) {
                    [Some(i), Some(k)] => {
                        let state = |of: &Particles, at: usize| (of.positions[at], of.velocities[at]);
                        let neighbour = |side: usize, of: &Particles| {
                            let at = outer[side].as_ref().map_or(i as u32, |list| list[at]) as usize;
                            (at < of.len()).then(|| state(of, at))
                        };
                        let states = [state(a, i), state(b, k)];
                        let outside =
                            self.outside([neighbour(0, before), neighbour(1, after)], states, gravity);
                        let ends = Ends { states, outside, gravity, seconds: dt };
                        let path = if dt > 0.0 {
                            ends.at(self.fraction)
                        } else {
                            Path { position: a.positions[i], velocity: a.velocities[i], split_s: None }
                        };
                        (*number, *position, *velocity) =
                            (a.ids[i], path.position, self.rate * path.velocity);
                        *size = a.sizes[i] + (b.sizes[k] - a.sizes[i]) * self.fraction;
                        (*age, *lifespan) = (a.ages[i] + passed, a.lifespans[i]);
                    }
                    [Some(i), None] => {
                        (*number, *size, *lifespan) = (a.ids[i], a.sizes[i], a.lifespans[i]);
                        *position =
                            a.positions[i] + a.velocities[i] * passed + 0.5 * gravity * passed * passed;
                        (*velocity, *age) =
                            (self.rate * (a.velocities[i] + gravity * passed), a.ages[i] + passed);
                    }
                    [None, Some(k)] => {
                        let left = dt - passed;
                        (*number, *size, *lifespan) = (b.ids[k], b.sizes[k], b.lifespans[k]);
                        *position = b.positions[k] - b.velocities[k] * left + 0.5 * gravity * left * left;
                        (*velocity, *age) =
                            (self.rate * (b.velocities[k] - gravity * left), b.ages[k] - left);
                    }
                    [None, None] => {}
                },
            );
        let turn = |of: &Particles, i: usize| of.orientations.get(i).copied();
        out.orientations.par_iter_mut().zip(&pairs).for_each(|(out, &pair)| {
            let [first, last] = of(pair);
            let (first, last) = (first.and_then(|i| turn(a, i)), last.and_then(|k| turn(b, k)));
            *out = match (first, last) {
                (Some(first), Some(last)) => first.slerp(last, self.fraction),
                (one, other) => one.or(other).unwrap_or(Quat::IDENTITY),
            };
        });
        out.weights.iter_mut().zip(&pairs).for_each(|(out, &pair)| {
            let [first, last] = of(pair);
            let weight = first.and_then(|i| a.weights.get(i)).or_else(|| b.weights.get(last?));
            *out = weight.copied().unwrap_or(0.0);
        });
        out.uvs.iter_mut().zip(&pairs).for_each(|(out, &pair)| {
            let [first, last] = of(pair);
            let uv = first.and_then(|i| a.uvs.get(i)).or_else(|| b.uvs.get(last?));
            *out = uv.copied().unwrap_or_default();
        });
        out.pressures.iter_mut().zip(&pairs).for_each(|(out, &pair)| {
            let [first, last] = of(pair);
            let first = first.and_then(|i| a.pressures.get(i)).copied();
            let last = last.and_then(|k| b.pressures.get(k)).copied();
            *out = match (first, last) {
                (Some(first), Some(last)) => first + self.fraction * (last - first),
                (one, other) => one.or(other).unwrap_or(0.0),
            };
        });
        out
    }
}

/// No place in a list.
const NONE: u32 = u32::MAX;

/// The particles of two frames by id, as places in both: those in both, and
/// those in one of them that are alive at the moment.
fn matched(
    a: &Particles,
    b: &Particles,
    still: impl Fn(usize) -> bool,
    already: impl Fn(usize) -> bool,
) -> Vec<(u32, u32)> {
    let (mut i, mut k, mut pairs) = (0, 0, Vec::with_capacity(a.len().max(b.len())));
    while i < a.len() || k < b.len() {
        let (first, last) = (a.ids.get(i), b.ids.get(k));
        if first == last {
            pairs.push((i as u32, k as u32));
            (i, k) = (i + 1, k + 1);
        } else if last.is_none() || first.is_some_and(|first| Some(first) < last) {
            if still(i) {
                pairs.push((i as u32, NONE));
            }
            i += 1;
        } else {
            if already(k) {
                pairs.push((NONE, k as u32));
            }
            k += 1;
        }
    }
    pairs
}

/// Where the particles of `a` stand in another list; none: at the same places.
fn places(pairs: &[(u32, u32)], a: &Particles, other: &Particles) -> Option<Vec<u32>> {
    if a.ids == other.ids {
        return None;
    }
    let mut k = 0;
    let list = pairs.iter().map(|&(i, _)| {
        let Some(&id) = a.ids.get(i as usize) else { return NONE };
        while other.ids.get(k).is_some_and(|&at| at < id) {
            k += 1;
        }
        if other.ids.get(k) == Some(&id) { k as u32 } else { NONE }
    });
    Some(list.collect())
}

#[cfg(test)]
#[path = "motion_tests.rs"]
mod tests;
