//! Stress of a liquid that is elastic up to a yield stress: what each particle carries, and how it changes.
//!
//! Particles carry the left Cauchy–Green tensor b of the elastic part of their deformation, with the stress G dev b. Over a step b
//! goes with the flow, F b Fᵀ, and what of the stress lies above the yield stress falls by exp(−Δt / λ), while b goes towards the
//! identity by as much: without a yield stress the model of J. Oldroyd, *On the formulation of rheological equations of state*, 1950,
//! with one that of P. Saramito, *A new constitutive equation for elastoviscoplastic fluid flows*, 2007, of which λ = 0 is a radial
//! return as in Y. Yue et al., *Continuum foam*, 2015. Half of the fall comes before the flow and half after, so that it is of second
//! order.

use glam::{Mat3, Vec3};
use rayon::prelude::*;

/// A symmetric tensor: xx, yy, zz, xy, xz, yz.
pub type Symmetric = [f32; 6];

/// The tensor of what is not deformed.
pub const RELAXED: Symmetric = [1.0, 1.0, 1.0, 0.0, 0.0, 0.0];

/// Most Δt |∇u| of a step: more than that is a splash, of which the rest is left out.
const MAX_DEFORMATION: f32 = 1.0;
/// Greatest elastic stress, in stiffnesses.
const MAX_STRETCH: f32 = 200.0;
/// Least determinant of the deformation of a step before it is made 1, and the greatest.
const DETERMINANTS: (f32, f32) = (0.05, 20.0);
/// A stress so near the yield stress, as a part of it, is there because it yields.
const YIELDING: f32 = 0.999;

/// How a particle resists deformation.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Rheology {
    /// Viscosity beside the elastic stress, Pa s.
    pub viscosity_pa_s: f32,
    /// Shear modulus G, Pa; 0: it is not elastic.
    pub stiffness_pa: f32,
    /// Time λ in which stress above the yield stress falls to 1/e, s.
    pub relaxation_time_s: f32,
    /// Shear stress up to which it does not flow, Pa.
    pub yield_stress_pa: f32,
}

/// How the particles of a liquid resist deformation.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Rheologies<'a> {
    /// All alike.
    Same(Rheology),
    /// One by one.
    Each(&'a [Rheology]),
}

impl Rheologies<'_> {
    /// That of a particle.
    #[inline(always)]
    pub fn of(&self, particle: usize) -> Rheology {
        match self {
            Self::Same(rheology) => *rheology,
            Self::Each(all) => all[particle],
        }
    }
}

/// The elastic stress of a step, and what resists further deformation in it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Resistance {
    /// The mean elastic stress over the step if the particle did not move, Pa.
    pub stress: Symmetric,
    /// Viscosity with that of the elastic stress that grows in the step, Pa s.
    pub viscosity_pa_s: f32,
}

impl Rheology {
    /// The stress over a step; of the stress that grows in the step so much counts as `implicit` says, 0–1, but all of it where
    /// it falls again within the step.
    pub(super) fn resistance(&self, b: &Symmetric, dt: f32, implicit: f32) -> Resistance {
        let deviator = deviator(b);
        let shear = self.stiffness_pa * shear_norm(&deviator);
        let (mut mean, mut growing) = (1.0, self.stiffness_pa * implicit * dt);
        if shear > YIELDING * self.yield_stress_pa {
            // The mean of exp(−t / λ) over the step, and the integral of what has grown by then.
            let steps = dt / self.relaxation_time_s.max(1e-9 * dt);
            let end = decay(steps);
            let (held, grown) = if steps < 1e-2 {
                (1.0 - 0.5 * steps, 0.5 * dt)
            } else {
                let held = (1.0 - end) / steps;
                (held, self.relaxation_time_s * (1.0 - held))
            };
            let kept = self.yield_stress_pa.min(shear);
            mean = if shear > 0.0 { (kept + (shear - kept) * held) / shear } else { 1.0 };
            growing = self.stiffness_pa * grown * (1.0 - (1.0 - 2.0 * implicit) * end);
        }
        Resistance {
            stress: deviator.map(|value| value * self.stiffness_pa * mean),
            viscosity_pa_s: self.viscosity_pa_s + growing,
        }
    }

    /// What b is after half of a step in which stress above the yield stress falls.
    fn relax(&self, b: &Symmetric, half_dt: f32) -> Symmetric {
        let own = deviator(b);
        let strain = shear_norm(&own);
        if strain <= 0.0 {
            return RELAXED;
        }
        let held = if self.stiffness_pa > 0.0 { self.yield_stress_pa / self.stiffness_pa } else { 0.0 };
        let kept = held.min(strain);
        let part = decay(half_dt / self.relaxation_time_s.max(1e-9 * half_dt));
        let new = (kept + (strain - kept) * part).min(MAX_STRETCH);
        let part = new / strain;
        std::array::from_fn(|i| RELAXED[i] + part * (b[i] - RELAXED[i]))
    }

    /// What b is after a step in a flow with the gradient `gradient`, 1/s.
    fn advance(&self, b: &Symmetric, gradient: &Mat3, dt: f32) -> Symmetric {
        let mut step = *gradient * dt;
        let size =
            (step.x_axis.length_squared() + step.y_axis.length_squared() + step.z_axis.length_squared())
                .sqrt();
        if size > MAX_DEFORMATION {
            step *= MAX_DEFORMATION / size;
        }
        // The transform of Cayley: a rotation stays one.
        let f = (Mat3::IDENTITY - 0.5 * step).inverse() * (Mat3::IDENTITY + 0.5 * step);
        let f = f * inverse_cube_root(f.determinant().clamp(DETERMINANTS.0, DETERMINANTS.1));
        let moved = f * matrix(&self.relax(b, 0.5 * dt)) * f.transpose();
        let moved =
            [moved.x_axis.x, moved.y_axis.y, moved.z_axis.z, moved.y_axis.x, moved.z_axis.x, moved.z_axis.y];
        let new = self.relax(&moved, 0.5 * dt);
        if new.iter().all(|value| value.is_finite()) { new } else { RELAXED }
    }
}

/// Lets the elastic deformation of the particles go with the flow for a step, by their rates of strain, 1/s, and the rotation in the
/// gradients of their velocities.
pub(super) fn advance(
    deformations: &mut [Symmetric],
    rheologies: &Rheologies,
    gradients: &[Mat3],
    rates: impl Fn(usize) -> Symmetric + Sync,
    dt: f32,
) {
    let all = deformations.par_iter_mut().zip(gradients).enumerate().with_min_len(1_024);
    all.for_each(|(i, (b, gradient))| {
        let gradient = 0.5 * (*gradient - gradient.transpose()) + matrix(&rates(i));
        *b = rheologies.of(i).advance(b, &gradient, dt);
    });
}

/// exp(−x) for x ≥ 0 by basic operations, so that it is the same everywhere: to 1e-4, and to 1e-6 below 1.
fn decay(x: f32) -> f32 {
    if x > 30.0 {
        return 0.0;
    }
    let y = x / 64.0;
    let mut power = 1.0 - y * (1.0 - 0.5 * y * (1.0 - y / 3.0 * (1.0 - 0.25 * y)));
    (0..6).for_each(|_| power *= power);
    power
}

fn deviator(b: &Symmetric) -> Symmetric {
    let mean = (b[0] + b[1] + b[2]) / 3.0;
    [b[0] - mean, b[1] - mean, b[2] - mean, b[3], b[4], b[5]]
}

/// The size of a tensor without trace, as the shear that has it.
fn shear_norm(d: &Symmetric) -> f32 {
    (0.5 * (d[0] * d[0] + d[1] * d[1] + d[2] * d[2]) + d[3] * d[3] + d[4] * d[4] + d[5] * d[5]).sqrt()
}

fn matrix(b: &Symmetric) -> Mat3 {
    let [xx, yy, zz, xy, xz, yz] = *b;
    Mat3::from_cols(Vec3::new(xx, xy, xz), Vec3::new(xy, yy, yz), Vec3::new(xz, yz, zz))
}

/// x^(−1/3) by Newton's method.
fn inverse_cube_root(x: f32) -> f32 {
    let mut root = if x > 1.0 { 1.0 / x } else { 1.0 };
    for _ in 0..16 {
        let product = x * root * root * root;
        root *= (4.0 - product) / 3.0;
        if (product - 1.0).abs() < 1e-4 {
            break;
        }
    }
    root
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shear(rate: f32) -> Mat3 {
        Mat3::from_cols(Vec3::ZERO, Vec3::X * rate, Vec3::ZERO)
    }

    #[test]
    fn a_step_keeps_the_determinant_and_a_rotation_the_stress() {
        let gel = Rheology { stiffness_pa: 100.0, relaxation_time_s: 1e6, ..Rheology::default() };
        let mut b = RELAXED;
        let gradient = Mat3::from_cols_array(&[0.3, -1.0, 0.4, 2.0, -0.6, 0.1, 0.2, -0.3, 0.3]);
        (0..50).for_each(|_| b = gel.advance(&b, &gradient, 0.01));
        let determinant = matrix(&b).determinant();
        assert!((determinant - 1.0).abs() < 1e-3, "{determinant}");
        let before = shear_norm(&deviator(&b));
        let spin = Mat3::from_cols(Vec3::Y * 7.0, Vec3::X * -7.0, Vec3::ZERO);
        (0..1_000).for_each(|_| b = gel.advance(&b, &spin, 0.01));
        assert!((shear_norm(&deviator(&b)) / before - 1.0).abs() < 1e-2);
    }

    #[test]
    fn steady_shear_has_the_stress_of_maxwell_at_any_step() {
        for (rate, relaxation_time_s, dt) in
            [(0.5, 0.3, 0.01), (2.0, 0.1, 0.02), (1.0, 0.2, 0.1), (10.0, 0.2, 0.02)]
        {
            let gel = Rheology { stiffness_pa: 50.0, relaxation_time_s, ..Rheology::default() };
            let mut b = RELAXED;
            (0..(10.0 * relaxation_time_s / dt) as u32).for_each(|_| b = gel.advance(&b, &shear(rate), dt));
            let resistance = gel.resistance(&b, dt, 0.5);
            let stress = resistance.stress[3] + resistance.viscosity_pa_s * rate;
            let exact = 50.0 * relaxation_time_s * rate;
            assert!((stress / exact - 1.0).abs() < 0.02, "{stress} of {exact} at {dt}");
        }
    }

    #[test]
    fn a_stress_falls_to_what_is_held_and_no_further() {
        let relaxation_time_s = 0.25;
        let dough =
            Rheology { stiffness_pa: 200.0, relaxation_time_s, yield_stress_pa: 30.0, ..Rheology::default() };
        let mut b = RELAXED;
        // A shear of 0.5, at once.
        (0..50).for_each(|_| b = dough.advance(&b, &shear(500.0), 2e-5));
        let shear_stress = |b: &Symmetric| 200.0 * shear_norm(&deviator(b));
        let first = shear_stress(&b);
        (0..50).for_each(|_| b = dough.advance(&b, &Mat3::ZERO, 0.005));
        let exact = 30.0 + (first - 30.0) * (-1.0f32).exp();
        assert!((shear_stress(&b) / exact - 1.0).abs() < 0.01, "{} of {exact}", shear_stress(&b));
        (0..5_000).for_each(|_| b = dough.advance(&b, &Mat3::ZERO, 0.005));
        assert!((shear_stress(&b) / 30.0 - 1.0).abs() < 0.01);
        let cream = Rheology { relaxation_time_s: 0.0, ..dough };
        b = cream.advance(&b, &shear(3.0), 0.1);
        assert!((shear_stress(&b) / 30.0 - 1.0).abs() < 1e-3);
        assert_eq!(cream.resistance(&b, 0.1, 0.5).viscosity_pa_s, 0.0);
    }

    #[test]
    fn no_deformation_ends_in_a_value_that_is_none() {
        let gel = Rheology { stiffness_pa: 1e5, relaxation_time_s: 1e4, ..Rheology::default() };
        for gradient in [f32::NAN, 1e30, -1e30, 400.0] {
            let mut b = [1.0, 3.0, 0.5, 0.2, 0.0, 0.1];
            for _ in 0..200 {
                b = gel.advance(&b, &Mat3::from_diagonal(Vec3::new(gradient, -gradient, 0.0)), 0.02);
                let Resistance { stress, viscosity_pa_s } = gel.resistance(&b, 0.02, 0.5);
                assert!(stress.iter().all(|value| value.is_finite()) && viscosity_pa_s.is_finite());
            }
        }
    }

    #[test]
    fn roots_and_decay_are_those_of_analysis() {
        for x in [0.05f32, 0.3, 1.0, 1.7, 9.0, 20.0] {
            assert!((inverse_cube_root(x) / x.powf(-1.0 / 3.0) - 1.0).abs() < 1e-5, "{x}");
        }
        for x in [0.0f32, 1e-3, 0.5, 2.0, 7.0, 29.0] {
            assert!((decay(x) - (-x).exp()).abs() < 1e-5, "{x}: {}", decay(x));
        }
    }
}
