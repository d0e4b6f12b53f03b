//! Moving particles over a substep: half a drift, the forces, half a drift, and
//! what is in the way.
//!
//! Drift–kick–drift is of second order and keeps volume in phase space; under
//! constant acceleration it is exact. A particle's way is a straight piece; the
//! piece is tested against bodies at their true shape, both moving. Far from
//! still bodies nothing is asked: each particle keeps a distance within which
//! there is none, and asks again once it may have used it up (as *conservative
//! advancement* does, B. Mirtich, 1996).

use super::System;
use super::meeting::{Body, Meeting, Touch, met};
use crate::colliders::Colliders;
use crate::forces::{Acting, Points};
use crate::{BlowUp, Step};
use geometry::Bounds;
use glam::{Quat, Vec3};
use rayon::prelude::*;
use shot::{Element, Outcome, Particles, When};
use std::ops::Range;

/// Particles that forces take at once.
const CHUNK: usize = 1_024;
/// Particles a thread takes at once: many, so that those that come near bodies
/// are near each other too when they are taken in the order of where they are.
const SHEAF: usize = 32 * CHUNK;

/// What travelling gave.
#[derive(Default)]
pub struct Travelled {
    pub touches: Vec<Touch>,
    /// Any has come to its end, or has left the world.
    pub any_gone: bool,
    /// The first without a finite place.
    pub lost: Option<u32>,
}

struct Columns<'a> {
    ids: &'a [u32],
    places: &'a mut [Vec3],
    velocities: &'a mut [Vec3],
    clearances: &'a mut [f32],
    sizes: &'a [f32],
    inverse_masses: &'a [f32],
    drag_areas: &'a [f32],
    ends: &'a [f32],
    /// Share of the substep left to each; none: all of it.
    shares: Option<&'a [f32]>,
    from: usize,
}

impl System {
    /// Moves the particles of a range; `shares` of the substep are left to them.
    pub(super) fn travel(
        &mut self,
        step: &Step,
        element: &Element,
        particles: &Particles,
        range: Range<usize>,
        shares: Option<&[f32]>,
    ) -> Result<Travelled, BlowUp> {
        if range.is_empty() {
            return Ok(Travelled::default());
        }
        let acting = step.field.acting(self.id);
        let meeting = (particles.meet.on && !step.colliders.is_empty()).then(|| {
            let meet = &particles.meet;
            let met = met(step, meet);
            let told = matches!(meet.outcome, Outcome::Stick | Outcome::Die)
                || particles.becoming.iter().any(|becoming| matches!(becoming.when, When::Touch { .. }));
            Meeting { colliders: step.colliders, particles, met, told, dt: step.dt }
        });
        let now = step.seconds as f32;
        let world_m = step.shot.physics.world_m;
        let swarm = &mut self.swarm;
        let first = range.start;
        // Not so many that a thread has nothing to do.
        let share_of_threads = range.len().div_ceil(2 * rayon::current_num_threads());
        let sheaf = share_of_threads.next_multiple_of(CHUNK).min(SHEAF);
        let columns = (
            swarm.ids[range.clone()].par_chunks(sheaf),
            swarm.places[range.clone()].par_chunks_mut(sheaf),
            swarm.velocities[range.clone()].par_chunks_mut(sheaf),
            swarm.clearances[range.clone()].par_chunks_mut(sheaf),
            swarm.sizes[range.clone()].par_chunks(sheaf),
            swarm.inverse_masses[range.clone()].par_chunks(sheaf),
            swarm.drag_areas[range.clone()].par_chunks(sheaf),
            swarm.ends_s[range].par_chunks(sheaf),
        );
        let parts: Vec<Travelled> = columns
            .into_par_iter()
            .enumerate()
            .map_init(Scratch::default, |scratch, (i, of)| {
                let (ids, places, velocities, clearances, sizes, inverse_masses, drag_areas, ends) = of;
                let from = i * sheaf;
                let shares = shares.map(|shares| &shares[from..from + ids.len()]);
                let columns = Columns {
                    ids,
                    places,
                    velocities,
                    clearances,
                    sizes,
                    inverse_masses,
                    drag_areas,
                    ends,
                    shares,
                    from: first + from,
                };
                columns.travel(&acting, particles, meeting.as_ref(), step.dt, now, world_m, scratch)
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
                name: format!("{} (particle {})", element.name, self.swarm.ids[index as usize] + 1),
                what: "has no finite place or speed any more; try more substeps".to_owned(),
            });
        }
        Ok(all)
    }

    /// Turns particles by their spins.
    pub(super) fn spin(&mut self, dt: f32) {
        let swarm = &mut self.swarm;
        swarm.turns.par_chunks_mut(CHUNK).zip(swarm.spins.par_chunks(CHUNK)).for_each(|(turns, spins)| {
            for (turn, spin) in turns.iter_mut().zip(spins) {
                if *spin != Vec3::ZERO {
                    *turn = (Quat::from_scaled_axis(*spin * dt) * *turn).normalize();
                }
            }
        });
    }
}

/// A particle that has to look for what is in its way: all that it takes, so
/// that its columns are read and written in their order.
#[derive(Clone, Copy)]
#[repr(align(64))]
struct Looking {
    body: Body,
    /// What forces add to its velocity.
    change: Vec3,
    /// How long it is on its way, s.
    dt: f32,
}

/// Memory that a thread uses again.
#[derive(Default)]
struct Scratch {
    looking: Vec<Looking>,
    order: Vec<u64>,
    some: Vec<Looking>,
    near: Vec<usize>,
}

impl Columns<'_> {
    fn share(&self, i: usize) -> f32 {
        self.shares.map_or(1.0, |shares| shares[i])
    }

    fn travel(
        mut self,
        acting: &Acting,
        particles: &Particles,
        meeting: Option<&Meeting>,
        dt: f32,
        now: f32,
        world_m: f32,
        scratch: &mut Scratch,
    ) -> Travelled {
        let n = self.places.len();
        let mut travelled = Travelled::default();
        scratch.looking.clear();
        for from in (0..n).step_by(CHUNK) {
            let to = (from + CHUNK).min(n);
            self.drift(from..to, acting, particles.body.fastest_m_s, meeting, dt, &mut scratch.looking);
        }
        if let Some(meeting) = meeting {
            self.meet(meeting, scratch, &mut travelled.touches);
        }
        let far = world_m * world_m;
        for i in 0..n {
            let square = self.places[i].length_squared();
            if self.ends[i] <= now || square > far {
                travelled.any_gone = true;
            }
            if !(square + self.velocities[i].length_squared()).is_finite() {
                travelled.lost = travelled.lost.or(Some((self.from + i) as u32));
            }
        }
        travelled
    }

    /// Lets forces act on some, and moves those of them that have nothing near.
    fn drift(
        &mut self,
        range: Range<usize>,
        acting: &Acting,
        fastest: Option<f32>,
        meeting: Option<&Meeting>,
        dt: f32,
        looking: &mut Vec<Looking>,
    ) {
        let free = acting.is_empty() && fastest.is_none();
        let (from, n) = (range.start, range.len());
        let mut before = [Vec3::ZERO; CHUNK];
        before[..n].copy_from_slice(&self.velocities[range.clone()]);
        if !free {
            let mut half = [Vec3::ZERO; CHUNK];
            for i in 0..n {
                half[i] = self.places[from + i] + before[i] * (0.5 * dt * self.share(from + i));
            }
            let velocities = &mut self.velocities[range.clone()];
            let mut points = Points {
                places: &half[..n],
                velocities,
                inverse_masses: &self.inverse_masses[range.clone()],
                drag_areas: &self.drag_areas[range],
            };
            acting.push(&mut points, dt);
            if let Some(shares) = self.shares {
                for (i, velocity) in velocities.iter_mut().enumerate() {
                    *velocity = before[i] + (*velocity - before[i]) * shares[from + i];
                }
            }
            if let Some(fastest) = fastest {
                velocities.iter_mut().for_each(|v| *v = v.clamp_length_max(fastest));
            }
        }
        for (first, i) in before[..n].iter().zip(from..) {
            let way = (*first + self.velocities[i]) * (0.5 * dt * self.share(i));
            let Some(meeting) = meeting else {
                self.places[i] += way;
                continue;
            };
            let length = way.length();
            if self.clearances[i] > length && !meeting.colliders.any_move() {
                self.clearances[i] -= length;
                self.places[i] += way;
            } else {
                let body = Body {
                    id: self.ids[i],
                    index: i as u32,
                    place: self.places[i],
                    velocity: *first,
                    clear: self.clearances[i],
                    radius: 0.5 * self.sizes[i],
                    inverse_mass: self.inverse_masses[i],
                };
                let change = self.velocities[i] - *first;
                looking.push(Looking { body, change, dt: self.share(i) * dt });
            }
        }
    }

    /// Moves those that have to look, in an order in which they look at the
    /// same things one after the other.
    fn meet(&mut self, meeting: &Meeting, scratch: &mut Scratch, touches: &mut Vec<Touch>) {
        let Scratch { looking, order, some, near } = scratch;
        put_in_order(order, looking, meeting.colliders);
        // Some at a time are fetched from where they are, which takes no longer than to fetch one.
        for keys in order.chunks(16) {
            some.clear();
            some.extend(keys.iter().map(|&key| looking[key as u32 as usize]));
            for (of, &key) in some.iter_mut().zip(keys) {
                meeting.go(&mut of.body, of.change, of.dt, near, touches);
                looking[key as u32 as usize].body = of.body;
            }
        }
        for Looking { body, .. } in looking.iter() {
            let i = body.index as usize;
            (self.places[i], self.velocities[i], self.clearances[i]) =
                (body.place, body.velocity, body.clear);
        }
        touches.sort_by_key(|touch| touch.index);
        touches.iter_mut().for_each(|touch| touch.index += self.from as u32);
    }
}

/// The order in which those that look are taken, in the low 32 bits: along a
/// curve that fills space (G. M. Morton, 1966), if there is so much to look at
/// that it matters.
fn put_in_order(order: &mut Vec<u64>, looking: &[Looking], colliders: &Colliders) {
    order.clear();
    order.extend(0..looking.len() as u64);
    if !colliders.are_fine() {
        return;
    }
    let bounds = looking.iter().fold(Bounds::EMPTY, |all, of| all.with(of.body.place));
    let scale = 1023.0 / bounds.size().max_element().max(1e-6);
    for (key, of) in order.iter_mut().zip(looking) {
        let [x, y, z] = ((of.body.place - bounds.min) * scale).to_array().map(|at| apart(at as u32));
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
