//! What a liquid is made of: where nothing is scaled, and each particle at its place.

use crate::Step;
use crate::forces::Weight;
use crate::liquid::{Properties, Rheology};
use glam::Vec3;
use rayon::prelude::*;
use shot::particles::{Liquid, LiquidQuantity, LiquidWeight};
use std::f32::consts::PI;

/// Greatest value of a scaled quantity, in its unit: many factors would have no finite product.
pub(super) const MAX_SCALED: f32 = 1e7;
/// Range of scaled densities, kg/m³, and greatest scaled surface tension, N/m.
pub(super) const DENSITIES: [f32; 2] = [1.0, 20_000.0];
pub(super) const MAX_TENSION: f32 = 100.0;
/// Particles that a thread takes at once.
const CHUNK: usize = 1_024;

/// What each particle of a liquid is at its place.
pub(super) fn matter_of(
    positions: &[Vec3],
    birth_weights: &[f32],
    step: &Step,
    liquid: &Liquid,
) -> Vec<(Rheology, Properties)> {
    // The factors of a region that is gone are those where its weight is 0.
    let weights: Vec<Option<Weight>> = liquid
        .scaled
        .iter()
        .map(|scaled| match scaled.by {
            LiquidWeight::Region { region } => step.weight(region),
            LiquidWeight::BirthMap {} => None,
        })
        .collect();
    let all = (rheology(liquid), properties(liquid));
    let of = |(i, position): (usize, &Vec3)| {
        let (mut rheology, mut properties) = all;
        for (scaled, region) in liquid.scaled.iter().zip(&weights) {
            let weight = match (scaled.by, region) {
                (LiquidWeight::BirthMap {}, _) => birth_weights.get(i).copied().unwrap_or(1.0),
                (_, region) => region.as_ref().map_or(0.0, |region| region.at(*position)),
            };
            let (quantity, [least, most]) = match scaled.quantity {
                LiquidQuantity::Viscosity => (&mut rheology.viscosity_pa_s, [0.0, MAX_SCALED]),
                LiquidQuantity::Stiffness => (&mut rheology.stiffness_pa, [0.0, MAX_SCALED]),
                LiquidQuantity::RelaxationTime => (&mut rheology.relaxation_time_s, [0.0, MAX_SCALED]),
                LiquidQuantity::YieldStress => (&mut rheology.yield_stress_pa, [0.0, MAX_SCALED]),
                LiquidQuantity::Density => (&mut properties.density_kg_m3, DENSITIES),
                LiquidQuantity::WallFriction => (&mut properties.wall_friction, [0.0, 1.0]),
                LiquidQuantity::SurfaceTension => (&mut properties.surface_tension_n_m, [0.0, MAX_TENSION]),
                LiquidQuantity::WettingAngle => (&mut properties.wetting_angle_rad, [0.0, PI]),
            };
            *quantity = (*quantity * scaled.factor(weight)).clamp(least, most);
        }
        (rheology, properties)
    };
    positions.par_iter().enumerate().with_min_len(CHUNK).map(of).collect()
}

/// What a liquid is besides where nothing is scaled.
pub(super) fn properties(liquid: &Liquid) -> Properties {
    Properties {
        density_kg_m3: liquid.density_kg_m3,
        wall_friction: liquid.wall_friction,
        surface_tension_n_m: liquid.surface_tension_n_m,
        wetting_angle_rad: liquid.wetting_angle_rad,
    }
}

/// How a liquid resists deformation where nothing is scaled.
pub(super) fn rheology(liquid: &Liquid) -> Rheology {
    Rheology {
        viscosity_pa_s: liquid.viscosity_pa_s,
        stiffness_pa: Liquid::shear_modulus_pa(liquid.stiffness_pa, liquid.yield_stress_pa),
        relaxation_time_s: liquid.relaxation_time_s,
        yield_stress_pa: liquid.yield_stress_pa,
    }
}
