//! An element: anything in a shot that has a name.

use crate::{AreaLight, Back, Channel, Copies, Curve, Force, Id, Look, Particles, Region, Shape, Sky, Sun};
use glam::{EulerRot, Quat, Vec3};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Anything in a shot that has a name.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Element {
    /// Unique within the shot, never reused.
    pub id: Id,
    /// Unique within the shot.
    pub name: String,
    /// Where it is and how it is turned.
    #[serde(default)]
    pub placement: Placement,
    /// What it is.
    pub is: Is,
    /// The groups it belongs to, by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// Not drawn on the Stage.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub hidden: bool,
    /// Not to be selected or moved on the Stage.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub locked: bool,
    /// What its placement is relative to; none: the world.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub attached: Option<Attached>,
    /// What it turns towards; none: it turns as its placement says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub aim: Option<Aim>,
    /// What changes with time, by the path of the value below the element.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub motion: BTreeMap<String, Channel>,
}

/// What an element's placement is relative to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Attached {
    /// The element it goes with.
    pub to: Id,
    /// Where on a curve, as a share of its length, 0–1; none: at its origin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub along: Option<f32>,
    /// Whether it turns its +z axis along the curve.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub facing: bool,
}

/// What an element turns towards: cameras and solids with their −z axis, lights
/// and forces with their −y axis.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Aim {
    /// The element it turns towards.
    pub at: Id,
    /// It follows late by about so many seconds: the mean of where its aim
    /// was, weighted by e^(−t / damping).
    #[serde(default)]
    pub damping_s: f32,
}

/// Place and turn of an element's origin.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Placement {
    /// Place in metres, y up.
    #[schemars(with = "[f32; 3]")]
    pub place_m: Vec3,
    /// Turns in radians about the fixed axes x, then y, then z.
    #[schemars(with = "[f32; 3]")]
    pub turn_rad: Vec3,
}

impl Placement {
    /// An unturned placement at `place_m`.
    pub fn at(place_m: Vec3) -> Self {
        Self { place_m, turn_rad: Vec3::ZERO }
    }

    /// Place and turn.
    pub fn pose(&self) -> (Vec3, Quat) {
        (self.place_m, quat(self.turn_rad))
    }
}

/// The rotation that turns about the fixed axes x, then y, then z.
fn quat(turn_rad: Vec3) -> Quat {
    Quat::from_euler(EulerRot::ZYX, turn_rad.z, turn_rad.y, turn_rad.x)
}

/// The turns about the fixed axes x, then y, then z that make up a rotation, rad.
pub fn turn_about_axes(turn: Quat) -> Vec3 {
    let (z, y, x) = turn.to_euler(EulerRot::ZYX);
    Vec3::new(x, y, z)
}

/// What an element is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
#[allow(clippy::large_enum_variant)]
pub enum Is {
    /// A rigid body, or copies of one.
    Solid(Solid),
    /// Particles of one sort, and what emits them.
    Particles(Particles),
    /// A force.
    Force(Force),
    /// A soft-edged volume that says where something acts.
    Region(Region),
    /// A curve.
    Curve(Curve),
    /// A camera. It looks along its −z axis.
    Camera(Camera),
    /// A distant light.
    Sun(Sun),
    /// Light from all round.
    Sky(Sky),
    /// A shining rectangle.
    AreaLight(AreaLight),
}

/// The kinds of element, as rows are grouped on the Score.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[allow(missing_docs)]
pub enum Kind {
    Solid,
    Particles,
    Force,
    Region,
    Curve,
    Camera,
    Light,
}

/// A rigid body or a grid of copies of one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Solid {
    /// Rest shape.
    pub shape: Shape,
    /// A grid of copies; none for a single body.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copies: Option<Copies>,
    /// Its bodies all come from particles, at most so many; none: it stands in the shot itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from_particles: Option<u32>,
    /// When those become particles again; none: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back: Option<Back>,
    /// What it is to the physics.
    #[serde(default)]
    pub body: Body,
    /// What it is to the eye.
    #[serde(default)]
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
    /// The ball around the shape's box.
    Ball,
    /// The shape's box.
    Box,
    /// The convex hull.
    Hull,
    /// The shape itself; for a moving mesh, convex parts of it.
    Exact,
}

/// Weight of a body, given one way; the other is computed.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Weight {
    /// Density in kg/m³.
    DensityKgM3(f32),
    /// Mass of one copy in kg.
    MassKg(f32),
}

/// What makes a body free.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Wake {
    /// A frame: it is free after it.
    Frame(u32),
    /// A touch by a body that moves.
    Touch {
        /// The least impulse of the touch, N s.
        impulse_n_s: f32,
    },
    /// A region: its centre of mass comes to lie where the weight is over a half.
    Region(Id),
    /// Another free body that woke nearby, of the same element or any other.
    Neighbour {
        /// How near its surface has to be, m.
        within_m: f32,
    },
}

/// What a solid is to the physics.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Body {
    /// How it moves.
    pub moves: Moves,
    /// What lets an animated body go, or wakes a free one that waits; none: an
    /// animated body stays so, a free one is free from the start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wake: Option<Wake>,
    /// The shape it collides as.
    pub collision: Collision,
    /// Density or mass.
    pub weight: Weight,
    /// Coulomb friction coefficient; a pair has the mean of its two.
    pub friction: f32,
    /// Coefficient of restitution; a pair has the mean of its two.
    pub bounce: f32,
    /// Distance kept from other bodies in metres; none: a five-thousandth of its size, at most 0.1 mm.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub margin_m: Option<f32>,
    /// It breaks when a hit has a greater impulse, N s: it is gone then, and
    /// particles can be born of it; none: never.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub breaks_n_s: Option<f32>,
    /// Drag coefficient C for moving air; none: by its shape.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub drag: Option<f32>,
    /// Velocity when it becomes free, m/s; none: from its own motion.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<[f32; 3]>")]
    pub launch_velocity: Option<Vec3>,
    /// Spin when it becomes free, rad/s; none: from its own motion.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<[f32; 3]>")]
    pub launch_spin: Option<Vec3>,
}

impl Default for Body {
    fn default() -> Self {
        Self {
            moves: Moves::Free,
            wake: None,
            collision: Collision::Auto,
            weight: Weight::DensityKgM3(600.0),
            friction: 0.5,
            bounce: 0.2,
            margin_m: None,
            breaks_n_s: None,
            drag: None,
            launch_velocity: None,
            launch_spin: None,
        }
    }
}

impl Body {
    /// The collision shape used for `shape`: what was chosen, or for
    /// [`Collision::Auto`] the simplest one that fits.
    pub fn collision_of(&self, shape: &Shape) -> Collision {
        match (self.collision, shape) {
            (Collision::Auto, Shape::Sphere { .. }) => Collision::Ball,
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
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Camera {
    /// Focal length in millimetres, as the trade counts it.
    pub focal_length_mm: f32,
    /// Width of the sensor in millimetres.
    pub sensor_mm: f32,
    /// Aperture as an f-stop; none: everything is sharp.
    pub f_stop: Option<f32>,
    /// Distance of the sharp plane in metres.
    pub focus_m: f32,
    /// Exposure in stops.
    pub exposure: f32,
}

impl Default for Camera {
    fn default() -> Self {
        Self { focal_length_mm: 35.0, sensor_mm: 36.0, f_stop: None, focus_m: 5.0, exposure: 0.0 }
    }
}

impl Element {
    /// A solid with default body and look, to be given an id by [`crate::Shot::add`].
    pub fn solid(name: &str, shape: Shape, moves: Moves) -> Self {
        let body = Body { moves, ..Body::default() };
        Self::new(
            name,
            Is::Solid(Solid {
                shape,
                copies: None,
                from_particles: None,
                back: None,
                body,
                look: Look::default(),
            }),
        )
    }

    /// Gravity, to be given an id by [`crate::Shot::add`].
    pub fn gravity(acceleration: Vec3) -> Self {
        Self::new("Gravity", Is::Force(Force::new(crate::ForceKind::Gravity { acceleration })))
    }

    /// An element at the origin, to be given an id by [`crate::Shot::add`].
    pub fn new(name: &str, is: Is) -> Self {
        Self {
            id: Id(0),
            name: name.to_owned(),
            placement: Placement::default(),
            is,
            groups: Vec::new(),
            hidden: false,
            locked: false,
            attached: None,
            aim: None,
            motion: BTreeMap::new(),
        }
    }

    /// The same element at `place_m`.
    pub fn at(mut self, x: f32, y: f32, z: f32) -> Self {
        self.placement.place_m = Vec3::new(x, y, z);
        self
    }

    /// The same element turned by `turn_rad`.
    pub fn turned(mut self, x: f32, y: f32, z: f32) -> Self {
        self.placement.turn_rad = Vec3::new(x, y, z);
        self
    }

    /// The group of rows it belongs to.
    pub fn kind(&self) -> Kind {
        match self.is {
            Is::Solid(_) => Kind::Solid,
            Is::Particles(_) => Kind::Particles,
            Is::Force(_) => Kind::Force,
            Is::Region(_) => Kind::Region,
            Is::Curve(_) => Kind::Curve,
            Is::Camera(_) => Kind::Camera,
            Is::Sun(_) | Is::Sky(_) | Is::AreaLight(_) => Kind::Light,
        }
    }

    /// The solid it is, if it is one.
    pub fn as_solid(&self) -> Option<&Solid> {
        if let Is::Solid(solid) = &self.is { Some(solid) } else { None }
    }

    /// The solid it is, if it is one, to be changed.
    pub fn as_solid_mut(&mut self) -> Option<&mut Solid> {
        if let Is::Solid(solid) = &mut self.is { Some(solid) } else { None }
    }

    /// The force it is, if it is one.
    pub fn as_force(&self) -> Option<&Force> {
        if let Is::Force(force) = &self.is { Some(force) } else { None }
    }

    /// The particles it is, if it is some.
    pub fn as_particles(&self) -> Option<&Particles> {
        if let Is::Particles(particles) = &self.is { Some(particles) } else { None }
    }

    /// The particles it is, if it is some, to be changed.
    pub fn as_particles_mut(&mut self) -> Option<&mut Particles> {
        if let Is::Particles(particles) = &mut self.is { Some(particles) } else { None }
    }

    /// The region it is, if it is one.
    pub fn as_region(&self) -> Option<&Region> {
        if let Is::Region(region) = &self.is { Some(region) } else { None }
    }

    /// Keys on one of its values, in place of what moved it.
    pub fn keyed(mut self, path: &str, channel: Channel) -> Self {
        self.motion.insert(path.to_owned(), channel);
        self
    }

    /// Moves it, and its keys of place, by `shift` metres.
    pub fn shift(&mut self, shift: Vec3) {
        self.placement.place_m += shift;
        for (path, channel) in &mut self.motion {
            let part = match path.as_str() {
                "placement.place_m" => None,
                "placement.place_m[0]" => Some(0),
                "placement.place_m[1]" => Some(1),
                "placement.place_m[2]" => Some(2),
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
        self.motion.keys().any(|path| path.starts_with("is.solid.shape."))
    }

    /// Every copy of an element that stands at `pose`; one if it has no copies,
    /// none if they all come from particles.
    pub fn spread(&self, (place, turn): (Vec3, Quat)) -> Vec<(Vec3, Quat)> {
        if self.as_solid().is_some_and(|solid| solid.from_particles.is_some()) {
            return Vec::new();
        }
        match self.as_solid().and_then(|solid| solid.copies.as_ref()) {
            None => vec![(place, turn)],
            Some(copies) => copies
                .offsets()
                .map(|(shift, angle)| (place + turn * shift, turn * Quat::from_rotation_y(angle)))
                .collect(),
        }
    }

    /// Number of bodies: 1, or the number of copies, or the most that may come from particles.
    pub fn count(&self) -> usize {
        let Some(solid) = self.as_solid() else { return 1 };
        match solid.from_particles {
            Some(most) => most as usize,
            None => solid.copies.as_ref().map_or(1, Copies::total),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn turns_apply_about_fixed_axes_x_then_y_then_z() {
        let turn = quat(Vec3::new(std::f32::consts::FRAC_PI_2, 0.0, std::f32::consts::FRAC_PI_2));
        // y goes to z by the first turn and stays there by the turn about z.
        assert!((turn * Vec3::Y - Vec3::Z).length() < 1e-6);
    }
}
