//! The glass lobe: reflection and refraction by facets that let light through.

use super::albedo::Albedo;
use super::lobes::SMOOTH;
use super::microfacet::{distribution, fresnel, masking, masking_1, refract, visible_normal};
use super::{Bsdf, Scatter};
use glam::Vec3;

/// A sample of the glass lobe.
pub(super) enum Through {
    /// A direction, with the density of the whole surface.
    Direction(Vec3),
    /// The one direction that there is.
    Delta(Scatter),
    /// The light is scattered evenly instead.
    Even,
    /// The light is lost: it is refracted into nothing.
    Lost,
}

impl<'a> Bsdf<'a> {
    /// The index of the other side over that of the view's side.
    pub(super) fn eta(&self, entering: bool) -> f32 {
        if entering { self.lobes.refractive_index } else { 1.0 / self.lobes.refractive_index }
    }

    /// The glass, seen from the side that the view is on.
    pub(super) fn through(&self, entering: bool) -> &'a Albedo {
        if entering { &self.lobes.outside } else { &self.lobes.inside }
    }

    /// Fraction of evenly scattered light that glass sends back.
    pub(super) fn back(&self, cos: f32, entering: bool) -> f32 {
        fresnel(cos, self.eta(entering))
    }

    /// f · |cos| and density of the lobe, of rough glass alone.
    pub(super) fn evaluate_glass(
        &self,
        albedo: Vec3,
        view: Vec3,
        light: Vec3,
        entering: bool,
    ) -> (Vec3, f32) {
        let eta = self.eta(entering);
        if light.z > 0.0 {
            let half = (view + light).normalize();
            let reflected = fresnel(view.dot(half).max(0.0), eta);
            let d = distribution(half, self.lobes.alpha);
            let f = reflected * d * masking(view, light, self.lobes.alpha) / (4.0 * view.z);
            (Vec3::splat(f), reflected * d * masking_1(view, self.lobes.alpha) / (4.0 * view.z))
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
            let d = distribution(half, self.lobes.alpha);
            let jacobian = eta * eta * lh.abs() / (vh + eta * lh).powi(2);
            let g = masking(view, Vec3::new(light.x, light.y, -light.z), self.lobes.alpha);
            let f = passed * d * g * vh * jacobian / view.z;
            (albedo * f, passed * d * masking_1(view, self.lobes.alpha) * vh * jacobian / view.z)
        }
    }

    /// A direction. `pick` is a random number in 0–1, `scale` the weight of the
    /// lobe over the probability with which the lobe was chosen.
    pub(super) fn sample_glass(
        &self,
        albedo: Vec3,
        view: Vec3,
        entering: bool,
        u: [f32; 2],
        pick: f32,
        scale: f32,
    ) -> Through {
        let delta =
            |direction: Vec3, weight: Vec3| Through::Delta(Scatter { direction, weight, pdf: f32::INFINITY });
        let smooth = self.lobes.alpha < SMOOTH;
        let eta = self.eta(entering);
        let outright = if smooth { 0.0 } else { self.through(entering).outright(view.z) };
        let rest = (pick - outright) / (1.0 - outright);
        let half = if smooth { Vec3::Z } else { visible_normal(view, self.lobes.alpha, u) };
        let cos = view.dot(half);
        let reflected = fresnel(cos, eta);
        let kept = |direction: Option<Vec3>| direction.map_or(Through::Even, Through::Direction);
        if rest < 0.0 {
            Through::Even
        } else if rest < reflected {
            if smooth {
                return delta(Vec3::new(-view.x, -view.y, view.z), Vec3::splat(scale));
            }
            kept(Some(half * (2.0 * cos) - view).filter(|direction| direction.z > 0.0))
        } else {
            let through = refract(view, half, cos, eta);
            if smooth || eta == 1.0 {
                return through.map_or(Through::Lost, |direction| delta(direction, albedo * scale));
            }
            kept(through.filter(|direction| direction.z < 0.0))
        }
    }
}
