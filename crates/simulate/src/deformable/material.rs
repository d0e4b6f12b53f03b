//! Materials of cloth and soft bodies, as the solver takes them.

use super::air::AirCoefficients;
use super::cell::SolidModuli;
use super::membrane::Moduli;
use shot::{Element, Id};

/// The material of an element in a step.
#[derive(Clone, Debug)]
pub(super) struct Material {
    pub element: Id,
    /// Mass per measure of a node: kg/m² of a sheet, kg/m³ of a body.
    pub density: f64,
    pub elastic: Elastic,
    pub air: AirCoefficients,
    /// Distance that its surface keeps, m.
    pub thickness: f32,
    pub friction: f32,
    /// Whether it pushes free solids.
    pub pushes: bool,
}

/// What its elastic forces depend on.
#[derive(Clone, Copy, Debug)]
pub(super) enum Elastic {
    /// Of a sheet: its bending stiffness, N m, and the time of the damping, in steps.
    Sheet { moduli: Moduli, bend: f64, damping: f64 },
    /// Of a body.
    Body(SolidModuli),
}

impl Material {
    /// That of an element in a step of `dt` seconds; none if it does not deform.
    pub fn of(element: &Element, dt: f64) -> Option<Self> {
        let friction = element.as_solid()?.body.friction;
        if let Some(cloth) = element.as_cloth() {
            let moduli = Moduli::new(
                f64::from(cloth.warp_n_m),
                f64::from(cloth.weft_n_m),
                f64::from(cloth.shear_n_m),
                f64::from(cloth.poisson_ratio),
            );
            let (bend, damping) = (f64::from(cloth.bend_n_m), f64::from(cloth.damping_s) / dt);
            return Some(Self {
                element: element.id,
                density: f64::from(cloth.mass_kg_m2),
                elastic: Elastic::Sheet { moduli, bend, damping },
                air: AirCoefficients { drag: cloth.drag, lift: cloth.lift, closed: false },
                thickness: cloth.thickness_m,
                friction,
                pushes: cloth.pushes_solids,
            });
        }
        let soft = element.as_soft()?;
        let moduli = SolidModuli::new(
            f64::from(soft.youngs_modulus_pa),
            f64::from(soft.poisson_ratio),
            f64::from(soft.damping_s) / dt,
        );
        Some(Self {
            element: element.id,
            density: f64::from(soft.density_kg_m3),
            elastic: Elastic::Body(moduli),
            air: AirCoefficients { drag: soft.drag, lift: soft.drag, closed: true },
            thickness: soft.thickness_m,
            friction,
            pushes: soft.pushes_solids,
        })
    }

    /// Bending stiffness, N m; 0 of a body.
    pub fn bend(&self) -> f64 {
        match self.elastic {
            Elastic::Sheet { bend, .. } => bend,
            Elastic::Body(_) => 0.0,
        }
    }
}
