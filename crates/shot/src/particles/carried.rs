//! Particles that a liquid carries.

use crate::Id;
use crate::parameters::{MAX_SPEED, Parameters};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Particles that a liquid carries: spray in the air flies freely, foam at the surface goes with the liquid, bubbles within it rise.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Carried {
    /// The element of the liquid.
    pub liquid: Id,
    /// Speed at which bubbles rise through liquid at rest, m/s: against gravity and all other forces.
    #[serde(default = "rise")]
    #[parameter(
        label = "Bubbles rise at",
        words = "rise of bubbles",
        range(0.0, MAX_SPEED),
        slide(0.0, 1.0),
        step = 0.01
    )]
    pub rise_speed_m_s: f32,
    /// Time in which a bubble takes on the velocity of the liquid but for 37 %, s.
    #[serde(default = "response")]
    #[parameter(
        label = "They follow within",
        words = "response of bubbles",
        unit = "s",
        range(0.0, 100.0),
        slide(0.0, 1.0),
        step = 0.01
    )]
    pub response_time_s: f32,
    /// What they may be; as something else they are gone.
    #[serde(default = "all")]
    pub phases: Vec<Phase>,
}

/// What a carried particle is, by how much liquid is around it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Phase {
    /// In the air.
    Spray,
    /// At the surface.
    Foam,
    /// Within the liquid.
    Bubble,
}

impl Carried {
    /// By a liquid, whatever they become.
    pub fn by(liquid: Id) -> Self {
        Self { liquid, rise_speed_m_s: rise(), response_time_s: response(), phases: all() }
    }
}

fn rise() -> f32 {
    0.25
}

fn response() -> f32 {
    0.05
}

fn all() -> Vec<Phase> {
    vec![Phase::Spray, Phase::Foam, Phase::Bubble]
}
