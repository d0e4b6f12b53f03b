//! A substep of particles that are a liquid.

use super::contact::met;
use super::travel::Travelled;
use super::{ParticleSystem, emission};
use crate::colliders::Impulse;
use crate::forces::{Acting, Points, Weight};
use crate::liquid::{self, Bodies, LiquidParticles, Material, Rheologies, Rheology};
use crate::{BlowUp, Step};
use glam::Vec3;
use rayon::prelude::*;
use shot::{
    Element,
    particles::{ContactOutcome, Liquid, LiquidQuantity, LiquidWeight, Particles},
};
use std::collections::BTreeMap;

/// Most steps that a substep is divided into for fast particles, and for waves of shear.
const MAX_STEPS: (f32, f32) = (16.0, 64.0);
/// Cells that the fastest particle, or a wave of shear in a gel, passes in a step.
const MAX_CELLS: f32 = 3.0;
/// Greatest value of a scaled quantity, in its unit: many factors would have no finite product.
const MAX_SCALED: f32 = 1e7;
/// Particles to a block of the force evaluation.
const CHUNK: usize = 1_024;

/// Whether the particles of an element are a liquid that is, or by its keys can become, elastic.
pub(super) fn is_elastic(element: &Element, particles: &Particles) -> bool {
    let keyed =
        |path: &String| path.ends_with("liquid.stiffness_pa") || path.ends_with("liquid.yield_stress_pa");
    let liquid = particles.liquid.as_ref();
    liquid.is_some_and(|liquid| liquid.is_elastic() || element.channels.keys().any(keyed))
}

impl ParticleSystem {
    /// Moves a liquid over a substep; its last particles are new, with the fractions of the substep that remain to them.
    pub(super) fn flow(
        &mut self,
        step: &Step,
        element: &Element,
        particles: &Particles,
        liquid: &Liquid,
        newborn: &[f32],
    ) -> Result<(Travelled, Vec<Impulse>), BlowUp> {
        let mut met = met(step, &particles.contact);
        let filled = emission::filled_solid(particles);
        for (met, body) in met.iter_mut().zip(step.colliders.list()) {
            *met &= particles.contact.enabled && Some(body.now.element) != filled;
        }
        let cell_m = 2.0 * liquid.spacing_m;
        let pushes = particles.contact.push;
        let given = BTreeMap::new();
        let mut boundary = Bodies { colliders: step.colliders, met: &met, cell_m, pushes, given };
        let newborn = &self.drop_enclosed(&boundary, newborn)[..];
        if self.set.len() == 0 || step.dt <= 0.0 {
            return Ok((Travelled::default(), Vec::new()));
        }
        // What meets a solid goes on along it, unless it ends there: the flow around it is that of the grid.
        let mut particles = particles.clone();
        if particles.contact.outcome != ContactOutcome::Die {
            particles.contact.outcome = ContactOutcome::Slide;
        }
        (particles.contact.push, particles.contact.push_deformables) = (false, false);
        let speed = self.set.velocities.iter().map(|v| v.length_squared()).fold(0.0, f32::max).sqrt();
        let steps = steps_at(speed, step.dt, cell_m, MAX_STEPS.0).max(steps_of_waves(liquid, step.dt));
        let dt = step.dt / steps as f32;
        let acting = step.field.acting(self.id);
        let mut fractions = vec![1.0; self.set.len() - newborn.len()];
        fractions.extend_from_slice(newborn);
        let start = self.set.positions.clone();
        for _ in 0..steps {
            self.accelerate(&acting, dt);
            let each = self.rheologies(step, liquid);
            let material = Material {
                spacing_m: liquid.spacing_m,
                density_kg_m3: liquid.density_kg_m3,
                rheologies: match &each {
                    Some(each) => Rheologies::Each(each),
                    None => Rheologies::Same(rheology(liquid)),
                },
                wall_friction: liquid.wall_friction,
            };
            let set = &mut self.set;
            let columns = LiquidParticles {
                positions: &set.positions,
                velocities: &mut set.velocities,
                gradients: &mut set.gradients,
                deformations: &mut set.deformations,
            };
            let flow = liquid::flow(columns, &material, dt, &boundary, &mut self.still_body_cache);
            let flow = flow.map_err(|error| BlowUp {
                frame: step.frame_number(),
                element: self.id,
                name: self.name.clone(),
                what: error.to_string(),
            })?;
            boundary.add_impulses(&flow.impulses);
            self.set
                .positions
                .par_iter_mut()
                .zip(&flow.displacements)
                .for_each(|(position, by)| *position += *by);
        }
        // Bodies are met once on the whole way, since they too are known at both ends of the substep.
        let ends = std::mem::replace(&mut self.set.positions, start);
        let ways: Vec<Vec3> =
            ends.iter().zip(&self.set.positions).map(|(end, start)| *end - *start).collect();
        let impulses = boundary.impulses();
        let with = (&Acting::default(), met, step.dt);
        let range = 0..self.set.len();
        let travelled =
            self.travel_by(step, (element, &particles), with, range, Some(&fractions), Some(&ways))?;
        Ok((travelled, impulses))
    }

    /// How each particle resists deformation; none: all alike.
    fn rheologies(&self, step: &Step, liquid: &Liquid) -> Option<Vec<Rheology>> {
        if liquid.scaled.is_empty() {
            return None;
        }
        // The factors of a region that is gone are those where its weight is 0.
        let weights: Vec<Option<Weight>> = liquid
            .scaled
            .iter()
            .map(|scaled| match scaled.by {
                LiquidWeight::Region { region } => step.weight(region),
                LiquidWeight::BirthMap {} => None,
            })
            .collect();
        let (set, all) = (&self.set, rheology(liquid));
        let of = |(i, position): (usize, &Vec3)| {
            let mut own = all;
            for (scaled, region) in liquid.scaled.iter().zip(&weights) {
                let weight = match (scaled.by, region) {
                    (LiquidWeight::BirthMap {}, _) => set.weights.get(i).copied().unwrap_or(1.0),
                    (_, region) => region.as_ref().map_or(0.0, |region| region.at(*position)),
                };
                let quantity = match scaled.quantity {
                    LiquidQuantity::Viscosity => &mut own.viscosity_pa_s,
                    LiquidQuantity::Stiffness => &mut own.stiffness_pa,
                    LiquidQuantity::RelaxationTime => &mut own.relaxation_time_s,
                    LiquidQuantity::YieldStress => &mut own.yield_stress_pa,
                };
                *quantity = (*quantity * scaled.factor(weight)).min(MAX_SCALED);
            }
            own
        };
        Some(set.positions.par_iter().enumerate().with_min_len(CHUNK).map(of).collect())
    }

    /// Drops those of the last particles, which are new, that lie within bodies: there is no room for liquid. Gives the fractions
    /// of the substep of those that are left.
    fn drop_enclosed(&mut self, bodies: &Bodies, newborn: &[f32]) -> Vec<f32> {
        let old = self.set.len() - newborn.len();
        let positions = &self.set.positions[old..];
        let enclosed: Vec<bool> =
            positions.par_iter().with_min_len(64).map(|position| bodies.contain(*position)).collect();
        if !enclosed.contains(&true) {
            return newborn.to_vec();
        }
        let mut marked = vec![false; old];
        marked.extend(&enclosed);
        self.set.remove(&marked);
        newborn.iter().zip(&enclosed).filter(|(_, enclosed)| !**enclosed).map(|(left, _)| *left).collect()
    }

    /// Adds what forces change in `dt` seconds to the velocities.
    fn accelerate(&mut self, acting: &Acting, dt: f32) {
        if acting.is_empty() {
            return;
        }
        let set = &mut self.set;
        let columns = (
            set.positions.par_chunks(CHUNK),
            set.velocities.par_chunks_mut(CHUNK),
            set.inverse_masses.par_chunks(CHUNK),
            set.drag_areas.par_chunks(CHUNK),
        );
        columns.into_par_iter().for_each(|(positions, velocities, inverse_masses, drag_areas)| {
            acting.push(&mut Points { positions, velocities, inverse_masses, drag_areas }, dt);
        });
    }
}

/// Greatest speed of waves of shear, m/s.
fn wave_speed(liquid: &Liquid) -> f32 {
    let scaled = liquid.scaled.iter().filter(|scaled| scaled.quantity == LiquidQuantity::Stiffness);
    let factors = scaled.map(|scaled| scaled.at_0.max(scaled.at_1));
    let stiffness_pa =
        factors.fold(rheology(liquid).stiffness_pa, |stiffness, factor| (stiffness * factor).min(MAX_SCALED));
    (stiffness_pa / liquid.density_kg_m3).sqrt()
}

/// Steps of a substep in which nothing passes more than [`MAX_CELLS`], or the most allowed.
fn steps_at(speed: f32, dt: f32, cell_m: f32, most: f32) -> u32 {
    (speed * dt / (MAX_CELLS * cell_m)).ceil().clamp(1.0, most) as u32
}

/// Steps of a substep that waves of shear ask for.
pub(super) fn steps_of_waves(liquid: &Liquid, dt: f32) -> u32 {
    steps_at(wave_speed(liquid), dt, 2.0 * liquid.spacing_m, MAX_STEPS.1)
}

/// How a liquid resists deformation where nothing is scaled.
fn rheology(liquid: &Liquid) -> Rheology {
    Rheology {
        viscosity_pa_s: liquid.viscosity_pa_s,
        stiffness_pa: Liquid::shear_modulus_pa(liquid.stiffness_pa, liquid.yield_stress_pa),
        relaxation_time_s: liquid.relaxation_time_s,
        yield_stress_pa: liquid.yield_stress_pa,
    }
}
