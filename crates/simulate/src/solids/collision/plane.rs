//! A plane collides as a slab below it.

use super::Collider;
use glam::{Vec2, Vec3};
use rapier3d::prelude::SharedShape;

/// Depth of the slab, m: a slab, unlike a plane without thickness, stops fast bodies.
const DEPTH_M: f32 = 0.2;

pub(super) fn fit(size_m: Vec2) -> Collider {
    let half = 0.5 * DEPTH_M;
    Collider::at(Vec3::new(0.0, -half, 0.0), SharedShape::cuboid(0.5 * size_m.x, half, 0.5 * size_m.y))
}
