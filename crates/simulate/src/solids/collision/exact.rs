//! The exact fit: the triangles of a still solid, convex parts of a moving one.

use super::hull;
use crate::PrepareError;
use geometry::Mesh;
use glam::Vec3;
use rapier3d::parry::transformation::vhacd::VHACDParameters;
use rapier3d::prelude::*;
use shot::{Element, Moves, Shape, Solid};

pub(super) fn fit(
    element: &Element,
    solid: &Solid,
    mesh: impl Fn() -> Result<Mesh, PrepareError>,
) -> Result<SharedShape, PrepareError> {
    match solid.shape {
        Shape::Box { size_m, .. } => Ok(SharedShape::cuboid(0.5 * size_m.x, 0.5 * size_m.y, 0.5 * size_m.z)),
        Shape::Torus { major_radius_m, minor_radius_m } if solid.body.moves != Moves::Still => {
            Ok(ring(major_radius_m, minor_radius_m))
        }
        Shape::Torus { .. } | Shape::Mesh { .. } => {
            let mesh = mesh()?;
            if solid.body.moves == Moves::Still {
                triangles(element, &mesh)
            } else {
                // Moving meshes collide as convex parts, found by approximate
                // convex decomposition (K. Mamou, V-HACD, 2016).
                let parameters = VHACDParameters { resolution: 96, concavity: 0.002, ..Default::default() };
                let parts = SharedShape::convex_decomposition_with_params(
                    &mesh.positions,
                    &mesh.triangles,
                    &parameters,
                );
                Ok(parts)
            }
        }
        _ => hull::fit(element, solid, &mesh()?),
    }
}

/// The triangles of a mesh.
pub(super) fn triangles(element: &Element, mesh: &Mesh) -> Result<SharedShape, PrepareError> {
    let flags = TriMeshFlags::FIX_INTERNAL_EDGES;
    let (positions, triangles) = (mesh.positions.clone(), mesh.triangles.clone());
    SharedShape::trimesh_with_flags(positions, triangles, flags).map_err(|_| PrepareError::Collision {
        element: element.name.clone(),
        wanted: "exact",
        why: "it has no faces",
    })
}

/// A ring of capsules.
fn ring(major_radius_m: f32, minor_radius_m: f32) -> SharedShape {
    let parts = 24;
    let point = |i: usize| {
        let (sin, cos) = (std::f32::consts::TAU * i as f32 / parts as f32).sin_cos();
        Vec3::new(major_radius_m * cos, 0.0, major_radius_m * sin)
    };
    let capsule = |i| (Pose::IDENTITY, SharedShape::capsule(point(i), point(i + 1), minor_radius_m));
    SharedShape::compound((0..parts).map(capsule).collect())
}
