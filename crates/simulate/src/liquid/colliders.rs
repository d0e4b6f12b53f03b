//! The bodies of a shot as the solids that liquid meets.

use super::solids::Boundary;
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
        self.colliders.list()[body as usize].velocity_at(place)
    }

    fn parts(&self, body: u32, a: Vec3, b: Vec3) -> bool {
        self.colliders.list()[body as usize].parts(a, b)
    }

    fn version(&self) -> u64 {
        self.colliders.still_changes()
    }
}
