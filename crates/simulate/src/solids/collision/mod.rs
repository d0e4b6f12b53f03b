//! The shape a solid collides as. A fit is a file; a new fit is a new file and a
//! line in [`shape`].

mod box_fit;
mod drawn;
mod exact;
mod hull;
mod plane;
mod sphere;

pub use drawn::{CollisionMesh, collision_mesh};

use crate::PrepareError;
use geometry::{Mesh, Meshes};
use glam::Vec3;
use rapier3d::prelude::*;
use shot::{Collision, Element, Shape, Solid};

pub(super) struct Collider {
    pub shape: SharedShape,
    /// Place of the shape in the body's frame.
    pub offset: Pose,
}

impl Collider {
    fn at(offset: Vec3, shape: SharedShape) -> Self {
        Self { shape, offset: Pose::from_parts(offset, Rotation::IDENTITY) }
    }
}

pub(super) fn shape(element: &Element, solid: &Solid, meshes: &Meshes) -> Result<Collider, PrepareError> {
    let mesh = || {
        meshes
            .mesh(&solid.shape)
            .map_err(|source| PrepareError::Mesh { element: element.name.clone(), source })
    };
    if let Shape::Plane { size_m } = solid.shape {
        return Ok(plane::fit(size_m));
    }
    if element.file_animation().is_some() {
        return Ok(Collider::at(Vec3::ZERO, exact::triangles(element, &mesh()?)?));
    }
    fit(element, solid, mesh)
}

/// The collision shape of a solid that has another mesh than its rest shape.
pub(super) fn shape_of_mesh(element: &Element, solid: &Solid, mesh: &Mesh) -> Result<Collider, PrepareError> {
    fit(element, solid, || Ok(mesh.clone()))
}

fn fit(
    element: &Element,
    solid: &Solid,
    mesh: impl Fn() -> Result<Mesh, PrepareError>,
) -> Result<Collider, PrepareError> {
    Ok(match solid.body.collision_of(&solid.shape) {
        Collision::Sphere => sphere::fit(&solid.shape, mesh)?,
        Collision::Box => box_fit::fit(mesh()?.bounds()),
        Collision::Hull => Collider::at(Vec3::ZERO, hull::fit(element, solid, &mesh()?)?),
        Collision::Exact => Collider::at(Vec3::ZERO, exact::fit(element, solid, mesh)?),
        Collision::Auto => unreachable!("collision_of has chosen"),
    })
}
