//! The rest shape of a solid.

use crate::parameters::{MAX_SIZE_M, MIN_SIZE_M, Parameters};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The rest shape of a solid, centred on its origin (a cone and a mesh too:
/// bodies orientation about their centre of mass, shapes about their origin).
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Shape {
    /// A box with rounded edges.
    Box {
        /// Full size along x, y, z in metres.
        #[schemars(with = "[f32; 3]")]
        #[parameter(label = "Size", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.1)]
        size_m: glam::Vec3,
        /// Radius of the edges in metres; 0 for sharp ones.
        #[serde(default)]
        #[parameter(label = "Edge radius", range(0.0, MAX_SIZE_M), most = (0.5 * size_m.min_element()).max(0.0), step = 0.01)]
        edge_m: f32,
    },
    /// A sphere.
    Sphere {
        /// Radius in metres.
        #[parameter(label = "Radius", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.01)]
        radius_m: f32,
    },
    /// A cylinder along y with half balls at its ends.
    Capsule {
        /// Radius in metres.
        #[parameter(label = "Radius", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.01)]
        radius_m: f32,
        /// Length of the straight part in metres.
        #[parameter(label = "Length", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.01)]
        length_m: f32,
    },
    /// A cylinder along y.
    Cylinder {
        /// Radius in metres.
        #[parameter(label = "Radius", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.01)]
        radius_m: f32,
        /// Height in metres.
        #[parameter(label = "Height", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.01)]
        height_m: f32,
    },
    /// A cone along y, its tip up.
    Cone {
        /// Radius of the base in metres.
        #[parameter(label = "Radius", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.01)]
        radius_m: f32,
        /// Height in metres.
        #[parameter(label = "Height", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.01)]
        height_m: f32,
    },
    /// A ring around y.
    Torus {
        /// Radius of the ring's centre line in metres.
        #[parameter(label = "Ring radius", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.01)]
        major_radius_m: f32,
        /// Radius of the tube in metres.
        #[parameter(label = "Tube radius", range(MIN_SIZE_M, MAX_SIZE_M), most = major_radius_m.max(MIN_SIZE_M), step = 0.01)]
        minor_radius_m: f32,
    },
    /// A flat rectangle that faces up.
    Plane {
        /// Size along x and z in metres.
        #[schemars(with = "[f32; 2]")]
        #[parameter(label = "Size", parts("x", "z"), range(MIN_SIZE_M, MAX_SIZE_M), step = 0.1)]
        size_m: glam::Vec2,
    },
    /// An imported mesh.
    Mesh {
        /// Name of a mesh among the shot's assets.
        asset: String,
        /// Scale from the file's units to metres.
        #[parameter(label = "Scale", range(1e-6, 1e6), step = 0.01)]
        scale: f32,
    },
}

impl Shape {
    /// A box with sharp edges.
    pub fn cuboid(x: f32, y: f32, z: f32) -> Self {
        Self::Box { size_m: glam::Vec3::new(x, y, z), edge_m: 0.0 }
    }

    /// A sphere.
    pub fn sphere(radius_m: f32) -> Self {
        Self::Sphere { radius_m }
    }

    /// A flat rectangle.
    pub fn plane(x: f32, z: f32) -> Self {
        Self::Plane { size_m: glam::Vec2::new(x, z) }
    }

    /// Whether it is curved all round an axis or a point.
    pub fn is_round(&self) -> bool {
        match self {
            Self::Sphere { .. }
            | Self::Capsule { .. }
            | Self::Cylinder { .. }
            | Self::Cone { .. }
            | Self::Torus { .. } => true,
            Self::Box { .. } | Self::Plane { .. } | Self::Mesh { .. } => false,
        }
    }

    /// The same shape, so many times as large.
    #[must_use]
    pub fn scaled(&self, by: f32) -> Self {
        let mut scaled = self.clone();
        match &mut scaled {
            Self::Box { size_m, edge_m } => (*size_m, *edge_m) = (*size_m * by, *edge_m * by),
            Self::Sphere { radius_m } => *radius_m *= by,
            Self::Capsule { radius_m, length_m } => (*radius_m, *length_m) = (*radius_m * by, *length_m * by),
            Self::Cylinder { radius_m, height_m } | Self::Cone { radius_m, height_m } => {
                (*radius_m, *height_m) = (*radius_m * by, *height_m * by);
            }
            Self::Torus { major_radius_m, minor_radius_m } => {
                (*major_radius_m, *minor_radius_m) = (*major_radius_m * by, *minor_radius_m * by)
            }
            Self::Plane { size_m } => *size_m *= by,
            Self::Mesh { scale, .. } => *scale *= by,
        }
        scaled
    }

    /// Plain name, as the interface shows it.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Box { .. } => "box",
            Self::Sphere { .. } => "sphere",
            Self::Capsule { .. } => "capsule",
            Self::Cylinder { .. } => "cylinder",
            Self::Cone { .. } => "cone",
            Self::Torus { .. } => "torus",
            Self::Plane { .. } => "plane",
            Self::Mesh { .. } => "mesh",
        }
    }

    /// The smallest dimension in metres; none for a mesh, whose file says it.
    pub fn smallest_m(&self) -> Option<f32> {
        Some(match self {
            Self::Box { size_m, .. } => size_m.min_element(),
            Self::Sphere { radius_m } | Self::Capsule { radius_m, .. } => 2.0 * radius_m,
            Self::Cylinder { radius_m, height_m } | Self::Cone { radius_m, height_m } => {
                height_m.min(2.0 * radius_m)
            }
            Self::Torus { minor_radius_m, .. } => 2.0 * minor_radius_m,
            Self::Plane { size_m } => size_m.min_element(),
            Self::Mesh { .. } => return None,
        })
    }
}
