//! Retime: a curve from the frames that go out to the frames shown.

use super::motion::Moment;
use super::window::Window;
use super::{FinishContext, SharedFrames, digest, sign};
use crate::{Frame, Frames, Parts, RunError};
use shot::{Id, fingerprint::Fingerprint, finish::FinishOperation};
use std::ops::RangeInclusive;
use std::sync::Arc;

pub(super) struct Retime {
    window: Window,
    step: Id,
    range: RangeInclusive<u32>,
    context: Arc<FinishContext>,
}

/// Moments nearer to a frame than this are that frame.
const SAME: f64 = 1e-6;
/// Ticks of a strip, at most.
const MAX_TICKS: usize = 160;

impl Retime {
    pub fn new(source: SharedFrames, step: Id, frames: u32, context: &Arc<FinishContext>) -> Self {
        let first = *source.range().start();
        let range = first..=first + frames.max(1) - 1;
        Self { window: Window::new(source), step, range, context: context.clone() }
    }

    /// The moment of the source shown at a frame.
    fn shown(&self, frame: f64) -> f64 {
        let value = |operation: &FinishOperation| match operation {
            FinishOperation::Retime { run_frame, .. } => f64::from(*run_frame),
            _ => frame,
        };
        let shown = self.context.step_at(self.step, frame, |operation, _| value(operation)).unwrap_or(frame);
        let source = &self.window.source;
        let (first, last) = (f64::from(*source.range().start()), f64::from(*source.range().end()));
        if source.repeats() { shown } else { shown.clamp(first, last) }
    }

    /// The moments at which frames of the source are shown; of many, every second, fourth… frame.
    pub fn ticks(&self) -> Vec<f32> {
        let mut ticks = Vec::new();
        let mut from = self.shown(f64::from(*self.range.start()));
        for number in self.range.clone().skip(1) {
            let to = self.shown(f64::from(number));
            let (low, high) = (from.min(to), from.max(to));
            for frame in (low.ceil() as i64..).take_while(|&frame| (frame as f64) < high) {
                let part = (frame as f64 - from) / (to - from);
                ticks.push((f64::from(number - 1) + part) as f32);
            }
            from = to;
        }
        let step = ticks.len().div_ceil(MAX_TICKS).max(1).next_power_of_two();
        ticks.into_iter().step_by(step).collect()
    }

    /// The moment shown, as a frame and a part of the way to the next, and how fast the frames pass.
    fn moment(&self, number: u32) -> (i64, f64, f64) {
        let at = f64::from(number);
        let shown = self.shown(at);
        // At an end, the side that is inside.
        let from = if number == *self.range.start() { at } else { at - 0.5 };
        let to = if number == *self.range.end() { at } else { at + 0.5 };
        let rate = if to > from { (self.shown(to) - self.shown(from)) / (to - from) } else { 0.0 };
        let whole = shown.floor();
        match shown - whole {
            part if part < SAME => (whole as i64, 0.0, rate),
            part if part > 1.0 - SAME => (whole as i64 + 1, 0.0, rate),
            part => (whole as i64, part, rate),
        }
    }

    /// The four frames around a moment.
    fn around(&self, whole: i64) -> [u32; 4] {
        [-1, 0, 1, 2].map(|by| self.window.source.at(whole + by))
    }
}

impl Frames for Retime {
    fn range(&self) -> RangeInclusive<u32> {
        self.range.clone()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let source = &self.window.source;
        let (whole, part, rate) = self.moment(number);
        if part > 0.0 {
            let prints = self.around(whole).map(|frame| source.fingerprint(frame));
            return digest("retime", &(number, part, rate), &prints);
        }
        let frame = source.at(whole);
        let print = source.fingerprint(frame);
        if frame == number && rate == 1.0 { print } else { digest("retime", &(number, rate), &[print]) }
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        let source = &self.window.source;
        let (whole, part, rate) = self.moment(number);
        if part > 0.0 {
            let around = self.around(whole);
            let mut frames = Vec::with_capacity(4);
            for number in around {
                frames.push(self.window.get(number, parts)?);
            }
            // The length of a frame in the world's time; around a loop's end, that of the frame before.
            let seconds = |from: u32, to: u32| {
                let to = if to > from { to } else { from + 1 };
                (self.context.world_s(to) - self.context.world_s(from)) as f32
            };
            let moment = Moment {
                frames: [&frames[0], &frames[1], &frames[2], &frames[3]],
                seconds: [
                    seconds(around[0], around[1]),
                    seconds(around[1], around[2]),
                    seconds(around[2], around[3]),
                ],
                fraction: part as f32,
                rate: rate as f32,
                context: &self.context,
            };
            *frame = moment.frame(std::mem::take(frame));
        } else {
            source.read(source.at(whole), parts, frame)?;
            if rate != 1.0 {
                frame.scale_velocities(rate as f32);
                frame.drop_impacts();
            }
        }
        sign(self, &self.context, number, frame)
    }
}
