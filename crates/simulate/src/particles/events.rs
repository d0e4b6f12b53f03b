//! Particle events: particles die, split, leave a trail, become other
//! particles or bodies of a solid.
//!
//! Triggers are tested on the states at the end of the substep; particles born of an
//! event are tested from the next substep on. So a cycle of splits grows
//! by one generation a substep, and the bound on particles ends it by name.

use super::contact::ParticleContact;
use super::hash::{ParticleHash, Purpose};
use super::particle_set::Newborn;
use super::{ParticleSolver, ParticleSystem, emission};
use crate::colliders::{SpawnBody, SpawnParticle, SpawnState};
use crate::{BlowUp, Step};
use glam::{Quat, Vec2, Vec3};
use shot::particles::{Action, ParticleEvent, Particles, Split, Trigger, circle_names, endless};

/// An event of a particle in this substep.
struct Due {
    index: usize,
    entry: usize,
}

/// State of a particle at its event.
#[derive(Clone, Copy)]
struct Parent {
    id: u32,
    position: Vec3,
    velocity: Vec3,
    size_m: f32,
    mass_kg: f32,
    orientation: Quat,
    angular_velocity: Vec3,
    weight: f32,
    uv: Vec2,
}

impl ParticleSolver {
    pub(super) fn become_others(
        &mut self,
        step: &Step,
        touches: &[Vec<ParticleContact>],
        marks: &mut [Vec<bool>],
    ) -> Result<(), BlowUp> {
        // All events of the substep, before any acts.
        let due: Vec<Vec<Due>> = (0..self.systems.len())
            .map(|i| {
                let system = &mut self.systems[i];
                let particles = step.shot.element(system.id).and_then(|e| e.as_particles());
                particles
                    .map_or_else(Vec::new, |particles| system.due(step, particles, &touches[i], &marks[i]))
            })
            .collect();
        for (i, due) in due.into_iter().enumerate() {
            let id = self.systems[i].id;
            let Some(particles) = step.shot.element(id).and_then(|e| e.as_particles()) else { continue };
            // All events of a particle act, also where one ends it; but the particle
            // becomes another element or a body only once.
            let mut elsewhere = None;
            for Due { index, entry } in due {
                if elsewhere == Some(index) {
                    continue;
                }
                if self.becomes(step, i, index, entry, particles)? {
                    marks[i][index] = true;
                    let then = &particles.events[entry].action;
                    if matches!(then, Action::Become { .. } | Action::Solid { .. }) {
                        elsewhere = Some(index);
                    }
                }
            }
            self.leave_trails(step, i, particles)?;
        }
        Ok(())
    }

    /// Applies one event to a particle; true if the particle is gone afterwards.
    fn becomes(
        &mut self,
        step: &Step,
        i: usize,
        index: usize,
        entry: usize,
        particles: &Particles,
    ) -> Result<bool, BlowUp> {
        let system = &self.systems[i];
        let parent = system.parent(index);
        match &particles.events[entry].action {
            Action::Die {} => Ok(true),
            Action::Become { particles: kind } => {
                let Some(to) = self.system(*kind) else { return Ok(false) };
                let split = Split {
                    particles: Some(*kind),
                    count: 1,
                    inherited_velocity: 1.0,
                    speed_m_s: 0.0,
                    size: Some(1.0),
                    ..Split::default()
                };
                self.bear(step, to, parent, entry, &split, true)?;
                Ok(true)
            }
            Action::Split(split) => {
                let to = match split.particles {
                    None => i,
                    Some(kind) => match self.system(kind) {
                        Some(to) => to,
                        None => return Ok(false),
                    },
                };
                self.bear(step, to, parent, entry, split, false)?;
                Ok(!split.stays)
            }
            Action::Trail { .. } => {
                self.systems[i].set.rest.trails.insert((parent.id, entry as u32), 0.5);
                Ok(false)
            }
            Action::Solid { solid } => {
                let most =
                    step.shot.element(*solid).and_then(|e| e.as_solid()).and_then(|s| s.from_particles);
                let handed = self.handed_over.entry(*solid).or_insert(0);
                if most.is_none_or(|most| *handed >= most) {
                    return Ok(false);
                }
                *handed += 1;
                let state = SpawnState {
                    pose: (parent.position, parent.orientation),
                    velocity: parent.velocity,
                    angular_velocity: parent.angular_velocity,
                    size_m: parent.size_m,
                    mass_kg: parent.mass_kg,
                };
                self.exchange.bodies.push(SpawnBody { solid: *solid, state });
                Ok(true)
            }
        }
    }

    /// Adds the particles that one becomes. They share its mass, unless it stays, so
    /// that a split which adds no speed conserves momentum.
    fn bear(
        &mut self,
        step: &Step,
        to: usize,
        parent: Parent,
        entry: usize,
        split: &Split,
        itself: bool,
    ) -> Result<(), BlowUp> {
        let system = &mut self.systems[to];
        let Some(particles) = step.shot.element(system.id).and_then(|e| e.as_particles()) else {
            return Ok(());
        };
        if let Err(mut error) = system.bound(step, u64::from(split.count)) {
            if let Some(circle) = endless(step.shot, system.id) {
                let names = circle_names(step.shot, &circle);
                error.what += &format!("; they become each other without end: {names}");
            }
            return Err(error);
        }
        let way = parent.velocity.try_normalize().unwrap_or(Vec3::Y);
        let upright = Quat::from_rotation_arc(Vec3::Y, way);
        let now = step.seconds as f32;
        for child in 0..split.count {
            let mut hash =
                ParticleHash::new(particles.seed ^ parent.id, child, Purpose::Event, entry as u32 + 1);
            let mut newborn = emission::start(
                particles,
                (parent.position, parent.orientation),
                Vec3::ZERO,
                Vec3::ZERO,
                now,
                &mut hash,
            );
            let speed = split.speed_m_s * hash.about(split.speed_variation);
            newborn.velocity =
                parent.velocity * split.inherited_velocity + upright * hash.cone(split.spread_rad) * speed;
            (newborn.weight, newborn.uv) = (parent.weight, parent.uv);
            // A particle of a liquid stands for as much of the liquid as all others.
            let is_liquid = particles.liquid.is_some();
            if let Some(size) = split.size.filter(|_| !is_liquid) {
                let drag = particles.body.drag * std::f32::consts::PI * 0.25;
                newborn.size_m = parent.size_m * size;
                newborn.drag_area_m2 = drag * newborn.size_m * newborn.size_m;
            }
            if !split.stays && !is_liquid {
                newborn.mass_kg = parent.mass_kg / split.count as f32;
            }
            if itself {
                newborn.orientation = parent.orientation;
                newborn.angular_velocity = parent.angular_velocity;
            } else if split.angular_speed_rad_s != 0.0 {
                newborn.angular_velocity = hash.direction() * split.angular_speed_rad_s;
            }
            system.set.push(&newborn, system.columns);
        }
        Ok(())
    }

    /// Makes the particles that bodies became in this substep.
    pub(super) fn add_spawned(&mut self, step: &Step) -> Result<(), BlowUp> {
        for SpawnParticle { particles: id, solid, state: body } in std::mem::take(&mut self.spawned) {
            let Some(to) = self.system(id) else { continue };
            let Some(particles) = step.shot.element(id).and_then(|e| e.as_particles()) else {
                continue;
            };
            if let Some(handed) = self.handed_over.get_mut(&solid) {
                *handed = handed.saturating_sub(1);
            }
            let system = &mut self.systems[to];
            system.bound(step, 1)?;
            let mut hash = ParticleHash::new(particles.seed, system.set.rest.next_id, Purpose::Birth, 3);
            let now = step.seconds as f32;
            let born = emission::start(particles, body.pose, Vec3::ZERO, Vec3::ZERO, now, &mut hash);
            let is_liquid = particles.liquid.is_some();
            let size_m = if is_liquid { born.size_m } else { body.size_m };
            let newborn = Newborn {
                velocity: body.velocity,
                size_m,
                mass_kg: if is_liquid { born.mass_kg } else { body.mass_kg },
                drag_area_m2: particles.body.drag * std::f32::consts::PI * 0.25 * size_m * size_m,
                orientation: body.pose.1,
                angular_velocity: body.angular_velocity,
                ..born
            };
            system.set.push(&newborn, system.columns);
        }
        Ok(())
    }

    fn leave_trails(&mut self, step: &Step, i: usize, particles: &Particles) -> Result<(), BlowUp> {
        let trails: Vec<((u32, u32), f32)> =
            self.systems[i].set.rest.trails.iter().map(|(of, remainder)| (*of, *remainder)).collect();
        for ((id, entry), remainder) in trails {
            let Some(ParticleEvent { action: Action::Trail { particles: kind, per_s }, .. }) =
                particles.events.get(entry as usize)
            else {
                continue;
            };
            let (Some(index), Some(to)) = (self.systems[i].set.find(id), self.system(*kind)) else {
                continue;
            };
            let parent = self.systems[i].parent(index);
            let total = remainder + per_s * step.dt;
            let number = total.floor();
            self.systems[i].set.rest.trails.insert((id, entry), total - number);
            if number < 1.0 {
                continue;
            }
            let system = &mut self.systems[to];
            let Some(other) = step.shot.element(system.id).and_then(|e| e.as_particles()) else { continue };
            system.bound(step, number as u64)?;
            for k in 0..number as u32 {
                let back = step.dt * (k as f32 + total.fract()) / total.max(1.0);
                let serial = system.set.rest.next_id;
                let mut hash = ParticleHash::new(other.seed, serial, Purpose::Birth, 2);
                let position = parent.position - parent.velocity * back;
                let born_s = step.seconds as f32 - back;
                let mut newborn = emission::start(
                    other,
                    (position, parent.orientation),
                    Vec3::ZERO,
                    parent.velocity,
                    born_s,
                    &mut hash,
                );
                newborn.weight = parent.weight;
                system.set.push(&newborn, system.columns);
            }
        }
        Ok(())
    }
}

impl ParticleSystem {
    fn parent(&self, index: usize) -> Parent {
        let set = &self.set;
        Parent {
            id: set.ids[index],
            position: set.positions[index],
            velocity: set.velocities[index],
            size_m: set.sizes[index],
            mass_kg: 1.0 / set.inverse_masses[index],
            orientation: set.orientations.get(index).copied().unwrap_or(Quat::IDENTITY),
            angular_velocity: set.angular_velocities.get(index).copied().unwrap_or(Vec3::ZERO),
            weight: set.weights.get(index).copied().unwrap_or(1.0),
            uv: set.uvs.get(index).copied().unwrap_or_default(),
        }
    }

    /// What is due, by index and then by entry; each entry once for a particle.
    fn due(
        &mut self,
        step: &Step,
        particles: &Particles,
        touches: &[ParticleContact],
        marked: &[bool],
    ) -> Vec<Due> {
        let n = self.set.len().min(marked.len());
        let mut due = Vec::new();
        let now = step.seconds as f32;
        for (entry, event) in particles.events.iter().enumerate() {
            let bit = 1u32 << entry;
            let set = &self.set;
            let of = |test: &dyn Fn(usize) -> bool| -> Vec<usize> {
                (0..n).filter(|&i| set.done[i] & bit == 0 && test(i)).collect()
            };
            let mut met = match &event.trigger {
                Trigger::Age { age_s } => of(&|i| now - set.born_s[i] >= *age_s),
                Trigger::End {} => of(&|i| set.ends_s[i] <= now),
                Trigger::Touch { bodies, speed_m_s } => touches
                    .iter()
                    .filter(|touch| touch.speed >= *speed_m_s && touches_one(step, touch, bodies))
                    .map(|touch| touch.index as usize)
                    .filter(|&i| i < n)
                    .collect(),
                Trigger::Region { region } => match step.weight(*region) {
                    Some(weight) => of(&|i| weight.at(set.positions[i]) > 0.5),
                    None => Vec::new(),
                },
                Trigger::Faster { speed_m_s } => of(&|i| set.velocities[i].length() > *speed_m_s),
                Trigger::Slower { speed_m_s } => of(&|i| set.velocities[i].length() < *speed_m_s),
                Trigger::Frame { frame } if step.frame >= f64::from(*frame) => of(&|_| true),
                Trigger::Count { count } if n >= *count as usize => of(&|_| true),
                Trigger::Frame { .. } | Trigger::Count { .. } => Vec::new(),
            };
            met.sort_unstable();
            met.dedup();
            for index in met {
                if self.set.done[index] & bit != 0 {
                    continue;
                }
                self.set.done[index] |= bit;
                let mut hash =
                    ParticleHash::new(particles.seed, self.set.ids[index], Purpose::Event, entry as u32);
                if hash.unit() < event.probability {
                    due.push(Due { index, entry });
                }
            }
        }
        due.sort_by_key(|due| (due.index, due.entry));
        due
    }
}

fn touches_one(step: &Step, touch: &ParticleContact, of: &[shot::force::ElementFilter]) -> bool {
    let element = step.colliders.list()[touch.body as usize].now.element;
    of.is_empty() || step.shot.element(element).is_some_and(|element| of.iter().any(|who| who.means(element)))
}
