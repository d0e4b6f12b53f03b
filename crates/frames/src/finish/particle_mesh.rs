//! A step that makes the surface of a liquid of its particles, frame by frame.

use super::{FinishContext, SharedFrames, digest, sign};
use crate::{Frame, Frames, MeshState, Particles, Parts, RunError, topologies};
use geometry::topology::{Attribute, AttributeValues, Domain, UV, WEIGHT, into_strips};
use geometry::{ParticleSurface, Smoothing, SurfaceParticles, Topology};
use glam::{Vec2, Vec3};
use shot::{
    Id,
    fingerprint::Fingerprint,
    finish::{Finish, FinishOperation},
};
use std::ops::RangeInclusive;
use std::sync::Arc;

/// Passes by which matter of several elements mixes along their common surface.
const MIXED_PASSES: u32 = 4;
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

/// Name of the attribute that has the mean age of the matter at a vertex: scalars, s.
pub const AGE: &str = "age";

/// Name of the attribute that says which part of a common surface is matter of an element: scalars, by vertex, 0–1.
pub fn share_of(element: Id) -> String {
    format!("share {}", element.0)
}

/// The particles that have one surface, a column for each quantity.
#[derive(Default)]
struct Joined {
    positions: Vec<Vec3>,
    velocities: Vec<Vec3>,
    /// Age, s, and the map's weight at birth.
    values: Vec<Vec2>,
    uvs: Vec<Vec2>,
    sizes: f64,
    /// The elements, each with where its particles end.
    elements: Vec<(Id, usize)>,
}

impl Joined {
    fn add(&mut self, id: Id, particles: &Particles) {
        let n = particles.len();
        self.positions.extend(&particles.positions);
        self.velocities.extend(&particles.velocities);
        let weight = |i: usize| particles.weights.get(i).copied().unwrap_or(1.0);
        self.values.extend((0..n).map(|i| Vec2::new(particles.ages[i], weight(i))));
        if !particles.uvs.is_empty() {
            self.uvs.resize(self.positions.len() - n, Vec2::ZERO);
            self.uvs.extend(&particles.uvs);
        }
        self.sizes += particles.sizes.iter().map(|size| f64::from(*size)).sum::<f64>();
        self.elements.push((id, self.positions.len()));
    }

    /// The surface; none if it would be too large: the particles then stay particles.
    fn mesh(&self, operation: &FinishOperation) -> Option<MeshState> {
        let FinishOperation::ParticleMesh { radius, reach, edge, passes, anisotropy, film, .. } = *operation
        else {
            return None;
        };
        let size = (self.sizes / self.positions.len().max(1) as f64) as f32;
        if size <= 0.0 {
            return None;
        }
        let reach_m = reach * size;
        let surface = ParticleSurface {
            size_m: size,
            radius_m: radius * size,
            reach_m,
            cell_m: (edge * size).max(reach_m / MAX_REACH_CELLS),
            anisotropy,
            film_m: film * size,
        };
        let Self { positions, velocities, values, .. } = self;
        let mesh = surface.of(&SurfaceParticles { positions, velocities, values })?;
        let vertices = mesh.positions.len() as u32;
        let nearest = |v: &u32| *v as usize;
        let smoothing = Smoothing::of_closed(&mesh.triangles, mesh.positions.len());
        let (mut triangles, mut positions, mut velocities) =
            (mesh.triangles, mesh.positions, mesh.velocities);
        if passes > 0 {
            positions = smoothing.apply(&positions, passes);
            velocities = smoothing.apply_linear(&velocities, passes);
        }
        smoothing.unfold(&mut triangles, &mut positions);
        // In strips, the faces take a sixth of the room on disk.
        let order = into_strips(&mut triangles, positions.len());
        let (positions, velocities) = (picked(&positions, &order), picked(&velocities, &order));
        let mut constant = Vec::new();
        if !self.uvs.is_empty() {
            let uv = |v: &u32| self.uvs.get(nearest(&mesh.nearest[*v as usize])).copied().unwrap_or_default();
            constant.push(attribute(UV, AttributeValues::Pairs(order.iter().map(uv).collect())));
        }
        let topology = Arc::new(Topology::new(triangles, (0..vertices).collect(), constant)?);
        let scalars = |name: &str, of: &dyn Fn(&Vec2) -> f32| {
            let values = order.iter().map(|v| of(&mesh.values[*v as usize])).collect();
            attribute(name, AttributeValues::Scalars(values))
        };
        let mut attributes = vec![scalars(AGE, &|value| value.x), scalars(WEIGHT, &|value| value.y)];
        if self.elements.len() > 1 {
            let of = |v: &u32| self.elements.partition_point(|(_, end)| *end <= nearest(v));
            for (at, (id, _)) in self.elements.iter().enumerate() {
                let own = |v: &u32| Vec3::X * f32::from(u8::from(of(v) == at));
                let shares: Vec<Vec3> = mesh.nearest.iter().map(own).collect();
                let mixed = smoothing.apply_linear(&shares, MIXED_PASSES);
                let shares = order.iter().map(|v| mixed[*v as usize].x.clamp(0.0, 1.0)).collect();
                attributes.push(attribute(&share_of(*id), AttributeValues::Scalars(shares)));
            }
        }
        let topology = topologies::in_use(&topology);
        Some(MeshState { topology, positions, velocities, attributes })
    }
}

fn picked(values: &[Vec3], order: &[u32]) -> Vec<Vec3> {
    order.iter().map(|v| values[*v as usize]).collect()
}

fn attribute(name: &str, values: AttributeValues) -> Attribute {
    Attribute { name: name.to_owned(), domain: Domain::Vertex, values }
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
        let operation = self.operation(number);
        let together = matches!(operation, Some(FinishOperation::ParticleMesh { together: true, .. }));
        // A common surface needs all that is in it.
        let parts = if together && self.element.is_none() { &Parts::All } else { parts };
        self.source.read(number, parts, frame)?;
        if let Some(operation) = operation {
            let is_liquid = |id: &Id| {
                let particles = self.context.shot().element(*id).and_then(|element| element.as_particles());
                particles.is_some_and(|particles| particles.liquid.is_some())
            };
            let chosen = |id: &Id| {
                self.element.is_none_or(|element| element == *id)
                    && parts.has(*id)
                    && (!together || is_liquid(id))
            };
            let ids: Vec<Id> = frame.particles.keys().copied().filter(chosen).collect();
            for ids in if together { vec![&ids[..]] } else { ids.chunks(1).collect() } {
                let mut joined = Joined::default();
                for id in ids {
                    frame.particles.get(id).into_iter().for_each(|particles| joined.add(*id, particles));
                }
                if let (Some(mesh), Some(first)) = (joined.mesh(&operation), ids.first()) {
                    ids.iter().for_each(|id| drop(frame.particles.remove(id)));
                    frame.meshes.insert(*first, mesh);
                }
            }
        }
        sign(self, &self.context, number, frame)
    }
}
