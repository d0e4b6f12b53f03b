//! How UVs are laid on a solid's mesh at rest.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Where the UVs of a solid come from. They belong to the mesh at rest, so that images go along with what deforms.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum UvLayout {
    /// Those of the shape, or of the file that it comes from.
    #[default]
    Own,
    /// Seen along x.
    PlanarX,
    /// Seen along y.
    PlanarY,
    /// Seen along z.
    PlanarZ,
    /// Seen along the axis that each face looks along most.
    Box,
    /// Rolled round the y axis.
    Cylinder,
    /// By longitude and latitude about the middle.
    Sphere,
    /// Cut into pieces that lie flat with the least stretch.
    Unwrapped,
}

impl UvLayout {
    /// All, in the order of the interface.
    pub const ALL: [Self; 8] = [
        Self::Own,
        Self::PlanarX,
        Self::PlanarY,
        Self::PlanarZ,
        Self::Box,
        Self::Cylinder,
        Self::Sphere,
        Self::Unwrapped,
    ];

    /// Whether the shape's own are kept.
    pub fn is_own(&self) -> bool {
        *self == Self::Own
    }
}
