//! A step that makes the surface of a liquid of its particles, frame by frame.

use super::{FinishContext, SharedFrames, digest, sign};
use crate::{Frame, Frames, MeshState, Particles, Parts, RunError, topologies};
use geometry::{ParticleSurface, Smoothing, Topology};
use shot::{
    Id,
    fingerprint::Fingerprint,
    finish::{Finish, FinishOperation},
};
use std::ops::RangeInclusive;
use std::sync::Arc;

/// Most cells that particles reach along an axis.
const MAX_REACH_CELLS: f32 = 3.0;

pub(super) struct ParticleMesh {
    source: SharedFrames,
    step: Id,
    /// The element whose particles they are; none: all particles.
    element: Option<Id>,
    context: Arc<FinishContext>,
}

impl ParticleMesh {
    /// The step over its source.
    ///
    /// # Errors
    /// Why it cannot be taken.
    pub fn new(
        source: SharedFrames,
        step: Id,
        finish: &Finish,
        context: &Arc<FinishContext>,
    ) -> Result<Self, String> {
        let element = finish.element.and_then(|id| context.shot().element(id));
        if let Some(element) = element.filter(|element| element.as_particles().is_none()) {
            return Err(format!("makes a mesh of particles, and {} has none", element.name));
        }
        Ok(Self { source, step, element: finish.element, context: context.clone() })
    }

    /// The operation at a frame.
    fn operation(&self, number: u32) -> Option<FinishOperation> {
        self.context.step_at(self.step, f64::from(number), |operation, _| operation.clone())
    }
}

/// The surface of particles; none if it would be too large: they then stay particles.
fn mesh(particles: &Particles, operation: &FinishOperation) -> Option<MeshState> {
    let FinishOperation::ParticleMesh { radius, reach, edge, passes } = *operation else { return None };
    let sizes = particles.sizes.iter().map(|size| f64::from(*size)).sum::<f64>();
    let size = (sizes / particles.len().max(1) as f64) as f32;
    if size <= 0.0 {
        return None;
    }
    let reach_m = reach * size;
    let cell_m = (edge * size).max(reach_m / MAX_REACH_CELLS);
    let surface = ParticleSurface { radius_m: radius * size, reach_m, cell_m };
    let mesh = surface.of(&particles.positions, &particles.velocities)?;
    let vertices = mesh.positions.len() as u32;
    let topology = Arc::new(Topology::new(mesh.triangles, (0..vertices).collect(), Vec::new())?);
    let (mut positions, mut velocities) = (mesh.positions, mesh.velocities);
    if passes > 0 {
        let smoothing = Smoothing::new(&topology, &positions);
        positions = smoothing.apply(&positions, passes);
        velocities = smoothing.apply_linear(&velocities, passes);
    }
    let topology = topologies::in_use(&topology);
    Some(MeshState { topology, positions, velocities, attributes: Vec::new() })
}

impl Frames for ParticleMesh {
    fn range(&self) -> RangeInclusive<u32> {
        self.source.range()
    }

    fn repeats(&self) -> bool {
        self.source.repeats()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        digest("particle mesh", &(self.element, self.operation(number)), &[self.source.fingerprint(number)])
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        self.source.read(number, parts, frame)?;
        if let Some(operation) = self.operation(number) {
            let chosen = |id: &Id| self.element.is_none_or(|element| element == *id) && parts.has(*id);
            let ids: Vec<Id> = frame.particles.keys().copied().filter(chosen).collect();
            for id in ids {
                if let Some(mesh) = frame.particles.get(&id).and_then(|particles| mesh(particles, &operation))
                {
                    frame.particles.remove(&id);
                    frame.meshes.insert(id, mesh);
                }
            }
        }
        sign(self, &self.context, number, frame)
    }
}
