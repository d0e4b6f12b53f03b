//! The values of an element that have a path: each with its range, and whether
//! it may change with time. Checking and sampling both go through this list.

use super::Value;
use crate::{
    Copies, Element, ElementKind, LAST_FRAME, Shape, Shot, Weight,
    curve::Curve,
    finish::FinishOperation,
    force::{ForceKind, Push},
    light::SkySource,
    look::Look,
    particles::{Action, EmissionSchedule, Form, Particles, Source, Trigger},
    region::Volume,
};
use glam::Vec3;
use std::fmt::Arguments;

/// A value in a document, to be read or set.
pub(crate) enum Parameter<'a> {
    Switch(&'a mut bool),
    /// A number without a fraction.
    Whole(&'a mut u32),
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
const EXTENT: Bounds = to(MIN_SIZE, MAX_SIZE);
const SEED: Bounds = to(0.0, u32::MAX as f32);
const FRACTION: Bounds = to(0.0, 1.0);
const POSITIONS: Bounds = to(-10_000.0, 10_000.0);
const ANGLES: Bounds = to(-1_000.0, 1_000.0);
const SPEED: Bounds = to(-1_000.0, 1_000.0);

/// What is done with a value: its path is put together only where it is looked at.
type Visit<'v> = &'v mut dyn FnMut(Arguments<'_>, Parameter<'_>, Bounds);

impl Parameter<'_> {
    pub fn get(&self) -> Option<Value> {
        match self {
            Self::Switch(on) => Some(Value::Switch(**on)),
            Self::Whole(count) => Some(Value::Number(**count as f32)),
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
            Self::Whole(_) | Self::Number(_) | Self::MaybeNumber(_) => Value::Number(0.0),
            Self::Vector(_) | Self::MaybeVector(_) => Value::Vector([0.0; 3]),
        }
    }

    /// Sets it; a value of another kind is left.
    pub fn set(&mut self, value: Value) {
        match (self, value) {
            (Self::Switch(slot), Value::Switch(on)) => **slot = on,
            (Self::Whole(slot), Value::Number(number)) => **slot = number.round() as u32,
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
pub(crate) fn shot_parameters(shot: &mut Shot, v: Visit) {
    v(format_args!("timing.fps"), Parameter::Number(&mut shot.timing.fps), fixed(1.0, 240.0));
    v(format_args!("physics.world_m"), Parameter::Number(&mut shot.physics.world_m), to(1.0, 10_000.0));
    v(format_args!("physics.time_scale"), Parameter::Number(&mut shot.physics.time_scale), to(0.0, 20.0));
}

/// Indices of position and orientation in the list of an element's parameters.
pub(crate) const POSITION: usize = 1;
pub(crate) const ORIENTATION: usize = 2;

/// The position or orientation of an element, by its index in the list: most
/// channels give one of these.
pub(crate) fn placement_parameter(element: &mut Element, slot: usize) -> Option<(Parameter<'_>, Bounds)> {
    match slot {
        POSITION => Some((Parameter::Vector(&mut element.placement.position_m), POSITIONS)),
        ORIENTATION => Some((Parameter::Vector(&mut element.placement.orientation_rad), ANGLES)),
        _ => None,
    }
}

/// The values of an element.
pub(crate) fn element_parameters(element: &mut Element, v: Visit) {
    v(format_args!("hidden"), Parameter::Switch(&mut element.hidden), FRACTION);
    v(format_args!("placement.position_m"), Parameter::Vector(&mut element.placement.position_m), POSITIONS);
    v(
        format_args!("placement.orientation_rad"),
        Parameter::Vector(&mut element.placement.orientation_rad),
        ANGLES,
    );
    if let Some(attached) = &mut element.attached {
        v(format_args!("attached.along"), Parameter::MaybeNumber(&mut attached.along), FRACTION);
        v(format_args!("attached.facing"), Parameter::Switch(&mut attached.facing), FRACTION);
    }
    if let Some(aim) = &mut element.aim {
        v(format_args!("aim.damping_s"), Parameter::Number(&mut aim.damping_s), to(0.0, 10.0));
    }
    match &mut element.kind {
        ElementKind::Solid(solid) => {
            shape_parameters("kind.solid.shape", &mut solid.shape, v);
            if let Some(animation) = &mut solid.animation {
                v(
                    format_args!("kind.solid.animation.rate"),
                    Parameter::Number(&mut animation.rate),
                    fixed(0.01, 1_000.0),
                );
                v(
                    format_args!("kind.solid.animation.speed"),
                    Parameter::Number(&mut animation.speed),
                    to(-100.0, 100.0),
                );
            }
            if let Some(copies) = &mut solid.copies {
                copies_parameters("kind.solid.copies", copies, v);
            }
            if let Some(back) = &mut solid.to_particles {
                trigger_parameters(&mut back.trigger, &mut |path, slot, bounds| {
                    v(format_args!("kind.solid.to_particles.{path}"), slot, bounds);
                });
            }
            let body = &mut solid.body;
            match &mut body.weight {
                Weight::DensityKgM3(density) => {
                    v(
                        format_args!("kind.solid.body.weight.density_kg_m3"),
                        Parameter::Number(density),
                        to(0.01, 50_000.0),
                    );
                }
                Weight::MassKg(mass) => {
                    v(format_args!("kind.solid.body.weight.mass_kg"), Parameter::Number(mass), to(1e-6, 1e9))
                }
            }
            v(format_args!("kind.solid.body.friction"), Parameter::Number(&mut body.friction), to(0.0, 10.0));
            v(
                format_args!("kind.solid.body.restitution"),
                Parameter::Number(&mut body.restitution),
                FRACTION,
            );
            v(
                format_args!("kind.solid.body.margin_m"),
                Parameter::MaybeNumber(&mut body.margin_m),
                to(0.0, 1.0),
            );
            v(
                format_args!("kind.solid.body.breaking_impulse_n_s"),
                Parameter::MaybeNumber(&mut body.breaking_impulse_n_s),
                to(1e-6, 1e9),
            );
            v(format_args!("kind.solid.body.drag"), Parameter::MaybeNumber(&mut body.drag), to(0.0, 10.0));
            v(
                format_args!("kind.solid.body.launch_velocity"),
                Parameter::MaybeVector(&mut body.launch_velocity),
                SPEED,
            );
            v(
                format_args!("kind.solid.body.launch_angular_velocity"),
                Parameter::MaybeVector(&mut body.launch_angular_velocity),
                SPEED,
            );
            match &mut body.wake {
                Some(crate::Wake::Touch { impulse_n_s }) => {
                    v(
                        format_args!("kind.solid.body.wake.touch.impulse_n_s"),
                        Parameter::Number(impulse_n_s),
                        to(0.0, 1e9),
                    );
                }
                Some(crate::Wake::Neighbour { within_m }) => {
                    v(
                        format_args!("kind.solid.body.wake.neighbour.within_m"),
                        Parameter::Number(within_m),
                        to(0.0, MAX_SIZE),
                    );
                }
                _ => {}
            }
            look_parameters("kind.solid.look", &mut solid.look, v);
        }
        ElementKind::Particles(particles) => particle_parameters(particles, v),
        ElementKind::Camera(camera) => {
            v(
                format_args!("kind.camera.focal_length_mm"),
                Parameter::Number(&mut camera.focal_length_mm),
                to(4.0, 1_200.0),
            );
            v(
                format_args!("kind.camera.sensor_mm"),
                Parameter::Number(&mut camera.sensor_mm),
                to(4.0, 100.0),
            );
            v(format_args!("kind.camera.f_stop"), Parameter::MaybeNumber(&mut camera.f_stop), to(0.5, 64.0));
            v(
                format_args!("kind.camera.focus_distance_m"),
                Parameter::Number(&mut camera.focus_distance_m),
                to(0.01, 10_000.0),
            );
            v(format_args!("kind.camera.exposure"), Parameter::Number(&mut camera.exposure), to(-20.0, 20.0));
        }
        ElementKind::Sun(sun) => {
            v(format_args!("kind.sun.irradiance"), Parameter::Number(&mut sun.irradiance), to(0.0, 1e5));
            v(format_args!("kind.sun.colour"), Parameter::Vector(&mut sun.colour), to(0.0, 1e3));
            v(format_args!("kind.sun.angle_rad"), Parameter::Number(&mut sun.angle_rad), FRACTION);
        }
        ElementKind::Sky(sky) => {
            v(format_args!("kind.sky.strength"), Parameter::Number(&mut sky.strength), to(0.0, 1e4));
            if let SkySource::Gradient { zenith, horizon, ground } = &mut sky.source {
                v(format_args!("kind.sky.source.gradient.zenith"), Parameter::Vector(zenith), to(0.0, 1e4));
                v(format_args!("kind.sky.source.gradient.horizon"), Parameter::Vector(horizon), to(0.0, 1e4));
                v(format_args!("kind.sky.source.gradient.ground"), Parameter::Vector(ground), to(0.0, 1e4));
            }
        }
        ElementKind::AreaLight(light) => {
            v(format_args!("kind.area_light.size_m[0]"), Parameter::Number(&mut light.size_m.x), EXTENT);
            v(format_args!("kind.area_light.size_m[1]"), Parameter::Number(&mut light.size_m.y), EXTENT);
            v(format_args!("kind.area_light.radiance"), Parameter::Number(&mut light.radiance), to(0.0, 1e6));
            v(format_args!("kind.area_light.colour"), Parameter::Vector(&mut light.colour), to(0.0, 1e3));
        }
        ElementKind::Force(force) => {
            v(format_args!("kind.force.strength"), Parameter::Number(&mut force.strength), to(-1e4, 1e4));
            v(format_args!("kind.force.enabled"), Parameter::Switch(&mut force.enabled), FRACTION);
            force_parameters(&mut force.kind, v);
        }
        ElementKind::Region(region) => {
            v(format_args!("kind.region.edge_m"), Parameter::Number(&mut region.edge_m), to(0.0, MAX_SIZE));
            v(format_args!("kind.region.inverted"), Parameter::Switch(&mut region.inverted), FRACTION);
            volume_parameters(&mut region.volume, v);
        }
        ElementKind::Curve(curve) => match curve {
            Curve::Circle { radius_m } => {
                v(format_args!("kind.curve.circle.radius_m"), Parameter::Number(radius_m), EXTENT)
            }
            Curve::Points { points_m, closed, smooth } => {
                v(format_args!("kind.curve.points.closed"), Parameter::Switch(closed), FRACTION);
                v(format_args!("kind.curve.points.smooth"), Parameter::Switch(smooth), FRACTION);
                for (i, point) in points_m.iter_mut().enumerate() {
                    v(
                        format_args!("kind.curve.points.points_m.{i}"),
                        Parameter::Vector(point),
                        to(-10_000.0, 10_000.0),
                    );
                }
            }
            Curve::Strokes { .. } => {}
        },
        ElementKind::Finish(finish) => match &mut finish.operation {
            FinishOperation::Retime { run_frame, .. } => {
                v(
                    format_args!("kind.finish.operation.retime.run_frame"),
                    Parameter::Number(run_frame),
                    to(0.0, LAST_FRAME as f32),
                );
            }
            FinishOperation::Place { scale, .. } => {
                v(format_args!("kind.finish.operation.place.scale"), Parameter::Number(scale), to(1e-3, 1e3));
            }
            FinishOperation::Blend { weight, .. } => {
                v(format_args!("kind.finish.operation.blend.weight"), Parameter::Number(weight), FRACTION);
            }
            FinishOperation::Smooth { radius } => {
                v(
                    format_args!("kind.finish.operation.smooth.radius"),
                    Parameter::Number(radius),
                    to(0.0, 24.0),
                );
            }
            FinishOperation::Thicken { thickness_m, offset } => {
                let root = "kind.finish.operation.thicken";
                v(format_args!("{root}.thickness_m"), Parameter::Number(thickness_m), to(0.0, 10.0));
                v(format_args!("{root}.offset"), Parameter::Number(offset), to(-1.0, 1.0));
            }
            FinishOperation::Copies { grid, .. } => {
                copies_parameters("kind.finish.operation.copies.grid", grid, v);
            }
            FinishOperation::SmoothShape { .. }
            | FinishOperation::Subdivide { .. }
            | FinishOperation::Trim { .. }
            | FinishOperation::Join { .. }
            | FinishOperation::Reverse {}
            | FinishOperation::Shift { .. }
            | FinishOperation::Loop { .. } => {}
        },
    }
}

fn copies_parameters(root: &str, copies: &mut Copies, v: Visit) {
    v(format_args!("{root}.spacing_m"), Parameter::Vector(&mut copies.spacing_m), to(-MAX_SIZE, MAX_SIZE));
    v(
        format_args!("{root}.position_jitter_m"),
        Parameter::Number(&mut copies.position_jitter_m),
        to(0.0, MAX_SIZE),
    );
    v(format_args!("{root}.seed"), Parameter::Whole(&mut copies.seed), SEED);
    v(
        format_args!("{root}.orientation_jitter_rad"),
        Parameter::Number(&mut copies.orientation_jitter_rad),
        to(0.0, 7.0),
    );
}

fn look_parameters(root: &str, look: &mut Look, v: Visit) {
    let mut v =
        |path: Arguments, slot: Parameter, bounds: Bounds| v(format_args!("{root}.{path}"), slot, bounds);
    v(format_args!("albedo"), Parameter::Vector(&mut look.albedo), FRACTION);
    v(format_args!("image_repeat"), Parameter::Number(&mut look.image_repeat), to(0.001, 1_000.0));
    v(format_args!("normal_strength"), Parameter::Number(&mut look.normal_strength), to(0.0, 10.0));
    v(format_args!("variation"), Parameter::Number(&mut look.variation), FRACTION);
    v(format_args!("roughness"), Parameter::Number(&mut look.roughness), FRACTION);
    v(format_args!("metalness"), Parameter::Number(&mut look.metalness), FRACTION);
    v(format_args!("transmission"), Parameter::Number(&mut look.transmission), FRACTION);
    v(format_args!("refractive_index"), Parameter::Number(&mut look.refractive_index), to(1.0, 3.0));
    v(format_args!("emission"), Parameter::Vector(&mut look.emission), to(0.0, 1e6));
}

fn particle_parameters(particles: &mut Particles, v: Visit) {
    if let Source::Shape { shape, .. } = &mut particles.source {
        shape_parameters("kind.particles.source.shape.shape", shape, v);
    }
    look_parameters("kind.particles.look", &mut particles.look, v);
    let mut v = |path: Arguments, slot: Parameter, bounds: Bounds| {
        v(format_args!("kind.particles.{path}"), slot, bounds)
    };
    match &mut particles.source {
        Source::Grid { spacing_m, .. } => {
            v(format_args!("source.grid.spacing_m"), Parameter::Vector(spacing_m), to(-MAX_SIZE, MAX_SIZE));
        }
        Source::Impacts { impulse_n_s, .. } => {
            v(format_args!("source.impacts.impulse_n_s"), Parameter::Number(impulse_n_s), to(0.0, 1e9));
        }
        _ => {}
    }
    match &mut particles.emission.schedule {
        EmissionSchedule::Rate { per_s } => {
            v(format_args!("emission.schedule.rate.per_s"), Parameter::Number(per_s), to(0.0, 1e7))
        }
        EmissionSchedule::Total { count } => {
            v(format_args!("emission.schedule.total.count"), Parameter::Whole(count), fixed(1.0, 1e7))
        }
        EmissionSchedule::Burst { count } => {
            v(format_args!("emission.schedule.burst.count"), Parameter::Whole(count), fixed(1.0, 1e7))
        }
        EmissionSchedule::Never {} => {}
    }
    v(
        format_args!("emission.preroll_s"),
        Parameter::Number(&mut particles.emission.preroll_s),
        fixed(0.0, 600.0),
    );
    let start = &mut particles.start;
    v(
        format_args!("start.spread_rad"),
        Parameter::Number(&mut start.spread_rad),
        to(0.0, std::f32::consts::PI),
    );
    v(format_args!("start.speed_m_s"), Parameter::Number(&mut start.speed_m_s), to(-1_000.0, 1_000.0));
    v(format_args!("start.speed_variation"), Parameter::Number(&mut start.speed_variation), FRACTION);
    v(
        format_args!("start.inherited_velocity"),
        Parameter::Number(&mut start.inherited_velocity),
        to(-2.0, 2.0),
    );
    v(format_args!("start.lifespan_s"), Parameter::MaybeNumber(&mut start.lifespan_s), to(0.001, 10_000.0));
    v(format_args!("start.lifespan_variation"), Parameter::Number(&mut start.lifespan_variation), FRACTION);
    v(format_args!("start.size_m"), Parameter::Number(&mut start.size_m), to(1e-5, 100.0));
    v(format_args!("start.size_variation"), Parameter::Number(&mut start.size_variation), FRACTION);
    v(
        format_args!("start.orientation_variation"),
        Parameter::Number(&mut start.orientation_variation),
        FRACTION,
    );
    v(format_args!("start.angular_speed_rad_s"), Parameter::Number(&mut start.angular_speed_rad_s), SPEED);
    v(
        format_args!("start.angular_speed_variation"),
        Parameter::Number(&mut start.angular_speed_variation),
        FRACTION,
    );
    let body = &mut particles.body;
    match &mut body.weight {
        Weight::DensityKgM3(density) => {
            v(format_args!("body.weight.density_kg_m3"), Parameter::Number(density), to(0.01, 50_000.0));
        }
        Weight::MassKg(mass) => {
            v(format_args!("body.weight.mass_kg"), Parameter::Number(mass), to(1e-12, 1e6))
        }
    }
    v(format_args!("body.mass_variation"), Parameter::Number(&mut body.mass_variation), to(0.0, 0.99));
    v(format_args!("body.drag"), Parameter::Number(&mut body.drag), to(0.0, 10.0));
    v(format_args!("body.max_speed_m_s"), Parameter::MaybeNumber(&mut body.max_speed_m_s), to(0.0, 2_000.0));
    let steer = &mut particles.steering;
    v(
        format_args!("steering.cruise_speed_m_s"),
        Parameter::MaybeNumber(&mut steer.cruise_speed_m_s),
        to(0.0, 1_000.0),
    );
    v(
        format_args!("steering.max_acceleration_m_s2"),
        Parameter::Number(&mut steer.max_acceleration_m_s2),
        to(0.0, 10_000.0),
    );
    v(format_args!("steering.wander"), Parameter::Number(&mut steer.wander), FRACTION);
    v(format_args!("steering.wander_s"), Parameter::Number(&mut steer.wander_s), to(0.01, 1_000.0));
    v(format_args!("steering.horizontal"), Parameter::Switch(&mut steer.horizontal), FRACTION);
    v(
        format_args!("steering.avoidance_time_s"),
        Parameter::Number(&mut steer.avoidance_time_s),
        to(0.0, 60.0),
    );
    v(
        format_args!("steering.min_distance_m"),
        Parameter::Number(&mut steer.min_distance_m),
        to(0.0, MAX_SIZE),
    );
    if let Some(flock) = &mut steer.flock {
        v(
            format_args!("steering.flock.perception_radius_m"),
            Parameter::Number(&mut flock.perception_radius_m),
            to(0.001, MAX_SIZE),
        );
        v(
            format_args!("steering.flock.distance_m"),
            Parameter::Number(&mut flock.distance_m),
            to(0.0, MAX_SIZE),
        );
        v(format_args!("steering.flock.separation"), Parameter::Number(&mut flock.separation), to(0.0, 10.0));
        v(format_args!("steering.flock.alignment"), Parameter::Number(&mut flock.alignment), to(0.0, 10.0));
        v(format_args!("steering.flock.cohesion"), Parameter::Number(&mut flock.cohesion), to(0.0, 10.0));
    }
    let contact = &mut particles.contact;
    v(format_args!("contact.enabled"), Parameter::Switch(&mut contact.enabled), FRACTION);
    v(format_args!("contact.probability"), Parameter::Number(&mut contact.probability), FRACTION);
    v(format_args!("contact.restitution"), Parameter::Number(&mut contact.restitution), FRACTION);
    v(
        format_args!("contact.restitution_variation"),
        Parameter::Number(&mut contact.restitution_variation),
        FRACTION,
    );
    v(format_args!("contact.friction"), Parameter::Number(&mut contact.friction), to(0.0, 10.0));
    v(format_args!("contact.push"), Parameter::Switch(&mut contact.push), FRACTION);
    for (i, event) in particles.events.iter_mut().enumerate() {
        let mut v = |path: Arguments, slot: Parameter, bounds: Bounds| {
            v(format_args!("events.{i}.{path}"), slot, bounds)
        };
        v(format_args!("probability"), Parameter::Number(&mut event.probability), FRACTION);
        trigger_parameters(&mut event.trigger, &mut v);
        match &mut event.action {
            Action::Split(split) => {
                v(
                    format_args!("action.split.count"),
                    Parameter::Whole(&mut split.count),
                    fixed(1.0, 10_000.0),
                );
                v(
                    format_args!("action.split.inherited_velocity"),
                    Parameter::Number(&mut split.inherited_velocity),
                    to(-2.0, 2.0),
                );
                v(
                    format_args!("action.split.speed_m_s"),
                    Parameter::Number(&mut split.speed_m_s),
                    to(0.0, 1_000.0),
                );
                v(
                    format_args!("action.split.speed_variation"),
                    Parameter::Number(&mut split.speed_variation),
                    FRACTION,
                );
                v(
                    format_args!("action.split.spread_rad"),
                    Parameter::Number(&mut split.spread_rad),
                    to(0.0, std::f32::consts::PI),
                );
                v(
                    format_args!("action.split.angular_speed_rad_s"),
                    Parameter::Number(&mut split.angular_speed_rad_s),
                    SPEED,
                );
                v(
                    format_args!("action.split.size"),
                    Parameter::MaybeNumber(&mut split.size),
                    to(0.001, 100.0),
                );
            }
            Action::Trail { per_s, .. } => {
                v(format_args!("action.trail.per_s"), Parameter::Number(per_s), to(0.0, 1e5))
            }
            Action::Die {} | Action::Become { .. } | Action::Solid { .. } => {}
        }
    }
    if let Form::Streak { duration_s } = &mut particles.appearance.form {
        v(format_args!("appearance.form.streak.duration_s"), Parameter::Number(duration_s), to(0.0, 10.0));
    }
    for (path, by) in
        [("colour_by", &mut particles.appearance.colour_by), ("size_by", &mut particles.appearance.size_by)]
    {
        if let crate::particles::RampInput::Speed { max_speed_m_s } = by {
            v(
                format_args!("appearance.{path}.speed.max_speed_m_s"),
                Parameter::Number(max_speed_m_s),
                to(1e-3, 1_000.0),
            );
        }
    }
    for (i, stop) in particles.appearance.colours.iter_mut().enumerate() {
        v(format_args!("appearance.colours.{i}.at"), Parameter::Number(&mut stop.at), FRACTION);
        v(format_args!("appearance.colours.{i}.colour"), Parameter::Vector(&mut stop.colour), to(0.0, 1e4));
    }
    for (i, stop) in particles.appearance.sizes.iter_mut().enumerate() {
        v(format_args!("appearance.sizes.{i}.at"), Parameter::Number(&mut stop.at), FRACTION);
        v(format_args!("appearance.sizes.{i}.size"), Parameter::Number(&mut stop.size), to(0.0, 100.0));
    }
}

fn shape_parameters(root: &str, shape: &mut Shape, v: Visit) {
    let mut v =
        |path: Arguments, slot: Parameter, bounds: Bounds| v(format_args!("{root}.{path}"), slot, bounds);
    match shape {
        Shape::Box { size_m, edge_m } => {
            let most = (0.5 * size_m.min_element()).max(0.0);
            v(format_args!("box.size_m"), Parameter::Vector(size_m), EXTENT);
            v(format_args!("box.edge_m"), Parameter::Number(edge_m), to(0.0, most));
        }
        Shape::Sphere { radius_m } => v(format_args!("sphere.radius_m"), Parameter::Number(radius_m), EXTENT),
        Shape::Capsule { radius_m, length_m } => {
            v(format_args!("capsule.radius_m"), Parameter::Number(radius_m), EXTENT);
            v(format_args!("capsule.length_m"), Parameter::Number(length_m), EXTENT);
        }
        Shape::Cylinder { radius_m, height_m } => {
            v(format_args!("cylinder.radius_m"), Parameter::Number(radius_m), EXTENT);
            v(format_args!("cylinder.height_m"), Parameter::Number(height_m), EXTENT);
        }
        Shape::Cone { radius_m, height_m } => {
            v(format_args!("cone.radius_m"), Parameter::Number(radius_m), EXTENT);
            v(format_args!("cone.height_m"), Parameter::Number(height_m), EXTENT);
        }
        Shape::Torus { major_radius_m, minor_radius_m } => {
            let most = major_radius_m.max(MIN_SIZE);
            v(format_args!("torus.major_radius_m"), Parameter::Number(major_radius_m), EXTENT);
            v(format_args!("torus.minor_radius_m"), Parameter::Number(minor_radius_m), to(MIN_SIZE, most));
        }
        Shape::Plane { size_m } => {
            v(format_args!("plane.size_m[0]"), Parameter::Number(&mut size_m.x), EXTENT);
            v(format_args!("plane.size_m[1]"), Parameter::Number(&mut size_m.y), EXTENT);
        }
        Shape::Mesh { scale, .. } => v(format_args!("mesh.scale"), Parameter::Number(scale), to(1e-6, 1e6)),
    }
}

fn force_parameters(kind: &mut ForceKind, v: Visit) {
    let push = |v: Visit, path: &str, push: &mut Push| {
        if let Push::Air { density_kg_m3 } = push {
            v(format_args!("{path}"), Parameter::Number(density_kg_m3), to(0.0, 20_000.0));
        }
    };
    match kind {
        ForceKind::Gravity { acceleration } => {
            v(format_args!("kind.force.kind.gravity.acceleration"), Parameter::Vector(acceleration), SPEED);
        }
        ForceKind::Pull { force_n } => {
            v(format_args!("kind.force.kind.pull.force_n"), Parameter::Number(force_n), to(-1e9, 1e9));
        }
        ForceKind::Wind(wind) => {
            v(format_args!("kind.force.kind.wind.speed_m_s"), Parameter::Number(&mut wind.speed_m_s), SPEED);
            v(format_args!("kind.force.kind.wind.gust"), Parameter::Number(&mut wind.gust), FRACTION);
            v(
                format_args!("kind.force.kind.wind.gust_s"),
                Parameter::Number(&mut wind.gust_s),
                to(0.01, 1_000.0),
            );
            v(format_args!("kind.force.kind.wind.eddy"), Parameter::Number(&mut wind.eddy), to(0.0, 2.0));
            v(format_args!("kind.force.kind.wind.seed"), Parameter::Whole(&mut wind.seed), SEED);
            v(
                format_args!("kind.force.kind.wind.eddy_m"),
                Parameter::Number(&mut wind.eddy_m),
                to(0.01, MAX_SIZE),
            );
            push(v, "kind.force.kind.wind.push.air.density_kg_m3", &mut wind.push);
        }
        ForceKind::Turbulence(turbulence) => {
            v(
                format_args!("kind.force.kind.turbulence.speed_m_s"),
                Parameter::Number(&mut turbulence.speed_m_s),
                SPEED,
            );
            v(
                format_args!("kind.force.kind.turbulence.octaves"),
                Parameter::Whole(&mut turbulence.octaves),
                to(1.0, 8.0),
            );
            v(format_args!("kind.force.kind.turbulence.seed"), Parameter::Whole(&mut turbulence.seed), SEED);
            v(
                format_args!("kind.force.kind.turbulence.size_m"),
                Parameter::Number(&mut turbulence.size_m),
                to(0.01, MAX_SIZE),
            );
            v(
                format_args!("kind.force.kind.turbulence.drift_m_s"),
                Parameter::Vector(&mut turbulence.drift_m_s),
                to(-1_000.0, 1_000.0),
            );
            v(
                format_args!("kind.force.kind.turbulence.change_s"),
                Parameter::Number(&mut turbulence.change_s),
                to(0.0, 10_000.0),
            );
            v(
                format_args!("kind.force.kind.turbulence.loop_s"),
                Parameter::MaybeNumber(&mut turbulence.loop_s),
                fixed(0.01, 10_000.0),
            );
            push(v, "kind.force.kind.turbulence.push.air.density_kg_m3", &mut turbulence.push);
        }
        ForceKind::Vortex(vortex) => {
            v(
                format_args!("kind.force.kind.vortex.speed_m_s"),
                Parameter::Number(&mut vortex.speed_m_s),
                SPEED,
            );
            v(
                format_args!("kind.force.kind.vortex.core_m"),
                Parameter::Number(&mut vortex.core_m),
                to(0.001, MAX_SIZE),
            );
            v(
                format_args!("kind.force.kind.vortex.inflow_m_s"),
                Parameter::Number(&mut vortex.inflow_m_s),
                SPEED,
            );
            v(
                format_args!("kind.force.kind.vortex.rise_m_s"),
                Parameter::Number(&mut vortex.rise_m_s),
                SPEED,
            );
            push(v, "kind.force.kind.vortex.push.air.density_kg_m3", &mut vortex.push);
        }
        ForceKind::Attract(attract) => {
            v(
                format_args!("kind.force.kind.attract.acceleration"),
                Parameter::Number(&mut attract.acceleration),
                to(-1e6, 1e6),
            );
            v(
                format_args!("kind.force.kind.attract.power"),
                Parameter::Number(&mut attract.power),
                to(-4.0, 4.0),
            );
            v(
                format_args!("kind.force.kind.attract.range_m"),
                Parameter::MaybeNumber(&mut attract.range_m),
                EXTENT,
            );
            v(
                format_args!("kind.force.kind.attract.near_m"),
                Parameter::Number(&mut attract.near_m),
                to(1e-6, MAX_SIZE),
            );
        }
        ForceKind::Drag { linear_n_s_m, density_kg_m3 } => {
            v(
                format_args!("kind.force.kind.drag.linear_n_s_m"),
                Parameter::Number(linear_n_s_m),
                to(0.0, 1e6),
            );
            v(
                format_args!("kind.force.kind.drag.density_kg_m3"),
                Parameter::Number(density_kg_m3),
                to(0.0, 20_000.0),
            );
        }
        ForceKind::Along(along) => {
            v(
                format_args!("kind.force.kind.along.speed_m_s"),
                Parameter::Number(&mut along.speed_m_s),
                SPEED,
            );
            v(
                format_args!("kind.force.kind.along.inflow_m_s"),
                Parameter::Number(&mut along.inflow_m_s),
                SPEED,
            );
            v(format_args!("kind.force.kind.along.range_m"), Parameter::Number(&mut along.range_m), EXTENT);
            push(v, "kind.force.kind.along.push.air.density_kg_m3", &mut along.push);
        }
    }
}

fn volume_parameters(volume: &mut Volume, v: Visit) {
    // A region of no size is a shot's mistake, not a fault: it acts nowhere.
    let extent = to(0.0, 10_000.0);
    match volume {
        Volume::Box { size_m } => {
            v(format_args!("kind.region.volume.box.size_m"), Parameter::Vector(size_m), extent)
        }
        Volume::Sphere { radius_m } => {
            v(format_args!("kind.region.volume.sphere.radius_m"), Parameter::Number(radius_m), extent)
        }
        Volume::Cylinder { radius_m, height_m } => {
            v(format_args!("kind.region.volume.cylinder.radius_m"), Parameter::Number(radius_m), extent);
            v(format_args!("kind.region.volume.cylinder.height_m"), Parameter::Number(height_m), extent);
        }
        Volume::Noise { size_m, threshold, softness, drift_m_s, seed } => {
            v(format_args!("kind.region.volume.noise.seed"), Parameter::Whole(seed), SEED);
            v(format_args!("kind.region.volume.noise.size_m"), Parameter::Number(size_m), to(0.01, MAX_SIZE));
            v(format_args!("kind.region.volume.noise.threshold"), Parameter::Number(threshold), FRACTION);
            v(format_args!("kind.region.volume.noise.softness"), Parameter::Number(softness), FRACTION);
            v(
                format_args!("kind.region.volume.noise.drift_m_s"),
                Parameter::Vector(drift_m_s),
                to(-1_000.0, 1_000.0),
            );
        }
        Volume::HalfSpace {} | Volume::Inside { .. } | Volume::Combined { .. } => {}
    }
}

fn trigger_parameters(when: &mut Trigger, v: Visit) {
    match when {
        Trigger::Age { age_s } => {
            v(format_args!("trigger.age.age_s"), Parameter::Number(age_s), to(0.0, 10_000.0))
        }
        Trigger::Touch { speed_m_s, .. } => {
            v(format_args!("trigger.touch.speed_m_s"), Parameter::Number(speed_m_s), to(0.0, 1_000.0));
        }
        Trigger::Faster { speed_m_s } => {
            v(format_args!("trigger.faster.speed_m_s"), Parameter::Number(speed_m_s), to(0.0, 1_000.0));
        }
        Trigger::Slower { speed_m_s } => {
            v(format_args!("trigger.slower.speed_m_s"), Parameter::Number(speed_m_s), to(0.0, 1_000.0));
        }
        Trigger::Count { count } => {
            v(format_args!("trigger.count.count"), Parameter::Whole(count), fixed(1.0, 1e7))
        }
        Trigger::End {} | Trigger::Region { .. } | Trigger::Frame { .. } => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::finish::{Finish, FinishOperation};
    use crate::force::Force;
    use crate::region::Region;
    use serde_json::{Value as Json, json};

    /// Where the file has a value: a number is an index, `[1]` a part of a vector.
    fn pointer(path: &str) -> String {
        format!("/{}", path.replace('[', "/").replace(']', "").replace('.', "/"))
    }

    /// Every value lies in the file where its path says, so that a change at that path is read.
    #[test]
    fn the_paths_are_those_of_the_file() {
        let forces = ["gravity", "pull", "wind", "turbulence", "vortex", "attract", "drag"].map(|name| {
            let fields = match name {
                "gravity" => json!({"acceleration": [0, -9, 0]}),
                "pull" => json!({"force_n": 1}),
                "drag" => json!({"linear_n_s_m": 0, "density_kg_m3": 1}),
                _ => json!({}),
            };
            let kind: ForceKind = serde_json::from_value(json!({ name: fields })).unwrap();
            ElementKind::Force(Force::new(kind))
        });
        let volumes = [
            Volume::Box { size_m: Vec3::ONE },
            Volume::Sphere { radius_m: 1.0 },
            Volume::Cylinder { radius_m: 1.0, height_m: 1.0 },
            Volume::Noise { size_m: 1.0, threshold: 0.5, softness: 0.1, drift_m_s: Vec3::ZERO, seed: 1 },
        ]
        .map(|volume| ElementKind::Region(Region::new(volume)));
        let shapes = [
            Shape::sphere(1.0),
            Shape::Capsule { radius_m: 1.0, length_m: 1.0 },
            Shape::Cylinder { radius_m: 1.0, height_m: 1.0 },
            Shape::Cone { radius_m: 1.0, height_m: 1.0 },
            Shape::Torus { major_radius_m: 1.0, minor_radius_m: 0.1 },
            Shape::plane(1.0, 1.0),
        ]
        .map(|shape| Element::solid("Solid", shape, crate::Moves::Free).kind);
        let steps = [
            FinishOperation::Retime { frames: 2, run_frame: 1.0 },
            FinishOperation::Place { scale: 1.0, about: None },
            FinishOperation::Blend { run: 1, weight: 0.5 },
            FinishOperation::Smooth { radius: 2.0 },
            FinishOperation::Thicken { thickness_m: 0.01, offset: 0.0 },
            serde_json::from_value(json!({"copies": {"grid": {"count": [2, 1, 1], "spacing_m": [1, 1, 1]}}}))
                .unwrap(),
        ]
        .map(|operation| ElementKind::Finish(Finish::new(operation)));
        let particles: ElementKind = serde_json::from_value(json!({"particles": {}})).unwrap();
        let kinds = forces.into_iter().chain(volumes).chain(shapes).chain(steps).chain([
            particles,
            ElementKind::Curve(Curve::Circle { radius_m: 1.0 }),
            ElementKind::Camera(crate::Camera::default()),
        ]);
        let mut count = 0;
        for kind in kinds {
            let element = Element::new("Element", kind);
            let file = serde_json::to_value(&element).unwrap();
            element_parameters(&mut element.clone(), &mut |path, slot, _| {
                let pointer = pointer(&path.to_string());
                let (parent, field) = pointer.rsplit_once('/').unwrap();
                let value = match slot.kind() {
                    Value::Switch(_) => json!(true),
                    Value::Number(_) => json!(1),
                    Value::Vector(_) => json!([1, 1, 1]),
                };
                let mut changed = file.clone();
                match changed.pointer_mut(parent) {
                    Some(Json::Object(fields)) => drop(fields.insert(field.to_owned(), value)),
                    Some(Json::Array(parts)) => parts[field.parse::<usize>().unwrap()] = value,
                    _ => panic!("{path} lies nowhere in {file}"),
                }
                let read: Result<Element, _> = serde_json::from_value(changed);
                assert!(read.is_ok(), "{path}: {}", read.unwrap_err());
                count += 1;
            });
        }
        assert!(count > 100, "{count}");
    }
}
