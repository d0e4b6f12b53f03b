//! Reading a shot, and every fault that a shot file can have.

mod finish;
mod maps;
mod particles;

use crate::migrate;
use crate::parameters::{Bounds, MAX_POSITION_M, Parameter, element_parameters, shot_parameters};
use crate::{
    AssetKind, Element, ElementKind, Id, LAST_FRAME, MAX_BODIES, MAX_BYTES, MAX_ELEMENTS, MAX_FRAMES,
    MAX_GROUPS, MAX_ID, MAX_PARTICLES, MAX_PLACED, PlacedCopy, Shape, Shot, Solid, VERSION, Weight,
    curve::Curve,
    json::{MAX_JSON_MEMORY, json_memory},
    light::SkySource,
    look::{Look, LookImage},
    look_layer::MAX_LOOK_LAYERS,
    motion::Sampler,
    particles::{
        Emission, EmissionDomain, EmissionMap, EmissionSchedule, Form, MapSource, Particles, Source, Trigger,
    },
    references::{Reference, Role},
    region::Volume,
};
use glam::Vec3;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use thiserror::Error;

/// Least mass of a body, kg.
const MIN_MASS_KG: f32 = 1e-6;

/// One fault: where it is and what is wrong.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, Error)]
#[error("{path}: {message}")]
pub struct Fault {
    /// JSON path, such as `elements[2].kind.solid.body.friction`.
    pub path: String,
    /// The fault, with the allowed range.
    pub message: String,
}

/// The faults that keep a shot from being read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
pub struct ReadError(pub Vec<Fault>);

pub(crate) fn read(bytes: &[u8]) -> Result<Shot, ReadError> {
    let one = |path: &str, message: String| ReadError(vec![Fault { path: path.to_owned(), message }]);
    if bytes.len() > MAX_BYTES {
        let message = format!("is {} MB long; at most {} MB", bytes.len() >> 20, MAX_BYTES >> 20);
        return Err(one("$", message));
    }
    let memory = json_memory(bytes);
    if memory > MAX_JSON_MEMORY {
        let message =
            format!("its values would take {} MB; at most {} MB", memory >> 20, MAX_JSON_MEMORY >> 20);
        return Err(one("$", message));
    }
    read_value(serde_json::from_slice(bytes).map_err(|error| one("$", format!("is not JSON: {error}")))?)
}

pub(crate) fn read_value(mut value: serde_json::Value) -> Result<Shot, ReadError> {
    let one = |path: &str, message: String| ReadError(vec![Fault { path: path.to_owned(), message }]);
    match value.get("version").and_then(serde_json::Value::as_u64) {
        Some(version @ 1..=VERSION_BEFORE) => migrate::to_newest(&mut value, version),
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

/// The newest version that is migrated.
const VERSION_BEFORE: u64 = VERSION as u64 - 1;
/// Most events of particles of one element.
const MAX_EVENTS: usize = 32;
/// Most stops of a colour or size along life or speed.
const MAX_STOPS: usize = 16;
/// Most points of one stroke of a curve.
const MAX_POINTS: usize = 10_000;

struct Faults(Vec<Fault>);

impl Faults {
    fn say(&mut self, path: impl Into<String>, message: impl Into<String>) {
        self.0.push(Fault { path: path.into(), message: message.into() });
    }

    /// A value of the document against its range.
    fn slot(&mut self, root: &str, path: &str, slot: &Parameter, bounds: Bounds) {
        let Some(value) = slot.get() else { return };
        for part in 0..value.count() {
            let number = value.part(part) as f32;
            if !(bounds.low..=bounds.high).contains(&number) {
                let part = if value.count() == 1 { String::new() } else { format!("[{part}]") };
                let message = format!("{number} is outside {} to {}", bounds.low, bounds.high);
                self.say(format!("{root}{path}{part}"), message);
            }
        }
    }
}

impl Shot {
    /// Every fault of this shot; empty if it can be used.
    pub fn faults(&self) -> Vec<Fault> {
        let mut faults = Faults(Vec::new());
        let f = &mut faults;
        if self.version != VERSION {
            f.say("version", format!("{} is not {VERSION}", self.version));
        }
        name(f, "name", &self.name);
        line(f, "about", &self.about, 160);
        shot_parameters(&mut Self { elements: Vec::new(), ..self.clone() }, &mut |path, slot, bounds| {
            f.slot("", &path.to_string(), &slot, bounds);
        });
        let timing = self.timing;
        if timing.last < timing.first {
            let message = format!("{} comes before the first frame, {}", timing.last, timing.first);
            f.say("timing.last", message);
        } else if timing.last - timing.first >= MAX_FRAMES {
            f.say("timing.last", format!("the shot has {} frames; at most {MAX_FRAMES}", timing.count()));
        } else if timing.last > LAST_FRAME {
            f.say("timing.last", format!("{} is outside 0 to {LAST_FRAME}", timing.last));
        }
        if let Some(frames) = timing.loop_frames {
            let count = timing.last.saturating_sub(timing.first).saturating_add(1);
            if !(2..=count).contains(&frames) {
                f.say("timing.loop_frames", format!("{frames} is outside 2 to {count}, the shot's frames"));
            }
            if self.physics.time_scale != 1.0 || self.channels.contains_key("physics.time_scale") {
                let message = "a shot that goes round has a time scale of 1 throughout";
                f.say("timing.loop_frames", message.to_owned());
            }
        }
        for (path, size) in [("picture.width", self.picture.width), ("picture.height", self.picture.height)] {
            if !(16..=8192).contains(&size) {
                f.say(path, format!("{size} is outside 16 to 8192"));
            }
        }
        if let Some(initial_state) = &self.initial_state {
            self.asset(f, "initial_state.asset", &initial_state.asset, AssetKind::Frame);
        }
        if let Some(camera) = self.camera
            && !matches!(self.element(camera).map(|e| &e.kind), Some(ElementKind::Camera(_)))
        {
            f.say("camera", format!("{} is not the id of a camera", camera.0));
        }
        if self.elements.len() > MAX_ELEMENTS {
            f.say("elements", format!("{} elements; at most {MAX_ELEMENTS}", self.elements.len()));
            return faults.0;
        }
        let (mut ids, mut names) = (HashMap::new(), HashMap::new());
        let mut bodies = 0usize;
        for (i, element) in self.elements.iter().enumerate() {
            let path = format!("elements[{i}]");
            if element.id.0 > MAX_ID {
                f.say(format!("{path}.id"), format!("{} is outside 0 to {MAX_ID}", element.id.0));
            }
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
        if faults.0.is_empty()
            && let Err(channels) = Sampler::new(self)
        {
            faults.0.extend(channels);
        }
        let f = &mut faults;
        self.circles(f);
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
        let root = format!("{path}.");
        element_parameters(&mut element.clone(), &mut |at, slot, bounds| {
            f.slot(&root, &at.to_string(), &slot, bounds)
        });
        if element.groups.len() > MAX_GROUPS {
            f.say(format!("{path}.groups"), format!("{} groups; at most {MAX_GROUPS}", element.groups.len()));
        }
        for (g, group) in element.groups.iter().enumerate() {
            name(f, &format!("{path}.groups[{g}]"), group);
        }
        for reference in element.references() {
            let (at, id) = (&reference.path, reference.id);
            // Particles may split into more of themselves.
            let itself = id == element.id;
            if itself && at.ends_with(".split.particles") {
                continue;
            }
            if itself {
                f.say(format!("{path}.{at}"), "is the element itself");
            } else if !self.element(id).is_some_and(|other| reference.to.is(other)) {
                f.say(format!("{path}.{at}"), format!("{} is not the id of {}", id.0, reference.to.name()));
            }
        }
        match &element.kind {
            ElementKind::Solid(solid) => {
                self.solid_faults(f, &format!("{path}.kind.solid"), solid);
            }
            ElementKind::Particles(particles) => {
                self.particle_faults(f, &format!("{path}.kind.particles"), particles);
            }
            ElementKind::Force(force) => {
                if let (Some(from), Some(to)) = (force.from_frame, force.to_frame)
                    && to < from
                {
                    let message = format!("{to} comes before from_frame, {from}");
                    f.say(format!("{path}.kind.force.to_frame"), message);
                }
            }
            ElementKind::Region(of) => {
                if let Volume::Combined { parts } = &of.volume
                    && !(1..=16).contains(&parts.len())
                {
                    let message = format!("{} regions; from 1 to 16", parts.len());
                    f.say(format!("{path}.kind.region.volume.combined.parts"), message);
                }
            }
            ElementKind::Curve(curve) => curve_faults(f, &format!("{path}.kind.curve"), curve),
            ElementKind::Sky(sky) => {
                if let SkySource::Image { asset } = &sky.source {
                    let path = format!("{path}.kind.sky.source.image.asset");
                    let image = self.assets.get(asset).is_some_and(|asset| asset.kind == AssetKind::Image);
                    self.asset(
                        f,
                        &path,
                        asset,
                        if image { AssetKind::Image } else { AssetKind::Environment },
                    );
                }
            }
            ElementKind::Finish(finish) => finish::finish_faults(f, &format!("{path}.kind.finish"), finish),
            ElementKind::Camera(_) | ElementKind::Sun(_) | ElementKind::AreaLight(_) => {}
        }
    }

    fn solid_faults(&self, f: &mut Faults, path: &str, solid: &Solid) {
        if let Shape::Mesh { asset, .. } = &solid.shape {
            self.mesh_asset(f, &format!("{path}.shape.mesh.asset"), asset);
        }
        if solid.animation.is_some() {
            match &solid.shape {
                Shape::Mesh { asset, .. }
                    if self.assets.get(asset).is_some_and(|a| a.kind == AssetKind::MeshSequence) => {}
                _ => f.say(format!("{path}.animation"), "needs a mesh whose file changes with time"),
            }
            // All copies have one shape, which freezes when they are let go.
            let copies = solid.copies.as_ref().map_or(1, crate::Copies::total).max(solid.placed.len());
            if copies > 1 && solid.body.wake.is_some() && solid.body.let_go_frame().is_none() {
                f.say(
                    format!("{path}.body.wake"),
                    "copies of a mesh that a file moves can only be let go at a frame",
                );
            }
            if solid.from_particles.is_some() {
                f.say(format!("{path}.animation"), "cannot be that of bodies that come from particles");
            }
        }
        let pins = [
            ("cloth", solid.cloth.as_ref().map(|cloth| &cloth.pins)),
            ("soft", solid.soft.as_ref().map(|soft| &soft.pins)),
        ];
        for (of, pins) in pins {
            let Some(pins) = pins else { continue };
            maps::pin_faults(f, &format!("{path}.{of}"), solid, pins);
            if solid.from_particles.is_some() || solid.to_particles.is_some() {
                f.say(format!("{path}.{of}"), "cannot be that of bodies that come from or become particles");
            }
            if solid.body.moves == crate::Moves::Free && solid.body.wake.is_some() {
                f.say(
                    format!("{path}.body.wake"),
                    "what deforms cannot wait; hold it by pins that are keyed",
                );
            }
        }
        self.map_faults_of(f, path, solid);
        if solid.cloth.is_some() && solid.soft.is_some() {
            f.say(format!("{path}.soft"), "a cloth cannot be a soft body too; take one of the two out");
        }
        // Particles may be lighter.
        if let Weight::MassKg(mass) = solid.body.weight
            && mass < MIN_MASS_KG
        {
            f.say(format!("{path}.body.weight.mass_kg"), format!("{mass} is below {MIN_MASS_KG}"));
        }
        if let Some(back) = &solid.to_particles
            && matches!(back.trigger, Trigger::End {} | Trigger::Touch { .. } | Trigger::Count { .. })
        {
            f.say(format!("{path}.to_particles.trigger"), "is none of age, region, faster, slower and frame");
        }
        placed_faults(f, path, solid);
        maps::sway_faults(f, path, solid);
        self.look_faults(f, &format!("{path}.look"), &solid.look);
        maps::look_map_faults(f, path, solid);
    }

    /// Elements that stand, aim or are made of each other in a circle.
    fn circles(&self, f: &mut Faults) {
        let needs_of = |element: &Element| -> Vec<Id> {
            let counts = |reference: &Reference| match reference.role {
                Role::Placement | Role::Crowd => true,
                Role::Part => element.as_region().is_some(),
                _ => false,
            };
            element.references().iter().filter(|r| counts(r)).map(|reference| reference.id).collect()
        };
        let needed: HashMap<Id, Vec<Id>> =
            self.elements.iter().map(|element| (element.id, needs_of(element))).collect();
        let needs = |id: Id| needed.get(&id).into_iter().flatten().copied();
        for (i, element) in self.elements.iter().enumerate() {
            // Breadth first from the element; met again, it is on a circle.
            let mut way: Vec<(Id, usize)> = vec![(element.id, 0)];
            let mut seen = HashSet::from([element.id]);
            let mut at = 0;
            while at < way.len() {
                for next in needs(way[at].0) {
                    if next == element.id && at > 0 {
                        let mut names = vec![element.name.clone()];
                        let mut back = at;
                        while back > 0 {
                            names
                                .push(self.element(way[back].0).map_or_else(String::new, |e| e.name.clone()));
                            back = way[back].1;
                        }
                        names.push(element.name.clone());
                        names.reverse();
                        f.say(format!("elements[{i}]"), format!("depends on itself: {}", names.join(" → ")));
                        return;
                    }
                    if seen.insert(next) {
                        way.push((next, at));
                    }
                }
                at += 1;
            }
        }
    }

    fn look_faults(&self, f: &mut Faults, path: &str, look: &Look) {
        for of in LookImage::ALL {
            if let Some(image) = look.image(of) {
                self.asset(f, &format!("{path}.{}", of.field()), image, AssetKind::Image);
            }
        }
        let (count, most) = (look.layers.len(), MAX_LOOK_LAYERS);
        if count > most {
            f.say(format!("{path}.layers"), format!("{count} layers; at most {most}"));
        }
    }

    /// A mesh of its own, or the first frame of one that changes with time.
    fn mesh_asset(&self, f: &mut Faults, path: &str, name: &str) {
        let sequence = self.assets.get(name).is_some_and(|asset| asset.kind == AssetKind::MeshSequence);
        self.asset(f, path, name, if sequence { AssetKind::MeshSequence } else { AssetKind::Mesh });
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

fn curve_faults(f: &mut Faults, path: &str, curve: &Curve) {
    let count = |f: &mut Faults, path: &str, points: &[Vec3]| {
        if !(2..=MAX_POINTS).contains(&points.len()) {
            f.say(path, format!("{} points; from 2 to {MAX_POINTS}", points.len()));
        }
    };
    let check = |f: &mut Faults, path: &str, points: &[Vec3]| {
        count(f, path, points);
        if let Some(i) =
            points.iter().position(|point| !point.is_finite() || point.abs().max_element() > 10_000.0)
        {
            f.say(format!("{path}[{i}]"), format!("{} is outside -10000 to 10000", points[i]));
        }
    };
    match curve {
        Curve::Points { points_m, .. } => count(f, &format!("{path}.points.points_m"), points_m),
        Curve::Strokes { strokes_m, .. } => {
            if strokes_m.is_empty() || strokes_m.len() > 2_000 {
                f.say(
                    format!("{path}.strokes.strokes_m"),
                    format!("{} strokes; from 1 to 2000", strokes_m.len()),
                );
            }
            for (i, stroke) in strokes_m.iter().enumerate() {
                check(f, &format!("{path}.strokes.strokes_m[{i}]"), stroke);
            }
        }
        Curve::Circle { .. } => {}
    }
}

/// Faults of copies that are placed one by one.
fn placed_faults(f: &mut Faults, path: &str, solid: &Solid) {
    let (count, most) = (solid.placed.len(), MAX_PLACED);
    if count > most {
        return f.say(format!("{path}.placed"), format!("{count} copies; at most {most}"));
    }
    for (i, copy) in solid.placed.iter().enumerate() {
        let path = format!("{path}.placed[{i}]");
        if !copy.position_m.is_finite() || copy.position_m.abs().max_element() > MAX_POSITION_M {
            let message = format!("{} is outside -{MAX_POSITION_M} to {MAX_POSITION_M}", copy.position_m);
            f.say(format!("{path}.position_m"), message);
        }
        if !copy.orientation_rad.is_finite() || copy.orientation_rad.abs().max_element() > 1_000.0 {
            f.say(format!("{path}.orientation_rad"), "is outside -1000 to 1000");
        }
        if !PlacedCopy::SIZES.contains(&copy.size) {
            let (low, high) = (PlacedCopy::SIZES.start(), PlacedCopy::SIZES.end());
            f.say(format!("{path}.size"), format!("{} is outside {low} to {high}", copy.size));
        }
    }
}

fn name(f: &mut Faults, path: &str, name: &str) {
    if name.trim().is_empty() {
        f.say(path, "is empty");
    } else {
        line(f, path, name, 80);
    }
}

fn line(f: &mut Faults, path: &str, text: &str, most: usize) {
    if text.chars().count() > most || text.chars().any(char::is_control) {
        f.say(path, format!("has more than {most} characters, or a control character"));
    }
}
