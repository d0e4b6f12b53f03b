//! Loop: a round of frames that is shown again and again.

use super::mix::mixed;
use super::window::Window;
use super::{FinishContext, SharedFrames, digest, needs, sign};
use crate::{Frame, Frames, Parts, RunError};
use shot::fingerprint::Fingerprint;
use std::ops::RangeInclusive;
use std::sync::Arc;

/// The frames of a round.
#[derive(Clone, Copy)]
pub(super) struct Round {
    pub frames: u32,
    pub from_frame: u32,
    /// Frames at the end that are blended into those before the first, so that the first follows the last.
    pub overlap: u32,
    /// Whether the source's first frame stands before it.
    pub first_stands: bool,
}

struct Cycle {
    window: Window,
    round: Round,
    first: u32,
    context: Arc<FinishContext>,
}

/// Shows a round of frames again and again. The frame after the last would be
/// the first once more, and is left out.
pub(super) fn cycle(
    source: SharedFrames,
    round: Round,
    context: &Arc<FinishContext>,
) -> Result<SharedFrames, String> {
    let range = source.range();
    let overlap = if round.first_stands { 0 } else { round.overlap };
    let (begin, end) = (round.from_frame.saturating_sub(overlap), round.from_frame + round.frames - 1);
    let fits = begin >= *range.start() && round.from_frame >= overlap && end <= *range.end();
    if !fits && !source.repeats() {
        let longest = (range.end() + 1).saturating_sub(round.from_frame.max(range.start() + overlap));
        let offer = if longest >= 2 && longest > overlap {
            format!("; the longest loop from there has {longest} frames")
        } else {
            String::new()
        };
        return Err(format!("{}{offer}", needs(begin..=end, &range)));
    }
    Ok(Arc::new(Cycle {
        first: *range.start(),
        window: Window::new(source),
        round,
        context: context.clone(),
    }))
}

impl Cycle {
    /// The frame shown, and the one before the round that is blended into it, by how much.
    fn shown(&self, number: u32) -> (u32, Option<(u32, f32)>) {
        let Round { frames, from_frame, overlap, .. } = self.round;
        let on = (number - self.first) % frames;
        let at = |frame: i64| self.window.source.at(frame);
        let shown = i64::from(from_frame) + i64::from(on);
        let into_overlap = (on + 1 + overlap).saturating_sub(frames);
        let blend = (into_overlap > 0).then(|| {
            let s = into_overlap as f32 / (overlap + 1) as f32;
            (at(shown - i64::from(frames)), s * s * (3.0 - 2.0 * s))
        });
        (at(shown), blend)
    }
}

impl Frames for Cycle {
    fn range(&self) -> RangeInclusive<u32> {
        self.first..=self.first + self.round.frames - 1
    }

    fn repeats(&self) -> bool {
        true
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let source = &self.window.source;
        let (shown, blend) = self.shown(number);
        let print = source.fingerprint(shown);
        match blend {
            None if shown == number => print,
            None => digest("loop", &number, &[print]),
            Some((other, weight)) => digest("loop", &(number, weight), &[print, source.fingerprint(other)]),
        }
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        let (shown, blend) = self.shown(number);
        match blend {
            None => {
                self.window.source.read(shown, parts, frame)?;
                // The frame before is the round's last.
                if number == self.first {
                    frame.drop_impacts();
                }
            }
            Some((other, weight)) => {
                let (a, b) = (self.window.get(shown, parts)?, self.window.get(other, parts)?);
                *frame = mixed(&a, &b, weight, &self.context);
            }
        }
        sign(self, &self.context, number, frame)
    }
}
