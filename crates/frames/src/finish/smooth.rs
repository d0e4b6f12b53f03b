//! Smooth: each frame as the mean of those around it.

use super::window::Window;
use super::{FinishContext, SharedFrames, digest, mesh, sign};
use crate::{Bodies, Frame, Frames, Particles, Parts, RunError};
use glam::{Quat, Vec3};
use shot::{Id, fingerprint::Fingerprint, finish::FinishOperation};
use std::ops::RangeInclusive;
use std::sync::Arc;

pub(super) struct Smooth {
    window: Window,
    step: Id,
    context: Arc<FinishContext>,
}

/// Frames on a side, at most.
const MAX_RADIUS: usize = 24;

impl Smooth {
    pub fn new(source: SharedFrames, step: Id, context: &Arc<FinishContext>) -> Self {
        Self { window: Window::keeping(source, 2 * MAX_RADIUS + 2), step, context: context.clone() }
    }

    /// Weights of the frame itself, its neighbours, those beyond…; near an end
    /// of the frames as many as there are on both sides, so that a steady
    /// motion stays as it is.
    fn weights(&self, number: u32) -> Vec<f32> {
        let value = |operation: &FinishOperation| match operation {
            FinishOperation::Smooth { radius } => *radius,
            _ => 0.0,
        };
        let radius = self.context.step_at(self.step, f64::from(number), |operation, _| value(operation));
        let radius = radius.unwrap_or(0.0).clamp(0.0, MAX_RADIUS as f32);
        let source = &self.window.source;
        let room = if source.repeats() {
            u32::MAX
        } else {
            (number - source.range().start()).min(source.range().end() - number)
        };
        let reach = (radius.ceil() as u32).min(room);
        let deviation = 0.5 * radius.max(1e-3);
        (0..=reach).map(|k| (-0.5 * (k as f32 / deviation).powi(2)).exp()).collect()
    }

    fn around(&self, number: u32, k: usize) -> [u32; 2] {
        [-(k as i64), k as i64].map(|by| self.window.source.at(i64::from(number) + by))
    }
}

/// A weighted mean that is built up: each value goes in by its part of all so far.
struct Mean<T> {
    value: T,
    weight: f32,
}

impl<T: Copy> Mean<T> {
    fn add(&mut self, value: T, weight: f32, mix: impl Fn(T, T, f32) -> T) {
        self.weight += weight;
        self.value = mix(self.value, value, weight / self.weight);
    }
}

impl Frames for Smooth {
    fn range(&self) -> RangeInclusive<u32> {
        self.window.source.range()
    }

    fn repeats(&self) -> bool {
        self.window.source.repeats()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let source = &self.window.source;
        let weights = self.weights(number);
        if weights.len() == 1 {
            return source.fingerprint(number);
        }
        let prints: Vec<_> = (0..weights.len())
            .flat_map(|k| self.around(number, k))
            .map(|frame| source.fingerprint(frame))
            .collect();
        digest("smooth", &(number, weights), &prints)
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        let weights = self.weights(number);
        self.window.source.read(number, parts, frame)?;
        if weights.len() > 1 {
            let mut pairs = Vec::new();
            for (k, &weight) in weights.iter().enumerate().skip(1) {
                let [before, after] = self.around(number, k);
                pairs.push((self.window.get(before, parts)?, self.window.get(after, parts)?, weight));
            }
            let of: Vec<(&Frame, &Frame, f32)> = pairs.iter().map(|(a, b, w)| (&**a, &**b, *w)).collect();
            frame.drop_impacts();
            for (id, bodies) in &mut frame.bodies {
                smooth_bodies(*id, bodies, &of, self.context.centre(*id));
            }
            for (id, mesh) in &mut frame.meshes {
                let around = of.iter().map(|(a, b, w)| (a.meshes.get(id), b.meshes.get(id), *w));
                mesh::smooth(mesh, around);
            }
            for (id, particles) in &mut frame.particles {
                smooth_particles(*id, particles, &of);
            }
        }
        sign(self, &self.context, number, frame)
    }
}

fn smooth_bodies(id: Id, bodies: &mut Bodies, pairs: &[(&Frame, &Frame, f32)], centre: Vec3) {
    let scale = |of: &Bodies, i: usize| of.scales.get(i).copied().unwrap_or(1.0);
    let of_mass = |of: &Bodies, i: usize| of.positions[i] + of.orientations[i] * (centre * scale(of, i));
    for i in 0..bodies.len() {
        let mut position = Mean { value: of_mass(bodies, i), weight: 1.0 };
        let mut orientation = Mean { value: bodies.orientations[i], weight: 1.0 };
        let mut velocity = Mean { value: bodies.velocities[i], weight: 1.0 };
        let mut spin = Mean { value: bodies.angular_velocities[i], weight: 1.0 };
        for &(before, after, weight) in pairs {
            let [Some(a), Some(b)] = [before, after].map(|frame| frame.bodies.get(&id)) else { break };
            // A body that is gone on one side has no mean beyond.
            if i >= a.len() || i >= b.len() || scale(a, i) == 0.0 || scale(b, i) == 0.0 {
                break;
            }
            for of in [a, b] {
                position.add(of_mass(of, i), weight, |a: Vec3, b, t| a.lerp(b, t));
                orientation.add(of.orientations[i], weight, Quat::slerp);
                velocity.add(of.velocities[i], weight, |a: Vec3, b, t| a.lerp(b, t));
                spin.add(of.angular_velocities[i], weight, |a: Vec3, b, t| a.lerp(b, t));
            }
        }
        bodies.orientations[i] = orientation.value;
        bodies.positions[i] = position.value - orientation.value * (centre * scale(bodies, i));
        (bodies.velocities[i], bodies.angular_velocities[i]) = (velocity.value, spin.value);
    }
}

fn smooth_particles(id: Id, particles: &mut Particles, pairs: &[(&Frame, &Frame, f32)]) {
    for i in 0..particles.len() {
        let number = particles.ids[i];
        let mut position = Mean { value: particles.positions[i], weight: 1.0 };
        let mut velocity = Mean { value: particles.velocities[i], weight: 1.0 };
        for &(before, after, weight) in pairs {
            // Ids rise; in most frames a particle is at the same place.
            let find = |frame: &Frame| {
                let of = frame.particles.get(&id)?;
                let at =
                    if of.ids.get(i) == Some(&number) { i } else { of.ids.binary_search(&number).ok()? };
                Some((of.positions[at], of.velocities[at]))
            };
            let (Some(a), Some(b)) = (find(before), find(after)) else { break };
            for (x, v) in [a, b] {
                position.add(x, weight, |a: Vec3, b, t| a.lerp(b, t));
                velocity.add(v, weight, |a: Vec3, b, t| a.lerp(b, t));
            }
        }
        (particles.positions[i], particles.velocities[i]) = (position.value, velocity.value);
    }
}
