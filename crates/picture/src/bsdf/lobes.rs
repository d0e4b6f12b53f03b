//! Shared by the lobes of a surface: roughness, refractive index and albedo tables.

use super::albedo::{Albedo, TABLE, Table, integrate, integrate_glass};
use super::microfacet::fresnel;

/// Roughness² below which a surface is a perfect mirror.
pub const SMOOTH: f32 = 0.0016;

/// Albedos of a surface of one roughness and index of refraction,
/// computed beforehand.
pub(crate) struct Lobes {
    pub alpha: f32,
    pub refractive_index: f32,
    /// Facets that reflect all.
    pub white: Albedo,
    /// Fraction the coat of a dielectric reflects, by cosine.
    pub coat: Table,
    /// Glass seen from outside and from inside.
    pub outside: Albedo,
    pub inside: Albedo,
    /// Mean of `white` over cosines.
    pub white_mean: f32,
}

impl Lobes {
    /// Lobes of one roughness; without `glass` none transmits.
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
