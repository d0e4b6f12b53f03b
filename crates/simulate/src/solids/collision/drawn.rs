//! Collision shapes as triangles, to be drawn.

use super::shape;
use crate::PrepareError;
use geometry::Meshes;
use glam::Vec3;
use rapier3d::prelude::*;
use shot::Element;

/// A collision shape as triangles, in the element's frame, to be drawn.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct CollisionMesh {
    /// Vertices in metres.
    pub positions: Vec<Vec3>,
    /// Vertex indices.
    pub triangles: Vec<[u32; 3]>,
}

/// The shape that a solid collides as.
///
/// # Errors
/// [`PrepareError`] if it has none.
pub fn collision_mesh(element: &Element, meshes: &Meshes) -> Result<CollisionMesh, PrepareError> {
    let Some(solid) = element.as_solid() else { return Ok(CollisionMesh::default()) };
    let collider = shape(element, solid, meshes)?;
    let mut out = CollisionMesh::default();
    append(&mut out, collider.shape.as_ref(), &collider.offset);
    Ok(out)
}

fn append(out: &mut CollisionMesh, shape: &dyn rapier3d::parry::shape::Shape, at: &Pose) {
    use rapier3d::parry::shape::TypedShape;
    let (vertices, triangles) = match shape.as_typed_shape() {
        TypedShape::Ball(s) => s.to_trimesh(16, 10),
        TypedShape::Cuboid(s) => s.to_trimesh(),
        TypedShape::Capsule(s) => s.to_trimesh(12, 6),
        TypedShape::Cylinder(s) => s.to_trimesh(20),
        TypedShape::Cone(s) => s.to_trimesh(20),
        TypedShape::ConvexPolyhedron(s) => s.to_trimesh(),
        TypedShape::TriMesh(s) => (s.vertices().to_vec(), s.indices().to_vec()),
        TypedShape::Compound(s) => {
            s.shapes().iter().for_each(|(part, shape)| append(out, shape.as_ref(), &(*at * *part)));
            return;
        }
        _ => return,
    };
    let base = out.positions.len() as u32;
    out.positions.extend(vertices.into_iter().map(|v| *at * v));
    out.triangles.extend(triangles.into_iter().map(|t| t.map(|v| v + base)));
}
