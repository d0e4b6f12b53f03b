//! How a surface looks.

use crate::look_layer::LookLayer;
use crate::parameters::Parameters;
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A surface look. Colours are scene-linear, Rec. 709 primaries.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
#[parameters(acts = Picture)]
pub struct Look {
    /// Share of light the surface returns, 0–1 a channel.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Albedo", colour, range(0.0, 1.0))]
    pub albedo: Vec3,
    /// Image among the shot's assets that multiplies the albedo, laid on UVs.
    pub image: Option<String>,
    /// Image among the shot's assets whose brightness, as the file stores it, multiplies the roughness.
    pub roughness_image: Option<String>,
    /// Image among the shot's assets whose brightness, as the file stores it, multiplies the metalness.
    pub metalness_image: Option<String>,
    /// Image among the shot's assets that multiplies the emission.
    pub emission_image: Option<String>,
    /// Image among the shot's assets of normals in tangent space: red along U,
    /// green along V, blue off the surface, each from −1 to 1.
    pub normal_image: Option<String>,
    /// How far the normal image leans normals, no unit: 0 is not at all, 1 as it says.
    #[parameter(label = "Normal strength", range(0.0, 10.0), slide(0.0, 2.0), step = 0.05)]
    pub normal_strength: f32,
    /// Number of times that the images repeat over one unit of UV.
    #[parameter(label = "Repeats", range(0.001, 1_000.0), step = 0.5)]
    pub image_repeat: f32,
    /// Random difference in brightness from copy to copy, 0–1.
    #[parameter(label = "Variation", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub variation: f32,
    /// 0 to 1: 0 is a mirror, 1 is matt.
    #[parameter(label = "Roughness", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub roughness: f32,
    /// 0 to 1: 0 is a dielectric, 1 is a metal.
    #[parameter(label = "Metalness", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub metalness: f32,
    /// 0 to 1: 0 is opaque, 1 lets all light that is not reflected through.
    #[parameter(label = "Transmission", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub transmission: f32,
    /// Index of refraction, no unit, 1–3.
    #[parameter(label = "Refraction", range(1.0, 3.0), slide(1.0, 3.0), step = 0.01)]
    pub refractive_index: f32,
    /// 0 to 1: fraction of the element that is there. At 0 neither the element nor its shadow is seen; the picture
    /// between is the mixture of that with the element and that without.
    #[parameter(label = "Opacity", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub opacity: f32,
    /// Emitted radiance in W/(m² sr) a channel.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Emission", parts("red", "green", "blue"), range(0.0, 1e6), step = 0.5)]
    pub emission: Vec3,
    /// Other values where weights say so, each over those before.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[parameter(nested)]
    pub layers: Vec<LookLayer>,
}

impl Default for Look {
    fn default() -> Self {
        Self {
            albedo: Vec3::splat(0.6),
            image: None,
            roughness_image: None,
            metalness_image: None,
            emission_image: None,
            normal_image: None,
            normal_strength: 1.0,
            image_repeat: 1.0,
            variation: 0.0,
            roughness: 0.5,
            metalness: 0.0,
            transmission: 0.0,
            refractive_index: 1.5,
            opacity: 1.0,
            emission: Vec3::ZERO,
            layers: Vec::new(),
        }
    }
}

/// What an image of a look says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum LookImage {
    /// The albedo.
    Albedo,
    /// The roughness.
    Roughness,
    /// The metalness.
    Metalness,
    /// The emission.
    Emission,
    /// The normals.
    Normal,
}

impl LookImage {
    /// All, in the order of the interface.
    pub const ALL: [Self; 5] = [Self::Albedo, Self::Roughness, Self::Metalness, Self::Emission, Self::Normal];

    /// Name of the field of a [`Look`] that names the image.
    pub fn field(self) -> &'static str {
        match self {
            Self::Albedo => "image",
            Self::Roughness => "roughness_image",
            Self::Metalness => "metalness_image",
            Self::Emission => "emission_image",
            Self::Normal => "normal_image",
        }
    }
}

impl Look {
    /// The name of one of its images among the shot's assets.
    pub fn image(&self, of: LookImage) -> Option<&String> {
        match of {
            LookImage::Albedo => self.image.as_ref(),
            LookImage::Roughness => self.roughness_image.as_ref(),
            LookImage::Metalness => self.metalness_image.as_ref(),
            LookImage::Emission => self.emission_image.as_ref(),
            LookImage::Normal => self.normal_image.as_ref(),
        }
    }

    /// Names one of its images.
    pub fn set_image(&mut self, of: LookImage, name: Option<String>) {
        *match of {
            LookImage::Albedo => &mut self.image,
            LookImage::Roughness => &mut self.roughness_image,
            LookImage::Metalness => &mut self.metalness_image,
            LookImage::Emission => &mut self.emission_image,
            LookImage::Normal => &mut self.normal_image,
        } = name;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_image_is_the_field_that_it_says() {
        for of in LookImage::ALL {
            let mut look = Look::default();
            look.set_image(of, Some("rust".to_owned()));
            let json = serde_json::to_value(&look).unwrap();
            assert_eq!(json[of.field()], "rust");
            assert_eq!(look.image(of), Some(&"rust".to_owned()));
            assert_eq!(LookImage::ALL.iter().filter(|of| look.image(**of).is_some()).count(), 1);
        }
    }
}
