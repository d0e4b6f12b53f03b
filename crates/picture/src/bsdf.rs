//! Looks as scattering functions.
//!
//! Microfacets with the GGX distribution and height-correlated Smith masking
//! (B. Walter et al., *Microfacet models for refraction through rough
//! surfaces*, 2007; E. Heitz, *Understanding the masking-shadowing function*,
//! 2014). Light that single scattering loses is given back by scaling with the
//! tabulated directional albedo (E. Turquin, *Practical multiple scattering
//! compensation for microfacet models*, 2019), for glass in the same way, and
//! the matt base of a dielectric gets what the coat lets through.
//!
//! Directions are in the surface's frame, z along the normal on the side the
//! view comes from. The factor η² of refracted radiance is left out: it
//! cancels for all light that leaves the glass again.

use glam::Vec3;
use shot::Look;
use std::f32::consts::{FRAC_1_PI, PI, TAU};

/// Roughness² below which a surface is a perfect mirror.
const SMOOTH: f32 = 0.0016;
const TABLE: usize = 64;

/// A look, ready to scatter light.
pub(crate) struct Bsdf {
    metal: f32,
    glass: f32,
    matt: f32,
    alpha: f32,
    refraction: f32,
    pub emission: Vec3,
    /// Directional albedo by cosine: all reflected; dielectric reflection; both
    /// ways through glass, from outside and from inside.
    white: [f32; TABLE + 1],
    coat: [f32; TABLE + 1],
    outside: [f32; TABLE + 1],
    inside: [f32; TABLE + 1],
}

/// A scattered direction.
pub(crate) struct Scatter {
    pub direction: Vec3,
    /// f cos / pdf.
    pub weight: Vec3,
    /// Density of the direction; infinite for a mirror or clear glass.
    pub pdf: f32,
}

impl Bsdf {
    pub fn new(look: &Look) -> Self {
        let metal = look.metalness;
        let glass = (1.0 - metal) * look.transmission;
        let mut bsdf = Self {
            metal,
            glass,
            matt: 1.0 - metal - glass,
            alpha: look.roughness * look.roughness,
            refraction: look.refraction,
            emission: look.emission,
            white: [1.0; TABLE + 1],
            coat: [0.0; TABLE + 1],
            outside: [1.0; TABLE + 1],
            inside: [1.0; TABLE + 1],
        };
        let (alpha, n) = (bsdf.alpha, look.refraction);
        for i in 0..=TABLE {
            let cos = (i as f32 / TABLE as f32).max(1e-3);
            if alpha < SMOOTH {
                bsdf.coat[i] = fresnel(cos, n);
            } else {
                bsdf.white[i] = integrate(cos, alpha, |_| 1.0);
                bsdf.coat[i] = integrate(cos, alpha, |c| fresnel(c, n));
                if glass > 0.0 {
                    bsdf.outside[i] = integrate_glass(cos, alpha, n);
                    bsdf.inside[i] = integrate_glass(cos, alpha, 1.0 / n);
                }
            }
        }
        bsdf
    }

    pub fn is_emissive(&self) -> bool {
        self.emission.max_element() > 0.0
    }

    /// Chances of (specular reflection, matt reflection, glass), for a view at
    /// cosine `cos`.
    fn chances(&self, albedo: Vec3, cos: f32) -> [f32; 3] {
        let coat = look_up(&self.coat, cos);
        let specular = self.metal * (0.2 + 0.8 * albedo.max_element()) + self.matt * coat;
        let matt = self.matt * (1.0 - coat) * (0.1 + 0.9 * albedo.max_element());
        let sum = specular + matt + self.glass;
        [specular / sum, matt / sum, self.glass / sum]
    }

    /// Whether nothing but mirror directions is scattered, so that light
    /// cannot be sampled.
    pub fn is_delta(&self) -> bool {
        self.alpha < SMOOTH && self.matt == 0.0
    }

    /// f · |cos| for light from `light` seen from `view`, and the density with
    /// which [`Bsdf::sample`] gives `light`. Mirror directions are left out.
    pub fn evaluate(&self, albedo: Vec3, view: Vec3, light: Vec3, entering: bool) -> (Vec3, f32) {
        let [specular, matt, glass] = self.chances(albedo, view.z);
        let (mut f, mut pdf) = (Vec3::ZERO, 0.0);
        if light.z > 0.0 {
            if self.matt > 0.0 {
                let let_in = 1.0 - look_up(&self.coat, view.z);
                f += albedo * (self.matt * let_in * light.z * FRAC_1_PI);
                pdf += matt * light.z * FRAC_1_PI;
            }
            if self.alpha >= SMOOTH && specular > 0.0 {
                let half = (view + light).normalize();
                let cos = view.dot(half).max(0.0);
                let d = distribution(half, self.alpha);
                let shape = d * masking(view, light, self.alpha) / (4.0 * view.z);
                f += (self.metal_tint(albedo, view.z, cos) * self.metal
                    + Vec3::splat(self.matt * fresnel(cos, self.refraction)))
                    * shape;
                pdf += specular * d * masking_1(view, self.alpha) / (4.0 * view.z);
            }
        }
        if self.alpha >= SMOOTH && self.glass > 0.0 {
            let (value, density) = self.rough_glass(albedo, view, light, entering);
            f += value * self.glass;
            pdf += glass * density;
        }
        (f, pdf)
    }

    fn metal_tint(&self, albedo: Vec3, cos_view: f32, cos_half: f32) -> Vec3 {
        let schlick = albedo + (Vec3::ONE - albedo) * (1.0 - cos_half).clamp(0.0, 1.0).powi(5);
        let albedo_single = look_up(&self.white, cos_view);
        schlick * (Vec3::ONE + albedo * ((1.0 - albedo_single) / albedo_single))
    }

    fn rough_glass(&self, albedo: Vec3, view: Vec3, light: Vec3, entering: bool) -> (Vec3, f32) {
        let eta = if entering { self.refraction } else { 1.0 / self.refraction };
        let back = if entering { &self.outside } else { &self.inside };
        let gain = 1.0 / look_up(back, view.z);
        if light.z > 0.0 {
            let half = (view + light).normalize();
            let reflected = fresnel(view.dot(half).max(0.0), eta);
            let d = distribution(half, self.alpha);
            let f = gain * reflected * d * masking(view, light, self.alpha) / (4.0 * view.z);
            (Vec3::splat(f), reflected * d * masking_1(view, self.alpha) / (4.0 * view.z))
        } else {
            let mut half = -(view + light * eta);
            if half.z < 0.0 {
                half = -half;
            }
            let half = half.normalize();
            let (vh, lh) = (view.dot(half), light.dot(half));
            if vh <= 0.0 || lh >= 0.0 || eta == 1.0 {
                return (Vec3::ZERO, 0.0);
            }
            let passed = 1.0 - fresnel(vh, eta);
            let d = distribution(half, self.alpha);
            let jacobian = eta * eta * lh.abs() / (vh + eta * lh).powi(2);
            let g = masking(view, Vec3::new(light.x, light.y, -light.z), self.alpha);
            let f = gain * passed * d * g * vh * jacobian / view.z;
            (albedo * f, passed * d * masking_1(view, self.alpha) * vh * jacobian / view.z)
        }
    }

    /// Chooses a direction light may come from.
    pub fn sample(
        &self,
        albedo: Vec3,
        view: Vec3,
        entering: bool,
        u: [f32; 2],
        pick: f32,
    ) -> Option<Scatter> {
        let [specular, matt, glass] = self.chances(albedo, view.z);
        let delta = |direction: Vec3, weight: Vec3| Some(Scatter { direction, weight, pdf: f32::INFINITY });
        let mirror = Vec3::new(-view.x, -view.y, view.z);
        let smooth = self.alpha < SMOOTH;
        let direction = if pick < matt {
            let (sin, cos) = (TAU * u[0]).sin_cos();
            let radius = u[1].sqrt();
            Vec3::new(radius * cos, radius * sin, (1.0 - u[1]).max(0.0).sqrt())
        } else if pick < matt + specular {
            if smooth {
                let metal = self.metal_tint(albedo, view.z, view.z) * self.metal;
                let coat = self.matt * fresnel(view.z, self.refraction);
                return delta(mirror, (metal + Vec3::splat(coat)) / specular);
            }
            let half = visible_normal(view, self.alpha, u);
            above(half * (2.0 * view.dot(half)) - view)?
        } else {
            let eta = if entering { self.refraction } else { 1.0 / self.refraction };
            let rest = (pick - matt - specular) / glass;
            let half = if smooth { Vec3::Z } else { visible_normal(view, self.alpha, u) };
            let cos = view.dot(half);
            let reflected = fresnel(cos, eta);
            let scale = self.glass / glass;
            if rest < reflected {
                if smooth {
                    return delta(mirror, Vec3::splat(scale));
                }
                above(half * (2.0 * cos) - view)?
            } else {
                let through = refract(view, half, cos, eta)?;
                if smooth || eta == 1.0 {
                    return delta(through, albedo * scale);
                }
                Some(through).filter(|direction| direction.z < 0.0)?
            }
        };
        let (f, pdf) = self.evaluate(albedo, view, direction, entering);
        (pdf > 0.0).then(|| Scatter { direction, weight: f / pdf, pdf })
    }
}

/// A reflected direction; none if it goes into the surface. The albedo tables
/// make up for those.
fn above(direction: Vec3) -> Option<Vec3> {
    (direction.z > 0.0).then_some(direction)
}

fn look_up(table: &[f32; TABLE + 1], cos: f32) -> f32 {
    let at = cos.clamp(0.0, 1.0) * TABLE as f32;
    let i = (at as usize).min(TABLE - 1);
    let t = at - i as f32;
    table[i] * (1.0 - t) + table[i + 1] * t
}

/// Unpolarised Fresnel reflectance for light at cosine `cos`, the other side's
/// index over this side's being `eta`.
fn fresnel(cos: f32, eta: f32) -> f32 {
    let sin2 = (1.0 - cos * cos).max(0.0) / (eta * eta);
    if sin2 >= 1.0 {
        return 1.0;
    }
    let other = (1.0 - sin2).sqrt();
    let s = (cos - eta * other) / (cos + eta * other);
    let p = (eta * cos - other) / (eta * cos + other);
    0.5 * (s * s + p * p)
}

fn refract(view: Vec3, half: Vec3, cos: f32, eta: f32) -> Option<Vec3> {
    let sin2 = (1.0 - cos * cos).max(0.0) / (eta * eta);
    (sin2 < 1.0).then(|| (half * (cos / eta - (1.0 - sin2).sqrt()) - view / eta).normalize())
}

/// GGX density of microfacet normals.
fn distribution(half: Vec3, alpha: f32) -> f32 {
    let a2 = alpha * alpha;
    let t = half.z * half.z * (a2 - 1.0) + 1.0;
    a2 / (PI * t * t)
}

fn lambda(v: Vec3, alpha: f32) -> f32 {
    let tan2 = (1.0 - v.z * v.z).max(0.0) / (v.z * v.z).max(1e-12);
    0.5 * ((1.0 + alpha * alpha * tan2).sqrt() - 1.0)
}

fn masking_1(v: Vec3, alpha: f32) -> f32 {
    1.0 / (1.0 + lambda(v, alpha))
}

fn masking(v: Vec3, l: Vec3, alpha: f32) -> f32 {
    1.0 / (1.0 + lambda(v, alpha) + lambda(l, alpha))
}

/// A normal visible from `view` (J. Dupuy and A. Benyoub, *Sampling visible
/// GGX normals with spherical caps*, 2023).
fn visible_normal(view: Vec3, alpha: f32, u: [f32; 2]) -> Vec3 {
    let v = Vec3::new(view.x * alpha, view.y * alpha, view.z).normalize();
    let z = (1.0 - u[1]) * (1.0 + v.z) - v.z;
    let sin = (1.0 - z * z).clamp(0.0, 1.0).sqrt();
    let (s, c) = (TAU * u[0]).sin_cos();
    let h = Vec3::new(sin * c, sin * s, z) + v;
    Vec3::new(h.x * alpha, h.y * alpha, h.z.max(1e-7)).normalize()
}

const SIDE: usize = 64;

/// Mean of `value` over stratified visible normals at cosine `cos`.
fn over_normals(cos: f32, alpha: f32, value: impl Fn(Vec3, Vec3) -> f32) -> f32 {
    let view = Vec3::new((1.0 - cos * cos).max(0.0).sqrt(), 0.0, cos);
    let mut sum = 0.0;
    for i in 0..SIDE * SIDE {
        let u = [(i % SIDE) as f32 + 0.5, (i / SIDE) as f32 + 0.5].map(|v| v / SIDE as f32);
        sum += value(view, visible_normal(view, alpha, u));
    }
    sum / (SIDE * SIDE) as f32
}

/// Directional albedo of microfacets that reflect `f(cos)`.
fn integrate(cos: f32, alpha: f32, f: impl Fn(f32) -> f32) -> f32 {
    over_normals(cos, alpha, |view, half| {
        let light = half * (2.0 * view.dot(half)) - view;
        if light.z <= 0.0 {
            return 0.0;
        }
        f(view.dot(half)) * masking(view, light, alpha) / masking_1(view, alpha)
    })
}

/// Directional albedo of rough glass, both ways.
fn integrate_glass(cos: f32, alpha: f32, eta: f32) -> f32 {
    over_normals(cos, alpha, |view, half| {
        let c = view.dot(half);
        let reflected = fresnel(c, eta);
        let mut sum = 0.0;
        let light = half * (2.0 * c) - view;
        if light.z > 0.0 {
            sum += reflected * masking(view, light, alpha) / masking_1(view, alpha);
        }
        if let Some(light) = refract(view, half, c, eta).filter(|light| light.z < 0.0) {
            let below = Vec3::new(light.x, light.y, -light.z);
            sum += (1.0 - reflected) * masking(view, below, alpha) / masking_1(view, alpha);
        }
        sum
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;
    use rstest::rstest;

    fn look(roughness: f32, metalness: f32, transmission: f32) -> Look {
        Look { albedo: Vec3::ONE, roughness, metalness, transmission, ..Look::default() }
    }

    #[rstest]
    fn a_white_look_returns_all_light(
        #[values(0.0, 0.1, 0.3, 0.6, 1.0)] roughness: f32,
        #[values((0.0, 0.0), (1.0, 0.0), (0.0, 1.0), (0.5, 0.5))] kind: (f32, f32),
        #[values(0.1, 0.5, 0.95)] cos: f32,
        #[values(true, false)] entering: bool,
    ) {
        let bsdf = Bsdf::new(&look(roughness, kind.0, kind.1));
        let view = Vec3::new((1.0f32 - cos * cos).sqrt(), 0.0, cos);
        let n = 1 << 15;
        let sum: f32 = (0..n)
            .filter_map(|i| {
                let mut s = Sampler::new(1, 1, i);
                bsdf.sample(Vec3::ONE, view, entering, s.pair(), s.one()).map(|x| x.weight.x)
            })
            .sum();
        let albedo = sum / n as f32;
        assert!((albedo - 1.0).abs() < 0.01, "{albedo}");
    }

    #[rstest]
    fn the_density_is_that_of_the_samples(
        #[values(0.2, 0.5, 0.9)] roughness: f32,
        #[values((0.0, 0.0), (1.0, 0.0), (0.0, 1.0))] kind: (f32, f32),
    ) {
        // The integral of the density over the sphere is the share of samples
        // that scatter at all, at most 1.
        let bsdf = Bsdf::new(&look(roughness, kind.0, kind.1));
        let view = Vec3::new(0.6, 0.0, 0.8);
        let n = 1 << 18;
        let mean: f32 = (0..n)
            .map(|i| {
                let [a, b] = Sampler::new(3, 1, i).pair();
                let z = 1.0 - 2.0 * a;
                let (s, c) = (TAU * b).sin_cos();
                let r = (1.0 - z * z).max(0.0).sqrt();
                bsdf.evaluate(Vec3::ONE, view, Vec3::new(r * c, r * s, z), true).1
            })
            .sum::<f32>()
            / n as f32;
        let scattered = (0..4096)
            .filter(|&i| {
                let mut s = Sampler::new(5, 1, i);
                bsdf.sample(Vec3::ONE, view, true, s.pair(), s.one()).is_some()
            })
            .count() as f32
            / 4096.0;
        let integral = mean * 4.0 * PI;
        assert!(integral <= 1.02 && integral >= 0.85 * scattered, "{integral} against {scattered}");
    }
}
