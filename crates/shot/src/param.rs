//! A parameter: a value that is constant or changes with keys.

use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, de::Error};

/// How a value goes from one key to the next.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Interpolation {
    /// Stays at this key's value until the next key.
    Hold,
    /// Changes at a constant rate.
    #[default]
    Linear,
    /// Passes through the keys without a corner and without overshoot.
    ///
    /// Monotone cubic Hermite: F. N. Fritsch and R. E. Carlson, *Monotone
    /// piecewise cubic interpolation*, SIAM J. Numer. Anal. 17 (1980).
    Smooth,
}

/// One key: a value at a frame, and how it goes on from there.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Key<T> {
    /// Frame of the shot; may lie between two frames.
    pub frame: f64,
    /// The value at that frame.
    pub value: T,
    /// How the value goes from this key to the next.
    #[serde(default, skip_serializing_if = "is_default")]
    pub then: Interpolation,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// A constant value, or keys in rising order of frame.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Param<T> {
    /// The same at every frame.
    Constant(T),
    /// Keyed. Before the first and after the last key the value holds.
    Keyed {
        /// At least one key, frames rising.
        keys: Vec<Key<T>>,
    },
}

impl<'de, T: serde::de::DeserializeOwned> Deserialize<'de> for Param<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(deny_unknown_fields, bound = "T: serde::de::DeserializeOwned")]
        struct Keyed<T> {
            keys: Vec<Key<T>>,
        }
        let value = serde_json::Value::deserialize(deserializer)?;
        if value.is_object() {
            let keyed: Keyed<T> = serde_json::from_value(value).map_err(D::Error::custom)?;
            Ok(Self::Keyed { keys: keyed.keys })
        } else {
            serde_json::from_value(value).map(Self::Constant).map_err(D::Error::custom)
        }
    }
}

/// A value that keys can blend, component by component.
pub trait Sample: Clone + PartialEq {
    /// Number of components.
    const PARTS: usize;
    /// Component `part`.
    fn part(&self, part: usize) -> f32;
    /// A value from its components.
    fn from_parts(parts: impl Fn(usize) -> f32) -> Self;
}

impl Sample for f32 {
    const PARTS: usize = 1;
    fn part(&self, _: usize) -> f32 {
        *self
    }
    fn from_parts(parts: impl Fn(usize) -> f32) -> Self {
        parts(0)
    }
}

impl Sample for Vec3 {
    const PARTS: usize = 3;
    fn part(&self, part: usize) -> f32 {
        self[part]
    }
    fn from_parts(parts: impl Fn(usize) -> f32) -> Self {
        Vec3::new(parts(0), parts(1), parts(2))
    }
}

impl<T> From<T> for Param<T> {
    fn from(value: T) -> Self {
        Self::Constant(value)
    }
}

impl<T: Sample> Param<T> {
    /// The value at `frame`, which may lie between frames.
    pub fn at(&self, frame: f64) -> T {
        let keys = match self {
            Self::Constant(value) => return value.clone(),
            Self::Keyed { keys } => keys,
        };
        let after = keys.partition_point(|key| key.frame <= frame);
        if after == 0 {
            return keys[0].value.clone();
        }
        let from = &keys[after - 1];
        let Some(to) = keys.get(after) else {
            return from.value.clone();
        };
        let span = to.frame - from.frame;
        let t = ((frame - from.frame) / span) as f32;
        match from.then {
            Interpolation::Hold => from.value.clone(),
            Interpolation::Linear => T::from_parts(|part| {
                let (a, b) = (from.value.part(part), to.value.part(part));
                a + (b - a) * t
            }),
            Interpolation::Smooth => T::from_parts(|part| {
                let (a, b) = (from.value.part(part), to.value.part(part));
                let (ma, mb) = (tangent(keys, after - 1, part), tangent(keys, after, part));
                hermite(a, b, ma * span as f32, mb * span as f32, t)
            }),
        }
    }

    /// Whether the value changes with time.
    pub fn is_keyed(&self) -> bool {
        matches!(self, Self::Keyed { .. })
    }

    /// The keys, none if constant.
    pub fn keys(&self) -> &[Key<T>] {
        match self {
            Self::Constant(_) => &[],
            Self::Keyed { keys } => keys,
        }
    }
}

/// Slope per frame at key `index`: the harmonic mean of the two secants where
/// they agree in sign, else zero (Fritsch and Butland's monotone choice).
fn tangent<T: Sample>(keys: &[Key<T>], index: usize, part: usize) -> f32 {
    let secant = |i: usize| -> f32 {
        (keys[i + 1].value.part(part) - keys[i].value.part(part)) / (keys[i + 1].frame - keys[i].frame) as f32
    };
    if index == 0 || index + 1 == keys.len() {
        return 0.0;
    }
    let (before, after) = (secant(index - 1), secant(index));
    if before * after <= 0.0 { 0.0 } else { 2.0 * before * after / (before + after) }
}

fn hermite(a: f32, b: f32, ma: f32, mb: f32, t: f32) -> f32 {
    let (t2, t3) = (t * t, t * t * t);
    a * (2.0 * t3 - 3.0 * t2 + 1.0) + ma * (t3 - 2.0 * t2 + t) + b * (3.0 * t2 - 2.0 * t3) + mb * (t3 - t2)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn keyed(then: Interpolation, keys: &[(f64, f32)]) -> Param<f32> {
        Param::Keyed { keys: keys.iter().map(|&(frame, value)| Key { frame, value, then }).collect() }
    }

    #[rstest]
    #[case(Interpolation::Hold, 2.0)]
    #[case(Interpolation::Linear, 3.0)]
    #[case(Interpolation::Smooth, 3.0)]
    fn halfway_between_two_keys(#[case] then: Interpolation, #[case] expected: f32) {
        assert_eq!(keyed(then, &[(1.0, 2.0), (11.0, 4.0)]).at(6.0), expected);
    }

    #[test]
    fn holds_before_the_first_and_after_the_last_key() {
        let param = keyed(Interpolation::Linear, &[(10.0, 1.0), (20.0, 5.0)]);
        assert_eq!((param.at(-3.0), param.at(99.0)), (1.0, 5.0));
    }

    #[test]
    fn unknown_fields_of_a_key_are_refused() {
        let text = r#"{"keys":[{"frame":1,"value":2,"ease":3}]}"#;
        assert!(serde_json::from_str::<Param<f32>>(text).is_err());
    }

    proptest! {
        #[test]
        fn smooth_never_overshoots(values in proptest::collection::vec(-10f32..10.0, 2..8), t in 0f64..1.0) {
            let keys: Vec<_> = values.iter().enumerate().map(|(i, &v)| (i as f64 * 7.0, v)).collect();
            let param = keyed(Interpolation::Smooth, &keys);
            let frame = t * 7.0 * (values.len() - 1) as f64;
            let i = ((frame / 7.0) as usize).min(values.len() - 2);
            let (low, high) = (values[i].min(values[i + 1]), values[i].max(values[i + 1]));
            let value = param.at(frame);
            prop_assert!(value >= low - 1e-4 && value <= high + 1e-4);
        }
    }
}
