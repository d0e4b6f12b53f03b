//! Keys through samples.

use super::{Handle, Interpolation, Key, Value};

/// Longer spans are tried until so many in a row have failed.
const TRIES: usize = 12;

/// Few keys that come within `tolerance` of samples, whose frames rise, and of
/// the straight lines between them. A vector's error is its distance.
///
/// Each span is a cubic with the slopes of the samples at its ends, and as long
/// as the tolerance allows: P. J. Schneider, *An algorithm for automatically
/// fitting digitized curves*, Graphics Gems (1990), for a function of time.
pub fn fit(samples: &[(f64, Value)], tolerance: f64) -> Vec<Key> {
    let Some(&(_, first)) = samples.first() else { return Vec::new() };
    if let Value::Switch(_) = first {
        return steps(samples);
    }
    let slopes: Vec<[f64; 3]> = (0..samples.len()).map(|i| slopes(samples, i)).collect();
    let mut keys = vec![Key::new(samples[0].0, first)];
    let mut from = 0;
    while from + 1 < samples.len() {
        let reaches = |to: usize| error(samples, &slopes, from, to) <= tolerance;
        let (mut to, mut curved) = (from + 1, reaches(from + 1));
        let mut failed = 0;
        for further in from + 2..samples.len() {
            if reaches(further) {
                (to, curved, failed) = (further, true, 0);
            } else {
                failed += 1;
                if failed == TRIES {
                    break;
                }
            }
        }
        let mut key = Key::new(samples[to].0, samples[to].1);
        if curved {
            let frames = (samples[to].0 - samples[from].0) / 3.0;
            let handle = |i: usize, sign: f64| Handle {
                frames,
                value: samples[i].1.with_parts(|part| sign * slopes[i][part] * frames),
            };
            let before = keys.last_mut().expect("the first key");
            before.interpolation = Interpolation::Free;
            before.outgoing = Some(handle(from, 1.0));
            key.incoming = Some(handle(to, -1.0));
        }
        keys.push(key);
        from = to;
    }
    keys
}

/// A key where a switch changes.
fn steps(samples: &[(f64, Value)]) -> Vec<Key> {
    let mut keys: Vec<Key> = Vec::new();
    for &(frame, value) in samples {
        if keys.last().is_none_or(|key| key.value != value) {
            keys.push(Key { interpolation: Interpolation::Hold, ..Key::new(frame, value) });
        }
    }
    keys
}

/// Slope a frame of each part at a sample: of the line that is nearest to it
/// and the two samples on either side.
fn slopes(samples: &[(f64, Value)], at: usize) -> [f64; 3] {
    let near = &samples[at.saturating_sub(2)..(at + 3).min(samples.len())];
    let n = near.len() as f64;
    let mean = near.iter().map(|(frame, _)| frame).sum::<f64>() / n;
    let spread: f64 = near.iter().map(|(frame, _)| (frame - mean).powi(2)).sum();
    let mut out = [0.0; 3];
    for (part, slope) in out.iter_mut().enumerate().take(samples[at].1.count()) {
        let sum: f64 = near.iter().map(|(frame, value)| (frame - mean) * value.part(part)).sum();
        *slope = if spread > 0.0 { sum / spread } else { 0.0 };
    }
    out
}

/// Greatest distance of a cubic span from the samples it spans and from the
/// middles between them.
fn error(samples: &[(f64, Value)], slopes: &[[f64; 3]], from: usize, to: usize) -> f64 {
    let ((start, a), (end, b)) = (samples[from], samples[to]);
    let span = end - start;
    let away = |frame: f64, wanted: &dyn Fn(usize) -> f64| {
        let s = (frame - start) / span;
        let square = |part: usize| {
            let ends = (slopes[from][part] * span, slopes[to][part] * span);
            (super::channel::hermite(a.part(part), b.part(part), ends, s) - wanted(part)).powi(2)
        };
        (0..a.count()).map(square).sum::<f64>().sqrt()
    };
    samples[from..=to].windows(2).fold(0.0, |worst: f64, pair| {
        let ((t, v), (u, w)) = (pair[0], pair[1]);
        let middle = away(0.5 * (t + u), &|part| 0.5 * (v.part(part) + w.part(part)));
        worst.max(middle).max(away(u, &|part| w.part(part)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::motion::Channel;
    use proptest::prelude::*;
    use rstest::rstest;

    fn channel(samples: &[(f64, Value)], tolerance: f64) -> Channel {
        Channel { keys: fit(samples, tolerance), ..Channel::default() }
    }

    fn distance(a: Value, b: Value) -> f64 {
        (0..a.count()).map(|i| (a.part(i) - b.part(i)).powi(2)).sum::<f64>().sqrt()
    }

    proptest! {
        #[test]
        fn keys_come_within_the_tolerance(
            steps in proptest::collection::vec((0.01..3.0, prop::array::uniform3(-0.2f32..0.2)), 1..120),
            tolerance in 0.001..0.1,
        ) {
            let (mut frame, mut position) = (1.0, [0.0f32; 3]);
            let mut samples = Vec::new();
            for (length, step) in steps {
                samples.push((frame, Value::Vector(position)));
                frame += length;
                (0..3).for_each(|i| position[i] += step[i]);
            }
            let fitted = channel(&samples, tolerance);
            for pair in samples.windows(2) {
                let ((t, v), (u, w)) = (pair[0], pair[1]);
                let middle = v.with_parts(|i| 0.5 * (v.part(i) + w.part(i)));
                prop_assert!(distance(fitted.at(t).unwrap(), v) <= tolerance + 1e-5);
                prop_assert!(distance(fitted.at(0.5 * (t + u)).unwrap(), middle) <= tolerance + 1e-5);
            }
            prop_assert_eq!(fitted.keys.first().unwrap().frame, samples[0].0);
            prop_assert_eq!(fitted.keys.last().unwrap().frame, samples[samples.len() - 1].0);
        }
    }

    #[rstest]
    #[case(0.02, 8)]
    #[case(0.002, 14)]
    fn a_smooth_path_needs_few_keys(#[case] tolerance: f64, #[case] at_most: usize) {
        let sample = |i: i32| (f64::from(i), Value::Number((f64::from(i) / 15.0).sin() as f32));
        let samples: Vec<_> = (1..=144).map(sample).collect();
        let keys = fit(&samples, tolerance);
        assert!(keys.len() <= at_most, "{} keys", keys.len());
    }

    #[test]
    fn what_does_not_change_is_two_keys_and_a_switch_only_where_it_changes() {
        let still: Vec<_> = (1..=50).map(|i| (f64::from(i), Value::Number(2.0))).collect();
        assert_eq!(fit(&still, 0.0).len(), 2);
        let switched: Vec<_> = (1..=50).map(|i| (f64::from(i), Value::Switch(i > 20 && i < 40))).collect();
        let frames: Vec<f64> = fit(&switched, 0.0).iter().map(|key| key.frame).collect();
        assert_eq!(frames, [1.0, 21.0, 40.0]);
        assert!(fit(&[], 1.0).is_empty());
    }
}
