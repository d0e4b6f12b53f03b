//! Place: moves, turns and scales finished frames.

use super::{FinishContext, SharedFrames, digest, sign};
use crate::{Frame, Frames, Parts, RunError};
use glam::{Quat, Vec3};
use shot::{Id, fingerprint::Fingerprint, finish::FinishOperation};
use std::ops::RangeInclusive;
use std::sync::Arc;

pub(super) struct Place {
    source: SharedFrames,
    step: Id,
    context: Arc<FinishContext>,
}

/// `position + orientation · scale · (x − about) + about`
struct Transform {
    position: Vec3,
    orientation: Quat,
    scale: f32,
    about: Vec3,
}

impl Place {
    pub fn new(source: SharedFrames, step: Id, context: &Arc<FinishContext>) -> Self {
        Self { source, step, context: context.clone() }
    }

    fn transform(&self, frame: f64) -> Transform {
        let read = |operation: &FinishOperation, pose| match operation {
            FinishOperation::Place { scale, about } => (pose, *scale, *about),
            _ => (pose, 1.0, None),
        };
        let unmoved = ((Vec3::ZERO, Quat::IDENTITY), 1.0, None);
        let ((position, orientation), scale, about) =
            self.context.step_at(self.step, frame, read).unwrap_or(unmoved);
        let about = about.map_or(Vec3::ZERO, |id| self.context.pose(id, frame).0);
        Transform { position, orientation, scale, about }
    }
}

impl Transform {
    fn point(&self, x: Vec3) -> Vec3 {
        self.position + self.about + self.orientation * (self.scale * (x - self.about))
    }

    fn values(&self) -> ([f32; 3], [f32; 4], f32, [f32; 3]) {
        (self.position.to_array(), self.orientation.to_array(), self.scale, self.about.to_array())
    }
}

impl Frames for Place {
    fn range(&self) -> RangeInclusive<u32> {
        self.source.range()
    }

    fn repeats(&self) -> bool {
        self.source.repeats()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let values = self.transform(f64::from(number)).values();
        digest("place", &values, &[self.source.fingerprint(number)])
    }

    fn read(&self, number: u32, parts: Parts, frame: &mut Frame) -> Result<(), RunError> {
        self.source.read(number, parts, frame)?;
        let now = self.transform(f64::from(number));
        let fps = self.context.shot().timing.fps;
        // The transform's own motion is part of the velocities.
        let (before, after) =
            (self.transform(f64::from(number) - 0.5), self.transform(f64::from(number) + 0.5));
        let carried = |x: Vec3| (after.point(x) - before.point(x)) * fps;
        let turning = (after.orientation * before.orientation.inverse()).to_scaled_axis() * fps;
        for (id, bodies) in &mut frame.bodies {
            let centre = self.context.centre(*id);
            if now.scale != 1.0 && bodies.scales.is_empty() {
                bodies.scales = vec![1.0; bodies.len()];
            }
            for i in 0..bodies.len() {
                let scale = bodies.scales.get(i).copied().unwrap_or(1.0);
                let of_mass = bodies.positions[i] + bodies.orientations[i] * (centre * scale);
                bodies.velocities[i] =
                    now.orientation * (now.scale * bodies.velocities[i]) + carried(of_mass);
                bodies.angular_velocities[i] = now.orientation * bodies.angular_velocities[i] + turning;
                bodies.positions[i] = now.point(bodies.positions[i]);
                bodies.orientations[i] = (now.orientation * bodies.orientations[i]).normalize();
            }
            for impact in &mut bodies.impacts {
                for (centre, velocity) in impact.centres.iter_mut().zip(&mut impact.velocities) {
                    *velocity = now.orientation * (now.scale * *velocity) + carried(*centre);
                    *centre = now.point(*centre);
                }
                impact.orientation = (now.orientation * impact.orientation).normalize();
            }
            bodies.scales.iter_mut().for_each(|scale| *scale *= now.scale);
        }
        for particles in frame.particles.values_mut() {
            for i in 0..particles.len() {
                particles.velocities[i] =
                    now.orientation * (now.scale * particles.velocities[i]) + carried(particles.positions[i]);
                particles.positions[i] = now.point(particles.positions[i]);
            }
            particles.sizes.iter_mut().for_each(|size| *size *= now.scale);
            particles.orientations.iter_mut().for_each(|of| *of = (now.orientation * *of).normalize());
        }
        sign(self, &self.context, number, frame)
    }
}
