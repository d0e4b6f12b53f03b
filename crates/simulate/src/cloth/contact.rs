//! Contact of the points of a sheet with solids.
//!
//! A point keeps the sheet's thickness from a solid: closer than that it is pushed out along the normal,
//! as by a spring that is stiff against its inertia. Way beyond a solid's surface it never gets: its path is
//! tested against both moving, and each solution is cut where it would cross. Friction is
//! Coulomb's: a spring to the point of the solid at which it sticks, no stronger than μ times the pressure, whose end is
//! dragged along where it would be (J. Moreau, *On unilateral constraints, friction and plasticity*, 1974). So a cloth at rest on a
//! slope does not creep.

use crate::colliders::{Collider, Colliders};
use geometry::Bounds;
use glam::{DVec3, Mat3, Vec3};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use shot::Id;

/// Part of the thickness within which a path counts as a hit.
const CORE: f32 = 0.4;
/// Stiffness against the inertia of a point, at first.
const STIFFNESS: f64 = 8.0;
/// Greatest factor by which the stiffness has grown.
const MAX_GROWTH: f32 = 4_096.0;
/// Contacts of a point at once.
const EACH: usize = 2;

/// What a contact remembers from step to step.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Stuck {
    element: Id,
    copy: u32,
    /// The point of the solid at which it sticks, in the solid's frame.
    anchor: Vec3,
    /// Factor by which the stiffness has grown, since it was pressed in.
    growth: f32,
}

/// A contact in the present step.
#[derive(Clone, Copy, Debug)]
pub(super) struct Touch {
    collider: u32,
    /// The nearest point of the solid, at the step's end.
    on: DVec3,
    normal: DVec3,
    /// Where it sticks, at the step's end.
    anchor: DVec3,
    growth: f32,
    stiffness: f64,
    friction: f64,
}

pub(super) type Touches = [Option<Touch>; EACH];
pub(super) type Memory = [Option<Stuck>; EACH];

/// What all points of a sheet have in common.
pub(super) struct Surroundings<'a> {
    pub colliders: &'a Colliders,
    pub thickness: f32,
    pub friction: f32,
    pub dt: f32,
    /// Positions at the step's start.
    pub x_n: &'a [DVec3],
}

impl Surroundings<'_> {
    fn near(&self, bounds: &Bounds, list: &mut Vec<usize>) {
        list.clear();
        self.colliders.still_in(bounds, |i| list.push(i));
        self.colliders.moving_in(bounds, |i| list.push(i));
        list.sort_unstable();
    }

    /// Moves points along their paths up to what they hit, and finds what they are near. `from` are the
    /// positions at the step's start; with `fraction` 1 those of the solids' end.
    pub fn meet(
        &self,
        from: &[DVec3],
        to: &mut [DVec3],
        touches: &mut [Touches],
        memory: &[Memory],
        inertia: &[f64],
        held: &[bool],
        fraction: f32,
    ) {
        if self.colliders.is_empty() {
            return;
        }
        let each = to.par_chunks_mut(256).zip(touches.par_chunks_mut(256)).enumerate();
        each.for_each_init(Vec::new, |list, (chunk, (to, touches))| {
            for (i, (to, touches)) in to.iter_mut().zip(touches).enumerate() {
                let point = chunk * 256 + i;
                *touches = Touches::default();
                if held[point] {
                    continue;
                }
                self.meet_one(
                    point,
                    from[point],
                    to,
                    touches,
                    &memory[point],
                    inertia[point],
                    fraction,
                    list,
                );
            }
        });
    }

    fn meet_one(
        &self,
        point: usize,
        from: DVec3,
        to: &mut DVec3,
        touches: &mut Touches,
        memory: &Memory,
        inertia: f64,
        fraction: f32,
        list: &mut Vec<usize>,
    ) {
        let (start, mut end) = (from.as_vec3(), to.as_vec3());
        let reach = 2.0 * self.thickness;
        let bounds = Bounds::EMPTY.with(start).with(end);
        let around = Bounds { min: bounds.min - reach, max: bounds.max + reach };
        self.near(&around, list);
        if list.is_empty() {
            return;
        }
        let all = self.colliders.list();
        let mut first: Option<(f32, usize)> = None;
        for &i in list.iter() {
            if let Some((t, _)) = all[i].intersect(start, fraction, end, CORE * self.thickness)
                && first.is_none_or(|(other, _)| t < other)
            {
                first = Some((t, i));
            }
        }
        if let Some((t, i)) = first {
            // From where it is hit it goes on with the solid.
            let at = start.lerp(end, t);
            let rest = if fraction >= 1.0 { 0.0 } else { (1.0 - t) * self.dt };
            end = at + all[i].velocity_at(at) * rest;
            *to = end.as_dvec3();
        }
        let mut found: Vec<(f32, u32, Vec3)> = Vec::new();
        for &i in list.iter() {
            if let Some(on) = all[i].nearest(end, reach) {
                found.push((on.distance(end), i as u32, on));
            }
        }
        found.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        for (slot, (distance, i, on)) in touches.iter_mut().zip(found) {
            if distance <= 0.0 {
                continue;
            }
            let collider = &all[i as usize];
            let known = memory.iter().flatten().find(|of| of.is_of(collider));
            // A new contact holds the point where the solid would have carried it in this step.
            let carried = || self.x_n[point] + (collider.velocity_at(on) * self.dt).as_dvec3();
            let anchor = known.map_or_else(carried, |of| of.anchor_now(collider));
            let growth = known.map_or(1.0, |of| of.growth);
            *slot = Some(Touch {
                collider: i,
                on: on.as_dvec3(),
                normal: ((end - on) / distance).as_dvec3(),
                anchor,
                growth,
                stiffness: STIFFNESS * f64::from(growth) * inertia,
                friction: f64::from(shot::pair_coefficient(self.friction, collider.now.friction)),
            });
        }
    }

    /// What the contacts of a point remember: their anchors, dragged along where it slid.
    pub fn remember(&self, touches: &Touches, x: DVec3) -> Memory {
        touches.map(|touch| {
            let touch = touch?;
            let depth = f64::from(self.thickness) - touch.gap(x);
            if depth <= 0.0 {
                return None;
            }
            let collider = &self.colliders.list()[touch.collider as usize];
            let slid = touch.slide(x, depth);
            let growth = if depth > 0.25 * f64::from(self.thickness) {
                (2.0 * touch.growth).min(MAX_GROWTH)
            } else if depth < 0.05 * f64::from(self.thickness) {
                (0.5 * touch.growth).max(1.0)
            } else {
                touch.growth
            };
            let (position, orientation) = collider.now.pose;
            let anchor = orientation.inverse() * (slid.as_vec3() - position);
            Some(Stuck { element: collider.now.element, copy: collider.now.copy, anchor, growth })
        })
    }
}

impl Stuck {
    fn is_of(&self, collider: &Collider) -> bool {
        (self.element, self.copy) == (collider.now.element, collider.now.copy)
    }

    fn anchor_now(&self, collider: &Collider) -> DVec3 {
        let (position, orientation) = collider.now.pose;
        position.as_dvec3() + (orientation * self.anchor).as_dvec3()
    }
}

impl Touch {
    fn gap(&self, x: DVec3) -> f64 {
        (x - self.on).dot(self.normal)
    }

    /// Where it sticks once the point is at `x`: the spring is no longer than friction holds.
    fn slide(&self, x: DVec3, depth: f64) -> DVec3 {
        let along = (x - self.anchor).reject_from_normalized(self.normal);
        let most = self.friction * depth;
        let length = along.length();
        if length <= most { self.anchor } else { x - along * (most / length) }
    }

    /// Adds the gradient and second derivative of its energy for a point at `x`.
    pub fn add(&self, thickness: f64, x: DVec3, gradient: &mut DVec3, block: &mut Mat3) {
        let depth = thickness - self.gap(x);
        if depth <= 0.0 {
            return;
        }
        let k = self.stiffness;
        *gradient -= self.normal * (k * depth);
        let n = self.normal.as_vec3();
        let across = Mat3::from_cols(n * n.x, n * n.y, n * n.z);
        *block += across * k as f32;
        let along = (x - self.anchor).reject_from_normalized(self.normal);
        let (most, length) = (self.friction * depth, along.length());
        let hold = if length <= most { 1.0 } else { most / length };
        *gradient += along * (k * hold);
        let mut flat = Mat3::IDENTITY - across;
        if hold < 1.0 {
            // It slides: the force no longer grows along its way.
            let way = (along / length).as_vec3();
            flat -= Mat3::from_cols(way * way.x, way * way.y, way * way.z);
        }
        *block += flat * (k * hold) as f32;
    }

    /// Whether it presses, and whether it slides, with the point at `x`.
    pub fn state(&self, thickness: f64, x: DVec3) -> (bool, bool) {
        let depth = thickness - self.gap(x);
        let along = (x - self.anchor).reject_from_normalized(self.normal);
        (depth > 0.0, depth > 0.0 && along.length() > self.friction * depth)
    }

    /// A point no further into the solid than a tenth of the thickness above its surface.
    pub fn keep_out(&self, thickness: f64, x: &mut DVec3) {
        let least = 0.1 * thickness;
        let gap = self.gap(*x);
        if gap < least {
            *x += self.normal * (least - gap);
        }
    }
}
