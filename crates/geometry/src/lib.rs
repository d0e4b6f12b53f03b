//! Meshes, their measures, and the rays that meet them.
//!
//! Lengths are metres, right-handed, y up. Triangles are counter-clockwise
//! seen from outside. [`Bvh`] answers closest-hit and any-hit queries; it uses
//! AVX2 where the processor has it, chosen at run time.
//!
//! Guarantees: primitives are closed (but for the plane), their normals have
//! unit length, their UVs lie in 0–1. [`mass_properties`] is exact for the
//! polyhedron. Not guaranteed: that a ray through the edge of two triangles
//! hits one of them; the miss is of the order of f32 rounding.
//!
//! ```
//! use geometry::{Bvh, Ray, primitive};
//! let ball = primitive::sphere(1.0, primitive::AROUND);
//! let bvh = Bvh::build(&ball.positions, &ball.triangles);
//! let hit = bvh.closest(&Ray::new([0.01, 0.02, 5.0].into(), [0.0, 0.0, -1.0].into())).unwrap();
//! assert!((hit.t - 4.0).abs() < 0.01);
//! ```
#![deny(unsafe_code)]
#![warn(missing_docs)]

mod bvh;
mod clearances;
mod convex_polygon;
mod cuboid;
mod deformation;
mod disjoint_sets;
mod edge_flips;
mod fill;
mod image;
pub mod maps;
mod mass;
mod mesh;
mod moving_surface;
pub mod packing;
mod particle_surface;
mod pool;
pub mod primitive;
mod refined;
mod repair;
mod sequence;
mod shape;
mod sites;
mod smoothing;
pub mod subdivision;
mod surface;
mod thickening;
pub mod tiles;
pub mod topology;
pub mod uv;
mod weld;

pub use bvh::{Bounds, Bvh, Hit, Ray, RefitPlan, Tree};
pub use convex_polygon::ConvexPolygon;
pub use deformation::{crevices, deformation, part_above_zero};
pub use disjoint_sets::DisjointSets;
pub use fill::{fill, points_within};
pub use image::{Image, brightness};
pub use mass::{MassProperties, mass_properties};
pub use mesh::{FaceGroup, Mesh, MeshError};
pub use moving_surface::{MovingSurface, SurfaceHit, SurfacePlace, barycentric};
pub use particle_surface::{LiquidMesh, ParticleSurface, SurfaceParticles};
pub use pool::{PoolError, fill_pool};
pub use sequence::{MeshSample, MeshSequence, MovingMesh};
pub use shape::{Meshes, MissingMesh, Refined, mass_of, wind_area_of};
pub use sites::{Site, Sites};
pub use smoothing::Smoothing;
pub use surface::{Surface, SurfaceKind};
pub use thickening::Thickening;
pub use topology::Topology;
pub use weld::{Weld, faces_at_edges, parts_by_edges, sides_by_edge};
