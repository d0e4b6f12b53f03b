//! A solid whose shape changes as a file says: which frame of the file is shown when.

use crate::parameters::Parameters;
use crate::{Element, Id, motion::Sampler};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// How a mesh that a file animates is played. It plays while the solid is
/// animated; let go, the solid keeps the shape that it has then.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct FileAnimation {
    /// Frame of the shot at which the file's first frame is shown.
    pub start_frame: i32,
    /// Frames of the file that go by at speed 1, 1/s.
    #[parameter(label = "Rate", unit = "1/s", fixed, range(0.01, 1_000.0), step = 1.0)]
    pub rate: f32,
    /// Multiple of the rate, no unit; negative plays backwards.
    #[parameter(label = "Speed", unit = "×", range(-100.0, 100.0), slide(-2.0, 2.0), step = 0.05)]
    pub speed: f32,
    /// What is shown before the file's first frame.
    pub before: BeyondEnd,
    /// What is shown after the file's last frame.
    pub after: BeyondEnd,
    /// What is shown between two frames of the file.
    pub between: BetweenFrames,
}

impl Default for FileAnimation {
    fn default() -> Self {
        let (before, after) = (BeyondEnd::Hold, BeyondEnd::Hold);
        Self { start_frame: 1, rate: 24.0, speed: 1.0, before, after, between: BetweenFrames::Smooth }
    }
}

/// What is shown beyond an end of the file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum BeyondEnd {
    /// The frame at the end.
    #[default]
    Hold,
    /// The file again.
    Repeat,
    /// The file in turn backwards and forwards.
    BackAndForth,
}

/// What is shown between two frames of the file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum BetweenFrames {
    /// Vertices go in straight lines.
    Linear,
    /// Vertices go in curves without a jump of velocity.
    #[default]
    Smooth,
}

/// By the frames of the shot, ∫ speed df since the first one.
pub(crate) type PlayedFrames = HashMap<Id, Vec<f64>>;

/// Steps to a frame of the file.
const STEPS: f64 = 1_048_576.0;
/// Samples of a speed between two frames.
const PARTS: u32 = 4;

impl Sampler {
    /// The frame of the file, from its first one on and with a fraction, that a
    /// solid shows when keys are read at `acting`; beyond the file's ends the
    /// count goes on. None if no file animates it.
    pub fn file_frame(&self, element: &Element, acting: f64) -> Option<f64> {
        let animation = element.as_solid()?.animation.as_ref()?;
        let fps = f64::from(self.base().timing.fps);
        let acting = self.frame_in_round(acting);
        let played = |frame: f64| self.played(element, f64::from(animation.speed), frame);
        let frames = played(acting) - played(f64::from(animation.start_frame));
        // Without the rounding of sums, so that a key that changes nothing is as if it were not there.
        Some((frames * f64::from(animation.rate) / fps * STEPS).round() / STEPS)
    }

    /// ∫ speed df from the first frame of the shot to `frame`.
    fn played(&self, element: &Element, speed: f64, frame: f64) -> f64 {
        let since = frame - f64::from(self.base().timing.first);
        let Some(sums) = self.played_frames().get(&element.id) else { return speed * since };
        let whole = since.floor();
        if whole < 0.0 {
            let first = sums.get(1).map_or(speed, |next| next - sums[0]);
            return first * since;
        }
        match (sums.get(whole as usize), sums.get(whole as usize + 1)) {
            (Some(from), Some(to)) => from + (to - from) * (since - whole),
            _ => {
                // After the last frame the speed stays as it is there.
                let [.., before, last] = sums[..] else { return speed * since };
                last + (last - before) * (since - (sums.len() - 1) as f64)
            }
        }
    }

    fn played_frames(&self) -> &PlayedFrames {
        self.played.get_or_init(|| {
            let base = self.base();
            let animated =
                |element: &&Element| element.as_solid().is_some_and(|solid| solid.animation.is_some());
            let ids: Vec<Id> =
                base.elements.iter().filter(animated).map(|e| e.id).filter(|id| self.moves(*id)).collect();
            let mut played: PlayedFrames = ids.iter().map(|id| (*id, vec![0.0])).collect();
            if ids.is_empty() {
                return played;
            }
            let mut now = base.clone();
            for frame in base.timing.frames() {
                let mut speeds = vec![0.0; ids.len()];
                for part in 0..PARTS {
                    let at = f64::from(frame) + (f64::from(part) + 0.5) / f64::from(PARTS);
                    // A formula that fails here fails again, and is told, when the frame is computed.
                    let _ = self.apply(&mut now, at);
                    for (id, speed) in ids.iter().zip(&mut speeds) {
                        let animation = now.element(*id).and_then(|e| e.as_solid()?.animation.as_ref());
                        *speed += animation.map_or(0.0, |a| f64::from(a.speed)) / f64::from(PARTS);
                    }
                }
                for (id, speed) in ids.iter().zip(speeds) {
                    let sums = played.get_mut(id).expect("all are listed");
                    sums.push(sums[sums.len() - 1] + speed);
                }
            }
            played
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Moves, Shape, Shot, motion::Channel};

    fn flag(animation: FileAnimation) -> (Shot, Id) {
        let mut shot = Shot::empty("Flag");
        let mut flag = Element::solid("Flag", Shape::sphere(1.0), Moves::Animated);
        flag.as_solid_mut().unwrap().animation = Some(animation);
        let id = shot.add(flag);
        (shot, id)
    }

    fn shown(shot: &Shot, id: Id, frame: f64) -> f64 {
        let sampler = Sampler::new(shot).unwrap();
        let now = sampler.at(frame).unwrap();
        sampler.file_frame(now.element(id).unwrap(), frame).unwrap()
    }

    #[test]
    fn a_file_plays_at_its_rate_from_its_start() {
        let (shot, id) = flag(FileAnimation { start_frame: 5, rate: 12.0, speed: 3.0, ..Default::default() });
        assert_eq!(shown(&shot, id, 5.0), 0.0);
        assert_eq!(shown(&shot, id, 9.0), 6.0);
        assert_eq!(shown(&shot, id, 1.0), -6.0);
    }

    #[test]
    fn a_keyed_speed_adds_up_and_never_throws_the_file_about() {
        let (mut shot, id) = flag(FileAnimation { start_frame: 1, ..Default::default() });
        let flag = shot.elements.iter_mut().find(|e| e.id == id).unwrap();
        let ramp = Channel::keyed([(1.0, 0.0f32), (11.0, 2.0)]);
        flag.channels.insert("kind.solid.animation.speed".to_owned(), ramp);
        assert!((shown(&shot, id, 11.0) - 10.0).abs() < 1e-9);
        assert!((shown(&shot, id, 21.0) - 30.0).abs() < 1e-9);
        assert!((shown(&shot, id, 196.0) - shown(&shot, id, 195.0) - 2.0).abs() < 1e-9);
        let (before, after) = (shown(&shot, id, 5.999_999), shown(&shot, id, 6.000_001));
        assert!((after - before).abs() < 1e-4);
    }
}
