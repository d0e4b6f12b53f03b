//! Quantities that are measured on the surface of what deforms.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A quantity at each vertex of a cloth or a soft body.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum SurfaceQuantity {
    /// The greatest principal strain, where it pulls; no unit.
    Stretch,
    /// The least principal strain, where it presses, as a positive number; no unit.
    Compression,
    /// The mean curvature, without that at rest, 1/m.
    Bend,
    /// Speed, m/s.
    Speed,
    /// How much of the surface around touches something, 0–1.
    Contact,
    /// Force per area of what it touches, the mean since the frame before, Pa.
    Pressure,
}

impl SurfaceQuantity {
    /// All, in the order of the interface.
    pub const ALL: [Self; 6] =
        [Self::Stretch, Self::Compression, Self::Bend, Self::Speed, Self::Contact, Self::Pressure];

    /// Its name in documents, addresses and attributes of meshes.
    pub fn name(self) -> &'static str {
        match self {
            Self::Stretch => "stretch",
            Self::Compression => "compression",
            Self::Bend => "bend",
            Self::Speed => "speed",
            Self::Contact => "contact",
            Self::Pressure => "pressure",
        }
    }

    /// The one of a name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|of| of.name() == name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_those_of_documents() {
        for of in SurfaceQuantity::ALL {
            assert_eq!(serde_json::to_value(of).unwrap(), of.name());
            assert_eq!(SurfaceQuantity::named(of.name()), Some(of));
        }
    }
}
