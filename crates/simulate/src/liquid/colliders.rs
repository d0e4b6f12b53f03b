//! The bodies of a shot as the solids that liquid meets.

use super::coupling::BodyImpulse;
use super::solids::{Boundary, FreeBody};
use crate::colliders::{BodyState, Colliders, Impulse};
use geometry::Bounds;
use glam::Vec3;
use std::collections::BTreeMap;

/// Thickness of surfaces that are not closed, in cells: at least one corner of the cells lies within.
const THICKNESS: f32 = 1.25;

/// The bodies that a liquid meets, at the end of a substep.
pub struct Bodies<'a> {
    /// All bodies.
    pub colliders: &'a Colliders,
    /// For each body in the list, whether the liquid meets it.
    pub met: &'a [bool],
    /// Edge of the liquid's cells, m.
    pub cell_m: f32,
    /// Whether the liquid pushes free bodies.
    pub pushes: bool,
    /// What it has given them in the substep, by body.
    pub given: BTreeMap<u32, BodyImpulse>,
}

impl Bodies<'_> {
    /// Adds what a step gave them.
    pub fn add_impulses(&mut self, given: &[BodyImpulse]) {
        for of in given {
            let sum = self.given.entry(of.body).or_insert(BodyImpulse {
                impulse: Vec3::ZERO,
                angular_impulse: Vec3::ZERO,
                velocity: Vec3::ZERO,
                angular_velocity: Vec3::ZERO,
                ..*of
            });
            sum.add(of);
        }
    }

    /// The impulses that they are owed.
    pub fn impulses(&self) -> Vec<Impulse> {
        let mut impulses = Vec::new();
        for (body, given) in &self.given {
            let BodyState { element, copy, .. } = self.colliders.list()[*body as usize].now;
            let mut push = |at: Vec3, impulse: Vec3| impulses.push(Impulse { element, copy, at, impulse });
            push(given.centre, given.impulse);
            // An angular impulse is a pair of opposite ones.
            let across = given.angular_impulse.any_orthogonal_vector().normalize_or_zero();
            let half = 0.5 * given.angular_impulse.cross(across);
            push(given.centre + across, half);
            push(given.centre - across, -half);
        }
        impulses
    }

    /// Whether a place is within a body.
    pub fn contain(&self, place: Vec3) -> bool {
        let (bounds, mut inside) = (Bounds { min: place, max: place }, false);
        let mut look = |i: usize| {
            let thickness = THICKNESS * self.cell_m;
            inside |=
                self.met[i] && self.colliders.list()[i].signed_distance(place, self.cell_m, thickness) < 0.0;
        };
        self.colliders.still_in(&bounds, &mut look);
        self.colliders.moving_in(&bounds, &mut look);
        inside
    }
}

impl Boundary for Bodies<'_> {
    fn bodies_in(&self, min: Vec3, max: Vec3) -> [Vec<u32>; 2] {
        let (bounds, centre, reach) = (Bounds { min, max }, 0.5 * (min + max), 0.5 * min.distance(max));
        let mut found = [Vec::new(), Vec::new()];
        // The box of a body can be much larger than the body: a plane that is turned, or one that is not closed.
        let mut near = |which: usize, i: usize| {
            if self.met[i] && self.colliders.list()[i].signed_distance(centre, 2.0 * reach, reach) < reach {
                found[which].push(i as u32);
            }
        };
        self.colliders.still_in(&bounds, |i| near(0, i));
        self.colliders.moving_in(&bounds, |i| near(1, i));
        found.iter_mut().for_each(|list| list.sort_unstable());
        found
    }

    fn distance(&self, body: u32, place: Vec3, within: f32) -> f32 {
        self.colliders.list()[body as usize].signed_distance(place, within, THICKNESS * self.cell_m)
    }

    fn velocity(&self, body: u32, place: Vec3) -> Vec3 {
        let pushed = self.given.get(&body).map_or(Vec3::ZERO, |given| given.velocity_at(place));
        self.colliders.list()[body as usize].velocity_at(place) + pushed
    }

    fn free_body(&self, body: u32) -> Option<FreeBody> {
        let BodyState { inverse_mass, inverse_inertia, centre, .. } =
            self.colliders.list()[body as usize].now;
        let free = self.pushes && inverse_mass > 0.0;
        free.then_some(FreeBody { inverse_mass, inverse_inertia, centre })
    }

    fn separates(&self, body: u32, a: Vec3, b: Vec3) -> bool {
        self.colliders.list()[body as usize].separates(a, b)
    }

    fn version(&self) -> u64 {
        self.colliders.still_changes()
    }
}
