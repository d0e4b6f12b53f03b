//! Place: moves, turns and scales finished frames.

use super::transform::{MovingTransform, Transform};
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

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        self.source.read(number, parts, frame)?;
        let of = |frame: f64| self.transform(f64::from(number) + frame);
        let fps = self.context.shot().timing.fps;
        let moving = MovingTransform { now: of(0.0), before: of(-0.5), after: of(0.5), fps };
        for (id, bodies) in &mut frame.bodies {
            moving.bodies(bodies, self.context.centre(*id));
        }
        frame.particles.values_mut().for_each(|particles| moving.particles(particles));
        sign(self, &self.context, number, frame)
    }
}
