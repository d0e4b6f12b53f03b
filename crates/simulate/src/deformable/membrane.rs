//! Stretch and shear of a sheet: linear triangles of an orthotropic St. Venant–Kirchhoff membrane.
//!
//! With the deformation gradient F (3 × 2) of a triangle, whose columns f₁ and f₂ are where the warp
//! and the weft of the cloth go, the strain is ε = ½ (FᵀF − 1), the stress σ = C ε, and the energy
//! ½ A σ : ε. Damping is of Kelvin and Voigt: σ = C (ε + τ dε/dt).

use glam::{DMat2, DVec2, DVec3, Mat3A, Vec2, Vec3, Vec3A};

/// Elastic moduli of a sheet: force per length, N/m.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Moduli {
    /// Stretch along the warp, and what stretch along the weft adds to its stress.
    pub c11: f64,
    pub c12: f64,
    /// Stretch along the weft.
    pub c22: f64,
    /// Shear.
    pub g: f64,
    /// Strain along warp or weft beyond which it is [`STIFFENS`] times as stiff.
    pub limit: f64,
}

/// Factor of the stiffness beyond the limit of strain.
const STIFFENS: f64 = 30.0;

impl Moduli {
    /// Of the stiffness E t along warp and weft, N/m, and the Poisson ratio of their geometric mean.
    pub fn new(warp_n_m: f64, weft_n_m: f64, shear_n_m: f64, poisson_ratio: f64) -> Self {
        let scale = 1.0 / (1.0 - poisson_ratio * poisson_ratio);
        let across = poisson_ratio * (warp_n_m * weft_n_m).sqrt();
        Self {
            c11: warp_n_m * scale,
            c12: across * scale,
            c22: weft_n_m * scale,
            g: shear_n_m,
            limit: f64::INFINITY,
        }
    }

    /// With a limit of stretch, a part of the length at rest.
    pub fn limited(self, stretch: Option<f64>) -> Self {
        // Green's strain.
        Self { limit: stretch.map_or(f64::INFINITY, |e| e + 0.5 * e * e), ..self }
    }

    /// Times factors of warp, weft and shear.
    pub fn scaled(&self, [warp, weft, shear]: [f64; 3]) -> Self {
        let across = (warp * weft).sqrt();
        let Self { c11, c12, c22, g, limit } = *self;
        Self { c11: c11 * warp, c12: c12 * across, c22: c22 * weft, g: g * shear, limit }
    }

    /// Stiffness beyond the limit along warp and weft, and the stress of it.
    fn beyond(&self, strain: DVec3) -> [(f64, f64); 2] {
        [(self.c11, strain.x), (self.c22, strain.y)].map(|(c, strain)| {
            let off = strain - self.limit;
            if off > 0.0 { (STIFFENS * c, STIFFENS * c * off) } else { (0.0, 0.0) }
        })
    }

    fn stress(&self, strain: DVec3) -> DVec3 {
        DVec3::new(
            self.c11 * strain.x + self.c12 * strain.y,
            self.c12 * strain.x + self.c22 * strain.y,
            self.g * strain.z,
        )
    }
}

/// A triangle at rest.
#[derive(Clone, Copy, Debug)]
pub(super) struct Triangle {
    /// Its points.
    pub points: [u32; 3],
    /// Area, m².
    pub area: f64,
    /// Gradients of the three linear shape functions along warp and weft, 1/m.
    pub gradients: [DVec2; 3],
}

impl Triangle {
    /// The same triangle of a body that is so many times as large.
    pub fn of_size(&self, by: f64) -> Self {
        Self { area: self.area * by * by, gradients: self.gradients.map(|g| g / by), ..*self }
    }

    /// Of positions at rest, with the direction of the warp in space; none if it has no area.
    pub fn new(points: [u32; 3], rest: [DVec3; 3], warp: DVec3) -> Option<Self> {
        let [a, b, c] = rest;
        let across = (b - a).cross(c - a);
        let normal = across.try_normalize()?;
        let first = warp.reject_from_normalized(normal).try_normalize();
        let first = first.or_else(|| (b - a).try_normalize())?;
        let second = normal.cross(first);
        let flat = |p: DVec3| DVec2::new((p - a).dot(first), (p - a).dot(second));
        let edges = DMat2::from_cols(flat(b), flat(c));
        let area = 0.5 * edges.determinant();
        if area <= 0.0 || area.is_nan() {
            return None;
        }
        let inverse = edges.inverse().transpose();
        let (gb, gc) = (inverse.x_axis, inverse.y_axis);
        Some(Self { points, area, gradients: [-gb - gc, gb, gc] })
    }

    /// Where its points lie at rest, along warp and weft from the first, m.
    pub fn flat(&self) -> [DVec2; 3] {
        // The gradients are the rows of the inverse of its edges.
        let [_, gb, gc] = self.gradients;
        let edges = DMat2::from_cols(gb, gc).transpose().inverse();
        [DVec2::ZERO, edges.x_axis, edges.y_axis]
    }

    /// The same triangle with lengths at rest scaled.
    pub fn scaled(&self, length: f64) -> Self {
        let gradients = self.gradients.map(|g| g / length);
        Self { points: self.points, area: self.area * length * length, gradients }
    }

    /// The columns of the deformation gradient.
    #[inline]
    pub fn deformation(&self, x: &[DVec3]) -> (DVec3, DVec3) {
        let [a, b, c] = self.points.map(|p| x[p as usize]);
        let (ab, ac) = (b - a, c - a);
        let [_, gb, gc] = self.gradients;
        (ab * gb.x + ac * gc.x, ab * gb.y + ac * gc.y)
    }

    /// Strain: along the warp, along the weft, and the angle by which they shear.
    #[inline]
    pub fn strain(&self, x: &[DVec3]) -> DVec3 {
        let (f1, f2) = self.deformation(x);
        DVec3::new(0.5 * (f1.length_squared() - 1.0), 0.5 * (f2.length_squared() - 1.0), f1.dot(f2))
    }

    #[cfg(test)]
    /// Energy, J, with that of the damping over the step: `rate` is τ / Δt, `before` the strain
    /// at the step's start.
    pub fn energy(&self, moduli: &Moduli, x: &[DVec3], rate: f64, before: DVec3) -> f64 {
        let strain = self.strain(x);
        let change = strain - before;
        let beyond: f64 = moduli
            .beyond(strain)
            .iter()
            .map(|(c, stress)| if *c > 0.0 { stress * stress / c } else { 0.0 })
            .sum();
        let elastic = moduli.stress(strain).dot(strain) + beyond;
        0.5 * self.area * (elastic + rate * moduli.stress(change).dot(change))
    }

    /// The gradient of the energy for each point, and what its second derivatives depend on.
    #[inline]
    pub fn derivatives(
        &self,
        moduli: &Moduli,
        x: &[DVec3],
        rate: f64,
        before: DVec3,
    ) -> ([DVec3; 3], Stiffness) {
        let (f1, f2) = self.deformation(x);
        let strain =
            DVec3::new(0.5 * (f1.length_squared() - 1.0), 0.5 * (f2.length_squared() - 1.0), f1.dot(f2));
        let beyond = moduli.beyond(strain);
        let limited = DVec3::new(beyond[0].1, beyond[1].1, 0.0);
        let stress = (moduli.stress(strain + (strain - before) * rate) + limited) * self.area;
        let gradient = self
            .gradients
            .map(|g| f1 * (stress.x * g.x + stress.z * g.y) + f2 * (stress.y * g.y + stress.z * g.x));
        let scale = self.area * (1.0 + rate);
        let stiffened = [beyond[0].0, 0.0, beyond[1].0, 0.0].map(|c| c * self.area);
        let moduli = [moduli.c11, moduli.c12, moduli.c22, moduli.g];
        let moduli = std::array::from_fn(|i| (moduli[i] * scale + stiffened[i]) as f32);
        let gradients = self.gradients.map(|g| g.as_vec2());
        let (f1, f2) = (f1.as_vec3a(), f2.as_vec3a());
        (gradient, Stiffness { f1, f2, moduli, tension: tension(stress), gradients })
    }
}

/// The second derivatives of the energy of a triangle.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Stiffness {
    f1: Vec3A,
    f2: Vec3A,
    /// Moduli times the area.
    moduli: [f32; 4],
    /// The stress times the area, where it pulls.
    tension: Vec3,
    gradients: [Vec2; 3],
}

impl Stiffness {
    /// Those by two corners; where pressure would make the whole indefinite the pressure is left out.
    #[inline]
    pub fn block(&self, a: usize, b: usize) -> Mat3A {
        let (p, q) = (self.gradients[a], self.gradients[b]);
        let [c11, c12, c22, g] = self.moduli;
        let (xx, xy, yx, yy) = (p.x * q.x, p.x * q.y, p.y * q.x, p.y * q.y);
        let t = self.tension;
        let geometric = t.x * xx + t.z * (xy + yx) + t.y * yy;
        // f₁ uᵀ + f₂ vᵀ.
        let u = self.f1 * (c11 * xx + g * yy) + self.f2 * (c12 * xy + g * yx);
        let v = self.f1 * (c12 * yx + g * xy) + self.f2 * (c22 * yy + g * xx);
        Mat3A::from_cols(
            self.f1 * u.x + self.f2 * v.x + Vec3A::new(geometric, 0.0, 0.0),
            self.f1 * u.y + self.f2 * v.y + Vec3A::new(0.0, geometric, 0.0),
            self.f1 * u.z + self.f2 * v.z + Vec3A::new(0.0, 0.0, geometric),
        )
    }
}

/// The part of a plane stress that pulls: its eigenvalues below 0 are left out.
fn tension(stress: DVec3) -> Vec3 {
    let mean = 0.5 * (stress.x + stress.y);
    let half = 0.5 * (stress.x - stress.y);
    let radius = (half * half + stress.z * stress.z).sqrt();
    let (high, low) = (mean + radius, mean - radius);
    let kept = if low >= 0.0 {
        stress
    } else if high <= 0.0 {
        DVec3::ZERO
    } else {
        // high n nᵀ, with n nᵀ = ½ (1 + S / r) for the deviator S.
        let (cos, sin) = (half / radius, stress.z / radius);
        DVec3::new(0.5 * (1.0 + cos), 0.5 * (1.0 - cos), 0.5 * sin) * high
    };
    kept.as_vec3()
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DQuat;

    const MODULI: Moduli = Moduli { c11: 900.0, c12: 120.0, c22: 500.0, g: 200.0, limit: 0.01 };

    fn triangle() -> (Triangle, Vec<DVec3>) {
        let rest = [DVec3::new(0.1, 0.0, 0.2), DVec3::new(0.5, 0.1, 0.1), DVec3::new(0.2, 0.0, 0.7)];
        let triangle = Triangle::new([0, 1, 2], rest, DVec3::X).unwrap();
        let turn = DQuat::from_euler(glam::EulerRot::XYZ, 0.3, -1.1, 2.0);
        let x = rest.iter().enumerate().map(|(i, p)| {
            let shift = DVec3::new(0.02, -0.03, 0.01) * (i as f64 - 0.7);
            turn * (*p * 1.05 + shift) + DVec3::new(3.0, 1.0, -2.0)
        });
        (triangle, x.collect())
    }

    #[test]
    fn a_turned_and_moved_triangle_has_no_strain() {
        let (triangle, _) = triangle();
        let rest = [DVec3::new(0.1, 0.0, 0.2), DVec3::new(0.5, 0.1, 0.1), DVec3::new(0.2, 0.0, 0.7)];
        let turn = DQuat::from_euler(glam::EulerRot::XYZ, 1.3, 0.4, -0.8);
        let x: Vec<DVec3> = rest.iter().map(|p| turn * *p + DVec3::new(900.0, -4.0, 7.0)).collect();
        assert!(triangle.strain(&x).length() < 1e-12);
    }

    #[test]
    fn the_gradient_is_that_of_the_energy() {
        let (triangle, x) = triangle();
        let before = DVec3::new(0.01, 0.02, -0.01);
        let (gradient, _) = triangle.derivatives(&MODULI, &x, 0.4, before);
        for (point, gradient) in gradient.iter().enumerate() {
            for axis in 0..3 {
                let at = |step: f64| {
                    let mut x = x.clone();
                    x[point][axis] += step;
                    triangle.energy(&MODULI, &x, 0.4, before)
                };
                let difference = (at(1e-6) - at(-1e-6)) / 2e-6;
                assert!((difference - gradient[axis]).abs() < 1e-6 * (1.0 + difference.abs()));
            }
        }
    }

    #[test]
    fn second_derivatives_are_those_of_the_gradient_where_it_pulls() {
        let (triangle, mut x) = triangle();
        let middle = (x[0] + x[1] + x[2]) / 3.0;
        x.iter_mut().for_each(|p| *p = middle + (*p - middle) * 1.2);
        let (_, stiffness) = triangle.derivatives(&MODULI, &x, 0.0, DVec3::ZERO);
        for (a, b) in [(0, 0), (1, 1), (2, 2), (0, 1), (1, 2), (2, 0), (0, 2)] {
            for axis in 0..3 {
                let gradient = |step: f64| {
                    let mut x = x.clone();
                    x[b][axis] += step;
                    triangle.derivatives(&MODULI, &x, 0.0, DVec3::ZERO).0[a]
                };
                let column = (gradient(1e-6) - gradient(-1e-6)) / 2e-6;
                let off = column.as_vec3a() - stiffness.block(a, b).col(axis);
                assert!(off.length() < 1e-2, "{a} {b} {axis}: {off}");
            }
        }
    }

    #[test]
    fn pressure_is_left_out_of_the_second_derivatives() {
        let (triangle, mut x) = triangle();
        let middle = (x[0] + x[1] + x[2]) / 3.0;
        x.iter_mut().for_each(|p| *p = middle + (*p - middle) * 0.6);
        let (_, stiffness) = triangle.derivatives(&MODULI, &x, 0.0, DVec3::ZERO);
        let whole = |v: [Vec3A; 3]| {
            let of = |a: usize| (0..3).map(|b| (stiffness.block(a, b) * v[b]).dot(v[a])).sum::<f32>();
            (0..3).map(of).sum::<f32>()
        };
        for seed in 0..200 {
            let of = |i: i32| (seed as f32 * 1.7 + i as f32 * 2.3).sin();
            let v = [0, 3, 6].map(|i| Vec3A::new(of(i), of(i + 1), of(i + 2)));
            assert!(whole(v) > -1e-3);
        }
    }
}
