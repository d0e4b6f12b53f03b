//! Reading a shot, and every fault that a shot file can have.

use crate::{
    AssetKind, Element, Is, MAX_BODIES, MAX_ELEMENTS, MAX_FRAMES, Param, Sample, Shape, Shot, SkySource,
    Solid, VERSION, Weight,
};
use glam::Vec3;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use thiserror::Error;

/// One fault: where it is and what is wrong.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, Error)]
#[error("{path}: {message}")]
pub struct Fault {
    /// JSON path, such as `elements[2].is.solid.body.friction`.
    pub path: String,
    /// What is wrong, with the allowed range.
    pub message: String,
}

/// The faults that keep a shot from being read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
pub struct ReadError(pub Vec<Fault>);

pub(crate) fn read(bytes: &[u8]) -> Result<Shot, ReadError> {
    let one = |path: &str, message: String| ReadError(vec![Fault { path: path.to_owned(), message }]);
    let value: serde_json::Value =
        serde_json::from_slice(bytes).map_err(|error| one("$", format!("is not JSON: {error}")))?;
    match value.get("version").and_then(serde_json::Value::as_u64) {
        Some(version) if version == u64::from(VERSION) => {}
        Some(version) => {
            let message = format!("{version} is not a version this build reads; it reads 1 to {VERSION}");
            return Err(one("version", message));
        }
        None => return Err(one("version", "is missing; it is a whole number".to_owned())),
    }
    let shot: Shot = serde_path_to_error::deserialize(value).map_err(|error| {
        let path = error.path().to_string();
        one(&path, error.into_inner().to_string())
    })?;
    let faults = shot.faults();
    if faults.is_empty() { Ok(shot) } else { Err(ReadError(faults)) }
}

struct Faults(Vec<Fault>);

impl Faults {
    fn say(&mut self, path: impl Into<String>, message: impl Into<String>) {
        self.0.push(Fault { path: path.into(), message: message.into() });
    }

    fn range(&mut self, path: &str, value: f32, low: f32, high: f32) {
        if !(low..=high).contains(&value) {
            self.say(path, format!("{value} is outside {low} to {high}"));
        }
    }

    fn parts(&mut self, path: &str, value: Vec3, low: f32, high: f32) {
        for part in 0..3 {
            self.range(&format!("{path}[{part}]"), value[part], low, high);
        }
    }

    fn param<T: Sample>(&mut self, path: &str, param: &Param<T>, low: f32, high: f32) {
        let mut value = |path: &str, value: &T| {
            for part in 0..T::PARTS {
                let path = if T::PARTS == 1 { path.to_owned() } else { format!("{path}[{part}]") };
                self.range(&path, value.part(part), low, high);
            }
        };
        match param {
            Param::Constant(constant) => value(path, constant),
            Param::Keyed { keys } => {
                for (i, key) in keys.iter().enumerate() {
                    value(&format!("{path}.keys[{i}].value"), &key.value);
                }
                if keys.is_empty() {
                    self.say(format!("{path}.keys"), "is empty; give a constant or at least one key");
                }
                for (i, key) in keys.iter().enumerate() {
                    let path = format!("{path}.keys[{i}].frame");
                    if !key.frame.is_finite() || key.frame.abs() > 1e6 {
                        self.say(path, format!("{} is outside -1000000 to 1000000", key.frame));
                    } else if i > 0 && key.frame <= keys[i - 1].frame {
                        let before = keys[i - 1].frame;
                        self.say(path, format!("{} does not come after {before}; frames rise", key.frame));
                    }
                }
            }
        }
    }
}

/// Largest size of one thing, metres.
const MAX_SIZE: f32 = 1_000.0;
/// Smallest size of one thing, metres.
const MIN_SIZE: f32 = 0.0005;

impl Shot {
    /// Every fault of this shot; empty if it can be used.
    pub fn faults(&self) -> Vec<Fault> {
        let mut faults = Faults(Vec::new());
        let f = &mut faults;
        if self.version != VERSION {
            f.say("version", format!("{} is not {VERSION}", self.version));
        }
        name(f, "name", &self.name);
        f.range("timing.fps", self.timing.fps, 1.0, 240.0);
        let timing = self.timing;
        if timing.last < timing.first {
            let message = format!("{} comes before the first frame, {}", timing.last, timing.first);
            f.say("timing.last", message);
        } else if timing.last - timing.first >= MAX_FRAMES {
            f.say("timing.last", format!("the shot has {} frames; at most {MAX_FRAMES}", timing.count()));
        }
        for (path, size) in [("picture.width", self.picture.width), ("picture.height", self.picture.height)] {
            if !(16..=8192).contains(&size) {
                f.say(path, format!("{size} is outside 16 to 8192"));
            }
        }
        if !(1..=256).contains(&self.physics.substeps) {
            f.say("physics.substeps", format!("{} is outside 1 to 256", self.physics.substeps));
        }
        f.range("physics.world_m", self.physics.world_m, 1.0, 10_000.0);
        if let Some(camera) = self.camera
            && !matches!(self.element(camera).map(|e| &e.is), Some(Is::Camera(_)))
        {
            f.say("camera", format!("{} is not the id of a camera", camera.0));
        }
        if self.elements.len() > MAX_ELEMENTS {
            f.say("elements", format!("{} elements; at most {MAX_ELEMENTS}", self.elements.len()));
        }
        let (mut ids, mut names) = (HashMap::new(), HashMap::new());
        let mut bodies = 0usize;
        for (i, element) in self.elements.iter().enumerate() {
            let path = format!("elements[{i}]");
            if let Some(other) = ids.insert(element.id, i) {
                f.say(format!("{path}.id"), format!("{} is also the id of elements[{other}]", element.id.0));
            }
            if let Some(other) = names.insert(element.name.as_str(), i) {
                let message = format!("\"{}\" is also the name of elements[{other}]", element.name);
                f.say(format!("{path}.name"), message);
            }
            bodies = bodies.saturating_add(element.count());
            self.element_faults(f, &path, element);
        }
        if bodies > MAX_BODIES {
            f.say("elements", format!("{bodies} bodies with all copies; at most {MAX_BODIES}"));
        }
        for (key, asset) in &self.assets {
            let path = format!("assets.{key}.file");
            let climbs = asset.file.split(['/', '\\']).any(|part| part == ".." || part.is_empty());
            if climbs || asset.file.contains(':') {
                f.say(path, format!("\"{}\" is not a path below the shot's folder", asset.file));
            }
        }
        faults.0
    }

    fn element_faults(&self, f: &mut Faults, path: &str, element: &Element) {
        name(f, &format!("{path}.name"), &element.name);
        f.param(&format!("{path}.placement.place_m"), &element.placement.place_m, -10_000.0, 10_000.0);
        f.param(&format!("{path}.placement.turn_rad"), &element.placement.turn_rad, -1_000.0, 1_000.0);
        match &element.is {
            Is::Solid(solid) => self.solid_faults(f, &format!("{path}.is.solid"), solid),
            Is::Gravity { acceleration } => {
                f.parts(&format!("{path}.is.gravity.acceleration"), *acceleration, -1_000.0, 1_000.0);
            }
            Is::Camera(camera) => {
                let path = format!("{path}.is.camera");
                f.range(&format!("{path}.focal_length_mm"), camera.focal_length_mm, 4.0, 1_200.0);
                f.range(&format!("{path}.sensor_mm"), camera.sensor_mm, 4.0, 100.0);
                f.range(&format!("{path}.focus_m"), camera.focus_m, 0.01, 10_000.0);
                f.range(&format!("{path}.exposure"), camera.exposure, -20.0, 20.0);
                if let Some(stop) = camera.f_stop {
                    f.range(&format!("{path}.f_stop"), stop, 0.5, 64.0);
                }
                if let Some(aim) = camera.aim {
                    if aim == element.id {
                        f.say(format!("{path}.aim"), "the camera is aimed at itself");
                    } else if self.element(aim).is_none() {
                        f.say(format!("{path}.aim"), format!("{} is not the id of an element", aim.0));
                    }
                }
            }
            Is::Sun(sun) => {
                let path = format!("{path}.is.sun");
                f.range(&format!("{path}.irradiance"), sun.irradiance, 0.0, 1e5);
                f.parts(&format!("{path}.colour"), sun.colour, 0.0, 1e3);
                f.range(&format!("{path}.angle_rad"), sun.angle_rad, 0.0, 1.0);
            }
            Is::Sky(sky) => {
                let path = format!("{path}.is.sky");
                f.range(&format!("{path}.strength"), sky.strength, 0.0, 1e4);
                match &sky.source {
                    SkySource::Gradient { zenith, horizon, ground } => {
                        for (part, colour) in [("zenith", zenith), ("horizon", horizon), ("ground", ground)] {
                            f.parts(&format!("{path}.source.gradient.{part}"), *colour, 0.0, 1e4);
                        }
                    }
                    SkySource::Image { asset } => {
                        self.asset(f, &format!("{path}.source.image.asset"), asset, AssetKind::Environment);
                    }
                }
            }
            Is::AreaLight(light) => {
                let path = format!("{path}.is.area_light");
                f.range(&format!("{path}.size_m[0]"), light.size_m.x, MIN_SIZE, MAX_SIZE);
                f.range(&format!("{path}.size_m[1]"), light.size_m.y, MIN_SIZE, MAX_SIZE);
                f.range(&format!("{path}.radiance"), light.radiance, 0.0, 1e6);
                f.parts(&format!("{path}.colour"), light.colour, 0.0, 1e3);
            }
        }
    }

    fn solid_faults(&self, f: &mut Faults, path: &str, solid: &Solid) {
        let size = |f: &mut Faults, part: &str, value: f32| {
            f.range(&format!("{path}.shape.{}.{part}", solid.shape.name()), value, MIN_SIZE, MAX_SIZE);
        };
        match &solid.shape {
            Shape::Box { size_m, edge_m } => {
                for part in 0..3 {
                    size(f, &format!("size_m[{part}]"), size_m[part]);
                }
                let most = 0.5 * size_m.min_element();
                f.range(&format!("{path}.shape.box.edge_m"), *edge_m, 0.0, most.max(0.0));
            }
            Shape::Sphere { radius_m } => size(f, "radius_m", *radius_m),
            Shape::Capsule { radius_m, length_m } => {
                size(f, "radius_m", *radius_m);
                size(f, "length_m", *length_m);
            }
            Shape::Cylinder { radius_m, height_m } | Shape::Cone { radius_m, height_m } => {
                size(f, "radius_m", *radius_m);
                size(f, "height_m", *height_m);
            }
            Shape::Torus { ring_m, tube_m } => {
                size(f, "ring_m", *ring_m);
                f.range(&format!("{path}.shape.torus.tube_m"), *tube_m, MIN_SIZE, ring_m.max(MIN_SIZE));
            }
            Shape::Plane { size_m } => {
                size(f, "size_m[0]", size_m.x);
                size(f, "size_m[1]", size_m.y);
            }
            Shape::Mesh { asset, scale } => {
                self.asset(f, &format!("{path}.shape.mesh.asset"), asset, AssetKind::Mesh);
                f.range(&format!("{path}.shape.mesh.scale"), *scale, 1e-6, 1e6);
            }
        }
        if let Some(copies) = &solid.copies {
            for part in 0..3 {
                if !(1..=MAX_BODIES as u32).contains(&copies.count[part]) {
                    let message = format!("{} is outside 1 to {MAX_BODIES}", copies.count[part]);
                    f.say(format!("{path}.copies.count[{part}]"), message);
                }
            }
            f.parts(&format!("{path}.copies.spacing_m"), copies.spacing_m, -MAX_SIZE, MAX_SIZE);
            f.range(&format!("{path}.copies.jitter_m"), copies.jitter_m, 0.0, MAX_SIZE);
            f.range(&format!("{path}.copies.turn_rad"), copies.turn_rad, 0.0, 7.0);
        }
        let body = &solid.body;
        let path_body = format!("{path}.body");
        match body.weight {
            Weight::DensityKgM3(density) => {
                f.range(&format!("{path_body}.weight.density_kg_m3"), density, 0.01, 50_000.0);
            }
            Weight::MassKg(mass) => f.range(&format!("{path_body}.weight.mass_kg"), mass, 1e-6, 1e9),
        }
        f.range(&format!("{path_body}.friction"), body.friction, 0.0, 10.0);
        f.range(&format!("{path_body}.bounce"), body.bounce, 0.0, 1.0);
        if let Some(margin) = body.margin_m {
            f.range(&format!("{path_body}.margin_m"), margin, 0.0, 1.0);
        }
        if let Some(velocity) = body.launch_velocity {
            f.parts(&format!("{path_body}.launch_velocity"), velocity, -1_000.0, 1_000.0);
        }
        if let Some(spin) = body.launch_spin {
            f.parts(&format!("{path_body}.launch_spin"), spin, -1_000.0, 1_000.0);
        }
        let look = &solid.look;
        let path = format!("{path}.look");
        f.parts(&format!("{path}.albedo"), look.albedo, 0.0, 1.0);
        for (part, value, high) in [
            ("variation", look.variation, 1.0),
            ("roughness", look.roughness, 1.0),
            ("metalness", look.metalness, 1.0),
            ("transmission", look.transmission, 1.0),
        ] {
            f.range(&format!("{path}.{part}"), value, 0.0, high);
        }
        f.range(&format!("{path}.image_repeat"), look.image_repeat, 0.001, 1_000.0);
        f.range(&format!("{path}.refraction"), look.refraction, 1.0, 3.0);
        f.parts(&format!("{path}.emission"), look.emission, 0.0, 1e6);
        if let Some(image) = &look.image {
            self.asset(f, &format!("{path}.image"), image, AssetKind::Image);
        }
    }

    fn asset(&self, f: &mut Faults, path: &str, name: &str, kind: AssetKind) {
        match self.assets.get(name) {
            None => f.say(path, format!("\"{name}\" is not among the assets")),
            Some(asset) if asset.kind != kind => {
                f.say(path, format!("\"{name}\" is {:?}, not {kind:?}", asset.kind).to_lowercase());
            }
            Some(_) => {}
        }
    }
}

fn name(f: &mut Faults, path: &str, name: &str) {
    if name.trim().is_empty() {
        f.say(path, "is empty");
    } else if name.chars().count() > 80 || name.chars().any(char::is_control) {
        f.say(path, "has more than 80 characters, or a control character");
    }
}
