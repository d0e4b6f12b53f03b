//! Light: a sun, a sky, area lights.

use crate::parameters::{MAX_SIZE_M, MIN_SIZE_M, Parameters};
use glam::{Vec2, Vec3};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A distant light. It shines along its element's −y axis.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
#[parameters(acts = Picture)]
pub struct Sun {
    /// Irradiance on a surface that faces the sun, W/m².
    #[parameter(label = "Irradiance", unit = "W/m²", range(0.0, 1e5), slide(0.0, 12.0))]
    pub irradiance: f32,
    /// Colour, multiplies the irradiance.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Colour", colour, range(0.0, 1e3))]
    pub colour: Vec3,
    /// Angular diameter in radians; the sun seen from Earth has 0.0093.
    #[parameter(label = "Angular size", range(0.0, 1.0))]
    pub angle_rad: f32,
}

/// The light that comes from all round.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
#[parameters(acts = Picture)]
pub struct Sky {
    /// Multiplies the radiance.
    #[parameter(label = "Strength", range(0.0, 1e4), slide(0.0, 4.0), step = 0.05)]
    pub strength: f32,
    /// Where the radiance comes from.
    #[parameter(nested)]
    pub source: SkySource,
}

/// The radiance of the sky by direction.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
#[parameters(acts = Picture)]
pub enum SkySource {
    /// A blend from the ground over the horizon to the zenith.
    Gradient {
        /// Radiance straight up, scene-linear.
        #[schemars(with = "[f32; 3]")]
        #[parameter(label = "Zenith", colour, range(0.0, 1e4))]
        zenith: Vec3,
        /// Radiance at the horizon, scene-linear.
        #[schemars(with = "[f32; 3]")]
        #[parameter(label = "Horizon", colour, range(0.0, 1e4))]
        horizon: Vec3,
        /// Radiance straight down, scene-linear.
        #[schemars(with = "[f32; 3]")]
        #[parameter(label = "Ground", colour, range(0.0, 1e4))]
        ground: Vec3,
    },
    /// A latitude–longitude image among the shot's assets.
    Image {
        /// Name of an environment image among the assets.
        asset: String,
    },
}

/// A rectangle that shines along its element's −y axis.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
#[parameters(acts = Picture)]
pub struct AreaLight {
    /// Size along x and z in metres.
    #[schemars(with = "[f32; 2]")]
    #[parameter(label = "Size", parts("x", "z"), range(MIN_SIZE_M, MAX_SIZE_M))]
    pub size_m: Vec2,
    /// Emitted radiance, W/(m² sr).
    #[parameter(label = "Radiance", unit = "W/m² sr", range(0.0, 1e6), step = 0.5)]
    pub radiance: f32,
    /// Colour, multiplies the radiance.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Colour", colour, range(0.0, 1e3))]
    pub colour: Vec3,
}
