//! Contact of the points of surfaces with solids.
//!
//! A point keeps its thickness from a solid: closer than that, a spring pushes it out along the normal. The
//! spring is stiff against the point's inertia, and stiffens as long as the point stays pressed in. Points do not cross
//! surfaces of still and animated solids: their paths over the step are tested against the moving solids, and the correction of each Newton step
//! against the solids at the step's end.
//!
//! A free solid gives way within the step: a spring on it is in series with the inertia of the body, of which each of its
//! contacts has an equal part (R. Tonge, F. Benevolenski and A. Voroshilov, *Mass splitting for jitter-free parallel
//! rigid body simulation*, 2012), and the impulse goes back to the body. Points are not held back by free solids, as that
//! would take from their momentum.
//!
//! Friction is Coulomb's, as an elastic–plastic spring (J. Moreau, *On unilateral constraints, friction and plasticity*,
//! 1974): it ends at an anchor on the solid, and where its force would exceed μ times the normal force the anchor is dragged
//! along. A cloth at rest on a slope does not creep.
//!
//! A point that has touched sticks: its spring draws it back until the force of adhesion is reached, and friction holds by as
//! much more (B. Derjaguin, V. Muller and Y. Toporov, 1975: adhesion adds to the load).

use super::active_contacts::Spring;
use super::separating_planes::Wall;
use crate::colliders::{BodyState, Collider, Colliders, Impulse};
use geometry::Bounds;
use glam::{DVec3, Mat3, Vec3};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use shot::Id;

/// Distance at which a path hits a solid, in thicknesses.
const HIT_DISTANCE: f32 = 0.4;
/// Stiffness against the inertia of a point, at first.
const STIFFNESS: f64 = 8.0;
/// Greatest factor by which the stiffness has grown.
const MAX_GROWTH: f32 = 4_096.0;
/// A point that was in contact is looked for within a solid down to so many times the distance at which contacts begin.
const DEEPEST: f32 = 20.0;
/// Least distance from a solid, in thicknesses.
const LEAST_GAP: f64 = 0.1;
/// Adhesion is felt up to this part of the thickness beyond it: the work that takes a point off does not depend on the step.
const STICKS_UP_TO: f64 = 0.5;
/// Most contacts of a point.
const MAX_CONTACTS: usize = 2;

/// The state of a contact between steps.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct FrictionAnchor {
    element: Id,
    copy: u32,
    /// Where the friction spring ends, in the solid's frame.
    anchor: Vec3,
    /// Factor by which the stiffness has grown.
    growth: f32,
    /// The normal, in the solid's frame.
    normal: Vec3,
}

/// A contact in the present step.
#[derive(Clone, Copy, Debug)]
pub(super) struct PointContact {
    collider: u32,
    /// The nearest point of the solid, at the step's end.
    on: DVec3,
    normal: DVec3,
    /// Where the friction spring ends, at the step's end.
    anchor: DVec3,
    growth: f32,
    stiffness: f64,
    friction: f64,
    /// How far the body gives way within the step, m/N; 0: it does not.
    mobility: f64,
    /// How far adhesion lets the spring be drawn, m: the force that it bears over the stiffness.
    grip: f64,
    /// Whether it was in contact before, so that it sticks.
    sticks: bool,
}

pub(super) type Contacts = [Option<PointContact>; MAX_CONTACTS];
pub(super) type Anchors = [Option<FrictionAnchor>; MAX_CONTACTS];

/// What a point is like in contact.
#[derive(Clone, Copy, Debug)]
pub(super) struct ContactProperties {
    /// Distance that it keeps, m.
    pub thickness: f32,
    /// Coefficient of friction.
    pub friction: f32,
    /// Whether it is a sum of nodes, so that contact acts on these by springs only.
    pub embedded: bool,
    /// Whether it pushes free solids.
    pub pushes: bool,
    /// Force that takes it off a solid, N.
    pub adhesion: f64,
}

impl ContactProperties {
    /// Whether a solid gives way to it.
    fn moves(&self, collider: &Collider) -> bool {
        self.pushes && collider.now.inverse_mass > 0.0
    }
}

/// What is known of the contacts of a point: those of the round before, and of the step before.
struct PreviousContacts<'a> {
    contacts: Contacts,
    anchors: &'a Anchors,
}

impl PreviousContacts<'_> {
    /// The normal of the contact with a solid of the list.
    fn normal(&self, collider: &Collider, index: usize) -> Option<Vec3> {
        let of_round = self.contacts.iter().flatten().find(|contact| contact.collider as usize == index);
        let of_step = || self.anchors.iter().flatten().find(|anchor| anchor.is_of(collider));
        of_round.map(|of| of.normal.as_vec3()).or_else(|| of_step().map(|of| of.normal_now(collider)))
    }
}

/// Detection of the contacts in a step.
pub(super) struct ContactSearch<'a> {
    pub colliders: &'a Colliders,
    /// For each point.
    pub properties: &'a [ContactProperties],
    pub dt: f32,
    /// Positions at the step's start.
    pub x_n: &'a [DVec3],
}

impl ContactSearch<'_> {
    fn near(&self, bounds: &Bounds, list: &mut Vec<usize>) {
        list.clear();
        self.colliders.still_in(bounds, |i| list.push(i));
        self.colliders.moving_in(bounds, |i| list.push(i));
        // Cloths and soft bodies meet each other in another way.
        list.retain(|i| !self.colliders.list()[*i].is_deformable());
        list.sort_unstable();
    }

    /// Stops points on their paths where they hit a solid, and finds their contacts there. The solids go from
    /// `fraction` of the step to its end meanwhile; at 1 they stand.
    pub fn detect(
        &self,
        from: &[DVec3],
        to: &mut [DVec3],
        contacts: &mut [Contacts],
        anchors: &[Anchors],
        inertia: &[f64],
        held: &[bool],
        fraction: f32,
    ) {
        if self.colliders.is_empty() {
            return;
        }
        let each = to.par_chunks_mut(256).zip(contacts.par_chunks_mut(256)).enumerate();
        each.for_each_init(Vec::new, |list, (chunk, (to, contacts))| {
            for (i, (to, contacts)) in to.iter_mut().zip(contacts).enumerate() {
                let point = chunk * 256 + i;
                let before = std::mem::take(contacts);
                if held[point] {
                    continue;
                }
                let previous = PreviousContacts { contacts: before, anchors: &anchors[point] };
                self.detect_one(point, from[point], to, contacts, &previous, inertia[point], fraction, list);
            }
        });
        self.soften(to, contacts);
    }

    /// Softens the springs on solids that give way, of which each has its part.
    fn soften(&self, x: &[DVec3], contacts: &mut [Contacts]) {
        let mut counts = vec![0u32; self.colliders.list().len()];
        for ((x, contacts), own) in x.iter().zip(&*contacts).zip(self.properties) {
            let near = 1.5 * f64::from(own.thickness);
            for contact in contacts.iter().flatten().filter(|of| of.gives_way() && of.gap(*x) < near) {
                counts[contact.collider as usize] += 1;
            }
        }
        if counts.iter().all(|count| *count == 0) {
            return;
        }
        contacts.par_iter_mut().flatten().flatten().filter(|of| of.gives_way()).for_each(|of| {
            let share = f64::from(counts[of.collider as usize].max(1)) * of.mobility;
            let softer = 1.0 / (1.0 + of.stiffness * share);
            (of.stiffness, of.grip) = (of.stiffness * softer, of.grip / softer);
        });
    }

    /// The springs of all contacts, of points at `x`.
    pub fn springs(&self, x: &[DVec3], contacts: &[Contacts]) -> impl Iterator<Item = Spring> {
        contacts.iter().enumerate().flat_map(move |(point, contacts)| {
            let thickness = f64::from(self.properties[point].thickness);
            contacts.iter().flatten().filter_map(move |of| of.spring(point as u32, thickness, x[point]))
        })
    }

    /// The forces by solids that give way on points at `x`, each with the point and the solid.
    fn given(&self, x: &[DVec3], contacts: &[Contacts]) -> impl Iterator<Item = (u32, DVec3, BodyState)> {
        contacts.iter().enumerate().flat_map(move |(point, contacts)| {
            let thickness = f64::from(self.properties[point].thickness);
            contacts.iter().flatten().filter(|of| of.gives_way()).filter_map(move |of| {
                let spring = of.spring(point as u32, thickness, x[point])?;
                Some((point as u32, spring.force, self.colliders.list()[of.collider as usize].now))
            })
        })
    }

    /// The forces by solids that give way, of points at `x`.
    pub fn forces(&self, x: &[DVec3], contacts: &[Contacts]) -> impl Iterator<Item = (u32, DVec3)> {
        self.given(x, contacts).map(|(point, force, _)| (point, force))
    }

    /// The impulses on those solids.
    pub fn impulses(&self, x: &[DVec3], contacts: &[Contacts]) -> Vec<Impulse> {
        let impulse = |(point, force, solid): (u32, DVec3, BodyState)| {
            let BodyState { element, copy, .. } = solid;
            let impulse = (-force * f64::from(self.dt)).as_vec3();
            Impulse { element, copy, at: x[point as usize].as_vec3(), impulse }
        };
        self.given(x, contacts).map(impulse).collect()
    }

    fn detect_one(
        &self,
        point: usize,
        from: DVec3,
        to: &mut DVec3,
        contacts: &mut Contacts,
        before: &PreviousContacts,
        inertia: f64,
        fraction: f32,
        list: &mut Vec<usize>,
    ) {
        let (start, mut end) = (from.as_vec3(), to.as_vec3());
        let own = self.properties[point];
        let reach = 2.0 * own.thickness;
        let bounds = Bounds::EMPTY.with(start).with(end);
        let near = Bounds { min: bounds.min - reach, max: bounds.max + reach };
        self.near(&near, list);
        if list.is_empty() {
            return;
        }
        let all = self.colliders.list();
        let mut first: Option<(f32, usize)> = None;
        for &i in list.iter() {
            if let Some((t, _)) = all[i].intersect(start, fraction, end, HIT_DISTANCE * own.thickness)
                && first.is_none_or(|(other, _)| t < other)
            {
                first = Some((t, i));
            }
        }
        if let Some((t, i)) = first {
            // The solid carries the point on from where it hit.
            let at = start.lerp(end, t);
            let rest = if fraction >= 1.0 { 0.0 } else { (1.0 - t) * self.dt };
            end = at + all[i].velocity_at(at) * rest;
            if !own.embedded && !own.moves(&all[i]) {
                *to = end.as_dvec3();
            }
        }
        let mut found: Vec<(f32, u32, Vec3)> = Vec::new();
        for &i in list.iter() {
            // Points may be within such a solid for a while.
            let within = (own.embedded || own.moves(&all[i])) && before.normal(&all[i], i).is_some();
            let reach = if within { DEEPEST * reach } else { reach };
            if let Some(on) = all[i].nearest(end, reach) {
                found.push((on.distance(end), i as u32, on));
            }
        }
        found.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        for (slot, (distance, i, on)) in contacts.iter_mut().zip(found) {
            if distance <= 0.0 {
                continue;
            }
            let collider = &all[i as usize];
            let known = before.anchors.iter().flatten().find(|of| of.is_of(collider));
            // The anchor of a new contact: the point at the step's start, carried by the solid.
            let carried = || self.x_n[point] + (collider.velocity_at(on) * self.dt).as_dvec3();
            let anchor = known.map_or_else(carried, |of| of.anchor_now(collider));
            let growth = known.map_or(1.0, |of| of.growth);
            let mut normal = (end - on) / distance;
            // Within the solid the nearest point of its surface lies ahead.
            let outward = before.normal(collider, i as usize);
            let within = own.embedded || own.moves(collider);
            let stiffness = STIFFNESS * f64::from(growth) * inertia;
            // The spring gives way before it is drawn further than contacts are looked for.
            let stiffness = stiffness.max(own.adhesion / (STICKS_UP_TO * f64::from(own.thickness)));
            if within && outward.is_some_and(|outward| normal.dot(outward) < 0.0) {
                normal = -normal;
            }
            *slot = Some(PointContact {
                collider: i,
                on: on.as_dvec3(),
                normal: normal.as_dvec3(),
                anchor,
                growth,
                stiffness,
                grip: own.adhesion / stiffness,
                sticks: known.is_some()
                    || (carried() - on.as_dvec3()).dot(normal.as_dvec3()) < f64::from(own.thickness),
                friction: f64::from(shot::pair_coefficient(own.friction, collider.now.friction)),
                mobility: match own.moves(collider) {
                    true => f64::from(collider.mobility(on, normal)) * f64::from(self.dt * self.dt),
                    false => 0.0,
                },
            });
        }
    }

    /// The states of a point's contacts after the step, their anchors dragged along where it slid.
    pub fn remember(&self, point: usize, contacts: &Contacts, x: DVec3) -> Anchors {
        let thickness = f64::from(self.properties[point].thickness);
        contacts.map(|contact| {
            let contact = contact?;
            let depth = contact.depth(thickness, x)?;
            let collider = &self.colliders.list()[contact.collider as usize];
            let slid = contact.slide(x, depth);
            let growth = if depth > 0.25 * thickness {
                (2.0 * contact.growth).min(MAX_GROWTH)
            } else if depth < 0.05 * thickness {
                (0.5 * contact.growth).max(1.0)
            } else {
                contact.growth
            };
            let (position, orientation) = collider.now.pose;
            let anchor = orientation.inverse() * (slid.as_vec3() - position);
            let normal = orientation.inverse() * contact.normal.as_vec3();
            let (element, copy) = (collider.now.element, collider.now.copy);
            Some(FrictionAnchor { element, copy, anchor, growth, normal })
        })
    }
}

impl FrictionAnchor {
    fn is_of(&self, collider: &Collider) -> bool {
        (self.element, self.copy) == (collider.now.element, collider.now.copy)
    }

    fn normal_now(&self, collider: &Collider) -> Vec3 {
        collider.now.pose.1 * self.normal
    }

    fn anchor_now(&self, collider: &Collider) -> DVec3 {
        let (position, orientation) = collider.now.pose;
        position.as_dvec3() + (orientation * self.anchor).as_dvec3()
    }
}

impl PointContact {
    /// Whether the solid gives way.
    pub fn gives_way(&self) -> bool {
        self.mobility > 0.0
    }

    fn gap(&self, x: DVec3) -> f64 {
        (x - self.on).dot(self.normal)
    }

    /// How far the spring is pressed, m, below 0 where adhesion draws it, with a force that does not exceed the adhesion; none:
    /// it does not act.
    fn depth(&self, thickness: f64, x: DVec3) -> Option<f64> {
        let depth = thickness - self.gap(x);
        let reach = if self.grip > 0.0 { self.grip.max(STICKS_UP_TO * thickness) } else { 0.0 };
        (depth > 0.0 || self.sticks && depth > -reach).then_some(depth.max(-self.grip))
    }

    /// Stiffness along the normal: none where adhesion draws with all its force.
    fn stiffness_at(&self, depth: f64) -> f64 {
        if depth > -self.grip || self.grip == 0.0 { self.stiffness } else { 0.0 }
    }

    /// How far along the solid friction holds: its limit is μ times the pressure and the adhesion.
    fn holds_up_to(&self, depth: f64) -> f64 {
        self.friction * (depth + self.grip)
    }

    /// The anchor after the step, with the point at `x`: no further off than friction holds.
    fn slide(&self, x: DVec3, depth: f64) -> DVec3 {
        let along = (x - self.anchor).reject_from_normalized(self.normal);
        let most = self.holds_up_to(depth);
        let length = along.length();
        if length <= most { self.anchor } else { x - along * (most / length) }
    }

    /// Adds the gradient and second derivative of its energy for a point at `x`.
    pub fn add(&self, thickness: f64, x: DVec3, gradient: &mut DVec3, block: &mut Mat3) {
        let Some(depth) = self.depth(thickness, x) else { return };
        let k = self.stiffness;
        *gradient -= self.normal * (k * depth);
        let n = self.normal.as_vec3();
        let across = Mat3::from_cols(n * n.x, n * n.y, n * n.z);
        *block += across * self.stiffness_at(depth) as f32;
        let along = (x - self.anchor).reject_from_normalized(self.normal);
        let (most, length) = (self.holds_up_to(depth), along.length());
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

    /// The same as a spring of a point, none if it does not act.
    pub fn spring(&self, point: u32, thickness: f64, x: DVec3) -> Option<Spring> {
        let depth = self.depth(thickness, x)?;
        let k = self.stiffness;
        let along = (x - self.anchor).reject_from_normalized(self.normal);
        let (most, length) = (self.holds_up_to(depth), along.length());
        let hold = if length <= most { 1.0 } else { most / length };
        Some(Spring {
            points: [point; 4],
            weights: [1.0, 0.0, 0.0, 0.0],
            normal: self.normal.as_vec3a(),
            along: self.stiffness_at(depth) as f32,
            across: (k * hold) as f32,
            force: self.normal * (k * depth) - along * (k * hold),
        })
    }

    /// Whether it acts, and whether it slides, with the point at `x`.
    pub fn state(&self, thickness: f64, x: DVec3) -> (bool, bool) {
        let depth = self.depth(thickness, x);
        let along = (x - self.anchor).reject_from_normalized(self.normal);
        (depth.is_some(), depth.is_some_and(|depth| along.length() > self.holds_up_to(depth)))
    }

    /// The plane that a point at `x_n` at the step's start is not pushed through; none if the solid gives way.
    pub fn wall(&self, point: u32, thickness: f64, x_n: DVec3) -> Option<Wall> {
        let least = LEAST_GAP * thickness - self.gap(x_n);
        (!self.gives_way()).then_some(Wall { point, normal: self.normal, least })
    }

    /// The way of a point out to a tenth of the thickness above the solid; zero if it is further off, or the solid gives way.
    pub fn way_out(&self, thickness: f64, x: DVec3) -> DVec3 {
        if self.gives_way() {
            return DVec3::ZERO;
        }
        self.normal * (LEAST_GAP * thickness - self.gap(x)).max(0.0)
    }
}
