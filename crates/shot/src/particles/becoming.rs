//! What becomes of particles.

use crate::{Id, Who};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// One thing that becomes of each particle, once.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Becoming {
    /// When.
    pub when: When,
    /// What.
    pub then: Then,
    /// The share of them that it happens to, 0–1.
    #[serde(default = "all", skip_serializing_if = "is_all")]
    pub share: f32,
}

fn all() -> f32 {
    1.0
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_all(share: &f32) -> bool {
    *share == 1.0
}

/// When something becomes of a particle.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum When {
    /// So long after its birth.
    Age {
        /// How long, s.
        s: f32,
    },
    /// At the end of its life.
    End {},
    /// It touches a body.
    Touch {
        /// Which; nothing named: any.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        of: Vec<Who>,
        /// The least speed at which it comes up to the surface, m/s.
        #[serde(default)]
        speed_m_s: f32,
    },
    /// It comes to where a region's weight is over a half.
    Region {
        /// The region.
        region: Id,
    },
    /// It is faster than so much.
    Faster {
        /// How fast, m/s.
        speed_m_s: f32,
    },
    /// It is slower than so much.
    Slower {
        /// How slow, m/s.
        speed_m_s: f32,
    },
    /// The shot comes to a frame.
    Frame {
        /// Which.
        frame: u32,
    },
    /// There are so many of its element, or more.
    Count {
        /// How many.
        number: u32,
    },
}

/// What becomes of a particle.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Then {
    /// It dies.
    Die {},
    /// It becomes one of another element: its look, its forces, what becomes of it.
    Become {
        /// The other particles.
        of: Id,
    },
    /// It becomes several.
    Split(Split),
    /// From then on it leaves others behind.
    Trail {
        /// The particles that it leaves.
        of: Id,
        /// How many a second.
        per_s: f32,
    },
    /// It becomes a free body of a solid, with its place, turn, velocity and spin.
    Solid {
        /// The solid, whose bodies all come from particles.
        of: Id,
    },
}

/// A particle becomes several.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Split {
    /// The particles it becomes; none: of its own element.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub of: Option<Id>,
    /// How many.
    pub number: u32,
    /// Whether it goes on itself.
    pub stays: bool,
    /// Share of its velocity that they take with them.
    pub inherit: f32,
    /// Speed away from it, m/s.
    pub speed_m_s: f32,
    /// Variation of that speed.
    pub speed_variation: f32,
    /// Largest angle from its way at which they go, rad: π is all round.
    pub spread_rad: f32,
    /// Spin about a random axis, rad/s.
    pub spin_rad_s: f32,
    /// Their size as a share of its own; none: as their element says.
    pub size: Option<f32>,
}

impl Default for Split {
    fn default() -> Self {
        Self {
            of: None,
            number: 6,
            stays: false,
            inherit: 0.5,
            speed_m_s: 1.0,
            speed_variation: 0.5,
            spread_rad: std::f32::consts::PI,
            spin_rad_s: 0.0,
            size: Some(0.5),
        }
    }
}
