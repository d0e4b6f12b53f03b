//! Light: a sun, a sky, area lights.

use glam::{Vec2, Vec3};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A distant light. It shines along its element's −y axis.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sun {
    /// Irradiance on a surface that faces the sun, W/m².
    pub irradiance: f32,
    /// Colour, multiplies the irradiance.
    #[schemars(with = "[f32; 3]")]
    pub colour: Vec3,
    /// Angular diameter in radians; the sun seen from Earth has 0.0093.
    pub angle_rad: f32,
}

/// The light that comes from all round.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sky {
    /// Multiplies the radiance.
    pub strength: f32,
    /// Where the radiance comes from.
    pub source: SkySource,
}

/// The radiance of the sky by direction.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum SkySource {
    /// A blend from the ground over the horizon to the zenith.
    Gradient {
        /// Radiance straight up, scene-linear.
        #[schemars(with = "[f32; 3]")]
        zenith: Vec3,
        /// Radiance at the horizon, scene-linear.
        #[schemars(with = "[f32; 3]")]
        horizon: Vec3,
        /// Radiance straight down, scene-linear.
        #[schemars(with = "[f32; 3]")]
        ground: Vec3,
    },
    /// A latitude–longitude image among the shot's assets.
    Image {
        /// Name of an environment image among the assets.
        asset: String,
    },
}

/// A rectangle that shines along its element's −y axis.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AreaLight {
    /// Size along x and z in metres.
    #[schemars(with = "[f32; 2]")]
    pub size_m: Vec2,
    /// Emitted radiance, W/(m² sr).
    pub radiance: f32,
    /// Colour, multiplies the radiance.
    #[schemars(with = "[f32; 3]")]
    pub colour: Vec3,
}
