//! A shot that goes round: all that acts has the period that the shot declares.
//!
//! Keys go on from the last to the first of the next round. Patterns and noise, which
//! have no period of their own, fade from their course in this round into the one that
//! leads to where the round began; the weights keep the mean square of noise.

use super::{Channel, Elapsed, Key, Outside, Sampler};
use crate::Element;
use glam::Vec3;

/// What has elapsed in a pattern of a shot that goes round.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct PeriodicElapsed {
    /// Since the round began.
    pub now: Elapsed,
    /// Until the round ends, negative.
    pub before: Elapsed,
    /// In a whole round.
    pub total: Elapsed,
    /// Fraction of the round that has passed, 0–1.
    pub fraction: f64,
}

impl PeriodicElapsed {
    /// The weights of the two courses: their squares add up to 1.
    pub fn weights(&self) -> [f64; 2] {
        fading(self.fraction)
    }
}

/// Weights of a noise and of the one that it fades into, whose mean square stays the same.
pub(super) fn fading(fraction: f64) -> [f64; 2] {
    let even = fraction.hypot(1.0 - fraction);
    [(1.0 - fraction) / even, fraction / even]
}

impl Sampler {
    /// Length of a round in frames and the fraction of it that has passed at a frame; none
    /// if the shot does not go round.
    pub(super) fn in_round(&self, frame: f64) -> Option<(f64, f64)> {
        let timing = self.base.timing;
        let length = f64::from(timing.loop_frames?.max(1));
        Some((length, (frame - f64::from(timing.first)).rem_euclid(length) / length))
    }

    /// The frame of the first round that is like a frame.
    pub fn frame_in_round(&self, frame: f64) -> f64 {
        let timing = self.base.timing;
        let Some(length) = timing.loop_frames.map(|frames| f64::from(frames.max(1))) else { return frame };
        // Whole frames stay whole: keys that hold change at their frames.
        f64::from(timing.first) + (frame - f64::from(timing.first)).rem_euclid(length)
    }

    /// Length of a round, s; none if the shot does not go round.
    pub fn round_s(&self) -> Option<f64> {
        let timing = self.base.timing;
        timing.loop_frames.map(|frames| f64::from(frames.max(1)) / f64::from(timing.fps))
    }

    /// As [`Sampler::elapsed`] in a shot that goes round; none in others.
    pub fn periodic_elapsed(&self, element: &Element, axis: Vec3, seconds: f64) -> Option<PeriodicElapsed> {
        let period = self.round_s()?;
        let local = seconds.rem_euclid(period);
        let total = self.elapsed(element, axis, period);
        let now = self.elapsed(element, axis, local);
        Some(PeriodicElapsed { now, before: now.minus(total), total, fraction: local / period })
    }
}

impl Channel {
    /// With its keys repeated every `length` frames from `first` on, so that it can be read
    /// in the first round. Keys outside of that round are left out. A channel that goes on
    /// otherwise before or after its keys keeps to that.
    pub(super) fn periodic(&self, first: f64, length: f64) -> Self {
        let plain = self.before == Outside::Hold && self.after == Outside::Hold;
        let within: Vec<&Key> =
            self.keys.iter().filter(|key| (first..first + length).contains(&key.frame)).collect();
        if !plain || within.is_empty() {
            return self.clone();
        }
        let rounds = [-length, 0.0, length];
        let shifted = |by: f64| within.iter().map(move |key| Key { frame: key.frame + by, ..(*key).clone() });
        Self { keys: rounds.into_iter().flat_map(shifted).collect(), ..self.clone() }
    }
}

#[cfg(test)]
mod tests {
    use crate::motion::{Channel, Interpolation, Sampler};
    use crate::{Element, Moves, Shape, Shot};
    use rstest::rstest;

    fn height(channel: Channel, frames: u32, frame: f64) -> f32 {
        let mut shot = Shot::empty("Round");
        shot.timing.loop_frames = Some(frames);
        let mut ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Animated);
        ball.channels.insert("placement.position_m[1]".to_owned(), channel);
        let id = shot.add(ball);
        Sampler::new(&shot).unwrap().at(frame).unwrap().element(id).unwrap().placement.position_m.y
    }

    #[rstest]
    #[case(1.0, 0.0)]
    #[case(11.0, 4.0)]
    // From the last key to the first of the next round: half way.
    #[case(16.0, 2.0)]
    #[case(21.0, 0.0)]
    #[case(-9.0, 4.0)]
    #[case(51.0, 4.0)]
    fn keys_go_round(#[case] frame: f64, #[case] expected: f32) {
        let keys = Channel::keyed([(1.0, 0.0f32), (11.0, 4.0)]);
        assert!((height(keys, 20, frame) - expected).abs() < 1e-6);
    }

    /// A key that holds counts at its own frame in every round, whatever the length.
    #[test]
    fn keys_that_hold_change_at_their_frames_in_every_round() {
        for length in 2..120u32 {
            let mut keys = Channel::keyed((0..length).map(|i| (1.0 + f64::from(i), i as f32)));
            keys.keys.iter_mut().for_each(|key| key.interpolation = Interpolation::Hold);
            let mut shot = Shot::empty("Round");
            (shot.timing.last, shot.timing.loop_frames) = (200, Some(length));
            let mut ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Animated);
            ball.channels.insert("placement.position_m[1]".to_owned(), keys);
            let id = shot.add(ball);
            let sampler = Sampler::new(&shot).unwrap();
            for frame in (0..3 * length).step_by(5) {
                let shown = sampler.at(1.0 + f64::from(frame)).unwrap();
                let height = shown.element(id).unwrap().placement.position_m.y;
                assert_eq!(height, (frame % length) as f32, "frame {frame} in rounds of {length}");
            }
        }
    }

    #[test]
    fn smooth_keys_have_no_corner_at_the_seam() {
        let mut keys = Channel::keyed([(1.0, 1.0f32), (6.0, 2.0), (11.0, 1.0), (16.0, 0.0)]);
        keys.keys.iter_mut().for_each(|key| key.interpolation = Interpolation::Smooth);
        let at = |frame| height(keys.clone(), 20, frame);
        let (before, after) = (at(21.0) - at(20.9), at(21.1) - at(21.0));
        assert!(before > 0.0 && (before - after).abs() < 0.1 * before, "{before} {after}");
    }

    #[rstest]
    #[case("time")]
    #[case("noise(3 * time)")]
    #[case("noise(time) * 2 + noise(7.3 * time + 4) + sin(time)")]
    fn formulas_begin_anew_in_each_round(#[case] text: &str) {
        let at = |frame| height(Channel::expression(text), 36, frame);
        for frame in [1.0, 7.3, 20.0, 36.9] {
            assert_eq!(at(frame), at(frame + 36.0));
            assert_eq!(at(frame), at(frame - 72.0));
        }
    }

    #[test]
    fn noise_in_formulas_is_smooth_over_the_seam() {
        let at = |frame| height(Channel::expression("noise(5 * time + 0.37)"), 30, frame);
        let jump = (at(31.0) - at(30.999)).abs();
        assert!(jump < 1e-3, "{jump}");
        assert!(at(20.0) != at(5.0));
    }
}
