//! The shape a solid collides as.

use crate::PrepareError;
use geometry::{Mesh, Meshes};
use glam::Vec3;
use rapier3d::parry::transformation::vhacd::VHACDParameters;
use rapier3d::prelude::*;
use shot::{Collision, Element, Moves, Shape, Solid};

/// Depth of the slab below a plane, metres: nothing passes what has a depth.
const PLANE_DEPTH: f32 = 0.2;

pub(super) struct Collider {
    pub shape: SharedShape,
    /// Place of the shape in the body's frame.
    pub offset: Pose,
}

pub(super) fn shape(element: &Element, solid: &Solid, meshes: &Meshes) -> Result<Collider, PrepareError> {
    let at = |shape, offset| Ok(Collider { shape, offset: Pose::from_parts(offset, Rotation::IDENTITY) });
    let mesh = || {
        meshes
            .mesh(&solid.shape)
            .map_err(|source| PrepareError::Mesh { element: element.name.clone(), source })
    };
    if let Shape::Plane { size_m } = solid.shape {
        let half = 0.5 * PLANE_DEPTH;
        return at(SharedShape::cuboid(0.5 * size_m.x, half, 0.5 * size_m.y), Vec3::new(0.0, -half, 0.0));
    }
    match solid.body.collision_of(&solid.shape) {
        Collision::Sphere => match solid.shape {
            Shape::Sphere { radius_m } => at(SharedShape::ball(radius_m), Vec3::ZERO),
            _ => {
                let bounds = mesh()?.bounds();
                at(SharedShape::ball(0.5 * bounds.size().max_element()), bounds.centre())
            }
        },
        Collision::Box => {
            let bounds = mesh()?.bounds();
            let half = bounds.size().max(Vec3::splat(1e-3)) * 0.5;
            at(SharedShape::cuboid(half.x, half.y, half.z), bounds.centre())
        }
        Collision::Hull => at(hull(element, solid, &mesh()?)?, Vec3::ZERO),
        Collision::Exact => at(exact(element, solid, mesh)?, Vec3::ZERO),
        Collision::Auto => unreachable!("collision_of has chosen"),
    }
}

fn hull(element: &Element, solid: &Solid, mesh: &Mesh) -> Result<SharedShape, PrepareError> {
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

fn exact(
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
                let flags = TriMeshFlags::FIX_INTERNAL_EDGES;
                SharedShape::trimesh_with_flags(mesh.positions, mesh.triangles, flags).map_err(|_| {
                    PrepareError::Collision {
                        element: element.name.clone(),
                        wanted: "exact",
                        why: "it has no faces",
                    }
                })
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
        _ => hull(element, solid, &mesh()?),
    }
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
