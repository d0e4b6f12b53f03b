//! Join: the frames of another run after these.

use super::{FinishContext, SharedFrames, digest, sign};
use crate::{Frame, Frames, Parts, RunError};
use shot::fingerprint::Fingerprint;
use std::ops::RangeInclusive;
use std::sync::Arc;

pub(super) struct Join {
    pub sources: [SharedFrames; 2],
    pub context: Arc<FinishContext>,
}

impl Join {
    /// Which source is shown at a frame, and the frame of it.
    fn shown(&self, number: u32) -> (&SharedFrames, u32) {
        let [one, other] = &self.sources;
        match number.checked_sub(one.range().end() + 1) {
            None => (one, number),
            Some(on) => (other, other.at(i64::from(*other.range().start()) + i64::from(on))),
        }
    }
}

impl Frames for Join {
    fn range(&self) -> RangeInclusive<u32> {
        let [one, other] = self.sources.each_ref().map(|frames| frames.range());
        *one.start()..=one.end() + (other.end() - other.start() + 1)
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let (source, shown) = self.shown(number);
        let print = source.fingerprint(shown)?;
        if shown == number { Some(print) } else { digest("join", &number, &[Some(print)]) }
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        let (source, shown) = self.shown(number);
        source.read(shown, parts, frame)?;
        if number == self.sources[0].range().end() + 1 {
            frame.drop_impacts();
        }
        sign(self, &self.context, number, frame)
    }
}
