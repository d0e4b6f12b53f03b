//! How particles move of themselves, and what they do on meeting bodies.

use crate::{Element, Id, Who};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How particles move of themselves.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Steer {
    /// The speed they keep to of themselves, m/s; none: they only drift.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cruise_m_s: Option<f32>,
    /// The greatest acceleration of all that they do of themselves, m/s².
    pub agility_m_s2: f32,
    /// How much they wander: the share of their agility that goes a random way.
    pub wander: f32,
    /// For about so long a way of wandering lasts, s.
    pub wander_s: f32,
    /// They move level: nothing they do of themselves goes up or down.
    pub level: bool,
    /// How they keep with others of their element.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub flock: Option<Flock>,
    /// They turn away from what they would meet within so long, s; 0: not.
    pub ahead_s: f32,
    /// Their centres keep so far from each other, m; 0: not.
    pub apart_m: f32,
    /// The curve or solid they stay on; none: they go anywhere.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub on: Option<Id>,
}

impl Default for Steer {
    fn default() -> Self {
        Self {
            cruise_m_s: None,
            agility_m_s2: 4.0,
            wander: 0.0,
            wander_s: 1.0,
            level: false,
            flock: None,
            ahead_s: 0.0,
            apart_m: 0.0,
            on: None,
        }
    }
}

/// How particles keep with others of their element (C. Reynolds, *Flocks,
/// herds, and schools*, 1987). Each is a share of their agility.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Flock {
    /// How far they see each other, m.
    pub sight_m: f32,
    /// The distance that they would keep, m.
    pub distance_m: f32,
    /// How much they go away from those nearer than that, as a fraction of the agility.
    pub apart: f32,
    /// How much they go the way the others go, as a fraction of the agility.
    pub align: f32,
    /// How much they go to where the others are, as a fraction of the agility.
    pub together: f32,
}

impl Default for Flock {
    fn default() -> Self {
        Self { sight_m: 1.0, distance_m: 0.3, apart: 1.0, align: 0.5, together: 0.3 }
    }
}

/// What particles do on meeting bodies.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Meet {
    /// Whether they meet bodies at all.
    pub on: bool,
    /// The bodies they meet; nothing named: all.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<Who>,
    /// The bodies they pass through.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub except: Vec<Who>,
    /// What they do.
    pub outcome: Outcome,
    /// The share of them that does it; the others bounce.
    pub share: f32,
    /// Coefficient of restitution; a pair has the mean of its two.
    pub bounce: f32,
    /// Variation of the bounce, as a fraction of it, 0–1.
    pub bounce_variation: f32,
    /// Coulomb friction coefficient; a pair has the mean of its two.
    pub friction: f32,
    /// Whether they push free bodies by their momentum.
    pub push: bool,
}

impl Meet {
    /// Whether they meet the bodies of an element.
    pub fn meets(&self, element: &Element) -> bool {
        self.on && Who::among(&self.only, &self.except, element)
    }
}

impl Default for Meet {
    fn default() -> Self {
        Self {
            on: true,
            only: Vec::new(),
            except: Vec::new(),
            outcome: Outcome::Bounce,
            share: 1.0,
            bounce: 0.3,
            bounce_variation: 0.0,
            friction: 0.4,
            push: true,
        }
    }
}

/// What a particle does on meeting a body.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// It goes on as its bounce and friction say.
    #[default]
    Bounce,
    /// It loses what it has across the surface and slides on.
    Slide,
    /// It stays where it hit, and goes with the body.
    Stick,
    /// It dies.
    Die,
}
