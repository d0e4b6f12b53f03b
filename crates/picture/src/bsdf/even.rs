//! The even lobe: the matt base of a dielectric, and all light that single
//! scattering by facets loses.

use super::Bsdf;
use super::albedo::look_up;
use glam::Vec3;
use std::f32::consts::{FRAC_1_PI, TAU};

impl Bsdf<'_> {
    /// Diffuse scattering: f · |cos| / |cos| · π to the view's side and to the
    /// other, and the probabilities with which [`Bsdf::sample`] goes there.
    pub(super) fn even(&self, albedo: Vec3, cos: f32, entering: bool) -> [(Vec3, f32); 2] {
        let [specular, matt, glass] = self.probabilities(albedo, cos);
        let mean = albedo + (Vec3::ONE - albedo) / 21.0;
        let repeated =
            mean * mean * self.lobes.white_mean / (Vec3::ONE - mean * (1.0 - self.lobes.white_mean));
        let lost = self.lobes.white.lost(cos);
        let through = self.through(entering);
        let (lost_glass, glass_probability) = (through.lost(cos), glass * through.even_probability(cos));
        let back = self.back(cos, entering);
        let near = albedo * (self.matt * (1.0 - look_up(&self.lobes.coat, cos)))
            + repeated * (self.metal * lost)
            + Vec3::splat(self.glass * lost_glass * back);
        let far = albedo * (self.glass * lost_glass * (1.0 - back));
        let near_probability =
            matt + specular * self.lobes.white.even_probability(cos) + glass_probability * back;
        [(near, near_probability), (far, glass_probability * (1.0 - back))]
    }

    /// f · |cos| and density of the lobe.
    pub(super) fn evaluate_even(&self, albedo: Vec3, view: Vec3, light: Vec3, entering: bool) -> (Vec3, f32) {
        let [near, far] = self.even(albedo, view.z, entering);
        let (even, probability) = if light.z > 0.0 { near } else { far };
        (even * (light.z.abs() * FRAC_1_PI), probability * light.z.abs() * FRAC_1_PI)
    }
}

/// A direction with the density of a cosine, up or down.
pub(super) fn sample_even([a, b]: [f32; 2], down: bool) -> Vec3 {
    let (sin, cos) = (TAU * a).sin_cos();
    let up = (1.0 - b).max(1e-8).sqrt();
    Vec3::new(b.sqrt() * cos, b.sqrt() * sin, if down { -up } else { up })
}
