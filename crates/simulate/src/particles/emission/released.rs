//! Births of spray, foam and bubbles where a liquid is fast.

use super::{start, within_span};
use crate::forces::Weight;
use crate::liquid::{Bodies, Carrier, ramp};
use crate::particles::ParticleSystem;
use crate::particles::contact::met;
use crate::particles::hash::{ParticleHash, Purpose};
use crate::{BlowUp, Step};
use glam::Vec3;
use rayon::prelude::*;
use shot::particles::{Particles, Source};
use shot::world::Pose;

/// Steps of a frame that random choices tell apart.
const TICKS: f64 = 65_536.0;

impl ParticleSystem {
    /// Appends what a liquid releases in a substep; gives for each the fraction of the substep that remains.
    pub(super) fn born_of_liquid(
        &mut self,
        step: &Step,
        particles: &Particles,
        region: Option<&Weight>,
        own: Pose,
    ) -> Result<Vec<f32>, BlowUp> {
        let Source::Liquid {
            liquid,
            by_speed_m3_s,
            by_curvature_m3_s,
            by_trapped_air_m3_s,
            least_speed_m_s,
            full_speed_m_s,
        } = particles.source
        else {
            return Ok(Vec::new());
        };
        let carrier = step.liquids.iter().find(|of| of.element == liquid);
        let Some(carrier) = carrier.filter(|_| step.dt > 0.0 && within_span(step, particles)) else {
            return Ok(Vec::new());
        };
        let Carrier { ids, positions, velocities, spacing_m, .. } = carrier;
        let cells = carrier.cells();
        let releases = cells.releases();
        let cell_m = 2.0 * *spacing_m;
        let met = met(step, &particles.contact);
        let bodies = Bodies::unpushed(step.colliders, &met, cell_m);
        let volume_s = spacing_m.powi(3) * step.dt;
        let tick = (step.frame * TICKS).round() as u64 as u32;
        let hash = |i: usize| ParticleHash::new(particles.seed, ids[i], Purpose::Release, tick);
        let number = |i: usize| {
            let fast = ramp(velocities[i].length(), least_speed_m_s, full_speed_m_s);
            if fast <= 0.0 {
                return None;
            }
            let release = releases[cells.cell(positions[i])?];
            let meeting = ramp(release.meeting_m_s, least_speed_m_s, full_speed_m_s);
            let by_place = release.surface * by_speed_m3_s
                + release.crest * by_curvature_m3_s
                + meeting * by_trapped_air_m3_s;
            let expected = fast * by_place * region.map_or(1.0, |region| region.at(positions[i])) * volume_s;
            let count = (expected + hash(i).unit()).floor() as u32;
            // At a wall there is no air that way.
            let way_out = positions[i] + cell_m * release.normal;
            let is_open = || release.normal == Vec3::ZERO || !bodies.contain(way_out);
            (count > 0 && is_open()).then_some((i, count, release.normal))
        };
        let found: Vec<(usize, u32, Vec3)> =
            (0..positions.len()).into_par_iter().with_min_len(1_024).filter_map(number).collect();
        self.bound(step, found.iter().map(|(_, count, _)| u64::from(*count)).sum())?;
        let there = self.set.len();
        for (i, count, normal) in found {
            let mut hash = hash(i);
            hash.unit();
            for _ in 0..count {
                // Anywhere in the room of the particle, and on the way of the substep.
                let within = hash.direction() * (0.5 * spacing_m * hash.unit().cbrt());
                let position = positions[i] + within + velocities[i] * (step.dt * (hash.unit() - 0.5));
                let seconds = step.seconds as f32;
                let newborn = start(particles, (position, own.1), normal, velocities[i], seconds, &mut hash);
                self.set.push(&newborn, self.columns);
            }
        }
        // Born at the end of the substep: none of it remains.
        Ok(vec![0.0; self.set.len() - there])
    }
}
