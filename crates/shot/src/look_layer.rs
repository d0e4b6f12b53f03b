//! Looks over looks: where a weight says so, a surface has other values.

use crate::SurfaceQuantity;
use crate::parameters::{MAX_SEED, MAX_SIZE_M, MIN_SIZE_M, Parameters};
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Most layers of a look.
pub const MAX_LOOK_LAYERS: usize = 8;

/// Values of a look that lie over those below, by a weight from point to point.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
#[parameters(acts = Picture)]
pub struct LookLayer {
    /// What the weight comes from.
    #[parameter(nested)]
    pub by: LookWeight,
    /// Value of `by` up to which nothing of the layer shows: of 0–1, or in the unit of a measured quantity.
    #[parameter(label = "Begins at", range(-1e7, 1e7), step = 0.05)]
    pub from: f32,
    /// Value of `by` from which all of the layer shows; in between it fades. It may be less than `from`.
    #[parameter(label = "Whole at", range(-1e7, 1e7), step = 0.05)]
    pub to: f32,
    /// How much of the layer shows where it is whole, 0–1.
    #[parameter(label = "Amount", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub amount: f32,
    /// As that of a look: share of light the surface returns, 0–1 a channel.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Albedo", colour, range(0.0, 1.0))]
    pub albedo: Vec3,
    /// 0 to 1: 0 is a mirror, 1 is matt.
    #[parameter(label = "Roughness", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub roughness: f32,
    /// 0 to 1: 0 is a dielectric, 1 is a metal.
    #[parameter(label = "Metalness", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub metalness: f32,
    /// 0 to 1: 0 is opaque, 1 lets all light that is not reflected through.
    #[parameter(label = "Transmission", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub transmission: f32,
    /// Emitted radiance in W/(m² sr) a channel.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Emission", parts("red", "green", "blue"), range(0.0, 1e6), step = 0.5)]
    pub emission: Vec3,
}

/// What the weight of a layer comes from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
#[parameters(acts = Picture)]
pub enum LookWeight {
    /// A map of the solid, 0–1.
    Map {
        /// Its name.
        map: String,
    },
    /// The map of the particles' emission, 0–1, where the matter at the place was born.
    BirthMap {},
    /// A quantity measured on a cloth or a soft body, in its unit.
    Quantity {
        /// The quantity.
        quantity: SurfaceQuantity,
    },
    /// Hollows of the surface as it is at the frame: the mean curvature of a hollow times a radius, 0–1.
    Crevices {
        /// Radius of curvature at which it is 1, m.
        #[parameter(
            label = "Radius",
            unit = "mm",
            scale = 1_000.0,
            range(MIN_SIZE_M, MAX_SIZE_M),
            slide(1.0, 500.0),
            step = 5.0
        )]
        radius_m: f32,
    },
    /// Noise on the surface at rest, 0–1.
    Noise {
        /// Size of its patches, m.
        #[parameter(
            label = "Size",
            unit = "mm",
            scale = 1_000.0,
            range(MIN_SIZE_M, MAX_SIZE_M),
            slide(5.0, 500.0),
            step = 5.0
        )]
        size_m: f32,
        /// Chooses the pattern.
        #[parameter(label = "Seed", range(0.0, MAX_SEED), step = 1.0)]
        seed: u32,
    },
    /// The viewing angle: 0 where the surface faces the viewer, 1 where it is seen from the side.
    ViewingAngle {},
}

impl Default for LookLayer {
    fn default() -> Self {
        Self {
            by: LookWeight::ViewingAngle {},
            from: 0.0,
            to: 1.0,
            amount: 1.0,
            albedo: Vec3::splat(0.6),
            roughness: 0.5,
            metalness: 0.0,
            transmission: 0.0,
            emission: Vec3::ZERO,
        }
    }
}

impl LookLayer {
    /// The weight of the layer, 0–1, where `by` has a value.
    pub fn weight(&self, value: f32) -> f32 {
        let (span, past) = (self.to - self.from, value - self.from);
        let fraction = if span == 0.0 { f32::from(past >= 0.0) } else { past / span };
        // A value that is not finite shows nothing.
        let t = fraction.clamp(0.0, 1.0);
        if t.is_nan() { 0.0 } else { self.amount * t * t * (3.0 - 2.0 * t) }
    }
}

impl LookWeight {
    /// The name of the attribute of the mesh that has the values by vertex; none: the values depend on the view.
    pub fn attribute(&self) -> Option<String> {
        match self {
            Self::Map { map } => Some(format!("map {map}")),
            Self::BirthMap {} => Some("weight".to_owned()),
            Self::Quantity { quantity } => Some(quantity.name().to_owned()),
            Self::Crevices { radius_m } => Some(format!("crevices {radius_m}")),
            Self::Noise { size_m, seed } => Some(format!("noise {size_m} {seed}")),
            Self::ViewingAngle {} => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(2.0, 4.0, 1.0, 0.0)]
    #[case(2.0, 4.0, 3.0, 0.5)]
    #[case(2.0, 4.0, 9.0, 1.0)]
    #[case(4.0, 2.0, 1.0, 1.0)]
    #[case(3.0, 3.0, 2.9, 0.0)]
    #[case(3.0, 3.0, 3.0, 1.0)]
    #[case(0.0, 1.0, f32::NAN, 0.0)]
    fn a_layer_fades_in_over_its_range(#[case] from: f32, #[case] to: f32, #[case] at: f32, #[case] is: f32) {
        let layer = LookLayer { from, to, ..LookLayer::default() };
        assert_eq!(layer.weight(at), is);
        assert_eq!(LookLayer { amount: 0.5, ..layer }.weight(at), 0.5 * is);
    }
}
