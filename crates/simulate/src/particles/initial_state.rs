//! Particles that are there at the first frame because the shot begins from a frame.

use super::ParticleSystem;
use super::particle_set::Newborn;
use crate::solver::InitialState;
use glam::{Quat, Vec3};
use shot::particles::{EmissionSchedule, Particles};
use std::f32::consts::PI;

impl ParticleSystem {
    /// Takes over the particles that a frame has of the element: with their places, sizes and
    /// ages; their masses and drag are those of the element as it is now. Events that have
    /// happened to them count anew.
    pub(super) fn begin_from(&mut self, particles: &Particles, initial_state: InitialState) {
        let Some(of) = initial_state.frame.particles.get(&self.id) else { return };
        for i in 0..of.len() {
            // Ids stay those of the frame, so that looks by id do not change.
            self.set.rest.next_id = of.ids[i];
            let radius = 0.5 * of.sizes[i];
            let newborn = Newborn {
                position: of.positions[i],
                velocity: if initial_state.velocities { of.velocities[i] } else { Vec3::ZERO },
                size_m: of.sizes[i],
                mass_kg: particles.mass_kg(radius).max(1e-15),
                drag_area_m2: particles.body.drag * PI * radius * radius,
                born_s: -of.ages[i],
                ends_s: of.lifespans[i] - of.ages[i],
                orientation: of.orientations.get(i).copied().unwrap_or(Quat::IDENTITY),
                angular_velocity: Vec3::ZERO,
                weight: of.weights.get(i).copied().unwrap_or(1.0),
                uv: of.uvs.get(i).copied().unwrap_or_default(),
            };
            self.set.push(&newborn, self.columns);
        }
        (self.set.rest.born, self.set.rest.gone) = (0, 0);
        // What comes at once, and is in the frame, does not come again.
        if !of.is_empty() {
            self.set.rest.given = match particles.emission.schedule {
                EmissionSchedule::Burst { count } => u64::from(count),
                EmissionSchedule::Fill {} => of.len() as u64,
                _ => self.set.rest.given,
            };
        }
    }
}
