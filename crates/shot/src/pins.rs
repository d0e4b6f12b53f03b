//! Where cloths and soft bodies are held.

use crate::Id;
use crate::parameters::{MAX_SIZE_M, Parameters};
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Points of a cloth or a soft body that are held where the element's placement has them, or where another solid takes them.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Pin {
    /// The points.
    pub part: PinnedPart,
    /// Whether they are held now.
    #[serde(default = "held")]
    #[parameter(label = "Holds", words = "pin")]
    pub holds: bool,
    /// The solid that takes them along; none: the element's placement does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Id>,
    /// How they give way; none: not at all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub spring: Option<PinSpring>,
}

/// A spring at each point, the same for any number of points: its stiffness is the point's mass times (2π f)².
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct PinSpring {
    /// Natural frequency f at which a point alone would swing, Hz.
    #[parameter(label = "Frequency", unit = "Hz", range(0.01, 1_000.0), slide(0.1, 20.0), step = 0.1)]
    pub frequency_hz: f32,
    /// Damping against that at which it no longer swings; no unit.
    #[parameter(label = "Damping ratio", range(0.0, 10.0), slide(0.0, 1.0), step = 0.05)]
    pub damping_ratio: f32,
}

impl Default for PinSpring {
    fn default() -> Self {
        Self { frequency_hz: 2.0, damping_ratio: 0.2 }
    }
}

impl Pin {
    /// A hard pin to the element's placement.
    pub fn hard(part: PinnedPart) -> Self {
        Self { part, holds: true, to: None, spring: None }
    }
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
    /// Those where a map is over ½, as long as it is; a spring is as strong as the map.
    Map(String),
    /// Those around a place of the shape at rest, at least the nearest.
    Point {
        /// The place, in the element's frame, m.
        #[schemars(with = "[f32; 3]")]
        position_m: Vec3,
        /// How far around it, m.
        radius_m: f32,
    },
    /// All of it.
    Whole {},
    /// Its centre of mass: it moves and turns freely around that.
    Centre {},
}

impl PinnedPart {
    /// Most that a radius may be, m.
    pub(crate) const MAX_RADIUS_M: f32 = MAX_SIZE_M;
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
