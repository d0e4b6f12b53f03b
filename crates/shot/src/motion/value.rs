//! A value of a parameter: a number, three numbers, or on and off.

use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A value of a parameter.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged, expecting = "a value is a number, three numbers, or true or false")]
pub enum Value {
    /// On or off.
    Switch(bool),
    /// A number.
    Number(f32),
    /// A place, a turn, a velocity, a colour.
    Vector([f32; 3]),
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Switch(true) => f.write_str("on"),
            Self::Switch(false) => f.write_str("off"),
            Self::Number(number) => write!(f, "{number}"),
            Self::Vector([x, y, z]) => write!(f, "{x}, {y}, {z}"),
        }
    }
}

impl Value {
    /// Number of parts that change by themselves.
    pub fn count(&self) -> usize {
        if let Self::Vector(_) = self { 3 } else { 1 }
    }

    /// One part as a number; on is 1, off is 0.
    pub fn part(&self, part: usize) -> f64 {
        match *self {
            Self::Switch(on) => f64::from(u8::from(on)),
            Self::Number(number) => f64::from(number),
            Self::Vector(parts) => f64::from(parts[part]),
        }
    }

    /// A value of the same kind, made of parts.
    pub fn with_parts(&self, part: impl Fn(usize) -> f64) -> Self {
        match self {
            Self::Switch(_) => Self::Switch(part(0) >= 0.5),
            Self::Number(_) => Self::Number(part(0) as f32),
            Self::Vector(_) => Self::Vector([0, 1, 2].map(|i| part(i) as f32)),
        }
    }

    /// Whether another value is of the same kind.
    pub fn is_like(&self, other: &Self) -> bool {
        std::mem::discriminant(self) == std::mem::discriminant(other)
    }

    /// Whether every part is finite.
    pub fn is_finite(&self) -> bool {
        (0..self.count()).all(|i| self.part(i).is_finite())
    }

    /// Kind of value, in words.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Switch(_) => "true or false",
            Self::Number(_) => "a number",
            Self::Vector(_) => "three numbers",
        }
    }
}

impl From<Vec3> for Value {
    fn from(vector: Vec3) -> Self {
        Self::Vector(vector.to_array())
    }
}

impl From<f32> for Value {
    fn from(number: f32) -> Self {
        Self::Number(number)
    }
}

impl From<bool> for Value {
    fn from(on: bool) -> Self {
        Self::Switch(on)
    }
}
