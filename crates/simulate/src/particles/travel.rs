//! Integration of particles over a substep: half a drift, the forces, half a
//! drift (drift–kick–drift), and collision detection along the path.
//!
//! Drift–kick–drift is of second order and keeps volume in phase space; under
//! constant acceleration it is exact. A particle's path is a straight piece, which
//! is tested against bodies at their true shape, both moving. Each particle keeps
//! its clearance, a distance within which there is no still body; the distance is
//! computed again only when the particle may have moved that far (conservative
//! advancement, B. Mirtich, 1996).

use super::ParticleSystem;
use super::contact::{ContactStep, ParticleContact, ParticleState, met};
use crate::colliders::Colliders;
use crate::forces::{Acting, Points};
use crate::{BlowUp, Step};
use geometry::Bounds;
use glam::{Quat, Vec3};
use rayon::prelude::*;
use shot::{
    Element,
    particles::{ContactOutcome, Particles, Trigger},
};
use std::ops::Range;

/// Distance at which particles of a liquid meet bodies, in spacings.
const LIQUID_RADIUS: f32 = 0.2;
/// Particles to a block of the force evaluation.
const CHUNK: usize = 1_024;
/// Particles to a block of the collision tests: many, so that the sort by position
/// brings particles together that test the same bodies.
const SHEAF: usize = 32 * CHUNK;

/// The result of the integration.
#[derive(Default)]
pub struct Travelled {
    pub touches: Vec<ParticleContact>,
    /// Whether any particle has died or has left the world.
    pub any_gone: bool,
    /// The first particle without a finite position.
    pub lost: Option<u32>,
}

struct Columns<'a> {
    ids: &'a [u32],
    positions: &'a mut [Vec3],
    velocities: &'a mut [Vec3],
    clearances: &'a mut [f32],
    sizes: &'a [f32],
    inverse_masses: &'a [f32],
    drag_areas: &'a [f32],
    ends: &'a [f32],
    /// Fraction of the substep that remains to each; none: the whole.
    fractions: Option<&'a [f32]>,
    /// Displacements over the substep, of a liquid, which has had its forces, m.
    displacements: Option<&'a [Vec3]>,
    from: usize,
}

impl ParticleSystem {
    /// Moves the particles of a range over the remaining `fractions` of the substep.
    pub(super) fn travel(
        &mut self,
        step: &Step,
        element: &Element,
        particles: &Particles,
        range: Range<usize>,
        fractions: Option<&[f32]>,
    ) -> Result<Travelled, BlowUp> {
        let acting = step.field.acting(self.id);
        let met = met(step, &particles.contact);
        self.travel_by(step, (element, particles), (&acting, met, step.dt), range, fractions, None)
    }

    /// As [`ParticleSystem::travel`], under the forces that act, past the bodies that they meet, in `dt` seconds; a liquid by
    /// displacements.
    pub(super) fn travel_by(
        &mut self,
        step: &Step,
        (element, particles): (&Element, &Particles),
        (acting, met, dt): (&Acting, Vec<bool>, f32),
        range: Range<usize>,
        fractions: Option<&[f32]>,
        displacements: Option<&[Vec3]>,
    ) -> Result<Travelled, BlowUp> {
        if range.is_empty() {
            return Ok(Travelled::default());
        }
        let contacts = (particles.contact.enabled && !step.colliders.is_empty()).then(|| {
            let told = matches!(particles.contact.outcome, ContactOutcome::Stick | ContactOutcome::Die)
                || particles.events.iter().any(|event| matches!(event.trigger, Trigger::Touch { .. }));
            ContactStep { colliders: step.colliders, particles, met, told, dt }
        });
        let now = step.seconds as f32;
        let world_m = step.shot.physics.world_m;
        let set = &mut self.set;
        let first = range.start;
        // At least two chunks a thread.
        let share_of_threads = range.len().div_ceil(2 * rayon::current_num_threads());
        let sheaf = share_of_threads.next_multiple_of(CHUNK).min(SHEAF);
        let columns = (
            set.ids[range.clone()].par_chunks(sheaf),
            set.positions[range.clone()].par_chunks_mut(sheaf),
            set.velocities[range.clone()].par_chunks_mut(sheaf),
            set.clearances[range.clone()].par_chunks_mut(sheaf),
            set.sizes[range.clone()].par_chunks(sheaf),
            set.inverse_masses[range.clone()].par_chunks(sheaf),
            set.drag_areas[range.clone()].par_chunks(sheaf),
            set.ends_s[range].par_chunks(sheaf),
        );
        let parts: Vec<Travelled> = columns
            .into_par_iter()
            .enumerate()
            .map_init(Scratch::default, |scratch, (i, of)| {
                let (ids, positions, velocities, clearances, sizes, inverse_masses, drag_areas, ends) = of;
                let from = i * sheaf;
                let fractions = fractions.map(|fractions| &fractions[from..from + ids.len()]);
                let displacements = displacements.map(|all| &all[from..from + ids.len()]);
                let columns = Columns {
                    ids,
                    positions,
                    velocities,
                    clearances,
                    sizes,
                    inverse_masses,
                    drag_areas,
                    ends,
                    fractions,
                    displacements,
                    from: first + from,
                };
                columns.travel(acting, particles, contacts.as_ref(), dt, now, world_m, scratch)
            })
            .collect();
        let mut all = Travelled::default();
        for part in parts {
            all.touches.extend(part.touches);
            all.any_gone |= part.any_gone;
            all.lost = all.lost.or(part.lost);
        }
        if let Some(index) = all.lost {
            return Err(BlowUp {
                frame: step.frame_number(),
                element: element.id,
                name: format!("{} (particle {})", element.name, self.set.ids[index as usize] + 1),
                what: "has no finite place or speed any more; try more substeps".to_owned(),
            });
        }
        Ok(all)
    }

    /// Turns particles by their spins.
    pub(super) fn angular_velocity(&mut self, dt: f32) {
        let set = &mut self.set;
        set.orientations.par_chunks_mut(CHUNK).zip(set.angular_velocities.par_chunks(CHUNK)).for_each(
            |(orientations, angular_velocities)| {
                for (orientation, angular_velocity) in orientations.iter_mut().zip(angular_velocities) {
                    if *angular_velocity != Vec3::ZERO {
                        *orientation =
                            (Quat::from_scaled_axis(*angular_velocity * dt) * *orientation).normalize();
                    }
                }
            },
        );
    }
}

/// A particle that needs collision tests, with all that the tests read, so that the
/// columns are read and written in order.
#[derive(Clone, Copy)]
#[repr(align(64))]
struct Looking {
    body: ParticleState,
    /// Change of velocity by forces, m/s.
    change: Vec3,
    /// Duration of the move, s.
    dt: f32,
    /// Velocity before the move, m/s.
    before: Vec3,
}

/// Buffers of a thread, reused.
#[derive(Default)]
struct Scratch {
    looking: Vec<Looking>,
    order: Vec<u64>,
    some: Vec<Looking>,
    near: Vec<usize>,
}

impl Columns<'_> {
    fn fraction(&self, i: usize) -> f32 {
        self.fractions.map_or(1.0, |fractions| fractions[i])
    }

    /// Radius at which a particle meets bodies, m: those of a liquid fill the room beside a wall.
    fn radius(&self, i: usize) -> f32 {
        self.sizes[i] * if self.displacements.is_some() { LIQUID_RADIUS } else { 0.5 }
    }

    fn travel(
        mut self,
        acting: &Acting,
        particles: &Particles,
        contacts: Option<&ContactStep>,
        dt: f32,
        now: f32,
        world_m: f32,
        scratch: &mut Scratch,
    ) -> Travelled {
        let n = self.positions.len();
        let mut travelled = Travelled::default();
        scratch.looking.clear();
        for from in (0..n).step_by(CHUNK) {
            let to = (from + CHUNK).min(n);
            self.drift(from..to, acting, particles.body.max_speed_m_s, contacts, dt, &mut scratch.looking);
        }
        if let Some(contacts) = contacts {
            self.resolve_contacts(contacts, scratch, &mut travelled.touches);
        }
        let far = world_m * world_m;
        for i in 0..n {
            let square = self.positions[i].length_squared();
            if self.ends[i] <= now || square > far {
                travelled.any_gone = true;
            }
            if !(square + self.velocities[i].length_squared()).is_finite() {
                travelled.lost = travelled.lost.or(Some((self.from + i) as u32));
            }
        }
        travelled
    }

    /// Applies forces to a range of particles, and moves those that are clear of all bodies.
    fn drift(
        &mut self,
        range: Range<usize>,
        acting: &Acting,
        fastest: Option<f32>,
        contacts: Option<&ContactStep>,
        dt: f32,
        looking: &mut Vec<Looking>,
    ) {
        let free = self.displacements.is_some() || (acting.is_empty() && fastest.is_none());
        let (from, n) = (range.start, range.len());
        let mut before = [Vec3::ZERO; CHUNK];
        before[..n].copy_from_slice(&self.velocities[range.clone()]);
        if !free {
            let mut half = [Vec3::ZERO; CHUNK];
            for i in 0..n {
                half[i] = self.positions[from + i] + before[i] * (0.5 * dt * self.fraction(from + i));
            }
            let velocities = &mut self.velocities[range.clone()];
            let mut points = Points {
                positions: &half[..n],
                velocities,
                inverse_masses: &self.inverse_masses[range.clone()],
                drag_areas: &self.drag_areas[range],
            };
            acting.push(&mut points, dt);
            if let Some(fractions) = self.fractions {
                for (i, velocity) in velocities.iter_mut().enumerate() {
                    *velocity = before[i] + (*velocity - before[i]) * fractions[from + i];
                }
            }
            if let Some(fastest) = fastest {
                velocities.iter_mut().for_each(|v| *v = v.clamp_length_max(fastest));
            }
        }
        for (first, i) in before[..n].iter().zip(from..) {
            let way = match self.displacements {
                Some(displacements) => displacements[i] * self.fraction(i),
                None => (*first + self.velocities[i]) * (0.5 * dt * self.fraction(i)),
            };
            let Some(contacts) = contacts else {
                self.positions[i] += way;
                continue;
            };
            let length = way.length();
            if self.clearances[i] > length && !contacts.colliders.any_move() {
                self.clearances[i] -= length;
                self.positions[i] += way;
            } else {
                let body = ParticleState {
                    id: self.ids[i],
                    index: i as u32,
                    position: self.positions[i],
                    velocity: self.displacements.map_or(*first, |displacements| displacements[i] / dt),
                    clear: self.clearances[i],
                    radius: self.radius(i),
                    inverse_mass: self.inverse_masses[i],
                };
                let change = self.velocities[i] - *first;
                looking.push(Looking { body, change, dt: self.fraction(i) * dt, before: body.velocity });
            }
        }
    }

    /// Moves the particles that need collision tests, sorted by position.
    fn resolve_contacts(
        &mut self,
        contacts: &ContactStep,
        scratch: &mut Scratch,
        touches: &mut Vec<ParticleContact>,
    ) {
        let Scratch { looking, order, some, near } = scratch;
        put_in_order(order, looking, contacts.colliders);
        // Batches of 16 overlap their memory reads.
        for keys in order.chunks(16) {
            some.clear();
            some.extend(keys.iter().map(|&key| looking[key as u32 as usize]));
            for (of, &key) in some.iter_mut().zip(keys) {
                contacts.go(&mut of.body, of.change, of.dt, near, touches);
                looking[key as u32 as usize].body = of.body;
            }
        }
        for Looking { body, before, .. } in looking.iter() {
            let i = body.index as usize;
            (self.positions[i], self.clearances[i]) = (body.position, body.clear);
            // A displacement of a liquid is not its velocity times the time.
            self.velocities[i] = match self.displacements {
                Some(_) => self.velocities[i] + (body.velocity - *before),
                None => body.velocity,
            };
        }
        touches.sort_by_key(|touch| touch.index);
        touches.iter_mut().for_each(|touch| touch.index += self.from as u32);
    }
}

/// The order of the tests, in the low 32 bits: along a Morton curve (G. M. Morton,
/// 1966) if the bodies have so many triangles that the order matters.
fn put_in_order(order: &mut Vec<u64>, looking: &[Looking], colliders: &Colliders) {
    order.clear();
    order.extend(0..looking.len() as u64);
    if !colliders.are_fine() {
        return;
    }
    let bounds = looking.iter().fold(Bounds::EMPTY, |all, of| all.with(of.body.position));
    let scale = 1023.0 / bounds.size().max_element().max(1e-6);
    for (key, of) in order.iter_mut().zip(looking) {
        let [x, y, z] = ((of.body.position - bounds.min) * scale).to_array().map(|at| apart(at as u32));
        *key |= u64::from(x | y << 1 | z << 2) << 32;
    }
    order.sort_unstable();
}

/// The low ten bits, each three places from the next.
fn apart(x: u32) -> u32 {
    let x = (x | x << 16) & 0x0300_00ff;
    let x = (x | x << 8) & 0x0300_f00f;
    let x = (x | x << 4) & 0x030c_30c3;
    (x | x << 2) & 0x0924_9249
}
