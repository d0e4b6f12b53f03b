//! The convex hull.

use crate::PrepareError;
use geometry::Mesh;
use rapier3d::prelude::SharedShape;
use shot::{Element, Shape, Solid};

pub(super) fn fit(element: &Element, solid: &Solid, mesh: &Mesh) -> Result<SharedShape, PrepareError> {
    match solid.shape {
        Shape::Sphere { radius_m } => Ok(SharedShape::ball(radius_m)),
        Shape::Capsule { radius_m, length_m } => Ok(SharedShape::capsule_y(0.5 * length_m, radius_m)),
        Shape::Cylinder { radius_m, height_m } => Ok(SharedShape::cylinder(0.5 * height_m, radius_m)),
        Shape::Cone { radius_m, height_m } => Ok(SharedShape::cone(0.5 * height_m, radius_m)),
        _ => SharedShape::convex_hull(&mesh.positions).ok_or_else(|| PrepareError::Collision {
            element: element.name.clone(),
            wanted: "hull",
            why: "its vertices lie in one plane",
        }),
    }
}
