//! Where cloths and soft bodies are held.

use crate::Id;
use crate::parameters::Parameters;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Points of a cloth or a soft body that are held where the element's placement has them.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Pin {
    /// The points.
    pub part: PinnedPart,
    /// Whether they are held now.
    #[serde(default = "held")]
    #[parameter(label = "Holds", words = "pin")]
    pub holds: bool,
}

fn held() -> bool {
    true
}

/// Which points are held.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum PinnedPart {
    /// Those furthest along an axis of the element.
    Side(Side),
    /// The two ends of a side.
    Corners(Side),
    /// Those in a region, as long as they are in it.
    Region(Id),
}

/// A side of a shape, along an axis of its element.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// −x.
    Left,
    /// +x.
    Right,
    /// −y.
    Bottom,
    /// +y.
    Top,
    /// −z.
    Back,
    /// +z.
    Front,
}

impl Side {
    /// The unit vector out of it.
    pub fn axis(self) -> glam::Vec3 {
        use glam::Vec3;
        match self {
            Self::Left => Vec3::NEG_X,
            Self::Right => Vec3::X,
            Self::Bottom => Vec3::NEG_Y,
            Self::Top => Vec3::Y,
            Self::Back => Vec3::NEG_Z,
            Self::Front => Vec3::Z,
        }
    }
}
