//! How a particle is drawn.

use crate::Id;
use crate::parameters::Parameters;
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How each particle is drawn.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
#[parameters(acts = Picture)]
pub struct Appearance {
    /// Its form.
    #[parameter(nested)]
    pub form: Form,
    /// Input of the colour ramp.
    #[serde(skip_serializing_if = "RampInput::is_nothing")]
    #[parameter(nested)]
    pub colour_by: RampInput,
    /// Stops of the colour ramp, rising.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[parameter(nested)]
    pub colours: Vec<ColourStop>,
    /// Input of the size ramp.
    #[serde(skip_serializing_if = "RampInput::is_nothing")]
    #[parameter(nested)]
    pub size_by: RampInput,
    /// Stops of the size ramp, rising.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[parameter(nested)]
    pub sizes: Vec<SizeStop>,
}

/// The form in which a particle is drawn.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
#[parameters(acts = Picture)]
pub enum Form {
    /// A sphere.
    #[default]
    Sphere,
    /// A flat disc that faces its own y axis.
    Disc,
    /// A line along the way it comes.
    Streak {
        /// The line is as long as the way gone in this time, s.
        #[parameter(label = "Streak of", unit = "ms", scale = 1_000.0, range(0.0, 10.0), step = 5.0)]
        duration_s: f32,
    },
    /// An instance of a solid, as large as the particle along its longest side.
    Instance {
        /// The solids to choose from; they may be hidden.
        solids: Vec<Id>,
        /// How one is chosen.
        #[serde(default)]
        choice: InstanceChoice,
        /// How it is oriented.
        #[serde(default)]
        orientation: InstanceOrientation,
    },
    /// Nothing.
    Nothing,
}

/// How one of several is chosen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum InstanceChoice {
    /// At random.
    #[default]
    Random,
    /// In the order of birth.
    Order,
    /// By size, the smallest first.
    Size,
}

/// How an instance is oriented.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum InstanceOrientation {
    /// As the particle is: by its orientation at birth and its angular velocity.
    #[default]
    Free,
    /// With its −z axis along the velocity, y up.
    Velocity,
}

/// The input of a colour or size ramp.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
#[parameters(acts = Picture)]
pub enum RampInput {
    /// Nothing: all have the first.
    #[default]
    Nothing,
    /// The fraction of its life that has passed.
    Life,
    /// Its speed, as a fraction of a given one.
    Speed {
        /// The speed that counts as 1, m/s.
        #[parameter(label = "Up to", range(1e-3, 1_000.0), step = 0.5)]
        max_speed_m_s: f32,
    },
    /// Chance.
    Random,
    /// The map's weight where it was born; 1 without a map.
    Map,
}

impl RampInput {
    /// Whether nothing decides.
    pub fn is_nothing(&self) -> bool {
        *self == Self::Nothing
    }

    /// The number that decides, 0–1; `random` and the map's `weight` are the particle's own.
    #[inline]
    pub fn fraction(&self, age_s: f32, lifespan_s: f32, speed_m_s: f32, random: f32, weight: f32) -> f32 {
        match *self {
            Self::Nothing => 0.0,
            Self::Life if lifespan_s.is_finite() && lifespan_s > 0.0 => (age_s / lifespan_s).clamp(0.0, 1.0),
            Self::Life => 0.0,
            Self::Speed { max_speed_m_s } => (speed_m_s / max_speed_m_s.max(1e-6)).clamp(0.0, 1.0),
            Self::Random => random,
            Self::Map => weight,
        }
    }
}

/// A colour at a fraction of what decides it.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
#[parameters(acts = Picture)]
pub struct ColourStop {
    /// Where, 0–1.
    #[parameter(label = "Stop at", unit = "%", scale = 100.0, range(0.0, 1.0), step = 5.0)]
    pub at: f32,
    /// Scene-linear; may be over 1, for what glows.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Colour", colour, range(0.0, 1e4))]
    pub colour: Vec3,
}

/// A size at a fraction of what decides it.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
#[parameters(acts = Picture)]
pub struct SizeStop {
    /// Where, 0–1.
    #[parameter(label = "Stop at", unit = "%", scale = 100.0, range(0.0, 1.0), step = 5.0)]
    pub at: f32,
    /// Multiple of the particle's size, no unit.
    #[parameter(label = "Size", unit = "%", scale = 100.0, range(0.0, 100.0), step = 5.0)]
    pub size: f32,
}

impl Appearance {
    /// The colour at a fraction: linear between the stops, white without any.
    pub fn colour(&self, at: f32) -> Vec3 {
        let stops: &[ColourStop] = &self.colours;
        between(stops, at, |stop| stop.at, |stop| stop.colour, |a, b, t| a.lerp(b, t)).unwrap_or(Vec3::ONE)
    }

    /// The multiple of the size at a fraction: linear between the stops, 1 without any.
    pub fn size(&self, at: f32) -> f32 {
        between(&self.sizes, at, |stop| stop.at, |stop| stop.size, |a, b, t| a + (b - a) * t).unwrap_or(1.0)
    }

    /// Which of `count` copies a particle shows; `rank` is its size as a fraction
    /// of the range of sizes at birth.
    pub fn picked(choice: InstanceChoice, count: usize, id: u32, random: f32, rank: f32) -> usize {
        let of = |fraction: f32| ((fraction * count as f32) as usize).min(count.saturating_sub(1));
        match choice {
            InstanceChoice::Random => of(random),
            InstanceChoice::Order => id as usize % count.max(1),
            InstanceChoice::Size => of(rank),
        }
    }

    /// The solids it shows copies of.
    pub fn shown(&self) -> &[Id] {
        if let Form::Instance { solids, .. } = &self.form { solids } else { &[] }
    }
}

fn between<S, T: Copy>(
    stops: &[S],
    at: f32,
    position: impl Fn(&S) -> f32,
    value: impl Fn(&S) -> T,
    mix: impl Fn(T, T, f32) -> T,
) -> Option<T> {
    let after = stops.partition_point(|stop| position(stop) <= at);
    let (before, next) = (stops.get(after.wrapping_sub(1)), stops.get(after));
    match (before, next) {
        (Some(a), Some(b)) => {
            Some(mix(value(a), value(b), (at - position(a)) / (position(b) - position(a)).max(1e-9)))
        }
        (Some(only), None) | (None, Some(only)) => Some(value(only)),
        (None, None) => None,
    }
}

/// A number in 0–1 that is a particle's own.
pub fn own_random(seed: u32, id: u32) -> f32 {
    crate::copies::hash01(seed, id, 0x51)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn colours_are_linear_between_stops_and_hold_beyond_them() {
        let stop = |at, grey| ColourStop { at, colour: Vec3::splat(grey) };
        let show = Appearance { colours: vec![stop(0.2, 1.0), stop(0.6, 3.0)], ..Appearance::default() };
        let grey = |at| show.colour(at).x;
        assert_eq!((grey(0.0), grey(0.2), grey(0.6), grey(1.0)), (1.0, 1.0, 3.0, 3.0));
        assert!((grey(0.4) - 2.0).abs() < 1e-6);
        assert_eq!(Appearance::default().colour(0.5), Vec3::ONE);
    }

    #[test]
    fn what_never_dies_has_no_share_of_its_life() {
        assert_eq!(RampInput::Life.fraction(3.0, f32::INFINITY, 0.0, 0.0, 1.0), 0.0);
        assert_eq!(RampInput::Life.fraction(3.0, 4.0, 0.0, 0.0, 1.0), 0.75);
        assert_eq!(RampInput::Speed { max_speed_m_s: 2.0 }.fraction(0.0, 1.0, 5.0, 0.0, 0.5), 1.0);
        assert_eq!(RampInput::Map.fraction(0.0, 1.0, 5.0, 0.0, 0.5), 0.5);
    }

    #[test]
    fn copies_are_picked_in_turn_or_at_random() {
        let of = |pick, id, random, rank| Appearance::picked(pick, 3, id, random, rank);
        assert_eq!([0, 1, 2, 3].map(|id| of(InstanceChoice::Order, id, 0.0, 0.0)), [0, 1, 2, 0]);
        assert_eq!([0.0, 0.5, 1.0].map(|random| of(InstanceChoice::Random, 0, random, 0.0)), [0, 1, 2]);
        assert_eq!([0.0, 0.5, 1.0].map(|rank| of(InstanceChoice::Size, 0, 0.0, rank)), [0, 1, 2]);
    }
}
