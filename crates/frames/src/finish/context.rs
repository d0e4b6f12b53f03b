//! What finishing steps know of the shot.

use super::SharedFrames;
use crate::MeshState;
use geometry::{Meshes, Topology};
use glam::{Quat, Vec3};
use shot::{
    Element, Id, Shape, Shot,
    finish::FinishOperation,
    motion::Sampler,
    world::{Pose, World},
};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

/// The shot whose frames are finished, with what is needed to read its values at any frame.
pub struct FinishContext {
    sampler: Sampler,
    /// The shot at the frame that was asked for last.
    now: Mutex<Shot>,
    /// Centre of mass of a body against its origin, by element, m.
    centres: BTreeMap<Id, Vec3>,
    gravity: BTreeMap<Id, Vec3>,
    /// Kept runs, by number.
    kept: BTreeMap<u32, SharedFrames>,
    /// Steps that cannot be taken, and why.
    not_taken: BTreeMap<Id, String>,
    /// The meshes of the shot's shapes.
    meshes: Meshes,
    /// The meshes at rest of solids that were asked for.
    rest: Mutex<BTreeMap<Id, Option<MeshState>>>,
}

impl FinishContext {
    /// Of a shot free of faults; `centres` are those of the run's manifest.
    ///
    /// # Errors
    /// The first fault of the shot's channels.
    pub fn new(shot: &Shot, centres: BTreeMap<Id, Vec3>) -> Result<Self, String> {
        let sampler = Sampler::new(shot)
            .map_err(|faults| faults.first().map_or_else(String::new, ToString::to_string))?;
        let moved = |element: &&Element| element.as_solid().is_some() || element.as_particles().is_some();
        let first = f64::from(shot.timing.first);
        let gravity = shot.elements.iter().filter(moved).map(|e| (e.id, shot.gravity_on(e, first))).collect();
        let (now, kept, meshes) = (Mutex::new(shot.clone()), BTreeMap::new(), Meshes::default());
        Ok(Self {
            sampler,
            now,
            centres,
            gravity,
            kept,
            not_taken: BTreeMap::new(),
            meshes,
            rest: Mutex::default(),
        })
    }

    /// With the kept runs that steps may show, by number.
    #[must_use]
    pub fn with_kept(mut self, kept: BTreeMap<u32, SharedFrames>) -> Self {
        self.kept = kept;
        self
    }

    /// With steps that cannot be taken, as was seen with the frames; see [`super::problems`].
    #[must_use]
    pub fn with_not_taken(mut self, not_taken: BTreeMap<Id, String>) -> Self {
        self.not_taken = not_taken;
        self
    }

    /// Why a step cannot be taken, if that is known.
    pub(super) fn not_taken(&self, step: Id) -> Option<&String> {
        self.not_taken.get(&step)
    }

    /// With the meshes that the shot's shapes use.
    #[must_use]
    pub fn with_meshes(mut self, meshes: Meshes) -> Self {
        self.meshes = meshes;
        self
    }

    /// The shape of a solid, with the sum of the file that it is from.
    pub(super) fn shape(&self, solid: Id) -> Option<(&Shape, Option<&str>)> {
        let shape = &self.shot().element(solid)?.as_solid()?.shape;
        let asset = match shape {
            Shape::Mesh { asset, .. } => self.shot().assets.get(asset),
            _ => None,
        };
        Some((shape, asset.map(|asset| &*asset.sha256)))
    }

    /// The mesh of a solid that does not change its shape.
    pub(super) fn rest(&self, solid: Id) -> Option<MeshState> {
        let find = || {
            let mesh = self.meshes.mesh(self.shape(solid)?.0).ok()?;
            let velocities = vec![Vec3::ZERO; mesh.positions.len()];
            let topology = Arc::new(Topology::of(&mesh));
            Some(MeshState { topology, positions: mesh.positions, velocities, attributes: Vec::new() })
        };
        let mut rest = self.rest.lock().unwrap_or_else(PoisonError::into_inner);
        rest.entry(solid).or_insert_with(find).clone()
    }

    /// A kept run.
    pub(super) fn kept(&self, number: u32) -> Option<SharedFrames> {
        self.kept.get(&number).cloned()
    }

    /// The shot without keys.
    pub fn shot(&self) -> &Shot {
        self.sampler.base()
    }

    /// Centre of mass of an element's body against its origin, m.
    pub(super) fn centre(&self, element: Id) -> Vec3 {
        self.centres.get(&element).copied().unwrap_or(Vec3::ZERO)
    }

    /// Gravity on an element at the first frame, m/s².
    pub(super) fn gravity(&self, element: Id) -> Vec3 {
        self.gravity.get(&element).copied().unwrap_or(Vec3::ZERO)
    }

    /// Seconds of the world's time at a frame of the run.
    pub(super) fn world_s(&self, frame: u32) -> f64 {
        self.sampler.world_frame(f64::from(frame)) / f64::from(self.shot().timing.fps)
    }

    /// Calls `f` with a step as it is at a frame, and where its element stands.
    pub(super) fn step_at<T>(
        &self,
        step: Id,
        frame: f64,
        f: impl FnOnce(&FinishOperation, Pose) -> T,
    ) -> Option<T> {
        let mut now = self.now.lock().unwrap_or_else(PoisonError::into_inner);
        // A formula without a finite value leaves the value of the frame before.
        let _ = self.sampler.apply(&mut now, frame);
        let element = now.element(step)?;
        let unsolved = |_: Id, _: f64| -> Option<Pose> { None };
        let pose = World::new(&now, &self.sampler, frame, &unsolved).pose(element);
        Some(f(&element.as_finish()?.operation, pose))
    }

    /// Where an element stands at a frame by the document.
    pub(super) fn pose(&self, element: Id, frame: f64) -> Pose {
        let mut now = self.now.lock().unwrap_or_else(PoisonError::into_inner);
        let _ = self.sampler.apply(&mut now, frame);
        let unsolved = |_: Id, _: f64| -> Option<Pose> { None };
        let world = World::new(&now, &self.sampler, frame, &unsolved);
        now.element(element).map_or((Vec3::ZERO, Quat::IDENTITY), |element| world.pose(element))
    }
}
