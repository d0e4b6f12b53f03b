//! A channel: how one parameter changes with time.

use super::Value;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How one parameter changes with time: by keys, or by an expression.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Channel {
    /// Keys in rising order of frame; none if there is an expression.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<Key>,
    /// Extrapolation before the first key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub before: Outside,
    /// Extrapolation after the last key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub after: Outside,
    /// A formula in `time`, `frame` and other parameters; see docs/formats.md.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expression: Option<String>,
}

/// One key: a value at a frame, and how it goes on from there.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Key {
    /// Frame of the shot; may lie between two frames.
    pub frame: f64,
    /// The value at that frame.
    pub value: Value,
    /// How the value goes from this key to the next.
    #[serde(default, skip_serializing_if = "is_default")]
    pub interpolation: Interpolation,
    /// Handle on the way to the next key, where `interpolation` is `free`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outgoing: Option<Handle>,
    /// Handle on the way from the key before, where that one's `interpolation` is `free`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub incoming: Option<Handle>,
}

/// A handle of a key, as a distance from it in time and value.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Handle {
    /// Frames away from the key, never more than the span is long.
    pub frames: f64,
    /// Difference of value from the key's.
    pub value: Value,
}

/// How a value goes from one key to the next; s is the fraction of the span that
/// has passed, and the fraction of the change that is made is:
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Interpolation {
    /// 0: stays at this key's value until the next key.
    Hold,
    /// s: changes at a constant rate.
    #[default]
    Linear,
    /// Passes through the keys without a corner and without overshoot.
    ///
    /// Monotone cubic Hermite: F. N. Fritsch and J. Butland, *A method for
    /// constructing local monotone piecewise cubic interpolants*, SIAM J. Sci.
    /// Stat. Comput. 5 (1984).
    Smooth,
    /// s²: starts slowly.
    EaseIn,
    /// s (2 − s): ends slowly.
    EaseOut,
    /// s² (3 − 2 s): starts and ends slowly.
    Ease,
    /// A cubic Bézier curve with the handles of the two keys.
    Free,
}

/// Extrapolation of a value before its first key or after its last.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Outside {
    /// Stays as it is at that key.
    #[default]
    Hold,
    /// Goes on at the rate it has there.
    Continue,
    /// The keys again and again.
    Repeat,
    /// The keys again and again, each time from where the last ended.
    RepeatOffset,
    /// The keys forth and back.
    BackAndForth,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

impl Key {
    /// A key from which the value goes on linearly.
    pub fn new(frame: f64, value: impl Into<Value>) -> Self {
        Self {
            frame,
            value: value.into(),
            interpolation: Interpolation::Linear,
            outgoing: None,
            incoming: None,
        }
    }
}

impl Channel {
    /// Whether its formula names an element by one of these beginnings, as `{Ball.`.
    pub(crate) fn names_any(&self, names: &[String]) -> bool {
        let text = self.expression.as_deref().unwrap_or_default();
        names.iter().any(|name| text.contains(name.as_str()))
    }

    /// Keys, linear between them.
    pub fn keyed<V: Into<Value>>(keys: impl IntoIterator<Item = (f64, V)>) -> Self {
        Self {
            keys: keys.into_iter().map(|(frame, value)| Key::new(frame, value)).collect(),
            ..Self::default()
        }
    }

    /// A formula.
    pub fn expression(text: &str) -> Self {
        Self { expression: Some(text.to_owned()), ..Self::default() }
    }

    /// The value that the keys give at `frame`, which may lie between frames;
    /// none without keys.
    pub fn at(&self, frame: f64) -> Option<Value> {
        let (first, last) = (self.keys.first()?, self.keys.last()?);
        let length = last.frame - first.frame;
        let outside = match frame {
            _ if frame < first.frame => self.before,
            _ if frame > last.frame => self.after,
            _ => return Some(self.inside(frame)),
        };
        let held = if frame < first.frame { first } else { last };
        if length <= 0.0 || matches!(held.value, Value::Switch(_)) && outside != Outside::Repeat {
            return Some(held.value);
        }
        let rounds = ((frame - first.frame) / length).floor();
        let phase = first.frame + (frame - first.frame - rounds * length).clamp(0.0, length);
        Some(match outside {
            Outside::Hold => held.value,
            Outside::Continue => {
                held.value.with_parts(|i| held.value.part(i) + self.slope(held, i) * (frame - held.frame))
            }
            Outside::Repeat => self.inside(phase),
            Outside::RepeatOffset => {
                let value = self.inside(phase);
                value.with_parts(|i| value.part(i) + rounds * (last.value.part(i) - first.value.part(i)))
            }
            Outside::BackAndForth if rounds.rem_euclid(2.0) == 0.0 => self.inside(phase),
            Outside::BackAndForth => self.inside(first.frame + last.frame - phase),
        })
    }

    /// Rate of change a frame at the first or last key, on the side of the keys.
    fn slope(&self, end: &Key, part: usize) -> f64 {
        let last = self.keys.len() - 1;
        let first = end.frame == self.keys[0].frame;
        let (from, to) = if first { (&self.keys[0], &self.keys[1]) } else { (&self.keys[last - 1], end) };
        let secant = (to.value.part(part) - from.value.part(part)) / (to.frame - from.frame);
        match from.interpolation {
            Interpolation::Hold | Interpolation::Ease => 0.0,
            // The end of a smooth curve is free; the secant keeps it monotone.
            Interpolation::Linear | Interpolation::Smooth => secant,
            Interpolation::EaseIn => {
                if first {
                    0.0
                } else {
                    2.0 * secant
                }
            }
            Interpolation::EaseOut => {
                if first {
                    2.0 * secant
                } else {
                    0.0
                }
            }
            Interpolation::Free => {
                let (handle, sign) =
                    if first { (outgoing_handle(from, to), 1.0) } else { (incoming_handle(from, to), -1.0) };
                if handle.frames == 0.0 { secant } else { sign * handle.value.part(part) / handle.frames }
            }
        }
    }

    /// The value between the first and the last key.
    fn inside(&self, frame: f64) -> Value {
        let after = self.keys.partition_point(|key| key.frame <= frame);
        let from = &self.keys[after.max(1) - 1];
        let Some(to) = self.keys.get(after.max(1)) else { return from.value };
        let span = to.frame - from.frame;
        let s = ((frame - from.frame) / span).clamp(0.0, 1.0);
        let blend = |fraction: f64| {
            from.value.with_parts(|i| {
                let (a, b) = (from.value.part(i), to.value.part(i));
                a + (b - a) * fraction
            })
        };
        if s == 0.0 || matches!(from.value, Value::Switch(_)) {
            return from.value;
        }
        match from.interpolation {
            Interpolation::Hold => from.value,
            Interpolation::Linear => blend(s),
            Interpolation::EaseIn => blend(s * s),
            Interpolation::EaseOut => blend(s * (2.0 - s)),
            Interpolation::Ease => blend(s * s * (3.0 - 2.0 * s)),
            Interpolation::Smooth => from.value.with_parts(|i| {
                let slopes = (self.tangent(after - 1, i) * span, self.tangent(after, i) * span);
                hermite(from.value.part(i), to.value.part(i), slopes, s)
            }),
            Interpolation::Free => {
                let (outgoing, incoming) = (outgoing_handle(from, to), incoming_handle(from, to));
                let t = bezier_time(outgoing.frames / span, 1.0 - incoming.frames / span, s);
                from.value.with_parts(|i| {
                    let (a, b) = (from.value.part(i), to.value.part(i));
                    bezier(a, a + outgoing.value.part(i), b + incoming.value.part(i), b, t)
                })
            }
        }
    }

    /// Slope per frame at key `index`: the harmonic mean of the two secants
    /// where they agree in sign, else zero.
    fn tangent(&self, index: usize, part: usize) -> f64 {
        let secant = |i: usize| {
            let (a, b) = (&self.keys[i], &self.keys[i + 1]);
            (b.value.part(part) - a.value.part(part)) / (b.frame - a.frame)
        };
        if index == 0 || index + 1 == self.keys.len() {
            return match (index == 0, self.before, self.after) {
                (true, Outside::Continue, _) => secant(0),
                (false, _, Outside::Continue) => secant(index - 1),
                _ => 0.0,
            };
        }
        let (before, after) = (secant(index - 1), secant(index));
        if before * after <= 0.0 { 0.0 } else { 2.0 * before * after / (before + after) }
    }
}

/// The handle from which a free curve leaves a key; by default a third of the
/// way to the next.
fn outgoing_handle(from: &Key, to: &Key) -> Handle {
    bounded(from.outgoing, from, to, 1.0)
}

fn incoming_handle(from: &Key, to: &Key) -> Handle {
    bounded(to.incoming, from, to, -1.0)
}

fn bounded(handle: Option<Handle>, from: &Key, to: &Key, direction: f64) -> Handle {
    let span = to.frame - from.frame;
    match handle {
        Some(Handle { frames, value }) => Handle { frames: frames.clamp(0.0, span), value },
        None => Handle {
            frames: span / 3.0,
            value: from.value.with_parts(|i| direction * (to.value.part(i) - from.value.part(i)) / 3.0),
        },
    }
}

/// The cubic from `a` to `b` with slopes a span of its ends, at a fraction of the span.
pub(super) fn hermite(a: f64, b: f64, (ma, mb): (f64, f64), s: f64) -> f64 {
    let (s2, s3) = (s * s, s * s * s);
    a * (2.0 * s3 - 3.0 * s2 + 1.0) + ma * (s3 - 2.0 * s2 + s) + b * (3.0 * s2 - 2.0 * s3) + mb * (s3 - s2)
}

fn bezier(a: f64, b: f64, c: f64, d: f64, t: f64) -> f64 {
    let u = 1.0 - t;
    u * u * u * a + 3.0 * u * u * t * b + 3.0 * u * t * t * c + t * t * t * d
}

/// The t at which a Bézier curve from 0 to 1 with controls in 0–1 reaches `s`:
/// it rises throughout, so halving finds it.
fn bezier_time(b: f64, c: f64, s: f64) -> f64 {
    let (mut low, mut high) = (0.0, 1.0);
    for _ in 0..48 {
        let t = 0.5 * (low + high);
        if bezier(0.0, b, c, 1.0, t) < s { low = t } else { high = t }
    }
    0.5 * (low + high)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn keyed(then: Interpolation, keys: &[(f64, f32)]) -> Channel {
        let mut channel = Channel::keyed(keys.iter().copied());
        channel.keys.iter_mut().for_each(|key| key.interpolation = then);
        channel
    }

    fn number(channel: &Channel, frame: f64) -> f64 {
        channel.at(frame).unwrap().part(0)
    }

    #[rstest]
    #[case(Interpolation::Hold, |_: f64| 0.0)]
    #[case(Interpolation::Linear, |s: f64| s)]
    #[case(Interpolation::Smooth, |s: f64| s * s * (3.0 - 2.0 * s))]
    #[case(Interpolation::EaseIn, |s: f64| s * s)]
    #[case(Interpolation::EaseOut, |s: f64| 1.0 - (1.0 - s) * (1.0 - s))]
    #[case(Interpolation::Ease, |s: f64| s * s * (3.0 - 2.0 * s))]
    #[case(Interpolation::Free, |s: f64| s)]
    fn a_span_follows_its_closed_form(#[case] then: Interpolation, #[case] fraction: fn(f64) -> f64) {
        let channel = keyed(then, &[(1.0, 2.0), (11.0, 4.0)]);
        for s in [0.0, 0.1, 0.25, 0.5, 0.8, 0.99] {
            let expected = 2.0 + 2.0 * fraction(s);
            assert!((number(&channel, 1.0 + 10.0 * s) - expected).abs() < 1e-6, "{then:?} at {s}");
        }
        assert_eq!(number(&channel, 11.0), 4.0);
    }

    #[rstest]
    #[case(Outside::Hold, 3.0, 5.0)]
    #[case(Outside::Continue, 1.0, 6.0)]
    #[case(Outside::Repeat, 4.0, 4.0)]
    #[case(Outside::RepeatOffset, 2.0, 6.0)]
    #[case(Outside::BackAndForth, 4.0, 4.0)]
    fn outside_its_keys(#[case] outside: Outside, #[case] before: f64, #[case] after: f64) {
        let mut channel = keyed(Interpolation::Linear, &[(10.0, 3.0), (20.0, 5.0)]);
        (channel.before, channel.after) = (outside, outside);
        let (a, b) = if outside == Outside::Continue { (0.0, 25.0) } else { (5.0, 25.0) };
        assert_eq!((number(&channel, a), number(&channel, b)), (before, after));
    }

    #[test]
    fn free_handles_bend_the_way_and_keep_its_ends() {
        let mut channel = keyed(Interpolation::Free, &[(0.0, 0.0), (10.0, 1.0)]);
        channel.keys[0].outgoing = Some(Handle { frames: 5.0, value: 0.0f32.into() });
        channel.keys[1].incoming = Some(Handle { frames: 5.0, value: 0.0f32.into() });
        // x = 3/2 t − 3/2 t² + t³ is 1/2 at t = 1/2, as is y = 3 t² − 2 t³.
        assert!((number(&channel, 5.0) - 0.5).abs() < 1e-6);
        assert!(number(&channel, 2.0) < 0.15);
        assert_eq!((number(&channel, 0.0), number(&channel, 10.0)), (0.0, 1.0));
    }

    #[test]
    fn a_switch_changes_at_its_keys_only() {
        let channel = Channel::keyed([(1.0, false), (9.0, true)]);
        assert_eq!(channel.at(8.99), Some(Value::Switch(false)));
        assert_eq!(channel.at(9.0), Some(Value::Switch(true)));
    }

    proptest! {
        #[test]
        fn smooth_never_overshoots(
            values in proptest::collection::vec((-10f32..10.0, 0.5f64..20.0), 2..8),
            t in 0f64..1.0,
        ) {
            let mut frame = 0.0;
            let keys: Vec<_> = values.iter().map(|&(v, gap)| { frame += gap; (frame, v) }).collect();
            let channel = keyed(Interpolation::Smooth, &keys);
            let at = keys[0].0 + t * (frame - keys[0].0);
            let i = (keys.partition_point(|key| key.0 <= at) - 1).min(keys.len() - 2);
            let (a, b) = (f64::from(keys[i].1), f64::from(keys[i + 1].1));
            let value = number(&channel, at);
            prop_assert!(value >= a.min(b) - 1e-5 && value <= a.max(b) + 1e-5);
        }

        #[test]
        fn repeating_is_periodic(at in -100f64..100.0, rounds in -3i32..3) {
            let mut channel = keyed(Interpolation::Ease, &[(2.0, 1.0), (9.0, -4.0), (14.0, 2.5)]);
            (channel.before, channel.after) = (Outside::Repeat, Outside::Repeat);
            let other = number(&channel, at + 12.0 * f64::from(rounds));
            // At the seam itself both ends are right.
            let phase = (at - 2.0).rem_euclid(12.0);
            prop_assume!(phase > 1e-6 && phase < 12.0 - 1e-6);
            prop_assert!((number(&channel, at) - other).abs() < 1e-4);
        }
    }
}
