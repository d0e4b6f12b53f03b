//! The values of an element that have a path: each with its range, and whether
//! it may change with time. Checking and sampling both go through this list.

use super::Value;
use crate::{
    Curve, Element, ForceKind, Form, Is, Look, Often, Particles, Push, Shape, Shot, SkySource, Source, Then,
    Volume, Weight, When,
};
use glam::Vec3;
use std::fmt::Arguments;

/// A value in a document, to be read or set.
pub(crate) enum Slot<'a> {
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
const SHARE: Bounds = to(0.0, 1.0);
const PLACES: Bounds = to(-10_000.0, 10_000.0);
const TURNS: Bounds = to(-1_000.0, 1_000.0);
const SPEED: Bounds = to(-1_000.0, 1_000.0);

/// What is done with a value: its path is put together only where it is looked at.
type Visit<'v> = &'v mut dyn FnMut(Arguments<'_>, Slot<'_>, Bounds);

impl Slot<'_> {
    pub fn get(&self) -> Option<Value> {
        match self {
            Self::Switch(on) => Some(Value::Switch(**on)),
            Self::Whole(number) => Some(Value::Number(**number as f32)),
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
pub(crate) fn shot_slots(shot: &mut Shot, v: Visit) {
    v(format_args!("timing.fps"), Slot::Number(&mut shot.timing.fps), fixed(1.0, 240.0));
    v(format_args!("physics.world_m"), Slot::Number(&mut shot.physics.world_m), to(1.0, 10_000.0));
    v(format_args!("physics.time_scale"), Slot::Number(&mut shot.physics.time_scale), to(0.0, 20.0));
}

/// The places in the list of an element of its place and turn.
pub(crate) const PLACE: usize = 1;
pub(crate) const TURN: usize = 2;

/// The place or turn of an element, by its place in the list: the values that
/// most channels give.
pub(crate) fn placement_slot(element: &mut Element, slot: usize) -> Option<(Slot<'_>, Bounds)> {
    match slot {
        PLACE => Some((Slot::Vector(&mut element.placement.place_m), PLACES)),
        TURN => Some((Slot::Vector(&mut element.placement.turn_rad), TURNS)),
        _ => None,
    }
}

/// The values of an element.
pub(crate) fn element_slots(element: &mut Element, v: Visit) {
    v(format_args!("hidden"), Slot::Switch(&mut element.hidden), SHARE);
    v(format_args!("placement.place_m"), Slot::Vector(&mut element.placement.place_m), PLACES);
    v(format_args!("placement.turn_rad"), Slot::Vector(&mut element.placement.turn_rad), TURNS);
    if let Some(attached) = &mut element.attached {
        v(format_args!("attached.along"), Slot::MaybeNumber(&mut attached.along), SHARE);
        v(format_args!("attached.facing"), Slot::Switch(&mut attached.facing), SHARE);
    }
    if let Some(aim) = &mut element.aim {
        v(format_args!("aim.damping_s"), Slot::Number(&mut aim.damping_s), to(0.0, 10.0));
    }
    match &mut element.is {
        Is::Solid(solid) => {
            shape_slots("is.solid.shape", &mut solid.shape, v);
            if let Some(copies) = &mut solid.copies {
                v(
                    format_args!("is.solid.copies.spacing_m"),
                    Slot::Vector(&mut copies.spacing_m),
                    to(-MAX_SIZE, MAX_SIZE),
                );
                v(
                    format_args!("is.solid.copies.jitter_m"),
                    Slot::Number(&mut copies.jitter_m),
                    to(0.0, MAX_SIZE),
                );
                v(format_args!("is.solid.copies.seed"), Slot::Whole(&mut copies.seed), SEED);
                v(format_args!("is.solid.copies.turn_rad"), Slot::Number(&mut copies.turn_rad), to(0.0, 7.0));
            }
            if let Some(back) = &mut solid.back {
                when_slots(&mut back.when, &mut |path, slot, bounds| {
                    v(format_args!("is.solid.back.{path}"), slot, bounds);
                });
            }
            let body = &mut solid.body;
            match &mut body.weight {
                Weight::DensityKgM3(density) => {
                    v(
                        format_args!("is.solid.body.weight.density_kg_m3"),
                        Slot::Number(density),
                        to(0.01, 50_000.0),
                    );
                }
                Weight::MassKg(mass) => {
                    v(format_args!("is.solid.body.weight.mass_kg"), Slot::Number(mass), to(1e-6, 1e9))
                }
            }
            v(format_args!("is.solid.body.friction"), Slot::Number(&mut body.friction), to(0.0, 10.0));
            v(format_args!("is.solid.body.bounce"), Slot::Number(&mut body.bounce), SHARE);
            v(format_args!("is.solid.body.margin_m"), Slot::MaybeNumber(&mut body.margin_m), to(0.0, 1.0));
            v(
                format_args!("is.solid.body.breaks_n_s"),
                Slot::MaybeNumber(&mut body.breaks_n_s),
                to(1e-6, 1e9),
            );
            v(format_args!("is.solid.body.drag"), Slot::MaybeNumber(&mut body.drag), to(0.0, 10.0));
            v(
                format_args!("is.solid.body.launch_velocity"),
                Slot::MaybeVector(&mut body.launch_velocity),
                SPEED,
            );
            v(format_args!("is.solid.body.launch_spin"), Slot::MaybeVector(&mut body.launch_spin), SPEED);
            match &mut body.wake {
                Some(crate::Wake::Touch { impulse_n_s }) => {
                    v(
                        format_args!("is.solid.body.wake.touch.impulse_n_s"),
                        Slot::Number(impulse_n_s),
                        to(0.0, 1e9),
                    );
                }
                Some(crate::Wake::Neighbour { within_m }) => {
                    v(
                        format_args!("is.solid.body.wake.neighbour.within_m"),
                        Slot::Number(within_m),
                        to(0.0, MAX_SIZE),
                    );
                }
                _ => {}
            }
            look_slots("is.solid.look", &mut solid.look, v);
        }
        Is::Particles(particles) => particle_slots(particles, v),
        Is::Camera(camera) => {
            v(
                format_args!("is.camera.focal_length_mm"),
                Slot::Number(&mut camera.focal_length_mm),
                to(4.0, 1_200.0),
            );
            v(format_args!("is.camera.sensor_mm"), Slot::Number(&mut camera.sensor_mm), to(4.0, 100.0));
            v(format_args!("is.camera.f_stop"), Slot::MaybeNumber(&mut camera.f_stop), to(0.5, 64.0));
            v(format_args!("is.camera.focus_m"), Slot::Number(&mut camera.focus_m), to(0.01, 10_000.0));
            v(format_args!("is.camera.exposure"), Slot::Number(&mut camera.exposure), to(-20.0, 20.0));
        }
        Is::Sun(sun) => {
            v(format_args!("is.sun.irradiance"), Slot::Number(&mut sun.irradiance), to(0.0, 1e5));
            v(format_args!("is.sun.colour"), Slot::Vector(&mut sun.colour), to(0.0, 1e3));
            v(format_args!("is.sun.angle_rad"), Slot::Number(&mut sun.angle_rad), SHARE);
        }
        Is::Sky(sky) => {
            v(format_args!("is.sky.strength"), Slot::Number(&mut sky.strength), to(0.0, 1e4));
            if let SkySource::Gradient { zenith, horizon, ground } = &mut sky.source {
                v(format_args!("is.sky.source.gradient.zenith"), Slot::Vector(zenith), to(0.0, 1e4));
                v(format_args!("is.sky.source.gradient.horizon"), Slot::Vector(horizon), to(0.0, 1e4));
                v(format_args!("is.sky.source.gradient.ground"), Slot::Vector(ground), to(0.0, 1e4));
            }
        }
        Is::AreaLight(light) => {
            v(format_args!("is.area_light.size_m[0]"), Slot::Number(&mut light.size_m.x), EXTENT);
            v(format_args!("is.area_light.size_m[1]"), Slot::Number(&mut light.size_m.y), EXTENT);
            v(format_args!("is.area_light.radiance"), Slot::Number(&mut light.radiance), to(0.0, 1e6));
            v(format_args!("is.area_light.colour"), Slot::Vector(&mut light.colour), to(0.0, 1e3));
        }
        Is::Force(force) => {
            v(format_args!("is.force.strength"), Slot::Number(&mut force.strength), to(-1e4, 1e4));
            v(format_args!("is.force.on"), Slot::Switch(&mut force.on), SHARE);
            force_slots(&mut force.kind, v);
        }
        Is::Region(region) => {
            v(format_args!("is.region.edge_m"), Slot::Number(&mut region.edge_m), to(0.0, MAX_SIZE));
            v(format_args!("is.region.inverted"), Slot::Switch(&mut region.inverted), SHARE);
            volume_slots(&mut region.volume, v);
        }
        Is::Curve(curve) => match curve {
            Curve::Circle { radius_m } => {
                v(format_args!("is.curve.circle.radius_m"), Slot::Number(radius_m), EXTENT)
            }
            Curve::Points { points_m, closed, smooth } => {
                v(format_args!("is.curve.points.closed"), Slot::Switch(closed), SHARE);
                v(format_args!("is.curve.points.smooth"), Slot::Switch(smooth), SHARE);
                for (i, point) in points_m.iter_mut().enumerate() {
                    v(
                        format_args!("is.curve.points.points_m.{i}"),
                        Slot::Vector(point),
                        to(-10_000.0, 10_000.0),
                    );
                }
            }
            Curve::Strokes { .. } => {}
        },
    }
}

fn look_slots(root: &str, look: &mut Look, v: Visit) {
    let mut v = |path: Arguments, slot: Slot, bounds: Bounds| v(format_args!("{root}.{path}"), slot, bounds);
    v(format_args!("albedo"), Slot::Vector(&mut look.albedo), SHARE);
    v(format_args!("image_repeat"), Slot::Number(&mut look.image_repeat), to(0.001, 1_000.0));
    v(format_args!("normal_strength"), Slot::Number(&mut look.normal_strength), to(0.0, 10.0));
    v(format_args!("variation"), Slot::Number(&mut look.variation), SHARE);
    v(format_args!("roughness"), Slot::Number(&mut look.roughness), SHARE);
    v(format_args!("metalness"), Slot::Number(&mut look.metalness), SHARE);
    v(format_args!("transmission"), Slot::Number(&mut look.transmission), SHARE);
    v(format_args!("refraction"), Slot::Number(&mut look.refraction), to(1.0, 3.0));
    v(format_args!("emission"), Slot::Vector(&mut look.emission), to(0.0, 1e6));
}

fn particle_slots(particles: &mut Particles, v: Visit) {
    if let Source::Shape { shape, .. } = &mut particles.from {
        shape_slots("is.particles.from.shape.shape", shape, v);
    }
    look_slots("is.particles.look", &mut particles.look, v);
    let mut v =
        |path: Arguments, slot: Slot, bounds: Bounds| v(format_args!("is.particles.{path}"), slot, bounds);
    match &mut particles.from {
        Source::Grid { spacing_m, .. } => {
            v(format_args!("from.grid.spacing_m"), Slot::Vector(spacing_m), to(-MAX_SIZE, MAX_SIZE));
        }
        Source::Impacts { impulse_n_s, .. } => {
            v(format_args!("from.impacts.impulse_n_s"), Slot::Number(impulse_n_s), to(0.0, 1e9));
        }
        _ => {}
    }
    match &mut particles.births.how {
        Often::Rate { per_s } => v(format_args!("births.how.rate.per_s"), Slot::Number(per_s), to(0.0, 1e7)),
        Often::Number { number } => {
            v(format_args!("births.how.number.number"), Slot::Whole(number), fixed(1.0, 1e7))
        }
        Often::AtOnce { number } => {
            v(format_args!("births.how.at_once.number"), Slot::Whole(number), fixed(1.0, 1e7))
        }
        Often::Never {} => {}
    }
    v(format_args!("births.preroll_s"), Slot::Number(&mut particles.births.preroll_s), fixed(0.0, 600.0));
    let start = &mut particles.start;
    v(format_args!("start.spread_rad"), Slot::Number(&mut start.spread_rad), to(0.0, std::f32::consts::PI));
    v(format_args!("start.speed_m_s"), Slot::Number(&mut start.speed_m_s), to(-1_000.0, 1_000.0));
    v(format_args!("start.speed_variation"), Slot::Number(&mut start.speed_variation), SHARE);
    v(format_args!("start.inherit"), Slot::Number(&mut start.inherit), to(-2.0, 2.0));
    v(format_args!("start.lifespan_s"), Slot::MaybeNumber(&mut start.lifespan_s), to(0.001, 10_000.0));
    v(format_args!("start.lifespan_variation"), Slot::Number(&mut start.lifespan_variation), SHARE);
    v(format_args!("start.size_m"), Slot::Number(&mut start.size_m), to(1e-5, 100.0));
    v(format_args!("start.size_variation"), Slot::Number(&mut start.size_variation), SHARE);
    v(format_args!("start.turn_variation"), Slot::Number(&mut start.turn_variation), SHARE);
    v(format_args!("start.spin_rad_s"), Slot::Number(&mut start.spin_rad_s), SPEED);
    v(format_args!("start.spin_variation"), Slot::Number(&mut start.spin_variation), SHARE);
    let body = &mut particles.body;
    match &mut body.weight {
        Weight::DensityKgM3(density) => {
            v(format_args!("body.weight.density_kg_m3"), Slot::Number(density), to(0.01, 50_000.0));
        }
        Weight::MassKg(mass) => v(format_args!("body.weight.mass_kg"), Slot::Number(mass), to(1e-12, 1e6)),
    }
    v(format_args!("body.mass_variation"), Slot::Number(&mut body.mass_variation), to(0.0, 0.99));
    v(format_args!("body.drag"), Slot::Number(&mut body.drag), to(0.0, 10.0));
    v(format_args!("body.fastest_m_s"), Slot::MaybeNumber(&mut body.fastest_m_s), to(0.0, 2_000.0));
    let steer = &mut particles.steer;
    v(format_args!("steer.cruise_m_s"), Slot::MaybeNumber(&mut steer.cruise_m_s), to(0.0, 1_000.0));
    v(format_args!("steer.agility_m_s2"), Slot::Number(&mut steer.agility_m_s2), to(0.0, 10_000.0));
    v(format_args!("steer.wander"), Slot::Number(&mut steer.wander), SHARE);
    v(format_args!("steer.wander_s"), Slot::Number(&mut steer.wander_s), to(0.01, 1_000.0));
    v(format_args!("steer.level"), Slot::Switch(&mut steer.level), SHARE);
    v(format_args!("steer.ahead_s"), Slot::Number(&mut steer.ahead_s), to(0.0, 60.0));
    v(format_args!("steer.apart_m"), Slot::Number(&mut steer.apart_m), to(0.0, MAX_SIZE));
    if let Some(flock) = &mut steer.flock {
        v(format_args!("steer.flock.sight_m"), Slot::Number(&mut flock.sight_m), to(0.001, MAX_SIZE));
        v(format_args!("steer.flock.distance_m"), Slot::Number(&mut flock.distance_m), to(0.0, MAX_SIZE));
        v(format_args!("steer.flock.apart"), Slot::Number(&mut flock.apart), to(0.0, 10.0));
        v(format_args!("steer.flock.align"), Slot::Number(&mut flock.align), to(0.0, 10.0));
        v(format_args!("steer.flock.together"), Slot::Number(&mut flock.together), to(0.0, 10.0));
    }
    let meet = &mut particles.meet;
    v(format_args!("meet.on"), Slot::Switch(&mut meet.on), SHARE);
    v(format_args!("meet.share"), Slot::Number(&mut meet.share), SHARE);
    v(format_args!("meet.bounce"), Slot::Number(&mut meet.bounce), SHARE);
    v(format_args!("meet.bounce_variation"), Slot::Number(&mut meet.bounce_variation), SHARE);
    v(format_args!("meet.friction"), Slot::Number(&mut meet.friction), to(0.0, 10.0));
    v(format_args!("meet.push"), Slot::Switch(&mut meet.push), SHARE);
    for (i, becoming) in particles.becoming.iter_mut().enumerate() {
        let mut v = |path: Arguments, slot: Slot, bounds: Bounds| {
            v(format_args!("becoming.{i}.{path}"), slot, bounds)
        };
        v(format_args!("share"), Slot::Number(&mut becoming.share), SHARE);
        when_slots(&mut becoming.when, &mut v);
        match &mut becoming.then {
            Then::Split(split) => {
                v(format_args!("then.split.number"), Slot::Whole(&mut split.number), fixed(1.0, 10_000.0));
                v(format_args!("then.split.inherit"), Slot::Number(&mut split.inherit), to(-2.0, 2.0));
                v(format_args!("then.split.speed_m_s"), Slot::Number(&mut split.speed_m_s), to(0.0, 1_000.0));
                v(
                    format_args!("then.split.speed_variation"),
                    Slot::Number(&mut split.speed_variation),
                    SHARE,
                );
                v(
                    format_args!("then.split.spread_rad"),
                    Slot::Number(&mut split.spread_rad),
                    to(0.0, std::f32::consts::PI),
                );
                v(format_args!("then.split.spin_rad_s"), Slot::Number(&mut split.spin_rad_s), SPEED);
                v(format_args!("then.split.size"), Slot::MaybeNumber(&mut split.size), to(0.001, 100.0));
            }
            Then::Trail { per_s, .. } => {
                v(format_args!("then.trail.per_s"), Slot::Number(per_s), to(0.0, 1e5))
            }
            Then::Die {} | Then::Become { .. } | Then::Solid { .. } => {}
        }
    }
    if let Form::Streak { seconds } = &mut particles.show.form {
        v(format_args!("show.form.streak.seconds"), Slot::Number(seconds), to(0.0, 10.0));
    }
    for (path, by) in [("colour_by", &mut particles.show.colour_by), ("size_by", &mut particles.show.size_by)]
    {
        if let crate::By::Speed { most_m_s } = by {
            v(format_args!("show.{path}.speed.most_m_s"), Slot::Number(most_m_s), to(1e-3, 1_000.0));
        }
    }
    for (i, stop) in particles.show.colours.iter_mut().enumerate() {
        v(format_args!("show.colours.{i}.at"), Slot::Number(&mut stop.at), SHARE);
        v(format_args!("show.colours.{i}.colour"), Slot::Vector(&mut stop.colour), to(0.0, 1e4));
    }
    for (i, stop) in particles.show.sizes.iter_mut().enumerate() {
        v(format_args!("show.sizes.{i}.at"), Slot::Number(&mut stop.at), SHARE);
        v(format_args!("show.sizes.{i}.size"), Slot::Number(&mut stop.size), to(0.0, 100.0));
    }
}

fn shape_slots(root: &str, shape: &mut Shape, v: Visit) {
    let mut v = |path: Arguments, slot: Slot, bounds: Bounds| v(format_args!("{root}.{path}"), slot, bounds);
    match shape {
        Shape::Box { size_m, edge_m } => {
            let most = (0.5 * size_m.min_element()).max(0.0);
            v(format_args!("box.size_m"), Slot::Vector(size_m), EXTENT);
            v(format_args!("box.edge_m"), Slot::Number(edge_m), to(0.0, most));
        }
        Shape::Sphere { radius_m } => v(format_args!("sphere.radius_m"), Slot::Number(radius_m), EXTENT),
        Shape::Capsule { radius_m, length_m } => {
            v(format_args!("capsule.radius_m"), Slot::Number(radius_m), EXTENT);
            v(format_args!("capsule.length_m"), Slot::Number(length_m), EXTENT);
        }
        Shape::Cylinder { radius_m, height_m } => {
            v(format_args!("cylinder.radius_m"), Slot::Number(radius_m), EXTENT);
            v(format_args!("cylinder.height_m"), Slot::Number(height_m), EXTENT);
        }
        Shape::Cone { radius_m, height_m } => {
            v(format_args!("cone.radius_m"), Slot::Number(radius_m), EXTENT);
            v(format_args!("cone.height_m"), Slot::Number(height_m), EXTENT);
        }
        Shape::Torus { ring_m, tube_m } => {
            let most = ring_m.max(MIN_SIZE);
            v(format_args!("torus.ring_m"), Slot::Number(ring_m), EXTENT);
            v(format_args!("torus.tube_m"), Slot::Number(tube_m), to(MIN_SIZE, most));
        }
        Shape::Plane { size_m } => {
            v(format_args!("plane.size_m[0]"), Slot::Number(&mut size_m.x), EXTENT);
            v(format_args!("plane.size_m[1]"), Slot::Number(&mut size_m.y), EXTENT);
        }
        Shape::Mesh { scale, .. } => v(format_args!("mesh.scale"), Slot::Number(scale), to(1e-6, 1e6)),
    }
}

fn force_slots(kind: &mut ForceKind, v: Visit) {
    let push = |v: Visit, path: &str, push: &mut Push| {
        if let Push::Air { density_kg_m3 } = push {
            v(format_args!("{path}"), Slot::Number(density_kg_m3), to(0.0, 20_000.0));
        }
    };
    match kind {
        ForceKind::Gravity { acceleration } => {
            v(format_args!("is.force.kind.gravity.acceleration"), Slot::Vector(acceleration), SPEED);
        }
        ForceKind::Pull { force_n } => {
            v(format_args!("is.force.kind.pull.force_n"), Slot::Number(force_n), to(-1e9, 1e9));
        }
        ForceKind::Wind(wind) => {
            v(format_args!("is.force.kind.wind.speed_m_s"), Slot::Number(&mut wind.speed_m_s), SPEED);
            v(format_args!("is.force.kind.wind.gust"), Slot::Number(&mut wind.gust), SHARE);
            v(format_args!("is.force.kind.wind.gust_s"), Slot::Number(&mut wind.gust_s), to(0.01, 1_000.0));
            v(format_args!("is.force.kind.wind.eddy"), Slot::Number(&mut wind.eddy), to(0.0, 2.0));
            v(format_args!("is.force.kind.wind.seed"), Slot::Whole(&mut wind.seed), SEED);
            v(format_args!("is.force.kind.wind.eddy_m"), Slot::Number(&mut wind.eddy_m), to(0.01, MAX_SIZE));
            push(v, "is.force.kind.wind.push.air.density_kg_m3", &mut wind.push);
        }
        ForceKind::Turbulence(turbulence) => {
            v(
                format_args!("is.force.kind.turbulence.speed_m_s"),
                Slot::Number(&mut turbulence.speed_m_s),
                SPEED,
            );
            v(
                format_args!("is.force.kind.turbulence.octaves"),
                Slot::Whole(&mut turbulence.octaves),
                to(1.0, 8.0),
            );
            v(format_args!("is.force.kind.turbulence.seed"), Slot::Whole(&mut turbulence.seed), SEED);
            v(
                format_args!("is.force.kind.turbulence.size_m"),
                Slot::Number(&mut turbulence.size_m),
                to(0.01, MAX_SIZE),
            );
            v(
                format_args!("is.force.kind.turbulence.drift_m_s"),
                Slot::Vector(&mut turbulence.drift_m_s),
                to(-1_000.0, 1_000.0),
            );
            v(
                format_args!("is.force.kind.turbulence.change_s"),
                Slot::Number(&mut turbulence.change_s),
                to(0.0, 10_000.0),
            );
            v(
                format_args!("is.force.kind.turbulence.loop_s"),
                Slot::MaybeNumber(&mut turbulence.loop_s),
                fixed(0.01, 10_000.0),
            );
            push(v, "is.force.kind.turbulence.push.air.density_kg_m3", &mut turbulence.push);
        }
        ForceKind::Vortex(vortex) => {
            v(format_args!("is.force.kind.vortex.speed_m_s"), Slot::Number(&mut vortex.speed_m_s), SPEED);
            v(
                format_args!("is.force.kind.vortex.core_m"),
                Slot::Number(&mut vortex.core_m),
                to(0.001, MAX_SIZE),
            );
            v(format_args!("is.force.kind.vortex.inflow_m_s"), Slot::Number(&mut vortex.inflow_m_s), SPEED);
            v(format_args!("is.force.kind.vortex.rise_m_s"), Slot::Number(&mut vortex.rise_m_s), SPEED);
            push(v, "is.force.kind.vortex.push.air.density_kg_m3", &mut vortex.push);
        }
        ForceKind::Attract(attract) => {
            v(
                format_args!("is.force.kind.attract.acceleration"),
                Slot::Number(&mut attract.acceleration),
                to(-1e6, 1e6),
            );
            v(format_args!("is.force.kind.attract.power"), Slot::Number(&mut attract.power), to(-4.0, 4.0));
            v(format_args!("is.force.kind.attract.range_m"), Slot::MaybeNumber(&mut attract.range_m), EXTENT);
            v(
                format_args!("is.force.kind.attract.near_m"),
                Slot::Number(&mut attract.near_m),
                to(1e-6, MAX_SIZE),
            );
        }
        ForceKind::Drag { linear_n_s_m, density_kg_m3 } => {
            v(format_args!("is.force.kind.drag.linear_n_s_m"), Slot::Number(linear_n_s_m), to(0.0, 1e6));
            v(
                format_args!("is.force.kind.drag.density_kg_m3"),
                Slot::Number(density_kg_m3),
                to(0.0, 20_000.0),
            );
        }
        ForceKind::Along(along) => {
            v(format_args!("is.force.kind.along.speed_m_s"), Slot::Number(&mut along.speed_m_s), SPEED);
            v(format_args!("is.force.kind.along.inflow_m_s"), Slot::Number(&mut along.inflow_m_s), SPEED);
            v(format_args!("is.force.kind.along.range_m"), Slot::Number(&mut along.range_m), EXTENT);
            push(v, "is.force.kind.along.push.air.density_kg_m3", &mut along.push);
        }
    }
}

fn volume_slots(volume: &mut Volume, v: Visit) {
    // A region of no size is a shot's mistake, not a fault: it acts nowhere.
    let extent = to(0.0, 10_000.0);
    match volume {
        Volume::Box { size_m } => {
            v(format_args!("is.region.volume.box.size_m"), Slot::Vector(size_m), extent)
        }
        Volume::Ball { radius_m } => {
            v(format_args!("is.region.volume.ball.radius_m"), Slot::Number(radius_m), extent)
        }
        Volume::Cylinder { radius_m, height_m } => {
            v(format_args!("is.region.volume.cylinder.radius_m"), Slot::Number(radius_m), extent);
            v(format_args!("is.region.volume.cylinder.height_m"), Slot::Number(height_m), extent);
        }
        Volume::Noise { size_m, threshold, softness, drift_m_s, seed } => {
            v(format_args!("is.region.volume.noise.seed"), Slot::Whole(seed), SEED);
            v(format_args!("is.region.volume.noise.size_m"), Slot::Number(size_m), to(0.01, MAX_SIZE));
            v(format_args!("is.region.volume.noise.threshold"), Slot::Number(threshold), SHARE);
            v(format_args!("is.region.volume.noise.softness"), Slot::Number(softness), SHARE);
            v(
                format_args!("is.region.volume.noise.drift_m_s"),
                Slot::Vector(drift_m_s),
                to(-1_000.0, 1_000.0),
            );
        }
        Volume::HalfSpace {} | Volume::Inside { .. } | Volume::Combined { .. } => {}
    }
}

fn when_slots(when: &mut When, v: Visit) {
    match when {
        When::Age { s } => v(format_args!("when.age.s"), Slot::Number(s), to(0.0, 10_000.0)),
        When::Touch { speed_m_s, .. } => {
            v(format_args!("when.touch.speed_m_s"), Slot::Number(speed_m_s), to(0.0, 1_000.0));
        }
        When::Faster { speed_m_s } => {
            v(format_args!("when.faster.speed_m_s"), Slot::Number(speed_m_s), to(0.0, 1_000.0));
        }
        When::Slower { speed_m_s } => {
            v(format_args!("when.slower.speed_m_s"), Slot::Number(speed_m_s), to(0.0, 1_000.0));
        }
        When::Count { number } => v(format_args!("when.count.number"), Slot::Whole(number), fixed(1.0, 1e7)),
        When::End {} | When::Region { .. } | When::Frame { .. } => {}
    }
}
