//! Motion of particles that a liquid carries (M. Ihmsen et al., *Unified spray, foam and bubbles for particle-based fluids*, 2012):
//! spray flies freely, foam goes with the liquid, bubbles rise and take on its velocity.

use super::ParticleSystem;
use super::travel::Travelled;
use crate::forces::Acting;
use crate::liquid::{Carrier, SURFACE};
use crate::{BlowUp, Step};
use glam::Vec3;
use rayon::prelude::*;
use shot::Element;
use shot::particles::{Carried, Particles, Phase};

/// How full a place at the surface is.
const AT_SURFACE: f32 = 0.5;

/// What a particle is where it is so full.
fn phase(fraction: f32) -> Phase {
    match fraction {
        f if f < SURFACE[0] => Phase::Spray,
        f if f < SURFACE[1] => Phase::Foam,
        _ => Phase::Bubble,
    }
}

impl ParticleSystem {
    /// Moves particles over a substep: what is in or on the liquid by it, all else under the forces. `newborn`: the fractions of the
    /// substep that remain to the last of them.
    pub(super) fn travel_carried(
        &mut self,
        step: &Step,
        (element, particles): (&Element, &Particles),
        (carried, liquid): (&Carried, &Carrier),
        newborn: &[f32],
    ) -> Result<Travelled, BlowUp> {
        let (n, dt) = (self.set.len(), step.dt);
        if dt <= 0.0 {
            return Ok(Travelled::default());
        }
        let before = self.set.velocities.clone();
        self.accelerate(&step.field.acting(self.id), dt);
        let cells = liquid.cells();
        let set = &mut self.set;
        let columns = (&set.positions, &before, &mut set.velocities, &mut set.born_s, &mut set.ends_s);
        columns.into_par_iter().with_min_len(256).for_each(|(position, before, velocity, born_s, ends_s)| {
            let (fraction, flow) = cells.at(*position);
            let phase = phase(fraction);
            if !carried.phases.contains(&phase) {
                *ends_s = step.seconds as f32;
                return;
            }
            if phase != Phase::Foam {
                // Only foam ages.
                (*born_s, *ends_s) = (*born_s + dt, *ends_s + dt);
            }
            if phase == Phase::Spray {
                return;
            }
            let up = -(*velocity - *before).normalize_or_zero();
            let depth = ((fraction - AT_SURFACE) / (SURFACE[1] - AT_SURFACE)).clamp(-1.0, 1.0);
            // The midpoint rule, since foam stays with the liquid for long.
            let (half_way, flow_there) = cells.at(*position + 0.5 * dt * flow);
            let flow = if half_way > SURFACE[0] { flow_there } else { flow };
            let wanted = flow + carried.rise_speed_m_s * depth * up;
            let taken =
                if phase == Phase::Foam { 1.0 } else { dt / (dt + carried.response_time_s).max(1e-9) };
            *velocity = *before + taken * (wanted - *before);
        });
        let mut fractions = vec![1.0; n - newborn.len()];
        fractions.extend_from_slice(newborn);
        let ways: Vec<Vec3> = set
            .velocities
            .iter()
            .zip(&fractions)
            .map(|(velocity, fraction)| *velocity * dt * *fraction)
            .collect();
        let with = (&Acting::default(), super::contact::met(step, &particles.contact), dt);
        self.travel_by(step, (element, particles), with, 0..n, Some(&fractions), Some(&ways))
    }
}
