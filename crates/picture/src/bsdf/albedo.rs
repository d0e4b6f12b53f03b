//! Directional albedos of single scattering, tabulated by the cosine of the view.

use super::microfacet::{fresnel, masking, masking_1, refract, visible_normal};
use glam::Vec3;

/// Intervals of a table.
pub const TABLE: usize = 64;

pub type Table = [f32; TABLE + 1];

/// Directional albedo of single scattering, by cosine of the view.
pub struct Albedo {
    /// Fraction that comes off again.
    pub single: Table,
    /// Fraction of sampled facets that send light the wrong way.
    pub astray: Table,
}

impl Albedo {
    pub const ALL: Self = Self { single: [1.0; TABLE + 1], astray: [0.0; TABLE + 1] };

    /// Fraction of light that single scattering loses.
    pub fn lost(&self, cos: f32) -> f32 {
        (1.0 - look_up(&self.single, cos)).max(0.0)
    }

    /// Chance of choosing even scattering outright: as much as is lost beyond
    /// what goes astray, so that no sample weighs much more than another.
    pub fn outright(&self, cos: f32) -> f32 {
        (self.lost(cos) - look_up(&self.astray, cos)).max(0.0)
    }

    /// Chance that a sample is scattered evenly.
    pub fn even_probability(&self, cos: f32) -> f32 {
        let outright = self.outright(cos);
        outright + (1.0 - outright) * look_up(&self.astray, cos)
    }
}

pub fn look_up(table: &Table, cos: f32) -> f32 {
    let at = cos.clamp(0.0, 1.0) * TABLE as f32;
    let i = (at as usize).min(TABLE - 1);
    let t = at - i as f32;
    table[i] * (1.0 - t) + table[i + 1] * t
}

const SIDE: usize = 64;

/// Mean of `value` over stratified visible normals at cosine `cos`.
fn over_normals(cos: f32, alpha: f32, value: impl Fn(Vec3, Vec3) -> (f32, f32)) -> (f32, f32) {
    let view = Vec3::new((1.0 - cos * cos).max(0.0).sqrt(), 0.0, cos);
    let mut sum = (0.0, 0.0);
    for i in 0..SIDE * SIDE {
        let u = [(i % SIDE) as f32 + 0.5, (i / SIDE) as f32 + 0.5].map(|v| v / SIDE as f32);
        let (a, b) = value(view, visible_normal(view, alpha, u));
        sum = (sum.0 + a, sum.1 + b);
    }
    let n = (SIDE * SIDE) as f32;
    (sum.0 / n, sum.1 / n)
}

/// Directional albedo of facets that reflect `f(cos)`, and the fraction of them
/// that reflect into the surface.
pub fn integrate(cos: f32, alpha: f32, f: impl Fn(f32) -> f32) -> (f32, f32) {
    over_normals(cos, alpha, |view, half| {
        let light = half * (2.0 * view.dot(half)) - view;
        if light.z <= 0.0 {
            return (0.0, 1.0);
        }
        (f(view.dot(half)) * masking(view, light, alpha) / masking_1(view, alpha), 0.0)
    })
}

/// Directional albedo of rough glass, both ways, and the fraction that goes astray.
pub fn integrate_glass(cos: f32, alpha: f32, eta: f32) -> (f32, f32) {
    over_normals(cos, alpha, |view, half| {
        let c = view.dot(half);
        let reflected = fresnel(c, eta);
        let (mut sum, mut astray) = (0.0, 0.0);
        let light = half * (2.0 * c) - view;
        if light.z > 0.0 {
            sum += reflected * masking(view, light, alpha) / masking_1(view, alpha);
        } else {
            astray += reflected;
        }
        match refract(view, half, c, eta) {
            Some(light) if light.z < 0.0 => {
                let below = Vec3::new(light.x, light.y, -light.z);
                sum += (1.0 - reflected) * masking(view, below, alpha) / masking_1(view, alpha);
            }
            _ => astray += 1.0 - reflected,
        }
        (sum, astray)
    })
}
