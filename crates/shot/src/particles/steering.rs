//! Steering of particles, and their response to contacts.

use crate::parameters::{MAX_SIZE_M, Parameters};
use crate::{Element, Id, force::ElementFilter};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How particles move of themselves.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Steering {
    /// The speed they keep to of themselves, m/s; none: they only drift.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(label = "Cruise at", range(0.0, 1_000.0), blank = "they only drift")]
    pub cruise_speed_m_s: Option<f32>,
    /// The greatest acceleration of their own steering, m/s².
    #[parameter(label = "Agility", range(0.0, 10_000.0), step = 0.5)]
    pub max_acceleration_m_s2: f32,
    /// Fraction of the acceleration that goes in a random direction, 0–1.
    #[parameter(label = "Wander", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub wander: f32,
    /// Time after which that direction has changed, s.
    #[parameter(label = "Each way for", range(0.01, 1_000.0))]
    pub wander_s: f32,
    /// Steering has no vertical part.
    #[parameter(label = "Level")]
    pub horizontal: bool,
    /// How they keep with others of their element.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub flock: Option<Flock>,
    /// They steer away from bodies that they would reach within this time, s; 0: never.
    #[parameter(label = "Look ahead", range(0.0, 60.0))]
    pub avoidance_time_s: f32,
    /// Least distance between their centres, m; 0: none is kept.
    #[parameter(label = "Keep apart", unit = "mm", scale = 1_000.0, range(0.0, MAX_SIZE_M), step = 5.0)]
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
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Flock {
    /// Distance within which they are neighbours, m.
    #[parameter(label = "Sight", range(0.001, MAX_SIZE_M))]
    pub perception_radius_m: f32,
    /// The distance that they would keep, m.
    #[parameter(label = "Distance", range(0.0, MAX_SIZE_M), step = 0.05)]
    pub distance_m: f32,
    /// Weight of moving away from neighbours nearer than `distance_m`, a fraction of the acceleration.
    #[parameter(label = "Apart", range(0.0, 10.0), slide(0.0, 2.0), step = 0.05)]
    pub separation: f32,
    /// Weight of matching the velocity of neighbours, a fraction of the acceleration.
    #[parameter(label = "Same way", range(0.0, 10.0), slide(0.0, 2.0), step = 0.05)]
    pub alignment: f32,
    /// Weight of moving towards the mean position of neighbours, a fraction of the acceleration.
    #[parameter(label = "Together", range(0.0, 10.0), slide(0.0, 2.0), step = 0.05)]
    pub cohesion: f32,
}

impl Default for Flock {
    fn default() -> Self {
        Self { perception_radius_m: 1.0, distance_m: 0.3, separation: 1.0, alignment: 0.5, cohesion: 0.3 }
    }
}

/// How particles respond to contacts with bodies.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct ContactResponse {
    /// Whether they collide with bodies at all.
    #[parameter(label = "Meet bodies")]
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
    #[parameter(label = "Share that do", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub probability: f32,
    /// Coefficient of restitution, no unit; a pair has the mean of its two.
    #[parameter(label = "Bounce", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub restitution: f32,
    /// Variation of the restitution, as a fraction of it, 0–1.
    #[parameter(label = "± bounce", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub restitution_variation: f32,
    /// Coulomb friction coefficient, no unit; a pair has the mean of its two.
    #[parameter(label = "Friction", range(0.0, 10.0), slide(0.0, 2.0), step = 0.05)]
    pub friction: f32,
    /// Whether they push free bodies, by their momentum or, of a liquid, its pressure.
    #[parameter(label = "Push free bodies")]
    pub push: bool,
    /// Whether they push cloths and soft bodies, by their momentum or, of a liquid, its pressure; these are then computed anew when the
    /// particles change.
    #[parameter(label = "Push cloth and soft bodies")]
    pub push_deformables: bool,
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
            push_deformables: false,
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
