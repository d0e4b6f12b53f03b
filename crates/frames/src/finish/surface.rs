//! Steps that work on the surface of meshes, frame by frame: smooth in space, thicken, subdivide.
//!
//! What depends on the faces only is made once and kept for all frames, also for
//! the next request ([`KEPT`]). A body that does not change its shape has the mesh of that.

use super::{FinishContext, SharedFrames, digest, sign};
use crate::{Frame, Frames, MeshState, Parts, RunError, topologies};
use geometry::topology::{Attribute, AttributeValues, Domain};
use geometry::{
    Smoothing, Thickening, Topology,
    subdivision::{Creases, Scheme, Subdivision},
};
use glam::Vec3;
use shot::{
    Id,
    fingerprint::Fingerprint,
    finish::{Finish, FinishOperation, SubdivisionScheme},
};
use std::ops::RangeInclusive;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

pub(super) struct Surface {
    source: SharedFrames,
    step: Id,
    /// The element whose surface it is; none: of all meshes in the frames.
    element: Option<Id>,
    context: Arc<FinishContext>,
}

/// What is made once for the faces of a mesh.
enum Kernel {
    Smoothing(Smoothing),
    Thickening(Thickening),
    Subdivision(Subdivision),
}

/// What a kernel was made for: the step's constant values, the faces, and the frame that tells the
/// vertices at rest.
type Key = (String, Fingerprint, Fingerprint);

type KeptKernel = (Key, Arc<Kernel>);

/// Kernels that were used last.
static KEPT_KERNELS: LazyLock<Mutex<Vec<KeptKernel>>> = LazyLock::new(Mutex::default);
/// Number of kernels kept.
const KEPT: usize = 12;

impl Surface {
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
        if let Some(element) = element.filter(|element| element.as_solid().is_none()) {
            return Err(format!("works on surfaces, and {} has none", element.name));
        }
        let this = Self { source, step, element: finish.element, context: context.clone() };
        // What cannot be done is told on the step's row, if there is a frame to try it with.
        let first = *this.source.range().start();
        let mut frame = Frame::default();
        let parts = finish.element.map_or(Parts::All, Parts::Element);
        if this.source.read(first, &parts, &mut frame).is_ok() {
            for (id, mesh) in this.take_meshes(&mut frame) {
                this.kernel(id, &mesh, first, &finish.operation)?;
            }
        }
        Ok(this)
    }

    /// Takes the meshes that the step is for out of a frame.
    fn take_meshes(&self, frame: &mut Frame) -> Vec<(Id, MeshState)> {
        let Some(id) = self.element else { return std::mem::take(&mut frame.meshes).into_iter().collect() };
        let mesh = frame.meshes.remove(&id);
        let at_rest = || frame.bodies.get(&id).and_then(|_| self.context.rest(id));
        mesh.or_else(at_rest).map(|mesh| (id, mesh)).into_iter().collect()
    }

    /// The kernel for a mesh as it is at a frame. What meets and at which angle is told by the
    /// first frame with the same faces, so that it does not depend on the frame asked for.
    fn kernel(
        &self,
        id: Id,
        mesh: &MeshState,
        number: u32,
        operation: &FinishOperation,
    ) -> Result<Arc<Kernel>, String> {
        let first = *self.source.range().start();
        let values = constant(operation);
        let print = |frame: u32| self.source.fingerprint(frame).unwrap_or_default();
        let shape = self.element.and_then(|id| self.context.shape(id));
        let shape = serde_json::to_string(&shape).expect("a shape serialises");
        let key = |frame: u32| (format!("{} {shape} {values}", id.0), mesh.topology.hash(), print(frame));
        let find = |key: &Key| {
            let mut kept = KEPT_KERNELS.lock().unwrap_or_else(PoisonError::into_inner);
            let at = kept.iter().position(|(of, _)| of == key)?;
            // The one used last comes last.
            let found = kept.remove(at);
            kept.push(found);
            kept.last().map(|(_, kernel)| kernel.clone())
        };
        if let Some(kernel) = find(&key(first)).or_else(|| find(&key(number))) {
            return Ok(kernel);
        }
        let mut frame = Frame::default();
        let at_first = self.source.read(first, &Parts::Element(id), &mut frame).ok();
        let at_first =
            at_first.and_then(|()| self.take_meshes(&mut frame).into_iter().find(|(of, _)| *of == id));
        let (reference, of) = match &at_first {
            Some((_, rest)) if rest.topology == mesh.topology => (rest, first),
            _ => (mesh, number),
        };
        let kernel = Arc::new(Kernel::new(operation, &reference.topology, &reference.positions)?);
        let mut kept = KEPT_KERNELS.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= KEPT {
            kept.remove(0);
        }
        kept.push((key(of), kernel.clone()));
        Ok(kernel)
    }

    /// The operation at a frame.
    fn operation(&self, number: u32) -> Option<FinishOperation> {
        self.context.step_at(self.step, f64::from(number), |operation, _| operation.clone())
    }
}

/// The values of a step that its kernel is made from.
fn constant(operation: &FinishOperation) -> String {
    match operation {
        FinishOperation::SmoothShape { .. } => "smooth".to_owned(),
        FinishOperation::Thicken { .. } => "thicken".to_owned(),
        other => serde_json::to_string(other).expect("values of a step serialise"),
    }
}

impl Kernel {
    fn new(operation: &FinishOperation, topology: &Topology, positions: &[Vec3]) -> Result<Self, String> {
        Ok(match operation {
            FinishOperation::SmoothShape { .. } => Self::Smoothing(Smoothing::new(topology, positions)),
            FinishOperation::Thicken { .. } => Self::Thickening(Thickening::new(topology, positions)),
            FinishOperation::Subdivide { scheme, levels, crease_angle_rad, crease_group, crease_map } => {
                let scheme = match scheme {
                    SubdivisionScheme::CatmullClark => Scheme::CatmullClark,
                    SubdivisionScheme::Loop => Scheme::Loop,
                };
                let creases = Creases {
                    angle_rad: *crease_angle_rad,
                    group: crease_group.clone(),
                    map: crease_map.clone(),
                };
                Self::Subdivision(Subdivision::new(topology, positions, scheme, *levels, &creases)?)
            }
            _ => return Err("does not work on surfaces".to_owned()),
        })
    }

    fn apply(&self, mesh: &MeshState, operation: &FinishOperation) -> MeshState {
        let with = |topology: &Arc<Topology>, positions, velocities, attributes| {
            let topology = topologies::in_use(topology);
            MeshState { topology, positions, velocities, attributes }
        };
        match (self, operation) {
            (Self::Smoothing(smoothing), FinishOperation::SmoothShape { passes }) => with(
                &mesh.topology,
                smoothing.apply(&mesh.positions, *passes),
                smoothing.apply_linear(&mesh.velocities, *passes),
                mesh.attributes.clone(),
            ),
            (Self::Thickening(thickening), FinishOperation::Thicken { thickness_m, offset }) => with(
                thickening.topology(),
                thickening.apply(&mesh.positions, *thickness_m, *offset),
                thickening.carried(&mesh.velocities),
                scalars_by(&mesh.attributes, |values| thickening.carried(values)),
            ),
            (Self::Subdivision(subdivision), _) => with(
                subdivision.topology(),
                subdivision.apply(&mesh.positions),
                subdivision.apply(&mesh.velocities),
                scalars_by(&mesh.attributes, |values| subdivision.apply(values)),
            ),
            _ => mesh.clone(),
        }
    }
}

/// The scalars of vertices on another mesh; `of` makes the vectors there from those of the mesh. Other attributes are left out.
fn scalars_by(attributes: &[Attribute], of: impl Fn(&[Vec3]) -> Vec<Vec3>) -> Vec<Attribute> {
    let carried = |attribute: &Attribute| {
        let (Domain::Vertex, AttributeValues::Scalars(values)) = (attribute.domain, &attribute.values) else {
            return None;
        };
        let values: Vec<Vec3> = values.iter().map(|value| Vec3::new(*value, 0.0, 0.0)).collect();
        let values = AttributeValues::Scalars(of(&values).into_iter().map(|value| value.x).collect());
        Some(Attribute { name: attribute.name.clone(), domain: Domain::Vertex, values })
    };
    attributes.iter().filter_map(carried).collect()
}

impl Frames for Surface {
    fn range(&self) -> RangeInclusive<u32> {
        self.source.range()
    }

    fn repeats(&self) -> bool {
        self.source.repeats()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let first = *self.source.range().start();
        let prints = [self.source.fingerprint(number), self.source.fingerprint(first)];
        // The shape at rest is that of the shot as it is, also while the run is stale.
        let shape = self.element.and_then(|id| self.context.shape(id));
        digest("surface", &(number, self.element, self.operation(number), shape), &prints)
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        self.source.read(number, parts, frame)?;
        if let Some(operation) = self.operation(number) {
            for (id, mesh) in self.take_meshes(frame).into_iter().filter(|(id, _)| parts.has(*id)) {
                // A mesh that it cannot be done to stays as it is; at the first frame that is told.
                let kernel = self.kernel(id, &mesh, number, &operation);
                let finished = match kernel {
                    Ok(kernel) => kernel.apply(&mesh, &operation),
                    Err(_) => mesh,
                };
                frame.meshes.insert(id, finished);
            }
        }
        sign(self, &self.context, number, frame)
    }
}
