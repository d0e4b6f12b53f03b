//! Particles: where they are born, how they start, what becomes of them.

mod appearance;
mod carried;
mod emission;
mod events;
mod liquid;
mod steering;

pub use appearance::{
    Appearance, ColourStop, Form, InstanceChoice, InstanceOrientation, RampInput, SizeStop, own_random,
};
pub use carried::{Carried, Phase};
pub use emission::{
    Direction, Emission, EmissionDomain, EmissionMap, EmissionSchedule, MapSource, Source, Start,
};
pub use events::{Action, ParticleEvent, Split, ToParticles, Trigger, circle_names, endless};
pub use liquid::{Liquid, LiquidQuantity, LiquidWeight, ScaledLiquid, liquid_materials};
pub use steering::{ContactOutcome, ContactResponse, Flock, Steering};

use crate::parameters::{MAX_SEED, Parameters};
use crate::{Id, Weight, force::ElementFilter, look::Look};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Particles of one sort, and what emits them.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Particles {
    /// Source of emission.
    #[parameter(nested)]
    pub source: Source,
    /// How many are born, and when.
    #[parameter(nested)]
    pub emission: Emission,
    /// Initial state.
    #[parameter(nested)]
    pub start: Start,
    /// Mass and drag.
    #[parameter(nested)]
    pub body: ParticleBody,
    /// What makes them a liquid; none: they are grains.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub liquid: Option<Liquid>,
    /// What carries them in and on a liquid; none: they pass through liquids.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub carried: Option<Carried>,
    /// How they steer.
    #[parameter(nested)]
    pub steering: Steering,
    /// How they respond to contacts with bodies.
    #[parameter(nested)]
    pub contact: ContactResponse,
    /// Events of their lives.
    #[parameter(nested)]
    pub events: Vec<ParticleEvent>,
    /// How each is drawn.
    #[parameter(nested)]
    pub appearance: Appearance,
    /// Its look; a colour over life or speed multiplies albedo and emission.
    #[parameter(nested)]
    pub look: Look,
    /// Chooses all that is random.
    #[parameter(fixed, label = "Seed", range(0.0, MAX_SEED), step = 1.0)]
    pub seed: u32,
}

/// Mass and drag of particles, which are spheres to forces.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct ParticleBody {
    /// Density, or mass.
    #[parameter(nested)]
    pub weight: Weight,
    /// Largest random fraction by which its mass differs, 0–1.
    #[parameter(label = "± mass", range(0.0, 0.99), slide(0.0, 0.95), step = 0.05)]
    pub mass_variation: f32,
    /// Drag coefficient C for moving air, no unit; its area is that of a disc of its size.
    #[parameter(label = "Drag", range(0.0, 10.0), step = 0.05)]
    pub drag: f32,
    /// Greatest speed, m/s; none: no limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(label = "Fastest", range(0.0, 2_000.0), step = 0.5, blank = "any speed")]
    pub max_speed_m_s: Option<f32>,
}

impl Default for ParticleBody {
    fn default() -> Self {
        Self { weight: Weight::DensityKgM3(600.0), mass_variation: 0.0, drag: 0.47, max_speed_m_s: None }
    }
}

impl Particles {
    /// The particles that they make.
    pub fn makes(&self) -> impl Iterator<Item = Id> + '_ {
        self.events.iter().filter_map(|event| match &event.action {
            Action::Become { particles } | Action::Trail { particles, .. } => Some(*particles),
            Action::Split(split) => split.particles,
            Action::Die {} | Action::Solid { .. } => None,
        })
    }

    /// The liquids that release or carry them.
    pub fn liquids(&self) -> impl Iterator<Item = Id> {
        let source = if let Source::Liquid { liquid, .. } = self.source { Some(liquid) } else { None };
        source.into_iter().chain(self.carried.as_ref().map(|carried| carried.liquid))
    }

    /// All lists of elements that it has.
    pub fn filters(&self) -> impl Iterator<Item = &Vec<ElementFilter>> {
        let hits = if let Source::Impacts { bodies, .. } = &self.source { Some(bodies) } else { None };
        let touched = self.events.iter().filter_map(|event| match &event.trigger {
            Trigger::Touch { bodies, .. } => Some(bodies),
            _ => None,
        });
        [&self.contact.only, &self.contact.except].into_iter().chain(hits).chain(touched)
    }

    /// The part that acts on the simulation: all but appearance and look.
    #[must_use]
    pub fn unseen(&self) -> Self {
        let appearance = Appearance::default();
        let look = Look::default();
        Self { appearance, look, ..self.clone() }
    }

    /// The mass of a particle of radius `radius_m`, kg; of a liquid that of its volume.
    pub fn mass_kg(&self, radius_m: f32) -> f32 {
        if let Some(liquid) = &self.liquid {
            return liquid.density_kg_m3 * liquid.particle_volume_m3();
        }
        match self.body.weight {
            Weight::MassKg(mass) => mass,
            Weight::DensityKgM3(density) => density * 4.0 / 3.0 * std::f32::consts::PI * radius_m.powi(3),
        }
    }
}
