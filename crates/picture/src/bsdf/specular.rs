//! The specular lobe: reflection by the facets of a metal and by the coat of a
//! dielectric.

use super::Bsdf;
use super::lobes::{Lobes, SMOOTH};
use super::microfacet::{distribution, fresnel, masking, masking_1, schlick, visible_normal};
use glam::Vec3;

impl Bsdf<'_> {
    /// Reflectance of the facets at the cosine between view and facet normal.
    fn facet_reflectance(&self, albedo: Vec3, cos: f32) -> Vec3 {
        let coat = self.matt * fresnel(cos, self.lobes.refractive_index);
        schlick(albedo, cos) * self.metal + Vec3::splat(coat)
    }

    /// f · |cos| and density of the lobe, for a light on the view's side.
    pub(super) fn evaluate_specular(&self, albedo: Vec3, view: Vec3, light: Vec3) -> (Vec3, f32) {
        let Lobes { alpha, white, .. } = self.lobes;
        let half = (view + light).normalize();
        let cos = view.dot(half).max(0.0);
        let d = distribution(half, *alpha);
        let shape = d * masking(view, light, *alpha) / (4.0 * view.z);
        let probability = 1.0 - white.outright(view.z);
        (
            self.facet_reflectance(albedo, cos) * shape,
            probability * d * masking_1(view, *alpha) / (4.0 * view.z),
        )
    }

    /// The weight of the mirror direction of a smooth surface.
    pub(super) fn mirror_weight(&self, albedo: Vec3, view: Vec3) -> Option<Vec3> {
        (self.lobes.alpha < SMOOTH).then(|| self.facet_reflectance(albedo, view.z))
    }

    /// A direction; none where the light is scattered evenly instead. `rest`
    /// is a random number in 0–1.
    pub(super) fn sample_specular(&self, view: Vec3, u: [f32; 2], rest: f32) -> Option<Vec3> {
        let half = visible_normal(view, self.lobes.alpha, u);
        Some(half * (2.0 * view.dot(half)) - view)
            .filter(|direction| direction.z > 0.0 && rest >= self.lobes.white.outright(view.z))
    }
}
