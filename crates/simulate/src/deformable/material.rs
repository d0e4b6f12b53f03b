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
    /// Stress that takes it off a solid, Pa.
    pub adhesion_pa: f32,
    /// Whether it pushes free solids.
    pub pushes: bool,
    /// Factor of all lengths at rest.
    pub rest_length: f64,
    /// Pressure within, Pa.
    pub pressure: f64,
    /// The part of its volume at rest that the air shut in fills at the pressure around.
    pub shut_in_air: Option<f64>,
    /// Natural frequency of the pull back to its shape, Hz.
    pub pull_back: f64,
}

/// What its elastic forces depend on.
#[derive(Clone, Copy, Debug)]
pub(super) enum Elastic {
    /// Of a sheet: its bending stiffness, N m, the time of the damping, in steps, and the curvature from which it creases, 1/m.
    Sheet { moduli: Moduli, bend: f64, damping: f64, crease: Option<f64> },
    /// Of a body, with the strain from which it keeps its deformation.
    Body { moduli: SolidModuli, set: Option<f64> },
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
            )
            .limited(cloth.strain_limit.map(f64::from));
            let (bend, damping) = (f64::from(cloth.bend_n_m), f64::from(cloth.damping_s) / dt);
            return Some(Self {
                element: element.id,
                density: f64::from(cloth.mass_kg_m2),
                elastic: Elastic::Sheet { moduli, bend, damping, crease: cloth.crease_1_m.map(f64::from) },
                air: AirCoefficients {
                    drag: cloth.drag,
                    lift: cloth.lift,
                    carried: cloth.carried_air_m,
                    closed: false,
                },
                thickness: cloth.thickness_m,
                friction,
                adhesion_pa: cloth.adhesion_pa,
                pushes: cloth.pushes_solids,
                rest_length: f64::from(cloth.rest_length),
                pressure: f64::from(cloth.pressure_pa),
                shut_in_air: cloth.shut_in_air.map(f64::from),
                pull_back: 0.0,
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
            elastic: Elastic::Body { moduli, set: soft.set_strain.map(f64::from) },
            air: AirCoefficients { drag: soft.drag, lift: soft.drag, carried: 0.0, closed: true },
            thickness: soft.thickness_m,
            friction,
            adhesion_pa: soft.adhesion_pa,
            pushes: soft.pushes_solids,
            rest_length: 1.0,
            pressure: f64::from(soft.pressure_pa),
            shut_in_air: None,
            pull_back: f64::from(soft.pull_back_hz),
        })
    }

    /// Bending stiffness, N m; 0 of a body.
    pub fn bend(&self) -> f64 {
        match self.elastic {
            Elastic::Sheet { bend, .. } => bend,
            Elastic::Body { .. } => 0.0,
        }
    }
}
