//! Soft bodies: what a filled body is made of, and where it is held.

use crate::Pin;
use crate::cloth::{by_factor, limit_toward};
use crate::map::ScaledByMap;
use crate::parameters::{MAX_SIZE_M, MIN_SIZE_M, MIN_THICKNESS_M, Parameters};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What makes a free solid a soft body: its shape, which is closed, is the body at rest. It is carried by a lattice
/// of cells that fills it. Friction is that of the body.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Soft {
    /// Length of the edges of the cells that it is computed with, m.
    #[parameter(
        label = "Cells",
        unit = "mm",
        scale = 1_000.0,
        fixed,
        range(MIN_SIZE_M, MAX_SIZE_M),
        slide(10.0, 200.0),
        step = 5.0
    )]
    pub cell_m: f32,
    /// Longest edges of the surface that is shown and that meets others, m.
    #[parameter(
        label = "Surface edges",
        unit = "mm",
        scale = 1_000.0,
        fixed,
        range(MIN_SIZE_M, MAX_SIZE_M),
        slide(5.0, 200.0),
        step = 5.0
    )]
    pub edge_m: f32,
    /// Density, kg/m³.
    #[parameter(
        label = "Density",
        words = "density",
        unit = "kg/m³",
        range(1.0, 20_000.0),
        slide(10.0, 2_000.0),
        step = 10.0
    )]
    pub density_kg_m3: f32,
    /// Young's modulus, Pa.
    #[parameter(
        label = "Stiffness",
        words = "Young's modulus",
        unit = "kPa",
        scale = 0.001,
        range(1.0, 1e9),
        slide(1.0, 2_000.0),
        step = 1.0
    )]
    pub youngs_modulus_pa: f32,
    /// How much it widens when it is pressed: Poisson's ratio, no unit.
    #[parameter(
        label = "Widens",
        words = "Poisson's ratio",
        range(0.0, 0.49),
        slide(0.0, 0.49),
        step = 0.01
    )]
    pub poisson_ratio: f32,
    /// Time over which a change of strain is resisted, s: viscosity over stiffness.
    #[parameter(
        label = "Damping",
        unit = "ms",
        scale = 1_000.0,
        range(0.0, 10.0),
        slide(0.0, 100.0),
        step = 1.0
    )]
    pub damping_s: f32,
    /// Distance that its surface keeps from others, m.
    #[parameter(
        label = "Gap",
        words = "gap",
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
    /// Natural frequency at which each of its points is drawn back to where the undeformed shape, moved and turned with the
    /// body, has the point, Hz.
    #[parameter(
        label = "Pull back",
        words = "pull back to shape",
        unit = "Hz",
        range(0.0, 1_000.0),
        slide(0.0, 20.0),
        step = 0.5
    )]
    pub pull_back_hz: f32,
    /// Strain from which it keeps its deformation, no unit; none: it springs back.
    #[parameter(
        label = "Sets from",
        words = "strain that stays",
        unit = "%",
        scale = 100.0,
        range(0.0, 10.0),
        step = 1.0,
        blank = "no strain"
    )]
    pub set_strain: Option<f32>,
    /// Pressure within it above that around it, along the normals of its surface, Pa.
    #[parameter(label = "Pressure", unit = "Pa", range(-1e7, 1e7), slide(-5_000.0, 5_000.0), step = 50.0)]
    pub pressure_pa: f32,
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

impl Default for Soft {
    /// A soft foam.
    fn default() -> Self {
        Self {
            cell_m: 0.06,
            edge_m: 0.04,
            density_kg_m3: 80.0,
            youngs_modulus_pa: 15_000.0,
            poisson_ratio: 0.25,
            damping_s: 0.004,
            thickness_m: 0.002,
            drag: 0.5,
            pull_back_hz: 0.0,
            set_strain: None,
            pressure_pa: 0.0,
            adhesion_pa: 0.0,
            scaled: Vec::new(),
            preroll_s: 0.0,
            pushes_solids: true,
            pins: Vec::new(),
        }
    }
}

/// The named materials. Moduli and densities are of the sizes that handbooks give for such materials.
pub fn soft_materials() -> [(&'static str, Soft); 4] {
    let of = |density_kg_m3, youngs_modulus_pa, poisson_ratio, damping_s| Soft {
        density_kg_m3,
        youngs_modulus_pa,
        poisson_ratio,
        damping_s,
        ..Soft::default()
    };
    [
        ("foam", Soft::default()),
        ("jelly", of(1_050.0, 20_000.0, 0.45, 0.002)),
        ("dough", of(700.0, 12_000.0, 0.4, 0.08)),
        ("hard rubber", of(1_150.0, 2e6, 0.47, 0.001)),
    ]
}

impl Soft {
    /// Moved toward a material by a degree, 0–1: density and stiffness by equal factors, the others of the material by equal
    /// steps. All else stays.
    pub fn toward(&self, material: &Self, degree: f32) -> Self {
        let degree = degree.clamp(0.0, 1.0);
        let factor = |a: f32, b: f32| by_factor(a, b, degree);
        let step = |a: f32, b: f32| a + (b - a) * degree;
        Self {
            density_kg_m3: factor(self.density_kg_m3, material.density_kg_m3),
            youngs_modulus_pa: factor(self.youngs_modulus_pa, material.youngs_modulus_pa),
            poisson_ratio: step(self.poisson_ratio, material.poisson_ratio),
            damping_s: step(self.damping_s, material.damping_s),
            drag: step(self.drag, material.drag),
            adhesion_pa: step(self.adhesion_pa, material.adhesion_pa),
            pull_back_hz: step(self.pull_back_hz, material.pull_back_hz),
            set_strain: limit_toward(self.set_strain, material.set_strain, degree),
            ..self.clone()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_soft_body_moves_toward_a_material_by_equal_factors() {
        let (foam, [_, (_, jelly), ..]) = (Soft::default(), &soft_materials());
        assert_eq!(foam.toward(jelly, 0.0), foam);
        let half = foam.toward(jelly, 0.5);
        let mean = (15_000.0f32 * 20_000.0).sqrt();
        assert!((half.youngs_modulus_pa / mean - 1.0).abs() < 1e-5);
        assert!((half.poisson_ratio - 0.35).abs() < 1e-6 && half.cell_m == foam.cell_m);
    }

    #[test]
    fn every_material_is_within_the_ranges_of_a_soft_body() {
        for (name, material) in &soft_materials() {
            let mut shot = crate::Shot::empty("Soft");
            let mut element = crate::Element::solid("Float", crate::Shape::sphere(0.3), crate::Moves::Free);
            element.as_solid_mut().unwrap().soft = Some(Soft::default().toward(material, 1.0));
            shot.add(element);
            assert_eq!(shot.faults(), [], "{name}");
        }
    }

    #[test]
    fn a_body_is_not_cloth_and_soft_at_once() {
        let mut shot = crate::Shot::empty("Soft");
        let mut element = crate::Element::solid("Float", crate::Shape::sphere(0.3), crate::Moves::Free);
        let solid = element.as_solid_mut().unwrap();
        (solid.soft, solid.cloth) = (Some(Soft::default()), Some(crate::Cloth::default()));
        shot.add(element);
        assert!(shot.faults()[0].message.contains("cannot be a soft body too"), "{:?}", shot.faults());
    }
}
