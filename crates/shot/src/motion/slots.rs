//! The values of an element that have a path: each with its range, and whether
//! it may change with time. Checking and sampling both go through this list.

use super::Value;
use crate::{Element, ForceKind, Is, Push, Shape, Shot, SkySource, Volume, Weight};
use glam::Vec3;

/// A value in a document, to be read or set.
pub(crate) enum Slot<'a> {
    Switch(&'a mut bool),
    Number(&'a mut f32),
    Vector(&'a mut Vec3),
    /// A number that may be left out.
    MaybeNumber(&'a mut Option<f32>),
    /// Three numbers that may be left out.
    MaybeVector(&'a mut Option<Vec3>),
}

/// The range of a value, and whether it may change with time.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Bounds {
    pub low: f32,
    pub high: f32,
    pub moves: bool,
}

/// A range of a value that may change with time.
const fn to(low: f32, high: f32) -> Bounds {
    Bounds { low, high, moves: true }
}

/// A range of a value that is the same throughout.
const fn fixed(low: f32, high: f32) -> Bounds {
    Bounds { low, high, moves: false }
}

/// Largest size of one thing, metres.
const MAX_SIZE: f32 = 1_000.0;
/// Smallest size of one thing, metres.
const MIN_SIZE: f32 = 0.0005;
const SIZE: Bounds = fixed(MIN_SIZE, MAX_SIZE);
const EXTENT: Bounds = to(MIN_SIZE, MAX_SIZE);
const SHARE: Bounds = to(0.0, 1.0);
const SPEED: Bounds = to(-1_000.0, 1_000.0);

type Visit<'v> = &'v mut dyn FnMut(&str, Slot<'_>, Bounds);

impl Slot<'_> {
    pub fn get(&self) -> Option<Value> {
        match self {
            Self::Switch(on) => Some(Value::Switch(**on)),
            Self::Number(number) => Some(Value::Number(**number)),
            Self::Vector(vector) => Some((**vector).into()),
            Self::MaybeNumber(number) => number.map(Value::Number),
            Self::MaybeVector(vector) => vector.map(Value::from),
        }
    }

    /// A value of the kind it takes.
    pub fn kind(&self) -> Value {
        match self {
            Self::Switch(_) => Value::Switch(false),
            Self::Number(_) | Self::MaybeNumber(_) => Value::Number(0.0),
            Self::Vector(_) | Self::MaybeVector(_) => Value::Vector([0.0; 3]),
        }
    }

    /// Sets it; a value of another kind is left.
    pub fn set(&mut self, value: Value) {
        match (self, value) {
            (Self::Switch(slot), Value::Switch(on)) => **slot = on,
            (Self::Number(slot), Value::Number(number)) => **slot = number,
            (Self::Vector(slot), Value::Vector(parts)) => **slot = parts.into(),
            (Self::MaybeNumber(slot), Value::Number(number)) => **slot = Some(number),
            (Self::MaybeVector(slot), Value::Vector(parts)) => **slot = Some(parts.into()),
            _ => {}
        }
    }
}

impl Bounds {
    pub fn hold(&self, value: Value) -> Value {
        match value {
            Value::Switch(_) => value,
            _ => value.with_parts(|i| value.part(i).clamp(f64::from(self.low), f64::from(self.high))),
        }
    }
}

/// The values of a shot that belong to no element.
pub(crate) fn shot_slots(shot: &mut Shot, v: Visit) {
    v("timing.fps", Slot::Number(&mut shot.timing.fps), fixed(1.0, 240.0));
    v("physics.world_m", Slot::Number(&mut shot.physics.world_m), fixed(1.0, 10_000.0));
    v("physics.time_scale", Slot::Number(&mut shot.physics.time_scale), to(0.0, 20.0));
}

/// The values of an element.
pub(crate) fn element_slots(element: &mut Element, v: Visit) {
    v("hidden", Slot::Switch(&mut element.hidden), SHARE);
    v("placement.place_m", Slot::Vector(&mut element.placement.place_m), to(-10_000.0, 10_000.0));
    v("placement.turn_rad", Slot::Vector(&mut element.placement.turn_rad), to(-1_000.0, 1_000.0));
    if let Some(attached) = &mut element.attached {
        v("attached.along", Slot::MaybeNumber(&mut attached.along), SHARE);
    }
    if let Some(aim) = &mut element.aim {
        v("aim.damping_s", Slot::Number(&mut aim.damping_s), fixed(0.0, 10.0));
    }
    match &mut element.is {
        Is::Solid(solid) => {
            shape_slots(&mut solid.shape, v);
            if let Some(copies) = &mut solid.copies {
                v(
                    "is.solid.copies.spacing_m",
                    Slot::Vector(&mut copies.spacing_m),
                    fixed(-MAX_SIZE, MAX_SIZE),
                );
                v("is.solid.copies.jitter_m", Slot::Number(&mut copies.jitter_m), fixed(0.0, MAX_SIZE));
                v("is.solid.copies.turn_rad", Slot::Number(&mut copies.turn_rad), fixed(0.0, 7.0));
            }
            let body = &mut solid.body;
            match &mut body.weight {
                Weight::DensityKgM3(density) => {
                    v("is.solid.body.weight.density_kg_m3", Slot::Number(density), to(0.01, 50_000.0));
                }
                Weight::MassKg(mass) => v("is.solid.body.weight.mass_kg", Slot::Number(mass), to(1e-6, 1e9)),
            }
            v("is.solid.body.friction", Slot::Number(&mut body.friction), to(0.0, 10.0));
            v("is.solid.body.bounce", Slot::Number(&mut body.bounce), SHARE);
            v("is.solid.body.margin_m", Slot::MaybeNumber(&mut body.margin_m), fixed(0.0, 1.0));
            v("is.solid.body.drag", Slot::MaybeNumber(&mut body.drag), to(0.0, 10.0));
            v("is.solid.body.launch_velocity", Slot::MaybeVector(&mut body.launch_velocity), SPEED);
            v("is.solid.body.launch_spin", Slot::MaybeVector(&mut body.launch_spin), SPEED);
            match &mut body.wake {
                Some(crate::Wake::Touch { impulse_n_s }) => {
                    v("is.solid.body.wake.touch.impulse_n_s", Slot::Number(impulse_n_s), fixed(0.0, 1e9));
                }
                Some(crate::Wake::Neighbour { within_m }) => {
                    v("is.solid.body.wake.neighbour.within_m", Slot::Number(within_m), fixed(0.0, MAX_SIZE));
                }
                _ => {}
            }
            let look = &mut solid.look;
            v("is.solid.look.albedo", Slot::Vector(&mut look.albedo), SHARE);
            v("is.solid.look.image_repeat", Slot::Number(&mut look.image_repeat), to(0.001, 1_000.0));
            v("is.solid.look.variation", Slot::Number(&mut look.variation), SHARE);
            v("is.solid.look.roughness", Slot::Number(&mut look.roughness), SHARE);
            v("is.solid.look.metalness", Slot::Number(&mut look.metalness), SHARE);
            v("is.solid.look.transmission", Slot::Number(&mut look.transmission), SHARE);
            v("is.solid.look.refraction", Slot::Number(&mut look.refraction), to(1.0, 3.0));
            v("is.solid.look.emission", Slot::Vector(&mut look.emission), to(0.0, 1e6));
        }
        Is::Camera(camera) => {
            v("is.camera.focal_length_mm", Slot::Number(&mut camera.focal_length_mm), to(4.0, 1_200.0));
            v("is.camera.sensor_mm", Slot::Number(&mut camera.sensor_mm), to(4.0, 100.0));
            v("is.camera.f_stop", Slot::MaybeNumber(&mut camera.f_stop), to(0.5, 64.0));
            v("is.camera.focus_m", Slot::Number(&mut camera.focus_m), to(0.01, 10_000.0));
            v("is.camera.exposure", Slot::Number(&mut camera.exposure), to(-20.0, 20.0));
        }
        Is::Sun(sun) => {
            v("is.sun.irradiance", Slot::Number(&mut sun.irradiance), to(0.0, 1e5));
            v("is.sun.colour", Slot::Vector(&mut sun.colour), to(0.0, 1e3));
            v("is.sun.angle_rad", Slot::Number(&mut sun.angle_rad), SHARE);
        }
        Is::Sky(sky) => {
            v("is.sky.strength", Slot::Number(&mut sky.strength), to(0.0, 1e4));
            if let SkySource::Gradient { zenith, horizon, ground } = &mut sky.source {
                v("is.sky.source.gradient.zenith", Slot::Vector(zenith), to(0.0, 1e4));
                v("is.sky.source.gradient.horizon", Slot::Vector(horizon), to(0.0, 1e4));
                v("is.sky.source.gradient.ground", Slot::Vector(ground), to(0.0, 1e4));
            }
        }
        Is::AreaLight(light) => {
            v("is.area_light.size_m[0]", Slot::Number(&mut light.size_m.x), EXTENT);
            v("is.area_light.size_m[1]", Slot::Number(&mut light.size_m.y), EXTENT);
            v("is.area_light.radiance", Slot::Number(&mut light.radiance), to(0.0, 1e6));
            v("is.area_light.colour", Slot::Vector(&mut light.colour), to(0.0, 1e3));
        }
        Is::Force(force) => {
            v("is.force.strength", Slot::Number(&mut force.strength), to(-1e4, 1e4));
            v("is.force.on", Slot::Switch(&mut force.on), SHARE);
            force_slots(&mut force.kind, v);
        }
        Is::Region(region) => {
            v("is.region.edge_m", Slot::Number(&mut region.edge_m), to(0.0, MAX_SIZE));
            v("is.region.inverted", Slot::Switch(&mut region.inverted), SHARE);
            volume_slots(&mut region.volume, v);
        }
        Is::Curve(curve) => {
            if let crate::Curve::Circle { radius_m } = curve {
                v("is.curve.circle.radius_m", Slot::Number(radius_m), SIZE);
            }
        }
    }
}

fn shape_slots(shape: &mut Shape, v: Visit) {
    match shape {
        Shape::Box { size_m, edge_m } => {
            let most = (0.5 * size_m.min_element()).max(0.0);
            v("is.solid.shape.box.size_m", Slot::Vector(size_m), SIZE);
            v("is.solid.shape.box.edge_m", Slot::Number(edge_m), fixed(0.0, most));
        }
        Shape::Sphere { radius_m } => v("is.solid.shape.sphere.radius_m", Slot::Number(radius_m), SIZE),
        Shape::Capsule { radius_m, length_m } => {
            v("is.solid.shape.capsule.radius_m", Slot::Number(radius_m), SIZE);
            v("is.solid.shape.capsule.length_m", Slot::Number(length_m), SIZE);
        }
        Shape::Cylinder { radius_m, height_m } => {
            v("is.solid.shape.cylinder.radius_m", Slot::Number(radius_m), SIZE);
            v("is.solid.shape.cylinder.height_m", Slot::Number(height_m), SIZE);
        }
        Shape::Cone { radius_m, height_m } => {
            v("is.solid.shape.cone.radius_m", Slot::Number(radius_m), SIZE);
            v("is.solid.shape.cone.height_m", Slot::Number(height_m), SIZE);
        }
        Shape::Torus { ring_m, tube_m } => {
            let most = ring_m.max(MIN_SIZE);
            v("is.solid.shape.torus.ring_m", Slot::Number(ring_m), SIZE);
            v("is.solid.shape.torus.tube_m", Slot::Number(tube_m), fixed(MIN_SIZE, most));
        }
        Shape::Plane { size_m } => {
            v("is.solid.shape.plane.size_m[0]", Slot::Number(&mut size_m.x), SIZE);
            v("is.solid.shape.plane.size_m[1]", Slot::Number(&mut size_m.y), SIZE);
        }
        Shape::Mesh { scale, .. } => v("is.solid.shape.mesh.scale", Slot::Number(scale), fixed(1e-6, 1e6)),
    }
}

fn force_slots(kind: &mut ForceKind, v: Visit) {
    let push = |v: Visit, path: &str, push: &mut Push| {
        if let Push::Air { density_kg_m3 } = push {
            v(path, Slot::Number(density_kg_m3), to(0.0, 20_000.0));
        }
    };
    match kind {
        ForceKind::Gravity { acceleration } => {
            v("is.force.kind.gravity.acceleration", Slot::Vector(acceleration), SPEED);
        }
        ForceKind::Pull { force_n } => {
            v("is.force.kind.pull.force_n", Slot::Number(force_n), to(-1e9, 1e9));
        }
        ForceKind::Wind(wind) => {
            v("is.force.kind.wind.speed_m_s", Slot::Number(&mut wind.speed_m_s), SPEED);
            v("is.force.kind.wind.gust", Slot::Number(&mut wind.gust), SHARE);
            v("is.force.kind.wind.gust_s", Slot::Number(&mut wind.gust_s), fixed(0.01, 1_000.0));
            v("is.force.kind.wind.eddy", Slot::Number(&mut wind.eddy), to(0.0, 2.0));
            v("is.force.kind.wind.eddy_m", Slot::Number(&mut wind.eddy_m), fixed(0.01, MAX_SIZE));
            push(v, "is.force.kind.wind.push.air.density_kg_m3", &mut wind.push);
        }
        ForceKind::Turbulence(turbulence) => {
            v("is.force.kind.turbulence.speed_m_s", Slot::Number(&mut turbulence.speed_m_s), SPEED);
            v("is.force.kind.turbulence.size_m", Slot::Number(&mut turbulence.size_m), fixed(0.01, MAX_SIZE));
            v(
                "is.force.kind.turbulence.drift_m_s",
                Slot::Vector(&mut turbulence.drift_m_s),
                fixed(-1_000.0, 1_000.0),
            );
            v(
                "is.force.kind.turbulence.change_s",
                Slot::Number(&mut turbulence.change_s),
                fixed(0.0, 10_000.0),
            );
            v(
                "is.force.kind.turbulence.loop_s",
                Slot::MaybeNumber(&mut turbulence.loop_s),
                fixed(0.01, 10_000.0),
            );
            push(v, "is.force.kind.turbulence.push.air.density_kg_m3", &mut turbulence.push);
        }
        ForceKind::Vortex(vortex) => {
            v("is.force.kind.vortex.speed_m_s", Slot::Number(&mut vortex.speed_m_s), SPEED);
            v("is.force.kind.vortex.core_m", Slot::Number(&mut vortex.core_m), to(0.001, MAX_SIZE));
            v("is.force.kind.vortex.inflow_m_s", Slot::Number(&mut vortex.inflow_m_s), SPEED);
            v("is.force.kind.vortex.rise_m_s", Slot::Number(&mut vortex.rise_m_s), SPEED);
            push(v, "is.force.kind.vortex.push.air.density_kg_m3", &mut vortex.push);
        }
        ForceKind::Attract(attract) => {
            v("is.force.kind.attract.acceleration", Slot::Number(&mut attract.acceleration), to(-1e6, 1e6));
            v("is.force.kind.attract.power", Slot::Number(&mut attract.power), to(-4.0, 4.0));
            v("is.force.kind.attract.range_m", Slot::MaybeNumber(&mut attract.range_m), EXTENT);
            v("is.force.kind.attract.near_m", Slot::Number(&mut attract.near_m), to(1e-6, MAX_SIZE));
        }
        ForceKind::Drag { linear_n_s_m, density_kg_m3 } => {
            v("is.force.kind.drag.linear_n_s_m", Slot::Number(linear_n_s_m), to(0.0, 1e6));
            v("is.force.kind.drag.density_kg_m3", Slot::Number(density_kg_m3), to(0.0, 20_000.0));
        }
        ForceKind::Along(along) => {
            v("is.force.kind.along.speed_m_s", Slot::Number(&mut along.speed_m_s), SPEED);
            v("is.force.kind.along.inflow_m_s", Slot::Number(&mut along.inflow_m_s), SPEED);
            v("is.force.kind.along.range_m", Slot::Number(&mut along.range_m), EXTENT);
            push(v, "is.force.kind.along.push.air.density_kg_m3", &mut along.push);
        }
    }
}

fn volume_slots(volume: &mut Volume, v: Visit) {
    // A region of no size is a shot's mistake, not a fault: it acts nowhere.
    let extent = to(0.0, 10_000.0);
    match volume {
        Volume::Box { size_m } => v("is.region.volume.box.size_m", Slot::Vector(size_m), extent),
        Volume::Ball { radius_m } => v("is.region.volume.ball.radius_m", Slot::Number(radius_m), extent),
        Volume::Cylinder { radius_m, height_m } => {
            v("is.region.volume.cylinder.radius_m", Slot::Number(radius_m), extent);
            v("is.region.volume.cylinder.height_m", Slot::Number(height_m), extent);
        }
        Volume::Noise { size_m, threshold, softness, drift_m_s, .. } => {
            v("is.region.volume.noise.size_m", Slot::Number(size_m), to(0.01, MAX_SIZE));
            v("is.region.volume.noise.threshold", Slot::Number(threshold), SHARE);
            v("is.region.volume.noise.softness", Slot::Number(softness), SHARE);
            v("is.region.volume.noise.drift_m_s", Slot::Vector(drift_m_s), fixed(-1_000.0, 1_000.0));
        }
        Volume::HalfSpace {} | Volume::Inside { .. } | Volume::Combined { .. } => {}
    }
}
