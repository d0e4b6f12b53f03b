//! Regions: soft-edged volumes that say where something acts.

use crate::Id;
use crate::parameters::{MAX_POSITION_M, MAX_SEED, MAX_SIZE_M, MAX_SPEED, Parameters};
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A soft-edged volume; its weight is 0 outside, 1 inside.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Region {
    /// Its volume.
    #[parameter(nested)]
    pub volume: Volume,
    /// Width of the soft edge, m: from 0 at the surface to 1 so far inside.
    #[serde(default)]
    #[parameter(label = "Width", range(0.0, MAX_SIZE_M), slide(0.0, 3.0), step = 0.05)]
    pub edge_m: f32,
    /// How the weight rises over the edge.
    #[serde(default)]
    pub profile: Profile,
    /// Inside and outside change places.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    #[parameter(label = "Inside and outside change places")]
    pub inverted: bool,
}

/// The volume of a region, in its element's frame.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Volume {
    /// A box around the element's place.
    Box {
        /// Full size along x, y, z, m.
        #[schemars(with = "[f32; 3]")]
        #[parameter(label = "Size", range(0.0, MAX_POSITION_M), step = 0.1)]
        size_m: Vec3,
    },
    /// A sphere.
    Sphere {
        /// Radius, m.
        #[parameter(label = "Radius", range(0.0, MAX_POSITION_M), slide(0.0, 10.0), step = 0.05)]
        radius_m: f32,
    },
    /// All that lies below the element's xz plane.
    HalfSpace {},
    /// A cylinder along y.
    Cylinder {
        /// Radius, m.
        #[parameter(label = "Radius", range(0.0, MAX_POSITION_M), slide(0.0, 10.0), step = 0.05)]
        radius_m: f32,
        /// Height, m.
        #[parameter(label = "Height", range(0.0, MAX_POSITION_M), slide(0.0, 10.0), step = 0.05)]
        height_m: f32,
    },
    /// The inside of a solid, wherever that is.
    Inside {
        /// The solid.
        solid: Id,
    },
    /// All that a camera sees, however far away.
    Gate {
        /// The camera.
        camera: Id,
        /// How far the volume reaches beyond each side of the picture, as a fraction of its width.
        #[parameter(label = "Margin", unit = "%", scale = 100.0, range(-0.45, 10.0), slide(0.0, 100.0), step = 1.0)]
        margin: f32,
    },
    /// Blobs of smooth noise.
    Noise {
        /// Size of the blobs, m.
        #[parameter(label = "Blob size", range(0.01, MAX_SIZE_M), step = 0.05)]
        size_m: f32,
        /// Share of space outside the blobs, 0–1.
        #[parameter(label = "Threshold", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
        threshold: f32,
        /// Over how much of the noise's range the weight rises, 0–1.
        #[parameter(label = "Softness", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
        softness: f32,
        /// Velocity at which the blobs drift, m/s.
        #[serde(default)]
        #[schemars(with = "[f32; 3]")]
        #[parameter(label = "Drift", range(-MAX_SPEED, MAX_SPEED))]
        drift_m_s: Vec3,
        /// Chooses the blobs.
        #[serde(default)]
        #[parameter(label = "Seed", range(0.0, MAX_SEED), step = 1.0)]
        seed: u32,
    },
    /// Other regions, one after the other.
    Combined {
        /// The first starts from 0.
        parts: Vec<Part>,
    },
}

/// A region as a part of a combined one.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Part {
    /// The region.
    pub region: Id,
    /// How its weight w goes with the weight c so far.
    pub operation: Combine,
}

/// How two weights make one, c so far and w the next.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Combine {
    /// c + w, at most 1.
    Add,
    /// c · w.
    Multiply,
    /// c − w, at least 0.
    Subtract,
    /// The smaller.
    Minimum,
    /// The larger.
    Maximum,
    /// w.
    Replace,
}

impl Combine {
    /// The two weights as one, in 0–1.
    pub fn of(self, c: f32, w: f32) -> f32 {
        match self {
            Self::Add => (c + w).min(1.0),
            Self::Multiply => c * w,
            Self::Subtract => (c - w).max(0.0),
            Self::Minimum => c.min(w),
            Self::Maximum => c.max(w),
            Self::Replace => w,
        }
    }
}

/// How the weight rises over a region's edge, s from 0 at the surface to 1.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Profile {
    /// s.
    Linear,
    /// s² (3 − 2 s).
    #[default]
    Smooth,
    /// s²: most of the edge is weak.
    Faint,
    /// s (2 − s): most of the edge is strong.
    Full,
}

impl Profile {
    /// The weight at the fraction `s` of the edge.
    pub fn at(self, s: f32) -> f32 {
        let s = s.clamp(0.0, 1.0);
        match self {
            Self::Linear => s,
            Self::Smooth => s * s * (3.0 - 2.0 * s),
            Self::Faint => s * s,
            Self::Full => s * (2.0 - s),
        }
    }
}

impl Region {
    /// A region with a hard edge.
    pub fn new(volume: Volume) -> Self {
        Self { volume, edge_m: 0.0, profile: Profile::default(), inverted: false }
    }

    /// The weight at a signed distance, negative inside, m.
    pub fn weight(&self, distance: f32) -> f32 {
        let weight = if self.edge_m > 0.0 {
            self.profile.at(-distance / self.edge_m)
        } else {
            f32::from(u8::from(distance <= 0.0))
        };
        if self.inverted { 1.0 - weight } else { weight }
    }
}
