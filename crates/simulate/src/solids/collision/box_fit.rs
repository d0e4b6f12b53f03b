//! The box along the shape's own axes.

use super::Collider;
use geometry::Bounds;
use glam::Vec3;
use rapier3d::prelude::SharedShape;

/// Least side, metres.
const LEAST_M: f32 = 1e-3;

pub(super) fn fit(bounds: Bounds) -> Collider {
    let half = bounds.size().max(Vec3::splat(LEAST_M)) * 0.5;
    Collider::at(bounds.centre(), SharedShape::cuboid(half.x, half.y, half.z))
}
