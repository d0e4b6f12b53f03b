//! Steering of particles, and their response to contacts.

use crate::{Element, Id, force::ElementFilter};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How particles move of themselves.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Steering {
    /// The speed they keep to of themselves, m/s; none: they only drift.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cruise_speed_m_s: Option<f32>,
    /// The greatest acceleration of their own steering, m/s².
    pub max_acceleration_m_s2: f32,
    /// Fraction of the acceleration that goes in a random direction, 0–1.
    pub wander: f32,
    /// Time after which that direction has changed, s.
    pub wander_s: f32,
    /// Steering has no vertical part.
    pub horizontal: bool,
    /// How they keep with others of their element.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub flock: Option<Flock>,
    /// They steer away from bodies that they would reach within this time, s; 0: never.
    pub avoidance_time_s: f32,
    /// Least distance between their centres, m; 0: none is kept.
    pub min_distance_m: f32,
    /// The curve or solid they stay on; none: they go anywhere.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub constrained_to: Option<Id>,
}

impl Default for Steering {
    fn default() -> Self {
        Self {
            cruise_speed_m_s: None,
            max_acceleration_m_s2: 4.0,
            wander: 0.0,
            wander_s: 1.0,
            horizontal: false,
            flock: None,
            avoidance_time_s: 0.0,
            min_distance_m: 0.0,
            constrained_to: None,
        }
    }
}

/// How particles keep with others of their element (C. Reynolds, *Flocks,
/// herds, and schools*, 1987). Each weight is a fraction of the greatest acceleration.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Flock {
    /// Distance within which they are neighbours, m.
    pub perception_radius_m: f32,
    /// The distance that they would keep, m.
    pub distance_m: f32,
    /// Weight of moving away from neighbours nearer than `distance_m`, a fraction of the acceleration.
    pub separation: f32,
    /// Weight of matching the velocity of neighbours, a fraction of the acceleration.
    pub alignment: f32,
    /// Weight of moving towards the mean position of neighbours, a fraction of the acceleration.
    pub cohesion: f32,
}

impl Default for Flock {
    fn default() -> Self {
        Self { perception_radius_m: 1.0, distance_m: 0.3, separation: 1.0, alignment: 0.5, cohesion: 0.3 }
    }
}

/// How particles respond to contacts with bodies.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ContactResponse {
    /// Whether they collide with bodies at all.
    pub enabled: bool,
    /// The bodies they collide with; nothing named: all.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<ElementFilter>,
    /// The bodies they pass through.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub except: Vec<ElementFilter>,
    /// Outcome of a contact.
    pub outcome: ContactOutcome,
    /// Probability of the outcome, 0–1; the others bounce.
    pub probability: f32,
    /// Coefficient of restitution, no unit; a pair has the mean of its two.
    pub restitution: f32,
    /// Variation of the restitution, as a fraction of it, 0–1.
    pub restitution_variation: f32,
    /// Coulomb friction coefficient, no unit; a pair has the mean of its two.
    pub friction: f32,
    /// Whether they push free bodies by their momentum.
    pub push: bool,
}

impl ContactResponse {
    /// Whether they collide with the bodies of an element.
    pub fn collides_with(&self, element: &Element) -> bool {
        self.enabled && ElementFilter::among(&self.only, &self.except, element)
    }
}

impl Default for ContactResponse {
    fn default() -> Self {
        Self {
            enabled: true,
            only: Vec::new(),
            except: Vec::new(),
            outcome: ContactOutcome::Bounce,
            probability: 1.0,
            restitution: 0.3,
            restitution_variation: 0.0,
            friction: 0.4,
            push: true,
        }
    }
}

/// Outcome of a contact of a particle with a body.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum ContactOutcome {
    /// Bounce, by restitution and friction.
    #[default]
    Bounce,
    /// Its velocity loses the part along the normal, and it slides on.
    Slide,
    /// Stick: the particle moves with the body from then on.
    Stick,
    /// Die.
    Die,
}
