//! Microfacets: the GGX distribution of normals, its height-correlated Smith
//! masking, Fresnel reflectance and refraction.

use glam::Vec3;
use std::f32::consts::{PI, TAU};

/// Schlick's Fresnel reflectance of a metal.
pub fn schlick(albedo: Vec3, cos: f32) -> Vec3 {
    albedo + (Vec3::ONE - albedo) * (1.0 - cos).clamp(0.0, 1.0).powi(5)
}

/// Unpolarised Fresnel reflectance for light at cosine `cos`, the other side's
/// index over this side's being `eta`.
pub fn fresnel(cos: f32, eta: f32) -> f32 {
    let sin2 = (1.0 - cos * cos).max(0.0) / (eta * eta);
    if sin2 >= 1.0 {
        return 1.0;
    }
    let other = (1.0 - sin2).sqrt();
    let s = (cos - eta * other) / (cos + eta * other);
    let p = (eta * cos - other) / (eta * cos + other);
    0.5 * (s * s + p * p)
}

pub fn refract(view: Vec3, half: Vec3, cos: f32, eta: f32) -> Option<Vec3> {
    let sin2 = (1.0 - cos * cos).max(0.0) / (eta * eta);
    (sin2 < 1.0).then(|| (half * (cos / eta - (1.0 - sin2).sqrt()) - view / eta).normalize())
}

/// GGX density of microfacet normals.
pub fn distribution(half: Vec3, alpha: f32) -> f32 {
    let a2 = alpha * alpha;
    let t = half.z * half.z * (a2 - 1.0) + 1.0;
    a2 / (PI * t * t)
}

pub fn lambda(v: Vec3, alpha: f32) -> f32 {
    let tan2 = (1.0 - v.z * v.z).max(0.0) / (v.z * v.z).max(1e-12);
    0.5 * ((1.0 + alpha * alpha * tan2).sqrt() - 1.0)
}

pub fn masking_1(v: Vec3, alpha: f32) -> f32 {
    1.0 / (1.0 + lambda(v, alpha))
}

pub fn masking(v: Vec3, l: Vec3, alpha: f32) -> f32 {
    1.0 / (1.0 + lambda(v, alpha) + lambda(l, alpha))
}

/// A normal visible from `view` (J. Dupuy and A. Benyoub, *Sampling visible
/// GGX normals with spherical caps*, 2023).
pub fn visible_normal(view: Vec3, alpha: f32, u: [f32; 2]) -> Vec3 {
    let v = Vec3::new(view.x * alpha, view.y * alpha, view.z).normalize();
    let z = (1.0 - u[1]) * (1.0 + v.z) - v.z;
    let sin = (1.0 - z * z).clamp(0.0, 1.0).sqrt();
    let (s, c) = (TAU * u[0]).sin_cos();
    let h = Vec3::new(sin * c, sin * s, z) + v;
    Vec3::new(h.x * alpha, h.y * alpha, h.z.max(1e-7)).normalize()
}
