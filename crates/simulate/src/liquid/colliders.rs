//! The bodies of a shot as the solids that liquid meets.

use super::solids::{Boundary, Presence};
use crate::colliders::Colliders;
use geometry::Bounds;
use glam::Vec3;

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
}

impl Bodies<'_> {
    fn each_in(&self, bounds: &Bounds, mut found: impl FnMut(usize)) {
        self.colliders.still_in(bounds, |i| {
            if self.met[i] {
                found(i);
            }
        });
        self.colliders.moving_in(bounds, |i| {
            if self.met[i] {
                found(i);
            }
        });
    }

    /// The nearest body to a place and its signed distance, m, if one is nearer than `within`.
    pub fn nearest(&self, place: Vec3, within: f32) -> Option<(usize, f32)> {
        let around = Bounds { min: place - within, max: place + within };
        let mut nearest: Option<(usize, f32)> = None;
        self.each_in(&around, |i| {
            let body = &self.colliders.list()[i];
            let distance = body.signed_distance(place, within, THICKNESS * self.cell_m);
            if distance < nearest.map_or(within, |(_, least)| least) {
                nearest = Some((i, distance));
            }
        });
        nearest
    }
}

impl Boundary for Bodies<'_> {
    fn distance(&self, place: Vec3, within: f32) -> f32 {
        self.nearest(place, within).map_or(within, |(_, distance)| distance)
    }

    fn velocity(&self, place: Vec3) -> Vec3 {
        let body = self.nearest(place, 2.0 * self.cell_m).map(|(i, _)| &self.colliders.list()[i]);
        body.map_or(Vec3::ZERO, |body| body.velocity_at(place))
    }

    fn any_in(&self, min: Vec3, max: Vec3) -> Presence {
        let (bounds, mut found) = (Bounds { min, max }, Presence::None);
        self.each_in(&bounds, |i| {
            if !self.colliders.list()[i].now.still {
                found = Presence::Moving;
            } else if found == Presence::None {
                found = Presence::Still;
            }
        });
        found
    }

    fn parts(&self, a: Vec3, b: Vec3) -> bool {
        let (bounds, mut parted) = (Bounds { min: a.min(b), max: a.max(b) }, false);
        self.each_in(&bounds, |i| parted |= self.colliders.list()[i].parts(a, b));
        parted
    }

    fn version(&self) -> u64 {
        self.colliders.still_changes()
    }
}
