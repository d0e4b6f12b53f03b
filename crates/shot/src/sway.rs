//! Sway: secondary motion of a mesh after its own motion.

use crate::parameters::{MAX_SIZE_M, MIN_SIZE_M, Parameters};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What makes the mesh of a rigid solid sway: each vertex follows the place that the solid's motion, or the file of its mesh,
/// gives it by a damped spring. The shape is that under the gravity of the first frame. Nothing meets the swaying mesh.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Sway {
    /// Natural frequency of a vertex, Hz.
    #[parameter(label = "Frequency", unit = "Hz", range(0.01, 1_000.0), slide(0.2, 12.0), step = 0.1)]
    pub frequency_hz: f32,
    /// Damping against that at which it no longer swings; no unit.
    #[parameter(label = "Damping ratio", range(0.0, 10.0), slide(0.0, 1.0), step = 0.05)]
    pub damping_ratio: f32,
    /// How much of the swing is shown: 0 is none, 1 as the spring has it; no unit.
    #[parameter(label = "Amount", words = "amount of sway", range(0.0, 10.0), slide(0.0, 2.0), step = 0.05)]
    pub amount: f32,
    /// Map of the solid that the amount is multiplied by; none: 1 everywhere.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub map: Option<String>,
    /// Mass per area against which forces of air act, kg/m².
    #[parameter(
        label = "Weight",
        words = "mass per area of what sways",
        unit = "g/m²",
        scale = 1_000.0,
        range(0.001, 1_000.0),
        slide(20.0, 2_000.0),
        step = 10.0
    )]
    pub mass_kg_m2: f32,
    /// Longest edges of its mesh, m; a mesh that a file moves keeps its own.
    #[parameter(
        label = "Edges",
        unit = "mm",
        scale = 1_000.0,
        fixed,
        range(MIN_SIZE_M, MAX_SIZE_M),
        slide(5.0, 200.0),
        step = 5.0
    )]
    pub edge_m: f32,
}

impl Default for Sway {
    fn default() -> Self {
        Self { frequency_hz: 2.0, damping_ratio: 0.15, amount: 1.0, map: None, mass_kg_m2: 0.5, edge_m: 0.05 }
    }
}
