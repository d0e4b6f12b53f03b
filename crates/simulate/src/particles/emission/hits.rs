//! Births where bodies hit each other, and on bodies that break.

use super::{Likely, Spot, Stand, start, within_span};
use crate::colliders::BodyState;
use crate::particles::ParticleSystem;
use crate::particles::hash::{ParticleHash, Purpose};
use crate::particles::particle_set::Newborn;
use crate::{BlowUp, Step};
use shot::Id;
use shot::particles::{EmissionSchedule, Particles};
use shot::world::Pose;

impl ParticleSystem {
    pub(super) fn born_of_broken(
        &mut self,
        step: &Step,
        particles: &Particles,
        body: &BodyState,
        own: Pose,
        likely: Likely,
    ) -> Result<Vec<f32>, BlowUp> {
        let stand = [Stand { before: body.pose, now: body.pose, scale: body.scale, deforming: None }];
        let number = self.number_for_each(step, particles);
        self.bound(step, u64::from(number))?;
        let there = self.set.len();
        for _ in 0..number {
            let k = self.set.rest.given as u32;
            self.set.rest.given += 1;
            let mut hash = ParticleHash::new(particles.seed, k, Purpose::Birth, 0);
            let found = self.position(particles, &stand, &[], k, 1.0, step.dt, likely, &mut hash);
            let Some(Spot { position, normal, weight, uv, .. }) = found else { continue };
            let motion = body.velocity + body.angular_velocity.cross(position - body.centre);
            let born = start(particles, (position, own.1), normal, motion, step.seconds as f32, &mut hash);
            self.set.push(&Newborn { weight, uv, ..born }, self.columns);
        }
        // Born at the end of the substep: none of it remains.
        Ok(vec![0.0; self.set.len() - there])
    }

    /// Number of particles for one hit, or for one body that breaks.
    fn number_for_each(&self, step: &Step, particles: &Particles) -> u32 {
        match particles.emission.schedule {
            EmissionSchedule::Total { count } | EmissionSchedule::Burst { count } => count,
            EmissionSchedule::Rate { per_s } => {
                let mut hash =
                    ParticleHash::new(particles.seed, self.set.rest.given as u32, Purpose::Birth, 1);
                (per_s * step.dt + hash.unit()).floor() as u32
            }
            // Liquid has an area of its own to come from.
            EmissionSchedule::Fill {}
            | EmissionSchedule::Flow { .. }
            | EmissionSchedule::Jet {}
            | EmissionSchedule::Released {}
            | EmissionSchedule::Never {} => 0,
        }
    }

    pub(super) fn born_of_impacts(
        &mut self,
        step: &Step,
        particles: &Particles,
        of: &[shot::force::ElementFilter],
        least: f32,
        own: Pose,
    ) -> Result<Vec<f32>, BlowUp> {
        let meant = |id: Id| {
            step.shot.element(id).is_some_and(|e| of.is_empty() || of.iter().any(|who| who.means(e)))
        };
        let mut left = Vec::new();
        if !within_span(step, particles) {
            return Ok(left);
        }
        for hit in step.colliders.hits.iter().filter(|hit| hit.impulse >= least) {
            if !hit.elements.iter().any(|&id| meant(id)) {
                continue;
            }
            let number = self.number_for_each(step, particles);
            self.bound(step, u64::from(number))?;
            for _ in 0..number {
                let k = self.set.rest.given as u32;
                let mut hash = ParticleHash::new(particles.seed, k, Purpose::Birth, 0);
                let newborn = start(
                    particles,
                    (hit.at, own.1),
                    hit.normal,
                    hit.velocity,
                    step.seconds as f32,
                    &mut hash,
                );
                self.set.push(&newborn, self.columns);
                self.set.rest.given += 1;
            }
            left.extend(std::iter::repeat_n(0.0, number as usize));
        }
        Ok(left)
    }
}
