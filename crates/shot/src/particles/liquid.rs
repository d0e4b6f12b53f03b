//! What makes particles a liquid.

use crate::parameters::Parameters;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What makes particles a liquid: each stands for a cube of it whose edge is the spacing.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Liquid {
    /// Distance of the particles from each other at rest, m; the cells in which the flow is computed are twice as large.
    #[parameter(
        label = "Spacing",
        unit = "mm",
        scale = 1_000.0,
        fixed,
        range(2e-4, 10.0),
        slide(2.0, 100.0),
        step = 1.0
    )]
    pub spacing_m: f32,
    /// Density, kg/m³.
    #[parameter(
        label = "Density",
        words = "density",
        unit = "kg/m³",
        range(1.0, 20_000.0),
        slide(500.0, 2_000.0),
        step = 10.0
    )]
    pub density_kg_m3: f32,
    /// Dynamic viscosity, Pa s: water has 0.001, honey 10, tar 100,000.
    #[parameter(label = "Viscosity", words = "viscosity", unit = "Pa s", range(0.0, 1e6), slide(0.0, 100.0))]
    pub viscosity_pa_s: f32,
    /// How far the velocity along a solid is that of the solid, 0–1: 0 slips, 1 sticks.
    #[parameter(label = "Sticks to solids", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub wall_friction: f32,
}

impl Default for Liquid {
    fn default() -> Self {
        Self { spacing_m: 0.02, density_kg_m3: 1_000.0, viscosity_pa_s: 0.001, wall_friction: 0.0 }
    }
}

impl Liquid {
    /// Volume that a particle stands for, m³.
    pub fn particle_volume_m3(&self) -> f32 {
        self.spacing_m.powi(3)
    }
}
