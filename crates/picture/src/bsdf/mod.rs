//! Looks as scattering functions.
//!
//! Microfacets with the GGX distribution and height-correlated Smith masking
//! (B. Walter et al., *Microfacet models for refraction through rough
//! surfaces*, 2007; E. Heitz, *Understanding the masking-shadowing function*,
//! 2014). Light that single scattering loses is scattered evenly instead, as
//! tabulated directional albedos demand (C. Kulla and A. Conty, *Revisiting
//! physically based shading at Imageworks*, 2017), for glass to both sides; the
//! matt base of a dielectric gets what the coat lets through. A sampled facet
//! that sends light into the surface falls back to that even scattering, so no
//! sample is lost.
//!
//! A lobe is a file: [`specular`], [`glass`] and [`even`], each with its
//! evaluation and its sampling. This file mixes them: [`Bsdf::probabilities`] says how
//! often each is sampled. A new lobe is a new file and a line in each function here.
//!
//! Directions are in the surface's frame, z along the normal on the side the
//! view comes from. The factor η² of refracted radiance is left out: it
//! cancels for all light that leaves the glass again.

mod albedo;
mod even;
mod glass;
mod lobes;
mod microfacet;
mod specular;

use albedo::look_up;
use even::sample_even;
use glam::Vec3;
use glass::Through;
pub(crate) use lobes::Lobes;
use lobes::SMOOTH;

/// A scattered direction.
pub(crate) struct Scatter {
    pub direction: Vec3,
    /// f cos / pdf.
    pub weight: Vec3,
    /// Density of the direction; infinite for a mirror or clear glass.
    pub pdf: f32,
}

/// A point of a surface, ready to scatter light.
#[derive(Clone, Copy)]
pub(crate) struct Bsdf<'a> {
    metal: f32,
    glass: f32,
    matt: f32,
    lobes: &'a Lobes,
}

impl<'a> Bsdf<'a> {
    pub fn new(lobes: &'a Lobes, metalness: f32, transmission: f32) -> Self {
        let glass = (1.0 - metalness) * transmission;
        Self { metal: metalness, glass, matt: 1.0 - metalness - glass, lobes }
    }

    #[cfg(test)]
    pub fn roughness(&self) -> f32 {
        self.lobes.roughness()
    }

    /// Chances of (specular reflection, matt reflection, glass), for a view at
    /// cosine `cos`.
    fn probabilities(&self, albedo: Vec3, cos: f32) -> [f32; 3] {
        let coat = look_up(&self.lobes.coat, cos);
        let specular = self.metal * (0.2 + 0.8 * albedo.max_element()) + self.matt * coat;
        let matt = self.matt * (1.0 - coat) * (0.1 + 0.9 * albedo.max_element());
        let sum = specular + matt + self.glass;
        [specular / sum, matt / sum, self.glass / sum]
    }

    /// Whether nothing but mirror directions is scattered, so that light
    /// cannot be sampled.
    pub fn is_delta(&self) -> bool {
        self.lobes.alpha < SMOOTH && self.matt == 0.0
    }

    /// f · |cos| for light from `light` seen from `view`, and the density with
    /// which [`Bsdf::sample`] gives `light`. Mirror directions are left out.
    pub fn evaluate(&self, albedo: Vec3, view: Vec3, light: Vec3, entering: bool) -> (Vec3, f32) {
        let [specular, _, glass] = self.probabilities(albedo, view.z);
        let (mut f, mut pdf) = self.evaluate_even(albedo, view, light, entering);
        if self.lobes.alpha < SMOOTH {
            return (f, pdf);
        }
        if light.z > 0.0 && specular > 0.0 {
            let (value, density) = self.evaluate_specular(albedo, view, light);
            f += value;
            pdf += specular * density;
        }
        if self.glass > 0.0 {
            let (value, density) = self.evaluate_glass(albedo, view, light, entering);
            f += value * self.glass;
            pdf += glass * (1.0 - self.through(entering).outright(view.z)) * density;
        }
        (f, pdf)
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
        let [specular, matt, glass] = self.probabilities(albedo, view.z);
        let single = if pick < matt {
            None
        } else if pick < matt + specular {
            if let Some(weight) = self.mirror_weight(albedo, view) {
                let direction = Vec3::new(-view.x, -view.y, view.z);
                return Some(Scatter { direction, weight: weight / specular, pdf: f32::INFINITY });
            }
            // The pick, spread over 0–1 again, decides once more.
            self.sample_specular(view, u, (pick - matt) / specular)
        } else {
            let rest = (pick - matt - specular) / glass;
            match self.sample_glass(albedo, view, entering, u, rest, self.glass / glass) {
                Through::Direction(direction) => Some(direction),
                Through::Delta(scatter) => return Some(scatter),
                Through::Even => None,
                Through::Lost => return None,
            }
        };
        let direction = single.unwrap_or_else(|| {
            // Even scattering; the random numbers serve once more, reshuffled.
            let again = |v: f32| (v * 7919.0).fract();
            let down = pick >= matt + specular && again(pick) >= self.back(view.z, entering);
            sample_even(if pick < matt { u } else { u.map(again) }, down)
        });
        let (f, pdf) = self.evaluate(albedo, view, direction, entering);
        (pdf > 0.0).then(|| Scatter { direction, weight: f / pdf, pdf })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;
    use rstest::rstest;
    use std::f32::consts::{PI, TAU};

    #[rstest]
    fn a_white_look_returns_all_light(
        #[values(0.0, 0.1, 0.3, 0.6, 1.0)] roughness: f32,
        #[values((0.0, 0.0), (1.0, 0.0), (0.0, 1.0), (0.5, 0.5))] kind: (f32, f32),
        #[values(0.1, 0.5, 0.95)] cos: f32,
        #[values(true, false)] entering: bool,
    ) {
        let lobes = Lobes::new(roughness, 1.5, kind.1 > 0.0);
        let bsdf = Bsdf::new(&lobes, kind.0, kind.1);
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
        // The integral of the density over the sphere is the fraction of samples
        // that scatter at all, at most 1.
        let lobes = Lobes::new(roughness, 1.5, kind.1 > 0.0);
        let bsdf = Bsdf::new(&lobes, kind.0, kind.1);
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
