//! Where, when and with what particles are born.

use crate::LAST_FRAME;
use crate::parameters::{MAX_SIZE_M, MAX_SPEED, Parameters};
use crate::{Id, Shape, SurfaceQuantity, force::ElementFilter};
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Source of particles.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Source {
    /// At the element's position.
    Point {},
    /// On the points of a grid around the element's position, one after the other.
    Grid {
        /// Number along x, y, z.
        #[parameter(label = "Number", range(1.0, 10_000.0), step = 1.0)]
        count: [u32; 3],
        /// Distance from point to point along x, y, z, m.
        #[schemars(with = "[f32; 3]")]
        #[parameter(label = "Spacing", range(-MAX_SIZE_M, MAX_SIZE_M), step = 0.05)]
        spacing_m: Vec3,
    },
    /// On a shape that stands where the element does and touches nothing.
    Shape {
        /// The shape.
        #[parameter(nested)]
        shape: Shape,
        /// Domain of the mesh.
        #[serde(default)]
        domain: EmissionDomain,
    },
    /// The space around the element's position and below its height that solids enclose: what they stand in is filled up to
    /// there.
    Pool {},
    /// On the bodies of a solid, wherever they are.
    Solid {
        /// The solid.
        solid: Id,
        /// Domain of the mesh.
        #[serde(default)]
        domain: EmissionDomain,
    },
    /// Along a curve on the surface of a solid, one after the other by length; each stays at its place of the surface, however
    /// that deforms.
    Seam {
        /// The solid.
        solid: Id,
        /// The curve: each of its points is taken to the nearest place of the surface at rest.
        curve: Id,
        /// From how many places of each stroke they follow each other at the same time.
        #[parameter(label = "Starts", fixed, range(1.0, 1_000.0), step = 1.0)]
        starts: u32,
        /// Distance of their centres from the surface, along its normal, in radii; no unit.
        #[parameter(label = "Lifted", range(-10.0, 10.0), slide(-1.0, 1.0), step = 0.05)]
        lift: f32,
    },
    /// Along a curve, by length.
    Curve {
        /// The curve.
        curve: Id,
    },
    /// At the positions of other particles.
    Particles {
        /// The element of those.
        particles: Id,
    },
    /// Out of a liquid where it is fast: spray, foam and bubbles. The numbers are of particles, a second and cubic metre of the
    /// liquid, and add up; each is reached at the full speed.
    Liquid {
        /// The element of the liquid.
        liquid: Id,
        /// Particles from the surface wherever it is fast, 1/(m³ s).
        #[parameter(
            label = "By speed",
            words = "spray by speed",
            unit = "per l s",
            scale = 1e-3,
            range(0.0, 1e9),
            slide(0.0, 500.0),
            step = 10.0
        )]
        by_speed_m3_s: f32,
        /// Particles from crests, where the surface is curved and moves outward, 1/(m³ s).
        #[parameter(
            label = "By curvature",
            words = "spray by curvature",
            unit = "per l s",
            scale = 1e-3,
            range(0.0, 1e9),
            slide(0.0, 2_000.0),
            step = 10.0
        )]
        by_curvature_m3_s: f32,
        /// Particles where parts of the liquid meet and trap air, 1/(m³ s).
        #[parameter(
            label = "By trapped air",
            words = "spray by trapped air",
            unit = "per l s",
            scale = 1e-3,
            range(0.0, 1e9),
            slide(0.0, 2_000.0),
            step = 10.0
        )]
        by_trapped_air_m3_s: f32,
        /// Speed below which nothing is released, m/s.
        #[parameter(label = "From a speed of", range(0.0, MAX_SPEED), slide(0.0, 10.0), step = 0.1)]
        least_speed_m_s: f32,
        /// Speed from which on all is released, m/s.
        #[parameter(label = "Whole at", range(0.0, MAX_SPEED), slide(0.0, 20.0), step = 0.1)]
        full_speed_m_s: f32,
    },
    /// On the bodies of a solid as they break. A total or rate counts for each body.
    Broken {
        /// The solid.
        solid: Id,
        /// Domain of the mesh.
        #[serde(default)]
        domain: EmissionDomain,
    },
    /// At the points where bodies hit each other. A total or rate counts for each hit.
    Impacts {
        /// The bodies; nothing named: all.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        bodies: Vec<ElementFilter>,
        /// The least impulse of a hit, N s.
        #[parameter(label = "Least impulse", range(0.0, 1e9))]
        impulse_n_s: f32,
    },
}

impl Default for Source {
    fn default() -> Self {
        Self::Point {}
    }
}

/// Domain of a mesh on which particles are emitted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum EmissionDomain {
    /// Anywhere on its faces, by area.
    #[default]
    Surface,
    /// On its edges where faces meet at an angle, by length; on all edges if there is no such one.
    Edges,
    /// At its vertices.
    Vertices,
    /// Inside, if it is closed.
    Volume,
}

/// A weight of 0–1 on each place of a shape, a solid or a grid.
/// Particles are born by it, and carry the weight of where they were born.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct EmissionMap {
    /// Where the weights come from.
    #[parameter(nested)]
    pub source: MapSource,
    /// The weight is 1 − brightness.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub inverted: bool,
    /// Births are uniform; particles only carry the weight.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub uniform_births: bool,
}

/// Where the weights of a map come from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum MapSource {
    /// The brightness of an image laid on the UVs once.
    Image {
        /// Name of an image among the shot's assets.
        asset: String,
    },
    /// The brightness of the colours that the mesh's vertices came with.
    Vertices {},
    /// A map of the solid that they are born on.
    Map {
        /// Its name.
        map: String,
    },
    /// A quantity measured on the cloth or soft body that they are born on, as it is then.
    Quantity {
        /// The quantity.
        quantity: SurfaceQuantity,
        /// Value at which the weight, 0–1, is 0, in the unit of the quantity.
        #[parameter(label = "None at", range(-1e7, 1e7), step = 0.05)]
        from: f32,
        /// Value at which the weight, 0–1, is 1, in the unit of the quantity; in between it rises evenly. It may be less than `from`.
        #[parameter(label = "Whole at", range(-1e7, 1e7), step = 0.05)]
        to: f32,
    },
}

/// How many particles are emitted, and when.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Emission {
    /// Emission over time.
    #[parameter(nested)]
    pub schedule: EmissionSchedule,
    /// The frame at which they begin; none: the first, or before it by the preroll.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(label = "From frame", range(0.0, LAST_FRAME as f32), step = 1.0, blank = "the start")]
    pub from_frame: Option<u32>,
    /// The frame at which they end; none: the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(label = "To frame", range(0.0, LAST_FRAME as f32), step = 1.0, blank = "the end")]
    pub to_frame: Option<u32>,
    /// Seconds of emission and motion before the first frame.
    #[parameter(label = "Preroll", fixed, range(0.0, 600.0), step = 0.5)]
    pub preroll_s: f32,
    /// Evenly spread places rather than random ones.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub evenly_spaced: bool,
    /// The region whose weight says how likely a place is; none: all alike.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub region: Option<Id>,
    /// The map that says how likely a place is, besides; none: all alike.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub map: Option<EmissionMap>,
    /// Whether particles carry the UV of the place at which they were born, so that images lie on them as on their source.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub carries_uv: bool,
}

/// Emission over time.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum EmissionSchedule {
    /// A total over the frames, at even times.
    Total {
        /// How many particles.
        #[parameter(label = "Number", fixed, range(1.0, 1e7), step = 100.0)]
        count: u32,
    },
    /// A rate.
    Rate {
        /// How many a second.
        #[parameter(label = "Rate", unit = "per s", range(0.0, 1e7), step = 10.0)]
        per_s: f32,
    },
    /// All at the first of the frames: a burst.
    Burst {
        /// How many particles.
        #[parameter(label = "Number", fixed, range(1.0, 1e7), step = 100.0)]
        count: u32,
    },
    /// As many as fill the source, which is closed, at the spacing of a liquid: all at the first of the frames.
    Fill {},
    /// A volume of liquid a second; the speed at birth is that with which it passes the area of the source.
    Flow {
        /// Volume a second, m³/s.
        #[parameter(
            label = "Flow",
            unit = "l/s",
            scale = 1_000.0,
            range(0.0, 1e4),
            slide(0.0, 10.0),
            step = 0.1
        )]
        m3_s: f32,
    },
    /// A liquid that leaves the area of the source at the speed at birth.
    Jet {},
    /// As many as a liquid releases, by the numbers of the source.
    Released {},
    /// None but those that others become.
    Never {},
}

impl EmissionSchedule {
    /// Whether all come at once.
    pub fn is_at_once(&self) -> bool {
        matches!(self, Self::Burst { .. } | Self::Fill {})
    }

    /// Whether it needs a liquid.
    pub fn is_of_liquid(&self) -> bool {
        matches!(self, Self::Fill {} | Self::Flow { .. } | Self::Jet {})
    }
}

impl Default for Emission {
    fn default() -> Self {
        Self {
            schedule: EmissionSchedule::Rate { per_s: 200.0 },
            from_frame: None,
            to_frame: None,
            preroll_s: 0.0,
            evenly_spaced: false,
            region: None,
            map: None,
            carries_uv: false,
        }
    }
}

impl Emission {
    /// Whether there are particles at the first frame already.
    pub fn come_at(&self, first: u32) -> bool {
        let at_once = self.schedule.is_at_once();
        self.preroll_s > 0.0 || (at_once && self.from_frame.is_none_or(|from| from <= first))
    }

    /// Whether births have begun by a frame, which may lie between frames: a burst comes
    /// at the moment of its first frame, a rate from then on.
    pub fn begun(&self, frame: f64) -> bool {
        let begins = self.from_frame.map_or(f64::NEG_INFINITY, f64::from);
        match self.schedule {
            EmissionSchedule::Never {} => false,
            EmissionSchedule::Rate { .. }
            | EmissionSchedule::Flow { .. }
            | EmissionSchedule::Jet {}
            | EmissionSchedule::Released {} => frame > begins,
            EmissionSchedule::Total { .. } | EmissionSchedule::Burst { .. } | EmissionSchedule::Fill {} => {
                frame >= begins
            }
        }
    }
}

/// Direction of the initial velocity.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Direction {
    /// Along the element's y axis.
    #[default]
    Up,
    /// Out of the surface they are born on; along the element's y axis where there is none.
    Normal,
    /// The way the source moves there.
    Motion,
}

/// Initial state of particles. A variation is the largest random fraction by
/// which a value differs, 0–1.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Start {
    /// Direction of the initial velocity.
    pub direction: Direction,
    /// Largest angle from that way, rad: π is all round.
    #[parameter(label = "Spread", range(0.0, std::f32::consts::PI), slide(0.0, 180.0), step = 1.0)]
    pub spread_rad: f32,
    /// Speed, m/s.
    #[parameter(label = "Speed", range(-MAX_SPEED, MAX_SPEED))]
    pub speed_m_s: f32,
    /// Variation of the speed, as a fraction of it, 0–1.
    #[parameter(label = "± speed", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub speed_variation: f32,
    /// Multiple of the source's own velocity that they take with them, no unit, −2 to 2.
    #[parameter(label = "Source’s motion", range(-2.0, 2.0), slide(0.0, 1.0), step = 0.05)]
    pub inherited_velocity: f32,
    /// How long they live, s; none: to the end.
    #[parameter(label = "Lifespan", range(0.001, 10_000.0), blank = "to the end")]
    pub lifespan_s: Option<f32>,
    /// Variation of the lifespan, as a fraction of it, 0–1.
    #[parameter(label = "± lifespan", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub lifespan_variation: f32,
    /// Diameter, m.
    #[parameter(label = "Size", unit = "mm", scale = 1_000.0, range(1e-5, 100.0), step = 1.0)]
    pub size_m: f32,
    /// Variation of the size, as a fraction of it, 0–1.
    #[parameter(label = "± size", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub size_variation: f32,
    /// Random deviation from the element's orientation, 0 to 1: 0 is none, 1 is any orientation.
    #[parameter(label = "Random turn", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub orientation_variation: f32,
    /// Angular speed about a random axis, rad/s.
    #[parameter(label = "Spin", range(-MAX_SPEED, MAX_SPEED), step = 0.5)]
    pub angular_speed_rad_s: f32,
    /// Variation of the angular speed, as a fraction of it, 0–1.
    #[parameter(label = "± spin", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub angular_speed_variation: f32,
}

impl Default for Start {
    fn default() -> Self {
        Self {
            direction: Direction::Up,
            spread_rad: 0.3,
            speed_m_s: 2.0,
            speed_variation: 0.3,
            inherited_velocity: 1.0,
            lifespan_s: Some(2.0),
            lifespan_variation: 0.3,
            size_m: 0.02,
            size_variation: 0.3,
            orientation_variation: 0.0,
            angular_speed_rad_s: 0.0,
            angular_speed_variation: 0.0,
        }
    }
}
