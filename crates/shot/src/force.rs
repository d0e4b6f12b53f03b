//! Forces: what moves free bodies, where and when.

use crate::LAST_FRAME;
use crate::parameters::{MAX_SEED, MAX_SIZE_M, MAX_SPEED, MIN_SIZE_M, Parameters};
use crate::{Element, Id};
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Something that moves what is free.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Force {
    /// Kind, with its values.
    #[parameter(nested)]
    pub kind: ForceKind,
    /// Multiplies what it does, no unit; 1 leaves it as it is.
    #[serde(default = "one")]
    #[parameter(label = "Strength", range(-1e4, 1e4), slide(0.0, 3.0), step = 0.05)]
    pub strength: f32,
    /// Whether it acts at all.
    #[serde(default = "yes")]
    #[parameter(label = "On")]
    pub enabled: bool,
    /// The frame at which it begins to act; none: from the start.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(label = "From frame", words = "span", range(0.0, LAST_FRAME as f32), step = 1.0, blank = "the start")]
    pub from_frame: Option<u32>,
    /// The frame at which it ceases; none: it acts to the end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(label = "To frame", words = "span", range(0.0, LAST_FRAME as f32), step = 1.0, blank = "the end")]
    pub to_frame: Option<u32>,
    /// Forces act in rising order of this whole number, and by id where it is the same.
    #[serde(default)]
    #[parameter(label = "Order", range(-1e6, 1e6), step = 1.0)]
    pub order: i32,
    /// Elements that it acts on; empty: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<ElementFilter>,
    /// Elements that it does not act on.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub except: Vec<ElementFilter>,
    /// The region whose weight multiplies it; none: it acts everywhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub region: Option<Id>,
}

/// Elements that a force acts on or leaves out.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged, expecting = "an element's id, {\"group\": name} or {\"kind\": \"solid\" or \"particles\"}")]
pub enum ElementFilter {
    /// One element.
    Element(Id),
    /// All elements of a group.
    Group {
        /// Its name.
        group: String,
    },
    /// All elements of a kind.
    Kind {
        /// Kind of physics.
        kind: Matter,
    },
}

/// A kind of physics.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Matter {
    /// A rigid body.
    Solid,
    /// Particles.
    Particles,
}

impl ElementFilter {
    /// Whether an element is meant.
    pub fn means(&self, element: &Element) -> bool {
        match self {
            Self::Element(id) => element.id == *id,
            Self::Group { group } => element.groups.contains(group),
            Self::Kind { kind: Matter::Solid } => element.as_solid().is_some(),
            Self::Kind { kind: Matter::Particles } => element.as_particles().is_some(),
        }
    }
}

impl ElementFilter {
    /// Whether an element is of those that `only` names, or of all if it names
    /// nothing, and `except` leaves it.
    pub fn among(only: &[Self], except: &[Self], element: &Element) -> bool {
        let meant = |list: &[Self]| list.iter().any(|who| who.means(element));
        (only.is_empty() || meant(only)) && !meant(except)
    }
}

impl From<Id> for ElementFilter {
    fn from(id: Id) -> Self {
        Self::Element(id)
    }
}

fn one() -> f32 {
    1.0
}

fn yes() -> bool {
    true
}

/// The kinds of force.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum ForceKind {
    /// The same acceleration everywhere.
    Gravity {
        /// Acceleration, m/s².
        #[schemars(with = "[f32; 3]")]
        #[parameter(label = "Acceleration", unit = "m/s²", range(-MAX_SPEED, MAX_SPEED))]
        acceleration: Vec3,
    },
    /// A force on each body along the element's −y axis.
    Pull {
        /// Force, N.
        #[parameter(label = "Force", range(-1e9, 1e9), step = 1.0)]
        force_n: f32,
    },
    /// Air that blows along the element's −y axis.
    Wind(#[parameter(nested)] Wind),
    /// Air in eddies.
    Turbulence(#[parameter(nested)] Turbulence),
    /// Air that turns about the element's y axis.
    Vortex(#[parameter(nested)] Vortex),
    /// Acceleration towards a point, a curve or a surface; away from it with a negative strength.
    Attract(#[parameter(nested)] Attract),
    /// Slows what moves.
    Drag {
        /// Force against the speed, N s/m.
        #[serde(default)]
        #[parameter(label = "Linear", range(0.0, 1e6))]
        linear_n_s_m: f32,
        /// Density ρ of a medium at rest, kg/m³: the force is ½ ρ C A v².
        #[serde(default)]
        #[parameter(label = "Medium density", range(0.0, 20_000.0))]
        density_kg_m3: f32,
    },
    /// Air that streams along a curve.
    Along(#[parameter(nested)] Along),
}

/// How moving air acts on a body.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Push {
    /// By its drag, ½ ρ C A u², with u the speed of the air past the body.
    Air {
        /// Density ρ, kg/m³.
        #[parameter(label = "Air density", range(0.0, 20_000.0))]
        density_kg_m3: f32,
    },
    /// Acceleration in m/s² of the same number as the speed of the air in m/s, for every body.
    Acceleration,
}

impl Default for Push {
    fn default() -> Self {
        Self::Air { density_kg_m3: 1.2 }
    }
}

/// Wind with gusts and eddies.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Wind {
    /// Mean speed, m/s.
    #[parameter(label = "Speed", range(-MAX_SPEED, MAX_SPEED), slide(0.0, 40.0), step = 0.5)]
    pub speed_m_s: f32,
    /// Share by which gusts raise and lower the speed in time, 0–1.
    #[parameter(label = "Gusts", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub gust: f32,
    /// How long a gust lasts, s.
    #[parameter(label = "Gust length", range(0.01, 1_000.0))]
    pub gust_s: f32,
    /// Speed of the eddies as a fraction of the mean, 0–2.
    #[parameter(label = "Eddies", range(0.0, 2.0), slide(0.0, 2.0), step = 0.05)]
    pub eddy: f32,
    /// Size of the eddies, m.
    #[parameter(label = "Eddy size", range(0.01, MAX_SIZE_M))]
    pub eddy_m: f32,
    /// Chooses gusts and eddies.
    #[parameter(label = "Seed", range(0.0, MAX_SEED), step = 1.0)]
    pub seed: u32,
    /// How it acts.
    #[parameter(nested)]
    pub push: Push,
}

impl Default for Wind {
    fn default() -> Self {
        Self {
            speed_m_s: 6.0,
            gust: 0.3,
            gust_s: 1.0,
            eddy: 0.2,
            eddy_m: 1.5,
            seed: 1,
            push: Push::default(),
        }
    }
}

/// Air in eddies, without sources or sinks.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Turbulence {
    /// Typical speed, m/s.
    #[parameter(label = "Speed", range(-MAX_SPEED, MAX_SPEED), slide(0.0, 20.0))]
    pub speed_m_s: f32,
    /// Size of the largest eddies, m.
    #[parameter(label = "Eddy size", range(0.01, MAX_SIZE_M))]
    pub size_m: f32,
    /// Number of layers of eddies, each half the size of the one before, its speed by the cube root, 1–8.
    #[parameter(label = "Octaves", range(1.0, 8.0), step = 1.0)]
    pub octaves: u32,
    /// Velocity at which all eddies drift, m/s.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Drift", range(-MAX_SPEED, MAX_SPEED))]
    pub drift_m_s: Vec3,
    /// Time in which the largest eddies change, s; 0: never.
    #[parameter(label = "Changes in", range(0.0, 10_000.0))]
    pub change_s: f32,
    /// After so many seconds it repeats exactly; none: never.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(label = "Repeats after", fixed, range(0.01, 10_000.0), blank = "never")]
    pub loop_s: Option<f32>,
    /// Chooses the eddies.
    #[parameter(label = "Seed", range(0.0, MAX_SEED), step = 1.0)]
    pub seed: u32,
    /// How it acts.
    #[parameter(nested)]
    pub push: Push,
}

impl Default for Turbulence {
    fn default() -> Self {
        Self {
            speed_m_s: 2.0,
            size_m: 1.0,
            octaves: 2,
            drift_m_s: Vec3::ZERO,
            change_s: 2.0,
            loop_s: None,
            seed: 1,
            push: Push::default(),
        }
    }
}

/// A vortex about the element's y axis (W. J. M. Rankine's: a core that turns
/// like a wheel, outside it speed falls as 1/r).
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Vortex {
    /// Speed at the core's edge, m/s; positive turns y-right-handed.
    #[parameter(label = "Speed", range(-MAX_SPEED, MAX_SPEED), slide(-20.0, 20.0))]
    pub speed_m_s: f32,
    /// Radius of the core, m.
    #[parameter(label = "Core radius", range(0.001, MAX_SIZE_M), step = 0.05)]
    pub core_m: f32,
    /// Speed towards the axis, m/s.
    #[parameter(label = "Inflow", range(-MAX_SPEED, MAX_SPEED))]
    pub inflow_m_s: f32,
    /// Speed along the axis, m/s.
    #[parameter(label = "Rise", range(-MAX_SPEED, MAX_SPEED))]
    pub rise_m_s: f32,
    /// How it acts.
    #[parameter(nested)]
    pub push: Push,
}

impl Default for Vortex {
    fn default() -> Self {
        Self { speed_m_s: 4.0, core_m: 0.5, inflow_m_s: 0.5, rise_m_s: 0.0, push: Push::default() }
    }
}

/// Acceleration towards a point, a curve or a surface.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Attract {
    /// Acceleration at 1 m, m/s².
    #[parameter(label = "Pull at 1 m", unit = "m/s²", range(-1e6, 1e6), slide(-40.0, 40.0), step = 0.5)]
    pub acceleration: f32,
    /// The acceleration goes with distance to this power.
    #[parameter(label = "Power of distance", range(-4.0, 4.0), step = 0.5)]
    pub power: f32,
    /// Range, m: the force falls smoothly to 0 there; none: infinite.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(label = "Range", range(MIN_SIZE_M, MAX_SIZE_M), blank = "endless")]
    pub range_m: Option<f32>,
    /// Closer than this the acceleration falls to 0, m.
    #[parameter(label = "Soft within", range(1e-6, MAX_SIZE_M), step = 0.01)]
    pub near_m: f32,
    /// A curve or solid whose nearest point attracts; none: the element's own place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<Id>,
}

impl Default for Attract {
    fn default() -> Self {
        Self { acceleration: 5.0, power: 0.0, range_m: None, near_m: 0.05, target: None }
    }
}

/// Air that streams along a curve.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Along {
    /// The curve.
    pub curve: Id,
    /// Speed along it, m/s.
    #[parameter(label = "Speed", range(-MAX_SPEED, MAX_SPEED))]
    pub speed_m_s: f32,
    /// Speed towards it at the edge of its range, m/s.
    #[serde(default)]
    #[parameter(label = "Inflow", range(-MAX_SPEED, MAX_SPEED))]
    pub inflow_m_s: f32,
    /// Distance at which it ends softly, m.
    #[parameter(label = "Range", range(MIN_SIZE_M, MAX_SIZE_M))]
    pub range_m: f32,
    /// How it acts.
    #[serde(default)]
    #[parameter(nested)]
    pub push: Push,
}

impl Force {
    /// A force that acts on all, everywhere and always.
    pub fn new(kind: ForceKind) -> Self {
        Self {
            kind,
            strength: 1.0,
            enabled: true,
            from_frame: None,
            to_frame: None,
            order: 0,
            only: Vec::new(),
            except: Vec::new(),
            region: None,
        }
    }

    /// Whether it acts in the step that ends at `frame`.
    pub fn acts_at(&self, frame: f64) -> bool {
        let from = self.from_frame.is_none_or(|from| frame > f64::from(from) + 1e-6);
        let to = self.to_frame.is_none_or(|to| frame <= f64::from(to) + 1e-6);
        self.enabled && self.strength != 0.0 && from && to
    }

    /// Whether no region, span or list limits it.
    pub fn is_everywhere(&self) -> bool {
        self.region.is_none()
            && self.only.is_empty()
            && self.except.is_empty()
            && self.from_frame.is_none()
            && self.to_frame.is_none()
    }

    /// Whether it acts on an element.
    pub fn acts_on(&self, element: &Element) -> bool {
        ElementFilter::among(&self.only, &self.except, element)
    }

    /// Whether it acts on one of these elements.
    pub fn acts_on_any(&self, elements: &[&Element]) -> bool {
        elements.iter().any(|element| self.acts_on(element))
    }
    /// Plain name of its kind.
    pub fn name(&self) -> &'static str {
        match self.kind {
            ForceKind::Gravity { .. } => "gravity",
            ForceKind::Pull { .. } => "pull",
            ForceKind::Wind(_) => "wind",
            ForceKind::Turbulence(_) => "turbulence",
            ForceKind::Vortex(_) => "vortex",
            ForceKind::Attract(_) => "attract",
            ForceKind::Drag { .. } => "drag",
            ForceKind::Along(_) => "along",
        }
    }
}
