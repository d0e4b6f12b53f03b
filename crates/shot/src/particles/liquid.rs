//! What makes particles a liquid.

use crate::Id;
use crate::cloth::by_factor;
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
    /// Shear modulus, Pa: jelly has 500, dough 5,000; 0: it is not elastic, unless it has a yield stress.
    #[parameter(label = "Stiffness", words = "stiffness", unit = "Pa", range(0.0, 1e6), slide(0.0, 5_000.0))]
    pub stiffness_pa: f32,
    /// Time in which elastic stress above the yield stress falls to 37 %, s; 0: at once. With a yield stress of 0 all of it falls.
    #[parameter(
        label = "Relaxation time",
        words = "relaxation time",
        unit = "s",
        range(0.0, 1e5),
        slide(0.0, 5.0)
    )]
    pub relaxation_time_s: f32,
    /// Shear stress up to which it stands, Pa: whipped cream has 50, thick mud 200.
    #[parameter(
        label = "Yield stress",
        words = "yield stress",
        unit = "Pa",
        range(0.0, 1e6),
        slide(0.0, 500.0)
    )]
    pub yield_stress_pa: f32,
    /// Surface tension, N/m: water has 0.072, honey 0.06; 0: none. Where cells are larger than a centimetre hardly any of it is seen.
    #[parameter(
        label = "Surface tension",
        words = "surface tension",
        unit = "mN/m",
        scale = 1_000.0,
        range(0.0, 100.0),
        slide(0.0, 200.0),
        step = 1.0
    )]
    pub surface_tension_n_m: f32,
    /// Angle between its surface and a solid, within the liquid, rad: 0 wets the solid, π rolls off. Water on clean glass has 0.3,
    /// on wax 1.9.
    #[parameter(
        label = "Wetting angle",
        words = "wetting angle",
        range(0.0, std::f32::consts::PI),
        slide(0.0, 180.0),
        step = 1.0
    )]
    pub wetting_angle_rad: f32,
    /// What regions and the map of its source scale.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[parameter(nested)]
    pub scaled: Vec<ScaledLiquid>,
}

impl Default for Liquid {
    fn default() -> Self {
        Self {
            spacing_m: 0.02,
            density_kg_m3: 1_000.0,
            viscosity_pa_s: 0.001,
            wall_friction: 0.0,
            stiffness_pa: 0.0,
            relaxation_time_s: 1.0,
            yield_stress_pa: 0.0,
            surface_tension_n_m: 0.0,
            wetting_angle_rad: std::f32::consts::FRAC_PI_3,
            scaled: Vec::new(),
        }
    }
}

/// A factor of a quantity of a liquid, by a weight that each particle has; between 0 and 1 it goes by equal factors.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct ScaledLiquid {
    /// Quantity that is scaled.
    pub quantity: LiquidQuantity,
    /// Where the weight comes from.
    pub by: LiquidWeight,
    /// Factor where the weight is 0, no unit.
    #[parameter(
        label = "Where 0",
        words = "factor where the weight is 0",
        range(0.0, 1e4),
        slide(0.0, 2.0),
        step = 0.05
    )]
    pub at_0: f32,
    /// Factor where the weight is 1, no unit.
    #[parameter(
        label = "Where 1",
        words = "factor where the weight is 1",
        range(0.0, 1e4),
        slide(0.0, 2.0),
        step = 0.05
    )]
    pub at_1: f32,
}

/// A quantity of a liquid that differs from place to place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum LiquidQuantity {
    /// Viscosity.
    Viscosity,
    /// Stiffness of a gel.
    Stiffness,
    /// Relaxation time of a gel.
    RelaxationTime,
    /// Yield stress.
    YieldStress,
    /// Density.
    Density,
    /// How far it sticks to solids.
    WallFriction,
    /// Surface tension.
    SurfaceTension,
    /// Wetting angle.
    WettingAngle,
}

/// What gives each particle of a liquid a weight.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum LiquidWeight {
    /// The region in which the particle is.
    Region {
        /// The region.
        region: Id,
    },
    /// The map of the emission, where the particle was born.
    BirthMap {},
}

impl ScaledLiquid {
    /// The factor of a weight, 0–1.
    pub fn factor(&self, weight: f32) -> f32 {
        by_factor(self.at_0, self.at_1, weight)
    }
}

/// Stiffness of what has a yield stress and no stiffness, in yield stresses: it yields from a shear of a tenth.
const STIFFNESS_OF_YIELD: f32 = 10.0;

impl Liquid {
    /// Volume that a particle stands for, m³.
    pub fn particle_volume_m3(&self) -> f32 {
        self.spacing_m.powi(3)
    }

    /// Whether it is elastic up to a stress.
    pub fn is_elastic(&self) -> bool {
        self.stiffness_pa > 0.0 || self.yield_stress_pa > 0.0
    }

    /// Shear modulus of a yield stress and a stiffness, Pa.
    pub fn shear_modulus_pa(stiffness_pa: f32, yield_stress_pa: f32) -> f32 {
        if stiffness_pa > 0.0 { stiffness_pa } else { STIFFNESS_OF_YIELD * yield_stress_pa }
    }

    /// Moved toward a material by a degree, 0–1: by equal factors, from and to none by equal steps. Spacing and what is scaled stay.
    #[must_use]
    pub fn toward(&self, material: &Self, degree: f32) -> Self {
        let degree = degree.clamp(0.0, 1.0);
        let of = |quantity: fn(&Self) -> f32| by_factor(quantity(self), quantity(material), degree);
        Self {
            spacing_m: self.spacing_m,
            density_kg_m3: of(|of| of.density_kg_m3),
            viscosity_pa_s: of(|of| of.viscosity_pa_s),
            wall_friction: self.wall_friction + degree * (material.wall_friction - self.wall_friction),
            stiffness_pa: of(|of| of.stiffness_pa),
            relaxation_time_s: of(|of| of.relaxation_time_s),
            yield_stress_pa: of(|of| of.yield_stress_pa),
            surface_tension_n_m: of(|of| of.surface_tension_n_m),
            wetting_angle_rad: self.wetting_angle_rad
                + degree * (material.wetting_angle_rad - self.wetting_angle_rad),
            scaled: self.scaled.clone(),
        }
    }
}

/// The named materials, with values of the sizes that are measured for such liquids (H. Barnes, *A handbook of elementary
/// rheology*, 2000).
pub fn liquid_materials() -> [(&'static str, Liquid); 10] {
    let thin = |density_kg_m3, viscosity_pa_s| Liquid { density_kg_m3, viscosity_pa_s, ..Liquid::default() };
    let tense = |surface_tension_n_m: f32, of: Liquid| Liquid { surface_tension_n_m, ..of };
    let thick =
        |density_kg_m3, viscosity_pa_s| Liquid { wall_friction: 1.0, ..thin(density_kg_m3, viscosity_pa_s) };
    let gel = |density_kg_m3, viscosity_pa_s, stiffness_pa, relaxation_time_s, yield_stress_pa| Liquid {
        stiffness_pa,
        relaxation_time_s,
        yield_stress_pa,
        ..thick(density_kg_m3, viscosity_pa_s)
    };
    [
        ("water", tense(0.072, thin(1_000.0, 0.001))),
        ("oil", tense(0.032, thin(920.0, 0.08))),
        ("honey", tense(0.06, thick(1_420.0, 10.0))),
        ("tar", tense(0.03, thick(1_200.0, 2_000.0))),
        ("ketchup", gel(1_150.0, 1.0, 0.0, 0.0, 20.0)),
        ("cream", gel(500.0, 1.0, 0.0, 0.0, 60.0)),
        ("mud", gel(1_700.0, 3.0, 0.0, 0.0, 200.0)),
        ("soft wax", tense(0.028, gel(900.0, 5.0, 1_500.0, 0.4, 0.0))),
        ("jelly", gel(1_050.0, 0.5, 600.0, 0.0, 400.0)),
        ("dough", gel(1_200.0, 20.0, 4_000.0, 5.0, 100.0)),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_degree_goes_by_equal_factors_and_ends_at_the_material() {
        for (name, material) in liquid_materials() {
            let from = Liquid { spacing_m: 0.003, ..Liquid::default() };
            let whole = from.toward(&material, 1.0);
            assert_eq!(whole.spacing_m, 0.003);
            let near = |a: f32, b: f32| (a - b).abs() <= 1e-4 * b.abs();
            assert!(near(whole.viscosity_pa_s, material.viscosity_pa_s), "{name}");
            assert!(near(whole.yield_stress_pa, material.yield_stress_pa), "{name}");
            let half = from.toward(&material, 0.5);
            assert!(near(half.density_kg_m3.powi(2), from.density_kg_m3 * material.density_kg_m3), "{name}");
            assert!(near(half.stiffness_pa, 0.5 * material.stiffness_pa), "{name}");
        }
    }

    #[test]
    fn factors_go_by_equal_factors_and_from_0_by_equal_steps() {
        let scaled = |at_0, at_1| ScaledLiquid {
            quantity: LiquidQuantity::Stiffness,
            by: LiquidWeight::BirthMap {},
            at_0,
            at_1,
        };
        assert!((scaled(1.0, 0.01).factor(0.5) - 0.1).abs() < 1e-6);
        assert_eq!(scaled(0.0, 2.0).factor(0.25), 0.5);
        assert_eq!(Liquid::shear_modulus_pa(0.0, 20.0), 200.0);
        assert_eq!(Liquid::shear_modulus_pa(30.0, 20.0), 30.0);
    }
}
