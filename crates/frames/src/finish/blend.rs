//! Blend: from these frames to those of another run, along a keyed weight.

use super::mix::mixed;
use super::{FinishContext, SharedFrames, digest, sign};
use crate::{Frame, Frames, Parts, RunError};
use shot::{Id, fingerprint::Fingerprint, finish::FinishOperation};
use std::ops::RangeInclusive;
use std::sync::Arc;

pub(super) struct Blend {
    pub source: SharedFrames,
    pub other: SharedFrames,
    pub step: Id,
    pub context: Arc<FinishContext>,
}

impl Blend {
    fn weight(&self, number: u32) -> f32 {
        let value = |operation: &FinishOperation| match operation {
            FinishOperation::Blend { weight, .. } => *weight,
            _ => 0.0,
        };
        self.context.step_at(self.step, f64::from(number), |operation, _| value(operation)).unwrap_or(0.0)
    }

    fn shown_of_other(&self, number: u32) -> u32 {
        self.other.at(i64::from(number))
    }
}

impl Frames for Blend {
    fn range(&self) -> RangeInclusive<u32> {
        self.source.range()
    }

    fn repeats(&self) -> bool {
        self.source.repeats()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let weight = self.weight(number);
        let one = || self.source.fingerprint(number);
        let other = || self.other.fingerprint(self.shown_of_other(number));
        if weight <= 0.0 {
            one()
        } else if weight >= 1.0 {
            digest("blend", &number, &[other()])
        } else {
            digest("blend", &(number, weight), &[one(), other()])
        }
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        let weight = self.weight(number);
        if weight < 1.0 {
            self.source.read(number, parts, frame)?;
        }
        if weight >= 1.0 {
            self.other.read(self.shown_of_other(number), parts, frame)?;
        } else if weight > 0.0 {
            let mut other = Frame::default();
            self.other.read(self.shown_of_other(number), parts, &mut other)?;
            *frame = mixed(frame, &other, weight, &self.context);
        }
        sign(self, &self.context, number, frame)
    }
}
