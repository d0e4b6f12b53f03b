//! An element: anything in a shot that has a name.

use crate::MAX_BODIES;
use crate::parameters::{MAX_POSITION_M, MAX_SIZE_M, MAX_SPEED, Parameters};
use crate::{
    Cloth, Copies, FileAnimation, Id, Pin, PinnedPart, PlacedCopy, Shape, Soft, Sway, UvLayout,
    curve::Curve,
    finish::Finish,
    force::Force,
    light::{AreaLight, Sky, Sun},
    look::Look,
    map::{Map, ScaledByMap},
    motion::Channel,
    particles::{Particles, ToParticles},
    region::Region,
};
use glam::{EulerRot, Quat, Vec3};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Anything in a shot that has a name.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Element {
    /// Unique within the shot, never reused.
    pub id: Id,
    /// Unique within the shot.
    pub name: String,
    /// Position and orientation.
    #[serde(default)]
    #[parameter(nested)]
    pub placement: Placement,
    /// The kind of element, with its parameters.
    #[parameter(nested)]
    pub kind: ElementKind,
    /// The groups it belongs to, by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// Not drawn in the Viewport.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    #[parameter(label = "Hidden", picture)]
    pub hidden: bool,
    /// Drawn in the Viewport so that one sees through; pictures do not change.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub see_through: bool,
    /// Not to be selected or moved in the Viewport.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub locked: bool,
    /// Element that its placement is relative to; none: the world.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub attached: Option<Attached>,
    /// Target of its orientation; none: the orientation of its placement.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub aim: Option<Aim>,
    /// Channels of the parameters that change with time, by their paths below the element.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub channels: BTreeMap<String, Channel>,
}

/// The element that a placement is relative to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Attached {
    /// The element it goes with.
    pub to: Id,
    /// Position along a curve, as a fraction of its length, 0–1; none: at its origin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(
        label = "Along the curve",
        range(0.0, 1.0),
        slide(0.0, 1.0),
        step = 0.01,
        blank = "at its origin"
    )]
    pub along: Option<f32>,
    /// Whether it turns its +z axis along the curve.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    #[parameter(label = "It turns with the curve")]
    pub facing: bool,
}

/// Target of an element's orientation: cameras and solids with their −z axis, lights
/// and forces with their −y axis.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Aim {
    /// The element it turns towards.
    pub target: Id,
    /// Delay of the aim, s: the mean of the positions where its target
    /// was, weighted by e^(−t / damping).
    #[serde(default)]
    #[parameter(label = "Follows late by", range(0.0, 10.0), step = 0.05)]
    pub damping_s: f32,
}

/// Position and orientation of an element's origin.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Placement {
    /// Position in metres, y up.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Place", range(-MAX_POSITION_M, MAX_POSITION_M), step = 0.05)]
    pub position_m: Vec3,
    /// Euler angles in radians about the fixed axes x, then y, then z.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Turn", range(-1_000.0, 1_000.0), step = 5.0)]
    pub orientation_rad: Vec3,
}

impl Placement {
    /// An unturned placement at `position_m`.
    pub fn at(position_m: Vec3) -> Self {
        Self { position_m, orientation_rad: Vec3::ZERO }
    }

    /// Position and orientation.
    pub fn pose(&self) -> (Vec3, Quat) {
        (self.position_m, quat(self.orientation_rad))
    }
}

/// The rotation that turns about the fixed axes x, then y, then z.
fn quat(orientation_rad: Vec3) -> Quat {
    Quat::from_euler(EulerRot::ZYX, orientation_rad.z, orientation_rad.y, orientation_rad.x)
}

/// The Euler angles about the fixed axes x, then y, then z of an orientation, rad.
pub fn euler_angles(orientation: Quat) -> Vec3 {
    let (z, y, x) = orientation.to_euler(EulerRot::ZYX);
    Vec3::new(x, y, z)
}

/// The kind of an element, with its parameters.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
#[allow(clippy::large_enum_variant)]
pub enum ElementKind {
    /// A rigid body, or copies of one.
    Solid(#[parameter(nested)] Solid),
    /// Particles of one sort, and what emits them.
    Particles(#[parameter(nested)] Particles),
    /// A force.
    Force(#[parameter(nested)] Force),
    /// A soft-edged volume that says where something acts.
    Region(#[parameter(nested)] Region),
    /// A curve.
    Curve(#[parameter(nested)] Curve),
    /// A camera. It looks along its −z axis.
    Camera(#[parameter(nested)] Camera),
    /// A distant light.
    Sun(#[parameter(nested)] Sun),
    /// Light from all round.
    Sky(#[parameter(nested)] Sky),
    /// A shining rectangle.
    AreaLight(#[parameter(nested)] AreaLight),
    /// A finishing step.
    Finish(#[parameter(nested)] Finish),
}

/// The kinds of element, as rows are grouped on the Timeline.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[allow(missing_docs)]
pub enum TimelineGroup {
    Solid,
    Particles,
    Force,
    Region,
    Curve,
    Camera,
    Light,
    Finish,
}

/// A rigid body or a grid of copies of one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Solid {
    /// Rest shape.
    #[parameter(nested)]
    pub shape: Shape,
    /// Where its UVs come from.
    #[serde(default, skip_serializing_if = "UvLayout::is_own")]
    pub uvs: UvLayout,
    /// How the file of its mesh moves the mesh; none: it shows the first frame.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub animation: Option<FileAnimation>,
    /// What makes it a cloth while it is free; none: it is rigid.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub cloth: Option<Cloth>,
    /// What makes it a soft body while it is free; none: it is rigid, or a cloth.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub soft: Option<Soft>,
    /// How its mesh sways after its own motion; none: not at all. A cloth or a soft body does not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub sway: Option<Sway>,
    /// Its maps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[parameter(nested)]
    pub maps: Vec<Map>,
    /// A grid of copies; none for a single body.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub copies: Option<Copies>,
    /// Where each copy stands and how large it is, in place of a grid; empty: it has none of these.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub placed: Vec<PlacedCopy>,
    /// Its bodies all come from particles, and their number is at most this; none: it stands in the shot itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(label = "At most", fixed, range(1.0, MAX_BODIES as f32), step = 50.0, blank = "none")]
    pub from_particles: Option<u32>,
    /// When its bodies become particles again; none: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub to_particles: Option<ToParticles>,
    /// Physics.
    #[serde(default)]
    #[parameter(nested)]
    pub body: Body,
    /// Look.
    #[serde(default)]
    #[parameter(nested)]
    pub look: Look,
}

/// How a solid moves.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Moves {
    /// Never.
    Still,
    /// By its keys, until it is let go.
    Animated,
    /// By the solver.
    #[default]
    Free,
}

/// The shape a solid collides as.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Collision {
    /// The simplest shape that fits: see [`Body::collision_of`].
    #[default]
    Auto,
    /// The sphere around the shape's box.
    Sphere,
    /// The shape's box.
    Box,
    /// The convex hull.
    Hull,
    /// The shape itself; for a moving mesh, convex parts of it.
    Exact,
}

/// Weight of a body, given one way; the other is computed.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Weight {
    /// Density in kg/m³.
    DensityKgM3(
        #[parameter(label = "Density", range(0.01, 50_000.0), slide(10.0, 3_000.0), step = 10.0)] f32,
    ),
    /// Mass of one copy in kg.
    MassKg(#[parameter(label = "Mass", range(1e-12, 1e9), step = 0.1)] f32),
}

/// Event that makes a body free.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Wake {
    /// A frame: it is free after it.
    Frame(u32),
    /// A touch by a body that moves.
    Touch {
        /// The least impulse of the touch, N s.
        #[parameter(label = "Least impulse", range(0.0, 1e9))]
        impulse_n_s: f32,
    },
    /// A region: its centre of mass comes to lie where the weight is over a half.
    Region(Id),
    /// Another free body that woke nearby, of the same element or any other.
    Neighbour {
        /// How near its surface has to be, m.
        #[parameter(label = "Within", unit = "mm", scale = 1_000.0, range(0.0, MAX_SIZE_M), step = 1.0)]
        within_m: f32,
    },
}

/// Physics of a solid.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Body {
    /// How it moves.
    pub moves: Moves,
    /// Event that lets an animated body go, or wakes a waiting free one; none: an
    /// animated body stays so, a free one is free from the start.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(nested)]
    pub wake: Option<Wake>,
    /// The shape it collides as.
    pub collision: Collision,
    /// Density or mass.
    #[parameter(nested)]
    pub weight: Weight,
    /// Coulomb friction coefficient, no unit; a pair has the mean of its two.
    #[parameter(label = "Friction", range(0.0, 10.0), slide(0.0, 1.5), step = 0.01)]
    pub friction: f32,
    /// Coefficient of restitution, no unit; a pair has the mean of its two.
    #[parameter(label = "Bounce", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub restitution: f32,
    /// Distance kept from other bodies in metres; none: a five-thousandth of its size, at most 0.1 mm.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(label = "Margin", unit = "mm", scale = 1_000.0, range(0.0, 1.0), blank = "by its size")]
    pub margin_m: Option<f32>,
    /// The body breaks when a contact has a greater impulse, N s. It is removed
    /// then, and particles can be emitted from it. None: it never breaks.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(label = "Breaks at", words = "breaking", range(1e-6, 1e9), step = 1.0, blank = "never")]
    pub breaking_impulse_n_s: Option<f32>,
    /// Drag coefficient C for moving air, no unit; none: by its shape.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[parameter(label = "Drag", range(0.0, 10.0), step = 0.05, blank = "by its shape")]
    pub drag: Option<f32>,
    /// Velocity when it becomes free, m/s; none: from its own motion.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<[f32; 3]>")]
    #[parameter(label = "Velocity", words = "launch velocity", unit = "m/s", range(-MAX_SPEED, MAX_SPEED), blank = "from its own motion")]
    pub launch_velocity: Option<Vec3>,
    /// Angular velocity when it becomes free, rad/s; none: from its own motion.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<[f32; 3]>")]
    #[parameter(label = "Spin", words = "launch spin", unit = "rad/s", range(-MAX_SPEED, MAX_SPEED), blank = "from its own motion")]
    pub launch_angular_velocity: Option<Vec3>,
}

impl Default for Body {
    fn default() -> Self {
        Self {
            moves: Moves::Free,
            wake: None,
            collision: Collision::Auto,
            weight: Weight::DensityKgM3(600.0),
            friction: 0.5,
            restitution: 0.2,
            margin_m: None,
            breaking_impulse_n_s: None,
            drag: None,
            launch_velocity: None,
            launch_angular_velocity: None,
        }
    }
}

impl Body {
    /// The collision shape used for `shape`: what was chosen, or for
    /// [`Collision::Auto`] the simplest one that fits.
    pub fn collision_of(&self, shape: &Shape) -> Collision {
        match (self.collision, shape) {
            (Collision::Auto, Shape::Sphere { .. }) => Collision::Sphere,
            (Collision::Auto, Shape::Box { .. } | Shape::Plane { .. }) => Collision::Box,
            (Collision::Auto, Shape::Torus { .. }) => Collision::Exact,
            (Collision::Auto, Shape::Mesh { .. }) => {
                if self.moves == Moves::Still {
                    Collision::Exact
                } else {
                    Collision::Hull
                }
            }
            (Collision::Auto, _) => Collision::Hull,
            (chosen, _) => chosen,
        }
    }

    /// The distance kept from other bodies, for a body `smallest_m` thin.
    pub fn margin_m(&self, smallest_m: f32) -> f32 {
        self.margin_m.unwrap_or((0.000_2 * smallest_m).min(0.000_1))
    }

    /// Whether the body is free from the first frame on.
    pub fn starts_free(&self) -> bool {
        self.moves == Moves::Free && self.wake.is_none()
    }

    /// The frame after which it is free, if a frame decides that.
    pub fn let_go_frame(&self) -> Option<u32> {
        if let Some(Wake::Frame(frame)) = self.wake { Some(frame) } else { None }
    }

    /// Drag coefficient: the one given, or that of the shape at high Reynolds
    /// numbers (S. F. Hoerner, *Fluid-dynamic drag*, 1965).
    pub fn drag_of(&self, shape: &Shape) -> f32 {
        self.drag.unwrap_or(match shape {
            Shape::Sphere { .. } => 0.47,
            Shape::Capsule { .. } | Shape::Cone { .. } => 0.6,
            Shape::Cylinder { .. } | Shape::Torus { .. } => 0.9,
            Shape::Box { .. } | Shape::Mesh { .. } => 1.05,
            Shape::Plane { .. } => 1.2,
        })
    }
}

/// A camera with a thin lens. It looks along its −z axis.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
#[parameters(acts = Picture)]
pub struct Camera {
    /// Focal length in millimetres, as the trade counts it.
    #[parameter(label = "Focal length", range(4.0, 1_200.0), slide(10.0, 200.0), step = 1.0)]
    pub focal_length_mm: f32,
    /// Width of the sensor in millimetres.
    #[parameter(label = "Sensor width", range(4.0, 100.0), step = 1.0)]
    pub sensor_mm: f32,
    /// Aperture as an f-number; none: everything is sharp.
    #[parameter(label = "F-stop", range(0.5, 64.0), step = 0.5, blank = "all sharp")]
    pub f_stop: Option<f32>,
    /// Distance of the sharp plane in metres.
    #[parameter(label = "Focus", range(0.01, 10_000.0))]
    pub focus_distance_m: f32,
    /// Exposure in stops.
    #[parameter(label = "Exposure", unit = "stops", range(-20.0, 20.0), slide(-6.0, 6.0))]
    pub exposure: f32,
}

impl Default for Camera {
    fn default() -> Self {
        Self { focal_length_mm: 35.0, sensor_mm: 36.0, f_stop: None, focus_distance_m: 5.0, exposure: 0.0 }
    }
}

impl Camera {
    /// Tangent of half the horizontal angle of view.
    pub fn half_width(&self) -> f32 {
        0.5 * self.sensor_mm / self.focal_length_mm
    }
}

impl Element {
    /// A solid with default body and look, to be given an id by [`crate::Shot::add`].
    pub fn solid(name: &str, shape: Shape, moves: Moves) -> Self {
        let body = Body { moves, ..Body::default() };
        Self::new(
            name,
            ElementKind::Solid(Solid {
                shape,
                animation: None,
                cloth: None,
                soft: None,
                maps: Vec::new(),
                copies: None,
                placed: Vec::new(),
                sway: None,
                uvs: UvLayout::Own,
                from_particles: None,
                to_particles: None,
                body,
                look: Look::default(),
            }),
        )
    }

    /// Gravity, to be given an id by [`crate::Shot::add`].
    pub fn gravity(acceleration: Vec3) -> Self {
        Self::new(
            "Gravity",
            ElementKind::Force(Force::new(crate::force::ForceKind::Gravity { acceleration })),
        )
    }

    /// An element at the origin, to be given an id by [`crate::Shot::add`].
    pub fn new(name: &str, kind: ElementKind) -> Self {
        Self {
            id: Id(0),
            name: name.to_owned(),
            placement: Placement::default(),
            kind,
            groups: Vec::new(),
            hidden: false,
            see_through: false,
            locked: false,
            attached: None,
            aim: None,
            channels: BTreeMap::new(),
        }
    }

    /// The same element at `position_m`.
    pub fn at(mut self, x: f32, y: f32, z: f32) -> Self {
        self.placement.position_m = Vec3::new(x, y, z);
        self
    }

    /// The same element turned by `orientation_rad`.
    pub fn turned(mut self, x: f32, y: f32, z: f32) -> Self {
        self.placement.orientation_rad = Vec3::new(x, y, z);
        self
    }

    /// The group of rows it belongs to.
    pub fn timeline_group(&self) -> TimelineGroup {
        match self.kind {
            ElementKind::Solid(_) => TimelineGroup::Solid,
            ElementKind::Particles(_) => TimelineGroup::Particles,
            ElementKind::Force(_) => TimelineGroup::Force,
            ElementKind::Region(_) => TimelineGroup::Region,
            ElementKind::Curve(_) => TimelineGroup::Curve,
            ElementKind::Camera(_) => TimelineGroup::Camera,
            ElementKind::Sun(_) | ElementKind::Sky(_) | ElementKind::AreaLight(_) => TimelineGroup::Light,
            ElementKind::Finish(_) => TimelineGroup::Finish,
        }
    }

    /// The solid it is, if it is one.
    pub fn as_solid(&self) -> Option<&Solid> {
        if let ElementKind::Solid(solid) = &self.kind { Some(solid) } else { None }
    }

    /// The solid it is, if it is one, to be changed.
    pub fn as_solid_mut(&mut self) -> Option<&mut Solid> {
        if let ElementKind::Solid(solid) = &mut self.kind { Some(solid) } else { None }
    }

    /// The force it is, if it is one.
    pub fn as_force(&self) -> Option<&Force> {
        if let ElementKind::Force(force) = &self.kind { Some(force) } else { None }
    }

    /// The particles it is, if it is some.
    pub fn as_particles(&self) -> Option<&Particles> {
        if let ElementKind::Particles(particles) = &self.kind { Some(particles) } else { None }
    }

    /// The particles it is, if it is some, to be changed.
    pub fn as_particles_mut(&mut self) -> Option<&mut Particles> {
        if let ElementKind::Particles(particles) = &mut self.kind { Some(particles) } else { None }
    }

    /// The region it is, if it is one.
    pub fn as_region(&self) -> Option<&Region> {
        if let ElementKind::Region(region) = &self.kind { Some(region) } else { None }
    }

    /// Keys on one of its values, in place of what moved it.
    pub fn keyed(mut self, path: &str, channel: Channel) -> Self {
        self.channels.insert(path.to_owned(), channel);
        self
    }

    /// Moves it, and its keys of place, by `shift` metres.
    pub fn shift(&mut self, shift: Vec3) {
        self.placement.position_m += shift;
        for (path, channel) in &mut self.channels {
            let part = match path.as_str() {
                "placement.position_m" => None,
                "placement.position_m[0]" => Some(0),
                "placement.position_m[1]" => Some(1),
                "placement.position_m[2]" => Some(2),
                _ => continue,
            };
            for key in &mut channel.keys {
                let by = |i: usize| f64::from(shift[part.unwrap_or(i)]);
                key.value = key.value.with_parts(|i| key.value.part(i) + by(i));
            }
        }
    }

    /// Whether its shape changes with time.
    pub fn reshaped(&self) -> bool {
        self.channels.keys().any(|path| path.starts_with("kind.solid.shape."))
    }

    /// The file that animates its mesh, by the name of the asset, and how.
    pub fn file_animation(&self) -> Option<(&str, &FileAnimation)> {
        let solid = self.as_solid()?;
        match &solid.shape {
            Shape::Mesh { asset, .. } if solid.body.moves == Moves::Animated => {
                Some((asset, solid.animation.as_ref()?))
            }
            _ => None,
        }
    }

    /// The cloth it is, if it is one.
    pub fn as_cloth(&self) -> Option<&Cloth> {
        self.as_solid().filter(|solid| solid.body.moves == Moves::Free)?.cloth.as_ref()
    }

    /// The soft body it is, if it is one.
    pub fn as_soft(&self) -> Option<&Soft> {
        self.as_solid().filter(|solid| solid.body.moves == Moves::Free)?.soft.as_ref()
    }

    /// Whether it is a cloth or a soft body.
    pub fn deforms(&self) -> bool {
        self.as_cloth().is_some() || self.as_soft().is_some()
    }

    /// Whether it is a cloth or a soft body that pushes free solids at some time.
    pub fn pushes_solids(&self) -> bool {
        let now = self.as_cloth().map(|cloth| cloth.pushes_solids);
        let now = now.or_else(|| self.as_soft().map(|soft| soft.pushes_solids));
        let keyed = ["kind.solid.cloth.pushes_solids", "kind.solid.soft.pushes_solids"];
        now.is_some_and(|now| now || keyed.iter().any(|path| self.channels.contains_key(*path)))
    }

    /// Where it is held, as a cloth or a soft body.
    pub fn pins(&self) -> &[Pin] {
        let soft = || self.as_soft().map(|soft| &soft.pins);
        self.as_cloth().map(|cloth| &cloth.pins).or_else(soft).map_or(&[], Vec::as_slice)
    }

    /// Seconds for which it moves before the first frame, as a cloth or a soft body.
    pub fn preroll_s(&self) -> f32 {
        let soft = || self.as_soft().map(|soft| soft.preroll_s);
        self.as_cloth().map(|cloth| cloth.preroll_s).or_else(soft).unwrap_or(0.0)
    }

    /// What maps scale of it, as a cloth or a soft body.
    pub fn scaled(&self) -> &[ScaledByMap] {
        let soft = || self.as_soft().map(|soft| &soft.scaled);
        self.as_cloth().map(|cloth| &cloth.scaled).or_else(soft).map_or(&[], Vec::as_slice)
    }

    /// How it sways; none: it does not, or deforms.
    pub fn as_swaying(&self) -> Option<&Sway> {
        self.as_solid().and_then(|solid| solid.sway.as_ref()).filter(|_| !self.deforms())
    }

    /// The maps that act on it, as a cloth, a soft body or what sways.
    pub fn acting_maps(&self) -> impl Iterator<Item = &Map> {
        let pinned = |map: &Map| {
            self.pins().iter().any(|pin| matches!(&pin.part, PinnedPart::Map(name) if *name == map.name))
        };
        let scaled = |map: &Map| self.scaled().iter().any(|scaled| scaled.map == map.name);
        let maps = self.as_solid().map_or(&[][..], |solid| &solid.maps);
        let tears = |map: &Map| {
            self.as_cloth().and_then(|cloth| cloth.tear_map.as_ref()).is_some_and(|name| *name == map.name)
        };
        let swaying = |map: &Map| {
            self.as_swaying().and_then(|sway| sway.map.as_ref()).is_some_and(|name| *name == map.name)
        };
        maps.iter().filter(move |map| pinned(map) || scaled(map) || swaying(map) || tears(map))
    }

    /// Every copy of an element that stands at `pose`; one if it has no copies,
    /// none if they all come from particles.
    pub fn spread(&self, (position, orientation): (Vec3, Quat)) -> Vec<(Vec3, Quat)> {
        if self.as_solid().is_some_and(|solid| solid.from_particles.is_some()) {
            return Vec::new();
        }
        let placed = self.placed();
        if !placed.is_empty() {
            let of = |copy: &PlacedCopy| {
                (position + orientation * copy.position_m, orientation * quat(copy.orientation_rad))
            };
            return placed.iter().map(of).collect();
        }
        match self.as_solid().and_then(|solid| solid.copies.as_ref()) {
            None => vec![(position, orientation)],
            Some(copies) => copies
                .offsets()
                .map(|(shift, angle)| {
                    (position + orientation * shift, orientation * Quat::from_rotation_y(angle))
                })
                .collect(),
        }
    }

    /// Copies that are placed one by one.
    pub fn placed(&self) -> &[PlacedCopy] {
        self.as_solid().map_or(&[], |solid| &solid.placed)
    }

    /// The size of a copy as a multiple of the shape's.
    pub fn size_of(&self, copy: usize) -> f32 {
        self.placed().get(copy).map_or(1.0, |placed| placed.size)
    }

    /// Number of bodies: 1, or the number of copies, or the most that may come from particles.
    pub fn count(&self) -> usize {
        let Some(solid) = self.as_solid() else { return 1 };
        match solid.from_particles {
            Some(most) => most as usize,
            None if !solid.placed.is_empty() => solid.placed.len(),
            None => solid.copies.as_ref().map_or(1, Copies::total),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn turns_apply_about_fixed_axes_x_then_y_then_z() {
        let orientation = quat(Vec3::new(std::f32::consts::FRAC_PI_2, 0.0, std::f32::consts::FRAC_PI_2));
        // y goes to z by the first turn and stays there by the turn about z.
        assert!((orientation * Vec3::Y - Vec3::Z).length() < 1e-6);
    }
}
