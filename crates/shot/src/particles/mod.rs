//! Particles: where they are born, how they start, what becomes of them.

mod becoming;
mod birth;
mod show;
mod steer;

pub use becoming::{Back, Becoming, Split, Then, When, circle_names, endless};
pub use birth::{BirthMap, Births, BornOn, Direction, MapOf, Often, Source, Start};
pub use show::{By, ColourStop, Form, Pick, Show, SizeStop, Turned, own_random};
pub use steer::{Flock, Meet, Outcome, Steer};

use crate::{Id, Look, Weight, Who};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Particles of one sort, and what emits them.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Particles {
    /// Where they are born.
    pub from: Source,
    /// How many are born, and when.
    pub births: Births,
    /// What they have at birth.
    pub start: Start,
    /// What they are to forces.
    pub body: Grain,
    /// How they move of themselves.
    pub steer: Steer,
    /// What they do on meeting bodies.
    pub meet: Meet,
    /// What becomes of them.
    pub becoming: Vec<Becoming>,
    /// What is drawn for each.
    pub show: Show,
    /// Its look; a colour over life or speed multiplies albedo and emission.
    pub look: Look,
    /// Chooses all that is random.
    pub seed: u32,
}

/// What a particle is to forces: a ball.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Grain {
    /// Density, or mass.
    pub weight: Weight,
    /// Largest random share by which its mass differs, 0–1.
    pub mass_variation: f32,
    /// Drag coefficient C for moving air; its area is that of a disc of its size.
    pub drag: f32,
    /// It never moves faster, m/s; none: it may.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fastest_m_s: Option<f32>,
}

impl Default for Grain {
    fn default() -> Self {
        Self { weight: Weight::DensityKgM3(600.0), mass_variation: 0.0, drag: 0.47, fastest_m_s: None }
    }
}

impl Particles {
    /// The particles that they make.
    pub fn makes(&self) -> impl Iterator<Item = Id> + '_ {
        self.becoming.iter().filter_map(|becoming| match &becoming.then {
            Then::Become { of } | Then::Trail { of, .. } => Some(*of),
            Then::Split(split) => split.of,
            Then::Die {} | Then::Solid { .. } => None,
        })
    }

    /// All lists of elements that it has.
    pub fn who(&self) -> impl Iterator<Item = &Vec<Who>> {
        let hits = if let Source::Impacts { of, .. } = &self.from { Some(of) } else { None };
        let touched = self.becoming.iter().filter_map(|becoming| match &becoming.when {
            When::Touch { of, .. } => Some(of),
            _ => None,
        });
        [&self.meet.only, &self.meet.except].into_iter().chain(hits).chain(touched)
    }

    /// What of it acts on the simulation: all but what it looks like.
    #[must_use]
    pub fn unseen(&self) -> Self {
        let show = Show::default();
        let look = Look::default();
        Self { show, look, ..self.clone() }
    }

    /// The mass of a particle of radius `radius_m`, kg.
    pub fn mass_kg(&self, radius_m: f32) -> f32 {
        match self.body.weight {
            Weight::MassKg(mass) => mass,
            Weight::DensityKgM3(density) => density * 4.0 / 3.0 * std::f32::consts::PI * radius_m.powi(3),
        }
    }
}
