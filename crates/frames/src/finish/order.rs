//! Steps that show whole frames in another order: trim, reverse, shift.

use super::{FinishContext, SharedFrames, digest, needs, sign};
use crate::{Frame, Frames, Parts, RunError};
use shot::fingerprint::Fingerprint;
use std::ops::RangeInclusive;
use std::sync::Arc;

/// Frames of another sequence under other numbers.
struct Reordered {
    source: SharedFrames,
    context: Arc<FinishContext>,
    range: RangeInclusive<u32>,
    repeats: bool,
    /// The source's frame shown at the first frame.
    begin: i64,
    /// Whether the frames go backwards.
    backwards: bool,
}

/// Keeps a range of frames, which then begins at the shot's first frame.
pub(super) fn trim(
    source: SharedFrames,
    kept: RangeInclusive<u32>,
    context: &Arc<FinishContext>,
) -> Result<SharedFrames, String> {
    let range = source.range();
    if !source.repeats() && (kept.start() < range.start() || kept.end() > range.end()) {
        return Err(needs(kept, &range));
    }
    let first = *range.start();
    Ok(Arc::new(Reordered {
        begin: i64::from(*kept.start()),
        range: first..=first + (kept.end() - kept.start()),
        repeats: false,
        backwards: false,
        context: context.clone(),
        source,
    }))
}

/// Shows the frames from the last to the first.
pub(super) fn reverse(source: SharedFrames, context: &Arc<FinishContext>) -> SharedFrames {
    let range = source.range();
    Arc::new(Reordered {
        begin: i64::from(*range.end()),
        range,
        repeats: source.repeats(),
        backwards: true,
        context: context.clone(),
        source,
    })
}

/// Shows the frames later.
pub(super) fn shift(source: SharedFrames, later: i32, context: &Arc<FinishContext>) -> SharedFrames {
    let range = source.range();
    Arc::new(Reordered {
        begin: i64::from(*range.start()) - i64::from(later),
        range,
        repeats: source.repeats(),
        backwards: false,
        context: context.clone(),
        source,
    })
}

impl Reordered {
    fn source_of(&self, number: u32) -> u32 {
        let on = i64::from(number) - i64::from(*self.range.start());
        self.source.at(self.begin + if self.backwards { -on } else { on })
    }
}

impl Frames for Reordered {
    fn range(&self) -> RangeInclusive<u32> {
        self.range.clone()
    }

    fn repeats(&self) -> bool {
        self.repeats
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let source = self.source.fingerprint(self.source_of(number))?;
        // A frame that is shown at its own number, forwards, is the same frame.
        if self.source_of(number) == number && !self.backwards {
            return Some(source);
        }
        digest("order", &(number, self.backwards), &[Some(source)])
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        self.source.read(self.source_of(number), parts, frame)?;
        // The frame before is not that of the run.
        if self.backwards || (number > 0 && self.source_of(number - 1) == self.source_of(number)) {
            frame.drop_impacts();
        }
        if self.backwards {
            frame.scale_velocities(-1.0);
        }
        sign(self, &self.context, number, frame)
    }
}
