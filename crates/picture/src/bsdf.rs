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
//! Directions are in the surface's frame, z along the normal on the side the
//! view comes from. The factor η² of refracted radiance is left out: it
//! cancels for all light that leaves the glass again.

use glam::Vec3;
use std::f32::consts::{FRAC_1_PI, PI, TAU};

/// Roughness² below which a surface is a perfect mirror.
const SMOOTH: f32 = 0.0016;
const TABLE: usize = 64;

/// What a surface of one roughness and index of refraction does with light,
/// computed beforehand.
pub(crate) struct Lobes {
    alpha: f32,
    refractive_index: f32,
    /// Facets that reflect all.
    white: Albedo,
    /// Share the coat of a dielectric reflects, by cosine.
    coat: Table,
    /// Glass seen from outside and from inside.
    outside: Albedo,
    inside: Albedo,
    /// Mean of `white` over cosines.
    white_mean: f32,
}

type Table = [f32; TABLE + 1];

/// What single scattering does with light, by cosine of the view.
struct Albedo {
    /// Share that comes off again.
    single: Table,
    /// Share of sampled facets that send light the wrong way.
    astray: Table,
}

impl Albedo {
    const ALL: Self = Self { single: [1.0; TABLE + 1], astray: [0.0; TABLE + 1] };

    /// Share of light that single scattering loses.
    fn lost(&self, cos: f32) -> f32 {
        (1.0 - look_up(&self.single, cos)).max(0.0)
    }

    /// Chance of choosing even scattering outright: as much as is lost beyond
    /// what goes astray, so that no sample weighs much more than another.
    fn outright(&self, cos: f32) -> f32 {
        (self.lost(cos) - look_up(&self.astray, cos)).max(0.0)
    }

    /// Chance that a sample is scattered evenly.
    fn even_chance(&self, cos: f32) -> f32 {
        let outright = self.outright(cos);
        outright + (1.0 - outright) * look_up(&self.astray, cos)
    }
}

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

impl Lobes {
    /// Those of a roughness; without `glass`, none let light through.
    pub fn new(roughness: f32, refractive_index: f32, glass: bool) -> Self {
        let mut lobes = Self {
            alpha: roughness * roughness,
            refractive_index,
            white: Albedo::ALL,
            coat: [0.0; TABLE + 1],
            outside: Albedo::ALL,
            inside: Albedo::ALL,
            white_mean: 1.0,
        };
        let (alpha, n) = (lobes.alpha, refractive_index);
        for i in 0..=TABLE {
            let cos = (i as f32 / TABLE as f32).max(1e-3);
            if alpha < SMOOTH {
                lobes.coat[i] = fresnel(cos, n);
                continue;
            }
            (lobes.white.single[i], lobes.white.astray[i]) = integrate(cos, alpha, |_| 1.0);
            lobes.coat[i] = integrate(cos, alpha, |c| fresnel(c, n)).0;
            if glass {
                (lobes.outside.single[i], lobes.outside.astray[i]) = integrate_glass(cos, alpha, n);
                (lobes.inside.single[i], lobes.inside.astray[i]) = integrate_glass(cos, alpha, 1.0 / n);
            }
        }
        let weighted = (0..=TABLE).map(|i| {
            let end = if i == 0 || i == TABLE { 0.5 } else { 1.0 };
            2.0 * end * lobes.white.single[i] * i as f32
        });
        lobes.white_mean = weighted.sum::<f32>() / (TABLE * TABLE) as f32;
        lobes
    }

    pub fn roughness(&self) -> f32 {
        self.alpha.sqrt()
    }
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
    fn chances(&self, albedo: Vec3, cos: f32) -> [f32; 3] {
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

    /// What scatters evenly: f · |cos| / |cos| · π to the view's side and to the
    /// other, and the chances with which [`Bsdf::sample`] goes there.
    fn even(&self, albedo: Vec3, cos: f32, entering: bool) -> [(Vec3, f32); 2] {
        let [specular, matt, glass] = self.chances(albedo, cos);
        let mean = albedo + (Vec3::ONE - albedo) / 21.0;
        let repeated =
            mean * mean * self.lobes.white_mean / (Vec3::ONE - mean * (1.0 - self.lobes.white_mean));
        let lost = self.lobes.white.lost(cos);
        let through = self.through(entering);
        let (lost_glass, glass_chance) = (through.lost(cos), glass * through.even_chance(cos));
        let back = self.back(cos, entering);
        let near = albedo * (self.matt * (1.0 - look_up(&self.lobes.coat, cos)))
            + repeated * (self.metal * lost)
            + Vec3::splat(self.glass * lost_glass * back);
        let far = albedo * (self.glass * lost_glass * (1.0 - back));
        let near_chance = matt + specular * self.lobes.white.even_chance(cos) + glass_chance * back;
        [(near, near_chance), (far, glass_chance * (1.0 - back))]
    }

    /// The glass, seen from the side that the view is on.
    fn through(&self, entering: bool) -> &'a Albedo {
        if entering { &self.lobes.outside } else { &self.lobes.inside }
    }

    /// Share of evenly scattered light that glass sends back.
    fn back(&self, cos: f32, entering: bool) -> f32 {
        fresnel(cos, if entering { self.lobes.refractive_index } else { 1.0 / self.lobes.refractive_index })
    }

    /// f · |cos| for light from `light` seen from `view`, and the density with
    /// which [`Bsdf::sample`] gives `light`. Mirror directions are left out.
    pub fn evaluate(&self, albedo: Vec3, view: Vec3, light: Vec3, entering: bool) -> (Vec3, f32) {
        let [specular, _, glass] = self.chances(albedo, view.z);
        let [near, far] = self.even(albedo, view.z, entering);
        let (even, chance) = if light.z > 0.0 { near } else { far };
        let (mut f, mut pdf) = (even * (light.z.abs() * FRAC_1_PI), chance * light.z.abs() * FRAC_1_PI);
        if self.lobes.alpha < SMOOTH {
            return (f, pdf);
        }
        if light.z > 0.0 && specular > 0.0 {
            let half = (view + light).normalize();
            let cos = view.dot(half).max(0.0);
            let d = distribution(half, self.lobes.alpha);
            let shape = d * masking(view, light, self.lobes.alpha) / (4.0 * view.z);
            f += (schlick(albedo, cos) * self.metal
                + Vec3::splat(self.matt * fresnel(cos, self.lobes.refractive_index)))
                * shape;
            let chance = specular * (1.0 - self.lobes.white.outright(view.z));
            pdf += chance * d * masking_1(view, self.lobes.alpha) / (4.0 * view.z);
        }
        if self.glass > 0.0 {
            let (value, density) = self.rough_glass(albedo, view, light, entering);
            f += value * self.glass;
            pdf += glass * (1.0 - self.through(entering).outright(view.z)) * density;
        }
        (f, pdf)
    }

    fn rough_glass(&self, albedo: Vec3, view: Vec3, light: Vec3, entering: bool) -> (Vec3, f32) {
        let eta = if entering { self.lobes.refractive_index } else { 1.0 / self.lobes.refractive_index };
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
        let smooth = self.lobes.alpha < SMOOTH;
        let single = if pick < matt {
            None
        } else if pick < matt + specular {
            if smooth {
                let metal = schlick(albedo, view.z) * self.metal;
                let coat = self.matt * fresnel(view.z, self.lobes.refractive_index);
                return delta(mirror, (metal + Vec3::splat(coat)) / specular);
            }
            // The pick, spread over 0–1 again, decides once more.
            let rest = (pick - matt) / specular;
            let half = visible_normal(view, self.lobes.alpha, u);
            Some(half * (2.0 * view.dot(half)) - view)
                .filter(|direction| direction.z > 0.0 && rest >= self.lobes.white.outright(view.z))
        } else {
            let eta = if entering { self.lobes.refractive_index } else { 1.0 / self.lobes.refractive_index };
            let outright = if smooth { 0.0 } else { self.through(entering).outright(view.z) };
            let rest = ((pick - matt - specular) / glass - outright) / (1.0 - outright);
            let half = if smooth { Vec3::Z } else { visible_normal(view, self.lobes.alpha, u) };
            let cos = view.dot(half);
            let reflected = fresnel(cos, eta);
            let scale = self.glass / glass;
            if rest < 0.0 {
                None
            } else if rest < reflected {
                if smooth {
                    return delta(mirror, Vec3::splat(scale));
                }
                Some(half * (2.0 * cos) - view).filter(|direction| direction.z > 0.0)
            } else {
                let through = refract(view, half, cos, eta);
                if smooth || eta == 1.0 {
                    return delta(through?, albedo * scale);
                }
                through.filter(|direction| direction.z < 0.0)
            }
        };
        let direction = single.unwrap_or_else(|| {
            // Even scattering; the random numbers serve once more, reshuffled.
            let again = |v: f32| (v * 7919.0).fract();
            let far = pick >= matt + specular && again(pick) >= self.back(view.z, entering);
            let [a, b] = if pick < matt { u } else { u.map(again) };
            let (sin, cos) = (TAU * a).sin_cos();
            let up = (1.0 - b).max(1e-8).sqrt();
            Vec3::new(b.sqrt() * cos, b.sqrt() * sin, if far { -up } else { up })
        });
        let (f, pdf) = self.evaluate(albedo, view, direction, entering);
        (pdf > 0.0).then(|| Scatter { direction, weight: f / pdf, pdf })
    }
}

/// Schlick's Fresnel reflectance of a metal.
fn schlick(albedo: Vec3, cos: f32) -> Vec3 {
    albedo + (Vec3::ONE - albedo) * (1.0 - cos).clamp(0.0, 1.0).powi(5)
}

fn look_up(table: &Table, cos: f32) -> f32 {
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
fn integrate(cos: f32, alpha: f32, f: impl Fn(f32) -> f32) -> (f32, f32) {
    over_normals(cos, alpha, |view, half| {
        let light = half * (2.0 * view.dot(half)) - view;
        if light.z <= 0.0 {
            return (0.0, 1.0);
        }
        (f(view.dot(half)) * masking(view, light, alpha) / masking_1(view, alpha), 0.0)
    })
}

/// Directional albedo of rough glass, both ways, and the fraction that goes astray.
fn integrate_glass(cos: f32, alpha: f32, eta: f32) -> (f32, f32) {
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;
    use rstest::rstest;

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
