//! The document itself.

use crate::motion::split_part;
use crate::parameters::Parameters;
use crate::parameters::{Bounds, Parameter, element_parameters, shot_parameters};
use crate::{
    Camera, Element, ElementKind,
    force::{Force, ForceKind},
    motion::{Channel, Value},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Version of the shot file this build writes.
pub const VERSION: u32 = 4;

/// An element's number within its shot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct Id(pub u32);

/// One document: elements, timing, picture settings.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Shot {
    /// Version of the format, [`VERSION`].
    pub version: u32,
    /// The shot's name.
    pub name: String,
    /// Description of the shot in a line; at most 160 characters.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub about: String,
    /// Frame rate and range.
    pub timing: Timing,
    /// Size of the picture.
    pub picture: PictureSize,
    /// The frame that stands for the shot in lists; none: the frame in which most happens.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub poster: Option<u32>,
    /// Settings of the whole simulation.
    #[serde(default)]
    pub physics: Physics,
    /// The frame of a run that the simulation begins from; none: as all is placed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub initial_state: Option<InitialState>,
    /// The camera that renders; none only while the shot has no camera.
    #[serde(default)]
    pub camera: Option<Id>,
    /// Channels of keys or formulas for the values above, by path.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub channels: BTreeMap<String, Channel>,
    /// Everything in the shot.
    pub elements: Vec<Element>,
    /// Files the elements use, by name.
    #[serde(default)]
    pub assets: BTreeMap<String, Asset>,
    /// No element gets a lower id than this, so that none gets the id of one
    /// that was deleted. Not part of the file: who keeps the shot's history sets it.
    #[serde(skip)]
    pub next_id: u32,
}

/// A frame that the simulation begins from: free bodies and particles that are in it are at
/// the first frame where they are there.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct InitialState {
    /// Name of a frame among the shot's assets.
    pub asset: String,
    /// Whether they go on with their velocities there; else they begin at rest.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub velocities: bool,
}

/// Frame rate and range.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Timing {
    /// Frames a second.
    #[parameter(label = "Frame rate", unit = "fps", fixed, range(1.0, 240.0), step = 1.0)]
    pub fps: f32,
    /// First frame of the shot.
    pub first: u32,
    /// Last frame of the shot.
    pub last: u32,
    /// Number of frames after which all that acts begins anew: keys, formulas, noise and
    /// births; none: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub loop_frames: Option<u32>,
}

impl Timing {
    /// A range of frames that does not go round.
    pub fn new(fps: f32, first: u32, last: u32) -> Self {
        Self { fps, first, last, loop_frames: None }
    }

    /// The frame of the first round that the end of a step at `frame` is like: after the
    /// first, up to the first of the next round. The frame itself if the shot does not go round.
    pub fn step_in_round(&self, frame: f64) -> f64 {
        let Some(length) = self.loop_frames.map(|frames| f64::from(frames.max(1))) else { return frame };
        let since = (frame - f64::from(self.first)).rem_euclid(length);
        f64::from(self.first) + if since > 0.0 { since } else { length }
    }

    /// Time in seconds of `frame`; the first frame is at 0.
    pub fn seconds(&self, frame: u32) -> f64 {
        f64::from(frame.saturating_sub(self.first)) / f64::from(self.fps)
    }

    /// Number of frames.
    pub fn count(&self) -> u32 {
        self.last - self.first + 1
    }

    /// All frames of the shot.
    pub fn frames(&self) -> std::ops::RangeInclusive<u32> {
        self.first..=self.last
    }
}

/// Size of the picture in pixels.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PictureSize {
    /// Pixels across.
    pub width: u32,
    /// Pixels down.
    pub height: u32,
}

impl PictureSize {
    /// Width over height.
    pub fn aspect(self) -> f32 {
        self.width as f32 / self.height.max(1) as f32
    }
}

/// Settings of the whole simulation.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Physics {
    /// Time steps a frame.
    #[parameter(label = "Substeps", fixed, range(1.0, 256.0), step = 1.0)]
    pub substeps: u32,
    /// Bodies further than this from the origin have left the world, metres.
    #[parameter(label = "World", words = "world size", range(1.0, 10_000.0), step = 10.0)]
    pub world_m: f32,
    /// How fast the world's time passes, no unit: 1 as in the shot, 0.5 half as fast.
    #[parameter(label = "Time scale", range(0.0, 20.0), slide(0.0, 2.0), step = 0.05)]
    pub time_scale: f32,
    /// Whether keys and formulas of bodies, forces and regions follow the
    /// world's time, rather than the shot's.
    pub keys_follow: bool,
}

impl Default for Physics {
    fn default() -> Self {
        Self { substeps: 8, world_m: 200.0, time_scale: 1.0, keys_follow: true }
    }
}

/// A file that elements use; its bytes lie beside the document.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Asset {
    /// Kind of the file.
    pub kind: AssetKind,
    /// Path of the file below the folder of the shot file.
    pub file: String,
    /// SHA-256 of the file's bytes, in hexadecimal.
    pub sha256: String,
}

impl Asset {
    /// Whether its file is `assets/<sha256>.<extension>`, with an extension of its kind.
    pub fn has_own_place(&self) -> bool {
        let sum = &self.sha256;
        let is_sum = sum.len() == 64 && sum.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b));
        let extension = self.file.strip_prefix("assets/").and_then(|name| name.strip_prefix(sum.as_str()));
        let extension = extension.and_then(|rest| rest.strip_prefix('.'));
        is_sum && extension.is_some_and(|extension| self.kind.extensions().contains(&extension))
    }
}

impl AssetKind {
    /// The extensions of its files.
    pub fn extensions(self) -> &'static [&'static str] {
        match self {
            Self::Mesh => &["obj", "glb", "gltf", "ply", "stl", "usda", "usdc", "usdz", "usd", "abc"],
            Self::Image => &["png", "jpg", "jpeg"],
            Self::Environment => &["exr", "hdr"],
            Self::MeshSequence => &["brmeshes"],
            Self::Frame => &["brframe"],
        }
    }

    /// All kinds.
    pub const ALL: [Self; 5] = [Self::Mesh, Self::Image, Self::Environment, Self::MeshSequence, Self::Frame];
}

/// The content of an asset file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum AssetKind {
    /// Triangle meshes: OBJ, glTF, PLY or STL.
    Mesh,
    /// An image laid on UVs: PNG or JPEG.
    Image,
    /// A latitude–longitude image: OpenEXR or Radiance HDR.
    Environment,
    /// A mesh that changes with time, taken in from a sequence of OBJ files, glTF, USD or Alembic.
    MeshSequence,
    /// A frame of a run, to begin from.
    Frame,
}

impl Shot {
    /// A shot with gravity, a camera, a sun and a sky, and nothing to film.
    pub fn empty(name: &str) -> Self {
        use crate::light::{Sky, SkySource, Sun};
        use glam::Vec3;
        let mut shot = Self {
            version: VERSION,
            name: name.to_owned(),
            about: String::new(),
            timing: Timing::new(24.0, 1, 96),
            picture: PictureSize { width: 1280, height: 720 },
            poster: None,
            physics: Physics::default(),
            initial_state: None,
            camera: None,
            channels: BTreeMap::new(),
            elements: Vec::new(),
            assets: BTreeMap::new(),
            next_id: 0,
        };
        shot.add(Element::gravity(Vec3::new(0.0, -9.81, 0.0)));
        let camera = Element::new(
            "Camera",
            ElementKind::Camera(Camera { focus_distance_m: 6.0, ..Camera::default() }),
        );
        shot.camera = Some(shot.add(camera.at(3.0, 1.8, 5.0).turned(-0.18, 0.54, 0.0)));
        let sun = Sun { irradiance: 3.0, colour: Vec3::new(1.0, 0.93, 0.82), angle_rad: 0.02 };
        shot.add(Element::new("Sun", ElementKind::Sun(sun)).at(2.0, 5.0, 2.0).turned(0.5, 0.0, -0.6));
        let source = SkySource::Gradient {
            zenith: Vec3::new(0.22, 0.32, 0.48),
            horizon: Vec3::new(0.62, 0.66, 0.70),
            ground: Vec3::new(0.16, 0.15, 0.14),
        };
        shot.add(Element::new("Sky", ElementKind::Sky(Sky { strength: 1.0, source })));
        shot
    }

    /// Adds an element under a new id and, where its name is taken, a new name.
    pub fn add(&mut self, mut element: Element) -> Id {
        element.id = self.next_id();
        element.name = self.free_name(&element.name);
        let id = element.id;
        self.elements.push(element);
        id
    }

    /// An id that no element has.
    pub fn next_id(&self) -> Id {
        let highest = self.elements.iter().map(|element| element.id.0).max().unwrap_or(0);
        Id(highest.saturating_add(1).max(self.next_id))
    }

    /// `wanted`, or `wanted 2`, `wanted 3`… where that is taken.
    pub fn free_name(&self, wanted: &str) -> String {
        let taken = |name: &str| self.elements.iter().any(|element| element.name == name);
        if !taken(wanted) {
            return wanted.to_owned();
        }
        let stem = wanted.trim_end_matches(|c: char| c.is_ascii_digit()).trim_end();
        (2..).map(|n| format!("{stem} {n}")).find(|name| !taken(name)).expect("names are endless")
    }

    /// The element of that id.
    pub fn element(&self, id: Id) -> Option<&Element> {
        self.elements.iter().find(|element| element.id == id)
    }

    /// The element of that name.
    pub fn named(&self, name: &str) -> Option<&Element> {
        self.elements.iter().find(|element| element.name == name)
    }

    /// The element of that name, to be changed.
    pub fn named_mut(&mut self, name: &str) -> Option<&mut Element> {
        self.elements.iter_mut().find(|element| element.name == name)
    }

    /// The value at a path below an element, or below the shot itself.
    pub fn value(&self, element: Option<Id>, path: &str) -> Option<Value> {
        let (whole, part) = split_part(path);
        let mut found = None;
        let mut visit = |at: std::fmt::Arguments, slot: Parameter, _: Bounds| {
            let at = at.to_string();
            if at == path {
                found = slot.get();
            } else if at == whole
                && let (Some(part), Some(value)) = (part, slot.get())
                && part < value.count()
            {
                found = Some(Value::Number(value.part(part) as f32));
            }
        };
        match element {
            None => shot_parameters(&mut Self { elements: Vec::new(), ..self.clone() }, &mut visit),
            Some(id) => element_parameters(&mut self.element(id)?.clone(), &mut visit),
        }
        found
    }

    /// The solids, in order.
    pub fn solids(&self) -> impl Iterator<Item = (&Element, &crate::Solid)> {
        self.elements.iter().filter_map(|element| Some((element, element.as_solid()?)))
    }

    /// What it begins from, with the frame's file; none: it begins as all is placed.
    pub fn initial_state_asset(&self) -> Option<(&InitialState, &Asset)> {
        let initial_state = self.initial_state.as_ref()?;
        Some((initial_state, self.assets.get(&initial_state.asset)?))
    }

    /// The particles, in order.
    pub fn particles(&self) -> impl Iterator<Item = (&Element, &crate::particles::Particles)> {
        self.elements.iter().filter_map(|element| Some((element, element.as_particles()?)))
    }

    /// The forces, in the order in which they act.
    pub fn forces(&self) -> Vec<(&Element, &Force)> {
        let mut forces: Vec<_> =
            self.elements.iter().filter_map(|element| Some((element, element.as_force()?))).collect();
        forces.sort_by_key(|(element, force)| (force.order, element.id));
        forces
    }

    /// The gravity without a region that acts on an element at a frame of the shot, m/s².
    pub fn gravity_on(&self, element: &Element, frame: f64) -> glam::Vec3 {
        let means = |list: &[crate::force::ElementFilter]| list.iter().any(|who| who.means(element));
        self.elements
            .iter()
            .filter_map(Element::as_force)
            .filter(|force| force.acts_at(self.timing.step_in_round(frame)) && force.region.is_none())
            .filter(|force| (force.only.is_empty() || means(&force.only)) && !means(&force.except))
            .map(|force| match force.kind {
                ForceKind::Gravity { acceleration } => acceleration * force.strength,
                _ => glam::Vec3::ZERO,
            })
            .sum()
    }

    /// The sum of all gravity that acts everywhere and on all in this state of the shot, m/s².
    pub fn gravity(&self) -> glam::Vec3 {
        self.elements
            .iter()
            .filter_map(Element::as_force)
            .map(|force| match force.kind {
                ForceKind::Gravity { acceleration } if force.enabled && force.is_everywhere() => {
                    acceleration * force.strength
                }
                _ => glam::Vec3::ZERO,
            })
            .sum()
    }
}
