//! The sphere around the middle of a shape, as wide as the shape's longest side.

use super::Collider;
use crate::PrepareError;
use geometry::Mesh;
use glam::Vec3;
use rapier3d::prelude::SharedShape;
use shot::Shape;

pub(super) fn fit(
    shape: &Shape,
    mesh: impl Fn() -> Result<Mesh, PrepareError>,
) -> Result<Collider, PrepareError> {
    if let Shape::Sphere { radius_m } = *shape {
        return Ok(Collider::at(Vec3::ZERO, SharedShape::ball(radius_m)));
    }
    let bounds = mesh()?.bounds();
    Ok(Collider::at(bounds.centre(), SharedShape::ball(0.5 * bounds.size().max_element())))
}
