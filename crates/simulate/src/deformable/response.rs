//! How cloths and soft bodies answer impulses within the step that they have made: by the linear system of its last Newton step.
//!
//! With H the second derivatives of what the step minimises, and α/Δt its rate, a force f moves the nodes by H⁻¹ f and changes their
//! velocities by α/Δt times that. The step began with the forces of the step before; when those at hand are known, what differs is added
//! so, and the next step goes on from there.

use super::active_contacts::ActiveContacts;
use super::blocks::Rows;
use super::body::{DeformableBody, SolvedStep};
use super::embedding::Embedding;
use super::levels::Levels;
use super::low_rank::LowRank;
use super::matrix::Matrix;
use super::system::Workspace;
use crate::colliders::{SurfaceResponse, VertexStates};
use glam::{DVec3, Mat3A, Vec3, Vec3A};
use shot::Id;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Mutex;

/// Size of what is left of the right side, in the norm of the preconditioner.
const TOLERANCE: f64 = 1e-5;

/// The vertices of an element: the number of the point that each is, among those of all elements.
pub(super) type Vertices = Vec<u32>;

/// The system of a step.
pub(super) struct Response {
    step: SolvedStep,
    near: Rows,
    blocks: Vec<Mat3A>,
    bent: Rows,
    bending: Vec<f32>,
    levels: Levels,
    touches: ActiveContacts,
    low_rank: Vec<LowRank>,
    held: Vec<bool>,
    nodes: Vec<Range<usize>>,
    embedding: Embedding,
    work: Mutex<Workspace>,
    elements: Vec<(Id, Vertices)>,
    states: BTreeMap<Id, VertexStates>,
}

impl Response {
    /// Of a body after a step; none: the matrices of its last step are not at hand.
    pub fn new(body: &DeformableBody, elements: Vec<(Id, Vertices)>) -> Option<Self> {
        let structure = &body.structure;
        let mut response = Self {
            step: body.solved?,
            near: structure.near.clone(),
            blocks: body.blocks.clone(),
            bent: structure.bent.clone(),
            bending: structure.bending_scaled.clone(),
            levels: structure.levels.clone(),
            touches: body.touches.clone(),
            low_rank: body.low_rank.clone(),
            held: body.fixed.clone(),
            nodes: body.nodes.clone(),
            embedding: body.discretization.embedding.clone(),
            work: Mutex::new(body.work.clone()),
            elements,
            states: BTreeMap::new(),
        };
        let mut masses = body.discretization.measures.clone();
        for (nodes, density) in body.nodes.iter().zip(&body.densities) {
            masses[nodes.clone()].iter_mut().for_each(|mass| *mass *= density);
        }
        let masses = response.embedding.shared_out(&masses);
        let velocities = response.embedding.all(&body.state.v);
        let unloaded = match body.load.is_empty() {
            true => vec![DVec3::ZERO; velocities.len()],
            false => {
                let ways = response.displacements(&body.load);
                let velocity = |way: DVec3| -way * response.step.rate;
                response.embedding.all(&ways.into_iter().map(velocity).collect::<Vec<_>>())
            }
        };
        let state_of = |vertices: &Vertices| {
            let mut listed: BTreeMap<u32, f32> = BTreeMap::new();
            vertices.iter().for_each(|point| *listed.entry(*point).or_default() += 1.0);
            VertexStates {
                masses: vertices.iter().map(|p| masses[*p as usize] as f32 / listed[p]).collect(),
                velocities: vertices.iter().map(|p| velocities[*p as usize].as_vec3()).collect(),
                unloaded: vertices.iter().map(|p| unloaded[*p as usize].as_vec3()).collect(),
            }
        };
        response.states = response.elements.iter().map(|(id, vertices)| (*id, state_of(vertices))).collect();
        Some(response)
    }

    /// The ways of the nodes, m, by forces on them, N.
    pub fn displacements(&self, forces: &[DVec3]) -> Vec<DVec3> {
        // Small numbers and large ones keep their digits.
        let most = forces.iter().map(|force| force.abs().max_element()).fold(0.0, f64::max);
        if most <= 0.0 || !most.is_finite() {
            return vec![DVec3::ZERO; forces.len()];
        }
        let right: Vec<Vec3A> = (forces.iter().zip(&self.held))
            .map(|(force, held)| if *held { Vec3A::ZERO } else { (*force / most).as_vec3a() })
            .collect();
        let scalars = Some((&self.bent, &self.bending[..]));
        let touches = (!self.touches.list.is_empty()).then_some(&self.touches);
        let matrix = Matrix { rows: &self.near, blocks: &self.blocks, scalars, touches, held: &self.held };
        let mut ways = vec![Vec3A::ZERO; forces.len()];
        let least = vec![0.0; self.nodes.len()];
        let Self { levels, low_rank, nodes, .. } = self;
        // Within the pool, where many small parallel loops cost little.
        rayon::scope(|_| {
            let mut work = self.work.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            let first = &mut Vec::new();
            work.solve(levels, &matrix, low_rank, &right, &mut ways, nodes, TOLERANCE, &least, first);
        });
        ways.iter().map(|way| way.as_dvec3() * most).collect()
    }

    /// The sums at the nodes of what the vertices of elements have.
    pub fn at_nodes(&self, vertices: &BTreeMap<Id, Vec<Vec3>>) -> Vec<DVec3> {
        let mut sums = vec![DVec3::ZERO; self.held.len()];
        for (id, points) in &self.elements {
            for (point, value) in points.iter().zip(vertices.get(id).into_iter().flatten()) {
                for (node, weight) in self.embedding.of(*point) {
                    sums[node as usize] += value.as_dvec3() * weight;
                }
            }
        }
        sums
    }
}

impl SurfaceResponse for Response {
    fn states(&self) -> &BTreeMap<Id, VertexStates> {
        &self.states
    }

    fn way_s(&self) -> f32 {
        (1.0 / self.step.rate) as f32
    }

    fn velocity_changes(&self, impulses: &BTreeMap<Id, Vec<Vec3>>) -> BTreeMap<Id, Vec<Vec3>> {
        let SolvedStep { rate, dt } = self.step;
        let ways = self.displacements(&self.at_nodes(impulses));
        let of = |(id, points): &(Id, Vertices)| {
            let change = |point: &u32| (self.embedding.at(*point, &ways) * (rate / dt)).as_vec3();
            (*id, points.iter().map(change).collect())
        };
        self.elements.iter().map(of).collect()
    }
}

impl DeformableBody {
    /// Takes the impulses of liquids over the step that was made in place of the load that the step began with, N s on the vertices of
    /// elements. `response` is that of the step.
    pub fn take_load(&mut self, response: &Response, impulses: &BTreeMap<Id, Vec<Vec3>>) {
        let SolvedStep { rate, dt } = response.step;
        let load: Vec<DVec3> = response.at_nodes(impulses).into_iter().map(|impulse| impulse / dt).collect();
        let more = |(i, load): (usize, &DVec3)| *load - self.load.get(i).copied().unwrap_or(DVec3::ZERO);
        let more: Vec<DVec3> = load.iter().enumerate().map(more).collect();
        for (node, way) in response.displacements(&more).into_iter().enumerate() {
            self.state.x[node] += way;
            self.state.v[node] += way * rate;
        }
        self.state.load = if load.iter().all(|load| *load == DVec3::ZERO) { Vec::new() } else { load };
    }
}
