//! Cloth: what a sheet is made of, and where it is held.

use crate::Pin;
use crate::map::ScaledByMap;
use crate::parameters::{MAX_SIZE_M, MIN_SIZE_M, MIN_THICKNESS_M, Parameters};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What makes a free solid a cloth: its shape is the sheet at rest. The warp runs along u of
/// the UVs, the weft along v. Friction is that of the body.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Cloth {
    /// Length of the edges of the triangles that it is computed with, m.
    #[parameter(
        label = "Edges",
        unit = "mm",
        scale = 1_000.0,
        fixed,
        range(MIN_SIZE_M, MAX_SIZE_M),
        slide(5.0, 100.0),
        step = 1.0
    )]
    pub edge_m: f32,
    /// Mass per area, kg/m².
    #[parameter(
        label = "Weight",
        words = "mass per area",
        unit = "g/m²",
        scale = 1_000.0,
        range(0.001, 100.0),
        slide(20.0, 1_500.0),
        step = 10.0
    )]
    pub mass_kg_m2: f32,
    /// Stiffness against stretch along the warp: Young's modulus times thickness, N/m.
    #[parameter(label = "Stretch along", unit = "N/m", range(0.1, 1e6), slide(10.0, 20_000.0), step = 50.0)]
    pub warp_n_m: f32,
    /// Stiffness against stretch along the weft, N/m.
    #[parameter(label = "Stretch across", unit = "N/m", range(0.1, 1e6), slide(10.0, 20_000.0), step = 50.0)]
    pub weft_n_m: f32,
    /// Stiffness against shear: shear modulus times thickness, N/m.
    #[parameter(
        label = "Shear",
        words = "shear stiffness",
        unit = "N/m",
        range(0.0, 1e6),
        slide(0.0, 5_000.0),
        step = 10.0
    )]
    pub shear_n_m: f32,
    /// How much it narrows when it is stretched: Poisson's ratio, no unit.
    #[parameter(
        label = "Narrows",
        words = "Poisson's ratio",
        range(0.0, 0.49),
        slide(0.0, 0.49),
        step = 0.01
    )]
    pub poisson_ratio: f32,
    /// Stiffness against bending, N m.
    #[parameter(
        label = "Bending",
        words = "bending stiffness",
        unit = "mN·mm",
        scale = 1e6,
        range(0.0, 100.0),
        slide(0.0, 500.0),
        step = 1.0
    )]
    pub bend_n_m: f32,
    /// Time over which a change of stretch is resisted, s: viscosity over stiffness.
    #[parameter(
        label = "Damping",
        unit = "ms",
        scale = 1_000.0,
        range(0.0, 10.0),
        slide(0.0, 50.0),
        step = 0.5
    )]
    pub damping_s: f32,
    /// Distance that it keeps from what it lies on, and half of that between its two sides, m.
    #[parameter(
        label = "Thickness",
        unit = "mm",
        scale = 1_000.0,
        range(MIN_THICKNESS_M, MAX_SIZE_M),
        slide(0.2, 20.0),
        step = 0.1
    )]
    pub thickness_m: f32,
    /// Coefficient of the force of air along its speed, no unit.
    #[parameter(label = "Air drag", range(0.0, 10.0), slide(0.0, 3.0), step = 0.05)]
    pub drag: f32,
    /// Coefficient of the force of air along the normal, no unit.
    #[parameter(label = "Air lift", range(0.0, 10.0), slide(0.0, 3.0), step = 0.05)]
    pub lift: f32,
    /// Thickness of the layer of air that it takes along when it moves across the air, m: π / 4 times the height of a flag.
    #[serde(skip_serializing_if = "is_zero")]
    #[parameter(
        label = "Carries air",
        words = "air carried",
        unit = "mm",
        scale = 1_000.0,
        range(0.0, 10.0),
        slide(0.0, 1_000.0),
        step = 10.0
    )]
    pub carried_air_m: f32,
    /// Lengths at rest against those of its shape; no unit.
    #[parameter(
        label = "Rest length",
        unit = "%",
        scale = 100.0,
        range(0.01, 10.0),
        slide(50.0, 150.0),
        step = 1.0
    )]
    pub rest_length: f32,
    /// Stretch along warp or weft from which it is 30 times as stiff, no unit; none: there is no such limit.
    #[parameter(
        label = "Stretches by",
        words = "limit of stretch",
        unit = "%",
        scale = 100.0,
        range(0.0, 10.0),
        step = 1.0,
        blank = "any length"
    )]
    pub strain_limit: Option<f32>,
    /// Curvature from which it keeps a crease, 1/m; none: it keeps none.
    #[parameter(
        label = "Creases from",
        words = "curvature of creases",
        unit = "1/m",
        range(0.0, 100_000.0),
        step = 5.0,
        blank = "no curvature"
    )]
    pub crease_1_m: Option<f32>,
    /// Pressure within a closed skin above that around it, along the normals, Pa.
    #[parameter(label = "Pressure", unit = "Pa", range(-1e6, 1e6), slide(-500.0, 500.0), step = 10.0)]
    pub pressure_pa: f32,
    /// Air that is shut in a closed skin, as the fraction of its volume at rest that the air fills at the pressure around it;
    /// none: air passes.
    #[parameter(
        label = "Holds air",
        words = "air shut in",
        unit = "%",
        scale = 100.0,
        range(0.01, 100.0),
        step = 5.0,
        blank = "none"
    )]
    pub shut_in_air: Option<f32>,
    /// Stretch at which it tears along its edges, no unit; none: it does not tear.
    #[parameter(
        label = "Tears from",
        words = "stretch at which it tears",
        unit = "%",
        scale = 100.0,
        range(0.001, 10.0),
        step = 1.0,
        blank = "no stretch"
    )]
    pub tear_strain: Option<f32>,
    /// Map by whose weight the stretch at which it tears is divided, so that it does not tear where that is 0; none: it tears
    /// everywhere alike.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tear_map: Option<String>,
    /// Stress that takes it off a solid that it has touched, or off another sheet or body that is near, Pa.
    #[parameter(
        label = "Sticks",
        words = "adhesion",
        unit = "Pa",
        range(0.0, 1e6),
        slide(0.0, 100.0),
        step = 1.0
    )]
    pub adhesion_pa: f32,
    /// What maps scale.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[parameter(nested)]
    pub scaled: Vec<ScaledByMap>,
    /// Seconds for which it moves before the first frame, so that it is in motion there.
    #[parameter(label = "Preroll", unit = "s", fixed, range(0.0, 60.0), step = 0.5)]
    pub preroll_s: f32,
    /// Whether it pushes free solids; else they push it alone, and are not computed anew when it changes.
    #[parameter(label = "Pushes solids", words = "push on solids")]
    pub pushes_solids: bool,
    /// Where it is held.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[parameter(nested)]
    pub pins: Vec<Pin>,
}

impl Default for Cloth {
    /// A cotton canvas.
    fn default() -> Self {
        Self {
            edge_m: 0.03,
            mass_kg_m2: 0.3,
            warp_n_m: 4_000.0,
            weft_n_m: 3_000.0,
            shear_n_m: 200.0,
            poisson_ratio: 0.1,
            bend_n_m: 3e-5,
            damping_s: 0.002,
            thickness_m: 0.004,
            drag: 1.2,
            lift: 1.2,
            carried_air_m: 0.0,
            rest_length: 1.0,
            strain_limit: None,
            crease_1_m: None,
            pressure_pa: 0.0,
            shut_in_air: None,
            tear_strain: None,
            tear_map: None,
            adhesion_pa: 0.0,
            scaled: Vec::new(),
            preroll_s: 0.0,
            pushes_solids: true,
            pins: Vec::new(),
        }
    }
}

fn is_zero(value: &f32) -> bool {
    *value == 0.0
}

/// The named materials. Stretch, shear and bending are of the sizes that are measured for such cloths (S. Kawabata, *The
/// standardization and analysis of hand evaluation*, 1980), stretch at the softer end, where cloth is played with.
pub fn cloth_materials() -> [(&'static str, Cloth); 6] {
    let stiffness = |warp_n_m, weft_n_m, shear_n_m, bend_n_m| Cloth {
        warp_n_m,
        weft_n_m,
        shear_n_m,
        bend_n_m,
        ..Cloth::default()
    };
    let silk = Cloth {
        mass_kg_m2: 0.06,
        damping_s: 0.001,
        thickness_m: 0.002,
        ..stiffness(1_500.0, 1_200.0, 25.0, 4e-6)
    };
    let wool = Cloth {
        mass_kg_m2: 0.25,
        poisson_ratio: 0.15,
        damping_s: 0.008,
        thickness_m: 0.005,
        ..stiffness(1_200.0, 800.0, 60.0, 1.5e-5)
    };
    let netting = Cloth {
        mass_kg_m2: 0.09,
        poisson_ratio: 0.0,
        damping_s: 0.003,
        drag: 0.4,
        lift: 0.4,
        ..stiffness(900.0, 900.0, 4.0, 2e-6)
    };
    let oilcloth = Cloth {
        mass_kg_m2: 0.4,
        poisson_ratio: 0.2,
        damping_s: 0.004,
        ..stiffness(6_000.0, 6_000.0, 1_500.0, 2e-4)
    };
    let rubber_sheet = Cloth {
        mass_kg_m2: 1.1,
        poisson_ratio: 0.45,
        damping_s: 0.01,
        ..stiffness(1_000.0, 1_000.0, 340.0, 1e-4)
    };
    [
        ("canvas", Cloth::default()),
        ("silk", silk),
        ("wool", wool),
        ("netting", netting),
        ("oilcloth", oilcloth),
        ("rubber sheet", rubber_sheet),
    ]
}

impl Cloth {
    /// Moved toward a material by a degree, 0–1: stiffness, weight and thickness by equal factors, narrowing,
    /// damping, drag and lift by equal steps, limits by equal factors where both have one. All else stays.
    pub fn toward(&self, material: &Self, degree: f32) -> Self {
        let degree = degree.clamp(0.0, 1.0);
        let factor = |a: f32, b: f32| by_factor(a, b, degree);
        let step = |a: f32, b: f32| a + (b - a) * degree;
        Self {
            mass_kg_m2: factor(self.mass_kg_m2, material.mass_kg_m2),
            warp_n_m: factor(self.warp_n_m, material.warp_n_m),
            weft_n_m: factor(self.weft_n_m, material.weft_n_m),
            shear_n_m: factor(self.shear_n_m, material.shear_n_m),
            poisson_ratio: step(self.poisson_ratio, material.poisson_ratio),
            bend_n_m: factor(self.bend_n_m, material.bend_n_m),
            damping_s: step(self.damping_s, material.damping_s),
            thickness_m: factor(self.thickness_m, material.thickness_m),
            drag: step(self.drag, material.drag),
            adhesion_pa: step(self.adhesion_pa, material.adhesion_pa),
            lift: step(self.lift, material.lift),
            strain_limit: limit_toward(self.strain_limit, material.strain_limit, degree),
            crease_1_m: limit_toward(self.crease_1_m, material.crease_1_m, degree),
            tear_strain: limit_toward(self.tear_strain, material.tear_strain, degree),
            ..self.clone()
        }
    }
}

/// From `a` to `b` by a degree, 0–1: by equal factors, from and to 0 by equal steps.
pub(crate) fn by_factor(a: f32, b: f32, degree: f32) -> f32 {
    if a > 0.0 && b > 0.0 { a * (b / a).powf(degree) } else { a + (b - a) * degree }
}

/// A limit moved toward another by equal factors; to and from none at a degree of 1.
pub(crate) fn limit_toward(from: Option<f32>, to: Option<f32>, degree: f32) -> Option<f32> {
    match (from, to) {
        (Some(a), Some(b)) if a > 0.0 && b > 0.0 => Some(a * (b / a).powf(degree)),
        _ if degree >= 1.0 => to,
        _ => from,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cloth_moves_toward_a_material_by_equal_factors() {
        let (canvas, [_, (_, silk), ..]) = (Cloth::default(), &cloth_materials());
        assert_eq!(canvas.toward(silk, 0.0), canvas);
        let there = canvas.toward(silk, 1.0);
        assert!((there.bend_n_m / 4e-6 - 1.0).abs() < 1e-5 && (there.mass_kg_m2 / 0.06 - 1.0).abs() < 1e-5);
        let half = canvas.toward(silk, 0.5);
        assert!((half.warp_n_m - (4_000.0f32 * 1_500.0).sqrt()).abs() < 1.0);
        assert_eq!(half.edge_m, canvas.edge_m);
        let limited = Cloth { strain_limit: Some(0.04), ..Cloth::default() };
        let tighter = Cloth { strain_limit: Some(0.01), ..Cloth::default() };
        assert_eq!(limited.toward(&tighter, 0.5).strain_limit, Some(0.02));
        assert_eq!(limited.toward(&canvas, 0.9).strain_limit, Some(0.04));
        assert_eq!(limited.toward(&canvas, 1.0).strain_limit, None);
    }

    #[test]
    fn every_material_is_within_the_ranges_of_a_cloth() {
        for (name, material) in &cloth_materials() {
            let mut shot = crate::Shot::empty("Cloth");
            let plane = crate::Shape::plane(1.0, 1.0);
            let mut element = crate::Element::solid("Sheet", plane, crate::Moves::Free);
            element.as_solid_mut().unwrap().cloth = Some(Cloth::default().toward(material, 1.0));
            shot.add(element);
            assert_eq!(shot.faults(), [], "{name}");
        }
    }
}
