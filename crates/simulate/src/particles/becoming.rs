//! What becomes of particles: they die, split, leave a trail, become other
//! particles or bodies of a solid.
//!
//! What is due is found from the particles as they are after travelling; those
//! born of it take part from the next substep on. So a circle of splits grows
//! by one generation a substep, and the bound on particles ends it by name.

use super::chance::{Chance, For};
use super::meeting::Touch;
use super::swarm::Newborn;
use super::{Swarms, System, births};
use crate::colliders::Newcomer;
use crate::{BlowUp, Step};
use glam::{Quat, Vec3};
use shot::{Becoming, Particles, Split, Then, When, circle_names, endless};

/// Something that becomes of a particle now.
struct Due {
    index: usize,
    entry: usize,
}

/// A particle as it is when something becomes of it.
#[derive(Clone, Copy)]
struct Parent {
    id: u32,
    place: Vec3,
    velocity: Vec3,
    size_m: f32,
    mass_kg: f32,
    turn: Quat,
    spin: Vec3,
    weight: f32,
}

impl Swarms {
    pub(super) fn become_others(
        &mut self,
        step: &Step,
        touches: &[Vec<Touch>],
        marks: &mut [Vec<bool>],
    ) -> Result<(), BlowUp> {
        // All that is due, before anything comes of it.
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
            // All that is due to a particle comes of it, though it dies; but it
            // becomes one other thing only, and then no more.
            let mut elsewhere = None;
            for Due { index, entry } in due {
                if elsewhere == Some(index) {
                    continue;
                }
                if self.becomes(step, i, index, entry, particles)? {
                    marks[i][index] = true;
                    let then = &particles.becoming[entry].then;
                    if matches!(then, Then::Become { .. } | Then::Solid { .. }) {
                        elsewhere = Some(index);
                    }
                }
            }
            self.leave_trails(step, i, particles)?;
        }
        Ok(())
    }

    /// Lets one thing become of a particle; true if it is gone then.
    fn becomes(
        &mut self,
        step: &Step,
        i: usize,
        index: usize,
        entry: usize,
        particles: &Particles,
    ) -> Result<bool, BlowUp> {
        let system = &self.systems[i];
        let (id, parent) = (system.id, system.parent(index));
        match &particles.becoming[entry].then {
            Then::Die {} => Ok(true),
            Then::Become { of } => {
                let Some(to) = self.system(*of) else { return Ok(false) };
                let split = Split {
                    of: Some(*of),
                    number: 1,
                    inherit: 1.0,
                    speed_m_s: 0.0,
                    size: Some(1.0),
                    ..Split::default()
                };
                self.bear(step, to, parent, entry, &split, true)?;
                Ok(true)
            }
            Then::Split(split) => {
                let to = match split.of {
                    None => i,
                    Some(of) => match self.system(of) {
                        Some(to) => to,
                        None => return Ok(false),
                    },
                };
                self.bear(step, to, parent, entry, split, false)?;
                Ok(!split.stays)
            }
            Then::Trail { .. } => {
                self.systems[i].swarm.rest.trails.insert((parent.id, entry as u32), 0.5);
                Ok(false)
            }
            Then::Solid { of } => {
                let most = step.shot.element(*of).and_then(|e| e.as_solid()).and_then(|s| s.from_particles);
                let handed = self.handed_over.entry(*of).or_insert(0);
                if most.is_none_or(|most| *handed >= most) {
                    return Ok(false);
                }
                *handed += 1;
                self.owed.newcomers.push(Newcomer {
                    from: id,
                    element: *of,
                    pose: (parent.place, parent.turn),
                    velocity: parent.velocity,
                    spin: parent.spin,
                    size_m: parent.size_m,
                    mass_kg: parent.mass_kg,
                });
                Ok(true)
            }
        }
    }

    /// Makes the particles that one becomes. They share its mass, unless it
    /// stays; so a split that adds no speed keeps momentum.
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
        if let Err(mut error) = system.bound(step, u64::from(split.number)) {
            if let Some(circle) = endless(step.shot, system.id) {
                let names = circle_names(step.shot, &circle);
                error.what += &format!("; they become each other without end: {names}");
            }
            return Err(error);
        }
        let way = parent.velocity.try_normalize().unwrap_or(Vec3::Y);
        let upright = Quat::from_rotation_arc(Vec3::Y, way);
        let now = step.seconds as f32;
        for child in 0..split.number {
            let mut chance = Chance::new(particles.seed ^ parent.id, child, For::Becoming, entry as u32 + 1);
            let mut newborn = births::start(
                particles,
                (parent.place, parent.turn),
                Vec3::ZERO,
                Vec3::ZERO,
                now,
                &mut chance,
            );
            let speed = split.speed_m_s * chance.about(split.speed_variation);
            newborn.velocity =
                parent.velocity * split.inherit + upright * chance.cone(split.spread_rad) * speed;
            newborn.weight = parent.weight;
            if let Some(size) = split.size {
                let drag = particles.body.drag * std::f32::consts::PI * 0.25;
                newborn.size_m = parent.size_m * size;
                newborn.drag_area_m2 = drag * newborn.size_m * newborn.size_m;
            }
            if !split.stays {
                newborn.mass_kg = parent.mass_kg / split.number as f32;
            }
            if itself {
                newborn.turn = parent.turn;
                newborn.spin = parent.spin;
            } else if split.spin_rad_s != 0.0 {
                newborn.spin = chance.direction() * split.spin_rad_s;
            }
            system.swarm.push(&newborn, system.columns);
        }
        Ok(())
    }

    /// Makes particles of the bodies that are handed back.
    pub(super) fn take_back(&mut self, step: &Step) -> Result<(), BlowUp> {
        for body in std::mem::take(&mut self.arrivals) {
            let Some(to) = self.system(body.element) else { continue };
            let Some(particles) = step.shot.element(body.element).and_then(|e| e.as_particles()) else {
                continue;
            };
            if let Some(handed) = self.handed_over.get_mut(&body.from) {
                *handed = handed.saturating_sub(1);
            }
            let system = &mut self.systems[to];
            system.bound(step, 1)?;
            let mut chance = Chance::new(particles.seed, system.swarm.rest.next_id, For::Birth, 3);
            let now = step.seconds as f32;
            let born = births::start(particles, body.pose, Vec3::ZERO, Vec3::ZERO, now, &mut chance);
            let newborn = Newborn {
                velocity: body.velocity,
                size_m: body.size_m,
                mass_kg: body.mass_kg,
                drag_area_m2: particles.body.drag * std::f32::consts::PI * 0.25 * body.size_m * body.size_m,
                turn: body.pose.1,
                spin: body.spin,
                ..born
            };
            system.swarm.push(&newborn, system.columns);
        }
        Ok(())
    }

    fn leave_trails(&mut self, step: &Step, i: usize, particles: &Particles) -> Result<(), BlowUp> {
        let trails: Vec<((u32, u32), f32)> =
            self.systems[i].swarm.rest.trails.iter().map(|(of, owed)| (*of, *owed)).collect();
        for ((id, entry), owed) in trails {
            let Some(Becoming { then: Then::Trail { of, per_s }, .. }) =
                particles.becoming.get(entry as usize)
            else {
                continue;
            };
            let (Some(index), Some(to)) = (self.systems[i].swarm.find(id), self.system(*of)) else {
                continue;
            };
            let parent = self.systems[i].parent(index);
            let total = owed + per_s * step.dt;
            let number = total.floor();
            self.systems[i].swarm.rest.trails.insert((id, entry), total - number);
            if number < 1.0 {
                continue;
            }
            let system = &mut self.systems[to];
            let Some(other) = step.shot.element(system.id).and_then(|e| e.as_particles()) else { continue };
            system.bound(step, number as u64)?;
            for k in 0..number as u32 {
                let back = step.dt * (k as f32 + total.fract()) / total.max(1.0);
                let serial = system.swarm.rest.next_id;
                let mut chance = Chance::new(other.seed, serial, For::Birth, 2);
                let place = parent.place - parent.velocity * back;
                let born_s = step.seconds as f32 - back;
                let mut newborn = births::start(
                    other,
                    (place, parent.turn),
                    Vec3::ZERO,
                    parent.velocity,
                    born_s,
                    &mut chance,
                );
                newborn.weight = parent.weight;
                system.swarm.push(&newborn, system.columns);
            }
        }
        Ok(())
    }
}

impl System {
    fn parent(&self, index: usize) -> Parent {
        let swarm = &self.swarm;
        Parent {
            id: swarm.ids[index],
            place: swarm.places[index],
            velocity: swarm.velocities[index],
            size_m: swarm.sizes[index],
            mass_kg: 1.0 / swarm.inverse_masses[index],
            turn: swarm.turns.get(index).copied().unwrap_or(Quat::IDENTITY),
            spin: swarm.spins.get(index).copied().unwrap_or(Vec3::ZERO),
            weight: swarm.weights.get(index).copied().unwrap_or(1.0),
        }
    }

    /// What is due, by index and then by entry; each entry once for a particle.
    fn due(&mut self, step: &Step, particles: &Particles, touches: &[Touch], marked: &[bool]) -> Vec<Due> {
        let n = self.swarm.len().min(marked.len());
        let mut due = Vec::new();
        let now = step.seconds as f32;
        for (entry, becoming) in particles.becoming.iter().enumerate() {
            let bit = 1u32 << entry;
            let swarm = &self.swarm;
            let of = |test: &dyn Fn(usize) -> bool| -> Vec<usize> {
                (0..n).filter(|&i| swarm.done[i] & bit == 0 && test(i)).collect()
            };
            let mut met = match &becoming.when {
                When::Age { s } => of(&|i| now - swarm.born_s[i] >= *s),
                When::End {} => of(&|i| swarm.ends_s[i] <= now),
                When::Touch { of, speed_m_s } => touches
                    .iter()
                    .filter(|touch| touch.speed >= *speed_m_s && touches_one(step, touch, of))
                    .map(|touch| touch.index as usize)
                    .filter(|&i| i < n)
                    .collect(),
                When::Region { region } => match step.weight(*region) {
                    Some(weight) => of(&|i| weight.at(swarm.places[i]) > 0.5),
                    None => Vec::new(),
                },
                When::Faster { speed_m_s } => of(&|i| swarm.velocities[i].length() > *speed_m_s),
                When::Slower { speed_m_s } => of(&|i| swarm.velocities[i].length() < *speed_m_s),
                When::Frame { frame } if step.frame >= f64::from(*frame) => of(&|_| true),
                When::Count { number } if n >= *number as usize => of(&|_| true),
                When::Frame { .. } | When::Count { .. } => Vec::new(),
            };
            met.sort_unstable();
            met.dedup();
            for index in met {
                if self.swarm.done[index] & bit != 0 {
                    continue;
                }
                self.swarm.done[index] |= bit;
                let mut chance =
                    Chance::new(particles.seed, self.swarm.ids[index], For::Becoming, entry as u32);
                if chance.share() < becoming.share {
                    due.push(Due { index, entry });
                }
            }
        }
        due.sort_by_key(|due| (due.index, due.entry));
        due
    }
}

fn touches_one(step: &Step, touch: &Touch, of: &[shot::Who]) -> bool {
    let element = step.colliders.list()[touch.body as usize].now.element;
    of.is_empty() || step.shot.element(element).is_some_and(|element| of.iter().any(|who| who.means(element)))
}
