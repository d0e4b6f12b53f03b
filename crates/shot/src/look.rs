//! How a surface looks.

use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A surface look. Colours are scene-linear, Rec. 709 primaries.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Look {
    /// Share of light the surface returns, 0–1 a channel.
    #[schemars(with = "[f32; 3]")]
    pub albedo: Vec3,
    /// Image among the shot's assets that multiplies the albedo, laid on UVs.
    pub image: Option<String>,
    /// How often the image repeats over one unit of UV.
    pub image_repeat: f32,
    /// Random difference in brightness from copy to copy, 0–1.
    pub variation: f32,
    /// 0 is a mirror, 1 is matt.
    pub roughness: f32,
    /// 0 is a dielectric, 1 is a metal.
    pub metalness: f32,
    /// 0 is opaque, 1 lets all light that is not reflected through.
    pub transmission: f32,
    /// Index of refraction, 1–3.
    pub refraction: f32,
    /// Emitted radiance in W/(m² sr) a channel.
    #[schemars(with = "[f32; 3]")]
    pub emission: Vec3,
}

impl Default for Look {
    fn default() -> Self {
        Self {
            albedo: Vec3::splat(0.6),
            image: None,
            image_repeat: 1.0,
            variation: 0.0,
            roughness: 0.5,
            metalness: 0.0,
            transmission: 0.0,
            refraction: 1.5,
            emission: Vec3::ZERO,
        }
    }
}
